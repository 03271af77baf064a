"""What a model means once it is read: frozen, complete, in whole picoseconds.

Urgency is counted from 0, the most urgent, whichever way the chip numbers its levels. Periods stay rational,
because floor(k · P) of a rounded P drifts.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

from tachys.dividers.counter import Counter, Setting
from tachys.dividers.serial import SerialSetting
from tachys.errors import Place, Remark
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
class Source:
    """Events from outside. Periodic when ``period`` is set (nominal, least, most in ps), else sporadic with ``gap``."""

    name: str
    period: Fraction | None = None
    period_least: Fraction | None = None
    period_most: Fraction | None = None
    jitter: int = 0
    offset: int | None = None
    gap: int = 0
    mean: int = 0
    timer: Timer | None = None
    serial: Serial | None = None


@dataclass(frozen=True, slots=True)
class Guard:
    """A part of a body that holds off lines of ``urgency`` and less urgent ones.

    ``length`` None: to the end of the body, whatever it costs. ``at`` and ``length`` count CPU time of the body.
    """

    urgency: int
    at: Range
    length: Range | None


@dataclass(frozen=True, slots=True)
class Isr:
    """An interrupt routine; ``urgency`` 0 is the most urgent level, ``rank`` the place in the order of acceptance."""

    name: str
    on: tuple[str, ...]
    urgency: int
    rank: int
    cost: Range
    guards: tuple[Guard, ...] = ()
    pending: int = 1
    serves_all: bool = False
    sets: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Step:
    """A step of the loop, in running order."""

    name: str
    cost: Range = ZERO
    polls: str | None = None
    every: Range | None = None
    rearm: Literal["grid", "skip", "now"] = "grid"
    guards: tuple[Guard, ...] = ()
    sleeps: bool = False
    unless: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Loop:
    """The polling loop."""

    overhead: Range
    steps: tuple[Step, ...]


@dataclass(frozen=True, slots=True)
class WithinNeed:
    """From every event of ``begins`` to its answer ``ends`` at most ``within`` ps."""

    name: str
    begins: str
    ends: str
    within: int


@dataclass(frozen=True, slots=True)
class LoadNeed:
    """The share of time that the core works, at most."""

    name: str
    limit: Fraction


Need = WithinNeed | LoadNeed


@dataclass(frozen=True, slots=True)
class Probe:
    """A captured signal and what it shows. ``edge`` None: busy level, high from first to last instruction."""

    signal: str
    shows: str
    edge: Literal["rise", "fall", "both", "toggle"] | None
    after: int = 0
    before_end: int = 0


@dataclass(frozen=True, slots=True)
class System:
    """A whole model. ``isrs`` stand in the order in which the core prefers them, most urgent first."""

    title: str
    core: Core
    clocks: tuple[Clock, ...]
    sources: tuple[Source, ...]
    isrs: tuple[Isr, ...]
    loop: Loop | None
    needs: tuple[Need, ...]
    probes: tuple[Probe, ...]
    capture_tolerance: Fraction = Fraction(0)
    remarks: tuple[Remark, ...] = ()
    places: dict[str, Place] = field(default_factory=dict, compare=False, hash=False)

    def source(self, name: str) -> Source:
        """The source of that name; KeyError if there is none."""
        return next(source for source in self.sources if source.name == name)

    def isr(self, name: str) -> Isr:
        """The routine of that name; KeyError if there is none."""
        for isr in self.isrs:
            if isr.name == name:
                return isr
        raise KeyError(name)
