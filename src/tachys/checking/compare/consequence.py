"""What a refuted figure would mean: the same system with the measured figure in place of the modelled one."""

from __future__ import annotations

from fractions import Fraction

from msgspec.structs import replace

from tachys.checking.compare.compared import MILLION, Compared, Measured
from tachys.model.acts import Drain, Guard, Put
from tachys.model.nodes import Amperes, Core, Isr, Nth, Period, Source, Step, Unit
from tachys.model.quantities import ZERO, Range
from tachys.model.system import System
from tachys.words import PICO
from tachys.worstcase.supply import NOTHING, currents_of


def corrected(system: System, figures: tuple[Compared, ...]) -> System:
    """The system with every one of the figures as it was measured, never narrower than it was."""
    sources = {source.name: source for source in system.sources}
    units = {unit.name: unit for unit in system.units}
    isrs = {isr.name: isr for isr in system.isrs}
    steps = {step.name: step for step in system.steps}
    core = system.core
    currents, aparts = dict(currents_of(system)), {apart.name: apart for apart in system.aparts}
    for figure in figures:
        kind, name = figure.about.kind, figure.about.name
        if figure.measured is None:
            continue
        if figure.of_current:
            state = figure.key.partition(".")[2] or str(figure.about)
            currents[state] = _more_current(currents.get(state, NOTHING), figure.measured)
        elif kind == "core":
            core = _core(core, figure)
        elif kind == "apart":
            gap = max(1, figure.measured.least - figure.measured.resolution)
            aparts[name] = replace(aparts[name], gap=min(aparts[name].gap, gap))
        elif kind == "source":
            sources[name] = _source(sources[name], figure)
        elif kind == "unit":
            units[name] = _unit(units[name], figure)
        elif kind == "isr":
            isrs[name] = _isr(isrs[name], figure)
        elif kind == "step":
            longer = figure.key == "time" and steps[name].puts
            steps[name] = _longer_text(system, steps[name], figure) if longer else _step(steps[name], figure)
    units = {name: replace(unit, current=currents.get(unit.thing, unit.current)) for name, unit in units.items()}
    pins = tuple(replace(pin, current=currents.get(pin.thing, pin.current)) for pin in system.pins)
    loop = replace(system.loop, steps=tuple(steps.values())) if system.loop else None
    currents = {state: each for state, each in currents.items() if not state.startswith(("unit.", "pin."))}
    return replace(system, core=core, sources=tuple(sources.values()), units=tuple(units.values()),
                   isrs=tuple(isrs.values()), loop=loop, currents=currents, aparts=tuple(aparts.values()),
                   pins=pins)  # fmt: skip


def _core(core: Core, figure: Compared) -> Core:
    if figure.key == "exit":
        return replace(core, exit=_wider(core.exit, figure))
    if figure.key == "chain":
        return replace(core, chain=_wider(core.chain, figure))
    entry = _wider(core.entry, figure)
    chained = min(core.chain.least, core.exit.least + entry.least)  # unless it says so, it is an exit and an entry
    return replace(core, entry=entry, chain=Range(chained, core.chain.most))


def _more_current(old: Amperes, measured: Measured) -> Amperes:
    """The old range, widened to hold what was measured."""
    seen = [
        Fraction(each, PICO) for each in (measured.least - measured.resolution, measured.most + measured.resolution)
    ]
    return max(Fraction(0), min(old[0], seen[0])), max(old[1], seen[1])


def _unit(unit: Unit, figure: Compared) -> Unit:
    assert figure.measured is not None
    if unit.counts is not None:
        return replace(unit, counts=replace(unit.counts, n=figure.measured.most))
    if figure.key == "answers":
        return replace(unit, answers=Fraction(max(1, figure.measured.most), MILLION))
    return replace(unit, takes=_wider(unit.takes, figure))


def _wider(old: Range, figure: Compared) -> Range:
    """The old range, widened to hold what was measured, with the room that its uncertainty needs."""
    assert figure.measured is not None
    room = figure.measured.resolution + 1
    least = min(old.least, max(0, figure.measured.least - room))
    return Range(least, max(old.most, figure.measured.most + room))


def _source(source: Source, figure: Compared) -> Source:
    assert figure.measured is not None
    measured = figure.measured
    if figure.key == "jitter":
        return replace(source, jitter=measured.most + 2 * measured.resolution)
    if figure.key == "period":
        mean, room = Fraction(measured.most), measured.resolution + 1
        return replace(source, period=mean, period_least=mean - room, period_most=mean + room)
    if figure.key == "within" and source.burst is not None:
        return replace(source, burst=replace(source.burst, within=measured.most + measured.resolution))
    gap = max(1, measured.least - measured.resolution)
    if source.period_least is not None:  # its clock may stand still, so that only its gap is judged
        return replace(source, period_least=min(source.period_least, Fraction(gap + source.jitter)))
    return replace(source, gap=gap, burst=None, serial=None)


def _isr(isr: Isr, figure: Compared) -> Isr:
    if figure.key == "each" and isr.drains is not None:
        return isr.draining(replace(isr.drains, each=_wider(isr.drains.each, figure)))
    if figure.rhythm is not None:
        sets = () if isr.nth is None else isr.nth.sets
        return isr.burning(isr.costs_first, isr.drains, Nth(figure.rhythm.n, None, figure.rhythm.longer, sets))
    if figure.key == "nth" and isr.nth is not None:
        return isr.burning(isr.costs_first, isr.drains, replace(isr.nth, cost=_wider(isr.nth.cost, figure)))
    moment = figure.key.partition("moments.")[2]
    if moment:
        within = tuple((name, _wider(at, figure) if name == moment else at) for name, at in isr.moments)
        return replace(isr, moments=within)
    if figure.key == "guard":
        return replace(isr, guards=_guards(isr.guards, figure), cost=_holding(isr.cost, figure),
                       costs=tuple(_holding(cost, figure) for cost in isr.costs))  # fmt: skip
    if isr.pause.most:  # nothing tells how much of it is pause
        pause = _wider(isr.cost_first + isr.pause, figure)
        longer = Range(pause.least, max(0, pause.most - isr.cost_first.most))
        return replace(isr, pause=longer).burning(isr.costs_first, isr.drains, isr.nth)
    costs = tuple(_wider(cost, figure) for cost in isr.costs_first)
    return isr.burning(costs, isr.drains, isr.nth)


def _step(step: Step, figure: Compared) -> Step:
    assert figure.measured is not None
    if figure.key == "guard":
        return step.with_cost(_holding(step.cost, figure), _guards(step.guards, figure))
    if figure.key == "every":
        mean, room = Fraction(figure.measured.most), figure.measured.resolution + 1
        return replace(step, every=Period(mean, mean - room, mean + room))
    if step.drains is not None:
        each = _wider(step.drains.each, figure) if figure.key == "each" else step.drains.each
        wider = step if figure.key == "each" else step.with_cost(_wider(step.cost_first, figure))
        acts = tuple(replace(act, each=each) if isinstance(act, Drain) else act for act in wider.acts)
        return replace(wider, acts=acts)
    wider = step.with_cost(_wider(step.cost, figure))
    return wider.without_pauses() if figure.key == "time" else wider


def _longer_text(system: System, step: Step, figure: Compared) -> Step:
    """It blocks for longer: as many more to put as that takes to be sent."""
    assert figure.measured is not None

    def more(put: Put) -> Put:
        assert figure.measured is not None
        sent = figure.measured.most // system.sent_by(system.buffer(put.buffer)).takes.least + 1
        return replace(put, items=Range(put.items.least, put.items.most + sent))

    return replace(step, acts=tuple(more(act) if isinstance(act, Put) else act for act in step.acts))


def _guards(guards: tuple[Guard, ...], figure: Compared) -> tuple[Guard, ...]:
    assert figure.measured is not None
    assert figure.urgency is not None
    length = figure.measured.most + 2 * figure.measured.resolution
    return (*guards, Guard(figure.urgency, ZERO, Range(length, length)))


def _holding(cost: Range, figure: Compared) -> Range:
    """A body must last as long as what it holds off."""
    assert figure.measured is not None
    return Range(cost.least, max(cost.most, figure.measured.most + 2 * figure.measured.resolution))
