"""The supply current over one wake-up, as played: the longest of the first so many."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise

from msgspec import Struct

from tachys.model.events import Thing
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System
from tachys.simulation.engine import play_whole
from tachys.simulation.lanes import Stretch, lanes
from tachys.simulation.options import RunOptions
from tachys.simulation.timeline import pin_signal
from tachys.worstcase.supply import currents_of

AMONG = 1000  # wake-ups
_STATES = {"enters": "run", "runs": "run", "leaves": "run", "wakes": "wake", "sleeps": "sleep", "spins": "spin",
           "waits": "spin"}  # fmt: skip
_FIRST = ("run", "wake", "sleep", "spin")  # of what several lanes say at once


class Piece(Struct, frozen=True):
    """From ``begin`` to ``end`` ps the core is in ``state`` (with units at work), and all takes up to ``amperes``."""

    begin: int
    end: int
    state: str
    amperes: Fraction


def longest_wake_up(system: System, ways: RunOptions, length: int, wakes: Fraction | None) -> list[Piece]:
    """The current from the halt before the longest wake-up to the halt behind it; ``wakes``: how many a second.

    Empty where none lies within ``length`` ps, or where the current of a state is not known.
    """
    if not wakes:
        return []
    end = min(length, int(AMONG * PS_PER_SECOND / wakes))
    _, records, index = play_whole(system, ways, end)
    found = lanes(records, index, 0, end)
    halts = sorted((each for each in found.stretches if each.state == "sleeps"), key=lambda each: each.begin)
    awake = max(pairwise(halts), key=lambda pair: pair[1].begin - pair[0].end, default=None)
    if awake is None:
        return []
    before, behind = awake
    margin = (behind.begin - before.end) // 5
    begin, last = max(before.begin, before.end - margin), min(behind.end, behind.begin + margin)
    lines = ((pin, pin_signal(pin, found)) for pin in system.pins if any(pin.current))
    high = [
        Stretch(pin.thing, "high", first, over)
        for pin, line in lines
        for (first, level), (over, _) in pairwise([(0, line.first), *line.changes, (end, 0)])
        if level
    ]
    inside = [each for each in (*found.stretches, *high) if each.begin < last and each.end > begin]
    return _pieces(system, inside, begin, last)


def _pieces(system: System, stretches: list[Stretch], begin: int, end: int) -> list[Piece]:
    currents, made = currents_of(system), list[Piece]()
    borders = sorted({begin, end, *(at for each in stretches for at in (each.begin, each.end) if begin < at < end)})
    halts = {step.thing: step.halt for step in system.steps if step.halt is not None}
    for first, last in pairwise(borders):
        now = [each for each in stretches if each.begin <= first and each.end >= last]
        told = {_STATES[each.state]: each for each in now if each.state in _STATES and each.who[:5] != "unit."}
        state = next((each for each in _FIRST if each in told), "spin")
        at_work = {each.who for each in now if each.state in ("works", "high")}
        halt = halts.get(Thing(told[state].who)) if state == "sleep" else None
        if halt is not None:
            works = {
                each.who for each in stretches if each.state == "works" and each.begin <= told[state].begin < each.end
            }
            plain = any(f"unit.{unit}" in works for unit in halt.plain_if)
            state = halt.states[-1 if plain else 0]
            at_work -= set() if plain else set(halt.stops)
        if state not in currents:
            return []
        amperes = currents[state][1] + sum((currents[who][1] for who in at_work if who in currents), Fraction(0))
        state = " + ".join([state, *sorted(who for who in at_work if who in currents)])
        if made and (made[-1].state, made[-1].amperes) == (state, amperes):
            made[-1] = Piece(made[-1].begin, last, state, amperes)
        else:
            made.append(Piece(first, last, state, amperes))
    return made
