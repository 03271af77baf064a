"""How well the instants of a file are known: the step of the analyser, found behind the digits that it printed.

An analyser at 24 MHz that prints nanoseconds writes 0, 42, 83, 125: every instant is a whole number of steps of
41.667 ns, rounded or cut to the last digit. The step is the largest by which all instants fit, each within one unit of
that digit. It is believed only where many instants fit that would not by chance, and where their distances differ by a
step or two, which those of a timer alone do not; else the last digit counts.
"""

from __future__ import annotations

from collections.abc import Iterable
from math import ceil, log10
from typing import Any

import numpy as np
from msgspec import Struct

from tachys.capture.table import BLOCK, Instants, blocks, distinct
from tachys.compiled import kernel, rint, zeros, zeros_of

FEWEST = 50  # distinct instants from which on a step is believed
FEWEST_PULSES = 4  # that look like samples, of fewer instants
LOOKED_AT = 4000  # of each line, to find it; all are looked at to see whether it holds
WIDTH = 1.02  # units of the last digit that instants may stray over: one, and what is left of a straight fit
STRAYS = 1.3  # units about the fit by least squares, which is not the best for the furthest
COARSEST = 2.0  # units; a finer step cannot be told from the digits
CHANCE = 1e-6
TRIED = 2000  # instants around the two that lie closest together, by which a step is found
_MOST_TRIED = 8_000_000
_LITTLE, _NEVER = 100_000, 1 << 60  # ticks that are looked at, the first time and the second
_GIVEN_UP = -2.0


class Resolution(Struct, frozen=True):
    """How far off the distance of two instants may be: by ``ps`` of sampling, and by ``rounding`` ps of printing."""

    ps: int
    rounding: int = 0


def step_of(columns: Iterable[Instants], digit: int) -> Resolution:
    """The step of the analyser, where instants show it; else the last ``digit`` in ps, whatever it hides.

    The first instant of each column is where its record begins, and no edge.
    """
    lines = [column[1:] for column in columns if len(column) > 1]
    instants = distinct(np.concatenate([np.zeros(0, np.int64), *(line[:LOOKED_AT] for line in lines)]))
    unknown = Resolution(digit, digit)
    if not len(instants):
        return unknown
    common = int(np.gcd.reduce(instants - instants[0]))
    if len(instants) < FEWEST:
        return Resolution(common) if common > digit and _are_samples(instants, lines, common, digit) else unknown
    if common > digit and all(_on_grid(line, int(instants[0]), common) for line in lines):
        if not _differ_by_steps([instants, *lines], common):
            return unknown
        unknown = Resolution(common)
        if not _is_decimal(common // digit):
            return unknown
        digit = common  # the digits below it are zeros: it may be printed with fewer than it is written with
    step = _step(instants, digit)
    if step is None or not _differ_by_steps([instants, *lines], step):
        return unknown
    if not all(_fits(line, instants[0], step, digit) for line in lines):
        return unknown
    return Resolution(ceil(step), digit)


def step_of_samples(first: int, last: int, count: int, digit: int) -> Resolution:
    """The same of a file with a row for each of ``count`` samples, from ``first`` to ``last`` ps."""
    whole, rest = divmod(last - first, count - 1)
    return Resolution(whole) if rest == 0 else Resolution(whole + 1, digit)


def _on_grid(line: Instants, start: int, step: int) -> bool:
    return all(not ((line[a:b] - start) % step).any() for a, b in blocks(len(line), BLOCK))


def _are_samples(instants: Instants, lines: list[Instants], step: int, digit: int) -> bool:
    """Whether each pulse of each line lasts one step: so short ones look that are sampled too slowly."""
    apart = [np.diff(line) for line in lines if len(line) > 1]
    pulses = [each[0::2] if (each[0::2] == step).all() else each[1::2] for each in apart]
    if sum(map(len, pulses)) < FEWEST_PULSES or not all(len(each) and (each == step).all() for each in pulses):
        return False
    return _is_beyond_chance(instants // digit, step / digit)


def _is_beyond_chance(ticks: Instants, step: float) -> bool:
    """Of so many steps that could have been tried, one would hardly fit so many ticks by chance."""
    tried = log10(max(1.0, float(ticks[-1] - ticks[0])))
    return tried - (len(ticks) - 2) * log10(step) <= log10(CHANCE)


def _is_decimal(number: int) -> bool:
    return str(number).strip("0") == "1"


def _differ_by_steps(columns: Iterable[Instants], step: float) -> bool:
    """Whether distances of neighbours in some column come in lengths that lie one or two steps apart."""
    for instants in columns:
        many = distinct(np.rint(np.diff(instants[:LOOKED_AT]) / step).astype(np.int64))
        if len(many) > 1 and int(np.diff(many).min()) <= 2:
            return True
    return False


def _step(instants: Instants, digit: int) -> float | None:
    """The largest step in ps by which all instants fit within one digit; None if chance would do as well."""
    ticks = (instants - instants[0]) // digit
    closest = int(np.argmin(np.diff(ticks)))
    near = ticks - ticks[closest]
    near = near[np.argsort(np.abs(near), kind="stable")][:TRIED]
    largest = float(np.abs(near[1])) + 1
    found = float(_search(near, largest, COARSEST, WIDTH, _MOST_TRIED, _LITTLE))
    if found == _GIVEN_UP:
        found = float(_search(near, largest, COARSEST, WIDTH, _MOST_TRIED, _NEVER))
    if found <= 0:
        return None
    refined = _refined(ticks - ticks[closest], found)
    if refined is None:
        return None
    return refined * digit if _is_beyond_chance(ticks, refined / STRAYS) else None


def _refined(ticks: Instants, step: float) -> float | None:
    """The step that fits all instants, from one that fits those near zero: twice as far at each turn."""
    order = np.argsort(np.abs(ticks), kind="stable")
    known = min(len(ticks), TRIED)
    while True:
        some = ticks[order[:known]]
        step = float(_fit(some, step))
        if step <= 0:
            return None
        if known == len(ticks):
            return step
        reach = 1.5 * float(np.abs(some).max()) + 10 * step
        known = max(known + 1, min(len(ticks), int(np.searchsorted(np.abs(ticks[order]), reach, side="right"))))


def _fits(line: Instants, start: int, step: float, digit: int) -> bool:
    """Whether all instants of a line lie within two digits of a grid of this step through ``start``."""
    for first, last in blocks(len(line), BLOCK):
        away = (line[first:last] - start).astype(np.float64)
        if float(np.abs(away - np.rint(away / step) * step).max()) > 2 * digit:
            return False
    return True


@kernel()
def _fit(ticks: Instants, step: float) -> Any:
    """The step near to this one by which all ticks fit best (least squares); -1 where they stray too far."""
    middle, mean = 0.0, 0.0
    for tick in ticks:
        middle += rint(tick / step)
        mean += tick
    middle, mean = middle / len(ticks), mean / len(ticks)
    over, under = 0.0, 0.0
    for tick in ticks:
        away = rint(tick / step) - middle
        over += away * (tick - mean)
        under += away * away
    fitted = over / under
    least, most = np.inf, -np.inf
    for tick in ticks:
        rest = tick - rint(tick / step) * fitted
        least, most = min(least, rest), max(most, rest)
    return fitted if most - least <= STRAYS else -1.0


@kernel(weight=2, size=5)
def _search(ticks: Instants, largest: float, least: float, width: float, budget: int, work: int) -> Any:
    """The largest step by which ``ticks``, 0 and then ever further from it, fit within ``width``; below 0: none is.

    Steps are tried as intervals from the largest on, each cut into finer ones as more ticks are asked, so that a whole
    number of steps lies where it should to 0.05 of a tick.
    """
    lows, highs, asked = zeros_of(1 << 12, np.float64), zeros_of(1 << 12, np.float64), zeros(1 << 12)
    lows[0], highs[0], asked[0] = least, largest, 1
    top, tried = 1, 0
    while top > 0:
        top -= 1
        low, high, place = float(lows[top]), float(highs[top]), asked[top]
        work -= 1
        if (high - low) * abs(ticks[place]) > 0.1 * low:
            if top + 2 > len(lows):
                return -1.0
            middle = (low + high) / 2
            lows[top], highs[top], asked[top] = low, middle, place
            lows[top + 1], highs[top + 1], asked[top + 1] = middle, high, place
            top += 2
            continue
        step = (low + high) / 2
        bottom, over = 0.0, 0.0
        for k in range(1, place + 1):
            rest = ticks[k] - rint(ticks[k] / step) * step
            bottom, over = min(bottom, rest), max(over, rest)
            if over - bottom > width + 0.1:
                break
            work -= 1
        tried += 1
        if tried > budget or work < 0:
            return _GIVEN_UP
        if over - bottom > width + 0.1:
            continue
        if place + 1 == len(ticks):
            step = _fit(ticks, step)
            if step > 0:
                return step
            continue
        lows[top], highs[top], asked[top] = low, high, place + 1
        top += 1
    return -1.0
