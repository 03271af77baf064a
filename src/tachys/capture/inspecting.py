"""What each line of a capture does: how often it moves, how regularly, how wide, and how sure that is."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from tachys.capture.edges import edges, pulses
from tachys.capture.table import UNKNOWN, Capture, Instants, Signal

ACTIVITY = 24
Z95 = 1.96


@dataclass(frozen=True, slots=True)
class Times:
    """Some times in ps: how many, least, median, most; each known to less than the capture's resolution."""

    count: int
    least: int
    median: int
    most: int

    @classmethod
    def of(cls, values: Instants) -> Times | None:
        """The figures of some values; None of none."""
        if not len(values):
            return None
        ordered = np.sort(values)
        return cls(len(ordered), int(ordered[0]), int(ordered[(len(ordered) - 1) // 2]), int(ordered[-1]))


@dataclass(frozen=True, slots=True)
class Period:
    """The mean period of a line in ps over the whole capture, and ``sure``: how far off it may be, either way.

    The slope of a straight line through all edges (least squares). ``sure`` is the larger of 1.96 standard errors and
    of what the grid alone allows, one resolution at both ends over the whole length; without the analyser's own clock.
    """

    mean: float
    sure: float


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a capture. ``activity``: edges in each of so many equal parts of the capture."""

    signal: Signal
    first: int | None
    last: int | None
    edges: int
    rising: Times | None
    period: Period | None
    high: Times | None
    low: Times | None
    duty: float | None
    activity: tuple[int, ...]
    remarks: tuple[str, ...] = field(default=())


def window(capture: Capture, begin: int | None, end: int | None) -> Capture:
    """The part of a capture between two instants; every line keeps the level it has as the window begins."""
    first = capture.begin if begin is None else max(begin, capture.begin)
    last = capture.end if end is None else min(end, capture.end)
    signals = {}
    for name, signal in capture.signals.items():
        start = max(0, int(np.searchsorted(signal.at, first, side="right")) - 1)
        stop = int(np.searchsorted(signal.at, last, side="right"))
        at = np.maximum(signal.at[start:stop], first)
        signals[name] = Signal(name, signal.width, at, signal.value[start:stop])
    return Capture(capture.file, signals, first, last, capture.resolution, capture.remarks)


def inspect(capture: Capture, narrow: int = 2) -> list[Line]:
    """Every line of a capture. A pulse of at most ``narrow`` grid steps is called a glitch."""
    twins = _twins(capture)
    return [_line(capture, signal, narrow, twins.get(name)) for name, signal in capture.signals.items()]


def _line(capture: Capture, signal: Signal, narrow: int, twin: str | None) -> Line:
    rises, falls = edges(signal, "rise"), edges(signal, "fall")
    both = np.sort(np.concatenate([rises, falls])) if signal.width == 1 else signal.at[1:]
    highs = pulses(signal)
    lows = pulses(Signal(signal.name, 1, signal.at, np.where(signal.value == UNKNOWN, UNKNOWN, signal.value == 0)))
    high, low = highs.end - highs.begin[: len(highs.end)], lows.end - lows.begin[: len(lows.end)]
    regular = rises if len(rises) >= len(falls) else falls
    known = signal.value[signal.value != UNKNOWN]
    parts = np.clip((both - capture.begin) * ACTIVITY // max(1, capture.length), 0, ACTIVITY - 1)
    counts = np.bincount(parts.astype(np.int64), minlength=ACTIVITY)
    duty = float(high.sum() / (high.sum() + low.sum())) if len(high) and len(low) else None
    return Line(
        signal,
        int(known[0]) if len(known) else None,
        int(known[-1]) if len(known) else None,
        len(both),
        Times.of(np.diff(regular)),
        period_of(regular, capture.resolution),
        Times.of(high) if signal.width == 1 else None,
        Times.of(low) if signal.width == 1 else None,
        duty if signal.width == 1 else None,
        tuple(counts.tolist()),
        tuple(_remarks(capture, signal, high, low, narrow, twin)),
    )


def period_of(instants: Instants, resolution: int) -> Period | None:
    """The mean period of events that come regularly; None of fewer than three."""
    count = len(instants)
    if count < 3:
        return None
    number = np.arange(count) - (count - 1) / 2
    times = (instants - instants[0]).astype(np.float64)
    spread = float((number * number).sum())
    slope = float((number * times).sum()) / spread
    rest = times - times.mean() - slope * number
    error = float(np.sqrt((rest * rest).sum() / (count - 2) / spread)) if count > 2 else 0.0
    grid = resolution / (count - 1)
    return Period(slope, max(Z95 * error, grid))


def _remarks(
    capture: Capture, signal: Signal, high: Instants, low: Instants, narrow: int, twin: str | None
) -> list[str]:
    found = []
    if len(signal.at) < 2:
        return ["never moves"]
    thin = int((high <= narrow * capture.resolution).sum() + (low <= narrow * capture.resolution).sum())
    both = len(high) + len(low)
    adjacent = int((np.diff(signal.at[1:]) <= capture.resolution).sum())
    if adjacent and adjacent * 5 > both:
        found.append("edges on neighbouring samples: sampled too slowly for what it shows")
    elif thin:
        found.append(f"{thin} {'glitch' if thin == 1 else 'glitches'} of at most {narrow} samples")
    if signal.width == 1 and signal.value[0] == 1:
        found.append("begins high: its first pulse is not whole")
    if signal.width == 1 and signal.value[-1] == 1:
        found.append("ends high: its last pulse is not whole")
    if (signal.value == UNKNOWN).any():
        found.append("unknown (x, z) in places")
    if twin is not None:
        found.append(f"the same as {twin}")
    return found


def _twins(capture: Capture) -> dict[str, str]:
    """Lines that move exactly as an earlier one does: (name, the earlier one)."""
    first: dict[tuple[int, bytes], str] = {}
    found = {}
    for name, signal in capture.signals.items():
        if len(signal.at) < 3:
            continue
        key = (len(signal.at), signal.at.tobytes()[:4096])
        if key in first:
            other = capture.signals[first[key]]
            if np.array_equal(other.at, signal.at) and np.array_equal(other.value, signal.value):
                found[name] = first[key]
        first.setdefault(key, name)
    return found


@dataclass(frozen=True, slots=True)
class Spans:
    """From each edge A to the next edge B: times in ps and where they begin; edges of A without a B are not in them."""

    begins: Instants
    after: Instants
    unanswered: int


def spans(capture: Capture, first: tuple[str, str], second: tuple[str, str]) -> Spans:
    """Measure between edges: ``(signal, "rise" | "fall" | "both")`` to the next of another, or of the same, line.

    Raises:
        KeyError: there is no such signal.
    """
    begins, ends = edges(capture.signals[first[0]], first[1]), edges(capture.signals[second[0]], second[1])
    place = np.searchsorted(ends, begins, side="right" if first == second else "left")
    known = place < len(ends)
    return Spans(begins[known], ends[place[known]] - begins[known], int((~known).sum()))


def levels_at(capture: Capture, instant: int) -> dict[str, int | None]:
    """The level of every line at an instant; None where it is not known."""
    found: dict[str, int | None] = {}
    for name, signal in capture.signals.items():
        place = int(np.searchsorted(signal.at, instant, side="right")) - 1
        value = int(signal.value[place]) if place >= 0 else UNKNOWN
        found[name] = None if value == UNKNOWN else value
    return found


def add_bus(capture: Capture, name: str, lines: list[str]) -> Capture:
    """A capture with a bus put together from lines, the first the lowest bit.

    Raises:
        KeyError: there is no such line.
    """
    members = [capture.signals[line] for line in lines]
    at = np.unique(np.concatenate([signal.at for signal in members]))
    value = np.zeros(len(at), np.int64)
    unknown = np.zeros(len(at), np.bool_)
    for bit, signal in enumerate(members):
        place = np.searchsorted(signal.at, at, side="right") - 1
        level = np.where(place >= 0, signal.value[np.maximum(place, 0)], UNKNOWN)
        unknown |= level == UNKNOWN
        value |= np.where(level > 0, 1 << bit, 0)
    value[unknown] = UNKNOWN
    keep = np.append(True, value[1:] != value[:-1])
    bus = Signal(name, len(lines), at[keep], value[keep])
    return Capture(capture.file, {**capture.signals, name: bus}, capture.begin, capture.end, capture.resolution,
                   capture.remarks)  # fmt: skip


def masked(capture: Capture, name: str, source: str, low: int, high: int) -> Capture:
    """A capture with the bits ``low`` to ``high`` of a vector as a signal of its own.

    Raises:
        KeyError: there is no such signal.
    """
    signal = capture.signals[source]
    part = (signal.value >> low) & ((1 << (high - low + 1)) - 1)
    value = np.where(signal.value == UNKNOWN, UNKNOWN, part)
    keep = np.append(True, value[1:] != value[:-1]) if len(value) else np.zeros(0, np.bool_)
    made = Signal(name, high - low + 1, signal.at[keep], value[keep])
    return Capture(capture.file, {**capture.signals, name: made}, capture.begin, capture.end, capture.resolution,
                   capture.remarks)  # fmt: skip
