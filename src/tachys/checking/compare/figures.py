"""Every modelled figure beside what was measured of it: it agrees, is refuted, or the capture does not show it."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement, without_least
from tachys.checking.board.nesting import ExecutionTimes
from tachys.checking.board.unseen import unseen_hold, unseen_routines, unseen_work
from tachys.checking.compare.compared import (
    Agreement,
    Compared,
    Measured,
    cost_figure,
    judged,
    not_shown,
    only,
)
from tachys.checking.compare.hardware import core_figures, events_figures
from tachys.checking.compare.items import come_meanwhile, taken, took_fewer
from tachys.checking.compare.rhythm import long_runs, ordinal, rhythm_of
from tachys.checking.probes.buscodes import urgency_of
from tachys.model.acts import Drain, Guard
from tachys.model.events import Thing
from tachys.model.nodes import Isr, Step
from tachys.model.quantities import Range
from tachys.stretches import place_of

_CHANCE = 0.05  # what is less likely is hardly chance
MEANWHILE = "if it takes what comes meanwhile, too"  # why what a run of a drain costs agrees


def compare_figures(board: Measurement) -> tuple[Compared, ...]:
    """Every figure of the model, in the order of the model file."""
    found = list[Compared]()
    waits = {isr.name: held for isr in board.system.isrs if (held := _waits_held(board, isr)) is not None}
    found += events_figures(board)
    for isr in board.system.isrs:
        found += _isr(board, isr, waits)
    for step in board.system.steps:
        found += _step(board, step, waits)
    found += core_figures(board)
    passed = _pass(board)
    return (*found, passed) if passed else tuple(found)


def _isr(board: Measurement, isr: Isr, waits: dict[str, _Held]) -> Iterator[Compared]:
    about = isr.thing
    runs = board.isrs[isr.name]
    own = runs.cost
    if own is not None and runs.single is not None:
        own = without_least(own, runs.single)
    first = isr.cost_first
    if own is None or not len(own.least):
        yield not_shown(about, "cost", first.least, first.most, _no_body(board, about))
    elif isr.drains is not None:
        yield _drained(board, about, isr.drains, Range(first.least, first.most + isr.longer), own, "cost")
    elif isr.pause.most:
        yield _paused(board, isr, own)
    elif isr.serves_all or not board.shows_each(isr):
        found = cost_figure(board, about, isr.cost, own, _served(board, isr, len(own.least)))
        yield found if found.state is Agreement.REFUTES or isr.serves_all else _of_many(board, isr, found)
    else:
        yield from _in_rhythm(board, isr, own)
    yield from _moments(board, isr, own)
    yield from _guards(board, waits, about, isr.guards, board.paper.narrowed.isr(isr.name).cost)


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
    return judged(isr.thing, "cost", found.low, found.high, measured, (sure, sure), why=why)


def _paused(board: Measurement, isr: Isr, own: ExecutionTimes) -> Compared:
    """Cost and pause together: no run lasts less by the clock, and what is not on top of it is no more than both."""
    bodies, whole = board.shown.bodies[isr.thing], isr.cost_first + isr.pause
    lasted = (bodies.end - bodies.start)[bodies.whole] + 2 * board.resolution
    return cost_figure(board, isr.thing, whole, ExecutionTimes(own.least, lasted, own.interrupted), None)


def _moments(board: Measurement, isr: Isr, own: ExecutionTimes | None) -> Iterator[Compared]:
    """How much CPU time after the first instruction what lies within a routine comes, in runs with nothing on top."""
    bodies = board.shown.bodies.get(isr.thing)
    for name, place in isr.moments:
        shown = board.events(f"{isr.thing}.{name}")
        if shown is None or own is None or bodies is None:
            yield not_shown(isr.thing, f"moments.{name}", place.least, place.most, "no line shows it")
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
            yield not_shown(isr.thing, f"moments.{name}", place.least, place.most, "no run shows it by itself")
            continue
        others = [other for other in unseen_routines(board.paper, board.shown) if other.urgency < isr.urgency]
        slack = board.slack(int(after.max()))
        sure_most = int((after - unseen_work(board.paper, others, after)).max()) - slack
        measured = Measured(int(after.min()), int(after.max()), len(after), board.resolution)
        made = judged(isr.thing, f"moments.{name}", place.least, place.most, measured,
                       (int(after.min()) + slack, sure_most), why=name)  # fmt: skip
        worst = int(np.argmax(after)) if made.beyond else int(np.argmin(after))
        yield replace(made, at=int(starts[inside][worst]))


def _in_rhythm(board: Measurement, isr: Isr, own: ExecutionTimes) -> Iterator[Compared]:
    """What runs cost, and what each n-th does more."""
    about, slack = isr.thing, board.stretched(int(own.most.max()))
    nth = isr.nth if isr.nth is not None and isr.nth.cost.most else None  # one that costs no more is as any other
    bodies = board.shown.bodies[about]
    begun = bodies.start[bodies.whole]
    long = None if nth is None else long_runs(own, isr.cost_first, nth, slack)
    if nth is None or long is None:
        whole = cost_figure(board, about, isr.cost, own, None)
    else:
        rest = np.ones(len(long), np.bool_) if long.all() else ~long
        allowed = isr.cost if long.all() else isr.cost_first
        whole = cost_figure(board, about, allowed, only(own, rest), None)
    found = rhythm_of(own, isr.cost_first) if whole.beyond else None
    if found is not None and int(own.least[~found.long].max()) - slack <= isr.cost_first.most:
        at = int(begun[found.long][0])
        yield replace(whole, why=found.text, rhythm=found, at=at)
    else:
        yield whole
    if nth is None or long is None or long.all():
        return
    first, of_it = isr.cost_first, only(own, long)
    more = ExecutionTimes(of_it.least - first.most, of_it.most - first.least, of_it.interrupted)
    if whole.state is Agreement.AGREES:
        place = int(np.flatnonzero(long)[int(np.argmax(of_it.least))])
        at = int(begun[place])
        yield replace(cost_figure(board, about, nth.cost, more, None, "nth"), at=at, why=f"each {ordinal(nth.n)}")


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


def _drained(board: Measurement, about: Thing, drains: Drain, first: Range, own: ExecutionTimes, key: str) -> Compared:
    """What a run costs before its items, or each of them, where its own time grows with how many it took."""
    least, most = taken(board, about, drains, len(own.least))
    each, middle = drains.each, (own.least + own.most) // 2
    fits = own.most + board.stretched(int(own.most.max())) >= first.least + least * each.least
    least = np.where(fits, least, 0)  # else it took fewer than had come, which is no matter of what they cost
    rest = ExecutionTimes(
        np.maximum(0, own.least - most * each.most), np.maximum(0, own.most - least * each.least), own.interrupted
    )
    whole = cost_figure(board, about, first, rest, None, key)
    shown = (least == most) & (least > 0)
    grows = shown.any() and int(least[shown].min()) < int(least[shown].max())
    if whole.state is not Agreement.REFUTES:
        return whole
    if whole.beyond and not drains.until_empty:
        came = come_meanwhile(board, about, drains, len(most))
        over = np.maximum(0, own.least - (most + came) * each.most)
        other = cost_figure(board, about, first, replace(rest, least=over), None, key)
        longer = rest.least > first.most + board.stretched(int(own.most.max()))
        # the run before must have taken what one took fewer, or it were chance that something came just in those that
        # are longer, by whole items
        alike = _fit_items(first, each, only(own, longer)) * float((came > 0).mean())
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
    of_each = judged(about, "each", each.least, each.most, measured, (sure_least, sure_most))
    return of_each if of_each.state is Agreement.REFUTES else whole


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
        yield not_shown(about, key, step.cost.least, step.cost.most, _no_body(board, about))
    elif allowed is None:
        yield not_shown(about, key, step.cost.least, None, "it sleeps or waits, for as long as that takes")
    elif step.drains is not None:
        items = step.drains.takes
        first = Range(max(0, allowed.least - items.least), allowed.most - items.most)
        yield _drained(board, about, step.drains, first, found.own, key)
    else:
        yield cost_figure(board, about, allowed, found.own, None, key)
    yield from _guards(board, waits, about, step.guards, board.paper.narrowed.step(step.name).cost)


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
        return not_shown(about, "every", low, high, why)
    if board.paper.steps[step.name].drifts or board.paper.steps[step.name].interval.most is None:
        return not_shown(about, "every", low, high, "the loop cannot keep up with it even on paper")
    length, count = int(starts[-1] - starts[0]), len(starts) - 1
    wander = int(np.percentile(np.diff(starts), 99) - np.percentile(np.diff(starts), 1)) + 2 * board.resolution
    bound = board.paper.steps[step.name].late
    wander = max(wander, bound.most if bound is not None and bound.most is not None else 0)
    tolerance = board.system.capture_tolerance + board.system.core.clock.tolerance  # what counts it runs from that
    least = Fraction(length - wander, count) * (1 - tolerance)
    most = Fraction(length + wander, count) * (1 + tolerance)
    mean = round(length / count)
    measured = Measured(mean, mean, count, -(-wander // count))
    return judged(about, "every", low, high, measured, (int(most), -int(-least // 1)))


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
            return judged(Thing("loop"), "pass", figure.least, figure.most, measured, (least + slack, most - slack))
    return not_shown(Thing("loop"), "pass", figure.least, figure.most, "no step that runs in every pass has a line")


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
            yield replace(judged(about, "guard", None, modelled, measured, (0, sure), urgency), at=at)


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
