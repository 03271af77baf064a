"""One miss or one finding taken apart: the wait in order of time, what the bound expects, and where to look."""

from __future__ import annotations

from msgspec import Struct

from tachys.checking.board.following import follow
from tachys.checking.board.waits import Cause, WaitPart, causes_of, stretches_of
from tachys.checking.result import CheckResult, Finding, NeedCheck
from tachys.figures import Figure
from tachys.model.events import Thing


class Explained(Struct, frozen=True):
    """A wait of ``waiting`` from ``begin`` to ``end`` ps; ``stretches`` and ``causes`` each add up to it exactly.

    ``window`` is what to draw, of ``result``: the part of a record with gaps that it lies in. ``bound`` is what the
    model allows in the worst case; None where no such figure is.
    """

    result: CheckResult
    title: str
    waiting: Thing
    begin: int
    end: int
    stretches: tuple[WaitPart, ...]
    causes: tuple[Cause, ...]
    bound: Figure | None
    window: tuple[int, int]
    limit: int | None = None
    finding: Finding | None = None
    need: NeedCheck | None = None


def explain_finding(result: CheckResult, number: int) -> Explained:
    """The finding of that number, from 1.

    Raises:
        IndexError: there is no such finding.
    """
    if not 1 <= number <= len(result.findings):
        raise IndexError(number)
    finding = result.findings[number - 1]
    at = finding.at
    result = result if at is None else result.around(at)
    kind = finding.about.kind
    if kind == "isr" and at is not None and finding.code.startswith(("latency", "response", "lost")):
        return _isr(result, finding.about, at, finding)
    affected = next((need for need in result.needs.values() if need.misses and _main(need) == finding.about), None)
    if affected is not None:
        return explain_need(result, affected.need.name, None, finding)
    begin = _first(result, finding.about) if at is None else at
    bodies = result.board.shown.bodies.get(finding.about)
    end = begin
    if bodies is not None and at is not None:
        inside = bodies.end[(bodies.start <= at) & (bodies.end > at)]
        end = int(inside[0]) if len(inside) else at
    if finding.code == "lost-wake-up" and finding.measured is not None:
        end = begin + finding.measured
    stretches = stretches_of(result.board, begin, end, Thing("loop")) if end > begin else []
    length = max(end - begin, 20 * result.capture.resolution, 50 * 10**6)
    window = (max(result.capture.begin, begin - length // 2), min(result.capture.end, begin + 2 * length))
    return Explained(result, f"Finding {number}: {finding.about}", finding.about, begin, end,
                     tuple(stretches), causes_of(stretches), None, window, None, finding)  # fmt: skip


def _first(result: CheckResult, about: Thing) -> int:
    """When a thing was first seen."""
    at = result.board.events(about)
    return result.capture.begin if at is None or not len(at) else int(at[0])


def _main(need: NeedCheck) -> str:
    worst = need.worst_miss
    return worst.causes[0].what if worst.causes else ""


def _isr(result: CheckResult, thing: Thing, at: int, finding: Finding) -> Explained:
    runs = result.board.isrs[thing.name]
    end = at
    if runs.latency is not None:
        place = runs.latency.at == at
        end = at + int(runs.latency.after[place][0]) if place.any() else at
    bound = result.bounds.isrs[thing.name].latency
    return _explained(result, f"{finding.code} of {thing}", thing, at, end, bound, None, finding)


def explain_need(result: CheckResult, name: str, at: int | None = None, finding: Finding | None = None) -> Explained:
    """The worst miss of a need, or the one nearest to ``at`` ps; without a miss the worst answer that was seen.

    Raises:
        KeyError: there is no such need.
        LookupError: nothing of it was seen.
    """
    need = result.needs[name]
    bound = next(each.figure for key, each in result.bounds.needs.items() if key == name)
    answer = need.need.follows
    limit = answer.within if answer else None
    waiting = answer.ends.thing if answer else Thing("loop")
    if need.misses:
        if at is None:
            miss = need.worst_miss
        else:
            miss = min(need.misses, key=lambda each: abs(each.at - at))
        length = miss.value if miss.value is not None else (limit or 10**9)
        words = {"open": "never answered", "full": "one too many"}.get(miss.kind, miss.kind)
        begin = miss.at - length if waiting == "loop" and miss.value is not None else miss.at
        if need.need.waits.kind == "buffer" and miss.kind == "lost":
            waiting, begin = result.around(miss.at).board.wanted_before(need.need.waits.name, miss.at)
            length = miss.at - begin
        title = f"need.{name}: the event at {miss.at / 1e9:.6f} ms was {words}"
        return _explained(result, title, waiting, begin, begin + length, bound, limit, finding, need)
    if need.worst_at is None or need.seen is None:
        raise LookupError(name)
    begin = need.worst_at
    if at is not None and answer is not None:
        followed = follow(result.around(at).board, answer)
        assert followed is not None
        begin = int(followed.delays.at[abs(followed.delays.at - at).argmin()])
        end = begin + int(followed.delays.after[followed.delays.at == begin][0])
    else:
        end = begin + need.seen.most
    title = f"need.{name}: {need.verdict}; the slowest answer that was seen, at {begin / 1e9:.6f} ms"
    return _explained(result, title, waiting, begin, end, bound, limit, finding, need)


def _explained(
    result: CheckResult, title: str, waiting: Thing, begin: int, end: int, bound: Figure | None, limit: int | None,
    finding: Finding | None = None, need: NeedCheck | None = None,
) -> Explained:  # fmt: skip
    result = result.around(begin)
    stretches = tuple(stretches_of(result.board, begin, end, waiting))
    margin = max((end - begin) // 3, 10 * result.capture.resolution, 5 * 10**6)
    causes = causes_of(stretches, bound, result.bounds.narrowed, 0 if limit is None else end - begin - limit)
    return Explained(result, title, waiting, begin, end, stretches, causes, bound,
                     (begin - margin, end + margin), limit, finding, need)  # fmt: skip
