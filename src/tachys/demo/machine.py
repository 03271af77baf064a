"""A stand-in for a board: a small machine that takes interrupts and runs a loop, instant by instant.

It shares nothing with the model, the bounds or the simulation, so that its captures are evidence and not an echo.
Times are whole picoseconds of the board's own clock. The order within one instant is: events arrive; what the core
was doing ends; the core accepts; the running context goes on.
"""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field

BACKGROUND = 1 << 30  # less urgent than every level


@dataclass(frozen=True, slots=True)
class Hold:
    """Part of a body, [at, at + length) of its CPU time (None: to its end), that holds off ``level`` and below."""

    level: int
    at: int
    length: int | None


@dataclass(frozen=True, slots=True)
class Routine:
    """An interrupt routine as it really is. ``arrivals`` are the instants of its event, ascending."""

    name: str
    level: int
    arrivals: Sequence[int]
    cost: tuple[int, int]
    holds: tuple[Hold, ...] = ()
    pending: int = 1
    takes_all: bool = False
    sets: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Work:
    """A step of the loop as it really is."""

    name: str
    cost: tuple[int, int] = (0, 0)
    polls: str | None = None
    every: int | None = None
    rearm: str = "grid"
    holds: tuple[Hold, ...] = ()
    halts: bool = False
    unless: tuple[str, ...] = ()
    pause: tuple[int, int] = (0, 0)


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole board. ``routines`` stand in the order in which the core prefers them."""

    routines: tuple[Routine, ...]
    steps: tuple[Work, ...] = ()
    overhead: int = 0
    nesting: bool = True
    entry: int = 0
    exit: int = 0
    chain: int = 0
    wake: int = 0
    late_arrival: bool = False


@dataclass(frozen=True, slots=True)
class Served:
    """One activation: its earliest event, first and last instruction, CPU time of the body."""

    name: str
    event: int
    start: int
    end: int
    cost: int


@dataclass(slots=True)
class Truth:
    """What really happened. ``steps`` are (name, start, end); ``lost`` (name, instant of the event)."""

    served: list[Served] = field(default_factory=list)
    lost: list[tuple[str, int]] = field(default_factory=list)
    steps: list[tuple[str, int, int]] = field(default_factory=list)
    busy: int = 0


@dataclass(slots=True)
class _Frame:
    """A body on the stack: a routine, or the loop at the bottom."""

    level: int
    cost: int = 0
    holds: tuple[Hold, ...] = ()
    done: int = 0
    routine: int = -1
    event: int = 0
    start: int = -1

    def edge(self) -> int:
        """CPU time from now to the next instant at which something about this body changes."""
        edges = [self.cost]
        for hold in self.holds:
            edges += [hold.at, self.cost if hold.length is None else hold.at + hold.length]
        return min(edge for edge in edges if edge > self.done) - self.done if self.done < self.cost else 0

    def held_level(self) -> int:
        """Lines of this level and less urgent ones are held off now."""
        level = BACKGROUND
        for hold in self.holds:
            end = self.cost if hold.length is None else min(hold.at + hold.length, self.cost)
            if hold.at < self.done < end:
                level = min(level, hold.level)
        return level


class Machine:
    """Runs a plan. ``costs`` is "most", "least" or "drawn"."""

    def __init__(self, plan: Plan, seed: int = 0, costs: str = "drawn") -> None:
        self.plan = plan
        self.truth = Truth()
        self._draws = random.Random(seed)
        self._costs = costs
        self._stack = [_Frame(BACKGROUND)]
        self._waiting: list[deque[int]] = [deque() for _ in plan.routines]
        self._next = [0] * len(plan.routines)
        self._flags: set[str] = set()
        self._now = 0
        self._mode = "run"  # run, entry, exit, wake, halt
        self._until = 0
        self._entering = -1
        self._due = {step.name: step.every or 0 for step in plan.steps}
        self._at_step = -1  # -1: the overhead of the pass
        self._loop_state = "gate"
        self._step_start = 0
        self._paused_until = 0

    def run(self, until: int) -> Truth:
        """Play from 0 to ``until`` ps; what is unfinished then is left out."""
        self._begin_loop_body(self.plan.overhead, ())
        while self._now <= until:
            self._instant()
            self._advance(until)
        return self.truth

    # --- one instant -------------------------------------------------------------------------------------------

    def _instant(self) -> None:
        self._arrive()
        while True:
            if self._mode in ("entry", "exit", "wake"):
                if self._now < self._until:
                    return
                self._finish_mode()
            elif self._mode == "halt":
                if not any(self._waiting):
                    return
                self._start_mode("wake", self.plan.wake)
                continue
            frame = self._stack[-1]
            if frame.routine >= 0 and frame.start >= 0 and frame.done == frame.cost:
                self._end_routine()
                continue
            best = self._best(frame)
            if best is not None:
                self._accept(best, self.plan.entry)
            elif frame.routine >= 0 and frame.start < 0:
                frame.start = self._now
            elif frame.routine < 0 and frame.done == frame.cost and self._mode == "run":
                if self._pausing():
                    return
                self._loop_act()
            else:
                return

    def _arrive(self) -> None:
        for index, routine in enumerate(self.plan.routines):
            while self._next[index] < len(routine.arrivals) and routine.arrivals[self._next[index]] <= self._now:
                self._next[index] += 1
                if len(self._waiting[index]) >= routine.pending:
                    self.truth.lost.append((routine.name, self._now))
                else:
                    self._waiting[index].append(self._now)

    def _best(self, over: _Frame) -> int | None:
        """The line that the core accepts over this context, if any."""
        if over.routine >= 0 and not self.plan.nesting:
            return None
        limit = min(over.level, over.held_level())
        for index, routine in enumerate(self.plan.routines):
            if self._waiting[index] and routine.level < limit:
                return index
        return None

    def _accept(self, index: int, delay: int) -> None:
        self._entering = index
        if not self.plan.late_arrival:
            self._push(index)
        self._start_mode("entry", delay)

    def _push(self, index: int) -> None:
        routine, waiting = self.plan.routines[index], self._waiting[index]
        events = [waiting.popleft() for _ in range(len(waiting) if routine.takes_all else 1)]
        cost = sum(self._cost(routine.cost) for _ in events)
        self._stack.append(_Frame(routine.level, cost, routine.holds, routine=index, event=events[0]))

    def _finish_mode(self) -> None:
        if self._mode == "entry" and self.plan.late_arrival:
            target = self._entering
            level = self.plan.routines[target].level
            for index, routine in enumerate(self.plan.routines):
                if self._waiting[index] and routine.level < level:
                    target = index
                    break
            self._push(target)
        self._mode = "run"

    def _end_routine(self) -> None:
        frame = self._stack.pop()
        routine = self.plan.routines[frame.routine]
        self.truth.served.append(Served(routine.name, frame.event, frame.start, self._now, frame.cost))
        self._flags.update(routine.sets)
        following = self._best(self._stack[-1])
        if following is None:
            self._start_mode("exit", self.plan.exit)
        else:
            self._accept(following, self.plan.chain)

    def _start_mode(self, mode: str, length: int) -> None:
        self._mode, self._until = mode, self._now + length
        if mode != "wake":
            self.truth.busy += length

    def _cost(self, cost: tuple[int, int]) -> int:
        if self._costs == "drawn":
            return self._draws.randint(*cost)
        return cost[1] if self._costs == "most" else cost[0]

    # --- the loop ----------------------------------------------------------------------------------------------

    def _begin_loop_body(self, cost: int, holds: tuple[Hold, ...]) -> None:
        frame = self._stack[0]
        frame.cost, frame.holds, frame.done = cost, holds, 0

    def _loop_act(self) -> None:
        """The loop's next act, at an instant at which it runs and nothing can be accepted."""
        if not self.plan.steps:
            self._begin_loop_body(1 << 60, ())  # nothing to do: idles awake
            return
        if self._at_step < 0:
            self._at_step, self._loop_state = 0, "gate"
        step = self.plan.steps[self._at_step]
        if self._loop_state == "gate":
            if not self._open(step):
                self._following_step()
                return
            self._step_start, self._loop_state = self._now, "cost"
            self._begin_loop_body(self._cost(step.cost), step.holds)
        elif self._loop_state == "cost":
            self._loop_state = "pause"
            self._paused_until = self._now + (self._cost(step.pause) if step.pause[1] else 0)
        elif self._loop_state == "pause":
            self._loop_state = "end"
            self._begin_loop_body(0, ())
            if step.halts and not self._flags.intersection(step.unless):
                self._mode = "halt"
        else:
            self.truth.steps.append((step.name, self._step_start, self._now))
            self._following_step()

    def _pausing(self) -> bool:
        return self._loop_state == "pause" and self._now < self._paused_until

    def _open(self, step: Work) -> bool:
        if step.every is not None and self._now < self._due[step.name]:
            return False
        if step.polls is not None:
            if step.polls not in self._flags:
                return False
            self._flags.discard(step.polls)
        if step.every is not None:
            if step.rearm == "now":
                self._due[step.name] = self._now + step.every
            elif step.rearm == "skip":
                self._due[step.name] = (self._now // step.every + 1) * step.every
            else:
                self._due[step.name] += step.every
        return True

    def _following_step(self) -> None:
        self._at_step += 1
        self._loop_state = "gate"
        if self._at_step == len(self.plan.steps):
            self._at_step = -1
            self._begin_loop_body(self.plan.overhead, ())

    # --- time --------------------------------------------------------------------------------------------------

    def _advance(self, until: int) -> None:
        ahead = [
            routine.arrivals[self._next[index]]
            for index, routine in enumerate(self.plan.routines)
            if self._next[index] < len(routine.arrivals)
        ]
        frame = self._stack[-1]
        spins = self._mode == "run" and frame.routine < 0 and self._pausing()
        if spins:
            ahead.append(self._paused_until)
        elif self._mode == "run":
            ahead.append(self._now + frame.edge())
        elif self._mode != "halt":
            ahead.append(self._until)
        later = max(min(ahead, default=until + 1), self._now)
        if self._mode == "run" and not spins:
            frame.done += later - self._now
            self.truth.busy += later - self._now
        self._now = later
