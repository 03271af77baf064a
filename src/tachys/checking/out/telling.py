"""What a check found, in sentences: shared by the check, the explanation and the example."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from tachys.words import count_text, pico_text, range_text, seconds_text, time_text

if TYPE_CHECKING:
    from tachys.checking.compare.grouping import Group
    from tachys.checking.result import CheckResult, Finding, NeedCheck

_STAYS_AWAY = ("comes-too-seldom", "comes-no-more", "never-comes")
COUNTS = ("lost-unexpected", "overwritten-unexpected", "runs-unasked", "items-lost", "level-more", "counts-off",
          "was-reset", "answers-off", "looks-off")  # fmt: skip
CURRENTS = ("current-more", "current-less")


def figure_text(finding: Finding, value: int | None) -> str:
    """A figure of a finding: a time, or a number."""
    if value is None:
        return "-"
    if finding.code in CURRENTS:
        return pico_text(value)
    return str(value) if finding.code in COUNTS else time_text(value)


def finding_text(finding: Finding) -> str:
    """One sentence: what, how, and the two figures."""
    text = f"{finding.about}: {finding.text}"
    if finding.code in COUNTS:
        if finding.code == "level-more":
            return f"{text}: at least {finding.measured}, model {finding.modelled}"
        if finding.code in ("counts-off", "looks-off"):
            return f"{text}: {finding.measured}, model {finding.modelled}"
        return text if finding.code in ("runs-unasked", "was-reset", "answers-off") else f"{text}: {finding.measured}"
    if finding.code in CURRENTS:
        side = "at least" if finding.code == "current-more" else "at most"
        return (
            f"{text}: {side} {figure_text(finding, finding.measured)}, model {figure_text(finding, finding.modelled)}"
        )
    if finding.measured is None or finding.code == "runs-too-often":  # it has its figures in it
        return text
    if finding.code in _STAYS_AWAY and finding.modelled is not None:
        return f"{text}; none for {time_text(finding.measured)}, model {time_text(finding.modelled)} at most"
    if finding.modelled is None:
        return f"{text}, for up to {time_text(finding.measured)} at a time"
    side = {
        "longer": "at least ",
        "shorter": "at most ",
        "closer": "at most ",
        "denser": "at most ",
        "more": "at least ",
    }.get(finding.code.rpartition("-")[2], "")
    if finding.code == "every-off":
        side = "at least " if finding.measured > finding.modelled else "at most "
    if finding.code == "period-off":
        return f"{text} ({period_text(Fraction(finding.measured))}, model {period_text(Fraction(finding.modelled))})"
    return f"{text}: {side}{time_text(finding.measured)}, model {time_text(finding.modelled)}"


def period_text(ps: Fraction) -> str:
    """A period to nine digits."""
    return seconds_text(ps / 10**12)


def consequence_text(finding: Finding, result: CheckResult) -> str:
    """What it accounts for, and what no longer holds with it."""
    parts = []
    others = [name for name in finding.explains if name != finding.about]
    if others:
        parts.append(f"this explains what {_listed(others)} did beyond the bounds")
    if finding.falls:
        verb = "does" if len(finding.falls) == 1 else "do"
        parts.append(f"with it {_listed(list(finding.falls))} {verb} not hold on paper either")
    return "; ".join(parts)


def _listed(names: list[str], most: int = 4) -> str:
    if len(names) > most:
        return f"{', '.join(names[:most])} and {len(names) - most} more"
    return ", ".join(names[:-1]) + (" and " if len(names) > 1 else "") + names[-1]


def group_text(group: Group, total: int) -> str:
    """Who made how many late, and for how long: "41 of 43 held off by step.log for 212 us to 260 us, model 30 us"."""
    lasting = range_text(group.least, group.most)
    first = f"{group.count} of {total}"
    if group.how == "held off":
        modelled = f"modelled {time_text(group.modelled)}" if group.modelled else "no guard of it is modelled"
        return f"{first} held off by {group.what} for {lasting}, {modelled}"
    expected = f", of which the bound expects {time_text(group.modelled)}" if group.modelled else ""
    if group.how == "ran":
        allowed = group.modelled is not None and group.most <= group.modelled
        return f"{first} while {group.what} ran for {lasting}{', as the model allows' if allowed else expected}"
    if group.how == "not set":
        return f"{first} while {group.what} was not set, for {lasting}{expected}"
    return f"{first} while nothing that has a line ran, for {lasting}"


def miss_lines(result: CheckResult, need: NeedCheck) -> list[str]:
    """The misses of a need, grouped by what made them late; those that came too early are one group."""
    from tachys.checking.compare.grouping import groups_of
    from tachys.needs.kinds import FeedNeed, PeriodNeed

    apart = sum(1 for miss in need.misses if miss.causes)
    lines = [group_text(group, apart) for group in groups_of(result.bounds.narrowed, need.misses)]
    early = [miss.value for miss in need.misses if miss.kind == "early" and miss.value is not None]
    if early:
        since = "the one before" if isinstance(need.need, (FeedNeed, PeriodNeed)) else "what it answers"
        soonest = f"the soonest {time_text(min(early))} after {since}"
        lines.append(f"{len(early)} of {len(need.misses)} too early, {soonest}")
    return lines


def judged_count(need: NeedCheck) -> int:
    """How many events of a need were judged; of a number they are not counted."""
    if not need.need.timed:
        return 0
    return (need.seen.count if need.seen else 0) + sum(miss.kind not in ("late", "early") for miss in need.misses)


def need_sentence(need: NeedCheck) -> str:
    """A need in one sentence, for what collects tests."""
    from tachys.needs.words import value_text, what_holds

    limit = value_text(need.need, need.limit)
    worst = "not seen" if need.value is None else f"worst seen {value_text(need.need, need.value)}"
    bound = "no bound" if need.bound is None else f"bound {value_text(need.need, need.bound, 'up')}"
    misses = f", missed {count_text(need.count, 'time')}" if need.count else ""
    return f"{what_holds(need.need)}: {need.verdict}; limit {limit}, {bound}, {worst}{misses}"
