"""The row unit's board as it speaks itself: its marks in frames, as the header makes them, in real time if wanted."""

from __future__ import annotations

import binascii
import os
import random
import struct
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from select import select

from msgspec import Struct

from tachys.demo.arrivals import MS, US
from tachys.demo.board import BOARD_PPM, board
from tachys.demo.machine import Machine, Truth
from tachys.marks.codes import ALIVE, DATA, FORMAT, LOST, Mark, digest

HERTZ = 48_000_000
MARK = 24  # counts that each takes, of which the count is read after the first eight
STAMPED = 8
WORDS = 512
FULL = 100  # bytes of words, beyond which a frame takes no other
LOOP = 200 * MS  # of the board's time, told again and again
EACH = 0.005  # s between two frames
PATIENCE = 0.1  # s that a line may be full
FAULTS = ("late", "lost", "noise", "stall")
_PS = 10**12
Word = tuple[int, int]  # code, and count or data


def counts(ps: int) -> int:
    """What the board's counter says at an instant of its time."""
    return ps * HERTZ // _PS


def words_of(truth: Truth, marks: Sequence[Mark]) -> list[Word]:
    """(code, count unrolled) of all marks that routines and steps made, in order."""
    codes = {mark.name: mark.code for mark in marks}
    bodies = [(f"isr.{each.name}", each.start, each.end) for each in truth.served]
    bodies += [(f"step.{name}", start, end) for name, start, end in truth.steps]
    stamp, rest = STAMPED * _PS // HERTZ, (MARK - STAMPED) * _PS // HERTZ
    found = []
    for name, start, end in bodies:
        if name in codes:
            found += [(counts(start + stamp), codes[name]), (counts(end - rest), codes[name] + 1)]
    return [(code, at) for at, code in sorted(found)]


class Sender(Struct):
    """Frames of a board with these marks: who speaks, then marks; the sequence goes on from call to call."""

    marks: Sequence[Mark]
    sequence: int = 0
    begun: bool = False
    last: int = 0

    def frames(self, words: Iterable[Word], fill: int = 0) -> Iterator[bytes]:
        """So many words, packed, no more in a frame than the header puts there."""
        body, base = b"", self.last
        for code, value in words:
            if len(body) > FULL and code != DATA:
                yield from self._frame(body, base, fill)
                body, base = b"", self.last
            if not self.begun and not body:
                self.last = base = value
            body += bytes([code]) + _number(value if code == DATA else value - self.last)
            self.last = self.last if code == DATA else value
        if body:
            yield from self._frame(body, base, fill)

    def _frame(self, body: bytes, base: int, fill: int) -> Iterator[bytes]:
        if self.sequence % 64 == 0 or not self.begun:
            begins = 0 if self.begun else 1 << 16
            head = (2, self.sequence & 0xFFFF | begins, FORMAT, 24, HERTZ, 100 * MARK, digest(self.marks))
            yield packed(struct.pack("<BIBBIII", *head))
            self.sequence, self.begun = self.sequence + 1, True
        head_of = struct.pack("<BIIB", 1, self.sequence & 0xFFFF | fill << 16, base & 0xFFFFFFFF, len(body))
        self.sequence += 1
        yield packed(head_of + body)


def packed(raw: bytes) -> bytes:
    """A frame with its checksum, as SLIP writes it (RFC 1055)."""
    raw += binascii.crc_hqx(raw, 0xFFFF).to_bytes(2, "little")
    return b"\xc0" + raw.replace(b"\xdb", b"\xdb\xdd").replace(b"\xc0", b"\xdb\xdc") + b"\xc0"


def _number(value: int) -> bytes:
    found = bytearray()
    while value > 0x7F:
        found.append(value & 0x3F | 0x80)
        value >>= 6
    return bytes([*found, value])


def loop_of_words(marks: Sequence[Mark], *, late: bool, seed: int = 7) -> tuple[list[Word], int]:
    """(words, counts) of a piece of the board's time that can be told again and again: at both its ends it sleeps."""
    period = LOOP * (10**6 - BOARD_PPM) // 10**6
    plan, arrivals = board(late, random.Random(seed), 3 * period, MARK * _PS // HERTZ)
    truth = Machine(plan, seed).run(3 * period)
    begin = _seam(truth, arrivals, period)
    first, last = counts(begin), counts(begin + period)
    return [(code, at - first) for code, at in words_of(truth, marks) if first <= at < last], last - first


def _seam(truth: Truth, arrivals: Mapping[str, Sequence[int]], period: int) -> int:
    """Where the board sleeps a ``period`` apart, and nothing comes closer over the seam than it may."""
    naps = [(start, end) for name, start, end in truth.steps if name == "nap"]
    apart = {"wheel": 189 * US, "seed": 260 * US, "bus_byte": 900 * US, "hopper": 5 * MS}
    for start, end in naps:
        at = (start + end) // 2
        if at < 20 * MS or not any(a + 9 * US < at + period < b - 9 * US for a, b in naps):
            continue
        gaps = []
        for name, gap in apart.items():
            after = min((each for each in arrivals[name] if each >= at), default=at)
            before = max((each for each in arrivals[name] if each < at + period), default=at)
            gaps.append(after - at + at + period - before >= gap)
        if all(gaps) and end - at > 9 * US:
            return at
    return naps[len(naps) // 3][0] + 9 * US


def speak(handle: int, marks: Sequence[Mark], fault: str | None, seconds: float | None = None) -> None:
    """Send what the board says into a line as its time goes by, until so much of it is over; what nobody reads is lost.

    ``fault``: "late" holds interrupts off too long, "lost" finds no room in its ring at times, "noise" turns bits on
    the line, "stall" is silent for a second in every five.
    """
    os.set_blocking(handle, False)
    words, length = loop_of_words(marks, late=fault == "late")
    dice, sender, turn, began = random.Random(5), Sender(marks), 0, time.monotonic()
    waiting: list[Word] = [(ALIVE, 0)]
    place = 0
    while seconds is None or time.monotonic() - began < seconds:
        now = time.monotonic() - began
        while (at := turn * length + words[place][1]) <= now * HERTZ:
            waiting.append((words[place][0], at))
            place += 1
            if place == len(words):
                place, turn = 0, turn + 1
        if fault == "lost" and len(waiting) > 60 and dice.random() < 0.05:  # those found no room
            waiting[20:50] = [(LOST, waiting[50][1]), (DATA, 30)]
        said = b"".join(sender.frames(waiting, min(255, len(waiting) * 255 // WORDS)))
        if said and fault == "noise" and dice.random() < 0.01:
            hit = dice.randrange(len(said))
            said = said[:hit] + bytes([said[hit] ^ 1 << dice.randrange(8)]) + said[hit + 1 :]
        if not (fault == "stall" and now % 5 > 4):
            _send(handle, said)  # in one go: many small ones wake the other side too often
        waiting = []
        time.sleep(EACH)


def _send(handle: int, data: bytes) -> None:
    """Send what a line takes before long."""
    until = time.monotonic() + PATIENCE
    while data and time.monotonic() < until:
        if select([], [handle], [], PATIENCE)[1]:
            with suppress(BlockingIOError):
                data = data[os.write(handle, data) :]


def open_line() -> tuple[int, str]:
    """(handle of the board's side, name of the other side) of a pseudo-terminal that passes bytes on as they are."""
    import tty

    board_side, host_side = os.openpty()
    tty.setraw(board_side)
    tty.setraw(host_side)
    return board_side, os.ttyname(host_side)
