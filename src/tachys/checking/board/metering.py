"""The supply current of a capture: its average, who takes it, and what the core and units take in each state.

A value holds until the next. What a state takes is the mean of the values during which nothing changed that a line
shows, from one step of the column before; what units at work take on top is told apart from it by least squares
(C. F. Gauss, "Theoria combinationis observationum erroribus minimis obnoxiae", 1823). How far off a mean may be is told
by the means of its parts in time, and by how far the first half of each stretch lies from the second, as where a meter
takes time to settle; how far off its zero and its scale are, it has to be told.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from tachys.capture.table import Capture, Instants, Known, Signal
from tachys.checking.board.nesting import NOBODY, WhoRuns
from tachys.checking.board.unseen import hidden_pass, unseen_routines
from tachys.checking.probes.lines import Bodies, stretches
from tachys.checking.probes.readings import Readings
from tachys.model.acts import Halt, Pause, Work
from tachys.model.events import Thing
from tachys.model.nodes import Isr, Step
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System
from tachys.worstcase.bounds import Bounds

Reals = NDArray[np.float64]
SURE = 4.0  # deviations of a mean that it may be off
FEW, PARTS = 8, 64  # values of which a deviation is made at least, parts at most
RUN, SPIN, SLEEP = 1, 2, 3  # places of the names of states, from one on
MOST_AMPERES = 1e6
MOST_VALUES = 1 << 21  # of which the means of states are made


class StateCurrent(Struct, frozen=True):
    """What a state takes, in amperes: ``mean`` of ``count`` values, which may be ``off`` by so much either way."""

    mean: float
    off: float
    count: int


class Metered(Struct, frozen=True):
    """The supply current over ``length`` ps, in all ``charge`` coulombs, which may be ``off`` by so much.

    ``states``: what each that shows takes; ``causes``: (share of the time, coulombs) of who was on top, "" for nobody.
    """

    length: int
    charge: float
    off: float
    states: dict[str, StateCurrent] = field(default_factory=dict)
    causes: dict[str, tuple[float, float]] = field(default_factory=dict)
    why: str = ""

    @property
    def average(self) -> Fraction:
        """In amperes."""
        return Fraction(self.charge) * PS_PER_SECOND / self.length

    @property
    def average_off(self) -> Fraction:
        """By how much the average may be off."""
        return Fraction(self.off) * PS_PER_SECOND / self.length


class Seen(Struct, frozen=True):
    """What lines show of who ran; see :class:`tachys.checking.board.measuring.Measurement`."""

    paper: Bounds
    capture: Capture
    shown: Readings
    things: Sequence[Thing]
    tops: WhoRuns

    @property
    def system(self) -> System:
        """The model."""
        return self.paper.system

    @property
    def resolution(self) -> int:
        """How far off the distance of two instants may be, in ps."""
        return self.capture.known_to


def of_parts(parts: Sequence[Metered | None]) -> Metered | None:
    """Of several parts of one record: charges added up, of each state what most values tell."""
    known = [part for part in parts if part is not None]
    if not known:
        return None
    length, states = sum(part.length for part in known), dict[str, StateCurrent]()
    causes: dict[str, tuple[float, float]] = {}
    for part in known:
        for name, (share, charge) in part.causes.items():
            before = causes.get(name, (0.0, 0.0))
            causes[name] = before[0] + share * part.length / length, before[1] + charge
        for name, state in part.states.items():
            states[name] = max(states.get(name, state), state, key=lambda each: each.count)
    charge, off = sum(part.charge for part in known), sum(part.off for part in known)
    return Metered(length, charge, off, states, causes, known[0].why)


def metered(board: Seen) -> Metered | None:
    """What a column of the supply current says; None where there is none, or nothing in it."""
    if board.shown.current is None:
        return None
    signal, meter = board.shown.current
    at, value = _known(signal, float(meter.scale))
    if not len(at) or at[0] >= board.capture.end:
        return None
    end = board.capture.end
    trace = _Trace(at, value, end)
    length, charge = end - int(at[0]), trace.between(at[:1], np.array([end]))[0]
    off = float(meter.tolerance) * abs(charge) + float(meter.zero) * length / PS_PER_SECOND
    causes = _causes(board, trace, int(at[0]), end)
    lines = {thing: _when_on(board, thing) for thing in board.system.on_top}
    on = {thing: bodies for thing, bodies in lines.items() if bodies is not None}
    hidden = next((thing for thing in lines if thing not in on), None)
    if hidden is not None:
        return Metered(length, charge, off, {}, causes, f"{hidden} takes a current of its own, and no line shows it")
    return Metered(length, charge, off, _states(board, trace, on, float(meter.zero), float(meter.tolerance)), causes)


def _when_on(board: Seen, thing: Thing) -> Bodies | None:
    """When a unit was at work, or a pin high; None: no line shows it."""
    line = board.shown.pins.get(thing.name) if thing.kind == "pin" else None
    return board.shown.bodies.get(thing) if line is None else stretches(line, board.capture)


def _known(signal: Signal, scale: float) -> tuple[Instants, Reals]:
    """(instants, amperes) of what is known."""
    numbers = signal.reals if signal.real else signal.bits.astype(np.float64)
    good = signal.known & (np.abs(numbers * scale) < MOST_AMPERES)  # not what is no number
    return signal.at[good], numbers[good] * scale


class _Trace:
    """Values that hold until the next, the last until ``end``."""

    def __init__(self, at: Instants, value: Reals, end: int) -> None:
        self.at, self.value = at, value
        self.until = np.append(at[1:], end)
        self._sums = np.append(0.0, np.cumsum(value * (self.until - at) / PS_PER_SECOND))

    def _up_to(self, when: Instants) -> Reals:
        place = np.maximum(np.searchsorted(self.at, when, side="right") - 1, 0)
        since = np.maximum(when - self.at[place], 0)
        total: Reals = self._sums[place] + self.value[place] * since / PS_PER_SECOND
        return total

    def on_its_grid(self) -> tuple[_Trace, int]:
        """The same with each value that was like its neighbour, and the step between them; no more than are needed."""
        length = int(self.until[-1] - self.at[0])
        step = max(1, int(np.diff(self.at).min()) if len(self.at) > 1 else length, length // MOST_VALUES)
        grid = np.arange(self.at[0], self.until[-1], step)
        return _Trace(grid, self.value[np.searchsorted(self.at, grid, side="right") - 1], int(self.until[-1])), step

    def between(self, begin: Instants, end: Instants) -> Reals:
        """The coulombs from one instant to another."""
        return self._up_to(end) - self._up_to(begin)


def _causes(board: Seen, trace: _Trace, begin: int, end: int) -> dict[str, tuple[float, float]]:
    """(share of the time, coulombs) of each that was on top."""
    borders = np.clip(np.concatenate([[begin], board.tops.at, [end]]), begin, end)
    who = np.concatenate([[NOBODY], board.tops.who])
    taken, lasts = trace.between(borders[:-1], borders[1:]), np.diff(borders)
    found = {}
    for each in np.unique(who).tolist():
        mine = who == each
        name = str(board.things[each]) if each != NOBODY else ""
        found[name] = float(lasts[mine].sum()) / (end - begin), float(taken[mine].sum())
    return found


def _states(
    board: Seen, trace: _Trace, on: Mapping[Thing, Bodies], zero: float, tolerance: float
) -> dict[str, StateCurrent]:
    """What each state takes that can be told apart from others; ``on``: when that works that takes some on top."""
    cores, begin, end, core = _core_states(board)
    trace, step = trace.on_its_grid()
    first, last = trace.at - step, trace.at + step
    place = np.searchsorted(begin, first, side="right") - 1
    good = (place >= 0) & (last <= end[np.maximum(place, 0)]) if len(begin) else np.zeros(len(first), np.bool_)
    works = np.zeros(len(first), np.int64)
    since, until = begin[np.maximum(place, 0)] if len(begin) else first, end[np.maximum(place, 0)] if len(end) else last
    for bit, bodies in enumerate(on.values()):
        before, behind = first - board.resolution, last + board.resolution
        begun, over = np.searchsorted(bodies.start, before), np.searchsorted(bodies.end, before)
        good &= (begun == np.searchsorted(bodies.start, behind)) & (over == np.searchsorted(bodies.end, behind))
        for edges, passed in ((bodies.start, begun), (bodies.end, over)):
            borders = np.concatenate([[since.min(initial=0)], edges, [until.max(initial=0)]])
            since, until = np.maximum(since, borders[passed]), np.minimum(until, borders[passed + 1])
        works |= (begun - over + bodies.always).astype(np.int64) << bit
    kinds = (core[np.maximum(place, 0)] if len(core) else np.zeros(len(first), np.int64)) + len(cores) * works
    rows, means, offs, counts = [], list[float](), list[float](), list[int]()
    for kind in np.unique(kinds[good]).tolist():
        mine = good & (kinds == kind)
        if mine.sum() < FEW:
            continue
        late = (trace.at[mine] - since[mine]) * 2 >= (until - since)[mine]
        mean, off = _mean(trace.value[mine], late)
        at_work = [float(kind // len(cores) >> bit & 1) for bit in range(len(on))]
        rows.append([*(float(kind % len(cores) == each) for each in range(len(cores))), *at_work])
        means.append(mean)
        offs.append(off)
        counts.append(int(mine.sum()))
    if not rows:
        return {}
    matrix, weight = np.array(rows), 1 / np.maximum(offs, 1e-6 * np.abs(means) + 1e-15)
    inverse = np.linalg.pinv(matrix * weight[:, None]) * weight
    certain, found = np.abs(np.diag(inverse @ matrix) - 1) < 1e-6, {}
    for number, name in enumerate([*cores, *on]):
        if certain[number] and matrix[:, number].any():
            parts = inverse[number]
            mean, off = float(parts @ means), float(np.abs(parts) @ offs)
            off += tolerance * abs(mean) + (zero if number < len(cores) else 0.0) + _last_digit(trace) / 2
            found[name] = StateCurrent(mean, off, int(np.array(counts)[np.abs(parts) > 1e-9].sum()))
    return found


def _last_digit(trace: _Trace) -> float:
    """The least step between two values: what lies between them no value shows."""
    steps = np.diff(np.unique(trace.value[:100_000]))
    return float(steps.min()) if len(steps) else 0.0


def _mean(value: Reals, late: Known) -> tuple[float, float]:
    """(mean, by how much it may be off).

    A meter takes time to settle: what the ``late`` half of each stretch shows counts where that is enough, and by how
    much the other half lies elsewhere it may itself be off.
    """
    drift = 0.0
    if min(late.sum(), (~late).sum()) >= FEW:
        drift, value = abs(float(value[late].mean() - value[~late].mean())), value[late]
    parts = [part.mean() for part in np.array_split(value, min(PARTS, len(value)))]
    return float(value.mean()), drift + SURE * float(np.std(parts, ddof=1)) / len(parts) ** 0.5


def _core_states(board: Seen) -> tuple[list[str], Instants, Instants, Instants]:
    """(names, begin, end, which) of the stretches during which the core is surely in one state.

    With a line up it runs, if all that a body does is work, and it spins in a pause with which a step ends. A core that
    sleeps does so behind the pass that can lie before it, up to where it can wake; one that never does spins where all
    that could run has a line.
    """
    system, core = board.system, board.system.core
    halts = [step.halt for step in system.steps if step.halt is not None]
    asleep = sorted({state for halt in halts for state in halt.states})
    names = ["run", "spin", *asleep[:1]]
    bodies: dict[str, Isr | Step] = {isr.thing: isr for isr in system.isrs}
    bodies |= {step.thing: step for step in system.steps}
    idle = len(names) if _nobody_is_known(board) else 0
    known = np.array([idle, *(_known_state(bodies.get(thing)) for thing in board.things)], np.int64)
    who = np.concatenate([[NOBODY], board.tops.who])
    code = known[who + 1]
    begin = np.concatenate([[board.capture.begin], board.tops.at])
    end = np.append(board.tops.at, board.capture.end)
    for number, thing in enumerate(board.things):  # a pause is at the end of its step
        body = bodies.get(thing)
        if isinstance(body, Step) and known[number + 1] == SPIN:
            ends, mine = board.shown.bodies[thing].end, who == number
            over = np.append(ends, board.capture.begin)[np.searchsorted(ends, begin[mine], side="right")]
            begin[mine] = np.maximum(begin[mine], over - body.pauses.least)
    edge = board.resolution + core.entry.most + core.chain.most
    lead, tail = edge + core.exit.most, edge + max((halt.late for halt in halts), default=0)
    lead += 2 * hidden_pass(board.paper, board.shown, board.resolution) if asleep else 0
    begin = begin + np.where((code == SLEEP) | (who == NOBODY), lead, board.resolution)
    end = end - np.where((code == SLEEP) | (who == NOBODY), tail, board.resolution)
    good = (code > 0) & (end > begin) & ((code < SLEEP) | (len(asleep) < 2))  # of two depths none is told
    return names, begin[good], end[good], code[good] - 1


def _known_state(body: Isr | Step | None) -> int:
    """What the core does while a line is up; 0: that is not sure. It spins only in the pause at its end."""
    if isinstance(body, Isr):
        return RUN
    if body is None:
        return 0
    if all(act.burns for act in body.acts):
        return RUN
    if all(act.burns for act in body.acts[:-1]) and isinstance(body.acts[-1], Pause):
        return SPIN
    halts = all(isinstance(act, Halt) or (isinstance(act, Work) and act.masked) for act in body.acts)
    return SLEEP if halts else 0


def _nobody_is_known(board: Seen) -> bool:
    """Whether it is sure what the core does while no line is up."""
    system = board.system
    if system.loop is None or unseen_routines(board.paper, board.shown):
        return False
    unseen = [step for step in system.steps if step.thing not in board.shown.bodies and not step.once]
    if not any(step.halt for step in system.steps):
        return not unseen
    sleeper = next((step for step in system.steps if step.halt and not step.gated), None)
    if sleeper is None or sleeper not in unseen:  # with its line up it is on top while it sleeps
        return False
    return all(wait.at_most is not None for step in unseen for wait in step.waits)
