"""From a System to the engine's memory (see ``layout``), as it is at time zero."""

from __future__ import annotations

import random
from collections.abc import Iterable
from fractions import Fraction

import numpy as np

from tachys.dividers.counter import tolerance_band
from tachys.errors import input_error
from tachys.model.acts import ACTS, Act, Drain, Guard, Halt, Put, Wait, Work
from tachys.model.events import Event
from tachys.model.nodes import Buffer, Clock, Isr, Pin, ReadCounter, Source, Step, Unit, Write
from tachys.model.quantities import PS_PER_SECOND, ZERO, Range
from tachys.model.system import System
from tachys.simulation import layout as at
from tachys.simulation.index import Index
from tachys.simulation.kept import Kept
from tachys.simulation.options import RunOptions

_COSTS = {"most": at.MOST, "least": at.LEAST, "drawn": at.UNIFORM, "triangular": at.TRIANGULAR, "measured": at.MEASURED}
_JITTER = {"none": at.NO_JITTER, "drawn": at.DRAWN_JITTER, "first-late": at.FIRST_LATE}
_DOES = {"low": at.LOW, "high": at.HIGH, "toggle": at.TOGGLE, "pulse": at.PULSE}
_REARM = {"grid": at.GRID, "skip": at.SKIP, "now": at.FROM_NOW}
_BUSY = {"drop": at.DROP, "restart": at.RESTART, "queue": at.QUEUE}
PULSE = 100_000  # ps
MOST_WORDS = 1 << 27  # 1 GiB
MOST_AT_ONCE = 1 << 22  # records that one act may add; one that adds more ends the run with an error
FEW_LINES = 100  # with more of them the histograms are coarser


def make_memory(system: System, index: Index, ways: RunOptions, end: int, *, record: Kept) -> at.Ints:
    """The memory of a run that ends at ``end`` ps, and of which records to keep.

    Raises:
        InputError: the model asks for more room than there is.
    """
    return _Builder(system, index, ways).build(end, record)


def histogram_bits(system: System) -> int:
    """Each octave of a histogram has two to the power of this many buckets."""
    return 6 if len(system.isrs) <= FEW_LINES else 4


class _Builder:
    def __init__(self, system: System, index: Index, ways: RunOptions) -> None:
        self.system = system
        self.index = index
        self.ways = ways
        self.words: list[int] = [0] * at.SCALARS
        self.flags = {flag: number for number, flag in enumerate(index.flags)}
        self.units = {unit: number for number, unit in enumerate(index.units)}
        self.buffers = {buffer: number for number, buffer in enumerate(index.buffers)}
        self.aparts: dict[str, int] = {}
        self.sources = {source: number for number, source in enumerate(index.sources)}
        self.events = {event: number for number, event in enumerate(index.events())}
        self.watches: dict[Event, list[int]] = {}
        self.counters: dict[str, int] = {}
        self.dice = random.Random(ways.seed)
        self.drift: dict[str, int] = {}
        self.bits = histogram_bits(system)
        self.stat_size = at.T_BUCKETS + ((at.OCTAVES + 2) << self.bits)
        self.stats = {name: number for number, name in enumerate(index.statistics())}

    def build(self, end: int, record: Kept) -> at.Ints:
        system, words = self.system, self.words
        self._refuse_giants()
        for place, many in (
            (at.N_SOURCES, len(system.sources)), (at.N_UNITS, len(system.units)), (at.N_LINES, len(system.isrs)),
            (at.N_ROWS, len(self.index.rows)), (at.N_STEPS, len(system.steps)), (at.N_FLAGS, len(self.flags)),
            (at.N_ITEMS, len(system.units) + len(system.sources) + len(system.buffers)), (at.BITS, self.bits),
            (at.N_BUFFERS, len(system.buffers)),
        ):  # fmt: skip
            words[place] = many
        self._ways(end)
        self._kept(record)
        self._items()
        self._watched()
        self._raises()
        self._table(at.SOURCES, [self._source(source) for source in system.sources])
        self._table(at.UNITS, [self._unit(unit) for unit in system.units])
        words[at.WAITING] = self._put(
            [0] * (len(system.isrs) // at.LINES_A_WORD) + [1 << len(system.isrs) % at.LINES_A_WORD]
        )
        self._table(at.LINES, [self._line(isr) for isr in system.isrs])
        self._table(at.ROWS, [row for number in range(len(system.isrs)) for row in self._rows(number)])
        self._table(at.STEPS, [self._step(step) for step in system.steps])
        self._table(at.BUFFERS, [self._buffer(buffer) for buffer in system.buffers])
        self._table(at.FLAGS, [at.record("F", set=0, over=0, stats=self.stats[f"flag.{flag}"]) for flag in self.flags])
        self._frames()
        return self._with_stats(np.array(words, np.int64))

    # --- parts -----------------------------------------------------------------------------------------------------

    def _put(self, values: Iterable[int]) -> int:
        """Lay words down; their address."""
        address = len(self.words)
        self.words.extend(values)
        return address

    def _table(self, place: int, records: list[list[int]]) -> None:
        self.words[place] = self._put(word for record in records for word in record)

    def _ways(self, end: int) -> None:
        words, core, ways = self.words, self.system.core, self.ways
        overhead = self.system.loop.overhead if self.system.loop else ZERO
        words[at.END] = end
        words[at.EARLIEST] = at.NEVER
        words[at.BEST] = len(self.system.isrs)
        words[at.PASS_BEGAN] = -1
        words[at.AT_STEP] = sum(not step.once for step in self.system.steps)  # the start-up is the last of them
        words[at.PASS_RAN] = 1
        words[at.PHASE] = at.GATE if self.system.loop else at.IDLE
        words[at.COSTS] = _COSTS[ways.costs]
        words[at.ARRIVALS] = at.DENSE if ways.arrivals == "gap" else at.MEAN
        words[at.JITTER] = _JITTER[ways.jitter]
        words[at.NESTING], words[at.LATE_ARRIVAL] = core.nesting, core.late_arrival
        for place, times in (
            (at.ENTRY_LEAST, core.entry), (at.EXIT_LEAST, core.exit), (at.CHAIN_LEAST, core.chain),
            (at.OVERHEAD_LEAST, overhead),
        ):  # fmt: skip
            words[place], words[place + 1] = times.least, times.most
        for place in (at.DRAW_0, at.DRAW_1, at.DRAW_2, at.DRAW_3):
            words[place] = self.dice.getrandbits(32) | 1

    def _kept(self, record: Kept) -> None:
        if not record:
            return
        kinds = [at.NONE] * at.KINDS
        names = self.index
        most = max(map(len, (names.sources, names.units, names.rows, names.inner)))
        for kind, indices in record.items():
            kinds[kind] = at.EVERY if indices is None else self._put(int(each in indices) for each in range(most))
        self.words[at.RECORD] = self._put(kinds)

    def _items(self) -> None:
        items = max(1, self.words[at.N_ITEMS])
        blocks = -(-items // at.BLOCK)
        self.words[at.N_BLOCKS] = blocks
        self.words[at.NEXT] = self._put([at.NEVER] * (blocks * at.BLOCK))
        self.words[at.LEFT] = self._put([0] * (blocks * at.BLOCK))
        self.words[at.BLOCKS] = self._put([at.NEVER, at.NEVER] * blocks)

    def _watched(self) -> None:
        """Pins and counters, and what each event does to them."""
        system = self.system
        self._table(at.PINS, [self._pin(pin) for pin in system.pins])
        self._table(at.COUNTERS, [self._counter(counter) for counter in system.counters])
        acts = [(write.event, _DOES[write.does], at.PINS, number, at.PIN_SIZE, _pulse(write))
                for number, pin in enumerate(system.pins) for write in pin.writes]  # fmt: skip
        for number, counter in enumerate(system.counters):
            self.counters[counter.name] = self.words[at.COUNTERS] + number * at.COUNTER_SIZE
            acts += [(look, at.LOOK, at.COUNTERS, number, at.COUNTER_SIZE, 0) for look in counter.read_by]
            if counter.of is not None:
                acts.append((counter.of, at.COUNT_ONE, at.COUNTERS, number, at.COUNTER_SIZE, 0))
        for event, does, table, number, size, length in acts:
            act = self._put(at.record("W", does=does, to=self.words[table] + number * size, length=length))
            self.watches.setdefault(event, []).append(act)

    def _pin(self, pin: Pin) -> list[int]:
        level = pin.first or 0
        return at.record("O", level=level, before=level, at=-1, since=0, high=0, edges=0, until=-1)

    def _counter(self, counter: ReadCounter) -> list[int]:
        num, den = 0, 0
        if counter.clock is not None:
            rate = self._rate(counter.clock, counter.root)
            num, den = rate.numerator, rate.denominator
        return at.record(
            "C", states=min(counter.states, at.NEVER), count=0, num=num, den=den, rest=0, since=0, look=-1, seen=-1,
            looks=0, least=at.NEVER, most=-1, tops=0, missed=0,
        )  # fmt: skip

    def _rate(self, clock: Clock, root: str) -> Fraction:
        """Counts a ps of a clock, as written, or as it drifts with all that comes from the same one."""
        period = Fraction(PS_PER_SECOND) / clock.hertz
        rate = 1 / self._within(period, *tolerance_band(period, clock.tolerance), root=root)
        return rate if rate.denominator < 1 << 31 else rate.limit_denominator((1 << 31) - 1)

    def _raises(self) -> None:
        """What every event raises: rows as their number, units as -1 - number, then its flags, then buffers."""
        targets: dict[Event, list[int]] = {event: [] for event in self.events}
        rows = {row: number for number, row in enumerate(self.index.rows)}
        for event, begun in self.system.graph.begun_by.items():
            for body in begun:
                targets[event].append(-1 - self.units[body.name] if body.kind == "unit" else rows[body.name, event])
        for event, units in self.system.graph.asked_at.items():
            targets[event] += [-1 - self.units[unit.name] for unit in units]
        for event, flags in self.system.graph.sets.items():
            if event.kind != "isr" or event.moment == "nth":  # a routine sets its own as it ends
                set_ = [at.FIRST_FLAG + self.flags[flag] for flag in flags]
                targets[event] = [*set_, *targets[event]] if event.moment == "nth" else [*targets[event], *set_]
        for event, feeds in self.system.graph.feeds.items():
            targets[event] += [at.FIRST_FEED + self.buffers[buffer] * at.ITEMS + items for buffer, items in feeds]
        for cancels, table in ((0, self.system.graph.counted), (1, self.system.graph.cancels)):
            for event, counting in table.items():
                first = [at.FIRST_COUNT + 2 * self.units[unit.name] + cancels for unit in counting]
                targets[event] = [*targets[event], *first] if cancels else [*first, *targets[event]]
        for event, acts in self.watches.items():  # looks and counts come first of all
            targets[event] = [*(at.FIRST_WATCH + act for act in acts), *targets[event]]
        addresses = [self._put(values) for values in targets.values()]
        self.words[at.RAISES_AT] = self._put([*addresses, self._put([])])
        spilled = sum(
            items
            for feeds in self.system.graph.feeds.values()
            for buffer, items in feeds
            if buffer in self.system.graph.heeded
        )
        self.words[at.CHAIN_SIZE] = 64 * (len(self.units) + len(self.buffers)) + 1024 + spilled
        self.words[at.CHAIN] = self._put([0] * self.words[at.CHAIN_SIZE])
        self.words[at.ENDED] = self._put([0] * len(self.units))
        widest = max(map(len, targets.values()), default=0)
        on_starts = max((len(targets[unit.start]) for unit in self.system.units), default=0)
        guarded = [isr.guards for isr in self.system.isrs] + [step.guards for step in self.system.steps]
        guards = 2 * max(map(len, guarded), default=0)
        items = [sum(items for _, items in feeds) for feeds in self.system.graph.feeds.values()]
        items += [put.items.most for step in self.system.steps for put in step.puts]
        items += [buffer.depth for buffer in self.system.buffers]
        at_once = (
            64
            + (4 + 2 * widest * bool(spilled)) * max(items, default=0)
            + guards
            + 2 * len(self.flags)
            + 2 * widest
            + 2 * on_starts * self.words[at.CHAIN_SIZE]
        )
        self.words[at.AT_ONCE] = min(at_once, MOST_AT_ONCE)

    def _source(self, source: Source) -> list[int]:
        whole, rest, bottom = _split(self._period(source))
        together, room = _together(source), 0
        if source.period is not None and source.jitter:
            room = self._put([0] * (source.jitter * bottom // (whole * bottom + rest) + 3))
        begin = self._begin(source)
        kind = at.PERIODIC if source.period is not None else at.BURST if source.burst else at.SPORADIC
        pause = source.burst.every if source.burst else source.gap
        gap = pause if together == 1 else source.gap  # a burst of one is followed by the next burst
        return at.record(
            "S", kind=kind, jitter=source.jitter, whole=whole, rest=rest, den=bottom, gap=gap, extra=_extra(source),
            count=together, pause=pause, room=room, base=begin, over=0, left=0, began=begin, held=0,
            apart=self._apart(source), wanted=-1,
        )  # fmt: skip

    def _apart(self, source: Source) -> int:
        """The record of what it keeps apart from, laid down once."""
        for apart in self.system.aparts:
            if source.event in apart.of:
                if apart.name not in self.aparts:
                    members = [self.sources[event.name] for event in apart.of]
                    first = self._put(members)
                    self.aparts[apart.name] = self._put([-apart.gap, apart.gap, first, first + len(members)])
                return self.aparts[apart.name]
        return 0

    def _period(self, source: Source) -> Fraction:
        if source.period is None or source.period_least is None or source.period_most is None:
            return Fraction(1)
        return self._within(source.period, source.period_least, source.period_most, root=source.clock)

    def _within(self, nominal: Fraction, least: Fraction, most: Fraction, root: str | None = None) -> Fraction:
        """A period as written, or anywhere within its tolerance; what one clock (``root``) counts drifts together."""
        if self.ways.rates == "nominal" or least == most:
            return nominal
        drawn = self.dice.randint(0, 1024)
        if root is not None:
            drawn = self.drift.setdefault(root, drawn)
        share = (least + (most - least) * Fraction(drawn, 1024)) / nominal
        found = Fraction(round(share * 2**30), 2**30) * nominal
        return found if least <= found <= most and found.denominator < 1 << 60 else nominal

    def _begin(self, source: Source) -> int:
        """The first (nominal) instant of a source."""
        drawn = self.dice.random()
        if source.name in self.ways.begin:
            return self.ways.begin[source.name]
        if source.offset is not None:
            return source.offset
        if self.ways.phases == "together":
            return 0
        span = int(source.period) if source.period is not None else max(source.gap, source.mean * _together(source))
        return int(drawn * span)

    def _unit(self, unit: Unit) -> list[int]:
        depth = max(unit.depth, 1)
        return at.record(
            "U", ends=0, least=unit.takes.least, most=unit.takes.most, busy=_BUSY[unit.busy], depth=depth,
            room=self._put([0] * depth), cause=0, head=0, held=0, lost=0,
            drains=self.buffers[unit.drains] if unit.drains else -1, asked=bool(unit.asked_at),
            counts=unit.counts.n if unit.counts else 0, left=0, repeats=bool(unit.counts and unit.counts.repeats),
            answers=int(unit.answers * at.ALWAYS), silent=False, gone=0, since=0, worked=0,
            steals_least=unit.steals.least, steals_most=unit.steals.most, stolen=0,
            stats=self.stats[f"{unit.thing}.time"],
        )  # fmt: skip

    def _buffer(self, buffer: Buffer) -> list[int]:
        drain = self.system.graph.drain[buffer.name]
        least, most = (buffer.quiet.least, buffer.quiet.most) if buffer.quiet else (-1, -1)
        return at.record(
            "Q", depth=buffer.depth, threshold=buffer.threshold or at.NEVER, quiet_least=least, quiet_most=most,
            room=self._put([0] * buffer.depth), head=0, held=0, lost=0, deepest=0, over=0, left=0, copies=0, took=0,
            inside=0, each=buffer.asks_each or 0, count=0, overwrites=buffer.overwrites,
            until=buffer.name in self.system.graph.until_empty,
            state=at.RESTS if drain.kind == "isr" else at.SERVED,  # a step looks by itself, and a unit at once
            unit=self.units[drain.name] if isinstance(drain, Unit) and not drain.asked_at else -1,
            spills=self.events[buffer.lost] if buffer.name in self.system.graph.heeded else -1,
            into=self.buffers[buffer.room_in] if buffer.room_in else -1,
            behind=next((self.buffers[each.name] for each in self.system.buffers if each.room_in == buffer.name), -1),
            stats=self.stats[f"{buffer.thing}.time"],
        )  # fmt: skip

    def _line(self, isr: Isr) -> list[int]:
        size = isr.pending * len(isr.on)
        room = self._put([0] * (2 * size))
        sets = self._put(self.flags[flag] for flag in isr.sets)
        guards, guards_end = self._guards(isr.guards)
        drains = isr.drains
        return at.record(
            "L", urgency=isr.urgency, all=isr.serves_all, room=room, size=size, head=0, held=0, sets=sets,
            sets_end=sets + len(isr.sets), guards=guards, guards_end=guards_end, body=0, over=0,
            drains=self.buffers[drains.buffer] if drains else -1, each_least=drains.each.least if drains else 0,
            each_most=drains.each.most if drains else 0, takes=drains.most if drains else 0,
            moves=self.buffers[isr.moves_to] if isr.moves_to else -1, pause_least=isr.pause.least,
            pause_most=isr.pause.most, clears=isr.clears, woke=0, stats=self.stats[f"{isr.thing}.latency"],
            **self._inner(isr),
        )  # fmt: skip

    def _inner(self, isr: Isr) -> dict[str, int]:
        """What each n-th run does more, and the events within a run."""
        events = {event.moment: number for number, event in enumerate(self.index.inner) if event.thing == isr.thing}
        moments = self._put(
            word
            for name, place in isr.moments
            for word in at.record("I", least=place.least, most=place.most, inner=events[name])
        )
        more = {"moments": moments, "moments_end": moments + at.INNER_SIZE * len(isr.moments)}
        nth = isr.nth
        if nth is None:
            return more | dict.fromkeys(("nth", "nth_in", "nth_least", "nth_most", "nth_inner"), 0)
        first = nth.first
        if first is None:
            first = nth.n if self.ways.phases == "together" else self.dice.randint(1, nth.n)
        return more | {"nth": nth.n, "nth_in": first - 1, "nth_least": nth.cost.least, "nth_most": nth.cost.most,
                       "nth_inner": events["nth"]}  # fmt: skip

    def _guards(self, guards: tuple[Guard, ...]) -> tuple[int, int]:
        first = self._put(
            word
            for guard in guards
            for (first, last), (least, most) in [(_pair(guard.at), _pair(guard.length))]
            for word in at.record("G", urgency=guard.urgency, at_least=first, at_most=last, least=least, most=most)
        )  # fmt: skip
        return first, first + at.GUARD_SIZE * len(guards)

    def _rows(self, number: int) -> list[list[int]]:
        isr = self.system.isrs[number]
        first, end = self._measured(isr.thing) if isr.drains is None and isr.nth is None else (0, 0)
        return [
            at.record("R", line=number, least=cost.least, most=cost.most, pending=isr.pending, waits=0, lost=0,
                      cleared=0, asked=isr.drains is not None and event == f"buffer.{isr.drains.buffer}",
                      measured=first, measured_end=end)
            for cost, event in zip(isr.costs_first, isr.on, strict=True)
        ]  # fmt: skip

    def _measured(self, body: str) -> tuple[int, int]:
        values = self.system.measured.get(body, ())
        first = self._put(values)
        return first, first + len(values)

    def _step(self, step: Step) -> list[int]:
        whole, rest, bottom = 0, 0, 0
        if step.every is not None:
            whole, rest, bottom = _split(self._within(step.every.nominal, step.every.least, step.every.most))
        records = [self._act(step, act) for act in step.acts]
        acts = self._put(word for words in records for word in words)
        polled = () if step.asked_by else step.polls
        polls = self._put(self.flags[flag] for flag in polled)
        return at.record(
            "P", polls=polls, polls_end=polls + len(polled), all=step.polls_all, whole=whole, rest=rest,
            den=bottom, rearm=_REARM[step.rearm], acts=acts, acts_end=acts + at.ACT_SIZE * len(step.acts), due=whole,
            due_over=rest, last=-1, body=0, asked=self.buffers[step.asked_by] if step.asked_by else -1,
            drains=self.buffers[step.drains.buffer] if step.drains else -1,
            takes=step.drains.most if step.drains else 0, once=step.once, spun=0, aslept=0, shallow=0,
            stats=self.stats[f"{step.thing}.interval"],
        )  # fmt: skip

    def _act(self, step: Step, act: Act) -> list[int]:
        own = act.each if isinstance(act, Drain) else act.items if isinstance(act, Put) else act.takes
        own = (
            act.wake
            if isinstance(act, Halt)
            else step.halt.masked
            if step.halt and isinstance(act, Work) and act.masked
            else own
        )
        halt = act if isinstance(act, Halt) else Halt()
        stops = [
            self.units[thing.name] if thing.kind == "unit" else len(self.units) + self.sources[thing.name]
            for thing in halt.stops if thing.kind != "counter"
        ]  # fmt: skip
        still = [self.counters[thing.name] for thing in halt.stops if thing.kind == "counter"]
        stands = self._put(still)
        stopped, plain = self._put(stops), self._put(self.units[unit] for unit in halt.plain_if)
        least, most = _pair(act.gives_up if isinstance(act, Wait) else own)
        unit, looked_at = -1, act.unless if isinstance(act, Halt) else ()
        if isinstance(act, Wait):
            unit, looked_at = (-1, (act.on.name,)) if act.flag else (self.units[act.on.name], ())
        elif isinstance(act, Drain | Put):
            unit = self.buffers[act.buffer]
        flags = self._put(self.flags[flag] for flag in looked_at)
        guards, guards_end = self._guards(act.held)
        measured, measured_end = self._measured(step.thing) if isinstance(act, Work) else (0, 0)
        return at.record(
            "A", kind=ACTS.index(type(act)), least=least, most=most, unit=unit, flags=flags,
            flags_end=flags + len(looked_at), guards=guards, guards_end=guards_end, measured=measured,
            measured_end=measured_end, still=stands, still_end=stands + len(still), stops=stopped,
            stops_end=stopped + len(stops), plain=plain,
            plain_end=plain + len(halt.plain_if), plain_least=halt.plain.least, plain_most=halt.plain.most,
            masked=act.masked if isinstance(act, Work) else False, past=0 if isinstance(act, Wait) and act.next else -1,
        )  # fmt: skip

    def _frames(self) -> None:
        bodies = [*(isr.guards for isr in self.system.isrs), *(step.guards for step in self.system.steps)]
        guards = max((len(each) for each in bodies), default=0)
        depth = len({isr.urgency for isr in self.system.isrs}) + 2
        moments = max((len(isr.moments) for isr in self.system.isrs), default=0)
        size = at.B_HOLDS + 1 + 2 * guards + moments
        first = len(self.words)
        for number in range(depth):
            holds = first + number * size + at.B_HOLDS + 1
            self._put([0] * at.B_TIMES + [holds + 2 * guards, holds] + [0] * (2 * guards + moments))
        self.words[at.FRAMES] = self.words[at.FRAME] = first
        self.words[at.FRAME_SIZE] = size

    # --- statistics ------------------------------------------------------------------------------------------------

    def _with_stats(self, memory: at.Ints) -> at.Ints:
        """Append the statistics; what the records name by number gets its address."""
        base = len(memory)
        stats = np.zeros((len(self.stats), self.stat_size), np.int64)
        stats[:, at.T_LEAST] = at.NEVER
        stats[:, at.T_MOST] = -1
        memory[at.STATS], memory[at.STAT_SIZE] = base, self.stat_size
        for table, many, size, field in (
            (at.UNITS, at.N_UNITS, at.UNIT_SIZE, at.U_STATS), (at.LINES, at.N_LINES, at.LINE_SIZE, at.L_STATS),
            (at.STEPS, at.N_STEPS, at.STEP_SIZE, at.P_STATS), (at.FLAGS, at.N_FLAGS, at.FLAG_SIZE, at.F_STATS),
            (at.BUFFERS, at.N_BUFFERS, at.BUFFER_SIZE, at.Q_STATS),
        ):  # fmt: skip
            places = memory[table] + np.arange(memory[many]) * size + field
            memory[places] = base + memory[places] * self.stat_size
        memory[at.PASS_STATS] = base + self.stats["pass"] * self.stat_size
        return np.concatenate([memory, stats.ravel()])

    def _refuse_giants(self) -> None:
        system = self.system
        wanted = {
            "pending": sum(2 * isr.pending * len(isr.on) for isr in system.isrs),
            "depth": sum(unit.depth for unit in system.units) + sum(buffer.depth for buffer in system.buffers),
            "jitter": sum(int(s.jitter / s.period) for s in system.sources if s.period),
        }
        for what, words in wanted.items():
            if words > MOST_WORDS // 4:
                raise input_error(
                    system.title or "model", f"the simulation has no room for so much {what}", "write a smaller number"
                )


def _pulse(write: Write) -> int:
    """How long a pulse is played; what is not said is just long enough to be seen in a drawing."""
    return write.length.most if write.length is not None else PULSE


def _pair(value: Range | None) -> tuple[int, int]:
    return (-1, -1) if value is None else (value.least, value.most)


def _split(period: Fraction) -> tuple[int, int, int]:
    """(whole, rest, denominator) of a period."""
    return period.numerator // period.denominator, period.numerator % period.denominator, period.denominator


def _together(source: Source) -> int:
    """Events that come one after the other: of a burst, or of a frame on a serial line."""
    return source.burst.count if source.burst else source.serial.frame if source.serial else 1


def _extra(source: Source) -> int:
    """What the mean adds to the least distance: of one event, or of all that come together."""
    if source.period is not None:
        return 0
    count = _together(source)
    least = source.burst.every if source.burst else source.gap * count
    return max(0, source.mean * count - least)
