"""Value change dumps as IEEE 1364-2001 clause 18 describes them: scalars, vectors, reals, x and z, any timescale.

The reader takes a stream of lines and knows no path. Accepted beyond the standard, because it is seen in the field:
upper-case X and Z, identifiers and values split over lines, changes before the first time stamp.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from fractions import Fraction

import numpy as np
from msgspec import Struct

from tachys.capture import vcd_scan as scan
from tachys.capture.columns import MOST_CHANGES, ChangeBuffer
from tachys.capture.opening import LongFile
from tachys.capture.sampling import step_of
from tachys.capture.scanning import KNOWN, LARGEST, NOT_KNOWN, UNKNOWN
from tachys.capture.table import MOST_BITS, Capture, Instants, Known, Signal, bits_of, timed
from tachys.capture.vcd_quick import Codes, QuickColumns
from tachys.errors import InputError, input_error

_FS = {"s": 10**15, "ms": 10**12, "us": 10**9, "ns": 10**6, "ps": 10**3, "fs": 1}
_DEFINED = re.compile(rb"\$enddefinitions\s+\$end(?=\s|$)")
_TIMESCALE = re.compile(r"(1|10|100)\s*(s|ms|us|ns|ps|fs)")
LARGEST_HEADER = 1 << 26
LONGEST_TOKEN = 1 << 20


class _Variable(Struct):
    name: str
    width: int
    short: str
    real: bool = False


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


def read_vcd(chunks: Iterable[bytes], file: str, *, strict: bool = False, long: LongFile | None = None) -> Capture:
    """Read a value change dump from its bytes; ``file`` is only shown.

    A file that is cut off is read up to the cut, with a remark; ``strict`` makes that an error. ``long``: the same
    bytes as a file, which is read far faster.

    Raises:
        InputError: with the line at which time runs backwards, or something is no change or was not declared.
    """
    pieces = iter(chunks)
    header, rest = _split_header(pieces, file)
    tokens = _Tokens(re.split(r"(?<=\n)", header.decode("utf-8-sig", "replace")), file)
    variables, tick_fs = _header(tokens)
    changes = _Changes(file, variables, tick_fs, header.count(b"\n"))
    if long is not None:
        rest, pieces = b"", long.pieces(changes.take(long, len(header)))
    return changes.read(rest, pieces, strict=strict)


def _split_header(pieces: Iterator[bytes], file: str) -> tuple[bytes, bytes]:
    """(everything up to the end of the definitions, what follows in the same piece)."""
    header = b""
    for piece in pieces:
        if b"\0" in piece[:65536]:
            line = (header + piece[: piece.index(b"\0")]).count(b"\n") + 1
            raise input_error(file, "holds NUL bytes: this is no text file", "name a capture file", line=line)
        header += piece
        match = _DEFINED.search(header)
        if match is not None:
            return header[: match.end()], header[match.end() :]
        if len(header) > LARGEST_HEADER:
            raise input_error(file, "the definitions never end", "is this a value change dump (VCD)?")
    return header, b""


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
    if len(words) < 4 or not re.fullmatch(r"[0-9]{1,5}", words[1]) or not 1 <= int(words[1]) <= 65536:
        raise tokens.error(
            f'"$var {" ".join(words)[:40]}" is no definition', "type, width, identifier and name are due"
        )
    name = re.sub(r"\[[^]]*\]$", "", words[3]) or words[3]
    full = ".".join((*scopes, name))
    real = words[0] in ("real", "realtime")
    aliases = variables.setdefault(words[2], [])
    if aliases and aliases[0].real != real:
        raise tokens.error(f"{full} and {aliases[0].name} share an identifier", "one of them is real, the other is not")
    aliases.append(_Variable(full, int(words[1]), name, real))


class _Changes:
    """The changes of a dump, scanned piece by piece."""

    def __init__(self, file: str, variables: dict[str, list[_Variable]], tick_fs: int, lines: int) -> None:
        self.file = file
        self.variables = variables
        self.scale = Fraction(tick_fs, 1000)
        self.codes = [code.encode() for code in variables]
        self.state = np.zeros(scan.STATE, np.int64)
        self.state[scan.LINE] = lines
        self.gathered = ChangeBuffer(len(variables))
        self.remarks: list[str] = []
        self.quick: QuickColumns | None = None
        self.passed: tuple[LongFile, int] | None = None  # to which byte; its lines are counted when somebody asks
        try:
            self.keys, self.slots = scan.make_table(self.codes)
        except ValueError as error:
            raise input_error(file, str(error), "export it again with shorter identifiers") from None
        self.direct = np.full(256, -1, np.int64)
        for slot, code in enumerate(self.codes):
            if len(code) == 1 and code[0] < 128 and not variables[code.decode()][0].real:
                self.direct[code[0]] = slot
        self.widths = np.array(
            [-1 if aliases[0].real else min(MOST_BITS, max(variable.width for variable in aliases))
             for aliases in variables.values()], np.int64,
        )  # fmt: skip

    def take(self, long: LongFile, begin: int) -> int:
        """Take the common words from byte ``begin`` on, where the definitions end; up to which byte that went."""
        of_lines = np.where((self.direct >= 0) & (self.widths[self.direct] == 1), self.direct, -1)
        codes = Codes(self.keys, self.slots, of_lines, self.widths)
        self.quick = QuickColumns(long, begin, codes, self.scale)
        self.state, self.passed = self.quick.state, (long, self.quick.at)
        return self.quick.at

    def read(self, rest: bytes, pieces: Iterator[bytes], *, strict: bool) -> Capture:
        """Scan what follows the definitions, to the end."""
        for piece in pieces:
            rest = self._scan(rest + piece, final=False)
            if len(rest) > LONGEST_TOKEN:
                raise self._error(f"a word of more than {LONGEST_TOKEN} bytes", "this is no value change dump")
        rest = self._scan(rest, final=False)
        if rest:
            self._last_word(rest, strict)
        elif self.state[scan.PENDING]:
            self._cut("the value of a bus has no identifier", strict)
        if not self.state[scan.BEGUN]:
            raise self._error("there is no time stamp", "it is cut off: export it again")
        return self._capture()

    def _scan(self, data: bytes, *, final: bool) -> bytes:
        """Scan all whole words; what is left of the last one."""
        columns, gathered = np.frombuffer(data, np.uint8), self.gathered
        at = 0
        while True:
            used, found = scan.scan_changes(
                columns[at:], len(data) - at, final, self.state, self.keys, self.slots, self.direct, self.widths,
                gathered.times, gathered.which, gathered.values,
            )  # fmt: skip
            fault = int(self.state[scan.FAULT])
            if fault == scan.REAL:
                used = self._read_real(data, at)
            elif fault:
                self._complain(data[at:])
            gathered.take(found)
            at += used
            if gathered.total + (self.quick.total if self.quick else 0) > MOST_CHANGES:
                raise self._error(f"more than {MOST_CHANGES} changes", "cut the capture into parts")
            if found < len(gathered.times) and fault != scan.REAL:
                return data[at:]

    def _read_real(self, data: bytes, at: int) -> int:
        """Read the real at which the scanner has stopped; how many bytes are used up then."""
        first, length = at + int(self.state[scan.FAULT_AT]), int(self.state[scan.FAULT_LENGTH])
        try:
            value = float(data[first : first + length].decode())
        except ValueError:
            raise self._error(f'"{_shown(data[first - 1 : first + length])}" is no real', "r1.25 is one") from None
        self.state[scan.FAULT] = 0
        known = value == value
        self.state[scan.PENDING] = KNOWN if known else NOT_KNOWN
        self.state[scan.VALUE], self.state[scan.BITS] = bits_of(value) if known else UNKNOWN, -1
        return first + length - at

    def _last_word(self, rest: bytes, strict: bool) -> None:
        """The file does not end in white space: its last word is whole only if nothing longer could be meant."""
        code = rest if self.state[scan.PENDING] else rest[1:]
        longer = [each for each in self.codes if each != code and each.startswith(code)]
        if rest == b"$end" or (rest[:1] != b"#" and code in self.codes and not longer):
            self._scan(rest + b"\n", final=True)
        else:
            self._cut(f'the last {len(rest)} bytes, "{_shown(rest)}", are left out', strict)

    def _cut(self, what: str, strict: bool) -> None:
        if strict:
            raise self._error("the file ends in the middle of a line", "it is cut off: export it again")
        self.remarks.append(f"the file ends in the middle of line {self._line()}: {what}; it is cut off")

    def _line(self) -> int:
        """The line at which the scanner is."""
        line = int(self.state[scan.LINE]) + 1
        if self.passed is not None:
            long, left = self.passed
            for piece in LongFile(long.path).pieces(0):
                line += piece.count(b"\n", 0, left)
                left = max(0, left - len(piece))
        return line

    def _error(self, wrong: str, mend: str) -> InputError:
        return input_error(self.file, wrong, mend, line=self._line())

    def _complain(self, data: bytes) -> None:
        """Say what the scanner has found to be wrong."""
        first, length = int(self.state[scan.FAULT_AT]), int(self.state[scan.FAULT_LENGTH])
        word = _shown(data[first : first + length])
        fault = int(self.state[scan.FAULT])
        if fault == scan.BACKWARDS:
            now = int(self.state[scan.NOW])
            raise self._error(f"time runs backwards, from #{now} to {word}", "a capture is written in order of time")
        if fault == scan.UNDECLARED:
            raise self._error(f'the identifier "{word}" was not declared', "declare it with $var")
        if fault == scan.TOO_WIDE:
            variable, bits = self.variables[data[first : first + length].decode()][0], int(self.state[scan.BITS])
            wrong = f"a value of {variable.name} has {bits} bits"
            if variable.width > MOST_BITS:
                raise self._error(wrong, f"{MOST_BITS} are carried: leave it out of the export, or write it in parts")
            raise self._error(wrong, f"{variable.width} were declared")
        if fault == scan.MIXED:
            variable = self.variables[data[first : first + length].decode()][0]
            due = "a real: r and a number are due" if variable.real else f"0, 1 or a vector, {variable.width} wide"
            raise self._error(f"this is no value of {variable.name}", f"it was declared as {due}")
        if fault == scan.NO_TIME:
            raise self._error(f'"{word}" is no time', "# and a whole number are due")
        if fault == scan.NO_VALUE:
            raise self._error(f'"{word}" is no value of a bus', "b and digits of 0, 1, x, z are due")
        raise self._error(f'"{word}" is no change', "a value and an identifier, or # and a time, are due")

    def _capture(self) -> Capture:
        first, last = int(self.state[scan.BEGIN]), int(self.state[scan.NOW])
        if last * self.scale.numerator > LARGEST:
            raise self._error("its times are beyond 64 bits of picoseconds", "is the timescale right?")
        columns = self._columns()
        flat = [(slot, variable) for slot, aliases in enumerate(self.variables.values()) for variable in aliases]
        short = Counter(variable.short for _, variable in flat)
        signals: dict[str, Signal] = {}
        for slot, variable in flat:
            key = variable.short if short[variable.short] == 1 else variable.name
            if key in signals:
                raise input_error(self.file, f'two signals are called "{key}"', "rename one of them in the analyser")
            signals[key] = Signal(key, variable.width, *columns[slot], real=variable.real)
        step = step_of(timed(signals.values()), max(1, int(self.scale)))
        begin, end = int(first * self.scale), int(last * self.scale)
        return Capture(self.file, signals, begin, end, step.ps, tuple(self.remarks), step.rounding)

    def _columns(self) -> list[tuple[Instants, Instants, Known]]:
        if self.quick is None:
            return self.gathered.signals(self.scale)
        columns = []
        for slot, rest in enumerate(self.gathered.signals(self.scale, self.quick.last, self.quick.seen)):
            times, values, known = self.quick.of_slot(slot)
            if len(rest[0]):
                times, values, known = map(np.concatenate, zip((times, values, known), rest, strict=True))
            columns.append((times, values, known))
        return columns


def _shown(word: bytes) -> str:
    return word[:40].decode("utf-8", "replace")
