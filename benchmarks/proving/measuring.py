"""One method on one problem: trained, evaluated, and kept as a line of JSON."""

import json
import sys
import time
from pathlib import Path

from problems import ALL

sys.path.insert(0, str(Path(__file__).parents[1]))
from reached import first_reached

import jokulmist as jm

SOLVED, WINDOW, EPISODES, EVALUATED = 0.9, 20, 100, 1


def settings_of(text):
    """Settings from ``name=value``, values as JSON or as they stand."""
    result = {}
    for part in filter(None, text):
        name, _, value = part.partition("=")
        try:
            result[name] = json.loads(value)
        except json.JSONDecodeError:
            result[name] = value
    return result


def agent_of(method, problem, changed):
    return getattr(jm, method)(**{**ALL[problem].settings.get(method, {}), **changed})


def bounds_of(problem):
    """The returns of random play and of the reference."""
    place = ALL[problem]
    environment = place.make()
    low = jm.evaluate("random", environment, episodes=200, seed=EVALUATED).mean
    if isinstance(place.reference, str):
        return low, jm.evaluate(place.reference, environment, episodes=200, seed=EVALUATED).mean
    return low, place.reference


def one(method, problem, seed, changed, low, high, steps):
    """Train and measure once."""
    environment = ALL[problem].make()
    copies = changed.get("copies")
    agent = agent_of(method, problem, {name: value for name, value in changed.items() if name != "copies"})
    began = time.perf_counter()
    try:
        run = jm.train(environment, agent, steps=steps, seed=seed, copies=copies, folder=None)
    except jm.errors.JokulmistError as failed:
        return {"score": -9.0, "failed": str(failed)[:200], "seconds": time.perf_counter() - began}
    seconds = time.perf_counter() - began
    scale = high - low
    mean = jm.evaluate(run.policy, environment, episodes=EPISODES, seed=EVALUATED).mean
    level = low + SOLVED * scale
    episodes = run.episodes
    decisions, to_level = first_reached(run, level, WINDOW)
    trained = float(episodes["return"].tail(50).mean()) if len(episodes) else float("nan")
    return {
        "return": mean,
        "score": (mean - low) / scale,
        "sampled": (trained - low) / scale,
        "decisions": decisions,
        "to_level": to_level,
        "seconds": float(run.readings["seconds"].iloc[-1]),
        "whole": seconds,
    }


def several(task):
    """All seeds of a method on a problem, in this process; each result is yielded to the file at once."""
    method, problem, seeds, changed, name, steps, folder = task
    low, high = bounds_of(problem)
    for seed in seeds:
        result = one(method, problem, seed, changed, low, high, steps)
        row = {
            "method": method,
            "problem": problem,
            "seed": seed,
            "steps": steps,
            "name": name,
            "set": changed,
            **result,
        }
        with open(folder / f"{name}-{method}.jsonl", "a") as file:
            file.write(json.dumps(row) + "\n")
    return method, problem, len(seeds)
