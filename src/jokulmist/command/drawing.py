"""Pictures of runs, drawn by a process of their own: while the first one trains, the second loads what draws and
measures what random play and the references reach."""

from __future__ import annotations

import contextlib
import gc
import json
import os
import select
import subprocess
import sys
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jokulmist.child_processes import start_child

if TYPE_CHECKING:
    from jokulmist.plans.plan import Plan
    from jokulmist.running.runs.run import Run

# A training that takes longer than this draws by itself: nothing waits for hours with what it has loaded.
MOST_WAITED = 120.0
# With fewer the second process would only take time from the first.
LEAST_CORES = 2
DRAWN_FIELD = "drawn"


def draw_run(run: Run, levels: Any = None) -> list[Path]:
    """Draw the pictures of a run in this process; returns their files."""
    from jokulmist.pictures.saved import save_pictures

    return save_pictures(run, levels)


class Drawing:
    """Whoever draws the runs of a plan."""

    def __init__(self, plan_file: Path, changes: list[str]) -> None:
        self._process: subprocess.Popen[str] | None = None
        if (os.cpu_count() or 1) < LEAST_CORES or _is_remote(plan_file, changes):
            return
        with contextlib.suppress(OSError):
            self._process = start_child(
                "jokulmist.command.drawing",
                str(plan_file),
                *changes,
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )

    def draw(self, runs: Sequence[Run], plan: Plan) -> None:
        """Draw them; whatever the other process has not drawn is drawn here."""
        done = self._draw_in_process([run for run in runs if run.path is not None])
        left = [run for run in runs if str(run.path) not in done]
        if left:
            from jokulmist.judging.cached_references import known_references

            levels = known_references(plan.measured)
            for run in left:
                draw_run(run, levels)

    def _draw_in_process(self, runs: list[Run]) -> set[str]:
        process = self._process
        if process is None or process.poll() is not None:
            return set()
        with contextlib.suppress(OSError, ValueError):
            output, _ = process.communicate(json.dumps([str(run.path.absolute()) for run in runs if run.path]) + "\n")
            by_path = {str(run.path.absolute()): str(run.path) for run in runs if run.path}
            lines = [line.split("\t", 1) for line in output.splitlines()]
            return {
                by_path[line[1]] for line in lines if len(line) == 2 and line[0] == DRAWN_FIELD and line[1] in by_path
            }
        return set()

    def drop(self) -> None:
        """Nothing will be drawn."""
        if self._process is not None:
            with contextlib.suppress(OSError):
                self._process.kill()
                self._process.communicate()
            self._process = None


def _is_remote(plan_file: Path, changes: list[str]) -> bool:
    """Whether a plan trains on a program at the other end of a connection: two that read it would both connect. Of a
    plan that cannot be read, the reading tells."""
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
        use = tomllib.loads(plan_file.read_text(encoding="utf-8"))["environment"]["use"]
        return use == "remote" or any(change.strip().startswith("environment.use") for change in changes)
    return True


def beside(plan_file: Path, changes: list[str]) -> None:
    """The other process: load, measure, wait for the runs' folders, draw."""
    from jokulmist.running.workers import pool

    pool.READING = True  # a file that trains as it is read does not train here, too
    from jokulmist.environments.simulator import Simulator
    from jokulmist.judging.cached_references import known_references
    from jokulmist.pictures.saved import load, warm_up
    from jokulmist.plans.fingerprint import fingerprint
    from jokulmist.plans.plan import read_plan
    from jokulmist.running.runs.run import Run

    environment: Any = read_plan(plan_file, changes).measured
    levels, key = None, fingerprint(environment)
    if not isinstance(environment, Simulator):  # which may hold what there is once
        levels = known_references(environment)
    load()
    if not select.select([sys.stdin], [], [], 0.0)[0]:  # else it is waited for already
        warm_up()
    if not select.select([sys.stdin], [], [], MOST_WAITED)[0]:
        return
    line = sys.stdin.readline()
    for path in json.loads(line) if line else []:
        run = Run.open(Path(path))
        # The file may have been edited while it trained: what was measured is then of other code than the run's.
        same = isinstance(key, str) and fingerprint(run.plan.measured) == key
        _draw_in_fork(run, levels if same else None)
        print(DRAWN_FIELD, path, sep="\t", flush=True)


def _draw_in_fork(run: Run, levels: Any) -> None:
    """Draw a run's pictures with two cores: the first process has nothing to do by now, and waits for them."""
    from jokulmist.pictures.saved import save_curve, save_others

    child = os.fork()
    if child == 0:
        status = 1
        try:
            save_others(run)
            status = 0
        finally:
            os._exit(status)
    try:
        save_curve(run, levels)
    finally:
        status = os.waitpid(child, 0)[1]
    if status:
        raise RuntimeError("not all was drawn")  # whoever asked for it draws, and tells what is wrong


if __name__ == "__main__":
    gc.disable()
    beside(Path(sys.argv[1]), sys.argv[2:])
    sys.stdout.flush()
    os._exit(0)  # all is written; taking apart what was loaded would be waited for
