"""Decisions only when something is ready: a smokehouse whose racks are asked about when one of them is done.

Time goes on by itself minute by minute; the agent is asked only while a rack is done (`decide_when`), and what happens
on the way counts for its last decision. `steps` of an episode are its decisions, `advances` its minutes.
"""

import jokulmist as jm

RACKS = 3


class Smokehouse(jm.Environment):
    """When a rack of herring is done, take it out and hang up another, or leave it for better colour."""

    fire: float = jm.parameter(1.0, low=0.2, high=3.0, help="How fast it smokes.")
    time_limit = 400  # minutes

    class State(jm.State):
        smoked: object = jm.seen(low=0.0, high=150.0, unit="min", shape=RACKS)
        which: int = jm.seen(low=0, values=RACKS)  # the rack that is asked about
        done: bool
        sold: float = jm.flow()
        burnt: float = jm.flow()

    action = jm.Choice("leave", "take")
    meanwhile = "leave"

    def begin(self, draw):
        return self.State(smoked=draw.uniform(0.0, 40.0, shape=RACKS), which=0, done=False)

    def decide_when(self, state):
        return state.done

    def advance(self, state, action, draw):
        xp = self.xp
        place = xp.arange(RACKS) == state.which
        chosen = state.done & (action == 1)
        worth = xp.exp(-xp.square((state.smoked[state.which] - 95.0) / 18.0))  # best after 95 minutes
        smoked = xp.where(place & chosen, 0.0, state.smoked + self.fire * draw.gamma(4.0, 0.25))
        burnt = smoked > 140.0
        smoked = xp.where(burnt, 0.0, smoked)
        # One rack after another is looked at; it is asked about once it has smoked for an hour, and then every ten
        # minutes.
        name = xp.asarray((state.which + 1) % RACKS, dtype=xp.int32)
        done = (smoked[name] > 60.0) & draw.bernoulli(0.3)
        return state.replace(
            smoked=smoked, which=name, done=done, sold=xp.where(chosen, worth, 0.0), burnt=1.0 * xp.sum(burnt)
        )

    @jm.reward
    def sales(self, after):
        return after.sold

    @jm.reward(weight=-1.0)
    def waste(self, after):
        return after.burnt

    @jm.reference
    def at_once(self, state):
        return 1


if __name__ == "__main__":
    run = jm.train(Smokehouse(), jm.PPO(), steps=40_000, seed=0, folder=None)
    print(run.episodes[["return", "steps", "advances", "sales", "waste"]].tail(3))
    print("learned:", jm.evaluate(run.policy, Smokehouse(), episodes=20))
    print("taken at once:", jm.evaluate("at_once", Smokehouse(), episodes=20))
