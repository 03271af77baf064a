"""How many bytes a second the marks of a model can cause at most, and the rate that a line needs for them."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from math import ceil

from msgspec import Struct

from tachys.marks.codes import Mark
from tachys.marks.header import COUNT_BITS
from tachys.model.events import Event, Thing
from tachys.model.quantities import PS_PER_SECOND
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.load import step_rate

FRAME = 2 * 12 + 2  # what a frame has beside its marks, at most, as packed
BYTES_A_FRAME = 96  # of marks in it, at least: 48 words, but for those that are sent so that time goes on
BITS_A_BYTE = 10  # on a serial line: a start bit, eight, a stop bit


class Marking(Struct, frozen=True):
    """A mark, and how many words of the ring a second it fills at most; None: nothing limits it."""

    mark: Mark
    rate: Fraction | None


def markings(paper: Bounds, marks: Sequence[Mark]) -> list[Marking]:
    """How often each is made at most; a value as often as the firmware likes, which is not counted."""
    return [Marking(mark, _rate(paper, mark)) for mark in marks if mark.kind != "value"]


def bytes_a_second(rates: Sequence[Marking], hertz: int) -> Fraction | None:
    """The most, packed and in frames; None where nothing limits one of them.

    A mark is its code and the counts since the one before, in a byte up to 2^7, two up to 2^13, three up to 2^19. Few
    are long: so many counts pass a second.
    """
    words = Fraction(0)
    for each in rates:
        if each.rate is None:
            return None
        words += each.rate
    words += Fraction(4 * hertz, 2**COUNT_BITS)  # alive
    counted = 2 * words + sum((min(words, Fraction(hertz, 2**bits)) for bits in (7, 13, 19)), Fraction(0))
    frames = counted / BYTES_A_FRAME + Fraction(16 * hertz, 2**COUNT_BITS)
    return counted + frames * FRAME * Fraction(65, 64)  # each 64th says who speaks


def baud_needed(bytes_each: Fraction) -> int:
    """Bits a second of a serial line that carries so many bytes."""
    return ceil(bytes_each * BITS_A_BYTE)


def to_leave_out(rates: Sequence[Marking], hertz: int, baud: int) -> list[str] | None:
    """The names whose marks come most often, as many as must go until a line is fast enough; None: it never is."""
    left = sorted(rates, key=lambda each: (each.rate is not None, -(each.rate or 0)))
    gone = []
    while (now := bytes_a_second(left, hertz)) is None or baud_needed(now) > baud:
        if not left:
            return None
        gone.append(left.pop(0).mark.name)
    return gone


def _rate(paper: Bounds, mark: Mark) -> Fraction | None:
    """Words a second."""
    assert paper.reach is not None
    thing, words = Thing(mark.name), 2 if mark.kind == "body" else 1
    if thing == "startup":
        return Fraction(0)
    try:
        if thing.kind == "step":
            rate = step_rate(paper.system, paper.system.step(thing.name), paper.reach)
        else:
            rate = paper.reach.events.curve(thing.start if mark.kind == "body" else Event(mark.name)).rate()
    except NoBound:
        return None
    return None if rate is None else rate * words * PS_PER_SECOND
