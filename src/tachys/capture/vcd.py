"""Value change dumps as IEEE 1364-2001 clause 18 describes them: scalars and vectors, x and z, any timescale.

The reader takes a stream of lines and knows no path. Accepted beyond the standard, because it is seen in the field:
upper-case X and Z, identifiers and values split over lines, changes before the first time stamp.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction

from tachys.capture.table import UNKNOWN, Capture, Instants, Signal, grid_of, make_signal
from tachys.errors import InputError, input_error

_FS = {"s": 10**15, "ms": 10**12, "us": 10**9, "ns": 10**6, "ps": 10**3, "fs": 1}
_TIMESCALE = re.compile(r"(1|10|100)\s*(s|ms|us|ns|ps|fs)")
_LARGEST_TIME = 2**62
_LOW_BITS = 2**62 - 1  # what of a very wide bus fits a column
_SECTIONS = frozenset(["$dumpvars", "$dumpall", "$dumpon", "$dumpoff", "$end"])


@dataclass(slots=True)
class _Variable:
    name: str
    width: int
    real: bool = False
    at: list[int] = field(default_factory=list)
    value: list[int] = field(default_factory=list)


class _Tokens:
    """The tokens of the file one by one, with the line on which the last one stood."""

    def __init__(self, lines: Iterable[str], file: str) -> None:
        self.file = file
        self.line = 0
        self.complete = True
        self._tokens = self._read(lines)

    def _read(self, lines: Iterable[str]) -> Iterator[str]:
        for self.line, line in enumerate(lines, 1):
            self.complete = line.endswith(("\n", "\r"))
            yield from line.split()

    def __iter__(self) -> Iterator[str]:
        return self._tokens

    def following(self, what: str) -> str:
        """The next token, which must be there."""
        token = next(self._tokens, None)
        if token is None:
            raise self.error(f"the file ends inside {what}", "it is cut off: export it again")
        return token

    def until_end(self, what: str) -> list[str]:
        """The tokens up to $end."""
        found = []
        while (token := self.following(what)) != "$end":
            found.append(token)
        return found

    def error(self, wrong: str, mend: str) -> InputError:
        """An error at the line of the last token."""
        return input_error(self.file, wrong, mend, line=self.line)


def read_vcd(lines: Iterable[str], file: str) -> Capture:
    """Read a value change dump; ``file`` is only shown.

    Raises:
        InputError: with the line at which the file is cut off, runs backwards or says what it did not declare.
    """
    tokens = _Tokens(lines, file)
    variables, tick_fs = _header(tokens)
    begin, end = _changes(tokens, variables)
    return _capture(file, variables, tick_fs, begin, end)


def _header(tokens: _Tokens) -> tuple[dict[str, list[_Variable]], int]:
    """(variables by identifier code, length of a tick in fs)."""
    variables: dict[str, list[_Variable]] = {}
    tick_fs, scopes = None, list[str]()
    for token in tokens:
        if token == "$enddefinitions":
            tokens.until_end(token)
            if tick_fs is None:
                raise tokens.error("there is no $timescale", "the file must say how long a tick is")
            if not variables:
                raise tokens.error("no signal is declared", "the file must hold $var definitions")
            return variables, tick_fs
        if not token.startswith("$"):
            raise tokens.error(f'"{token[:40]}" stands before $enddefinitions', "is this a value change dump (VCD)?")
        words = tokens.until_end(token)
        if token == "$timescale":
            match = _TIMESCALE.fullmatch(" ".join(words))
            if match is None:
                raise tokens.error(f'"{" ".join(words)[:40]}" is no timescale', "1, 10 or 100 of s, ms, us, ns, ps, fs")
            tick_fs = int(match.group(1)) * _FS[match.group(2)]
        elif token == "$scope":
            scopes.append(words[-1] if words else "")
        elif token == "$upscope" and scopes:
            scopes.pop()
        elif token == "$var":
            _declare(tokens, words, scopes, variables)
    raise tokens.error("the file ends before $enddefinitions", "it is cut off: export it again")


def _declare(tokens: _Tokens, words: list[str], scopes: list[str], variables: dict[str, list[_Variable]]) -> None:
    if len(words) < 4 or not words[1].isdecimal() or not 1 <= int(words[1]) <= 65536:
        raise tokens.error(
            f'"$var {" ".join(words)[:40]}" is no definition', "type, width, identifier and name are due"
        )
    name = re.sub(r"\[[^]]*\]$", "", words[3]) or words[3]
    full = ".".join((*scopes, name))
    real = words[0] in ("real", "realtime")
    variables.setdefault(words[2], []).append(_Variable(full, int(words[1]), real))


def _changes(tokens: _Tokens, variables: dict[str, list[_Variable]]) -> tuple[int, int]:
    """Fill the variables; (first, last) time in ticks."""
    now, begin, last = 0, None, ""
    for token in tokens:
        last = token
        head = token[0]
        if head == "#":
            now = _time(tokens, token, now if begin is not None else None)
            begin = now if begin is None else begin
            continue
        if head in "01xXzZ":
            code, value = token[1:], UNKNOWN if head in "xXzZ" else int(head)
        elif head in "bBrR":
            last = code = tokens.following("a change")
            value = 0 if head in "rR" else _vector(tokens, token)
        elif token in _SECTIONS:
            continue
        elif token == "$comment":
            tokens.until_end(token)
            continue
        else:
            raise tokens.error(f'"{token[:40]}" is no change', "a value and an identifier, or # and a time, are due")
        if code not in variables:
            mend = "declare it with $var" if tokens.complete else "the file is cut off here: export it again"
            raise tokens.error(f'the identifier "{code[:40]}" was not declared', mend)
        for variable in variables[code]:
            if value >= 1 << min(variable.width, 62):
                raise tokens.error(
                    f'"{token[:40]}" is wider than {variable.name}', f"{variable.width} bits were declared"
                )
            variable.at.append(now)
            variable.value.append(value)
    whole = last and last[0] != "#" and not any(c != last and c.startswith(last.lstrip("01xXzZ")) for c in variables)
    if begin is None or not (tokens.complete or whole):
        raise tokens.error("the file ends in the middle of a line", "it is cut off: export it again")
    return begin, now


def _time(tokens: _Tokens, token: str, now: int | None) -> int:
    digits = token[1:]
    if not digits.isdecimal() or len(digits) > 19 or int(digits) > _LARGEST_TIME:
        raise tokens.error(f'"{token[:40]}" is no time', "# and a whole number are due")
    later = int(digits)
    if now is not None and later < now:
        raise tokens.error(f"time runs backwards, from #{now} to #{later}", "a capture is written in order of time")
    return later


def _vector(tokens: _Tokens, token: str) -> int:
    digits = token[1:].lower()
    if not digits or digits.strip("01xz"):
        raise tokens.error(f'"{token[:40]}" is no value of a bus', "b and digits of 0, 1, x, z are due")
    return UNKNOWN if "x" in digits or "z" in digits else int(digits, 2)


def _capture(file: str, variables: dict[str, list[_Variable]], tick_fs: int, begin: int, end: int) -> Capture:
    flat = [variable for aliases in variables.values() for variable in aliases]
    short = [variable.name.rsplit(".", 1)[-1] for variable in flat]
    scale = Fraction(tick_fs, 1000)

    def ps(ticks: Iterable[int]) -> Iterable[int]:
        return (tick * scale.numerator // scale.denominator for tick in ticks)

    signals: dict[str, Signal] = {}
    remarks = []
    for variable, name in zip(flat, short, strict=True):
        if variable.real:
            remarks.append(f"{variable.name} holds real values and is left out")
            continue
        key = name if short.count(name) == 1 else variable.name
        if key in signals:
            raise input_error(file, f'two signals are called "{key}"', "rename one of them in the analyser")
        signals[key] = make_signal(key, variable.width, ps(variable.at), variable.value)
    first, last = ps((begin, end))
    columns: list[Instants] = [signal.at for signal in signals.values()]
    grid = grid_of(columns, max(1, int(scale)))
    return Capture(file, signals, first, last, grid, tuple(remarks))
