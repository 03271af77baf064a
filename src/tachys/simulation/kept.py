"""Which records a run keeps: all of them, or those that its needs are read from.

What needs look at stands in ``follow``: the records of whatever lies on the way from an event to its answer, and of all
that may bring that about. Some of it is told by which record comes next; what comes between is kept, then.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from tachys.model.events import Event, Thing
from tachys.model.nodes import Isr, Unit
from tachys.model.system import System
from tachys.needs.kinds import Need
from tachys.simulation import layout as at
from tachys.simulation.index import Index

Kept = Mapping[int, frozenset[int] | None]  # of which kinds, and of which things of each; None: of all
EVERYTHING: Kept = dict.fromkeys(range(at.KINDS))
_OF_LOAD = (at.ACCEPT, at.BACK, at.HALTS, at.STEP_PHASE, at.PASS)
_OF_LANES = (at.WAKES, at.HOLD_FROM, at.HOLD_TO, at.ASKED, at.PIN_MOVED, at.PIN_PULSED)
_OF_UNITS = (at.UNIT_START, at.UNIT_END, at.UNIT_LOST, at.UNIT_OFF, at.UNIT_SILENT)
_BY_THEMSELVES = ("source", "unit", "isr", "step", "flag")
_OF_STEPS = (at.STEP_START, at.STEP_END, at.FLAG_SET, at.FLAG_TAKEN, at.FLAG_OVER)


def kept_for(system: System, index: Index, needs: Sequence[Need]) -> Kept:
    """What these needs are read from; nothing where counters tell all of them."""
    needs = [need for need in needs if need.of_records]
    if not needs:
        return {}
    of_load: Kept = dict.fromkeys((*_OF_LOAD, at.STEP_END) if any(need.window is not None for need in needs) else ())
    things = _looked_at(system, needs)
    if any(thing.kind not in _BY_THEMSELVES for thing in things):  # items come and go with everything
        return {**dict.fromkeys(set(EVERYTHING) - {*_OF_LANES, *_OF_LOAD}), **of_load}
    kept: dict[int, frozenset[int] | None] = {at.SOURCE: _numbers(index.sources, things, "source")}
    kept |= dict.fromkeys(_OF_UNITS, _numbers(index.units, things, "unit"))
    rows = [(number, system.isr(name)) for number, (name, _) in enumerate(index.rows) if Thing(f"isr.{name}") in things]
    kept |= dict.fromkeys((at.START, at.LAST, at.LOST, at.CLEARED), frozenset(number for number, _ in rows))
    kept[at.TAKEN] = frozenset(number for number, isr in rows if isr.serves_all)
    kept[at.INNER] = frozenset(number for number, event in enumerate(index.inner) if event.thing in things)
    if any(thing.kind in ("step", "flag") for thing in things):  # which step takes a flag is told by the next to begin
        kept |= dict.fromkeys(_OF_STEPS)
    return {**kept, **of_load}


def _numbers(names: Sequence[str], things: Iterable[Thing], kind: str) -> frozenset[int]:
    return frozenset(names.index(thing.name) for thing in things if thing.kind == kind)


def _looked_at(system: System, needs: Iterable[Need]) -> set[Thing]:
    """The things on the ways that needs follow, and what starts or sets those, or drains into them."""
    found, new = set[Thing](), set[Thing]()
    for need in needs:
        new |= {event.thing for event in need.events}
        follows = need.follows
        links = None if follows is None else system.graph.chain(follows.begins, follows.ends)
        for link in links or ():
            new |= {link.before.thing, link.after.thing}
            new |= {Thing(f"buffer.{link.flag}")} if link.kind == "drains" else set()
            new |= {Thing(f"flag.{link.flag}")} if link.kind == "sets" else set()
    while new:
        found |= new
        new = {event.thing for thing in new for event in _causes(system, thing)} - found
    return found


def _causes(system: System, thing: Thing) -> Iterable[Event]:
    node = system.nodes.get(thing)
    if isinstance(node, Isr):
        return node.on if node.drains is None else (*node.on, Event(f"buffer.{node.drains.buffer}"))
    if isinstance(node, Unit):
        return node.on if node.drains is None else (*node.on, Event(f"buffer.{node.drains}"))
    return ()
