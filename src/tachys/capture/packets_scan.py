"""The scanner of trace packets: what the core says of its exceptions, of writes to ports and of watched values.

Packets of the instrumentation and data-watch units, as the Armv7-M architecture reference manual has them in its
appendix "Debug ITM and DWT packet protocol": a header byte whose two lowest bits give the size, or 0 for those of the
protocol itself, in which bit 7 says that another byte follows.
"""

from __future__ import annotations

from typing import Any

from tachys.capture.scanning import Bytes, Ints
from tachys.compiled import bare, int64, kernel

ENTER, EXIT, RETURN, PORT, WATCH, GAP = 1, 2, 3, 4, 5, 6  # kinds of what is told
NOW, LAST, COUNT, WAITING, SYNCED, PAGE, RESERVED, STAMPS = range(8)  # of the state
STATE = 8
ZEROS = 5  # bytes of them, at least, before the last one of a synchronisation
MOST_MORE = 6  # bytes that follow a header, at most


@kernel(inline=True)
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


@kernel(inline=True)
def run_of_zeros(data: Any, at: int, size: int) -> int:
    """Where a run of zero bytes ends."""
    while at < size and data[at] == 0:
        at += 1
    return at


@kernel(size=1)
def scan_packets(data: Bytes, size: int, state: Ints, kinds: Ints, values: Ints, times: Ints, earliest: Ints) -> int:
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
