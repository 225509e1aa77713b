#include "policy.h"

#include <math.h>

{% for part in parts if part.labels %}
const char *const policy_{{ part.word }}_labels[{{ part.labels | length }}] = {{ "{" }}{{ part.labels | join(", ") }}{{ "}" }};
{% endfor %}

{% for line in loops.constants %}
{{ line }}
{% endfor %}

{% if state %}
void policy_begin(policy_memory *memory) {
  for (int k = 0; k < {{ state.width }}; k++) memory->state[k] = 0.0f;
}

{% endif %}
{{ signature }} {
{% if state and state.input %}
  const float *{{ state.input }} = memory->state;
{% endif %}
{% if numbers %}
  {{ numbers_buffer }}
{% endif %}
{% for line in loops.buffers %}
  {{ line }}
{% endfor %}
{% for c in channels %}
{% if c.image and c.input %}
  const unsigned char *{{ c.input }} = observation->{{ c.word }};
{% elif not c.image and numbers and c.size == 1 %}
  {{ numbers }}[{{ c.offset }}] = observation->{{ c.word }};
{% elif not c.image and numbers %}
  for (int k = 0; k < {{ c.size }}; k++) {{ numbers }}[{{ c.offset }} + k] = observation->{{ c.word }}[k];
{% endif %}
{% endfor %}
{% for mask in masks if mask.input %}
  const unsigned char *{{ mask.input }} = legal->{{ mask.word }};
{% endfor %}
{% if not numbers and not channels | selectattr("input") | list %}
  (void)observation;
{% endif %}
{% if masks and not masks | selectattr("input") | list %}
  (void)legal;
{% endif %}
{# Declarations come before statements that may be loops: C99 takes them anywhere. #}
{% for line in loops.body %}
{{ line }}
{% endfor %}
{% for part in parts %}
{% if part.labels %}
  action->{{ part.word }} = (int){{ part.place }}[0];
{% elif part.array %}
  for (int k = 0; k < {{ part.size }}; k++) action->{{ part.word }}[k] = {{ part.place }}[k];
{% else %}
  action->{{ part.word }} = {{ part.place }}[0];
{% endif %}
{% endfor %}
{% for value in said %}
  for (int k = 0; k < {{ value.size }}; k++) said->{{ value.word }}[k] = (float){{ value.place }}[k];
{% endfor %}
{% if state %}
  for (int k = 0; k < {{ state.width }}; k++) memory->state[k] = {{ loops.state }}[k];
{% endif %}
}
