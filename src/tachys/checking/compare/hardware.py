"""The figures of what makes events, of units, counters, currents and of the core itself beside what was measured."""

from __future__ import annotations

import math
from collections.abc import Iterator
from fractions import Fraction

import numpy as np
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.board.grid import jitter_of
from tachys.checking.board.measuring import Measurement, Ticks, ticks_of
from tachys.checking.board.nesting import NOBODY
from tachys.checking.board.unseen import hidden_pass, unseen_routines, unseen_work
from tachys.checking.compare.compared import (
    MILLION,
    Agreement,
    Compared,
    Measured,
    judged,
    not_shown,
)
from tachys.model.events import Thing
from tachys.model.nodes import Apart, Counts, Isr, ReadCounter, Source, Unit
from tachys.model.quantities import ZERO, Range, time_in_words
from tachys.stretches import NEVER, place_of
from tachys.words import PICO
from tachys.worstcase.arrivals import source_curve
from tachys.worstcase.supply import currents_of

_FEWEST_WAYS = 8  # through a unit that no line shows
LOOKED_AT = 1000  # operations that took too long, one by one


def events_figures(board: Measurement) -> Iterator[Compared]:
    """Those of sources, of what keeps apart, and of units."""
    for source in board.system.sources:
        yield from _source(board, source)
    yield from (_apart(board, apart) for apart in board.system.aparts)
    for unit in board.system.units:
        yield _unit(board, unit)
        yield from _answers(board, unit)


def core_figures(board: Measurement) -> Iterator[Compared]:
    """Those of counters, of supply currents, and of the core."""
    yield from (_looks(board, counter) for counter in board.system.counters)
    yield from _currents(board)
    yield from _switching(board)
    yield from _entered(board)


def _source(board: Measurement, source: Source) -> Iterator[Compared]:
    about = source.thing
    if source.steady is None:
        instants = board.events(about)
        if instants is None or len(instants) < 3:
            why = "no line shows it" if instants is None else "too few events"
            yield not_shown(about, "gap", source_curve(source).least_span(2), None, why)
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
        yield not_shown(about, "period", int(source.period_least), None, why)
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
    return judged(about, "period", int(source.period_least), -int(-source.period_most // 1), measured, sure)


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
    return judged(about, "jitter", None, source.jitter, measured, (0, width - board.resolution))


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
        yield judged(about, key, pair, None, measured, (least + slack, 0))
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
        yield judged(about, key, pair, None, measured, (max(pair, least), 0))
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
        return not_shown(apart.thing, "gap", apart.gap, None, why)
    near = np.diff(at)
    least = int(near.min())
    measured = Measured(least, int(near.max()), len(near), board.resolution)
    found = judged(apart.thing, "gap", apart.gap, None, measured, (least + board.slack(least), 0))
    return replace(found, at=int(at[int(near.argmin())]))


def _bursts(board: Measurement, about: Thing, instants: Instants, every: int, within: int) -> Iterator[Compared]:
    """How long bursts last: in one no two are half of ``every`` apart, and no less lies between two bursts."""
    if every - 2 * within <= 4 * board.slack(every):
        yield not_shown(about, "within", None, within, "its bursts do not look apart at this resolution")
        return
    pauses = np.flatnonzero(np.diff(instants) > every // 2)
    begins, ends = instants[np.append(0, pauses + 1)], instants[np.append(pauses, len(instants) - 1)]
    lasts = ends - begins
    worst, slack = int(np.argmax(lasts)), board.slack(within)
    measured = Measured(int(lasts.min()), int(lasts[worst]), len(lasts), board.resolution)
    made = judged(about, "within", None, within, measured, (0, measured.most - slack))
    yield replace(made, at=int(begins[worst]))


def _unit(board: Measurement, unit: Unit) -> Compared:
    about = unit.thing
    if unit.counts is not None:
        return _counted(board, unit, unit.counts)
    paired = board.units[unit.name].paired
    takes = None if paired is None else paired.takes if paired.takes is not None else paired.after
    limit = None if unit.stands_still else unit.takes.most
    if takes is None or not len(takes):
        unseen = not_shown(about, "takes", unit.takes.least, limit, "no line shows its start and end")
        return _from_neighbours(board, unit) or unseen
    least, most = int(takes.min()), int(takes.max())
    measured = Measured(least, most, len(takes), board.resolution)
    slack = board.slack(most)
    found = judged(about, "takes", unit.takes.least, limit, measured, (least + slack, most - slack))
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
    found = judged(unit.thing, "takes", unit.takes.least, unit.takes.most, measured, (most + slack, least - slack),
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
        return not_shown(counter.thing, "looks", bound.fewest, bound.most, what)
    off = board.resolution
    looks = looks[looks > counted[0]]
    early, late = (np.searchsorted(counted, looks + by, side="right") for by in (-off, off))
    fewest, most = early[1:] - late[:-1], late[1:] - early[:-1]
    if not len(fewest):
        return not_shown(counter.thing, "looks", bound.fewest, bound.most, "too few looks")
    plain = np.diff(np.searchsorted(counted, looks, side="right"))
    measured = Measured(int(plain.min()), int(plain.max()), len(plain), 1)
    sure = (int(most.min()), int(fewest.max()))
    return judged(counter.thing, "looks", bound.fewest, bound.most, measured, sure)


def _answers(board: Measurement, unit: Unit) -> Iterator[Compared]:
    """How many of its operations end, in millionths; of a unit that always answers only if one does not.

    So few or many may be chance with a probability of no more than 2 exp(-n D(seen, modelled)), D being the relative
    entropy (H. Chernoff, Annals of Mathematical Statistics 23, 1952): in one of a million captures of a right model.
    """
    paired, modelled = board.units[unit.name].paired, round(unit.answers * MILLION)
    ended, silent = (0, 0) if paired is None or not paired.judged else (len(paired.at), len(paired.silent))
    if not ended + silent:
        if unit.may_stay_silent:
            yield not_shown(unit.thing, "answers", modelled, modelled, "no line shows its starts and ends")
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
        return not_shown(about, "counts", counts.n, counts.n, "no line shows what it counts, or its ends")
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
        return not_shown(about, "counts", counts.n, counts.n, "it is not sure which of the events it counts")
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
        return not_shown(about, "counts", counts.n, counts.n, "no line shows its ends")
    behind = reach.events.curve(counts.of).most_within(way.reaction.most)
    before = place_of(of, starts, behind=True)
    seen, turns = int(before[-1] - before[0]), len(starts) - 1
    usual = int(np.median(np.diff(before)))
    number = next((each for each in (counts.n, usual) if abs(seen - turns * each) <= behind + 2), None)
    if number is None:
        return not_shown(about, "counts", counts.n, counts.n, "its step runs after no steady number of them")
    if number != usual:
        late = time_in_words(way.reaction.most)
        why = f"its step mostly runs after {usual}, but may come {late} behind: too few runs to tell these apart"
        return not_shown(about, "counts", counts.n, counts.n, why)
    state = Agreement.REFUTES if number != counts.n else Agreement.AGREES
    return Compared(about, "counts", counts.n, counts.n, Measured(number, number, turns, 0), state, number, number,
                    str(counts.of))  # fmt: skip


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
            yield not_shown(about, key, low, high, metered.why or "it never shows alone for long enough")
            continue
        mean, off = (round(each * PICO) for each in (seen.mean, seen.off))
        yield judged(about, key, low, high, Measured(mean, mean, seen.count, off), (mean + off, mean - off))


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
        yield judged(Thing("core"), key, old.least, old.most, measured, sure, why=why)


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
        yield judged(Thing("core"), "entry", core.entry.least, core.entry.most, measured, (seen + off, 0))
