"""Reading a capture file, whatever its format."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from fractions import Fraction
from itertools import chain
from math import ceil
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.csv import FOUND_OUT, CsvShape, read_csv
from tachys.capture.eventstream import is_event_stream, read_event_stream
from tachys.capture.opening import LongFile, pieces
from tachys.capture.parquet import MAGIC, read_parquet
from tachys.capture.table import Capture
from tachys.capture.vcd import read_vcd
from tachys.errors import input_error
from tachys.model.quantities import PS_PER_SECOND

if TYPE_CHECKING:
    from tachys.capture.packets import PacketShape

_MODEL = re.compile(
    rb"^\s*(tachys\s*=\s*\d|\[(core|loop|(clock|source|unit|isr|step|need)\.[\w-]+)\]\s*$)", re.MULTILINE
)
_LOOKED_AT = 1 << 16
SYNC, RING = b"\0\0\0\0\0\x80", b"TACHYS\r\n"
MOST_BLANK = 1 << 26  # bytes of blank lines before anything is said


class Reading(Struct, frozen=True):
    """How captures are written, as far as it is given: of a CSV, the sampling ``step`` in s, trace packets."""

    csv: CsvShape = FOUND_OUT
    step: Fraction | None = None
    packets: PacketShape | None = None

    def read(
        self, path: str, *, strict: bool = False, stream: BinaryIO | None = None,
        told: Callable[[int], None] | None = None,
    ) -> Capture:  # fmt: skip
        """A capture that is written so; as :func:`read_capture`."""
        if self.packets is None:
            capture = read_capture(path, self.csv, strict=strict, stream=stream, told=told)
        else:
            from tachys.capture.packets import read_packets

            capture = read_packets(pieces(path, stream, told), path, self.packets)
        return capture if self.step is None else replace(capture, resolution=ceil(self.step * PS_PER_SECOND))

    def to_data(self) -> list[Any]:
        """As JSON."""
        packets = None if self.packets is None else [str(self.packets.hertz), self.packets.stream]
        return [self.csv.separator, self.csv.time_unit, None if self.step is None else str(self.step), packets]

    @classmethod
    def from_data(cls, data: list[Any]) -> Reading:
        """Of what :meth:`to_data` made."""
        from tachys.capture.packets import PacketShape

        separator, unit, step, packets = data
        shape = None if packets is None else PacketShape(Fraction(packets[0]), packets[1])
        return cls(CsvShape(separator, unit), None if step is None else Fraction(step), shape)


def read_capture(
    path: str | Path,
    shape: CsvShape = FOUND_OUT,
    *,
    strict: bool = False,
    stream: BinaryIO | None = None,
    told: Callable[[int], None] | None = None,
) -> Capture:
    """Read a VCD, a CSV, an event stream or Parquet, packed or not; what it is, is told by its content, not its name.

    ``strict``: a file that is cut off is an error and not read up to the cut. ``stream``: read it from there.
    ``told`` is called with the bytes of each piece that was read, for who wants to show how far it is.

    Raises:
        InputError: the file cannot be read, or is wrong at a line that is named.
    """
    first, whole = _peek(pieces(path, stream, told))
    if first.removeprefix(b"\xef\xbb\xbf").lstrip().startswith(b"$"):
        return read_vcd(whole, str(path), strict=strict, long=None if stream else LongFile.at(path, told))
    if first.startswith(MAGIC):
        return read_parquet(whole, str(path))
    if _MODEL.search(first[:_LOOKED_AT]):
        raise input_error(
            str(path), "this is a model, and a capture is due", "the model goes first: tachys check MODEL CAPTURE"
        )
    if SYNC in first[:_LOOKED_AT]:
        raise input_error(str(path), "seems to be trace packets", 'say what counts their time: --trace-clock "48 MHz"')
    if RING in first:
        mend = "tachys convert --marks MODEL DUMP OUT.events reads it"
        raise input_error(str(path), "is a dump of memory with marks in it", mend)
    if is_event_stream(first):
        return read_event_stream(whole, str(path), strict=strict)
    return read_csv(whole, str(path), shape, strict=strict)


def _peek(parts: Iterator[bytes]) -> tuple[bytes, Iterable[bytes]]:
    """(the beginning of what is not blank, all of it)."""
    blank: list[bytes] = []
    for piece in parts:
        blank.append(piece)
        if piece.strip():
            return piece.lstrip() if len(blank) > 1 else piece, chain(blank, parts)
        if sum(map(len, blank)) > MOST_BLANK:
            break
    return b"", chain(blank, parts)
