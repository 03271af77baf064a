"""A check as one page of HTML that needs nothing else: figures, reasons, inputs, and a timeline that is alive."""

from __future__ import annotations

import base64
import hashlib
import json
import math
import os
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from fractions import Fraction
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from tachys import __version__
from tachys.capture.table import Instants
from tachys.checking.board.following import follow
from tachys.checking.compare.sentences import mend_of
from tachys.checking.out.telling import consequence_text, finding_text, judged_count, miss_lines
from tachys.checking.result import CheckResult, NeedCheck
from tachys.drawing.scene import Moment
from tachys.figures import Figure
from tachys.foreign import printable
from tachys.needs.verdicts import Verdict
from tachys.needs.words import bound_text, doubt_of, slack_text, value_text, what_holds
from tachys.report.supply import supply_section
from tachys.report.timeline import timeline_data
from tachys.trying.headroom import Headroom
from tachys.words import exact_share, exact_time, time_text
from tachys.worstcase.bounds import Bounds

LIMIT = 20 * 10**6  # bytes of the timelines of a page
SHOWN_MOMENTS, SHOWN_ROOMS = 12, 15
_FULL = 150  # per cent of a limit that a bar has room for
_BINS = 40


def page(
    paper: Bounds, results: Sequence[CheckResult], model: str, text: str, headroom: Headroom | None, limit: int = LIMIT
) -> str:
    """The page. ``model`` is the file of the model, ``text`` what it holds; the same input gives the same page.

    Names come from strangers: the template escapes all of them, and nothing that a name holds can run.
    """
    from jinja2 import Environment, PackageLoader, StrictUndefined

    found = Environment(
        loader=PackageLoader("tachys.report", "parts"), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True, keep_trailing_newline=True, finalize=_clean,
    )  # fmt: skip
    style, script = (_part(name) for name in ("page.css", "page.js"))
    captures = [_capture(result, number) for number, result in enumerate(results)]
    share = limit // max(1, len(results))
    timelines = [timeline_data(result, each["moments"], share) for result, each in zip(results, captures, strict=True)]
    data = json.dumps(timelines, separators=(",", ":"), ensure_ascii=True).replace("<", "\\u003c")
    return found.get_template("page.html").render(
        title=paper.system.title or Path(model).name, laid_over=list(paper.system.laid_over),
        version=__version__, style=style, script=script, style_hash=_hash(style), script_hash=_hash(script), data=data,
        needs=[_on_paper(need, results) for need in paper.needs.values()], captures=captures, load=_load(paper),
        supply=supply_section(paper, results), figures=list(_figures(paper)), headroom=_rooms(headroom),
        model_text=text,
        inputs=[_input(name) for name in (model, *(result.capture.file for result in results))],
        verdict=_verdict(paper, results), marks=[25, 50, 75, 100, 125],
    )  # fmt: skip


def _clean(value: Any) -> Any:
    """Text of which every character can be seen: a name may hold what turns the reading around, or ends a line."""
    return "\n".join(map(printable, value.split("\n"))) if type(value) is str else value


def _part(name: str) -> str:
    return (files("tachys.report") / "parts" / name).read_text(encoding="utf-8")


def _hash(text: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _input(name: str) -> dict[str, str]:
    """A file that the page is of: when it was last changed, and what it holds, as a digest."""
    try:
        with open(name, "rb") as stream:
            digest = hashlib.file_digest(stream, "sha256").hexdigest()
        changed = datetime.fromtimestamp(os.stat(name).st_mtime, UTC).strftime("%Y-%m-%d %H:%M UTC")
    except OSError:
        return {"name": name, "changed": "-", "digest": "not a file that could be read again"}
    return {"name": name, "changed": changed, "digest": digest}


# --- verdicts -------------------------------------------------------------------------------------------------------


def _verdict(paper: Bounds, results: Sequence[CheckResult]) -> str:
    if not results:
        proved = sum(need.proved for need in paper.needs.values())
        return f"on paper {proved} of {len(paper.needs)} needs are met"
    missed = len({name for result in results for name, need in result.needs.items() if need.count})
    findings = len({(each.code, each.about) for result in results for each in result.findings})
    where = "the capture" if len(results) == 1 else f"{len(results)} captures"
    differ = f", {findings} finding{'s' * (findings != 1)}" if findings else ", nothing refuted"
    return f"{missed or 'no'} of {len(paper.needs)} needs missed in {where}{differ}"


def _on_paper(need: Any, results: Sequence[CheckResult]) -> dict[str, Any]:
    """A need with its limit, bound and what was seen as bars, all as shares of the limit."""
    checks = [result.needs[need.need.name] for result in results]
    seen = [each.value for each in checks if each.value is not None]
    worst = max(seen) if seen else None
    verdicts = [each.verdict for each in checks] or [need.verdict]
    order = ["missed", "at risk", "unseen", "met"]
    verdict = min(verdicts, key=lambda each: order.index(str(each)) if str(each) in order else len(order))
    told = [(result.capture.name, each.reason) for result, each in zip(results, checks, strict=True)]
    seen_reasons = (f"{name}: {reason}" if len(results) > 1 else reason for name, reason in told if reason)
    reasons = list(dict.fromkeys(filter(None, [doubt_of(need), *seen_reasons])))
    bound = need.bound
    return {
        "name": need.need.name, "holds": what_holds(need.need), "limit": value_text(need.need, need.limit),
        "bound": bound_text(need.need, bound),
        "seen": "-" if worst is None else value_text(need.need, worst),
        "slack": slack_text(need.need, need.limit, bound),
        "bound_bar": _bar(bound, need.limit), "seen_bar": _bar(worst, need.limit), "verdict": str(verdict),
        "cut": bound is None or _share(bound, need.limit) > _FULL, "reasons": reasons,
        "why": None if need.figure is None else _parts(need.figure),
    }  # fmt: skip


def _share(value: int | Fraction | None, limit: int | Fraction) -> float:
    if value is None:
        return 0.0
    if not limit:
        return 0.0 if not value else float("inf")
    return max(0.0, float(value / limit) * 100)


def _bar(value: int | Fraction | None, limit: int | Fraction) -> float:
    return round(min(_share(value, limit), _FULL), 2)


def _parts(figure: Figure) -> dict[str, Any]:
    """A figure taken apart, to the last picosecond."""
    if figure.most is None:
        return {"most": "unbounded", "reason": figure.reason, "rows": [], "least": exact_time(int(figure.least))}
    rows = [
        [part.what, str(part.who), f"{part.count} x", *map(exact_time, (part.body, part.overhead, part.total))]
        for part in figure.parts
    ]  # fmt: skip
    return {"most": exact_time(int(figure.most)), "reason": "", "rows": rows, "least": exact_time(int(figure.least))}


def _figures(paper: Bounds) -> Iterator[dict[str, Any]]:
    for thing, figures in paper.catalog().items():
        if not thing.startswith("need."):
            yield {"thing": thing, "figures": [{"title": title, **_parts(figure)} for title, figure in figures]}


def _load(paper: Bounds) -> dict[str, Any]:
    load = paper.load
    rows = [
        {"who": share.who, "least": exact_share(share.least), "most": exact_share(share.most),
         "bar": round(min(100.0, float(share.most) * 100), 2)}
        for share in sorted(load.shares, key=lambda share: -share.most)
    ]  # fmt: skip
    return {"rows": rows, "most": exact_share(load.most)}


def _rooms(headroom: Headroom | None) -> dict[str, Any] | None:
    if headroom is None:
        return None
    rows = [
        {"key": room.key, "now": str(room.now), "last": "nothing ends it" if room.last is None else str(room.last),
         "share": "-" if room.share is None else f"{room.share * (1 if room.up else -1):+.1%}",
         "falls": ", ".join(room.falls[:3]) or room.wrong}
        for room in headroom.rooms[:SHOWN_ROOMS]
    ]  # fmt: skip
    mends = [{"name": mend.need, "settings": ", ".join(mend.settings)} for mend in headroom.mends[:SHOWN_ROOMS]]
    return {"rows": rows, "more": max(0, len(headroom.rooms) - SHOWN_ROOMS), "mends": mends}


# --- a capture ------------------------------------------------------------------------------------------------------


def _capture(result: CheckResult, number: int) -> dict[str, Any]:
    moments = _moments(result)
    missed = [need for need in result.needs.values() if need.count]
    return {
        "number": number, "name": result.capture.name, "remarks": list(result.remarks),
        "length": time_text(result.capture.length), "known_to": time_text(result.capture.known_to),
        "needs": [_seen(need) for need in result.needs.values()],
        "findings": [
            {"text": _sentence(finding_text(each)), "more": _sentence(consequence_text(each, result)),
             "next": mend_of(each.code, each.text)} for each in result.findings
        ],
        "groups": [f"{need.need.name}: {line}" for need in missed for line in miss_lines(result, need)[:3]],
        "moments": moments, "spreads": list(_spreads(result)), "lines": _lines(result),
    }  # fmt: skip


def _sentence(text: str) -> str:
    first = text[:1] if "." in text.partition(" ")[0] else text[:1].upper()  # names stay as they are written
    return f"{first}{text[1:]}." if text else ""


def _seen(need: NeedCheck) -> dict[str, str]:
    bound = bound_text(need.need, need.bound, unseen=need.verdict is Verdict.UNSEEN)
    misses = f"{need.count} of {judged_count(need)}" if judged_count(need) else str(need.count)
    seen = "not seen" if need.value is None else value_text(need.need, need.value)
    return {"name": need.need.name, "limit": value_text(need.need, need.limit), "bound": bound, "seen": seen,
            "misses": misses, "verdict": str(need.verdict), "reason": need.reason, "note": need.note}  # fmt: skip


def _moments(result: CheckResult) -> list[Moment]:
    """The worst miss of each need, its longest answer where none is missed, and the findings that have a time."""
    found = []
    for need in sorted(result.needs.values(), key=lambda each: -each.count):
        answer = need.need.follows
        limit = answer.within if answer is not None else 10**8
        if need.misses:
            miss = need.worst_miss
            took = limit if miss.value is None else miss.value
            words = f"{miss.kind}" if miss.value is None else f"{miss.kind}, {time_text(miss.value)}"
            begin = miss.at
            if need.need.waits.kind == "buffer" and miss.kind == "lost":  # what led to it lies before it
                begin = result.around(miss.at).board.wanted_before(need.need.waits.name, miss.at)[1]
                took = miss.at - begin
            found.append(
                _around(begin, took, f"{need.need.name}: {words}, limit {value_text(need.need, need.limit)}", need)
            )
        elif need.worst_at is not None and need.seen is not None:
            found.append(
                _around(need.worst_at, need.seen.most, f"{need.need.name}: longest, {time_text(need.seen.most)}")
            )
    for place, finding in enumerate(result.findings, 1):
        if finding.at is not None:
            known = finding.measured if finding.measured and finding.measured > 1000 else 10**8
            found.append(
                _around(finding.at, min(known, result.capture.length // 8), f"finding {place}: {finding.about}")
            )
    return found[:SHOWN_MOMENTS]


def _around(at: int, took: int, title: str, need: NeedCheck | None = None) -> Moment:
    margin = max(took, 10**6)
    return Moment(at - margin, at + took + margin, need, title)


def _lines(result: CheckResult) -> list[dict[str, str]]:
    """Which line showed what."""
    through: dict[str, list[str]] = {}
    for thing, lines in result.board.shown.through.items():
        for line in lines:
            through.setdefault(line, []).append(str(thing))
    rows = []
    current = result.board.shown.current
    if current is not None:
        through[current[0].name] = ["the supply current"]
    for name, signal in result.capture.signals.items():
        edges = max(0, len(signal.at) - 1)
        rows.append(
            {"line": name, "shows": ", ".join(through.get(name, ["nothing of the model"])), "edges": str(edges)}
        )
    return rows


# --- how often a time was how long ----------------------------------------------------------------------------------


def _spreads(result: CheckResult) -> Iterator[dict[str, Any]]:
    """Of each need that follows events, and the latency of each routine: bars for a drawing, limit and bound."""
    for name, need in result.needs.items():
        answer = need.need.follows
        found = None if answer is None else follow(result.board, answer)
        if answer is not None and found is not None and len(found.delays.after):
            bound = need.bound if isinstance(need.bound, int) else None
            yield _spread(f"need.{name}", found.delays.after, answer.within, bound)
    for name, runs in result.board.isrs.items():
        if runs.latency is not None and not runs.latency.relative and len(runs.latency.after):
            yield _spread(f"isr.{name}.latency", runs.latency.after, None, result.bounds.isrs[name].latency.most)


def _spread(name: str, after: Instants, limit: int | None, bound: int | None) -> dict[str, Any]:
    right = max(int(after.max()), limit or 0, min(bound or 0, 4 * max(int(after.max()), limit or 0)), 1)
    counts, _ = np.histogram(after, bins=_BINS, range=(0, right * 1.02))
    tallest = math.log1p(int(counts.max()))
    width = 560 / _BINS
    bars = [
        {
            "x": round(20 + k * width, 2),
            "w": round(width - 1, 2),
            "h": round(max(2.0, 90 * math.log1p(count) / tallest), 2),
        }
        for k, count in enumerate(counts.tolist())
        if count
    ]
    marks = [
        {"x": round(20 + 560 * value / (right * 1.02), 2), "name": word, "value": time_text(value), "y": y,
         "anchor": "start" if value < right / 2 else "end"}
        for word, value, y in (("limit", limit, 10), ("bound", bound, 24))
        if value is not None and value <= right * 1.02
    ]  # fmt: skip
    beyond = "" if bound is None or bound <= right * 1.02 else f"; the bound, {time_text(bound)}, lies further out"
    told = f"{len(after)} times, {time_text(int(after.min()))} to {time_text(int(after.max()))}{beyond}"
    return {"name": name, "bars": bars, "marks": marks, "told": told, "right": time_text(round(right * 1.02))}
