"""What all lines together can ask of the core in a window: the inner sum of every recurrence, exact and vectorised.

Each input of each line is a row (an event, its curve, what one activation takes). Rows stand in the order of
acceptance, so "every line before this one" is the head of the arrays. Whole numbers throughout; rows whose counts
could leave 64 bits, and curves other than staircases, are counted one by one.
"""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from tachys.figures import Part
from tachys.model.events import Event
from tachys.model.nodes import Buffer, Isr
from tachys.model.quantities import LONGEST_PS
from tachys.model.system import System
from tachys.worstcase.arrivals import (
    Curve,
    NoBound,
    Staircase,
    SumOfCurves,
    Unbounded,
    exact_sum,
    moved,
    sporadic,
    swing,
    thinned,
    tightest,
)
from tachys.worstcase.blocking import Blockers, after_body
from tachys.worstcase.lookup import LookedUp

MOST_ROUNDS = 20_000
QUICK_ROUNDS = 50
FEW_ROWS = 12  # are counted one by one sooner than as columns
OFTEN, EACH_WORTH = 8, 30  # how often each row is asked before all that comes is put in order, and for how many then
MOST_ARRIVALS = 100_000
SURELY_BELOW = 1 - 1e-6  # of the core: sums of floats are nearer than that
TOO_LONG = "the load is so near to 100 % that the busy window has no end within reach"
Bools = NDArray[np.bool_]
_SAFE = 1 << 62
_EXACT = 1 << 53  # up to here a float holds every whole number


class WindowTooLong(NoBound):
    """The busy window is longer than is worth following. ``args[0]`` says why, in words."""


class Input(Struct, frozen=True):
    """One event that a line serves: its curve, and the most that its body costs, and its entry and end, in ps.

    Without an event: what it costs ``more``, and how often.
    """

    event: Event
    curve: Curve
    cost: int
    overhead: int
    more: str = ""


class _Rows(Struct):
    """Some rows in a row, as columns; what they took when they were last ``asked``, and all that comes ``until`` then.

    ``done[n]`` is what the first n activations take together, in the order in which they ``came`` at the soonest.
    """

    begun: NDArray[np.float64]
    bottoms: NDArray[np.float64]
    dens: NDArray[np.float64]
    taken: NDArray[np.float64]
    room: NDArray[np.float64]
    once: int
    often: int
    last_asked: int = -1
    last_told: int = 0
    asked: int = 0
    until: int = 0
    came: Sequence[int] = ()
    done: Sequence[int] = ()


class InterruptLine(Struct, frozen=True, dict=True):
    """A routine with its inputs, and the most that entry and end of one activation take, in ps.

    ``items``: those that it drains until nothing is in: what they take counts once for each that comes, and not as if
    each run had as many as one can have. Their curve holds for windows that begin while it does not wait.
    """

    isr: Isr
    inputs: tuple[Input, ...]
    curve: Curve  # the activations of all inputs together
    overhead: int
    items: Input | None = None

    @property
    def rows(self) -> tuple[Input, ...]:
        """All that takes time: its inputs, what each n-th run costs more, and the items that count for themselves."""
        rows, nth = self.inputs, self.isr.nth
        if nth is not None and nth.cost.most and rows:
            rows = (*rows, Input(Event(""), thinned(self.curve, nth.n), nth.cost.most, 0, f"more each {nth.n}"))
        return rows if self.items is None else (*rows, self.items)

    def taken(self, runs: int) -> int:
        """Entries, bodies and ends of so many of the longest activations in a row, in ps."""
        return runs * (self.isr.cost.most - self.isr.longer + self.overhead) + self.isr.in_all(runs)

    @cached_property
    def share(self) -> Fraction:
        """The most of the core that the line asks for in the long run.

        Raises:
            NoBound: nothing holds one of its events apart.
        """
        return exact_sum((each.cost + each.overhead) * each.curve.rate() for each in self.rows)


def make_lines(
    system: System, curve: Callable[[Event], Curve], taken: Callable[[Buffer], Curve]
) -> tuple[InterruptLine, ...]:
    """The lines of a system in the order of acceptance; ``taken``: the items that are in a buffer or come into it."""
    overhead = system.core.entry.most + after_body(system.core)
    lines = []
    for isr in system.isrs:
        inputs = tuple(
            Input(event, _served(system, isr, event, curve(event)), cost.most - isr.longer, overhead)
            for event, cost in zip(isr.on, isr.costs, strict=True)
        )
        items, drains = None, isr.drains
        if drains is not None and drains.endless:
            inputs = tuple(replace(each, curve=Unbounded(drains.why_endless(isr.thing))) for each in inputs)
        elif drains is not None and drains.until_empty:
            items = Input(Event(""), taken(system.buffer(drains.buffer)), drains.each.most, 0, "items")
            inputs = tuple(replace(each, cost=each.cost - drains.takes.most) for each in inputs)
        whole = inputs[0].curve if len(inputs) == 1 else SumOfCurves(tuple(each.curve for each in inputs))
        lines.append(InterruptLine(isr, inputs, whole, overhead, items))
    return tuple(lines)


def make_stolen(system: System, curve: Callable[[Event], Curve]) -> tuple[Input, ...]:
    """What units take from the core, at each of their ends.

    As a window begins, what runs may still stand for what was taken just before: that counts as if it came so late.
    """
    taken = [Input(unit.end, curve(unit.end), unit.steals.most, 0) for unit in system.units if unit.steals.most]
    before = _longest_standing(taken)
    return tuple(replace(each, curve=moved(each.curve, before)) for each in taken)


def _rate(curve: Curve) -> float:
    """How many events a curve allows in a ps in the long run; 0 where nothing limits them."""
    try:
        return float(curve.rate())
    except NoBound:
        return 0.0


def _longest_standing(stolen: Sequence[Input]) -> int:
    """How long what runs can stand in a row, in ps: a window that what is stolen in it fills."""
    now = 0
    for _ in range(MOST_ROUNDS):
        try:
            later = sum(each.cost * each.curve.most_within(now) for each in stolen)
        except NoBound:
            break
        if later == now:
            return now
        now = later
        if now > LONGEST_PS:
            break
    return LONGEST_PS


def _served(system: System, isr: Isr, event: Event, curve: Curve) -> Curve:
    """The events that have a run: of a routine that clears its mark each comes behind the end of the run before.

    A burst that is over before such a run ends has one: whichever of its events that is, the others come no later than
    ``within`` behind it, and what comes sooner finds the mark set.
    """
    if not isr.clears:
        return curve
    lasts = system.core.least_latency + isr.shortest
    burst = system.source(event.name).burst if event.kind == "source" else None
    if burst is not None and burst.within is not None and burst.within < lasts:
        return Staircase(Fraction(burst.every), burst.within, max(lasts, burst.every - burst.within))
    return tightest([curve, sporadic(lasts)])


class Workload:
    """The rows of all lines. ``ends[rank]`` is where the rows of the lines up to ``rank`` end.

    The first ``head`` rows are no lines, but units that take the bus: nothing holds them off.
    """

    def __init__(self, system: System, lines: Sequence[InterruptLine], stolen: Sequence[Input] = ()) -> None:
        self.lines = tuple(lines)
        self.head = len(stolen)
        self.rounds = 0  # how often the lines were counted: what the search for a bound has cost so far
        self.blockers = Blockers(system)
        by_line = [line.rows for line in lines]
        rows: list[tuple[InterruptLine | None, Input]] = [(None, each) for each in stolen]
        rows += [(line, each) for line, some in zip(lines, by_line, strict=True) for each in some]
        self.rows = rows
        self.ends: list[int] = []
        for some in by_line:
            self.ends.append((self.ends[-1] if self.ends else self.head) + len(some))
        plain = [each.curve if isinstance(each.curve, Staircase) else Staircase(Fraction(1)) for _, each in rows]
        # what does not fit 64 bits by itself is counted one by one
        odd = [
            not isinstance(each.curve, Staircase)
            or max(each.curve.period.numerator, each.curve.period.denominator, each.curve.jitter, each.curve.distance)
            >= _SAFE
            for _, each in rows
        ]
        self._odd = [row for row, is_odd in enumerate(odd) if is_odd]
        plain = [Staircase(Fraction(1)) if is_odd else curve for curve, is_odd in zip(plain, odd, strict=True)]
        self._num = np.array([curve.period.numerator for curve in plain], np.int64)
        self._den = np.array([curve.period.denominator for curve in plain], np.int64)
        self._jitter = np.array([curve.jitter for curve in plain], np.int64)
        self._distance = np.array([curve.distance or 1 for curve in plain], np.int64)
        # of a sporadic curve the period says it all
        self._apart = np.array([curve.distance > 0 and (curve.jitter > 0 or curve.distance != curve.period)
                                for curve in plain], np.bool_)  # fmt: skip
        self._inverse = 1.0 / self._num
        self._begun = self._jitter * self._den - 1
        self._exact = self._begun.astype(np.float64), self._num.astype(np.float64)
        self._any_apart = bool(self._apart.any())
        self.taken = np.array([each.cost + each.overhead for _, each in rows], np.int64)
        self._least_num = int(self._num.min(initial=_SAFE))
        self._most_den = int(self._den.max(initial=1))
        self._most_jitter = int(self._jitter.max(initial=0))
        self._endless = next((each.curve.reason for _, each in rows if isinstance(each.curve, Unbounded)), None)
        known = [] if self._endless is not None else zip(rows, self.taken.tolist(), strict=True)
        leaks = [(each.curve.leaky(), taken) for (_, each), taken in known]
        self._burst = sum(float(burst) * taken for (burst, _), taken in leaks)
        self._rate = sum(float(rate) * taken for (_, rate), taken in leaks)
        # in a window as long as that, whatever all lines ask for fits 64 bits
        self._surely_fits = self._fitting(LONGEST_PS)
        self.levels_before: list[int] = []  # how many lines stand before the level of each line
        for rank, line in enumerate(lines):
            same = rank > 0 and lines[rank - 1].isr.urgency == line.isr.urgency
            self.levels_before.append(self.levels_before[-1] if same else rank)
        self._shares: list[Fraction | None] = []
        for line in lines:
            try:
                self._shares.append(line.share)
            except NoBound:
                self._shares.append(None)
        self._stolen = Fraction(0)
        for each in stolen if self._endless is None else ():
            self._stolen += each.cost * each.curve.rate()
        self._near = float(self._stolen) + np.cumsum(
            [np.inf if share is None else float(share) for share in self._shares]
        )
        self._all_taken, self._before = self.taken.astype(np.float64), np.append(0, np.cumsum(self.taken))
        self._dens = self._den.astype(np.float64)
        # what the rows before each ask for of the core in the long run, and how far in ps they may lie above that
        at_least = np.array([[_rate(each.curve), swing(each.curve)] for _, each in rows]).reshape(-1, 2)
        asked = np.cumsum(at_least * self._all_taken[:, None], axis=0) * [1, 1 + 1e-9]
        self._asked = [(0.0, 0.0), *map(tuple, asked.tolist())]
        # windows up to which all that is asked for is told exactly by floats; none where a curve is no plain staircase
        self._exactly = -1 if self._any_apart or self._odd else self._fitting(_EXACT)
        self._exactly = min(self._exactly, _EXACT // self._most_den - self._most_jitter - 2)
        self._room = np.empty(len(rows))
        self._by_range: dict[tuple[int, int], _Rows] = {}
        self._kept = [LookedUp(each.curve) for _, each in rows]
        which = zip(self._kept, odd, strict=True)
        self._counters = [(kept if is_odd else kept.curve).most_within for kept, is_odd in which]
        self._one_by_one = list(zip(self._counters, self.taken.tolist(), strict=True))
        self._together = [] if system.core.late_arrival else list(self._kept_apart(system))
        if self._together:  # they are not told by a sum
            self._exactly = -1

    def without(self, system: System, events: Collection[Event]) -> Workload:
        """The same, where none of these events come."""
        lines = [
            replace(line, inputs=tuple(each for each in line.inputs if each.event not in events)) for line in self.lines
        ]
        return Workload(system, lines, [each for _, each in self.rows[: self.head]])

    def _kept_apart(self, system: System) -> Iterator[tuple[list[NDArray[np.int64]], int]]:
        """(of each event its rows; their common gap in ps) of sources that keep apart."""
        for apart in system.aparts:
            rows: dict[Event, list[int]] = {}
            for row, (_, each) in enumerate(self.rows):
                if each.event in apart.of:
                    rows.setdefault(each.event, []).append(row)
            if len(rows) > 1:
                yield [np.array(mine, np.int64) for mine in rows.values()], apart.gap

    def _no_more_than_together(self, counts: NDArray[np.int64], ps: int) -> NDArray[np.int64]:
        """The counts with which all rows take most, where some of them have a common gap: the dearest are left.

        One event brings a run to each of its rows: so many come of it as of the row that counts most.
        """
        for rows_of, gap in self._together:
            rows = [mine for each in rows_of if len(mine := each[each < len(counts)])]
            over = sum(int(counts[mine].max()) for mine in rows) - (ps // gap + 1)
            for mine in sorted(rows, key=lambda mine: int(self.taken[mine].sum())) if over > 0 else ():
                come = int(counts[mine].max())
                counts[mine] = np.minimum(counts[mine], come - min(over, come))
                over -= min(over, come)
        return counts

    def _fitting(self, most: int) -> int:
        """The longest window in ps in which all lines together surely ask for less than ``most`` ps."""
        if self._endless is not None:
            return -1
        return int((most / 2 - self._burst) / self._rate) if self._rate else most

    def share(self, rank: int) -> Fraction | None:
        """What the lines up to and including ``rank`` ask of the core in the long run; None: no number is enough."""
        shares = self._shares[: rank + 1]
        known = [share for share in shares if share is not None]
        if len(known) < len(shares):
            return None
        return exact_sum([*known, self._stolen]) - self.less_together(rank)

    def less_together(self, rank: int) -> Fraction:
        """How much less the lines up to ``rank`` ask for in the long run than each alone, since some keep apart."""
        end = self.ends[rank] if rank >= 0 else 0
        if None in self._shares[: rank + 1]:
            return Fraction(0)
        return self._less(lambda row: self.rows[row][1].curve.rate() if row < end else 0, lambda gap: Fraction(1, gap))

    def less_within(self, lengths: Mapping[str, int]) -> Fraction:
        """How much less work in ps comes so, of each routine's events those in a window of its own length in ps.

        Raises:
            NoBound: nothing holds one of the events apart.
        """
        longest = max(lengths.values(), default=0)

        def many(row: int) -> int:
            line, each = self.rows[row]
            return 0 if line is None else each.curve.most_within(lengths[line.isr.name])

        return self._less(many, lambda gap: Fraction(longest // gap + 1))

    def _less(self, many: Callable[[int], Fraction | int], together: Callable[[int], Fraction]) -> Fraction:
        """What ``many`` of each row take, less what no more than ``together`` of those with a common gap take.

        The dearest come first. Of what is drained an item may cost less than here: that is left out.
        """
        less = Fraction(0)
        for rows_of, gap in self._together:
            lines = [self.rows[row][0] for rows in rows_of for row in rows.tolist()]
            if any(line is None or line.isr.drains is not None for line in lines):
                continue
            asked = [[(Fraction(many(row)), int(self.taken[row])) for row in rows.tolist()] for rows in rows_of]
            alone = exact_sum(count * takes for rows in asked for count, takes in rows)
            events = ((sum(takes for _, takes in rows), max(count for count, _ in rows)) for rows in asked)
            left, most = together(gap), Fraction(0)
            for takes, come in sorted(events, reverse=True):
                most += min(left, come) * takes
                left -= min(left, come)
            less += max(Fraction(0), alone - most)
        return less

    def counts(self, ps: int, end: int, begin: int = 0) -> NDArray[np.int64]:
        """The most activations of rows ``begin`` to ``end`` in a closed window [0, ps].

        From the first row on, of sources that keep apart: those with which all of them take most.

        Raises:
            NoBound: nothing holds one of the events apart.
        """
        if self._together and begin == 0 and ps >= 0:
            return self._no_more_than_together(self._each(ps, end), ps)
        return self._each(ps, end, begin)

    def _each(self, ps: int, end: int, begin: int = 0, longer: NDArray[np.int64] | None = None) -> NDArray[np.int64]:
        """As :meth:`counts`, each row by itself; ``longer``: the window of each is so many ps longer, 0 or 1."""
        self.rounds += 1
        if ps < 0 or end <= begin:
            return np.zeros(max(end - begin, 0), np.int64)
        top_most = (ps + self._most_jitter + 2) * self._most_den
        ends: Any = ps + 1 if longer is None else ps + 1 + longer
        if top_most >= _SAFE or top_most >= self._least_num << 50:
            return np.array([self._at_end(row, begin, ends) for row in range(begin, end)], np.int64)
        rows = slice(begin, end)
        if top_most < _EXACT:  # the quotient of two such numbers never rounds up to the next whole one
            begun, bottoms = self._exact
            ahead = ends if self._most_den == 1 else ends * self._dens[rows]
            steps = ((begun[rows] + ahead) / bottoms[rows]).astype(np.int64)
        else:  # it is off by at most one, which the rest tells; whole division takes ten times as long
            top, bottom = self._begun[rows] + ends * self._den[rows], self._num[rows]
            steps = (top * self._inverse[rows]).astype(np.int64)
            rest = top - steps * bottom
            steps += rest >= bottom
            steps -= rest < 0
        if self._any_apart:
            steps = np.where(self._apart[rows], np.minimum(steps, (ends - 1) // self._distance[rows]), steps)
        counts: NDArray[np.int64] = steps + 1
        for row in self._odd:
            if begin <= row < end:
                counts[row - begin] = self._at_end(row, begin, ends)
        return counts

    def _at_end(self, row: int, begin: int, ends: Any) -> int:
        """The most of one row; ``ends``: 1 ps behind its window, or that of each row from ``begin`` on."""
        return self._counters[row](int(ends[row - begin] if isinstance(ends, np.ndarray) else ends) - 1)

    def work(self, ps: int, end: int, begin: int = 0) -> int:
        """What those activations take of the core, in ps."""
        if end <= begin:
            return 0
        rows = self._by_range.get((begin, end))
        if rows is None:
            rows = self._by_range[begin, end] = self._rows_of(begin, end)
        if ps == rows.last_asked or 0 <= ps < rows.until:  # where a search ends is asked for again
            self.rounds += 1
            return rows.last_told if ps == rows.last_asked else rows.done[bisect_right(rows.came, ps)]
        rows.last_told, rows.last_asked = self._work(rows, ps, end, begin), ps
        rows.asked += 1
        if rows.asked == rows.often:
            rows.often *= 2
            self._tabulate(rows, 2 * ps, end, begin)
        return rows.last_told

    def _work(self, rows: _Rows, ps: int, end: int, begin: int) -> int:
        if end - begin <= FEW_ROWS and not self._together:
            self.rounds += 1
            asked: int = sum(counter(ps) * each for counter, each in self._one_by_one[begin:end])
            if asked > LONGEST_PS:
                raise WindowTooLong(TOO_LONG)
            return asked
        if not 0 <= ps <= self._exactly:
            return self.total(self.counts(ps, end, begin), self.taken[begin:end], ps)
        self.rounds += 1
        room = rows.room  # as counts does, without a column that is new each time
        if self._most_den == 1:
            np.add(rows.begun, float(ps + 1), out=room)
        else:
            np.multiply(rows.dens, float(ps + 1), out=room)
            np.add(room, rows.begun, out=room)
        np.divide(room, rows.bottoms, out=room)
        np.floor(room, out=room)
        return int(room.dot(rows.taken)) + rows.once

    def _rows_of(self, begin: int, end: int) -> _Rows:
        rows, (begun, bottoms) = slice(begin, end), self._exact
        return _Rows(
            begun[rows], bottoms[rows], self._dens[rows], self._all_taken[rows], self._room[: end - begin],
            int(self._before[end] - self._before[begin]), OFTEN * (end - begin + 4),
        )  # fmt: skip

    def at_once(self, end: int) -> int:
        """What rows up to ``end`` surely ask for in any window, in ps: one run of each, where each can come alone."""
        return int(self._before[end]) if self._exactly >= 0 else 0

    def _came(self, counts: NDArray[np.int64], begin: int = 0) -> NDArray[np.int64]:
        """When so many activations of each row from ``begin`` on come at the soonest, row by row."""
        rows = range(begin, begin + len(counts))
        return np.concatenate([self._kept[row].least_spans(n) for row, n in zip(rows, counts.tolist(), strict=True)])

    def _tabulate(self, rows: _Rows, until: int, end: int, begin: int) -> None:
        """Put all that comes before ``until`` in order, where rows are asked so often that this is sooner done."""
        if self._together or until <= 0:
            return
        try:
            counts = self._each(until - 1, end, begin)
            self.total(counts, self.taken[begin:end], until)  # beyond 64 bits it is told with care, or not at all
        except NoBound:
            return
        if int(counts.sum()) > EACH_WORTH * rows.asked:
            return
        came, took = self._came(counts, begin), np.repeat(self.taken[begin:end], counts)
        order = np.argsort(came, kind="stable")
        rows.came, rows.done = array("q", came[order].tobytes()), [0, *np.cumsum(took[order]).tolist()]
        rows.until = until

    def close(
        self, base: int, end: int, closed: Bools | None = None, least: int = 0, absent: Bools | None = None
    ) -> int:
        """The least t >= ``least`` with t = base + the work of all arrivals of rows up to ``end`` in [0, t).

        ``closed``: rows of which those at t itself count too; ``absent``: rows of which none comes. A few rounds of the
        recurrence find most of them; a long window is followed arrival by arrival.

        Raises:
            NoBound: it has no end, or none within ``MOST_ARRIVALS``.
        """
        taken, now = self.taken[:end], max(base, least)
        if now > 0 and absent is None:
            now = max(now, base + self.at_once(end))
        for _ in range(QUICK_ROUNDS):
            if now > LONGEST_PS:
                raise WindowTooLong(TOO_LONG)
            if closed is None and absent is None:
                later = base + self.work(now - 1, end)
            else:
                counts = self.arrivals(now, end, closed, absent)
                later = base + self.total(counts, taken, now)
            if later <= now:
                return now
            now = later if absent is not None else self._passed(now, later, end)
        return self._walk(base, end, closed, max(now, 1), least, absent)

    def arrivals(
        self, length: int, end: int, closed: Bools | None = None, absent: Bools | None = None
    ) -> NDArray[np.int64]:
        """The most activations of rows up to ``end`` in [0, length), those at its end too of ``closed`` ones.

        Raises:
            NoBound: nothing holds one of the events apart.
        """
        if closed is None or length <= 0:
            counts = self._each(length - 1, end)
            if closed is not None:
                counts = np.where(closed[:end], self._each(length, end), counts)
        else:
            counts = self._each(length - 1, end, longer=closed[:end].astype(np.int64))
        if absent is not None:
            counts = np.where(absent[:end], 0, counts)
        return self._no_more_than_together(counts, length - (closed is None)) if length > 0 else counts

    def _passed(self, now: int, later: int, end: int) -> int:
        """Where a window surely does not close before, if rows up to ``end`` make ``later`` of ``now``.

        From ``now`` on each row asks for as much as in the long run at least, but for its swing.
        """
        share, swing = self._asked[end]
        ahead = later - now - swing
        if self._together or share > SURELY_BELOW or ahead <= 0:
            return later
        return max(later, now + int(ahead / (1 - share) * SURELY_BELOW))

    def in_pieces(self, base: int, pieces: int, most: NDArray[np.int64]) -> NDArray[np.int64]:
        """The most activations of rows in so many closed windows that last ``base`` and their work together.

        ``most``: no more of each come in any case, which is the answer where nothing better is found soon.
        """
        end, now = len(most), base
        plain = np.ones(end, np.bool_)
        plain[[row for row in self._odd if row < end]] = False
        num, den, jitter, distance = (each[:end] for each in (self._num, self._den, self._jitter, self._distance))
        for _ in range(QUICK_ROUNDS):
            longest = (now + pieces * (1 + self._most_jitter)) * self._most_den
            if longest + pieces * int(num.max(initial=1)) >= _SAFE:
                break
            # in a closed window of t ps come (t + 1 + jitter) / period at most, rounded up
            steps = ((now + pieces * (1 + jitter)) * den + pieces * (num - 1)) // num
            steps = np.where(self._apart[:end], np.minimum(steps, now // distance + pieces), steps)
            counts = np.where(plain, np.minimum(most, steps), most)
            later = base + self.total(counts, self.taken[:end], now)
            if later <= now:
                return counts
            now = later
        return most

    def _walk(self, base: int, end: int, closed: Bools | None, begun: int, least: int, absent: Bools | None) -> int:
        """As :meth:`close`, all arrivals in order of time; ``begun``: a time before which it does not close."""
        horizon = 2 * begun
        while horizon < _SAFE:
            counts = self.arrivals(horizon + 1, end, absent=absent)
            self.total(counts, self.taken[:end], horizon)
            if int(counts.sum()) > MOST_ARRIVALS:
                break
            came = self._came(counts)
            late = np.ones(len(came), np.int64) if closed is None else np.repeat(1 - closed[:end], counts)
            order = np.lexsort((late, came))  # those that count at the end of the window before those that do not
            ends = base + np.append(0, np.cumsum(np.repeat(self.taken[:end], counts)[order]))
            shut = (np.append((came + late)[order], horizon + 1) > ends) & (ends >= least)
            if shut.any():
                return int(ends[np.argmax(shut)])
            horizon *= 2
        raise WindowTooLong(TOO_LONG)

    def total(self, counts: NDArray[np.int64], taken: NDArray[np.int64], ps: int) -> int:
        """What the activations counted in a window of ``ps`` take, in ps.

        Raises:
            WindowTooLong: more than Tachys counts.
        """
        if ps > self._surely_fits and float(counts.astype(np.float64) @ taken.astype(np.float64)) > LONGEST_PS:
            raise WindowTooLong(TOO_LONG)
        return int(counts @ taken)

    def parts(self, what: str, counts: NDArray[np.int64], begin: int = 0) -> list[Part]:
        """The work of so many activations of each row from ``begin`` on, as parts of a figure."""
        found = []
        for offset in np.flatnonzero(counts):
            line, each = self.rows[begin + int(offset)]
            who, told = each.event.thing if line is None else line.isr.thing, "stolen" if line is None else what
            told = f"{told}: {each.more}" if each.more else told
            found.append(Part(told, who, int(counts[offset]), each.cost, each.overhead))
        return found

    def refuse_overload(self, rank: int, *, delayed: bool, what: str) -> None:
        """Raise if the lines up to ``rank`` want more than the core, or all of it and something delays them.

        Raises:
            WindowTooLong: with who wants how much.
        """
        if rank < 0 or self._near[rank] < SURELY_BELOW:
            return
        wanted = self.share(rank)
        if wanted is None:
            raise WindowTooLong(self._endless or "nothing holds the events apart that go before it")
        if wanted > 1:
            heaviest = max(self.lines[: rank + 1], key=lambda line: line.share)
            raise WindowTooLong(
                f"overload: {what} want {float(wanted):.1%} of the core, "
                f"isr.{heaviest.isr.name} alone {float(heaviest.share):.1%}"
            )
        if wanted == 1 and (delayed or not self._regular(rank)):
            raise WindowTooLong(f"{what} want exactly 100 % of the core: any delay stays for ever")

    def _regular(self, rank: int) -> bool:
        """Whether nothing of the lines up to ``rank`` can come denser than in the long run."""
        return not self.head and all(
            isinstance(each.curve, Staircase) and not each.curve.jitter
            for line in self.lines[: rank + 1]
            for each in line.rows
        )


class Search:
    """Least fixed points, with a limit on the rounds of one window."""

    def __init__(self) -> None:
        self._rounds = 0

    def settle(self, start: int, step: Callable[[int], int]) -> int:
        """The least fixed point of ``step`` at or above ``start``.

        Raises:
            WindowTooLong: it is not reached within reason.
        """
        now = start
        while (later := step(now)) > now:
            now = later
            self._rounds += 1
            if self._rounds > MOST_ROUNDS or now > LONGEST_PS:
                raise WindowTooLong(TOO_LONG)
        return now
