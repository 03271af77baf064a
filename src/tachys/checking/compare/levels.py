"""Levels that are other ones than modelled: a routine began and ended within one that it would have to wait for.

While a routine runs, only what is more urgent begins and ends within it. That holds whatever else is wrong with a
model, so this is looked at first, and all else is measured with the levels as they were seen. These are not all known:
what may hang on the others is said to follow from them.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement, may_merge
from tachys.checking.compare.findings import symptoms_of
from tachys.checking.compare.sentences import sentence
from tachys.checking.compare.unmodelled import listed
from tachys.checking.result import Finding
from tachys.model.events import Thing
from tachys.model.nodes import Isr
from tachys.model.system import System
from tachys.stretches import place_of
from tachys.words import count_text

MOST_FOLLOWED = 40  # routines whose order is looked at
LEVELS = ("level-other", "nests")  # the codes of what is said of them
_FOLLOW = ("runs-too-often", "lost-unexpected", "overwritten-unexpected", "items-lost", "level-more", "not-modelled")

Pair = tuple[str, str]  # (who ran within, whom it interrupted)


class OtherLevel(Struct, frozen=True):
    """A routine on another level than modelled, or a core that lets routines nest: ``why``, and when it first did."""

    about: Thing
    why: str
    at: int


def other_levels(board: Measurement) -> tuple[System, list[OtherLevel]]:
    """The system with the levels that were seen, and what is another than modelled."""
    system, found, seen = board.system, list[OtherLevel](), _Seen(board)
    urgency = {isr.name: isr.urgency for isr in system.isrs}
    forward = [thing.name for thing in board.forward if thing.kind == "isr"][:MOST_FOLLOWED]
    flat = not system.core.nesting
    left = {(a, b) for a in forward for b in urgency if a != b and (flat or urgency[a] >= urgency[b])}
    left = {pair for pair in left if len(seen.of(*pair))}
    if flat and left:
        mine = sorted(left)
        one, other = max(mine, key=lambda pair: len(seen.of(*pair)))
        why = f"isr.{one} interrupted isr.{other}, and {_often(seen, mine)} in all one interrupted another"
        found.append(OtherLevel(Thing("core"), why, seen.first(mine)))
        left = {(a, b) for a, b in left if urgency[a] >= urgency[b]}
    while left:
        name, rises, level = _best(seen, left, urgency)
        was, urgency[name] = urgency[name], level
        mine = sorted(pair for pair in left if pair[1 - rises] == name and urgency[pair[0]] < urgency[pair[1]])
        if not flat or any(urgency[pair[rises]] != was for pair in mine):
            beside, often = listed([f"isr.{pair[rises]}" for pair in mine]), _often(seen, mine)
            why = f"it interrupted {beside}, {often}, no less urgent by the model"
            if not rises:
                why = f"{beside} interrupted it, {often}, no more urgent by the model"
            found.append(OtherLevel(Thing(f"isr.{name}"), why, seen.first(mine)))
        left = {(a, b) for a, b in left.difference(mine) if urgency[a] >= urgency[b]}
    if not found:
        return system, found
    isrs = (replace(isr, urgency=urgency[isr.name]) for isr in system.isrs)
    return replace(system, core=replace(system.core, nesting=True)).ranked(isrs), found


def _often(seen: _Seen, pairs: Iterable[Pair]) -> str:
    return count_text(sum(len(seen.of(*pair)) for pair in pairs), "time")


def _best(seen: _Seen, left: set[Pair], urgency: dict[str, int]) -> tuple[str, bool, int]:
    """(whose level, whether it rises, to which one) accounts for most that was seen, and speaks against least."""
    tried = []
    for name in sorted({name for pair in left for name in pair}):
        above, below = [a for a, b in left if b == name], [b for a, b in left if a == name]
        if above:
            level = max(urgency[a] for a in above) + 1
            against = [b for b in urgency if urgency[name] < urgency[b] <= level and len(seen.of(name, b))]
            tried.append((len(against), -len(above), False, name, level))
        if below:
            level = min(urgency[b] for b in below) - 1
            against = [a for a in urgency if level <= urgency[a] < urgency[name] and len(seen.of(a, name))]
            tried.append((len(against), -len(below), True, name, level))
    _, _, rises, name, level = min(tried)
    return name, rises, level


class _Seen:
    """Who was seen to begin and end within whom."""

    def __init__(self, board: Measurement) -> None:
        self._board = board
        self._known: dict[Pair, Instants] = {}
        self._shared = {name for group, _ in board.shown.shared for name in group}

    def first(self, pairs: Iterable[Pair]) -> int:
        """When any of them did first."""
        return min(int(self.of(*pair)[0]) for pair in pairs)

    def of(self, inner: str, outer: str) -> Instants:
        """When one surely began within the other, and ended there too."""
        if (inner, outer) not in self._known:
            self._known[inner, outer] = self._look(self._board.system.isr(inner), self._board.system.isr(outer))
        return self._known[inner, outer]

    def _look(self, inner: Isr, outer: Isr) -> Instants:
        board, off = self._board, self._board.resolution
        small, large = (board.shown.bodies.get(isr.thing) for isr in (inner, outer))
        if small is None or large is None or not len(large.start) or {inner.thing, outer.thing} & self._shared:
            return np.zeros(0, np.int64)
        after, before_end = board.system.written.get(outer.thing, (0, 0))
        begun, ended = small.start[small.whole], small.end[small.whole]
        at = place_of(large.start, begun - off - after) - 1
        first, rest = begun - large.start[at] - after, large.end[at] - before_end - ended
        within = (at >= 0) & (first > off) & (rest > off) & (ended - begun + off >= inner.shortest)
        if may_merge(board, outer.thing):  # it may have been two runs of the other, one before and one behind it
            within &= (first + off < outer.shortest) | (rest + off < outer.shortest)
        found: Instants = begun[within]
        return found


def with_levels(
    others: Iterable[OtherLevel], before: Measurement, board: Measurement, findings: tuple[Finding, ...]
) -> tuple[Finding, ...]:
    """All findings, those of levels first: the needs that fall, and what they explain, stand at the first of them."""
    needs, seen = before.paper.needs, board.paper.needs
    falls = tuple(name for name, need in needs.items() if need.proved and not seen[name].proved)
    hang = tuple(each for each in findings if each.code in _FOLLOW or each.code.endswith("-beyond-bound"))
    left = tuple(each for each in findings if each not in hang)
    odd = {each.about for each in symptoms_of(before, before.paper)} | {each.about for each in hang}
    explains, found = tuple(sorted(odd - {"core", *(each.about for each in left)})), []
    for other in others:
        code = LEVELS[other.about == "core"]
        found.append(Finding(code, other.about, sentence(code, other.why), None, None, falls, explains, other.at))
        falls, explains = (), ()
    return (*found, *left)
