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
class Latch:
    """A status bit that hardware sets at these instants, ascending."""

    flag: str
    arrivals: Sequence[int]


@dataclass(frozen=True, slots=True)
class Burns:
    """Part of a step: burns CPU time."""

    cost: tuple[int, int]
    holds: tuple[Hold, ...] = ()


@dataclass(frozen=True, slots=True)
class Pauses:
    """Part of a step: looks at the clock until so much time has passed."""

    length: tuple[int, int]


@dataclass(frozen=True, slots=True)
class Waits:
    """Part of a step: looks at a flag until it is set, and takes it; gives up after ``at_most``, and the step ends."""

    flag: str
    at_most: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Halts:
    """Part of a step: stops the core until a routine has run, unless one of the flags is set."""

    unless: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Task:
    """A step of the loop as it really is: when it runs, and what it does then, part by part."""

    name: str
    parts: tuple[Burns | Pauses | Waits | Halts, ...] = ()
    polls: str | None = None
    every: int | None = None
    rearm: str = "grid"
    sets: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole board. ``routines`` stand in the order in which the core prefers them."""

    routines: tuple[Routine, ...]
    steps: tuple[Task, ...] = ()
    overhead: int = 0
    nesting: bool = True
    entry: int = 0
    exit: int = 0
    chain: int = 0
    wake: int = 0
    late_arrival: bool = False
    latches: tuple[Latch, ...] = ()


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
        self._sets = deque(sorted((at, latch.flag) for latch in plan.latches for at in latch.arrivals))
        self._flags: set[str] = set()
        self._now = 0
        self._mode = "run"  # run, entry, exit, wake, halt
        self._until = 0
        self._entering = -1
        self._due = {step.name: step.every or 0 for step in plan.steps}
        self._at_step = -1  # -1: the overhead of the pass
        self._loop_state = "gate"  # gate, part (the next one begins), work, spin, look
        self._part = 0
        self._step_start = 0
        self._spins_until: int | None = None

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
            if frame.routine < 0 and self._loop_state == "work" and frame.done == frame.cost:
                self._end_work()
                continue
            best = self._best(frame)
            if best is not None:
                self._accept(best, self.plan.entry)
            elif frame.routine >= 0 and frame.start < 0:
                frame.start = self._now
            elif frame.routine < 0 and frame.done == frame.cost and self._mode == "run":
                if self._spinning():
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
        while self._sets and self._sets[0][0] <= self._now:
            self._flags.add(self._sets.popleft()[1])

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
            self._step_start, self._part, self._loop_state = self._now, -1, "part"
        elif self._part + 1 == len(step.parts) or self._loop_state == "look":  # gave up
            self.truth.steps.append((step.name, self._step_start, self._now))
            self._flags.update(step.sets)
            self._following_step()
        else:
            self._part += 1
            self._begin_part(step.parts[self._part])

    def _begin_part(self, part: Burns | Pauses | Waits | Halts) -> None:
        self._begin_loop_body(0, ())
        self._loop_state = "part"
        if isinstance(part, Burns):
            self._loop_state = "work"
            self._begin_loop_body(self._cost(part.cost), part.holds)
        elif isinstance(part, Pauses):
            self._loop_state, self._spins_until = "spin", self._now + self._cost(part.length)
        elif isinstance(part, Waits):
            self._loop_state = "look"
            self._spins_until = None if part.at_most is None else self._now + self._cost(part.at_most)
        elif not self._flags.intersection(part.unless):
            self._mode = "halt"

    def _spinning(self) -> bool:
        """Whether the loop has to let time pass; a flag that it waits for is taken here."""
        if self._loop_state == "spin":
            return self._spins_until is not None and self._now < self._spins_until
        if self._loop_state != "look":
            return False
        part = self.plan.steps[self._at_step].parts[self._part]
        if isinstance(part, Waits) and part.flag in self._flags:
            self._flags.discard(part.flag)
            self._loop_state = "part"
            return False
        return self._spins_until is None or self._now < self._spins_until

    def _end_work(self) -> None:
        """A part that burns CPU time has ended; the clock of a pause behind it runs from here."""
        self._loop_state = "part"
        parts = self.plan.steps[self._at_step].parts
        if self._part + 1 < len(parts) and isinstance(parts[self._part + 1], Pauses):
            self._part += 1
            self._begin_part(parts[self._part])

    def _open(self, step: Task) -> bool:
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
        ahead += [self._sets[0][0]] if self._sets else []
        frame = self._stack[-1]
        spins = self._mode == "run" and frame.routine < 0 and self._loop_state in ("spin", "look")
        if spins:
            ahead += [] if self._spins_until is None else [self._spins_until]
        elif self._mode == "run":
            ahead.append(self._now + frame.edge())
        elif self._mode != "halt":
            ahead.append(self._until)
        later = max(min(ahead, default=until + 1), self._now)
        if self._mode == "run" and not spins:
            frame.done += later - self._now
            self.truth.busy += later - self._now
        self._now = later
