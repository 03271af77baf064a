"""Buffers on paper: how many items can be in one at once, and how long one stays in it.

A run takes what is in at its first instruction, so it serves a batch; what it takes leaves one by one as it is copied,
and is still in until then. Let F(t) be the most items that come in a closed window of t, B(j) the longest time from the
first instruction of a run to the leave of its j-th item. Where every run takes all that is in, the items that are in at
one instant have been put since the first instruction of the run before, so that just before the j-th leave

    level <= F(from one first instruction to the next + B(j)) - (j - 1).

A request that is raised by the level comes with ``threshold`` items, so the first run after it finds

    level <= threshold - 1 + F(from the request to the j-th leave) - (j - 1).

A run that takes at most m is one of a row, each asked for as the one before ends; k of them take k m out of what came
since the first request (:func:`_in_rows`). The time from a request or a first instruction to the j-th leave of a run of
n is that to its end, less what copying the n - j others takes at most: a body that went on for so long would be one.

By induction over runs: as long as none has taken more than n, both windows are as short as n items make them, and the
next takes no more than n if they say so. The least such n is found from below. A run that takes at most m takes all
where n <= m; of a step rows of rounds are followed else. A unit that takes one whenever it is at rest is a
server that never idles while something is in: its backlog and delay are those of R. Cruz, "A calculus for network
delay, part I", IEEE Trans. Information Theory 37, 1991 (J.-Y. Le Boudec, P. Thiran, "Network calculus", 2001, ch. 1).

A put that waits for room: from its first look on the unit rests before the last item is in only if it was at rest
before, or where interrupts keep the loop from looking longer than a full buffer lasts; so each ``takes`` makes room for
one, and n items are in after n of them and what the line stands still meanwhile. Where the runs of the only step that
puts lie so far apart that the line is at rest again, the buffer and the unit hold depth + 1 of them at once.

A routine that waits for room moves items on into the buffer of a unit. Let u(i) be when the unit takes up the i-th of a
row, C its longest operation, R the response of the routine. Where the next is in by u(i), u(i + 1) <= u(i) + max(C, R):
either it is in the unit's buffer, or a run is asked for by u(i), or at work with it. The i-th leaves R after there is
room for it, when the one goes that is as far before it as the unit's buffer is deep; a run that has begun with less may
have to end before.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from tachys.figures import Figure, Part, summed, total_of
from tachys.model.acts import MOST_IN_A_ROW, Act, Drain
from tachys.model.events import Event
from tachys.model.nodes import Buffer, Isr, Step, Unit
from tachys.model.quantities import Range
from tachys.model.system import System
from tachys.worstcase.arrivals import Curve, NoBound
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.fixedpoint import Settled
from tachys.worstcase.loop import NOTHING, LoopWindows, set_after_look
from tachys.worstcase.result import BufferBounds, UnitBounds

MOST_ROUNDS = 200  # of a loop in a row, in which a step that takes few at once works off what is in
MOST_LOOKS = 20  # for how many one run takes that goes on until nothing is in
MOST_TAKEN = 500  # in a row, by a unit that is asked for each
NO_RATE = "fewer than its threshold can stay in it: nothing is sure to be put"


class _Runs(Struct, frozen=True):
    """The runs of a routine that drains: ``wait`` to a first instruction, from the request or from any instant."""

    isr: Isr
    drains: Drain
    wait: Figure
    response: Figure
    span: Figure
    in_a_row: tuple[int, ...]

    def end(self, runs: int) -> int:
        """From a request to the end of so many runs, each but the first asked for as the one before ends."""
        known = min(runs, len(self.in_a_row))
        return self.in_a_row[known - 1] + (runs - known) * _most(self.response)

    def end_of_next(self, runs: int) -> int:
        """From a first instruction to the end of so many runs behind that run, each asked for as one ends."""
        return min(_most(self.span) + self.end(runs), self.end(runs + 1))

    @property
    def ends_empty(self) -> bool:
        """Whether nothing is in as a run ends: it goes on until then, and does nothing more."""
        return self.drains.until_empty and not self.isr.longer

    @property
    def next(self) -> Figure:
        """From a first instruction to the next."""
        again = summed(0, [*self.span.parts, *self.wait.parts])
        if not self.in_a_row or self.end(2) - self.isr.cost.most >= _most(again):
            return again
        return _one("two runs in a row", self.isr, self.end(2) - self.isr.cost.most)


class Line(Struct, frozen=True):
    """What works off what is put into a buffer, times in ps: the ``unit``, and how far ``each`` item follows another.

    Of a routine between them: its ``run``, the ``lag`` of an item behind the room for it, how many lie ``beyond``, and
    how many a run moves ``at_once``.
    """

    unit: Unit
    each: int
    run: int
    lag: int
    beyond: int
    at_once: int = 1


class BuffersOnPaper(Struct, frozen=True):
    """What all other bounds say of who feeds and drains buffers."""

    system: System
    settled: Settled
    reach: EventBounds
    windows: LoopWindows | None

    def bounds(self, buffer: Buffer) -> BufferBounds:
        """The bounds of one buffer."""
        drain = self.system.graph.drain[buffer.name]
        feed = self.reach.events.sets(buffer.thing)
        assert feed is not None
        try:
            if isinstance(drain, Unit):
                return self._by_unit(buffer, drain, feed)
            if isinstance(drain, Isr) and buffer.room_in is not None:
                return self._by_waiting(buffer, drain, feed)
            if isinstance(drain, Isr):
                return self._by_routine(buffer, drain, feed)
            return self._by_step(buffer, drain, feed)
        except NoBound as error:
            figure = Figure(0, None, reason=str(error))
            many = MOST_IN_A_ROW if buffer.name in self.system.graph.until_empty else buffer.depth
            return self._made(buffer, feed, None, many, figure, figure)

    def _made(
        self,
        buffer: Buffer,
        feed: Curve,
        level: int | None,
        taken: int,
        reaction: Figure,
        time: Figure,
        *,
        room: bool = True,
    ) -> BufferBounds:
        """``level``: as many as would be in if there were room; ``room``: who puts does not wait for it."""
        lost = room and (level is None or level > buffer.depth)
        many = time.reason or "more and more can be in at once" if level is None else f"{level} can be in at once"
        reason = f"{many}, {buffer.depth} find room" if lost else ""
        full_after = feed.least_span(buffer.depth + 1)
        taken = taken if buffer.name in self.system.graph.until_empty else min(taken, buffer.depth)
        return BufferBounds(buffer.name, level, taken, reaction, time, lost, reason, full_after)

    def _never_asked(self, buffer: Buffer, feed: Curve, level: int | None, taken: int, asks: Figure) -> BufferBounds:
        """Where nothing is sure to make it ask."""
        reaction = Figure(0, None, reason=asks.reason)
        return self._made(buffer, feed, level, taken, reaction, reaction)

    def _soonest(self, events: Iterable[Event]) -> int | None:
        """The longest time in ps from any instant to the next of some events; None: no such time is known."""
        return min((gap for event in events if (gap := self.reach.gap(event)) is not None), default=None)

    # --- a unit ------------------------------------------------------------------------------------------------------

    def _by_unit(self, buffer: Buffer, unit: Unit, feed: Curve) -> BufferBounds:
        if unit.asked_at:
            return self._by_asked_unit(buffer, unit, feed)
        takes, who = unit.takes.most, unit.thing
        waited = any(each.room_in == buffer.name for each in self.system.buffers)
        level: int | None = buffer.depth
        wait = buffer.depth * takes
        puts = waited or buffer.name in self.system.graph.putters
        if not puts:
            found = self.reach.events.backlog(unit)
            level = found.depth
            wait = wait if found.wait is None else min(wait, found.wait)
        reaction = summed(0, [Part("items before it", who, 1, wait)])
        return self._made(buffer, feed, level, 1, reaction, reaction, room=not puts)

    def _by_asked_unit(self, buffer: Buffer, unit: Unit, feed: Curve) -> BufferBounds:
        """Level and wait, taking by taking: the n-th behind an item that found it empty comes so late at the latest."""
        first, each = min(self._ways_to_ask(buffer, unit), key=lambda way: (total_of(way[1]), total_of(way[0])))
        level, row = _row_of_takings(buffer, feed, _most(summed(0, first)), _most(summed(0, each)))
        items, span = row or (buffer.depth, 0)
        if (items - buffer.depth) * _most(summed(0, each)) > span:  # no more are before one than find room
            items, span = buffer.depth, 0
        behind = [replace(part, count=part.count * (items - 1)) for part in each] if items > 1 else []
        came = [Part("came after the first", unit.thing, 1, -span)] if span else []
        reaction = summed(0, [*first, *behind, *came])
        return self._made(buffer, feed, level, 1, reaction, reaction)

    def _ways_to_ask(self, buffer: Buffer, unit: Unit) -> list[tuple[list[Part], list[Part]]]:
        """The longest times from a put into an empty buffer, and from a taking, until the unit takes the next.

        Raises:
            NoBound: nothing is sure to ask it.
        """
        who, operation = unit.thing, Part("operation", unit.thing, 1, unit.takes.most)
        ways = []
        asked, apart = self._asked_within(unit)
        if asked is not None:
            again = self.reach.distances(unit.asked_at[0])[1].most if len(unit.asked_at) == 1 else None
            first = [Part("until it is asked", who, 1, asked)]
            each = [Part("asked once more", who, 1, asked if again is None else min(asked, again))]
            if unit.takes.most >= apart:  # it may still be at work as it is asked once more
                works = Part("operation before it", who, 1, unit.takes.most)
                first, each = [works, *first], [works, *first]
            ways.append((first, each))
        answers = [[operation, *parts] for event in unit.asked_at if (parts := self._answer(unit, event)) is not None]
        waits = [] if asked is None else [[Part("until it is asked", who, 1, asked)]]
        if (put := self._asked_with_each_put(buffer, unit)) is not None:
            waits.append(put)
        if answers and waits:
            # as an item is put, it is at work, or what follows from its last operation is: or nothing is, until asked
            begins, each = min(waits, key=total_of), min(answers, key=total_of)
            ways.append((max(begins, each, key=total_of) if buffer.apart is None else begins, each))
        if not ways:
            raise NoBound(f"nothing is sure to ask {who}")
        return ways

    def _answer(self, unit: Unit, event: Event) -> Sequence[Part] | None:
        """From the end of an operation to this event, where a routine that it starts brings it about: its run for that
        end, or the one that waited by then.
        """
        isr = next((isr for isr in self.system.isrs if isr.thing == event.thing and unit.end in isr.on), None)
        if isr is None or isr.clears or unit.stands_still or event.moment not in ("start", "end"):
            return None
        bounds = self.reach.isrs[isr.name]
        figure = bounds.latency if event.moment == "start" else bounds.response
        return None if figure.most is None else figure.parts

    def round_alone(self, unit: Unit) -> tuple[Isr, int] | None:
        """(the routine that answers a unit, the least time in ps from one taking to the next), where nothing else asks
        that unit meanwhile, so that the routine never finds its mark set; None: that is not shown.

        Who puts asks once each time, and before it puts again all has been taken, and the last run has found nothing.
        """
        inside = self.settled.events.rings.answered.get(unit.thing, ())
        isr = next((isr for isr in self.system.isrs if isr.on == (unit.end,)), None)
        if isr is None or len(inside) != 1 or inside[0].thing != isr.thing:
            return None
        buffer, answer = self.system.buffer(unit.drains or ""), self._answer(unit, inside[0])
        if len(buffer.fed_by) != 1 or len(unit.asked_at) != 2 or self._asked_with_each_put(buffer, unit) is None:
            return None
        last = self.bounds(buffer).reaction.most
        if answer is None or last is None:
            return None
        apart = self.reach.events.curve(buffer.fed_by[0].event).least_span(2)
        if apart <= last + unit.takes.most + total_of(answer):
            return None
        runs = isr.shortest if inside[0] == isr.end else 0
        return isr, unit.takes.least + self.system.core.least_latency + runs

    def _asked_with_each_put(self, buffer: Buffer, unit: Unit) -> list[Part] | None:
        """From any put to the end of what puts, where that asks the unit; None: it is asked with none, or not all."""
        ways: list[list[Part]] = []
        for feed in buffer.fed_by:
            thing = feed.event.thing
            if thing.kind not in ("isr", "step") or feed.event != thing.start or thing.end not in unit.asked_at:
                return None
            span = self.reach.isrs[thing.name].span if thing.kind == "isr" else self.reach.steps[thing.name].duration
            if span.most is None:
                return None
            ways.append([*span.parts])
        return None if buffer.name in self.system.graph.putters else max(ways, key=total_of, default=None)

    def _asked_within(self, unit: Unit) -> tuple[int | None, int]:
        """(the longest time from any instant until a unit is asked, the least distance of two such events)."""
        return self._soonest(unit.asked_at), self.reach.events.looks(unit).least_span(2)

    def starved(self, unit: Unit) -> UnitBounds:
        """Whether a unit that is asked may find nothing in.

        It does not where something is put between any two such events; before the first put it does.
        """
        known, buffer = self.reach.units[unit.name], self.system.buffer(unit.drains or "")
        put = self._soonest(feed.event for feed in buffer.fed_by)
        if put is None or put >= self._asked_within(unit)[1]:
            return known
        first = self.reach.events.looks(unit).most_within(put)
        why = f"nothing is in {buffer.thing} before the first is put"
        return replace(known, lost_reason=why, lost_in_row=first, lost_in_all=first)

    def line(self, buffer: Buffer) -> Line:
        """What works off by itself what is put into a buffer.

        Raises:
            NoBound: the response of the routine between has none.
        """
        unit, drain = self.system.sent_by(buffer), self.system.graph.drain[buffer.name]
        if buffer.room_in is None:
            return Line(unit, unit.takes.most, 0, 0, 0)
        assert isinstance(drain, Isr)
        assert drain.drains is not None
        run, beyond = _most(_needed(self.reach.isrs[drain.name].response)), self.system.buffer(buffer.room_in).depth
        lag = run if beyond == 1 else 2 * run
        return Line(unit, max(unit.takes.most, run), run, lag, beyond, drain.drains.most)

    def _by_waiting(self, buffer: Buffer, isr: Isr, feed: Curve) -> BufferBounds:
        """Level and wait of what a routine moves on as there is room beyond."""
        line, bounds, puts = self.line(buffer), self.reach.isrs[isr.name], buffer.name in self.system.graph.putters
        unit, latency = line.unit, _needed(bounds.latency)
        level, row = (buffer.depth, None) if puts else _row_of_takings(
            buffer, feed, unit.takes.most + line.lag, line.each
        )  # fmt: skip
        items, span = row or (buffer.depth, 0)
        if (items - buffer.depth) * line.each > span:  # no more are before one than find room
            items, span = buffer.depth, 0
        parts = [Part("until there is room", unit.thing, 1, unit.takes.most)]
        parts += [Part("items before it", unit.thing, items - 1, line.each)] if items > 1 else []
        parts += [Part("a run that has begun", isr.thing, 1, line.lag - line.run)] if line.lag > line.run else []
        parts += [Part("came after the first", unit.thing, 1, -span)] if span else []
        reaction, time = summed(0, [*parts, *latency.parts]), summed(0, [*parts, *_needed(bounds.response).parts])
        assert isr.drains is not None
        return self._made(buffer, feed, level, isr.drains.most, reaction, time, room=not puts)

    # --- a routine ---------------------------------------------------------------------------------------------------

    def _by_routine(self, buffer: Buffer, isr: Isr, feed: Curve) -> BufferBounds:
        assert isr.drains is not None
        bounds, drains = self.reach.isrs[isr.name], isr.drains
        each_put = buffer.name in self.system.graph.put_starts
        asked = each_put or buffer.event in isr.on
        wait = _needed(bounds.latency if asked else self._until_run(isr))
        rows = bounds.in_a_row if asked else ()
        runs = _Runs(isr, drains, wait, _needed(bounds.response), _needed(bounds.span), rows)
        if not asked:
            return self._by_other_event(buffer, feed, runs)
        below = 0 if each_put else _before_it_asks(buffer, feed)
        level = _deepest(feed, below, drains, runs.end(1))
        taken = _taken(feed, below, drains, _most(runs.wait), runs.end(1))
        waits = []  # of items that are put while it runs, or while it is late
        leaves_none = runs.ends_empty or each_put  # that does not ask, or wait for a run
        if not leaves_none and _asks_again(buffer, feed, runs):
            level = max(level, _deepest(feed, 0, drains, runs.end_of_next(1)))
            taken = max(taken, _taken(feed, 0, drains, _most(runs.next), runs.end_of_next(1)))
            waits.append(runs.next)
        asks = self._until_asked(buffer, below)
        if min(taken, buffer.depth) > drains.most:
            found = _in_rows(buffer, feed, below, runs, again=bool(waits))
            if found is None:
                return self._without_end(buffer, feed, runs, asks)
            level, taken = max(level, found[0]), drains.most
            waits.append(found[1])
        if asks.most is None:
            return self._never_asked(buffer, feed, level, taken, asks)
        if below and level > buffer.depth and not buffer.overwrites:  # what finds no room does not make it ask
            asks = summed(0, [*asks.parts, *runs.span.parts])
        reaction = max([*waits, summed(0, [*asks.parts, *runs.wait.parts])], key=_most)
        time = summed(0, [*reaction.parts, *runs.span.parts])
        if leaves_none and not below:
            time = self._of_one_run(buffer, feed, runs, taken)
        return self._made(buffer, feed, level, taken, reaction, time)

    def _of_one_run(self, buffer: Buffer, feed: Curve, runs: _Runs, taken: int) -> Figure:
        """How long an item is in where the first asks for a run that takes all: each came behind the first, and leaves
        before those behind it.
        """
        each = runs.drains.each.most
        sooner = min((taken - last) * each + feed.least_span(first) for first, last in _batches(taken))
        return summed(
            0, [*runs.response.parts, Part("came after the first, or left before the last", buffer.thing, 1, -sooner)]
        )

    def _without_end(self, buffer: Buffer, feed: Curve, runs: _Runs, asks: Figure) -> BufferBounds:
        """More and more come in: what finds room is served all the same."""
        if asks.most is None:
            return self._never_asked(buffer, feed, None, buffer.depth, asks)
        rows = -(-buffer.depth // runs.drains.most)
        again = [replace(part, count=part.count * rows) for part in runs.next.parts]
        reaction = summed(0, [*asks.parts, *again])
        return self._made(buffer, feed, None, buffer.depth, reaction, summed(0, [*reaction.parts, *runs.span.parts]))

    def _by_other_event(self, buffer: Buffer, feed: Curve, runs: _Runs) -> BufferBounds:
        """What a routine drains that no buffer asks."""
        again = runs.wait  # from a run that has left nothing in; from the first instruction of another
        if not runs.ends_empty:
            again = summed(0, [*runs.span.parts, *runs.wait.parts])
        taken = _taken(feed, 0, runs.drains, _most(again), _most(again) + _most(runs.span))
        if min(taken, buffer.depth) > runs.drains.most:
            return self._without_end(buffer, feed, runs, Figure(0, 0))
        level = _deepest(feed, 0, runs.drains, _most(again) + _most(runs.span))
        if feed.most_within(_most(runs.wait) + _most(runs.span)) <= 1:  # none comes while it runs
            again = runs.wait
        return self._made(buffer, feed, level, taken, again, summed(0, [*again.parts, *runs.span.parts]))

    def _until_run(self, isr: Isr) -> Figure:
        """From any instant to the next first instruction of a routine that no buffer asks."""
        gap = self.reach.gap(isr.start)
        if gap is None:
            raise NoBound(f"nothing is sure to make {isr.thing} run")
        return Figure(0, gap, (Part("longest time to the next", isr.start, 1, gap),))

    def _until_asked(self, buffer: Buffer, below: int) -> Figure:
        """From the put of an item to a request, where ``below`` of them do not make the buffer ask."""
        if not below:
            return Figure(0, 0)
        ways = []
        if buffer.quiet is not None:  # each may come just before it is over
            ways.append(summed(0, [Part("until nothing comes", buffer.thing, below, buffer.quiet.most)]))
        put = self._soonest(feed.event for feed in buffer.fed_by)
        if put is not None and buffer.asks_from is not None:
            ways.append(summed(0, [Part("until so many have come", buffer.thing, below, put)]))
        if not ways:
            return Figure(0, None, reason=NO_RATE)
        return min(ways, key=lambda way: way.most or 0)

    # --- a step ------------------------------------------------------------------------------------------------------

    def _by_step(self, buffer: Buffer, step: Step, feed: Curve) -> BufferBounds:
        assert self.windows is not None
        assert step.drains is not None
        drains, asked = step.drains, step.asked_by is not None
        look, since = self._look(step), self.reach.events.sets_at_look(buffer)
        assert since is not None
        below = _before_it_asks(buffer, feed) if asked else 0
        duration = _needed(self.reach.steps[step.name].duration)
        apart = asked and not below and feed.least_span(2) > _most(look) + _most(duration)
        if apart:  # when one comes, which makes it ask, the run for another is over
            look = _needed(self.windows.looks(step, 1, found=False))
        asks = self._until_asked(buffer, below)
        taken = below + self._come(step, since, look)
        if drains.until_empty:
            taken = self._until_empty(step, since, below, taken, _most(look))
        elif drains.most < min(taken, buffer.depth):
            return self._behind(buffer, step, feed, since, below, asks)
        level = self._level(step, since, below, max(1, min(taken, drains.at_most)))
        cut = set_after_look(self.system, self.reach.isrs, self.system.graph.sets_of(f"buffer.{buffer.name}"))
        before = [Part("before it was put", buffer.thing, 1, -min(cut, _most(look)))] if cut and not below else []
        return self._drained(buffer, step, feed, level, taken, asks, [*look.parts, *before])

    def _level(self, step: Step, feed: Curve, below: int, taken: int) -> int:
        """How many are in at most as one run takes so many: what has come by when each leaves, less those before it."""

        def come(many: int) -> int:
            return below + self._come(step, feed, self._look(step, self._until_left(step, many)))

        level, all_ = 0, come(taken)
        for first, last in _batches(taken):
            if all_ - (first - 1) <= level:  # nor are more in later
                break
            level = max(level, come(last) - (first - 1))
        return level

    def _until_empty(self, step: Step, feed: Curve, below: int, taken: int, look: int) -> int:
        """How many one run takes at most that goes on until nothing is in: what comes until all of them have left."""
        assert step.drains is not None

        def come(many: int) -> int:
            return below + self._come(step, feed, self._look(step, self._until_left(step, many)))

        return _in_one_run(feed, step.drains.each.most, taken, look, come)

    def _come(self, step: Step, feed: Curve, window: Figure) -> int:
        """How many come in a window from a look of a step at its buffer on.

        What comes at the instant of a last look has come before it; only at time zero nothing was looked at before.
        """
        assert self.windows is not None
        assert step.drains is not None
        after = step.drains.until_empty and step.every is None
        after = after and not self.windows.may_come_first(f"buffer.{step.drains.buffer}")
        length = _most(window) - after
        return feed.most_within(length) if length >= 0 else 0

    def _look(self, step: Step, more: list[Act] | None = None) -> Figure:
        """From a look of a step at its buffer to its next, and on through more that it does then."""
        assert self.windows is not None
        return _needed(self.windows.looks(step, 1, more or ()))

    def _until_left(self, step: Step, items: int) -> list[Act]:
        """What a step does until so many items have left."""
        place = next(place for place, act in enumerate(step.acts) if isinstance(act, Drain))
        drain = step.acts[place]
        assert isinstance(drain, Drain)
        return [*step.acts[:place], replace(drain, items=Range(0, items))]

    def _behind(self, buffer: Buffer, step: Step, feed: Curve, since: Curve, below: int, asks: Figure) -> BufferBounds:
        """The level where a run may leave some in, since it takes at most so many; ``since``: the feed from a look on.

        Back to the last run that took all, or to one that was not asked: since then each look took its most, so that
        after k of them, just before what the next takes begins to leave, are in no more than what had come and was
        left, less k times that.
        """
        assert self.windows is not None
        assert step.drains is not None
        most, level, rounds = step.drains.most, 0, 0
        why = f"a pass can bring more than a run takes, again and again: {step.thing} takes {most} at most"
        if (rate := since.rate()) and self.windows.looks_further_apart(step, most / rate):
            raise NoBound(why)
        window = further = NOTHING
        while True:
            rounds += 1
            window = _needed(self.windows.looks(step, rounds, fewer=window))
            further = _needed(self.windows.looks(step, rounds, self._until_left(step, most), fewer=further))
            level = max(level, below + since.most_within(_most(further)) - (rounds - 1) * most)
            if below + since.most_within(_most(window)) <= rounds * most:
                break
            if rounds == MOST_ROUNDS or level > 4 * buffer.depth + most:
                raise NoBound(why)
        first = _needed(self.windows.looks(step, -(-min(level, buffer.depth) // most)))
        return self._drained(buffer, step, feed, level, most, asks, [*first.parts])

    def _drained(
        self, buffer: Buffer, step: Step, feed: Curve, level: int, taken: int, asks: Figure, looks: list[Part]
    ) -> BufferBounds:
        if asks.most is None:
            return self._never_asked(buffer, feed, level, taken, asks)
        duration = _needed(self.reach.steps[step.name].duration)
        if asks.most and level > buffer.depth and not buffer.overwrites:  # what finds no room does not make it ask
            asks = summed(0, [*asks.parts, *duration.parts])
        reaction = summed(0, [*asks.parts, *looks])
        return self._made(buffer, feed, level, taken, reaction, summed(0, [*reaction.parts, *duration.parts]))


def _one(what: str, isr: Isr, value: int) -> Figure:
    return Figure(0, value, (Part(what, isr.thing, 1, value),))


def _asks_again(buffer: Buffer, feed: Curve, runs: _Runs) -> bool:
    """Whether what comes while a run goes on, which has taken all before it, can make its buffer ask as it ends."""
    if buffer.quiet is not None and _most(runs.span) >= buffer.quiet.least:
        return True
    enough = buffer.asks_from
    if enough is None:
        return False
    if buffer.asks_each is None and feed.most_within(_most(runs.span)) < enough:
        return False
    # where each run answers one that came: that, and as many as make it ask once more
    other = buffer.quiet is not None or len(runs.isr.on) > 1
    return other or feed.most_within(_most(runs.response)) > enough


def _taken(feed: Curve, before: int, drains: Drain, start: int, end: int) -> int:
    """How many a run takes that begins ``start`` ps after a window of the feed has opened, and is over at its ``end``.

    ``before`` were in as it opened. Where it goes on until nothing is in, those too that come meanwhile.
    """
    taken = before + feed.most_within(start)
    if not drains.until_empty:
        return taken
    each, alone = drains.each.most, end - drains.items.most * drains.each.most
    return _in_one_run(feed, each, taken, alone, lambda many: before + feed.most_within(max(0, alone + many * each)))


def _in_one_run(feed: Curve, each: int, taken: int, alone: int, come: Callable[[int], int]) -> int:
    """The least number, ``taken`` or more, no more than which have come, says ``come``, by when so many have left.

    In a time t no less than the rate times t can come, so that n that take ``each`` are no less than what that brings
    in ``alone`` + n each.
    """
    rate = feed.rate()
    if rate * each >= 1:
        return MOST_IN_A_ROW
    taken = max(taken, int(rate * alone / (1 - rate * each)))
    for _ in range(MOST_LOOKS):
        if (more := min(MOST_IN_A_ROW, come(taken))) <= taken:
            return taken
        taken = more
    while (more := min(MOST_IN_A_ROW, come(taken))) > taken:  # so slowly that some more are allowed, too many at worst
        taken = min(2 * taken, MOST_IN_A_ROW)
    for _ in range(MOST_LOOKS):
        taken, more = more, min(MOST_IN_A_ROW, come(more))
    return taken


def _deepest(feed: Curve, before: int, drains: Drain, end: int) -> int:
    """The most in ahead of any leave of a run that is over ``end`` ps after a window of the feed has opened.

    ``before`` were in as it opened. What is left to be copied behind a leave takes as long as it takes at most.
    """
    items = max(1, drains.items.most)
    return max(
        before + feed.most_within(max(0, end - (items - last) * drains.each.most)) - (first - 1)
        for first, last in _batches(items)
    )


def _row_of_takings(buffer: Buffer, feed: Curve, first: int, each: int) -> tuple[int | None, tuple[int, int] | None]:
    """(the level, the item of a row that waits longest and how long after the first it came at least).

    The n-th is taken (n - 1) * ``each`` after the ``first`` at the latest. What comes no faster than it is taken in the
    long run stays below a straight line, in a row without end too; else the level is None.
    """
    level, longest = 0, (-1, (1, 0))
    for count in range(1, MOST_TAKEN + 1):
        until = first + (count - 1) * each
        came, span = feed.most_within(until), feed.least_span(count)
        level = max(level, came - (count - 1))
        longest = max(longest, (until - span, (count, span)))
        if came <= count:
            return level, longest[1]
        if level > 4 * buffer.depth + 1:
            return None, None
    burst, rate = feed.leaky()
    if rate * each > 1:
        return None, None
    count = MOST_TAKEN
    level = max(level, int(burst + rate * (first + count * each)) - count)
    span = max(0, int((count + 1 - burst) / rate)) if rate else 0
    return level, max(longest, (first + count * each - span, (count + 1, span)))[1]


def _in_rows(buffer: Buffer, feed: Curve, below: int, runs: _Runs, *, again: bool) -> tuple[int, Figure] | None:
    """(the level, the longest wait) where a run may leave some in, since it takes at most so many.

    A row begins with a request before which at most ``below`` are in, or with a run that takes all and in which it is
    asked for ``again``; each run of it takes its most, else another begins. It has ended where no more are in than do
    not ask. The item that is the n-th of a row came as late as n of them can, since ``below``. None: no end is found.
    """
    if len(runs.isr.on) > 1:
        return None
    most, level, longest = runs.drains.most, 0, 0
    for before, end_of in ((below, runs.end), *([(0, runs.end_of_next)] if again else [])):
        for count in range(1, MOST_ROUNDS + 1):
            end = end_of(count)
            level = max(level, _deepest(feed, before, runs.drains, end) - (count - 1) * most)
            if count > 1:
                came = feed.least_span(max(1, (count - 1) * most + 1 - before))
                longest = max(longest, end - runs.isr.cost.most - came)
            if before + feed.most_within(end) - count * most <= below:
                break
            if count == MOST_ROUNDS or level > 4 * buffer.depth + most:
                return None
    return level, _one("runs that what is before it needs", runs.isr, longest)


def _before_it_asks(buffer: Buffer, feed: Curve) -> int:
    """How many can be in while a buffer does not ask, those excluded that come at the instant at which it does.

    By its quiet time alone it asks after a row of items each of which comes within that of the one before. So many in
    a row there are as their densest way leaves no longer pause between.

    Raises:
        NoBound: such a row may go on and on.
    """
    if buffer.asks_from is not None:
        return buffer.asks_from - 1
    assert buffer.quiet is not None
    for count in range(2, 2 * buffer.depth + 3):
        if feed.least_span(count) > (count - 1) * buffer.quiet.most:
            return count - 1
    raise NoBound("it never asks while something comes again and again")


def _batches(items: int) -> list[tuple[int, int]]:
    """All leaves from the first to that of ``items`` on, in groups that grow: what holds for the last holds for all."""
    groups, first = [(1, 1)], 2
    while first <= items:
        last = min(items, first + max(0, first // 32 - 1))
        groups.append((first, last))
        first = last + 1
    return groups


def _needed(figure: Figure) -> Figure:
    """A figure that has a bound.

    Raises:
        NoBound: it has none.
    """
    if figure.most is None:
        raise NoBound(figure.reason)
    return figure


def _most(figure: Figure) -> int:
    assert figure.most is not None
    return figure.most
