"""Figures: their size, their colours on a light or dark ground, and a scene drawn as one."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tachys.drawing.scene import LOOKS, Lane, Scene, Span
from tachys.errors import input_error
from tachys.foreign import drawable
from tachys.model.quantities import time_in_words
from tachys.simulation.lanes import State

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INCHES = (12.8, 8.0)
EDGE, LIMIT = "#333333", "#b03a2e"
FORMS = ("png", "svg", "pdf")
_DARK = {"ground": "#1b1d20", "ink": "#d8dadd", "limit": "#f0796a", "grid": "#3a3d41", "level": "#5f8a52"}
_LIGHT = {"ground": "#ffffff", "ink": EDGE, "limit": LIMIT, "grid": "#dddddd", "level": "#b9d3b0"}
_SCALES = ((10**3, "ns"), (10**6, "us"), (10**9, "ms"), (10**12, "s"))
_MANY = 12  # lanes: beyond, a name takes one line


def form_of(output: str) -> str:
    """The form of a picture, from the ending of its file."""
    form = Path(output).suffix.lower().removeprefix(".")
    if form not in FORMS:
        raise input_error(output, "its ending tells no form that can be drawn", "end it in .png, .svg or .pdf")
    return form


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


@contextmanager
def _on_ground(colours: dict[str, str]) -> Iterator[None]:
    from matplotlib import rc_context

    ground, ink = colours["ground"], colours["ink"]
    with rc_context({
        "figure.facecolor": ground, "savefig.facecolor": ground, "axes.facecolor": ground, "text.color": ink,
        "axes.labelcolor": ink, "axes.edgecolor": ink, "xtick.color": ink, "ytick.color": ink, "hatch.linewidth": 0.7,
    }):  # fmt: skip
        yield


def draw_scenes(scenes: Sequence[Scene], form: str, *, dark: bool = False) -> bytes:
    """Scenes above each other as PNG, SVG or PDF.

    Raises:
        ValueError: for any other form.
    """
    colours = _DARK if dark else _LIGHT
    with _on_ground(colours):
        figure, axes = new_figure(len(scenes))
        for each, scene in zip(axes, scenes, strict=True):
            draw_scene_on(each, scene, dark=dark, beside=len(scenes))
        return save(figure, form)


def draw_scene_on(axes: Axes, scene: Scene, *, dark: bool = False, beside: int = 1) -> None:
    """A scene on given axes, of which there are so many above each other."""
    colours = _DARK if dark else _LIGHT
    scale = _Scale(scene)
    rows = {lane.thing: row for row, lane in enumerate(scene.lanes)}
    used: set[State] = set()
    for state, (light, deep, hatch, height, _) in LOOKS.items():
        for row, lane in enumerate(scene.lanes):
            bars = [(scale(bar.begin), scale.length(bar.end - bar.begin)) for bar in lane.bars if bar.state == state]
            if bars:
                used.add(state)
                axes.broken_barh(bars, (row - height / 2, height), facecolors=deep if dark else light,
                                 edgecolors=colours["ink"], linewidth=0.5, hatch=hatch,
                                 zorder=1.9 if state == "aside" else 2)  # fmt: skip
    _draw_levels(axes, scene, scale, colours)
    for row, lane in enumerate(scene.lanes):
        _mark(axes, [scale(at) for at in lane.events], row - 0.4, marker="v", color=colours["ink"], markersize=6,
              markerfacecolor="none" if lane.estimated else colours["ink"], clip_on=False, zorder=4)  # fmt: skip
        _mark(axes, [scale(at) for at in lane.moments], row + 0.4, marker="^", color=colours["ink"], markersize=6,
              markerfacecolor="none", clip_on=False, zorder=4)  # fmt: skip
        _mark(axes, [scale(at) for at in lane.lost], row, marker="x", color=colours["limit"], markersize=9,
              markeredgewidth=2.2, zorder=5)  # fmt: skip
    _draw_holds(axes, scene, rows, scale, colours)
    _draw_limits(axes, scene, rows, scale, colours)
    _label(axes, scene, scale, colours, many=len(scene.lanes) * beside > _MANY)
    _legend(axes, scene, used, colours, dark=dark)


def _mark(axes: Axes, places: list[float], row: float, **how: Any) -> None:
    if places:  # marks that are none would still take room, at the corner of the figure
        axes.plot(places, [row] * len(places), linestyle="", **how)


class _Scale:
    """Places on the axis, in the unit that fits the window; the times of the run where these are short enough."""

    def __init__(self, scene: Scene) -> None:
        length = scene.end - scene.begin
        self.ps, self.unit = next((pair for pair in _SCALES if length < 2000 * pair[0]), _SCALES[-1])
        whole = scene.end < 10_000 * self.ps
        self.zero = 0 if whole else scene.begin
        since = "" if whole else f" from {scene.begin / 1e9:.6f} ms"
        self.words = f"{self.unit}{since} of {scene.of}"

    def __call__(self, instant: int) -> float:
        return (instant - self.zero) / self.ps

    def length(self, ps: int) -> float:
        """A length on the axis."""
        return ps / self.ps


def _draw_levels(axes: Axes, scene: Scene, scale: _Scale, colours: dict[str, str]) -> None:
    """How many are in each buffer, as a share of its depth, which is a thin line; and the most of the window."""
    for row, lane in enumerate(scene.lanes):
        if not lane.levels:
            continue
        at = [scale(time) for time, _ in lane.levels] + [scale(scene.end)]
        share = [row + 0.35 - 0.7 * level / lane.depth for _, level in lane.levels]
        axes.fill_between(
            at, [*share, share[-1]], row + 0.35, step="post", color=colours["level"], linewidth=0, zorder=2
        )
        axes.step(at, [*share, share[-1]], where="post", color=colours["ink"], linewidth=1.2, zorder=3)
        axes.hlines(row - 0.35, at[0], at[-1], color=colours["ink"], linewidth=0.6, linestyle=(0, (4, 3)), zorder=2)
        time, most = max(lane.levels, key=lambda pair: pair[1])
        over = 4 * most <= 3 * lane.depth  # nothing is drawn between the most and the depth
        axes.annotate(f"{most} of {lane.depth}", (scale(time), row + 0.35 - 0.7 * most / lane.depth),
                      xytext=(5, 3 if over else -9),
                      textcoords="offset points", fontsize=9, color=colours["ink"], zorder=6)  # fmt: skip


def _draw_holds(axes: Axes, scene: Scene, rows: dict[Any, int], scale: _Scale, colours: dict[str, str]) -> None:
    """A thick stroke over the body that holds interrupts off, and a band over the lanes that cannot come meanwhile."""
    for hold in scene.holds:
        begin, length = scale(hold.begin), scale.length(hold.end - hold.begin)
        if hold.who in rows:
            axes.broken_barh([(begin, length)], (rows[hold.who] - 0.44, 0.12), facecolors=colours["limit"],
                             edgecolors=colours["ink"], linewidth=0.4, zorder=3, gid="hold")  # fmt: skip
        for lane in hold.lanes:
            if lane in rows:
                axes.broken_barh([(begin, length)], (rows[lane] - 0.5, 1.0), facecolors=colours["limit"], alpha=0.13,
                                 zorder=1, gid="held")  # fmt: skip
                axes.broken_barh([(begin, length)], (rows[lane] - 0.5, 1.0), facecolors="none", zorder=1,
                                 edgecolors=colours["limit"], linewidth=0.7, linestyle=":")  # fmt: skip


def _draw_limits(axes: Axes, scene: Scene, rows: dict[Any, int], scale: _Scale, colours: dict[str, str]) -> None:
    """Each limit as a bar under its lane; what is pointed at as a bracket, and in words."""
    for each in scene.limits:
        if each.lane in rows and each.limit is not None:
            left, row = scale(each.begin), rows[each.lane]
            axes.plot([left, left + scale.length(each.limit)], [row + 0.44] * 2, color=colours["limit"], linewidth=3,
                      solid_capstyle="butt", zorder=4)  # fmt: skip
    span = scene.span
    if span is None or span.lane not in rows:
        return
    left, right, row = scale(span.begin), scale(span.end), rows[span.lane]
    ends = {"arrowstyle": "|-|,widthA=0.3,widthB=0.3", "color": colours["ink"], "shrinkA": 0, "shrinkB": 0}
    axes.annotate("", (left, row + 0.36), (right, row + 0.36), arrowprops=ends)
    if span.limit is not None:
        due = left + scale.length(span.limit)
        axes.axvline(due, color=colours["limit"], linewidth=1, linestyle="--", zorder=1)
        right = max(right, due)
    box = {"boxstyle": "round,pad=0.15", "facecolor": colours["ground"], "edgecolor": "none", "alpha": 0.85}
    beside = right < scale(scene.begin) + 0.72 * scale.length(scene.end - scene.begin)
    place = (right, row + (0.34 if beside else 0.47))
    axes.annotate(_span_words(span), place, (6 if beside else -6, 0), textcoords="offset points",
                  color=colours["limit"] if _is_late(span) else colours["ink"], fontsize=9, va="top", bbox=box,
                  ha="left" if beside else "right", zorder=6)  # fmt: skip


def _is_late(span: Span) -> bool:
    return span.limit is not None and span.end - span.begin > span.limit


def _span_words(span: Span) -> str:
    words = time_in_words(span.end - span.begin)
    if span.limit is None:
        return words
    return f"{words}, limit {time_in_words(span.limit)}" + (": late" if _is_late(span) else "")


def _label(axes: Axes, scene: Scene, scale: _Scale, colours: dict[str, str], *, many: bool) -> None:
    labels = [drawable(_name(lane, " " if many else "\n")) for lane in scene.lanes]
    axes.set_yticks(range(len(labels)), labels, fontsize=8 if many else 9)
    axes.set_ylim(len(labels) - 0.3, -0.8)
    axes.set_xlim(scale(scene.begin), scale(scene.end))
    axes.set_xlabel(scale.words)
    axes.grid(axis="x", color=colours["grid"], linewidth=0.6)
    axes.set_axisbelow(True)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.set_title(drawable(scene.title), loc="left", pad=26)


def _name(lane: Lane, between: str) -> str:
    detail = lane.detail if len(lane.detail) <= 28 else f"{lane.detail[:27]}…"
    return f"{lane.thing.name}{between}({detail})"


def _legend(axes: Axes, scene: Scene, used: set[State], colours: dict[str, str], *, dark: bool) -> None:
    """What is in the picture, and nothing else."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    ink, limit = colours["ink"], colours["limit"]
    handles: list[Any] = []
    for estimated, words in ((False, "event"), (True, "event, estimated")):
        if any(lane.events and lane.estimated is estimated for lane in scene.lanes):
            face = "none" if estimated else ink
            handles.append(
                Line2D([], [], marker="v", linestyle="", color=ink, markerfacecolor=face, label=words)
            )  # fmt: skip
    if any(lane.moments for lane in scene.lanes):
        handles.append(
            Line2D([], [], marker="^", linestyle="", color=ink, markerfacecolor="none", label="event within it")
        )
    for state, (light, deep, hatch, _, words) in LOOKS.items():
        if words and (state in used or (state == "enters" and "leaves" in used)):
            handles.append(Patch(facecolor=deep if dark else light, edgecolor=ink, hatch=hatch, label=words))
    if any(lane.levels for lane in scene.lanes):
        handles.append(Patch(facecolor=colours["level"], edgecolor=ink, label="in the buffer; dashed: full"))
    if scene.holds:
        handles.append(Patch(facecolor=limit, edgecolor=ink, label="holds interrupts off"))
    if scene.limits:
        handles.append(Line2D([], [], color=limit, linewidth=3, label="limit"))
    if any(lane.lost for lane in scene.lanes):
        handles.append(Line2D([], [], marker="x", linestyle="", color=limit, markeredgewidth=2.2, label="lost"))
    if handles:
        axes.legend(handles=handles, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=len(handles), frameon=False,
                    borderaxespad=0.2, fontsize=9, columnspacing=1.2, handletextpad=0.5)  # fmt: skip
