"""When the core accepted a run, at the latest: its mark cleared then, and what came later waits for the next run.

The capture shows first instructions, not acceptances. Between the two lie an entry, or a chain where another body ended
that long before, and whatever more urgent routine was accepted before the first instruction: then that one's end lies
one exit before it.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from tachys.capture.table import Instants
from tachys.checking.probes.binding import Readings
from tachys.checking.probes.lines import Bodies
from tachys.model.nodes import Isr
from tachys.model.system import System

EMPTY = np.zeros(0, np.int64)


def acceptance_leads(
    system: System, shown: Readings, ended: Instants, isr: Isr, starts: Instants, slack: int
) -> tuple[Instants, Instants]:
    """How many ps before its first instruction each run was accepted, at least and at most; gaps may be ``slack`` off.

    ``ended`` is when any routine ended, in order. The most is what put-off runs have; where nothing of the kind can
    have been, it is the least and ``slack`` twice.
    """
    core = system.core
    if core.late_arrival:
        zero = np.zeros(len(starts), np.int64)
        return zero, zero
    others = list(_bodies(system, shown))
    chained = _ends_near(ended, starts, core.chain.least - slack, core.chain.most + slack)
    alone = core.entry.least if len(others) == len(system.isrs) else core.least_latency
    if core.chain.least < core.entry.least:
        least = np.where(chained, core.chain.least, alone)
    elif core.chain.most >= core.exit.least + core.entry.least - slack:  # an exit and an entry look the same
        least = np.full(len(starts), core.least_latency)
    else:
        least = np.where(chained, core.chain.least, core.least_latency)
    longest = np.where(chained, max(core.chain.most, core.entry.most), core.entry.most)
    least, most = np.maximum(0, least - slack), longest + slack
    _put_off(system, [bodies for urgency, bodies in others if urgency < isr.urgency], starts, least, most, slack)
    return least, most


def all_ends(system: System, shown: Readings) -> Instants:
    """When any routine was seen to end, in order."""
    return np.sort(np.concatenate([EMPTY, *(bodies.ended for _, bodies in _bodies(system, shown))]), kind="stable")


def _bodies(system: System, shown: Readings) -> Iterator[tuple[int, Bodies]]:
    for isr in system.isrs:
        bodies = shown.bodies.get(isr.thing)
        if bodies is not None:
            yield isr.urgency, bodies


def _ends_near(ended: Instants, starts: Instants, least: int, most: int) -> npt.NDArray[np.bool_]:
    """Whether some body ended from ``most`` to ``least`` ps before each start."""
    return np.searchsorted(ended, starts - least, side="right") > np.searchsorted(ended, starts - most)


def _put_off(
    system: System, urgent: list[Bodies], starts: Instants, least: Instants, most: Instants, slack: int
) -> None:
    """Lengthen the leads of runs that were accepted, but put off by more urgent ones before their first instruction."""
    core = system.core
    begins = np.concatenate([EMPTY, *(bodies.start for bodies in urgent)])
    ends = np.concatenate([EMPTY, *(bodies.end for bodies in urgent)])
    if not len(ends):
        return
    order = np.argsort(ends, kind="stable")
    begins, ends = begins[order], ends[order]
    last = np.searchsorted(ends, starts, side="right") - 1
    gap = starts - ends[np.maximum(last, 0)]
    may = (last >= 0) & (gap >= core.exit.least - slack) & (gap <= core.exit.most + slack)
    other = (gap >= core.entry.least - slack) | (
        np.abs(gap - core.chain.least) <= slack + core.chain.most - core.chain.least
    )
    for run in np.flatnonzero(may).tolist():
        # between two that follow by a chain and an entry the run may have been accepted; by a chain alone it was not
        group, surely = int(last[run]), int(last[run])
        while group > 0 and 0 <= begins[group] - ends[group - 1] <= core.chain.most + core.entry.most + slack:
            group -= 1
        while surely > 0 and 0 <= begins[surely] - ends[surely - 1] <= core.chain.most + slack < core.entry.least:
            surely -= 1
        begun = int(starts[run]) - int(begins[group])
        most[run] = max(int(most[run]), begun + core.entry.most + max(core.entry.most, core.chain.most) + slack)
        if not other[run]:
            begun = int(starts[run]) - int(begins[surely])
            least[run] = max(int(least[run]), begun + core.entry.least + core.least_latency - slack)
