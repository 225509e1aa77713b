"""Train two methods on the ferry, two seeds each, and measure what they learned beside random play and a rule."""

import jokulmist as jm

env = jm.gallery.Ferry()
for agent in (jm.QLearning(bins=16), jm.ExpectedSarsa(bins=16)):
    runs = jm.train(env, agent, steps=300_000, seeds=[0, 1], copies=8, folder=None)
    for run in runs:
        result = jm.evaluate(run.policy, env, episodes=100)
        low, high = result.interval
        print(f"{type(agent).__name__:14} seed {run.seed}: {result.mean:6.2f}  95 % [{low:.2f}, {high:.2f}]")
for who in ("random", "brake_in_time"):
    print(f"{who:21}: {jm.evaluate(who, env, episodes=100).mean:6.2f}")
