"""``tachys energy``: the average supply current, who causes it, how long a battery lasts, and what would save most."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

import click

from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import format_option
from tachys.cli.parameters import TIME
from tachys.cli.playing import length_of, play_options, ways_of
from tachys.words import NONE, amperes_text, charge_text, known_text, life_text, share_text, time_text

if TYPE_CHECKING:
    from tachys.checking.board.metering import Metered
    from tachys.energy.saving import Saving
    from tachys.model.nodes import Amperes
    from tachys.model.system import System
    from tachys.needs.verdicts import Verdict
    from tachys.worstcase.supply import Supply

Row = list["str | Verdict"]
DAY = 86_400
MOST_SAVINGS = 3
_DOING = {"run": "running", "spin": "spinning", "wake": "waking", "sleep": "asleep", "unit": "at work", "pin": "high"}


@click.command("energy")
@click.argument("model", type=click.Path())
@click.argument("captures", nargs=-1, type=click.Path(), metavar="[CAPTURE...]")
@click.option("--for", "length", type=TIME, default="100 s", show_default=True, help="How long to play.")
@click.option("-o", "--output", type=click.Path(), help="Draw who causes it: .png, .svg or .pdf.")
@click.option("--no-savings", is_flag=True, help="Try no changes.")
@play_options
@model_options
@format_option
def energy_command(
    model: str, captures: tuple[str, ...], length: Fraction, output: str | None, no_savings: bool, bodies: str,
    phases: str, arrivals: str, clocks: str, seed: int, changes: Changes, shape: str,
) -> int:  # fmt: skip
    """The average supply current of MODEL: least and most on paper, played, and as far as each CAPTURE shows its load.

    By state and by who causes it; with a [battery] how long that lasts; and the changes that save most, each made and
    played: variants, depths of sleep, nothing that wakes for nothing, each figure a tenth better; and what falls by it.
    """
    from tachys.capture.reading import read_capture
    from tachys.checking.checking import check
    from tachys.cli.output import print_csv, print_json, progress_bar, say, warn
    from tachys.drawing.figure import form_of
    from tachys.drawing.supply import draw_supply
    from tachys.energy.current import on_capture, on_paper
    from tachys.energy.export import energy_data
    from tachys.energy.saving import average_of, savings
    from tachys.errors import input_error
    from tachys.files import write_whole
    from tachys.frames import PS
    from tachys.model.loading import ModelText
    from tachys.simulation.waking import longest_wake_up
    from tachys.worstcase.analysis import bounds

    form = None if output is None else form_of(output)
    text = ModelText.load(model)
    system = text.system(changes.variants, changes.settings, changes.costs)
    warn(system.remarks)
    bound, ways, until = bounds(system), ways_of(system, bodies, phases, arrivals, clocks, seed), length_of(length)
    paper, play = on_paper(system, found=bound), average_of(bound, until, ways)
    results = {path: check(system, read_capture(path), bound) for path in captures}
    seen = {path: on_capture(result) for path, result in results.items()}
    shown = {path: result.metered for path, result in results.items() if result.metered is not None}
    found: list[Saving] = []
    if not no_savings:
        laid = changes.variants, changes.settings, changes.costs
        with progress_bar("trying changes") as told:
            found = savings(text, laid, bound, until, ways, told)
    if shape == "json":
        print_json(energy_data(system, until, paper, play, seen, found, shown))
    elif shape == "csv":
        print_csv(("what", "name", "share played", "coulombs played", "amperes least", "amperes most"),
                  list(_csv_rows(paper, play)))  # fmt: skip
    else:
        show_energy(system, titled(system, model), until, paper, play, seen, shown)
        _show_savings(play, found)
    if output is not None and form is not None:
        if play.average is None:
            raise input_error(model, "nothing to draw: the average is not known", "give each state its current")
        awake = longest_wake_up(system, ways, until, play.wakes)
        write_whole(output, draw_supply(titled(system, model), play, paper, Fraction(until, PS), form, awake))
        if shape == "table":
            say(f"Wrote {output}.")
    return 0


def _csv_rows(paper: Supply, play: Supply) -> list[list[object]]:
    rows: list[list[object]] = []
    for what, on_paper, in_play in (("state", paper.states, play.states), ("cause", paper.causes, play.causes)):
        for name in dict.fromkeys((*in_play, *on_paper)):
            part, bound = in_play.get(name), on_paper.get(name)
            seen = (part.share[0], part.charge[1]) if part else (0, 0)
            rows.append([what, name, *map(float, seen), *(map(float, bound.charge) if bound else (None, None))])
    return rows


def show_energy(
    system: System, title: str, length: int, paper: Supply, play: Supply, seen: dict[str, Supply | None],
    shown: dict[str, Metered],
) -> None:  # fmt: skip
    """The average and the life, then state by state, then who causes it, then what was measured."""
    from tachys.cli.output import heading, say, table

    heading(f"{title}: supply current")
    columns = [("", ""), ("least", "right"), ("seen" if shown else "played", "right"), ("most", "right")]
    rows = [["average", *_ends(paper.average, play.average)]]
    for path, each in seen.items():
        ends = [NONE] * 3 if each is None else _ends(each.average, None)
        rows.append([f"by the load in {path}", *ends])
    rows += [[f"measured in {path}", *_within(column.average, column.average_off)] for path, column in shown.items()]
    if system.battery is not None:
        rows.append(["battery lasts", *_lasts(system, paper.average, play.average)])
    if play.wakes:
        awake = sum(
            (part.charge[1] for state, part in play.states.items() if not state.startswith("sleep")), Fraction(0)
        )
        each_time = charge_text(awake / (play.wakes * Fraction(length, 10**12)))
        rows.append(["each wake-up takes", NONE, each_time, NONE])
    table(columns, rows)
    say("  Least and most: what the model allows in the long run.")
    missing = tuple(dict.fromkeys((*paper.missing, *play.missing)))
    if missing:
        states = ", ".join(missing)
        first = f'[core] current = {{ {missing[0]} = "1 mA" }}'
        if missing[0].startswith("sleep."):
            first = f'[{missing[0]}] current = "1 uA"'
        say(f"  Unknown: no current is given for {states}; write {first}.")
    if any(each is None for each in seen.values()):
        say("  A capture shows the load where every routine and step has a line, or one shows idle.")
    heading(f"State by state, {time_text(length)} played")
    _table_of("state", paper, play, length, causes=False)
    heading("Who causes it")
    _table_of("cause", paper, play, length, causes=True)
    for path, column in shown.items():
        heading(f"Measured in {path}, {time_text(column.length)}")
        _show_measured(system, column)


def _within(value: Fraction, off: Fraction) -> list[str]:
    """A measured current as least, middle and most."""
    return [amperes_text(max(Fraction(0), value - off), "down"), amperes_text(value), amperes_text(value + off, "up")]


def _show_measured(system: System, shown: Metered) -> None:
    """What each state takes as measured, beside the model; then who was on top as it was taken."""
    from tachys.cli.output import say, table
    from tachys.worstcase.supply import currents_of

    modelled, rows = currents_of(system), list[Row]()
    for name in dict.fromkeys((*modelled, *shown.states)):
        model, state = modelled.get(name), shown.states.get(name)
        told = [NONE] * 3 if state is None else [
            *known_text(Fraction(state.mean), Fraction(state.off)), str(state.count)
        ]  # fmt: skip
        rows.append([name, NONE if model is None else _played(model), *told])
    table([("state", ""), *((name, "right") for name in ("model", "measured", "known to", "values"))], rows)
    if shown.why:
        say(f"  Unknown: {shown.why}.")
    rows = [
        [name or "nothing with a line", share_text(Fraction(share)), charge_text(Fraction(charge)),
         share_text(Fraction(charge / shown.charge)) if shown.charge > 0 else NONE]
        for name, (share, charge) in sorted(shown.causes.items(), key=lambda item: -item[1][1])
    ]  # fmt: skip
    table([("on top", ""), ("of the time", "right"), ("charge", "right"), ("share", "right")], rows)


def _ends(paper: Amperes | None, play: Amperes | None) -> list[str]:
    low, high = (NONE, NONE) if paper is None else (amperes_text(paper[0], "down"), amperes_text(paper[1], "up"))
    return [low, _played(play), high]


def _played(play: Amperes | None) -> str:
    if play is None:
        return NONE
    first, last = amperes_text(play[0]), amperes_text(play[1])
    return first if first == last else f"{first} to {last}"


def _lasts(system: System, paper: Amperes | None, play: Amperes | None) -> list[str]:
    from tachys.worstcase.supply import life

    assert system.battery is not None
    known, likely = life(system.battery, paper), life(system.battery, play)
    low, high = (NONE, NONE) if known is None else (life_text(known[0], "down"), life_text(known[1], "up"))
    return [low, NONE if likely is None else life_text(likely[0]), high]


def _table_of(what: str, paper: Supply, play: Supply, length: int, *, causes: bool) -> None:
    from tachys.cli.output import table

    on_paper, in_play = (paper.causes, play.causes) if causes else (paper.states, play.states)
    total, seconds = play.average, Fraction(length, 10**12)
    rows = []
    for name, part in sorted(in_play.items(), key=lambda item: -item[1].charge[1]):
        average = part.charge[1] / seconds
        bound = on_paper.get(name)
        rows.append([
            name, share_text(part.share[0]),
            _DOING[play.mostly[name].partition(".")[0]] if causes
            else NONE if bound is None else share_text(bound.share[1], "up"),
            amperes_text(average), share_text(average / total[1]) if total and total[1] else NONE,
            charge_text(average * DAY),
        ])  # fmt: skip
    third = ("mostly", "") if causes else ("most on paper", "right")
    table([(what, ""), ("of the time", "right"), third, ("of the average", "right"), ("share", "right"),
           ("a day", "right")], rows)  # fmt: skip


def _show_savings(play: Supply, found: list[Saving]) -> None:
    from tachys.cli.output import heading, say, table

    if play.average is None or not found:
        return
    heading("What saves most, each made and played")
    rows = []
    kept = [each for each in found if not each.falls]
    shown = sorted(kept[:MOST_SAVINGS] + found[len(kept) :][:MOST_SAVINGS], key=lambda each: each.average)
    for each in shown:
        saves = 1 - each.average / play.average[1]
        rows.append([each.change, amperes_text(each.average), share_text(saves), ", ".join(each.falls) or NONE])
    table([("change", ""), ("average", "right"), ("saves", "right"), ("needs that fall", "")], rows)
    if any(each.falls for each in shown):
        say("  A need that falls is proved as it is, and not with that change.")
