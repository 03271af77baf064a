"""``tachys headroom``: how far each figure of a model can move before a need falls, and what would mend one."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

import click

from tachys.cli.completion import names_of
from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import format_option
from tachys.cli.parameters import SHARE
from tachys.cli.working import processes_option
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, count_text, share_text

if TYPE_CHECKING:
    from tachys.spreading import Workers
    from tachys.trying.headroom import Headroom, Mend, Room

Row = list[str | Verdict]
MOST_MENDS = 5


@click.command("headroom")
@click.argument("model", type=click.Path())
@click.argument("keys", nargs=-1, metavar="[KEY...]", shell_complete=names_of("isr", "step", "source", "unit"))
@click.option("--keep", type=SHARE, metavar="SHARE", help="End with status 1 if some figure has less room than that.")
@processes_option
@model_options
@format_option
def headroom_command(
    model: str, keys: tuple[str, ...], keep: Fraction | None, workers: Workers, changes: Changes, shape: str
) -> int:
    """How far each cost, guard, gap, period and clock of MODEL can move alone before a need falls on paper.

    A KEY such as isr.rx or isr.rx.cost asks for its figures alone. For needs that do not hold: the smallest single
    changes that would mend them. Every amount was put into the model and its bounds worked out.
    """
    from tachys.cli.output import print_csv, print_json, progress_bar, warn
    from tachys.trying.headroom import headroom_data, headroom_of

    system = changes.load(model)
    warn(system.remarks)
    with progress_bar("trying") as told:
        found = headroom_of(changes.points(model), keys, told, workers=workers)
    if shape == "json":
        print_json(headroom_data(found))
    elif shape == "csv":
        print_csv(("key", "now", "last that holds", "room", "falls", "why"),
                  [[room.key, str(room.now), None if room.last is None else str(room.last), room.share,
                    " ".join(room.falls), room.why or room.wrong or None] for room in found.rooms])  # fmt: skip
    else:
        show_headroom(found, titled(system, model))
    little = keep is not None and (
        bool(found.fallen) or any(room.share is not None and room.share < keep for room in found.rooms)
    )
    return int(little)


def show_headroom(found: Headroom, title: str) -> None:
    """The nearest figure first, then what would mend the needs that do not hold."""
    from tachys.cli.output import heading, say, table
    from tachys.trying.headroom import MENDED

    heading(f"{title}: how far each figure can move alone, nearest first")
    if found.fallen:
        more = f" and {len(found.fallen) - MENDED} more" if len(found.fallen) > MENDED else ""
        verb = "does" if len(found.fallen) == 1 else "do"
        say(f"On paper {', '.join(found.fallen[:MENDED])}{more} {verb} not hold as it is; the room is that of the "
            "others.", "")  # fmt: skip
    if not found.held:
        words = "No need holds" if found.fallen else "The model has no needs"
        say(f"{words}, so there is no room to speak of.", "")
    elif found.rooms:
        table([("figure", ""), ("now", "right"), ("holds to", "right"), ("room", "right"), ("then falls", ""),
               ("mostly made of", "")], [_room_row(room) for room in found.rooms])  # fmt: skip
        for note in dict.fromkeys(room.note for room in found.rooms if room.note):
            of = ", ".join(room.key for room in found.rooms if room.note == note)
            say(f"  {of}: {note}.")
        if any(room.key.endswith(".2") for room in found.rooms):
            say("  KEY.2 is the most of a range; the least stays.")
        for room in found.rooms:
            if room.unsteady:
                say(f"  {room.key}: not steady; the first place where a need falls is shown, further on it may hold.")
    for need in found.fallen[:MENDED]:
        _show_mends([mend for mend in found.mends if mend.need == need], need)
    if len(found.fallen) > MENDED:
        say(f"What would mend the other {len(found.fallen) - MENDED} was not looked for: mend these first.")


def _room_row(room: Room) -> Row:
    if room.last is None:
        return [room.key, str(room.now), "no limit", NONE, "nothing", ""]
    share = Fraction(room.share or 0)
    words = share_text(share, "down") if share < 1 else f"{int(share * 100)} %"
    falls = ", ".join(room.falls[:2]) + (f" +{len(room.falls) - 2}" if len(room.falls) > 2 else "")
    return [room.key, str(room.now), str(room.last), f"{'+' if room.up else '-'}{words}", falls or "no model",
            room.why.rpartition(": ")[2].partition(", ")[0] or room.wrong]  # fmt: skip


def _show_mends(mends: list[Mend], need: str) -> None:
    from tachys.cli.output import heading, say, table

    if not mends:
        say(f"No single change that was tried mends {need}: tachys priorities, or several at once.")
        return
    heading(f"What alone would mend {need}, the smallest change first")
    rows: list[Row] = [
        [mend.key, mend.now, mend.becomes, NONE if mend.share == 1.0 else share_text(Fraction(mend.share), "up")]
        for mend in mends[:MOST_MENDS]
    ]
    table([("figure", ""), ("now", "right"), ("becomes", "right"), ("change", "right")], rows)
    first = next((mend for mend in mends if len(mend.settings) == 1), None)
    if first is not None:
        key, _, value = first.settings[0].partition("=")
        say(f'To see it: tachys bounds … --set {key}="{value}"')
    if len(mends) > MOST_MENDS:
        say(f"{count_text(len(mends) - MOST_MENDS, 'way')} more: --format json")
