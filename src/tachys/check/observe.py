"""From signals to what the model speaks of: the probes say which edge is which event, which level which body."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from tachys.capture.edges import edges, pulses
from tachys.capture.table import Capture, Instants
from tachys.errors import InputError, Place, Problem, did_you_mean
from tachys.model.system import Probe, System


@dataclass(frozen=True, slots=True)
class Bodies:
    """Runs of a routine or step that began in the capture: start[k] to end[k] ps; the last may still run at its end."""

    start: Instants
    end: Instants


@dataclass(slots=True)
class Observed:
    """All that a capture shows of a system."""

    instants: dict[str, Instants] = field(default_factory=dict)
    bodies: dict[str, Bodies] = field(default_factory=dict)


def observe(system: System, capture: Capture) -> Observed:
    """Read every probe of the model out of the capture.

    Raises:
        InputError: a probe names a signal that the capture lacks; the signals it has are listed.
    """
    problems, shown = [], Observed()
    for probe in system.probes:
        if probe.signal not in capture.signals:
            place = system.places.get(f"probe.{probe.signal}", Place(capture.file))
            wrong = f'{capture.file} has no signal "{probe.signal}"'
            mend = did_you_mean(probe.signal, list(capture.signals), "signal")
            problems.append(Problem(place, f"probe.{probe.signal}", wrong, mend))
        else:
            _observe_one(probe, capture, shown)
    if problems:
        raise InputError(problems)
    return shown


def _observe_one(probe: Probe, capture: Capture, shown: Observed) -> None:
    signal = capture.signals[probe.signal]
    if probe.edge is not None:
        event = probe.shows if probe.shows.count(".") != 1 or probe.shows.startswith("source.") else None
        shown.instants[event or f"{probe.shows}.start"] = edges(signal, probe.edge) - probe.after
        return
    seen = pulses(signal)
    start, end = seen.begin - probe.after, seen.end + probe.before_end
    shown.bodies[probe.shows] = Bodies(start, end)
    begun = start if seen.open_end is None else _appended(start, seen.open_end - probe.after)
    shown.instants[f"{probe.shows}.start"] = begun
    shown.instants[f"{probe.shows}.end"] = end


def _appended(instants: Instants, last: int) -> Instants:
    return np.append(instants, np.int64(last))
