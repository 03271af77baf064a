"""What routines without a line may have done, if the model is right about them: that proves nothing of others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial

import numpy as np

from tachys.capture.table import Instants
from tachys.checking.probes.readings import Readings
from tachys.model.events import Event
from tachys.model.nodes import Isr
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.blocking import guarded_stretches
from tachys.worstcase.bounds import Bounds

_COARSE = 10**6  # ps: spans are rounded up to this before they are counted


def unseen_routines(paper: Bounds, shown: Readings) -> list[Isr]:
    """The routines that no line shows."""
    return [isr for isr in paper.narrowed.isrs if isr.thing not in shown.bodies]


def hidden_pass(paper: Bounds, shown: Readings, resolution: int) -> int:
    """The most in ps that a pass of the loop can take behind lines that show nothing, without what wakes it."""
    system = paper.narrowed
    core, overhead = system.core, system.loop.overhead.most if system.loop else 0
    hidden = [
        step.cost.most + step.spins for step in system.steps
        if not step.once and (step.halt is not None or step.thing not in shown.bodies)
    ]  # fmt: skip
    return overhead + core.entry.most + core.exit.most + core.chain.most + sum(hidden) + 2 * resolution


def unseen_work(paper: Bounds, isrs: Iterable[Isr], spans: Instants) -> Instants:
    """The most that some routines may have taken of each span, with entries and exits; never more than all of it."""
    core = paper.system.core
    each = ((isr, isr.cost.most + core.entry.most + core.exit.most) for isr in isrs)
    return _taken(spans, [(partial(_most_runs, paper, isr), cost) for isr, cost in each])


def stolen_in(paper: Bounds, spans: Instants) -> Instants:
    """The most that units may have taken of each span by taking the bus from the core."""
    stealing = (unit for unit in paper.system.units if unit.steals.most)
    return _taken(spans, [(partial(_most_events, paper, (unit.end,)), unit.steals.most) for unit in stealing])


def _taken(spans: Instants, works: Sequence[tuple[Callable[[int], int | None], int]]) -> Instants:
    """The most that works, each so often in a span and of so many ps, take of each; never more than all of it, which
    is what work takes that comes any number of times."""
    taken = np.zeros(len(spans), np.int64)
    if not len(spans) or not works:
        return taken
    values, place = np.unique(-(-np.maximum(spans, 0) // _COARSE) * _COARSE, return_inverse=True)
    for often, each in works:
        most = np.array([_at_most(often(span), each, span) for span in values.tolist()], np.int64)
        taken = np.minimum(taken + most[place], np.maximum(spans, 0))
    return taken


def _at_most(times: int | None, each: int, span: int) -> int:
    return span if times is None and each else min((times or 0) * each, span)


def _most_runs(paper: Bounds, isr: Isr, span: int) -> int | None:
    events = _most_events(paper, isr.on, span)
    return None if events is None else events + isr.pending * len(isr.on)


def _most_events(paper: Bounds, events: Iterable[Event], span: int) -> int | None:
    """How often some events come in a span at most; None where nothing limits it."""
    assert paper.reach is not None
    try:
        return sum(paper.reach.events.curve(event).most_within(span) for event in events)
    except NoBound:
        return None


def unseen_hold(paper: Bounds, isrs: Iterable[Isr], urgency: int) -> int:
    """The longest that a less urgent one of some routines may hold lines of that urgency off, in ps."""
    core, longest = paper.system.core, 0
    for isr in isrs:
        if isr.urgency > urgency:
            held = [length for length, _ in guarded_stretches(isr.guards, isr.cost, isr.cost.most, urgency)]
            body = max(held, default=0) if core.nesting else isr.cost.most
            longest = max(longest, body + core.entry.most + core.exit.most)
    return longest
