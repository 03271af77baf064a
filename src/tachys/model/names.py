"""The names of a model: what there is, and whether every reference names something.

Works on the parsed TOML before it is judged, so that a misspelt name is found beside every other fault.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from tachys.errors import did_you_mean

Complain = Callable[[tuple[str, ...], str, str], None]
_NAME = re.compile(r"[\w-]{1,64}")
_NAMED = ("clock", "source", "isr", "step", "need")


def table_of(raw: Mapping[str, Any], section: str) -> dict[str, dict[str, Any]]:
    """The tables of a section, without whatever is no table."""
    section_table = raw.get(section)
    if not isinstance(section_table, dict):
        return {}
    return {name: table for name, table in section_table.items() if isinstance(table, dict)}


def event_names(raw: Mapping[str, Any]) -> list[str]:
    """Every event that the model knows, in the order written."""
    events = [f"source.{name}" for name in table_of(raw, "source")]
    for section in ("isr", "step"):
        for name in table_of(raw, section):
            events += [f"{section}.{name}.start", f"{section}.{name}.end"]
    return events


def _as_list(value: Any) -> list[str]:
    items = value if isinstance(value, list) else [value]
    return [item for item in items if isinstance(item, str)]


def check_references(raw: Mapping[str, Any], complain: Complain) -> None:
    """Complain about every name that is not allowed and every reference that names nothing."""
    for section in _NAMED:
        for name in table_of(raw, section):
            if not _NAME.fullmatch(name):
                complain((section, name), "this name cannot be used", "letters, digits, _ and - make a name")
    events = event_names(raw)
    sources = [event for event in events if event.startswith("source.")]
    for path, value, allowed, what in _references(raw, events, sources):
        if value not in allowed:
            complain(path, f'"{value}" names no {what}', did_you_mean(value, allowed, what))
    _check_loop_order(raw, complain)


def _references(
    raw: Mapping[str, Any], events: list[str], sources: list[str]
) -> Iterator[tuple[tuple[str, ...], str, list[str], str]]:
    """(where, the reference, what it may name, what that is called)."""
    for name, table in table_of(raw, "isr").items():
        for event in _as_list(table.get("on")):
            yield ("isr", name, "on"), event, sources, "source"
    for name, table in table_of(raw, "need").items():
        for key in ("from", "to"):
            for event in _as_list(table.get(key)):
                yield ("need", name, key), event, events, "event"
    shown = events + [f"{section}.{name}" for section in ("isr", "step") for name in table_of(raw, section)]
    for name, table in table_of(raw, "probe").items():
        for thing in _as_list(table.get("shows")):
            yield ("probe", name, "shows"), thing, shown, "event, routine or step"


def _check_loop_order(raw: Mapping[str, Any], complain: Complain) -> None:
    loop = raw.get("loop")
    if not isinstance(loop, dict) or not isinstance(loop.get("order"), list):
        return
    order, steps = _as_list(loop["order"]), list(table_of(raw, "step"))
    for name in order:
        if name not in steps:
            complain(("loop", "order"), f'"{name}" names no step', did_you_mean(name, steps, "step"))
    for name in steps:
        if order.count(name) != 1:
            complain(("loop", "order"), f'step "{name}" stands in it {order.count(name)} times', "name every step once")
