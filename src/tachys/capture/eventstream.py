"""Event streams as lines of text: ``time,name,enter|leave|mark|=7``. Our own format, described in docs/formats.md.

A header may say how times are counted: ``# unit = 10 ns`` or ``# counts = 48000000 Hz`` (else picoseconds, or with
decimals as given), ``# bits = 16`` for a counter that wraps, and ``# mark = 480 ns``, what each mark takes of the core.
``gap`` in place of a name says that events were lost there. A name becomes a signal that is high from enter to leave,
a short pulse at each mark, or a number.
"""

from __future__ import annotations

import re
from array import array
from collections.abc import Iterable, Iterator
from fractions import Fraction

import numpy as np

from tachys.capture.sampling import step_of
from tachys.capture.table import Capture, Signal
from tachys.errors import InputError, input_error
from tachys.model.quantities import PS_PER_SECOND, parse_positive_duration
from tachys.stretches import joined

_NAME = rb"[^\x00-\x20,\x7f](?:[^\x00-\x1f,\x7f]{0,62}[^\x00-\x20,\x7f])?"
_LINE = re.compile(rb"\s*(\d{1,40}(?:\.\d{1,40})?)\s*,\s*(" + _NAME + rb")\s*,\s*(enter|leave|mark|=\d{1,10})\s*$")
_HEAD = re.compile(rb"\s*time\s*,\s*name\s*,\s*\w+\s*$", re.IGNORECASE)
_GAP = re.compile(rb"\s*(\d+(?:\.\d+)?)?\s*,?\s*gap\s*$")
_SAID = re.compile(rb"#\s*(unit|bits|counts|mark)\s*=\s*(.+?)\s*$")
WIDTHS = (16, 24, 32)
PULSE = 1000
NUMBER_BITS = 32
LONGEST_MARK = 10**9  # ps
MOST_NAMES = 100_000


def is_event_stream(first: bytes) -> bool:
    """Whether a file that begins like this is an event stream."""
    lines = [line for line in first[:4096].split(b"\n")[:20] if line.strip() and not line.lstrip().startswith(b"#")]
    lines = lines[1:] if lines and _HEAD.match(lines[0]) else lines
    return bool(lines) and (_LINE.match(lines[0]) is not None or _GAP.match(lines[0]) is not None)


def read_event_stream(chunks: Iterable[bytes], file: str, *, strict: bool = False) -> Capture:
    """Read an event stream from its bytes; ``file`` is only shown.

    Raises:
        InputError: a line that is no event, time that runs backwards without a counter that wraps; with the line.
    """
    return _Stream(file).read(chunks, strict)


def read_event_lines(lines: Iterable[str], file: str) -> Capture:
    """Read an event stream from its lines, which are whole; as :func:`read_event_stream`."""
    return read_event_stream((f"{line}\n".encode() for line in lines), file)


class _Stream:
    def __init__(self, file: str) -> None:
        self.file = file
        self.line = 0
        self.unit = Fraction(1)
        self.bits: int | None = None
        self.half = 0  # of what a mark takes, in ps
        self.numbers: set[str] = set()
        self.turns = 0
        self.last: Fraction | int | None = None
        self.begin = self.now = 0
        self.changes: dict[str, tuple[array[int], array[int]]] = {}
        self.gaps: list[tuple[int, int]] = []  # when nothing was recorded
        self.lost: list[tuple[int, int]] = []  # when something of one name was not
        self.merged = 0
        self.after_gap = False

    def read(self, chunks: Iterable[bytes], strict: bool) -> Capture:
        cut = list[str]()
        for line, whole in _lines(chunks):
            self.line += 1
            if not whole and (strict or not self._fits(line)):
                if strict:
                    raise self._error("the file ends in the middle of a line", "it is cut off: export it again")
                cut = [f"the file ends in the middle of line {self.line}, which is left out: it is cut off"]
                break
            self._take(line)
        if self.last is None:
            raise self._error("there are no events", "lines such as 1250,isr.tick,enter are due")
        signals = {
            name: _signal(name, NUMBER_BITS if name in self.numbers else 1, at, value)
            for name, (at, value) in self.changes.items()
        }
        remarks = cut
        if self.half:
            mark = f"{2 * self.half / 1000:.3f} ns"
            remarks.append(f"each mark takes {mark}, which bodies here include; [marks] cost says it in a model")
        if self.gaps:
            remarks.append(f"{len(self.gaps)} gap{'s' * (len(self.gaps) > 1)}: events were lost there")
        if self.lost:
            remarks.append(f"{len(self.lost)} times a name is entered or left twice in a row: events were lost between")
        if self.merged:
            remarks.append(
                f"{self.merged} marks come with another of the same name, or 1 ps after it: one edge for both"
            )
        step = step_of([signal.at for signal in signals.values()], max(1, int(self.unit)))
        begins, ends = np.array(self.gaps + self.lost, np.int64).reshape(-1, 2).T
        gaps = tuple(zip(*(side.tolist() for side in joined(begins, ends)), strict=True))
        return Capture(
            self.file, signals, self.begin, self.now, step.ps, tuple(remarks), step.rounding, gaps, told=True
        )

    def _fits(self, line: bytes) -> bool:
        return _LINE.match(line) is not None

    def _take(self, line: bytes) -> None:
        event = _LINE.match(line)
        if event is not None:
            count, name, kind = event.groups()
            # a mark tells its instant in the midst of it: a body begins before the one and ends behind the other
            time = self._time(count, self.half if kind == b"leave" else -self.half)
            self._event(time, name.decode("utf-8", "replace"), kind)
            return
        if not line.strip():
            return
        said = _SAID.match(line)
        if said is not None:
            self._say(said.group(1).decode(), said.group(2).decode("utf-8", "replace"))
            return
        if line.lstrip().startswith(b"#") or (self.last is None and _HEAD.match(line)):
            return
        if _GAP.match(line) is None:
            shown = line[:40].decode("utf-8", "replace").strip()
            raise self._error(f'"{shown}" is no event', "time,name,enter or leave or mark is due")
        self._gap()

    def _say(self, what: str, text: str) -> None:
        try:
            if what == "unit":
                unit = parse_positive_duration(text)
                if unit.clock is not None:
                    raise ValueError(
                        f'a unit of "{text}" hangs on a clock; write the time of one count, such as 20.8 ns'
                    )
                self.unit = unit.amount
            elif what == "mark":
                self.half = _half_of(text)
            elif what == "counts":
                self.unit = 1 / (_hertz(text) / PS_PER_SECOND)
            elif int(text) in WIDTHS:
                self.bits = int(text)
            else:
                raise ValueError(f"a counter of {text} bits is not known; 16, 24 or 32")
        except ValueError as error:
            wrong, _, mend = str(error).partition("; ")
            raise self._error(wrong, mend) from None

    def _time(self, text: bytes, shift: int) -> int:
        count = int(text) if text.isdigit() else Fraction(text.decode())
        if self.bits is not None:
            if self.last is not None and count < self.last:
                back, wrap = self.last - count, 1 << self.bits
                if back < wrap // 16 and not self.after_gap:  # two records exchanged, and not a nearly whole wrap
                    raise self._error(
                        f"time runs backwards by {float(back):g} counts",
                        "a counter that wraps goes back by nearly all of it",
                    )
                self.turns += 1
        elif self.last is not None and count < self.last:
            raise self._error("time runs backwards", "say # bits = 16, 24 or 32 if the counter wraps")
        first = self.last is None
        self.last = count
        counts = count + (self.turns << (self.bits or 0))
        ps = int(counts * self.unit.numerator // self.unit.denominator) + shift
        if ps > 1 << 62:
            raise self._error("the time is beyond 64 bits of picoseconds", "is the unit right?")
        self.after_gap = False
        if self.gaps and self.gaps[-1][0] == self.gaps[-1][1]:
            self.gaps[-1] = (self.gaps[-1][0], max(ps, self.gaps[-1][0]))
        if first:
            self.begin = ps - shift - self.half  # no later one can come before
        ps = max(ps, self.begin)
        self.now = max(self.now, ps)
        return ps

    def _event(self, time: int, name: str, kind: bytes) -> None:
        known = self.changes.get(name)
        if known is None:
            if len(self.changes) >= MOST_NAMES:
                raise self._error(f"more than {MOST_NAMES} names", "is this an event stream?")
            if not self.changes and kind != b"leave":  # it is an edge: the stream begins one count before it
                self.begin -= max(1, int(self.unit))
            known = self.changes[name] = (array("q", [self.begin]), array("q", [int(kind == b"leave")]))
        at, value = known
        if kind.startswith(b"=") or name in self.numbers:
            self._number(name, at, value, time, kind)
        elif kind == b"mark":
            self._add(at, value, time, 1, mark=True)
            self._add(at, value, time + PULSE, 0, mark=True)
        else:
            self._add(at, value, time, int(kind == b"enter"))

    def _number(self, name: str, at: array[int], value: array[int], time: int, kind: bytes) -> None:
        """A number, which is not known before it is told."""
        if len(at) == 1 and name not in self.numbers:
            value[0] = -1
            self.numbers.add(name)
        if not kind.startswith(b"=") or name not in self.numbers:
            raise self._error(f"{name} is a number and something that is entered, left or marked", "give it two names")
        number = int(kind[1:])
        if number >= 1 << NUMBER_BITS:
            shown = kind[1:].decode()
            raise self._error(f"{shown} has more than {NUMBER_BITS} bits", "a number of an event stream has no more")
        if at[-1] >= time:
            value[-1] = number
        elif value[-1] != number:
            at.append(time)
            value.append(number)

    def _add(self, at: array[int], value: array[int], time: int, level: int, *, mark: bool = False) -> None:
        if at[-1] > time:  # the end of the pulse of a mark, which is ours to place: before what comes now
            if level == 1 and at[-2] >= time - 1:
                self.merged += 1
                return
            at[-1] = time - 1 if level == 1 else time
        if value[-1] == level:
            if len(at) > 1 and not mark:
                self._lost(at, value, time, level)
            return
        if value[-1] == -1 and level >= 0 and at[-1] < time - 1:  # told as an event: it was otherwise until then
            at.append(time - 1)
            value.append(1 - level)
        if at[-1] == time:
            value[-1] = level
        else:
            at.append(time)
            value.append(level)

    def _lost(self, at: array[int], value: array[int], time: int, level: int) -> None:
        """Two enters, or two leaves, of one name in a row: what lay between them was lost, and others may be."""
        if at[-1] + 2 >= time:
            return
        self.lost.append((at[-1] + 1, time - 1))
        at.extend((at[-1] + 1, time - 1, time))
        value.extend((-1, 1 - level, level))

    def _gap(self) -> None:
        """What every name does is not known until it is told again."""
        self.gaps.append((self.now, self.now))
        for at, value in self.changes.values():
            self._add(at, value, max(self.now, at[-1]), -1, mark=True)
        self.after_gap = True

    def _error(self, wrong: str, mend: str) -> InputError:
        return input_error(self.file, wrong, mend, line=self.line)


def _signal(name: str, width: int, at: array[int], value: array[int]) -> Signal:
    values = np.array(value, np.int64)
    return Signal(name, width, np.array(at, np.int64), values, values >= 0).without_repeats()


def _half_of(text: str) -> int:
    mark = parse_positive_duration(text)
    if mark.clock is not None or mark.amount > LONGEST_MARK:
        raise ValueError(f'"{text}" is nothing that a mark takes; write the time of one, such as 480 ns')
    return int(mark.amount) // 2


def _hertz(text: str) -> Fraction:
    found = re.fullmatch(r"(\d{1,15})\s*Hz", text)
    if found is None or not int(found.group(1)):
        raise ValueError(f'"{text}" is no rate of a counter; write for instance 48000000 Hz')
    return Fraction(found.group(1))


def _lines(chunks: Iterable[bytes]) -> Iterator[tuple[bytes, bool]]:
    """(line, whether it has an end) of pieces of bytes."""
    rest = b""
    for piece in chunks:
        *whole, rest = (rest + piece).split(b"\n")
        for line in whole:
            yield line, True
        if len(rest) > 1 << 20:  # no line of this format: told as such, and what is left of it is not kept
            yield b"?" + rest[:100], True
            rest = b""
    if rest:
        yield rest, False
