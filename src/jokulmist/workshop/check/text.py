"""A check's report as text: the findings first, then what was seen."""

from __future__ import annotations

import io
import math
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from jokulmist.workshop.check.report import CheckReport

WIDTH = 116


def text_of(report: CheckReport) -> str:
    """The report as plain text."""
    from rich.console import Console

    console = Console(file=io.StringIO(), width=WIDTH, highlight=False, force_jupyter=False)
    show(report, console)
    text: str = console.file.getvalue()  # type: ignore[attr-defined]
    return text


def show(report: CheckReport, console: Any) -> None:
    """Print the report."""
    _show_findings(report, console)
    if not any(math.isfinite(reach.least) for reach in (*report.channels, *report.terms)):
        return  # it failed before anything was seen: what is wrong stands above
    console.print()
    console.print(_ranges(report))
    console.print()
    total = sum(report.closed_by.values())
    counts = sorted(report.closed_by.items(), key=lambda item: -item[1])
    closed = ", ".join(f"{name} {count / total:.0%}" for name, count in counts)
    console.print(f"episodes closed by   {closed or 'nothing'}  ({total} episodes)")
    if report.ok or report.levels:
        _show_levels(report, console)


def _show_findings(report: CheckReport, console: Any) -> None:
    from rich.markup import escape

    errors = sum(f.level == "error" for f in report.findings)
    warnings = len(report.findings) - errors
    verdict = (
        f"{errors or 'no'} error{'' if errors == 1 else 's'}, {warnings or 'no'} warning{'' if warnings == 1 else 's'}"
    )
    console.print(f"[bold]{report.name}[/bold]: {verdict} in {report.steps:,} steps of random play")
    for finding in sorted(report.findings, key=lambda finding: finding.level != "error"):
        color = "red" if finding.level == "error" else "yellow"
        console.print(f"\n[{color}]{finding.level}[/{color}]  {escape(finding.problem)}", soft_wrap=False)
        if finding.place:
            console.print(f"  where  {escape(finding.place)}")
        console.print(f"  why    {escape(finding.why)}")
        console.print(f"  fix    {escape(finding.fix)}")


def _ranges(report: CheckReport) -> Any:
    """The table of what was observed and of what each reward term came to."""
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for name in ("", "name", "declared"):
        table.add_column(name)
    for name in ("least", "most", "mean a step"):
        table.add_column(name, justify="right")
    for i, (name, shape) in enumerate(report.images.items()):
        table.add_row("observed" if i == 0 else "", name, shape, "0", "255", "")
    for kind, rows in (("observed", report.channels), ("reward", report.terms)):
        for i, reach in enumerate(rows):
            if not math.isfinite(reach.least):
                continue
            heading = kind if i == 0 and not (kind == "observed" and report.images) else ""
            mean = f"{reach.mean:.4g}" if kind == "reward" else ""
            table.add_row(heading, reach.name, reach.declared, f"{reach.least:.4g}", f"{reach.most:.4g}", mean)
    return table


def _show_levels(report: CheckReport, console: Any) -> None:
    """What random play and the references return, whether the class compiles, and how fast it is."""
    from rich.markup import escape

    whose = next((level.telling for level in report.levels.values() if level.telling), "")
    for name, level in report.levels.items():
        average, low, high, sd = level.told_of(whose)
        label = "random play" if name == "random" else f"reference {name}"
        suffix = f" of {whose}" if whose else ""
        won = "".join(f", {outcome} {share:.0%}" for outcome, share in level.outcomes.items())
        more = "  (reads more than the agent sees)" if report.sees_more.get(name) else ""
        console.print(f"{label:<20} return{suffix} {average:.4g}, 95 % [{low:.4g}, {high:.4g}], sd {sd:.3g}{won}{more}")
    if report.simulated:
        console.print(f"simulator            {escape(report.stepped)}")
    elif report.compiles:
        console.print("compiles             yes: the compiled transitions are the plain ones")
    else:
        console.print(f"compiles             no: {escape(report.why_plain)}")
    if report.seen_of_images:
        console.print(f"usual network        {escape(report.seen_of_images)}")
    for name, speed in report.speeds.items():
        console.print(f"{name:<20} {speed:,.0f} steps/s")
