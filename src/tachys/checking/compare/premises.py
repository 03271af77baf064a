"""Which proofs rest on a figure that the capture refutes.

A refuted figure is known as an "at least" only: the board may well go further than what was measured. So a proof falls
with every figure that its bound reads, also where it would still hold with the measured one. Whether a bound reads a
figure is found by moving it: twice as far as it was measured, and more.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from tachys.checking.board.measuring import Measurement
from tachys.checking.board.unseen import unseen_routines
from tachys.checking.compare.compared import Agreement, Compared
from tachys.checking.compare.consequence import corrected
from tachys.checking.compare.items import OWN_LONGER, overfull, rests_on, took_fewer, unshown_on_top
from tachys.checking.compare.unmodelled import Stranger
from tachys.checking.result import Finding
from tachys.model.events import Thing
from tachys.model.nodes import Isr, Step
from tachys.model.quantities import Range
from tachys.needs.kinds import Need, NeedBounds
from tachys.worstcase.analysis import bounds as bounds_of

STAYS_AWAY = ("comes-too-seldom", "comes-no-more", "never-comes")
ASTRAY = (
    "runs-too-often", "runs-unasked", "lost-unexpected", "overwritten-unexpected", "lost-wake-up", "takes-meanwhile",
    "transfer-other",
)  # fmt: skip


def refuted_figures(figures: tuple[Compared, ...]) -> tuple[Compared, ...]:
    """The figures of the model that the capture refutes; a pass is none, it follows from others."""
    return tuple(figure for figure in figures if figure.state is Agreement.REFUTES and figure.key != "pass")


def fallen_proofs(board: Measurement, figures: tuple[Compared, ...], strangers: tuple[Stranger, ...]) -> frozenset[str]:
    """The names of proved needs whose proof rests on a refuted figure, or on nothing running that is not modelled."""
    proved = {name: need for name, need in board.paper.needs.items() if need.proved}
    refuted = refuted_figures(figures)
    strange = {few.buffer for few in took_fewer(board)} | {full.buffer for full in overfull(board)}
    smaller = {name for name, need in proved.items() if any(rests_on(board, need.need, each) for each in strange)}
    if strangers or not refuted:
        return frozenset(proved if strangers else smaller)
    after = bounds_of(corrected(board.system, tuple(map(_further, refuted)))).needs
    fallen = {name for name, need in proved.items() if not after[name].proved or after[name].bound != need.bound}
    return frozenset(fallen | smaller)


def _further(figure: Compared) -> Compared:
    """A figure measured to lie twice as far out as it was, at the end that is refuted."""
    measured, rhythm = figure.measured, figure.rhythm
    assert measured is not None
    if rhythm is not None:
        longer = Range(rhythm.longer.least // 2, 2 * rhythm.longer.most)
        return replace(figure, rhythm=replace(rhythm, longer=longer))
    alone = figure.key in ("period", "every", "counts", "answers", "looks") or figure.of_current
    if alone:  # one figure, not a range
        return figure
    least = measured.least // 2 if figure.below else measured.least
    most = 2 * measured.most if figure.beyond else measured.most
    return replace(figure, measured=replace(measured, least=least, most=most))


def undone(board: Measurement, findings: Sequence[Finding]) -> frozenset[str]:
    """The names of needs whose proof is undone by what was seen and no figure explains.

    A routine that begins too often or unasked asks for more than the model knows: what is no more urgent than it, and
    the loop, hang on that. One that begins or ends beyond its bound may have been held off with all others: so did
    every routine, for all that is known. Of two starts too close, of events that no line shows, the first may have
    been held off just so, unless more come in all than can. What stays away undoes what follows from it alone. Where a
    body needs more time, that may be that of a routine on top of it which no line shows: its bounds fall too, as do
    those of all such routines where anything is beyond its bound.
    """
    gone = {finding.about for finding in findings if finding.code in STAYS_AWAY}
    beyond = {each.about for each in findings if each.code.endswith("-beyond-bound")}
    beyond |= {each.about for each in findings if each.code == "runs-too-often" and _may_be_late(board, each.about)}
    astray = beyond | {each.about for each in findings if each.code in ASTRAY}
    low = min((board.system.isr(thing.name).urgency for thing in astray if thing.kind == "isr"), default=None)
    if low is not None and (not board.system.core.nesting or any(thing.kind == "isr" for thing in beyond)):
        low = 0
    below = {isr.thing for isr in board.system.isrs if low is not None and isr.urgency >= low}
    if astray:
        below |= {step.thing for step in board.system.steps if not step.once}
    away = gone | astray | below
    longer = {each.about for each in findings if each.code in OWN_LONGER}
    suspects = {thing for about in longer for thing in unshown_on_top(board, about)}
    if beyond:
        suspects |= {isr.thing for isr in unseen_routines(board.paper, board.shown)}
    return frozenset(
        name for name, bound in board.paper.needs.items()
        if ((low is not None or suspects) and bound.need.measures in ("share", "current", "life"))
        or away & set(_way(board, bound.need)) or suspects & _parts(bound)
    )  # fmt: skip


def _parts(bound: NeedBounds) -> set[str]:
    """All that a bound is made of."""
    return set() if bound.figure is None else {part.who for part in bound.figure.parts}


def _may_be_late(board: Measurement, thing: Thing) -> bool:
    """Whether starts of a routine that are too close can be those of events that came as they may, the first late."""
    runs = board.isrs.get(thing.name) if thing.kind == "isr" else None
    if runs is None or (runs.latency is not None and not runs.latency.relative):
        return False
    starts, reach = board.events(runs.isr.start), board.paper.reach
    assert starts is not None
    assert reach is not None
    at_most = len(starts) - runs.isr.pending  # as many can have waited before the first
    return at_most < 2 or int(starts[-1] - starts[0]) >= reach.events.curve(runs.isr.start).least_span(at_most)


def _way(board: Measurement, need: Need) -> Iterator[Thing]:
    """All that lies between the beginning and the end of what a need is about."""
    yield need.waits
    if need.measures == "number":
        yield from _beside(board, need.waits)
    yield from (event.thing for event in need.events)
    if need.feeds is not None:
        yield need.feeds.fed_by.thing
    if need.follows is not None:
        for link in board.system.graph.chain(need.follows.begins, need.follows.ends) or ():
            yield from (link.before.thing, link.after.thing)


def _beside(board: Measurement, thing: Thing) -> Iterator[Thing]:
    """What brings something to a thing, and what takes it from there."""
    graph = board.system.graph
    yield from (event.thing for event in graph.causes.get(thing, ()))
    if thing.kind == "flag":
        yield from (event.thing for event in graph.sets_of(thing.name))
        yield from (step.thing for step in graph.pollers[thing.name])
    if thing.kind == "buffer" and isinstance(taker := graph.drain.get(thing.name), Isr | Step):
        yield taker.thing
    yield from (isr.thing for isr in board.system.isrs if any(event.thing == thing for event in isr.on))
