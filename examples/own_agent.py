"""A method of one's own: the mean reward of each action, whatever is observed.

It is written with ``jax.numpy``, so that it trains
compiled. In a plan it would be named ``use = "own_agent.py:Bandit"``.
"""

import jax.numpy as jnp

import jokulmist as jm


class Bandit(jm.Agent):
    """Mean reward of each action, whatever is observed (Sutton and Barto, 2018, equation 2.1)."""

    reading_names = ("gain",)
    exploration: jm.parts.Scheduled = jm.linear(1.0, 0.1, over=0.5)  # reaches the functions in `numbers`
    prior: float = 1.0

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        count = config.spec.action.count
        return {"sum": jnp.zeros(count), "count": jnp.full(count, hyperparameters.prior)}

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        best = jnp.argmax(learner["sum"] / learner["count"])
        tries = noise.uniform(shape=(config.copies,)) < (hyperparameters.exploration if explore else 0.0)
        random = noise.integers(0, config.spec.action.count, shape=(config.copies,))
        return jnp.where(tries, random, best), memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, experience, noise):
        # Each entry of the experience has axes (turns, copies, ...).
        hit = experience.actions[..., None] == jnp.arange(config.spec.action.count)
        total = jnp.where(hit, experience.rewards[..., None], 0.0).sum(axis=(0, 1))
        learner = {"sum": learner["sum"] + total, "count": learner["count"] + hit.sum(axis=(0, 1))}
        return learner, memory, (jnp.mean(experience.rewards),)


if __name__ == "__main__":
    run = jm.train(jm.gallery.Tarn(), Bandit(), steps=50_000, copies=8, folder=None)
    means = run.policy.learner["sum"] / run.policy.learner["count"]
    print({label: round(float(mean), 3) for label, mean in zip(run.environment.action.labels, means, strict=True)})
    print(jm.evaluate(run.policy, run.environment))
