"""Gathers what a page says, and writes it."""

from __future__ import annotations

import base64
import json
import tempfile
from collections.abc import Callable, Sequence
from importlib.resources import files as package_files
from pathlib import Path
from typing import Any

from jokulmist.cells import without_empty_columns
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import JokulmistError, RecordError, SettingError
from jokulmist.judging.cached_references import known_references
from jokulmist.judging.evaluate import RANDOM, Evaluation
from jokulmist.pictures.replay import save_replay
from jokulmist.pictures.report import charts
from jokulmist.plain_files import MOST_TEXT_BYTES, plain_file
from jokulmist.plans.progress import duration
from jokulmist.plans.setting_differences import differing as names_differing
from jokulmist.plans.setting_differences import flat
from jokulmist.records.files import replace_file
from jokulmist.records.run_folder import DIFF, LOG
from jokulmist.records.run_index import readable, row_of
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scenes import Scene, played_scene, untrained

MOST_LOG = 60
REPLAY_FRAMES_A_SECOND, REPLAY_FRAMES = 8.0, 48
Message = Callable[[str], None]


def save_report(
    runs: Run | Sequence[Run],
    path: str | Path | None = None,
    *,
    replays: bool = True,
    on_message: Message | None = None,
) -> Path:
    """Write one self-contained HTML page about a run or several.

    Parameters
    ----------
    runs : Run or sequence of Run
        With folders.
    path : path, optional
        By default ``report.html`` in the run's folder; beside the first run's folder for several.
    replays : bool
        Whether an episode early and late is drawn; that takes the most time.
    on_message : function of a text, optional
        Told what is being done.

    Returns
    -------
    Path
        The page needs no network, no other file, and runs nothing but its own script.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=tempfile.mkdtemp())
    >>> jm.pictures.save_report(run).name
    'report.html'
    """
    from jinja2 import Environment as Pages
    from jinja2 import StrictUndefined

    several = [runs] if isinstance(runs, Run) else list(runs)
    if not several or any(run.path is None for run in several):
        raise SettingError("a report is about runs with folders; train with `folder=`.")
    on_message = on_message or (lambda _: None)
    first = several[0]
    assert first.path is not None
    target = Path(path) if path is not None else _usual(several)
    on_message("measuring random play and the references")
    references = known_references(first.environment)
    content: dict[str, Any] = {
        "sections": charts.SECTIONS,
        "title": first.name if len(several) == 1 else f"{len(several)} runs",
        "environment": describe(first.environment).name,
        "about": (type(first.environment).__doc__ or "").strip().partition("\n")[0],
        "rows": without_empty_columns(
            [readable(row_of(run.path, run.origin)) for run in several if run.path is not None]
        ),
        "runs": [told_of(run, references, replays and len(several) <= 4, on_message) for run in several],
        "curve": charts.curve(several, references),
        "differ": differing(several),
        "known": {_level_text(name, level): level.level for name, level in references.items()},
    }
    parts = package_files("jokulmist.pictures.report")
    pages = Pages(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    pages.filters["data"] = _data
    template = pages.from_string(parts.joinpath("report.html").read_text(encoding="utf-8"))
    page = template.render(
        **content,
        style=parts.joinpath("report.css").read_text(encoding="utf-8"),
        script="\n".join(parts.joinpath(name).read_text(encoding="utf-8") for name in ("charts.js", "report.js")),
    )
    target.parent.mkdir(parents=True, exist_ok=True)
    replace_file(target, page)
    return target


def _usual(runs: list[Run]) -> Path:
    assert runs[0].path is not None
    return runs[0].path / "report.html" if len(runs) == 1 else runs[0].path.parent / "report.html"


def _data(content: Any) -> str:
    """JSON that may be in a page's script."""
    from markupsafe import Markup

    text = json.dumps(content, allow_nan=False, separators=(",", ":"))
    return Markup(text.replace("<", "\\u003c").replace("&", "\\u0026"))


def _level_text(name: str, level: Evaluation) -> str:
    if name == RANDOM:
        return "Random play returns"
    return f"The reference {name} returns" if level.exact is None else "The optimum, solved exactly, is"


def _text(path: Path) -> str:
    plain_file(path, MOST_TEXT_BYTES)
    return path.read_text(encoding="utf-8", errors="replace") if path.exists() else ""


def told_of(
    run: Run, references: dict[str, Evaluation], replays: bool, on_message: Message, sections: bool = True
) -> dict[str, Any]:
    """What one run's part of the page says; without `sections` no environment is made."""
    try:
        return _told_of(run, references, replays, on_message, sections)
    except (KeyError, TypeError, ValueError, IndexError, AttributeError) as damaged:
        if isinstance(damaged, JokulmistError):
            raise
        raise RecordError(
            f"the record of {run.name} was damaged, or written by another version: {damaged!r:.120}."
        ) from None


def _told_of(
    run: Run, references: dict[str, Evaluation], replays: bool, on_message: Message, sections: bool
) -> dict[str, Any]:
    assert run.path is not None
    origin, plan = run.origin, run.written_plan
    lines = _text(run.path / LOG).splitlines()
    cut = [f"... {len(lines) - MOST_LOG} lines before ..."] if len(lines) > MOST_LOG else []
    return {
        "name": run.name,
        "status": origin.get("status", "?"),
        "ended_by": origin.get("ended_by") or origin.get("failure") or "",
        "took": duration(float(origin.get("seconds") or 0.0)),
        "plan": [
            (section, [(name, str(value)) for name, value in flat(values).items()])
            for section, values in plan.items()
            if isinstance(values, dict)
        ],
        "again": f"jokulmist redo {run.path}",
        "origin": _origin(origin),
        "command": " ".join(origin.get("command") or []),
        "uncommitted": _text(run.path / DIFF),
        **(charts.sections(run) if sections else charts.NO_SECTIONS),
        "readings": charts.readings(run),
        "evaluations": charts.evaluations(run),
        "machine": charts.machine(run),
        "replays": _replays(run, on_message) if replays else [],
        "log": "\n".join([*cut, *lines[-MOST_LOG:]]),
    }


def _origin(origin: dict[str, Any]) -> list[tuple[str, str]]:
    names = ("began", "updated", "seed", "lane", "host", "processor", "cores", "system", "python", "revision")
    rows = [(name, str(origin[name])) for name in names if origin.get(name) not in (None, "")]
    rows += [(name, version) for name, version in (origin.get("versions") or {}).items()]
    for resumed in origin.get("resumed") or []:
        rows.append(("went on", f"after {resumed['at']:,} decisions, {resumed['time']}"))
    parent = origin.get("parent")
    if isinstance(parent, dict):
        rows.append(("begins with", f"what {parent.get('run')} had learned after {parent.get('decisions')} decisions"))
    if "recorded" in origin:
        rows.append(
            (
                "learned from",
                "{decisions:,} decisions of {episodes:,} episodes, mean return {mean_return:.4g}".format(
                    **origin["recorded"]
                ),
            )
        )
        rows += [("records", f"{record['file']}, SHA-256 {record['sha256']}") for record in origin.get("records") or []]
    if origin.get("again"):
        rows.append(("does again", str(origin["again"])))
    return rows


def differing(runs: list[Run]) -> list[dict[str, str]]:
    """The settings in which runs differ, one row a run."""
    plans = [flat(run.written_plan) for run in runs]
    names = sorted(names_differing(plans, beside=("training.seeds",)))
    rows = [{"run": run.name, **{n: str(s.get(n, "")) for n in names}} for run, s in zip(runs, plans, strict=True)]
    return rows if names else []


def _replays(run: Run, on_message: Message) -> list[dict[str, Any]]:
    """An episode of the policy that the run began with, and one of its last, as pictures with words beside them."""
    replays = []
    try:
        policies = [
            ("early: before any training", untrained(run)),
            (f"late: after {run.policy.decisions:,} decisions", run.policy),
        ]
        for title, policy in policies:
            on_message(f"drawing an episode, {title}")
            replays.append(_replay(played_scene(policy, run.environment, 1, title), run))
    except JokulmistError as reason:
        on_message(f"no replay: {reason}")
    return replays


def _replay(scene: Scene, run: Run) -> dict[str, Any]:
    with tempfile.TemporaryDirectory() as folder:
        path = save_replay(
            [scene], run.environment, Path(folder) / "replay.gif", per_second=REPLAY_FRAMES_A_SECOND, most=REPLAY_FRAMES
        )
        picture = base64.b64encode(path.read_bytes()).decode()
    rollout, description = scene.rollout, describe(run.environment)
    terms = [
        (term.name, f"{weight * float(rollout.table[term.name].sum()) + 0.0:.4g}")
        for term, weight in zip(description.terms, description.weights, strict=True)
    ]
    closed = f", closed by {rollout.closed_by}" if rollout.closed_by else ""
    return {
        "title": scene.title,
        "words": f"{rollout.steps} decisions, return {rollout.total:.4g}{closed}",
        "terms": terms,
        "picture": picture,
    }
