"""``tachys sweep``: one or two figures of a model moved over a range."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.completion import keys_of
from tachys.cli.modelling import Changes, model_options
from tachys.cli.output import INTERRUPTED, format_option
from tachys.cli.parameters import TIME
from tachys.cli.playing import length_of
from tachys.cli.working import workers_options
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, count_text, share_text

if TYPE_CHECKING:
    from tachys.spreading import Workers
    from tachys.trying.amounts import Range
    from tachys.trying.points import Model
    from tachys.trying.sweeping import Break, Sweep

MOST_ROWS = 40
WIDEST_MAP = 64
FORMS = ("csv", "parquet", "json", "png", "svg", "pdf")
Row = list[str | Verdict]


@click.command("sweep")
@click.argument("model", type=click.Path())
@click.option(
    "--over",
    multiple=True,
    required=True,
    metavar="KEY=A..B/20",
    shell_complete=keys_of,
    help="A key and its values: A..B/20 (even), A..B/x20 (equal factors), A,B,C; at most two.",
)
@click.option("--play", type=TIME, metavar="TIME", help="Also play each point for so long.")
@click.option("-o", "--output", "outputs", multiple=True, type=click.Path(),
              help="Write .csv, .parquet or .json, draw .png, .svg or .pdf; may be given several times.")  # fmt: skip
@workers_options
@model_options
@format_option
def sweep_command(
    model: str, over: tuple[str, ...], play: Fraction | None, outputs: tuple[str, ...], workers: Workers,
    changes: Changes, shape: str,
) -> int:  # fmt: skip
    """Bounds, verdicts and load of MODEL at every point of a range, and where the first need falls.

    A sweep that writes a .csv, .parquet or .json keeps what is done beside it, and goes on from there when stopped.
    """
    from tachys.cli.output import print_csv, print_json, progress_bar
    from tachys.trying.sweeping import columns_of, rows_of, sweep, sweep_data

    ranges = _ranges(over)
    forms = {path: _form(path) for path in outputs}
    given = changes.points(model, None if play is None else length_of(play))
    table = next((path for path, form in forms.items() if form in ("csv", "parquet", "json")), None)
    kept = None if table is None else Path(f"{table}.part")
    _warn(given, ranges)
    with progress_bar("sweeping") as told:
        found = sweep(given, ranges, workers=workers, kept=kept, told=told)
    if shape == "json":
        print_json(sweep_data(found))
    elif shape == "csv":
        print_csv(columns_of(found), rows_of(found))
    else:
        show_sweep(found, model)
    if not found.complete:
        return INTERRUPTED
    _write(found, forms, told=shape == "table")
    found.outcomes.close(gone=True)
    return 0


def _ranges(over: tuple[str, ...]) -> list[Range]:
    from tachys.trying.amounts import read_range
    from tachys.trying.sweeping import MOST_POINTS

    if len(over) > 2:
        raise click.UsageError("--over: at most two keys are moved at once")
    try:
        found = [read_range(text) for text in over]
    except ValueError as error:
        raise click.UsageError(f"--over: {error}") from None
    count = 1
    for each in found:
        count *= len(each.values)
    if count > MOST_POINTS:
        raise click.UsageError(f"--over: {count} points; at most {MOST_POINTS}")
    if len({each.key for each in found}) < len(found):
        raise click.UsageError(f"--over: {found[0].key} is named twice")
    return found


def _warn(model: Model, over: list[Range]) -> None:
    """What is said of the first point that is a model, and what a clock that moves takes with it."""
    from tachys.cli.output import warn
    from tachys.errors import InputError
    from tachys.trying.points import Tried
    from tachys.trying.sweeping import settings_of

    tried = Tried(model)
    for place in (0, -1):
        try:
            remarks = tried.system(settings_of(over, [each.values[place] for each in over])).remarks
        except InputError:
            continue
        warn(remark for remark in remarks if remark.code != "timer-set-anew")
        return


def _form(path: str) -> str:
    from tachys.errors import input_error

    form = Path(path).suffix.lower().removeprefix(".")
    if form not in FORMS:
        raise input_error(path, "its ending tells no form", f"end it in .{', .'.join(FORMS[:-1])} or .{FORMS[-1]}")
    return form


def _write(found: Sweep, forms: dict[str, str], *, told: bool) -> None:
    from tachys.cli.output import csv_lines, say
    from tachys.files import write_whole, written_whole
    from tachys.frames import write_parquet
    from tachys.trying.sweeping import columns_of, rows_of, sweep_pieces, types_of

    for path, form in forms.items():
        if form in ("csv", "json", "parquet"):
            with written_whole(path) as stream:
                if form == "parquet":
                    write_parquet(stream, path, columns_of(found), types_of(found), rows_of(found))
                else:
                    pieces = sweep_pieces(found) if form == "json" else csv_lines(columns_of(found), rows_of(found))
                    stream.writelines(piece.encode() for piece in pieces)
        else:
            from tachys.drawing.swept import draw_sweep

            write_whole(path, draw_sweep(found, form))
        if told:
            say(f"{'drawn' if form in ('png', 'svg', 'pdf') else 'written'}: {path}")


def show_sweep(found: Sweep, model: str) -> None:
    """Every point in a line, or two keys as a map; then where it breaks."""
    from tachys.cli.output import heading, say

    keys = " and ".join(each.key for each in found.over)
    stopped = "" if found.complete else f"; stopped, {len(found.outcomes)} of them are done"
    heading(f"{model} over {keys}: {count_text(len(found.points), 'point')}{stopped}")
    if len(found.over) == 2:
        _show_map(found)
    else:
        _show_points(found)
    for each in found.breaks:
        say(_break_text(each))
    if len(found.over) == 1 and not found.breaks and found.complete:
        if not found.needs:
            say("The model has no needs that could fall.")
        elif all(outcome.holds for outcome in found.outcomes):
            say("Every need holds on paper at every point.")
        elif not any(outcome.holds for outcome in found.outcomes):
            say("At no point does every need hold on paper.")
    if not found.complete:
        say("Run it again with the same -o to go on from here.")


def _break_text(each: Break) -> str:
    names = ", ".join(each.needs)
    verb = "falls" if len(each.needs) == 1 else "fall"
    side = "up to" if each.rising else "from"
    why = f": {each.why}" if each.why else ""
    return f"holds {side} {each.holds}; at {each.falls} {names} {verb}{why}."


def _show_points(found: Sweep) -> None:
    from tachys.cli.output import say, table

    every = -(-len(found.outcomes) // MOST_ROWS)
    always = found.always_lost
    rows = list(_point_rows(found))
    columns = [(found.over[0].key, "right"), ("load", "right"), ("least room", "right"), ("of", ""),
               ("needs that fall", ""), ("may be lost", "")]  # fmt: skip
    if any(need.played is not None for outcome in found.outcomes for need in outcome.needs.values()):
        columns.append(("missed as played", ""))
    else:
        rows = [row[:-1] for row in rows]
    table(columns, rows[::every] if every > 1 else rows)
    if always:
        say(f"May be lost at every point: {', '.join(sorted(always))}.")
    if every > 1:
        say(f"Every {every}th point is shown; --format csv, or -o FILE, tells of all.")


def _point_rows(found: Sweep) -> Iterator[Row]:
    always = found.always_lost
    for point, outcome in zip(found.points, found.outcomes, strict=False):
        if outcome.wrong:
            yield [*point, NONE, NONE, "", f"no model: {outcome.wrong}", "", ""]
            continue
        rooms = [(need.room, name) for name, need in outcome.needs.items() if need.room is not None]
        least, name = min(rooms, default=(None, ""))
        lost = [each for each in outcome.lost if each not in always]
        missed = [name for name, need in outcome.needs.items() if need.verdict == Verdict.MISSED]
        yield [*point, share_text(Fraction(outcome.load or 0), "up"),
               NONE if least is None else share_text(Fraction(least), "down"), name,
               ", ".join(outcome.falls), ", ".join(lost), ", ".join(missed)]  # fmt: skip


def _show_map(found: Sweep) -> None:
    from tachys.cli.output import say, say_as_is
    from tachys.drawing.swept import cell_of, letters_of

    rows, columns = found.over
    letters = letters_of(found)
    width = len(columns.values)
    edge = max(map(len, rows.values))
    if width > WIDEST_MAP:
        say("The map is too wide for a screen: -o FILE.png draws it, --format csv lists it.")
        return
    lines = [
        f"{value:>{edge}}  {''.join(cell_of(found, number * width + k, letters) for k in range(width))}".rstrip()
        for number, value in enumerate(rows.values)
    ]
    say_as_is([f"{rows.key} down; {columns.key} to the right, from {columns.values[0]} to {columns.values[-1]}",
               *lines])  # fmt: skip
    wrong = {outcome.wrong for outcome in found.outcomes if outcome.wrong}
    told = [f"{letter} {name} falls" for name, letter in letters.items()]
    say("", "; ".join([". every need holds", *told, *["! no model there"] * bool(wrong)]), *sorted(wrong)[:3])
