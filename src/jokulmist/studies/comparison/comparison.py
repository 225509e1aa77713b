"""What a comparison found: its groups, their scores, and which of them differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jokulmist import cells
from jokulmist.errors import SettingError
from jokulmist.plans.setting_differences import short_names
from jokulmist.studies.comparison.curves import Over
from jokulmist.studies.comparison.verdicts import DIFFERENT

if TYPE_CHECKING:
    import pandas as pd

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


@dataclass(frozen=True)
class Comparison:
    """What came of laying groups side by side.

    Attributes
    ----------
    table : DataFrame
        A row a group: ``group``, ``seeds``, ``score`` (interquartile mean of the final scores) with its interval
        ``low`` and ``high``, ``median``, ``mean``, ``sd``, ``learned`` (share of seeds that reached the level) with
        ``learned_low`` and ``learned_high``, ``area`` (mean height of the curve over what is shared).
    pairs : DataFrame
        A row a pair: ``first``, ``second``, ``difference`` of the means, ``chance`` that a seed of the first beats one
        of the second, with ``low`` and ``high``, ``p``, ``p_adjusted``, ``verdict``, ``more_seeds`` (a side, to find a
        difference such as this one four times in five; not a number where no number would do).
    scores : DataFrame
        A row a run.
    curves, middle : DataFrame
        Long: each run's curve, and each group's middle with its interval.
    profile : DataFrame
        Long: the share of a group's seeds above each score.
    notes : list of str
        What a reader must know.
    by : list of str
    level : float or None
    value, over : str
        What scores and curves show.
    """

    table: pd.DataFrame
    pairs: pd.DataFrame
    scores: pd.DataFrame
    curves: pd.DataFrame
    middle: pd.DataFrame
    profile: pd.DataFrame
    notes: list[str]
    by: list[str]
    level: float | None
    value: str
    over: Over
    levels: dict[str, float] = field(default_factory=dict)

    def plot(self, axes: Axes | None = None) -> Axes:
        """Draw the curves on `axes`; with None a figure of curves, scores and performance profile, whose first axes are
        given."""
        from jokulmist.pictures import style

        with style.styled():
            if axes is not None:
                return self._draw_curves(axes)
            import matplotlib.pyplot as plt

            return self._draw_all(plt.figure(figsize=(12.8, 8.0)))

    def _draw_all(self, figure: Figure) -> Axes:
        """Curves, final scores and performance profile; the axes of the curves."""
        from jokulmist.pictures.figures.comparison import comparison_axes, draw_profile, draw_scores

        parts = comparison_axes(figure)
        draw_scores(parts["scores"], self.scores, self.table, value=f"final {self.value}", level=self.level)
        parts["scores"].set_title("final scores, middle and 95 %")
        draw_profile(parts["profile"], self.profile, value=f"final {self.value}")
        parts["profile"].set_title("performance profile")
        return self._draw_curves(parts["curves"])

    def _draw_curves(self, axes: Axes) -> Axes:
        from jokulmist.pictures import style
        from jokulmist.pictures.figures.comparison import draw_curves

        value_label = (
            f"mean {'normalised ' if self.value.startswith('normalised') else ''}return of the last 100 episodes"
        )
        axes_drawn = draw_curves(axes, self.curves, self.middle, over=self.over, value=value_label, levels=self.levels)
        axes_drawn.set_title(
            f"{len(self.table)} groups{f', by {_last(self.by)}' if self.by else ''}: middle and 95 % band"
        )
        axes_drawn.legend(
            loc="best", frameon=True, facecolor=style.PAPER, edgecolor="none", framealpha=0.85, fontsize=9
        )
        return axes_drawn

    def save(self, path: str | Path) -> list[Path]:
        """Save the figure as PDF, SVG or PNG, by the ending of its name, and the numbers beside it as CSV.

        Returns
        -------
        list of Path
            The figure, then ``-table``, ``-pairs``, ``-scores``, ``-curves``, ``-middle`` and ``-profile``.
        """
        from jokulmist.pictures import style

        target = Path(path)
        if target.suffix.lower() not in (".pdf", ".svg", ".png"):
            raise SettingError(f"a figure is saved as .pdf, .svg or .png; got {target.name!r}. Write `figure.pdf`.")
        target.parent.mkdir(parents=True, exist_ok=True)
        with style.styled():
            figure = style.own_figure()
            self._draw_all(figure)
            saved = [style.save(figure, target)]
        for name in ("table", "pairs", "scores", "curves", "middle", "profile"):
            beside = target.with_name(f"{target.stem}-{name}.csv")
            getattr(self, name).to_csv(beside, index=False, float_format="%.7g")
            saved.append(beside)
        return saved

    def as_json(self) -> dict[str, Any]:
        """All but the curves, for programs."""
        return {
            "by": self.by,
            "value": self.value,
            "level": self.level,
            "known": self.levels,
            "notes": self.notes,
            "groups": self.table.to_dict("records"),
            "pairs": self.pairs.to_dict("records"),
            "scores": self.scores.to_dict("records"),
        }

    @cells.safely
    def _repr_html_(self) -> str:
        groups = self.table.sort_values("score", ascending=False).to_dict("records")
        pairs = cells.table(self.pairs.to_dict("records"), "pairs: which differ by more than luck")
        notes = {"judged by": self.value, **{f"note {k}": note for k, note in enumerate(self.notes, start=1)}}
        return cells.html_card(f"{len(self.table)} groups", notes, cells.table(groups, "best first"), pairs)

    def __repr__(self) -> str:
        best = self.table.sort_values("score", ascending=False).iloc[0]
        decided_pairs = sum(self.pairs["verdict"] == DIFFERENT)
        return (
            f"<{len(self.table)} groups, best {best['group']}: {best['score']:.4g} [{best['low']:.4g}, "
            f"{best['high']:.4g}]; {decided_pairs} of {len(self.pairs)} pairs different>"
        )


def _last(names: Sequence[str]) -> str:
    return ", ".join(short_names(names).values())
