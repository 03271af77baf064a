"""Who runs on top of whom: all bodies of a capture put together in order of time, with a stack as the core has it.

The pin of a routine stays active while it is put aside. So of the span of a body, what ran on top of it and the entries
and exits of that are taken off, and what is left is its own. Entries and exits have no pin: how many there were follows
from the bodies, whether two followed each other by a chain is read off the gap between them, and where the gap does not
tell, the own time is known as a range.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.capture.table import Instants
from tachys.checking.probes.buscodes import BACKGROUND
from tachys.checking.probes.lines import Bodies
from tachys.compiled import int64, kernel, zeros
from tachys.model.nodes import Core

NOBODY = -1
FEW = 1 << 15  # bodies of which it is kept who runs when, as their own times are made
_SHORT = 1 << 15  # things that have a number of 16 bits


class ExecutionTimes(Struct, frozen=True):
    """Of every body of one thing: its own time [least, most] in ps, and how many others began on top of it."""

    least: Instants
    most: Instants
    interrupted: NDArray[np.int32]


class WhoRuns(Struct, frozen=True):
    """Which body is on top from each instant on: a place in the list of things, :data:`NOBODY` for none.

    ``ended``: that a body ends there, and none begins, is what changes.
    """

    at: Instants
    who: NDArray[np.signedinteger]
    ended: NDArray[np.bool_]

    @property
    def are_many(self) -> bool:
        """Whether they are of more bodies than it is kept of."""
        return len(self.at) > 2 * FEW

    def between(self, begin: int, end: int) -> list[tuple[int, int, int]]:
        """(begin, end, who) of the stretches from one instant to another, which add up to the whole."""
        first = int(np.searchsorted(self.at, begin, side="right"))
        last = int(np.searchsorted(self.at, end))
        borders = [begin, *self.at[first:last].tolist(), end]
        before = [NOBODY if first == 0 else int(self.who[first - 1])]
        who = before + self.who[first:last].tolist()
        return [(a, b, w) for a, b, w in zip(borders[:-1], borders[1:], who, strict=True) if b > a]


class Nested(Struct, frozen=True):
    """Bodies put together. ``forward``: of each thing, how many of its bodies lie within one that it should wait for.

    Who runs when is told only of few: it takes more memory than all the rest, and :func:`who_runs` tells it later.
    """

    tops: WhoRuns | None
    owns: list[ExecutionTimes]
    forward: list[int]


def nest(core: Core, bodies: Sequence[Bodies], urgency: Sequence[int], slack: int) -> Nested:
    """Put the bodies of things together, each with its urgency (0 first); ``slack`` ps is how far off a gap may be."""
    found = _Nested(bodies, tops=sum(len(each.start) for each in bodies) <= FEW, owns=True)
    tops = found.put_together(core, urgency, slack)
    return Nested(tops, found.own_times(), found.forward.tolist())


def who_runs(core: Core, bodies: Sequence[Bodies], urgency: Sequence[int], slack: int) -> WhoRuns:
    """Which of these bodies is on top when; see :func:`nest`."""
    found = _Nested(bodies, tops=True, owns=False).put_together(core, urgency, slack)
    assert found is not None
    return found


class _Nested:
    """What is asked of some bodies: who is on top when (``tops``), their own times (``owns``)."""

    def __init__(self, bodies: Sequence[Bodies], *, tops: bool, owns: bool) -> None:
        self._bodies, self._tops = bodies, tops
        self._first = np.cumsum([0, *(len(each.start) for each in bodies)])
        count = int(self._first[-1])
        self._who: NDArray[np.signedinteger]
        self._who = np.zeros(2 * count * tops, np.int16 if len(bodies) < _SHORT else np.int32)
        self._ended = np.zeros(2 * count * tops, np.bool_)
        self._least, self._most = np.zeros(count * owns, np.int64), np.zeros(count * owns, np.int64)
        self._interrupted = np.zeros(count * owns, np.int32)
        self.forward = np.zeros(len(bodies), np.int64)

    def put_together(self, core: Core, urgency: Sequence[int], slack: int) -> WhoRuns | None:
        """Look at all edges in order of time; who is on top when, if that was asked for."""
        count = int(self._first[-1])
        edges = np.empty(2 * count, np.int64)
        for each, first, last in zip(self._bodies, self._first[:-1], self._first[1:], strict=True):
            edges[first:last], edges[count + first : count + last] = each.start, each.end
        costs = np.array([core.entry.least, core.entry.most, core.exit.least, core.exit.most, core.chain.least,
                          core.chain.most, slack, core.nesting], np.int64)  # fmt: skip
        urgencies = np.array(urgency, np.int64)
        _nest(self._first, edges[:count], edges[count:], urgencies, costs, self._who, self._ended, self._least,
              self._most, self._interrupted, self.forward)  # fmt: skip
        if not self._tops:
            return None
        edges.sort()
        return WhoRuns(edges, self._who, self._ended)

    def own_times(self) -> list[ExecutionTimes]:
        """Those of each thing."""
        parts = [slice(first, last) for first, last in pairwise(self._first.tolist())]
        return [ExecutionTimes(self._least[part], self._most[part], self._interrupted[part]) for part in parts]


@kernel()
def _next_edge(
    begins: Instants, finishes: Instants, first: Instants, starts: Instants, ends: Instants, urgency: Instants
) -> Any:
    """(when, whose, whether it is an end) of the next edge; ends before starts, the most urgent end and the least
    urgent start first."""
    when, thing, ending = int64(9223372036854775807), -1, False
    for k in range(len(urgency)):
        if finishes[k] < begins[k] and (
            ends[finishes[k]] < when or (ends[finishes[k]] == when and (not ending or urgency[k] < urgency[thing]))
        ):
            when, thing, ending = ends[finishes[k]], k, True
        if (
            begins[k] < first[k + 1]
            and (starts[begins[k]] < when or (starts[begins[k]] == when and not ending and urgency[k] > urgency[thing]))
            and (finishes[k] == begins[k] or starts[begins[k]] >= ends[finishes[k]])
        ):
            when, thing, ending = starts[begins[k]], k, False
    return when, thing, ending


@kernel(weight=20)
def _nest(
    first: Instants, starts: Instants, ends: Instants, urgency: Instants, costs: Instants,
    who: Any, ended_then: Any, least: Instants, most: Instants, interrupted: Any, forward: Instants,
) -> None:  # fmt: skip
    things, total = len(urgency), len(starts)
    tops, owns = len(who) > 0, len(least) > 0
    begins, finishes = zeros(things), zeros(things)  # the next start and the next end of each thing
    for thing in range(things):
        begins[thing] = finishes[thing] = first[thing]
    stack = zeros(things + 1)  # bodies by number
    owner = zeros(things + 1)
    covered = zeros(things + 1)
    accepts = zeros(things + 1)
    saved_least, saved_most = zeros(things + 1), zeros(things + 1)
    ended = zeros(things + 1)  # when the last one on top of this ended; -1: there was none
    for place in range(things + 1):
        ended[place] = -1
    depth = 0
    flow = min(costs[4], costs[0] + costs[2]) < costs[6]  # a gap between two runs may be too short to be seen
    for found in range(2 * total):
        when, thing, ending = _next_edge(begins, finishes, first, starts, ends, urgency)
        if ending:
            place = depth - 1
            while place > 0 and owner[place] != thing:
                place -= 1
            body = stack[place]
            span = ends[body] - starts[body]
            above = stack[min(place + 1, depth - 1)]
            # as a gap may be too short to be seen, what it lies in may be taken to have begun behind it
            beside = (place - 1, min(place + 1, depth - 1))
            for other in beside:
                around = stack[max(0, other)]
                forward[thing] += (
                    other >= 0
                    and (urgency[owner[other]] <= urgency[thing] or costs[7] == 0)
                    and urgency[thing] < BACKGROUND
                    and starts[around] + costs[6] < starts[body]
                    and ends[around] > ends[body] + costs[6]
                )
            over = place < depth - 1 and urgency[owner[place + 1]] < urgency[thing]
            if over and ends[above] - when <= 2 * costs[6]:  # it ended before, and is seen to last longer
                covered[place] += when - starts[above]
                accepts[place] += 1
            count = accepts[place]
            taken_least = count * (costs[0] + costs[2]) - saved_most[place]
            taken_most = count * (costs[1] + costs[3]) - saved_least[place]
            if owns:
                least[body] = max(0, span - covered[place] - taken_most)
                most[body] = max(0, span - covered[place] - taken_least)
                interrupted[body] = count
            for under in range(place, depth - 1):  # what lay above it, by the ties of sampling, stays
                stack[under], owner[under] = stack[under + 1], owner[under + 1]
                covered[under], accepts[under] = covered[under + 1], accepts[under + 1]
                saved_least[under], saved_most[under] = saved_least[under + 1], saved_most[under + 1]
                ended[under] = ended[under + 1]
            depth -= 1
            finishes[thing] += 1
            if depth > 0 and place == depth:
                covered[depth - 1] += span
                accepts[depth - 1] += 1
                ended[depth - 1] = when
            elif place > 0 and starts[stack[place]] > starts[body]:  # the one above it will cover the rest
                covered[place - 1] += starts[stack[place]] - starts[body]
                accepts[place - 1] += 1
                if urgency[owner[place]] >= urgency[thing]:  # it did not interrupt it, but followed by a chain
                    saved_least[place - 1] += min(0, costs[2] + costs[0] - costs[5])
                    saved_most[place - 1] += max(0, costs[3] + costs[1] - costs[4])
        else:
            place = depth  # what is more urgent and goes on is several runs that flow together: it began between them
            while (
                flow
                and place > 0
                and urgency[owner[place - 1]] < urgency[thing]
                and ends[stack[place - 1]] - when > costs[6]
            ):
                place -= 1
            if place == depth and depth > 0 and ended[depth - 1] >= 0:
                low, high = _saved(when - ended[depth - 1], costs)
                saved_least[depth - 1] += low
                saved_most[depth - 1] += high
            for above in range(depth, place, -1):
                stack[above], owner[above] = stack[above - 1], owner[above - 1]
                covered[above], accepts[above] = covered[above - 1], accepts[above - 1]
                saved_least[above], saved_most[above] = saved_least[above - 1], saved_most[above - 1]
                ended[above] = ended[above - 1]
            stack[place], owner[place] = begins[thing], thing
            covered[place], accepts[place], saved_least[place], saved_most[place] = 0, 0, 0, 0
            ended[place] = -1
            if place < depth:  # of the one on top only what lies behind this start will have covered it
                covered[place] = starts[stack[place + 1]] - when
            depth += 1
            begins[thing] += 1
        if tops:
            ended_then[found] = ending
            who[found] = owner[depth - 1] if depth > 0 else -1


@kernel()
def _saved(gap: int, costs: Instants) -> tuple[int, int]:
    """How much a chain saved, or lost, between two bodies that lie ``gap`` apart: [least, most]."""
    entry_least, entry_most, exit_least, exit_most, chain_least, chain_most, slack, _ = costs
    alone = gap >= exit_least + entry_least - slack or exit_least - slack <= gap <= exit_most + slack
    chained = False
    for entries in range(4):
        if chain_least + entries * entry_least - slack <= gap <= chain_most + entries * entry_most + slack:
            chained = True
    low, high = exit_least + entry_least - chain_most, exit_most + entry_most - chain_least
    if chained and not alone:
        return low, high
    if alone and not chained:
        return 0, 0
    return min(0, low), max(0, high)
