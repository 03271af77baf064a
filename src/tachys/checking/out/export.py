"""A check as plain data for programs: format "tachys.check/1", described in docs/formats.md."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from tachys.checking.board.waits import Cause, WaitPart
from tachys.checking.compare.compared import MILLION, Compared
from tachys.checking.out.explaining import Explained
from tachys.checking.out.pooling import pool
from tachys.checking.out.telling import COUNTS, CURRENTS
from tachys.checking.result import CheckResult, Finding, NeedCheck, Seen
from tachys.plain import by_thing, figure, seconds, statistics
from tachys.words import PICO


def _seen(seen: Seen | None) -> dict[str, Any] | None:
    return None if seen is None else statistics(seen, resolution=seconds(seen.resolution), relative=seen.relative)


def _cause(cause: Cause) -> dict[str, Any]:
    return {"what": cause.what or cause.how, "how": cause.how, "time": seconds(cause.time),
            "expected": seconds(cause.expected)}  # fmt: skip


def _stretch(part: WaitPart) -> dict[str, Any]:
    return {"from": seconds(part.begin), "to": seconds(part.end), "how": part.how, "what": part.what}


def _need(need: NeedCheck) -> dict[str, Any]:
    return {
        "verdict": str(need.verdict),
        "basis": str(need.basis) or None,
        "limit": need.need.given(need.limit),
        "bound": need.need.given(need.bound),
        "seen": _seen(need.seen),
        "value": need.need.given(need.value),
        "missed": need.count,
        "misses": [
            {
                "at": seconds(miss.at),
                "value": seconds(miss.value),
                "kind": miss.kind,
                "causes": [_cause(cause) for cause in miss.causes],
            }
            for miss in need.misses
        ],
        "worst": [_stretch(part) for part in need.worst],
        "note": need.note,
        "estimate": None if need.tail is None else {
            "value": seconds(need.tail.value), "once_in": need.tail.once_in, "fit": need.tail.fit
        },
    }  # fmt: skip


def _number(value: int | None) -> float | None:
    return None if value is None else float(value)


def _share(millionths: int | None) -> float | None:
    return None if millionths is None else millionths / MILLION


def _amperes(picoamperes: int | None) -> float | None:
    return None if picoamperes is None else picoamperes / PICO


def _compared(figure: Compared) -> dict[str, Any]:
    measured, value = figure.measured, {"counts": _number, "looks": _number, "answers": _share}.get(figure.key, seconds)
    off: Callable[[int | None], float | None] = seconds
    if figure.of_current:
        value = off = _amperes
    return {
        "about": figure.about,
        "figure": figure.key,
        "modelled": {"least": value(figure.low), "most": value(figure.high)},
        "measured": None if measured is None else {
            "count": measured.count, "least": value(measured.least), "most": value(measured.most),
            "resolution": off(measured.resolution),
        },
        "agreement": str(figure.state),
        "why": figure.why,
    }  # fmt: skip


def _finding(finding: Finding) -> dict[str, Any]:
    value = _number if finding.code in COUNTS else _amperes if finding.code in CURRENTS else seconds

    return {
        "code": finding.code,
        "about": finding.about,
        "text": finding.text,
        "modelled": value(finding.modelled),
        "measured": value(finding.measured),
        "falls": list(finding.falls),
        "explains": list(finding.explains),
        "at": seconds(finding.at),
    }


def check_data(result: CheckResult) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    paper, load, clock = result.bounds.load, result.load, result.clock
    return {
        "format": "tachys.check/1",
        "capture": result.capture.file,
        "laid_over": list(result.bounds.system.laid_over),
        "length": seconds(result.capture.length),
        "resolution": seconds(result.capture.known_to),
        "remarks": list(result.remarks),
        "load": {
            "least": float(paper.least),
            "most": float(paper.most),
            "busiest": [
                {"length": seconds(each.length), "seen": each.share, "at": seconds(each.at), "bound": float(each.bound)}
                for each in result.busiest
            ],
            "seen": None if load is None else {"least": load.least, "most": load.most, "by": load.by},
        },
        "clock": None if clock is None else {"ppm": clock.ppm, "sure": clock.sure, "lines": list(clock.lines)},
        "isrs": by_thing(result.isrs, "isr", _seen, "lost", "runs", "unasked", seen=True),
        "units": by_thing(result.units, "unit", _seen, "lost", seen=True),
        "flags": by_thing(result.flags, "flag", _seen, "overwritten", seen=True),
        "buffers": {
            name: {"level": {"most": buffer.level}, "lost": buffer.lost} for name, buffer in result.buffers.items()
        },
        "steps": by_thing(result.steps, "step", _seen, seen=True),
        "periods": {name: _seen(seen) for name, seen in result.periods.items()},
        "needs": {name: _need(need) for name, need in result.needs.items()},
        "figures": [_compared(each) for each in result.figures],
        "findings": [_finding(finding) for finding in result.findings],
        "unseen": list(result.unseen),
        "foreign": list(result.foreign),
    }  # fmt: skip


def checks_data(results: Sequence[CheckResult]) -> dict[str, Any]:
    """Several captures: together, and each."""
    together = pool(results)
    needs = {
        name: {"verdict": str(need.verdict),
               **{key: need.need.given(getattr(need, key)) for key in ("limit", "bound", "worst")},
               "count": need.count, "misses": need.misses, "worst_in": need.worst_in}
        for name, need in together.needs.items()
    }  # fmt: skip
    findings = [{**_finding(finding), "captures": count} for finding, count in together.findings]
    return {
        "format": "tachys.checks/1",
        "pooled": {"needs": needs, "findings": findings},
        "captures": [check_data(result) for result in results],
    }  # fmt: skip


def explained_data(explained: Explained) -> dict[str, Any]:
    """One miss or finding taken apart: its stretches in order of time add up to it, and so do its causes."""
    result = explained.result
    return {
        "format": "tachys.explain/1",
        "capture": result.capture.file,
        "laid_over": list(result.bounds.system.laid_over),
        "title": explained.title,
        "waiting": explained.waiting,
        "begin": seconds(explained.begin),
        "end": seconds(explained.end),
        "resolution": seconds(result.capture.known_to),
        "limit": seconds(explained.limit),
        "bound": figure(explained.bound),
        "stretches": [_stretch(part) for part in explained.stretches],
        "causes": [_cause(cause) for cause in explained.causes],
        "need": None if explained.need is None else explained.need.need.name,
        "finding": None if explained.finding is None else _finding(explained.finding),
    }
