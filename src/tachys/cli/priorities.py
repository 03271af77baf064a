"""``tachys priorities``: levels and orders with which every need holds."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import format_option
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, count_text

if TYPE_CHECKING:
    from tachys.trying.priorities import Priorities

Row = list[str | Verdict]


@click.command("priorities")
@click.argument("model", type=click.Path())
@click.option("--most-room", is_flag=True, help="Not the fewest changes, but the most room in the need that has least.")
@click.option("--tries", type=click.IntRange(10, 10**6), default=4000, show_default=True,
              help="How many assignments are looked at, at most.")  # fmt: skip
@click.option("--write", is_flag=True, help="Write the changes into MODEL; its comments stay.")
@model_options
@format_option
def priorities_command(model: str, most_room: bool, tries: int, write: bool, changes: Changes, shape: str) -> int:
    """Levels and orders of the routines of MODEL with which every need holds on paper, with as few changes as can be.

    Or why there are none. What is shown was put into the model and its bounds worked out. The status is 1 where a
    need does not hold.
    """
    from tachys.cli.output import print_csv, print_json, progress_bar, say, warn
    from tachys.errors import InternalError
    from tachys.files import write_whole
    from tachys.model.loading import ModelText
    from tachys.trying.priorities import priorities_data, priorities_of
    from tachys.trying.writing import with_values
    from tachys.worstcase.analysis import bounds

    if write and changes != Changes():
        raise click.UsageError("--write changes the model as it stands: without --variant, --costs and --set")
    text = ModelText.load(model)
    system = text.system(changes.variants, changes.settings, changes.costs)
    warn(system.remarks)
    with progress_bar("trying") as told:
        found = priorities_of(system, most_room=most_room, tries=tries, told=told)
    after = bounds(text.system(changes.variants, (*changes.settings, *found.settings), changes.costs))
    if found.found != all(need.proved for need in after.needs.values()):
        raise InternalError("what was found does not hold when it is read from the model")
    if shape == "json":
        print_json(priorities_data(found))
    elif shape == "csv":
        print_csv(("isr", "level", "becomes", "order", "becomes"),
                  [[each.isr, *each.level, *each.order] for each in found.moved])  # fmt: skip
    else:
        show_priorities(found, titled(system, model))
    if write and found.moved:
        values: dict[tuple[str, ...], int] = {
            ("isr", each.isr, key): now
            for each in found.moved
            for key, (was, now) in (("level", each.level), ("order", each.order))
            if was != now
        }
        write_whole(model, with_values(text.text, values))
        if shape == "table":
            say(f"written: {model}")
    elif found.moved and shape == "table":
        tried = " ".join(f"--set {setting}" for setting in found.settings)
        say(f"Nothing is written yet: --write puts it into the file; to look at it: tachys bounds {model} {tried}")
    return int(not found.found)


def show_priorities(found: Priorities, title: str) -> None:
    """What changes, and every need before and after."""
    from tachys.cli.output import heading, say, table

    words = "every need holds" if found.found else "not every need holds"
    heading(f"{title}: {words}")
    said = found.told[:1].upper() + found.told[1:]
    say(f"{said} ({count_text(found.tried, 'assignment')} looked at).", "")
    if found.moved:
        rows: list[Row] = [[f"isr.{each.isr}", *_both(each.level), *_both(each.order)] for each in found.moved]
        table([("routine", ""), ("level", "right"), ("becomes", "right"), ("order", "right"), ("becomes", "right")],
              rows)  # fmt: skip
    needs: list[Row] = [[need.name, _room(need.before), _room(need.after)] for need in found.rooms]
    if found.moved:
        table([("need", ""), ("room before", "right"), ("after", "right")], needs)
    elif needs:
        table([("need", ""), ("room", "right")], [row[:2] for row in needs])


def _both(pair: tuple[int, int]) -> tuple[str, str]:
    return str(pair[0]), str(pair[1]) if pair[0] != pair[1] else "same"


def _room(room: float | None) -> str:
    return NONE if room is None else f"{room * 100:.1f} %"
