"""Step an environment by hand, before any training: act, look, rewind, and compare two rules on the same episode."""

import jokulmist as jm

env = jm.gallery.Tarn(melt=2.0)
episode = env.episode(seed=1)
while not episode.over:
    episode.act("half")
print(f"always half: return {episode.total:.1f}, closed by {episode.closed_by} after {episode.steps} hours")
print("by term:", {name: round(total, 1) for name, total in episode.totals.items()})

episode.back(24)  # take the last day again, with the same melt
while not episode.over:
    episode.act("full")
print(f"full on the last day: return {episode.total:.1f}")

episode.back(episode.steps)  # and the whole season by a rule
while not episode.over:
    episode.act("full" if episode.observation.level > 15 else "hold")
print(f"full above 15: return {episode.total:.1f}, highest level {episode.measures['highest_level']:.0f}")
