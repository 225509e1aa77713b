"""The proving ground: every method at its defaults on small problems that differ as real ones do.

    python benchmarks/proving                        # everything that is not kept yet, then the table
    python benchmarks/proving --quick                # one seed, three problems a family of methods
    python benchmarks/proving --methods DQN,SAC --problems mast,buoy --half choosing --seeds 3
    python benchmarks/proving --set epochs=10 --as ten-epochs --methods PPO   # a trial of another setting
    python benchmarks/proving --table                # only the table of what is kept

A score is (return - random play) / (reference - random play), of the last greedy policy on fixed evaluation episodes;
0.9 counts as solved. Half of the problems are for *choosing* defaults (seeds from 1000), the other half is for
*telling* only (seeds from 0). Every result is kept in a line of JSON at once, under the settings that made it, so that
a call goes on where an earlier one stopped.
"""

import argparse
import contextlib
import json
import multiprocessing
import time
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

import numpy as np
from measuring import SOLVED, settings_of, several
from problems import ALL, CHOOSING, TABLES, TELLING

KEPT = Path(__file__).with_name("results")
QUICK = {
    "PPO": ("mast", "floats", "valves"),
    "ActorCritic": ("mast", "floats", "valves"),
    "Reinforce": ("mast", "floats", "valves"),
    "DQN": ("mast", "stones", "kiln"),
    "SAC": ("buoy", "floats", "berth"),
    "TD3": ("buoy", "floats", "berth"),
    "DDPG": ("buoy", "floats", "berth"),
    "QLearning": ("stones", "lure", "cistern"),
    "LinearQ": ("bucket", "lure", "cistern"),
}


def seeds_of(problem, count):
    first = 1000 if problem in CHOOSING else 0
    return list(range(first, first + count))


def read(folder, name):
    rows = {}
    for file in sorted(folder.glob(f"{name}-*.jsonl")):
        for line in file.read_text().splitlines():
            with contextlib.suppress(json.JSONDecodeError):  # a torn last line
                row = json.loads(line)
                rows[row["method"], row["problem"], row["seed"], row["steps"]] = row
    return list(rows.values())


def table_of(rows, methods, problems):
    """One line a method and problem: seeds solved, middle score and worst, decisions and seconds to the level."""
    lines, summary = [], []
    for method in methods:
        for problem in problems:
            case_rows = [r for r in rows if r["method"] == method and r["problem"] == problem]
            if not case_rows:
                continue
            scores = np.array([r["score"] for r in case_rows])
            solved = int((scores >= SOLVED).sum())
            decisions = [r["decisions"] for r in case_rows if r.get("decisions") is not None]
            to_level = [r["to_level"] for r in case_rows if r.get("to_level") is not None]
            half = "choosing" if problem in CHOOSING else "telling"
            line = {
                "method": method,
                "problem": problem,
                "half": half,
                "solved": solved,
                "seeds": len(case_rows),
                "median": float(np.median(scores)),
                "least": float(scores.min()),
                "steps": case_rows[0]["steps"],
                "decisions": float(np.median(decisions)) if len(decisions) * 2 > len(case_rows) else None,
                "to_level": float(np.median(to_level)) if len(to_level) * 2 > len(case_rows) else None,
                "seconds": float(np.median([r["seconds"] for r in case_rows])),
                "sampled": float(np.median([r.get("sampled", np.nan) for r in case_rows])),
                "short": solved < SOLVED * len(case_rows),
            }
            summary.append(line)
            lines.append(
                f"| {method} | {problem} | {half} | {solved} of {len(case_rows)}{' *' if line['short'] else ''} "
                f"| {line['median']:.2f} | {line['least']:.2f} | {line['sampled']:.2f} | {line['steps']:,} "
                f"| {'-' if line['decisions'] is None else format(int(line['decisions']), ',')} "
                f"| {'-' if line['to_level'] is None else format(line['to_level'], '.1f')} | {line['seconds']:.1f} |"
            )
    head = (
        "| method | problem | half | at 0.9 | median | least | sampled | decisions given | to the level | seconds to "
        "it | all |"
    )
    return "\n".join([head, "|---" * 11 + "|", *lines]), summary


def matrix_of(summary, methods, problems):
    """One line a problem, one column a method: seeds at 0.9, decisions and seconds to the level in training."""
    cells = {(line["method"], line["problem"]): line for line in summary}
    displayed = [m for m in methods if any((m, p) in cells for p in problems)]
    lines = ["| problem | " + " | ".join(displayed) + " |", "|---" * (len(displayed) + 1) + "|"]
    for problem in problems:
        parts = []
        for method in displayed:
            line = cells.get((method, problem))
            if line is None:
                parts.append("")
                continue
            text = f"{line['solved']} of {line['seeds']}"
            if line["short"]:
                text = f"**{text}**, {line['median']:.2f}"
            if line["decisions"] is not None:
                text += f"; {line['decisions'] / 1000:,.0f}k, {line['to_level']:.1f} s"
            parts.append(text)
        if any(parts):
            lines.append(f"| `{problem}`: {ALL[problem].what} | " + " | ".join(parts) + " |")
    return "\n".join(lines)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--methods", default="PPO,DQN,SAC,TD3,DDPG,ActorCritic,Reinforce," + ",".join(TABLES))
    parser.add_argument("--problems", default=",".join(ALL))
    parser.add_argument("--half", choices=["choosing", "telling"])
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--steps", type=int, help="decisions, in place of those of the problem")
    parser.add_argument("--set", nargs="*", default=[], help="settings of the agent, name=value")
    parser.add_argument("--as", dest="name", default="defaults", help="the name the results are kept under")
    parser.add_argument("--workers", type=int, default=2)
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--table", action="store_true")
    parser.add_argument("--matrix", action="store_true", help="one line a problem, as docs/methods.md has it")
    parser.add_argument("--json")
    parser.add_argument("--kept", type=Path, default=KEPT)
    options = parser.parse_args()
    methods, problems = options.methods.split(","), options.problems.split(",")
    if options.half:
        problems = [p for p in problems if p in (CHOOSING if options.half == "choosing" else TELLING)]
    options.kept.mkdir(parents=True, exist_ok=True)
    stored = read(options.kept, options.name)
    done = {(r["method"], r["problem"], r["seed"], r["steps"]) for r in stored}
    tasks = []
    for problem in problems:
        for method in methods:
            if method not in ALL[problem].methods or (options.quick and problem not in QUICK.get(method, ())):
                continue
            steps = options.steps or ALL[problem].decisions(method)
            seeds = [
                s
                for s in seeds_of(problem, 1 if options.quick else options.seeds)
                if (method, problem, s, steps) not in done
            ]
            if seeds:
                tasks.append((method, problem, seeds, settings_of(options.set), options.name, steps, options.kept))
    if tasks and not options.table:
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(options.workers, mp_context=context) as pool:
            for future in as_completed([pool.submit(several, task) for task in tasks]):
                method, problem, count = future.result()
                print(f"{time.strftime('%H:%M:%S')} {method} {problem}: {count} seeds", flush=True)
    text, summary = table_of(read(options.kept, options.name), methods, problems)
    print(matrix_of(summary, methods, problems) if options.matrix else text)
    if options.json:
        Path(options.json).write_text(json.dumps(summary, indent=1))


if __name__ == "__main__":
    main()
