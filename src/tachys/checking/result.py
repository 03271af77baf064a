"""What a check says, as plain records."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.table import Capture, Instants
from tachys.checking.board.grid import ClockError
from tachys.checking.board.load import Busiest, LoadSeen
from tachys.checking.board.metering import Metered
from tachys.checking.board.waits import Cause, WaitPart
from tachys.checking.compare.compared import Compared
from tachys.checking.compare.tail import Tail
from tachys.frames import Seconds, frame, in_seconds
from tachys.model.events import Thing
from tachys.needs.kinds import Need
from tachys.needs.verdicts import Basis, Verdict
from tachys.worstcase.bounds import Bounds

if TYPE_CHECKING:
    import pandas as pd

    from tachys.checking.board.measuring import Measurement


class Seen(Struct, frozen=True):
    """Statistics of measured times in ps. ``resolution``: each value is known to less than this, either way.

    Percentiles are of the nearest rank, so each is a value that really occurred. ``relative``: measured against the
    fastest of them, since no line shows the event itself.
    """

    count: int
    least: int
    mean: float
    median: int
    p95: int
    p99: int
    p999: int
    most: int
    resolution: int
    relative: bool = False

    @property
    def seconds(self) -> Seconds:
        """Least, most, mean and median in seconds."""
        return in_seconds(self.least, self.most, self.mean, self.median)


def seen(values: Instants, resolution: int, *, relative: bool = False) -> Seen | None:
    """The statistics of some times in ps; None where there is none."""
    count = len(values)
    if not count:
        return None
    shares = {"median": 0.5, "p95": 0.95, "p99": 0.99, "p999": 0.999}
    ranks = {name: max(0, int(np.ceil(share * count)) - 1) for name, share in shares.items()}
    ordered = np.partition(values, sorted({0, count - 1, *ranks.values()}))
    return Seen(
        count=count,
        least=int(ordered[0]),
        mean=float(values.mean()),
        most=int(ordered[-1]),
        resolution=resolution,
        relative=relative,
        **{name: int(ordered[rank]) for name, rank in ranks.items()},
    )


class Miss(Struct, frozen=True):
    """One broken need: the event at ``at`` ps of the capture and its answer after ``value`` ps.

    ``kind``: "late"; "early"; "lost", the event was never served; "open", unserved as the capture ended. ``causes``
    together are the whole wait.
    """

    at: int
    value: int | None
    kind: str
    causes: tuple[Cause, ...] = ()


def _badness(miss: Miss) -> tuple[bool, int]:
    value = -1 if miss.value is None else miss.value
    return miss.kind != "early", -value if miss.kind == "early" else value


class NeedCheck(Struct, frozen=True):
    """A need: limit, bound and measurement side by side. ``value`` is the worst seen, as the limit is given.

    ``worst`` takes the worst answer seen apart, in time. ``note`` says what the measurement rests on, ``basis``
    what the verdict does. ``count`` of misses; those whose instant is known are ``misses``.
    """

    need: Need
    limit: int | Fraction
    bound: int | Fraction | None
    seen: Seen | None
    misses: tuple[Miss, ...]
    verdict: Verdict
    reason: str = ""
    value: int | Fraction | None = None
    worst_at: int | None = None
    worst: tuple[WaitPart, ...] = ()
    note: str = ""
    tail: Tail | None = None
    basis: Basis = Basis.NONE
    count: int = 0

    @property
    def worst_miss(self) -> Miss:
        """Of the misses, of which there must be one, the latest; where all came too early, the soonest."""
        return max(self.misses, key=_badness)


class IsrCheck(Struct, frozen=True):
    """What was measured of one routine; None where the capture cannot show it.

    ``unasked`` runs had no event before them; of ``left_out`` events it cannot be told which run served them.
    """

    name: str
    latency: Seen | None
    response: Seen | None
    span: Seen | None
    cost: Seen | None
    lost: int | None
    runs: int | None = None
    unasked: int = 0
    left_out: int = 0


class StepCheck(Struct, frozen=True):
    """What was measured of one step: start to start, start to end, and what nothing on top of it took."""

    name: str
    interval: Seen | None
    duration: Seen | None
    own: Seen | None
    late: Seen | None


class UnitCheck(Struct, frozen=True):
    """What was measured of one unit: start to end, and starts without an end of their own."""

    name: str
    time: Seen | None
    lost: int | None


class FlagCheck(Struct, frozen=True):
    """What was measured of one flag: set to taken, and sets that found it set."""

    name: str
    reaction: Seen | None
    overwritten: int


class BufferCheck(Struct, frozen=True):
    """What was measured of one buffer, each of it a least: the most in at once, and items that found no room."""

    name: str
    level: int
    lost: int


class Finding(Struct, frozen=True):
    """Something in which model and board differ. ``modelled`` and ``measured`` in ps, or numbers for counts.

    ``falls`` are the needs that are no longer proved with the measured figure, ``explains`` what it accounts for.
    ``at`` is an instant of the capture at which it is seen.
    """

    code: str
    about: Thing
    text: str
    modelled: int | None
    measured: int | None
    falls: tuple[str, ...] = ()
    explains: tuple[str, ...] = ()
    at: int | None = None

    @property
    def name(self) -> str:
        """As a model accepts it: "cost-longer isr.tick"."""
        return f"{self.code} {self.about}"


class CheckResult(Struct, frozen=True):
    """One capture held against one model.

    ``parts``: of a record with gaps, or of one that is larger than one look takes, what was checked one by one;
    ``board`` is that of the first, that of another is worked out ``again``. ``blind``: nothing of the model is seen.
    """

    capture: Capture
    bounds: Bounds
    measured: Measurement | None
    isrs: dict[str, IsrCheck] = field(default_factory=dict)
    steps: dict[str, StepCheck] = field(default_factory=dict)
    units: dict[str, UnitCheck] = field(default_factory=dict)
    flags: dict[str, FlagCheck] = field(default_factory=dict)
    buffers: dict[str, BufferCheck] = field(default_factory=dict)
    periods: dict[str, Seen] = field(default_factory=dict)
    needs: dict[str, NeedCheck] = field(default_factory=dict)
    figures: tuple[Compared, ...] = ()
    findings: tuple[Finding, ...] = ()
    load: LoadSeen | None = None
    metered: Metered | None = None
    busiest: tuple[Busiest, ...] = ()
    clock: ClockError | None = None
    unseen: tuple[str, ...] = ()
    foreign: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    parts: tuple[Capture, ...] = ()
    again: Callable[[int], CheckResult] | None = None
    blind: bool = False

    def __repr__(self) -> str:
        needs = ", ".join(f"{name} {need.verdict}" for name, need in self.needs.items())
        return f"<CheckResult of {self.capture.file}: {len(self.findings)} findings; {needs or 'no needs'}>"

    def around(self, instant: int) -> CheckResult:
        """The check of the part that holds an instant; itself where there is but one."""
        held = [number for number, part in enumerate(self.parts) if part.begin <= instant <= part.end]
        return self.again(held[0]) if held and self.again is not None else self

    def to_frame(self) -> pd.DataFrame:
        """A row a need, as limits are given: ps, a share of one, a number."""
        keys = ("limit", "bound", "value", "count", "verdict", "basis", "reason")
        rows = [[name, *(getattr(need, key) for key in keys)] for name, need in self.needs.items()]
        return frame(["need", "limit", "bound", "worst seen", "misses", "verdict", "basis", "reason"], rows)

    @property
    def unaccepted(self) -> tuple[str, ...]:
        """What a strict check does not pass: needs that are not met, or on paper alone, and findings, in words."""
        accepted = self.bounds.system.accepted
        told = [each.name for each in self.findings if each.name not in accepted.findings]
        for name, need in self.needs.items():
            if need.verdict is not Verdict.MET:
                told.append(f"need {name} is {need.verdict}")
            elif need.basis is Basis.PAPER and name not in accepted.on_paper:
                told.append(f"need {name} is met on paper alone")
        return tuple(told)

    @property
    def accepted(self) -> int:
        """How much of that the model accepts."""
        accepted = self.bounds.system.accepted
        paper = (self.needs[name].basis is Basis.PAPER for name in accepted.on_paper if name in self.needs)
        return sum(paper) + sum(each.name in accepted.findings for each in self.findings)

    @property
    def board(self) -> Measurement:
        """What was measured; of several captures it is not kept."""
        assert self.measured is not None
        return self.measured

    @property
    def outline(self) -> CheckResult:
        """The same without what is large, for who has many: of signals the names, and nothing that was measured."""
        nothing = np.zeros(0, np.int64)
        signals = {
            name: replace(each, at=nothing, value=nothing, known=np.zeros(0, np.bool_))
            for name, each in self.capture.signals.items()
        }
        return replace(self, capture=replace(self.capture, signals=signals), measured=None, parts=(), again=None)

    @property
    def missed(self) -> bool:
        """Whether at least one need is missed."""
        return any(need.verdict is Verdict.MISSED for need in self.needs.values())
