"""From records to lanes: who did what from when to when, and how much of the core was taken."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.model.acts import ACTS
from tachys.simulation import layout as at
from tachys.simulation.engine import Records
from tachys.simulation.index import Index

State = Literal["waits", "enters", "runs", "aside", "leaves", "spins", "sleeps", "wakes", "works", "high", "set"]
_DOING: dict[int, State] = {at.HALTS: "sleeps", at.WAKES: "wakes"}


class Stretch(Struct, frozen=True):
    """``who`` is in ``state`` from ``begin`` to ``end`` ps."""

    who: str
    state: State
    begin: int
    end: int


class Held(Struct, frozen=True):
    """``who`` holds off lines of ``urgency`` and less urgent ones from ``begin`` to ``end`` ps."""

    who: str
    urgency: int
    begin: int
    end: int


class Lanes(Struct):
    """Everything that can be drawn of a part of a run.

    ``marks``: instants of sources, and of what lies within routines; ``bodies``: from start to end of each thing, also
    where it took no time; ``held``: where guards hold interrupts off, also while a more urgent routine runs meanwhile;
    ``levels``: (from when on, how many) of each buffer; ``pins``: (from when on, at which level) of each that was
    written, of one that has pulses 1 where it is away from its rest.
    """

    begin: int
    end: int
    stretches: list[Stretch] = field(default_factory=list)
    marks: dict[str, list[int]] = field(default_factory=dict)
    lost: dict[str, list[int]] = field(default_factory=dict)
    bodies: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    held: list[Held] = field(default_factory=list)
    levels: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    pins: dict[str, list[tuple[int, int]]] = field(default_factory=dict)

    def of(self, who: str) -> list[Stretch]:
        """The stretches of one thing, in order."""
        return [stretch for stretch in self.stretches if stretch.who == who]


class _Guarded(Struct):
    """The guards of a body that has begun: (urgency, from, to) in its CPU time, how much of that it has ``done``."""

    wanted: list[tuple[int, int, int]] = field(default_factory=list)
    since: dict[int, int] = field(default_factory=dict)
    done: int = 0

    def ran(self, who: str, begin: int, end: int) -> Iterator[Held]:
        """It ran on from ``begin`` to ``end`` ps: the guards that end by then."""
        after = self.done + end - begin
        for number, (urgency, first, last) in enumerate(self.wanted):
            if self.done <= first < after:
                self.since[number] = begin + first - self.done
            if number in self.since and last <= after:
                yield Held(who, urgency, self.since.pop(number), begin + last - self.done)
        self.done = after


class _Reader:
    """Walks through records and keeps what is open: the stack of bodies, the state of the loop."""

    def __init__(self, index: Index, begin: int) -> None:
        self.index = index
        self.lanes = Lanes(begin, begin)
        self.stack: list[str] = []
        self.since: dict[str, tuple[State, int]] = {}
        self.step = ""
        self.doing: State = "runs"  # what the loop's step does when it is not put aside
        self.begun: dict[str, int] = {}
        self.taken = ""  # whose guards are told next
        self.guards: dict[str, _Guarded] = {}

    def begin(self, who: str, state: State, now: int) -> None:
        """A body begins."""
        self.begun[who] = now
        self.change(who, state, now)

    def finish(self, who: str, now: int, state: State | None = None) -> None:
        """A body ends, and goes into a state (None: into none)."""
        if who in self.begun:
            self.lanes.bodies.setdefault(who, []).append((self.begun.pop(who), now))
        self.change(who, state, now)

    def change(self, who: str, state: State | None, now: int) -> None:
        """``who`` goes into a state (None: into none)."""
        before = self.since.pop(who, None)
        if before is not None and now > before[1]:
            self.lanes.stretches.append(Stretch(who, before[0], before[1], now))
            if before[0] == "runs" and who in self.guards:
                self.lanes.held += self.guards[who].ran(who, before[1], now)
        if state is not None:
            self.since[who] = (state, now)

    def top(self, now: int, state: State | None = None) -> None:
        """The context on top of the stack (the loop's step at its bottom) runs on, or is put aside."""
        who = self.stack[-1] if self.stack else self.step
        if who:
            self.change(who, state or ("runs" if self.stack else self.doing), now)

    def take(self, time: int, kind: int, number: int, cause: int) -> None:
        """One record."""
        index, lanes = self.index, self.lanes
        if kind == at.SOURCE:
            lanes.marks.setdefault(f"source.{index.sources[number]}", []).append(time)
        elif kind == at.LOST:
            lanes.lost.setdefault(f"isr.{index.rows[number][0]}", []).append(time)
        elif kind == at.UNIT_LOST:
            lanes.lost.setdefault(f"unit.{index.units[number]}", []).append(time)
        elif kind == at.UNIT_START:
            self.finish(f"unit.{index.units[number]}", time)
            self.begin(f"unit.{index.units[number]}", "works", time)
        elif kind == at.INNER:
            lanes.marks.setdefault(index.inner[number], []).append(time)
        elif kind in (at.UNIT_END, at.UNIT_OFF):
            self.finish(f"unit.{index.units[number]}", time)
        elif kind == at.FLAG_SET:
            self.begin(f"flag.{index.flags[number]}", "set", time)
        elif kind == at.FLAG_TAKEN:
            self.finish(f"flag.{index.flags[number]}", time)
        elif kind == at.FLAG_OVER:
            lanes.lost.setdefault(f"flag.{index.flags[number]}", []).append(time)
        elif kind in (at.ITEM_IN, at.ITEM_OUT, at.ITEM_OVER):
            levels = lanes.levels.setdefault(f"buffer.{index.buffers[number]}", [(0, 0)])
            levels.append((time, levels[-1][1] + (1 if kind == at.ITEM_IN else -1)))
            if kind == at.ITEM_OVER:
                lanes.lost.setdefault(f"buffer.{index.buffers[number]}", []).append(time)
        elif kind == at.ITEM_LOST:
            lanes.lost.setdefault(f"buffer.{index.buffers[number]}", []).append(time)
        elif kind == at.PIN_MOVED:
            lanes.pins.setdefault(f"pin.{index.pins[number]}", []).append((time, cause))
        elif kind == at.PIN_PULSED:
            told = lanes.pins.setdefault(f"pin.{index.pins[number]}", [])
            if told and told[-1][0] >= time:  # it lasts for longer
                told[-1] = cause, 0
            else:
                told += [(time, 1), (cause, 0)]
        elif kind in (at.ITEM_TAKEN, at.ASKED, at.CLEARED, at.UNIT_SILENT):
            pass
        elif kind == at.TAKEN:
            self.taken = f"isr.{index.rows[number][0]}"
            self.guards.pop(self.taken, None)
        elif kind == at.HOLD_FROM:
            self.guards.setdefault(self.taken, _Guarded()).wanted.append((number, cause, cause))
        elif kind == at.HOLD_TO:
            wanted = self.guards[self.taken].wanted
            wanted[-1] = (number, wanted[-1][1], cause)
        elif kind in (at.ACCEPT, at.START, at.LAST, at.BACK):
            self.core(time, kind, number, cause)
        else:
            self.loop(time, kind, number, cause)

    def core(self, time: int, kind: int, number: int, cause: int) -> None:
        """Acceptance, first and last instruction, the return."""
        who = f"isr.{self.index.rows[number][0]}" if number < len(self.index.rows) else ""
        if kind == at.ACCEPT:
            if self.stack or self.step:
                self.top(time, "aside")
            if cause < time:
                self.lanes.stretches.append(Stretch(who, "waits", cause, time))
            for other in [name for name, (state, _) in self.since.items() if state in ("leaves", "enters")]:
                self.change(other, None, time)
            self.change(who, "enters", time)
        elif kind == at.START:
            for other in [name for name, (state, _) in self.since.items() if state == "enters" and name != who]:
                self.change(other, None, time)
            self.begin(who, "runs", time)
            self.stack.append(who)
        elif kind == at.LAST:
            self.finish(who, time, "leaves")
            if self.stack and self.stack[-1] == who:
                self.stack.pop()
        else:
            for other in [name for name, (state, _) in self.since.items() if state == "leaves"]:
                self.change(other, None, time)
            if not who or (self.stack and self.stack[-1] == who):  # else it was accepted and begins only now
                self.top(time)

    def loop(self, time: int, kind: int, number: int, cause: int) -> None:
        """Steps: start, what they do, halt, waking, end."""
        who = f"step.{self.index.steps[number]}" if number < len(self.index.steps) else ""
        if kind == at.STEP_START:
            self.step, self.doing = who, "runs"
            self.begin(who, "runs", time)
        elif kind in _DOING or kind == at.STEP_PHASE:
            self.doing = _DOING.get(kind) or ACTS[cause].state
            self.change(who, self.doing, time)
            self.taken = who
            self.guards.pop(who, None)
        elif kind == at.STEP_END:
            self.finish(who, time)
            self.step = ""


def lanes(records: Records, index: Index, begin: int, end: int) -> Lanes:
    """The lanes of the records between two instants; bodies that had begun before ``begin`` are drawn from there."""
    reader = _Reader(index, int(records.time[0]) if len(records.time) else begin)
    last = int(np.searchsorted(records.time, end, side="right"))
    table = zip(records.time[:last].tolist(), records.kind[:last].tolist(), records.index[:last].tolist(),
                records.cause[:last].tolist(), strict=True)  # fmt: skip
    for time, kind, number, cause in table:
        reader.take(time, kind, number, cause)
    for who in list(reader.since):
        reader.change(who, None, end)
    for who, guarded in reader.guards.items():
        reader.lanes.held += [Held(who, guarded.wanted[k][0], since, end) for k, since in guarded.since.items()]
    for who, since in reader.begun.items():
        reader.lanes.bodies.setdefault(who, []).append((since, end + 1))  # goes on beyond the end
    found = reader.lanes
    found.begin, found.end = begin, end
    found.stretches = [
        Stretch(s.who, s.state, max(s.begin, begin), min(s.end, end)) for s in found.stretches if s.end > begin
    ]
    found.held = [replace(h, begin=max(h.begin, begin), end=min(h.end, end)) for h in found.held if h.end > begin]
    for who, spans in found.bodies.items():
        found.bodies[who] = [(first, last_) for first, last_ in spans if last_ >= begin and first <= end]
    for who, levels in found.levels.items():
        found.levels[who] = cut_levels(levels, begin, end)
    found.marks, found.lost = _inside(found.marks, begin, end), _inside(found.lost, begin, end)
    return found


def cut_levels(levels: list[tuple[int, int]], begin: int, end: int) -> list[tuple[int, int]]:
    """The levels of a window, the first from its beginning on."""
    before = [level for time, level in levels if time <= begin]
    return [(begin, before[-1] if before else 0), *((time, level) for time, level in levels if begin < time <= end)]


def _inside(table: dict[str, list[int]], begin: int, end: int) -> dict[str, list[int]]:
    kept = {name: [time for time in times if begin <= time <= end] for name, times in table.items()}
    return {name: times for name, times in kept.items() if times}
