"""Outcomes of many points, kept in a file as they come: none of them is held, and a sweep that was stopped goes on."""

from __future__ import annotations

import json
import tempfile
from array import array
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import overload

from tachys.errors import input_error
from tachys.trying.points import Outcome, outcome_data, outcome_of


class Kept(Sequence[Outcome]):
    """Lines of a file, an outcome each, behind one that says what they are of.

    What an earlier sweep of the same has left is gone on with, as far as whole lines go. Without a path the file is a
    temporary one, which goes with this.

    Raises:
        InputError: it cannot be written.
    """

    def __init__(self, path: Path | None, of: str) -> None:
        self._path = path
        self.needs: dict[str, None] = {}  # the names that any has, in order
        self.always_lost: frozenset[str] | None = None  # what all may lose, of those that are models
        self._begins = array("q")
        try:
            if path is None:
                self._file = tempfile.TemporaryFile()  # noqa: SIM115
            else:
                self._file = path.open("r+b" if path.is_file() else "w+b")
        except OSError as error:
            raise self._wrong(error) from None
        self._end = self._taken_over(json.dumps({"of": of}).encode() + b"\n")

    def _taken_over(self, head: bytes) -> int:
        """The end of what can be gone on with; all behind it goes."""
        end = 0
        if self._file.readline() == head:
            end = len(head)
            for line in self._file:
                try:
                    outcome = outcome_of(json.loads(line))
                except ValueError:
                    break
                if not line.endswith(b"\n"):
                    break
                self._remember(outcome, end)
                end += len(line)
        self._file.seek(end)
        self._file.truncate()
        if not end:
            self._put(head)
            end = len(head)
        return end

    def add(self, outcome: Outcome) -> None:
        """Put one behind the others.

        Raises:
            InputError: the disk is full, or cannot be written to; what was kept before is whole.
        """
        line = json.dumps(outcome_data(outcome)).encode() + b"\n"
        self._file.seek(self._end)
        self._put(line)
        self._remember(outcome, self._end)
        self._end += len(line)

    def close(self, *, gone: bool = False) -> None:
        """Let go of the file; ``gone``: it is not needed any more."""
        self._file.close()
        if gone and self._path is not None:
            with suppress(OSError):
                self._path.unlink()

    def __del__(self) -> None:
        if hasattr(self, "_file"):
            self._file.close()

    def __len__(self) -> int:
        return len(self._begins)

    @overload
    def __getitem__(self, place: int) -> Outcome: ...
    @overload
    def __getitem__(self, place: slice) -> list[Outcome]: ...
    def __getitem__(self, place: int | slice) -> Outcome | list[Outcome]:
        if isinstance(place, slice):
            return [self[number] for number in range(*place.indices(len(self)))]
        self._file.seek(self._begins[place])
        return outcome_of(json.loads(self._file.readline()))

    def __iter__(self) -> Iterator[Outcome]:
        at = self._begins[0] if self._begins else 0
        for _ in range(len(self)):
            self._file.seek(at)
            lines = self._file.readlines(1 << 20)
            at += sum(map(len, lines))
            yield from (outcome_of(json.loads(line)) for line in lines)
            if at >= self._end:
                return

    def _put(self, line: bytes) -> None:
        try:
            self._file.write(line)
            self._file.flush()
        except OSError as error:
            raise self._wrong(error) from None

    def _remember(self, outcome: Outcome, begin: int) -> None:
        self._begins.append(begin)
        self.needs.update(dict.fromkeys(outcome.needs))
        if not outcome.wrong:
            lost = frozenset(outcome.lost)
            self.always_lost = lost if self.always_lost is None else self.always_lost & lost

    def _wrong(self, error: OSError) -> Exception:
        return input_error(str(self._path or "a temporary file"), f"cannot be written: {error.strerror}",
                           "choose another place")  # fmt: skip
