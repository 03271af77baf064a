"""From an event to what it causes: how long that takes, hop by hop, and what may be lost on the way."""

from __future__ import annotations

from itertools import takewhile

from tachys.figures import Figure, summed
from tachys.model.events import Event, Thing
from tachys.model.graph import Link
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.laws import hop, law_of


def way(reach: EventBounds, begins: Event, ends: Event, *, age: bool) -> tuple[Figure, str] | None:
    """(time from one event to what it causes, why one may be lost on the way); None: no chain leads there."""
    links = reach.system.graph.chain(begins, ends)
    if links is None:
        return None
    figures = [hop(reach, link) for link in links]
    broken = next((figure for figure in figures if figure.most is None), None)
    surely = takewhile(lambda each: not _may_have_begun(reach, each[0]), zip(links, figures, strict=True))
    least = 0 if age else sum(figure.least for _, figure in surely)
    if broken is not None:
        return Figure(least, None, reason=broken.reason), ""
    if len(figures) > 1 or age:
        figures = [summed(least, [part for each in figures for part in each.parts])]
    return figures[0], _lost_on_way(reach, links, age=age)


def _may_have_begun(reach: EventBounds, link: Link) -> bool:
    """Whether it leads to what may have begun before: a run that takes what comes meanwhile, too."""
    return link.kind == "drains" and link.flag in reach.system.graph.until_empty


def _lost_on_way(reach: EventBounds, links: tuple[Link, ...], *, age: bool) -> str:
    """Why an event may be lost on the way; empty if none is. An overwritten flag does not make the last cause older."""
    for link in links:
        body, thing = link.after.thing, None
        silent = law_of(reach.system, body).silent if link.after.moment == "end" else None
        if silent is not None:
            return silent
        if link.kind == "sets":
            thing = Thing(f"flag.{link.flag}")
            other = reach.system.graph.rival(link.flag, reach.system.step(body.name))
            if other is not None:
                return f"step.{other} may take the flag {link.flag} first"
        elif link.kind == "drains":
            thing = Thing(f"buffer.{link.flag}")
        elif link.kind != "ends" or law_of(reach.system, body).breaks_off:
            thing = body
        if thing is None or (age and link.kind == "sets"):
            continue
        why = reach.loses(thing)
        if why is not None:
            more = "; age = true asks for the last set before each take alone" if link.kind == "sets" else ""
            return f"an event may be lost at {thing}: {why}{more}"
    return ""
