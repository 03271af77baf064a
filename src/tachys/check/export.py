"""A check as plain data for programs: format "tachys.check/1", described in docs/formats.md."""

from __future__ import annotations

from typing import Any

from tachys.bounds.export import limit_value, seconds
from tachys.check.result import CheckResult, IsrCheck, NeedCheck, Seen


def seen_data(seen: Seen | None) -> dict[str, Any] | None:
    """Statistics in seconds; None where nothing was measured."""
    if seen is None:
        return None
    names = ("least", "median", "p95", "p99", "p999", "most", "resolution")
    times = {name: seconds(getattr(seen, name)) for name in names}
    return {"count": seen.count, "mean": seen.mean / 1e12, **times}


def _isr(isr: IsrCheck) -> dict[str, Any]:
    figures = {name: seen_data(getattr(isr, name)) for name in ("latency", "response", "span")}
    return {**figures, "cost": None, "lost": isr.lost}


def _need(need: NeedCheck) -> dict[str, Any]:
    misses = [
        {
            "at": seconds(miss.at),
            "value": seconds(miss.value),
            "kind": miss.kind,
            "causes": [{"what": cause.what, "time": seconds(cause.time)} for cause in miss.causes],
        }
        for miss in need.misses
    ]
    return {
        "verdict": str(need.verdict),
        "limit": limit_value(need.limit),
        "bound": limit_value(need.bound),
        "seen": seen_data(need.seen),
        "misses": misses,
    }


def check_data(result: CheckResult) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    load = result.bounds.load
    return {
        "format": "tachys.check/1",
        "capture": result.capture.file,
        "length": seconds(result.capture.length),
        "resolution": seconds(result.capture.resolution),
        "load": {"least": float(load.least), "most": float(load.most), "seen": None},
        "isrs": {name: _isr(isr) for name, isr in result.isrs.items()},
        "periods": {name: seen_data(seen) for name, seen in result.periods.items()},
        "needs": {name: _need(need) for name, need in result.needs.items()},
        "findings": [
            {
                "code": finding.code,
                "about": finding.about,
                "text": finding.text,
                "modelled": _figure(finding.code, finding.modelled),
                "measured": _figure(finding.code, finding.measured),
            }
            for finding in result.findings
        ],
    }


def _figure(code: str, value: int) -> float | None:
    """Most findings speak of times; a loss counts events."""
    return float(value) if code.startswith("lost") else seconds(value)
