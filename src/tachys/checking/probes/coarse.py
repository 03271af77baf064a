"""Lines that are sampled too slowly for what they show: what may lie between two samples is no evidence of anything.

A stretch that lasts longer than the step of the samples is seen; a shorter one may vanish, and events with it. A line
that may hide something so, by what the model allows or by what is seen, is taken for none, and that is said. Runs that
may flow together are another matter: see ``board.measuring``.
"""

from __future__ import annotations

import numpy as np

from tachys.capture.table import Capture
from tachys.checking.probes.lines import LineReading
from tachys.checking.probes.readings import Readings
from tachys.model.events import Thing
from tachys.model.nodes import Probe
from tachys.model.quantities import Range
from tachys.model.system import System
from tachys.words import time_text
from tachys.worstcase.arrivals import source_curve
from tachys.worstcase.rounds import own_least

FINEST = 1000  # ps: what is known to less was not sampled
FEW = 2  # samples: where all that is seen is longer, none is taken to be much shorter


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
        body, cut = _body(system, thing), probe.after + probe.before_end
        if body is None or body.least - cut > step or min(body.most, _shortest_body(shown, thing)) - cut > FEW * step:
            return ""
        return f"it may be high for {time_text(max(0, body.least - cut))} only"
    apart = source_curve(system.source(thing.name)).least_span(2) if thing.kind == "source" else 0
    both = probe.edge in ("both", "toggle")
    if apart and apart <= (step if both else 2 * step):
        return f"its events may be {time_text(apart)} apart"
    if (both and apart) or _shortest(line) > step or _is_even(system, shown, thing, step):
        return ""
    return "it moves at neighbouring samples"


def _is_even(system: System, shown: Readings, thing: Thing, step: int) -> bool:
    """Whether the events of a periodic source come as evenly as samples can show, so that none is missing."""
    source = system.source(thing.name) if thing.kind == "source" else None
    if source is None or source.steady is None or len(shown.instants[source.event]) < 3:
        return False
    apart = np.diff(shown.instants[source.event])
    return int(apart.max() - apart.min()) <= 2 * (source.jitter + 2 * step) < int(apart.min())


def _body(system: System, thing: Thing) -> Range | None:
    """How long a routine, step or unit lasts by itself, in ps; None where nothing says so."""
    if thing.kind == "isr":
        return system.isr(thing.name).cost + system.isr(thing.name).pause
    if thing.kind == "step":
        return Range(own_least(system.step(thing.name)), max(system.step(thing.name).cost.most, 1))
    unit = system.unit(thing.name) if thing.kind == "unit" else None
    return None if unit is None or unit.counts is not None else unit.takes


def _shortest_body(shown: Readings, thing: Thing) -> int:
    """The shortest whole body that is seen, in ps; 0 where none is."""
    bodies = shown.bodies.get(thing) or next((each for group, each in shown.shared if thing in group), None)
    whole = np.zeros(0, np.int64) if bodies is None else (bodies.end - bodies.start)[bodies.whole]
    return int(whole.min()) if len(whole) else 0


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
    for event in [event for event in shown.instants if event.thing == thing]:
        del shown.instants[event]
    shown.shared = [(group, bodies) for group, bodies in shown.shared if thing not in group]
    shown.from_pins.discard(thing)
