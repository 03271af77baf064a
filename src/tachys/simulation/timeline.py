"""A simulated timeline as a capture: signals for the probes of the model, or one for every thing in it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.writing import identifier
from tachys.model.events import Event, instant_of
from tachys.model.nodes import CURRENT, IDLE, Pin, Probe
from tachys.model.system import System
from tachys.simulation.lanes import Lanes
from tachys.simulation.memory import PULSE

Change = tuple[int, int]  # instant in ps, level
_NOT_ITS_OWN = ("aside", "waits", "enters", "leaves")  # states of a thing in which it gets on no further


class TraceSignal(Struct, frozen=True):
    """One line of the timeline: its level at the beginning and every change after it."""

    name: str
    first: int
    changes: tuple[Change, ...]


def signals(system: System, lanes: Lanes, *, probes: bool) -> list[TraceSignal]:
    """The lines of a timeline: what the probes of the model would show, or every thing by its own name."""
    if probes:
        buses = [line for probe in system.probes if probe.lines for line in _bus_lines(probe, lanes)]
        return buses + [
            _probed(system, probe, lanes)
            for probe in system.probes
            if not probe.codes and probe.shows not in ((IDLE,), (CURRENT,))
        ]
    whole = [isr.thing for isr in system.isrs] + [step.thing for step in system.steps]
    whole += [unit.thing for unit in system.units]
    found = [_level(s.event, _pulses(lanes, s.event), lanes.begin) for s in system.sources]
    found += [_level(name, _body(lanes, name), lanes.begin) for name in [*whole, *_flags(system)]]
    return found + [pin_signal(pin, lanes) for pin in system.pins]


def _bus_lines(probe: Probe, lanes: Lanes) -> Iterator[TraceSignal]:
    """The lines of a bus: each body writes its code as it begins, and as it ends what was there before."""
    edges = [
        edge
        for code, thing in probe.codes
        for begin, end in _body(lanes, thing, probe.after, probe.before_end)
        for edge in ((end, 0, code), (begin, 1, code))
    ]
    running, values = [0], list[Change]()
    for at, begins, code in sorted(edges):
        if begins:
            running.append(code)
        elif code in running:
            del running[len(running) - 1 - running[::-1].index(code)]
        if begins and values and values[-1][0] == at:  # bodies that touch are told apart by one ps
            values[-1] = (at - 1, values[-1][1])
        values.append((at, running[-1]))
    for number, line in enumerate(probe.lines):
        yield _of_levels(line, {at: value >> number & 1 for at, value in values}, lanes.begin)


def _flags(system: System) -> list[str]:
    return [f"flag.{flag}" for flag in system.graph.flags if system.graph.sets_of(flag)]


def _body(lanes: Lanes, who: str, after: int = 0, before_end: int = 0) -> list[tuple[int, int]]:
    """From first to last instruction of a thing, put aside or not, as a pin that is written in it shows it.

    It is written ``after`` so much of its own time, and ``before_end``: while it is put aside nothing of that goes by.
    """
    spans = lanes.bodies.get(who, [])
    if not after and not before_end:
        return [(begin, end) for begin, end in spans if end > begin]
    own = [(each.begin, each.end) for each in lanes.of(who) if each.state not in _NOT_ITS_OWN]
    back = [(-end, -begin) for begin, end in reversed(own)]
    rises = _written([begin for begin, _ in spans], own, after, lanes.begin)
    falls = _written([-end for _, end in reversed(spans)], back, before_end, -lanes.end)
    written = zip(rises, (-each for each in reversed(falls)), strict=True)
    return [(rise, fall) for rise, fall in written if fall > rise]


def _written(begins: list[int], own: list[tuple[int, int]], after: int, since: int) -> list[int]:
    """When bodies that begin so, in order of time, have spent so much of their ``own`` time, known ``since`` then."""
    if not after:
        return begins
    found, place = list[int](), 0
    for begin in begins:
        now, left = begin, after
        while place < len(own) and own[place][1] <= begin:
            place += 1
        for number in range(place, len(own)) if begin >= since else ():
            now = max(own[number][0], begin)
            if left <= own[number][1] - now:
                break
            left -= own[number][1] - now
            now = own[number][1]
        found.append(now + left)
    return found


def _pulses(lanes: Lanes, event: Event) -> list[tuple[int, int]]:
    return _spans(event_instants(lanes, event))


def event_instants(lanes: Lanes, event: Event) -> list[int]:
    """When an event happens in the lanes."""
    if event.kind == "buffer":
        return lanes.lost.get(event.thing, [])
    if event.moment not in ("start", "end"):
        return lanes.marks.get(event, [])
    instants = [begin if event.moment == "start" else end for begin, end in lanes.bodies.get(event.thing, [])]
    return [instant for instant in instants if lanes.begin <= instant <= lanes.end]


def _level(name: str, spans: list[tuple[int, int]], begin: int) -> TraceSignal:
    """A line that is high in each span; spans that touch are told apart by a fall of one ps."""
    first = 0
    changes: list[Change] = []
    for start, end in spans:
        if start <= begin:
            first = 1
        else:
            if changes and changes[-1][0] >= start:
                changes[-1] = (start - 1, 0)
            changes.append((start, 1))
        changes.append((end, 0))
    return TraceSignal(name, first, tuple(changes))


def _probed(system: System, probe: Probe, lanes: Lanes) -> TraceSignal:
    shown = _probed_high(system, probe, lanes)
    if not probe.active_low:
        return shown
    return TraceSignal(probe.signal, 1 - shown.first, tuple((time, 1 - level) for time, level in shown.changes))


def pin_signal(pin: Pin, lanes: Lanes) -> TraceSignal:
    """The level of a pin: of the writes of one instant the last counts, and only another level is an edge."""
    rest = pin.first or 0
    goals = {time: rest ^ level if pin.pulses else level for time, level in lanes.pins.get(pin.thing, ())}
    return _of_levels(pin.thing, goals, lanes.begin, rest)


def _of_levels(name: str, levels: dict[int, int], begin: int, first: int = 0) -> TraceSignal:
    """A line that takes these levels, by the instant."""
    changes = list[Change]()
    for time, level in sorted(levels.items()):
        if time <= begin:
            first = level
        elif level != (changes[-1][1] if changes else first):
            changes.append((time, level))
    return TraceSignal(name, first, tuple(changes))


def _probed_high(system: System, probe: Probe, lanes: Lanes) -> TraceSignal:
    if Event(probe.shows[0]).kind == "pin":
        return replace(pin_signal(system.pin(Event(probe.shows[0]).name), lanes), name=probe.signal)
    if probe.edge is None:
        spans = sorted(span for who in probe.shows for span in _body(lanes, who, probe.after, probe.before_end))
        return _level(probe.signal, spans, lanes.begin)
    (event,) = probe.shows
    times = [time + probe.after for time in event_instants(lanes, instant_of(event))]
    if probe.edge in ("both", "toggle"):
        return TraceSignal(probe.signal, 0, tuple((time, (number + 1) % 2) for number, time in enumerate(times)))
    shown = _level(probe.signal, _spans(times), lanes.begin)
    if probe.edge != "fall":
        return shown
    return TraceSignal(probe.signal, 1 - shown.first, tuple((time, 1 - level) for time, level in shown.changes))


def _spans(times: list[int]) -> list[tuple[int, int]]:
    """A short pulse at each instant."""
    ends = [*times[1:], times[-1] + 2 * PULSE] if times else []
    return [(time, time + max(1, min(PULSE, (later - time) // 2))) for time, later in zip(times, ends, strict=True)]


def _merged(found: list[TraceSignal]) -> Iterator[tuple[int, int, int]]:
    """(instant, number of the signal, level) of every change, in order of time."""
    yield from sorted((time, number, level) for number, s in enumerate(found) for time, level in s.changes)


def to_vcd(found: list[TraceSignal], begin: int, end: int) -> str:
    """The timeline as value changes of IEEE 1364, in picoseconds."""
    marks = [identifier(number) for number in range(len(found))]
    lines = ["$version Tachys simulation $end", "$timescale 1 ps $end", "$scope module timeline $end"]
    lines += [f"$var wire 1 {mark} {s.name.replace(' ', '_')} $end" for mark, s in zip(marks, found, strict=True)]
    lines += ["$upscope $end", "$enddefinitions $end", f"#{begin}", "$dumpvars"]
    lines += [f"{s.first}{mark}" for mark, s in zip(marks, found, strict=True)]
    lines.append("$end")
    last = begin
    for time, number, level in _merged(found):
        if time > end:
            break
        if time != last:
            lines.append(f"#{time}")
            last = time
        lines.append(f"{level}{marks[number]}")
    if last != end:
        lines.append(f"#{end}")
    return "\n".join(lines) + "\n"


def to_csv(found: list[TraceSignal], begin: int, end: int) -> str:
    """The timeline as a time column in ns and a column a signal; a row a change."""
    levels = [s.first for s in found]
    lines = [",".join(["Time [ns]", *(s.name for s in found)]), _row(begin, levels)]
    last = begin
    for time, number, level in _merged(found):
        if time > end:
            break
        levels[number] = level
        if time == last:
            lines.pop()
        lines.append(_row(time, levels))
        last = time
    if last != end:
        lines.append(_row(end, levels))
    return "\n".join(lines) + "\n"


def _row(time: int, levels: list[int]) -> str:
    return f"{time // 1000}.{time % 1000:03d}," + ",".join(map(str, levels))
