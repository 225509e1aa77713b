/** {{ about }} */
export interface Observation { {% for c in channels %}{{ c.name }}: {{ "number" if c.size == 1 and not c.image else "ArrayLike<number>" }}{{ "; " if not loop.last }}{% endfor %} }
export type Action = {{ action_type }};
export declare const labels: Record<string, string[] | null>;
export declare function decide({{ given }}): Action;
export declare function decided({{ given }}): Record<string, number | number[]>;
{% if state %}
export declare function begin(): Float32Array;
{% endif %}
{% if said %}
export declare function say({{ given }}): { action: Action; said: Record<string, number[]> };
{% endif %}
