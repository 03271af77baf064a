"""Stretches of time, as columns of begins and ends in ps: put together, and the window that holds most of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tachys.compiled import bare, int64, kernel

Instants = NDArray[np.int64]
NEVER = 1 << 62  # an instant behind all others, to which a time can still be added
MANY = 1 << 16  # from how many on it pays to walk


def joined(begins: Instants, ends: Instants) -> tuple[Instants, Instants]:
    """Stretches in order of time, those that touch or overlap as one; the columns are put in order where they lie."""
    begins.sort()
    ends.sort()
    # so many have begun before the k-th as its number says: nothing goes on if as many have ended
    first = np.append(True, begins[1:] > ends[:-1])[: len(begins)]
    if first.all():
        return begins, ends
    last = np.append(first[1:], True)[: len(begins)]
    return begins[first], ends[last]


def place_of(ordered: Instants, keys: Instants, *, behind: bool = False) -> Instants:
    """Where each key would stand among the ``ordered``, before those like it or ``behind`` them.

    The keys are about in order themselves: that makes it far faster than a search for each where there are many.
    """
    if len(ordered) + len(keys) < MANY:
        return np.searchsorted(ordered, keys, side="right" if behind else "left")
    places = np.zeros(len(keys), np.int64)
    _walk(ordered, keys, int(behind), places)
    return places


@kernel()
def _walk(ordered: Instants, keys: Instants, behind: int, places: Instants) -> None:
    """A hand goes along the ``ordered`` as the keys do, back and forth; of whole numbers, behind is before the next."""
    each, sought, found, hand, count = bare(ordered), bare(keys), bare(places), 0, len(ordered)
    for number in range(len(keys)):
        key = sought[number] + behind
        while hand < count and each[hand] < key:
            hand += 1
        while hand > 0 and each[hand - 1] >= key:
            hand -= 1
        found[number] = hand


def busiest(begins: Instants, ends: Instants, length: int, first: int, last: int) -> tuple[int, int]:
    """(most ps of stretches in a window of ``length`` ps between ``first`` and ``last``, where that window begins).

    The stretches stand apart, in order of time, and there is one at least. A window that holds most begins with a
    stretch or ends with one.
    """
    with_begin = _sweep(begins, ends, begins, 0, length, first, last - length)
    with_end = _sweep(begins, ends, ends, length, length, first, last - length)
    most, at = with_begin if with_begin[0] >= with_end[0] else with_end
    return int(most), int(at)


@kernel(weight=3)
def _sweep(begins: Instants, ends: Instants, starts: Instants, before: int, length: int, least: int, most: int) -> Any:
    """Of windows that begin so long ``before`` each of ``starts``, kept within [least, most]: the most that one holds,
    and where.

    Two hands go along the stretches, one to where windows begin, one to where they end: what lies before each.
    """
    count, found, at = len(begins), int64(-1), int64(0)
    low, passed, high, within = 0, int64(0), 0, int64(0)
    for start in starts:
        begin = min(max(start - before, least), most)
        while low < count and ends[low] <= begin:
            passed += ends[low] - begins[low]
            low += 1
        while high < count and ends[high] <= begin + length:
            within += ends[high] - begins[high]
            high += 1
        held = within - passed
        if high < count:
            held += max(int64(0), begin + length - begins[high])
        if low < count:
            held -= max(int64(0), begin - begins[low])
        if held > found:
            found, at = held, begin
    return found, at
