"""A record as it is written: whole whatever ends it, lines as they come, and the last of them looked at for misses."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from tachys.capture.eventstream import read_event_lines
from tachys.checking.checking import check
from tachys.checking.result import CheckResult
from tachys.errors import InputError, input_error
from tachys.marks.listening import Incoming
from tachys.marks.samples import Samples
from tachys.marks.stream import Stream
from tachys.model.system import System
from tachys.needs.verdicts import Verdict
from tachys.worstcase.bounds import Bounds

KEPT = 2  # s before a miss that are kept of a record until one
MOST_KEPT = 400_000  # lines of them
_ZST = ".zst"


class Writer:
    """Lines into ``path``, packed if it ends so. Until it is closed it is ``path`` with ``.part`` behind it.

    What was written stays, whatever happens: a disk that is full ends the record at its last whole line.
    """

    def __init__(self, path: Path) -> None:
        self.path, self._part = path, path.with_name(path.name + ".part")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._file = open(self._part, "wb")  # noqa: SIM115
        except OSError as error:
            raise input_error(str(path), f"cannot be written: {error.strerror}", "choose another place") from None
        self._packer: Any = None
        if path.name.endswith(_ZST):
            import zstandard

            self._packer = zstandard.ZstdCompressor(level=6).compressobj()
        self._whole = 0

    def write(self, lines: Iterable[str]) -> None:
        """Write them on, to the disk.

        Raises:
            InputError: the disk is full, or cannot be written to; what was written before is whole.
        """
        text = "".join(f"{line}\n" for line in lines).encode()
        if not text:
            return
        try:
            self._put(text if self._packer is None else self._packer.compress(text) + self._flushed())
        except OSError as error:
            self._file.close()
            os.truncate(self._part, self._whole)
            self._packer = None
            os.replace(self._part, self.path)
            raise input_error(
                str(self.path), f"cannot be written on: {error.strerror}", "what was written before is whole"
            ) from None

    def _flushed(self) -> bytes:
        import zstandard

        packed: bytes = self._packer.flush(zstandard.COMPRESSOBJ_FLUSH_BLOCK)
        return packed

    def _put(self, data: bytes) -> None:
        self._file.write(data)
        self._file.flush()
        self._whole += len(data)

    def close(self, *, keep: bool = True) -> None:
        """The record is whole, and stands in its place; or there is nothing to keep of it."""
        if self._file.closed:
            return
        if not keep:
            self._file.close()
            self._part.unlink(missing_ok=True)
            return
        try:
            if self._packer is not None:
                self._put(self._packer.flush())
            self._file.close()
            os.replace(self._part, self.path)
        except OSError as error:
            wrong = f"cannot be closed: {error.strerror}"
            raise input_error(str(self.path), wrong, f"what was written stands in {self._part}") from None


class LastSeconds:
    """The lines of the last seconds, and what a check says of them. ``missed``: the needs that it found missed."""

    def __init__(self, stream: Stream | Samples, system: System, paper: Bounds, seconds: float = KEPT) -> None:
        self._stream, self._system, self._paper, self._seconds = stream, system, paper, seconds
        self._lines: deque[tuple[int, str]] = deque(maxlen=MOST_KEPT)
        self._head: list[str] = []
        self._now = self._looked = 0
        self.result: CheckResult | None = None
        self.missed: tuple[str, ...] = ()

    def take(self, line: str) -> bool:
        """Keep this one, and forget what is too old; whether so much has come that it pays to look again."""
        time = line.partition(",")[0]
        if time.isdigit():
            self._now = int(time)
        elif not self._lines and not line.startswith(","):
            self._head.append(line)
            return False
        self._lines.append((self._now, line))
        hertz = 0 if self._stream.speaker is None else self._stream.speaker.hertz
        while self._now - self._lines[0][0] > self._seconds * hertz:
            self._lines.popleft()
        if self._now - self._looked < self._seconds / 2 * hertz:
            return False
        self._looked = self._now
        return True

    @property
    def text(self) -> list[str]:
        """All that is kept, as a record of its own."""
        return [*self._head, *(line for _, line in self._lines)]

    def look(self) -> bool:
        """Check what is kept; whether a need is missed. Where too little is shown nothing changes."""
        try:
            capture = read_event_lines(self.text, "the last seconds")
            self.result = check(self._system, capture, self._paper)
        except InputError:
            return bool(self.missed)
        verdicts = {name: need.verdict for name, need in self.result.needs.items()}
        self.missed = tuple(name for name, verdict in verdicts.items() if verdict is Verdict.MISSED)
        return bool(self.missed)


def kept_bytes(source: Incoming, path: Path, seconds: float | None = None) -> int:
    """Write what comes into a file, until the source ends, the keyboard interrupts it, or so much time has gone by.

    Raises:
        InputError: the file cannot be written.
    """
    size, began = 0, time.monotonic()
    try:
        with path.open("wb") as stream:
            while (piece := source.read()) is not None and (seconds is None or time.monotonic() - began < seconds):
                size += stream.write(piece)
    except KeyboardInterrupt:
        pass
    except OSError as error:
        raise input_error(str(path), f"cannot be written on: {error.strerror}", "what was written is whole") from None
    finally:
        source.close()
    return size


def recorded(
    read: Callable[[], bytes | None],
    stream: Stream | Samples,
    take: Callable[[list[str]], bool],
    seconds: float | None = None,
) -> None:
    """Pass on what comes until the source ends, ``take`` says that it is enough, or so much time has been recorded."""
    while (piece := read()) is not None:
        lines = list(stream.feed(piece)) if piece else []
        if not take(lines) or (seconds is not None and stream.seconds >= seconds):
            return
    take(list(stream.end()))
