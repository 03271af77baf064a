"""Clocks that stand still in sleep: which stop in each depth, what they count, and what may be at work meanwhile."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from tachys.errors import did_you_mean
from tachys.model.acts import Halt
from tachys.model.clocks import ClockTree
from tachys.model.events import Event, Thing
from tachys.model.flags import as_names
from tachys.model.nodes import Buffer, Isr, Loop, Source, Step, Unit
from tachys.model.quantities import Duration, DurationRange
from tachys.model.report import Path, Reporter
from tachys.model.schema import ModelFile, SourceTable

SECONDS = "write it in seconds if it goes on, or let a clock count it that does"


class Stopping:
    """What stands still in the depths of sleep that steps use."""

    def __init__(self, model: ModelFile, clocks: ClockTree, report: Reporter) -> None:
        self._model, self._report = model, report
        stopped = {name: _stopped(name, as_names(table.stops), clocks, report) for name, table in model.sleep.items()}
        counted: dict[Thing, frozenset[str]] = {}
        for name, source in model.source.items():
            counted[Thing(f"source.{name}")] = _counting_source(source)
        for name, unit in model.unit.items():
            counted[Thing(f"unit.{name}")] = clocks_of(unit.takes)
        for name, counter in model.counter.items():
            counted[Thing(f"counter.{name}")] = frozenset({counter.of.removeprefix("clock.")})
        self._stopped = stopped
        alone = {thing: min(by) for thing, by in counted.items() if len(by) == 1}
        self.roots = {thing: clocks.root(clock) for thing, clock in alone.items()}
        self.stands = {
            depth: tuple(thing for thing, by in counted.items() if by & stops) for depth, stops in stopped.items()
        }

    def judged(
        self, sources: Sequence[Source], units: Sequence[Unit], loop: Loop | None, isrs: Sequence[Isr],
        buffers: Sequence[Buffer],
    ) -> tuple[tuple[Source, ...], tuple[Unit, ...]]:  # fmt: skip
        """Sources and units, each with why it may stand still; what cannot be right or is not known here is told."""
        halts = [(step, step.halt) for step in (loop.steps if loop else ()) if step.halt is not None]
        for depth in dict.fromkeys(halt.depth for _, halt in halts if halt.depth):
            self._refuse(depth)
        for step, halt in halts:
            if halt.stops and not _wakes(halt, sources, units, isrs, buffers):
                self._report.complain(
                    ("step", step.name, "sleep"),
                    f"never wakes: all that brings an interrupt stands still in sleep.{halt.depth}",
                    "let a clock that goes on count one of its sources, or do not stop this one",
                )
        stood = tuple(
            replace(each, stands_still=_why(each.thing, halts), clock=self.roots.get(each.thing)) for each in sources
        )
        return stood, tuple(self._unit(unit, halts, loop) for unit in units)

    def _unit(self, unit: Unit, halts: Sequence[tuple[Step, Halt]], loop: Loop | None) -> Unit:
        at_work = [(step, halt) for step, halt in halts if unit.name not in halt.plain_if or _begun_in(halt, unit)]
        why = _why(unit.thing, at_work)
        if not why or _at_rest(unit, loop):
            return unit
        path = ("unit", unit.name)
        if unit.busy == "queue" or unit.drains is not None or unit.may_stay_silent:
            what = "a queue" if unit.busy == "queue" else "drains" if unit.drains is not None else "answers"
            self._report.complain(path, f"not yet beside {what}: it {why}", f'write plain_if = ["{unit.thing}"] there')
        else:
            mend = "let a clock count it that goes on"
            if not any(_begun_in(halt, unit) for _, halt in at_work):
                mend = f'if it is to end there, write plain_if = ["{unit.thing}"], or {mend}'
            self._report.note(path, "stands-still", why, mend)
        return replace(unit, stands_still=why)

    def _refuse(self, depth: str) -> None:
        """What a clock that stops counts and is not known here."""
        stops = self._stopped.get(depth, frozenset())
        where = f"stands still in sleep.{depth}"
        for path, by in self._others():
            if by & stops:
                self._report.complain(path, f"not yet: {_named(sorted(by & stops)[0])} counts it, and {where}", SECONDS)
        for name, source in self._model.source.items():
            clock = source.serial.clock if source.serial is not None else None
            if clock in stops:
                self._report.complain(
                    ("source", name, "serial", "clock"),
                    f"not yet: {_named(clock)} {where}, so what comes then is not late but gone",
                    "let a clock that goes on receive it",
                )
        if stops and not self.stands.get(depth):
            self._report.note(
                ("sleep", depth, "stops"), "stops-nothing", "nothing is counted by what stops",
                'write what it counts in its cycles, for instance takes = "13 cycles@adc": seconds go on',
            )  # fmt: skip

    def _others(self) -> Iterator[tuple[Path, frozenset[str]]]:
        for name, step in self._model.step.items():
            if isinstance(step.every, Duration):
                yield ("step", name, "every"), clocks_of(step.every)
        for name, buffer in self._model.buffer.items():
            yield ("buffer", name, "quiet"), clocks_of(buffer.quiet)
        watchdog = self._model.watchdog
        if watchdog is not None:
            yield ("watchdog", "timeout"), clocks_of(watchdog.timeout)
            yield ("watchdog", "not_before"), clocks_of(watchdog.not_before)


def clocks_of(given: object) -> frozenset[str]:
    """The clocks that count a time, or either end of a range."""
    ends = (given.least, given.most) if isinstance(given, DurationRange) else (given,)
    return frozenset(each.clock for each in ends if isinstance(each, Duration) and each.clock is not None)


def _counting_source(table: SourceTable) -> frozenset[str]:
    found = clocks_of(table.every) | clocks_of(table.gap)
    if table.timer is not None:
        found |= {table.timer.clock}
    if table.burst is not None:
        found |= clocks_of(table.burst.spaced) | clocks_of(table.burst.every)
    return found


def _named(clock: str | None) -> str:
    return "the core's clock" if clock == "core" else f"clock.{clock}"


def _stopped(depth: str, names: Sequence[str], clocks: ClockTree, report: Reporter) -> frozenset[str]:
    """The clocks that stand still in a depth: those that it names, and all that come from them."""
    known = {"core" if clock.name == "core" else f"clock.{clock.name}": clock.name for clock in clocks.clocks()}
    found = set()
    for name in names:
        if name not in known:
            report.complain(
                ("sleep", depth, "stops"), f'there is no "{name}"', did_you_mean(name, list(known), "clock")
            )
            continue
        found.add(known[name])
    grown = True
    while grown:
        more = {clock.name for clock in clocks.clocks() if clock.parent in found} - found
        found |= more
        grown = bool(more)
    return frozenset(found)


def _why(thing: Thing, halts: Sequence[tuple[Step, Halt]]) -> str:
    step, halt = next(((step, halt) for step, halt in halts if thing in halt.stops), (None, None))
    return "" if step is None or halt is None else f"stands still while {step.thing} sleeps in sleep.{halt.depth}"


def _begun_in(halt: Halt, unit: Unit) -> bool:
    """Whether something that goes on while the core halts may begin a unit."""
    awake = ("isr", "step")
    return any(
        event.kind not in awake and (event.thing not in halt.stops or event.moment == "start") for event in unit.on
    )


def _at_rest(unit: Unit, loop: Loop | None) -> bool:
    """Whether it is at rest whenever the loop halts: only steps begin it, each of which waits until it is, first."""
    steps: Mapping[str, Step] = {step.name: step for step in (loop.steps if loop else ())}
    if unit.primed or not unit.on or any(event.kind != "step" or event.moment != "start" for event in unit.on):
        return False
    beginning = [steps.get(event.name) for event in unit.on]
    return all(
        step is not None
        and any(wait.on == unit.thing and not wait.next and wait.at_most is None for wait in step.waits)
        and all(wait.at_most is None for wait in step.waits)
        for step in beginning
    )


def _wakes(
    halt: Halt, sources: Sequence[Source], units: Sequence[Unit], isrs: Sequence[Isr], buffers: Sequence[Buffer]
) -> bool:
    """Whether some line may be raised while only what this halt does not stop goes on."""
    seen: set[Event] = {source.event for source in sources if source.thing not in halt.stops}
    seen |= {unit.end for unit in units if unit.thing not in halt.stops and unit.counts is None}
    grown = True
    while grown:
        before = len(seen)
        for unit in units:
            if seen.intersection(unit.on):
                seen.add(unit.start)
            if unit.counts is not None and unit.counts.of in seen:
                seen |= {unit.start, unit.end}
        for buffer in buffers:
            if buffer.quiet is not None or any(feed.event in seen for feed in buffer.fed_by) or buffer.room_in:
                seen |= {buffer.event, buffer.lost}
        grown = len(seen) > before
    return any(seen.intersection(isr.on) for isr in isrs)
