"""What the bounds of buffers say of the system: how many a run takes, how long a put blocks, which depth would do.

All bounds are found for runs that take no more, and puts that block no longer, than what was found before says.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from tachys.model.acts import Act, Drain, Put
from tachys.model.nodes import Isr, Step, Unit
from tachys.model.quantities import LONGEST_PS, Range
from tachys.model.system import System
from tachys.worstcase.buffers import BuffersOnPaper

MOST_TURNS = 60
MOST_DEPTHS = 8  # that are tried
MOST_DEPTH = 10**6


def narrowed(system: System, found: Callable[[System], BuffersOnPaper]) -> BuffersOnPaper:
    """What is ``found`` of the system in which no run takes more items, and no put blocks longer, than bounds say."""
    if not system.buffers:
        return found(system)
    caps = {name: _drain_of(drain).most for name, drain in system.graph.drain.items() if not isinstance(drain, Unit)}
    items = {name: max(1, _drain_of(system.graph.drain[name]).items.least) for name in caps}
    blocks = _blocks(system, None)
    least = dict(items)
    for turn in range(MOST_TURNS):
        paper = found(_with(system, items, blocks))
        taken = {name: paper.bounds(paper.system.buffer(name)).taken for name in caps}
        wanted = {name: min(cap, max(items[name], taken[name])) for name, cap in caps.items()}
        shorter = _blocks(paper.system, paper)
        if wanted == items and shorter == blocks:
            return paper
        if wanted == items:  # sure for the longest, so with the shorter ones from the beginning
            items, blocks = least, shorter
        else:
            items = wanted if turn < MOST_TURNS - 2 else caps
    return found(_with(system, caps, dict.fromkeys(blocks, LONGEST_PS)))


def _drain_of(drain: Unit | Isr | Step) -> Drain:
    assert isinstance(drain, Isr | Step)
    assert drain.drains is not None
    return drain.drains


def _with(system: System, items: dict[str, int], blocks: dict[tuple[str, str], int]) -> System:
    """The system in which each drain takes at most so many, and each put blocks at most so long."""

    def act(step: Step, each: Act) -> Act:
        if isinstance(each, Drain):
            return replace(each, items=_up_to(each.items, items[each.buffer]))
        if isinstance(each, Put):
            longest = blocks[step.name, each.buffer]
            return replace(each, blocks=Range(min(each.blocks.least, longest), longest))
        return each

    isrs = tuple(
        isr if isr.drains is None else
        isr.draining(replace(isr.drains, items=_up_to(isr.drains.items, items[isr.drains.buffer])))
        for isr in system.isrs
    )  # fmt: skip
    if system.loop is None:
        return replace(system, isrs=isrs)
    steps = tuple(replace(step, acts=tuple(act(step, each) for each in step.acts)) for step in system.steps)
    return replace(system, isrs=isrs, loop=replace(system.loop, steps=steps))


def _up_to(known: Range, most: int) -> Range:
    return Range(min(known.least, most), min(known.most, most))


def _blocks(system: System, paper: BuffersOnPaper | None) -> dict[tuple[str, str], int]:
    """How long each put blocks at most, with what is known of how far apart the runs of its step lie."""
    found = {}
    for name, putting in system.graph.putters.items():
        unit = system.graph.drain[name]
        assert isinstance(unit, Unit)
        for step, put in putting:
            found[step.name, name] = _blocks_most(paper, step, put, unit, alone=len(putting) == 1)
    return found


def _blocks_most(paper: BuffersOnPaper | None, step: Step, put: Put, unit: Unit, *, alone: bool) -> int:
    """How long a put blocks at most; ``alone``: nobody else puts into that buffer."""
    many, takes = put.items.most, unit.takes.most
    if paper is None:
        return many * takes
    assert paper.windows is not None
    depth = paper.system.buffer(put.buffer).depth
    behind, lasts = max(0, many - depth - 1), depth * unit.takes.least
    # with what stands still as the last go in it is at rest again before the next run
    if alone and many * takes + (paper.windows.dry(lasts, behind * takes) if behind else 0) <= _apart(paper, step):
        many = behind
    return many * takes + (paper.windows.dry(lasts, many * takes) if many else 0)


def _apart(paper: BuffersOnPaper, step: Step) -> int:
    """The least time in ps between the instants at which a step begins to put."""
    assert paper.windows is not None
    bounds, ahead = paper.reach.steps[step.name], step.acts[: step.acts.index(step.puts[0])]
    spread = paper.windows.until(step, ahead)
    return 0 if spread.most is None else bounds.interval.least - (spread.most - spread.least)


# --- what depth would do ---------------------------------------------------------------------------------------------


def depth_needed(system: System, name: str, level_of: Callable[[System], int | None]) -> int | None:
    """The depth from which on no item of a buffer is lost on paper; None: none that is found soon.

    What is in costs time to take, in which more come: so the depth is tried that the one before asks for. ``level_of``:
    the most items that are in that buffer of a system.
    """
    depth = level_of(system)
    for _ in range(MOST_DEPTHS):
        if depth is None or depth > MOST_DEPTH:
            return None
        more = level_of(_deeper(system, name, depth))
        if more is not None and more <= depth:
            return depth
        depth = more
    return None


def _deeper(system: System, name: str, depth: int) -> System:
    """The system with another depth of a buffer; who takes all that is in takes all of it then."""
    before = system.buffer(name).depth

    def drain(known: Drain) -> Drain:
        if known.buffer != name or known.most < before:
            return known
        return replace(known, most=depth, items=Range(known.items.least, depth))

    isrs = tuple(isr if isr.drains is None else isr.draining(drain(isr.drains)) for isr in system.isrs)
    buffers = tuple(replace(each, depth=depth) if each.name == name else each for each in system.buffers)
    loop = system.loop
    if loop is not None:
        steps = tuple(
            replace(step, acts=tuple(drain(act) if isinstance(act, Drain) else act for act in step.acts))
            for step in loop.steps
        )
        loop = replace(loop, steps=steps)
    return replace(system, isrs=isrs, buffers=buffers, loop=loop)
