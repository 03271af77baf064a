"""The ways in which Tachys can fail, sorted by reason.

TachysError
├── InputError      what was given is wrong: a list of problems, each with its place      exit status 2
└── InternalError   Tachys contradicts itself: our fault, never the user's                exit status 3
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

from msgspec import Struct


class Place(Struct, frozen=True, order=True):
    """Where something stands in an input: a file, and a line where there are lines (from 1; 0 for none)."""

    file: str
    line: int = 0

    def __str__(self) -> str:
        return f"{self.file}:{self.line}" if self.line else self.file


class Problem(Struct, frozen=True, order=True):
    """One thing that is wrong in an input, and what would be right."""

    place: Place
    key: str
    wrong: str
    mend: str

    def __str__(self) -> str:
        key = f"{self.key}: " if self.key else ""
        mend = f"; {self.mend}" if self.mend else ""
        return f"{self.place}: {key}{self.wrong}{mend}"


class Remark(Struct, frozen=True, order=True):
    """Something that is allowed and yet worth a second look: a warning with a code and a mend."""

    place: Place
    code: str
    key: str
    text: str
    mend: str

    def __str__(self) -> str:
        return f"{self.place}: {self.key}: {self.text}; {self.mend} [{self.code}]"


class TachysError(Exception):
    """Base of every error that Tachys raises on purpose."""

    exit_status = 3


class InputError(TachysError):
    """The input is wrong. ``problems`` holds every fault found, in the order of the places."""

    exit_status = 2

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems: tuple[Problem, ...] = tuple(sorted(set(problems)))
        super().__init__("\n".join(map(str, self.problems)))

    def __reduce__(self) -> tuple[type[InputError], tuple[tuple[Problem, ...]]]:  # it comes from other processes too
        return type(self), (self.problems,)


class InternalError(TachysError):
    """Two parts of Tachys disagree: a fault of the program."""


def input_error(file: str, wrong: str, mend: str, *, line: int = 0, key: str = "") -> InputError:
    """An InputError with one problem."""
    return InputError([Problem(Place(file, line), key, wrong, mend)])


def did_you_mean(word: str, known: Sequence[str], what: str) -> str:
    """The mend for a misspelt ``word``: the nearest known one, or all of them when few, or how to find out."""
    named = [each for each in known if word and each.split(".")[1:2] == [word]]
    if named:  # the name alone, of something that is called by its kind, too
        shortest = {each.split(".")[0]: each for each in sorted(named, key=len, reverse=True)}
        ways = [f'"{shortest[kind]}"' for kind in dict.fromkeys(each.split(".")[0] for each in named)]
        return f"did you mean {' or '.join(ways)}?"
    near = difflib.get_close_matches(word, known, n=1, cutoff=0.6)
    if near:
        return f'did you mean "{near[0]}"?'
    if not known:
        return f"there is no {what} at all"
    shown = ", ".join(known[:12]) + (", …" if len(known) > 12 else "")
    return f"known: {shown}"
