"""All bounds of a system, and every figure of them by the name of the thing it belongs to."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import TYPE_CHECKING

from msgspec import Struct, field

from tachys.figures import Figure
from tachys.frames import PS, frame
from tachys.measures import KINDS, Measure, measures_of
from tachys.model.events import Event
from tachys.model.system import System
from tachys.needs.kinds import NeedBounds
from tachys.plain import possible
from tachys.worstcase.counters import CounterBounds
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.result import BufferBounds, FlagBounds, IsrBounds, LoadBounds, StepBounds, UnitBounds

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("name", "quantity", "least", "most", "limit", "lost or verdict")
Titled = tuple[str, Figure]


class Bounds(Struct, frozen=True):
    """All bounds of a system, by name; routines in the order of acceptance."""

    system: System
    isrs: dict[str, IsrBounds] = field(default_factory=dict)
    units: dict[str, UnitBounds] = field(default_factory=dict)
    flags: dict[str, FlagBounds] = field(default_factory=dict)
    loop_pass: Figure | None = None
    steps: dict[str, StepBounds] = field(default_factory=dict)
    load: LoadBounds = field(default_factory=lambda: LoadBounds(Fraction(0), Fraction(0), ()))
    needs: dict[str, NeedBounds] = field(default_factory=dict)
    endless: tuple[Event, ...] = ()
    reach: EventBounds | None = None
    buffers: dict[str, BufferBounds] = field(default_factory=dict)
    counters: dict[str, CounterBounds] = field(default_factory=dict)

    @property
    def narrowed(self) -> System:
        """The system in which no run takes more items, and no put waits longer, than bounds say."""
        return self.system if self.reach is None else self.reach.system

    def __repr__(self) -> str:
        needs = ", ".join(f"{name} {need.verdict}" for name, need in self.needs.items())
        return f"<Bounds of {self.system.title or 'a model'}: {needs or 'no needs'}>"

    def of_kind(self, kind: str) -> Mapping[str, object]:
        """The bounds of all things of a kind, by name; the loop is one thing."""
        if kind == "loop":
            return {} if self.loop_pass is None else {"": self.loop_pass}
        by_kind: dict[str, Mapping[str, object]] = {
            "isr": self.isrs, "unit": self.units, "flag": self.flags, "buffer": self.buffers, "step": self.steps,
        }  # fmt: skip
        return by_kind[kind]

    def figures(self) -> Iterator[tuple[Measure, str, Figure]]:
        """(what it measures, the name of what it belongs to, the figure): every one that there is."""
        for kind in KINDS:
            for name, each in self.of_kind(kind).items():
                for measure in measures_of(kind, bounded=True):
                    figure = each if isinstance(each, Figure) else getattr(each, measure.key)
                    if figure is not None:
                        yield measure, name, figure

    def catalog(self) -> dict[str, list[Titled]]:
        """(title, figure) of each thing: "isr.tick", "unit.adc", "flag.ready", "step.log", "loop", "need.x"."""
        found: dict[str, list[Titled]] = {}
        for measure, name, figure in self.figures():
            thing = measure.thing(name)
            found.setdefault(thing, []).append((measure.title, figure))
        for name, isr in self.isrs.items():
            found[f"isr.{name}"] += [(f"response to {moment}", each.response) for moment, each in isr.inner.items()]
        for name, need in self.needs.items():
            if need.figure is not None:
                found[f"need.{name}"] = [("its bound", need.figure)]
        return found

    def named(self, name: str) -> Iterator[tuple[str, list[Titled]]]:
        """The things that a name means: the full name, or the last part of it."""
        for full, figures in self.catalog().items():
            if name in (full, full.partition(".")[2]):
                yield full, figures

    @property
    def may_lose(self) -> dict[str, bool]:
        """Whether each routine, unit and flag may lose events, starts, sets."""
        lost = {f"isr.{name}": isr.lost for name, isr in self.isrs.items()}
        lost |= {f"unit.{name}": unit.lost for name, unit in self.units.items()}
        lost |= {f"buffer.{name}": buffer.lost for name, buffer in self.buffers.items()}
        return lost | {f"flag.{name}": flag.overwritten for name, flag in self.flags.items()}

    def rows(self) -> list[list[object]]:
        """Everything as rows of :data:`COLUMNS`, times in seconds, loads as shares."""
        lost = self.may_lose
        rows: list[list[object]] = []
        for measure, name, figure in self.figures():
            thing = measure.thing(name)
            told = possible(lost[thing]) if thing in lost else None
            rows.append([thing, measure.title, figure.seconds.least, figure.seconds.most, None, told])
        rows.append(["load", "long run", float(self.load.least), float(self.load.most), None, None])
        for window in self.load.windows:
            rows.append(["load", f"any {window.length / PS:g} s", None, float(window.most), None, None])
        for name, need in self.needs.items():
            limit, bound = need.need.given(need.limit), need.need.given(need.bound)
            rows.append([f"need.{name}", "bound", None, bound, limit, str(need.verdict)])
        return rows

    def to_frame(self) -> pd.DataFrame:
        """The rows as a frame."""
        return frame(COLUMNS, self.rows())
