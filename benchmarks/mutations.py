"""Forty-three things broken on purpose, one at a time: does a test fail for each?

    python benchmarks/mutations.py            # all of them, in a copy of the repository; about twenty minutes
    python benchmarks/mutations.py --only 3 7

Each is one line of the library that is made wrong in a way that somebody might make it wrong, with the tests that
should notice. Without the change these tests pass (`.ci/run`). Only the first tier is asked.
"""

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parents[1]
# File under src/jokulmist, what stands there, what is made of it, the tests that should notice.
MUTATIONS = [
    (
        "environments/transition/copy.py",
        "satisfied |= step.deadline_bit",
        "satisfied = step.deadline_bit",
        "tests/environments/test_episode.py",
    ),
    (
        "environments/transition/copy.py",
        "reward += weight * more",
        "reward += more",
        "tests/lanes/test_waiting.py -k 'discounted or held_for_several'",
    ),
    (
        "environments/transition/copy.py",
        "self.learned += float(modified)",
        "self.learned = float(modified)",
        "tests/environments/test_modifiers.py",
    ),
    (
        "environments/transition/stepping.py",
        "return total / max(steps, 1) if",
        "return total if",
        "tests/environments/test_episode.py",
    ),
    (
        "environments/declaration/description.py",
        "return (*ends, *cuts,",
        "return (*cuts, *ends,",
        "tests/environments/test_episode.py",
    ),
    ("environments/chance/noise.py", "HAND = 2", "HAND = 0", "tests/environments/test_draws.py"),
    (
        "lanes/compiled/transition.py",
        "((outcome.satisfied & description.ending_bits) != 0)",
        "(outcome.satisfied != 0)",
        "tests/agents/test_tables.py -k same_table",
    ),
    (
        "lanes/compiled/transition.py",
        "decision = self.advance_where(decision, waiting, meanwhile, key, j)",
        "decision = self.advance_where(decision, going, meanwhile, key, j)",
        "tests/lanes/test_waiting.py -k 'episodes_of_decisions'",
    ),
    (
        "learning/advantages.py",
        "jnp.where(closed, 0.0, discount * trace_decay)",
        "discount * trace_decay",
        "tests/learning/test_advantages.py",
    ),
    (
        "learning/replay.py",
        "importance = weight / jnp.maximum(jnp.max(weight), 1e-12)",
        "importance = weight",
        "tests/learning/test_replay.py -k priorities",
    ),
    ("learning/schedules.py", "by_share=float(self.by_share)", "by_share=0.0", "tests/learning/test_schedules.py"),
    (
        "agents/tables/table.py",
        "jnp.where(ended, 0.0, next_value)",
        "jnp.where(closed, 0.0, next_value)",
        "tests/agents/test_tables.py -k by_hand",
    ),
    (
        "agents/policies/ppo.py",
        "1.0 - hyperparameters.clip, 1.0 + hyperparameters.clip",
        "1.0 - hyperparameters.clip, 1.0 + 2 * hyperparameters.clip",
        "tests/agents/test_methods.py -k clipped_objective",
    ),
    (
        "agents/values/dqn.py",
        "1.0 - (1.0 - hyperparameters.target_share) ** due",
        "hyperparameters.target_share",
        "tests/agents/test_methods.py -k soft_target",
    ),
    (
        "loops/contract.py",
        "(np.arange(copies) + u) / copies * limit",
        "(np.arange(copies) + u) * limit",
        "tests/agents/test_methods.py -k out_of_step",
    ),
    (
        "running/session/resume.py",
        "shortened(file, size)",
        "pass",
        "tests/training/test_going_on.py -k more_steps",
    ),
    (
        "judging/evaluate.py",
        "weight *= discount",
        "weight = discount",
        "tests/agents/test_critics.py -k riccati",
    ),
    (
        "studies/search/candidates.py",
        "return None if result is None else result if self.higher else -result",
        "return result",
        "tests/studies/test_searching.py tests/studies/test_tuning.py -k 'lower or better or halving or measure'",
    ),
    (
        "pictures/report/page.py",
        "autoescape=True",
        "autoescape=False",
        "tests/pictures/test_looking_back.py -k escapes",
    ),
    (
        "records/files.py",
        "temporary.replace(path)",
        "path.write_bytes(temporary.read_bytes()[:-1])",
        "tests/records/test_records.py",
    ),
    ("plain_files.py", "if part.is_symlink():", "if False:", "tests/records/test_foreign.py -k link"),
    (
        "sources/trust.py",
        "return sorted(paths)",
        'return sorted(path for path in paths if path.suffix == ".py")',
        "tests/records/test_foreign.py -k beside",
    ),
    (
        "sources/reading.py",
        "contents[name] for name, file",
        "b'' for name, file",
        "tests/training/test_identity.py",
    ),
    (
        "loading.py",
        'if base.is_record and not place.startswith("jokulmist."):',
        "if False:",
        "tests/live/test_games.py -k names_no_file",
    ),
    (
        "work/jobs.py",
        "self.status == WAITING and self.is_own",
        "self.status == WAITING",
        "tests/work/test_queue.py -k elsewhere",
    ),
    ("live/app.py", "if self.look:", "if False:", "tests/live/test_games.py -k only_looks"),
    ("exporting/escapes.py", "set(b'\"\\\\?')", "set(b'\"\\\\')", "tests/export/test_escapes.py -k compiler"),
    (
        "serving/app.py",
        "origin is not None and origin",
        "False and origin",
        "tests/serving/test_serving.py -k none_are",
    ),
    (
        "remote/transport.py",
        "in self._read(until, seconds, subject)",
        "in self._read(time.monotonic() + seconds, seconds, subject)",
        "tests/remote/test_remote.py -k bytes",
    ),
    (
        "running/session/observing.py",
        "if border.last:",
        "if False:",
        "tests/training/test_going_on.py -k evaluates_the_end",
    ),
    ("loops/policy.py", "left += entry.values()", "pass", "tests/export/test_escapes.py -k named_anywhere"),
    (
        "judging/solving/induction.py",
        "worth = t.reward[states_here] + discount * ",
        "worth = t.reward[states_here] + ",
        "tests/training/test_solving.py",
    ),
    (
        "records/rollouts.py",
        "strict=True) if able]",
        "strict=True)]",
        "tests/training/test_teaching.py -k simulator_said",
    ),
    (
        "records/run_index.py",
        "            rows.append(damaged_row(path.name))",
        "            pass",
        "tests/records/test_foreign.py -k odd",
    ),
    (
        "records/lock.py",
        "os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW",
        "os.O_RDWR | os.O_CREAT",
        "tests/records/test_foreign.py -k lock_that",
    ),
    ("environments/spaces/texts.py", "not value.isprintable()", "False", "tests/export/test_escapes.py -k head_says"),
    (
        "environments/modifiers/pipeline.py",
        "            if masked:",
        "            if False:",
        "tests/environments/test_modifiers.py",
    ),
    (
        "studies/statistics.py",
        "t_values = difference / np.sqrt(squares)",
        "t_values = difference",
        "tests/studies/test_statistics.py",
    ),
    (
        "studies/ratings.py",
        "1.0 / (1.0 + np.exp(-np.clip(logits",
        "1.0 / (1.0 + np.exp(np.clip(logits",
        "tests/studies/test_ratings.py",
    ),
    (
        "lanes/plain.py",
        "return self.each[i].begin(self.turn, LATER",
        "return self.each[i].begin(0, LATER",
        "tests/lanes/test_agree.py",
    ),
    (
        "workshop/check/check.py",
        'Finding("error", str(failure)',
        'Finding("warning", str(failure)',
        "tests/workshop/test_check.py",
    ),
    ("command/queueing.py", '"move-down", "accept")', '"move-down")', "tests/work/test_queue.py -k elsewhere"),
    ("gallery/greenhouse.py", "17.6 * warmth", "17.0 * warmth", "tests/gallery/test_gallery.py -k greenhouse"),
]


def main() -> None:
    words = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    words.add_argument("--only", type=int, nargs="*")
    only = words.parse_args().only
    missed = []
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        for part in ("src", "tests", "examples", "docs", "benchmarks", "clients", "README.md", "pyproject.toml"):
            source = ROOT / part
            if source.is_dir():
                shutil.copytree(source, place / part, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
            else:
                shutil.copy(source, place / part)
        for number, (file, was, wrong, tests) in enumerate(MUTATIONS):
            if only and number not in only:
                continue
            path = place / "src" / "jokulmist" / file
            complete = path.read_text()
            if was not in complete:
                raise SystemExit(f"{file} has no `{was}` any more")
            path.write_text(complete.replace(was, wrong, 1))
            began = time.perf_counter()
            output = subprocess.run(
                f"{sys.executable} -m pytest -q -x -n 0 -p no:cacheprovider {tests}",
                shell=True,
                cwd=place,
                text=True,
                capture_output=True,
                env={
                    **os.environ,
                    "PYTHONPATH": str(place / "src"),
                    "JAX_COMPILATION_CACHE_DIR": str(place / "compiled"),
                },
            )
            path.write_text(complete)
            failed = [line for line in output.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
            if output.returncode != 1 or not failed:  # a file of tests that cannot be read has noticed nothing
                missed.append(number)
            noticed = (
                failed[0].partition(" - ")[0].removeprefix("FAILED ")
                if failed and output.returncode == 1
                else f"NOTHING NOTICED IT ({output.returncode})"
            )
            print(f"{number:2d}  {file}: `{wrong[:50]}`  {noticed}  ({time.perf_counter() - began:.0f} s)", flush=True)
    raise SystemExit(f"not noticed: {missed}" if missed else 0)


if __name__ == "__main__":
    main()
