"""Every method on every gallery environment that it suits, exported in every form and held against the policy on 1,000
observations each.

python benchmarks/exports.py [--only c] [--methods Reinforce SAC]
"""

import argparse
import json
import sys
import tempfile
import warnings

import jokulmist as jm
from jokulmist.errors import SettingError

SMALL = {"replay_start": 50, "replay_size": 300}
METHODS = {
    "QLearning": lambda: jm.QLearning(bins=4),
    "Sarsa": lambda: jm.Sarsa(bins=4),
    "ExpectedSarsa": lambda: jm.ExpectedSarsa(bins=4),
    "LinearQ": jm.LinearQ,
    "DQN": lambda: jm.DQN(**SMALL),
    "DQN dueling": lambda: jm.DQN(dueling=True, **SMALL),
    "PPO": lambda: jm.PPO(horizon=8),
    "ActorCritic": jm.ActorCritic,
    "Reinforce": jm.Reinforce,
    "SAC": lambda: jm.SAC(**SMALL),
    "TD3": lambda: jm.TD3(**SMALL),
    "DDPG": lambda: jm.DDPG(**SMALL),
}
PLACES = ("Tarn", "WholeTarn", "Ferry", "Winch", "Greenhouse", "Skerry", "Aurora", "Lots", "Haul")


def policies(method, place):
    """What a method learned in a few decisions, or of several players each's; nothing where it does not suit the
    environment."""
    environment = getattr(jm.gallery, place)()
    players = environment.players
    steps = 64 if place in ("Aurora", "Skerry") else 200
    try:
        agent = {player: METHODS[method]() for player in players} if players else METHODS[method]()
        policy = jm.train(environment, agent, steps=steps, copies=4, lane="plain", folder=None).policy
    except SettingError:
        return []
    return [policy.player(player) for player in players] if players else [policy]


def held(only, methods):
    """By form, how many exports decided as the policy, and what did not."""
    warnings.simplefilter("ignore")
    forms = [only] if only else ["python", "c", "javascript", "onnx"]
    result = {form: {"same": 0, "microseconds": [], "wrong": []} for form in forms}
    for method in methods:
        for place in PLACES:
            total_until = {form: (output["same"], len(output["wrong"])) for form, output in result.items()}
            print(method, place, total_until, file=sys.stderr, flush=True)
            for policy in policies(method, place):
                for form in forms:
                    with tempfile.TemporaryDirectory() as folder:
                        try:
                            report = jm.export(policy, form, folder)
                        except SettingError as output:
                            result[form]["wrong"].append(f"{method}, {place}: {output}")
                            continue
                    if report.checked == 1_000 and report.ok:
                        result[form]["same"] += 1
                        result[form]["microseconds"].append(report.microseconds)
                    else:
                        result[form]["wrong"].append(f"{method}, {place}: {report}")
    for output in result.values():
        times = sorted(output.pop("microseconds"))
        output["microseconds, least, median, most"] = (
            [round(times[0], 2), round(times[len(times) // 2], 2), round(times[-1], 2)] if times else []
        )
    return result


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--only", choices=["python", "c", "javascript", "onnx"])
    words.add_argument("--methods", nargs="+", choices=METHODS, default=list(METHODS))
    given = words.parse_args()
    print(json.dumps(held(given.only, given.methods), indent=2))
