"""From tables to a System: units become picoseconds, and what several keys must agree on is judged."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import TypeVar

from msgspec.structs import replace

from tachys.model.accepting import make_accepted
from tachys.model.acts import Act, Drain, Guard, Halt, Pause, Wait, Work
from tachys.model.buffers import Buffers
from tachys.model.clocks import ClockTree
from tachys.model.events import Event, Thing
from tachys.model.flags import as_names, note_lone_flags, polled_by
from tachys.model.names import STARTUP
from tachys.model.needs import make_deadlines, make_need, make_probe, make_watchdog
from tachys.model.nodes import (
    Amperes,
    Apart,
    Battery,
    Buffer,
    Core,
    Counts,
    Isr,
    Loop,
    Nth,
    Period,
    Pin,
    ReadCounter,
    Source,
    Step,
    Unit,
)
from tachys.model.pins import make_pins, with_events
from tachys.model.quantities import LONGEST_PS, PS_PER_SECOND, ZERO, CurrentRange, Duration, Range
from tachys.model.report import Path, Reporter
from tachys.model.schema import (
    AllTable,
    BatteryTable,
    CounterTable,
    CurrentsTable,
    GuardTable,
    IsrTable,
    LoopTable,
    ModelFile,
    NextTable,
    PartTable,
    SleepTable,
    StartupTable,
    StepTable,
    UnitTable,
)
from tachys.model.sources import make_source
from tachys.model.standstill import timeless_ring
from tachys.model.stopping import Stopping
from tachys.model.system import System

MOST_PARTS = 64  # of a step


OnTop = TypeVar("OnTop", Unit, Pin)


def build(model: ModelFile, report: Reporter) -> System:
    """Build the System. Problems go to ``report``; the result is only good if there were none."""
    clocks = ClockTree(model.core, model.clock, report.complain)
    core = _core(model, clocks, report)
    sources = tuple(make_source(name, table, clocks, report) for name, table in model.source.items())
    filled = Buffers(model, clocks, report)
    mark = ZERO if model.marks is None else clocks.cost(model.marks.cost, ("marks", "cost"))
    isrs = tuple(isr.marked(mark) for isr in _isrs(model.isr, core, filled, clocks, report))
    stopping = Stopping(model, clocks, report)
    loop = _loop(model.loop, model.startup, model.step, core, filled, stopping, clocks, report)
    if loop is not None:
        loop = replace(loop, steps=tuple(step.marked(mark) for step in loop.steps))
    units = tuple(
        replace(
            _that_takes(_unit(name, table, clocks, report), table.current, core, report),
            steals=clocks.cost(table.steals, ("unit", name, "steals")),
        )
        for name, table in model.unit.items()
    )
    buffers = filled.made()
    sources, units = stopping.judged(sources, units, loop, isrs, buffers)
    pins = make_pins(model, units, isrs, clocks, report)
    pins = tuple(_that_takes(pin, model.pin[pin.name].current, core, report) for pin in pins)
    _judge_rings(core, units, isrs, buffers, report)
    needs, battery = make_deadlines(model.isr, clocks), _battery(model.battery, report)
    asked = {name: with_events(name, table, pins, report) for name, table in model.need.items()}
    needs += [need for name, table in asked.items() if (need := make_need(name, table, clocks, report, battery))]
    needs += [make_watchdog(model.watchdog, clocks)] if model.watchdog else []
    probes = tuple(make_probe(name, table, clocks, report) for name, table in model.probe.items())
    note_lone_flags(model, report)
    places = {
        f"{section}.{name}": report.place((section, name))
        for section in ("source", "unit", "isr", "flag", "buffer", "step", "need", "probe", "clock", "pin", "apart")
        for name in getattr(model, section)
    }
    set_by = {flag: tuple(map(Event.written, as_names(table.set_by))) for flag, table in model.flag.items()}
    return System(
        title=model.title,
        core=core,
        clocks=clocks.clocks(),
        sources=sources,
        units=units,
        isrs=isrs,
        loop=loop,
        needs=tuple(needs),
        probes=probes,
        set_by=set_by,
        buffers=buffers,
        pins=pins,
        aparts=tuple(_aparts(model, sources, clocks, report)),
        counters=tuple(_counter(name, table, clocks) for name, table in model.counter.items()),
        mark=mark,
        capture_tolerance=model.capture.tolerance or Fraction(0),
        capture_step=clocks.cost(model.capture.step, ("capture", "step")).most if model.capture.step else None,
        accepted=make_accepted(model, report, frozenset(need.name for need in needs)),
        currents=_currents(model, core),
        battery=battery,
        remarks=tuple(sorted(report.remarks)),
        places=places,
    )


def _currents(model: ModelFile, core: Core) -> dict[str, Amperes]:
    """Of each state of the core and each depth of sleep that has one."""
    given = {state: getattr(model.core.current, state) for state in CurrentsTable.model_fields}
    given |= {f"sleep.{name}": depth.current for name, depth in model.sleep.items()}
    return {state: _amperes(current, core) for state, current in given.items() if current is not None}


def _amperes(current: CurrentRange, core: Core) -> Amperes:
    scale = core.clock.hertz / 10**6 if current.per_clock else Fraction(1)
    return current.least * scale, current.most * scale


def _aparts(model: ModelFile, sources: tuple[Source, ...], clocks: ClockTree, report: Reporter) -> Iterator[Apart]:
    known, taken = {source.thing: source for source in sources}, set[str]()
    for name, table in model.apart.items():
        path = ("apart", name, "of")
        members = list(dict.fromkeys(as_names(table.of)))
        if len(members) < 2:
            report.complain(path, f"{len(members)} of sources: two of them at least keep apart", "name another")
        for member in members:
            source = known.get(Thing(member))
            if source is not None and source.period is not None:
                report.complain(
                    path, f"{member} is periodic, and a period cannot be moved", "give it a gap, or leave it out"
                )
            elif source is not None and source.burst is not None and source.burst.within is not None:
                report.complain(
                    path, f"not yet: {member} comes in bursts that last so long at most, whatever makes them wait",
                    f"leave within of {member} out",
                )  # fmt: skip
            if member in taken:
                report.complain(path, f"not yet in two at once: {member}", "let one keep them all apart")
        taken.update(members)
        yield Apart(name, tuple(map(Event, members)), clocks.distance(table.gap, ("apart", name, "gap")))


def _counter(name: str, table: CounterTable, clocks: ClockTree) -> ReadCounter:
    looks, of = tuple(map(Event.written, as_names(table.read_by))), table.of
    if of != "core" and not of.startswith("clock."):
        return ReadCounter(name, Event.written(of), None, table.states, looks)
    clock = clocks.resolve(of.removeprefix("clock."))
    return ReadCounter(name, None, clock, table.states, looks, clocks.root(clock.name))


def _battery(table: BatteryTable | None, report: Reporter) -> Battery | None:
    if table is None:
        return None
    if not 0 < table.usable <= 1:
        report.complain(("battery", "usable"), "is how much of it can be used", 'write for instance usable = "80 %"')
    return Battery(table.capacity, table.usable, table.self_discharge)


def _judge_rings(
    core: Core, units: tuple[Unit, ...], isrs: tuple[Isr, ...], buffers: tuple[Buffer, ...], report: Reporter
) -> None:
    ring = timeless_ring(core, units, isrs, buffers)
    if ring:
        round_ = " → ".join([*ring, ring[0]])
        report.complain(
            (ring[0].kind, ring[0].name), f"goes round in a chain that can take no time: {round_}",
            "give one of them a cost, or core.entry and core.chain: on a chip each of them takes some time",
        )  # fmt: skip


def _core(model: ModelFile, clocks: ClockTree, report: Reporter) -> Core:
    table = model.core
    for key in ("entry", "exit"):
        if getattr(table, key) is None:
            report.note(
                ("core", key), "no-overhead", f"{key} is not given, so it counts as 0",
                f'write {key} = "12 cycles", as the core\'s manual says',
            )  # fmt: skip
    entry, exit_ = clocks.cost(table.entry, ("core", "entry")), clocks.cost(table.exit, ("core", "exit"))
    chain = entry + exit_ if table.chain is None else clocks.cost(table.chain, ("core", "chain"))
    return Core(
        clock=clocks.resolve("core"),
        nesting=table.nesting,
        levels=table.levels,
        entry=entry,
        exit=exit_,
        chain=chain,
        wake=clocks.cost(table.wake, ("core", "wake")),
        late_arrival=table.late_arrival,
        lowest_is_urgent=table.urgent == "low",
        depths=tuple(_depths(model, clocks)),
    )


def _depths(model: ModelFile, clocks: ClockTree) -> Iterator[tuple[str, Range]]:
    """How long it takes to wake from each."""
    for name, table in model.sleep.items():
        yield name, clocks.cost(table.wake, ("sleep", name, "wake"))


def _isrs(
    tables: Mapping[str, IsrTable], core: Core, filled: Buffers, clocks: ClockTree, report: Reporter
) -> tuple[Isr, ...]:
    def urgency(level: int) -> int:
        return level if core.lowest_is_urgent else core.levels - 1 - level

    written = sorted(tables.items(), key=lambda item: (urgency(item[1].level), item[1].order))
    isrs = []
    for rank, (name, table) in enumerate(written):
        path = ("isr", name)
        if table.level >= core.levels:
            report.complain(
                (*path, "level"), f"level {table.level} does not exist with core.levels = {core.levels}",
                f"levels run from 0 to {core.levels - 1}",
            )  # fmt: skip
        events = as_names(table.on)
        if not events:
            report.complain((*path, "on"), "names no event", 'write for instance on = "source.wheel"')
        costs = _costs(path, table, events, clocks, report)
        cost = Range(min(c.least for c in costs), max(c.most for c in costs)) if costs else ZERO
        if table.pending * sum(each.most for each in costs) > LONGEST_PS:
            report.complain(
                (*path, "pending"), "so many activations of this cost take longer than Tachys can count",
                f"pending times cost is at most {LONGEST_PS // PS_PER_SECOND} s",
            )  # fmt: skip
        isr = Isr(
            name=name,
            on=tuple(map(Event.written, events)),
            urgency=urgency(table.level),
            rank=rank,
            cost=cost,
            costs=costs,
            guards=_guards(table.guard, path, cost, core, clocks, report),
            pending=table.pending,
            serves_all=table.serves == "all",
            sets=as_names(table.sets),
            order=table.order,
            moves_to=filled.moves_to(path, table),
            moments=tuple(_moments(path, table, cost, clocks, report)),
            pause=_pause(path, table, clocks, report),
            clears=table.clears_pending,
            exception=table.exception,
        )
        drains, nth = filled.drain(path, table), _nth(path, table, clocks)
        isrs.append(isr.burning(isr.costs, drains, nth) if costs else isr)
    return tuple(isrs)


def _pause(path: Path, table: IsrTable, clocks: ClockTree, report: Reporter) -> Range:
    """How long a routine spins by the clock, behind its cost."""
    beside = [key for key in ("drains", "nth") if getattr(table, key)] + ["serves"] * (table.serves == "all")
    for key in ("pause", "clears_pending"):
        if getattr(table, key) and beside:
            report.complain((*path, key), f"not yet beside {beside[0]}", "leave one of them out")
    if table.clears_pending and table.pending > 1:
        report.complain((*path, "clears_pending"), "not yet beside pending", "one mark is cleared: leave pending out")
    return ZERO if table.pause is None else clocks.cost(table.pause, (*path, "pause"))


def _nth(path: Path, table: IsrTable, clocks: ClockTree) -> Nth | None:
    """What each n-th run does more."""
    given = table.nth
    if given is None:
        return None
    cost = ZERO if given.cost is None else clocks.cost(given.cost, (*path, "nth"))
    return Nth(given.n, given.first, cost, as_names(given.sets))


def _moments(
    path: Path, table: IsrTable, cost: Range, clocks: ClockTree, report: Reporter
) -> Iterator[tuple[str, Range]]:
    """The events within a routine."""
    for name, given in table.moments.items():
        at = clocks.cost(given, (*path, "moments"))
        if at.most > cost.least:
            report.complain(
                (*path, "moments"), f'"{name}" lies behind the end of the body',
                "write how much CPU time after the first instruction; at most the least cost, without items and nth",
            )  # fmt: skip
        yield name, at


def _costs(
    path: Path, table: IsrTable, events: tuple[str, ...], clocks: ClockTree, report: Reporter
) -> tuple[Range, ...]:
    """The cost of each event of a routine."""
    if not isinstance(table.cost, dict):
        return tuple(clocks.cost(table.cost, (*path, "cost")) for _ in events[:1]) * len(events)
    for event in events:
        if event not in table.cost:
            report.complain((*path, "cost"), f'"{event}" has no cost', "a table of costs names every event of on")
    return tuple(clocks.cost(table.cost.get(event), (*path, "cost")) for event in events)


def _unit(name: str, table: UnitTable, clocks: ClockTree, report: Reporter) -> Unit:
    path = ("unit", name)
    if table.depth is not None and table.busy != "queue":
        report.complain(
            (*path, "depth"), f"goes with a queue, not with {table.busy}", 'write busy = "queue", or no depth'
        )
    if table.drains is not None and (table.primed or table.busy != "drop"):
        report.complain(
            (*path, "drains"), "not yet beside primed or busy: it takes one as it is at rest", "remove these"
        )
    if not table.primed and not as_names(table.on) and table.drains is None:
        report.complain(path, "nothing ever starts it", 'write on = "source.sample", or primed = true')
    if not 0 < table.answers <= 1:
        report.complain((*path, "answers"), "is how many of its operations end", 'write for instance answers = "90 %"')
    counts = _counts(path, table, report)
    if counts is not None:
        return Unit(name, tuple(map(Event.written, as_names(table.on))), Range(1, LONGEST_PS), table.busy,
                    primed=table.primed, counts=counts)  # fmt: skip
    if table.takes is None:
        report.complain(path, "nothing says how long it works", 'write takes = "15 us", or what it counts')
    takes = Range(1, 1) if table.takes is None else clocks.cost(table.takes, (*path, "takes"))
    if takes.least == 0:
        report.complain((*path, "takes"), "is 0", "what takes no time is no unit; write for instance 15 cycles")
    if table.answers < 1 and (table.busy == "queue" or table.drains is not None):
        with_what = "a queue" if table.busy == "queue" else "drains"
        report.complain((*path, "answers"), f"not yet beside {with_what}", "leave one of them out")
    depth = (table.depth or 1) if table.busy == "queue" else 0
    drains = table.drains.removeprefix("buffer.") if table.drains else None
    on = tuple(map(Event.written, as_names(table.on)))
    if drains is not None:
        return Unit(name, (), takes, drains=drains, asked_at=on)
    return Unit(name, on, takes, table.busy, depth, table.primed, answers=table.answers)


def _that_takes(each: OnTop, current: CurrentRange | None, core: Core, report: Reporter) -> OnTop:
    """That unit or pin with its supply current."""
    if current is None:
        return each
    path = (each.kind, each.name, "current")
    if isinstance(each, Unit) and each.counts is not None:
        report.complain(path, "not yet beside counts", "what only counts events takes next to nothing")
    if isinstance(each, Pin) and any(write.does == "pulse" and write.length is None for write in each.writes):
        report.complain(path, "nothing says how long its pulse is", 'write { does = "pulse", for = "10 us" }')
    return replace(each, current=_amperes(current, core))


def _counts(path: Path, table: UnitTable, report: Reporter) -> Counts | None:
    """What a unit counts in place of time."""
    given = table.counts
    if given is None:
        for key in ("repeats", "cancelled_by"):
            if getattr(table, key):
                report.complain(
                    (*path, key), f"not yet: {key} goes with counts", "write what it counts, or leave it out"
                )
        return None
    if table.takes is not None:
        report.complain((*path, "takes"), "it counts in place of time", "write takes or counts")
    if table.busy == "queue" or table.drains is not None:
        with_what = "a queue" if table.busy == "queue" else "drains"
        report.complain((*path, "counts"), f"not yet beside {with_what}", "leave one of them out")
    if table.answers < 1:
        report.complain((*path, "answers"), "not yet beside counts", "leave one of them out")
    if table.repeats and as_names(table.on) and table.busy == "restart":
        report.complain((*path, "busy"), "not yet: what repeats is not started anew", "leave it out")
    return Counts(
        given.n, Event.written(given.of), table.repeats, tuple(map(Event.written, as_names(table.cancelled_by)))
    )


def _guards(
    given: GuardTable | list[GuardTable] | None,
    path: Path,
    cost: Range,
    core: Core,
    clocks: ClockTree,
    report: Reporter,
) -> tuple[Guard, ...]:
    tables = [] if given is None else given if isinstance(given, list) else [given]
    guards = []
    for table in tables:
        if table.level >= core.levels:
            report.complain(
                (*path, "guard"), f"level {table.level} does not exist with core.levels = {core.levels}",
                f"levels run from 0 to {core.levels - 1}",
            )  # fmt: skip
        urgency = table.level if core.lowest_is_urgent else core.levels - 1 - table.level
        at = clocks.cost(table.at, (*path, "guard"))
        length = None if table.for_ is None else clocks.cost(table.for_, (*path, "guard"))
        if at.most + (length.most if length else 0) > cost.most:
            report.complain(
                (*path, "guard"), "lasts beyond the end of the body",
                'at + for must fit into cost; for = "all" holds to its end',
            )  # fmt: skip
        guards.append(Guard(urgency, at, length))
    return tuple(guards)


def _loop(
    table: LoopTable | None,
    startup: StartupTable | None,
    steps: Mapping[str, StepTable],
    core: Core,
    filled: Buffers,
    stopping: Stopping,
    clocks: ClockTree,
    report: Reporter,
) -> Loop | None:
    if STARTUP in steps:
        report.complain(("step", STARTUP), "the start-up is no step", "write [startup], or choose another name")
    if table is None:
        if startup is not None:
            report.complain((STARTUP,), "comes before the first pass of a loop", "add [loop]")
        if steps:
            report.complain(("step",), "there are steps but no [loop]", 'add [loop] with overhead = "12 cycles"')
        return None
    overhead = clocks.cost(table.overhead, ("loop", "overhead"))
    if overhead.least == 0:
        report.complain(("loop", "overhead"), "is 0", "a pass takes some time; write for instance 12 cycles")
    order = table.order if table.order is not None else list(steps)
    made = [_step(name, steps[name], core, filled, stopping, clocks, report) for name in order if name in steps]
    if startup is not None:
        made.append(_startup(startup, core, clocks, report))
    return Loop(overhead, tuple(made))


def _startup(table: StartupTable, core: Core, clocks: ClockTree, report: Reporter) -> Step:
    cost = clocks.cost(table.cost, (STARTUP, "cost"))
    if cost.least == 0:
        report.complain((STARTUP, "cost"), "is 0", "a start-up takes some time; leave it out if it takes none")
    guards = _guards(table.guard, (STARTUP,), cost, core, clocks, report)
    return Step(STARTUP, (Work(cost, guards),), sets=as_names(table.sets), once=True)


def _wait(path: Path, table: PartTable, clocks: ClockTree, report: Reporter) -> Wait | None:
    if table.at_most is not None and not table.waits:
        report.complain((*path, "at_most"), "goes with waits", "remove it")
    if not table.waits:
        return None
    limit = None if table.at_most is None else clocks.cost(table.at_most, (*path, "at_most"))
    if isinstance(table.waits, NextTable):
        return Wait(Thing(table.waits.next), limit, next=True)
    return Wait(Thing(table.waits if table.waits.startswith("unit.") else f"flag.{table.waits}"), limit)


def _step(
    name: str,
    table: StepTable,
    core: Core,
    filled: Buffers,
    stopping: Stopping,
    clocks: ClockTree,
    report: Reporter,
) -> Step:
    path = ("step", name)
    if _idles(table) and not (table.sleep or table.drains or table.then):
        report.complain(path, "the step does nothing", "give it a cost, waits, a pause, or sleep = true")
    if table.polls not in (None, [], "") and not polled_by(table):
        report.complain((*path, "polls"), "names no flag", 'write all = ["a", "b"], or leave polls out')
    every = None
    if isinstance(table.every, Duration):  # by ticks it is due as what counts them says
        least, nominal, most = clocks.exact(table.every, (*path, "every"))
        every = Period(nominal, max(least, Fraction(1)), most)
    return Step(
        name=name,
        acts=tuple(_acts(path, table, core, filled, stopping, clocks, report)),
        polls=polled_by(table),
        polls_all=isinstance(table.polls, AllTable) and len(polled_by(table)) > 1,
        sets=as_names(table.sets),
        every=every,
        rearm=table.rearm,
    )


def _acts(
    path: Path,
    table: StepTable,
    core: Core,
    filled: Buffers,
    stopping: Stopping,
    clocks: ClockTree,
    report: Reporter,
) -> Iterator[Act]:
    """What a step does, in order: its own, then part by part, then it halts."""
    drains = filled.drain(path, table)
    if len(table.then) > MOST_PARTS:
        report.complain((*path, "then"), f"has {len(table.then)} parts", f"a step has {MOST_PARTS} at most")
        return
    if drains is not None and table.then:
        report.complain((*path, "then"), "not yet beside drains", "let a step of its own drain it")
    yield from _part(path, table, drains, core, filled, clocks, report)
    for place, part in enumerate(table.then):
        where = (*path, f"then {place + 1}")
        if _idles(part):
            report.complain(where, "the part does nothing", "give it a cost, waits, puts or a pause")
        yield from _part(where, part, None, core, filled, clocks, report)
    if table.sleep:
        yield from _sleep((*path, "sleep"), table.sleep, core, stopping, clocks, report)


def _sleep(
    path: Path, given: bool | str | SleepTable, core: Core, stopping: Stopping, clocks: ClockTree, report: Reporter
) -> Iterator[Act]:
    """How a step sleeps: plainly, or as deep as it says; and what it does with interrupts held off behind it."""
    table = given if isinstance(given, SleepTable) else SleepTable(depth=given if isinstance(given, str) else None)
    unless, depth = as_names(table.unless), table.depth or ""
    plain_if = tuple(Event(unit).thing.name for unit in as_names(table.plain_if))
    if plain_if and not depth:
        report.complain(
            (*path, "plain_if"), "goes with a depth: it is the plain sleep already", "name one, or remove it"
        )
    masked = clocks.cost(table.masked, (*path, "masked"))
    wake = dict(core.depths).get(depth, core.wake)
    yield Halt(unless, wake, depth, stopping.stands.get(depth, ()), plain_if, core.wake, masked)
    if table.masked is not None:
        cost = Range(0, masked.most) if unless else masked
        yield Work(cost, (Guard(0, ZERO, None),), masked=True)


def _idles(part: PartTable) -> bool:
    return not (part.waits or part.cost is not None or part.puts or part.pause is not None)


def _part(
    path: Path,
    table: PartTable,
    drains: Drain | None,
    core: Core,
    filled: Buffers,
    clocks: ClockTree,
    report: Reporter,
) -> Iterator[Act]:
    wait = _wait(path, table, clocks, report)
    if wait is not None:
        yield wait
    cost = clocks.cost(table.cost, (*path, "cost"))
    guards = _guards(table.guard, path, cost, core, clocks, report)
    if table.cost is not None:
        yield Work(cost, guards)
    if drains is not None:
        yield drains
    puts = None if table.puts is None else filled.put(path, table.puts)
    if puts is not None:
        yield puts
    if table.pause is not None:
        yield Pause(clocks.cost(table.pause, (*path, "pause")))
