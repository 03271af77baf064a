"""The compiled scanner of value changes (IEEE 1364), piece by piece."""

from __future__ import annotations

from typing import Any

import numpy as np

from tachys.capture.scanning import KNOWN, LARGEST, NOT_KNOWN, UNKNOWN, Bytes, Ints, plain_real
from tachys.compiled import int64, kernel, wrapped, zeros_of

# places in the state of a scan of value changes
NOW, BEGUN, BEGIN, LINE, PENDING, VALUE, BITS, COMMENT, FAULT, FAULT_AT, FAULT_LENGTH, CHANGES = range(12)
STATE = 12
# what can be wrong
BACKWARDS, UNDECLARED, TOO_WIDE, NO_CHANGE, NO_TIME, NO_VALUE, MIXED, REAL = range(
    1, 9
)  # REAL: not wrong, but to be read
_FNV, _PRIME = -3750763034362895579, 1099511628211


def hash_of(code: bytes) -> int:
    """FNV-1a of an identifier in 64 bits, as the scanner computes it."""
    value = _FNV & (2**64 - 1)
    for byte in code:
        value = ((value ^ byte) * _PRIME) & (2**64 - 1)
    return value - 2**64 if value >= 2**63 else value


def make_table(codes: list[bytes]) -> tuple[Ints, Ints]:
    """(hashes, slots) of an open table of identifiers; empty places have slot -1.

    Raises:
        ValueError: two identifiers have the same hash, which a file made to do so could have.
    """
    size = 1 << max(3, (4 * len(codes)).bit_length())
    keys, slots = np.zeros(size, np.int64), np.full(size, -1, np.int64)
    for slot, code in enumerate(codes):
        key = hash_of(code)
        place = key & (size - 1)
        while slots[place] >= 0:
            if keys[place] == key:
                raise ValueError("two identifiers cannot be told apart")
            place = (place + 1) & (size - 1)
        keys[place], slots[place] = key, slot
    return keys, slots


@kernel()
def read_tick(data: Bytes, first: int, end: int) -> int:
    """The time behind the ``#`` at ``first``; -1 where it is none, or beyond 64 bits."""
    later: Any = int64(0)
    for place in range(first + 1, end):
        digit = data[place] - 48
        if digit < 0 or digit > 9 or later > LARGEST // 10:
            return -1
        later = 10 * later + digit
    return -1 if end == first + 1 else later


@kernel()
def read_vector(data: Bytes, first: int, end: int, state: Ints) -> bool:
    """The value behind the ``b`` at ``first``, which then waits for its identifier; False where it is none."""
    value: Any = int64(0)
    bits, known = 0, True
    for place in range(first + 1, end):
        digit = data[place]
        if digit == 48 or digit == 49:
            bits += bits > 0 or digit == 49
            value = wrapped((value << 1) | (int64(digit) - 48))
        elif digit == 120 or digit == 122 or digit == 88 or digit == 90:
            known = False
        else:
            return False
    if known:
        state[PENDING], state[VALUE], state[BITS] = KNOWN, value, bits
    else:
        state[PENDING], state[VALUE], state[BITS] = NOT_KNOWN, UNKNOWN, 0
    return end > first + 1


@kernel()
def find_slot(data: Bytes, first: int, end: int, keys: Ints, slots: Ints) -> int:
    """The slot of an identifier; -1 where it was not declared."""
    key: Any = int64(_FNV)
    for place in range(first, end):
        key = wrapped((key ^ int64(data[place])) * int64(_PRIME))
    mask = len(keys) - 1
    place = key & mask
    while slots[place] >= 0 and keys[place] != key:
        place = (place + 1) & mask
    return slots[place]


@kernel(weight=2, size=1)
def scan_changes(
    data: Bytes, size: int, final: bool, state: Ints, keys: Ints, slots: Ints, direct: Ints, widths: Ints,
    times: Ints, which: Any, values: Ints,
) -> tuple[int, int]:  # fmt: skip
    """Scan ``data[:size]``; (bytes used up, changes found). Stops where the columns are full or something is wrong."""
    # one loop over words: with its branches in functions that were called, it read 105 MB/s in place of 170
    at, found, room = 0, 0, len(times)
    now, line = state[NOW], state[LINE]
    real: Any = zeros_of(1, np.float64)
    bits_of_real = np.asarray(real).view(np.int64)
    while found < room:
        while at < size and data[at] <= 32:
            line += data[at] == 10
            at += 1
        first = at
        if at + 2 < size and data[at + 2] <= 32 and not state[PENDING] and not state[COMMENT]:
            # the commonest word by far: a level and an identifier of one character
            head, code_byte = data[at], data[at + 1]
            if (head == 48 or head == 49) and 32 < code_byte < 128 and direct[code_byte] >= 0:
                times[found] = now
                which[found] = direct[code_byte]
                values[found] = int64(head) - 48
                found += 1
                at += 2
                continue
        if at < size and data[at] == 35 and not state[COMMENT] and not state[PENDING]:
            later: Any = 0
            at += 1
            while at < size and 48 <= data[at] <= 57 and later < LARGEST // 10:
                later = 10 * later + (int64(data[at]) - 48)
                at += 1
            if at < size and data[at] <= 32 and at > first + 1 and (later >= now or not state[BEGUN]):
                now = later
                if not state[BEGUN]:
                    state[BEGUN], state[BEGIN] = 1, now
                continue
            at = first  # cut off, or wrong: looked at more closely below
        while at < size and data[at] > 32:
            at += 1
        if first == at or (at == size and not final):
            at = first
            break
        head = data[first]
        if state[COMMENT]:
            if at - first == 4 and data[first + 1] == 101 and head == 36:  # $end
                state[COMMENT] = 0
            continue
        code = first + 1
        value: Any = 0
        known = True
        if state[PENDING]:
            code, value, known = first, state[VALUE], state[PENDING] == KNOWN
        elif head == 35:  # '#'
            later = read_tick(data, first, at)
            if later < 0:
                state[FAULT] = NO_TIME
            elif state[BEGUN] and later < now:
                state[FAULT] = BACKWARDS
            if state[FAULT]:
                state[FAULT_AT], state[FAULT_LENGTH] = first, at - first
                break
            now = later
            if not state[BEGUN]:
                state[BEGUN], state[BEGIN] = 1, now
            continue
        elif head == 48 or head == 49:
            value = int64(head) - 48
        elif head == 120 or head == 122 or head == 88 or head == 90:  # x z X Z
            value, known = UNKNOWN, False
        elif head == 98 or head == 66:  # b B
            if not read_vector(data, first, at, state):
                state[FAULT], state[FAULT_AT], state[FAULT_LENGTH] = NO_VALUE, first, at - first
                break
            continue
        elif head == 114 or head == 82:  # r R
            if not plain_real(data, first + 1, at, 46, real):
                # the caller reads it, with all its digits, and puts its bits into the state
                state[FAULT], state[FAULT_AT], state[FAULT_LENGTH] = REAL, first + 1, at - first - 1
                break
            state[PENDING], state[VALUE], state[BITS] = KNOWN, bits_of_real[0], -1
            continue
        elif head == 36:  # '$'
            # $comment, and whatever else has text up to its $end; the sections of dumps have none
            second = data[first + 1] if at - first > 1 else 0
            state[COMMENT] = second == 99
            continue
        else:
            state[FAULT], state[FAULT_AT], state[FAULT_LENGTH] = NO_CHANGE, first, at - first
            break
        slot = find_slot(data, code, at, keys, slots)
        if slot < 0 or (state[PENDING] and state[BITS] > widths[slot] >= 0):
            state[FAULT] = UNDECLARED if slot < 0 else TOO_WIDE
            state[FAULT_AT], state[FAULT_LENGTH] = code, at - code
            break
        if known and (state[PENDING] != 0 and state[BITS] < 0) != (widths[slot] < 0):
            state[FAULT], state[FAULT_AT], state[FAULT_LENGTH] = MIXED, code, at - code
            break
        state[PENDING] = 0
        times[found] = now
        which[found] = slot if known else ~slot
        values[found] = value
        found += 1
    state[NOW], state[LINE] = now, line
    state[CHANGES] += found
    return at, found
