"""The figures of a model that can be moved one by one: how each is written, which way is worse, and how it is set."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from typing import Any

from msgspec import Struct

from tachys.model.system import System
from tachys.trying.amounts import Amount


class Movable(Struct, frozen=True):
    """A figure that stands at ``key``: the most of a range. ``up``: more of it is worse.

    ``steady``: bounds only ever grow with it, so that one search finds where a need falls; else it is looked at
    in between, too. ``least`` is the other end of a range, ``besides`` what moves in the other direction with it.
    """

    key: str
    amount: Amount
    up: bool = True
    steady: bool = True
    least: Amount | None = None
    besides: tuple[Movable, ...] = ()
    note: str = ""

    def at(self, amount: Amount) -> tuple[str, ...]:
        """The settings that put it to an amount."""
        if self.besides:
            factor = self.amount.number / amount.number
            moved = (each for other in self.besides for each in other.scaled(factor))
            return (f"{self.key}={amount}", *moved)
        if self.least is not None and amount.number < self.least.number:
            return (f'{self.key.rpartition(".")[0]}=["{amount}", "{amount}"]',)
        return (f"{self.key}={amount}",)

    def scaled(self, factor: Fraction) -> tuple[str, ...]:
        """The settings that make it, the least of its range as well, so many times as large."""
        least, most = (None if each is None else self._fine(each.times(factor)) for each in (self.least, self.amount))
        if least is None:
            return (f"{self.key}={most}",)
        return (f'{self.key.rpartition(".")[0]}=["{least}", "{most}"]',)

    def _fine(self, amount: Amount) -> Amount:
        """To nine digits, so that a guard still fits into its body."""
        return amount.rounded(up=".guard." not in self.key, digits=9, whole=False)


ALL_WORK = "all costs and guards"


def movable(tables: Mapping[str, Any], system: System) -> list[Movable]:
    """Every figure that can be moved, in the order of the model; the clocks, and all work together, last."""
    work = [each for each in (*_work(tables, "isr"), *_work(tables, "step")) if each.amount.number]
    found = [*work, *_sources(tables, system)]
    for name, table in _tables(tables, "unit"):
        found += _ranged(f"unit.{name}.takes", table.get("takes"), steady=False)
    for name, table in _tables(tables, "isr"):
        found += _ranged(f"isr.{name}.pause", table.get("pause"), steady=False)
    for key, table in _bodies(tables, "step"):
        found += _ranged(f"{key}.pause", table.get("pause"), steady=False)
        if not isinstance(table.get("every"), Mapping):  # a number of ticks is no time
            found += _ranged(f"{key}.every", table.get("every"), up=False, steady=False)
    for name, table in _tables(tables, "sleep"):
        found += _ranged(f"sleep.{name}.wake", table.get("wake"))
    core: list[Movable] = []
    for key in ("entry", "exit", "chain", "wake"):
        core += _ranged(f"core.{key}", tables.get("core", {}).get(key))
    core += _ranged("loop.overhead", tables.get("loop", {}).get("overhead"))
    found += core
    burns = [each for each in core if each.key != "core.wake"]  # how long the clocks take to come back is no work
    timed = tuple(each for each in (*work, *_ats(tables), *burns) if each.amount.unit.endswith("s")
                  and not each.amount.unit.startswith("cycle") and each.amount.number)  # fmt: skip
    found += _clocks(tables, timed)
    return [each for each in found if each.amount.number > 0]


def all_work(tables: Mapping[str, Any]) -> tuple[Movable, ...]:
    """The costs of all bodies with their guards, to be scaled together."""
    works = (*_work(tables, "isr"), *_work(tables, "step"), *_ats(tables))
    return tuple(each for each in works if each.amount.number)


def _tables(tables: Mapping[str, Any], section: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
    things = tables.get(section, {})
    yield from ((_quoted(name), table) for name, table in things.items() if isinstance(table, Mapping))


def _quoted(name: str) -> str:
    return name if name.replace("_", "").replace("-", "").isalnum() and name.isascii() else f'"{name}"'


def _work(tables: Mapping[str, Any], section: str) -> Iterator[Movable]:
    for key, table in _bodies(tables, section):
        cost = table.get("cost")
        if isinstance(cost, Mapping):
            for event, each in cost.items():
                yield from _ranged(f"{key}.cost.{_quoted(event)}", each)
        else:
            yield from _ranged(f"{key}.cost", cost)
        if isinstance(table.get("nth"), Mapping):
            yield from _ranged(f"{key}.nth.cost", table["nth"].get("cost"))
        yield from _guards(f"{key}.guard", table.get("guard"), "for")


def _bodies(tables: Mapping[str, Any], section: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
    """(key, table) of all bodies of a section: with the steps their parts, and the start-up."""
    for name, table in _tables(tables, section):
        yield f"{section}.{name}", table
        parts = table.get("then")
        for number, part in enumerate(parts if isinstance(parts, Sequence) else (), 1):
            if isinstance(part, Mapping):
                yield f"{section}.{name}.then.{number}", part
    if section == "step" and isinstance(tables.get("startup"), Mapping):
        yield "startup", tables["startup"]


def _ats(tables: Mapping[str, Any]) -> tuple[Movable, ...]:
    """When guards begin, and moments come, counted within their bodies."""
    guards = [
        each
        for section in ("isr", "step")
        for key, table in _bodies(tables, section)
        for each in _guards(f"{key}.guard", table.get("guard"), "at")
    ]
    moments = [
        each
        for name, table in _tables(tables, "isr")
        for moment, at in table.get("moments", {}).items()
        for each in _ranged(f"isr.{name}.moments.{_quoted(moment)}", at)
    ]
    return (*guards, *moments)


def _guards(key: str, guard: Any, what: str) -> Iterator[Movable]:
    if isinstance(guard, Mapping):
        yield from _ranged(f"{key}.{what}", guard.get(what))
    for number, each in enumerate(guard if isinstance(guard, Sequence) and not isinstance(guard, str) else (), 1):
        if isinstance(each, Mapping):
            yield from _ranged(f"{key}.{number}.{what}", each.get(what))


def _sources(tables: Mapping[str, Any], system: System) -> Iterator[Movable]:
    known = {_quoted(source.name): source for source in system.sources}
    for name, table in _tables(tables, "source"):
        key, source = f"source.{name}", known.get(name)
        yield from _ranged(f"{key}.gap", table.get("gap"), up=False)
        yield from _ranged(f"{key}.every", table.get("every"), up=False, steady=False)
        if source is not None and source.timer is not None and source.period is not None:
            unit, scale = ("ms", 10**9) if source.period >= 10**9 else ("us", 10**6)
            period = Amount(source.period / scale, unit).rounded(up=True, digits=12)
            yield Movable(f"{key}.every", period, up=False, steady=False, note="the period of its timer")
        serial, burst = table.get("serial"), table.get("burst")
        if isinstance(serial, Mapping):
            yield from _ranged(f"{key}.serial.baud", serial.get("baud"), steady=False)
        if isinstance(burst, Mapping):
            yield from _ranged(f"{key}.burst.spaced", burst.get("spaced"), up=False)
            yield from _ranged(f"{key}.burst.every", burst.get("every"), up=False)
            yield from _ranged(f"{key}.burst.within", burst.get("within"))


def _clocks(tables: Mapping[str, Any], timed: tuple[Movable, ...]) -> Iterator[Movable]:
    core = tables.get("core", {}).get("clock")
    names = [name for name, _ in _tables(tables, "clock")]
    note = "costs written in time count as cycles of today's clock" if timed else ""
    if isinstance(core, str) and core not in names:
        yield from _ranged("core.clock", core, up=False, steady=False, besides=timed, note=note)
    for name, table in _tables(tables, "clock"):
        own = name == core
        yield from _ranged(f"clock.{name}.rate", table.get("rate"), up=False, steady=False,
                           besides=timed if own else (), note=note if own else "")  # fmt: skip


def _ranged(key: str, value: Any, **more: Any) -> Iterator[Movable]:
    """The figure at a key: the most of a range; none where nothing, or no quantity, stands there."""
    try:
        if isinstance(value, list) and len(value) == 2:
            most = Amount.read(value[1])
            yield Movable(f"{key}.2", most, least=Amount.read(value[0]).in_unit_of(most), **more)
        elif isinstance(value, (str, int)):
            yield Movable(key, Amount.read(value), **more)
    except ValueError:
        return
