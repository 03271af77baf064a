"""What the bounds prove of each need."""

from __future__ import annotations

from tachys.bounds.flags import rival
from tachys.bounds.reach import Reach
from tachys.bounds.result import Figure, LoadBounds, NeedBounds, Part, Verdict, summed
from tachys.model.events import Event, Thing
from tachys.model.system import (
    FeedNeed,
    JitterNeed,
    LoadNeed,
    LossNeed,
    Need,
    PeriodNeed,
    System,
    WithinNeed,
)
from tachys.model.ways import Hop, way


def verdict_of(*, proved: bool, can_tell: bool, seen_beyond: bool) -> Verdict:
    """The verdict on a need, from what is proved, whether anything can tell, and whether it was seen broken."""
    if seen_beyond:
        return Verdict.MISSED
    if proved:
        return Verdict.MET
    return Verdict.AT_RISK if can_tell else Verdict.UNSEEN


def need_bounds(system: System, need: Need, reach: Reach, load: LoadBounds) -> NeedBounds:
    """One need on paper."""
    if isinstance(need, LoadNeed):
        return _load(need, load)
    if isinstance(need, LossNeed):
        return _loss(need, reach)
    if isinstance(need, PeriodNeed):
        return _period(need, reach)
    if isinstance(need, JitterNeed):
        return _jitter(need, reach)
    if isinstance(need, FeedNeed):
        return _feed(need, reach)
    return _within(system, need, reach)


def _load(need: LoadNeed, load: LoadBounds) -> NeedBounds:
    most, reason = load.most, load.reason
    if need.over is not None:
        most, reason = next(window.most for window in load.windows if window.length == need.over), ""
    proved = most <= need.limit
    return NeedBounds(need, need.limit, most, proved, verdict_of(proved=proved, can_tell=True, seen_beyond=False),
                      "" if proved else reason)  # fmt: skip


def loses(reach: Reach, thing: Thing) -> str | None:
    """Why events of a thing (source, unit, routine or flag.NAME) may be lost; None if none ever is."""
    kind, name = thing.kind, thing.name
    if kind == "isr":
        return reach.isrs[name].lost_reason if reach.isrs[name].lost else None
    if kind == "unit":
        return reach.units[name].lost_reason if reach.units[name].lost else None
    if kind == "flag":
        return reach.flags[name].reason if reach.flags[name].overwritten else None
    system = reach.system
    event = Event(thing)
    takers = [isr.thing for isr in system.isrs if event in isr.on] + [
        unit.thing for unit in system.units if event in unit.on
    ]
    found = [f"{taker}: {why}" for taker in takers if (why := loses(reach, taker)) is not None]
    return "; ".join(found) or None


def _loss(need: LossNeed, reach: Reach) -> NeedBounds:
    why = loses(reach, need.of)
    if why is None:
        return NeedBounds(need, need.most, 0, True, Verdict.MET)
    return NeedBounds(need, need.most, None, False, Verdict.AT_RISK, f"may be lost: {why}")


def _period(need: PeriodNeed, reach: Reach) -> NeedBounds:
    """The bound is how far a distance can be from ``every``, either way."""
    least, most = reach.distances(need.of)
    if most.most is None:
        return _from_figure(need, need.give_or_take, Figure(0, None, reason=most.reason))
    if most.most - need.every >= need.every - least:
        parts = [*most.parts, Part("wanted", need.of, 1, -need.every)]
    else:
        parts = [Part("wanted", need.of, 1, need.every), Part("least distance", need.of, 1, -least)]
    return _from_figure(need, need.give_or_take, summed(0, parts))


def _jitter(need: JitterNeed, reach: Reach) -> NeedBounds:
    figure = delay_of(reach, need.of)
    if figure.most is None:
        return _from_figure(need, need.jitter, figure)
    parts = [*figure.parts, Part("the least of it", need.of, 1, -figure.least)]
    return _from_figure(need, need.jitter, summed(0, parts))


def delay_of(reach: Reach, event: Event) -> Figure:
    """The delay of an event against what causes it."""
    kind, name = event.kind, event.name
    if kind == "source":
        source = reach.system.source(name)
        if source.period is None:
            return Figure(0, None, reason="its source is sporadic: there is nothing it could be late against")
        return summed(0, [Part("jitter", event, 1, source.jitter)])
    if kind == "isr":
        bounds = reach.isrs[name]
        return bounds.latency if event.moment == "start" else bounds.response
    if kind == "unit":
        unit = reach.units[name]
        if event.moment == "end":
            return unit.time
        return summed(0, [part for part in unit.time.parts if part.what.startswith("starts that wait")])
    step, bounds_ = reach.system.step(name), reach.steps[name]
    if step.polls is not None and step.every is None and rival(reach.system, step.polls, step) is None:
        beginning = reach.flags[step.polls].reaction
    elif step.polls is not None:
        beginning = Figure(0, None, reason=f"step.{name} is not alone in waiting for its flag, or also for its timer")
    elif bounds_.late is not None:
        beginning = bounds_.late
    else:
        beginning = Figure(0, 0)
    if event.moment == "start" or beginning.most is None:
        return beginning
    if bounds_.duration.most is None:
        return bounds_.duration
    return summed(beginning.least + bounds_.duration.least, [*beginning.parts, *bounds_.duration.parts])


def _feed(need: FeedNeed, reach: Reach) -> NeedBounds:
    dog = need.watchdog
    gap = reach.gap(dog.fed_by)
    least, most = reach.distances(dog.fed_by)
    if gap is None:
        return _from_figure(need, dog.timeout, Figure(0, None, reason=most.reason or "nothing is sure to feed it"))
    figure = most if most.most is not None and most.most >= gap else Figure(
        0, gap, (Part("longest time to the next feed", dog.fed_by, 1, gap),)
    )  # fmt: skip
    assert figure.most is not None
    early = least < dog.not_before
    reason = "it can be fed again before its window opens" if early else ""
    proved = figure.most < dog.timeout and not early
    verdict = verdict_of(proved=proved, can_tell=True, seen_beyond=False)
    return NeedBounds(need, dog.timeout, figure.most, proved, verdict, reason, figure)


def _within(system: System, need: WithinNeed, reach: Reach) -> NeedBounds:
    hops = way(system, need.begins, need.ends)
    if hops is None:
        gap = reach.gap(need.ends)
        if gap is None:
            reason = f"no chain of causes leads from {need.begins} to {need.ends}, and nothing makes it come"
            return NeedBounds(need, need.within, None, False, Verdict.UNSEEN, reason)
        part = Part("longest time to the next", need.ends, 1, gap)
        return _from_figure(need, need.within, Figure(0, gap, (part,)))
    figures = [_hop(reach, hop) for hop in hops]
    broken = next((figure for figure in figures if figure.most is None), None)
    least = sum(figure.least for figure in figures)
    if broken is not None:
        return _from_figure(need, need.within, Figure(least, None, reason=broken.reason))
    figure = figures[0] if len(figures) == 1 else summed(least, [part for each in figures for part in each.parts])
    return _from_figure(need, need.within, figure, _lost_on_way(reach, hops, age=need.age))


def _hop(reach: Reach, hop: Hop) -> Figure:
    kind, name = hop.after.kind, hop.after.name
    if hop.kind == "sets":
        return reach.flags[hop.flag].reaction
    if hop.kind == "ends":
        if kind == "isr":
            return reach.isrs[name].span
        if kind == "unit":
            takes = reach.system.unit(name).takes
            return Figure(takes.least, takes.most, (Part("operation", hop.after.thing, 1, takes.most),))
        return reach.steps[name].duration
    return delay_of(reach, hop.after)


def _lost_on_way(reach: Reach, hops: tuple[Hop, ...], *, age: bool) -> str:
    """Why an event may be lost on the way; empty if none is. An overwritten flag does not make the last cause older."""
    for hop in hops:
        body, thing = hop.after.thing, None
        if hop.kind == "sets":
            thing = Thing(f"flag.{hop.flag}")
        elif hop.kind != "ends" or (body.kind == "unit" and reach.system.unit(body.name).busy == "restart"):
            thing = body
        other = rival(reach.system, hop.flag, reach.system.step(body.name)) if hop.kind == "sets" else None
        if other is not None:
            return f"step.{other} may take the flag {hop.flag} first"
        if thing is None or (age and hop.kind == "sets"):
            continue
        why = loses(reach, thing)
        if why is not None:
            return f"an event may be lost at {thing}: {why}"
    return ""


def _from_figure(need: Need, limit: int, figure: Figure, lost: str = "") -> NeedBounds:
    proved = figure.most is not None and figure.most <= limit and not lost
    verdict = verdict_of(proved=proved, can_tell=True, seen_beyond=False)
    return NeedBounds(need, limit, figure.most, proved, verdict, figure.reason or lost, figure)
