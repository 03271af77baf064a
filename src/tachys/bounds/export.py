"""The bounds as plain data for programs: format "tachys.bounds/1", described in docs/formats.md."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from tachys.bounds.catalog import catalog
from tachys.bounds.result import Bounds, LoadBounds
from tachys.figures import Figure
from tachys.needs.kinds import Need, NeedBounds

PS = 10**12


def seconds(ps: int | None) -> float | None:
    """Picoseconds as seconds; None stays None."""
    return None if ps is None else ps / PS


def range_of(figure: Figure) -> dict[str, Any]:
    """A figure with its parts, in seconds."""
    parts = [
        {"what": part.what, "who": part.who, "count": part.count, "time": seconds(part.total)} for part in figure.parts
    ]
    found: dict[str, Any] = {"least": seconds(figure.least), "most": seconds(figure.most), "parts": parts}
    if figure.reason:
        found["reason"] = figure.reason
    return found


def limit_value(value: int | Fraction | None, need: Need) -> float | None:
    """A limit, bound or value of a need: seconds for times, a share of one for loads, a number for losses."""
    if value is None:
        return None
    return int(value) if need.measures == "number" else float(value if need.measures == "share" else value / PS)


def need_of(need: NeedBounds) -> dict[str, Any]:
    """One need on paper."""
    found: dict[str, Any] = {
        "verdict": str(need.verdict),
        "limit": limit_value(need.limit, need.need),
        "bound": limit_value(need.bound, need.need),
    }
    if need.figure is not None and need.figure.parts:
        found["parts"] = range_of(need.figure)["parts"]
    return found | ({"reason": need.reason} if need.reason else {})


def _possible(lost: bool) -> str:
    return "possible" if lost else "never"


def load_of(load: LoadBounds) -> dict[str, Any]:
    """The load in the long run and in its busiest windows, split by who."""
    return {
        "least": float(load.least),
        "most": float(load.most),
        "shares": {share.who: {"least": float(share.least), "most": float(share.most)} for share in load.shares},
        "windows": [
            {"length": seconds(window.length), "most": float(window.most),
             "shares": {who: float(share) for who, share in window.shares}}
            for window in load.windows
        ],
        "storms": list(load.storms),
    }  # fmt: skip


def bounds_data(bounds: Bounds) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    return {
        "format": "tachys.bounds/1",
        "title": bounds.system.title,
        "load": load_of(bounds.load),
        "loop": {} if bounds.loop_pass is None else {"pass": range_of(bounds.loop_pass)},
        "isrs": {
            name: {
                "latency": range_of(isr.latency),
                "response": range_of(isr.response),
                "span": range_of(isr.span),
                "lost": _possible(isr.lost),
                "pending_needed": isr.pending_needed,
            }
            for name, isr in bounds.isrs.items()
        },
        "units": {
            name: {
                "time": range_of(unit.time),
                "lost": _possible(unit.lost),
                "lost_in_row": unit.lost_in_row,
                "depth_needed": unit.depth_needed,
            }
            for name, unit in bounds.units.items()
        },
        "flags": {
            name: {"reaction": range_of(flag.reaction), "overwritten": _possible(flag.overwritten)}
            for name, flag in bounds.flags.items()
        },
        "steps": {
            name: {
                "interval": range_of(step.interval),
                "duration": range_of(step.duration),
                "late": None if step.late is None else range_of(step.late),
                "drifts": step.drifts,
            }
            for name, step in bounds.steps.items()
        },
        "needs": {name: need_of(need) for name, need in bounds.needs.items()},
    }


def bounds_rows(bounds: Bounds) -> list[list[object]]:
    """Everything as rows: name, quantity, least, most, limit, lost or verdict."""
    lost = {f"isr.{name}": isr.lost for name, isr in bounds.isrs.items()}
    lost |= {f"unit.{name}": unit.lost for name, unit in bounds.units.items()}
    lost |= {f"flag.{name}": flag.overwritten for name, flag in bounds.flags.items()}
    rows: list[list[object]] = [
        [
            name,
            title,
            seconds(figure.least),
            seconds(figure.most),
            None,
            _possible(lost[name]) if name in lost else None,
        ]
        for name, figures in catalog(bounds).items()
        for title, figure in figures
        if not name.startswith("need.")
    ]
    rows.append(["load", "long run", float(bounds.load.least), float(bounds.load.most), None, None])
    for window in bounds.load.windows:
        rows.append(["load", f"any {window.length / PS:g} s", None, float(window.most), None, None])
    for name, need in bounds.needs.items():
        limit, bound = limit_value(need.limit, need.need), limit_value(need.bound, need.need)
        rows.append([f"need.{name}", "bound", None, bound, limit, str(need.verdict)])
    return rows
