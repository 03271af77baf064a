"""What follows when a clock moves: timers that want a period are set anew, what is written in time stays as it is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from typing import Any

from tachys.errors import Place, Remark
from tachys.model.layers import KeyPath, Layer
from tachys.model.nodes import Source
from tachys.model.quantities import time_in_words
from tachys.model.schema import ModelFile
from tachys.model.system import System

_COUNTS = ("count", "reload_register", "preload")
_CPU_TIMES = ("cost", "for", "at", "overhead", "entry", "exit", "chain")
_NAMED = 6


def set_anew(base: System, tables: ModelFile, layers: Sequence[Layer]) -> tuple[ModelFile, list[str]]:
    """The tables without the counts of timers that no longer make what is wanted, and the names of those sources.

    A timer with ``wanted`` whose clock, or whose wanted period, is moved, and whose setting no layer gives.
    """
    names, sources = [], dict(tables.source)
    known = {source.name: source for source in base.sources}
    hertz = {clock.name: clock.hertz for clock in base.clocks}
    rates = _rates(tables)
    for name, table in sources.items():
        before = known.get(name)
        if table.timer is None or table.wanted is None or before is None or before.timer is None:
            continue
        moved = any(layer.says(("source", name, "wanted")) for layer in layers)
        moved |= hertz.get(table.timer.clock) != rates.get(table.timer.clock)
        if moved and not any(layer.says(("source", name, "timer", key)) for layer in layers for key in _COUNTS):
            timer = table.timer.model_copy(update=dict.fromkeys(_COUNTS))
            if timer.prescales:
                timer = timer.model_copy(update={"prescale": None, "prescale_register": None})
            sources[name] = table.model_copy(update={"timer": timer})
            names.append(name)
    return (tables.model_copy(update={"source": sources}) if names else tables), names


def _rates(tables: ModelFile) -> dict[str, Fraction]:
    from tachys.model.clocks import ClockTree

    return {clock.name: clock.hertz for clock in ClockTree(tables.core, tables.clock, lambda *_: None).clocks()}


def remarks_of(
    base: System, system: System, merged: Mapping[str, Any], layers: Sequence[Layer], anew: Sequence[str], place: Place
) -> Iterator[Remark]:
    """What a reader should know of a model in which clocks have moved."""
    was, now = base.core.clock.hertz, system.core.clock.hertz
    if was != now:
        left = [".".join(path) for path in _in_time(merged, ()) if not any(layer.says(path) for layer in layers)]
        if left:
            more = f" and {len(left) - _NAMED} more" if len(left) > _NAMED else ""
            yield Remark(
                place, "costs-in-time", "core.clock",
                f"moves from {_mhz(was)} to {_mhz(now)}, and {', '.join(left[:_NAMED])}{more} stay as they are, "
                "since they are written in time",
                f'write them in cycles, as "{float(was * 10 / 10**6):g} cycles" for 10 us',
            )  # fmt: skip
    known = {source.name: source for source in base.sources}
    for source in system.sources:
        before = known.get(source.name)
        if source.name in anew and source.timer is not None and source.period is not None:
            setting = source.timer.setting
            yield Remark(
                place, "timer-set-anew", source.thing,
                f"its timer is set anew: prescale {setting.prescale}, count {setting.count}, "
                f"for {_every(source)}",
                "write these into the registers with the change",
            )  # fmt: skip
        elif before is not None and before.period and source.period and before.period != source.period:
            if any(layer.says(("source", source.name)) for layer in layers):
                continue
            yield Remark(
                place, "rate-moved", source.thing,
                f"it comes each {_every(source)}, before each {_every(before)}",
                'its clock moved and its count did not: wanted = "…" lets it be set anew',
            )  # fmt: skip


def _every(source: Source) -> str:
    return time_in_words(round(source.period or 0))


def _in_time(table: Any, path: KeyPath) -> Iterator[KeyPath]:
    """The keys of CPU times that are written in seconds."""
    for key, value in table.items():
        here = (*path, key)
        if path and path[0] not in ("isr", "step", "core", "loop"):
            return
        if isinstance(value, Mapping) and key != "cost":
            yield from _in_time(value, here)
        elif isinstance(value, list) and any(isinstance(each, Mapping) for each in value):
            for number, each in enumerate(value, 1):
                yield from _in_time(each, (*here, str(number))) if isinstance(each, Mapping) else ()
        elif key in _CPU_TIMES and any(_is_time(each) for each in _leaves(value)):
            yield here


def _leaves(value: Any) -> Iterator[Any]:
    if isinstance(value, Mapping):
        value = list(value.values())
    for each in value if isinstance(value, list) else [value]:
        if isinstance(each, (list, Mapping)):
            yield from _leaves(each)
        else:
            yield each


def _is_time(value: Any) -> bool:
    return isinstance(value, str) and value.rstrip().endswith("s") and "cycle" not in value and not _zero(value)


def _zero(value: str) -> bool:
    return not value.strip("0. smunp")


def _mhz(hertz: Fraction) -> str:
    return f"{float(hertz / 10**6):g} MHz" if hertz >= 10**6 else f"{float(hertz / 1000):g} kHz"
