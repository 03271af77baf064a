"""Stretches of time, as columns of begins and ends in ps: put together, and the window that holds most of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Instants = NDArray[np.int64]


def joined(begins: Instants, ends: Instants) -> tuple[Instants, Instants]:
    """Stretches in order of time, those that touch or overlap as one."""
    order = np.argsort(begins, kind="stable")
    begins, ends = begins[order], np.maximum.accumulate(ends[order])
    first = np.append(True, begins[1:] > ends[:-1])[: len(begins)]
    last = np.append(first[1:], True)[: len(begins)]
    return begins[first], ends[last]


def busiest(begins: Instants, ends: Instants, length: int, first: int, last: int) -> tuple[int, int]:
    """(most ps of stretches in a window of ``length`` ps between ``first`` and ``last``, where that window begins).

    The stretches stand apart, in order of time, and there is one at least. A window that holds most begins with a
    stretch or ends with one.
    """
    total = np.concatenate([[0], np.cumsum(ends - begins)])

    def taken(until: Instants) -> Instants:
        place = np.searchsorted(begins, until, side="right")
        over = np.maximum(0, ends[np.maximum(place - 1, 0)] - until)
        found: Instants = total[place] - np.where(place > 0, over, 0)
        return found

    starts = np.clip(np.concatenate([begins, ends - length]), first, last - length)
    held = taken(starts + length) - taken(starts)
    best = int(np.argmax(held))
    return int(held[best]), int(starts[best])
