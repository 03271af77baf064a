"""What the engine keeps of what happens: statistics of times, and a log of records that never overflows."""

# ruff: noqa: F403, F405
from __future__ import annotations

from tachys.compiled import bit_length, kernel
from tachys.simulation.layout import *
from tachys.simulation.layout import Ints

SUM = (1 << 40) - 1


@kernel()
def observe(m: Ints, stat: int, ps: int, many: int) -> None:
    """Count a time, ``many`` times, in its statistics: buckets of equal width in each octave."""
    m[stat + T_COUNT] += many
    low = m[stat + T_LOW] + ps * many
    m[stat + T_LOW] = low & SUM
    m[stat + T_HIGH] += low >> 40
    if ps < m[stat + T_LEAST]:
        m[stat + T_LEAST] = ps
    if ps > m[stat + T_MOST]:
        m[stat + T_MOST] = ps
    bits = m[BITS]
    octave = bit_length(ps >> (bits + 1))
    m[stat + T_BUCKETS + (octave << bits) + (ps >> octave)] += many


@kernel()
def write(m: Ints, log: Ints, kind: int, index: int, cause: int) -> None:
    """Add a record, if such are kept; never beyond the end of the log."""
    if m[RECORD] == 0:
        return
    kept = m[m[RECORD] + kind]
    if kept == NONE or (kept != EVERY and m[kept + index] == 0):
        return
    at = m[LOGGED]
    if at + RECORD_SIZE > m[LOG_END]:
        m[FAULT] = NO_ROOM
        return
    log[at] = m[NOW]
    log[at + 1] = (kind << KIND) + index
    log[at + 2] = cause
    m[LOGGED] = at + RECORD_SIZE
