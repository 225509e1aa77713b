"""Equations with chance, and decisions that take effect later: water for a mill, from a tarn four hours above it.

What was let out is on its way for four hours, so the state holds a pipeline of past decisions, and the agent is shown
it. Two runs differ in one thing: whether it is shown. (`jm.slice_array` and `jm.replace_item` are the other tools for such arrays.)
"""

import jokulmist as jm

HOURS = 4


class MillRace(jm.Environment):
    """Open the upper sluice so that the wheel below has what it needs, and no more."""

    rain: float = jm.parameter(0.6, low=0.0, high=3.0, unit="m3/h", help="Mean of what the beck brings by itself.")
    time_limit = 96

    class State(jm.State):
        need: float = jm.seen(low=0.0, high=6.0, unit="m3/h")
        on_the_way: object = jm.seen(low=0.0, high=4.0, unit="m3/h", shape=HOURS)  # the first arrives next
        arrived: float = jm.flow(unit="m3")

    action = jm.Choice("shut", "half", "full")
    let_out = jm.series([0.0, 2.0, 4.0])

    def begin(self, draw):
        return self.State(need=3.0, on_the_way=self.xp.zeros(HOURS))

    def advance(self, state, action, draw):
        arrived = state.on_the_way[0] + draw.gamma(2.0, self.rain / 2.0)
        moved = self.xp.concatenate([state.on_the_way[1:], self.let_out[action][None]])
        need = self.xp.clip(state.need + draw.normal(0.0, 0.4), 0.0, 6.0)
        return state.replace(need=need, on_the_way=moved, arrived=arrived)

    @jm.reward(weight=-1.0)
    def stood_still(self, before, after):  # the wheel lacked water
        return self.xp.maximum(before.need - after.arrived, 0.0)

    @jm.reward(weight=-0.3)
    def wasted(self, before, after):
        return self.xp.maximum(after.arrived - before.need, 0.0)

    @jm.reference
    def what_is_needed_now(self, state):
        return self.xp.where(state.need > 3.5, 2, self.xp.where(state.need > 1.5, 1, 0))


if __name__ == "__main__":
    print(jm.check(MillRace(), speed=False))
    shown = MillRace()
    hidden = shown.modified(jm.modifiers.Hide("on_the_way"))
    for name, env in (("shown", shown), ("hidden", hidden)):
        run = jm.train(env, jm.PPO(), steps=150_000, seed=0, folder=None)
        print(f"pipeline {name}:", jm.evaluate(run.policy, env))
    print("by a rule:", jm.evaluate("what_is_needed_now", shown))
