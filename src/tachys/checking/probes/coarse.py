"""Lines that are sampled too slowly for what they show: what may lie between two samples is no evidence of anything.

A stretch that lasts longer than the step of the samples is seen; a shorter one may vanish, and events with it. A line
that may hide something so, by what the model allows or by what is seen, is taken for none, and that is said. Runs that
may flow together are another matter: see ``board.measuring``.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from tachys.capture.table import Capture
from tachys.checking.probes.lines import LineReading
from tachys.checking.probes.readings import Readings
from tachys.model.events import Event, Thing
from tachys.model.nodes import Probe
from tachys.model.system import System
from tachys.words import time_text
from tachys.worstcase.arrivals import source_curve
from tachys.worstcase.rounds import own_least

FINEST = 1000  # ps: what is known to less was not sampled


def leave_out_coarse(system: System, capture: Capture, shown: Readings) -> None:
    """Take away what comes from lines that may hide something, with a remark for each."""
    step = capture.resolution
    if step <= FINEST or capture.told:
        return
    probes = {probe.signal: probe for probe in system.probes}
    for signal, things in _by_signal(shown).items():
        why = next((each for thing in things if (each := _hides(system, shown, signal, thing, probes, step))), "")
        if not why:
            continue
        for thing in things:
            _forget(shown, thing)
        shown.coarse += things
        names = ", ".join(things)
        shown.remarks.append(f"{signal}: {why}, and a sample comes each {time_text(step)}: {names} is left out")
    for pin in [pin for pin in shown.pins if _shortest(shown.pins[pin]) <= step]:
        del shown.pins[pin]
        shown.remarks.append(f"pin.{pin} is sampled too slowly for what it shows: left out")


def _by_signal(shown: Readings) -> dict[str, list[Thing]]:
    """What each signal shows."""
    found: dict[str, list[Thing]] = {}
    for thing, signals in shown.through.items():
        for signal in signals:
            found.setdefault(signal, []).append(thing)
    return found


def _hides(
    system: System, shown: Readings, signal: str, thing: Thing, probes: dict[str, Probe], step: int
) -> str:  # fmt: skip
    """Why a line may hide something of a thing; empty where it does not."""
    probe = probes.get(signal, Probe(signal, ()))
    line = shown.edges.get(signal)
    if line is None:
        least = _least_body(system, thing)
        least = None if least is None else least - probe.after - probe.before_end
        return f"it may be high for {time_text(max(0, least))} only" if least is not None and least <= step else ""
    apart = source_curve(system.source(thing.name)).least_span(2) if thing.kind == "source" else 0
    both = probe.edge in ("both", "toggle")
    if apart and apart <= (step if both else 2 * step):
        return f"its events may be {time_text(apart)} apart"
    return "it moves at neighbouring samples" if not (both and apart) and _shortest(line) <= step else ""


def _least_body(system: System, thing: Thing) -> int | None:
    """The least time in ps that a routine, step or unit lasts; None where nothing says so."""
    if thing.kind == "isr":
        return system.isr(thing.name).shortest
    if thing.kind == "step":
        return own_least(system.step(thing.name))
    unit = system.unit(thing.name) if thing.kind == "unit" else None
    return None if unit is None or unit.counts is not None else unit.takes.least


def _shortest(line: LineReading) -> int:
    """The shortest whole stretch of a line, in ps; that of one that hardly moves is longer than any step."""
    known = (line.level[:-1] >= 0) & (line.level[1:] >= 0)
    inner = np.diff(line.at)[1:] if len(line.at) > 2 else np.zeros(0, np.int64)
    whole = inner[known[1 : 1 + len(inner)]] if len(inner) else inner
    return int(whole.min()) if len(whole) else 1 << 62


def _forget(shown: Readings, thing: Thing) -> None:
    """There is no line of it."""
    shown.bodies.pop(thing, None)
    shown.through.pop(thing, None)
    for event in _events(shown, thing):
        del shown.instants[event]
    shown.shared = [(group, bodies) for group, bodies in shown.shared if thing not in group]
    shown.from_pins.discard(thing)


def _events(shown: Readings, thing: Thing) -> Iterator[Event]:
    yield from [event for event in shown.instants if event.thing == thing]
