"""A bus whose value says who is running: from its values to first and last instructions of each.

The value changes when a routine is put aside and again when it goes on, so a body is put together from its pieces: what
is replaced by something more urgent waits below it, and goes on when its value comes back.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from tachys.capture.table import Capture, Instants, Known, Signal, unsigned
from tachys.checking.probes.lines import Bodies
from tachys.model.events import Thing
from tachys.model.nodes import Isr, Probe, Step
from tachys.model.system import System

BACKGROUND = 1 << 30
_AHEAD = 64  # values, behind which one that is put aside is looked for


def joined(name: str, lines: Sequence[Signal]) -> Signal:
    """Single lines as one bus, the lowest bit first; not known while one of them is not."""
    at = np.unique(np.concatenate([line.at for line in lines]))
    value, known = np.zeros(len(at), np.int64), np.ones(len(at), np.bool_)
    for number, line in enumerate(lines):
        place = np.searchsorted(line.at, at, side="right") - 1
        told = place >= 0
        value |= np.where(told, (line.value[place] & 1).astype(np.int64), 0) << number
        known &= told & line.known[place]
    return Signal(name, len(lines), at, np.where(known, value, -1), known).without_repeats()


def urgency_of(system: System, thing: Thing) -> int:
    """The level of a routine; everything else lies below all of them."""
    kind, name = thing.kind, thing.name
    if kind == "line":  # what the model does not know of: nothing is above it
        return -1
    return system.isr(name).urgency if kind == "isr" else BACKGROUND


def settled(system: System, probe: Probe, signal: Signal, capture: Capture) -> tuple[Signal, int]:
    """(the bus without values that are none, how many these were); what follows one begins as it did.

    That is what lasts less than ``shortest`` of its probe. Without that: what shows for one sample as the lines do not
    all change at once, where nobody can have written it.
    """
    shortest = probe.shortest or (1 if capture.told else capture.resolution) + 1
    length = np.diff(signal.at, append=capture.end)
    brief = length < shortest
    if not brief.any():
        return signal, 0
    bus, at = _Bus(system, probe, signal, length, brief), signal.at.tolist()
    kept, begun, since = list[int](), list[int](), None
    for place, now in enumerate(at):
        if kept and brief[place] and (probe.shortest or bus.is_mixture(place, kept[-1])):
            since = now if since is None else since
            continue
        kept.append(place)
        begun.append(now if since is None else since)
        since = None
        _follow(bus.stack, bus.values[place], bus.urgency)
    if len(kept) == len(at):
        return signal, 0
    part = np.array(kept)
    found = replace(signal, at=np.array(begun, np.int64), value=signal.value[part], known=signal.known[part])
    return found.without_repeats(), len(at) - len(kept)


class _Bus:
    """The values of a bus and what they name; ``stack``: who runs, last, and who is put aside."""

    def __init__(self, system: System, probe: Probe, signal: Signal, length: Instants, brief: Known) -> None:
        self.values, self.stack = _values(signal), list[int]()
        self._length, self._brief = length, brief
        self.urgency = {code: urgency_of(system, Thing(shown)) for code, shown in probe.codes}
        bodies = {code: system.nodes[Thing(shown)] for code, shown in probe.codes}
        self._least = {code: body.cost.least for code, body in bodies.items() if isinstance(body, Isr | Step)}

    def is_mixture(self, place: int, kept: int) -> bool:
        """Whether each bit of a value is as before it (``kept``) or as behind it, and nobody can have written it.

        What it names would have to last longer, or to go on behind what interrupts it; or, where it names nothing, what
        ran before it does so, or what was put aside goes on, and so has not ended.
        """
        if place + 1 == len(self.values):
            return False
        before, now, behind = self.values[kept], self.values[place], self.values[place + 1]
        if now is None or behind is None or before is None or (now ^ before) & ~(before ^ behind):
            return False
        if now not in self.urgency:
            return behind in self.stack or self._goes_on(place + 1, before)
        if now in self.stack or self._goes_on(place + 1, now):
            return False
        interrupted = self.urgency.get(behind, BACKGROUND) < self.urgency[now]
        return interrupted or 2 * int(self._length[place]) < self._least.get(now, 0)

    def _goes_on(self, place: int, code: int) -> bool:
        """Whether from a place on comes what is more urgent, and behind that the code."""
        level = self.urgency.get(code, -1)
        for later in range(place, min(len(self.values), place + _AHEAD)):
            value = self.values[later]
            if value == code:
                return later > place
            if not self._brief[later] and self.urgency.get(value or 0, BACKGROUND) >= level:
                return False
        return False


def _values(signal: Signal) -> list[int | None]:
    """Its values, None where it is not known."""
    pairs = zip(signal.value.tolist(), signal.known.tolist(), strict=True)
    return [unsigned(value) if known else None for value, known in pairs]


def codes_to_bodies(system: System, probe: Probe, signal: Signal, capture: Capture) -> dict[Thing, Bodies]:
    """The bodies of every thing that the bus names."""
    things = {code: Thing(shown) for code, shown in probe.codes}
    urgency = {code: urgency_of(system, thing) for code, thing in things.items()}
    runs: dict[int, list[tuple[int, int]]] = {code: [] for code in things}
    stack, begun = list[int](), dict[int, int]()  # who runs last, those that are put aside before it
    for at, value in zip(signal.at.tolist(), _values(signal), strict=True):
        before = len(stack)
        for code in _follow(stack, value, urgency):
            runs[code].append((begun[code], at))
            before -= 1
        if len(stack) > before:
            begun[stack[-1]] = at
    for code in stack:
        runs[code].append((begun[code], capture.end))
    found = {}
    for code, thing in things.items():
        spans = np.array(sorted(runs[code]), np.int64).reshape(-1, 2)
        first = bool(len(spans)) and int(spans[0, 0]) <= capture.begin
        found[thing] = Bodies(spans[:, 0], spans[:, 1], cut_begin=first, cut_end=code in stack)
    return found


def _follow(stack: list[int], value: int | None, urgency: dict[int, int]) -> list[int]:
    """Who ends as the bus takes a value, which the ``stack`` then has; what is only put aside goes on."""
    ended = []
    while stack and value != stack[-1]:
        if value in urgency and value not in stack and urgency[value] < urgency[stack[-1]]:
            break
        ended.append(stack.pop())
    if value in urgency and value not in stack:
        stack.append(value)
    return ended
