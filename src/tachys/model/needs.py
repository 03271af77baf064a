"""Needs and probes of a model file: which of the keys belong together, and what they mean in picoseconds."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from tachys.model.clocks import ClockTree
from tachys.model.events import Event, Thing
from tachys.model.nodes import CURRENT, IDLE, USUAL_TOLERANCE, Battery, Meter, Probe
from tachys.model.quantities import ceil_ps, floor_ps
from tachys.model.report import Path, Reporter
from tachys.model.schema import IsrTable, NeedTable, ProbeTable, WatchdogTable
from tachys.needs.kinds import (
    CurrentNeed,
    FeedNeed,
    FillNeed,
    JitterNeed,
    LifeNeed,
    LoadNeed,
    LossNeed,
    Need,
    PeriodNeed,
    Watchdog,
    WithinNeed,
)
from tachys.needs.takers import INTERRUPTS

MOST_BUS_LINES = 16
_KINDS = {
    frozenset({"from", "to", "within"}): frozenset({"age"}),
    frozenset({"load"}): frozenset({"over", "of"}),
    frozenset({"current"}): frozenset(),
    frozenset({"lasts"}): frozenset(),
    frozenset({"of", "lost"}): frozenset(),
    frozenset({"of", "fill"}): frozenset(),
    frozenset({"of", "every", "give_or_take"}): frozenset(),
    frozenset({"of", "jitter"}): frozenset(),
}


def make_deadlines(tables: Mapping[str, IsrTable], clocks: ClockTree) -> list[Need]:
    """The needs that are written as deadlines of routines: one for each event that it serves."""
    needs: list[Need] = []
    for name, table in tables.items():
        events = [table.on] if isinstance(table.on, str) else table.on
        if table.deadline is None:
            continue
        limit = clocks.distance(table.deadline, ("isr", name, "deadline"))
        for event in events:
            suffix = f"({event})" if len(events) > 1 else ""
            needs.append(WithinNeed(f"{name}.deadline{suffix}", Event.written(event), Event(f"isr.{name}.end"), limit))
    return needs


def make_need(
    name: str, table: NeedTable, clocks: ClockTree, report: Reporter, battery: Battery | None = None
) -> Need | None:
    """The need of one table; None if it does not say what must hold."""
    path: Path = ("need", name)
    keys = {"from" if key == "from_" else key for key in table.model_fields_set} - {"accept", "because"}
    kind = next((kind for kind, more in _KINDS.items() if kind <= keys <= kind | more), None)
    if kind is None:
        report.complain(
            path, "does not say what must hold",
            'write from, to and within = "40 us"; or load = "70 %"; or of and one of lost = 0, fill = 12, '
            'jitter = "5 us", every = "50 ms" with give_or_take = "2 %"; or current = "40 uA"; or lasts = "2 years"',
        )  # fmt: skip
        return None
    if table.from_ is not None and table.to is not None and table.within is not None:
        limit = clocks.distance(table.within.most, (*path, "within"))
        not_before = ceil_ps(clocks.exact(table.within.least, (*path, "within"))[2])
        if not_before > limit:
            report.complain((*path, "within"), "leaves no time between its ends, as far as the clocks may be off",
                            'write a wider one, such as ["20 us", "60 us"]')  # fmt: skip
        return WithinNeed(name, Event.written(table.from_), Event.written(table.to), limit, table.age, not_before)
    if table.load is not None:
        if table.load > 1:
            report.complain((*path, "load"), "is more than 100 %", "a core cannot work more than all the time")
        over = None if table.over is None else clocks.distance(table.over, (*path, "over"))
        of = (table.of,) if isinstance(table.of, str) else tuple(table.of or ())
        if over is not None and of and of != (INTERRUPTS,):
            report.complain(
                (*path, "of"), "windows of single routines and steps are not followed",
                'write of = "interrupts", or leave over out',
            )  # fmt: skip
        return LoadNeed(name, table.load, over, of)
    if table.current is not None or table.lasts is not None:
        return _supply(name, table, report, battery)
    if not isinstance(table.of, str):
        report.complain((*path, "of"), "takes one event or thing here", "only a load takes a list")
        return None
    if table.lost is not None:
        return LossNeed(name, Thing(table.of), table.lost)
    if table.fill is not None:
        return FillNeed(name, Thing(table.of), table.fill)
    if table.jitter is not None:
        return JitterNeed(name, Event.written(table.of), clocks.distance(table.jitter, (*path, "jitter")))
    assert table.every is not None
    assert table.give_or_take is not None
    every = clocks.exact(table.every, (*path, "every"))[1]
    return PeriodNeed(name, Event.written(table.of), floor_ps(every), floor_ps(every * table.give_or_take))


def _supply(name: str, table: NeedTable, report: Reporter, battery: Battery | None) -> Need | None:
    """A need of the average current, or of the life that follows from it."""
    path: Path = ("need", name)
    if table.current is not None:
        if table.current.per_clock or table.current.least != table.current.most:
            report.complain((*path, "current"), "is one current, at most", 'write for instance current = "40 uA"')
        return CurrentNeed(name, table.current.most)
    assert table.lasts is not None
    if battery is None:
        report.complain((*path, "lasts"), "there is no battery", 'add [battery] capacity = "220 mAh"')
        return None
    if battery.allows(table.lasts) < 0:
        report.complain((*path, "lasts"), "the battery empties itself sooner", "look at its self_discharge")
    return LifeNeed(name, battery.allows(table.lasts), battery)


def make_watchdog(table: WatchdogTable, clocks: ClockTree) -> FeedNeed:
    """The need that a watchdog makes, its times at the unfavourable end of the tolerance."""
    least, _, _ = clocks.exact(table.timeout, ("watchdog", "timeout"))
    off = table.tolerance or Fraction(0)
    not_before = 0
    if table.not_before is not None:
        most = clocks.exact(table.not_before, ("watchdog", "not_before"))[2]
        not_before = -floor_ps(-most / (1 - off))
    timeout = floor_ps(least / (1 + off))
    return FeedNeed("watchdog", Watchdog(Event.written(table.fed_by), timeout, not_before))


def make_probe(name: str, table: ProbeTable, clocks: ClockTree, report: Reporter) -> Probe:
    """The probe of one table."""
    path: Path = ("probe", name)
    if (table.shows is None) == (table.codes is None):
        report.complain(path, "a probe shows one thing, or says who runs by codes", 'write shows = "isr.NAME"')
    codes = []
    for code, thing in (table.codes or {}).items():
        if not code.isdecimal() or len(code) > 20 or int(code) >= 2**64:
            report.complain((*path, "codes"), f'"{code}" is no bus value', "write codes = { 1 = … }")
        else:
            codes.append((int(code), thing))
    if table.codes is not None:
        _judge_bus(path, table, codes, report)
    elif table.lines is not None:
        report.complain(
            (*path, "lines"), "these lines make up a bus, whose value says who runs", "write codes = { 1 = … }"
        )
    shows = (table.shows,) if isinstance(table.shows, str) else tuple(table.shows or ())
    bodies = [thing.startswith(("isr.", "step.", "unit.", "pin.")) and thing.count(".") == 1 for thing in shows]
    meter = _meter(path, shows, table, report)
    if shows not in ((IDLE,), (CURRENT,)):
        _judge_shows(path, shows, bodies, table, report)
    if table.before_end is not None and (not all(bodies) or table.edge is not None):
        report.complain((*path, "before_end"), "goes with a busy level only", "remove it")
    return Probe(
        signal=name,
        shows=tuple(Event.written(thing) if table.edge else thing for thing in shows),
        edge=table.edge,
        after=clocks.cost(table.after, (*path, "after")).least,
        before_end=clocks.cost(table.before_end, (*path, "before_end")).least,
        codes=tuple(sorted(codes)),
        lines=tuple(table.lines or ()),
        active_low=table.active == "low",
        shortest=clocks.cost(table.shortest, (*path, "shortest")).least,
        also=tuple(table.also),
        meter=meter,
    )


def _judge_bus(path: Path, table: ProbeTable, codes: list[tuple[int, str]], report: Reporter) -> None:
    """What goes with a bus, and the lines that make it up."""
    if table.edge is not None:
        report.complain((*path, "edge"), "a bus has no edges: its value says who runs", "remove it")
    if table.active == "low":
        report.complain((*path, "active"), "a bus has values, not a level", "write codes as its lines show them")
    if table.lines is None:
        return
    count = len(table.lines)
    if not 2 <= count <= MOST_BUS_LINES or len(set(table.lines)) < count:
        wrong = f"a bus has 2 to {MOST_BUS_LINES} lines, each of them once"
        report.complain((*path, "lines"), wrong, 'write for instance lines = ["D4", "D5"]')
        return
    if table.also:
        report.complain((*path, "also"), "goes with one line", "remove it")
    for code, _ in codes:
        if code >> count:
            report.complain((*path, "codes"), f"{count} lines show no {code}", f"they show 0 to {2**count - 1}")


def _meter(path: Path, shows: tuple[str, ...], table: ProbeTable, report: Reporter) -> Meter | None:
    """What measures the supply current."""
    if shows != (CURRENT,):
        for key in ("scale", "zero", "tolerance"):
            if getattr(table, key) is not None:
                report.complain((*path, key), 'goes with shows = "current"', "remove it")
        return None
    if table.active == "low":
        report.complain((*path, "active"), 'does not go with shows = "current"', "remove it")
    for key in ("edge", "shortest", "after", "before_end"):
        if getattr(table, key) is not None:
            report.complain((*path, key), 'does not go with shows = "current"', "remove it")
    if table.scale is None or not table.scale:
        report.complain((*path, "scale"), "says what a 1 in that column is", 'write for instance scale = "1 mA"')
        return None
    if table.zero is None:
        report.complain(
            (*path, "zero"), "says how far off a 0 may be: else nothing is known of a sleeping core",
            'write what its data sheet calls offset, for instance zero = "0.5 uA"',
        )  # fmt: skip
    known_to = USUAL_TOLERANCE if table.tolerance is None else table.tolerance
    return Meter(table.scale, table.zero or Fraction(0), known_to)


def _judge_shows(path: Path, shows: tuple[str, ...], bodies: list[bool], table: ProbeTable, report: Reporter) -> None:
    for thing, is_body in zip(shows, bodies, strict=True):
        if not is_body and table.edge is None and "." in thing:  # a bare name is told as a name of nothing
            report.complain(
                path, f'"{thing}" happens at an instant, which a level cannot show',
                'add edge = "rise", "fall", "both", "toggle" or "pulse"',
            )  # fmt: skip
    if len(shows) > 1 and not all(thing.startswith("isr.") and thing.count(".") == 1 for thing in shows):
        report.complain((*path, "shows"), "only routines can share a line", 'write shows = ["isr.A", "isr.B"]')
    if len(shows) > 1 and table.edge is not None:
        report.complain((*path, "edge"), "a line that routines share is a busy level", "remove it")
