"""Images with a curriculum: keep a lamp in sight while the fog thickens as the agent learns.

Without the curriculum the first fog is the last one, and little is seen of the lamp. The parameter `fog` moves through
levels, each when the mean of the last episodes at a level is high enough; the last lines say what each policy reaches
in the thickest fog.
"""

import jokulmist as jm

SIZE = 16
LEVELS = [0.0, 40.0, 80.0]


class FogLamps(jm.Environment):
    """Turn the boat so that a lamp stays in the middle of what the helm sees."""

    fog: float = jm.parameter(80.0, low=0.0, high=200.0, help="How bright the fog flickers, of 255.")
    time_limit = 60

    class State(jm.State):
        across: float

    action = jm.Choice("port", "ahead", "starboard")

    def begin(self, draw):
        return self.State(across=draw.uniform(-5.0, 5.0))

    def advance(self, state, action, draw):
        return state.replace(across=state.across + 1.0 - action + draw.normal(0.0, 0.4))

    @jm.sensor(shape=(SIZE, SIZE, 1), image=True)
    def helm(self, state, draw):
        columns = self.xp.arange(SIZE)[None, :]
        light = 200.0 * self.xp.exp(-self.xp.square(columns - 7.5 - state.across) / 3.0)
        seen = light + self.fog * draw.uniform(shape=(SIZE, SIZE))
        return self.xp.asarray(self.xp.clip(seen, 0.0, 255.0), dtype=self.xp.uint8)[:, :, None]

    @jm.reward
    def middle(self, after):
        return 1.0 - self.xp.minimum(self.xp.abs(after.across), 8.0) / 8.0

    @jm.ending
    def lost(self, after):
        return self.xp.abs(after.across) > 8.0


if __name__ == "__main__":
    agent = jm.PPO(network=jm.Convolutional(32, filters=[(8, 4, 4)]))
    thick = FogLamps(fog=LEVELS[-1])
    for name, curriculum in (("at once", None), ("by levels", jm.Levels("fog", LEVELS, above=48.0, last=50))):
        run = jm.train(thick, agent, steps=60_000, curriculum=curriculum, seed=0, folder=None)
        print(f"{name}: level {run.origin.get('level', 'none')}, in the thickest fog", jm.evaluate(run.policy, thick))
