"""A stand-in for a board: a small machine that takes interrupts and runs a loop, instant by instant.

It shares nothing with the model, the bounds or the simulation, so that its captures are evidence and not an echo.
Times are whole picoseconds of the board's own clock. The order within one instant is: events arrive; what the core
was doing ends; the core accepts; the running context goes on.
"""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Sequence

from msgspec import Struct, field
from msgspec.structs import replace

BACKGROUND = 1 << 30  # less urgent than every level


class Hold(Struct, frozen=True):
    """Part of a body, [at, at + length) of its CPU time (None: to its end), that holds off ``level`` and below.

    Where it begins ``later`` than ``at``, by so much at most, is drawn as costs are.
    """

    level: int
    at: int
    length: int | None
    later: int = 0


class Store(Struct, frozen=True):
    """A FIFO or ring; one comes at each of ``arrivals``, ascending, and at each end of a routine that ``puts``.

    It asks its routine or step from ``threshold`` on, once nothing has come for ``quiet``, or as a whole number of
    ``laps`` has come. ``round``: a full one goes on over its oldest. ``sent_in``: hardware takes one whenever it is
    idle, and works for so long; if there is ``sent_at``, at each of these instants at which it is idle. ``sets``: the
    status bits that are set as one is lost.
    """

    name: str
    depth: int
    arrivals: Sequence[int] = ()
    threshold: int | None = 1
    quiet: tuple[int, int] | None = None
    sent_in: tuple[int, int] | None = None
    sent_at: Sequence[int] | None = None
    laps: int | None = None
    round: bool = False
    sets: tuple[str, ...] = ()


class Empties(Struct, frozen=True):
    """Part of a step, or what a routine does after its cost: copies what was in a store as it began, one by one.

    ``until_empty``: and what came meanwhile, until nothing is in.
    """

    store: str
    most: int
    each: tuple[int, int] = (0, 0)
    until_empty: bool = False


class Fills(Struct, frozen=True):
    """Part of a step: puts so many into a store, as they find room."""

    store: str
    items: tuple[int, int]


class More(Struct, frozen=True):
    """What each ``n``-th run of a routine does after all else, the ``first`` of them first."""

    n: int
    first: int
    cost: tuple[int, int] = (0, 0)
    sets: tuple[str, ...] = ()


class Routine(Struct, frozen=True):
    """An interrupt routine as it really is. ``arrivals`` are the instants of its event, ascending.

    As it ends it ``puts`` one into a store, or ``moves`` on into one what it has taken out of another; one that
    ``waits`` takes no more than find room there, and is not asked while none does. ``marks``: what it does so much CPU
    time after its first instruction. Its event is also the end of a ``tally``, an answer of the ``reply``, or that one
    of the store ``spilt`` is lost. After all that it ``spins`` by the clock, and one that ``forgets`` clears what waits
    for it as it ends.
    """

    name: str
    level: int
    arrivals: Sequence[int]
    cost: tuple[int, int]
    holds: tuple[Hold, ...] = ()
    pending: int = 1
    takes_all: bool = False
    sets: tuple[str, ...] = ()
    puts: str | None = None
    moves: str | None = None
    asked: str | None = None
    empties: Empties | None = None
    waits: bool = False
    more: More | None = None
    marks: tuple[tuple[str, tuple[int, int]], ...] = ()
    tally: str | None = None
    spilt: str | None = None
    spins: tuple[int, int] | None = None
    forgets: bool = False
    reply: str | None = None


class Latch(Struct, frozen=True):
    """A status bit that hardware sets at these instants, ascending."""

    flag: str
    arrivals: Sequence[int]


class Tally(Struct, frozen=True):
    """A timer in software: set going at ``starts``, or at once and ever again, it is done after n ends of ``of``.

    It sets status bits then, and ``puts`` one into a store.
    """

    name: str
    of: str
    n: int
    starts: Sequence[int] = ()
    repeats: bool = False
    sets: tuple[str, ...] = ()
    puts: str | None = None


class Reply(Struct, frozen=True):
    """What is outside answers within ``takes`` after the step ``asked_by`` has begun, or not at all.

    ``answers``: whether it does, each time it begins, the last for ever. Asked while it works on an answer it ignores
    that, or begins ``anew``; asked while it stays silent it begins anew. It sets status bits as it answers, and
    ``steals`` the bus for so long: what burns CPU time then gets on no further.
    """

    name: str
    asked_by: str
    takes: tuple[int, int]
    answers: Sequence[bool] = (True,)
    anew: bool = False
    sets: tuple[str, ...] = ()
    steals: tuple[int, int] = (0, 0)


class Burns(Struct, frozen=True):
    """Part of a step: burns CPU time."""

    cost: tuple[int, int]
    holds: tuple[Hold, ...] = ()


class Pauses(Struct, frozen=True):
    """Part of a step: looks at the clock until so much time has passed."""

    length: tuple[int, int]


class Waits(Struct, frozen=True):
    """Part of a step: looks at a flag until it is set, and takes it; gives up after ``at_most``, and the step ends.

    ``sent``: in place of a flag, until hardware has worked off one more of that store since the step began, which no
    such wait of this run has used. ``reply``: until that is not being worked on.
    """

    flag: str | None
    at_most: tuple[int, int] | None = None
    sent: str | None = None
    reply: str | None = None


class Halts(Struct, frozen=True):
    """Part of a step: stops the core until a routine has run, unless one of the flags is set.

    ``wake``: from so deep a sleep it takes so long to wake; else as long as the plan says. ``stops``: the routines
    whose events, and the replies which, are counted by clocks that stand still until it is awake. While one of the
    replies ``plain_if`` is being worked on it sleeps as the plan says. ``masked``: it takes no interrupt for so long
    after waking.
    """

    unless: tuple[str, ...] = ()
    wake: int | None = None
    stops: tuple[str, ...] = ()
    plain_if: tuple[str, ...] = ()
    masked: tuple[int, int] | None = None


class Task(Struct, frozen=True):
    """A step of the loop as it really is: when it runs, and what it does then, part by part.

    It runs while one of the flags that it polls is set, with ``all_of`` while all are. ``once``: at time zero alone,
    before the first pass; it stands last.
    """

    name: str
    parts: tuple[Burns | Pauses | Waits | Halts | Empties | Fills, ...] = ()
    polls: str | tuple[str, ...] = ()
    every: int | None = None
    rearm: str = "grid"
    sets: tuple[str, ...] = ()
    asked: str | None = None
    all_of: bool = False
    once: bool = False


class Plan(Struct, frozen=True):
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
    stores: tuple[Store, ...] = ()
    tallies: tuple[Tally, ...] = ()
    replies: tuple[Reply, ...] = ()


class Served(Struct, frozen=True):
    """One activation: its earliest event, first and last instruction, CPU time of the body."""

    name: str
    event: int
    start: int
    end: int
    cost: int


class Truth(Struct):
    """What really happened. ``steps`` are (name, start, end); ``lost`` (name, instant of the event).

    ``levels``: how many were in a store, from when on; ``sent``: (store, from, to) of what hardware worked off.
    ``marks``: (routine.mark, instant), with ``nth`` for the end of a run that did more; ``tallied``: (tally, from, to).
    ``asked``: (reply, instant) each time that one begins; ``answered``: (reply, from, to). ``slept``: (when it halted,
    when something woke it, when it was awake).
    """

    served: list[Served] = field(default_factory=list)
    lost: list[tuple[str, int]] = field(default_factory=list)
    steps: list[tuple[str, int, int]] = field(default_factory=list)
    levels: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    sent: list[tuple[str, int, int]] = field(default_factory=list)
    marks: list[tuple[str, int]] = field(default_factory=list)
    tallied: list[tuple[str, int, int]] = field(default_factory=list)
    asked: list[tuple[str, int]] = field(default_factory=list)
    answered: list[tuple[str, int, int]] = field(default_factory=list)
    slept: list[tuple[int, int, int]] = field(default_factory=list)
    busy: int = 0


class _Filled(Struct):
    """A store as it is now: how many are in, whether its request waits or is served, how many are still to be copied.

    ``quiet_at``: when its quiet time is over; ``idle_at``: when what hardware works off is done. ``stored``: how many
    have found room so far; ``unread``: which of them nobody has taken; ``spoilt``: how many taken ones are gone.
    """

    store: Store
    came: int = 0
    held: int = 0
    state: str = "rests"
    left: int = 0
    took: int = 0
    copies: bool = False
    spoilt: int = 0
    quiet_at: int | None = None
    over: bool = False
    idle_at: int | None = None
    sent: int = 0
    looked: int = 0
    stored: int = 0
    unread: deque[int] = field(default_factory=deque)

    @property
    def asks(self) -> bool:
        if self.over or (self.store.threshold is not None and self.held >= self.store.threshold):
            return True
        return self.store.laps is not None and any(number % self.store.laps == 0 for number in self.unread)


class _Frame(Struct):
    """A body on the stack: a routine, or the loop at the bottom."""

    level: int
    cost: int = 0
    holds: tuple[Hold, ...] = ()
    done: int = 0
    routine: int = -1
    event: int = 0
    start: int = -1
    more: More | None = None
    marks: list[tuple[int, str]] = field(default_factory=list)
    until: int = -1
    stands: int = 0

    def edge(self) -> int:
        """CPU time from now to the next instant at which something about this body changes."""
        edges = [self.cost, *(at for at, _ in self.marks)]
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
        self._stores = {store.name: _Filled(store) for store in plan.stores}
        self._used = dict.fromkeys(self._stores, 0)
        for routine in plan.routines:  # only who is asked is told
            if routine.empties is not None and routine.asked is None:
                self._stores[routine.empties.store].state = "served"
        self._runs = [0] * len(plan.routines)
        self._set_going = {tally.name: deque(tally.starts) for tally in plan.tallies}
        self._since: dict[str, int | None] = {tally.name: 0 if tally.repeats else None for tally in plan.tallies}
        self._left = {tally.name: tally.n for tally in plan.tallies}
        self._works: dict[str, tuple[int, int | None]] = {}  # of a reply: since when, and until when, if ever
        self._begun = dict.fromkeys((reply.name for reply in plan.replies), 0)
        self._fills = 0
        self._now = 0
        self._mode = "run"  # run, entry, exit, wake, halt
        self._until = 0
        self._entering = -1
        self._due = {step.name: step.every or 0 for step in plan.steps}
        self._at_step = -1  # -1: the overhead of the pass
        self._loop_state = "gate"  # gate, part (the next one begins), work, spin, look
        self._part = 0
        self._step_start = 0
        self._started = 0  # when the start-up had ended
        self._spins_until: int | None = None
        self._wakes_in: int | None = None
        self._halted = self._woken = 0
        self._stopped: tuple[str, ...] = ()  # what stands still
        self._shift = [0] * len(plan.routines)  # how long the clock of its event has stood still
        self._remains: dict[str, int] = {}  # of a reply that stands still
        self._ran = True  # a step, in this pass
        self._last = 0  # up to when it is played

    def run(self, until: int) -> Truth:
        """Play from 0 to ``until`` ps; what is unfinished then is left out."""
        self._last = until
        if self.plan.steps and self.plan.steps[-1].once:
            self._at_step = len(self.plan.steps) - 1
            self._begin_loop_body(0, ())
        else:
            self._begin_loop_body(self.plan.overhead, ())
        while self._now <= until:
            self._instant()
            self._advance()
        return self.truth

    # --- one instant -------------------------------------------------------------------------------------------

    def _instant(self) -> None:
        self._answer()
        self._stores_move()
        self._arrive()
        while True:
            if self._mode in ("entry", "exit", "wake"):
                if self._now < self._until:
                    return
                self._finish_mode()
            elif self._mode == "halt":
                if not any(self._waiting):
                    return
                self._woken = self._now
                self._start_mode("wake", self.plan.wake if self._wakes_in is None else self._wakes_in)
                continue
            frame = self._stack[-1]
            if frame.until >= 0:  # it looks at the clock, which went on while it was away
                frame.cost = min(frame.cost, frame.done + max(0, frame.until - self._now))
            if frame.routine >= 0 and frame.start >= 0 and frame.marks and frame.marks[0][0] <= frame.done:
                self.truth.marks.append((frame.marks.pop(0)[1], self._now))
                continue
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
                routine = self.plan.routines[frame.routine]
                self._begin_to_empty(routine.empties, self._room(routine))
            elif frame.routine < 0 and frame.done == frame.cost and self._mode == "run":
                fills = self._fills
                spins = self._spinning()
                if self._fills < fills:  # what it has put may ask for a routine
                    continue
                if spins:
                    return
                self._loop_act()
            else:
                return

    def _arrive(self) -> None:
        for index in range(len(self.plan.routines)):
            while (at := self._arrival(index)) is not None and at <= self._now:
                self._next[index] += 1
                self._raise(index)
        while self._sets and self._sets[0][0] <= self._now:
            self._flags.add(self._sets.popleft()[1])
        for name, starts in self._set_going.items():
            while starts and starts[0] <= self._now:
                at = starts.popleft()
                if self._since[name] is None:
                    self._since[name] = at
        for filled in self._stores.values():
            if filled.quiet_at is not None and filled.quiet_at <= self._now:
                filled.quiet_at = None
                filled.over = filled.over or bool(filled.unread)
                self._ask(filled)

    def _arrival(self, index: int) -> int | None:
        """When the next event of a routine comes; None: none, or its clock stands still."""
        routine = self.plan.routines[index]
        if routine.name in self._stopped or self._next[index] == len(routine.arrivals):
            return None
        return routine.arrivals[self._next[index]] + self._shift[index]

    def _answer(self) -> None:
        """What is outside answers."""
        for reply in self.plan.replies:
            since, until = self._works.get(reply.name, (0, None))
            if until == self._now:
                del self._works[reply.name]
                frame = self._stack[-1]
                spins = frame.until >= 0 or (frame.routine < 0 and self._loop_state in ("spin", "look", "fill"))
                if self._mode == "run" and not spins and frame.done < frame.cost:
                    frame.stands += self._cost(reply.steals)
                self.truth.answered.append((reply.name, since, until))
                self._flags.update(reply.sets)
                for index, routine in enumerate(self.plan.routines):
                    if routine.reply == reply.name:
                        self._raise(index)

    def _ask_for(self, step: str) -> None:
        """A step has begun: what it asks begins, unless it works on an answer and does not begin anew."""
        for reply in self.plan.replies:
            if reply.asked_by != step or (self._works.get(reply.name, (0, None))[1] is not None and not reply.anew):
                continue
            turn = min(self._begun[reply.name], len(reply.answers) - 1)
            self._begun[reply.name] += 1
            until = self._now + self._cost(reply.takes) if reply.answers[turn] else None
            self._works[reply.name] = self._now, until
            self.truth.asked.append((reply.name, self._now))

    def _raise(self, index: int) -> None:
        """An event of a routine: it waits, or is lost where as many wait as are remembered."""
        routine = self.plan.routines[index]
        if len(self._waiting[index]) >= routine.pending:
            self.truth.lost.append((routine.name, self._now))
        else:
            self._waiting[index].append(self._now)

    def _stores_move(self) -> None:
        """Hardware is done with what it works off; then what comes from outside is put in."""
        for filled in self._stores.values():
            if filled.idle_at == self._now:
                filled.idle_at = None
                filled.sent += 1
                if filled.store.sent_at is None:
                    self._send(filled)
                    for routine in self.plan.routines:
                        if routine.waits and routine.moves == filled.store.name and routine.asked is not None:
                            self._ask(self._stores[routine.asked])
        for filled in self._stores.values():
            looks = filled.store.sent_at or ()
            while filled.looked < len(looks) and looks[filled.looked] <= self._now:
                filled.looked += 1
                self._send(filled)
        for filled in self._stores.values():
            arrivals = filled.store.arrivals
            while filled.came < len(arrivals) and arrivals[filled.came] <= self._now:
                filled.came += 1
                self._put(filled)

    def _put(self, filled: _Filled) -> None:
        store = filled.store
        if store.quiet is not None:
            filled.quiet_at = self._now + self._cost(store.quiet)
        full = filled.held == store.depth
        if full:
            self.truth.lost.append((store.name, self._now))
            if not store.round:
                self._spill(store)
                return
            filled.held -= 1
            if filled.spoilt < filled.took:  # the oldest is one that is being copied
                filled.spoilt += 1
            else:
                filled.unread.popleft()
        filled.held += 1
        filled.stored += 1
        filled.unread.append(filled.stored)
        if store.sent_at is None:
            self._send(filled)
        self._note(filled)
        if full:
            self._spill(store)
        self._ask(filled)

    def _spill(self, store: Store) -> None:
        """One is lost: hardware says so."""
        self._flags.update(store.sets)
        for index, routine in enumerate(self.plan.routines):
            if routine.spilt == store.name:
                self._raise(index)

    def _send(self, filled: _Filled) -> None:
        """Hardware that is idle takes one."""
        if filled.store.sent_in is None or filled.idle_at is not None or not filled.held:
            return
        filled.held -= 1
        filled.unread.popleft()
        filled.idle_at = self._now + self._cost(filled.store.sent_in)
        self.truth.sent.append((filled.store.name, self._now, filled.idle_at))
        self._note(filled)

    def _note(self, filled: _Filled) -> None:
        self.truth.levels.setdefault(filled.store.name, []).append((self._now, filled.held))

    def _ask(self, filled: _Filled) -> None:
        """The routine is told that its store asks, unless it has been, or runs."""
        if filled.state != "rests" or not filled.asks:
            return
        for index, routine in enumerate(self.plan.routines):
            if routine.asked == filled.store.name and self._room(routine):
                filled.state = "asks"
                self._waiting[index].append(self._now)

    def _room(self, routine: Routine) -> int:
        """How many a routine may move on."""
        if not routine.waits or routine.moves is None:
            return BACKGROUND
        into = self._stores[routine.moves]
        return into.store.depth - into.held

    def _copy(self, filled: _Filled) -> bool:
        """What was being copied leaves; whether another is to be copied."""
        if filled.copies:
            copied = filled.took - filled.left
            if copied > filled.spoilt:  # else it has been written over meanwhile
                filled.spoilt = copied
                filled.held -= 1
                filled.over = filled.over and filled.held > 0
                self._note(filled)
        filled.copies = filled.left > 0
        filled.left -= filled.copies
        return filled.copies

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
        if routine.asked is not None:
            self._stores[routine.asked].state = "served"
        self._runs[index] += 1
        more = routine.more
        if more is not None and (self._runs[index] < more.first or (self._runs[index] - more.first) % more.n):
            more = None
        marks = [(self._cost(place), f"{routine.name}.{name}") for name, place in routine.marks]
        marks.sort(key=lambda mark: mark[0])
        self._stack.append(
            _Frame(
                routine.level, cost, self._placed(routine.holds), routine=index, event=events[0], more=more, marks=marks
            )
        )

    def _finish_mode(self) -> None:
        if self._mode == "entry" and self.plan.late_arrival:
            target = self._entering
            level = self.plan.routines[target].level
            for index, routine in enumerate(self.plan.routines):
                if self._waiting[index] and routine.level < level:
                    target = index
                    break
            self._push(target)
        woke, self._mode = self._mode == "wake", "run"
        if woke:
            self._go_on()

    def _stand_still(self, part: Halts) -> None:
        """The core halts, and with it what it stops."""
        self._mode, self._halted, self._wakes_in = "halt", self._now, part.wake
        if any(name in self._works for name in part.plain_if):
            self._wakes_in = None
            return
        self._stopped = part.stops
        for name, (since, until) in self._works.items():
            if name in part.stops and until is not None:
                self._remains[name] = until - self._now
                self._works[name] = since, None

    def _go_on(self) -> None:
        """It is awake: clocks go on, and what follows with interrupts held off begins before any is taken."""
        self.truth.slept.append((self._halted, self._woken, self._now))
        for index, routine in enumerate(self.plan.routines):
            if routine.name in self._stopped:
                self._shift[index] += self._now - self._halted
        for name, left in self._remains.items():
            self._works[name] = self._works[name][0], self._now + left
        self._stopped, self._remains = (), {}
        part = self.plan.steps[self._at_step].parts[self._part]
        if isinstance(part, Halts) and part.masked is not None:
            self._loop_state = "work"
            self._begin_loop_body(self._cost(part.masked), (Hold(0, -1, None),))

    def _end_routine(self) -> None:
        frame = self._stack[-1]
        routine = self.plan.routines[frame.routine]
        if routine.empties is not None and self._copies_more(routine.empties):
            frame.cost += self._cost(routine.empties.each)
            return
        more, longer = frame.more, 0 if frame.more is None else self._cost(frame.more.cost)
        if longer:
            frame.cost += longer
            frame.more = More(1, 1, sets=frame.more.sets if frame.more else ())
            return
        if routine.spins is not None and frame.until < 0:
            length = self._cost(routine.spins)
            frame.until = self._now + length
            frame.cost += length
            if length:
                return
        self._stack.pop()
        if routine.forgets:
            self._waiting[frame.routine].clear()
        self.truth.served.append(Served(routine.name, frame.event, frame.start, self._now, frame.cost))
        self._flags.update(routine.sets)
        if routine.puts is not None:
            self._put(self._stores[routine.puts])
        if routine.moves is not None and routine.empties is not None:
            for _ in range(self._stores[routine.empties.store].took):
                self._put(self._stores[routine.moves])
        if more is not None:
            self.truth.marks.append((f"{routine.name}.nth", self._now))
            self._flags.update(more.sets)
        self._count(routine.name)
        if routine.asked is not None:
            self._stores[routine.asked].state = "rests"
            self._ask(self._stores[routine.asked])
        following = self._best(self._stack[-1])
        if following is None:
            self._start_mode("exit", self.plan.exit)
        else:
            self._accept(following, self.plan.chain)

    def _count(self, ended: str) -> None:
        """A routine has ended: tallies that count it, and the routines whose event their end is."""
        for tally in self.plan.tallies:
            since = self._since[tally.name]
            if tally.of != ended or since is None:
                continue
            self._left[tally.name] -= 1
            if self._left[tally.name]:
                continue
            self._left[tally.name] = tally.n
            self._since[tally.name] = self._now if tally.repeats else None
            self.truth.tallied.append((tally.name, since, self._now))
            self._flags.update(tally.sets)
            if tally.puts is not None:
                self._put(self._stores[tally.puts])
            for index, routine in enumerate(self.plan.routines):
                if routine.tally == tally.name:
                    self._raise(index)

    def _start_mode(self, mode: str, length: int) -> None:
        self._mode, self._until = mode, self._now + length
        if mode != "wake":
            self.truth.busy += length

    def _cost(self, cost: tuple[int, int]) -> int:
        if self._costs == "drawn":
            return self._draws.randint(*cost)
        return cost[1] if self._costs == "most" else cost[0]

    def _placed(self, holds: tuple[Hold, ...]) -> tuple[Hold, ...]:
        """Where the holds of one body begin."""
        if not any(hold.later for hold in holds):
            return holds
        return tuple(replace(hold, at=self._cost((hold.at, hold.at + hold.later)), later=0) for hold in holds)

    # --- the loop ----------------------------------------------------------------------------------------------

    def _begin_loop_body(self, cost: int, holds: tuple[Hold, ...]) -> None:
        frame = self._stack[0]
        frame.cost, frame.holds, frame.done = cost, self._placed(holds), 0

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
            self._ran = True
            self._ask_for(step.name)
        elif self._loop_state == "copy":
            self._go_on_copying(step)
        elif self._part + 1 == len(step.parts) or self._loop_state == "look":  # gave up
            self.truth.steps.append((step.name, self._step_start, self._now))
            self._flags.update(step.sets)
            if step.once:
                self._started = self._now
                self._due = {name: at + self._now for name, at in self._due.items()}
            self._following_step()
        else:
            self._part += 1
            self._begin_part(step.parts[self._part])

    def _begin_to_empty(self, empties: Empties | None, room: int = BACKGROUND) -> None:
        """Who empties a store begins: it takes what is in, no more than have ``room`` where it goes."""
        if empties is not None:
            filled = self._stores[empties.store]
            filled.left, filled.copies = min(filled.held, empties.most, room), False
            filled.took, filled.spoilt = filled.left, 0
            for _ in range(filled.took):
                filled.unread.popleft()
            filled.over = filled.over and bool(filled.unread)

    def _copies_more(self, empties: Empties) -> bool:
        """Whether who empties a store has one more to copy, of what it has taken or of what came meanwhile."""
        filled = self._stores[empties.store]
        if self._copy(filled):
            return True
        if not empties.until_empty:
            return False
        took = filled.took
        self._begin_to_empty(empties)
        filled.took += took
        return self._copy(filled)

    def _go_on_copying(self, step: Task) -> None:
        """The next that a step has to copy, if there is one."""
        part = step.parts[self._part]
        assert isinstance(part, Empties)
        self._begin_loop_body(0, ())
        self._loop_state = "part"
        if self._copies_more(part):
            self._loop_state = "work"
            self._begin_loop_body(self._cost(part.each), ())

    def _begin_part(self, part: Burns | Pauses | Waits | Halts | Empties | Fills) -> None:
        self._begin_loop_body(0, ())
        self._loop_state = "part"
        if isinstance(part, Burns):
            self._loop_state = "work"
            self._begin_loop_body(self._cost(part.cost), part.holds)
        elif isinstance(part, Pauses):
            self._loop_state, self._spins_until = "spin", self._now + self._cost(part.length)
        elif isinstance(part, Empties):
            self._loop_state = "copy"
        elif isinstance(part, Fills):
            self._loop_state, self._fills, self._spins_until = "fill", self._cost(part.items), None
        elif isinstance(part, Waits):
            self._loop_state = "look"
            self._spins_until = None if part.at_most is None else self._now + self._cost(part.at_most)
        elif not self._flags.intersection(part.unless):
            self._stand_still(part)

    def _spinning(self) -> bool:
        """Whether the loop has to let time pass; a flag that it waits for is taken here."""
        if self._loop_state == "spin":
            return self._spins_until is not None and self._now < self._spins_until
        if self._loop_state == "fill":
            return self._filling()
        if self._loop_state != "look":
            return False
        part = self.plan.steps[self._at_step].parts[self._part]
        if isinstance(part, Waits) and part.flag is not None and part.flag in self._flags:
            self._flags.discard(part.flag)
            self._loop_state = "part"
            return False
        if isinstance(part, Waits) and part.sent is not None and self._stores[part.sent].sent > self._used[part.sent]:
            self._used[part.sent] += 1
            self._loop_state = "part"
            return False
        if isinstance(part, Waits) and part.reply is not None and part.reply not in self._works:
            self._loop_state = "part"
            return False
        return self._spins_until is None or self._now < self._spins_until

    def _filling(self) -> bool:
        """Whether the loop has more to put than finds room."""
        part = self.plan.steps[self._at_step].parts[self._part]
        assert isinstance(part, Fills)
        filled = self._stores[part.store]
        while self._fills and filled.held < filled.store.depth:
            self._fills -= 1
            self._put(filled)
        if self._fills:
            return True
        self._loop_state = "part"
        return False

    def _end_work(self) -> None:
        """A part that burns CPU time has ended; the clock of a pause behind it runs from here."""
        self._loop_state = "part"
        parts = self.plan.steps[self._at_step].parts
        if isinstance(parts[self._part], Empties):
            self._go_on_copying(self.plan.steps[self._at_step])
        if self._loop_state == "work":
            return
        if self._part + 1 < len(parts) and isinstance(parts[self._part + 1], Pauses):
            self._part += 1
            self._begin_part(parts[self._part])

    def _open(self, step: Task) -> bool:
        if step.every is not None and self._now < self._due[step.name]:
            return False
        if step.once and self._started:
            return False
        polled = {step.polls} if isinstance(step.polls, str) else set(step.polls)
        if polled and not (polled <= self._flags if step.all_of else polled & self._flags):
            return False
        if step.asked is not None and not self._stores[step.asked].asks:
            return False
        self._flags -= polled
        self._used = {name: filled.sent for name, filled in self._stores.items()}
        for part in step.parts:
            if isinstance(part, Empties):
                self._begin_to_empty(part)
        if step.every is not None:
            if step.rearm == "now":
                self._due[step.name] = self._now + step.every
            elif step.rearm == "skip":
                self._due[step.name] = self._started + ((self._now - self._started) // step.every + 1) * step.every
            else:
                self._due[step.name] += step.every
        return True

    def _following_step(self) -> None:
        self._at_step += 1
        self._loop_state = "gate"
        if self._at_step == len(self.plan.steps):
            self._at_step = -1
            self._pass_idly()
            self._begin_loop_body(self.plan.overhead, ())

    def _pass_idly(self) -> None:
        """Passes behind one in which nothing ran are alike, up to the last look before something comes or is due."""
        idle, self._ran = not self._ran, False
        if not idle or not self.plan.overhead:
            return
        due = [self._due[step.name] for step in self.plan.steps if step.every is not None]
        many = (min([self._last + 1, *self._ahead(), *due]) - 1 - self._now) // self.plan.overhead
        if many > 0:
            self._now += many * self.plan.overhead
            self.truth.busy += many * self.plan.overhead

    # --- time --------------------------------------------------------------------------------------------------

    def _ahead(self) -> list[int]:
        """When something comes from outside next."""
        arrivals = (self._arrival(index) for index in range(len(self.plan.routines)))
        ahead = [at for at in arrivals if at is not None]
        ahead += [self._sets[0][0]] if self._sets else []
        ahead += [until for _, until in self._works.values() if until is not None]
        ahead += [starts[0] for starts in self._set_going.values() if starts]
        for filled in self._stores.values():
            ahead += list(filled.store.arrivals[filled.came : filled.came + 1])
            ahead += list((filled.store.sent_at or ())[filled.looked : filled.looked + 1])
            ahead += [instant for instant in (filled.quiet_at, filled.idle_at) if instant is not None]
        return ahead

    def _advance(self) -> None:
        ahead = self._ahead()
        frame = self._stack[-1]
        spins = self._mode == "run" and frame.routine < 0 and self._loop_state in ("spin", "look", "fill")
        if spins:
            ahead += [] if self._spins_until is None else [self._spins_until]
        elif self._mode == "run":
            ahead.append(self._now + frame.stands + frame.edge())
        elif self._mode != "halt":
            ahead.append(self._until)
        later = max(min(ahead, default=self._last + 1), self._now)
        if self._mode == "run" and not spins:
            stood = min(frame.stands, later - self._now)
            frame.stands -= stood
            frame.done += later - self._now - stood
            self.truth.busy += later - self._now
        self._now = later
