"""From a pin back to the first instruction and on to the last, where something ran on top in between.

A pin is written ``after`` so much CPU time of its body, and ``before_end``. What is more urgent may be accepted in
between: then all that it took, its entry and exit too, lies there as well.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.probes.buscodes import BACKGROUND, urgency_of
from tachys.checking.probes.lines import Bodies
from tachys.checking.probes.readings import Readings
from tachys.model.nodes import Core, Probe
from tachys.model.system import System
from tachys.stretches import joined, place_of


def take_off_what_ran_on_top(system: System, shown: Readings, off: int) -> None:
    """Put beginnings and ends of bodies to where their first and last instructions are; times are known to ``off``."""
    levels = {thing: urgency_of(system, thing) for thing in shown.bodies if thing.kind in ("isr", "step")}
    probes = {
        probe.body: probe for probe in system.probes if probe.body in levels and (probe.after or probe.before_end)
    }
    begins, ends = np.zeros((2, 0), np.int64)
    lowest = max((levels[thing] for thing in probes), default=-1)
    for level in sorted({each for each in levels.values() if each <= lowest}):
        mine = [thing for thing, each in levels.items() if each == level]
        for thing in mine if system.core.nesting or level == BACKGROUND else ():
            if thing in probes and len(begins):
                old = shown.bodies[thing]
                rows = _Rows.of(system.core, begins, ends, off)
                new, surely = _without(system.core, old, probes[thing], rows, off)
                shown.bodies[thing] = new
                begun = surely[int(new.cut_begin) :]
                for event, before, now in ((thing.start, old.begun, begun), (thing.end, old.ended, new.ended)):
                    if np.array_equal(shown.instants.get(event, ()), before):
                        shown.instants[event] = now
        if level < lowest:
            bodies = [shown.bodies[thing] for thing in mine]
            begins, ends = joined(
                np.concatenate([begins, *(each.start for each in bodies)]),
                np.concatenate([ends, *(each.end for each in bodies)]),
            )


class _Rows(Struct, frozen=True):
    """What ran on top, in rows of what follows by a chain, so that nothing less urgent surely ran in between.

    ``least`` is how much of each row it surely was, if what it held up did go on in between.
    """

    begins: Instants
    ends: Instants
    least: Instants

    @classmethod
    def of(cls, core: Core, begins: Instants, ends: Instants, off: int) -> _Rows:
        """Those of bodies, which are known to ``off``."""
        gaps = begins[1:] - ends[:-1]
        first = np.append(True, gaps > core.chain.most + off)
        least = ends - begins - off
        least[1:] += np.where(first[1:], 0, np.minimum(gaps, core.exit.least + core.entry.least))
        return cls(begins[first], ends[np.append(first[1:], True)], np.add.reduceat(least, np.flatnonzero(first)))


def _without(core: Core, bodies: Bodies, probe: Probe, rows: _Rows, off: int) -> tuple[Bodies, Instants]:
    """Bodies with all that was accepted between an instruction and its pin taken off, and when they surely had begun.

    What goes on does so an exit behind the other, less what it has done before. What had been accepted, but had not
    begun, goes on just so: its body is taken to have begun, which changes nothing of its own time, unless that could
    not be told; its first instruction is not. Nor is that taken to be sooner than what ran on top surely lasted.
    """
    follows, quickest = core.follows.least, core.entry.least + core.exit.least
    aside = (quickest + core.entry.most + core.exit.most) // 2

    begins, ends = rows.begins, rows.ends

    def put_back(near: int, lasted: Instants) -> Instants:
        start = bodies.start.copy()
        for place in _close(start, ends, probe.after + off, near).tolist():
            if place >= int(bodies.cut_begin):
                pin = int(start[place]) + probe.after + off
                row = int(np.searchsorted(ends, pin)) - 1
                while row >= 0 and start[place] < ends[row] + near and ends[row] <= pin:
                    start[place] -= int(lasted[row])
                    row -= 1
        return start

    start, end = bodies.start, bodies.end.copy()
    begun = min(core.exit.least, follows) - off
    if probe.after:
        near = _between(core.exit.most, follows, off) if probe.after > off else begun
        start = put_back(near, ends - begins + aside)
    if probe.before_end:
        near = _between(core.entry.most, follows, off)
        last = len(end) - int(bodies.cut_end)
        for place in _close(-end[::-1], -begins[::-1], probe.before_end + off, near).tolist():
            place = len(end) - 1 - place
            if place < last:
                row = int(np.searchsorted(begins, end[place] - probe.before_end - off, side="right"))
                while row < len(begins) and begins[row] < end[place] + near:
                    end[place] += int(ends[row] - begins[row]) + aside
                    row += 1
    apart = start[1:] >= end[:-1]  # what does not fit is left as it is
    fits = np.append(True, apart) & np.append(apart, True)
    start = np.where(fits, start, bodies.start)
    surely = start
    if probe.after:
        surely = np.maximum(start, put_back(begun, rows.least + quickest))
    return replace(bodies, start=start, end=np.where(fits, end, bodies.end)), surely


def _between(goes_on: int, follows: int, off: int) -> int:
    """Up to how long behind what ran on top a body that it held up goes on, and is no other that follows."""
    return (goes_on + follows) // 2 if follows > goes_on else follows - off


def _close(starts: Instants, ends: Instants, after: int, near: int) -> Instants:
    """The places of those that lie less than ``near`` behind one of ``ends`` that is no later than their pin."""
    before = place_of(ends, starts + after) - 1
    found: Instants = np.flatnonzero((before >= 0) & (starts < ends[np.maximum(before, 0)] + near))
    return found
