"""Opening a capture: a file, a compressed one, or standard input, always as pieces of bytes of bounded size."""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO, cast

from tachys.errors import input_error

PIECE = 1 << 22
MOST_SWELL = 900  # how many times its size a file may unpack to, beyond the first GiB; deflate packs 1032 to 1 at most
_FREE = 1 << 30


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
        raise input_error(name, "there is no such file", "name a capture file") from None
    except IsADirectoryError:
        raise input_error(name, "this is a directory", "name a capture file in it") from None
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise input_error(name, f"cannot be unpacked: {error}", "it is cut off or damaged: export it again") from None
    except OSError as error:
        raise input_error(name, f"cannot be read: {error.strerror or error}", "name a capture file") from None


def _unpacked(raw: BinaryIO, name: str) -> Iterator[bytes]:
    first = raw.read(PIECE)
    if not first.strip():
        raise input_error(name, "the file is empty", "name a capture file")
    if first[:2] == b"\x1f\x8b":
        yield from _swelling(_gunzip(raw, first), len(first), raw, name)
    elif first[:4] == b"\x28\xb5\x2f\xfd":
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
