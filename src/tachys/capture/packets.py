"""Captures from trace packets: exceptions as lines ``exception.N``, ports and watched values as numbers.

An exception is high from its entry to its exit, whatever lies on top of it: no stack has to be kept. After a gap, or at
the beginning, only what is told again is known: that one goes on, or, by a return to 0, that none does. Where a stamp
says that it is late, it is not known from the stamp before on whether an event has happened yet.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from fractions import Fraction
from math import ceil

import numpy as np
from msgspec import Struct

from tachys.capture.packets_scan import (
    COUNT,
    COUNTS,
    EXITS,
    FRAME,
    GAP,
    LINES,
    NOW,
    PORTS,
    RESERVED,
    STAMPS,
    STATE,
    SYNCED,
    UNTOLD,
    WAITING,
    WATCHES,
    Kinds,
    count_told,
    scan_packets,
    tell_lines,
    unwrap,
)
from tachys.capture.scanning import LARGEST, Ints
from tachys.capture.table import Capture, Instants, Signal, Switch
from tachys.errors import input_error
from tachys.model.quantities import PS_PER_SECOND
from tachys.words import count_text, time_text

PIECE = 1 << 16  # bytes that are scanned at once: what they tell stays near
KEPT = 16  # bytes of a packet that goes on, at most, but for a run of zeros
EXCEPTION = "exception."
_SWITCHES = (("exit", "core.exit, to what goes on"), ("chain", "core.chain, to the next routine"))
_KINDS = ((EXCEPTION, 0), ("port.", PORTS), ("watch.", WATCHES))


class PacketShape(Struct, frozen=True):
    """What no packet says: counts of the stamps a second, and the stream that is taken out of frames of 16 bytes."""

    hertz: Fraction
    stream: int | None = None


def read_packets(chunks: Iterable[bytes], file: str, shape: PacketShape) -> Capture:
    """Read trace packets from their bytes; ``file`` is only shown.

    Raises:
        InputError: there is no synchronisation in it, no stamp of time, or nothing that is told.
    """
    parts = _unwrapped(chunks, shape.stream) if shape.stream is not None else chunks
    state = np.zeros(STATE, np.int64)
    kind, (value, time, early) = _scanned(parts, state)
    if not state[SYNCED] and not state[STAMPS]:
        mend = "switch synchronisation packets on; frames of 16 bytes have a stream: --trace-stream 1"
        raise input_error(file, "there is no synchronisation packet in it", mend)
    if not state[STAMPS]:
        raise input_error(file, "its packets have no stamps of time, only an order", "switch local time stamps on")
    if int(state[NOW]) * PS_PER_SECOND / shape.hertz > LARGEST:
        raise input_error(file, "the time is beyond 64 bits of picoseconds", "is the clock of the trace right?")
    unsure, early_ticks = early < time, early
    time = _in_ps(time, shape.hertz)
    early = time.copy()
    early[unsure] = _in_ps(early_ticks[unsure], shape.hertz)
    end = int(_in_ps(state[NOW : NOW + 1], shape.hertz)[0])
    gap = kind == GAP
    signals, *took = _lines(kind, value, time, early)
    if not signals:
        raise input_error(file, "its packets tell of no exception, port or watched value", "switch exception trace on")
    gaps = tuple((int(a), int(b)) for a, b in zip(early[gap], time[gap], strict=True) if b > a)
    remarks = []
    if gap.any():
        remarks.append(
            f"{count_text(int(gap.sum()), 'overflow')}: packets were lost there, and time from there on is at least"
        )
    if late := int((unsure & ~gap).sum()):
        remarks.append(f"{count_text(late, 'event')} came before a stamp that is late: when is not told, and left out")
    switches = dict[str, Switch]()
    for (key, words), each in zip(_SWITCHES, took, strict=True):
        if len(each):
            found = switches[key] = Switch(len(each), int(each.min()), int(np.median(each)), int(each.max()))
            ends = count_text(found.times, "end")
            remarks.append(f"{words}: at least {time_text(found.least)}, median {time_text(found.median)}, of {ends}")
    if state[RESERVED]:
        remarks.append(f"{count_text(int(state[RESERVED]), 'packet')} of no kind that is known, passed over")
    resolution = ceil(PS_PER_SECOND / shape.hertz)
    return Capture(file, signals, 0, max(end, 1), resolution, tuple(remarks), 0, gaps, switches, told=True)


def _scanned(chunks: Iterable[bytes], state: Ints) -> tuple[Kinds, Ints]:
    """(kinds, rows of value, time and earliest) of what is told and was stamped, in ticks."""
    rest, kind, told = b"", np.zeros(PIECE, np.int8), np.zeros((3, PIECE), np.int64)
    for chunk in chunks:
        for begin in range(0, len(chunk), PIECE):
            data = rest + chunk[begin : begin + PIECE]
            count = int(state[COUNT])
            if count + len(data) > len(kind):
                more = count + len(data)
                kind = np.append(kind[:count], np.zeros(more, np.int8))
                told = np.append(told[:, :count], np.zeros((3, more), np.int64), axis=1)
            at = scan_packets(np.frombuffer(data, np.uint8), len(data), state, kind, *told)
            rest = data[at:] if len(data) - at <= PIECE else data[len(data) - KEPT :]
    done = int(state[WAITING])
    return kind[:done], told[:, :done]


def _unwrapped(chunks: Iterable[bytes], stream: int) -> Iterator[bytes]:
    """The bytes of one stream out of frames of 16 bytes, between which full synchronisations may lie."""
    rest, current = b"", np.zeros(1, np.int64)
    for chunk in chunks:
        data = (rest + chunk).replace(b"\xff\xff\xff\x7f", b"")
        whole = len(data) - len(data) % FRAME
        rest, found = data[whole:], np.zeros(whole, np.uint8)
        count = unwrap(np.frombuffer(data, np.uint8), whole, stream, current, found)
        yield found[:count].tobytes()


def _in_ps(ticks: Instants, hertz: Fraction) -> Instants:
    """Instants of ticks, rounded down."""
    each = Fraction(PS_PER_SECOND) / hertz
    if int(ticks.max(initial=0)) * each.numerator < 1 << 63:
        found: Instants = ticks * each.numerator // each.denominator
        return found
    whole, over = divmod(each.numerator, each.denominator)  # piece by piece: the product leaves 64 bits
    turns, rest = np.divmod(ticks, each.denominator)
    found = ticks * whole + turns * over + rest * over // each.denominator
    return found


def _lines(kind: Kinds, value: Ints, time: Instants, early: Instants) -> tuple[dict[str, Signal], Instants, Instants]:
    """(what is told, line by line, how long each end took to what went on, and to the next routine).

    A line is not known before it is told of, nor from when on something may have happened to when it has.
    """
    counts = np.zeros(COUNTS, np.int64)
    count_told(kind, len(kind), value, counts)
    lines = np.flatnonzero(counts[1:LINES]) + 1
    room = 1 + 2 * (counts[lines] + counts[UNTOLD])
    firsts = np.cumsum(room) - room
    places = np.zeros(LINES, np.int64)
    places[lines] = firsts
    at, level = np.zeros((2, int(room.sum())), np.int64)
    level[firsts] = -1
    exits, chains = np.zeros((2, int(counts[EXITS])), np.int64)
    done = np.zeros(2, np.int64)
    tell_lines(kind, len(kind), value, time, early, lines, places, at, level, exits, chains, done)
    signals = {}
    for line, first in zip(lines.tolist(), firsts.tolist(), strict=True):
        rows = slice(first, int(places[line]) + 1)
        title, base = next(each for each in reversed(_KINDS) if line >= each[1])
        name = f"{title}{line - base}"
        signals[name] = Signal(name, 32 if base else 1, at[rows], level[rows], level[rows] >= 0)
    return signals, exits[: done[0]], chains[: done[1]]
