"""When the core accepted a run, at the latest: its mark cleared then, and what came later waits for the next run.

The capture shows first instructions, not acceptances. Between the two lie an entry, or a chain where another body ended
that long before, and whatever more urgent routine was accepted before the first instruction: then that one's end lies
one exit before it.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.checking.probes.readings import Readings
from tachys.model.nodes import Isr
from tachys.model.system import System
from tachys.stretches import place_of

EMPTY = np.zeros(0, np.int64)


class AllBodies(Struct, frozen=True):
    """The bodies of all routines that are seen, in order of their ends, with how urgent each is; ``ended``: when those
    ended whose end was seen."""

    begins: Instants
    ends: Instants
    urgency: Instants
    ended: Instants
    routines: int

    @classmethod
    def of(cls, system: System, shown: Readings) -> AllBodies:
        """Those of a system."""
        seen = [(isr.urgency, shown.bodies[isr.thing]) for isr in system.isrs if isr.thing in shown.bodies]
        begins, ends, ended, urgency = (
            np.concatenate([EMPTY, *columns])
            for columns in (
                [bodies.start for _, bodies in seen], [bodies.end for _, bodies in seen],
                [bodies.ended for _, bodies in seen], [np.full(len(bodies.end), each) for each, bodies in seen],
            )
        )  # fmt: skip
        order = np.argsort(ends, kind="stable")
        return cls(begins[order], ends[order], urgency[order], np.sort(ended, kind="stable"), len(seen))


def acceptance_leads(
    system: System, bodies: AllBodies, isr: Isr, starts: Instants, slack: int
) -> tuple[Instants, Instants]:
    """How many ps before its first instruction each run was accepted, at least and at most; gaps may be ``slack`` off.

    The most is what put-off runs have; where nothing of the kind can have been, it is the least and ``slack`` twice.
    """
    core = system.core
    if core.late_arrival:
        zero = np.zeros(len(starts), np.int64)
        return zero, zero
    chained = _ends_near(bodies.ended, starts, core.chain.least - slack, core.chain.most + slack)
    alone = core.entry.least if bodies.routines == len(system.isrs) else core.least_latency
    if core.chain.least < core.entry.least:
        least = np.where(chained, core.chain.least, alone)
    elif core.chain.most >= core.exit.least + core.entry.least - slack:  # an exit and an entry look the same
        least = np.full(len(starts), core.least_latency)
    else:
        least = np.where(chained, core.chain.least, core.least_latency)
    longest = np.where(chained, max(core.chain.most, core.entry.most), core.entry.most)
    least, most = np.maximum(0, least - slack), longest + slack
    urgent = bodies.urgency < isr.urgency
    _put_off(system, bodies.begins[urgent], bodies.ends[urgent], starts, least, most, slack)
    return least, most


def _ends_near(ended: Instants, starts: Instants, least: int, most: int) -> npt.NDArray[np.bool_]:
    """Whether some body ended from ``most`` to ``least`` ps before each start."""
    return place_of(ended, starts - least, behind=True) > place_of(ended, starts - most)


def _put_off(
    system: System, begins: Instants, ends: Instants, starts: Instants, least: Instants, most: Instants, slack: int
) -> None:
    """Lengthen the leads of runs that were accepted, but put off by more urgent ones before their first instruction.

    The bodies of those in order of their ends.
    """
    core = system.core
    if not len(ends):
        return
    last = place_of(ends, starts, behind=True) - 1
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
