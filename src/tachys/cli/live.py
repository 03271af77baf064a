"""What a terminal shows while the board is recorded: who runs, how often, and what needs say of the last seconds."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from fractions import Fraction
from typing import TYPE_CHECKING

from rich.console import Console, Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from tachys.cli.output import made_table, plain

if TYPE_CHECKING:
    from tachys.checking.result import CheckResult
    from tachys.marks.recording import LastSeconds
    from tachys.marks.samples import Samples
    from tachys.marks.stream import Stream

FRAMES = 10  # a second


class View:
    """A line about the stream, and with ``live`` all of it; ``last`` is asked for what needs say.

    With ``ends`` the first miss ends it, so nothing is left out; else it looks for half of the time at most, so that
    what is shown is of now.
    """

    def __init__(
        self, stream: Stream | Samples, source: str, last: LastSeconds | None, *, live: bool, ends: bool
    ) -> None:
        self._stream, self._source, self._last, self._live, self._ends = stream, source, last, live, ends
        self._looks_at = 0.0
        self._levels: dict[str, str] = {}
        self._counts: dict[str, int] = {}
        self._drawn = 0.0
        self._shown: Live | None = None

    def shown(self, out: Console) -> AbstractContextManager[object]:
        """Where it is shown while it goes on: on a terminal only."""
        if not out.is_terminal:
            return nullcontext()
        self._shown = Live(self._drawing(), console=out, auto_refresh=False, transient=not self._live)
        return self._shown

    def take(self, lines: Sequence[str]) -> bool:
        """Take some lines of the record; whether it is over with a miss."""
        for line in lines:
            at, name, what = (*line.split(",", 2), "", "")[:3]
            if at.isdigit():
                self._levels[name] = what
                self._counts[name] = self._counts.get(name, 0) + (what != "leave")
            elif name == "gap":
                self._levels.clear()
            if self._last is not None and self._last.take(line) and self._misses(self._last):
                return True
        now = time.monotonic()
        if self._shown is not None and now - self._drawn >= 1 / FRAMES:
            self._drawn = now
            self._shown.update(self._drawing(), refresh=True)
        return False

    def _misses(self, last: LastSeconds) -> bool:
        began = time.monotonic()
        if self._ends:
            return last.look()
        if began >= self._looks_at:
            last.look()
            now = time.monotonic()
            self._looks_at = now + (now - began)
        return False

    def _drawing(self) -> RenderableType:
        parts: list[RenderableType] = [Text(plain(self._state()))]
        if self._live:
            parts += ["", self._names(), "", *_needs(None if self._last is None else self._last.result)]
        parts.append(Text("Ctrl-C ends the record.", style="dim"))
        return Group(*parts)

    def _state(self) -> str:
        told, seconds = self._stream.told, self._stream.seconds
        rate = told.marks / seconds if seconds else 0
        lost = f", {told.lost} lost on the board" if told.lost else ""
        broken = f", {told.broken} frames broken" if told.broken else ""
        full = f"ring at most {100 * told.fill:.0f} % full"
        return f"{self._source}: {seconds:.1f} s, {told.marks} marks, {rate:.0f} a second{lost}{broken}, {full}"

    def _names(self) -> Table:
        rows = []
        for name, count in self._counts.items():
            now = self._levels.get(name, "?")
            shown = {"enter": "runs", "leave": "", "mark": ""}.get(now, now.removeprefix("="))
            rows.append([name, f"{shown:4}", _rate(count / max(self._stream.seconds, 1e-3))])
        return made_table([("name", ""), ("now", ""), ("a second", "right")], rows)


def _needs(result: CheckResult | None) -> list[RenderableType]:
    from tachys.needs.words import value_text
    from tachys.words import share_text

    if result is None:
        return [Text("needs: not enough was seen yet")]
    columns = [("need, in the last 2 s", ""), ("", ""), ("worst seen", "right"), ("limit", "right")]
    rows = [
        [name, need.verdict, "not shown" if need.value is None else value_text(need.need, need.value),
         value_text(need.need, need.limit)]
        for name, need in result.needs.items()
    ]  # fmt: skip
    load = "" if result.load is None else f"load at least {share_text(Fraction(result.load.least), 'down')}"
    return [made_table(columns, rows), "", Text(load)]


def _rate(often: float) -> str:
    return f"{often:.0f}  " if often >= 100 else f"{often:.1f}"
