"""What a system is made of: clocks, the core, sources, units, routines, steps of the loop, probes.

Frozen, in whole picoseconds. Urgency is counted from 0, the most urgent, whichever way the chip numbers its levels.
Periods stay rational, because floor(k · P) of a rounded P drifts.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import ClassVar, Literal

from tachys.dividers.counter import Counter, Setting
from tachys.dividers.serial import SerialSetting
from tachys.model.events import Body, Event, Named, Thing
from tachys.model.quantities import ZERO, Range


@dataclass(frozen=True, slots=True)
class Clock:
    """A clock of the tree: nominal rate in hertz and how far it may be off, as a share; what it comes from, if so."""

    name: str
    hertz: Fraction
    tolerance: Fraction = Fraction(0)
    parent: str | None = None


@dataclass(frozen=True, slots=True)
class Core:
    """How the processor takes interrupts; times as [least, most] over the tolerance of its clock, in ps."""

    clock: Clock
    nesting: bool = True
    levels: int = 1
    entry: Range = ZERO
    exit: Range = ZERO
    chain: Range = ZERO
    wake: Range = ZERO
    late_arrival: bool = False
    lowest_is_urgent: bool = True

    @property
    def least_latency(self) -> int:
        """The least time in ps from an event to the first instruction: an entry or a chain; what takes one over, 0."""
        return 0 if self.late_arrival else min(self.entry.least, self.chain.least)

    def level_text(self, urgency: int) -> int:
        """The level as the engineer numbers it."""
        return urgency if self.lowest_is_urgent else self.levels - 1 - urgency


@dataclass(frozen=True, slots=True)
class Timer:
    """The timer behind a periodic source; ``wanted`` in ps, None where none is written.

    ``counter`` says what the hardware could be set to, ``chosen`` whether Tachys chose the setting.
    """

    clock: Clock
    counter: Counter
    setting: Setting
    wanted: Fraction | None = None
    chosen: bool = False


@dataclass(frozen=True, slots=True)
class Serial:
    """The serial line behind a source; ``setting`` None where no clock of the receiver is written."""

    baud: Fraction
    bits: int
    frame: int
    clock: Clock | None = None
    setting: SerialSetting | None = None


@dataclass(frozen=True, slots=True)
class Burst:
    """``count`` events at least ``spaced`` ps apart, the beginnings of bursts at least ``every`` ps."""

    count: int
    spaced: int
    every: int


@dataclass(frozen=True, slots=True)
class Source(Named):
    """Events from outside: periodic (``period`` nominal, least, most in ps), in bursts, or sporadic with ``gap``."""

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

    @property
    def event(self) -> Event:
        """Its only event."""
        return Event(self.thing)


@dataclass(frozen=True, slots=True)
class Unit(Body):
    """Hardware that works for ``takes`` after each event of ``on``; ``depth`` starts wait where ``busy`` is queue."""

    kind: ClassVar[str] = "unit"
    name: str
    on: tuple[Event, ...]
    takes: Range
    busy: Literal["drop", "restart", "queue"] = "drop"
    depth: int = 0
    primed: bool = False


@dataclass(frozen=True, slots=True)
class Guard:
    """A part of a body that holds off lines of ``urgency`` and less urgent ones.

    ``length`` None: to the end of the body, whatever it costs. ``at`` and ``length`` count CPU time of the body.
    """

    urgency: int
    at: Range
    length: Range | None

    def longest(self, body: int) -> int:
        """The most that it lasts in a body of ``body`` ps."""
        return body if self.length is None else self.length.most


@dataclass(frozen=True, slots=True)
class Isr(Body):
    """An interrupt routine; ``urgency`` 0 is the most urgent level, ``rank`` the place in the order of acceptance.

    ``cost`` is that of any event, ``costs`` that of each event of ``on``, in the same order.
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


@dataclass(frozen=True, slots=True)
class Period:
    """A distance that repeats, in rational ps: nominal, and [least, most] over the tolerance of its clock."""

    nominal: Fraction
    least: Fraction
    most: Fraction


@dataclass(frozen=True, slots=True)
class Step(Body):
    """A step of the loop, in running order."""

    kind: ClassVar[str] = "step"
    name: str
    cost: Range = ZERO
    polls: str | None = None
    every: Period | None = None
    rearm: Literal["grid", "skip", "now"] = "grid"
    guards: tuple[Guard, ...] = ()
    waits: Thing | None = None
    at_most: Range | None = None
    pause: Range = ZERO
    sleeps: bool = False
    unless: tuple[str, ...] = ()

    @property
    def flag_waited(self) -> str | None:
        """The flag that it waits for, if it does."""
        return self.waits.name if self.waits is not None and self.waits.kind == "flag" else None


@dataclass(frozen=True, slots=True)
class Loop:
    """The polling loop."""

    overhead: Range
    steps: tuple[Step, ...]


IDLE = "idle"


@dataclass(frozen=True, slots=True)
class Probe:
    """A captured signal and what it shows. ``edge`` None: busy level, high from first to last instruction.

    Several names in ``shows``: routines that share the line. ``IDLE`` in it: high while the core has nothing to do.
    ``codes``: the signal is a bus whose value says who is running; ``shows`` is empty then. ``active_low``: the level
    is inverted. Pulses shorter than ``shortest`` ps are not the board's. The pin moves ``after`` ps after the first
    instruction and ``before_end`` ps before the last.
    """

    signal: str
    shows: tuple[str, ...]
    edge: Literal["rise", "fall", "both", "toggle", "pulse"] | None = None
    after: int = 0
    before_end: int = 0
    codes: tuple[tuple[int, str], ...] = ()
    active_low: bool = False
    shortest: int = 0
