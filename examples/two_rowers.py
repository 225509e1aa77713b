"""Players: two rowers in one boat, trained as pairs, and then each with the partner of another pair.

A pair may find a habit that only this pair understands. `jm.cross_play` lets each rower row with every other's partner,
and says whether they fit.
"""

import jokulmist as jm


class TwoRowers(jm.Environment):
    """Pull as hard as the other, without seeing how hard that is."""

    players = ("bow", "stroke")
    width: float = jm.parameter(30.0, low=5.0, high=100.0, unit="m")
    deadline = 60

    class State(jm.State):
        way: float = jm.seen(low=0.0, high=120.0, unit="m")
        heading: float = jm.seen(low=-2.0, high=2.0, unit="rad")
        hour: int = jm.seen(low=0, high=60)
        gained: float = jm.flow()

    action = jm.Choice("rest", "easy", "hard")

    def begin(self, draw):
        return self.State(way=0.0, heading=draw.normal(0.0, 0.2), hour=0)

    def advance(self, state, action, draw):
        turn = 0.2 * (action.bow - action.stroke) + draw.normal(0.0, 0.02)
        heading = self.xp.clip(0.95 * state.heading + turn, -2.0, 2.0)
        gained = 0.5 * (action.bow + action.stroke) * self.xp.maximum(self.xp.cos(heading), 0.0)
        return state.replace(
            way=self.xp.minimum(state.way + gained, 120.0), heading=heading, hour=state.hour + 1, gained=gained
        )

    @jm.reward
    def nearer(self, after):
        return after.gained / self.width

    @jm.reward(weight=-0.02)
    def effort(self, action, player):
        return 1.0 * self.xp.where(player == 0, action.bow, action.stroke)

    @jm.ending
    def across(self, after):
        return after.way >= self.width


if __name__ == "__main__":
    agents = {"bow": jm.PPO(), "stroke": jm.PPO()}
    runs = jm.train_seeds(TwoRowers(), agents, steps=40_000, seeds=[0, 1, 2], workers=1, folder=None)
    print([round(run.mean_return(), 2) for run in runs])
    found = jm.cross_play(runs, episodes=50)
    print(found.table.round(2))
    print(found.verdict)
