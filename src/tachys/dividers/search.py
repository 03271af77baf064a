"""Timer settings for a wanted period: every best one, by one pass over the prescalers.

With N = clock · period the wanted ticks (rational), a prescaler p asks for the multiple of p nearest to N, so its best
counts are the two whole numbers around N / p, cut to what the counter holds. No other count of p can be nearer, hence
one pass over p finds the best of all pairs.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable
from fractions import Fraction
from typing import Literal

from msgspec import Struct

from tachys.dividers.counter import Counter, Setting, deviation_ppm

Prefer = Literal["resolution", "prescaler"]


class Found(Struct, frozen=True):
    """A setting, its period in seconds and how far that is from the wanted one, in ppm."""

    setting: Setting
    period: Fraction
    deviation: Fraction


def best_settings(
    hertz: Fraction, wanted: Fraction, counter: Counter, *, most: int = 10, prefer: Prefer = "resolution"
) -> list[Found]:
    """The ``most`` best settings for a period of ``wanted`` seconds: nearest first, exact ones before all.

    Among equally near ones, "resolution" puts the largest count first (the finest steps for a compare value),
    "prescaler" the smallest prescaler and then the smallest postscaler.

    Raises:
        ValueError: the clock or the wanted period is not more than 0.
    """
    if hertz <= 0 or wanted <= 0:
        raise ValueError("clock and wanted period must be more than 0")
    key = _by_resolution if prefer == "resolution" else _by_prescaler
    chosen: list[_Candidate] = []
    for postscale in counter.postscalers:
        chosen = heapq.nsmallest(most, _pass(hertz * wanted / postscale, counter, postscale, chosen, most, key), key)
    found = []
    for _, count, prescale, postscale in chosen:
        setting = Setting(prescale, count, postscale)
        period = setting.period(hertz)
        found.append(Found(setting, period, deviation_ppm(period, wanted)))
    return found


_Candidate = tuple[Fraction, int, int, int]  # ticks off, count, prescale, postscale


def _by_resolution(entry: _Candidate) -> tuple[Fraction, int, int]:
    return entry[0], -entry[1], entry[3]


def _by_prescaler(entry: _Candidate) -> tuple[Fraction, int, int]:
    return entry[0], entry[2], entry[3]


def _pass(
    ticks: Fraction,
    counter: Counter,
    postscale: int,
    known: list[_Candidate],
    most: int,
    key: Callable[[_Candidate], tuple[Fraction, int, int]],
) -> list[_Candidate]:
    """One pass over the prescalers; what is surely not among the ``most`` best is not even noted.

    A prescaler too small to reach ``ticks`` is off by less the larger it is, so only the last of these are looked at.
    """
    whole, parts, top = ticks.numerator, ticks.denominator, counter.most_counts
    first = max(-(-whole // (parts * top)) - most, 1)
    tried: Iterable[int] = counter.prescalers
    if counter.prescalers.choices is None:
        tried = range(min(first, counter.prescalers.most), counter.prescalers.most + 1)
    kept = list(known)
    limit: int | None = None
    for prescale in tried:
        step = prescale * parts
        count, rest = divmod(whole, step)
        if limit is not None and limit < rest and (step - rest > limit or count >= top):
            continue
        if count >= top:
            near = ((whole - top * step, top),)
        elif count:
            near = ((rest, count), (step - rest, count + 1))  # type: ignore[assignment]
        else:
            near = ((step - rest, 1),)
        for off, counts in near:
            if limit is None or off <= limit:
                kept.append((Fraction(off * postscale, parts), counts, prescale, postscale))
        if len(kept) > 8 * most:
            kept = heapq.nsmallest(most, kept, key)
            limit = int(kept[-1][0] / postscale * parts)
    return kept


class Shortfall(Struct, frozen=True):
    """What it would take to reach a period that is too long for a counter."""

    width: int
    prescale: int
    postscale: int
    software_count: int


def shortfall(hertz: Fraction, wanted: Fraction, counter: Counter) -> Shortfall | None:
    """What would do where ``wanted`` seconds are beyond the longest period; None where they are in reach.

    ``width``: bits with the same prescaler; ``prescale``: factor with the same width; ``postscale``: behind the
    longest period; ``software_count``: so many periods counted by a routine.
    """
    if wanted <= counter.longest(hertz):
        return None
    ticks = hertz * wanted
    post = max(counter.postscalers)
    counts = -(-ticks // (counter.prescalers.largest * post))
    periods = -(-ticks // (counter.prescalers.largest * counter.most_counts * post))
    return Shortfall(
        width=int(counts - 1).bit_length(),
        prescale=int(-(-ticks // (counter.most_counts * post))),
        postscale=int(periods) * post,
        software_count=int(periods),
    )
