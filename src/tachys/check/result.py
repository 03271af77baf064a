"""What a check says, as plain records."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from tachys.bounds.result import Bounds, Verdict
from tachys.capture.table import Capture, Instants
from tachys.model.system import Need


@dataclass(frozen=True, slots=True)
class Seen:
    """Statistics of measured times in ps. ``resolution``: each value is known to less than this, either way.

    Percentiles are of the nearest rank, so each is a value that really occurred.
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


def seen(values: Instants, resolution: int) -> Seen | None:
    """The statistics of some times in ps; None where there is none."""
    if len(values) == 0:
        return None
    ordered = np.sort(values)

    def rank(share: float) -> int:
        return int(ordered[max(0, int(np.ceil(share * len(ordered))) - 1)])

    return Seen(
        count=len(ordered),
        least=int(ordered[0]),
        mean=float(ordered.mean()),
        median=rank(0.5),
        p95=rank(0.95),
        p99=rank(0.99),
        p999=rank(0.999),
        most=int(ordered[-1]),
        resolution=resolution,
    )


@dataclass(frozen=True, slots=True)
class Cause:
    """Something that was seen running for ``time`` ps while an event waited."""

    what: str
    time: int


@dataclass(frozen=True, slots=True)
class Miss:
    """One broken need: the event at ``at`` ps of the capture and its answer after ``value`` ps.

    ``kind``: "late"; "lost", the event was never served; "open", unserved as the capture ended.
    """

    at: int
    value: int | None
    kind: str
    causes: tuple[Cause, ...] = ()


@dataclass(frozen=True, slots=True)
class NeedCheck:
    """A need: limit, bound and measurement side by side."""

    need: Need
    limit: int | Fraction
    bound: int | Fraction | None
    seen: Seen | None
    misses: tuple[Miss, ...]
    verdict: Verdict
    reason: str = ""


@dataclass(frozen=True, slots=True)
class IsrCheck:
    """What was measured of one routine; None where the capture cannot show it."""

    name: str
    latency: Seen | None
    response: Seen | None
    span: Seen | None
    lost: int | None


@dataclass(frozen=True, slots=True)
class Finding:
    """A modelled figure that the capture refutes. ``modelled`` and ``measured`` in ps."""

    code: str
    about: str
    text: str
    modelled: int
    measured: int


@dataclass(frozen=True, slots=True)
class CheckResult:
    """One capture held against one model."""

    capture: Capture
    bounds: Bounds
    isrs: dict[str, IsrCheck] = field(default_factory=dict)
    periods: dict[str, Seen] = field(default_factory=dict)
    needs: dict[str, NeedCheck] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    unprobed: tuple[str, ...] = ()

    @property
    def missed(self) -> bool:
        """Whether at least one need is missed."""
        return any(need.verdict is Verdict.MISSED for need in self.needs.values())
