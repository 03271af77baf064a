"""What was inspected as plain data: format "tachys.capture/1", described in docs/formats.md."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np

from tachys.capture.inspecting import Line, Spans
from tachys.capture.statistics import Times
from tachys.capture.table import Capture
from tachys.frames import PS


def _times(times: Times | None, resolution: int, **more: float | None) -> dict[str, Any] | None:
    if times is None:
        return None
    found = {name: getattr(times, name) / PS for name in ("least", "median", "most")}
    return {"count": times.count, **found, **more, "resolution": resolution / PS}


def line_data(line: Line, capture: Capture, nominal: Fraction | None = None) -> dict[str, Any]:
    """One line; with a ``nominal`` period in seconds how far off it is, where that is near."""
    off = None if nominal is None else line.off(nominal)
    reals = line.reals
    mean = None if line.period is None else line.period.mean / PS
    sure = None if line.period is None else line.period.sure / PS
    return {
        "first": line.first,
        "last": line.last,
        "edges": line.edges,
        "period": _times(line.rising, capture.known_to, mean=mean, sure=sure),
        "high": _times(line.high, capture.known_to),
        "low": _times(line.low, capture.known_to),
        "duty": line.duty,
        **({} if reals is None else {"reals": {"least": reals.least, "mean": reals.mean, "most": reals.most}}),
        **({} if off is None else {"off_nominal": {"ppm": off.ppm, "sure": off.sure}}),
        "remarks": list(line.remarks),
    }


def span_data(name: str, spans: Spans, resolution: int) -> dict[str, Any]:
    """The distances from edge to edge."""
    found: dict[str, Any] = {"span": name, "count": len(spans.after), "unanswered": spans.unanswered}
    if not len(spans.after):
        return found
    ordered = np.sort(spans.after)
    ranks = {"least": 0.0, "median": 0.5, "p95": 0.95, "p99": 0.99, "p999": 0.999, "most": 1.0}
    places = {key: max(0, int(np.ceil(share * len(ordered))) - 1) for key, share in ranks.items()}
    worst = np.argsort(-spans.after, kind="stable")[:10]
    found |= {key: int(ordered[place]) / PS for key, place in places.items()}
    return found | {
        "mean": float(spans.after.mean()) / PS,
        "resolution": resolution / PS,
        "worst": [{"at": int(spans.begins[p]) / PS, "value": int(spans.after[p]) / PS} for p in worst],
    }


def capture_data(
    capture: Capture, lines: list[Line], found: list[tuple[str, Spans]], nominal: Fraction | None = None
) -> dict[str, Any]:
    """A whole capture; with a ``nominal`` period in seconds how far each line near it is off."""
    return {
        "format": "tachys.capture/1",
        "capture": capture.file,
        "begin": capture.begin / PS,
        "length": capture.length / PS,
        "resolution": capture.known_to / PS,
        "remarks": list(capture.remarks),
        "signals": {line.signal.name: line_data(line, capture, nominal) for line in lines},
        "spans": [span_data(name, spans, capture.known_to) for name, spans in found],
    }
