"""Several captures of one board taken together: every need over all of them, every finding once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.table import Capture
from tachys.checking.board.load import Busiest, LoadSeen
from tachys.checking.board.metering import of_parts
from tachys.checking.compare.compared import Agreement, Compared, Measured
from tachys.checking.result import CheckResult, Finding, Seen
from tachys.needs.kinds import Need
from tachys.needs.verdicts import WORST_FIRST, Verdict
from tachys.words import count_text


class PooledNeed(Struct, frozen=True):
    """One need over several captures: all that was seen, misses in all, the worst and the capture it is in."""

    need: Need
    limit: int | Fraction
    bound: int | Fraction | None
    count: int
    misses: int
    worst: int | Fraction | None
    worst_in: str
    verdict: Verdict


class Pooled(Struct, frozen=True):
    """Several captures together. ``findings`` stand once, as bad as the worst shows them, with how many show them."""

    needs: dict[str, PooledNeed]
    findings: tuple[tuple[Finding, int], ...]


def pool(results: Sequence[CheckResult]) -> Pooled:
    """Put the checks of several captures against one model together."""
    needs = {name: _need(results, name) for name in results[0].needs}
    found: dict[tuple[str, str], list[Finding]] = {}
    for result in results:
        for finding in result.findings:
            found.setdefault((finding.code, finding.about), []).append(finding)
    worst = [(max(same, key=_badness), len(same)) for same in found.values()]
    worst.sort(key=lambda pair: (-pair[1], -(len(pair[0].explains) + len(pair[0].falls))))
    return Pooled(needs, tuple(worst))


def together(
    results: Sequence[CheckResult], whole: Capture, resets: int, again: Callable[[int], CheckResult]
) -> CheckResult:
    """The parts of one record as one result. ``again``: works out the check of one of them anew, by its number.

    Needs, findings, figures and counts are those of all. Of what was measured more than once least, mean and most are
    of all, median and percentiles those of the part with most of it.
    """
    pooled, first = pool(results), results[0]

    def of_all(kind: str) -> dict[str, Any]:
        return _of_all([getattr(result, kind) for result in results])

    needs = {}
    for name, need in pooled.needs.items():
        each = [result.needs[name] for result in results]
        worst = min(each, key=lambda one: (WORST_FIRST.index(one.verdict), -(one.value or 0)))
        misses = tuple(sorted((miss for one in each for miss in one.misses), key=lambda miss: miss.at))
        needs[name] = replace(worst, verdict=need.verdict, value=need.worst, count=need.misses, misses=misses,
                              seen=_seen([one.seen for one in each]))  # fmt: skip
    return replace(
        first,
        capture=whole,
        needs=needs,
        findings=tuple(finding for finding, _ in pooled.findings),
        isrs=of_all("isrs"),
        steps=of_all("steps"),
        units=of_all("units"),
        flags=of_all("flags"),
        buffers=of_all("buffers"),
        periods=of_all("periods"),
        figures=_figures(results),
        clock=min((r.clock for r in results if r.clock is not None), key=lambda clock: clock.sure, default=None),
        load=_load(results),
        metered=of_parts([result.metered for result in results]),
        busiest=_busiest(results),
        foreign=tuple(dict.fromkeys(line for result in results for line in result.foreign)),
        remarks=(_about_parts(results, whole, resets), *first.remarks),
        parts=tuple(result.capture for result in results),
        again=again,
    )


_SUMMED = ("lost", "runs", "unasked", "left_out", "overwritten")


def _about_parts(results: Sequence[CheckResult], whole: Capture, resets: int) -> str:
    if not whole.gaps and resets:
        return f"the board was reset {count_text(resets, 'time')}: what lies between is checked by itself"
    if not whole.gaps:
        pieces = f"its {len(results)} pieces are checked one by one"
        return (
            f"larger than one look takes: {pieces}; what lies across one of the {len(results) - 1} cuts is not judged"
        )
    seen = sum(result.capture.length for result in results)
    share = seen / whole.length if whole.length else 1.0
    parts = f"its {len(results)} whole parts, {share:.1%} of it, are checked one by one"
    return f"{len(whole.gaps)} gaps in the record: {parts}"


def _of_all(each: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """The same records of several parts, name by name."""
    names = dict.fromkeys(name for one in each for name in one)
    return {name: _joined([one[name] for one in each if name in one]) for name in names}


def _joined(same: Sequence[Any]) -> Any:
    """One record of several: counts added up, times put together, of a level the most."""
    if all(each is None or isinstance(each, Seen) for each in same):
        return _seen(same)
    joined = {}
    for key in same[0].__struct_fields__:
        values = [value for one in same if (value := getattr(one, key)) is not None]
        if key in _SUMMED:
            joined[key] = sum(values) if values else None
        elif key == "level":
            joined[key] = max(values)
        elif key != "name":
            joined[key] = _seen(values)
    return replace(same[0], **joined)


def _seen(each: Sequence[Seen | None]) -> Seen | None:
    known = [one for one in each if one is not None]
    if len(known) < 2:
        return known[0] if known else None
    count = sum(one.count for one in known)
    return replace(
        max(known, key=lambda one: one.count),
        count=count,
        least=min(one.least for one in known),
        mean=sum(one.mean * one.count for one in known) / count,
        most=max(one.most for one in known),
        resolution=max(one.resolution for one in known),
        relative=any(one.relative for one in known),
    )


def _figures(results: Sequence[CheckResult]) -> tuple[Compared, ...]:
    """Every figure as the worst of the parts shows it, over the cases of all."""
    same: dict[tuple[str, str, int | None], list[Compared]] = {}
    for result in results:
        for figure in result.figures:
            same.setdefault((figure.about, figure.key, figure.urgency), []).append(figure)
    return tuple(_figure(each) for each in same.values())


def _figure(same: list[Compared]) -> Compared:
    worst = max(same, key=_farness)
    seen = [each.measured for each in same if each.measured is not None]
    least = [each.sure_least for each in same if each.sure_least is not None]
    most = [each.sure_most for each in same if each.sure_most is not None]
    measured = None
    if seen:
        ends = min(each.least for each in seen), max(each.most for each in seen)
        measured = Measured(*ends, sum(each.count for each in seen), max(each.resolution for each in seen))
    return replace(worst, measured=measured, sure_least=min(least, default=None), sure_most=max(most, default=None))


def _farness(figure: Compared) -> tuple[int, int]:
    below = figure.low - figure.sure_least if figure.low is not None and figure.sure_least is not None else 0
    beyond = figure.sure_most - figure.high if figure.high is not None and figure.sure_most is not None else 0
    return (Agreement.NOT_SHOWN, Agreement.AGREES, Agreement.REFUTES).index(figure.state), max(below, beyond)


def _load(results: Sequence[CheckResult]) -> LoadSeen | None:
    known = [(result.load, result.capture.length) for result in results if result.load is not None]
    whole = sum(length for _, length in known)
    if not whole:
        return None
    least, most = (sum(getattr(load, key) * length for load, length in known) / whole for key in ("least", "most"))
    return replace(known[0][0], least=least, most=most)


def _busiest(results: Sequence[CheckResult]) -> tuple[Busiest, ...]:
    worst: dict[int, Busiest] = {}
    for each in (window for result in results for window in result.busiest):
        if each.length not in worst or each.share > worst[each.length].share:
            worst[each.length] = each
    return tuple(worst[length] for length in sorted(worst))


def _badness(finding: Finding) -> int:
    return abs((finding.measured or 0) - (finding.modelled or 0))


def _need(results: Sequence[CheckResult], name: str) -> PooledNeed:
    each = [(result, result.needs[name]) for result in results]
    seen = [need.seen.count for _, need in each if need.seen]
    valued = [(need.value, result.capture.file) for result, need in each if need.value is not None]
    worst, where = max(valued, key=lambda pair: pair[0]) if valued else (None, "")
    verdict = min((need.verdict for _, need in each), key=WORST_FIRST.index)
    if verdict is Verdict.UNSEEN and any(need.verdict is Verdict.MET for _, need in each):
        verdict = Verdict.MET
    first = each[0][1]
    misses = sum(need.count for _, need in each)
    return PooledNeed(first.need, first.limit, first.bound, sum(seen), misses, worst, where, verdict)
