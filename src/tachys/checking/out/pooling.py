"""Several captures of one board taken together: every need over all of them, every finding once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from tachys.capture.table import Capture
from tachys.checking.result import CheckResult, Finding
from tachys.needs.kinds import Need
from tachys.needs.verdicts import WORST_FIRST, Verdict


@dataclass(frozen=True, slots=True)
class PooledNeed:
    """One need over several captures: all that was seen, misses in all, the worst and the capture it is in."""

    need: Need
    limit: int | Fraction
    bound: int | Fraction | None
    count: int
    misses: int
    worst: int | Fraction | None
    worst_in: str
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class Pooled:
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


def together(results: Sequence[CheckResult], whole: Capture) -> CheckResult:
    """The parts of one record with gaps as one result: that of the first, with the needs and findings of all."""
    pooled, first = pool(results), results[0]
    needs = {}
    for name, need in pooled.needs.items():
        each = [result.needs[name] for result in results]
        worst = min(each, key=lambda one: (WORST_FIRST.index(one.verdict), -(one.value or 0)))
        misses = tuple(sorted((miss for one in each for miss in one.misses), key=lambda miss: miss.at))
        needs[name] = replace(worst, verdict=need.verdict, value=need.worst, count=need.misses, misses=misses)
    seen = sum(result.capture.length for result in results)
    share = seen / whole.length if whole.length else 1.0
    parts = f"its {len(results)} whole parts, {share:.1%} of it, are checked one by one"
    remark = f"{len(whole.gaps)} gaps in the record: {parts}"
    remarks = (remark, *first.remarks)
    return replace(first, capture=whole, needs=needs, findings=tuple(finding for finding, _ in pooled.findings),
                   remarks=remarks, parts=tuple(results))  # fmt: skip


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
