"""A bus whose value says who is running: from its values to first and last instructions of each.

The value changes when a routine is put aside and again when it goes on, so a body is put together from its pieces: what
is replaced by something more urgent waits below it, and goes on when its value comes back.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from tachys.capture.table import Capture, Signal, unsigned
from tachys.checking.probes.lines import Bodies
from tachys.model.events import Thing
from tachys.model.nodes import Probe
from tachys.model.system import System

BACKGROUND = 1 << 30


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


def settled(signal: Signal, within: int, *, mixed: bool) -> tuple[Signal, int]:
    """(the bus without values that last no longer than ``within`` ps, how many these are), the next begins sooner.

    ``mixed``: only those between two others of which each bit is as before or as behind: its lines do not all change at
    once.
    """
    short = np.append(np.diff(signal.at) <= within, False)
    if not (short & signal.known).any():
        return signal, 0
    at, value, known = signal.at.tolist(), signal.value.tolist(), signal.known.tolist()
    kept, left_out, begun = list[int](), 0, list[int]()
    since: int | None = None
    for place in range(len(at)):
        before = value[kept[-1]] if kept and known[kept[-1]] else None
        if short[place] and known[place] and before is not None and known[place + 1]:
            changes = before ^ value[place + 1]
            if value[place] != value[place + 1] and (not mixed or not (value[place] ^ before) & ~changes):
                since = at[place] if since is None else since
                left_out += 1
                continue
        kept.append(place)
        begun.append(at[place] if since is None else since)
        since = None
    part = np.array(kept)
    found = replace(signal, at=np.array(begun, np.int64), value=signal.value[part], known=signal.known[part])
    return found.without_repeats(), left_out


def urgency_of(system: System, thing: Thing) -> int:
    """The level of a routine; everything else lies below all of them."""
    kind, name = thing.kind, thing.name
    if kind == "line":  # what the model does not know of: nothing is above it
        return -1
    return system.isr(name).urgency if kind == "isr" else BACKGROUND


def codes_to_bodies(system: System, probe: Probe, signal: Signal, capture: Capture) -> dict[Thing, Bodies]:
    """The bodies of every thing that the bus names."""
    things = {code: Thing(shown) for code, shown in probe.codes}
    urgency = {code: urgency_of(system, thing) for code, thing in things.items()}
    runs: dict[int, list[tuple[int, int]]] = {code: [] for code in things}
    stack: list[tuple[int, int]] = []  # (code, when it began), the running one last
    for place, at in enumerate(signal.at.tolist()):
        value = unsigned(int(signal.value[place])) if signal.known[place] else None
        while stack and not _goes_on(stack, value, urgency):
            code, begun = stack.pop()
            runs[code].append((begun, at))
        if value in things and not any(code == value for code, _ in stack):
            stack.append((value, at))
    cut = {code for code, _ in stack}
    for code, begun in stack:
        runs[code].append((begun, capture.end))
    found = {}
    for code, thing in things.items():
        spans = np.array(sorted(runs[code]), np.int64).reshape(-1, 2)
        first = bool(len(spans)) and int(spans[0, 0]) <= capture.begin
        found[thing] = Bodies(spans[:, 0], spans[:, 1], cut_begin=first, cut_end=code in cut)
    return found


def _goes_on(stack: list[tuple[int, int]], value: int | None, urgency: dict[int, int]) -> bool:
    """Whether what is on top of the stack is only put aside, or runs, as the bus takes a value."""
    top = stack[-1][0]
    if value == top:
        return True
    if value not in urgency or any(code == value for code, _ in stack):
        return False
    return urgency[value] < urgency[top]
