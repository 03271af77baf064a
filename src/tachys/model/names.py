"""The names of a model: what there is, and whether every reference names something.

Works on the parsed TOML before it is judged, so that a misspelt name is found beside every other fault.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from tachys.errors import did_you_mean
from tachys.model.nodes import CURRENT, IDLE
from tachys.needs.takers import INTERRUPTS

Complain = Callable[[tuple[str, ...], str, str], None]
Reference = tuple[tuple[str, ...], str, list[str], str]
_NAME = re.compile(r"[\w-]{1,64}")
_NAMED = ("clock", "sleep", "pin", "counter", "apart", "source", "unit", "isr", "flag", "buffer", "step", "need")
BODIES = ("unit", "isr", "step")
_TICKS = "-ticks"  # behind the name of a step: what counts those by which it is due
STARTUP = "startup"  # a table of its own, and the name of the step that it makes


def table_of(raw: Mapping[str, Any], section: str) -> dict[str, dict[str, Any]]:
    """The tables of a section, without whatever is no table; the start-up is one of the steps."""
    section_table = raw.get(section)
    found = dict(section_table) if isinstance(section_table, dict) else {}
    if section == "step" and STARTUP in raw:
        found[STARTUP] = raw[STARTUP]
    return {name: table for name, table in found.items() if isinstance(table, dict)}


def event_names(raw: Mapping[str, Any]) -> list[str]:
    """Every event that the model knows, in the order written."""
    events = [f"source.{name}" for name in table_of(raw, "source")]
    for section in BODIES:
        for name in table_of(raw, section):
            events += [f"{section}.{name}.start", f"{section}.{name}.end"]
            if section == "unit":
                events.append(f"unit.{name}")
            if section == "isr":
                events += [f"isr.{name}.{moment}" for moment in _moments(table_of(raw, section)[name])]
    for name in _ticked(raw):
        timer = f"unit.{ticks_of(name)}"
        events += [timer, f"{timer}.start", f"{timer}.end"]
    return [*events, *(f"buffer.{name}.lost" for name in table_of(raw, "buffer"))]


def ticks_of(step: str) -> str:
    """The name of what counts the ticks by which a step is due."""
    return f"{step}{_TICKS}"


def due_by_ticks(unit: str, steps: Mapping[str, Any]) -> str | None:
    """The step whose ticks a unit counts; None if it is a unit of its own."""
    return next((step for step in _ticked({"step": steps}) if ticks_of(step) == unit), None)


def _ticked(raw: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    """What each step counts that is due by ticks."""
    due = {name: table.get("every") for name, table in table_of(raw, "step").items()}
    return {name: every for name, every in due.items() if isinstance(every, dict)}


def _moments(table: Mapping[str, Any]) -> list[str]:
    """The events of a routine between its beginning and its end."""
    moments = table.get("moments")
    return [*(["nth"] if isinstance(table.get("nth"), dict) else []), *(moments if isinstance(moments, dict) else [])]


def flag_names(raw: Mapping[str, Any]) -> list[str]:
    """Every flag that is set or looked at anywhere."""
    return list(dict.fromkeys(flag for _, flag in _flags(raw)))


def _flags(raw: Mapping[str, Any]) -> Iterator[tuple[tuple[str, ...], str]]:
    """(where, the flag) of every place that names one."""
    for kind in ("isr", "step"):
        for name, table in table_of(raw, kind).items():
            yield from (((kind, name, "sets"), flag) for flag in _as_list(table.get("sets")))
            if isinstance(table.get("nth"), dict):
                yield from (((kind, name, "nth"), flag) for flag in _as_list(table["nth"].get("sets")))
    yield from ((("flag", flag), flag) for flag in table_of(raw, "flag"))
    for name, table in table_of(raw, "step").items():
        polled = (flag for flag in _polled(table) if not flag.startswith("buffer."))
        yield from ((("step", name, "polls"), flag) for flag in polled)
        for part in _parts(table):
            waited = (flag for flag in _as_list(part.get("waits")) if not flag.startswith("unit."))
            yield from ((("step", name, "waits"), flag) for flag in waited)
        if isinstance(table.get("sleep"), dict):
            yield from ((("step", name, "sleep"), flag) for flag in _as_list(table["sleep"].get("unless")))


def _parts(step: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    """What a step does itself, and its parts."""
    then = step.get("then")
    return [step, *(part for part in (then if isinstance(then, list) else []) if isinstance(part, dict))]


def _polled(step: Mapping[str, Any]) -> list[str]:
    polls = step.get("polls")
    return _as_list(polls.get("all") if isinstance(polls, dict) else polls)


def _as_list(value: Any) -> list[str]:
    items = value if isinstance(value, list) else [value]
    return [item for item in items if isinstance(item, str)]


def check_references(raw: Mapping[str, Any], complain: Complain) -> None:
    """Complain about every name that is not allowed and every reference that names nothing."""
    for section in _NAMED:
        for name in table_of(raw, section):
            if not _NAME.fullmatch(name):
                complain((section, name), "this name cannot be used", "letters, digits, _ and - make a name")
    for path, flag in _flags(raw):
        if not _NAME.fullmatch(flag):
            complain(path, f'"{flag}" cannot name a flag', "letters, digits, _ and - make a name")
    for name, table in table_of(raw, "isr").items():
        for moment in _moments({"moments": table.get("moments")}):
            if moment in ("start", "end", "nth") or not _NAME.fullmatch(moment):
                complain(
                    ("isr", name, "moments"),
                    f'"{moment}" cannot name a moment',
                    "start, end and nth are events of their own; letters, digits, _ and - make a name",
                )
    for path, value, allowed, what in _references(raw):
        if value not in allowed:
            complain(path, f'"{value}" names no {what}', did_you_mean(value, allowed, what))
    _check_loop_order(raw, complain)


def _references(raw: Mapping[str, Any]) -> Iterator[Reference]:
    """(where, the reference, what it may name, what that is called)."""
    events = event_names(raw)
    buffers = [f"buffer.{name}" for name in table_of(raw, "buffer")]
    for section, known in (("isr", events + buffers), ("unit", events)):
        for name, table in table_of(raw, section).items():
            for event in _as_list(table.get("on")):
                yield (section, name, "on"), event, known, "event"
    for name, table in table_of(raw, "unit").items():
        counts = table.get("counts")
        if isinstance(counts, dict):
            yield from ((("unit", name, "counts"), event, events, "event") for event in _as_list(counts.get("of")))
        for event in _as_list(table.get("cancelled_by")):
            yield ("unit", name, "cancelled_by"), event, events, "event"
    for name, every in _ticked(raw).items():
        yield from ((("step", name, "every"), event, events, "event") for event in _as_list(every.get("of")))
    yield from _buffer_references(raw, events, buffers)
    for name, table in table_of(raw, "isr").items():
        if isinstance(table.get("cost"), dict):
            for event in table["cost"]:
                yield ("isr", name, "cost", event), event, _as_list(table.get("on")), "event of its on"
    hardware = [event for event in events if event.startswith(("source.", "unit.", "buffer."))]
    for name, table in table_of(raw, "flag").items():
        for event in _as_list(table.get("set_by")):
            yield ("flag", name, "set_by"), event, hardware, "event of a source, unit or buffer"
    for name, table in table_of(raw, "step").items():
        for part in _parts(table):
            waits = part.get("waits")
            following = _as_list(waits.get("next")) if isinstance(waits, dict) else []
            for thing in [*following, *(thing for thing in _as_list(waits) if thing.startswith("unit."))]:
                yield ("step", name, "waits"), thing, [f"unit.{unit}" for unit in table_of(raw, "unit")], "unit"
    for name, table in table_of(raw, "step").items():
        sleep = table.get("sleep")
        for depth in _as_list(sleep.get("depth") if isinstance(sleep, dict) else sleep):
            yield ("step", name, "sleep"), depth, list(table_of(raw, "sleep")), "depth of sleep"
        for unit in _as_list(sleep.get("plain_if")) if isinstance(sleep, dict) else ():
            yield ("step", name, "sleep"), unit, [f"unit.{unit}" for unit in table_of(raw, "unit")], "unit"
    clocks = ["core", *(f"clock.{name}" for name in table_of(raw, "clock"))]
    sources = [f"source.{name}" for name in table_of(raw, "source")]
    for name, table in table_of(raw, "apart").items():
        yield from ((("apart", name, "of"), source, sources, "source") for source in _as_list(table.get("of")))
    for name, table in table_of(raw, "counter").items():
        for event in _as_list(table.get("of")):
            yield ("counter", name, "of"), event, [*events, *clocks], "event or clock"
        for event in _as_list(table.get("read_by")):
            yield ("counter", name, "read_by"), event, events, "event"
    watchdog = raw.get("watchdog")
    if isinstance(watchdog, dict):
        for event in _as_list(watchdog.get("fed_by")):
            yield ("watchdog", "fed_by"), event, events, "event"
    yield from _need_references(raw, events)
    yield from _probe_references(raw, events)


def _buffer_references(raw: Mapping[str, Any], events: list[str], buffers: list[str]) -> Iterator[Reference]:
    for name, table in table_of(raw, "buffer").items():
        given = table.get("fed_by")
        for each in given if isinstance(given, list) else [given]:
            for event in _as_list(each.get("event") if isinstance(each, dict) else each):
                yield ("buffer", name, "fed_by"), event, events, "event"
    for section in BODIES:
        parts = [(name, part) for name, table in table_of(raw, section).items() for part in _parts(table)]
        for name, part in parts:
            for key, within in (("drains", "from"), ("puts", "into"), ("polls", "all")):
                given = part.get(key)
                for buffer in _as_list(given.get(within) if isinstance(given, dict) else given):
                    if key != "polls" or buffer.startswith("buffer."):
                        yield (section, name, key), buffer, buffers, "buffer"


def _need_references(raw: Mapping[str, Any], events: list[str]) -> Iterator[Reference]:
    kinds = ("source", "unit", "isr", "buffer")
    losers = [f"{section}.{name}" for section in kinds for name in table_of(raw, section)]
    losers += [f"flag.{flag}" for flag in flag_names(raw)]
    takers = [INTERRUPTS, *(f"{section}.{name}" for section in ("isr", "step") for name in table_of(raw, section))]
    events = [*events, *(f"pin.{pin}.{edge}" for pin in table_of(raw, "pin") for edge in ("rise", "fall"))]
    for name, table in table_of(raw, "need").items():
        for key in ("from", "to"):
            for event in _as_list(table.get(key)):
                yield ("need", name, key), event, events, "event"
        for thing in _as_list(table.get("of")):
            if "load" in table:
                yield ("need", name, "of"), thing, takers, "routine or step, or interrupts"
            elif "lost" in table:
                yield ("need", name, "of"), thing, losers, "source, unit, routine, flag or buffer"
            elif "fill" in table:
                yield ("need", name, "of"), thing, [f"buffer.{each}" for each in table_of(raw, "buffer")], "buffer"
            else:
                yield ("need", name, "of"), thing, events, "event"


def _probe_references(raw: Mapping[str, Any], events: list[str]) -> Iterator[Reference]:
    bodies = [f"{section}.{name}" for section in (*BODIES, "pin") for name in table_of(raw, section)]
    for name, table in table_of(raw, "probe").items():
        for thing in _as_list(table.get("shows")):
            if thing not in (IDLE, CURRENT):
                yield ("probe", name, "shows"), thing, events + bodies, "event, routine, unit or step"
        if isinstance(table.get("codes"), dict):
            for code, thing in table["codes"].items():
                for shown in _as_list(thing):
                    yield ("probe", name, "codes", code), shown, bodies, "routine or step"


def _check_loop_order(raw: Mapping[str, Any], complain: Complain) -> None:
    loop = raw.get("loop")
    if not isinstance(loop, dict) or not isinstance(loop.get("order"), list):
        return
    order, steps = _as_list(loop["order"]), [name for name in table_of(raw, "step") if name != STARTUP]
    for name in order:
        if name not in steps:
            complain(("loop", "order"), f'"{name}" names no step', did_you_mean(name, steps, "step"))
    for name in steps:
        if order.count(name) != 1:
            complain(("loop", "order"), f'step "{name}" stands in it {order.count(name)} times', "name every step once")
