"""Which bodies (units, routines, steps) cause which others, and which of them form rings that feed themselves.

A ring in which a single primed unit starts the only token, and every member has one cause and one effect in the ring,
turns no faster than the least time of a whole round. That holds for the events that the token passes: the start of
every member, and its end or the moment within it from which the ring goes on; an end off the ring (the ring goes on
from the start, or from within) only follows one that is on it. Of any other ring only that is known what holds for each
member by itself: a unit ends no sooner after its last end than it takes, a routine costs what it costs.

A unit that what follows from it asks for the next item of a buffer goes round no more often than items are put: what it
works for stands on these alone, and where they do not come from the ring either, it is none.
"""

from __future__ import annotations

from msgspec import Struct, field

from tachys.model.events import Event, Thing
from tachys.model.system import System
from tachys.worstcase.errands import Errand, find_errands
from tachys.worstcase.laws import law_of


class Rings(Struct, frozen=True):
    """What is known of all rings.

    ``rounds``: least time in ps from one to the next, by the events on simple rings. ``turns``: the bodies of the ring
    that each of its bodies stands in, with the moment from which the ring goes on. ``tangled``: members of other rings.
    ``order``: all bodies, causes before what they cause, those that go round in a ring together. ``errands``: those of
    the loop, by flag. ``answered``: the events with which what follows from a unit asks it for its next item.
    ``plain``: nothing is followed through the loop, and nothing that it does by the clock set apart.
    """

    rounds: dict[Event, int] = field(default_factory=dict)
    turns: dict[Thing, dict[Thing, str]] = field(default_factory=dict)
    tangled: frozenset[Thing] = frozenset()
    order: tuple[tuple[Thing, ...], ...] = ()
    errands: dict[str, Errand] = field(default_factory=dict)
    answered: dict[Thing, tuple[Event, ...]] = field(default_factory=dict)
    plain: bool = False

    def has_one_token(self, body: Thing) -> bool:
        """Whether a routine or unit never has two to do: the only token of its ring, or the errand of a pass."""
        return self.passes_end(body) or any(
            body in (each.unit.thing, each.isr and each.isr.thing) for each in self.errands.values()
        )

    def passes_end(self, body: Thing) -> bool:
        """Whether the only token of a simple ring passes from the start to the end of a body: never two at once."""
        return body in self.turns and self.turns[body][body] == "end"


def find_rings(system: System, *, plain: bool = False) -> Rings:
    """All rings of a system, by plain rules on request."""
    causes = system.graph.causes
    below = {body: [event.thing for event in events if event.kind != "source"]
             for body, events in causes.items()}  # fmt: skip
    rounds: dict[Event, int] = {}
    turns: dict[Thing, dict[Thing, str]] = {}
    tangled: set[Thing] = set()
    answered = _answered(system, _components(below))
    for unit, events in answered.items():
        below[unit] = [event.thing for event in causes[unit] if event.kind != "source" and event not in events]
    order = _components(below)
    for group in order:
        if len(group) == 1 and group[0] not in below[group[0]]:
            continue
        through_loop = any(body.kind == "step" for body in group)
        left = {} if plain and through_loop else _left(system, group, causes, below)
        laws = {body: law_of(system, body) for body in left}
        least = sum(laws[body].least_way(moment) for body, moment in left.items())
        if least:
            for body, moment in left.items():
                passed = (body.start, Event(f"{body}.{moment}"))
                rounds |= {event: max(least, laws[body].apart(event)) for event in passed}
            turns |= dict.fromkeys(left, left)
        else:
            tangled |= set(group)
    errands = {} if plain else find_errands(system)
    return Rings(rounds, turns, frozenset(tangled), tuple(map(tuple, order)), errands, answered, plain)


def _answered(system: System, groups: list[list[Thing]]) -> dict[Thing, tuple[Event, ...]]:
    """The units that are asked by what goes round in a ring with them, and by which events: none that puts, too."""
    ring = {body: set(group) for group in groups for body in group}
    causes = system.graph.causes  # who puts, and who asks
    return {
        unit.thing: inside
        for unit in system.units
        if (inside := tuple(event for event in unit.asked_at
                            if event.thing in ring[unit.thing] and causes[unit.thing].count(event) == 1))
    }  # fmt: skip


def _left(
    system: System, group: list[Thing], causes: dict[Thing, tuple[Event, ...]], below: dict[Thing, list[Thing]]
) -> dict[Thing, str]:
    """The moment from which each member of a ring with one token goes on to the next; none if it is no such ring."""
    if any(not law_of(system, body).in_rings or len(causes[body]) != 1 for body in group):
        return {}
    if len({below[body][0] for body in group}) != len(group):
        return {}
    if sum(law_of(system, body).begins_alone for body in group) != 1:
        return {}
    goes_on = {causes[body][0].thing: causes[body][0].moment for body in group}
    return {} if "nth" in goes_on.values() else goes_on  # not each run goes on from there


def _components(below: dict[Thing, list[Thing]]) -> list[list[Thing]]:
    """The strongly connected groups (R. Tarjan, SIAM J. Computing 1, 1972), without recursion."""
    index: dict[Thing, int] = {}
    low: dict[Thing, int] = {}
    stack: list[Thing] = []
    on_stack: set[Thing] = set()
    groups: list[list[Thing]] = []
    for root in below:
        if root in index:
            continue
        work = [(root, iter(below[root]))]
        index[root] = low[root] = len(index)
        stack.append(root)
        on_stack.add(root)
        while work:
            body, following = work[-1]
            for other in following:
                if other not in index:
                    index[other] = low[other] = len(index)
                    stack.append(other)
                    on_stack.add(other)
                    work.append((other, iter(below[other])))
                    break
                if other in on_stack:
                    low[body] = min(low[body], index[other])
            else:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[body])
                if low[body] == index[body]:
                    group: list[Thing] = []
                    while not group or group[-1] != body:
                        group.append(stack.pop())
                        on_stack.discard(group[-1])
                    groups.append(group)
    return groups
