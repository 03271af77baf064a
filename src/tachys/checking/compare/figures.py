"""Every modelled figure beside what was measured of it: it agrees, is refuted, or the capture does not show it.

A figure is refuted only by what no resolution, no unseen routine and no tolerance can explain.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from enum import StrEnum
from fractions import Fraction

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from tachys.capture.table import Instants
from tachys.checking.board.grid import jitter_of
from tachys.checking.board.measuring import Measurement, Ticks, ticks_of, without_least
from tachys.checking.board.nesting import NOBODY, ExecutionTimes
from tachys.checking.board.unseen import hidden_pass, unseen_hold, unseen_routines, unseen_work
from tachys.checking.compare.items import come_meanwhile, taken, took_fewer
from tachys.checking.compare.rhythm import Rhythm, long_runs, ordinal, rhythm_of
from tachys.checking.probes.buscodes import urgency_of
from tachys.model.acts import Drain, Guard
from tachys.model.events import Thing
from tachys.model.nodes import Apart, Counts, Isr, ReadCounter, Source, Step, Unit
from tachys.model.quantities import ZERO, Range, time_in_words
from tachys.stretches import NEVER, place_of
from tachys.words import PICO
from tachys.worstcase.arrivals import source_curve
from tachys.worstcase.supply import currents_of

_CHANCE = 0.05  # what is less likely is hardly chance
MEANWHILE = "if it takes what comes meanwhile, too"  # why what a run of a drain costs agrees
MILLION = 10**6  # shares are whole millionths


class Agreement(StrEnum):
    """What a capture says of a modelled figure."""

    AGREES = "agrees"
    REFUTES = "refutes"
    NOT_SHOWN = "not shown"


class Measured(Struct, frozen=True):
    """What was seen of a figure: [least, most] in ps over ``count`` cases, each within ``resolution``."""

    least: int
    most: int
    count: int
    resolution: int


class Compared(Struct, frozen=True):
    """One figure of the model: ``about`` it belongs to, ``key`` as the model file names it, [low, high] in ps.

    ``high`` None: the figure is a least distance. ``sure_least`` and ``sure_most`` are what the
    measurement proves of the extremes: some case was at most ``sure_least``, some was at least ``sure_most``. ``at``
    is where the worst was seen, where that is known; ``rhythm``: that of the runs beyond it; ``asleep``: it agrees
    once what the core seems to have slept meanwhile is left out.
    """

    about: Thing
    key: str
    low: int | None
    high: int | None
    measured: Measured | None
    state: Agreement
    sure_least: int | None = None
    sure_most: int | None = None
    why: str = ""
    urgency: int | None = None
    at: int | None = None
    rhythm: Rhythm | None = None
    asleep: bool = False

    @property
    def of_current(self) -> bool:
        """Whether it is a supply current, in picoamperes."""
        return self.key.startswith("current")

    @property
    def below(self) -> bool:
        """Whether something came out smaller than the model allows."""
        return self.sure_least is not None and self.low is not None and self.sure_least < self.low

    @property
    def beyond(self) -> bool:
        """Whether something came out larger than the model allows."""
        return self.sure_most is not None and self.high is not None and self.sure_most > self.high


_FEWEST_WAYS = 8  # through a unit that no line shows
LOOKED_AT = 1000  # operations that took too long, one by one


def compare_figures(board: Measurement) -> tuple[Compared, ...]:
    """Every figure of the model, in the order of the model file."""
    found: list[Compared] = []
    waits = {isr.name: held for isr in board.system.isrs if (held := _waits_held(board, isr)) is not None}
    for source in board.system.sources:
        found += _source(board, source)
    found += [_apart(board, apart) for apart in board.system.aparts]
    for unit in board.system.units:
        found += [_unit(board, unit), *_answers(board, unit)]
    for isr in board.system.isrs:
        found += _isr(board, isr, waits)
    for step in board.system.steps:
        found += _step(board, step, waits)
    found += [_looks(board, counter) for counter in board.system.counters]
    found += [*_currents(board), *_switching(board), *_entered(board)]
    passed = _pass(board)
    return (*found, passed) if passed else tuple(found)


def _judged(
    about: Thing, key: str, low: int | None, high: int | None, measured: Measured, sure: tuple[int, int],
    urgency: int | None = None, why: str = "",
) -> Compared:  # fmt: skip
    made = Compared(about, key, low, high, measured, Agreement.AGREES, sure[0], sure[1], why, urgency)
    if made.below or made.beyond:
        return Compared(about, key, low, high, measured, Agreement.REFUTES, sure[0], sure[1], why, urgency)
    return made


def _not_shown(about: Thing, key: str, low: int | None, high: int | None, why: str) -> Compared:
    return Compared(about, key, low, high, None, Agreement.NOT_SHOWN, why=why)


# --- sources ------------------------------------------------------------------------------------------------


def _source(board: Measurement, source: Source) -> Iterator[Compared]:
    about = source.thing
    if source.steady is None:
        instants = board.events(about)
        if instants is None or len(instants) < 3:
            why = "no line shows it" if instants is None else "too few events"
            yield _not_shown(about, "gap", source_curve(source).least_span(2), None, why)
        else:
            yield from _distances(board, source, about, instants)
        return
    assert source.period_least is not None
    ticks = ticks_of(board, source)
    if ticks is None or len(ticks.at) < 3:
        seen = ticks is not None or board.events(about) is not None
        why = "too few events, or no grid in them" if seen else "no line shows it"
        if any(board.isrs[isr.name].crowded for isr in board.system.isrs if source.event in isr.on):
            why = "no line shows it, and its routine runs on without a pause: releases are lost"
        yield _not_shown(about, "period", int(source.period_least), None, why)
        return
    yield _period(board, source, about, ticks)
    if board.events(about) is not None:
        yield _jitter(board, source, about, ticks)


def _period(board: Measurement, source: Source, about: Thing, ticks: Ticks) -> Compared:
    assert source.period_least is not None
    assert source.period_most is not None
    length, count = int(ticks.at[-1] - ticks.at[0]), int(ticks.number[-1])
    tolerance = board.system.capture_tolerance
    low = Fraction(length - ticks.off, count) * (1 - tolerance)
    high = Fraction(length + ticks.off, count) * (1 + tolerance)
    mean = round(ticks.period)
    measured = Measured(mean, mean, count, max(1, -(-ticks.off // count)))
    # the mean is one figure: it refutes where it lies outside on either side, as a whole
    sure = (int(high), -int(-low // 1))
    return _judged(about, "period", int(source.period_least), -int(-source.period_most // 1), measured, sure)


def _jitter(board: Measurement, source: Source, about: Thing, ticks: Ticks) -> Compared:
    assert source.period_least is not None
    assert source.period_most is not None
    share = 1 + float(board.system.capture_tolerance) * 2
    count = max(1, int(ticks.number[-1]))
    mean, spare = float(ticks.at[-1] - ticks.at[0]) / count, ticks.off / count  # both ends may be off themselves
    least = min(mean - spare, float(source.period_least)) / share
    most = max(mean + spare, float(source.period_most)) * share
    width = jitter_of(ticks.at, ticks.number, least, most)
    measured = Measured(0, max(0, width - board.resolution), len(ticks.at), board.resolution)
    return _judged(about, "jitter", None, source.jitter, measured, (0, width - board.resolution))


def _distances(board: Measurement, source: Source, about: Thing, instants: Instants) -> Iterator[Compared]:
    """The gap of two events, and what the bursts allow of more."""
    apart = np.diff(instants)
    least, most, count = int(apart.min()), int(apart.max()), len(apart)
    curve = source_curve(source)
    pair = curve.least_span(2)
    slack = board.slack(least)
    measured = Measured(least, most, count, board.resolution)
    key = "burst" if source.burst else "gap"
    if source.burst is None:
        yield _judged(about, key, pair, None, measured, (least + slack, 0))
        return
    refuted = None
    for size in range(2, min(len(instants), 4 * source.burst.count + 2) + 1):
        span = int((instants[size - 1 :] - instants[: len(instants) - size + 1]).min())
        allowed = curve.least_span(size)
        if span + board.slack(span) < allowed and refuted is None:
            refuted = (size, span, allowed)
    if source.burst.within is not None:
        yield from _bursts(board, about, instants, source.burst.every, source.burst.within)
    if refuted is None:
        yield _judged(about, key, pair, None, measured, (max(pair, least), 0))
        return
    size, span, allowed = refuted
    why = f"{size} of them"
    yield Compared(about, key, allowed, None, Measured(span, span, 1, board.resolution), Agreement.REFUTES,
                   span + slack, 0, why)  # fmt: skip


def _apart(board: Measurement, apart: Apart) -> Compared:
    """The least distance of any two that keep apart, whichever they are."""
    shown = [instants for event in apart.of if (instants := board.events(event)) is not None]
    at = np.sort(np.concatenate([np.zeros(0, np.int64), *shown]))
    if len(shown) < 2 or len(at) < 2:
        why = "too few events" if len(shown) > 1 else "less than two of them have a line"
        return _not_shown(apart.thing, "gap", apart.gap, None, why)
    near = np.diff(at)
    least = int(near.min())
    measured = Measured(least, int(near.max()), len(near), board.resolution)
    found = _judged(apart.thing, "gap", apart.gap, None, measured, (least + board.slack(least), 0))
    return replace(found, at=int(at[int(near.argmin())]))


def _bursts(board: Measurement, about: Thing, instants: Instants, every: int, within: int) -> Iterator[Compared]:
    """How long bursts last: in one no two are half of ``every`` apart, and no less lies between two bursts."""
    if every - 2 * within <= 4 * board.slack(every):
        yield _not_shown(about, "within", None, within, "its bursts do not look apart at this resolution")
        return
    pauses = np.flatnonzero(np.diff(instants) > every // 2)
    begins, ends = instants[np.append(0, pauses + 1)], instants[np.append(pauses, len(instants) - 1)]
    lasts = ends - begins
    worst, slack = int(np.argmax(lasts)), board.slack(within)
    measured = Measured(int(lasts.min()), int(lasts[worst]), len(lasts), board.resolution)
    made = _judged(about, "within", None, within, measured, (0, measured.most - slack))
    yield replace(made, at=int(begins[worst]))


# --- units, routines, steps ---------------------------------------------------------------------------------


def _unit(board: Measurement, unit: Unit) -> Compared:
    about = unit.thing
    if unit.counts is not None:
        return _counted(board, unit, unit.counts)
    paired = board.units[unit.name].paired
    takes = None if paired is None else paired.takes if paired.takes is not None else paired.after
    limit = None if unit.stands_still else unit.takes.most
    if takes is None or not len(takes):
        unseen = _not_shown(about, "takes", unit.takes.least, limit, "no line shows its start and end")
        return _from_neighbours(board, unit) or unseen
    least, most = int(takes.min()), int(takes.max())
    measured = Measured(least, most, len(takes), board.resolution)
    slack = board.slack(most)
    found = _judged(about, "takes", unit.takes.least, limit, measured, (least + slack, most - slack))
    if limit is None or not found.beyond:
        return found
    assert paired is not None
    long = np.flatnonzero(takes - slack > limit)[:LOOKED_AT].tolist()
    slept = [_slept(board, int(paired.at[each]), int(paired.at[each] + takes[each])) for each in long]
    awake = [
        (int(takes[each]) - most, int(takes[each]) - least) for each, (least, most) in zip(long, slept, strict=True)
    ]
    fits = all(least <= limit + slack and most >= unit.takes.least - slack for least, most in awake)
    return replace(found, asleep=any(most for _, most in slept) and fits)


def _from_neighbours(board: Measurement, unit: Unit) -> Compared | None:
    """What a unit without a line takes, where even the quickest way through it refutes the model; else None.

    From what starts it, or the routine within which that lies, to the one routine that serves its end; each start has
    one of its own behind it. However quick, that may have been held off for as long as its bound says.
    """
    ends = [body for body in board.system.graph.begun_by.get(unit.end, ()) if isinstance(body, Isr)]
    plain = unit.busy == "drop" and unit.drains is None and not unit.stands_still and not unit.may_stay_silent
    if not plain or len(unit.on) != 1 or unit.primed or len(ends) != 1 or unit.on[0].kind == "buffer":
        return None
    (isr,), (cause,) = ends, unit.on
    begun, begin = board.events(cause), ZERO
    if begun is None and cause.kind == "isr" and cause.moment in dict(board.system.isr(cause.name).moments):
        begun, way = board.events(cause.thing.start), board.paper.isrs[cause.name].within(cause.moment)
        begin = ZERO if way.most is None else Range(way.least, way.most)
        begun = None if way.most is None else begun
    starts, latency = board.events(isr.start), board.paper.isrs[isr.name].latency
    if begun is None or starts is None or latency.most is None or isr.on != (unit.end,) or isr.serves_all:
        return None
    begun, starts = begun[begun < starts[-1:].max(initial=0)], starts[starts > begun[:1].min(initial=0)]
    if len(begun) < _FEWEST_WAYS or len(begun) != len(starts) or (starts[:-1] > begun[1:]).any():
        return None
    after = int((starts - begun).min())
    least, most = max(0, after - latency.most - begin.most), max(0, after - begin.least)
    slack = board.slack(after)
    measured = Measured(least, most, len(begun), board.resolution)
    found = _judged(unit.thing, "takes", unit.takes.least, unit.takes.most, measured, (most + slack, least - slack),
                    why=f"as the quickest way from {cause} to {isr.start} tells")  # fmt: skip
    return found if found.state is Agreement.REFUTES else None


def _slept(board: Measurement, begin: int, end: int) -> tuple[int, int]:
    """The least and the most in ps that a core which can sleep seems to have slept meanwhile.

    Nothing is seen to run then, or the step that halts; a pass of the loop and what no line shows may lie in it.
    """
    sleepers = [step for step in board.system.steps if step.halt is not None]
    if not sleepers:
        return 0, 0
    asleep = {NOBODY, *(board.things.index(step.thing) for step in sleepers if step.thing in board.things)}
    idle = np.array([b - a for a, b, who in board.tops.between(begin, end) if who in asleep], np.int64)
    behind = hidden_pass(board.paper, board.shown, board.resolution)
    awake = behind + unseen_work(board.paper, unseen_routines(board.paper, board.shown), idle)
    return int(np.maximum(0, idle - awake).sum()), int(idle.sum())


def _looks(board: Measurement, counter: ReadCounter) -> Compared:
    """How many counts lie between two looks; what comes as a look does may have been counted before or behind it."""
    bound, looks = board.paper.counters[counter.name], board.shown.all_of(counter.read_by)
    counted = None if counter.of is None else board.events(counter.of)
    if looks is None or counted is None or not len(counted) or len(looks) < 2:
        what = "a clock has no line" if counter.of is None else "no line shows its counts and looks"
        return _not_shown(counter.thing, "looks", bound.fewest, bound.most, what)
    off = board.resolution
    looks = looks[looks > counted[0]]
    early, late = (np.searchsorted(counted, looks + by, side="right") for by in (-off, off))
    fewest, most = early[1:] - late[:-1], late[1:] - early[:-1]
    if not len(fewest):
        return _not_shown(counter.thing, "looks", bound.fewest, bound.most, "too few looks")
    plain = np.diff(np.searchsorted(counted, looks, side="right"))
    measured = Measured(int(plain.min()), int(plain.max()), len(plain), 1)
    sure = (int(most.min()), int(fewest.max()))
    return _judged(counter.thing, "looks", bound.fewest, bound.most, measured, sure)


def _currents(board: Measurement) -> Iterator[Compared]:
    """What each state takes, and units and pins on top, in picoamperes."""
    metered = board.metered
    if metered is None:
        return
    modelled = currents_of(board.system)
    for state, (least, most) in modelled.items():
        about = Thing(state if state.startswith(("sleep.", "unit.", "pin.")) else "core")
        key = "current" if about == state else f"current.{state}"
        low, high = (round(each * PICO) for each in (least, most))
        seen = metered.states.get(state)
        if seen is None:
            yield _not_shown(about, key, low, high, metered.why or "it never shows alone for long enough")
            continue
        mean, off = (round(each * PICO) for each in (seen.mean, seen.off))
        yield _judged(about, key, low, high, Measured(mean, mean, seen.count, off), (mean + off, mean - off))


def _switching(board: Measurement) -> Iterator[Compared]:
    """How long the core takes from routine to routine, where it tells that itself.

    A return that is broken off, since something comes meanwhile, takes up to an exit and an entry.
    """
    core = board.system.core
    broken_off = core.exit.most + core.entry.most
    for key, old in (("exit", core.exit), ("chain", core.chain)):
        seen = board.capture.switches.get(key)
        if seen is None:
            continue
        surely, why = seen.most - board.slack(seen.most), ""
        if key == "chain" and old.most < surely <= broken_off:
            surely, why = old.most, "the longest may be returns that were broken off"
        measured = Measured(seen.least, seen.most, seen.times, board.resolution)
        sure = seen.least + board.slack(seen.least), surely
        yield _judged(Thing("core"), key, old.least, old.most, measured, sure, why=why)


def _entered(board: Measurement) -> Iterator[Compared]:
    """An entry that is shorter than modelled, where the quick starts of all routines with a line say so; else nothing.

    Quick is what begins within an entry of its event, and not right behind another, where a chain may have been.
    """
    core, least, quick, ends = board.system.core, NEVER, 0, None
    for name, runs in board.isrs.items() if not core.late_arrival else ():
        delays, starts = runs.latency, board.events(runs.isr.start)
        if delays is None or delays.relative or starts is None or not len(delays.at):
            continue
        if board.paper.isrs[name].latency.least <= int(delays.after.min()) + board.resolution and not quick:
            return  # the first of them is as modelled
        slack = board.slack(core.entry.most)
        waits = np.flatnonzero(delays.after <= core.entry.most + slack)
        if ends is None:
            bodies = [board.shown.bodies[isr.thing] for isr in board.system.isrs if isr.thing in board.shown.bodies]
            ends = np.sort(np.concatenate([np.zeros(0, np.int64), *(each.ended for each in bodies)]))
        begun = delays.at[waits] + delays.after[waits]
        alone = place_of(ends, begun + slack) == place_of(ends, begun - core.chain.most - slack)
        after = delays.after[waits[alone]]
        if len(after) < _FEWEST_WAYS:
            continue
        if 2 * int((after + slack < core.entry.least).sum()) < len(after):
            return
        least, quick = min(least, int(after.min())), quick + len(after)
    if quick:
        seen, off = max(0, least), board.slack(core.entry.least)
        measured = Measured(seen, seen, quick, off)
        yield _judged(Thing("core"), "entry", core.entry.least, core.entry.most, measured, (seen + off, 0))


def _answers(board: Measurement, unit: Unit) -> Iterator[Compared]:
    """How many of its operations end, in millionths; of a unit that always answers only if one does not.

    So few or many may be chance with a probability of no more than 2 exp(-n D(seen, modelled)), D being the relative
    entropy (H. Chernoff, Annals of Mathematical Statistics 23, 1952): in one of a million captures of a right model.
    """
    paired, modelled = board.units[unit.name].paired, round(unit.answers * MILLION)
    ended, silent = (0, 0) if paired is None or not paired.judged else (len(paired.at), len(paired.silent))
    if not ended + silent:
        if unit.may_stay_silent:
            yield _not_shown(unit.thing, "answers", modelled, modelled, "no line shows its starts and ends")
        return
    if not silent and not unit.may_stay_silent:
        return
    many, share = ended + silent, ended / (ended + silent)
    chance = float(unit.answers)
    parts = ((share, chance), (1 - share, 1 - chance))
    off = sum(seen * (math.log(seen / likely) if likely else math.inf) for seen, likely in parts if seen)
    wrong = many * off > math.log(2 * MILLION)
    seen, told = round(Fraction(ended, many) * MILLION), f"{modelled / 10**4:g} %" if modelled < MILLION else "all"
    yield Compared(
        unit.thing, "answers", modelled, modelled, Measured(seen, seen, many, 0),
        Agreement.REFUTES if wrong else Agreement.AGREES, seen if wrong else None, seen if wrong else None,
        f"{ended} of {many} operations ended, {told} in the model",
        at=int(paired.silent[0]) if paired and silent else None,
    )  # fmt: skip


def _counted(board: Measurement, unit: Unit, counts: Counts) -> Compared:
    """How many events lie between two ends of what repeats, or between its start and its end."""
    about, ends, of = unit.thing, board.events(unit.end), board.events(counts.of)
    paired, repeats = board.units[unit.name].paired, counts.repeats and not unit.on and not counts.cancelled_by
    if ends is None and of is not None and repeats:
        return _by_its_step(board, unit, counts, of)
    if ends is None or of is None or (paired is None and not repeats):
        return _not_shown(about, "counts", counts.n, counts.n, "no line shows what it counts, or its ends")
    off = board.resolution
    sure = len(of) > 1 and int(np.diff(of).min()) > 4 * off
    if paired is not None:
        begins, ends = paired.at, paired.at + paired.after
        before = place_of(of, begins, behind=True)
        clear = place_of(of, begins - off) == place_of(of, begins + off, behind=True)
    else:
        begins, ends = ends[:-1], ends[1:]
        before, clear = place_of(of, begins + off, behind=True), np.ones(len(begins), np.bool_)
    seen = (place_of(of, ends + off, behind=True) - before)[clear]
    if not sure or not len(seen):
        return _not_shown(about, "counts", counts.n, counts.n, "it is not sure which of the events it counts")
    usual = int(np.median(seen))  # some of what it counts may have no edge
    wrong = usual != counts.n and int((seen == usual).sum()) * 2 > len(seen)
    measured = Measured(usual, usual, len(seen), 0)
    state = Agreement.REFUTES if wrong else Agreement.AGREES
    return Compared(about, "counts", counts.n, counts.n, measured, state, usual, usual, str(counts.of))


def _by_its_step(board: Measurement, unit: Unit, counts: Counts, of: Instants) -> Compared:
    """How many events lie between two starts of the step that each end makes run, where none is lost on paper."""
    about, graph, reach = unit.thing, board.system.graph, board.paper.reach
    raised = [*graph.sets.get(unit.end, ()), *(f"buffer.{name}" for name, _ in graph.feeds.get(unit.end, ()))]
    followers = [step for step in board.system.steps if raised and list(step.polls) == raised]
    starts = board.events(followers[0].start) if len(followers) == len(raised) == 1 else None
    way = reach.flags[raised[0]] if reach is not None and starts is not None else None
    if (
        starts is None
        or len(starts) < 3
        or reach is None
        or way is None
        or way.reaction.most is None
        or way.overwritten
    ):
        return _not_shown(about, "counts", counts.n, counts.n, "no line shows its ends")
    behind = reach.events.curve(counts.of).most_within(way.reaction.most)
    before = place_of(of, starts, behind=True)
    seen, turns = int(before[-1] - before[0]), len(starts) - 1
    usual = int(np.median(np.diff(before)))
    number = next((each for each in (counts.n, usual) if abs(seen - turns * each) <= behind + 2), None)
    if number is None:
        return _not_shown(about, "counts", counts.n, counts.n, "its step runs after no steady number of them")
    if number != usual:
        late = time_in_words(way.reaction.most)
        why = f"its step mostly runs after {usual}, but may come {late} behind: too few runs to tell these apart"
        return _not_shown(about, "counts", counts.n, counts.n, why)
    state = Agreement.REFUTES if number != counts.n else Agreement.AGREES
    return Compared(about, "counts", counts.n, counts.n, Measured(number, number, turns, 0), state, number, number,
                    str(counts.of))  # fmt: skip


def _isr(board: Measurement, isr: Isr, waits: dict[str, _Held]) -> Iterator[Compared]:
    about = isr.thing
    runs = board.isrs[isr.name]
    own = runs.cost
    if own is not None and runs.single is not None:
        own = without_least(own, runs.single)
    first = isr.cost_first
    if own is None or not len(own.least):
        yield _not_shown(about, "cost", first.least, first.most, _no_body(board, about))
    elif isr.drains is not None:
        yield _drained(board, about, isr.drains, Range(first.least, first.most + isr.longer), own, "cost")
    elif isr.pause.most:
        yield _paused(board, isr, own)
    elif isr.serves_all or not board.shows_each(isr):
        found = _cost(board, about, isr.cost, own, _served(board, isr, len(own.least)))
        yield found if found.state is Agreement.REFUTES or isr.serves_all else _of_many(board, isr, found)
    else:
        yield from _in_rhythm(board, isr, own)
    yield from _moments(board, isr, own)
    yield from _guards(board, waits, about, isr.guards, isr.cost)


def _of_many(board: Measurement, isr: Isr, found: Compared) -> Compared:
    """The cost of runs that may look like one: too long even where as many are in the longest as can come meanwhile."""
    runs, bodies, reach = board.isrs[isr.name], board.shown.bodies[isr.thing], board.paper.reach
    if runs.cost is None or runs.single is None or runs.single.all() or reach is None:
        return found
    longest = int(np.argmax(np.where(runs.single, 0, runs.cost.least)))
    at = int(bodies.start[bodies.whole][longest])
    span = int(bodies.end[bodies.whole][longest]) - at
    many = max(1, reach.events.curve(isr.start).most_within(span + board.slack(span)))
    sure = int(runs.cost.least[longest]) // many - board.system.core.follows.most - board.slack(span)
    if sure <= isr.cost.most:
        return found
    measured = Measured(sure, sure, 1, board.slack(span))
    why = "or it runs more often than its sources allow, which such samples do not show apart"
    return _judged(isr.thing, "cost", found.low, found.high, measured, (sure, sure), why=why)


def _paused(board: Measurement, isr: Isr, own: ExecutionTimes) -> Compared:
    """Cost and pause together: no run lasts less by the clock, and what is not on top of it is no more than both."""
    bodies, whole = board.shown.bodies[isr.thing], isr.cost_first + isr.pause
    lasted = (bodies.end - bodies.start)[bodies.whole] + 2 * board.resolution
    return _cost(board, isr.thing, whole, ExecutionTimes(own.least, lasted, own.interrupted), None)


def _moments(board: Measurement, isr: Isr, own: ExecutionTimes | None) -> Iterator[Compared]:
    """How much CPU time after the first instruction what lies within a routine comes, in runs with nothing on top."""
    bodies = board.shown.bodies.get(isr.thing)
    for name, place in isr.moments:
        shown = board.events(f"{isr.thing}.{name}")
        if shown is None or own is None or bodies is None:
            yield _not_shown(isr.thing, f"moments.{name}", place.least, place.most, "no line shows it")
            continue
        off, begun, ended = board.resolution, bodies.start[bodies.whole], bodies.end[bodies.whole]
        apart = begun[1:] - ended[:-1] > 4 * off  # else it may be of the run before, or behind
        alone = (own.interrupted == 0) & np.append(True, apart) & np.append(apart, True)
        starts, ends = begun[alone], ended[alone]
        near = place_of(shown, starts - off)
        at = np.append(shown, np.iinfo(np.int64).max)[near]
        inside = (at <= ends + off) & (place_of(shown, ends + off, behind=True) == near + 1)
        after = np.maximum(0, at - starts)[inside]
        if not len(after):
            yield _not_shown(isr.thing, f"moments.{name}", place.least, place.most, "no run shows it by itself")
            continue
        others = [other for other in unseen_routines(board.paper, board.shown) if other.urgency < isr.urgency]
        slack = board.slack(int(after.max()))
        sure_most = int((after - unseen_work(board.paper, others, after)).max()) - slack
        measured = Measured(int(after.min()), int(after.max()), len(after), board.resolution)
        made = _judged(isr.thing, f"moments.{name}", place.least, place.most, measured,
                       (int(after.min()) + slack, sure_most), why=name)  # fmt: skip
        worst = int(np.argmax(after)) if made.beyond else int(np.argmin(after))
        yield replace(made, at=int(starts[inside][worst]))


def _in_rhythm(board: Measurement, isr: Isr, own: ExecutionTimes) -> Iterator[Compared]:
    """What runs cost, and what each n-th does more."""
    about, nth, slack = isr.thing, isr.nth, board.stretched(int(own.most.max()))
    bodies = board.shown.bodies[about]
    begun = bodies.start[bodies.whole]
    long = None if nth is None else long_runs(own, isr.cost_first, nth, slack)
    if nth is None or long is None:
        whole = _cost(board, about, isr.cost, own, None)
    else:
        rest = np.ones(len(long), np.bool_) if long.all() else ~long
        allowed = isr.cost if long.all() else isr.cost_first
        whole = _cost(board, about, allowed, _only(own, rest), None)
    found = rhythm_of(own, isr.cost_first) if whole.beyond else None
    if found is not None and int(own.least[~found.long].max()) - slack <= isr.cost_first.most:
        at = int(begun[found.long][0])
        yield replace(whole, why=found.text, rhythm=found, at=at)
    else:
        yield whole
    if nth is None or long is None or long.all() or not nth.cost.most:
        return
    first, of_it = isr.cost_first, _only(own, long)
    more = ExecutionTimes(of_it.least - first.most, of_it.most - first.least, of_it.interrupted)
    if whole.state is Agreement.AGREES:
        place = int(np.flatnonzero(long)[int(np.argmax(of_it.least))])
        at = int(begun[place])
        yield replace(_cost(board, about, nth.cost, more, None, "nth"), at=at, why=f"each {ordinal(nth.n)}")


def _only(own: ExecutionTimes, chosen: NDArray[np.bool_]) -> ExecutionTimes:
    return ExecutionTimes(own.least[chosen], own.most[chosen], own.interrupted[chosen])


def _no_body(board: Measurement, about: Thing) -> str:
    return "no line shows when it runs" if about in board.shown.unseen else "its line never moves"


def _served(board: Measurement, isr: Isr, runs: int) -> Instants | None:
    """At most how many events each whole run served, where one run may serve several."""
    if not isr.serves_all:
        return None
    capacity = isr.pending * len(isr.on)
    events, starts = board.shown.all_of(isr.on), board.events(isr.start)
    accepted = board.isrs[isr.name].accepted
    if events is None or starts is None or accepted is None or not len(starts):
        return np.full(runs, capacity, np.int64)
    come = place_of(events, starts[:runs] + board.resolution, behind=True)
    # what came before the run before it was accepted, that run took
    since = place_of(events, accepted[: max(0, runs - 1)] - board.resolution)
    since = np.concatenate([come[:1] - capacity, since])
    served: Instants = np.clip(come - since, 1, capacity)
    return served


def _cost(
    board: Measurement, about: Thing, cost: Range, own: ExecutionTimes, served: Instants | None, key: str = "cost"
) -> Compared:
    """``own`` of every whole run; what a run that served several events took is shared out among them."""
    least, most = own.least, own.most
    if served is not None:
        least = least // served
    slack = board.stretched(int(most.max()))
    sure_most = int((least - slack).max())
    sure_least = int((most + slack).min())
    middle = (own.least + own.most) // 2
    width = int((own.most - own.least).max())
    measured = Measured(max(0, int(middle.min())), max(0, int(middle.max())), len(middle), (width + 1) // 2)
    return _judged(about, key, cost.least, cost.most, measured, (sure_least, sure_most))


def _drained(board: Measurement, about: Thing, drains: Drain, first: Range, own: ExecutionTimes, key: str) -> Compared:
    """What a run costs before its items, or each of them, where its own time grows with how many it took."""
    least, most = taken(board, about, drains, len(own.least))
    each, middle = drains.each, (own.least + own.most) // 2
    fits = own.most + board.stretched(int(own.most.max())) >= first.least + least * each.least
    least = np.where(fits, least, 0)  # else it took fewer than had come, which is no matter of what they cost
    rest = ExecutionTimes(
        np.maximum(0, own.least - most * each.most), np.maximum(0, own.most - least * each.least), own.interrupted
    )
    whole = _cost(board, about, first, rest, None, key)
    shown = (least == most) & (least > 0)
    grows = shown.any() and int(least[shown].min()) < int(least[shown].max())
    if whole.state is not Agreement.REFUTES:
        return whole
    if whole.beyond and not drains.until_empty:
        came = come_meanwhile(board, about, drains, len(most))
        over = np.maximum(0, own.least - (most + came) * each.most)
        other = _cost(board, about, first, replace(rest, least=over), None, key)
        longer = rest.least > first.most + board.stretched(int(own.most.max()))
        # the run before must have taken what one took fewer, or it were chance that something came just in those that
        # are longer, by whole items
        alike = _fit_items(first, each, _only(own, longer)) * float((came > 0).mean())
        if not other.beyond and (alike.prod() < _CHANCE or any(few.drain == about for few in took_fewer(board))):
            return replace(other, state=Agreement.AGREES, why=MEANWHILE)
    if not grows and drains.buffer in board.system.ticking:
        return whole
    if not grows:
        return replace(whole, why=f"or each of its items, as every run took {int(most.max())} at most")
    slope = float(np.polyfit(least[shown], middle[shown], 1)[0])
    if each.least * 0.98 - 1 <= slope <= each.most * 1.02 + 1:  # what an item takes is as modelled
        return whole
    items, slack = least[shown], board.stretched(int(own.most.max()))
    sure_most = int(((own.least[shown] - slack - first.most) // items).max())
    sure_least = int((-(-(own.most[shown] + slack - first.least) // items)).min())
    of_one = (middle[shown] - (first.least + first.most) // 2) // items
    width = int(((own.most - own.least)[shown] // items).max()) + (first.most - first.least + 1) // int(items.max())
    measured = Measured(max(0, int(of_one.min())), max(0, int(of_one.max())), len(items), (width + 1) // 2)
    judged = _judged(about, "each", each.least, each.most, measured, (sure_least, sure_most))
    return judged if judged.state is Agreement.REFUTES else whole


def _fit_items(first: Range, each: Range, own: ExecutionTimes) -> NDArray[np.float64]:
    """How likely each time is to fit a whole number of items by chance; 1 where it does not."""
    count = -((first.most - own.least) // max(1, each.most))
    fits = own.most >= first.least + count * each.least
    width = first.most - first.least + count * (each.most - each.least) + own.most - own.least
    found: NDArray[np.float64] = np.where(fits, np.minimum(1.0, width / max(1, each.least)), 1.0)
    return found


def _step(board: Measurement, step: Step, waits: dict[str, _Held]) -> Iterator[Compared]:
    about = step.thing
    found = board.steps[step.name]
    if step.every is not None:
        yield _every(board, step, about)
    allowed = _own_time(step)
    key = "cost" if allowed is not None and all(act.burns for act in step.acts) else "time"
    if found.own is None or not len(found.own.least):
        yield _not_shown(about, key, step.cost.least, step.cost.most, _no_body(board, about))
    elif allowed is None:
        yield _not_shown(about, key, step.cost.least, None, "it sleeps or waits, for as long as that takes")
    elif step.drains is not None:
        items = step.drains.takes
        first = Range(max(0, allowed.least - items.least), allowed.most - items.most)
        yield _drained(board, about, step.drains, first, found.own, key)
    else:
        yield _cost(board, about, allowed, found.own, None, key)
    yield from _guards(board, waits, about, step.guards, step.cost)


def _own_time(step: Step) -> Range | None:
    """How long a step takes when nothing interrupts it; None where it waits without a limit, or sleeps."""
    if step.halt or any(wait.at_most is None for wait in step.waits):
        return None
    # a pause goes on under what runs on top of it, which is taken off: only the cost is sure to be left
    least = 0 if step.waits else step.cost.least
    return Range(least, step.cost.most + step.spins)


def _every(board: Measurement, step: Step, about: Thing) -> Compared:
    assert step.every is not None
    low, high = int(step.every.least), -int(-step.every.most // 1)
    starts = board.events(f"{about}.start")
    if starts is None or len(starts) < 8 or step.rearm != "grid" or step.polls:
        why = (
            "no line shows it" if starts is None else "too few runs" if len(starts) < 8 else "it is rearmed by its run"
        )
        return _not_shown(about, "every", low, high, why)
    if board.paper.steps[step.name].drifts or board.paper.steps[step.name].interval.most is None:
        return _not_shown(about, "every", low, high, "the loop cannot keep up with it even on paper")
    length, count = int(starts[-1] - starts[0]), len(starts) - 1
    wander = int(np.percentile(np.diff(starts), 99) - np.percentile(np.diff(starts), 1)) + 2 * board.resolution
    bound = board.paper.steps[step.name].late
    wander = max(wander, bound.most if bound is not None and bound.most is not None else 0)
    tolerance = board.system.capture_tolerance + board.system.core.clock.tolerance  # what counts it runs from that
    least = Fraction(length - wander, count) * (1 - tolerance)
    most = Fraction(length + wander, count) * (1 + tolerance)
    mean = round(length / count)
    measured = Measured(mean, mean, count, -(-wander // count))
    return _judged(about, "every", low, high, measured, (int(most), -int(-least // 1)))


def _pass(board: Measurement) -> Compared | None:
    """One round of the loop, off a step that runs in every pass."""
    figure = board.paper.loop_pass
    if figure is None:
        return None
    for step in board.system.steps:
        interval = board.steps[step.name].interval
        if not step.gated and interval is not None and len(interval):
            least, most = int(interval.min()), int(interval.max())
            slack = board.slack(most)
            measured = Measured(least, most, len(interval), board.resolution)
            return _judged(Thing("loop"), "pass", figure.least, figure.most, measured, (least + slack, most - slack))
    return _not_shown(Thing("loop"), "pass", figure.least, figure.most, "no step that runs in every pass has a line")


# --- guards -------------------------------------------------------------------------------------------------


def _guards(
    board: Measurement, waits: dict[str, _Held], about: Thing, guards: tuple[Guard, ...], cost: Range
) -> Iterator[Compared]:
    """How long more urgent lines were really held off while this body ran, for each level of such lines."""
    if about not in board.things:
        return
    number, level = board.things.index(about), urgency_of(board.system, about)
    if about.kind == "isr" and not board.system.core.nesting:
        return
    held: dict[int, list[tuple[Instants, Instants, Instants]]] = {}
    for isr in board.system.isrs:
        if isr.urgency < level and isr.name in waits:
            each = waits[isr.name]
            mine = each.holder == number
            held.setdefault(isr.urgency, []).append((each.at[mine], each.length[mine], each.unseen[mine]))
    for urgency, parts in sorted(held.items()):
        modelled = max((guard.longest(cost.most) for guard in guards if guard.urgency <= urgency), default=0)
        lengths = np.concatenate([length for _, length, _ in parts])
        surely = lengths - np.concatenate([unseen for _, _, unseen in parts])
        if not len(lengths):
            if modelled:
                yield Compared(about, "guard", None, modelled, None, Agreement.NOT_SHOWN,
                               why="no event came while it held interrupts off", urgency=urgency)  # fmt: skip
            continue
        most = int(lengths.max())
        measured = Measured(0, max(0, most), len(lengths), board.resolution)
        # what is just being entered as the event comes is entered first, and the pins do not show it
        core = board.system.core
        halt = board.system.step(about.name).halt if about.kind == "step" else None
        sure = int(surely.max()) - board.slack(most) - max(core.entry.most, core.chain.most)
        sure -= halt.late if halt is not None else 0
        if modelled or sure > 0:
            at = int(np.concatenate([when for when, _, _ in parts])[int(np.argmax(surely))])
            yield replace(_judged(about, "guard", None, modelled, measured, (0, sure), urgency), at=at)


class _Held(Struct, frozen=True):
    """Of every wait of a routine: what was on top as its event came, for how long that held it off, if nothing without
    a line did, and how much of it that may have been (``unseen``)."""

    at: Instants
    holder: Instants
    length: Instants
    unseen: Instants


def _waits_held(board: Measurement, isr: Isr) -> _Held | None:
    """For how long each event of a routine was held off by the body that was on top as it came.

    An entry, and the exit or entry that may just have been going on as the event came, are taken off.
    """
    delays, core, tops = board.isrs[isr.name].latency, board.system.core, board.tops
    if delays is None or delays.relative or not len(delays.at) or not len(tops.at):
        return None
    first = place_of(tops.at, delays.at, behind=True)
    before = np.maximum(first - 1, 0)
    holder = np.where(first > 0, tops.who[before], -1)
    covered = holder >= 0
    at, after, first, before = (each[covered] for each in (delays.at, delays.after, first, before))
    # it is over as the body ends, or one entry before whatever comes on top of it
    place = np.minimum(first, len(tops.at) - 1)
    within = (first < len(tops.at)) & (tops.at[place] < at + after)
    until = np.where(within, tops.at[place], at + after)
    until -= np.where(within & tops.ended[place], 0, core.entry.most)
    length = until - at
    length -= np.where(at - tops.at[before] <= core.exit.most + core.entry.most + board.resolution, core.exit.most, 0)
    return _Held(at, holder[covered], length, _unseen(board, isr, length))


def _unseen(board: Measurement, isr: Isr, waits: Instants) -> Instants:
    """What routines without a line may take of waits of another: those that go before it, and one that holds it off."""
    unseen = [each for each in unseen_routines(board.paper, board.shown) if each is not isr]
    before = [each for each in unseen if each.urgency <= isr.urgency or not board.system.core.nesting]
    hold = unseen_hold(board.paper, unseen, isr.urgency) if board.system.core.nesting else 0
    return unseen_work(board.paper, before, waits) + hold
