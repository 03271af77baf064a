"""The tables of a model file, as pydantic sees them: which keys there are and what each may hold.

Only what one key alone can get wrong is judged here; what concerns several keys is judged in ``build``.
"""

from collections.abc import Callable
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, WithJsonSchema

from tachys.model.nodes import Does
from tachys.model.quantities import (
    CurrentRange,
    Duration,
    DurationRange,
    parse_baud,
    parse_capacity,
    parse_current,
    parse_current_range,
    parse_duration,
    parse_duration_range,
    parse_leak,
    parse_life,
    parse_positive_duration,
    parse_positive_range,
    parse_rate,
    parse_share,
    parse_tolerance,
    parse_within,
)

_NUMBER = r"^\s*[+]?\d+(\.\d*)?([eE][+-]?\d+)?\s*"
_TIME = {"type": "string", "pattern": _NUMBER + r"(s|ms|us|µs|ns|ps|cycles?(@.+)?)\s*$", "examples": ["250 us"]}
_RATE = {"type": "string", "pattern": _NUMBER + r"(Hz|kHz|MHz|GHz)\s*$", "examples": ["48 MHz"]}
_BAUD = {"type": "string", "pattern": _NUMBER + r"(Bd|kBd|MBd)\s*$", "examples": ["115200 Bd"]}
_AMPERES = {"type": "string", "pattern": _NUMBER + r"(A|mA|uA|µA|nA)(/MHz)?\s*$", "examples": ["3.2 mA"]}
_ONE_CURRENT = {"type": "string", "pattern": _NUMBER + r"(A|mA|uA|µA|nA)\s*$", "examples": ["1 mA"]}
_CURRENT = {"anyOf": [_AMPERES, {"type": "array", "items": _AMPERES, "minItems": 2, "maxItems": 2}]}
_CAPACITY = {"type": "string", "pattern": _NUMBER + r"(Ah|mAh|uAh)\s*$", "examples": ["220 mAh"]}
_LIFE = {"type": "string", "pattern": _NUMBER + r"(years?|days?|hours?)\s*$", "examples": ["2 years"]}
_LEAK = {"type": "string", "pattern": _NUMBER + r"(%|ppm)/year\s*$", "examples": ["1 %/year"]}
_SHARE = {"type": "string", "pattern": _NUMBER + r"(%|ppm)\s*$", "examples": ["50 ppm"]}
_RANGE = {"anyOf": [_TIME, {"type": "array", "items": _TIME, "minItems": 2, "maxItems": 2}]}


def _quantity(parse: Callable[[object], object], schema: dict[str, Any]) -> tuple[PlainValidator, WithJsonSchema]:
    return PlainValidator(parse), WithJsonSchema(schema)


Time = Annotated[Duration, *_quantity(parse_duration, _TIME)]
PositiveTime = Annotated[Duration, *_quantity(parse_positive_duration, _TIME)]
TimeRange = Annotated[DurationRange, *_quantity(parse_duration_range, _RANGE)]
PositiveRange = Annotated[DurationRange, *_quantity(parse_positive_range, _RANGE)]
Rate = Annotated[Fraction, *_quantity(parse_rate, _RATE)]
Baud = Annotated[Fraction, *_quantity(parse_baud, _BAUD)]
Current = Annotated[CurrentRange, *_quantity(parse_current_range, _CURRENT)]
Amperes = Annotated[Fraction, *_quantity(parse_current, _ONE_CURRENT)]
Capacity = Annotated[Fraction, *_quantity(parse_capacity, _CAPACITY)]
Life = Annotated[Fraction, *_quantity(parse_life, _LIFE)]
Leak = Annotated[Fraction, *_quantity(parse_leak, _LEAK)]
Share = Annotated[Fraction, *_quantity(parse_share, _SHARE)]
Tolerance = Annotated[Fraction, *_quantity(parse_tolerance, _SHARE)]


def _rate_or_name(value: object) -> Fraction | str:
    """A rate such as "48 MHz", or the name of a clock."""
    if isinstance(value, str) and value[:1].isalpha():
        return value
    return parse_rate(value)


def _for_or_all(value: object) -> DurationRange | None:
    """How long a guard holds; None for the whole body."""
    return None if value == "all" else parse_duration_range(value)


RateOrName = Annotated[
    Fraction | str, *_quantity(_rate_or_name, {"anyOf": [_RATE, {"type": "string", "pattern": "^[A-Za-z]"}]})
]
ForOrAll = Annotated[DurationRange | None, *_quantity(_for_or_all, {"anyOf": [_RANGE, {"const": "all"}]})]
Within = Annotated[DurationRange, *_quantity(parse_within, _RANGE)]
Names = str | list[str]
Whole = Annotated[int, Field(strict=True, ge=0, le=2**31)]
Positive = Annotated[int, Field(strict=True, ge=1, le=2**31)]


Factor = Annotated[int, Field(strict=True, ge=1, le=2**64)]
Register = Annotated[int, Field(strict=True, ge=0, le=2**64 - 1)]


class Table(BaseModel):
    """A table of the model file: unknown keys are errors, nothing is converted silently."""

    model_config = ConfigDict(extra="forbid", strict=True, populate_by_name=True, arbitrary_types_allowed=True,
                              defer_build=True)  # only the whole is ever built  # fmt: skip


class ClockTable(Table):
    """A clock: an oscillator with a rate of its own, or one derived from another."""

    rate: Rate | None = None
    tolerance: Tolerance | None = None
    from_: str | None = Field(None, alias="from")
    divide: Positive = 1
    multiply: Positive = 1


class CurrentsTable(Table):
    """The supply current while the core does this; nothing is said of a state that is left out."""

    run: Current | None = None
    spin: Current | None = None
    wake: Current | None = None
    sleep: Current | None = None


class CoreTable(Table):
    """The processor core: its clock and how it takes interrupts."""

    clock: RateOrName
    tolerance: Tolerance | None = None
    nesting: bool = True
    levels: Positive = 1
    urgent: Literal["low", "high"] = "low"
    entry: TimeRange | None = None
    exit: TimeRange | None = None
    chain: TimeRange | None = None
    late_arrival: bool = False
    wake: TimeRange | None = None
    current: CurrentsTable = Field(default_factory=CurrentsTable)


class TimerTable(Table):
    """A timer: clock → prescaler → counter → postscaler. True factors, or what stands in the registers."""

    clock: str = "core"
    width: Annotated[int, Field(strict=True, ge=1, le=64)]
    prescale: Factor | None = None
    prescale_register: Register | None = None
    prescales: Annotated[list[Factor], Field(min_length=1, max_length=256)] | None = None
    count: Factor | None = None
    reload_register: Register | None = None
    preload: Register | None = None
    postscale: Factor = 1


class SerialTable(Table):
    """Characters that arrive over a serial line, back to back at most; with a clock, the rate it really makes."""

    baud: Baud
    bits: Annotated[int, Field(strict=True, ge=1, le=64)] = 10
    frame: Positive = 1
    clock: str | None = None
    oversampling: Annotated[int, Field(strict=True, ge=1, le=64)] = 16
    fraction_bits: Annotated[int, Field(strict=True, ge=0, le=16)] = 0


class ApartTable(Table):
    """Sources that are never closer than a gap together, whichever they are."""

    of: Names
    gap: PositiveTime


class CounterTable(Table):
    """A counter that is looked at: what it counts, how many values it takes, and what looks at it."""

    of: str
    states: Annotated[int, Field(strict=True, ge=2, le=2**64)]
    read_by: Names


class PinTable(Table):
    """An output of the board: its level before anything runs, and what it takes while it is high."""

    first: Literal["low", "high"] | None = None
    current: Current | None = None


class PinActionTable(Table):
    """What is done to a pin, at which event of the thing that does it, and for how long."""

    does: Does
    at: str | None = None
    for_: TimeRange | None = Field(None, alias="for")


Pins = dict[str, Does | PinActionTable | list[Does | PinActionTable]]


class BurstTable(Table):
    """Bursts: least distances within a burst and between the beginnings of bursts, the most that one lasts."""

    count: Annotated[int, Field(strict=True, ge=1, le=10**6)]
    spaced: PositiveTime
    within: PositiveTime | None = None
    every: PositiveTime


class SourceTable(Table):
    """Events from outside or from a free-running timer: periodic (every) or never closer than a gap."""

    every: PositiveTime | None = None
    gap: PositiveTime | None = None
    mean: PositiveTime | None = None
    offset: Time | None = None
    jitter: Time | None = None
    tolerance: Tolerance | None = None
    timer: TimerTable | None = None
    serial: SerialTable | None = None
    burst: BurstTable | None = None
    wanted: PositiveTime | None = None
    give_or_take: Share | None = None
    pins: Pins = {}


class GuardTable(Table):
    """Lines of this level and less urgent ones are held off for a part of the body."""

    level: Whole
    for_: ForOrAll = Field(alias="for")
    at: TimeRange | None = None


class FeedTable(Table):
    """An event that puts several items at once."""

    event: str
    items: Positive = 1


class BufferTable(Table):
    """A FIFO of a peripheral or a ring in memory, between who puts and who takes."""

    depth: Annotated[int, Field(strict=True, ge=1, le=10**6)]
    fed_by: str | FeedTable | list[str | FeedTable] = []
    threshold: Positive | Literal[False] | None = None
    quiet: TimeRange | None = None
    asks_each: Positive | None = None
    full: Literal["lose", "overwrite"] = "lose"


class DrainTable(Table):
    """Takes so many items of a buffer in one run at most; or also what comes meanwhile, ``until`` nothing is in."""

    from_: str = Field(alias="from")
    most: Positive | None = None
    until: Literal["empty"] | None = None


class PutTable(Table):
    """Puts so many items into a buffer, and spins while that is full; or, of a routine, what it has drained.

    ``full``: a routine that waits takes no more than have room there, and is not asked while none has.
    """

    into: str
    items: (
        Literal["drained"]
        | Annotated[int, Field(strict=True, ge=1, le=10**6)]
        | list[Annotated[int, Field(strict=True, ge=0, le=10**6)]]
    )
    full: Literal["wait"] | None = None


class CountTable(Table):
    """Ends with the n-th such event after the one that started it."""

    n: Positive
    of: str


class UnitTable(Table):
    """Hardware that works without the core, then raises its own event."""

    on: Names = []
    drains: str | None = None
    takes: TimeRange | None = None
    counts: CountTable | None = None
    repeats: bool = False
    cancelled_by: Names = []
    busy: Literal["drop", "restart", "queue"] = "drop"
    answers: Share = Fraction(1)
    depth: Annotated[int, Field(strict=True, ge=1, le=10**6)] | None = None
    primed: bool = False
    steals: TimeRange | None = None
    current: Current | None = None
    pins: Pins = {}


class NthTable(Table):
    """What each n-th run of a routine does more."""

    n: Positive
    first: Positive | None = None
    cost: TimeRange | None = None
    sets: Names = []


class IsrTable(Table):
    """An interrupt routine and the line it serves."""

    on: Names
    level: Whole = 0
    order: Annotated[int, Field(strict=True, ge=-(2**31), le=2**31)] = 0
    cost: TimeRange | dict[str, TimeRange]
    guard: GuardTable | list[GuardTable] | None = None
    pending: Positive = 1
    serves: Literal["one", "all"] = "one"
    sets: Names = []
    drains: str | DrainTable | None = None
    each: TimeRange | None = None
    puts: PutTable | None = None
    nth: NthTable | None = None
    moments: dict[str, TimeRange] = {}
    pause: TimeRange | None = None
    clears_pending: bool = False
    pins: Pins = {}
    exception: Annotated[int, Field(strict=True, ge=1, le=511)] | None = None
    deadline: PositiveTime | None = None


class StartupTable(Table):
    """What runs once, before the first pass."""

    cost: TimeRange
    guard: GuardTable | list[GuardTable] | None = None
    sets: Names = []


class LoopTable(Table):
    """The polling loop: what runs when no routine does."""

    overhead: TimeRange
    order: list[str] | None = None


class SleepTable(Table):
    """Halts until the next interrupt has been served, unless one of these flags is set."""

    depth: str | None = None
    unless: Names = []
    plain_if: Names = []
    masked: TimeRange | None = None


class DepthTable(Table):
    """A deeper sleep: how long it takes to wake from it, which clocks stand still meanwhile, and the current."""

    wake: TimeRange
    stops: Names = []
    current: Current | None = None


class BatteryTable(Table):
    """What all of it lives on."""

    capacity: Capacity
    usable: Share = Fraction(1)
    self_discharge: Leak = Fraction(0)


class FlagTable(Table):
    """A flag that hardware sets: a status bit."""

    set_by: Names


class AllTable(Table):
    """Flags that must all be set."""

    all: Names


class NextTable(Table):
    """The next end of a unit, not its rest."""

    next: str


class PartTable(Table):
    """What a step does in order: it waits, works, puts, pauses."""

    waits: str | NextTable | None = None
    at_most: PositiveTime | None = None
    cost: TimeRange | None = None
    guard: GuardTable | list[GuardTable] | None = None
    puts: PutTable | None = None
    pause: PositiveRange | None = None


class StepTable(PartTable):
    """One step of the loop; ``then``: its parts after its own."""

    polls: str | list[str] | AllTable = []
    every: PositiveTime | CountTable | None = None
    rearm: Literal["grid", "skip", "now"] = "grid"
    sleep: bool | str | SleepTable = False
    sets: Names = []
    drains: str | DrainTable | None = None
    each: TimeRange | None = None
    then: list[PartTable] = []
    pins: Pins = {}


class WatchdogTable(Table):
    """A watchdog: fed too late, or before not_before, it resets the chip."""

    fed_by: str
    timeout: PositiveTime
    tolerance: Tolerance | None = None
    not_before: PositiveTime | None = None


class NeedTable(Table):
    """Something that must hold: a time, a load, nothing lost, a fill, a period, a jitter, a current, a life."""

    from_: str | None = Field(None, alias="from")
    to: str | None = None
    within: Within | None = None
    age: bool = False
    of: str | list[str] | None = None
    lost: Annotated[int, Field(strict=True, ge=0, le=2**31)] | None = None
    fill: Positive | None = None
    every: PositiveTime | None = None
    give_or_take: Share | None = None
    jitter: PositiveTime | None = None
    load: Share | None = None
    over: PositiveTime | None = None
    current: Current | None = None
    lasts: Life | None = None
    accept: Literal["paper"] | None = None
    because: str | None = None


class ProbeTable(Table):
    """Which thing of the model a captured signal shows, or that it is the supply current."""

    shows: str | list[str] | None = None
    also: list[str] = []
    codes: dict[str, str] | None = None
    lines: list[str] | None = None
    edge: Literal["rise", "fall", "both", "toggle", "pulse"] | None = None
    active: Literal["high", "low"] = "high"
    shortest: PositiveTime | None = None
    after: Time | None = None
    before_end: Time | None = None
    scale: Amperes | None = None
    zero: Amperes | None = None
    tolerance: Tolerance | None = None


class CaptureTable(Table):
    """What is known of the logic analyser."""

    tolerance: Tolerance | None = None
    step: PositiveTime | None = None


class MarksTable(Table):
    """What a mark takes of the core, of which every routine and step makes two (``tachys marks``)."""

    cost: TimeRange


class AcceptTable(Table):
    """What a team has looked at: findings of a check, and needs that rest on paper alone."""

    findings: list[str] = []
    paper: list[str] = []
    because: str = ""


class ModelFile(Table):
    """A Tachys model, version 1."""

    tachys: Literal[1]
    title: str = ""
    clock: dict[str, ClockTable] = {}
    core: CoreTable
    source: dict[str, SourceTable] = {}
    unit: dict[str, UnitTable] = {}
    isr: dict[str, IsrTable] = {}
    flag: dict[str, FlagTable] = {}
    buffer: dict[str, BufferTable] = {}
    pin: dict[str, PinTable] = {}
    counter: dict[str, CounterTable] = {}
    apart: dict[str, ApartTable] = {}
    loop: LoopTable | None = None
    startup: StartupTable | None = None
    step: dict[str, StepTable] = {}
    watchdog: WatchdogTable | None = None
    need: dict[str, NeedTable] = {}
    probe: dict[str, ProbeTable] = {}
    marks: MarksTable | None = None
    capture: CaptureTable = Field(default_factory=CaptureTable)
    accept: AcceptTable = Field(default_factory=AcceptTable)
    sleep: dict[str, DepthTable] = {}
    battery: BatteryTable | None = None
    variant: dict[str, dict[str, Any]] = {}


def json_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a model file, for editors."""
    schema = ModelFile.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
