"""What runs that drain a buffer say of it: how many items they took, and where their time is too short for that."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement
from tachys.checking.board.unseen import unseen_routines
from tachys.model.acts import Drain
from tachys.model.events import Thing
from tachys.model.nodes import Isr, Step
from tachys.needs.kinds import Need
from tachys.stretches import place_of


def taken(board: Measurement, about: Thing, drains: Drain, runs: int) -> tuple[Instants, Instants]:
    """How many items each whole run took, at least and at most."""
    least, most = np.full(runs, drains.items.least, np.int64), np.full(runs, drains.items.most, np.int64)
    filled, bodies = board.buffers.get(drains.buffer), board.shown.bodies[about]
    if filled is not None and len(filled.starts):
        begun = bodies.start[bodies.whole]
        place = np.minimum(place_of(filled.starts, begun), len(filled.starts) - 1)
        known = filled.starts[place] == begun
        least[known], most[known] = filled.least[place[known]], filled.most[place[known]]
    return least, most


def come_meanwhile(board: Measurement, about: Thing, drains: Drain, runs: int) -> Instants:
    """How many items came during each whole run, which one that goes on until nothing is in would have taken."""
    filled, bodies = board.buffers.get(drains.buffer), board.shown.bodies[about]
    if filled is None:
        return np.zeros(runs, np.int64)
    ends = place_of(filled.puts, bodies.end[bodies.whole] + board.resolution, behind=True)
    return ends - place_of(filled.puts, bodies.start[bodies.whole] - board.resolution)


OWN_LONGER = ("cost-longer", "each-longer", "nth-longer")


def unshown_on_top(board: Measurement, thing: Thing) -> list[Thing]:
    """The routines that may run on top of a body, of which no line shows when they do: its time holds theirs too."""
    body, nesting = board.system.nodes[thing], board.system.core.nesting
    unseen = unseen_routines(board.paper, board.shown)
    return [isr.thing for isr in unseen if not isinstance(body, Isr) or (nesting and isr.urgency < body.urgency)]


class TookFewer(Struct, frozen=True):
    """A run of ``drain``, at ``at`` ps, that was done too soon for the ``came`` items that were in."""

    buffer: str
    drain: Thing
    at: int
    came: int
    at_most: int


def took_fewer(board: Measurement) -> Iterator[TookFewer]:
    """Of each buffer the run that most surely took fewer items than had come: it may hold less than it is written."""
    for buffer in board.system.buffers:
        drain = board.system.graph.drain[buffer.name]
        if not isinstance(drain, Isr | Step) or drain.drains is None or buffer.name not in board.buffers:
            continue
        own = board.isrs[drain.name].cost if isinstance(drain, Isr) else board.steps[drain.name].own
        each, bodies = drain.drains.each.least, board.shown.bodies.get(drain.thing)
        if own is None or not len(own.most) or not each or bodies is None:
            continue
        least, _ = taken(board, drain.thing, drain.drains, len(own.most))
        slack = board.stretched(int(own.most.max()))
        fits = np.maximum(0, own.most + slack - drain.cost_first.least) // each
        wrong = np.flatnonzero(fits < least)
        if len(wrong):
            place = int(wrong[np.argmax(least[wrong] - fits[wrong])])
            at = int(bodies.start[bodies.whole][place])
            yield TookFewer(buffer.name, drain.thing, at, int(least[place]), int(fits[place]))


class Overfull(Struct, frozen=True):
    """Items that were surely lost (``lost``), or more in at once than can be, first at ``at`` ps; wanted since then."""

    buffer: str
    lost: bool
    modelled: int
    seen: int
    wanted: int
    at: int


def overfull(board: Measurement) -> Iterator[Overfull]:
    """The buffers that hold more than the bounds allow, or lose what they never should."""
    for name, bound in board.paper.buffers.items():
        filled, lost = board.buffers.get(name), board.lost_items(name)
        if lost is not None and len(lost) and not bound.lost:
            at = int(lost[0])
            yield Overfull(name, True, 0, len(lost), board.wanted_before(name, at)[1], at)
        elif filled is None:
            continue
        elif bound.level is not None and filled.deepest > bound.level:
            at = filled.deepest_at
            yield Overfull(name, False, bound.level, filled.deepest, filled.wanted_before(at), at)


def rests_on(board: Measurement, need: Need, buffer: str) -> bool:
    """Whether what paper says of a need hangs on how much a buffer holds."""
    if need.measures == "number":
        return need.waits == f"buffer.{buffer}"
    follows = need.follows
    links = None if follows is None else board.system.graph.chain(follows.begins, follows.ends)
    return any(link.kind == "drains" and link.flag == buffer for link in links or ())
