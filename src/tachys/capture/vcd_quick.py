"""The scanner of the words that nearly every dump is made of; at any other it stops, and the careful one goes on there.

It goes over a file twice: the first time counts the changes of each signal, the second puts them where they belong, so
that nothing is grown, dealt out or copied. Both go by whole lines.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from typing import Any, NamedTuple

import numpy as np

from tachys.capture.columns import column
from tachys.capture.opening import LongFile
from tachys.capture.scanning import KNOWN, LARGEST, NOT_KNOWN, UNKNOWN, Bytes, Ints
from tachys.capture.vcd_scan import BEGIN, BEGUN, BITS, NOW, PENDING, STATE, VALUE, find_slot, read_vector
from tachys.compiled import as_signed, bare, eight_bytes, int64, kernel, uint64, wrapped


@kernel()
def word_end(data: Any, at: int) -> int:
    """Where the word ends that begins here; a line ends behind it."""
    while data[at] > 32:
        at += 1
    return at


@kernel()
def is_level(head: int) -> bool:
    """Whether it is one of 0 1 x z X Z."""
    return head == 48 or head == 49 or head == 120 or head == 122 or head == 88 or head == 90


@kernel()
def eight_digits(data: Any, at: int) -> int:
    """The number that the eight bytes from there on write; -1 where one of them is no digit.

    Neighbours are put together three times, all at once: digits to pairs, pairs to fours, fours to the number. Digit by
    digit it takes longer than all else that is done with a change.
    """
    each: Any = eight_bytes(data, at) ^ uint64(0x3030303030303030)
    if (each | (each + uint64(0x0606060606060606))) & uint64(0xF0F0F0F0F0F0F0F0) != uint64(0):
        return -1
    pairs = each * uint64(10) + (each >> uint64(8))
    odd, even = pairs & uint64(0x000000FF000000FF), (pairs >> uint64(16)) & uint64(0x000000FF000000FF)
    number: Any = odd * uint64(0x000F424000000064) + even * uint64(0x0000271000000001)
    found: int = as_signed((number >> uint64(32)) & uint64(0xFFFFFFFF))
    return found


@kernel(weight=2, size=1)
def count_changes(data: Bytes, size: int, keys: Ints, slots: Ints, direct: Ints, counts: Ints) -> int:
    """Add up how many changes each slot has in ``data[:size]``, whole lines; where that ended, which is at ``size``
    or at an uncommon word."""
    words, of_letter, count = bare(data), bare(direct), bare(counts)
    at, length = 0, 2
    while at < size:
        head = words[at]
        if head == 35:  # '#'
            # times hardly ever grow by a digit; where this one is shorter after all, what is passed over is not counted
            end = at + length
            if end >= size or words[end] > 32 or words[end - 1] <= 32:
                end = word_end(words, at + 1)
                length = end - at
            at = end + 1
        elif (head == 48 or head == 49) and words[at + 2] <= 32 and of_letter[words[at + 1]] >= 0:
            count[of_letter[words[at + 1]]] += 1
            at += 3
        elif head <= 32:
            at += 1
        elif head == 36 and words[at + 1] != 99:  # $dumpvars, $end, but no $comment
            at = word_end(words, at)
        else:
            code, first = at + 1, at
            if head == 98 or head == 66:  # b B
                code = word_end(words, at) + 1
            elif not is_level(head):
                return at
            if code >= size or words[code] <= 32:
                return first
            at = word_end(words, code)
            slot = find_slot(words, code, at, keys, slots)
            if slot < 0:
                return first
            count[slot] += 1
    return at


@kernel(weight=2, size=1)
def place_changes(
    data: Bytes, size: int, state: Ints, keys: Ints, slots: Ints, direct: Ints, widths: Ints, room: Ints, ends: Ints,
    last: Ints, seen: Ints, over: int, under: int, longest: int, out_times: Ints, out_known: Any, out_levels: Any,
    out_values: Ints,
) -> int:  # fmt: skip
    """Put the changes of ``data[:size]``, whole lines, where the columns of their slots go on; where that ended.

    Times are multiplied by ``over / under``, rounded down, and have fewer than ``longest`` digits; what does
    not change a value is dropped. Values go to ``out_levels`` as long as that is, those beyond to ``out_values``: the
    slots of lines come first. No slot goes beyond its ``room``: the file may have changed since it was counted.
    ``last`` is UNKNOWN where nothing was said or that it is not known, or that number; ``seen`` tells which.
    """
    words, of_letter, end, before, told = bare(data), bare(direct), bare(ends), bare(last), bare(seen)
    times, known, most = bare(out_times), bare(out_known), bare(room)
    levels, values, lines = bare(out_levels), bare(out_values), len(out_levels)
    at, now = 0, state[NOW]
    scaled = now * over if under == 1 else now * over // under
    while at < size:
        head, first = words[at], at
        if head == 35:  # '#'
            later: Any = 0
            at += 1
            eight = eight_digits(words, at)
            if eight >= 0:
                later = eight
                at += 8
            digit: Any = int64(words[at]) - 48
            while digit >= 0 and digit <= 9:
                later = wrapped(10 * later + digit)
                at += 1
                digit = int64(words[at]) - 48
            length = at - first
            if words[at] > 32 or length == 1 or length > longest or (later < now and state[BEGUN]):
                at = first
                break
            now = later
            at += 1
            scaled = now * over if under == 1 else now * over // under
            if not state[BEGUN]:
                state[BEGUN], state[BEGIN] = 1, now
            continue
        if (head == 48 or head == 49) and words[at + 2] <= 32 and of_letter[words[at + 1]] >= 0:
            slot = of_letter[words[at + 1]]
            value: Any = int64(head) - 48
            place = end[slot]
            if place >= most[slot]:
                break
            at += 3
            if before[slot] != value:
                before[slot] = value
                times[place], levels[place] = scaled, value
                end[slot] = place + 1
            continue
        if head <= 32:
            at += 1
            continue
        if head == 36 and words[at + 1] != 99:  # $dumpvars, $end, but no $comment
            at = word_end(words, at)
            continue
        slot, value, is_known, bits, code = -1, UNKNOWN, KNOWN, 0, at + 1
        if head == 98 or head == 66:  # b B
            code = word_end(words, at) + 1
            if code < size and words[code] > 32 and read_vector(words, first, code - 1, state):
                is_known, value, bits = state[PENDING], state[VALUE], state[BITS]
                at = word_end(words, code)
                slot = find_slot(words, code, at, keys, slots)
            state[PENDING] = 0
        elif words[code] > 32 and is_level(head):
            at = word_end(words, code)
            slot = find_slot(words, code, at, keys, slots)
            if head <= 49:
                value = int64(head) - 48
            else:
                is_known = NOT_KNOWN
        if slot >= 0 and bits > widths[slot]:
            slot = -1
        if slot < 0 or widths[slot] < 0 or end[slot] >= most[slot]:
            at = first
            break
        if before[slot] != value or (value == UNKNOWN and told[slot] != is_known):
            told[slot], before[slot] = is_known, value
            place = end[slot]
            times[place], known[place] = scaled, 2 - is_known
            if place < lines:
                levels[place] = value
            else:
                values[place - lines] = value
            end[slot] = place + 1
    state[NOW] = now
    return at


class Codes(NamedTuple):
    """The identifiers of a dump: an open table by hash, the slots of lines whose identifier is one character, and how
    wide each slot is."""

    keys: Ints
    slots: Ints
    direct: Ints
    widths: Ints


class _Part:
    """A stretch of the file, whole lines, that is scanned for itself."""

    def __init__(self, begin: int, stop: int, slots: int) -> None:
        self.begin, self.stop, self.at = begin, stop, begin
        self.state, self.counts = np.zeros(STATE, np.int64), np.zeros(slots, np.int64)
        self.last, self.seen = np.full(slots, UNKNOWN, np.int64), np.zeros(slots, np.int64)
        self.first = self.ends = self.room = self.counts

    @property
    def said(self) -> Ints:
        """What was last said of each slot: nothing yet, KNOWN or NOT_KNOWN."""
        return np.where(self.last == UNKNOWN, self.seen, KNOWN)


class QuickColumns:
    """The columns of a long file, from byte ``begin`` on, up to the first uncommon word or its last lines.

    Both halves of the file are scanned at the same time, each into its own part of every column.
    """

    def __init__(self, long: LongFile, begin: int, codes: Codes, scale: Fraction) -> None:
        self.long, self.codes, self.scale = long, codes, scale
        slots, middle = len(codes.widths), max(begin, long.line_at((begin + long.size) // 2, b"#"))
        head, tail = parts = [_Part(begin, middle, slots), _Part(middle, long.size, slots)]
        self._off = False
        with ThreadPoolExecutor(2) as pool:
            try:
                list(pool.map(self._count, parts))
                counts = np.array([head.counts, tail.counts])
                others = codes.widths != 1
                lines, rest = int(counts[:, ~others].sum()), int(counts[:, others].sum())
                self.total = lines + rest
                self.times, self.known = column(self.total, np.int64), column(self.total, np.bool_)
                self.levels, self.values = column(lines, np.int8), column(rest, np.int64)
                order, first = np.argsort(others, kind="stable"), np.zeros((slots, 2), np.int64)
                first[order] = np.cumsum(counts.T[order]).reshape(slots, 2) - counts.T[order]
                for part, starts in zip(parts, first.T, strict=True):
                    part.first, part.ends, part.room = starts, starts.copy(), starts + part.counts
                list(pool.map(self._place, parts))
            finally:
                self._off = True
        self._join(head, tail)

    def _count(self, part: _Part) -> None:
        """Add up how many changes each slot has in a part."""
        for data, size in self.long.lines(part.begin, part.stop, quietly=True):
            if count_changes(data, size, *self.codes[:3], part.counts) < size or self._off:
                return

    def _place(self, part: _Part) -> None:
        """Fill a part of the columns."""
        over, under = self.scale.numerator, self.scale.denominator
        for first, room in zip(part.first, part.room, strict=True):
            self.known[first:room] = True
        for data, size in self.long.lines(part.begin, part.stop):
            used = place_changes(
                data, size, part.state, *self.codes, part.room, part.ends, part.last, part.seen, over, under,
                len(str(LARGEST // over)), self.times, self.known.view(np.uint8), self.levels, self.values,
            )  # fmt: skip
            part.at += used
            if used < size or self._off:
                return

    def _join(self, head: _Part, tail: _Part) -> None:
        """Have the second half go on where the first has ended, or leave it out where it cannot."""
        self.first, self.ends, self.at, self.state = head.first, head.ends, head.at, head.state
        self.last, self.seen = head.last, head.said
        if tail.begin != head.at or not tail.state[BEGUN] or tail.state[BEGIN] < head.state[NOW]:
            return
        for slot in range(len(head.ends)):
            end, begin, stop = int(head.ends[slot]), int(tail.first[slot]), int(tail.ends[slot])
            if head.first[slot] < end and begin < stop:
                (_, *before), (_, *after) = (self._columns(slot, at, at + 1) for at in (end - 1, begin))
                begin += before == after
            self.ends[slot] = end + stop - begin
            if end != begin:
                moved = self._columns(slot, begin, stop)
                for into, each in zip(self._columns(slot, end, int(self.ends[slot])), moved, strict=True):
                    into[:] = each
        if head.state[BEGUN]:
            tail.state[BEGIN] = head.state[BEGIN]
        said = tail.said
        self.last, self.seen = np.where(said, tail.last, head.last), np.where(said, said, head.said)
        self.at, self.state = tail.at, tail.state

    def _columns(self, slot: int, first: int, stop: int) -> tuple[Ints, Any, Any]:
        """(times, values, which are known) at some places of a slot."""
        values, ahead = (self.levels, 0) if self.codes.widths[slot] == 1 else (self.values, len(self.levels))
        return self.times[first:stop], values[first - ahead : stop - ahead], self.known[first:stop]

    def of_slot(self, slot: int) -> tuple[Ints, Any, Any]:
        """(times, values, which are known) of a slot."""
        return self._columns(slot, int(self.first[slot]), int(self.ends[slot]))
