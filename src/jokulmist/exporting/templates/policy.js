// {{ about }}
//
// decide(observation, legal) gives the action: a label, a number, or an object of them by part. No dependencies.

{% for line in loops.constants + loops.buffers %}
{{ line }}
{% endfor %}

{% if "rem" in operations %}
const remainder = (a, b) => a % b;
{% endif %}
{% if "erf" in operations %}
const erf = x => { // Abramowitz and Stegun (1964), equation 7.1.26: within 1.5e-7
  const t = 1 / (1 + 0.3275911 * Math.abs(x));
  const tail = t * (0.254829592 + t * (-0.284496736 + t * (1.421413741 + t * (-1.453152027 + t * 1.061405429)))) * Math.exp(-x * x);
  return x < 0 ? tail - 1 : 1 - tail;
};
{% endif %}
export const labels = {{ labels }};

{% if numbers %}
const {{ numbers }} = new Float32Array({{ width }});
{% endif %}
{% if said %}
let said = {};

{% endif %}
{% if state %}
/** What is remembered where an episode begins: a handle for each agent, which deciding reads and writes. */
export function begin() { return new Float32Array({{ state.width }}); }

{% endif %}
/** Indices and numbers by part. */
export function decided({{ takes }}) {
{% if state %}
  if (memory === null) throw new TypeError("this policy remembers: const memory = begin(), then decide(observation, legal, memory)");
{% if state.input %}
  const {{ state.input }} = memory;
{% endif %}
{% endif %}
{% for c in channels %}
{% if c.image and c.input %}
  const {{ c.input }} = flat(observation[{{ c.name }}]);
{% elif not c.image and numbers and not c.array %}
  {{ numbers }}[{{ c.offset }}] = observation[{{ c.name }}];
{% elif not c.image and numbers %}
  {{ numbers }}.set(flat(observation[{{ c.name }}]), {{ c.offset }});
{% endif %}
{% endfor %}
{% for mask in masks if mask.input %}
  const {{ mask.input }} = ({{ "legal" if mask.whole else "legal?.[" ~ mask.name ~ "]" }} ?? new Array({{ mask.count }}).fill(true)).map(Number);
{% endfor %}
{% for line in loops.body %}
{{ line }}
{% endfor %}
{% if state %}
  memory.set({{ loops.state }});
{% endif %}
{% if said %}
  said = { {% for value in said %}{{ value.name }}: Array.from({{ value.place }}){{ ", " if not loop.last }}{% endfor %} };
{% endif %}
  return { {% for part in parts %}{{ part.name }}: {{ "Array.from(" ~ part.place ~ ")" if part.array else part.place ~ "[0]" }}{{ ", " if not loop.last }}{% endfor %} };
}

{% if said %}
/** The action in words, and what the policy says beside it: arrays by name. */
export function say({{ takes }}) {
  return { action: decide({{ hands_on }}), said };
}

{% endif %}
/** The action in words. */
export function decide({{ takes }}) {
  const own = decided({{ hands_on }});
  for (const part in own) if (labels[part]) own[part] = labels[part][own[part]];
  return "" in own ? own[""] : own;
}

function flat(value) {
  return ArrayBuffer.isView(value) ? value : Array.isArray(value) ? value.flat(Infinity) : [value];
}
