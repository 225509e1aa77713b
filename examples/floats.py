"""A family of environments: what they share is in one base, and each is a few lines.

The base is abstract: it is read when a class derived from it is defined. The same method trains on each, and what was
learned on one begins on another, because both show the same channels.
"""

import jokulmist as jm


class Float(jm.Environment, abstract=True):
    """Keep a float at the depth where the net hangs best."""

    time_limit = 100

    class State(jm.State):
        depth: float = jm.seen(low=-3.0, high=3.0, unit="m")
        speed: float = jm.seen(low=-2.0, high=2.0, unit="m/s")

    action = jm.Choice("sink", "hold", "rise")

    def begin(self, draw):
        return self.State(depth=draw.uniform(-2.0, 2.0), speed=0.0)

    def advance(self, state, action, draw):
        speed = self.xp.clip(0.9 * state.speed + 0.1 * (action - 1) + self.sea(state, draw), -2.0, 2.0)
        return state.replace(depth=self.xp.clip(state.depth + speed, -3.0, 3.0), speed=speed)

    @jm.reward
    def hangs_well(self, after):
        return self.xp.exp(-self.xp.square(after.depth))


class Calm(Float):
    """Nothing but a little swell."""

    def sea(self, state, draw):
        return draw.normal(0.0, 0.02)


class Tide(Float):
    """A current that pulls down, the harder the deeper."""

    pull: float = jm.parameter(0.04, low=0.0, high=0.3)

    def sea(self, state, draw):
        return draw.normal(0.0, 0.02) - self.pull * (1.0 - state.depth / 3.0)


class Storm(Float):
    """Waves that come in gusts."""

    force: float = jm.parameter(0.15, low=0.0, high=1.0)

    def sea(self, state, draw):
        return self.xp.where(draw.bernoulli(0.2), draw.normal(0.0, self.force), 0.0)


if __name__ == "__main__":
    runs = {
        place.__name__: jm.train(place(), jm.DQN(), steps=30_000, seed=0, folder="runs")
        for place in (Calm, Tide, Storm)
    }
    for name, run in runs.items():
        row = {
            place.__name__: round(jm.evaluate(run.policy, place(), episodes=50).mean, 1)
            for place in (Calm, Tide, Storm)
        }
        print(f"learned on {name}: {row}")
    begun = jm.train(Storm(), jm.DQN(), steps=10_000, start=runs["Calm"], seed=0, folder="runs")
    print(f"begun with what was learned on Calm: {jm.evaluate(begun.policy, Storm(), episodes=50).mean:.1f}")
