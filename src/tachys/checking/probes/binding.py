"""From signals to what the model speaks of: the probes say which edge is which event, which level which body.

A signal without a probe is taken for the thing whose name it has. What the model has and nothing shows, and what moves
and the model does not name, is said.
"""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace

from tachys.capture.packets import EXCEPTION
from tachys.capture.table import Capture, Signal
from tachys.checking.probes.buscodes import codes_to_bodies, joined, settled
from tachys.checking.probes.coarse import leave_out_coarse
from tachys.checking.probes.lines import Bodies, LineReading, edges_of, line_of, stretches
from tachys.checking.probes.readings import Readings, things_of
from tachys.errors import InputError, Place, Problem, did_you_mean
from tachys.model.events import Event, Thing, instant_of
from tachys.model.nodes import IDLE, Probe
from tachys.model.system import System
from tachys.stretches import place_of
from tachys.words import count_text

NUMBERS = ("buffer", "counter")  # what marks give as values: nothing that runs


def things_by_name(system: System) -> dict[str, list[Thing]]:
    """What a signal of each name may stand for without a probe: the thing of that name, short or whole."""
    found: dict[str, list[Thing]] = {}
    for thing in things_of(system):
        found[thing] = [thing]
        found.setdefault(thing.name, []).append(thing)
    return found


def called_as(system: System, capture: Capture, elsewhere: frozenset[str] = frozenset()) -> tuple[System, Capture]:
    """(the model without probes of what only another capture shows, the capture with its signals as probes call them).

    Of a capture of the same board that was not made with these lines, as marks and packets are, none of the probes
    counts. Trace packets call a routine by its exception.

    ``elsewhere``: the signals of other captures of the same board.
    """
    names = dict.fromkeys(capture.signals, "")
    for probe in system.probes:
        other = next((name for name in probe.also if name in names), None)
        if probe.signal not in names and other is not None:
            names[other] = probe.signal
    for isr in system.isrs:
        if isr.exception is not None and f"{EXCEPTION}{isr.exception}" in names:
            names[f"{EXCEPTION}{isr.exception}"] = isr.thing
    if any(names.values()):
        signals = {new or name: capture.signals[name] for name, new in names.items()}
        signals = {name: replace(each, name=name) for name, each in signals.items()}
        capture = replace(capture, signals=signals)
    capture = _with_buses(system, capture)
    missing = {each.signal for each in system.probes if each.signal not in capture.signals}
    if missing and len(missing) == len(system.probes) and capture.signals.keys() & set(things_of(system)):
        told = "it has none of the lines that the probes name: what each of its own is called says what it shows"
        return replace(system, probes=()), replace(capture, remarks=(*capture.remarks, told))
    passed = {each.signal for each in system.probes if elsewhere.intersection((each.signal, *each.also))} & missing
    if passed:
        system = replace(system, probes=tuple(each for each in system.probes if each.signal not in passed))
    return system, capture


def _with_buses(system: System, capture: Capture) -> Capture:
    """The capture with the buses that its lines make up, in place of these lines."""
    buses = [each for each in system.probes if each.lines and all(line in capture.signals for line in each.lines)]
    levels = [each for each in buses if all(capture.signals[line].width == 1 for line in each.lines)]
    if not levels:
        return capture
    probed = {each.signal for each in system.probes}
    gone = {line for each in levels for line in each.lines} - probed
    made = {each.signal: joined(each.signal, [capture.signals[line] for line in each.lines]) for each in levels}
    return replace(capture, signals={n: each for n, each in capture.signals.items() if n not in gone} | made)


def bind(system: System, capture: Capture) -> Readings:
    """Read every probe of the model out of the capture.

    Raises:
        InputError: a probe names a signal that the capture lacks; the signals it has are listed.
    """
    problems, shown = list[Problem](), Readings()
    for probe in system.probes:
        place = system.places.get(f"probe.{probe.signal}", Place(capture.file))
        signal = capture.signals.get(probe.signal)
        if signal is not None and probe.meter is not None:
            shown.current = (signal, probe.meter)
            continue
        if signal is not None and signal.real:
            wrong = f"{capture.file}: this signal holds real numbers"
            problems.append(Problem(place, f"probe.{probe.signal}", wrong, "a line of levels or a bus is due"))
            continue
        if signal is not None:
            _bind_one(system, probe, capture, shown)
            continue
        for name in [line for line in probe.lines if line not in capture.signals] or [probe.signal]:
            wrong = f'{capture.file} has no signal "{name}"'
            mend = did_you_mean(name, list(capture.signals), "signal")
            problems.append(Problem(place, f"probe.{probe.signal}", wrong, mend))
    if problems:
        raise InputError(problems)
    _bind_by_name(system, capture, shown)
    _bind_pins(system, capture, shown)
    for thing in things_of(system):
        _pair_ends(shown, thing)
    leave_out_coarse(system, capture, shown)
    shown.edges.clear()  # they were needed for that
    shown.note_unseen(system)
    return shown


def _bind_one(system: System, probe: Probe, capture: Capture, shown: Readings) -> None:
    signal = capture.signals[probe.signal]
    if probe.codes:
        signal, left_out = settled(system, probe, signal, capture)
        if left_out:
            values = count_text(left_out, "value")
            shown.remarks.append(f"{signal.name}: {values} that came as its lines do not change at once, left out")
        for thing, bodies in codes_to_bodies(system, probe, signal, capture).items():
            _add_bodies(shown, thing, _moved(bodies, probe), signal.name)
        return
    line = line_of(signal, probe, capture)
    if line.glitches:
        shown.remarks.append(f"{signal.name}: {line.glitches} pulses that are too short were taken for glitches")
    if probe.shows == (IDLE,):
        shown.idle = stretches(line, capture)
    elif probe.shows and Event(probe.shows[0]).kind == "pin":
        shown.pins[Event(probe.shows[0]).name] = line
    elif probe.edge is not None:
        shown.edges[signal.name] = line
        for event in probe.shows:
            full = instant_of(event)
            shown.instants.setdefault(full, edges_of(line, probe.edge) - probe.after)
            shown.through.setdefault(full.thing, []).append(signal.name)
    elif len(probe.shows) > 1:
        things = tuple(map(Thing, probe.shows))
        shown.shared.append((things, _moved(stretches(line, capture), probe)))
        for thing in things:
            shown.through.setdefault(thing, []).append(signal.name)
    else:
        _add_bodies(shown, Thing(probe.shows[0]), _moved(stretches(line, capture), probe), signal.name)


def _bind_pins(system: System, capture: Capture, shown: Readings) -> None:
    """What only a pin shows: the body from one of its edges to the other, or the event that each is."""
    lines = [(pin.thing, pin.rise, pin.fall, shown.pins[pin.name]) for pin in system.pins if pin.name in shown.pins]
    whole = [
        rise is not None and fall is not None and {rise.moment, fall.moment} == {"start", "end"}
        for _, rise, fall, _ in lines
    ]
    for (name, rise, fall, line), both in sorted(zip(lines, whole, strict=True), key=lambda each: not each[1]):
        if both and rise is not None and fall is not None:
            if rise.thing not in shown.bodies and not {rise, fall} & shown.instants.keys():
                high = rise.moment == "start"
                active = line if high else LineReading(line.at, np.where(line.level < 0, line.level, 1 - line.level))
                shown.from_pins.add(rise.thing)
                _add_bodies(shown, rise.thing, stretches(active, capture), name)
            continue
        for event, edge in ((rise, "rise"), (fall, "fall")):
            if event is None or event in shown.instants:
                continue
            alone = event.thing not in shown.bodies  # else only what lies within it has no line so far
            if alone or event.moment not in ("start", "end"):
                shown.instants[event] = edges_of(line, edge)
                shown.from_pins.add(event.thing if alone else event)
            if alone:
                shown.through.setdefault(event.thing, []).append(name)


def _moved(bodies: Bodies, probe: Probe) -> Bodies:
    """Back from the pin to the first and last instruction; what the capture cuts keeps its cut."""
    if not probe.after and not probe.before_end:
        return bodies
    start, end = bodies.start - probe.after, bodies.end + probe.before_end
    if bodies.cut_begin:
        start[:1] = bodies.start[:1]
    if bodies.cut_end:
        end[-1:] = bodies.end[-1:]
    return replace(bodies, start=start, end=end)


def _add_bodies(shown: Readings, thing: Thing, bodies: Bodies, signal: str) -> None:
    through = shown.through.setdefault(thing, [])
    through.append(signal)
    known = shown.bodies.get(thing)
    if known is not None:
        if len(known.start) != len(bodies.start):
            shown.remarks.append(
                f"{' and '.join(through)} both show {thing} and disagree: {len(known.start)} runs, {len(bodies.start)}"
            )
        return
    shown.bodies[thing] = bodies
    shown.instants.setdefault(thing.start, bodies.begun)
    shown.instants.setdefault(thing.end, bodies.ended)


def _bind_by_name(system: System, capture: Capture, shown: Readings) -> None:
    """Signals without a probe that have the name of a thing or of an event; the others are foreign."""
    probed = {probe.signal for probe in system.probes}
    named, pins = things_by_name(system), {pin.thing: pin.name for pin in system.pins}
    for name, signal in capture.signals.items():
        if name in probed or signal.real or Event(name).kind in NUMBERS:
            continue
        if name in pins:
            shown.pins.setdefault(pins[Thing(name)], line_of(signal, Probe(name, ()), capture))
            continue
        meant = named.get(Event(name).thing, [])
        if len(meant) > 1:
            shown.remarks.append(f"{name} could be {' or '.join(meant)}: a probe would tell")
        if len(meant) != 1:
            if len(signal.at) > 1:
                shown.foreign[name] = stretches(line_of(signal, Probe(name, ()), capture), capture)
            continue
        _bind_named(signal, meant[0], name, capture, shown)


def _bind_named(signal: Signal, thing: Thing, name: str, capture: Capture, shown: Readings) -> None:
    line: LineReading = line_of(signal, Probe(name, (thing,)), capture)
    if thing.kind == "source" or name.count(".") == 2:
        shown.edges[name] = line
        shown.instants.setdefault(Event(name) if name.count(".") == 2 else Event(thing), edges_of(line, "rise"))
        shown.through.setdefault(thing, []).append(name)
    else:
        _add_bodies(shown, thing, stretches(line, capture), name)


def _pair_ends(shown: Readings, thing: Thing) -> None:
    """A thing of which start and end are seen as two events has bodies as well."""
    starts, ends = shown.instants.get(thing.start), shown.instants.get(thing.end)
    if thing in shown.bodies or thing.kind == "unit" or starts is None or ends is None:
        return
    place = place_of(ends, starts)
    following = np.append(starts[1:], np.iinfo(np.int64).max)
    known = place < len(ends)
    known[known] &= ends[place[known]] <= following[known]
    shown.bodies[thing] = Bodies(starts[known], ends[place[known]])
