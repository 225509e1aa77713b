// A punt on a fjord inlet: gather the driftwood that comes down, and keep off the rocks. One arena of the game, without a picture of its own.

export const WIDTH = 10, SPEED = 0.45, REACH = 0.8;

export const described = {
  name: "Punt",
  about: "A punt gathers driftwood in an inlet, and keeps off the rocks.",
  observation: {
    at: { low: 0, high: WIDTH, unit: "m" },
    pace: { low: -1, high: 1, unit: "m" },
    log_aside: { low: -WIDTH, high: WIDTH, unit: "m" },
    log_ahead: { low: 0, high: 12, unit: "m" },
    rock_aside: { low: -WIDTH, high: WIDTH, unit: "m" },
    rock_ahead: { low: 0, high: 12, unit: "m" },
  },
  action: { kind: "choice", labels: ["port", "drift", "starboard"] },
  terms: { wood: 1, bump: -3, poling: -0.01 },
  endings: ["holed"],
  time_limit: 300,
  parameters: { stream: { value: 0.3, low: 0.1, high: 0.8 } },
};

/** Chance from a seed: the same episode in every engine (mulberry32). */
export function chanceFrom(seed) {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = Math.imul(state ^ (state >>> 15), state | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
}

export class Punt {
  begin(seed, parameters) {
    this.chance = chanceFrom(seed);
    this.stream = parameters.stream ?? described.parameters.stream.value;
    this.at = WIDTH / 2;
    this.pace = 0;
    this.bumps = 0;
    this.wood = 0;
    this.log = this.thing(8);
    this.rock = this.thing(12);
    return { observation: this.seen() };
  }

  thing(ahead) {
    return { x: WIDTH * this.chance(), ahead };
  }

  seen() {
    return {
      at: this.at, pace: this.pace, log_aside: this.log.x - this.at, log_ahead: Math.max(this.log.ahead, 0),
      rock_aside: this.rock.x - this.at, rock_ahead: Math.max(this.rock.ahead, 0),
    };
  }

  /** One advance by 0, 1 or 2: port, drift, starboard. */
  advance(action) {
    this.pace = Math.min(1, Math.max(-1, 0.7 * this.pace + 0.3 * (action - 1)));
    this.at = Math.min(WIDTH, Math.max(0, this.at + SPEED * this.pace));
    const terms = { poling: action === 1 ? 0 : 1 };
    this.log.ahead -= this.stream;
    this.rock.ahead -= this.stream;
    if (this.log.ahead <= 0) {
      if (Math.abs(this.log.x - this.at) < REACH) { terms.wood = 1; this.wood += 1; }
      this.log = this.thing(8);
    }
    if (this.rock.ahead <= 0) {
      if (Math.abs(this.rock.x - this.at) < REACH) { terms.bump = 1; this.bumps += 1; }
      this.rock = this.thing(8 + 4 * this.chance());
    }
    return { observation: this.seen(), terms, closed_by: this.bumps >= 3 ? "holed" : null };
  }
}
