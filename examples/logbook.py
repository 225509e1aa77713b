"""Records as teachers: learn from a logbook of the ferry alone, and then go on in the simulator.

The logbook is written by a rule and by chance, half of each. From it three policies are learned without one decision
more: by imitating it, by valuing what it holds, and with doubt of what it does not hold. The last run begins with what
the best of them has learned.
"""

from pathlib import Path

import jokulmist as jm

if __name__ == "__main__":
    ferry = jm.gallery.Ferry()
    books = []
    for who in ("brake_in_time", "random"):
        played = jm.evaluate(who, ferry, episodes=100, seed=5, record=100)
        books.append(played.save_rollouts(Path(f"logbook-{who}.parquet"), ferry))
    records = jm.Records.read(books, ferry)
    print(f"the logbook: {records}")
    for agent in (jm.Cloning(), jm.ImplicitQ(), jm.DQN(conservative=1.0)):
        taught = jm.learn_from(records, agent, ferry, steps=2_000)
        print(f"{type(agent).__name__}: {jm.evaluate(taught.policy, ferry, episodes=50)}")
        if isinstance(agent, jm.ImplicitQ):
            taught.policy.save(Path("taught.safetensors"))
    run = jm.train(ferry, jm.PPO(), steps=20_000, start="taught.safetensors", seed=0, folder=None)
    print(f"resumed: {jm.evaluate(run.policy, ferry, episodes=50)}")
