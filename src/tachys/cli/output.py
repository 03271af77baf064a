"""How results reach the reader: tables of at most 100 columns, JSON or CSV; words first, colour only on top."""

from __future__ import annotations

import codecs
import csv
import io
import json
import math
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from itertools import chain
from typing import TYPE_CHECKING, Any, TextIO, cast

import click

from tachys.errors import Remark
from tachys.foreign import escaped, printable
from tachys.needs.verdicts import Verdict

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    from tachys.model.system import System

WIDEST = 100
INTERRUPTED = 130  # the status of a command that was stopped, when it has shown what was done until then
FORMATS = click.Choice(["table", "json", "csv"])
format_option = click.option(
    "--format", "shape", type=FORMATS, default="table", help="How to print: for people, programs or spreadsheets."
)
two_formats_option = click.option(
    "--format",
    "shape",
    type=click.Choice(["table", "json"]),
    default="table",
    help="How to print: for people or programs.",
)  # fmt: skip
STYLES = {Verdict.MET: "green", Verdict.AT_RISK: "magenta", Verdict.MISSED: "bold red", Verdict.UNSEEN: "cyan"}


_PLAIN = str.maketrans({"→": "->", "≥": ">=", "≤": "<=", "µ": "u", "μ": "u", "·": "*", "±": "+-", "…": "...", "–": "-",
                        "─": "-", "│": "|", "━": "-", "┃": "|", "▏": "|", "█": "#", "↑": "^", "↓": "v"})  # fmt: skip


class _Lenient:
    """A standard error that may be full or closed: what cannot be written there changes no result."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)

    def write(self, text: str) -> int:
        """Write what can be written."""
        with suppress(OSError):
            self._stream.write(text)
            self._stream.flush()
        return len(text)

    def flush(self) -> None:
        """Nothing waits: every piece is written at once."""


def _in_plain_characters(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    text = error.object[error.start : error.end].translate(_PLAIN)
    return text.encode(error.encoding, "replace").decode(error.encoding), error.end


def prepare_streams() -> None:
    """Characters that a code page lacks get plain ones; a standard error that is full is no fault."""
    codecs.register_error("plain-characters", _in_plain_characters)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plain-characters")
    if sys.stderr is not None:
        sys.stderr = cast(TextIO, _Lenient(sys.stderr))


@cache
def _console_class() -> type[Console]:
    from rich.console import Console

    class Quiet(Console):
        def on_broken_pipe(self) -> None:
            """The reader has gone: told to ``main``, which knows how a command ends."""
            raise BrokenPipeError

    return Quiet


_colored: list[bool] = []  # empty: where somebody looks


def set_color(wanted: bool | None) -> None:
    """Whether what is printed has colours; None: where somebody looks."""
    _colored[:] = [] if wanted is None else [wanted]


def console(*, error: bool = False) -> Console:
    """A console as wide as the terminal, at most 100 columns; 100 when nobody looks."""
    forced = {"force_terminal": True, "color_system": "standard"} if _colored == [True] and not error else {}
    made = _console_class()(stderr=error, highlight=False, markup=False, emoji=False, soft_wrap=False,
                            no_color=_colored == [False] or None, **forced)  # type: ignore[arg-type]  # fmt: skip
    if forced and not sys.stdout.isatty():
        made.width = WIDEST
        return made
    made.width = min(made.width, WIDEST) if made.is_terminal else WIDEST
    return made


def terminal_width() -> int:
    """How wide the terminal really is, for drawings in text; 100 columns when nobody looks."""
    from rich.console import Console

    made = Console()
    return made.width if made.is_terminal else WIDEST


plain = printable


def say_as_is(lines: Iterable[str]) -> None:
    """Lines that are laid out already, as of a drawing in text."""
    for line in lines:
        click.echo(plain(line))


def say(*lines: str) -> None:
    """Sentences, wrapped to the width."""
    from rich.text import Text

    out = console()
    for line in lines:
        out.print(Text(plain(line)))


@contextmanager
def progress_through(what: str, size: int, *, of_bytes: bool) -> Iterator[Callable[[int], None] | None]:
    """A bar on standard error while so much is gone through; None where nobody looks or the size is 0."""
    out = console(error=True)
    if not size or not out.is_terminal:
        yield None
        return
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn

    amount = (DownloadColumn(),) if of_bytes else ()
    columns = (TextColumn("{task.description}"), BarColumn(), *amount, TimeRemainingColumn())
    with Progress(*columns, console=out, transient=True) as bar:
        task = bar.add_task(plain(what), total=size)
        yield lambda count: bar.advance(task, count)


def say_below(*lines: str, indent: int = 3) -> None:
    """Sentences that belong to the line above, wrapped and moved to the right."""
    from rich.padding import Padding
    from rich.text import Text

    out = console()
    for line in lines:
        out.print(Padding(Text(plain(line)), (0, 0, 0, indent), expand=False))


def heading(text: str) -> None:
    """The title of a table."""
    from rich.text import Text

    console().print(Text(plain(text), style="bold"))


def made_table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Verdict]]) -> Table:
    """A table to be shown; ``columns`` are (title, "left" or "right"). A verdict is coloured as well as named."""
    from rich.box import SIMPLE_HEAD
    from rich.table import Table

    made = Table(box=SIMPLE_HEAD, pad_edge=False, show_edge=False, padding=(0, 1, 0, 0))
    for title, side in columns:
        made.add_column(title, justify="right" if side == "right" else "left", overflow="fold")
    for row in rows:
        made.add_row(*(_cell(cell) for cell in row))
    return made


def table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Verdict]]) -> None:
    """Say a table, as :func:`made_table` makes it."""
    out = console()
    out.print(made_table(columns, rows))
    out.print()


def _cell(cell: str | Verdict) -> Text:
    from rich.text import Text

    return Text(plain(str(cell)), style=STYLES[cell] if isinstance(cell, Verdict) else "")


def print_json(data: dict[str, Any]) -> None:
    """Plain JSON on standard output; what is no finite number is null."""
    click.echo(escaped(json.dumps(_finite(data), indent=2, ensure_ascii=False, allow_nan=False)))


def _finite(data: Any) -> Any:
    if isinstance(data, dict):
        return {key: _finite(value) for key, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [_finite(value) for value in data]
    return None if isinstance(data, float) and not math.isfinite(data) else data


def print_csv(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Comma-separated values on standard output; empty where there is no value."""
    for line in csv_lines(header, rows):
        click.echo(line, nl=False)


def csv_lines(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """Comma-separated values, line by line; empty where there is no value."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    for row in chain((header,), rows):
        writer.writerow("" if cell is None else escaped(cell) if isinstance(cell, str) else cell for cell in row)
        yield text.getvalue()
        text.seek(0)
        text.truncate()


def warn(remarks: Iterable[Remark]) -> None:
    """Warnings about a model, on standard error so that output stays clean for programs."""
    from rich.text import Text

    out = console(error=True)
    for remark in remarks:
        out.print(Text("warning: ", style="magenta") + Text(plain(str(remark))))


@contextmanager
def progress_bar(what: str) -> Iterator[Callable[[float], None] | None]:
    """A bar with the time left on standard error, where somebody looks; what it gives is told shares of one."""
    out = console(error=True)
    if not out.is_terminal:
        yield None
        return
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    with Progress(TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn(), console=out,
                  transient=True) as bar:  # fmt: skip
        task = bar.add_task(what, total=1.0)
        yield lambda share: bar.update(task, completed=share)


def compile_note(system: System, length: int | None) -> None:
    """Say so, where the engine has to be compiled to play so long in all; None: very long."""
    from tachys.simulation.engine import work_of
    from tachys.simulation.kernel import play

    if play.waits(work_of(system, length or 10**15)):
        click.echo("compiling the engine, once after each install: about a quarter of a minute", err=True)
