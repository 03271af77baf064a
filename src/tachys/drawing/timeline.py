"""A moment of a capture as a figure: a lane a routine or step, events as marks, waiting told apart from running."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from tachys.checking.probes.binding import Readings
from tachys.checking.probes.lines import Bodies
from tachys.checking.result import CheckResult, NeedCheck
from tachys.drawing.lanes import EDGE as _EDGE
from tachys.drawing.lanes import LIMIT as _LIMIT
from tachys.drawing.lanes import new_figure, save
from tachys.foreign import drawable
from tachys.model.events import Event, Thing
from tachys.model.system import System

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_RUNNING, _WAITING = "#2b5c8a", "#d9d9d9"


@dataclass(frozen=True, slots=True)
class Moment:
    """A window [begin, end] in ps of a capture, the need whose miss stands in it, if any, and what it shows."""

    begin: int
    end: int
    need: NeedCheck | None = None
    title: str = ""


def worst_moment(result: CheckResult) -> Moment:
    """The window around the worst miss; around the longest answer seen if there is none; else the beginning."""
    candidates = [need for need in result.needs.values() if need.need.follows]
    missed = sorted((need for need in candidates if need.misses), key=_overrun, reverse=True)
    if not missed:
        begin = result.capture.begin
        return Moment(begin, begin + min(result.capture.length, 2 * 10**9))
    need = missed[0]
    worst = max(need.misses, key=lambda miss: miss.value or 0)
    assert isinstance(need.limit, int)
    length = max(worst.value or 0, need.limit)
    return Moment(worst.at - length, worst.at + 2 * length, need)


def _overrun(need: NeedCheck) -> float:
    """How far beyond its limit a need went, as a multiple of the limit."""
    return max((miss.value or 0) for miss in need.misses) / float(need.limit)


def draw_timeline(result: CheckResult, moment: Moment, form: str) -> bytes:
    """The figure as PNG, SVG or PDF.

    Raises:
        ValueError: for any other form.
    """
    figure, (axes,) = new_figure()
    draw_capture_on(axes, result, moment)
    return save(figure, form)


def draw_capture_on(axes: Axes, result: CheckResult, moment: Moment) -> None:
    """A moment of a capture on given axes."""
    shown = result.board.shown
    lanes = _lanes(result.bounds.system, shown)
    for row, lane in enumerate(lanes):
        _draw_lane(axes, row, lane, shown, moment)
    _draw_misses(axes, lanes, moment)
    _finish(axes, lanes, result, moment)


@dataclass(frozen=True, slots=True)
class _Lane:
    thing: Thing
    label: str
    event: Event | None


def _lanes(system: System, shown: Readings) -> list[_Lane]:
    """What the model does not name first, routines by urgency, then steps and units."""

    def lines(*things: Thing) -> str:
        return drawable(", ".join(dict.fromkeys(name for thing in things for name in shown.through.get(thing, []))))

    lanes = [
        _Lane(thing, f"{drawable(thing.name)}\nnot in the model", None)
        for thing in shown.bodies
        if thing.kind == "line"
    ]
    for isr in system.isrs:
        event = isr.on[0] if isr.on[0] in shown.instants else None
        if isr.thing in shown.bodies or event:
            level = system.core.level_text(isr.urgency)
            names = lines(Thing(isr.on[0]), isr.thing)
            lanes.append(_Lane(isr.thing, f"{isr.name} (level {level})\n{names}", event))
    for step in system.steps:
        if step.thing in shown.bodies:
            lanes.append(_Lane(step.thing, f"{step.name} (loop)\n{lines(step.thing)}", None))
    for unit in system.units:
        if unit.thing in shown.bodies:
            lanes.append(_Lane(unit.thing, f"{unit.name} (unit)\n{lines(unit.thing)}", None))
    return lanes


def _draw_lane(axes: Axes, row: int, lane: _Lane, shown: Readings, moment: Moment) -> None:
    bodies = shown.bodies.get(lane.thing)
    if bodies is not None:
        starts, ends = bodies.start, bodies.end
        inside = (ends >= moment.begin) & (starts <= moment.end)
        bars = [(_us(s, moment), (e - s) / 1e6) for s, e in zip(starts[inside], ends[inside], strict=True)]
        axes.broken_barh(bars, (row - 0.3, 0.6), facecolors=_RUNNING, edgecolors=_EDGE, linewidth=0.5)
    if lane.event is None:
        return
    events = shown.instants[lane.event]
    for event in events[(events >= moment.begin) & (events <= moment.end)]:
        begun = None if bodies is None else _first_after(bodies, event)
        if begun is not None and begun > event:
            axes.broken_barh(
                [(_us(event, moment), (begun - event) / 1e6)], (row - 0.3, 0.6), facecolors=_WAITING,
                edgecolors=_EDGE, linewidth=0.5, hatch="////",
            )  # fmt: skip
        axes.plot([_us(event, moment)], [row - 0.38], marker="v", color=_EDGE, markersize=7, clip_on=False)


def _first_after(bodies: Bodies, event: int) -> int | None:
    place = int(np.searchsorted(bodies.start, event))
    return int(bodies.start[place]) if place < len(bodies.start) else None


def _draw_misses(axes: Axes, lanes: list[_Lane], moment: Moment) -> None:
    """The limit as a bar below each missed event of the need, and what it took."""
    need = moment.need
    answer = None if need is None else need.need.follows
    if need is None or answer is None:
        return
    row = next((k for k, lane in enumerate(lanes) if lane.event == answer.begins), None)
    if row is None:
        return
    inside = [miss for miss in need.misses if moment.begin <= miss.at <= moment.end]
    lost = [miss.at for miss in inside if miss.kind == "lost"]
    if lost:
        axes.plot([_us(at, moment) for at in lost], [row + 0.05] * len(lost), "x", color=_LIMIT, markersize=10,
                  markeredgewidth=2.5, zorder=5)  # fmt: skip
    limit = answer.within / 1e6
    late = [miss for miss in inside if miss.kind != "lost"]
    for miss in late:
        left = _us(miss.at, moment)
        axes.plot([left, left + limit], [row + 0.4, row + 0.4], color=_LIMIT, linewidth=3, solid_capstyle="butt")
    if not late:
        return
    # one of them is told in words: the worst
    worst = max(late, key=lambda miss: miss.value or 0)
    left = _us(worst.at, moment)
    axes.axvline(left + limit, color=_LIMIT, linewidth=1, linestyle="--")
    words = "not answered" if worst.value is None else f"late: {worst.value / 1e6:.1f} us, limit {limit:g} us"
    right = left + max(limit, (worst.value or 0) / 1e6)
    beside = right < _us(moment.end, moment) * 0.75
    box = {"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none", "alpha": 0.9}
    place = (right + 0.02 * (moment.end - moment.begin) / 1e6, row + 0.05) if beside else (right, row + 0.45)
    axes.annotate(words, place, (6 if beside else -6, 0), textcoords="offset points", color=_LIMIT, va="center",
                  ha="left" if beside else "right", bbox=box, zorder=6)  # fmt: skip


def _us(ps: int | np.int64, moment: Moment) -> float:
    return float(int(ps) - moment.begin) / 1e6


def _finish(axes: Axes, lanes: list[_Lane], result: CheckResult, moment: Moment) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    axes.set_yticks(range(len(lanes)), [lane.label for lane in lanes])
    axes.set_ylim(len(lanes) - 0.4, -0.7)
    axes.set_xlim(0, _us(moment.end, moment))
    axes.set_xlabel(f"us from {moment.begin / 1e9:.6f} ms of the capture")
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    title = result.bounds.system.title or "timeline"
    what = f"the worst miss of {moment.need.need.name}" if moment.need else "the beginning of the capture"
    what = moment.title or what
    axes.set_title(f"{title}: {what} in {drawable(result.capture.file.rsplit('/', 1)[-1])}", loc="left", pad=28)
    legend = [
        Line2D([], [], marker="v", linestyle="", color=_EDGE, label="event"),
        Patch(facecolor=_WAITING, edgecolor=_EDGE, hatch="////", label="waiting for its routine"),
        Patch(facecolor=_RUNNING, edgecolor=_EDGE, label="first to last instruction"),
        Line2D([], [], color=_LIMIT, linewidth=3, label="limit"),
    ]
    if moment.need is not None and any(miss.kind == "lost" for miss in moment.need.misses):
        legend.append(Line2D([], [], linestyle="", marker="x", color=_LIMIT, markersize=9, markeredgewidth=2.5,
                             label="lost"))  # fmt: skip
    axes.legend(handles=legend, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=5, frameon=False, borderaxespad=0.2)
