/** The punt, learned by DQN in 300,000 decisions, seed 0 */
export interface Observation { "at": number; "pace": number; "log_aside": number; "log_ahead": number; "rock_aside": number; "rock_ahead": number }
export type Action = "port" | "drift" | "starboard";
export declare const labels: Record<string, string[] | null>;
export declare function decide(observation: Observation, legal?: unknown): Action;
export declare function decided(observation: Observation, legal?: unknown): Record<string, number | number[]>;
