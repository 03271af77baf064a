"""What a system is made of: clocks, the core, sources, units, routines, steps of the loop, probes.

Frozen, in whole picoseconds. Urgency is counted from 0, the most urgent, whichever way the chip numbers its levels.
Periods stay rational, because floor(k · P) of a rounded P drifts.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import ClassVar, Literal

from msgspec import Struct
from msgspec.structs import replace

from tachys.dividers.counter import Counter, Setting
from tachys.dividers.serial import SerialSetting
from tachys.model.acts import Act, Drain, Guard, Halt, Put, Wait, Work
from tachys.model.events import Body, Event, Named, Thing
from tachys.model.quantities import YEAR, ZERO, Range


class Clock(Struct, frozen=True):
    """A clock of the tree: nominal rate in hertz and how far it may be off, as a share; what it comes from, if so."""

    name: str
    hertz: Fraction
    tolerance: Fraction = Fraction(0)
    parent: str | None = None


class Core(Struct, frozen=True):
    """How the processor takes interrupts; times as [least, most] over the tolerance of its clock, in ps."""

    clock: Clock
    nesting: bool = True
    levels: int = 1
    entry: Range = ZERO
    exit: Range = ZERO
    chain: Range = ZERO
    wake: Range = ZERO
    depths: tuple[tuple[str, Range], ...] = ()
    late_arrival: bool = False
    lowest_is_urgent: bool = True

    @property
    def least_latency(self) -> int:
        """The least time in ps from an event to the first instruction: an entry or a chain; what takes one over, 0."""
        return 0 if self.late_arrival else min(self.entry.least, self.chain.least)

    @property
    def follows(self) -> Range:
        """From the last instruction of a routine to the first of the next: by a chain, or an exit and an entry."""
        apart = self.exit + self.entry
        return Range(min(self.chain.least, apart.least), max(self.chain.most, apart.most))

    def level_text(self, urgency: int) -> int:
        """The level as the model writes it; the nearest one, of a level that was only seen."""
        within = min(max(0, urgency), self.levels - 1)
        return within if self.lowest_is_urgent else self.levels - 1 - within


class Timer(Struct, frozen=True):
    """The timer behind a periodic source; ``wanted`` in ps, None where none is written.

    ``counter`` says what the hardware could be set to, ``chosen`` whether Tachys chose the setting.
    """

    clock: Clock
    counter: Counter
    setting: Setting
    wanted: Fraction | None = None
    chosen: bool = False


class Serial(Struct, frozen=True):
    """The serial line behind a source; ``setting`` None where no clock of the receiver is written."""

    baud: Fraction
    bits: int
    frame: int
    clock: Clock | None = None
    setting: SerialSetting | None = None


Amperes = tuple[Fraction, Fraction]  # the least and the most of a supply current


class Battery(Struct, frozen=True):
    """So many coulombs, of which this share is usable, and of which this share is lost by itself each year."""

    capacity: Fraction
    usable: Fraction
    leaks: Fraction

    def lasts(self, average: Fraction) -> Fraction | None:
        """How many seconds at an average current in amperes; None: without end.

        Life = capacity · usable / (average + capacity · self-discharge / 365 days).
        """
        taken = average + self.capacity * self.leaks / YEAR
        return self.capacity * self.usable / taken if taken else None

    def allows(self, seconds: Fraction) -> Fraction:
        """The average current with which it lasts so long; less than 0 where it empties itself sooner."""
        return self.capacity * self.usable / seconds - self.capacity * self.leaks / YEAR


class Burst(Struct, frozen=True):
    """``count`` events at least ``spaced`` ps apart, the beginnings of bursts at least ``every`` ps.

    ``within``: from its first event to its last it takes so long at most; None: nothing is known of that.
    """

    count: int
    spaced: int
    every: int
    within: int | None = None


class Source(Named, frozen=True):
    """Events from outside: periodic (``period`` nominal, least, most in ps), in bursts, or sporadic with ``gap``.

    ``stands_still``: that what counts it may do so, and when, in words. ``clock``: the root of the clock that counts
    it; None: it is written in seconds.
    """

    kind: ClassVar[str] = "source"
    name: str
    period: Fraction | None = None
    period_least: Fraction | None = None
    period_most: Fraction | None = None
    jitter: int = 0
    offset: int | None = None
    gap: int = 0
    mean: int = 0
    burst: Burst | None = None
    timer: Timer | None = None
    serial: Serial | None = None
    stands_still: str = ""
    clock: str | None = None

    @property
    def steady(self) -> Fraction | None:
        """Its nominal period in ps, where it keeps to a grid."""
        return None if self.stands_still else self.period

    @property
    def firm_period(self) -> Fraction | None:
        """The longest period in ps after which it surely comes, if there is one."""
        return None if self.stands_still else self.period_most

    @property
    def event(self) -> Event:
        """Its only event."""
        return Event(self.thing)


class Feed(Struct, frozen=True):
    """An event that puts so many ``items`` into a buffer."""

    event: Event
    items: int = 1


class Buffer(Named, frozen=True):
    """Between who puts and who takes: ``depth`` items find room in it, one more is lost.

    It asks for service while ``threshold`` or more are in (None: never by that), while something is in and nothing
    has been put for ``quiet`` ps, or while one is in that makes a whole number of ``asks_each`` and no run has taken.
    One that ``overwrites`` loses the oldest in place of the newest. Of one with ``room_in`` a routine takes no more
    than have room in that other buffer, and it does not ask while none has. One without ``overruns`` has been shown to
    lose none. Where that has been shown, no more than ``holds`` are in at once, each is taken within ``waits`` ps, and
    no two are taken closer than ``apart`` ps.
    """

    kind: ClassVar[str] = "buffer"
    name: str
    depth: int
    fed_by: tuple[Feed, ...] = ()
    threshold: int | None = 1
    quiet: Range | None = None
    asks_each: int | None = None
    overwrites: bool = False
    room_in: str | None = None
    overruns: bool = True
    holds: int | None = None
    waits: int | None = None
    apart: int | None = None

    @property
    def lost(self) -> Event:
        """An item finds it full."""
        return Event(f"{self.thing}.lost")

    @property
    def in_at_most(self) -> int:
        """No more are in at once."""
        return self.depth if self.holds is None else min(self.holds, self.depth)

    @property
    def asks_from(self) -> int | None:
        """How many that no run has taken are enough to make it ask; None: no number is."""
        return self.threshold or self.asks_each

    @property
    def event(self) -> Event:
        """Its request."""
        return Event(self.thing)


class Counts(Struct, frozen=True):
    """A unit ends with the ``n``-th event ``of`` these after the one that started it; one that ``repeats`` begins anew.

    It goes to rest without an end at any of the events ``cancelled_by``.
    """

    n: int
    of: Event
    repeats: bool = False
    cancelled_by: tuple[Event, ...] = ()


class Unit(Body, frozen=True):
    """Hardware that works for ``takes`` after each event of ``on``; ``depth`` starts wait where ``busy`` is queue.

    One that ``drains`` a buffer takes one item whenever it is at rest, and works for that; one with ``asked_at`` only
    as one of these events comes. One that ``counts`` takes as long as that, whatever ``takes`` says. Of its operations
    only this share ``answers``: the others never end, and the next start begins anew. ``current``: on top, at work.
    ``stands_still``: that its clock may do so while it is at work, and when, in words. ``steals``: for so many ps what
    burns CPU time as an operation ends gets on no further.
    """

    kind: ClassVar[str] = "unit"
    name: str
    on: tuple[Event, ...]
    takes: Range
    busy: Literal["drop", "restart", "queue"] = "drop"
    depth: int = 0
    primed: bool = False
    drains: str | None = None
    asked_at: tuple[Event, ...] = ()
    counts: Counts | None = None
    answers: Fraction = Fraction(1)
    current: Amperes = (Fraction(0), Fraction(0))
    stands_still: str = ""
    steals: Range = ZERO

    @property
    def surely_ends(self) -> bool:
        """Whether each operation ends after what it takes, unless it is begun anew."""
        return not (self.may_stay_silent or self.stands_still)

    @property
    def may_stay_silent(self) -> bool:
        """Whether an operation may never end."""
        return self.answers < 1


class Nth(Struct, frozen=True):
    """What each ``n``-th run of a routine does more: ``cost``, after all else, and the flags that it sets.

    ``first``: the number of the first such run; None: any of the first n.
    """

    n: int
    first: int | None
    cost: Range = ZERO
    sets: tuple[str, ...] = ()

    @property
    def of_any(self) -> Range:
        """What it adds to any run."""
        every = self.n == 1 and self.first in (None, 1)
        return Range(self.cost.least if every else 0, self.cost.most)

    def among(self, runs: int) -> int:
        """The most such runs among so many in a row."""
        return -(-runs // self.n)

    @property
    def within(self) -> int:
        """Of so many runs in a row one is such a run, those from time zero on included."""
        return max(self.n, self.first or 1)


class Isr(Body, frozen=True):
    """An interrupt routine; ``urgency`` 0 is the most urgent level, ``rank`` the place in the order of acceptance.

    ``order`` is what is written for those of one level.

    ``cost`` is that of any event, ``costs`` that of each event of ``on``, in the same order; of one that ``drains`` a
    buffer with what the items take, and with what each n-th run does more. ``moves_to``: the buffer into which it puts,
    as it ends, what it has drained. ``moments``: events within it, each so much CPU time after its first instruction.
    After all that it spins for a ``pause`` by the clock, which ``cost`` and ``costs`` count as far as nothing is on top
    of it. One that ``clears`` clears its own mark as it ends. ``exception``: its number in trace packets.
    """

    kind: ClassVar[str] = "isr"
    name: str
    on: tuple[Event, ...]
    urgency: int
    rank: int
    cost: Range
    costs: tuple[Range, ...]
    guards: tuple[Guard, ...] = ()
    pending: int = 1
    serves_all: bool = False
    sets: tuple[str, ...] = ()
    order: int = 0
    drains: Drain | None = None
    moves_to: str | None = None
    nth: Nth | None = None
    moments: tuple[tuple[str, Range], ...] = ()
    pause: Range = ZERO
    clears: bool = False
    exception: int | None = None

    @property
    def costs_first(self) -> tuple[Range, ...]:
        """The ``costs`` without what the items take that it drains, what each n-th run does more, and the pause."""
        more = _more(self.drains, self.nth, self.pause)
        return tuple(Range(cost.least - more.least, cost.most - more.most) for cost in self.costs)

    @property
    def cost_first(self) -> Range:
        """Its ``cost`` as that of ``costs_first``."""
        return _spanned(self.costs_first)

    @property
    def shortest(self) -> int:
        """The least time in ps by the clock from its first instruction to its last."""
        return self.cost.least + self.pause.least

    @property
    def longer(self) -> int:
        """The most that some runs take more than the others, in ps."""
        return 0 if self.nth is None else self.nth.cost.most

    def in_all(self, runs: int) -> int:
        """The most that those of so many runs in a row take more that do, in ps."""
        return 0 if self.nth is None else self.nth.among(runs) * self.longer

    @property
    def inner(self) -> tuple[Event, ...]:
        """The events between its beginning and its end."""
        names = [*([] if self.nth is None else ["nth"]), *(name for name, _ in self.moments)]
        return tuple(Event(f"{self.thing}.{name}") for name in names)

    @property
    def behind_moments(self) -> dict[Event, tuple[Event, ...]]:
        """What surely lies behind each moment: its end, and the moments that are later in any run."""

        def event(name: str) -> Event:
            return Event(f"{self.thing}.{name}")

        return {
            event(name): (self.end, *(event(other) for other, after in self.moments if after.least > at.most))
            for name, at in self.moments
        }

    def burning(self, first: Sequence[Range], drains: Drain | None, nth: Nth | None) -> Isr:
        """The same routine with these ``costs_first``, draining like that, and each n-th run so much longer."""
        costs = tuple(cost + _more(drains, nth, self.pause) for cost in first)
        return replace(self, cost=_spanned(costs), costs=costs, drains=drains, nth=nth)

    def marks_in(self, figure: str, mark: Range) -> Range:
        """What marks add to a figure: one before all that it does, one behind, and at each event within it one or none.

        Of that event's own mark the count is read after a part of it.
        """
        if figure == "nth":
            return Range(0, mark.most)
        moment = figure.partition("moments.")[2]
        if not moment:
            return Range(2 * mark.least, (2 + len(self.moments)) * mark.most)
        at = dict(self.moments)[moment]
        before = sum(other.least <= at.most for _, other in self.moments)
        return Range(mark.least, (1 + before) * mark.most)

    def marked(self, mark: Range) -> Isr:
        """The same routine with its marks."""
        if not mark.most:
            return self
        moments = tuple((name, at + self.marks_in(f"moments.{name}", mark)) for name, at in self.moments)
        costs, nth = [cost + self.marks_in("cost", mark) for cost in self.costs_first], self.nth
        nth = None if nth is None else replace(nth, cost=nth.cost + self.marks_in("nth", mark))
        within = Range(0, len(self.moments) * mark.most)
        guards = tuple(guard.later(mark + within, longer=within) for guard in self.guards)
        return replace(self.burning(costs, self.drains, nth), moments=moments, guards=guards)

    def draining(self, drains: Drain) -> Isr:
        """The same routine, if it drains like that."""
        return self.burning(self.costs_first, drains, self.nth)


def _more(drains: Drain | None, nth: Nth | None, pause: Range) -> Range:
    """What items, an n-th run and a pause take beside the rest of a routine: of a pause nothing, if others run then."""
    taken = (ZERO if drains is None else drains.takes) + (ZERO if nth is None else nth.of_any)
    return taken + Range(0, pause.most)


def _spanned(costs: Sequence[Range]) -> Range:
    return Range(min(cost.least for cost in costs), max(cost.most for cost in costs))


class Period(Struct, frozen=True):
    """A distance that repeats, in rational ps: nominal, and [least, most] over the tolerance of its clock."""

    nominal: Fraction
    least: Fraction
    most: Fraction


class Step(Body, frozen=True):
    """A step of the loop: when it opens, and what it then does, in order.

    It ``polls`` flags: opens while one of them is set, with ``polls_all`` while all are, and takes those that are; or
    the one "buffer.NAME" that asks. The start-up is a step that runs ``once``, at time zero, before the first pass.
    """

    kind: ClassVar[str] = "step"
    name: str
    acts: tuple[Act, ...] = ()
    polls: tuple[str, ...] = ()
    polls_all: bool = False
    sets: tuple[str, ...] = ()
    every: Period | None = None
    rearm: Literal["grid", "skip", "now"] = "grid"
    once: bool = False

    @property
    def cost(self) -> Range:
        """The CPU time in ps that it burns when it does all its acts."""
        return sum((act.takes for act in self.acts if act.burns), ZERO)

    @property
    def cost_first(self) -> Range:
        """Its ``cost`` without what the items take that it drains."""
        return sum((act.takes for act in self.acts if act.burns and not isinstance(act, Drain)), ZERO)

    @property
    def pauses(self) -> Range:
        """How long it pauses, in ps."""
        return sum((act.takes for act in self.acts if act.state == "spins"), ZERO)

    @property
    def spins(self) -> int:
        """The most that it pauses and waits, in ps, where its waits have limits."""
        return self.pauses.most + sum(wait.at_most.most for wait in self.waits if wait.at_most is not None)

    @property
    def waits(self) -> tuple[Wait, ...]:
        """What it waits for."""
        return tuple(act for act in self.acts if isinstance(act, Wait))

    @property
    def drains(self) -> Drain | None:
        """The buffer that it empties, if it does."""
        return next((act for act in self.acts if isinstance(act, Drain)), None)

    @property
    def puts(self) -> tuple[Put, ...]:
        """What it puts into buffers."""
        return tuple(act for act in self.acts if isinstance(act, Put))

    @property
    def asked_by(self) -> str | None:
        """The buffer at whose request it opens, if it does."""
        buffer = None if self.drains is None else self.drains.buffer
        return buffer if self.polls == (f"buffer.{buffer}",) else None

    @property
    def gated(self) -> bool:
        """Whether there are passes in which it does not open."""
        return bool(self.polls) or self.every is not None or self.once

    @property
    def halt(self) -> Halt | None:
        """Its halt, if it sleeps."""
        return next((act for act in self.acts if isinstance(act, Halt)), None)

    @property
    def guards(self) -> tuple[Guard, ...]:
        """Where it holds lines off, in all its acts."""
        return tuple(guard for act in self.acts for guard in act.held)

    @property
    def sure_to_end_all(self) -> bool:
        """Whether it does all its acts whenever it opens."""
        return all(act.gives_up is None for act in self.acts)

    def before(self, act: Act) -> tuple[Act, ...]:
        """What it does before one of its acts: that one, not its like."""
        return self.acts[: next(place for place, each in enumerate(self.acts) if each is act)]

    @property
    def flags_waited(self) -> tuple[str, ...]:
        """The flags that it waits for once it has opened, and takes."""
        return tuple(wait.flag for wait in self.waits if wait.flag is not None)

    def with_cost(self, cost: Range, guards: tuple[Guard, ...] | None = None) -> Step:
        """The same step with another cost, and other guards if they are given; of several works the first changes."""
        kept = self.guards if guards is None else guards
        works = [place for place, act in enumerate(self.acts) if isinstance(act, Work)]
        if not works:
            place = next((place for place, act in enumerate(self.acts) if not isinstance(act, Wait)), len(self.acts))
            return replace(self, acts=(*self.acts[:place], Work(cost, kept), *self.acts[place:]))
        later = sum((self.acts[place].takes for place in works[1:]), ZERO)
        first = Range(max(0, cost.least - later.least), max(0, cost.most - later.most))
        work = Work(first, kept if len(works) == 1 else self.acts[works[0]].held)
        return replace(self, acts=(*self.acts[: works[0]], work, *self.acts[works[0] + 1 :]))

    def marks_in(self, figure: str, mark: Range) -> Range:
        """What marks add to its cost."""
        return mark + mark

    def marked(self, mark: Range) -> Step:
        """The same step with a mark before all that it does and one behind, which count to its first cost."""
        if not mark.most:
            return self
        first = next((act for act in self.acts if isinstance(act, Work)), None)
        both = Work(self.marks_in("cost", mark))
        if first is None or first.masked:
            place = next((place for place, act in enumerate(self.acts) if not isinstance(act, Wait)), len(self.acts))
            return replace(self, acts=(*self.acts[:place], both, *self.acts[place:]))
        longer = replace(first, cost=first.cost + both.cost, guards=tuple(guard.later(mark) for guard in first.guards))
        return replace(self, acts=tuple(longer if act is first else act for act in self.acts))

    def without_pauses(self) -> Step:
        """The same step without what it spins by the clock."""
        return replace(self, acts=tuple(act for act in self.acts if act.state != "spins" or isinstance(act, Wait)))


class Loop(Struct, frozen=True):
    """The polling loop."""

    overhead: Range
    steps: tuple[Step, ...]


Does = Literal["high", "low", "toggle", "pulse"]


class Write(Struct, frozen=True):
    """What an event does to a pin; ``length`` of a pulse, in ps."""

    event: Event
    does: Does
    length: Range | None = None


class Pin(Named, frozen=True):
    """An output of the board: its level before anything runs, if that is known, and all that writes it.

    ``unsure``: things that may begin again before they have ended. ``current``: on top, while it is high.
    """

    kind: ClassVar[str] = "pin"
    name: str
    first: int | None
    writes: tuple[Write, ...]
    unsure: frozenset[str] = frozenset()
    current: Amperes = (Fraction(0), Fraction(0))

    @property
    def pulses(self) -> bool:
        """Whether it has nothing but pulses."""
        return any(write.does == "pulse" for write in self.writes)

    @property
    def rise(self) -> Event | None:
        """The event that every rise is, and that always brings one; None: there is none."""
        return self._edge("high", rest=0)

    @property
    def fall(self) -> Event | None:
        """The same of a fall."""
        return self._edge("low", rest=1)

    def _edge(self, to: Does, rest: int) -> Event | None:
        if len(self.writes) == 1 and self.writes[0].does == "pulse":
            return self.writes[0].event if (self.first or 0) == rest else None
        by = {write.does: write.event for write in self.writes}
        pair = (by.get("high"), by.get("low"))
        if len(self.writes) != 2 or None in pair or pair[0] == pair[1]:
            return None
        high, low = pair
        assert high is not None
        assert low is not None
        alternate = high.thing == low.thing and high.thing not in self.unsure
        return by[to] if alternate and "nth" not in (high.moment, low.moment) else None


class Apart(Named, frozen=True):
    """Sources of which no two come closer than ``gap`` ps, whichever they are."""

    kind: ClassVar[str] = "apart"
    name: str
    of: tuple[Event, ...]
    gap: int


class ReadCounter(Named, frozen=True):
    """A counter of ``states`` values, of an event or of a ``clock``, at which the events ``read_by`` look.

    ``root``: the clock that its own comes from.
    """

    kind: ClassVar[str] = "counter"
    name: str
    of: Event | None
    clock: Clock | None
    states: int
    read_by: tuple[Event, ...]
    root: str = ""


IDLE = "idle"
CURRENT = "current"
USUAL_TOLERANCE = Fraction(2, 100)  # of an instrument of which nothing is known


class Meter(Struct, frozen=True):
    """What measures the supply current: amperes of a 1, how far off its zero and, as a share, what it shows may be."""

    scale: Fraction
    zero: Fraction = Fraction(0)
    tolerance: Fraction = USUAL_TOLERANCE


class Probe(Struct, frozen=True):
    """A captured signal and what it shows. ``edge`` None: busy level, high from first to last instruction.

    Several names in ``shows``: routines that share the line. ``IDLE`` in it: high while the core has nothing to do.
    ``codes``: the signal is a bus whose value says who is running; ``shows`` is empty then. It may be made up of single
    ``lines``, the lowest bit first. ``active_low``: the level is inverted. Pulses, or values of a bus, shorter than
    ``shortest`` ps are not the board's. The pin moves ``after`` ps after the first instruction and ``before_end`` ps
    before the last. Other analysers call the signal ``also``. One with a ``meter``
    shows the supply current.
    """

    signal: str
    shows: tuple[str, ...]
    edge: Literal["rise", "fall", "both", "toggle", "pulse"] | None = None
    after: int = 0
    before_end: int = 0
    codes: tuple[tuple[int, str], ...] = ()
    lines: tuple[str, ...] = ()
    active_low: bool = False
    shortest: int = 0
    also: tuple[str, ...] = ()
    meter: Meter | None = None

    @property
    def body(self) -> Thing | None:
        """What it alone shows from first to last instruction; None of events, buses and lines that several share."""
        return Thing(self.shows[0]) if len(self.shows) == 1 and self.edge is None else None
