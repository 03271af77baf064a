"""What comes out of playing a model."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from msgspec import Struct, field

from tachys.frames import frame
from tachys.needs.kinds import Need
from tachys.needs.verdicts import Verdict
from tachys.plain import statistics
from tachys.simulation.statistics import Counted, CounterPlayed, PinPlayed, Stats
from tachys.worstcase.bounds import Bounds

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("name", "quantity", "count", "least", "mean", "median", "p95", "p99", "p999", "most", "bound")


class SeenMiss(Struct, frozen=True):
    """A need that was broken: in which run, at which event (ps), and by how much it was answered (None: never)."""

    run: int
    at: int
    value: int | Fraction | None
    kind: str


class NeedSeen(Struct):
    """One need, as it was seen. ``seen`` of a load is the share of time, of a loss the number lost."""

    need: Need
    verdict: Verdict
    limit: int | Fraction
    seen: Stats | None
    value: int | Fraction | None
    misses: int
    first: tuple[SeenMiss, ...] = ()


class Simulated(Struct, frozen=True):
    """Statistics over all runs; times in ps. ``shares``: of the whole time, by who; ``levels``: most in each buffer.

    ``cleared``: events of each routine that it has cleared itself, as it ended; ``silent``: operations of each
    unit that never ended. ``spent``: the time in ps by state and by who caused it, of which supply currents are made;
    ``wakes``: how often the core woke; ``pins`` and ``counters``: what these did, by name.
    """

    bounds: Bounds
    length: int
    runs: int
    complete: bool
    counted: dict[str, Counted]
    lost: dict[str, int]
    shares: dict[str, Fraction]
    needs: dict[str, NeedSeen] = field(default_factory=dict)
    levels: dict[str, int] = field(default_factory=dict)
    cleared: dict[str, int] = field(default_factory=dict)
    silent: dict[str, int] = field(default_factory=dict)
    spent: dict[tuple[str, str], int] = field(default_factory=dict)
    wakes: int = 0
    pins: dict[str, PinPlayed] = field(default_factory=dict)
    counters: dict[str, CounterPlayed] = field(default_factory=dict)

    def __repr__(self) -> str:
        needs = ", ".join(f"{name} {need.verdict}" for name, need in self.needs.items())
        return f"<Simulated {self.length / 10**12:g} s, {self.runs} runs: {needs or 'no needs'}>"

    def to_frame(self) -> pd.DataFrame:
        """The rows as a frame."""
        return frame(COLUMNS, self.rows())

    def rows(self) -> list[list[object]]:
        """Every quantity that has a bound as a row of :data:`COLUMNS`, times in seconds."""
        rows: list[list[object]] = []
        for measure, name, figure in self.bounds.figures():
            told = statistics(self.stats(measure.name(name))) or {"count": 0}
            thing = measure.thing(name)
            rows.append([thing, measure.key, *(told.get(column) for column in COLUMNS[2:-1]), figure.seconds.most])
        return rows

    def stats(self, name: str) -> Stats | None:
        """The statistics of a quantity such as "isr.tick.latency"; None where it was never counted."""
        return self.counted[name].stats()

    @property
    def idle(self) -> tuple[str, ...]:
        """What never happened: routines and units that never ended, flags that were never taken, steps never done."""
        keys = {"isr": ".response", "unit": ".time", "flag": "", "buffer": ".time", "step": ".duration"}
        things = [(kind, name) for kind in keys for name in self.bounds.of_kind(kind)]
        return tuple(f"{kind}.{name}" for kind, name in things if self.stats(f"{kind}.{name}{keys[kind]}") is None)

    @property
    def load(self) -> Fraction:
        """The share of time in bodies, entries, exits and chains, steps, and passes in which a step ran."""
        return 1 - sum((self.shares[name] for name in ("asleep", "wake", "spun")), Fraction(0))

    @property
    def missed(self) -> bool:
        """Whether a need was seen broken."""
        return any(need.verdict is Verdict.MISSED for need in self.needs.values())
