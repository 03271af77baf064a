"""``tachys fit``: measured figures back into the model file, each change shown first."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import click
from msgspec.structs import asdict

from tachys.cli.capturing import Given, shape_options
from tachys.cli.output import two_formats_option
from tachys.cli.parameters import SHARE
from tachys.needs.verdicts import Verdict

Row = list[str | Verdict]


@click.command("fit")
@click.argument("model", type=click.Path())
@click.argument("captures", type=click.Path(), nargs=-1, required=True, metavar="CAPTURE...")
@click.option("--margin", type=SHARE, default="0 %", show_default=True, help="Room on top of what was measured.")
@click.option("--tighten", is_flag=True, help="Also make figures more optimistic, as far as was measured.")
@click.option("--write", is_flag=True, help="Write the changes into MODEL; without it they are only shown.")
@shape_options
@two_formats_option
def fit_command(
    model: str, captures: tuple[str, ...], margin: Fraction, tighten: bool, write: bool, given: Given,
    shape: str,
) -> int:  # fmt: skip
    """Correct MODEL from what CAPTUREs show: figures that they refute are widened, the file keeps its comments.

    What was seen is no proof that nothing worse comes: no figure is made tighter without --tighten.
    """
    import datetime

    from tachys.checking.correct.fitting import fit
    from tachys.cli.output import print_json, say, table
    from tachys.files import read_text, write_whole
    from tachys.model.loading import LARGEST_MODEL

    text = read_text(model, "model", LARGEST_MODEL)
    read = [given.read(path) for path in captures]
    today = datetime.date.today().isoformat()
    fitted = fit(text, model, read, today, margin=margin, tighten=tighten)
    falls, rises = _what_follows(text, fitted.text, model)
    if fitted.changes and write:
        write_whole(Path(model), fitted.text)
    if shape == "json":
        print_json({
            "format": "tachys.fit/1", "changes": [asdict(change) for change in fitted.changes],
            "left": list(fitted.left), "falls": falls, "rises": rises, "written": bool(fitted.changes and write),
        })  # fmt: skip
        return 0
    rows: list[Row] = [[change.key, change.was, change.becomes, change.why] for change in fitted.changes]
    if rows:
        table([("figure", ""), ("was", ""), ("becomes", ""), ("why", "")], rows)
    else:
        say("Nothing to change: the captures refute no figure of the model.")
    for line in fitted.left:
        say(f"Left to you: {line}.")
    if fitted.changes:
        _show_what_follows(falls, rises, model)
        say(f"written: {model}" if write else "Nothing is written yet: --write puts this into the file.")
    return 0


def _what_follows(before: str, after: str, model: str) -> tuple[list[str], list[str]]:
    """The needs that hold on paper with the old figures and not with the new ones, and the other way round."""
    from tachys.model.loading import read_model
    from tachys.worstcase.analysis import bounds

    if before == after:
        return [], []
    old, new = (bounds(read_model(text, model)) for text in (before, after))
    falls = [name for name in old.needs if old.needs[name].proved and not new.needs[name].proved]
    rises = [name for name in old.needs if new.needs[name].proved and not old.needs[name].proved]
    return falls, rises


def _show_what_follows(falls: list[str], rises: list[str], model: str) -> None:
    from tachys.cli.output import say

    if falls:
        say(f"With these figures {', '.join(falls)} no longer {'holds' if len(falls) == 1 else 'hold'} on paper: "
            f"tachys bounds {model} --why {falls[0]} after it is written.")  # fmt: skip
    if rises:
        say(f"With these figures {', '.join(rises)} {'holds' if len(rises) == 1 else 'hold'} on paper.")
    if not falls and not rises:
        say("No need changes on paper.")
