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
from tachys.compiled import kernel
from tachys.model.nodes import Isr
from tachys.model.system import System
from tachys.stretches import NEVER, place_of

EMPTY = np.zeros(0, np.int64)


class AllBodies(Struct, frozen=True):
    """The bodies of all routines that are seen, in order of their ends, with how urgent each is; what goes on as the
    capture ends, ends :data:`~tachys.stretches.NEVER`."""

    begins: Instants
    ends: Instants
    urgency: Instants
    routines: int

    @classmethod
    def of(cls, system: System, shown: Readings) -> AllBodies:
        """Those of a system."""
        seen = [(isr.urgency, shown.bodies[isr.thing]) for isr in system.isrs if isr.thing in shown.bodies]
        ends = np.concatenate([EMPTY, *(bodies.end for _, bodies in seen)])
        behind = 0
        for _, bodies in seen:
            behind += len(bodies.end)
            if bodies.cut_end and len(bodies.end):
                ends[behind - 1] = NEVER
        order = np.argsort(ends, kind="stable")
        ends = ends[order]
        begins = np.concatenate([EMPTY, *(bodies.start for _, bodies in seen)])[order]
        urgency = [np.full(len(bodies.end), each, np.int32) for each, bodies in seen]
        return cls(begins, ends, np.concatenate([EMPTY.astype(np.int32), *urgency])[order], len(seen))


def acceptance_leads(
    system: System, bodies: AllBodies, isr: Isr, starts: Instants, slack: int
) -> tuple[Instants, Instants]:
    """How many ps before its first instruction each run was accepted, at least and at most; gaps may be ``slack`` off.

    The most is what put-off runs have; where nothing of the kind can have been, it is the least and ``slack`` twice.
    The least is below zero where a run may be seen before its event: an entry shorter than what sampling leaves open.
    """
    core = system.core
    if core.late_arrival:
        zero = np.zeros(len(starts), np.int64)
        return zero, zero
    chained = _ends_near(bodies.ends, starts, core.chain.least - slack, core.chain.most + slack)
    alone = core.entry.least if bodies.routines == len(system.isrs) else core.least_latency
    if core.chain.least < core.entry.least:
        least = np.where(chained, core.chain.least, alone)
    elif core.chain.most >= core.exit.least + core.entry.least - slack:  # an exit and an entry look the same
        least = np.full(len(starts), core.least_latency)
    else:
        least = np.where(chained, core.chain.least, core.least_latency)
    longest = np.where(chained, max(core.chain.most, core.entry.most), core.entry.most)
    least, most = least - slack, longest + slack
    costs = np.array([
        core.exit.least - slack, core.exit.most + slack,
        core.chain.most + core.entry.most + slack, core.entry.most + max(core.entry.most, core.chain.most) + slack,
        core.chain.most + slack if core.chain.most + slack < core.entry.least else -1,
        core.entry.least + core.least_latency - slack,
        core.entry.least - slack, core.chain.least - slack - (core.chain.most - core.chain.least),
        core.chain.least + slack + (core.chain.most - core.chain.least),
    ], np.int64)  # fmt: skip
    _put_off(bodies.begins, bodies.ends, bodies.urgency, isr.urgency, starts, costs, least, most)
    return least, most


def _ends_near(ended: Instants, starts: Instants, least: int, most: int) -> npt.NDArray[np.bool_]:
    """Whether some body ended from ``most`` to ``least`` ps before each start."""
    return place_of(ended, starts - least, behind=True) > place_of(ended, starts - most)


@kernel()
def _put_off(
    begins: Instants, ends: Instants, urgency: Instants, own: int, starts: Instants, costs: Instants, least: Instants,
    most: Instants,
) -> None:  # fmt: skip
    """Lengthen the leads of runs that were accepted, but put off by more urgent ones before their first instruction.

    The bodies in order of their ends, the runs in order of their starts.
    """
    over_least, over_most, apart, apart_most, chained, chained_least, entered, chain_from, chain_to = costs
    place, last = 0, -1
    for run in range(len(starts)):
        while place < len(ends) and ends[place] <= starts[run]:
            if urgency[place] < own:
                last = place
            place += 1
        gap = starts[run] - ends[max(last, 0)] if len(ends) else 0
        if last < 0 or not over_least <= gap <= over_most:
            continue
        # between two that follow by a chain and an entry the run may have been accepted; by a chain alone it was not
        group = _first_of(begins, ends, urgency, own, last, apart)
        most[run] = max(most[run], starts[run] - begins[group] + apart_most)
        if gap < entered and not chain_from <= gap <= chain_to:
            surely = _first_of(begins, ends, urgency, own, last, chained)
            least[run] = max(least[run], starts[run] - begins[surely] + chained_least)


@kernel()
def _first_of(begins: Instants, ends: Instants, urgency: Instants, own: int, last: int, apart: int) -> int:
    """The first of the more urgent that came one after the other up to the last, no further ``apart`` than that."""
    place = last - 1
    while place >= 0 and begins[last] - ends[place] <= apart:
        if urgency[place] < own:
            if begins[last] < ends[place]:
                break
            last = place
        place -= 1
    return last
