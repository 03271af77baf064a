"""What each line of a capture does: how often it moves, how regularly, how wide, and how sure that is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.statistics import MeanPeriod, Times, distances, edges, figures, fitted, moves, stays
from tachys.capture.table import Capture, Instants, Known, Signal, blocks, distinct, unsigned
from tachys.frames import PS, frame

if TYPE_CHECKING:
    import pandas as pd

ACTIVITY = 24
_NEAR = 0.1  # so far off, as a share, a period is still meant to be the nominal one
_GLITCH = 4  # a glitch is so many times shorter than the line usually stays
NEAR_A_CUT = 4096  # changes among which a place to cut is looked for
_KEPT = 1 << 21  # changes of a line whose edges are kept while it is looked at
_MANY = 1 << 18  # changes from which on two lines are looked at at a time


class Reals(Struct, frozen=True):
    """The known values of a line of reals: least, mean over the time for which each held, and most."""

    least: float
    mean: float
    most: float


class Off(Struct, frozen=True):
    """How far a period is off a nominal one, and how far that itself may be off, in ppm."""

    ppm: float
    sure: float


class Line(Struct, frozen=True):
    """One line of a capture. ``activity``: edges in each of so many equal parts of the capture; ``reals`` of reals."""

    signal: Signal
    first: float | None
    last: float | None
    edges: int
    rising: Times | None
    period: MeanPeriod | None
    high: Times | None
    low: Times | None
    duty: float | None
    activity: tuple[int, ...]
    remarks: tuple[str, ...] = field(default=())
    reals: Reals | None = None

    def off(self, nominal: Fraction) -> Off | None:
        """How far its mean period is off one in seconds; None where it is further than a tenth, or has none."""
        if self.period is None:
            return None
        share, sure = (float(ps) / float(nominal * PS) for ps in (self.period.mean, self.period.sure))
        return Off((share - 1) * 1e6, sure * 1e6) if abs(share - 1) <= _NEAR else None

    @property
    def is_still(self) -> bool:
        """Whether it never moves."""
        return self.edges == 0


class Lines(list[Line]):
    """What each line of a capture does, in the order of the file."""

    def to_frame(self) -> pd.DataFrame:
        """A row a line, times in seconds."""
        columns = ("signal", "edges", "period", "high", "low", "duty", "remarks")
        rows = []
        for line in self:
            times = (line.rising, line.high, line.low)
            medians = [None if each is None else each.median / PS for each in times]
            rows.append([line.signal.name, line.edges, *medians, line.duty, "; ".join(line.remarks)])
        return frame(columns, rows)

    def __repr__(self) -> str:
        return f"<{len(self)} lines: {', '.join(line.signal.name for line in self[:6])}{', …' * (len(self) > 6)}>"


def window(capture: Capture, begin: int | None, end: int | None) -> Capture:
    """The part of a capture between two instants; every line keeps the level it has as the window begins."""
    first = capture.begin if begin is None else max(begin, capture.begin)
    last = capture.end if end is None else min(end, capture.end)
    if first <= capture.begin and last >= capture.end:
        return capture
    signals = {}
    for name, signal in capture.signals.items():
        start = max(0, int(np.searchsorted(signal.at, first, side="right")) - 1)
        stop = int(np.searchsorted(signal.at, last, side="right"))
        at = np.maximum(signal.at[start:stop], first)
        signals[name] = replace(signal, at=at, value=signal.value[start:stop], known=signal.known[start:stop])
    return replace(capture, signals=signals, begin=first, end=last, gaps=())


def whole_parts(capture: Capture) -> list[Capture]:
    """The parts of a capture between its gaps, the longest first; itself where there are none."""
    if not capture.gaps:
        return [capture]
    borders = [capture.begin, *(instant for gap in capture.gaps for instant in gap), capture.end]
    parts = [window(capture, a, b) for a, b in zip(borders[::2], borders[1::2], strict=True) if b > a]
    return sorted(parts, key=lambda part: -part.length)


def changes_of(capture: Capture) -> int:
    """How many changes all its lines have."""
    return sum(len(signal.at) for signal in capture.signals.values())


def pieces(capture: Capture, most: int) -> list[Capture]:
    """The capture cut into as few pieces of about ``most`` changes as that takes; itself where it has no more.

    Each cut lies in the longest time near its place in which no line changes.
    """
    changes = changes_of(capture)
    count = -(-changes // most)
    cuts, near = [capture.begin], min(NEAR_A_CUT, most // 8)
    for place in (number * changes // count for number in range(1, count)):
        cuts.append(_quietest(capture, _by(capture, place), _by(capture, place + near)))
    cuts.append(capture.end)
    return [window(capture, a, b) for a, b in pairwise(cuts) if b > a] if count > 1 else [capture]


def _by(capture: Capture, changes: int) -> int:
    """The first instant in ps by which there are so many changes."""
    low, high = capture.begin, capture.end
    while low < high:
        middle = (low + high) // 2
        found = sum(int(np.searchsorted(each.at, middle, side="right")) for each in capture.signals.values())
        low, high = (low, middle) if found >= changes else (middle + 1, high)
    return low


def _quietest(capture: Capture, begin: int, end: int) -> int:
    """The middle of the longest time without a change between two instants."""
    inside = [each.at[np.searchsorted(each.at, begin) : np.searchsorted(each.at, end)]
              for each in capture.signals.values()]  # fmt: skip
    near = np.sort(np.concatenate([np.array([begin, end], np.int64), *inside]))
    widest = int(np.argmax(np.diff(near)))
    return int(near[widest] + near[widest + 1]) // 2


def inspect(capture: Capture, narrow: int = 2) -> list[Line]:
    """Every line of a capture. A pulse of at most ``narrow`` grid steps is called a glitch."""
    twins, named = _twins(capture), capture.signals.items()
    if changes_of(capture) < _MANY:
        return [_line(capture, signal, narrow, twins.get(name)) for name, signal in named]
    with ThreadPoolExecutor(2) as pool:  # NumPy lets others work meanwhile
        return list(pool.map(lambda each: _line(capture, each[1], narrow, twins.get(each[0])), named))


def _line(capture: Capture, signal: Signal, narrow: int, twin: str | None) -> Line:
    plain = signal.width == 1 and not signal.real
    if len(signal.at) < 2:
        level = _known(signal, range(len(signal.at)))
        return Line(signal, level, level, 0, None, None, None, None, None, (0,) * ACTIVITY, ("never moves",),
                    _reals(capture, signal))  # fmt: skip
    look = _Look(signal)
    rises, falls = sum(map(len, look.moves("rise"))), sum(map(len, look.moves("fall")))
    regular = "rise" if rises >= falls else "fall"
    high = figures(lambda: look.stays(1)) if plain else None
    low = figures(lambda: look.stays(0)) if plain else None
    return Line(
        signal,
        _known(signal, range(len(signal.at))),
        _known(signal, range(len(signal.at) - 1, -1, -1)),
        rises + falls if plain else max(0, len(signal.at) - 1),
        figures(lambda: distances(look.moves(regular))),
        fitted(lambda: look.moves(regular), capture.known_to),
        high,
        low,
        _duty(look) if high and low else None,
        _activity(capture, look, plain=plain),
        tuple(_remarks(capture, look, narrow, twin, (low, high))),
        _reals(capture, signal),
    )


class _Look:
    """The edges and stays of a line, worked out once where they fit the memory; else again for each figure."""

    def __init__(self, signal: Signal) -> None:
        self.signal = signal
        self._keeps = len(signal.at) <= _KEPT
        self._kept: dict[str | int, list[Instants]] = {}

    def moves(self, kind: str) -> Iterator[Instants]:
        """As :func:`moves`."""
        return self._of(kind, lambda: moves(self.signal, kind))

    def stays(self, level: int) -> Iterator[Instants]:
        """As :func:`stays`."""
        return self._of(level, lambda: stays(self.signal, level))

    def _of(self, key: str | int, find: Callable[[], Iterator[Instants]]) -> Iterator[Instants]:
        if not self._keeps:
            return find()
        if key not in self._kept:
            self._kept[key] = list(find())
        return iter(self._kept[key])


def _known(signal: Signal, order: range) -> float | None:
    """The first known value in an order of places."""
    return next((signal.number(place) for place in order if signal.known[place]), None)


def _duty(look: _Look) -> float:
    high = sum(int(part.sum()) for part in look.stays(1))
    return high / (high + sum(int(part.sum()) for part in look.stays(0)))


def _activity(capture: Capture, look: _Look, *, plain: bool) -> tuple[int, ...]:
    counts = np.zeros(ACTIVITY, np.int64)
    width, at = max(1, -(-capture.length // ACTIVITY)), look.signal.at
    borders = capture.begin + width * np.arange(1, ACTIVITY)
    whole = (at[a + 1 : b + 1] for a, b in blocks(len(at) - 1))
    for part in (each for kind in ("rise", "fall") for each in look.moves(kind)) if plain else whole:
        counts += np.diff(np.searchsorted(part, borders), prepend=0, append=len(part))  # they are in order of time
    return tuple(counts.tolist())


def period_of(instants: Instants, resolution: int) -> MeanPeriod | None:
    """The mean period of events that come regularly; None of fewer than three."""
    return fitted(lambda: iter([instants]), resolution)


def _remarks(
    capture: Capture, look: _Look, narrow: int, twin: str | None, usual: tuple[Times | None, Times | None]
) -> Iterator[str]:
    """What is odd about a line. ``usual``: how long it is low and high; a glitch is far shorter than that."""
    signal = look.signal
    plain, thin, both = signal.width == 1 and not signal.real, 0, 0
    for level, own in enumerate(usual):
        if own is not None:
            both += own.count
            longest = min(narrow * capture.resolution, own.median // _GLITCH)
            if own.least <= longest:
                thin += sum(int(np.count_nonzero(part <= longest)) for part in look.stays(level))
    adjacent = 0
    if both < len(signal.at) - 2 or any(own is not None and own.least <= capture.resolution for own in usual):
        changes = (signal.at[max(1, first) : last + 1] for first, last in blocks(len(signal.at)))
        adjacent = sum(int(np.count_nonzero(np.diff(part) <= capture.resolution)) for part in changes)
    if plain and adjacent and adjacent * 5 > both:
        yield "edges on neighbouring samples: sampled too slowly for what it shows"
    elif thin:
        yield f"{thin} {'glitch' if thin == 1 else 'glitches'} of at most {narrow} samples"
    if plain and signal.value[0] == 1:
        yield "begins high: its first pulse is not whole"
    if plain and signal.value[-1] == 1:
        yield "ends high: its last pulse is not whole"
    if any(not signal.known[max(1, first) : last].all() for first, last in blocks(len(signal.value))):  # as it goes on
        yield "unknown (x, z) in places"
    if twin is not None:
        yield f"the same as {twin}"


def _reals(capture: Capture, signal: Signal) -> Reals | None:
    """The values of a line of reals; None of another line, or where none is known."""
    if not signal.real:
        return None
    least, most, total, held = float("inf"), float("-inf"), 0.0, 0.0
    for first, last in blocks(len(signal.at)):
        known = signal.known[first:last] & np.isfinite(signal.reals[first:last])
        until = np.append(signal.at[first + 1 : last + 1], [capture.end] * (last == len(signal.at)))
        lasting = (until - np.maximum(signal.at[first:last], capture.begin))[known] / max(1, capture.length)
        values = signal.reals[first:last][known]
        if len(values):
            least, most = min(least, float(values.min())), max(most, float(values.max()))
            total, held = total + float((values * lasting).sum()), held + float(lasting.sum())
    return Reals(least, total / held if held else least, most) if least <= most else None


def _twins(capture: Capture) -> dict[str, str]:
    """Lines that move exactly as an earlier one does: (name, the earlier one)."""
    first: dict[tuple[int, bytes], str] = {}
    found = {}
    for name, signal in capture.signals.items():
        if len(signal.at) < 3:
            continue
        key = (len(signal.at), signal.at[:512].tobytes())
        if key in first:
            other = capture.signals[first[key]]
            if all(
                all(np.array_equal(x[a:b], y[a:b]) for x, y in zip(_columns(other), _columns(signal), strict=True))
                for a, b in blocks(len(signal.at))
            ):
                found[name] = first[key]
        first.setdefault(key, name)
    return found


def _columns(signal: Signal) -> tuple[np.ndarray, ...]:
    return signal.at, signal.value, signal.known


class Spans(Struct, frozen=True):
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


def levels_at(capture: Capture, instant: int) -> dict[str, float | None]:
    """The level of every line at an instant; None where it is not known."""
    found: dict[str, float | None] = {}
    for name, signal in capture.signals.items():
        place = int(np.searchsorted(signal.at, instant, side="right")) - 1
        found[name] = signal.number(place) if place >= 0 else None
    return found


class Held(Struct, frozen=True):
    """One value of a bus: how often it was taken, how long in all, and for how long at a time (least, most), in ps.

    ``value`` is None where it was not known.
    """

    value: int | None
    count: int
    total: int
    least: int
    most: int


MOST_VALUES = 256


def held_values(capture: Capture, signal: Signal) -> list[Held]:
    """How long a bus held each of its values, the longest first; of many values the first :data:`MOST_VALUES`.

    What it held as the capture began and ended counts up to there. A line of reals holds none.
    """
    if signal.real:
        return []
    kept: dict[int | None, Held] = {}
    for first, last in blocks(len(signal.at)):
        until = signal.at[first + 1 : last + 1]
        if last == len(signal.at):
            until = np.append(until, capture.end)
        lasting = until - np.maximum(signal.at[first:last], capture.begin)
        known = signal.known[first:last]
        values, which = np.unique(signal.value[first:last], return_inverse=True)
        groups: list[tuple[int | None, Known]] = [(None, ~known)] if not known.all() else []
        groups += [(unsigned(value), (which == place) & known) for place, value in enumerate(values.tolist())]
        for place, (value, own_places) in enumerate(groups):
            own = lasting[own_places]
            if not len(own):  # the filler of what is not known
                continue
            old = kept.get(value, Held(value, 0, 0, int(own[0]), 0))
            if value in kept or len(kept) < MOST_VALUES:
                kept[value] = Held(value, old.count + len(own), old.total + int(own.sum()),
                                   min(old.least, int(own.min())), max(old.most, int(own.max())))  # fmt: skip
            if place > MOST_VALUES:
                break
    return sorted(kept.values(), key=lambda held: -held.total)


def add_bus(capture: Capture, name: str, lines: list[str]) -> Capture:
    """A capture with a bus put together from lines, the first the lowest bit.

    Raises:
        KeyError: there is no such line.
    """
    members = [capture.signals[line] for line in lines]
    at = distinct(np.concatenate([signal.at for signal in members]))
    value, known = np.zeros(len(at), np.uint64), np.ones(len(at), np.bool_)
    for bit, signal in enumerate(members):
        place = np.searchsorted(signal.at, at, side="right") - 1
        known &= (place >= 0) & signal.known[np.maximum(place, 0)]
        value |= np.where(signal.value[np.maximum(place, 0)] != 0, np.uint64(1 << bit), np.uint64(0))
    bus = Signal(name, len(lines), at, np.where(known, value.view(np.int64), -1), known).without_repeats()
    return replace(capture, signals={**capture.signals, name: bus})


def masked(capture: Capture, name: str, source: str, mask: int, shift: int = 0) -> Capture:
    """A capture with the bits of a vector that ``mask`` lets through as a signal, ``shift`` bits to the right.

    Raises:
        KeyError: there is no such signal.
    """
    signal = capture.signals[source]
    part = (signal.bits & np.uint64(mask)) >> np.uint64(shift)
    value = np.where(signal.known, part.view(np.int64), -1)
    made = Signal(name, max(1, mask.bit_length() - shift), signal.at, value, signal.known).without_repeats()
    return replace(capture, signals={**capture.signals, name: made})
