"""The ratio reader: which single mistake would turn the wanted period into the measured one.

Each known mistake predicts a ratio measured / wanted. Those whose prediction lies within the measurement's
uncertainty are named, the more common mistake first; a software reload, which adds a constant and so explains any
small excess, is named last.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

from msgspec import Struct, field

from tachys.dividers.counter import Setting, deviation_ppm


class TimerContext(Struct, frozen=True):
    """What is known of a timer: its clock by name, all clocks of the tree in hertz, its setting where there is one.

    ``parents`` gives for a derived clock the clock it comes from. ``tolerance`` is that of the timer's clock.
    ``most_excess`` in seconds is the longest time that a reload by software could add each period.
    """

    clock: str
    clocks: dict[str, Fraction]
    setting: Setting | None = None
    parents: dict[str, str] = field(default_factory=dict)
    tolerance: Fraction = Fraction(0)
    most_excess: Fraction = Fraction(0)


class Mistake(Struct, frozen=True):
    """A mistake that fits: the ratio it predicts, and how far the measured ratio is above it, in ppm."""

    code: str
    text: str
    ratio: Fraction
    off_ppm: Fraction


def read_ratio(
    wanted: Fraction, measured: Fraction, uncertainty: Fraction, context: TimerContext
) -> tuple[Mistake, ...]:
    """The mistakes that explain ``measured`` seconds where ``wanted`` were meant, best first; empty: none of these.

    ``uncertainty`` is the share by which the measured period may be off. A period that is right within it has no
    mistake.

    Raises:
        ValueError: a period that is not more than 0.
    """
    if wanted <= 0 or measured <= 0:
        raise ValueError("periods must be more than 0")
    ratio = measured / wanted
    if abs(ratio - 1) <= uncertainty:
        return ()
    found: dict[str, Mistake] = {}
    for code, text, predicted in _predictions(context):
        if predicted > 0 and predicted != 1 and abs(ratio - predicted) <= uncertainty * predicted:
            found.setdefault(code, Mistake(code, text, predicted, deviation_ppm(ratio, predicted)))
    if abs(ratio - 1) <= context.tolerance + uncertainty:
        text = f"within the tolerance of clock {context.clock}: no register is wrong, the clock is off"
        found["clock-tolerance"] = Mistake("clock-tolerance", text, ratio, Fraction(0))
    excess = measured - wanted
    if 0 < excess <= context.most_excess:
        text = f"reloaded by software: every period is {float(excess * 10**6):.3f} us too long, whatever its length"
        found["software-reload"] = Mistake("software-reload", text, ratio, Fraction(0))
    return tuple(found.values())


def _predictions(context: TimerContext) -> Iterator[tuple[str, str, Fraction]]:
    """(code, words, ratio measured / wanted) of every mistake, the more common first."""
    setting = context.setting
    if setting is not None:
        p, c = setting.prescale, setting.count
        if p > 1:
            yield "prescaler-unset", f"the prescaler is not written: it divides by 1, not by {p}", Fraction(1, p)
        yield from _off_by_one("count", c, "n written where the counter counts n + 1")
        yield from _off_by_one("prescaler", p, "n written where the prescaler divides by n + 1")
        for width in (8, 16, 24, 32):
            if c > 1 << width:
                left = (c - 1) % (1 << width) + 1
                yield (
                    "width-overflow",
                    f"the count does not fit {width} bits: {c} becomes {left}",
                    Fraction(left, c),
                )
    yield (
        "toggled-output",
        "an output toggled each period was read as the period: it has twice as long a one",
        Fraction(2),
    )
    yield "both-edges", "both edges of an output were counted as periods", Fraction(1, 2)
    yield from _other_clocks(context)


def _off_by_one(what: str, factor: int, text: str) -> Iterator[tuple[str, str, Fraction]]:
    yield f"{what}-plus-one", f"{what} {factor + 1} in place of {factor}: {text}", Fraction(factor + 1, factor)
    if factor > 1:
        words = f"{what} {factor - 1} in place of {factor}: 1 was taken off twice, or needlessly"
        yield f"{what}-minus-one", words, Fraction(factor - 1, factor)


def _other_clocks(context: TimerContext) -> Iterator[tuple[str, str, Fraction]]:
    own = context.clocks[context.clock]
    parent = context.parents.get(context.clock)
    for name, hertz in context.clocks.items():
        if hertz == own or name == context.clock:
            continue
        ratio = own / hertz
        if name == parent:
            yield "clock-undivided", f"the timer runs from {name}, before it is divided to {context.clock}", ratio
        elif context.parents.get(name) == context.clock:
            yield "clock-divided", f"the timer runs from {name}, which is {context.clock} divided once more", ratio
        else:
            yield f"other-clock-{name}", f"the timer runs from clock {name}, not from {context.clock}", ratio
