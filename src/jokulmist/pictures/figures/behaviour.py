"""What an agent does: the share of each choice over training, the policy over two channels, an episode against time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Actions, Choice
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import RecordError, SettingError, listed, nearest
from jokulmist.judging.evaluate import evaluate
from jokulmist.lanes.protocol import Observed
from jokulmist.loops.acting import ActingCopies
from jokulmist.loops.policy import Policy
from jokulmist.pictures import style
from jokulmist.pictures.replay import traces_of
from jokulmist.records.rollouts import Rollout
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scenes import Scene

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

CELLS = 48
PLAYED = 20
MOST_VISITED = 4000
AVERAGED_OVER = 24
LETTERS_AN_INCH = 10.5  # of 12 points


def plot_choices(run: Run, axes: Axes | None = None, part: str = "") -> Axes:
    """Draw what was done over training: the share of each choice, or mean and spread of a range; of recorded episodes.

    Parameters
    ----------
    run : Run
        Trained with ``record_every=``.
    axes : matplotlib.axes.Axes, optional
    part : str
        The part of the action, where it has several.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, record_every=1, lane="plain", folder=tempfile.mkdtemp())
    >>> axes = jm.pictures.plot_choices(run)
    >>> axes.get_ylabel()
    'share of the decisions of an episode'
    """
    parts = _parts(run.environment)
    if part not in parts:
        raise SettingError(f"`part` is {part!r}; the action has {listed(parts)}.{nearest(part, parts)}")
    frame, column = run.episodes.set_index("episode"), f"action.{part}" if part else "action"
    rollouts = [r for r in run.rollouts if r.run == run.name and r.episode in frame.index and r.steps]
    if not rollouts:
        raise RecordError(f"{run.name} recorded no episode. Train it with `record_every = 50` under `[training]`.")
    decisions = np.array([float(frame["decisions"].loc[r.episode]) for r in rollouts])
    order = np.argsort(decisions, kind="stable")
    decisions = decisions[order]
    done = [rollouts[k].table[column].iloc[:-1] for k in order]
    with style.styled():
        axes = style.axes_or_new(axes)
        kind = parts[part]
        if isinstance(kind, Choice):
            shares = np.array([[(values == label).mean() for label in kind.labels] for values in done])
            edges = np.concatenate([[0.0], 0.5 * (decisions[1:] + decisions[:-1]), [decisions[-1]]])
            base = np.zeros(len(decisions))
            for k, label in enumerate(kind.labels):
                color = style.SERIES[k % len(style.SERIES)]
                axes.stairs(base + shares[:, k], edges, baseline=base, fill=True, color=color, alpha=0.85, label=label)
                base = base + shares[:, k]
            axes.set_ylim(0.0, 1.0)
            axes.set_ylabel("share of the decisions of an episode")
            axes.grid(False)
        else:
            values = [np.stack([np.asarray(v, float).reshape(-1) for v in column]) for column in done]
            for k in range(values[0].shape[1]):
                mean, spread = (np.array([f(v[:, k]) for v in values]) for f in (np.mean, np.std))
                color = style.SERIES[k % len(style.SERIES)]
                axes.plot(
                    decisions, mean, color=color, label=f"mean{f' of number {k}' if values[0].shape[1] > 1 else ''}"
                )
                axes.fill_between(
                    decisions, mean - spread, mean + spread, color=color, alpha=0.25, label="one spread around it"
                )
            axes.set_ylabel(f"{part or 'action'} {kind.unit}".strip())
        axes.set_xlim(0, decisions[-1])
        style.decisions_axis(axes)
        style.titled(
            axes, f"{describe(run.environment).name}: what was done, {len(rollouts)} recorded episodes, seed {run.seed}"
        )
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.1), ncols=6)
    return axes


def _parts(environment: Environment) -> dict[str, Any]:
    action = describe(environment).action
    return dict(action.parts) if isinstance(action, Actions) else {"": action}


def plot_policy(
    policy: Policy,
    environment: Environment,
    over: tuple[str, str],
    *,
    fixed: dict[str, float] | None = None,
    averaged: bool = False,
    figure: Figure | None = None,
) -> Figure:
    """Draw the greedy action and the value of what is observed, over two channels.

    Parameters
    ----------
    policy : Policy
    environment : Environment
    over : (str, str)
        Two channels of single numbers, across and upwards; of an array one entry, ``"beams[3]"``.
    fixed : dict of str to float, optional
        What other channels are held at; those that are not named at the median of what the policy meets.
    averaged : bool
        Whether the value is averaged over what the other channels were met at instead, and the action is the most
        frequent one.
    figure : matplotlib Figure, optional

    Returns
    -------
    Figure
        The region that the policy visits in 20 episodes is dotted.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> figure = jm.pictures.plot_policy(run.policy, run.environment, over=("level", "hour"))
    >>> len(figure.axes) > 1
    True
    """
    if not isinstance(policy, Policy):
        raise SettingError(
            f"`plot_policy` takes a policy first, then its environment and two channels; got {policy!r:.80}. Write for "
            "instance `jm.pictures.plot_policy(run.policy, run.environment, ('position', 'speed'))`."
        )
    policy.fits(environment)
    spec = policy.spec
    if spec.images:
        raise SettingError(f"`{spec.images[0].name}` is an image, and a map is drawn over two numbers.")
    entries = _entries(spec)
    for name in (*over, *(fixed or {})):
        if name not in entries:
            raise SettingError(
                f"there is no channel `{name}` of one number; there are {listed(entries)}.{nearest(name, entries)}"
            )
    if len(set(over)) != 2:
        raise SettingError(f"a map needs two channels; got {over!r}.")
    met = np.concatenate(
        [
            recorded_episode.numbers
            for _, recorded_episode in evaluate(
                policy, environment, episodes=PLAYED, record=PLAYED, with_policy_outputs=False
            ).recorded
        ]
    )
    across, upwards = (_values(spec, entries[name], met) for name in over)
    grid = np.stack(np.meshgrid(across, upwards), axis=-1).reshape(-1, 2)
    rows = np.repeat(np.median(met, axis=0)[None], len(grid), axis=0)
    for name, value in (fixed or {}).items():
        rows[:, entries[name]] = value
    other_rows = [rows]
    if averaged:
        chosen = np.linspace(0, len(met) - 1, min(AVERAGED_OVER, len(met))).round().astype(int)
        other_rows = [np.repeat(met[k][None], len(grid), axis=0) for k in chosen]
    actions, values = [], []
    for base in other_rows:
        for k, name in enumerate(over):
            base[:, entries[name]] = grid[:, k]
        actions.append(_greedy(policy, base))
        values.append(_valued(policy, base))
    with style.styled():
        figure = figure or style.own_figure()
        map_figure: Figure = _drawn_map(
            figure, policy, over, across, upwards, actions, np.mean(values, axis=0), met[:, [entries[n] for n in over]]
        )
        return map_figure


def _entries(spec: Any) -> dict[str, int]:
    """Where each single number is in the flat row, by its name."""
    entries = {}
    for name, columns in spec.slices.items():
        count = columns.stop - columns.start
        for k in range(count):
            entries[name if count == 1 else f"{name}[{k}]"] = columns.start + k
    return entries


def _values(spec: Any, entry: int, met: Any) -> Any:
    """The values of a channel that a map shows: whole numbers each, else evenly between its bounds, or what was met."""
    low, high = float(spec.low[entry]), float(spec.high[entry])
    channel = next(c for c in spec.numbers if spec.slices[c.name].start <= entry < spec.slices[c.name].stop)
    if not np.isfinite(low) or not np.isfinite(high):
        low, high = float(met[:, entry].min()), float(met[:, entry].max())
    if channel.whole and high - low <= 2 * CELLS:
        return np.arange(low, high + 1.0)
    return np.linspace(low, high, CELLS)


def _greedy(policy: Policy, rows: Any) -> list[Any]:
    return ActingCopies(policy, len(rows), 0, "greedy").choose(_observed(policy, rows))


def _valued(policy: Policy, rows: Any) -> Any:
    """The value of each row; not a number where the method has none."""
    kind = type(policy.agent)
    seen = _observed(policy, rows).seen
    if hasattr(kind, "state_values") and getattr(policy.agent, "baseline", True):
        return kind.state_values(policy.config, policy.learner, seen)
    if hasattr(kind, "values"):
        return np.max(list(kind.values(policy.config, policy.learner, seen).values()), axis=0)
    return np.full(len(rows), np.nan)


def _observed(policy: Policy, rows: Any) -> Observed:
    spec = policy.spec
    free = tuple(np.ones(c.count, bool) for c in choices_of(spec.action).values())
    return Observed(rows.tolist(), masks=[free] * len(rows) if spec.masked else [])


def _drawn_map(
    figure: Any,
    policy: Policy,
    over: tuple[str, str],
    across: Any,
    upwards: Any,
    actions: list[Any],
    values: Any,
    visited: Any,
) -> Any:
    action = policy.spec.action
    parts = dict(action.parts) if isinstance(action, Actions) else {"": action}
    panels: list[tuple[str, Any]] = [*parts.items()]
    if np.isfinite(values).any():
        panels.append(("value", None))
    shape = (len(upwards), len(across))
    for place, (name, part) in enumerate(panels):
        axes = figure.add_axes((0.06 + place * 0.94 / len(panels), 0.12, 0.94 / len(panels) - 0.09, 0.72))
        chosen = [] if part is None else [[getattr(a, name) if name else a for a in tried] for tried in actions]
        if part is None:
            mesh = axes.pcolormesh(across, upwards, values.reshape(shape), cmap="cividis", shading="nearest")
            figure.colorbar(mesh, ax=axes, label="value")
        elif isinstance(part, Choice):
            _draw_choices(figure, axes, part, across, upwards, np.asarray(chosen))
        else:
            numbers = np.mean([[np.asarray(v, float).reshape(-1)[0] for v in tried] for tried in chosen], axis=0)
            mesh = axes.pcolormesh(across, upwards, numbers.reshape(shape), cmap="cividis", shading="nearest")
            figure.colorbar(mesh, ax=axes, label=f"{name or 'action'} {part.unit}".strip())
        thin = max(1, len(visited) // MOST_VISITED)
        dots = {"color": style.PAPER, "markersize": 3.5, "markeredgecolor": style.INK, "markeredgewidth": 0.4}
        axes.plot(visited[::thin, 0], visited[::thin, 1], ".", **dots)
        axes.set_xlabel(over[0])
        axes.set_ylabel(over[1] if place == 0 else "")
        axes.set_title("value" if part is None else f"greedy {name or 'action'}")
        axes.grid(False)
    title = f"{policy.agent!r} after {policy.decisions:,} decisions; dots: what it visits in {PLAYED} episodes"
    lines = style.wrapped(title, LETTERS_AN_INCH * figure.get_size_inches()[0]).splitlines()
    figure.text(0.06, 0.985, "\n".join(lines[:3]), fontsize=12, va="top")
    return figure


def _draw_choices(figure: Any, axes: Any, part: Choice, across: Any, upwards: Any, chosen: Any) -> None:
    """The alternative that is chosen most often at each place, in a colour of its own."""
    from matplotlib.colors import BoundaryNorm, ListedColormap

    counts = np.stack([np.sum(chosen == k, axis=0) for k in range(part.count)])
    colors = ListedColormap([style.SERIES[k % len(style.SERIES)] for k in range(part.count)])
    norm = BoundaryNorm(np.arange(part.count + 1) - 0.5, part.count)
    most = counts.argmax(axis=0).reshape(len(upwards), len(across))
    mesh = axes.pcolormesh(across, upwards, most, cmap=colors, norm=norm, shading="nearest", alpha=0.8)
    bar = figure.colorbar(mesh, ax=axes, ticks=range(part.count))
    bar.ax.set_yticklabels(part.labels)


def plot_rollout(rollout: Rollout, environment: Environment, figure: Figure | None = None) -> Figure:
    """Draw an episode against time: channels, what was done, what the policy said, reward terms.

    Parameters
    ----------
    rollout : Rollout
    environment : Environment
    figure : matplotlib Figure, optional

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> import pathlib, tempfile
    >>> tarn, path = jm.gallery.Tarn(), pathlib.Path(tempfile.mkdtemp()) / "kept.parquet"
    >>> episode = tarn.episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act(0)
    >>> _ = jm.save_rollout(episode, path)
    >>> figure = jm.pictures.plot_rollout(jm.read_rollouts(path)[0], tarn)
    >>> len(figure.axes) > 2
    True
    """
    description = describe(environment)
    channels = [c for c in description.spec.numbers if c.shape == ()]
    traces = traces_of(Scene("", rollout, [], []), environment)
    with style.styled():
        figure = figure or style.own_figure()
        count = len(channels) + len(traces) + 1
        axes = figure.subplots(count, 1, sharex=True)
        for k, channel in enumerate(channels):
            axes[k].plot(rollout.table[channel.name], color=style.SERIES[k % len(style.SERIES)], linewidth=1.3)
            axes[k].set_ylabel(
                f"{channel.name}\n{channel.unit}".strip(), fontsize=8, rotation=0, ha="right", va="center"
            )
        for k, (name, draw) in enumerate(traces):
            draw(axes[len(channels) + k])
            axes[len(channels) + k].set_ylabel(name, fontsize=8, rotation=0, ha="right", va="center")
        last = axes[-1]
        for k, (term, weight) in enumerate(zip(description.terms, description.weights, strict=True)):
            last.plot(
                weight * rollout.table[term.name],
                color=style.SERIES[k % len(style.SERIES)],
                linewidth=1.1,
                label=term.name,
            )
        last.set_ylabel("reward\nterms", fontsize=8, rotation=0, ha="right", va="center")
        style.legend_at_corner(last)
        last.set_xlabel("decisions")
        for axis in axes:
            axis.tick_params(labelsize=8)
        closed = f", closed by {rollout.closed_by}" if rollout.closed_by else ""
        axes[0].set_title(
            f"{rollout.run}, episode {rollout.episode:,}: {rollout.steps} decisions, return {rollout.total:.4g}{closed}"
        )
        figure.subplots_adjust(left=0.11, right=0.985, top=0.95, bottom=0.06, hspace=0.25)
    return figure
