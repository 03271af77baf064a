"""Straight lines under and through events: hidden timers, mean periods, and how far off the clocks are.

A timer that no line shows releases at o + k P. Its routine never begins before a release, so of all such grids the one
that lies closest below the starts is taken: the lower convex hull of (k, start), as for the skew of clocks in Moon,
Skelly, Towsley, Estimation and removal of clock skew from network delay measurements (INFOCOM 1999). What is measured
against it is relative to the fastest start.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from tachys.capture.table import Instants, distinct
from tachys.compiled import kernel

Z95 = 1.96
_FEWEST = 8  # instants of which a grid is made
_MOST_THIRDS = 200  # that are cut off
_FIRST = 64  # instants to which a period is fitted first
_ALL_ROUND = 0.8  # of a period: where phases take up more, they tell nothing
_MANY = 1 << 14  # events: of more only those on their hull are looked at again and again
_HALF = 0.5  # of a period: delays that take up more may belong to other releases
_ALONE = 0.03  # of a period
_FEW = 0.1  # of the starts: so many may be late by more than half a period
_PLAIN = 0.25  # of a period that is not the expected one: nine in ten of them take up no more


class Grid(Struct, frozen=True):
    """Releases every ``period`` ps; ``number`` is the place of each start among them, ``delay`` its least delay.

    ``told``: starts lie close enough behind releases for that delay to be sure.
    """

    period: float
    number: Instants
    delay: Instants
    told: bool = True

    @property
    def skipped(self) -> Instants:
        """How many releases lie between that of each start and that of the start before it."""
        return np.maximum(0, np.diff(self.number, prepend=self.number[:1] - 1) - 1)


class Lattice(Struct, frozen=True):
    """Instants along a grid of ``period`` ps; ``number`` is the place of each on it, from 0."""

    period: float
    number: Instants


def numbered(instants: Instants, period: float, few: float = 0) -> tuple[Instants, float]:
    """(which place of a grid of that period each instant belongs to, the share of a period that their phases take up).

    They lie behind their places: the circle of phases is cut where it is emptiest. Of many, a share of ``few`` may have
    any phase.
    """
    phase = np.mod(instants - instants[0], period)
    ordered = np.sort(phase)
    gaps = np.append(np.diff(ordered), ordered[0] + period - ordered[-1])
    widest = int(np.argmax(gaps))
    cut = float(ordered[(widest + 1) % len(ordered)])
    number = np.floor((instants - instants[0] - cut + period * 1e-9) / period).astype(np.int64)
    spread = 1 - float(gaps[widest]) / period
    most = len(ordered) - int(few * len(ordered)) if len(ordered) >= _FIRST else len(ordered)
    if most < len(ordered):
        around = np.append(ordered, ordered[: most - 1] + period)
        spread = min(spread, float((around[most - 1 :] - ordered).min()) / period)
    return number - number[0], spread


def lattice(instants: Instants, about: float, few: float = 0) -> Lattice | None:
    """Instants along a grid of about that period, in ps; None where they lie along none, or too many share a place.

    A share of ``few`` may stray. The period is fitted to the first of them, and to twice as many at each turn, so that
    places are never off by one.
    """
    count, period = min(len(instants), _FIRST), about
    while True:
        part = instants[:count] - instants[0]
        number, spread = numbered(part, period, few)
        if spread > _ALL_ROUND:
            return None
        middle = number.mean()
        away = float(((number - middle) ** 2).sum())
        if away:
            period = float(((number - middle) * (part - part.mean())).sum()) / away
        if count == len(instants):
            return Lattice(period, number) if len(distinct(number)) >= 0.9 * count else None
        count = min(len(instants), 2 * count)


def regular(instants: Instants, nominal: float, few: float = 0) -> Lattice | None:
    """Instants along a grid of the ``nominal`` period in ps if they can be, else of a plain one of their own.

    A share of ``few`` may stray.
    """
    if len(instants) < 3:
        return None
    found = lattice(instants, nominal, few)
    if found is not None:
        every = int(np.gcd.reduce(found.number))
        if every > 1 and len(instants) >= _FEWEST:  # one in two of a grid is a grid of its own
            return Lattice(found.period * every, found.number // every)
        if _spread(instants, found) <= _PLAIN * found.period:
            return found
    own = lattice(instants, float(np.median(np.diff(instants))), few)
    spare = None if own is None else _spread(instants, own)
    if own is None or spare is None or spare > _PLAIN * own.period:
        return found
    return own if found is None or 4 * spare < _spread(instants, found) else found


def _spread(instants: Instants, found: Lattice) -> float:
    """How far nine in ten of them stray from a grid, in ps."""
    rest = instants - instants[0] - found.number * found.period
    return float(np.percentile(rest, 95) - np.percentile(rest, 5))


def hidden_grid(starts: Instants, nominal: float, stray: int = 0) -> Grid | None:
    """The grid that lies closest below the starts of a routine; None of fewer than eight starts, or of none regular.

    ``nominal`` in ps is the modelled period, which is only where the search begins; releases ``stray`` so much.
    """
    found = regular(starts, nominal, _FEW) if len(starts) >= _FEWEST else None
    if found is None:
        return None
    number, moved = _one_each(found.number)
    rest = starts - starts[0] - np.rint(number * found.period).astype(np.int64)
    # a start that lies alone below the others belongs to the release before, and is late; without it the hull lies
    # higher, and delays are smaller only
    kept = np.flatnonzero(rest >= np.percentile(rest, 5) - stray - _ALONE * found.period)
    hull = kept[_lowest(number[kept], rest[kept])]
    late = rest > rest[kept].min() + _HALF * found.period
    # what is so late may be taken for the next one, early, unless that has a start of its own
    followed = np.append((np.diff(number) == 1) & ~late[1:], False)
    doubtful = rest[~moved & ~(late & followed)]
    told = float(doubtful.max() - doubtful.min()) <= _HALF * found.period and bool(late.mean() <= _FEW)
    # whatever the true grid is, as it lies below all starts it nowhere lies above the hull
    delay = np.maximum(0, np.floor(rest - np.interp(number, number[hull], rest[hull])).astype(np.int64))
    place = max(0, int(np.searchsorted(number[hull], number[-1] / 2, side="right")) - 1)
    first, second = int(hull[place]), int(hull[min(place + 1, len(hull) - 1)])
    run = int(number[second] - number[first])
    return Grid(found.period + (int(rest[second] - rest[first]) / run if run else 0.0), number, delay, told)


def _one_each(number: Instants) -> tuple[Instants, npt.NDArray[np.bool_]]:
    """(the place of each start, whether it is another than its phase says): each release has one start.

    Of two at one place, with none at the place before, the first is that of the place before, held off until then.
    """
    number, moved = number.copy(), np.zeros(len(number), np.bool_)
    for place in np.flatnonzero(number[:-1] == number[1:])[::-1].tolist():
        if number[place] == number[place + 1] and place and number[place - 1] < number[place] - 1:
            number[place] -= 1
            moved[place] = True
    return number, moved


def _lowest(x: Instants, y: Instants) -> Instants:
    """The places of the corners of the lower convex hull of points in order of x."""
    corners = np.zeros(len(x), np.int64)
    return corners[: _lower_hull(x, y, corners)]


@kernel(weight=3)
def _lower_hull(x: Instants, y: Instants, hull: Instants) -> int:
    """Put the places of the corners into ``hull``: how many there are."""
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
    return size


def jitter_of(instants: Instants, number: Instants, least: float, most: float) -> int:
    """The least jitter in ps that explains events numbered along a grid whose period lies in [least, most].

    The width of the band around a line, least over all slopes: it is convex in the slope, so thirds are cut off, until
    what is left makes less than a picosecond over all of the events.
    """
    base, many = instants - instants[0], max(1, int(number[-1]))
    if len(base) > _MANY:  # what lies within the hull never makes the band wider
        rest = base - np.rint(number * ((least + most) / 2)).astype(np.int64)
        corners = np.concatenate([_lowest(number, rest), _lowest(number, -rest)])
        base, number = base[corners], number[corners]

    def width(period: float) -> float:
        rest = base - number * period
        return float(rest.max() - rest.min())

    for _ in range(_MOST_THIRDS):
        third = (most - least) / 3
        if third * many < 0.1:
            break
        if width(least + third) <= width(most - third):
            most -= third
        else:
            least += third
    return int(width((least + most) / 2))


class ClockError(Struct, frozen=True):
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
