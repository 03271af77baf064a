"""``tachys compare``: variants, models or captures beside each other."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.capturing import Given, shape_options
from tachys.cli.modelling import Changes, model_options
from tachys.cli.output import format_option
from tachys.cli.parameters import TIME
from tachys.cli.playing import length_of
from tachys.frames import PS
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, amperes_text, count_text, life_text, share_text, time_text

if TYPE_CHECKING:
    from tachys.trying.comparing import Changed, Column, Comparison, Row, Value

BESIDE = 4  # columns of one table
_LONGEST = 22
_VERDICTS = {str(verdict): verdict for verdict in Verdict}


@click.command("compare")
@click.argument("files", type=click.Path(), nargs=-1, required=True, metavar="MODEL... [CAPTURE...]")
@click.option("--all", "every", is_flag=True, help="Also what is the same everywhere.")
@click.option("--play", type=TIME, metavar="TIME", help="Also play each for so long, and show the worst that came.")
@click.option(
    "--baseline", type=click.Path(), metavar="FILE", help="The last column of a comparison kept as JSON first."
)
@click.option("-o", "--output", type=click.Path(), help="Draw the needs: .png, .svg or .pdf.")
@shape_options
@model_options
@format_option
def compare_command(
    files: tuple[str, ...], every: bool, play: Fraction | None, baseline: str | None, output: str | None,
    changes: Changes, given: Given, shape: str,
) -> int:  # fmt: skip
    """Variants, models or captures in columns: what differs in the models, and what that makes of every figure.

    A column each MODEL as it stands, each --variant of it (A+B: both, in that order), and last the --set, laid over
    the last of them. A CAPTURE is held against every one. The status is that of the last column.

    \b
    tachys compare model.toml --variant polled
    tachys compare model.toml capture.vcd --set core.clock="24 MHz"
    """
    from tachys.cli.bounds import status
    from tachys.cli.output import print_csv, print_json
    from tachys.drawing.figure import form_of
    from tachys.errors import input_error
    from tachys.files import read_json, write_whole
    from tachys.trying.comparing import compare, comparison_data, comparison_of

    form = None if output is None else form_of(output)
    before = None
    if baseline is not None:
        mend = "write it with tachys compare … --format json > FILE"
        before = comparison_of(read_json(baseline, "a comparison", mend))
        if before is None:
            raise input_error(baseline, "is no comparison", mend)
    columns = _columns(files, changes, given, play)
    if len(columns) + (before is not None) < 2:
        raise click.UsageError("there is one column only: name a --variant, a --set, a capture or a second model")
    found = compare(columns, before)
    if shape == "json":
        print_json(comparison_data(found))
    elif shape == "csv":
        print_csv(("about", "quantity", "kind", *found.columns),
                  [[row.about, row.quantity, row.kind, *row.values] for row in found.rows])  # fmt: skip
    else:
        _warn(columns)
        show_comparison(found, every=every)
    if output is not None and form is not None:
        from tachys.cli.output import say
        from tachys.drawing.compared import draw_comparison

        write_whole(output, draw_comparison(found, form))
        if shape == "table":
            say(f"drawn: {output}")
    return status(found.verdicts, strict=False)


def _columns(files: Sequence[str], changes: Changes, given: Given, play: Fraction | None) -> list[Column]:
    from tachys.model.loading import ModelText
    from tachys.trying.comparing import columns_of

    models = [file for file in files if Path(file).suffix.lower() == ".toml"]
    if not models:
        raise click.UsageError(f"no model is named: {files[0]} is taken for a capture; a model ends in .toml")
    texts = [ModelText.load(file) for file in models]
    captures = [given.read(file) for file in files if file not in models]
    length = None if play is None else length_of(play)
    return [
        column
        for text in texts
        for column in columns_of(text, changes.variants, changes.settings, captures, length,
                                 Path(text.file).stem if len(models) > 1 else "", changes.costs)
    ]  # fmt: skip


def _warn(columns: Sequence[Column]) -> None:
    """What is said of the models, once."""
    from msgspec.structs import replace

    from tachys.cli.output import warn
    from tachys.worstcase.lint import lint

    known: set[tuple[str, str]] = set()
    for column in columns:
        named = "" if column is columns[0] else f"{column.name}: "
        told = [
            remark
            for remark in dict.fromkeys([*column.bounds.system.remarks, *lint(column.bounds)])
            if (remark.code, remark.key) not in known and remark.code != "timer-set-anew"
        ]  # the tables show that
        known |= {(remark.code, remark.key) for remark in told}
        warn(replace(remark, key=f"{named}{remark.key}") for remark in told)


def show_comparison(found: Comparison, *, every: bool = False) -> None:
    """What differs in the models, then what differs in the figures."""
    from tachys.cli.output import heading, say

    heading(f"{count_text(len(found.columns), 'column')} beside each other; ↑ and ↓ against the first")
    named = [f"  column {place + 1}: {name}" for place, name in enumerate(found.columns) if _short(name, place) != name]
    say(*named, *[""] * bool(named))
    if found.changed:
        heading("What differs in the models")
        _tables(found, [_changed_row(each) for each in found.changed], ("key",))
    elif len(found.columns) > 1:
        say("The models are the same.", "")
    rows = [row for row in found.rows if every or row.differs or row.about == "needs"]
    left = len(found.rows) - len(rows)
    if rows:
        heading("What that makes of the figures")
        _tables(found, [_figure_row(row, every) for row in rows], ("what", "figure"))
    else:
        say("No figure differs.")
    if left:
        say(f"{count_text(left, 'figure')} the same everywhere: --all shows them too.")


Cells = tuple[list[str], list[str | Verdict]]


def _tables(found: Comparison, rows: Sequence[Cells], titles: Sequence[str]) -> None:
    """At most four columns beside each other, the first with each."""
    from tachys.cli.output import table

    count = len(found.columns)
    for first in range(1, max(count, 2), BESIDE - 1):
        places = [0, *range(first, min(first + BESIDE - 1, count))]
        names = [_short(found.columns[place], place) for place in places]
        table([*((title, "") for title in titles), *((name, "right") for name in names)],
              [[*head, *(cells[place] for place in places)] for head, cells in rows])  # fmt: skip


def _short(name: str, place: int) -> str:
    return name if len(name) <= _LONGEST else f"column {place + 1}"


def _changed_row(each: Changed) -> Cells:
    return [each.key], [NONE if value is None else value for value in each.values]


def _figure_row(row: Row, every: bool) -> Cells:
    mark = "* " * (every and row.differs)
    first = row.values[0]
    cells: list[str | Verdict] = [_text(row, value) for value in row.values]
    for place, value in enumerate(row.values[1:], 1):
        if value == first or row.kind == "word":
            continue
        above = _rank(value) > _rank(first)
        cells[place] = f"{cells[place]} {'↑' if above else '↓'}"
    return [f"{mark}{row.about}", row.quantity], cells


def _rank(value: Value) -> float:
    return -1.0 if value is None else float("inf") if isinstance(value, str) else value


def _text(row: Row, value: Value) -> str | Verdict:
    if value is None:
        return NONE
    if isinstance(value, str):
        return _VERDICTS.get(value, value)
    rounding = "near" if row.quantity.endswith(("seen", "played")) or row.quantity in ("limit", "period") else "up"
    if row.kind == "time":
        return time_text(round(value * PS), rounding)
    if row.kind == "current":
        return amperes_text(Fraction(value), rounding)
    if row.kind == "life":
        return life_text(Fraction(value), "down" if rounding == "up" else rounding)
    return share_text(Fraction(value), rounding) if row.kind == "share" else f"{value:g}"
