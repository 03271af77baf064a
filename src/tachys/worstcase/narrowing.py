"""What the bounds of buffers say of the system: how many a run takes, how many are in, how long a put blocks.

They also say which depth would do.

All bounds are found for runs that take no more, buffers that hold no more, and puts that block no longer, than they
themselves say, from below: by induction over time, since what begins hangs on what has ended before it.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from tachys.model.acts import Act, Drain, Put
from tachys.model.nodes import Buffer, Isr, Step, Unit
from tachys.model.quantities import LONGEST_PS, Range
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.buffers import BuffersOnPaper, Line

MOST_TURNS = 60
MOST_DEPTHS = 8  # that are tried
MOST_DEPTH = 10**6


def narrowed(system: System, found: Callable[[System], BuffersOnPaper]) -> BuffersOnPaper:
    """What is ``found`` of the system in which no run takes more items, no put blocks longer, no more are in than
    bounds say, and no buffer loses an item of which bounds say that it loses none.

    Where what follows from a unit asks it for its next item, so found again with what is known then of how long items
    wait for it, and how far apart it takes them: the first time how often it works stands on the puts alone.
    """
    if not system.buffers:
        return found(system)
    paper = _narrowed(system, found)
    answered = [unit for unit in system.units if unit.thing in paper.settled.events.rings.answered]
    if not answered:
        return paper
    buffers = {buffer.name: buffer for buffer in system.buffers}
    for unit in answered:
        buffer, alone = buffers[unit.drains or ""], paper.round_alone(unit)
        waits = paper.bounds(paper.system.buffer(buffer.name)).reaction.most
        buffers[buffer.name] = replace(buffer, waits=waits, apart=alone and alone[1])
    return _narrowed(replace(system, buffers=tuple(buffers.values())), found)


def _narrowed(system: System, found: Callable[[System], BuffersOnPaper]) -> BuffersOnPaper:
    """The same, once."""
    caps = {name: _drain_of(drain).at_most for name, drain in system.graph.drain.items() if not isinstance(drain, Unit)}
    items = {name: max(1, _drain_of(system.graph.drain[name]).items.least) for name in caps}
    rooms = {name: system.buffer(name).depth for name in caps if _in_at_most_matters(system, name)}
    levels = dict.fromkeys(rooms, 1)
    blocks = _blocks(system, None)
    least, spilling = (dict(items), dict(levels)), frozenset[str]()
    for turn in range(MOST_TURNS):
        paper = found(_with(system, items, levels, blocks, spilling))
        seen = {name: paper.bounds(paper.system.buffer(name)) for name in caps}
        wanted = {name: min(cap, max(items[name], seen[name].taken)) for name, cap in caps.items()}
        held = {name: _held(levels[name], seen[name].level, room) for name, room in rooms.items()}
        longer = {each: max(blocks[each], most) for each, most in _blocks(paper.system, paper).items()}
        if (wanted, held) != (items, levels):
            items, levels = (wanted, held) if turn < MOST_TURNS - 2 else (caps, rooms)
        elif longer != blocks:
            (items, levels), blocks = least, longer
        else:
            spills = {name for name in system.graph.heeded if paper.bounds(paper.system.buffer(name)).lost}
            if spills <= spilling:
                return paper
            (items, levels), blocks, spilling = least, _blocks(system, None), spilling | spills
    return found(_with(system, caps, rooms, dict.fromkeys(blocks, LONGEST_PS), frozenset(system.graph.heeded)))


def _in_at_most_matters(system: System, name: str) -> bool:
    """Whether other bounds stand on how many are in a buffer: how often its step runs, what is moved on, or taken."""
    drain = system.graph.drain[name]
    moves = isinstance(drain, Isr) and drain.moves_to is not None
    return isinstance(drain, Step) or moves or name in system.graph.until_empty


def _held(tried: int, level: int | None, room: int) -> int:
    """How many to try next; what grows again is not followed further."""
    if level is not None and level <= tried:
        return tried
    return room if level is None or tried > 1 else min(level, room)


def _drain_of(drain: Unit | Isr | Step) -> Drain:
    assert isinstance(drain, Isr | Step)
    assert drain.drains is not None
    return drain.drains


def _with(
    system: System,
    items: dict[str, int],
    levels: dict[str, int],
    blocks: dict[tuple[str, int], int],
    spilling: frozenset[str],
) -> System:
    """The system in which each drain takes at most so many, in each buffer are at most so many at once, each put blocks
    at most so long, and these buffers spill.
    """

    def act(step: Step, place: int, each: Act) -> Act:
        if isinstance(each, Drain):
            return replace(each, items=_up_to(each.items, items[each.buffer]))
        if isinstance(each, Put):
            longest = blocks[step.name, place]
            return replace(each, blocks=Range(min(each.blocks.least, longest), longest))
        return each

    isrs = tuple(
        isr if isr.drains is None else
        isr.draining(replace(isr.drains, items=_up_to(isr.drains.items, items[isr.drains.buffer])))
        for isr in system.isrs
    )  # fmt: skip
    proved = set(system.graph.heeded) - spilling
    buffers = tuple(
        replace(buffer, overruns=buffer.name not in proved, holds=levels.get(buffer.name)) for buffer in system.buffers
    )
    if system.loop is None:
        return replace(system, isrs=isrs, buffers=buffers)
    steps = tuple(replace(step, acts=tuple(act(step, *each) for each in enumerate(step.acts))) for step in system.steps)
    return replace(system, isrs=isrs, buffers=buffers, loop=replace(system.loop, steps=steps))


def _up_to(known: Range, most: int) -> Range:
    return Range(min(known.least, most), min(known.most, most))


def _blocks(system: System, paper: BuffersOnPaper | None) -> dict[tuple[str, int], int]:
    """How long each put (of a step, its place) blocks at most, with what is known of how far apart its runs lie."""
    return {
        (step.name, place): put.blocks.least
        if paper is None
        else _blocks_most(paper, step, put, alone=len(system.graph.putters[put.buffer]) == 1)
        for step in system.steps
        for place, put in enumerate(step.acts)
        if isinstance(put, Put)
    }


def _blocks_most(paper: BuffersOnPaper, step: Step, put: Put, *, alone: bool) -> int:
    """How long a put blocks at most; ``alone``: nobody else puts into that buffer.

    In a line at rest the first go on as fast as runs do, so that the loop is away, and does not wait; where those find
    nothing more in, it has to look again.
    """
    windows, buffer, many = paper.windows, paper.system.buffer(put.buffer), put.items.most
    assert windows is not None
    try:
        line = paper.line(buffer)
    except NoBound:
        return LONGEST_PS
    behind, takes, away = max(0, many - buffer.depth), line.unit.takes, windows.away()
    if not many or away is None:  # without an end nothing of the loop has one
        return 0

    def stops(sends: int) -> int:
        """How long it stands still meanwhile, each time with a run until it goes on."""
        still = windows.dry((buffer.depth - bool(line.run)) * takes.least, sends)
        return still + line.run * (many // buffer.depth + 1) if still else 0

    def looks(moved: int) -> int:
        """What the loop is kept away between the looks for so many that go on at once."""
        return away * ((min(moved, line.beyond + 1) - 1) // buffer.depth) if moved and line.run else 0

    if _all_find_room(paper, step, buffer, line):
        return 0
    blocks = looks(behind)  # where it is at rest as the step begins to put
    if behind > line.beyond + 1:
        filled = line.run * (-(-line.beyond // line.at_once) + 1) + blocks
        blocks = max(filled, line.run + (behind - line.beyond - 1) * line.each) + line.lag
    still, row = stops(blocks) if blocks else 0, takes.most + (many - 1) * line.each
    if not alone or line.run + row + looks(many) + still > _apart(paper, step, put):
        blocks = row + line.lag + looks(many)
        still = stops(blocks)
    return blocks + still


def _all_find_room(paper: BuffersOnPaper, step: Step, buffer: Buffer, line: Line) -> bool:
    """Whether all that a run puts finds room at once, since nobody else puts, and what the run before put is gone."""
    putting = paper.system.graph.putters[buffer.name]
    total, bounds = sum(put.items.most for _, put in putting), paper.reach.steps[step.name]
    if line.run or any(each is not step for each, _ in putting) or total > buffer.depth or bounds.duration.most is None:
        return False
    return bounds.interval.least - bounds.duration.most >= total * line.unit.takes.most


def _apart(paper: BuffersOnPaper, step: Step, put: Put) -> int:
    """The least time in ps between the instants at which a step begins to put."""
    assert paper.windows is not None
    bounds, spread = paper.reach.steps[step.name], paper.windows.until(step, step.before(put))
    return 0 if spread.most is None else bounds.interval.least - (spread.most - spread.least)


# --- what depth would do ---------------------------------------------------------------------------------------------


def depth_needed(system: System, name: str, level: int | None, level_of: Callable[[System], int | None]) -> int | None:
    """The depth from which on no item of a buffer is lost on paper; None: none that is found soon.

    What is in costs time to take, in which more come: so the depth is tried that the one before asks for. ``level``:
    the most items that are in, as it is; ``level_of``: in that buffer of another system.
    """
    depth = level
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
