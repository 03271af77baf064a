"""When the core worked, read from records: routines with all that belongs to them, steps, the passes of steps that ran.

From the first acceptance over the loop to the return to it the core works all the time. A step works while its cost is
paid; a pass, if a step ran in it, from its beginning to the first step that did. Waking, halts, waits and pauses are no
load (``docs/theory.md``).
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from tachys.simulation import layout as at
from tachys.simulation.engine import Records
from tachys.simulation.index import Index
from tachys.stretches import busiest, joined


class BusySpans:
    """Slice by slice, the stretches in which the core worked, and the busiest window of ``length`` ps among them.

    ``interrupts_only``: those of routines, with their entries and exits.
    """

    def __init__(self, length: int, *, interrupts_only: bool = False) -> None:
        self.length, self.interrupts_only = length, interrupts_only
        self.busiest = Fraction(0)
        self._begins = np.zeros(0, np.int64)
        self._ends = np.zeros(0, np.int64)
        self._nest: int | None = None  # since when routines have worked, one on top of the other
        self._cost: int | None = None  # since when the cost of a step has been paid

    def take(self, records: Records, index: Index, now: int) -> None:
        """Take in the records of a slice that ends at ``now`` ps."""
        kind, time = records.kind, records.time
        out = (kind == at.BACK) & (records.index == len(index.rows))
        nests = _paired(time, (kind == at.ACCEPT) | out, kind == at.ACCEPT, self._nest)
        loop = not self.interrupts_only
        paid = loop & (kind == at.STEP_PHASE) & ((records.cause == at.WORK) | (records.cause == at.DRAIN))
        told = (kind == at.STEP_PHASE) | (kind == at.HALTS) | (kind == at.STEP_END)
        costs = _paired(time, told, paid, self._cost)
        ran = loop & (kind == at.PASS)
        self._nest, self._cost = nests[2], costs[2]
        begins = np.concatenate([self._begins, nests[0], costs[0], records.cause[ran]])
        ends = np.concatenate([self._ends, nests[1], costs[1], time[ran]])
        self._begins, self._ends = joined(begins, ends)
        still = np.array([since for since in (self._nest, self._cost) if since is not None], np.int64)
        self._look(*joined(np.append(self._begins, still), np.append(self._ends, np.full_like(still, now))), now)
        keep = self._ends > now - self.length  # a window that ends later begins no sooner
        self._begins, self._ends = self._begins[keep], self._ends[keep]

    def _look(self, begins: at.Ints, ends: at.Ints, now: int) -> None:
        if now >= self.length and len(begins):
            most, _ = busiest(begins, ends, self.length, 0, now)
            self.busiest = max(self.busiest, Fraction(most, self.length))


def _paired(time: at.Ints, told: at.Bools, begins: at.Bools, since: int | None) -> tuple[at.Ints, at.Ints, int | None]:
    """(begins, ends, since when one is open) of stretches that begin with a mark and end with the next other one."""
    times, opens = time[told], begins[told]
    if since is not None:
        times, opens = np.append(since, times), np.append(True, opens)
    first = opens & np.append(True, ~opens[:-1])[: len(opens)]
    last = ~opens & np.append(False, opens[:-1])[: len(opens)]
    starts, ends = times[first], times[last]
    return starts[: len(ends)], ends, int(starts[-1]) if len(starts) > len(ends) else None
