"""Draws what was counted over time: devices with drift, failed checks, devices that could not be reached."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise

from matplotlib.axes import Axes
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from oast.watch.store import Sample

SIZE_IN = (12.8, 7.2)
DOTS_PER_IN = 100
# Colors that people with red-green blindness can distinguish.
WRONG, WARNED, UNREACHED, ALL, CHANGE = "#b5443a", "#d99a2b", "#5b6770", "#c9d3da", "#3a6ea5"
# A run that is later than usual by this factor leaves a gap: what was between is unknown.
GAP = 3.0
# With more runs than these, a mark for each would be a band.
MARKED_RUNS = 60


@dataclass(frozen=True, slots=True)
class Panel:
    """One row of the figure: of the runs that `does` names, the measures `lines` (name, words, colour), and
    how many there were of all."""

    title: str
    does: str
    lines: tuple[tuple[str, str, str], ...]
    of: str
    of_words: str


PANELS = (
    Panel(
        "drift",
        "drift",
        (
            ("drifted", "devices drifted", WRONG),
            ("unsaved", "not saved", WARNED),
            ("violations", "policies violated", CHANGE),
            ("failed", "not reached", UNREACHED),
        ),
        "devices",
        "devices",
    ),
    Panel(
        "checks",
        "verify",
        (
            ("wrong", "failed checks", WRONG),
            ("warned", "warnings", WARNED),
            ("failed", "unreachable devices", UNREACHED),
        ),
        "checks",
        "checks",
    ),
)


def figure_of(name: str, runs: Sequence[Sample], deliveries: Sequence[datetime]) -> Figure:
    """A panel for each kind of run that there was, over the same time; `deliveries` are marked."""
    panels = [panel for panel in PANELS if any(run.does == panel.does for run in runs)]
    figure = Figure(figsize=SIZE_IN, dpi=DOTS_PER_IN, layout="constrained")
    axes = figure.subplots(len(panels), 1, sharex=True, squeeze=False)[:, 0]
    first, last = min(run.at for run in runs), max(run.at for run in runs)
    margin = max((last - first) * 0.02, timedelta(minutes=1))
    marked = [at for at in deliveries if first - margin <= at <= last + margin]
    for panel, axis in zip(panels, axes, strict=True):
        _draw(axis, panel, [run for run in runs if run.does == panel.does])
        axis.set_xlim(first - margin, last + margin)
        label = f"changes delivered: {len(marked)}"
        for at in marked:
            axis.axvline(at, color=CHANGE, linewidth=1, linestyle=(0, (2, 3)), zorder=1, label=label)
            label = "_"
        axis.legend(
            loc="lower right",
            bbox_to_anchor=(1.0, 1.0),
            ncols=6,
            frameon=False,
            fontsize=9,
            borderaxespad=0.2,
        )
    locator = AutoDateLocator()  # type: ignore[no-untyped-call]
    axes[-1].xaxis.set_major_locator(locator)
    axes[-1].xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes[-1].set_xlabel("UTC", loc="left")
    figure.suptitle(
        f"{name}: findings over time",
        x=0.01,
        ha="left",
        fontsize=14,
        fontweight="bold",
        parse_math=False,
    )
    return figure


def _draw(axis: Axes, panel: Panel, runs: Sequence[Sample]) -> None:
    most = 0
    marker = "o" if len(runs) <= MARKED_RUNS else ""
    for measure, words, colour in panel.lines:
        values = [run.measures.get(measure, 0) for run in runs]
        main = measure == panel.lines[0][0]
        if not any(values) and not main:
            continue
        most = max(most, *values)
        label = f"{words}: {values[-1]} now, {max(values)} at most"
        for times, part in _parts(runs, values):
            over = 4 if main else 3
            axis.plot(
                times,  # type: ignore[arg-type]
                part,
                color=colour,
                linewidth=1.8,
                drawstyle="steps-post",
                marker=marker,
                markersize=4,
                label=label,
                zorder=over,
            )
            if main:
                axis.fill_between(times, part, step="post", color=colour, alpha=0.18, linewidth=0, zorder=2)  # type: ignore[arg-type]
            label = "_"
    _shade_gaps(axis, runs)
    total = runs[-1].measures.get(panel.of, 0)
    axis.set_title(f"{panel.title}, of {total} {panel.of_words}", loc="left", fontsize=11, pad=20)
    axis.set_ylim(0, max(most * 1.15, 1))
    axis.yaxis.set_major_locator(MaxNLocator(integer=True, nbins=6))
    axis.grid(axis="y", color=ALL, linewidth=0.6)
    axis.spines[["top", "right"]].set_visible(False)


def _shade_gaps(axis: Axes, runs: Sequence[Sample]) -> None:
    """Shade the times in which no job ran, so that nothing is known."""
    parts = _parts(runs, [0] * len(runs))
    label = "not watched"
    for (before, _), (after, _) in pairwise(parts):
        axis.axvspan(before[-1], after[0], color=ALL, alpha=0.45, linewidth=0, zorder=0, label=label)  # type: ignore[arg-type]
        label = "_"


def _parts(runs: Sequence[Sample], values: Sequence[int]) -> list[tuple[list[datetime], list[int]]]:
    """Return the line in pieces, with a gap where no job ran for long."""
    times = [run.at for run in runs]
    steps = sorted(later - earlier for earlier, later in pairwise(times))
    longest = steps[len(steps) // 2] * GAP if steps else timedelta.max
    parts: list[tuple[list[datetime], list[int]]] = [([], [])]
    for at, value in zip(times, values, strict=True):
        if parts[-1][0] and at - parts[-1][0][-1] > longest:
            parts.append(([], []))
        parts[-1][0].append(at)
        parts[-1][1].append(value)
    return parts


def drawn(figure: Figure, kind: str) -> bytes:
    """The figure as a file: `kind` is png, svg or pdf."""
    out = io.BytesIO()
    figure.savefig(out, format=kind)
    return out.getvalue()
