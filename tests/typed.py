"""A user's file as a type checker reads it: mypy says if a comment on the last line is not needed. It is not run."""

from typing import Any, assert_type

import jokulmist as jm


class Pond(jm.Environment):
    size: int = jm.parameter(5, low=3, high=50)

    class State(jm.State):
        cell: int = jm.seen(low=0, values="size")

    action = jm.Choice("left", "right")

    def begin(self, draw: Any) -> Any:
        return self.State(cell=self.size // 2)

    def advance(self, state: Any, action: Any, draw: Any) -> Any:
        return state.replace(cell=state.cell + 2 * action - 1)

    @jm.reward(weight=2.0)
    def prize(self, after: Any) -> Any:
        return 1.0 * (after.cell == self.size - 1)

    @jm.ending
    def right_end(self, after: Any) -> Any:
        return after.cell == self.size - 1


run = jm.train(Pond(size=7), jm.QLearning(bins=4), steps=2_000)
assert_type(run, jm.Run)
assert_type(jm.train_seeds(Pond(), jm.PPO(), [0, 1], steps=2_000), jm.results.Runs)
jm.train(Pond(), jm.PPO(), stesp=2_000)  # type: ignore[call-arg]
mean: float = jm.evaluate(run.policy, Pond()).mean
jm.tarin(Pond(), jm.PPO())  # type: ignore[attr-defined]
agent = jm.DQN(learning_rate=jm.linear(1e-3, 0.0, over=1.0), network=jm.Dense(64), replay_size=10_000, dueling=True)
assert_type(agent.replay_size, int)
jm.PPO(learning_rat=1e-3)  # type: ignore[call-arg]
jm.PPO(epochs="many")  # type: ignore[arg-type]
