"""Random numbers of the engine, by whole numbers alone: the same on every machine, compiled or not."""

# ruff: noqa: F403, F405
from __future__ import annotations

from tachys.compiled import kernel
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints

LOW = (1 << 32) - 1


@kernel()
def draw31(m: Ints) -> int:
    """31 random bits: xoshiro128++ of D. Blackman, S. Vigna (ACM Trans. Math. Software 47, 2021)."""
    a, b, c, d = m[DRAW_0], m[DRAW_1], m[DRAW_2], m[DRAW_3]
    word = (a + d) & LOW
    word = (((word << 7) & LOW) | (word >> 25)) + a
    c ^= a
    d ^= b
    m[DRAW_1] = b ^ c
    m[DRAW_0] = a ^ d
    m[DRAW_2] = c ^ ((b << 9) & LOW)
    m[DRAW_3] = ((d << 11) & LOW) | (d >> 21)
    return (word & LOW) >> 1


@kernel()
def draw_uniform(m: Ints, least: int, most: int) -> int:
    """A whole number of [least, most], all alike."""
    many = most - least + 1
    if many <= 1:
        return least
    if many < (1 << 31):
        return least + ((draw31(m) * many) >> 31)
    return least + ((draw31(m) << 31) | draw31(m)) % many


@kernel()
def draw_exponential(m: Ints, mean: int) -> int:
    """An exponential time of that mean, by comparisons alone: the same on every machine.

    J. von Neumann, "Various techniques used in connection with random digits", NBS Applied Math. Series 12 (1951).
    """
    whole = 0
    while True:
        first = draw31(m)
        last, falling = first, 1
        while True:
            other = draw31(m)
            if other >= last:
                break
            last = other
            falling += 1
        if falling % 2 == 1:
            break
        whole += 1
    if whole > (1 << 61) // max(mean, 1):
        return 1 << 61
    if mean < (1 << 32):
        return whole * mean + ((first * mean) >> 31)
    return whole * mean + (((first >> 8) * (mean >> 20)) >> 3)


@kernel()
def draw_cost(m: Ints, least: int, most: int) -> int:
    """A cost, as the way of playing says."""
    if least == most:
        return most
    way = m[COSTS]
    if way == MOST:
        return most
    if way == LEAST:
        return least
    if way == TRIANGULAR:
        half = (most - least) // 2
        return draw_uniform(m, least, least + half) + draw_uniform(m, 0, most - least - half)
    return draw_uniform(m, least, most)


@kernel()
def draw_body(m: Ints, least: int, most: int, first: int, end: int) -> int:
    """The cost of a row or step: one of those measured, at addresses first to end, or as :func:`draw_cost`."""
    if m[COSTS] == MEASURED and end > first:
        return m[first + draw_uniform(m, 0, end - first - 1)]
    return draw_cost(m, least, most)
