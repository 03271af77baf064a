"""Captures from trace packets: exceptions as lines ``exception.N``, ports and watched values as numbers.

An exception is high from its entry to its exit, whatever lies on top of it: no stack has to be kept. After a gap, or at
the beginning, only what is told again is known: that one goes on, or, by a return to 0, that none does. Where a stamp
says that it is late, it is not known from the stamp before on whether an event has happened yet.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from math import ceil

import numpy as np

from tachys.capture.packets_scan import (
    COUNT,
    ENTER,
    EXIT,
    GAP,
    NOW,
    PORT,
    RESERVED,
    RETURN,
    STAMPS,
    STATE,
    SYNCED,
    WAITING,
    WATCH,
    scan_packets,
)  # fmt: skip
from tachys.capture.scanning import LARGEST, Ints
from tachys.capture.table import Capture, Instants, Signal
from tachys.errors import input_error
from tachys.model.quantities import PS_PER_SECOND
from tachys.words import count_text, time_text

PIECE = 1 << 20  # bytes that are scanned at once
KEPT = 16  # bytes of a packet that goes on, at most, but for a run of zeros
MOST_NUMBER = (1 << 32) - 1
FRAME = 16
EXCEPTION = "exception."


@dataclass(frozen=True, slots=True)
class PacketShape:
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
    found = list(_scanned(parts, state))
    if not state[SYNCED] and not state[STAMPS]:
        mend = "switch synchronisation packets on; frames of 16 bytes have a stream: --trace-stream 1"
        raise input_error(file, "there is no synchronisation packet in it", mend)
    if not state[STAMPS]:
        raise input_error(file, "its packets have no stamps of time, only an order", "switch local time stamps on")
    kind, value, time, early = np.concatenate(found, axis=1) if found else np.zeros((4, 0), np.int64)
    if int(state[NOW]) * PS_PER_SECOND / shape.hertz > LARGEST:
        raise input_error(file, "the time is beyond 64 bits of picoseconds", "is the clock of the trace right?")
    unsure, early_ticks = early < time, early
    time = _in_ps(time, shape.hertz)
    early = time.copy()
    early[unsure] = _in_ps(early_ticks[unsure], shape.hertz)
    end = int(_in_ps(state[NOW : NOW + 1], shape.hertz)[0])
    gap = kind == GAP
    signals = dict(_signals(kind, value, time, early))
    if not signals:
        raise input_error(file, "its packets tell of no exception, port or watched value", "switch exception trace on")
    gaps = tuple((int(a), int(b)) for a, b in zip(early[gap], time[gap], strict=True) if b > a)
    remarks = []
    if gap.any():
        remarks.append(
            f"{count_text(int(gap.sum()), 'overflow')}: packets were lost there, and time from there on is at least"
        )
    if late := int((early[~gap] < time[~gap]).sum()):
        remarks.append(f"{count_text(late, 'event')} came before a stamp that is late: when is not told, and left out")
    remarks += _between(kind, time, early)
    if state[RESERVED]:
        remarks.append(f"{count_text(int(state[RESERVED]), 'packet')} of no kind that is known, passed over")
    resolution = ceil(PS_PER_SECOND / shape.hertz)
    return Capture(file, signals, 0, max(end, 1), resolution, tuple(remarks), 0, gaps)


def _scanned(chunks: Iterable[bytes], state: Ints) -> Iterator[Ints]:
    """(kind, value, time, earliest) of what is told, piece by piece; what waits for a stamp goes on to the next."""
    rest, waiting = b"", np.zeros((4, 0), np.int64)
    for chunk in chunks:
        for begin in range(0, len(chunk), PIECE):
            data = rest + chunk[begin : begin + PIECE]
            columns = np.zeros((4, waiting.shape[1] + len(data)), np.int64)
            columns[:, : waiting.shape[1]] = waiting
            state[COUNT], state[WAITING] = waiting.shape[1], 0
            at = scan_packets(np.frombuffer(data, np.uint8), len(data), state, *columns)
            rest = data[at:] if len(data) - at <= PIECE else data[len(data) - KEPT :]
            done, count = int(state[WAITING]), int(state[COUNT])
            yield columns[:, :done].copy()
            waiting = columns[:, done:count].copy()


def _unwrapped(chunks: Iterable[bytes], stream: int) -> Iterator[bytes]:
    """The bytes of one stream out of frames of 16 bytes, in which a trace port sends several.

    An even byte with bit 0 set names the stream of what follows, else it is data whose bit 0 stands in the last byte;
    with a name that bit says whether it counts from behind the next byte on. Full synchronisations lie between frames.
    """
    rest, current = b"", 0
    for chunk in chunks:
        data = (rest + chunk).replace(b"\xff\xff\xff\x7f", b"")
        whole = len(data) - len(data) % FRAME
        rest, found = data[whole:], bytearray()
        for begin in range(0, whole, FRAME):
            last, later = data[begin + 15], None
            for place in range(15):
                byte = data[begin + place]
                if place % 2:
                    if current == stream:
                        found.append(byte)
                    current, later = current if later is None else later, None
                elif byte & 1:
                    named = byte >> 1
                    if last >> place // 2 & 1 and place < 14:
                        later = named
                    else:
                        current = named
                elif current == stream:
                    found.append(byte | last >> place // 2 & 1)
        yield bytes(found)


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


def _between(kind: Ints, time: Instants, early: Instants) -> Iterator[str]:
    """What no line shows: how long it takes from the end of one routine to what goes on, or to the next routine."""
    told = np.flatnonzero((kind == ENTER) | (kind == EXIT) | (kind == RETURN) | (kind == GAP))
    what, at, exact = kind[told], time[told], early[told] == time[told]
    for follows, words in ((RETURN, "core.exit, to what goes on"), (ENTER, "core.chain, to the next routine")):
        pairs = (what[:-1] == EXIT) & (what[1:] == follows) & exact[:-1] & exact[1:]
        took = (at[1:] - at[:-1])[pairs]
        if len(took) and took.max() > 0:  # of what share a stamp nothing is told
            least, middle = time_text(int(took.min())), time_text(int(np.median(took)))
            yield f"{words}: at least {least}, median {middle}, of {count_text(len(took), 'end')}"


def _signals(kind: Ints, value: Ints, time: Instants, early: Instants) -> Iterator[tuple[str, Signal]]:
    gaps = np.flatnonzero(kind == GAP)
    none = np.flatnonzero((kind == RETURN) & (value == 0))
    # that none goes on tells something new behind a gap only, and in the beginning
    first = np.searchsorted(none, np.append(np.int64(-1), gaps), side="right")
    common = np.append(gaps, none[np.unique(first[first < len(none)])])
    for numbered, title, width, key in (
        (kind <= RETURN, EXCEPTION, 1, value),
        (kind == PORT, "port.", 32, value >> 32),
        (kind == WATCH, "watch.", 32, value >> 32),
    ):
        places = np.flatnonzero(numbered & (key > 0 if width == 1 else numbered))
        order = np.argsort(key[places].astype(np.int16), kind="stable")
        numbers, begins = np.unique(key[places][order], return_index=True)
        if not len(numbers):
            continue
        for number, mine in zip(numbers.tolist(), np.split(places[order], begins[1:]), strict=True):
            rows = np.sort(np.append(mine, common if width == 1 else gaps))
            level = np.where(kind[rows] == EXIT, 0, 1) if width == 1 else value[rows] & MOST_NUMBER
            level[kind[rows] == GAP] = -1
            if width == 1:
                level[(kind[rows] == RETURN) & (value[rows] == 0)] = 0
            yield f"{title}{number}", _signal(f"{title}{number}", width, level, time[rows], early[rows])


def _signal(name: str, width: int, level: Ints, time: Instants, early: Instants) -> Signal:
    """A line that is not known before it is told, nor from when on something may have happened to when it has."""
    unsure = early < time
    at = np.stack([early, time], axis=1).reshape(-1)
    told = np.stack([np.full(len(level), -1), level], axis=1).reshape(-1)
    kept = np.stack([unsure, np.ones(len(level), np.bool_)], axis=1).reshape(-1)
    at, told = np.append(np.int64(0), at[kept]), np.append(np.int64(-1), told[kept])
    steps = np.arange(len(at))
    at = np.maximum.accumulate(at - steps) + steps  # what comes at one tick comes one after the other
    return Signal(name, width, at, told, told >= 0).without_repeats()
