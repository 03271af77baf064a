"""Opening a capture: a file, a compressed one, or standard input, always as pieces of bytes of bounded size."""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO, cast

import numpy as np
import numpy.typing as npt

from tachys.errors import input_error
from tachys.files import no_such_file

PIECE = 1 << 22
MOST_SWELL = 900  # how many times its size a file may unpack to, beyond the first GiB; deflate packs 1032 to 1 at most
_FREE = 1 << 30
_GZIP, _ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
LONG = 1 << 23  # bytes of a file that it pays to read twice
LINES = 1 << 19  # bytes that are read at a time then: they stay near the processor
BEHIND = 8


class _Told:
    """A stream that tells how many bytes were read from it."""

    def __init__(self, raw: BinaryIO, told: Callable[[int], None]) -> None:
        self._raw, self._told = raw, told
        self.seekable, self.tell = raw.seekable, raw.tell

    def read(self, size: int) -> bytes:
        """Read on."""
        data = self._raw.read(size)
        self._told(len(data))
        return data


def pieces(
    path: str | Path, stream: BinaryIO | None = None, told: Callable[[int], None] | None = None
) -> Iterator[bytes]:
    """The bytes of a file in pieces; ``.gz`` and ``.zst`` are told by their first bytes and unpacked.

    ``stream`` is read in place of the file, whose name is then only shown; ``told`` learns how many bytes were read.

    Raises:
        InputError: the file cannot be read, is empty, is damaged, or unpacks to far more than a capture would.
    """
    name = str(path)
    try:
        with stream or open(path, "rb") as raw:
            yield from _unpacked(raw if told is None else cast(BinaryIO, _Told(raw, told)), name)
    except FileNotFoundError:
        raise no_such_file(path, "capture") from None
    except IsADirectoryError:
        raise input_error(name, "this is a directory", "name a capture file in it") from None
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise input_error(name, f"cannot be unpacked: {error}", "it is cut off or damaged: export it again") from None
    except OSError as error:
        raise input_error(name, f"cannot be read: {error.strerror or error}", "name a capture file") from None


class LongFile:
    """A file so long that it pays to read it twice, which can be read from any byte on.

    ``told`` learns how many bytes were read.
    """

    def __init__(self, path: str | Path, told: Callable[[int], None] | None = None) -> None:
        self.path, self.told, self.size = path, told, Path(path).stat().st_size

    @classmethod
    def at(cls, path: str | Path, told: Callable[[int], None] | None) -> LongFile | None:
        """The file there; None where it is short, packed, or no file that can be read twice."""
        if not Path(path).is_file() or Path(path).stat().st_size < LONG:
            return None
        with open(path, "rb") as raw:
            return None if raw.read(4).startswith((_GZIP, _ZSTD)) else cls(path, told)

    def line_at(self, place: int, mark: bytes) -> int:
        """Where the first line from ``place`` on begins that begins with ``mark``; the end if there is none near."""
        with open(self.path, "rb", buffering=0) as raw:
            raw.seek(place)
            found = raw.read(LINES).find(b"\n" + mark)
        return self.size if found < 0 else place + found + 1

    def lines(self, begin: int, stop: int, *, quietly: bool = False) -> Iterator[tuple[npt.NDArray[np.uint8], int]]:
        """(room, how many of its bytes are whole lines) from a byte to another, or to a line longer than the room.

        The room is filled anew each time. At least :data:`BEHIND` bytes follow the lines.
        """
        room, kept = bytearray(LINES), 0
        view, array = memoryview(room), np.frombuffer(room, np.uint8)
        with open(self.path, "rb", buffering=0) as raw:
            raw.seek(begin)
            while begin < stop and kept < LINES and (got := raw.readinto(view[kept:])):
                if self.told is not None and not quietly:
                    self.told(got)
                size = min(stop - begin, room.rfind(b"\n", 0, max(0, kept + got - BEHIND)) + 1)
                yield array, size
                begin, kept = begin + size, kept + got - size
                room[:kept] = room[size : size + kept]

    def pieces(self, begin: int) -> Iterator[bytes]:
        """The bytes from there on."""
        with open(self.path, "rb") as raw:
            raw.seek(begin)
            while piece := (raw if self.told is None else _Told(raw, self.told)).read(PIECE):
                yield piece


def _unpacked(raw: BinaryIO, name: str) -> Iterator[bytes]:
    first = raw.read(PIECE)
    if not first.strip():
        raise input_error(name, "the file is empty", "name a capture file")
    if first.startswith(_GZIP):
        yield from _swelling(_gunzip(raw, first), len(first), raw, name)
    elif first.startswith(_ZSTD):
        yield from _swelling(_unzstd(raw, first, name), len(first), raw, name)
    else:
        yield first
        while piece := raw.read(PIECE):
            yield piece


def _swelling(unpacked: Iterator[bytes], packed: int, raw: BinaryIO, name: str) -> Iterator[bytes]:
    """Pass pieces on while they are in proportion to what was packed: a bomb is not."""
    total = 0
    for piece in unpacked:
        total += len(piece)
        read = max(packed, raw.tell() if raw.seekable() else packed)
        if total > _FREE and total > MOST_SWELL * read:
            wrong = f"unpacks to more than {MOST_SWELL} times its size"
            raise input_error(name, wrong, "no capture does: unpack it first, if it is one")
        yield piece


def _gunzip(raw: BinaryIO, first: bytes) -> Iterator[bytes]:
    engine = zlib.decompressobj(31)
    data = first
    while data:
        yield engine.decompress(data, PIECE)
        data = engine.unconsumed_tail
        if engine.eof and engine.unused_data:  # files may be put together from several, or filled up with zeros
            data = engine.unused_data.lstrip(b"\0")
            while not data and (more := raw.read(PIECE)):
                data = more.lstrip(b"\0")
            engine = zlib.decompressobj(31) if data else engine
        elif not data and not engine.eof:
            data = raw.read(PIECE)
    if not engine.eof:
        raise EOFError("it ends too early")


def _unzstd(raw: BinaryIO, first: bytes, name: str) -> Iterator[bytes]:
    import io

    import zstandard

    class Whole(io.RawIOBase):
        """What was read already, and then the rest."""

        def __init__(self) -> None:
            self.ahead = first

        def readable(self) -> bool:
            return True

        def readinto(self, room: memoryview) -> int:  # type: ignore[override]
            piece = self.ahead[: len(room)] if self.ahead else raw.read(len(room))
            self.ahead = self.ahead[len(room) :]
            room[: len(piece)] = piece
            return len(piece)

    try:
        reader = zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(
            cast(BinaryIO, Whole()), read_across_frames=True
        )
        while piece := reader.read(PIECE):
            yield piece
    except zstandard.ZstdError as error:
        raise input_error(name, f"cannot be unpacked: {error}", "it is cut off or damaged: export it again") from None
