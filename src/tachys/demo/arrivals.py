"""When events come on a stand-in board, in ps of its own time."""

from __future__ import annotations

import random
from collections.abc import Iterator

US, MS = 10**6, 10**9


def regular(period: int, phase: int, until: int, *, ppm: int) -> Iterator[int]:
    """Events of a timer on a crystal that is ``ppm`` slow."""
    count = 0
    while (at := phase + count * period * (10**6 + ppm) // 10**6) <= until:
        yield at
        count += 1


def at_random(dice: random.Random, until: int, least: int, most: int) -> Iterator[int]:
    """Events that come when they like, between ``least`` and ``most`` apart."""
    now = dice.randint(0, most)
    while now <= until:
        yield now
        now += dice.randint(least, most)


def telegrams(dice: random.Random, until: int, pauses: tuple[int, int], length: int, character: int) -> Iterator[int]:
    """Characters of ``character`` ps, back to back within a telegram of so many, which begin ``pauses`` apart."""
    for begin in at_random(dice, until, *pauses):
        yield from (begin + place * character for place in range(length))
