"""What was simulated as plain data: format "tachys.simulation/1", described in docs/formats.md."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from tachys.bounds.export import limit_value, seconds
from tachys.simulation.result import NeedSeen, Simulated
from tachys.simulation.statistics import Stats

_PERCENTILES = ("median", "p95", "p99", "p999")


def stats_data(stats: Stats | None) -> dict[str, Any] | None:
    """Statistics in seconds; None where nothing was counted."""
    if stats is None:
        return None
    times = {name: seconds(getattr(stats, name)) for name in ("least", *_PERCENTILES, "most")}
    return {"count": stats.count, "mean": float(stats.mean / 10**12), **times}


def _value(need: NeedSeen, value: int | Fraction | None) -> float | None:
    return limit_value(value, need.need)


def need_data(need: NeedSeen) -> dict[str, Any]:
    """One need: what was seen of it."""
    found: dict[str, Any] = {
        "verdict": str(need.verdict),
        "limit": _value(need, need.limit),
        "seen": stats_data(need.seen),
        "value": _value(need, need.value),
        "missed": need.misses,
        "misses": need.misses,
        "first": [
            {"run": miss.run, "at": seconds(miss.at), "value": _value(need, miss.value), "kind": miss.kind}
            for miss in need.first
        ],
    }
    if not need.need.timed:
        del found["seen"]
    return found


def simulated_data(result: Simulated) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    system = result.bounds.system
    return {
        "format": "tachys.simulation/1",
        "title": system.title,
        "runs": result.runs,
        "length": seconds(result.length),
        "complete": result.complete,
        "load": {"seen": float(result.load), "shares": {who: float(share) for who, share in result.shares.items()}},
        "loop": {"pass": stats_data(result.stats("pass"))} if system.loop else {},
        "isrs": {
            isr.name: {
                **{what: stats_data(result.stats(f"isr.{isr.name}.{what}"))
                   for what in ("latency", "response", "span", "cost")},
                "lost": result.lost[isr.thing],
            }
            for isr in system.isrs
        },
        "units": {
            unit.name: {"time": stats_data(result.stats(f"unit.{unit.name}.time")),
                        "lost": result.lost[unit.thing]}
            for unit in system.units
        },
        "flags": {
            name: {"reaction": stats_data(result.stats(f"flag.{name}")), "overwritten": result.lost[f"flag.{name}"]}
            for name in result.bounds.flags
        },
        "steps": {
            step.name: {what: stats_data(result.stats(f"step.{step.name}.{what}"))
                        for what in ("interval", "duration", "late")}
            for step in system.steps
        },
        "needs": {name: need_data(need) for name, need in result.needs.items()},
    }  # fmt: skip


def simulated_rows(result: Simulated) -> list[list[object]]:
    """Everything as rows: name, quantity, count, least, mean, median, p95, p99, p999, most, bound."""
    from tachys.bounds.catalog import catalog

    titles = {"start to end": "time", "set to taken": "", "start to next start": "interval", "due to start": "late"}
    rows: list[list[object]] = []
    for name, figures in catalog(result.bounds).items():
        if name.startswith("need."):
            continue
        for title, figure in figures:
            what = "duration" if name.startswith("step.") and title == "start to end" else titles.get(title, title)
            stats = result.stats("pass" if name == "loop" else f"{name}.{what}" if what else name)
            values = [None] * 7 if stats is None else [
                seconds(stats.least), float(stats.mean / 10**12), *(seconds(getattr(stats, p)) for p in _PERCENTILES),
                seconds(stats.most),
            ]  # fmt: skip
            rows.append([name, what or "reaction", stats.count if stats else 0, *values, seconds(figure.most)])
    return rows
