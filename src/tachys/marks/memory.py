"""What a dump of the memory tells that holds the ring of marks: binary, S-records or hex records."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from itertools import chain

from tachys.capture.reading import RING
from tachys.errors import input_error
from tachys.marks.codes import DATA, FORMAT, Mark, digest
from tachys.marks.stream import Speaker, WordLines, event_lines, other_format, other_marks, preamble

MAGIC = RING
MOST_WORDS = 1 << 24
LARGEST = 1 << 28  # bytes of a dump
RECORDS = (b"S0", b"S1", b"S2", b"S3", b":")


def marked_lines(pieces: Iterable[bytes], marks: Sequence[Mark], source: str) -> Iterator[str]:
    """The lines of an event stream that a stream of marks tells, or a dump of memory, whichever it is.

    Raises:
        InputError: it is neither, damaged, or of another model.
    """
    parts = iter(pieces)
    first = next(parts, b"")
    if first.startswith(RECORDS):
        yield from dumped(_of_records(_whole(chain([first], parts), source), source), marks, source)
    elif b"\xc0" in first[:4096] and MAGIC not in first:
        yield from event_lines(chain([first], parts), marks, source)
    else:
        yield from dumped(_whole(chain([first], parts), source), marks, source)


def _whole(pieces: Iterable[bytes], source: str) -> bytes:
    found = bytearray()
    for piece in pieces:
        found += piece
        if len(found) > LARGEST:
            raise input_error(source, "is longer than a dump of memory", "dump the memory of tachys_record alone")
    return bytes(found)


def _of_records(text: bytes, source: str) -> bytes:
    """The memory that S-records or hex records hold: the stretch with the ring in it."""
    try:
        from bincopy import BinFile
        from bincopy import Error as RecordError
    except ImportError:
        raise input_error(source, "nothing here reads S-records or hex", "pip install tachys[record]") from None
    try:
        found = BinFile()
        found.add(text.decode("ascii"))
    except (RecordError, ValueError) as error:
        raise input_error(source, f"is damaged: {error}", "dump it again") from None
    return next((bytes(part.data) for part in found.segments if MAGIC in part.data), b"")


def dumped(memory: bytes, marks: Sequence[Mark], source: str) -> Iterator[str]:
    """The lines that a dump of the memory tells which holds the ring of marks, whatever lies around it.

    Raises:
        InputError: it holds none, or one of another model or format.
    """
    place = memory.find(MAGIC)
    if place < 0:
        raise input_error(source, "holds no ring of marks", "dump the memory of tachys_record, all of it")
    for order in "<>":
        head = struct.unpack_from(f"{order}10I", memory, place + 8) if len(memory) >= place + 48 else None
        if head is not None and head[0] == FORMAT:
            break
    else:
        raise other_format(source)
    _, model, words, bits, hertz, cost, _, written, drained, lost = head
    if model != digest(marks):
        raise other_marks(source)
    if not 8 <= words <= MOST_WORDS or words & (words - 1) or bits not in (16, 24) or not hertz:
        raise input_error(source, "the head of its ring of marks is damaged", "dump it again")
    ring = memory[place + 48 : place + 48 + 4 * words]
    if len(ring) < 4 * words:
        wrong = f"ends within the ring of marks: {len(ring) // 4} of {words} words are in it"
        raise input_error(source, wrong, "dump the memory of tachys_record, all of it")
    yield from preamble(Speaker(hertz, bits, Fraction(cost, 100)))
    kept = min(written, words)
    numbers = struct.unpack(f"{order}{words}I", ring)
    lines, turn, time, last = WordLines(marks), 1 << bits, 0, None
    if written > kept and drained != written - kept:
        yield f"# the {written - kept} words before these were written over"
    for number in range(written - kept, written):
        word = numbers[number % words]
        code, rest = word >> 24, word & 0xFFFFFF
        if code != DATA:
            time += 0 if last is None else (rest - last) % turn
            last = rest
        yield from lines.word(code, time, rest)
    if lost:
        yield f"# {lost} marks after these found no room"
