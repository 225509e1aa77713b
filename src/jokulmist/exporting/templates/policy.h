/* {{ about }}
 *
 * C99, no allocation, no dependency but the mathematical library. Arrays of work are static: decide in one thread at a time. */
#ifndef POLICY_H
#define POLICY_H

/* What is seen, in units as declared. */
typedef struct {
{% for c in channels %}
  {{ "unsigned char" if c.image else "float" }} {{ c.word }}{% if c.size > 1 or c.image %}[{{ c.size }}]{% endif %};{% if c.unit %} /* {{ c.unit }} */{% endif +%}
{% endfor %}
} policy_observation;

{% if masks %}
/* What may be done now: 1 or 0 an alternative. */
typedef struct {
{% for mask in masks %}
  unsigned char {{ mask.word }}[{{ mask.count }}];
{% endfor %}
} policy_legal;

{% endif %}
typedef struct {
{% for part in parts %}
{% if part.labels %}
  int {{ part.word }}; /* 0 .. {{ part.labels | length - 1 }}, see policy_{{ part.word }}_labels */
{% else %}
  float {{ part.word }}{% if part.array %}[{{ part.size }}]{% endif %}; /* {{ part.bounds }} */
{% endif %}
{% endfor %}
} policy_action;

{% for part in parts if part.labels %}
extern const char *const policy_{{ part.word }}_labels[{{ part.labels | length }}];
{% endfor %}

{% if said %}
/* What the policy says beside it. */
typedef struct {
{% for value in said %}
  float {{ value.word }}[{{ value.size }}];
{% endfor %}
} policy_said;

{% endif %}
{% if state %}
/* What is remembered since an episode began; one for each agent. */
typedef struct {
  float state[{{ state.width }}];
} policy_memory;

/* Forget what was seen: call it where an episode begins. */
void policy_begin(policy_memory *memory);

{% endif %}
{{ signature }};

#endif
