"""Routines that drive one line: each stretch of activity is given to the one that had an event waiting for it."""

from __future__ import annotations

import numpy as np

from tachys.capture.table import Instants
from tachys.checking.probes.lines import Bodies
from tachys.checking.probes.readings import Readings
from tachys.model.nodes import Core
from tachys.model.system import System
from tachys.stretches import NEVER


def deal_shared(system: System, shown: Readings, resolution: int) -> None:
    """Give the bodies of every shared line to its routines, the most urgent with an event waiting first.

    A routine whose events no line shows takes what is left; of two such nothing can be told.
    """
    for names, bodies in shown.shared:
        order = [isr.thing for isr in system.isrs if isr.thing in names]
        events = {name: shown.all_of(system.isr(name.name).on) for name in order}
        blind = [name for name in order if events[name] is None]
        if len(blind) > 1:
            shown.remarks.append(f"{' and '.join(blind)} share a line and no line shows their events: not told apart")
            continue
        seeing = [name for name in order if name not in blind]
        owner = _deal(system.core, bodies, [each for each in events.values() if each is not None], resolution)
        for number, name in enumerate([*seeing, *blind]):
            mine = owner == (number if number < len(seeing) else -1)
            if not blind and number == 0:
                mine |= owner == -1
            shown.bodies[name] = Bodies(
                bodies.start[mine], bodies.end[mine],
                cut_begin=bodies.cut_begin and bool(mine[:1].any()), cut_end=bodies.cut_end and bool(mine[-1:].any()),
            )  # fmt: skip
            shown.instants[name.start] = shown.bodies[name].begun
            shown.instants[name.end] = shown.bodies[name].ended


def _deal(core: Core, bodies: Bodies, queues: list[Instants], off: int) -> Instants:
    """The place of the routine that each body belongs to; -1 where none had an event waiting.

    An event that is seen just behind the beginning of a body is its own where no other follows as soon as one would:
    an entry may be shorter than what sampling leaves open (``off`` ps), or than it is modelled.
    """
    owner = np.full(len(bodies.start), -1, np.int64)
    served = [0] * len(queues)
    soon = np.append(bodies.end[:-1] + core.follows.most + off >= bodies.start[1:], False)
    following = np.append(bodies.start[1:], NEVER).tolist()
    for place, start in enumerate(bodies.start.tolist()):
        for number, queue in enumerate(queues):
            come = int(np.searchsorted(queue, start - core.least_latency + off, side="right"))
            if come > served[number]:
                served[number] = come  # what came meanwhile was one mark
                owner[place] = number
                break
        else:
            for number, queue in enumerate(queues) if not soon[place] else ():
                event = int(queue[served[number]]) if served[number] < len(queue) else NEVER
                if event <= start + off + core.entry.most and following[place] > event + core.entry.most + off:
                    served[number] += 1
                    owner[place] = number
                    break
    return owner
