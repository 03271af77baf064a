"""Compiled scanners of large captures: value changes and sampled columns, piece by piece, in bounded memory.

A scanner takes a piece of a file as bytes and fills columns of changes: when, which, to what. What it cannot finish at
the end of a piece (a token that goes on) it leaves for the next. What is wrong it notes with the line, in ``state``.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

Ints = NDArray[np.int64]
Bytes = NDArray[np.uint8]

# places in the state of a scan of value changes
NOW, BEGUN, BEGIN, LINE, PENDING, VALUE, BITS, COMMENT, FAULT, FAULT_AT, FAULT_LENGTH, CHANGES = range(12)
STATE = 12
KNOWN, NOT_KNOWN = 1, 2  # what PENDING says of the value that waits for its identifier; 0: there is none
# what can be wrong
BACKWARDS, UNDECLARED, TOO_WIDE, NO_CHANGE, NO_TIME, NO_VALUE, MIXED, REAL = range(
    1, 9
)  # REAL: not wrong, but to be read
UNKNOWN = -1  # stands in the place of a value that is not known; its slot is then given as ~slot
LARGEST = 1 << 62  # ps, of a time
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


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def plain_real(data: Bytes, at: int, end: int, point: int, out: Any) -> bool:
    """Read ``data[at:end]`` as a number into ``out[0]``; False where it is none or needs more care than this.

    With at most 15 digits and a power of ten up to 22, one rounded operation gives the nearest double (Clinger, How to
    read floating point numbers accurately, PLDI 1990).
    """
    number: Any = np.int64(0)
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
            number = 10 * number + (np.int64(data[at]) - 48)
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
            exponent = 10 * exponent + (np.int64(data[at]) - 48)
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


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def scan_changes(
    data: Bytes, size: int, final: bool, state: Ints, keys: Ints, slots: Ints, direct: Ints, widths: Ints,
    times: Ints, which: Any, values: Ints,
) -> tuple[int, int]:  # fmt: skip
    """Scan ``data[:size]``; (bytes used up, changes found). Stops where the columns are full or something is wrong."""
    at, found, room, mask = 0, 0, len(times), len(keys) - 1
    now, line = state[NOW], state[LINE]
    real = np.zeros(1, np.float64)
    bits_of_real = real.view(np.int64)
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
                values[found] = np.int64(head) - 48
                found += 1
                at += 2
                continue
        if at < size and data[at] == 35 and not state[COMMENT] and not state[PENDING]:
            later: Any = 0
            at += 1
            while at < size and 48 <= data[at] <= 57 and later < LARGEST // 10:
                later = 10 * later + (np.int64(data[at]) - 48)
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
            later = 0
            for place in range(first + 1, at):
                digit = data[place] - 48
                if digit < 0 or digit > 9 or later > LARGEST // 10:
                    later = -1
                    break
                later = 10 * later + digit
            if later < 0 or at == first + 1:
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
            value = np.int64(head) - 48
        elif head == 120 or head == 122 or head == 88 or head == 90:  # x z X Z
            value, known = UNKNOWN, False
        elif head == 98 or head == 66:  # b B
            bits = 0
            for place in range(first + 1, at):
                digit = data[place]
                if digit == 48 or digit == 49:
                    bits += bits > 0 or digit == 49
                    value = (value << 1) | (np.int64(digit) - 48)
                elif digit == 120 or digit == 122 or digit == 88 or digit == 90:
                    known = False
                else:
                    state[FAULT] = NO_VALUE
            if at == first + 1 or state[FAULT]:
                state[FAULT], state[FAULT_AT], state[FAULT_LENGTH] = NO_VALUE, first, at - first
                break
            if known:
                state[PENDING], state[VALUE], state[BITS] = KNOWN, value, bits
            else:
                state[PENDING], state[VALUE], state[BITS] = NOT_KNOWN, UNKNOWN, 0
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
        key: Any = np.int64(_FNV)
        for place in range(code, at):
            key = (key ^ np.int64(data[place])) * np.int64(_PRIME)
        place = key & mask
        while slots[place] >= 0 and keys[place] != key:
            place = (place + 1) & mask
        slot = slots[place]
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


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def count_slots(which: Any, counts: Ints) -> None:
    """Add up how many changes each slot has."""
    for slot in which:
        counts[slot if slot >= 0 else ~slot] += 1


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
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


# places in the state of a scan of columns
ROW, LAST_TIME, ROWS, LEAST_STEP, MOST_STEP, C_FAULT, C_COLUMN, FIRST_TIME, AS_BITS = range(9)
C_STATE = 9
RAGGED, NO_NUMBER, NO_LEVEL, C_BACKWARDS, TOO_LONG, TOO_MANY_BITS = range(1, 7)
_ALL_BITS, _NEAR_TOP = np.uint64(2**64 - 1), np.uint64(2**59)


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def read_level(data: Bytes, place: int, end: int, separator: int) -> tuple[int, int, Any]:
    """A cell from ``place`` on: (where it ends, KNOWN or NOT_KNOWN or minus what is wrong, its 64 bits)."""
    level: Any = np.uint64(0)
    base, any_digit, unknown, after, wrong = 10, False, False, False, 0
    while place < end and data[place] != separator:
        byte = data[place]
        digit = -1
        if 48 <= byte <= 57:
            digit = byte - 48
        elif base == 16 and 97 <= (byte | 32) <= 102:
            digit = (byte | 32) - 87
        place += 1
        if byte == 32 or byte == 34 or byte == 9:
            continue
        if after and digit != 0:
            wrong = NO_LEVEL
        if byte == 46 or byte == 44:  # 1.0
            after = any_digit
            if not any_digit:
                wrong = NO_LEVEL
        elif digit >= 0:
            any_digit = True
            if digit >= base:
                wrong = NO_LEVEL
            elif not after:
                if level >= _NEAR_TOP and level > (_ALL_BITS - np.uint64(digit)) // np.uint64(base) and not wrong:
                    wrong = TOO_MANY_BITS
                level = level * np.uint64(base) + np.uint64(digit)
        elif (byte | 32) == 120 and any_digit and level == 0 and base == 10:
            base = 16
        elif (byte | 32) == 98 and any_digit and level == 0 and base == 10:
            base = 2
        elif ((byte | 32) == 120 or (byte | 32) == 122) and not any_digit:
            unknown = True
        else:
            wrong = NO_LEVEL
    if wrong:
        return place, -wrong, UNKNOWN
    if unknown or not any_digit:
        return place, NOT_KNOWN, UNKNOWN
    return place, KNOWN, np.int64(level)


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def read_real(data: Bytes, place: int, end: int, separator: int, point: int, out: Any) -> tuple[int, int]:
    """A cell from ``place`` on as a number into ``out[0]``: (where it ends, KNOWN or NOT_KNOWN or minus NO_LEVEL)."""
    first = place
    while place < end and data[place] != separator:
        place += 1
    last = place
    while first < last and (data[first] <= 32 or data[first] == 34):
        first += 1
    while last > first and (data[last - 1] <= 32 or data[last - 1] == 34):
        last -= 1
    if first == last or (last - first == 1 and ((data[first] | 32) == 120 or (data[first] | 32) == 122)):
        return place, NOT_KNOWN
    return place, KNOWN if plain_real(data, first, last, point, out) else -NO_LEVEL


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def scan_columns(
    data: Bytes, size: int, separator: int, point: int, scale: int, state: Ints, now: Ints, told: Ints, real: Ints,
    times: Ints, which: Any, values: Ints,
) -> tuple[int, int]:  # fmt: skip
    """Scan whole lines of ``data[:size]``: a time and a level a column; (bytes used up, changes found).

    ``scale`` is the time unit in ps; ``now`` the bits of every column so far, ``told``: none yet, KNOWN or NOT_KNOWN. A
    time is read as whole digits and shifted, exactly; lines that begin with # ; or % and empty ones are passed over. A
    column that is ``real`` holds numbers; one that needs more care than :func:`plain_real` takes is NO_LEVEL, and the
    caller gives the row again with the number's bits in its place (``AS_BITS``).
    """
    at, found, columns = 0, 0, len(now)
    number_read = np.zeros(1, np.float64)
    bits_read = number_read.view(np.int64)
    had, had_told = now.copy(), told.copy()
    room = len(times) - columns
    while found < room:
        start = at
        end = at
        while end < size and data[end] != 10:
            end += 1
        if end == size:
            break
        at = end + 1
        state[ROW] += 1
        while start < end and data[start] <= 32 and data[start] != separator:
            start += 1
        while end > start and data[end - 1] <= 32 and data[end - 1] != separator:
            end -= 1
        if start == end or data[start] == 35 or data[start] == 37 or (data[start] == 59 and separator != 59):
            continue
        # the time
        number, digits, shift, power = 0, 0, 0, 0
        negative, after, place = False, False, start
        if data[place] == 34:
            place += 1
        if place < end and (data[place] == 45 or data[place] == 43):
            negative = data[place] == 45
            place += 1
        while place < end and data[place] != separator:
            byte = data[place]
            if 48 <= byte <= 57:
                if digits < 18:
                    number = 10 * number + (byte - 48)
                    digits += number > 0
                    shift += after
                elif after:
                    pass  # beyond a millionth of a ps of what fits
                else:
                    state[C_FAULT] = TOO_LONG
            elif byte == point and not after:
                after = True
            elif byte == 101 or byte == 69:
                place += 1
                minus = place < end and data[place] == 45
                if place < end and (data[place] == 45 or data[place] == 43):
                    place += 1
                while place < end and 48 <= data[place] <= 57 and power < 100:
                    power = 10 * power + (data[place] - 48)
                    place += 1
                power = -power if minus else power
                continue
            elif byte != 32 and byte != 34:
                state[C_FAULT] = NO_NUMBER
                break
            place += 1
        exponent = power - shift
        time = number
        left = scale
        while left > 1 and exponent < 0:
            left //= 10
            exponent += 1
        if time > LARGEST // left:
            state[C_FAULT] = TOO_LONG
        else:
            time *= left
        while exponent < 0 and time != 0:
            rest = time % 10
            time //= 10
            exponent += 1
            if exponent == 0 and rest >= 5:
                time += 1
        while exponent > 0:
            if time > LARGEST // 10:
                state[C_FAULT] = TOO_LONG
                break
            time *= 10
            exponent -= 1
        time = -time if negative else time
        if state[C_FAULT] or place == start:
            state[C_FAULT] = state[C_FAULT] if state[C_FAULT] else NO_NUMBER
            break
        if state[ROWS] and time < state[LAST_TIME]:
            state[C_FAULT] = C_BACKWARDS
            break
        if state[ROWS] == 0:
            state[FIRST_TIME] = time
        else:
            step = time - state[LAST_TIME]
            state[LEAST_STEP] = step if state[ROWS] == 1 else min(step, state[LEAST_STEP])
            state[MOST_STEP] = max(step, state[MOST_STEP])
        # the levels
        column, before = 0, found
        while place < end and column < columns:
            place += 1  # the separator
            if real[column] and not state[AS_BITS]:
                place, how = read_real(data, place, end, separator, point, number_read)
                bits = bits_read[0] if how == KNOWN else UNKNOWN
            else:
                place, how, bits = read_level(data, place, end, separator)
            if how < 0:
                state[C_FAULT] = -how
                break
            if now[column] != bits or told[column] != how:
                had[column], had_told[column] = now[column], told[column]
                now[column], told[column] = bits, how
                times[found] = time
                which[found] = column if how == KNOWN else ~column
                values[found] = bits
                found += 1
            column += 1
        if state[C_FAULT] or column < columns or place < end:
            state[C_COLUMN] = column + 1
            state[C_FAULT] = state[C_FAULT] if state[C_FAULT] else RAGGED
            while found > before:  # nothing of a row that is no row
                found -= 1
                column = which[found] if which[found] >= 0 else ~which[found]
                now[column], told[column] = had[column], had_told[column]
            break
        state[LAST_TIME] = time
        state[ROWS] += 1
    return at, found
