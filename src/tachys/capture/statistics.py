"""A signal gone through block by block: its edges, its widths, and their figures, in memory that a block bounds.

Every figure here is exact, the median too: where a column is long, it is found by counting, not by sorting.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from msgspec import Struct

from tachys.capture.table import BLOCK, Instants, Signal, blocks

Parts = Callable[[], Iterator[Instants]]
Z95 = 1.96
_BINS = 1 << 16
_BEYOND = 2**63 - 1


class Times(Struct, frozen=True):
    """Some times in ps: how many, least, median, most; each known to less than the capture's resolution."""

    count: int
    least: int
    median: int
    most: int


class MeanPeriod(Struct, frozen=True):
    """The mean period of a line in ps over the whole capture, and ``sure``: how far off it may be, either way.

    The slope of a straight line through all edges (least squares). ``sure`` is the larger of 1.96 standard errors and
    of what the grid alone allows, one resolution at both ends over the whole length; without the analyser's own clock.
    """

    mean: float
    sure: float


def moves(signal: Signal, kind: str) -> Iterator[Instants]:
    """The instants of "rise", "fall" or "both" (also "toggle") edges in blocks; from or to x and z is no edge.

    A real signal rises where its value grows.
    """
    for first, last in blocks(len(signal.at) - 1):
        if _alternates(signal, first, last + 1):
            start = first + 1
            if kind in ("rise", "fall"):
                start += (signal.value[start] != 0) != (kind == "rise")
            yield signal.at[start : last + 1 : 1 if kind not in ("rise", "fall") else 2]
            continue
        before, after = signal.value[first:last], signal.value[first + 1 : last + 1]
        known = signal.known[first:last] & signal.known[first + 1 : last + 1]
        if signal.real and kind in ("rise", "fall"):
            grows = after.view(np.float64) > before.view(np.float64)
            known &= grows if kind == "rise" else ~grows
        elif kind == "rise":
            known &= (before == 0) & (after != 0)
        elif kind == "fall":
            known &= (before != 0) & (after == 0)
        yield signal.at[first + 1 : last + 1][known]


def _alternates(signal: Signal, first: int, last: int) -> bool:
    """Whether a part of a line is known all along, and changes between 0 and 1 each time."""
    value = signal.value[first:last]
    plain = signal.width == 1 and not signal.real and len(value) > 1
    return plain and bool(signal.known[first:last].all()) and bool((value[1:] != value[:-1]).all())


def edges(signal: Signal, kind: str) -> Instants:
    """The instants in ps of "rise", "fall" or "both" (also "toggle") edges; from or to x and z is no edge."""
    return np.concatenate([np.zeros(0, np.int64), *moves(signal, kind)])


def distances(parts: Iterator[Instants]) -> Iterator[Instants]:
    """From each instant to the next."""
    last = np.zeros(0, np.int64)
    for part in parts:
        joined = np.concatenate([last, part]) if len(last) else part
        if len(joined):
            last = joined[-1:]
            yield np.diff(joined)


def stays(signal: Signal, level: int) -> Iterator[Instants]:
    """How long a line stayed at a level of 0 or 1, each stay of which both edges were seen."""
    for first, last in blocks(len(signal.at) - 2):
        if _alternates(signal, first, last + 2):
            start = first + 1 + (signal.value[first + 1] != level)
            yield signal.at[start + 1 : last + 2 : 2] - signal.at[start : last + 1 : 2]
            continue
        value = signal.value[first : last + 2]
        whole = (value[:-2] == 1 - level) & (value[1:-1] == level) & (value[2:] == 1 - level)
        yield np.diff(signal.at[first + 1 : last + 2])[whole]


def figures(parts: Parts) -> Times | None:
    """The figures of some values; None of none."""
    count, least, most = 0, _BEYOND, -_BEYOND
    for part in parts():
        if len(part):
            count += len(part)
            least, most = min(least, int(part.min())), max(most, int(part.max()))
    if not count:
        return None
    return Times(count, least, _ranked(parts, (count - 1) // 2, count, least, most), most)


def _ranked(parts: Parts, rank: int, count: int, least: int, most: int) -> int:
    """The value of that rank, counted from 0: the range that holds it is narrowed by counting, pass by pass."""
    if count <= BLOCK:
        every = list(parts())
        return int(np.partition(every[0] if len(every) == 1 else np.concatenate(every), rank)[rank])
    while least < most:
        width = -(-(most - least + 1) // _BINS)
        counts = np.zeros(_BINS + 1, np.int64)
        for part in parts():
            inside = part[(part >= least) & (part <= most)]
            counts += np.bincount((inside - least) // width, minlength=_BINS + 1)
        up_to = np.cumsum(counts)
        place = int(np.searchsorted(up_to, rank, side="right"))
        rank -= int(up_to[place - 1]) if place else 0
        least, most = least + place * width, min(most, least + (place + 1) * width - 1)
    return least


def fitted(parts: Parts, resolution: int) -> MeanPeriod | None:
    """The mean period of events that come regularly; None of fewer than three."""
    count, first, last = 0, 0, 0
    for part in parts():
        if len(part):
            first = first if count else int(part[0])
            count, last = count + len(part), int(part[-1])
    if count < 3:
        return None
    rough, middle = (last - first) // (count - 1), (count - 1) / 2
    number = 0
    total = leaning = squares = 0.0  # of what is left after the rough period, which is exact in integers
    for part in parts():
        order = np.arange(number, number + len(part))
        rest = (part - first - order * rough).astype(np.float64)
        total += float(rest.sum())
        leaning += float(((order - middle) * rest).sum())
        squares += float((rest * rest).sum())
        number += len(part)
    spread = count * (count**2 - 1) / 12
    left = max(0.0, squares - total**2 / count - leaning**2 / spread)
    error = float(np.sqrt(left / (count - 2) / spread))
    return MeanPeriod(rough + leaning / spread, max(Z95 * error, resolution / (count - 1)))
