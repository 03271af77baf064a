"""From a pin back to the first instruction and on to the last, where something ran on top in between.

A pin is written ``after`` so much CPU time of its body, and ``before_end``. What is more urgent may be accepted in
between: then all that it took, its entry and exit too, lies there as well.
"""

from __future__ import annotations

import numpy as np
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
                new = _without(system.core, old, probes[thing], *_in_rows(system.core, begins, ends, off), off)
                shown.bodies[thing] = new
                for event, before, now in ((thing.start, old.begun, new.begun), (thing.end, old.ended, new.ended)):
                    if np.array_equal(shown.instants.get(event, ()), before):
                        shown.instants[event] = now
        if level < lowest:
            bodies = [shown.bodies[thing] for thing in mine]
            begins, ends = joined(
                np.concatenate([begins, *(each.start for each in bodies)]),
                np.concatenate([ends, *(each.end for each in bodies)]),
            )


def _in_rows(core: Core, begins: Instants, ends: Instants, off: int) -> tuple[Instants, Instants]:
    """What follows by a chain as one: nothing less urgent runs in between."""
    first = np.append(True, begins[1:] > ends[:-1] + core.chain.most + off)
    return begins[first], ends[np.append(first[1:], True)]


def _without(core: Core, bodies: Bodies, probe: Probe, begins: Instants, ends: Instants, off: int) -> Bodies:
    """Bodies with all that was accepted between an instruction and its pin taken off."""
    start, end = bodies.start.copy(), bodies.end.copy()
    aside = (core.entry.least + core.entry.most + core.exit.least + core.exit.most) // 2
    if probe.after:
        # what begins behind the other does so a chain after it, what goes on an exit after it; what had been accepted,
        # but not begun, as the other was, is taken to have begun: that is as soon as it can
        near = _between(core.exit.most, core.chain.least, off)
        for place in _close(start, ends, probe.after, near).tolist():
            if place >= int(bodies.cut_begin):
                row, pin = int(np.searchsorted(ends, start[place] + probe.after)) - 1, int(start[place]) + probe.after
                while row >= 0 and start[place] < ends[row] + near and ends[row] <= pin:
                    start[place] -= int(ends[row] - begins[row]) + aside
                    row -= 1
    if probe.before_end:
        near = _between(core.entry.most, core.chain.least, off)
        last = len(end) - int(bodies.cut_end)
        for place in _close(-end[::-1], -begins[::-1], probe.before_end, near).tolist():
            place = len(end) - 1 - place
            if place < last:
                row = int(np.searchsorted(begins, end[place] - probe.before_end, side="right"))
                while row < len(begins) and begins[row] < end[place] + near:
                    end[place] += int(ends[row] - begins[row]) + aside
                    row += 1
    apart = start[1:] >= end[:-1]  # what does not fit is left as it is
    fits = np.append(True, apart) & np.append(apart, True)
    return replace(bodies, start=np.where(fits, start, bodies.start), end=np.where(fits, end, bodies.end))


def _between(goes_on: int, chained: int, off: int) -> int:
    """Up to how long behind what ran on top a body that it held up goes on, and is no other that follows by a chain."""
    return (goes_on + chained) // 2 if chained > goes_on else chained - off


def _close(starts: Instants, ends: Instants, after: int, near: int) -> Instants:
    """The places of those that lie less than ``near`` behind one of ``ends`` that is no later than their pin."""
    before = place_of(ends, starts + after) - 1
    found: Instants = np.flatnonzero((before >= 0) & (starts < ends[np.maximum(before, 0)] + near))
    return found
