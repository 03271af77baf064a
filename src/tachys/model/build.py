"""From tables to a System: units become picoseconds, and what several keys must agree on is judged."""

from __future__ import annotations

import difflib
from collections.abc import Mapping

from tachys.model.clocks import ClockTree
from tachys.model.quantities import Range, ceil_ps, floor_ps
from tachys.model.report import Path, Reporter
from tachys.model.schema import (
    GuardTable,
    IsrTable,
    LoopTable,
    ModelFile,
    NeedTable,
    ProbeTable,
    SleepTable,
    StepTable,
)
from tachys.model.sources import make_source
from tachys.model.system import Core, Guard, Isr, LoadNeed, Loop, Need, Probe, Step, System, WithinNeed


def build(model: ModelFile, report: Reporter) -> System:
    """Build the System. Problems go to ``report``; the result is only good if there were none."""
    clocks = ClockTree(model.core, model.clock, report.complain)
    core = _core(model, clocks, report)
    sources = tuple(make_source(name, table, clocks, report) for name, table in model.source.items())
    isrs = _isrs(model.isr, core, clocks, report)
    loop = _loop(model.loop, model.step, core, clocks, report)
    needs = [*_deadlines(model.isr, clocks), *_needs(model.need, clocks, report)]
    probes = tuple(_probe(name, table, clocks, report) for name, table in model.probe.items())
    _flags(model, report)
    places = {
        f"{section}.{name}": report.place((section, name))
        for section in ("source", "isr", "step", "need", "probe", "clock")
        for name in getattr(model, section)
    }
    return System(
        title=model.title,
        core=core,
        clocks=clocks.clocks(),
        sources=sources,
        isrs=isrs,
        loop=loop,
        needs=tuple(needs),
        probes=probes,
        capture_tolerance=model.capture.tolerance,
        remarks=tuple(sorted(report.remarks)),
        places=places,
    )


def _names(value: str | list[str]) -> tuple[str, ...]:
    return (value,) if isinstance(value, str) else tuple(dict.fromkeys(value))


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
    )


def _isrs(tables: Mapping[str, IsrTable], core: Core, clocks: ClockTree, report: Reporter) -> tuple[Isr, ...]:
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
        if not isinstance(table.on, str) and len(table.on) != 1:
            report.complain((*path, "on"), f"names {len(table.on)} events", "one event serves a routine")
        cost = clocks.cost(table.cost, (*path, "cost"))
        isrs.append(
            Isr(
                name=name,
                on=_names(table.on),
                urgency=urgency(table.level),
                rank=rank,
                cost=cost,
                guards=_guards(table.guard, path, cost, core, clocks, report),
                pending=table.pending,
                serves_all=table.serves == "all",
                sets=_names(table.sets),
            )
        )
    return tuple(isrs)


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
    table: LoopTable | None, steps: Mapping[str, StepTable], core: Core, clocks: ClockTree, report: Reporter
) -> Loop | None:
    if table is None:
        if steps:
            report.complain(("step",), "there are steps but no [loop]", 'add [loop] with overhead = "12 cycles"')
        return None
    overhead = clocks.cost(table.overhead, ("loop", "overhead"))
    if overhead.least == 0:
        report.complain(("loop", "overhead"), "is 0", "a pass takes some time; write for instance 12 cycles")
    order = table.order if table.order is not None else list(steps)
    return Loop(overhead, tuple(_step(name, steps[name], core, clocks, report) for name in order if name in steps))


def _step(name: str, table: StepTable, core: Core, clocks: ClockTree, report: Reporter) -> Step:
    path = ("step", name)
    if table.cost is None and not table.sleep:
        report.complain(path, "the step does nothing", "give it a cost, or sleep = true")
    cost = clocks.cost(table.cost, (*path, "cost"))
    every = None
    if table.every is not None:
        exact = clocks.exact(table.every, (*path, "every"))
        every = Range(max(1, floor_ps(exact[0])), ceil_ps(exact[2]))
    return Step(
        name=name,
        cost=cost,
        polls=table.polls,
        every=every,
        rearm=table.rearm,
        guards=_guards(table.guard, path, cost, core, clocks, report),
        sleeps=bool(table.sleep),
        unless=_names(table.sleep.unless) if isinstance(table.sleep, SleepTable) else (),
    )


def _deadlines(tables: Mapping[str, IsrTable], clocks: ClockTree) -> list[Need]:
    return [
        WithinNeed(
            f"{name}.deadline", event, f"isr.{name}.end", clocks.distance(table.deadline, ("isr", name, "deadline"))
        )
        for name, table in tables.items()
        if table.deadline is not None
        for event in _names(table.on)
    ]


def _needs(tables: Mapping[str, NeedTable], clocks: ClockTree, report: Reporter) -> list[Need]:
    needs: list[Need] = []
    for name, table in tables.items():
        path = ("need", name)
        timed = [key for key in ("from", "to", "within") if getattr(table, "from_" if key == "from" else key)]
        if table.load is not None and not timed:
            if table.load > 1:
                report.complain((*path, "load"), "is more than 100 %", "a core cannot work more than all the time")
            needs.append(LoadNeed(name, table.load))
        elif table.load is None and table.from_ and table.to and table.within:
            needs.append(WithinNeed(name, table.from_, table.to, clocks.distance(table.within, (*path, "within"))))
        else:
            report.complain(
                path, "does not say what must hold",
                'write from, to and within = "40 us"; or load = "70 %" alone',
            )  # fmt: skip
    return needs


def _probe(name: str, table: ProbeTable, clocks: ClockTree, report: Reporter) -> Probe:
    is_body = table.shows.startswith(("isr.", "step.")) and table.shows.count(".") == 1
    if not is_body and table.edge is None:
        report.complain(
            ("probe", name), f'"{table.shows}" happens at an instant, which a level cannot show',
            'add edge = "rise", "fall", "both" or "toggle"',
        )  # fmt: skip
    if table.before_end is not None and (not is_body or table.edge is not None):
        report.complain(("probe", name, "before_end"), "goes with a busy level only", "remove it")
    return Probe(
        signal=name,
        shows=table.shows,
        edge=table.edge,
        after=clocks.cost(table.after, ("probe", name, "after")).least,
        before_end=clocks.cost(table.before_end, ("probe", name, "before_end")).least,
    )


def _flags(model: ModelFile, report: Reporter) -> None:
    """Flags that nobody sets, or nobody looks at, with the nearest name that would fit."""
    set_by = {flag: ("isr", name, "sets") for name, isr in model.isr.items() for flag in _names(isr.sets)}
    seen_by = {
        flag: ("step", name, "polls") for name, step in model.step.items() if step.polls for flag in [step.polls]
    }
    for name, step in model.step.items():
        if isinstance(step.sleep, SleepTable):
            for flag in _names(step.sleep.unless):
                seen_by.setdefault(flag, ("step", name, "sleep"))
    for here, there, code, text in (
        (seen_by, set_by, "flag-never-set", "looks at a flag that nothing sets"),
        (set_by, seen_by, "flag-never-polled", "sets a flag that no step looks at"),
    ):
        for flag in here.keys() - there.keys():
            near = difflib.get_close_matches(flag, there.keys() - here.keys(), n=1)
            mend = f'did you mean "{near[0]}"?' if near else "complete the pair, or remove it"
            report.note(here[flag], code, f'"{flag}": {text}', mend)
