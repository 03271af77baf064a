"""What each JSON output looks like: the JSON Schemas that ``tachys schema --output`` prints.

Times are seconds, loads are shares of one, and what is not there is null. See docs/formats.md for the meaning.
"""

from __future__ import annotations

from typing import Any, Literal, NotRequired

from typing_extensions import TypedDict

Seconds = float
Share = float
Quantity = float  # in the unit of its need: seconds, a share, a number


class Part(TypedDict):
    """One term of a bound."""

    what: str
    who: str
    count: int
    time: Seconds


class Figure(TypedDict):
    """A bound; ``parts`` add up to ``most``."""

    least: Seconds
    most: Seconds | None
    parts: list[Part]
    reason: NotRequired[str]


class Stats(TypedDict):
    """Statistics of times that were seen."""

    count: int
    mean: Seconds
    least: Seconds
    median: Seconds
    p95: Seconds
    p99: Seconds
    p999: Seconds
    most: Seconds


class Seen(Stats):
    """As measured: each value is known to less than ``resolution``."""

    resolution: Seconds
    relative: bool


class Shares(TypedDict):
    """From least to most."""

    least: Share
    most: Share


class LoadWindow(TypedDict):
    """The busiest window of a length."""

    length: Seconds
    most: Share
    shares: dict[str, Share]


class BoundsLoad(TypedDict):
    """The load on paper."""

    least: Share
    most: Share
    shares: dict[str, Shares]
    windows: list[LoadWindow]
    storms: list[str]


class BoundsIsr(TypedDict):
    """A routine on paper."""

    latency: Figure
    response: Figure
    span: Figure
    lost: Literal["never", "possible"]
    pending_needed: int | None


class BoundsUnit(TypedDict):
    """A unit on paper."""

    time: Figure
    lost: Literal["never", "possible"]
    lost_in_row: int | None
    depth_needed: int | None


class BoundsFlag(TypedDict):
    """A flag on paper."""

    reaction: Figure
    overwritten: Literal["never", "possible"]


class BoundsStep(TypedDict):
    """A step on paper."""

    interval: Figure
    duration: Figure
    late: Figure | None
    drifts: bool


class BoundsNeed(TypedDict):
    """A need on paper."""

    verdict: str
    limit: Quantity
    bound: Quantity | None
    parts: NotRequired[list[Part]]
    reason: NotRequired[str]


class BoundsOutput(TypedDict):
    """``tachys bounds --format json``."""

    format: Literal["tachys.bounds/1"]
    title: str
    load: BoundsLoad
    loop: dict[str, Figure]
    isrs: dict[str, BoundsIsr]
    units: dict[str, BoundsUnit]
    flags: dict[str, BoundsFlag]
    steps: dict[str, BoundsStep]
    needs: dict[str, BoundsNeed]


class SimulationLoad(TypedDict):
    """What was taken of the core."""

    seen: Share
    shares: dict[str, Share]


class SimulationIsr(TypedDict):
    """A routine as it was played."""

    latency: Stats | None
    response: Stats | None
    span: Stats | None
    cost: Stats | None
    lost: int


class SimulationUnit(TypedDict):
    """A unit as it was played."""

    time: Stats | None
    lost: int


class SimulationFlag(TypedDict):
    """A flag as it was played."""

    reaction: Stats | None
    overwritten: int


class SimulationStep(TypedDict):
    """A step as it was played."""

    interval: Stats | None
    duration: Stats | None
    late: Stats | None


class SimulationMiss(TypedDict):
    """A need that was broken."""

    run: int
    at: Seconds
    value: Quantity | None
    kind: str


class SimulationNeed(TypedDict):
    """A need as it was played; ``misses`` is ``missed`` again, for older readers."""

    verdict: str
    limit: Quantity
    seen: NotRequired[Stats | None]
    value: Quantity | None
    missed: int
    misses: int
    first: list[SimulationMiss]


class SimulationOutput(TypedDict):
    """``tachys simulate --format json``."""

    format: Literal["tachys.simulation/1"]
    title: str
    runs: int
    length: Seconds
    complete: bool
    load: SimulationLoad
    loop: dict[str, Stats | None]
    isrs: dict[str, SimulationIsr]
    units: dict[str, SimulationUnit]
    flags: dict[str, SimulationFlag]
    steps: dict[str, SimulationStep]
    needs: dict[str, SimulationNeed]


class BusyWindow(TypedDict):
    """The busiest window that was seen."""

    length: Seconds
    seen: Share
    at: Seconds
    bound: Share


class SeenLoad(TypedDict):
    """What a capture shows of the load."""

    least: Share
    most: Share
    by: str


class CheckLoad(TypedDict):
    """The load on paper and on the board."""

    least: Share
    most: Share
    busiest: list[BusyWindow]
    seen: SeenLoad | None


class Clock(TypedDict):
    """How far off the analyser's clock is."""

    ppm: float
    sure: float
    lines: list[str]


class CheckIsr(TypedDict):
    """A routine as it was measured."""

    latency: Seen | None
    response: Seen | None
    span: Seen | None
    cost: Seen | None
    lost: int | None
    runs: int | None
    unasked: int


class CheckUnit(TypedDict):
    """A unit as it was measured."""

    time: Seen | None
    lost: int | None


class CheckFlag(TypedDict):
    """A flag as it was measured."""

    reaction: Seen | None
    overwritten: int


class CheckStep(TypedDict):
    """A step as it was measured."""

    interval: Seen | None
    duration: Seen | None
    own: Seen | None
    late: Seen | None


class Cause(TypedDict):
    """Who made a wait long, and how much the bound allows for it."""

    what: str
    how: str
    time: Seconds
    expected: Seconds | None


class CheckMiss(TypedDict):
    """A need that was broken; the causes add up to the wait."""

    at: Seconds
    value: Seconds | None
    kind: str
    causes: list[Cause]


Stretch = TypedDict("Stretch", {"from": Seconds, "to": Seconds, "how": str, "what": str})


class Estimate(TypedDict):
    """A value that is passed about once in so many; no proof."""

    value: Seconds
    once_in: int
    fit: float


class CheckNeed(TypedDict):
    """A need: limit, bound, measurement; ``basis`` is what the verdict rests on."""

    verdict: str
    basis: str | None
    limit: Quantity
    bound: Quantity | None
    seen: Seen | None
    value: Quantity | None
    missed: int
    misses: list[CheckMiss]
    worst: list[Stretch]
    note: str
    estimate: Estimate | None


class Modelled(TypedDict):
    """As the model has it."""

    least: Seconds | None
    most: Seconds | None


class Measured(TypedDict):
    """As it was measured."""

    count: int
    least: Seconds
    most: Seconds
    resolution: Seconds


class ComparedFigure(TypedDict):
    """A figure of the model beside what was measured of it."""

    about: str
    figure: str
    modelled: Modelled
    measured: Measured | None
    agreement: Literal["agrees", "refutes", "not shown"]
    why: str


class Finding(TypedDict):
    """Something in which model and board differ."""

    code: str
    about: str
    text: str
    modelled: float | None
    measured: float | None
    falls: list[str]
    explains: list[str]
    at: Seconds | None


class CheckOutput(TypedDict):
    """``tachys check --format json``, of one capture."""

    format: Literal["tachys.check/1"]
    capture: str
    length: Seconds
    resolution: Seconds
    remarks: list[str]
    load: CheckLoad
    clock: Clock | None
    isrs: dict[str, CheckIsr]
    units: dict[str, CheckUnit]
    flags: dict[str, CheckFlag]
    steps: dict[str, CheckStep]
    periods: dict[str, Seen | None]
    needs: dict[str, CheckNeed]
    figures: list[ComparedFigure]
    findings: list[Finding]
    unseen: list[str]
    foreign: list[str]


class PooledNeed(TypedDict):
    """A need over several captures."""

    verdict: str
    limit: Quantity
    bound: Quantity | None
    worst: Quantity | None
    count: int
    misses: int
    worst_in: str


class PooledFinding(Finding):
    """A finding, and how many captures show it."""

    captures: int


class Pooled(TypedDict):
    """Several captures together."""

    needs: dict[str, PooledNeed]
    findings: list[PooledFinding]


class ChecksOutput(TypedDict):
    """``tachys check --format json``, of several captures."""

    format: Literal["tachys.checks/1"]
    pooled: Pooled
    captures: list[CheckOutput]


class LineTimes(TypedDict):
    """Times of a line of a capture."""

    count: int
    least: Seconds
    median: Seconds
    most: Seconds
    mean: NotRequired[Seconds | None]
    sure: NotRequired[Seconds | None]
    resolution: Seconds


class CaptureLine(TypedDict):
    """A line of a capture."""

    first: float | None
    last: float | None
    edges: int
    period: LineTimes | None
    high: LineTimes | None
    low: LineTimes | None
    duty: Share | None
    remarks: list[str]


class WorstSpan(TypedDict):
    """One of the longest spans."""

    at: Seconds
    value: Seconds


class CaptureSpan(TypedDict):
    """Times from edge to edge; only the first three where no edge was answered."""

    span: str
    count: int
    unanswered: int
    least: NotRequired[Seconds]
    median: NotRequired[Seconds]
    p95: NotRequired[Seconds]
    p99: NotRequired[Seconds]
    p999: NotRequired[Seconds]
    most: NotRequired[Seconds]
    mean: NotRequired[Seconds]
    resolution: NotRequired[Seconds]
    worst: NotRequired[list[WorstSpan]]


class CaptureOutput(TypedDict):
    """``tachys inspect --format json``."""

    format: Literal["tachys.capture/1"]
    capture: str
    begin: Seconds
    length: Seconds
    resolution: Seconds
    remarks: list[str]
    signals: dict[str, CaptureLine]
    spans: list[CaptureSpan]


class LevelsOutput(TypedDict):
    """``tachys inspect --at --format json``."""

    format: Literal["tachys.levels/1"]
    at: Seconds
    levels: dict[str, float | None]


class WorstOutput(TypedDict):
    """``tachys simulate --worst --format json``."""

    format: Literal["tachys.worst/1"]
    figure: str
    seen: Seconds | None
    bound: Seconds | None
    at: Seconds
    tried: int


OUTPUTS: dict[str, Any] = {
    "bounds": BoundsOutput, "simulation": SimulationOutput, "check": CheckOutput, "checks": ChecksOutput,
    "capture": CaptureOutput, "levels": LevelsOutput, "worst": WorstOutput,
}  # fmt: skip


def output_schema(name: str) -> dict[str, Any]:
    """The JSON Schema of an output; what is not named there does not occur."""
    from pydantic import ConfigDict, TypeAdapter

    kind = OUTPUTS[name]
    kind.__pydantic_config__ = ConfigDict(extra="forbid")
    return TypeAdapter(kind).json_schema()
