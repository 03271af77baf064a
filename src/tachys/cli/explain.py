"""``tachys explain``: one miss or one finding taken apart, as text and as a drawing of that moment."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

import click

from tachys.checking.out.telling import consequence_text, finding_text
from tachys.cli.capturing import Given, shape_options
from tachys.cli.completion import names_of
from tachys.cli.modelling import Changes, laid_over, model_options
from tachys.cli.output import two_formats_option
from tachys.cli.parameters import INSTANT
from tachys.cli.playing import length_of
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, exact_time, instant_text, time_text

if TYPE_CHECKING:
    from tachys.checking.out.explaining import Explained
    from tachys.checking.result import CheckResult
    from tachys.drawing.scene import Scene

Row = list[str | Verdict]
MOST_ROWS = 24


@click.command("explain")
@click.argument("model", type=click.Path())
@click.argument("capture", type=click.Path(allow_dash=True))
@click.argument("what", required=False, metavar="[NEED|NUMBER]", shell_complete=names_of("need"))
@click.option("--at", "instant", type=INSTANT, help="Of a need: the event nearest to this instant of the capture.")
@click.option("-o", "--output", help="Draw the moment too: .png, .svg or .pdf.")
@shape_options
@model_options
@two_formats_option
def explain_command(
    model: str, capture: str, what: str | None, instant: Fraction | None, output: str | None, given: Given,
    changes: Changes, shape: str,
) -> int:  # fmt: skip
    """One miss of CAPTURE taken apart: who ran, who held interrupts off, and what the bound expects instead.

    A NUMBER is that finding of tachys check; a NEED its worst miss. Without either: the first finding, or else the
    need that came closest to its limit.
    """
    from tachys.checking.checking import check
    from tachys.checking.out.export import explained_data
    from tachys.cli.output import print_json, say
    from tachys.files import write_whole

    form = _form(output)
    result = check(changes.load(model), given.read(capture))
    explained = found_in(result, what, None if instant is None else length_of(instant), model)
    if shape == "json":
        print_json(explained_data(explained))
    else:
        _show(explained.result, explained, model)
    if output is not None:
        from tachys.drawing.figure import draw_scenes

        write_whole(output, draw_scenes([scene_of(explained)], form))
        if shape == "table":
            say(f"drawn: {output}")
    return 0


def scene_of(explained: Explained) -> Scene:
    """The moment that is explained."""
    from tachys.drawing.scene import Moment, scene_of_capture

    moment = Moment(*explained.window, explained.need, explained.title)
    return scene_of_capture(explained.result, moment, (explained.waiting, explained.begin, explained.end))


def _form(output: str | None) -> str:
    from tachys.drawing.figure import form_of

    return "png" if output is None else form_of(output)


def found_in(result: CheckResult, what: str | None, at: int | None, model: str) -> Explained:
    """A finding by its number or the worst miss of a need by its name; without either, what is worth a look first."""
    from tachys.checking.out.explaining import explain_finding, explain_need
    from tachys.errors import did_you_mean, input_error

    if what is None:
        if result.findings and at is None:
            return explain_finding(result, 1)
        what = _closest(result)
    if what is None:
        raise input_error(result.capture.file, "there is nothing to explain", "no need of the model was seen in it")
    if what.isdecimal():
        try:
            return explain_finding(result, int(what))
        except IndexError:
            count = len(result.findings)
            mend = f"there are {count}, from 1" if count else "the check has none: name a need"
            raise input_error(result.capture.file, f"there is no finding {what}", mend) from None
    name = what.removeprefix("need.")
    if name not in result.needs:
        raise input_error(model, f'there is no need "{what}"', did_you_mean(name, list(result.needs), "need"))
    try:
        return explain_need(result, name, at)
    except LookupError:
        raise input_error(result.capture.file, f"nothing of need.{name} was seen", "a probe would show it") from None


def _closest(result: CheckResult) -> str | None:
    """The need that is missed most, or else that came closest to its limit."""
    seen = {name: need for name, need in result.needs.items() if need.misses or need.worst_at is not None}
    if not seen:
        return None

    def share(name: str) -> tuple[int, float]:
        need = seen[name]
        return len(need.misses), float(need.value or 0) / max(float(need.limit), 1e-9)

    return max(seen, key=share)


def _show(result: CheckResult, explained: Explained, model: str) -> None:
    from tachys.cli.output import heading, say, say_as_is, table, terminal_width
    from tachys.drawing.text import text_lines

    heading(f"{explained.title}{laid_over(result.bounds.system)}")
    if explained.finding is not None:
        say(f"{finding_text(explained.finding)}.")
        more = consequence_text(explained.finding, result)
        if more:
            say(f"{more[0].upper()}{more[1:]}.")
    total, known_to = explained.end - explained.begin, result.capture.known_to
    if explained.stretches:
        limit = "" if explained.limit is None else f", limit {time_text(explained.limit)}"
        over = (
            ""
            if explained.limit is None or total <= explained.limit
            else f": {time_text(total - explained.limit)} late"
        )
        span = f"From {instant_text(explained.begin)} to {instant_text(explained.end)}"
        say(f"{span}: {exact_time(total, known_to)}{limit}{over}", "")
        rows: list[Row] = [
            [instant_text(part.begin), exact_time(part.end - part.begin, known_to), _words(part.how, part.what)]
            for part in explained.stretches[:MOST_ROWS]
        ]
        rows.append(["together", exact_time(total, known_to), ""])
        table([("from", "right"), ("lasts", "right"), ("what", "")], rows)
        if len(explained.stretches) > MOST_ROWS:
            say(f"  … and {len(explained.stretches) - MOST_ROWS} stretches more.")
        _show_causes(explained)
    elif explained.finding is not None:
        _show_figures_of(result, explained.finding.about)
    say_as_is(text_lines(scene_of(explained), terminal_width()))
    say("", _then(explained, result, model))


def _show_figures_of(result: CheckResult, about: str) -> None:
    """What the model says of a thing beside what was measured."""
    from tachys.cli.check import FIGURE_COLUMNS, figure_row
    from tachys.cli.output import table

    rows = [figure_row(each, result.bounds.system.core) for each in result.figures if each.about == about]
    if rows:
        table(FIGURE_COLUMNS, rows)


def _show_causes(explained: Explained) -> None:
    """What each did in all, beside what the bound expects of it."""
    from tachys.cli.output import table

    rows: list[Row] = []
    bounded = explained.bound is not None and explained.bound.most is not None
    for cause in explained.causes:
        expected = time_text(cause.expected) if bounded and cause.what else NONE
        rows.append([_words(cause.how, cause.what), time_text(cause.time), expected])
    if bounded:
        assert explained.bound is not None
        rows.append(["the whole bound", NONE, time_text(explained.bound.most, "up")])
    table([("in all", ""), ("measured", "right"), ("the model allows", "right")], rows)


def _words(how: str, what: str) -> str:
    if how == "ran":
        return f"{what} runs"
    if how == "held off":
        return f"held off while {what} runs"
    if how == "unseen":
        return "nothing that has a line runs (the loop, asleep, or unknown)"
    return "waking, entry, exit"


def _then(explained: Explained, result: CheckResult, model: str) -> str:
    capture = result.capture.file
    if explained.finding is not None and explained.finding.code.startswith(("guard", "cost", "takes", "period", "gap")):
        return f"Put the measured figure into the model: tachys fit {model} {capture}"
    return f"As a picture: tachys explain {model} {capture} -o moment.png"
