"""Straight lines under and through events: hidden timers, mean periods, and how far off the clocks are.

A timer that no line shows releases at o + k P. Its routine never begins before a release, so of all such grids the one
that lies closest below the starts is taken: the lower convex hull of (k, start), as for the skew of clocks in Moon,
Skelly, Towsley, Estimation and removal of clock skew from network delay measurements (INFOCOM 1999). What is measured
against it is relative to the fastest start.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from tachys.capture.table import Instants

Z95 = 1.96


@dataclass(frozen=True, slots=True)
class Grid:
    """Releases at ``begin`` + k · ``period`` ps; ``number`` is the k of each start, ``delay`` its least delay."""

    begin: float
    period: float
    number: Instants
    delay: Instants


def numbered(instants: Instants, period: float) -> Instants:
    """Which release of a grid of about that period each start belongs to; each a later one than the one before."""
    if not len(instants):
        return np.zeros(0, np.int64)
    phase = np.mod(instants - instants[0], period)
    # the starts lie behind their releases: cut the circle of phases where it is emptiest
    ordered = np.sort(phase)
    gaps = np.append(np.diff(ordered), ordered[0] + period - ordered[-1])
    cut = float(ordered[(int(np.argmax(gaps)) + 1) % len(ordered)])
    number = np.floor((instants - instants[0] - cut + period * 1e-9) / period).astype(np.int64)
    found: Instants = number - number[0]
    return found


def own_period(instants: Instants, about: float | None = None) -> float:
    """The period of events that come regularly, some of them missing or late: the median, made precise over all."""
    apart = np.diff(instants)
    period = float(np.median(apart)) if about is None else about
    for _ in range(3):
        steps = np.maximum(1, np.rint(apart / period))
        period = float(apart.sum() / steps.sum())
    return period


def hidden_grid(starts: Instants, nominal: float) -> Grid | None:
    """The grid that lies closest below the starts of a routine; None of fewer than eight starts, or of none regular.

    ``nominal`` in ps is the modelled period, which is only where the search begins.
    """
    if len(starts) < 8:
        return None
    median = float(np.median(np.diff(starts)))
    period = own_period(starts, nominal if abs(median / nominal - 1) < 0.02 else None)
    number = numbered(starts, period)
    if len(np.unique(number)) < len(number) * 0.9:
        return None
    rest = starts - starts[0] - np.rint(number * period).astype(np.int64)
    hull = _lower_hull(number, rest)
    middle = (int(number[0]) + int(number[-1])) / 2
    place = max(0, int(np.searchsorted(number[hull], middle, side="right")) - 1)
    first, second = int(hull[place]), int(hull[min(place + 1, len(hull) - 1)])
    run = int(number[second] - number[first])
    slope = (int(rest[second]) - int(rest[first])) / run if run else 0.0
    begin = float(starts[0]) + int(rest[first]) - slope * int(number[first])
    # whatever the true grid is, as it lies below all starts it nowhere lies above the hull
    delay = np.maximum(0, np.floor(rest - np.interp(number, number[hull], rest[hull])).astype(np.int64))
    return Grid(begin, period + slope, number, delay)


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _lower_hull(x: Instants, y: Instants) -> Instants:
    """Places of the corners of the lower convex hull of points in order of x."""
    hull = np.empty(len(x), np.int64)
    size = 0
    for place in range(len(x)):
        while size >= 2:
            a, b = hull[size - 2], hull[size - 1]
            turn = float(x[b] - x[a]) * float(y[place] - y[a]) - float(y[b] - y[a]) * float(x[place] - x[a])
            if turn > 0:
                break
            size -= 1
        hull[size] = place
        size += 1
    return hull[:size]


def jitter_of(instants: Instants, number: Instants, least: float, most: float) -> int:
    """The least jitter in ps that explains events numbered along a grid whose period lies in [least, most].

    The width of the band around a line, least over all slopes: it is convex in the slope, so thirds are cut off.
    """
    base = instants - instants[0]

    def width(period: float) -> float:
        rest = base - number * period
        return float(rest.max() - rest.min())

    for _ in range(40):
        third = (most - least) / 3
        if width(least + third) <= width(most - third):
            most -= third
        else:
            least += third
    return int(width((least + most) / 2))


@dataclass(frozen=True, slots=True)
class ClockError:
    """How much faster the analyser counts than the board's clock, in ppm, give or take ``sure``, from ``lines``."""

    ppm: float
    sure: float
    lines: tuple[str, ...]


def clock_error(deviations: Sequence[tuple[str, float, float]]) -> ClockError | None:
    """The common deviation of periodic lines (name, ppm, ± ppm): a weighted median, from those that agree with it.

    None where no line is known to better than 1000 ppm, or no two of several agree.
    """
    known = sorted((ppm, sure, name) for name, ppm, sure in deviations if sure < 1000)
    if not known:
        return None
    weights = np.array([1 / max(sure, 1e-3) for _, sure, _ in known])
    middle = known[int(np.searchsorted(np.cumsum(weights), weights.sum() / 2))]
    agree = [each for each in known if abs(each[0] - middle[0]) <= each[1] + middle[1]]
    share = np.array([1 / max(sure, 1e-3) ** 2 for _, sure, _ in agree])
    ppm = float(sum(each[0] * w for each, w in zip(agree, share, strict=True)) / share.sum())
    return ClockError(ppm, min(sure for _, sure, _ in agree), tuple(name for _, _, name in agree))
