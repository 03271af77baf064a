"""The check: hold one capture against one model and its bounds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tachys.bounds.analysis import answering
from tachys.bounds.analysis import bounds as bounds_of
from tachys.bounds.needs import verdict_of
from tachys.bounds.result import Bounds, NeedBounds
from tachys.capture.table import Capture, Instants
from tachys.check.agreement import find_refuted
from tachys.check.matching import Matched, match
from tachys.check.observe import Observed, observe
from tachys.check.result import Cause, CheckResult, IsrCheck, Miss, NeedCheck, Seen, seen
from tachys.model.system import Isr, System, WithinNeed


@dataclass(frozen=True, slots=True)
class Answers:
    """Events and how long each was answered after, in ps; ``never`` were lost, ``open`` unanswered at the end."""

    at: Instants
    after: Instants
    never: tuple[int, ...] = ()
    open: tuple[int, ...] = ()


def check(system: System, capture: Capture, bounds: Bounds | None = None) -> CheckResult:
    """Measure everything that the probes show, compare it with the bounds and judge every need.

    Raises:
        InputError: a probe names a signal that the capture lacks.
    """
    bounds = bounds or bounds_of(system)
    shown = observe(system, capture)
    matched = {isr.name: found for isr in system.isrs if (found := _match_isr(system, isr, shown)) is not None}
    isrs = {isr.name: _isr(isr, shown, matched.get(isr.name), capture.resolution) for isr in system.isrs}
    periods = _periods(shown, capture.resolution)
    needs = {
        name: _need(system, need, capture, shown, matched) for name, need in bounds.needs.items()
    }  # fmt: skip
    findings = find_refuted(system, bounds, isrs, shown, matched, capture)
    seen_things = {name.rsplit(".", 1)[0] if name.count(".") == 2 else name for name in shown.instants}
    everything = [f"source.{s.name}" for s in system.sources] + [f"isr.{i.name}" for i in system.isrs]
    unprobed = tuple(name for name in everything if name not in seen_things)
    return CheckResult(capture, bounds, isrs, periods, needs, findings, unprobed)


def _match_isr(system: System, isr: Isr, shown: Observed) -> Matched | None:
    events, starts = shown.instants.get(isr.on[0]), shown.instants.get(f"isr.{isr.name}.start")
    if events is None or starts is None:
        return None
    lead = min(system.core.entry.least, system.core.chain.least)
    return match(events, starts, pending=isr.pending, lead=lead, takes_all=isr.serves_all)


def _isr(isr: Isr, shown: Observed, matched: Matched | None, resolution: int) -> IsrCheck:
    bodies = shown.bodies.get(f"isr.{isr.name}")
    latency = response = None
    if matched is not None:
        latency = seen(_latency(isr, shown, matched).after, resolution)
        response = seen(answers.after, resolution) if (answers := _response(isr, shown, matched)) else None
    span = seen(bodies.end - bodies.start, resolution) if bodies is not None else None
    return IsrCheck(isr.name, latency, response, span, len(matched.lost) if matched else None)


def _latency(isr: Isr, shown: Observed, matched: Matched) -> Answers:
    at, run = np.asarray(matched.event, np.int64), np.asarray(matched.run, np.int64)
    starts = shown.instants[f"isr.{isr.name}.start"]
    return Answers(at, starts[run] - at, tuple(matched.lost), tuple(matched.waiting))


def _response(isr: Isr, shown: Observed, matched: Matched) -> Answers | None:
    """Only where the body is seen as a level, so that every run has its own end."""
    bodies = shown.bodies.get(f"isr.{isr.name}")
    if bodies is None:
        return None
    at, run = np.asarray(matched.event, np.int64), np.asarray(matched.run, np.int64)
    done = run < len(bodies.end)
    running = tuple(int(event) for event in at[~done])
    return Answers(at[done], bodies.end[run[done]] - at[done], tuple(matched.lost), (*running, *matched.waiting))


def _periods(shown: Observed, resolution: int) -> dict[str, Seen]:
    """Distances between neighbouring events, for every event of which at least two were seen."""
    found = {name: seen(np.diff(instants), resolution) for name, instants in shown.instants.items()}
    return {name: value for name, value in found.items() if value is not None}


def _need(
    system: System, need: NeedBounds, capture: Capture, shown: Observed, matched: dict[str, Matched]
) -> NeedCheck:
    if not isinstance(need.need, WithinNeed):
        return NeedCheck(need.need, need.limit, need.bound, None, (), need.verdict, need.reason)
    answers = _answers(system, need.need, shown, matched)
    if answers is None:
        reason = need.reason or "no probe shows it"
        return NeedCheck(need.need, need.limit, need.bound, None, (), need.verdict, reason)
    misses = _misses(system, need.need, answers, capture, shown)
    measured = seen(answers.after, capture.resolution)
    verdict = verdict_of(
        proved=need.proved, can_tell=need.bound is not None or measured is not None, seen_beyond=bool(misses)
    )
    return NeedCheck(need.need, need.limit, need.bound, measured, misses, verdict, need.reason)


def _answers(system: System, need: WithinNeed, shown: Observed, matched: dict[str, Matched]) -> Answers | None:
    asked = answering(system, need)
    if asked is not None:
        isr = system.isr(asked[0])
        if asked[1] == "span":
            bodies = shown.bodies.get(f"isr.{isr.name}")
            return None if bodies is None else Answers(bodies.start, bodies.end - bodies.start)
        if isr.name not in matched:
            return None
        found = matched[isr.name]
        return _latency(isr, shown, found) if asked[1] == "latency" else _response(isr, shown, found)
    begins, ends = shown.instants.get(need.begins), shown.instants.get(need.ends)
    if begins is None or ends is None:
        return None
    place = np.searchsorted(ends, begins)  # each is answered by the next
    answered = place < len(ends)
    still_open = tuple(int(event) for event in begins[~answered])
    return Answers(begins[answered], ends[place[answered]] - begins[answered], (), still_open)


def _misses(system: System, need: WithinNeed, answers: Answers, capture: Capture, shown: Observed) -> tuple[Miss, ...]:
    beyond = need.within + capture.resolution
    own = {f"isr.{isr.name}" for isr in system.isrs if need.begins in isr.on}
    late = answers.after > beyond
    misses = [
        Miss(int(at), int(after), "late", causes(shown, int(at), int(at + after), own))
        for at, after in zip(answers.at[late], answers.after[late], strict=True)
    ]
    misses += [Miss(at, None, "lost", causes(shown, at, at + need.within, own)) for at in answers.never]
    misses += [
        Miss(at, None, "open", causes(shown, at, capture.end, own))
        for at in answers.open
        if capture.end - at > beyond
    ]  # fmt: skip
    return tuple(sorted(misses, key=lambda miss: miss.at))


def causes(shown: Observed, begin: int, end: int, own: set[str]) -> tuple[Cause, ...]:
    """What was seen running between two instants, and for how long, longest first."""
    found = []
    for what, bodies in shown.bodies.items():
        if what in own:
            continue
        first = int(np.searchsorted(bodies.end, begin, side="right"))
        last = int(np.searchsorted(bodies.start[: len(bodies.end)], end))
        time = np.minimum(bodies.end[first:last], end) - np.maximum(bodies.start[first:last], begin)
        if len(time) and time.sum() > 0:
            found.append(Cause(what, int(time.sum())))
    return tuple(sorted(found, key=lambda cause: -cause.time))
