"""The compiled scanner of sampled columns (CSV), piece by piece."""

from __future__ import annotations

from typing import Any

import numpy as np

from tachys.capture.scanning import KNOWN, LARGEST, NOT_KNOWN, UNKNOWN, Bytes, Ints, plain_real
from tachys.compiled import as_signed, bare, int64, kernel, uint64, wrapped, zeros, zeros_of

# places in the state of a scan of columns
ROW, LAST_TIME, ROWS, LEAST_STEP, MOST_STEP, C_FAULT, C_COLUMN, FIRST_TIME, AS_BITS = range(9)
# the finest digit of all times; how many times have as many digits as the largest, and the finest digit of these
FINEST, LEAD, AT_LEAD, DIGIT = range(9, 13)
C_STATE = 13
RAGGED, NO_NUMBER, NO_LEVEL, C_BACKWARDS, TOO_LONG, TOO_MANY_BITS = range(1, 7)
_ALL_BITS, _NEAR_TOP = 2**64 - 1, 2**59
_PLAIN_DIGITS = 18  # of a time that is read as it stands: it stays below 64 bits


@kernel()
def read_level(data: Bytes, place: int, end: int, separator: int) -> tuple[int, int, Any]:
    """A cell from ``place`` on: (where it ends, KNOWN or NOT_KNOWN or minus what is wrong, its 64 bits)."""
    level: Any = uint64(0)
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
                if (
                    level >= uint64(_NEAR_TOP)
                    and level > (uint64(_ALL_BITS) - uint64(digit)) // uint64(base)
                    and not wrong
                ):
                    wrong = TOO_MANY_BITS
                level = level * uint64(base) + uint64(digit)
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
    return place, KNOWN, as_signed(level)


@kernel()
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


@kernel()
def read_time(
    data: Bytes, start: int, end: int, separator: int, point: int, scale: int
) -> tuple[int, int, int, int, int]:
    """A time from ``start`` on: (where it ends, ps, what is wrong, its digits, the power of ten of the last).

    Whole digits are shifted, exactly.
    """
    number: Any = int64(0)
    power: Any = 0
    digits, shift, wrong, place = 0, 0, 0, start
    negative, after = False, False
    if data[place] == 34:
        place += 1
    if place < end and (data[place] == 45 or data[place] == 43):
        negative = data[place] == 45
        place += 1
    while place < end and data[place] != separator:
        byte = data[place]
        place += 1
        if 48 <= byte <= 57:
            if digits < 18:
                number = 10 * number + (int64(byte) - 48)
                digits += number > 0
                shift += after
            elif not after:  # else beyond a millionth of a ps of what fits
                wrong = TOO_LONG
        elif byte == point and not after:
            after = True
        elif byte == 101 or byte == 69:
            minus = place < end and data[place] == 45
            place += place < end and (data[place] == 45 or data[place] == 43)
            while place < end and 48 <= data[place] <= 57 and power < 100:
                power = 10 * power + (int64(data[place]) - 48)
                place += 1
            power = -power if minus else power
        elif byte != 32 and byte != 34:
            wrong = NO_NUMBER
            break
    time, more = shifted(number, power - shift, scale)
    if place == start:
        wrong = NO_NUMBER
    return place, -time if negative else time, wrong if wrong else more, digits, power - shift


@kernel()
def shifted(number: Any, exponent: int, scale: int) -> tuple[int, int]:
    """(``number`` times ten to the power ``exponent``, in units of ``scale`` ps, rounded to ps; what is wrong)."""
    left = scale
    while left > 1 and exponent < 0:
        left //= 10
        exponent += 1
    if number > LARGEST // left:
        return number, TOO_LONG
    number *= left
    while exponent < 0 and number != 0:
        rest = number % 10
        number //= 10
        exponent += 1
        if exponent == 0 and rest >= 5:
            number += 1
    while exponent > 0:
        if number > LARGEST // 10:
            return number, TOO_LONG
        number *= 10
        exponent -= 1
    return number, 0


@kernel()
def read_digits(data: Any, place: int, size: int, point: int) -> tuple[int, Any, int, int]:
    """A time of nothing but digits, and a point in them: (where it ends, the digits, how many, behind the point).

    Those in front that are 0 are not counted.
    """
    number: Any = int64(0)
    digits, shift, after = 0, 0, 0
    while place < size:
        digit: Any = int64(data[place]) - 48
        if digit >= 0 and digit <= 9:
            number = wrapped(10 * number + digit)
            digits += number > 0
            shift += after
        elif data[place] == point and not after:
            after = 1
        else:
            break
        place += 1
    return place, number, digits, shift


@kernel()
def is_repeated(data: Any, place: int, above: int, length: int) -> bool:
    """Whether the same bytes stand at both places."""
    at = 0
    while at < length and data[place + at] == data[above + at]:
        at += 1
    return at == length


@kernel()
def is_plain(data: Any, place: int, size: int, separator: int, columns: int) -> bool:
    """Whether separators and digits 0 or 1 stand there, so many, and then a line ends."""
    end = place + 2 * columns
    if columns == 0 or end >= size or data[end] != 10:
        return False
    while place < end:
        if data[place] != separator or data[place + 1] | 1 != 49:
            return False
        place += 2
    return True


@kernel()
def note_row(state: Ints, time: int, digits: int, last: int) -> None:
    """A row is read whole, with its time: so many digits, of which the last stands for that power of ten."""
    if state[ROWS] == 0:
        state[FIRST_TIME] = time
    else:
        step = time - state[LAST_TIME]
        state[LEAST_STEP] = step if state[ROWS] == 1 else min(step, state[LEAST_STEP])
        state[MOST_STEP] = max(step, state[MOST_STEP])
    state[LAST_TIME] = time
    state[FINEST] = min(state[FINEST], last)
    if digits + last >= state[LEAD] and digits:
        longer = digits + last > state[LEAD]
        state[AT_LEAD] = 1 if longer else state[AT_LEAD] + 1
        state[DIGIT] = last if longer else min(state[DIGIT], last)
        state[LEAD] = digits + last
    state[ROWS] += 1


@kernel(weight=3, size=1)
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
    # one loop over rows: its parts are above, and what is left shares the state of a row
    at, found, columns = 0, 0, len(now)
    text, marks, values_now, told_now = bare(data), bare(state), bare(now), bare(told)
    plain = columns  # if all of them hold levels
    for column in range(columns):
        plain = 0 if real[column] else plain
    # what stands behind the time of the row above: most rows repeat it; and what the digits of that time were taken by
    levels, length, behind_point, factor, most = 0, 0, 0, 1, LARGEST
    number_read = zeros_of(1, np.float64)
    bits_read = np.asarray(number_read).view(np.int64)
    had, had_told = zeros(columns), zeros(columns)
    room = len(times) - columns
    while found < room:
        start = at
        if length:
            place, number, digits, shift = read_digits(text, at, size, point)
            short = place - at <= _PLAIN_DIGITS and place > at and place + length <= size
            if short and shift == behind_point and number <= most:
                time = number * factor
                same = is_repeated(text, place, levels, length)
                if time >= marks[LAST_TIME] and (same or is_plain(text, place, size, separator, plain)):
                    if not same:
                        levels, length = place, 2 * plain + 1
                        for column in range(plain):
                            bits: Any = int64(text[place + 2 * column + 1]) - 48
                            if values_now[column] != bits or told_now[column] != KNOWN:
                                values_now[column], told_now[column] = bits, KNOWN
                                times[found], which[found], values[found] = time, column, bits
                                found += 1
                    at = place + length
                    marks[ROW] += 1
                    note_row(marks, time, digits, -shift)
                    continue
        end = at
        while end < size and text[end] != 10:
            end += 1
        if end == size:
            break
        at = end + 1
        marks[ROW] += 1
        while start < end and text[start] <= 32 and text[start] != separator:
            start += 1
        while end > start and text[end - 1] <= 32 and text[end - 1] != separator:
            end -= 1
        if start == end or text[start] == 35 or text[start] == 37 or (text[start] == 59 and separator != 59):
            continue
        place, time, wrong, digits, last = read_time(text, start, end, separator, point, scale)
        if wrong:
            marks[C_FAULT] = wrong
            break
        if marks[ROWS] and time < marks[LAST_TIME]:
            marks[C_FAULT] = C_BACKWARDS
            break
        levels, length, behind_point, factor = place, at - place, -last, scale
        while factor % 10 == 0 and last < 0:
            factor //= 10
            last += 1
        if last != 0:
            length = 0  # its digits are to be rounded, or shifted up
        last, most = -behind_point, LARGEST // factor
        # the levels
        column, before = 0, found
        while place < end and column < columns:
            place += 1  # the separator
            if real[column] and not marks[AS_BITS]:
                place, how = read_real(text, place, end, separator, point, number_read)
                bits = bits_read[0] if how == KNOWN else UNKNOWN
            elif 48 <= text[place] <= 49 and (place + 1 == end or text[place + 1] == separator):
                how, bits = KNOWN, int64(text[place]) - 48  # much the commonest
                place += 1
            else:
                place, how, bits = read_level(text, place, end, separator)
            if how < 0:
                marks[C_FAULT] = -how
                break
            if now[column] != bits or told[column] != how:
                had[column], had_told[column] = now[column], told[column]
                now[column], told[column] = bits, how
                times[found] = time
                which[found] = column if how == KNOWN else ~column
                values[found] = bits
                found += 1
            column += 1
        if marks[C_FAULT] or column < columns or place < end:
            marks[C_COLUMN] = column + 1
            marks[C_FAULT] = marks[C_FAULT] if marks[C_FAULT] else RAGGED
            while found > before:  # nothing of a row that is no row
                found -= 1
                column = which[found] if which[found] >= 0 else ~which[found]
                now[column], told[column] = had[column], had_told[column]
            break
        note_row(marks, time, digits, last)
    return at, found
