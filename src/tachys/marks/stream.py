"""What a stream of marks tells: the lines of an event stream (docs/formats.md).

Frames are told apart as RFC 1055 has it (SLIP), and checked: their length, a CRC-16, and a sequence without holes.
Nothing is taken over from a frame that is wrong; a hole is a gap, from the last mark before it to the first one after.
"""

from __future__ import annotations

import binascii
import struct
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction

from msgspec import Struct

from tachys.errors import InputError, input_error
from tachys.marks.codes import ALIVE, DATA, FORMAT, LOST, SLIP_END, SLIP_ESCAPE, Mark, digest
from tachys.model.quantities import PS_PER_SECOND

LARGEST = 128  # bytes of a frame; what is longer is none
MOST_HELD = 300  # frames that wait until it is told who speaks
_FEW = 100  # marks, among which the slowest counter counts
_ESCAPED = {0xDC: SLIP_END, 0xDD: SLIP_ESCAPE}
_TURN = 1 << 32


class Speaker(Struct):
    """Who makes the marks: counts a second, bits of the counter, counts that a mark takes."""

    hertz: int
    bits: int
    cost: Fraction


class Told(Struct):
    """What a stream has told so far. ``fill`` of the ring at most, as a share of it."""

    marks: int = 0
    lost: int = 0
    frames: int = 0
    broken: int = 0
    gaps: int = 0
    fill: float = 0.0


class Stream:
    """Frames in, lines of an event stream out, piece by piece."""

    def __init__(self, marks: Sequence[Mark], source: str) -> None:
        self.source = source
        self.told = Told()
        self.speaker: Speaker | None = None
        self._marks = marks
        self._lines = WordLines(marks)
        self._packed = bytearray()
        self._skip = True  # what comes before the first border
        self._held: list[bytes] = []
        self._sequence: int | None = None
        self._hole = False
        self._begins = True  # no time leads to the next frame
        self._low = 0  # of the time in counts, 32 bits of it
        self._time = 0

    def feed(self, piece: bytes) -> Iterator[str]:
        """The lines that so many more bytes tell.

        Raises:
            InputError: the marks are not those of the model, or of another format, or no time passes between them.
        """
        parts = piece.split(b"\xc0")
        for number, part in enumerate(parts):
            if number:
                yield from self._border()
            if len(self._packed) <= 2 * LARGEST:
                self._packed += part[: 2 * LARGEST + 2]

    def end(self) -> Iterator[str]:
        """What is left: a frame that was cut off is a gap.

        Raises:
            InputError: no time passes between its marks.
        """
        if self._packed and not self._skip:
            self.told.broken += 1
        self._packed.clear()
        yield from self._release()
        self._see_time_pass(_FEW)

    @property
    def seconds(self) -> float:
        """How long the marks reach, from the first to the last."""
        return 0.0 if self.speaker is None else self._lines.counts / self.speaker.hertz

    def _see_time_pass(self, marks: int) -> None:
        if self.told.marks >= marks and not self._lines.counts:
            wrong = f"all its {self.told.marks} marks carry the same count: the counter stands still"
            raise input_error(self.source, wrong, "start the timer that tachys_count() reads before tachys_start()")

    def _border(self) -> Iterator[str]:
        packed, skip = bytes(self._packed), self._skip
        self._packed.clear()
        self._skip = False
        if not packed:
            return
        frame = _unpacked(packed)
        if frame is None:
            if not skip:
                self.told.broken += 1
                self._hole = True
            return
        self.told.frames += 1
        if frame[0] == 2:
            yield from self._who(frame)
        if self.speaker is None:
            if frame[0] == 1:
                self._held.append(frame)
                del self._held[:-MOST_HELD]
            return
        yield from self._release()
        if frame[0] == 1:
            yield from self._taken(frame)

    def _who(self, frame: bytes) -> Iterator[str]:
        number, form, bits, hertz, cost, model = struct.unpack_from("<IBBIII", frame, 1)
        if form != FORMAT:
            raise other_format(self.source)
        if model != digest(self._marks):
            raise other_marks(self.source)
        if not hertz or bits not in (16, 24):
            return
        begins = bool(number >> 16)
        first, self.speaker = self.speaker is None, Speaker(hertz, bits, Fraction(cost, 100))
        if first:
            yield from preamble(self.speaker)
        yield from self._release()
        if begins:
            if not first:
                self._hole, self._sequence = True, None
                yield "# the board has begun anew: how long it was away is not known"
            self._begins = True
        self._follow(number & 0xFFFF)

    def _follow(self, number: int) -> None:
        if self._sequence is not None and number != (self._sequence + 1) & 0xFFFF:
            self._hole = True
        self._sequence = number

    def _release(self) -> Iterator[str]:
        held, self._held = self._held, []
        if self.speaker is not None:
            for frame in held:
                yield from self._taken(frame)

    def _taken(self, frame: bytes) -> Iterator[str]:
        head, base, size = struct.unpack_from("<IIB", frame, 1)
        found = _words(frame[10:])
        if found is None or size != len(frame) - 10:
            self.told.broken += 1
            self._hole = True
            return
        if head & 0xFFFF == self._sequence:
            return  # the same once more
        self._follow(head & 0xFFFF)
        self.told.fill = max(self.told.fill, (head >> 16 & 0xFF) / 255)
        if self._hole:
            if self._lines.begun:
                self.told.gaps += 1
                yield from self._lines.gap()
            self._hole = False
        self._time += 0 if self._begins else (base - self._low) % _TURN
        self._begins, self._low = False, base
        for code, value in found:
            if code != DATA:
                self._time += value
                self._low = (self._low + value) % _TURN
            if code == DATA and self._lines.waits_for == LOST:
                self.told.lost += value
                self.told.gaps += 1
            self.told.marks += code not in (ALIVE, LOST, DATA)
            yield from self._lines.word(code, self._time, value)
        self._see_time_pass(10 * _FEW)


class WordLines:
    """Words in, lines out. ``waits_for``: the code whose data is due."""

    def __init__(self, marks: Sequence[Mark]) -> None:
        self._lines = dict[int, tuple[str, str]]()
        for mark in marks:
            self._lines[mark.code] = mark.name, {"body": "enter", "event": "mark", "value": "="}[mark.kind]
            if mark.kind == "body":
                self._lines[mark.code + 1] = mark.name, "leave"
        self.waits_for: int | None = None
        self._at = 0
        self.begun = False
        self._first: int | None = None
        self.counts = 0

    def word(self, code: int, time: int, value: int) -> Iterator[str]:
        """The lines of a word of the ring, at a time in counts."""
        owner, self.waits_for = self.waits_for, None
        if code == DATA:
            if owner == LOST:
                yield from self.gap()
                yield f"# {value} marks found no room"
            elif owner is not None:
                yield f"{self._at},{self._lines[owner][0]},={value}"
            return
        self.begun = True
        self._first = time if self._first is None else self._first
        self.counts = time - self._first
        name, what = self._lines.get(code, ("", ""))
        if code == LOST or what == "=":
            self.waits_for, self._at = code, time
        elif name:
            yield f"{time},{name},{what}"

    def gap(self) -> Iterator[str]:
        """What follows is told anew."""
        self.waits_for = None
        yield ",gap"


def preamble(speaker: Speaker) -> Iterator[str]:
    """What stands before the events."""
    yield "# marks of the firmware, as tachys record has them"
    yield f"# counts = {speaker.hertz} Hz"
    if speaker.cost:
        yield f"# mark = {float(speaker.cost * PS_PER_SECOND / speaker.hertz / 1000):.3f} ns"
    yield "time,name,what"


def nobody_speaks(told: Told, source: str) -> InputError:
    """No frame has said how time is counted."""
    wrong = f"no frame of marks says who speaks, of {told.frames} whole ones"
    mend = "are the rate and the port right? Each 64th frame says it: record for longer"
    return input_error(source, wrong, mend)


def other_marks(source: str) -> InputError:
    """The firmware was built with the header of another model, or with other names in it."""
    mend = "run tachys marks again and build anew, and give the same --without here"
    return input_error(source, "its marks are not those of this model", mend)


def other_format(source: str) -> InputError:
    """The firmware was built with the header of another version."""
    return input_error(source, "its marks have another format", "use the header of this tachys: tachys marks")


def _unpacked(packed: bytes) -> bytes | None:
    """The frame without packing and checksum; None if it is none."""
    raw, escaped = bytearray(), False
    for byte in packed:
        if escaped:
            if byte not in _ESCAPED:
                return None
            raw.append(_ESCAPED[byte])
            escaped = False
        elif byte == SLIP_ESCAPE:
            escaped = True
        else:
            raw.append(byte)
    if escaped or not 13 <= len(raw) <= LARGEST:
        return None
    frame = bytes(raw[:-2])
    if binascii.crc_hqx(frame, 0xFFFF) != int.from_bytes(raw[-2:], "little"):
        return None
    due = {1: 10, 2: 19}.get(frame[0])
    if due is None or len(frame) < due or (frame[0] == 2 and len(frame) != due):
        return None
    return frame if frame[0] == 2 or frame[9] == len(frame) - 10 else None


def _words(packed: bytes) -> list[tuple[int, int]] | None:
    """(code, counts since the one before, or data) of each word; None if they do not end where the frame does."""
    found, at, size = list[tuple[int, int]](), 0, len(packed)
    while at < size:
        code, value, shift = packed[at], 0, 0
        while True:
            at += 1
            if at >= size or shift > 24 or packed[at] >= 0xC0:
                return None
            value |= (packed[at] & 0x7F if packed[at] < 0x80 else packed[at] & 0x3F) << shift
            shift += 6
            if packed[at] < 0x80:
                break
        found.append((code, value))
        at += 1
    return found


def event_lines(pieces: Iterable[bytes], marks: Sequence[Mark], source: str) -> Iterator[str]:
    """The lines of a whole stream.

    Raises:
        InputError: it has no frame of marks, or they are those of another model.
    """
    stream = Stream(marks, source)
    for piece in pieces:
        yield from stream.feed(piece)
    yield from stream.end()
    if stream.speaker is None:
        raise nobody_speaks(stream.told, source)
