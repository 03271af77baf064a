"""What is allowed and yet likely to hurt: warnings with a code, a sentence and a mend, found with the bounds' help."""

from __future__ import annotations

from collections.abc import Iterator

from tachys.errors import Place, Remark
from tachys.model.events import Event
from tachys.model.quantities import LONGEST_PS
from tachys.model.quantities import time_in_words as shown
from tachys.model.system import System
from tachys.needs.verdicts import Verdict
from tachys.worstcase.bounds import Bounds


def lint(found: Bounds) -> list[Remark]:
    """Every warning, in the order of the file."""
    made = [
        Remark(found.system.places.get(key, Place(found.system.title or "model")), code, key, text, mend)
        for check in (
            _long_routines, _busy_waits, _inverted_needs, _needless_routines, _unshown_needs, _needless_waking,
            _long_pauses, _late_deadlines, _storms, _bits_that_do_not_wake, _asked_too_soon,
        )
        for key, code, text, mend in check(found)
    ]  # fmt: skip
    return sorted(made)


Found = Iterator[tuple[str, str, str, str]]  # key, code, text, mend


def _long_routines(found: Bounds) -> Found:
    """A routine longer than the shortest gap of a less urgent line that remembers one event."""
    system = found.narrowed
    assert found.reach is not None
    curve = found.reach.events.curve
    gaps = {}
    for isr in system.isrs:  # a buffer asks once, however long its routine lets it wait
        marks = [curve(event).least_span(isr.pending + 1) for event in isr.on if not event.requests]
        gaps[isr.name] = min(marks, default=LONGEST_PS)
    for isr in system.isrs:
        for other in system.isrs[isr.rank + 1 :]:
            gap = gaps[other.name]
            if isr.cost.most > gap:
                yield (
                    isr.thing, "long-routine",
                    f"it can run {shown(isr.cost.most)}, in which isr.{other.name} loses an event "
                    f"({other.pending + 1} can come within {shown(gap)}, {other.pending} is remembered)",
                    "move work out of the routine into a step, or let the other line go first",
                )  # fmt: skip
                break


def _busy_waits(found: Bounds) -> Found:
    """A routine that starts a unit and lasts as long as the unit: it waits inside."""
    for isr in found.system.isrs:
        for unit in found.system.units:
            if isr.start in unit.on and isr.cost.least >= unit.takes.least:
                yield (
                    isr.thing, "busy-wait",
                    f"it starts unit.{unit.name} and lasts as long as it works: it seems to wait for it inside",
                    f'end the routine after the start, and serve the end with a routine on = "unit.{unit.name}"',
                )  # fmt: skip


def _tightest(system: System) -> dict[str, int]:
    """The shortest time that a need leaves each routine that ends one."""
    limits: dict[str, int] = {}
    for need in system.needs:
        answer = need.follows
        if answer is not None and answer.ends.kind == "isr":
            name = answer.ends.name
            limits[name] = min(answer.within, limits.get(name, answer.within))
    return limits


def _inverted_needs(found: Bounds) -> Found:
    """Of two routines of one level, the one with more time goes first."""
    system, limits = found.system, _tightest(found.system)
    for isr in system.isrs:
        own = limits.get(isr.name)
        for other in system.isrs[: isr.rank] if own is not None else ():
            limit = limits.get(other.name)
            if other.urgency == isr.urgency and own is not None and limit is not None and own < limit:
                yield (
                    isr.thing, "inverted-order",
                    f"isr.{other.name} of the same level goes before it and has {shown(limit)}, it only {shown(own)}",
                    f"give it a smaller order than isr.{other.name}, or a more urgent level",
                )  # fmt: skip
                break


def _needless_routines(found: Bounds) -> Found:
    """A routine that holds less urgent ones off, and whose need the loop would meet as well."""
    whole = found.loop_pass.most if found.loop_pass is not None else None
    if whole is None:
        return
    limits = _tightest(found.system)
    for isr in found.system.isrs:
        limit, latency = limits.get(isr.name), found.isrs[isr.name].latency.most
        delays = any(True for _ in found.system.isrs[isr.rank + 1 :])
        if limit is None or latency is None or not delays or isr.sets or (isr.nth and isr.nth.sets):
            continue
        if latency + 2 * whole + isr.cost.most <= limit and isr.cost.most > found.system.core.entry.most:
            yield (
                isr.thing, "step-would-do",
                f"it has {shown(limit)}, and a pass of the loop takes at most {shown(whole)}: a step would do",
                "let the routine set a flag, and do the work in a step that polls it",
            )  # fmt: skip


def _unshown_needs(found: Bounds) -> Found:
    """A need without a bound whose events no probe shows."""
    probed = {thing for probe in found.system.probes for thing in probe.shows} | {
        thing for probe in found.system.probes for _, thing in probe.codes
    }
    for name, need in found.needs.items():
        events = need.need.events
        unseen = [e for e in events if e not in probed and e.thing not in probed]
        if need.verdict is Verdict.UNSEEN and unseen:
            yield (
                f"need.{name}", "need-unseen", f"nothing can show it: {need.reason}, and no probe shows {unseen[0]}",
                f'add a probe with shows = "{unseen[0]}"',
            )  # fmt: skip


def _needless_waking(found: Bounds) -> Found:
    """A periodic routine that wakes a sleeping core more often than anything else, for nothing the loop looks at."""
    system = found.system
    if not any(step.halt for step in system.steps) or any(map(system.graph.is_set_by_hardware, system.graph.flags)):
        return
    polled = {flag for step in system.steps for flag in (*step.polls, *(wait.on.name for wait in step.waits))}
    raised = system.graph.begun_by.keys() | system.graph.feeds.keys() | system.graph.asked_at.keys()
    counted = {unit.counts.of for unit in system.units if unit.counts is not None}
    followed = raised | counted | {event for flag in polled for event in system.graph.sets_of(flag)}
    timers = [int(step.every.least) for step in system.steps if step.every is not None]
    rates: dict[str, int] = {}
    for isr in system.isrs:
        for event in isr.on:
            source = system.source(event.name) if event.kind == "source" else None
            if source is not None and source.steady is not None:
                rates[isr.name] = min(rates.get(isr.name, 2**62), int(source.steady))
    for name, period in rates.items():
        isr = system.isr(name)
        own = {isr.start, isr.end, *isr.inner}
        useful = followed & own or counted.intersection(isr.on) or isr.drains is not None
        fastest = all(period <= other for other in rates.values())
        if not useful and fastest and (not timers or min(timers) > period):
            then = f"the loop's shortest timer is {shown(min(timers))}" if timers else "the loop has no timer"
            yield (
                f"isr.{name}", "needless-waking",
                f"it wakes the sleeping core every {shown(period)} and sets nothing the loop looks at; {then}",
                "stop it while the core sleeps, or let it come only when a timer of the loop is due",
            )  # fmt: skip


def _long_pauses(found: Bounds) -> Found:
    """A pause, or a bounded wait, longer than the watchdog allows between two feeds."""
    for need in found.system.needs:
        dog = need.feeds
        if dog is None:
            continue
        for step in found.system.steps:
            for what, length in (("pauses", step.pauses.most), ("can wait", step.spins - step.pauses.most)):
                if length >= dog.timeout:
                    yield (
                        step.thing, "longer-than-watchdog",
                        f"it {what} {shown(length)}, and the watchdog waits only {shown(dog.timeout)}",
                        "shorten it, or feed the watchdog in between",
                    )  # fmt: skip


def _late_deadlines(found: Bounds) -> Found:
    """A deadline longer than the gap of an event of which only one is remembered."""
    assert found.reach is not None
    for need in (each.follows for each in found.system.needs):
        if need is None or need.ends.kind != "isr":
            continue
        isr = found.system.isr(need.ends.name)
        if need.begins not in isr.on:
            continue
        gap = found.reach.events.curve(need.begins).least_span(2)
        if isr.pending == 1 and need.within > gap:
            yield (
                isr.thing, "deadline-beyond-gap",
                f"need {need.name} gives it {shown(need.within)}, but the next event can come after {shown(gap)} "
                "and only one is remembered",
                f"a need of at most {shown(gap)} keeps every event, or say how many the hardware remembers (pending)",
            )  # fmt: skip


def _storms(found: Bounds) -> Found:
    """A source whose routine alone can take the whole core."""
    for name in found.load.storms:
        yield (
            f"isr.{name}", "interrupt-storm",
            "it alone can take the whole core when its events come as fast as they may",
            "give its source a larger gap (filter it in hardware), or switch the line off for a while in the routine",
        )  # fmt: skip


def _comes_with_a_routine(system: System, event: Event) -> bool:
    """Whether a routine serves an event, or what a unit counts that ends with it, or that is something of the core."""
    unit = system.unit(event.name) if event.kind == "unit" else None
    cause = event if unit is None or unit.counts is None else unit.counts.of
    return cause.kind in ("isr", "step") or bool(system.graph.begun_by.get(cause))


def _bits_that_do_not_wake(found: Bounds) -> Found:
    """What hardware brings to a step while the core may be halted: no routine comes with it."""
    system = found.system
    sleeps = next((step.thing for step in system.steps if step.halt), None)
    told = [(f"flag.{flag}", "sets", events) for flag, events in system.set_by.items() if system.graph.takers(flag)]
    told += [
        (buffer.thing, "feeds", tuple(feed.event for feed in buffer.fed_by if feed.event.kind in ("source", "unit")))
        for buffer in system.buffers
        if system.graph.drain[buffer.name].kind == "step"
    ]
    for thing, does, events in told if sleeps else ():
        silent = [event for event in events if not _comes_with_a_routine(system, event)]
        if silent:
            yield (
                thing, "does-not-wake",
                f"{silent[0]} {does} it without an interrupt: while {sleeps} sleeps, it waits for the next interrupt",
                "give the event a routine of its own, or do not sleep while it is due",
            )  # fmt: skip


def _asked_too_soon(found: Bounds) -> Found:
    """A unit that firmware asks for an item at the very event that puts it: the unit looks first."""
    for unit in found.system.units:
        if unit.drains is None:
            continue
        puts = {feed.event for feed in found.system.buffer(unit.drains).fed_by}
        for event in unit.asked_at:
            if event in puts and event.kind in ("isr", "step"):
                yield (
                    unit.thing, "asked-too-soon",
                    f"{event} both puts into buffer.{unit.drains} and asks for it: the unit looks before that is in",
                    f"let it be put as that begins, at {event.thing.start}",
                )  # fmt: skip
