"""The bounds as plain data: format "tachys.bounds/1"."""

from __future__ import annotations

from typing import Any

from tachys.needs.kinds import NeedBounds
from tachys.plain import by_thing, figure, possible, seconds
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.counters import CounterBounds
from tachys.worstcase.result import LoadBounds
from tachys.worstcase.supply import currents_of, supply_bounds, supply_data


def need_data(need: NeedBounds) -> dict[str, Any]:
    """A need on paper."""
    found: dict[str, Any] = {
        "verdict": str(need.verdict), "limit": need.need.given(need.limit), "bound": need.need.given(need.bound)
    }  # fmt: skip
    told = figure(need.figure)
    if told is not None and told["parts"]:
        found["parts"] = told["parts"]
    return found | ({"reason": need.reason} if need.reason else {})


def _load(load: LoadBounds) -> dict[str, Any]:
    return {
        "least": float(load.least),
        "most": float(load.most),
        "groups": {group.who: {"least": float(group.least), "most": float(group.most)} for group in load.groups},
        "shares": {share.who: {"least": float(share.least), "most": float(share.most)} for share in load.shares},
        "windows": [
            {"length": seconds(window.length), "most": float(window.most),
             "shares": {who: float(share) for who, share in window.shares}}
            for window in load.windows
        ],
        "storms": list(load.storms),
    }  # fmt: skip


def _losing(found: dict[str, Any], field: str) -> dict[str, Any]:
    return {name: each | {field: possible(each[field])} for name, each in found.items()}


def bounds_data(bounds: Bounds) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    isrs = by_thing(bounds.isrs, "isr", figure, "lost", "pending_needed", bounded=True)
    for name, isr in bounds.isrs.items():
        if isr.inner:
            isrs[name]["inner"] = {
                moment: {"response": figure(within.response), "span": figure(within.span)}
                for moment, within in isr.inner.items()
            }
    units = by_thing(bounds.units, "unit", figure, "lost", "lost_in_row", "depth_needed", bounded=True)
    buffers = by_thing(bounds.buffers, "buffer", figure, "lost", bounded=True)
    flags = by_thing(bounds.flags, "flag", figure, "overwritten", bounded=True)
    return {
        "format": "tachys.bounds/1",
        "title": bounds.system.title,
        "laid_over": list(bounds.system.laid_over),
        "load": _load(bounds.load),
        "loop": {} if bounds.loop_pass is None else {"pass": figure(bounds.loop_pass)},
        "isrs": _losing(isrs, "lost"),
        "units": _losing(units, "lost"),
        "flags": _losing(flags, "overwritten"),
        "buffers": {
            name: {"level": {"most": bounds.buffers[name].level, "depth": bounds.system.buffer(name).depth}, **each}
            for name, each in _losing(buffers, "lost").items()
        },
        "steps": by_thing(bounds.steps, "step", figure, "drifts", bounded=True),
        "needs": {name: need_data(need) for name, need in bounds.needs.items()},
        **_energy(bounds),
        **_counters(bounds),
    }


def _counters(bounds: Bounds) -> dict[str, Any]:
    """What looks show of the counters of a model that has any."""
    if not bounds.counters:
        return {}
    return {"counters": {
        name: {"states": each.states, **dict.fromkeys(("between", "between_looks"), _between(each)),
               **dict.fromkeys(("missed", "rounds_missed"), each.missed), "shown": each.shown, "told": each.told,
               "reason": each.reason}
        for name, each in bounds.counters.items()
    }}  # fmt: skip


def _between(counter: CounterBounds) -> dict[str, int | None]:
    return {"least": counter.fewest, "most": counter.most}


def _energy(bounds: Bounds) -> dict[str, Any]:
    """The supply current of a model that has any."""
    if bounds.reach is None or not currents_of(bounds.system):
        return {}
    return {"energy": supply_data(supply_bounds(bounds.reach, bounds.load), bounds.system.battery)}
