"""How long one decision of a policy takes: `policy.choose`, the first time and afterwards.

``python benchmarks/deciding.py``
"""

import time

import jokulmist as jm

TIMES = 1_000
METHODS = ("QLearning", "LinearQ", "DQN", "PPO", "ActorCritic", "Reinforce", "SAC", "TD3", "DDPG")


def main():
    for name in METHODS:
        environment = jm.gallery.Winch() if name in ("SAC", "TD3", "DDPG") else jm.gallery.Ferry()
        policy = jm.train(environment, getattr(jm, name)(), steps=1_500, copies=4, folder=None).policy
        observation = environment.episode(seed=1).observation
        began = time.perf_counter()
        policy.choose(observation)
        first = time.perf_counter() - began
        began = time.perf_counter()
        for _ in range(TIMES):
            policy.choose(observation)
        print(f"{name:<12} first {first * 1e3:7.1f} ms, then {(time.perf_counter() - began) / TIMES * 1e6:7.1f} us")


if __name__ == "__main__":
    main()
