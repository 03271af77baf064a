"""What compiled scanners of captures share: changes as columns (when, which, to what), and reading of numbers.

A scanner takes a piece of a file as bytes and fills these columns in bounded memory. What it cannot finish at the end
of a piece (a token that goes on) it leaves for the next. What is wrong it notes with the line, in its ``state``.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tachys.compiled import int64, kernel

Ints = NDArray[np.int64]
Bytes = NDArray[np.uint8]

KNOWN, NOT_KNOWN = 1, 2  # what is said of a value; 0: nothing yet
UNKNOWN = -1  # stands in the place of a value that is not known; its slot is then given as ~slot
LARGEST = 1 << 62  # ps, of a time


@kernel()
def plain_real(data: Bytes, at: int, end: int, point: int, out: Any) -> bool:
    """Read ``data[at:end]`` as a number into ``out[0]``; False where it is none or needs more care than this.

    With at most 15 digits and a power of ten up to 22, one rounded operation gives the nearest double (Clinger, How to
    read floating point numbers accurately, PLDI 1990).
    """
    number: Any = int64(0)
    digits: Any = 0
    power: Any = 0
    negative = at < end and data[at] == 45
    if at < end and (data[at] == 45 or data[at] == 43):
        at += 1
    after = False
    while at < end and data[at] | 32 != 101:
        if data[at] == point and not after:
            after = True
        elif 48 <= data[at] <= 57 and digits < 15:
            number = 10 * number + (int64(data[at]) - 48)
            digits += 1
            power -= after
        else:
            return False
        at += 1
    if digits == 0:
        return False
    if at < end:
        at += 1
        minus = at < end and data[at] == 45
        if at < end and (data[at] == 45 or data[at] == 43):
            at += 1
        if at == end or end - at > 2:
            return False
        exponent: Any = 0
        while at < end:
            if not 48 <= data[at] <= 57:
                return False
            exponent = 10 * exponent + (int64(data[at]) - 48)
            at += 1
        power += -exponent if minus else exponent
    if power < -22 or power > 22:
        return False
    tens = 1.0
    for _ in range(abs(power)):
        tens *= 10.0
    value = np.float64(number) / tens if power < 0 else np.float64(number) * tens
    out[0] = -value if negative else value
    return True


@kernel()
def count_slots(which: Any, counts: Ints) -> None:
    """Add up how many changes each slot has."""
    for slot in which:
        counts[slot if slot >= 0 else ~slot] += 1


@kernel()
def deal_out(
    times: Ints, which: Any, values: Ints, over: int, under: int, ends: Ints, last: Ints, seen: Ints, out_times: Ints,
    out_values: Ints, out_known: Any,
) -> None:  # fmt: skip
    """Put changes where the columns of their slots go on; what does not change a value is dropped.

    Times are multiplied by ``over / under``, rounded down. ``seen``: nothing yet, KNOWN or NOT_KNOWN.
    """
    for place in range(len(times)):
        slot, value = which[place], values[place]
        now = KNOWN
        if slot < 0:
            slot, now = ~slot, NOT_KNOWN
        if seen[slot] == now and last[slot] == value:
            continue
        seen[slot] = now
        last[slot] = value
        out_times[ends[slot]] = times[place] * over // under
        out_values[ends[slot]] = value
        out_known[ends[slot]] = now == KNOWN
        ends[slot] += 1
