"""What the bounds say, as plain records that the commands, the check and the figures read."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from fractions import Fraction

from tachys.model.system import Need, System


class Verdict(StrEnum):
    """What is known of a need, on paper and on the board."""

    MET = "met"
    AT_RISK = "at risk"
    MISSED = "missed"
    UNSEEN = "unseen"


@dataclass(frozen=True, slots=True)
class Part:
    """One term of a figure: ``count`` times (``body`` + ``overhead``) ps, caused by ``who``."""

    what: str
    who: str
    count: int
    body: int
    overhead: int = 0

    @property
    def total(self) -> int:
        """What this part adds to the figure, in ps."""
        return self.count * (self.body + self.overhead)


@dataclass(frozen=True, slots=True)
class Figure:
    """[least, most] in ps. ``most`` None is unbounded, for ``reason``; else ``parts`` add up to it exactly."""

    least: int
    most: int | None
    parts: tuple[Part, ...] = ()
    reason: str = ""
    activation: int = 1


@dataclass(frozen=True, slots=True)
class IsrBounds:
    """The bounds of one routine. ``pending_needed`` None: no depth is enough."""

    name: str
    latency: Figure
    response: Figure
    span: Figure
    lost: bool
    lost_reason: str
    pending_needed: int | None


@dataclass(frozen=True, slots=True)
class LoadShare:
    """What one routine or step takes of the core in the long run: [least, most] as a share of one."""

    who: str
    least: Fraction
    most: Fraction


@dataclass(frozen=True, slots=True)
class LoadBounds:
    """Long-run load; ``most`` is at most one."""

    least: Fraction
    most: Fraction
    shares: tuple[LoadShare, ...]
    reason: str = ""


@dataclass(frozen=True, slots=True)
class NeedBounds:
    """One need on paper. ``bound`` and ``limit`` in ps, or as a share for a load; ``bound`` None: none known."""

    need: Need
    limit: int | Fraction
    bound: int | Fraction | None
    proved: bool
    verdict: Verdict
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Bounds:
    """All bounds of a system, by name and in the order of acceptance."""

    system: System
    isrs: dict[str, IsrBounds] = field(default_factory=dict)
    load: LoadBounds = field(default_factory=lambda: LoadBounds(Fraction(0), Fraction(0), ()))
    needs: dict[str, NeedBounds] = field(default_factory=dict)
