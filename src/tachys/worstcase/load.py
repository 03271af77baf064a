"""How much of the core is taken, in the long run and in the busiest window of a given length, split by who takes it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from fractions import Fraction
from functools import partial
from math import ceil

from tachys.model.nodes import Isr, Loop, Step
from tachys.model.system import System
from tachys.needs.takers import INTERRUPTS, is_of
from tachys.worstcase.arrivals import Curve, NoBound, exact_sum, moved, sum_of, tightest
from tachys.worstcase.blocking import after_body
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.loop import LoopWindows
from tachys.worstcase.result import LoadBounds, LoadShare, Window
from tachys.worstcase.rounds import least_round, own_least
from tachys.worstcase.workload import InterruptLine, Workload

ZERO, ONE = Fraction(0), Fraction(1)


def load_bounds(
    system: System, load: Workload, reach: EventBounds, windows: LoopWindows | None, lengths: list[int]
) -> LoadBounds:
    """Long-run least and most load, and the busiest windows. A step without a gate can fill all that is left."""
    shares = [_isr_share(system, line, reach) for line in load.lines]
    storms = tuple(line.isr.name for line, share in zip(load.lines, shares, strict=True) if share.most >= 1)
    reason = ""
    less = load.less_together(len(load.lines) - 1)
    wanted = exact_sum(share.most for share in shares) - less
    if wanted > 1:
        reason = f"the routines alone want {float(wanted):.1%} of the core"
    interrupts = LoadShare(INTERRUPTS, min(exact_sum(share.least for share in shares), ONE), min(wanted, ONE))
    left, loop = ONE - interrupts.least, LoadShare("loop", Fraction(0), Fraction(0))
    if system.loop:
        loop_shares, filler = _loop_shares(system, system.loop, reach, left)
        shares += loop_shares
        lows, highs = (exact_sum(getattr(share, side) for share in loop_shares) for side in ("least", "most"))
        loop = LoadShare("loop", min(lows, left), min(highs, left))
        if filler and not reason:
            reason = f"step.{filler} runs in every pass, so the loop takes all that the routines leave"
    taken = [
        LoadShare(unit.thing, ZERO, min(ONE, unit.steals.most * _rate_of(reach.events.curve(unit.end))))
        for unit in system.units
        if unit.steals.most
    ]
    shares += taken
    most = min(exact_sum(share.most for share in shares) - less, ONE)
    least = min(exact_sum(share.least for share in shares), most)
    stolen = (LoadShare("stolen", ZERO, min(ONE, exact_sum(share.most for share in taken))),) if taken else ()
    groups = (interrupts, loop, *stolen, LoadShare("idle", ONE - most, ONE - least))
    busiest = tuple(_window(system, load, reach, windows, length) for length in lengths)
    return LoadBounds(least, most, tuple(shares), groups, reason, busiest, storms)


def _isr_share(system: System, line: InterruptLine, reach: EventBounds) -> LoadShare:
    core, isr, who = system.core, line.isr, line.isr.thing
    least = Fraction(0)
    if not reach.isrs[isr.name].lost:
        # n runs back to back cost entry + (n-1)·chain + exit besides their bodies
        overhead = min(core.entry.least + core.exit.least, core.chain.least)
        merged = isr.pending * len(isr.on) if isr.serves_all else 1
        for event, cost in zip(isr.on, isr.costs, strict=True):
            least += (cost.least + (overhead if merged == 1 else Fraction(overhead, merged))) * reach.least_rate(event)
        if isr.nth is not None:
            least += (isr.nth.cost.least - isr.nth.of_any.least) * reach.least_rate(f"{isr.thing}.nth")
    try:
        most, items = line.share, _items(reach, isr)
        if items is not None and line.items is None:  # what it takes costs no more than what comes into that
            most = min(most, line.share - _drained(isr) * line.curve.rate() + items[0].rate() * items[1])
        return LoadShare(who, least, most)
    except NoBound:
        return LoadShare(who, least, ONE)


def _items(reach: EventBounds, body: Isr | Step) -> tuple[Curve, int] | None:
    """(how densely the items come that a body drains, what was in before included, the most that each costs)."""
    if body.drains is None:
        return None
    buffer = reach.system.buffer(body.drains.buffer)
    puts = reach.events.sets(buffer.thing)
    assert puts is not None
    return moved(puts, extra=buffer.depth), body.drains.each.most


def _drained(isr: Isr) -> int:
    """The most that a run spends on what it drains, in ps."""
    return 0 if isr.drains is None else isr.drains.takes.most


def _loop_shares(system: System, loop: Loop, reach: EventBounds, left: Fraction) -> tuple[list[LoadShare], str | None]:
    """The share of every step and of the overhead of the passes in which one ran; who fills the rest, if any.

    What can run in every pass takes no more than its part of the shortest pass in which it costs most.
    """
    shares, passes, filler = [], Fraction(0), None
    shortest = least_round(system)

    def part(cost: int, least: int) -> Fraction:
        """``cost`` in place of its ``least``, beside what else is sure to be in a pass."""
        return Fraction(cost, cost + shortest - least) if cost else ZERO

    for step in loop.steps:
        rate = step_rate(system, step, reach)
        sure = min(reach.least_rate(step.start) * _sure_cost(step), left)
        items = _items(reach, step)
        copied = ONE if items is None else _rate_of(items[0]) * items[1]
        if rate is None:
            filler = filler or step.name
            least = 0 if step.gated else min(step.cost.least, own_least(step))
            most = min(part(step.cost.most, least), part(step.cost_first.most, least) + copied)
            shares.append(LoadShare(step.thing, sure, most))
            continue
        passes += rate
        most = min(rate * step.cost.most, rate * step.cost_first.most + copied, ONE)
        shares.append(LoadShare(step.thing, sure, most))
    overhead = part(loop.overhead.most, loop.overhead.least)
    shares.append(LoadShare("loop.overhead", ZERO, overhead if filler else min(passes * loop.overhead.most, ONE)))
    return shares, filler


def _rate_of(curve: Curve) -> Fraction:
    try:
        return curve.rate()
    except NoBound:
        return ONE


def _sure_cost(step: Step) -> int:
    return step.cost.least if step.sure_to_end_all else 0


def passes(system: System, reach: EventBounds) -> Curve | None:
    """How densely passes can begin where every pass would halt; None if no step halts in every pass.

    Every halt ends with a routine served whose event came after the pass had begun. A pass that does not halt found a
    flag set that forbids it, and where a step takes that flag in every pass, one set forbids one halt; one beside them
    may have been set before.
    """
    for step in system.steps:
        if not step.halt or step.gated or not step.sure_to_end_all:
            continue
        if all(any(taker.every is None for taker in system.graph.takers(flag)) for flag in step.halt.unless):
            events = [reach.events.curve(event) for isr in system.isrs for event in isr.on]
            events += [curve for flag in step.halt.unless if (curve := reach.events.sets(flag)) is not None]
            return moved(sum_of(events), extra=1 + len(step.halt.unless))
    return None


def step_rate(system: System, step: Step, reach: EventBounds) -> Fraction | None:
    """The most runs of a step per ps; None when nothing but the pass limits it."""
    rates = [Fraction(0)] if step.once else []
    try:
        if step.every is not None:
            rates.append(1 / step.every.least)
        if step.polls:
            rates.append(reach.events.openings(step).rate())
        halts = passes(system, reach)
        if halts is not None:
            rates.append(halts.rate())
    except NoBound:
        pass
    pauses = sum(each.pauses.least for each in system.steps if not each.gated and each.sure_to_end_all)
    if pauses:
        rates.append(Fraction(1, pauses))
    return min(rates, default=None)


def _window(system: System, load: Workload, reach: EventBounds, windows: LoopWindows | None, length: int) -> Window:
    """The most that can run in any window of ``length`` ps.

    What runs inside came at most one response before the window began (what ends later has its end to pay too), so
    arrivals of a window that much longer are counted; nobody runs longer than the window. Of a step only what comes
    before the end of its cost counts, and the overhead of its pass, which ends as the first of them begins.
    """
    shares: list[tuple[str, Fraction]] = []
    lengths: dict[str, int] = {}
    for line in load.lines:
        bounds = reach.isrs[line.isr.name]

        def taken(line: InterruptLine = line, most: int | None = bounds.response.most) -> int:
            assert most is not None
            early = most + line.overhead
            curves = [reach.events.raised(each.event) for each in line.inputs]  # in any window
            counts = [curve.most_within(length + early) for curve in curves]
            whole = sum(n * (each.cost + line.overhead) for n, each in zip(counts, line.inputs, strict=True))
            whole += line.isr.in_all(sum(counts))
            items = _items(reach, line.isr)
            if items is None:
                return whole
            copied = sum(counts) * _drained(line.isr)
            if line.items is None:
                whole -= copied
            return whole + min(copied, items[0].most_within(length) * items[1])

        shares.append((line.isr.thing, _part(length, bounds.response.most, taken)))
        if bounds.response.most is not None:
            lengths[line.isr.name] = length + bounds.response.most + line.overhead
    less = ZERO
    if all(share < ONE for _, share in shares):  # each is all that its line asks for
        with suppress(NoBound):
            less = load.less_within(lengths) / length
    if system.loop and windows:
        begun, rounds = windows.overhead().most, passes(system, reach)
        for step in system.steps:
            starts = reach.events.curve(step.start)
            starts = starts if rounds is None else tightest([starts, rounds])
            for who, cost, reaches in (
                (step.thing, step.cost.most, windows.until_paid(step).most),
                (f"loop.overhead before step.{step.name}", system.loop.overhead.most, begun),
            ):
                items = _items(reach, step) if who == step.thing else None

                def ran(
                    starts: Curve = starts,
                    cost: int = cost,
                    reaches: int | None = reaches,
                    items: tuple[Curve, int] | None = items,
                    first: int = step.cost_first.most,
                ) -> int:
                    assert reaches is not None
                    runs = starts.most_within(length + reaches)
                    if items is None:
                        return runs * cost
                    return min(runs * cost, runs * first + items[0].most_within(length) * items[1])

                if cost:
                    shares.append((who, _part(length, reaches, ran)))
    for unit in system.units:
        if unit.steals.most:
            ends = reach.events.curve(unit.end)
            shares.append((unit.thing, _part(length, 0, partial(_taken, ends, length, unit.steals.most))))
    whole = sum(share.numerator * (length // share.denominator) for _, share in shares)  # each is so many ps of it
    most = min(Fraction(whole, length) - less, ONE)
    return Window(length, most, tuple(shares))


def _taken(ends: Curve, length: int, each: int) -> int:
    return ends.most_within(length) * each


def surplus(reach: EventBounds, length: int, of: tuple[str, ...]) -> int:
    """How much more work, in ps, than the long-run load allows can fall into a run of ``length`` ps: it ends somewhere.

    The most events of the run, less those of the long run, of each routine and step among these (empty: of all).
    """
    system, total = reach.system, Fraction(0)
    ends = system.core.entry.most + after_body(system.core)
    works = [(event, cost.most + ends) for isr in system.isrs if is_of(isr.thing, of)
             for event, cost in zip(isr.on, isr.costs, strict=True)]  # fmt: skip
    total += sum(isr.longer for isr in system.isrs if is_of(isr.thing, of))  # of the n-th ones that of the first
    overhead = system.loop.overhead.most if system.loop and not of else 0
    works += [(step.start, step.cost.most + overhead) for step in system.steps if is_of(step.thing, of)]
    drains: list[Isr | Step] = [*system.isrs, *system.steps]
    for each in drains:  # and what was in its buffer before, or comes denser than in the long run
        items = _items(reach, each) if is_of(each.thing, of) else None
        if items is not None:
            with suppress(NoBound):
                total += max(items[0].most_within(length) - items[0].rate() * length, Fraction(0)) * items[1]
    works += [(unit.end, unit.steals.most) for unit in system.units if unit.steals.most and is_of(unit.thing, of)]
    total += sum(max((work for event, work in works if event in apart.of), default=0) for apart in system.aparts)
    rounds = passes(system, reach)
    for event, work in works:
        curves = [reach.events.raised(event)]
        if event.kind == "step" and rounds is not None:  # the rate of a step may be that of the passes
            curves.append(rounds)
        with suppress(NoBound):
            total += max(curve.most_within(length) - curve.rate() * length for curve in curves) * work
    return ceil(total)


def _part(length: int, reaches: int | None, taken: Callable[[], int]) -> Fraction:
    if reaches is None:
        return ONE
    try:
        took = taken()
    except NoBound:
        return ONE
    return Fraction(took, length) if took < length else ONE
