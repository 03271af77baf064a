"""The scanner of trace packets: what the core says of its exceptions, of writes to ports and of watched values.

Packets of the instrumentation and data-watch units, as the Armv7-M architecture reference manual has them in its
appendix "Debug ITM and DWT packet protocol": a header byte whose two lowest bits give the size, or 0 for those of the
protocol itself, in which bit 7 says that another byte follows.

What they tell becomes lines in two rounds, as with other captures: the first counts, the second puts it in its place.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tachys.capture.scanning import Bytes, Ints
from tachys.compiled import bare, int64, kernel, zeros

Kinds = NDArray[np.int8]
ENTER, EXIT, RETURN, PORT, WATCH, GAP = 1, 2, 3, 4, 5, 6  # kinds of what is told
NOW, LAST, COUNT, WAITING, SYNCED, PAGE, RESERVED, STAMPS = range(8)  # of the state
STATE = 8
ZEROS = 5  # bytes of them, at least, before the last one of a synchronisation
FRAME = 16
MOST_MORE = 6  # bytes that follow a header, at most
PORTS, WATCHES, LINES = 512, 768, 772  # lines: exceptions by their number, then ports, then watched values
UNTOLD, EXITS = LINES, LINES + 1  # behind their counts: what is told of all of them, and ends
COUNTS = LINES + 2


@kernel()
def more_bytes(data: Any, at: int, size: int) -> int:
    """Behind the last byte of those that follow a header, each with bit 7 but the last; ``size`` + 1: it is not here.

    One that never ends is cut at the most that any has.
    """
    count = 0
    while at < size:
        count += 1
        if data[at] < 128 or count >= MOST_MORE:
            return at + 1
        at += 1
    return size + 1


@kernel()
def run_of_zeros(data: Any, at: int, size: int) -> int:
    """Where a run of zero bytes ends."""
    while at < size and data[at] == 0:
        at += 1
    return at


@kernel(size=1)
def scan_packets(data: Bytes, size: int, state: Ints, kinds: Kinds, values: Ints, times: Ints, earliest: Ints) -> int:
    """Read whole packets of ``data[:size]``; where that ended: a packet that is cut off is left for the next piece.

    What they tell goes to the columns from ``state[COUNT]`` on: a kind, a value (the exception; or which port or
    comparator in the upper 32 bits, and the value written), and ticks: when it happened, and from when on it may have.
    Those from ``state[WAITING]`` on wait for the stamp that follows them. The columns have room for one each byte.
    """
    byte, kind, value, time, early = bare(data), bare(kinds), bare(values), bare(times), bare(earliest)
    at = 0
    while at < size:
        head: Any = int64(byte[at])
        if head == 0 or not state[SYNCED]:
            begin = at
            while at < size and byte[at] != 0:  # what lies before a first border is not read
                at += 1
            ends = run_of_zeros(byte, at, size)
            if ends == size:
                return at  # it may go on
            if ends - at >= ZEROS and byte[ends] == 128:
                state[SYNCED] = 1
                at = ends + 1
            elif state[SYNCED] and begin == at:
                state[SYNCED] = 0  # no packet begins like that: what follows is not read before the next border
                kind[state[COUNT]], value[state[COUNT]] = GAP, 0
                state[COUNT] += 1
                at = ends
            else:
                at = ends
            continue
        place = state[COUNT]
        if head == 112:  # overflow
            kind[place], value[place] = GAP, 0
            state[COUNT] = place + 1
            at += 1
            continue
        if head & 3 == 0:
            ends = at + 1
            if head >= 128:
                ends = more_bytes(byte, at + 1, size)
                if ends > size:
                    return at
            stamped = head & 15 == 0 and (head < 128 or head & 207 == 192)
            if stamped:
                ticks: Any = head >> 4
                late: Any = 0
                if head >= 128:
                    late, ticks, shift, here = head >> 4 & 3, int64(0), 0, at + 1
                    while here < ends and shift < 28:
                        ticks |= (int64(byte[here]) & 127) << shift
                        shift += 7
                        here += 1
                state[NOW] += ticks
                state[STAMPS] += 1
                for one in range(state[WAITING], place):
                    time[one] = state[NOW]
                    early[one] = state[LAST] if late or kind[one] == GAP else state[NOW]
                state[WAITING], state[LAST] = place, state[NOW]
            elif head & 140 == 8:  # an extension of one byte: the page of the ports
                state[PAGE] = head >> 4 & 7
            elif head != 148 and head != 180 and head & 8 == 0:
                state[RESERVED] += 1
            at = ends
            continue
        length = 1 if head & 3 == 1 else 2 if head & 3 == 2 else 4
        if at + length >= size:
            return at
        number: Any = int64(0)
        for one in range(length):
            number |= int64(byte[at + 1 + one]) << (8 * one)
        which = head >> 3
        if head & 4 == 0:
            kind[place], value[place] = PORT, (state[PAGE] * 32 + which) << 32 | number
            state[COUNT] = place + 1
        elif which == 1 and length == 2 and number >> 12 & 3:
            kind[place], value[place] = number >> 12 & 3, number & 511
            state[COUNT] = place + 1
        elif which >= 16 and which < 24:
            kind[place], value[place] = WATCH, (which >> 1 & 3) << 32 | number
            state[COUNT] = place + 1
        elif which == 1 or (which >= 3 and which < 8) or which >= 24:
            state[RESERVED] += 1
        at += 1 + length
    return at


@kernel(size=1)
def unwrap(data: Bytes, size: int, stream: int, current: Ints, found: Bytes) -> int:
    """Put what a stream has in the whole frames ``data[:size]`` into ``found``; how many bytes that are.

    An even byte with bit 0 set names the stream of what follows, else it is data whose bit 0 stands in the last byte;
    with a name that bit says whether it counts from behind the next byte on. ``current``: of whom the next byte is.
    """
    frames, out = bare(data), bare(found)
    of, count = current[0], 0
    for begin in range(0, size, FRAME):
        last: Any = int64(frames[begin + 15])
        later: Any = int64(-1)
        for place in range(15):
            byte: Any = int64(frames[begin + place])
            more = last >> (place // 2) & 1
            if place % 2:
                if of == stream:
                    out[count] = byte
                    count += 1
                if later >= 0:
                    of, later = later, int64(-1)
            elif byte & 1:
                if more and place < 14:
                    later = byte >> 1
                else:
                    of = byte >> 1
            elif of == stream:
                out[count] = byte | more
                count += 1
    current[0] = of
    return count


@kernel()
def line_of(kind: int, value: int) -> int:
    """The line on which something is told; 0: on none, or on all."""
    if kind <= RETURN:
        return value
    if kind == GAP:
        return 0
    return (PORTS if kind == PORT else WATCHES) + (value >> 32)


@kernel(weight=1, size=1)
def count_told(kinds: Kinds, size: int, values: Ints, counts: Ints) -> None:
    """How often each line is told of in ``kinds[:size]``; what tells of all, and how many ends there are."""
    kind, value, count = bare(kinds), bare(values), bare(counts)
    unsaid = True
    for one in range(size):
        what = kind[one]
        count[line_of(what, value[one])] += 1
        count[EXITS] += what == EXIT
        if what == GAP or (what == RETURN and value[one] == 0 and unsaid):
            count[UNTOLD] += 1
            unsaid = what == GAP


@kernel()
def tell(out_at: Any, out_level: Any, place: Any, latest: Any, line: int, since: int, at: int, level: int) -> None:
    """A line is at a level from an instant on; unknown since another. What comes at one tick comes one after the other.

    What does not change it is left out. ``place``: where its last row stands; ``latest``: when it was told of last.
    """
    for unsure in range(2 if since < at else 1, 0, -1):
        latest[line] = max(since if unsure == 2 else at, latest[line] + 1)
        told = -1 if unsure == 2 else level
        if told != out_level[place[line]]:
            place[line] += 1
            out_at[place[line]], out_level[place[line]] = latest[line], told


@kernel(weight=4, size=1)
def tell_lines(
    kinds: Kinds, size: int, values: Ints, times: Ints, earliest: Ints, lines: Ints, places: Ints, out_times: Ints,
    out_levels: Ints, exits: Ints, chains: Ints, done: Ints,
) -> None:  # fmt: skip
    """Put what ``kinds[:size]`` tell into the rows of their lines, of which ``places`` says where the first stands.

    ``lines``: those that there are, exceptions first. After a gap, or at the beginning, a return to nobody says that
    no exception goes on. How long it took from an end to what went on goes to ``exits``, to the next beginning to
    ``chains``, how many of both to ``done``.
    """
    kind, value, time, early = bare(kinds), bare(values), bare(times), bare(earliest)
    place, out_at, out_level, latest = bare(places), bare(out_times), bare(out_levels), zeros(LINES)
    unsaid, ended = True, int64(-1)
    for one in range(size):
        what, number, at, since = kind[one], value[one], time[one], early[one]
        if what == GAP or (what == RETURN and number == 0 and unsaid):
            unsaid = what == GAP
            for which in range(len(lines)):
                if what == GAP or lines[which] < PORTS:
                    level = -1 if what == GAP else 0
                    tell(out_at, out_level, place, latest, lines[which], since, at, level)
        elif line_of(what, number) > 0:
            level = what != EXIT if what <= RETURN else number & 0xFFFFFFFF
            tell(out_at, out_level, place, latest, line_of(what, number), since, at, level)
        if what <= RETURN or what == GAP:
            if ended >= 0 and since == at > ended and what == RETURN:  # of what share a stamp nothing is told
                exits[done[0]] = at - ended
                done[0] += 1
            elif ended >= 0 and since == at > ended and what == ENTER:
                chains[done[1]] = at - ended
                done[1] += 1
            ended = at if what == EXIT and since == at else int64(-1)
