"""The clock tree: every clock's rate as an exact rational, and how lengths in cycles become picoseconds."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fractions import Fraction

from tachys.errors import did_you_mean
from tachys.model.nodes import Clock
from tachys.model.quantities import LONGEST_PS, PS_PER_SECOND, Duration, DurationRange, Range, ceil_ps, floor_ps
from tachys.model.schema import ClockTable, CoreTable

Complain = Callable[[tuple[str, ...], str, str], None]


class ClockTree:
    """All clocks of a model by name. ``core`` is always there, even when it could not be resolved."""

    def __init__(self, core: CoreTable, tables: Mapping[str, ClockTable], complain: Complain) -> None:
        self._core = core
        self._tables = tables
        self._complain = complain
        self._known: dict[str, Clock] = {}
        self._fallback = Clock("core", Fraction(10**6))
        if "core" in tables:
            complain(("clock", "core"), 'the name "core" belongs to the clock of [core]', "choose another name")
        for name in ("core", *tables):
            self.resolve(name)

    def clocks(self) -> tuple[Clock, ...]:
        """Every clock that could be resolved, the core's first."""
        return tuple(self._known.values())

    def resolve(self, name: str, asked_by: tuple[str, ...] = ()) -> Clock:
        """The clock of that name; what is wrong on the way is complained about once and stands in as 1 MHz."""
        if name in self._known:
            return self._known[name]
        if name in asked_by:
            ring = " from ".join((*asked_by[asked_by.index(name) :], name))
            self._complain(("clock", name, "from"), f"the clocks go round in a ring: {ring}", "give one of them a rate")
            return self._fallback
        clock = self._core_clock(asked_by) if name == "core" else self._table_clock(name, asked_by)
        self._known.setdefault(name, clock)
        return self._known[name]

    def root(self, name: str) -> str:
        """The name of the oscillator that a clock comes from in the end; the core's own is "core"."""
        seen = {name}
        while (parent := self._known[name].parent if name in self._known else None) is not None and parent not in seen:
            name = parent
            seen.add(name)
        return name

    def names(self) -> list[str]:
        """All names that a quantity may use behind ``cycles@``."""
        return ["core", *self._tables]

    def _core_clock(self, asked_by: tuple[str, ...]) -> Clock:
        clock, tolerance = self._core.clock, self._core.tolerance
        if isinstance(clock, Fraction):
            return Clock("core", clock, tolerance or Fraction(0))
        if clock not in self._tables:
            self._complain(
                ("core", "clock"), f'there is no clock "{clock}"', did_you_mean(clock, list(self._tables), "clock")
            )
            return self._fallback
        if tolerance is not None:
            self._complain(
                ("core", "tolerance"), f'clock "{clock}" brings its own tolerance', f"move it to [clock.{clock}]"
            )
        parent = self.resolve(clock, (*asked_by, "core"))
        return Clock("core", parent.hertz, parent.tolerance, clock)

    def _table_clock(self, name: str, asked_by: tuple[str, ...]) -> Clock:
        table = self._tables[name]
        if (table.rate is None) == (table.from_ is None):
            self._complain(
                ("clock", name),
                "a clock has either a rate of its own or a clock it comes from",
                'write rate = "32 kHz", or from = "core" with divide or multiply',
            )
            return self._fallback
        parent_name = None
        if table.rate is not None:
            hertz, tolerance = table.rate, table.tolerance or Fraction(0)
        else:
            assert table.from_ is not None
            if table.from_ not in self.names():
                self._complain(
                    ("clock", name, "from"),
                    f'there is no clock "{table.from_}"',
                    did_you_mean(table.from_, self.names(), "clock"),
                )
                return self._fallback
            if table.tolerance is not None:
                self._complain(
                    ("clock", name, "tolerance"),
                    "a derived clock is off exactly as the clock it comes from",
                    f'give the tolerance to "{table.from_}"',
                )
            parent = self.resolve(table.from_, (*asked_by, name))
            hertz, tolerance, parent_name = parent.hertz, parent.tolerance, parent.name
        hertz = hertz * table.multiply / table.divide
        if not Fraction(1, 10**6) <= hertz <= PS_PER_SECOND:
            self._complain(("clock", name), f"comes to {float(hertz):g} Hz", "it must lie between 1e-6 Hz and 1000 GHz")
            return self._fallback
        return Clock(name, hertz, tolerance, parent_name)

    def named(self, name: str, path: tuple[str, ...]) -> Clock:
        """The clock that a key at ``path`` names; complains where there is none."""
        if name not in self.names():
            self._complain(path, f'there is no clock "{name}"', did_you_mean(name, self.names(), "clock"))
            return self._fallback
        return self.resolve(name)

    def exact(self, duration: Duration, path: tuple[str, ...]) -> tuple[Fraction, Fraction, Fraction]:
        """(least, nominal, most) of a duration in rational ps, over the tolerance of its clock if it has one."""
        if duration.clock is None:
            return duration.amount, duration.amount, duration.amount
        if duration.clock not in self.names():
            self._complain(
                path, f'"{duration.text}": there is no clock "{duration.clock}"',
                did_you_mean(duration.clock, self.names(), "clock"),
            )  # fmt: skip
            return Fraction(0), Fraction(0), Fraction(0)
        clock = self.resolve(duration.clock)
        nominal = duration.amount * PS_PER_SECOND / clock.hertz
        if nominal / (1 - clock.tolerance) > LONGEST_PS:
            self._complain(
                path, f'"{duration.text}" of a clock of {float(clock.hertz):g} Hz is longer than Tachys can count',
                f"at most {LONGEST_PS // PS_PER_SECOND} s",
            )  # fmt: skip
            return Fraction(0), Fraction(0), Fraction(0)
        return nominal / (1 + clock.tolerance), nominal, nominal / (1 - clock.tolerance)

    def cost(self, duration: Duration | DurationRange | None, path: tuple[str, ...]) -> Range:
        """A cost as [least, most] in ps, both rounded up. None is no cost."""
        if duration is None:
            return Range(0, 0)
        if isinstance(duration, Duration):
            duration = DurationRange(duration, duration)
        least, most = self.exact(duration.least, path)[0], self.exact(duration.most, path)[2]
        if least > most:
            self._complain(path, "the range runs backwards", "put the shorter time first")
        return Range(ceil_ps(least), ceil_ps(most))

    def distance(self, duration: Duration, path: tuple[str, ...]) -> int:
        """A least distance or a limit in ps: the least over the clock's tolerance, rounded down."""
        least = self.exact(duration, path)[0]
        if 0 < least < 1:
            self._complain(path, f'"{duration.text}" is shorter than 1 ps', "Tachys counts whole picoseconds")
        return floor_ps(least)
