"""Levels and orders of the routines with which every need holds, with few changes; or why there are none.

Where what a routine comes to hangs only on which routines are above it and which below, not on their order among
themselves, the optimal assignment of Audsley (Optimal priority assignment and feasibility of static priority tasks
with arbitrary start times, University of York, YCS 164, 1991) decides: the last place goes to any routine that can bear
it, and so on upwards; where none can, no order does. That is so for routines behind sources of their own, each on a
level of its own, with needs of single routines. Else orders are searched, the fewest changes first, and only a search
that has seen all of them is a proof. Every assignment that is given was judged by the bounds.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping
from fractions import Fraction
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from tachys.model.system import System
from tachys.needs.kinds import NeedBounds
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

Place = tuple[int, int]  # urgency, and the order among those of one level
Places = dict[str, Place]
USUAL_TRIES = 4000
_ALL_OF = 3000  # assignments: so many are all tried
_ALL_BESIDE = 400  # the same where it is known that none does with a level for each
_CLIMBS = 40
_NO_BOUND = -1e9  # below any room
_MANY = 60  # routines times levels: beyond that the first assignment that holds is taken


class Moved(Struct, frozen=True):
    """A routine whose level or order changes, as the model writes them."""

    isr: str
    level: tuple[int, int]
    order: tuple[int, int]


class NeedRoom(Struct, frozen=True):
    """A need before and after: how much of its limit is left, as a share of it; None where there is no bound."""

    name: str
    before: float | None
    after: float | None


class Priorities(Struct, frozen=True):
    """``moved`` is what changes; ``found`` whether every need holds with it.

    ``told`` says why not, or how it was found; ``proved``: where none was found, that there is none.
    """

    found: bool
    moved: tuple[Moved, ...]
    rooms: tuple[NeedRoom, ...]
    told: str
    proved: bool
    tried: int

    @property
    def settings(self) -> tuple[str, ...]:
        """The changes as settings."""
        found = []
        for each in self.moved:
            for key, (was, now) in (("level", each.level), ("order", each.order)):
                if was != now:
                    found.append(f"isr.{each.isr}.{key}={now}")
        return tuple(found)


def priorities_of(
    system: System, *, most_room: bool = False, tries: int = USUAL_TRIES, told: Callable[[float], None] | None = None
) -> Priorities:
    """Find levels and orders; with ``most_room`` those with the most room in the need that has least."""
    search = _Search(system, tries, told)
    now = search.now
    if not search.needs:
        return search.result(now, "no need is about what routines do")
    held = search.holds(now)
    if held and not most_room:
        return search.result(now, "every need holds as it is")
    found = now if held else search.nearest(1)
    how, why = "the fewest changes that were found", ""
    if found is None and search.optimal:
        found = search.audsley()
        if found is None:
            why = search.why_none()
            # groups of one level make no difference to a core that does not nest, and help nobody above all others
            if not system.core.nesting or search.hopeless:
                return search.result(now, f"no order can do it: {why}", proved=True)
        else:
            found = search.nearest(2) or found
    elif found is None:
        found = search.nearest(2)
    if found is None:
        every = search.all_of_them(_ALL_BESIDE if why else _ALL_OF)
        climbed = search.climb(now) if every is None else now
        found = climbed if search.holds(climbed) else next((each for each in every or () if search.holds(each)), None)
        if found is None and every is not None:
            return search.result(now, f"no order can do it, all were tried{': ' * bool(why)}{why}", proved=True)
        if found is None:
            alone = f"with a level of its own for each no order can do it: {why}; " if why else ""
            return search.result(now, f"{alone}no other was found in {search.tried} tries")
    found = search.closer(found)
    if most_room:
        found, how = search.climb(found, onwards=True), "the most room that was found"
    return search.result(found, how)


class _Search:
    """All that is known of one model's assignments."""

    def __init__(self, system: System, tries: int, told: Callable[[float], None] | None) -> None:
        self.system = system
        self.now: Places = {isr.name: (isr.urgency, isr.order) for isr in system.isrs}
        self._line = _lines(system)
        self._need = {need.name: need for need in system.needs}
        self._late: set[str] = set()
        self.hopeless = False  # a routine fits nowhere
        self.stuck: list[tuple[str, float]] = []  # of the routines left, none can come last: what each lacks there
        self.tried = 0
        self._most = tries
        self._told = told
        self._known: dict[tuple[tuple[str, int], ...], Bounds] = {}
        self.needs = tuple(need.name for need in system.needs if need.measures in ("time", "number"))
        self.fixed = tuple(need.name for need in system.needs if need.measures not in ("time", "number"))
        fallen = self.bounds(self.now).needs
        self._late |= {self._owner(name) for name in self.needs if not fallen[name].proved}  # these are moved first

    # --- judging ---

    def bounds(self, places: Mapping[str, Place]) -> Bounds:
        """The bounds of an assignment; two that put the routines in the same groups are the same."""
        order = sorted(places, key=lambda name: (places[name], self._line[name]))
        key = tuple((name, places[name][0]) for name in order)
        if key not in self._known:
            self.tried += 1
            self._known[key] = bounds_of(placed(self.system, places), ())
            if self._told is not None:
                self._told(min(1.0, self.tried / self._most))
        return self._known[key]

    def holds(self, places: Mapping[str, Place]) -> bool:
        """Whether every need is proved; those of load are left out that no order can help."""
        needs = self.bounds(places).needs
        return all(needs[name].proved for name in self.needs)

    def room(self, places: Mapping[str, Place]) -> tuple[float, float]:
        """(the least room of a need, the sum of what is missing): more is better."""
        rooms = [room_of(self.bounds(places).needs[name]) for name in self.needs]
        return _least(rooms), sum(min(0.0, -1e3 if room is None else room) for room in rooms)

    # --- few changes ---

    def nearest(self, count: int) -> Places | None:
        """So many routines moved, of all that hold the one with the most room; None where none does."""
        best: tuple[tuple[float, float], Places] | None = None
        for places in self._moved(self.now, count):
            if self.tried >= self._most:
                break
            if self.holds(places):
                if len(self.now) * self.system.core.levels > _MANY:
                    return places  # the first that does
                entry = (self.room(places), places)
                best = entry if best is None or entry[0] > best[0] else best
        return best[1] if best else None

    def _moved(self, places: Places, count: int) -> Iterator[Places]:
        names = sorted(places, key=lambda name: name not in self._late)
        if count == 2 and len(names) * self.system.core.levels > _MANY:  # too many pairs: only those that change places
            for first, second in itertools.combinations(names, 2):
                yield {**places, first: places[second], second: places[first]}
            return
        for chosen in itertools.combinations(names, count):
            for spots in itertools.product(*(self._spots(places, name) for name in chosen)):
                yield {**places, **dict(zip(chosen, spots, strict=True))}

    def _spots(self, places: Places, name: str) -> Iterator[Place]:
        """Every level, first and last of those on it."""
        for level in range(self.system.core.levels):
            orders = [order for other, (urgency, order) in places.items() if urgency == level and other != name]
            spots = {places[name][1]} if not orders else {min(orders) - 1, max(orders) + 1}
            yield from ((level, order) for order in sorted(spots) if (level, order) != places[name])

    def closer(self, places: Places) -> Places:
        """The same with every change taken back that can be."""
        kept = dict(places)
        for name in sorted(kept, key=lambda name: abs(kept[name][0] - self.now[name][0])):
            if kept[name] != self.now[name]:
                level, order = kept[name][0], self.now[name][1]
                for place in (self.now[name], (level, order)):
                    if self.holds({**kept, name: place}):
                        kept[name] = place
                        break
        return kept

    def climb(self, places: Places, *, onwards: bool = False) -> Places:
        """One move after the other, each the one that gives most room, until none gives more."""
        best, room = places, self.room(places)
        for _ in range(_CLIMBS):
            if self.tried >= self._most or (not onwards and self.holds(best)):
                break
            step = max(((self.room(each), number, each) for number, each in enumerate(self._moved(best, 1))),
                       key=lambda entry: (entry[0], -entry[1]), default=None)  # fmt: skip
            if step is None or step[0] <= room:
                break
            room, _, best = step
        return best

    # --- optimal assignment ---

    @property
    def optimal(self) -> bool:
        """Whether Audsley's assignment decides: see above."""
        system = self.system
        one_each = system.core.levels >= len(system.isrs) or not system.core.nesting
        plain = all(event.kind == "source" for isr in system.isrs for event in isr.on)
        own = all(len(system.graph.causes.get(isr.thing, ())) == 1 for isr in system.isrs)
        single = all(self._owner(name) for name in self.needs)
        return one_each and plain and own and single and not (self._guarded or system.core.late_arrival)

    def _owner(self, name: str) -> str:
        """The routine that alone a need is of; empty where it is of more, or of something else."""
        need = self._need[name]
        follows = need.follows
        if follows is not None:
            ends = follows.ends.thing
            from_it = follows.begins.kind == "source" and follows.begins in self.system.graph.causes.get(ends, ())
            return ends.name if ends.kind == "isr" and from_it else ""
        of = str(getattr(need, "of", ""))
        kind, _, rest = of.partition(".")
        return rest.partition(".")[0] if kind == "isr" else ""

    def _needs_of(self, isr: str) -> list[str]:
        return [name for name in self.needs if self._owner(name) == isr]

    def _in_order(self, names: list[str]) -> Places:
        """The routines in this order, the most urgent first, each on a level of its own where there are enough."""
        levels = self.system.core.levels
        if levels < len(names):  # a core that does not nest: only the order of acceptance counts
            return {name: (0, place) for place, name in enumerate(names)}
        chosen = _keeping([self.now[name][0] for name in names], levels)
        return {name: (level, self.now[name][1]) for name, level in zip(names, chosen, strict=True)}

    def audsley(self) -> Places | None:
        """The optimal assignment; None where there is none."""
        left = [isr.name for isr in self.system.isrs]
        below: list[str] = []
        while left:
            found = None
            self.stuck = []
            for name in reversed(left):  # whoever is least urgent now stays so if it can
                above = [other for other in left if other != name]
                rooms = self._rooms_of(name, self._in_order([*above, name, *below]))
                if all(proved for _, proved in rooms):
                    found = name
                    break
                self.stuck.append((name, _least(room for room, _ in rooms)))
            if found is None:
                return None
            left.remove(found)
            below.insert(0, found)
        return self._in_order(below)

    def _rooms_of(self, isr: str, places: Places) -> list[tuple[float | None, bool]]:
        needs = self.bounds(places).needs
        return [(room_of(needs[name]), needs[name].proved) for name in self._needs_of(isr)]

    def why_none(self) -> str:
        """Which routine fits nowhere, and by how much."""
        for isr in self.system.isrs:
            others = [other.name for other in self.system.isrs if other.name != isr.name]
            rooms = self._rooms_of(isr.name, self._in_order([isr.name, *others]))
            if not all(proved for _, proved in rooms):
                self.hopeless = True
                return f"isr.{isr.name} fits nowhere, even above all others it {self._by(rooms)}"
        name, room = max(self.stuck, key=lambda entry: entry[1])
        names = ", ".join(f"isr.{each}" for each, _ in reversed(self.stuck))
        by = "there it has no bound" if room <= _NO_BOUND else f"{-room * 100:.1f} % beyond its limit"
        return f"of {names} none can come after the others; isr.{name} comes nearest, {by}"

    @staticmethod
    def _by(rooms: list[tuple[float | None, bool]]) -> str:
        least = _least(room for room, proved in rooms if not proved)
        return "has no bound" if least <= _NO_BOUND else f"is {-least * 100:.1f} % beyond its limit"

    # --- all of them ---

    def all_of_them(self, most: int) -> list[Places] | None:
        """Every assignment there is; None where these are too many."""
        names, levels = list(self.now), self.system.core.levels
        if len(names) > 6:
            return None
        found: list[Places] = []
        for order in itertools.permutations(names):
            for cuts in itertools.product((False, True), repeat=len(names) - 1):
                if sum(cuts) >= levels:
                    continue
                groups: list[list[str]] = [[order[0]]]
                for name, cut in zip(order[1:], cuts, strict=True):
                    groups.append([name]) if cut else groups[-1].append(name)
                numbers = itertools.combinations(range(levels), len(groups))
                for chosen in numbers if self._guarded else itertools.islice(numbers, 1):
                    found.append({name: (level, place) for level, group in zip(chosen, groups, strict=True)
                                  for place, name in enumerate(group)})  # fmt: skip
                    if len(found) > most:
                        return None
        return found

    @property
    def _guarded(self) -> bool:
        """Whether the numbers of the levels matter, not only their order."""
        return any(isr.guards for isr in self.system.isrs) or any(step.guards for step in self.system.steps)

    # --- what is told ---

    def result(self, places: Places, told: str, *, proved: bool = False) -> Priorities:
        """An assignment beside that of today."""
        before, after = self.bounds(self.now).needs, self.bounds(places).needs
        text = self.system.core.level_text
        moved = tuple(
            Moved(name, (text(self.now[name][0]), text(places[name][0])), (self.now[name][1], places[name][1]))
            for name in self.now
            if places[name] != self.now[name]
        )
        rooms = tuple(NeedRoom(name, room_of(before[name]), room_of(after[name])) for name in before)
        lacking = [name for name in self.fixed if not after[name].proved]
        if lacking:
            told = f"{told}; {', '.join(lacking)} is a load, which no order changes"
        found = all(need.proved for need in after.values())
        return Priorities(found, moved, rooms, told, proved, self.tried)


def _least(rooms: Iterable[float | None]) -> float:
    """The least of some rooms; ``_NO_BOUND`` where one has no bound."""
    return min((_NO_BOUND if room is None else room for room in rooms), default=0.0)


def _keeping(now: list[int], levels: int) -> list[int]:
    """Ascending levels for places in order, as many of them as can be those of today."""
    count = len(now)
    best: dict[tuple[int, int], tuple[int, tuple[int, ...]]] = {}

    def chosen(place: int, least: int) -> tuple[int, tuple[int, ...]]:
        if place == count:
            return 0, ()
        if (place, least) not in best:
            entries = []
            for level in range(least, levels - (count - place) + 1):
                kept, rest = chosen(place + 1, level + 1)
                entries.append((kept + (level == now[place]), (level, *rest)))
            best[place, least] = max(entries, key=lambda entry: (entry[0], [-level for level in entry[1]]))
        return best[place, least]

    return list(chosen(0, 0)[1])


def _lines(system: System) -> dict[str, int]:
    """The place of each routine in the file, which decides among those of one level and order."""
    written = {name: number for number, name in enumerate(name for name in system.places if name.startswith("isr."))}
    return {isr.name: written.get(isr.thing, isr.rank) for isr in system.isrs}


def placed(system: System, places: Mapping[str, Place]) -> System:
    """The same model with its routines on other levels and in another order."""
    line = _lines(system)
    isrs = sorted(system.isrs, key=lambda isr: line[isr.name])
    return system.ranked(replace(isr, urgency=places[isr.name][0], order=places[isr.name][1]) for isr in isrs)


def room_of(need: NeedBounds) -> float | None:
    """How much of its limit a need has left on paper, as a share of it; None where there is no bound."""
    if need.bound is None:
        return None
    if not need.limit:
        return 0.0 if need.bound <= 0 else -float(need.bound)
    return 1 - float(Fraction(need.bound) / Fraction(need.limit))


def priorities_data(found: Priorities) -> dict[str, Any]:
    """As JSON."""
    return {
        "format": "tachys.priorities/1",
        "found": found.found,
        "told": found.told,
        "proved": found.proved,
        "tried": found.tried,
        "moved": [{"isr": each.isr, "level": list(each.level), "order": list(each.order)} for each in found.moved],
        "needs": {need.name: {"before": need.before, "after": need.after} for need in found.rooms},
    }
