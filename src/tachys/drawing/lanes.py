"""A played model as a figure: a lane a thing, states told apart by shade and hatching, events as marks."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any

from tachys.drawing.moment import Played
from tachys.foreign import drawable
from tachys.model.events import Event, Thing
from tachys.model.system import System
from tachys.simulation.lanes import State

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INCHES = (12.8, 8.0)
EDGE, LIMIT = "#333333", "#b03a2e"
FORMS = ("png", "svg", "pdf")
# state: (fill, hatching, height of the bar, words for the legend)
LOOKS: dict[State, tuple[str, str, float, str]] = {
    "waits": ("#d9d9d9", "////", 0.3, "waits"),
    "enters": ("#9fbcd6", "....", 0.6, "entry, exit"),
    "leaves": ("#9fbcd6", "....", 0.6, ""),
    "runs": ("#2b5c8a", "", 0.6, "runs"),
    "aside": ("#ffffff", "\\\\\\\\", 0.6, "pushed aside"),
    "spins": ("#ead9b5", "xxxx", 0.45, "spins"),
    "sleeps": ("#f2f2f2", "", 0.2, "asleep"),
    "wakes": ("#c9c9c9", "||||", 0.45, "wakes"),
    "works": ("#b9d3b0", "----", 0.45, "unit works"),
    "set": ("#777777", "", 0.15, "flag is set"),
}


def save(figure: Figure, form: str) -> bytes:
    """A figure as PNG, SVG or PDF, the same bytes every time.

    Raises:
        ValueError: for any other form.
    """
    if form not in FORMS:
        raise ValueError(f"cannot draw a {form}")
    from matplotlib import rc_context

    stream = io.BytesIO()
    metadata: dict[str, Any] = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}[form]
    with rc_context({"svg.hashsalt": "tachys"}):
        figure.savefig(stream, format=form, dpi=100, metadata=metadata)
    if form == "svg":  # names stand in it as they are
        return drawable(stream.getvalue().decode()).encode()
    return stream.getvalue()


def new_figure(rows: int = 1) -> tuple[Figure, list[Axes]]:
    """An empty figure of the usual size and its axes, one below the other."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=INCHES, layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.subplots(rows, 1, squeeze=False)[:, 0]
    return figure, list(axes)


def draw_played(played: Played, form: str) -> bytes:
    """The timeline of a played model as a figure."""
    figure, (axes,) = new_figure()
    draw_lanes_on(axes, played)
    return save(figure, form)


def shown_lanes(system: System, played: Played) -> list[Thing]:
    """The things with anything to show in the window: routines by urgency, then steps, units and flags."""
    order = [isr.thing for isr in system.isrs] + [step.thing for step in system.steps]
    order += [unit.thing for unit in system.units] + [Thing(f"flag.{flag}") for flag in played.bounds.flags]
    active = {stretch.who for stretch in played.lanes.stretches} | set(played.lanes.lost)
    return [who for who in order if who in active or who.kind == "isr"]


def draw_lanes_on(axes: Axes, played: Played, *, legend: bool = True) -> None:
    """The lanes of a played model on given axes."""
    system, lanes = played.bounds.system, played.lanes
    order = shown_lanes(system, played)
    rows: dict[str, int] = {who: row for row, who in enumerate(order)}
    used: set[State] = set()
    for state, (fill, hatch, height, _) in LOOKS.items():
        for who, row in rows.items():
            bars = [(_us(s.begin, lanes.begin), (s.end - s.begin) / 1e6) for s in lanes.stretches
                    if s.who == who and s.state == state]  # fmt: skip
            if bars:
                used.add(state)
                axes.broken_barh(bars, (row - height / 2, height), facecolors=fill, edgecolors=EDGE, linewidth=0.5,
                                 hatch=hatch)  # fmt: skip
    for isr in system.isrs:
        marks = sorted(time for event in isr.on for time in _instants(played, event))
        row = rows[isr.thing]
        axes.plot([_us(t, lanes.begin) for t in marks], [row - 0.4] * len(marks), "v", color=EDGE, markersize=6)
    for lost, times in lanes.lost.items():
        if lost in rows:
            axes.plot([_us(t, lanes.begin) for t in times], [rows[lost]] * len(times), "x", color=LIMIT, markersize=9)
    _point_at(axes, played, rows)
    _label(axes, played, order)
    if legend:
        _legend(axes, used, played)


def _instants(played: Played, event: Event) -> list[int]:
    from tachys.simulation.timeline import event_instants

    inside = event_instants(played.lanes, event)
    return [time for time in inside if played.lanes.begin <= time <= played.lanes.end]


def _us(time: int, begin: int) -> float:
    return (time - begin) / 1e6


def _point_at(axes: Axes, played: Played, rows: dict[str, int]) -> None:
    """The span that matters as a bracket under its lane, its limit as a bar."""
    if played.span is None or played.lane not in rows:
        return
    begin, row = played.lanes.begin, rows[played.lane]
    left, right = (_us(time, begin) for time in played.span)
    words = f"{right - left:.2f} us"
    if played.limit is not None:
        limit = played.limit / 1e6
        axes.plot([left, left + limit], [row + 0.47] * 2, color=LIMIT, linewidth=3, solid_capstyle="butt")
        words += f" of {limit:g} us" + (" LATE" if right - left > limit else "")
    ends = {"arrowstyle": "|-|,widthA=0.3,widthB=0.3", "color": EDGE, "shrinkA": 0, "shrinkB": 0}
    axes.annotate("", (left, row + 0.38), (right, row + 0.38), arrowprops=ends)
    box = {"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none", "alpha": 0.85}
    place = max(right, left + (played.limit or 0) / 1e6)
    axes.annotate(words, (place, row + 0.34), (6, 0), textcoords="offset points", fontsize=9, va="top", bbox=box)


def _label(axes: Axes, played: Played, order: list[Thing]) -> None:
    core, lanes = played.bounds.system.core, played.lanes
    labels = []
    for who in order:
        isr = who.kind == "isr"
        level = f" (level {core.level_text(played.bounds.system.isr(who.name).urgency)})" if isr else f" ({who.kind})"
        labels.append(who.name + level)
    axes.set_yticks(range(len(order)), labels)
    axes.set_ylim(len(order) - 0.3, -0.8)
    axes.set_xlim(0, _us(lanes.end, lanes.begin))
    axes.set_xlabel(f"us from {lanes.begin / 1e9:.6f} ms of the run")
    axes.grid(axis="x", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.set_title(f"{drawable(played.bounds.system.title or 'model')}, simulated: {played.title}", loc="left", pad=28)


def _legend(axes: Axes, used: set[State], played: Played) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = [Line2D([], [], marker="v", linestyle="", color=EDGE, label="event")]
    for state, (fill, hatch, _, words) in LOOKS.items():
        if words and (state in used or (state == "enters" and "leaves" in used)):
            handles.append(Patch(facecolor=fill, edgecolor=EDGE, hatch=hatch, label=words))
    if played.limit is not None:
        handles.append(Line2D([], [], color=LIMIT, linewidth=3, label="limit"))
    if played.lanes.lost:
        handles.append(Line2D([], [], marker="x", linestyle="", color=LIMIT, label="lost"))
    axes.legend(handles=handles, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=len(handles), frameon=False,
                borderaxespad=0.2, fontsize=9, columnspacing=1.2, handletextpad=0.5)  # fmt: skip
