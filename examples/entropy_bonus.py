"""The story of a setting: how large an entropy bonus?

A boat fishes between two banks. The near one pays a little and is close; the far one pays seven times as much and lies
behind a current that wears out whoever drifts in it. Rowing at random loses, so everything speaks for the near bank,
and an agent that soon makes up its mind stays there: a local habit. One that is paid too much for keeping its options
open never makes up its mind.

Six values of PPO's entropy bonus, ten seeds each, one search, one figure.

    python examples/entropy_bonus.py 10     # the story, in a minute or two on two cores
    python examples/entropy_bonus.py        # two seeds, a tenth as long: to see it go
"""

import sys

import jokulmist as jm

BONUSES = (0.0, 0.01, 0.1, 0.3, 1.0, 3.0)


class Banks(jm.Environment):
    """Row to the near bank or to the far one: 0.8 for the near one, 3.5 straight to the far one, about -5 at random."""

    far: float = jm.parameter(7.0, low=0.0, high=50.0, unit="baskets", help="What the far bank pays.")
    current: float = jm.parameter(0.5, low=0.0, high=5.0, unit="baskets/h", help="What rowing in the current takes.")
    width = 12
    time_limit = 100

    class State(jm.State):
        place: int = jm.seen(low=0, values=13)

    action = jm.Choice("towards near", "towards far")

    def begin(self, draw):
        return self.State(place=2)

    def advance(self, state, action, draw):
        return state.replace(place=state.place + 2 * action - 1)

    @jm.reward
    def catch(self, after):
        return 1.0 * (after.place == 0) + self.far * (after.place == self.width)

    @jm.reward(weight=-1.0)
    def rowing(self, before):
        return 0.1 + self.current * (before.place > 3) * (before.place < 9)

    @jm.ending
    def near_bank(self, after):
        return after.place == 0

    @jm.ending
    def far_bank(self, after):
        return after.place == self.width

    @jm.reference
    def straight_on(self, state):
        return 1


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 and sys.argv[1].isdigit() else 0
    search = jm.tune(
        Banks(),
        jm.PPO(),
        over={"agent.entropy_bonus": jm.among(*BONUSES)},
        method="grid",
        steps=60_000 if seeds else 6_000,
        seeds=range(seeds or 2),
        again=0,
    )
    # Judged as it acts while it trains: acting greedily would hide how undecided a policy still is. Above 1.5 it knows
    # the far bank.
    result = jm.compare(search.runs, by="agent.entropy_bonus", score="return", against="0", level=1.5)
    print(
        result.table[["group", "seeds", "score", "low", "high", "learned"]].to_string(index=False, float_format="%.2f")
    )
    print()
    print(
        result.pairs[["first", "second", "difference", "p_adjusted", "verdict"]].to_string(
            index=False, float_format="%.3f"
        )
    )
    for note in result.notes:
        print(f"* {note}")
    print(f"\n{result.save(search.path / 'entropy-bonus.png')[0]} shows the curves")


if __name__ == "__main__":
    main()
