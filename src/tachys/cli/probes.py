"""``tachys probes``: which line of a capture shows what, and whether the probes of the model are right."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.capturing import Given, shape_options
from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import format_option

if TYPE_CHECKING:
    from tachys.checking.probes.misbound import Binding
    from tachys.checking.probes.proposing import Proposal
    from tachys.needs.verdicts import Verdict


@click.command("probes")
@click.argument("model", type=click.Path())
@click.argument("capture", type=click.Path(allow_dash=True))
@click.option("--all", "every", is_flag=True, help="Everything that speaks for each line, and against it.")
@click.option("--write", is_flag=True, help="Write the proposals into MODEL; without it they are only shown.")
@shape_options
@model_options
@format_option
def probes_command(
    model: str, capture: str, every: bool, write: bool, changes: Changes, given: Given, shape: str
) -> int:  # fmt: skip
    """Propose which line of CAPTURE shows what of MODEL, and hold the probes that it has against that.

    Rates, widths, what follows what and what holds off what are weighed. The status is 1 where a probe is wrong.
    """
    from tachys.checking.probes.plausible import binding_of
    from tachys.checking.probes.writing import wanted, with_probes
    from tachys.cli.output import say
    from tachys.files import read_text, write_whole
    from tachys.model.loading import LARGEST_MODEL
    from tachys.worstcase.analysis import bounds

    system = changes.load(model)
    seen = given.read(capture)
    binding = binding_of(bounds(system), seen)
    changed = wanted(binding)
    if shape != "table":
        _print(binding, seen.file, shape)
    else:
        _show(binding, titled(system, model), seen.file, every)
        _show_text(binding, changed, model, write)
    if write and changed:
        text = read_text(model, "model", LARGEST_MODEL)
        write_whole(Path(model), with_probes(text, changed))
        if shape == "table":
            say(f"written: {model}. Next: tachys check {model} {capture}")
        return 0
    return int(bool(binding.faults))


def _print(binding: Binding, file: str, shape: str) -> None:
    from tachys.checking.probes.writing import binding_data
    from tachys.cli.output import print_csv, print_json

    if shape == "json":
        print_json(binding_data(binding, file))
        return
    rows = []
    for each in binding.proposals:
        keys = each.meaning.keys if each.meaning else {}
        cells = (keys.get(key, "") for key in ("shows", "edge", "active"))
        rows.append([each.line, *cells, each.how_sure, round(each.margin, 1), "; ".join(each.why)])
    print_csv(["line", "shows", "edge", "active", "how sure", "margin", "why"], rows)


def _show(binding: Binding, title: str, file: str, every: bool) -> None:
    from tachys.cli.output import heading, say, table

    heading(f"{Path(file).name}, line by line, for {title}")
    if not binding.proposals:
        say("Nothing to propose: no line of levels moves, or the model has nothing that a line could show.")
        say("tachys inspect shows what each line does; tachys new DIR --from-capture FILE begins a model with it.", "")
        return
    for fault in binding.faults:
        say(f"Wrong today: {fault.wrong}. {fault.mend[0].upper()}{fault.mend[1:]}.")
    if binding.faults:
        say("")
    rows: list[list[str | Verdict]] = []
    told: list[str] = []
    for each in binding.proposals:
        shows = each.meaning.text if each.meaning else "nothing of the model"
        other = each.other.text if each.other else "nothing"
        today = binding.today.get(each.line)
        state = "no probe" if today is None else "the same" if today == each.meaning else today.text
        rows.append([each.line, shows, each.how_sure, "" if each.how_sure == "sure" else other, state])
        reasons = [*each.why, *(f"but {against}" for against in each.against)]
        if reasons and (every or each.how_sure != "sure" or state != "the same"):
            told.append(f"  {each.line}: {'; '.join(reasons if every else reasons[:3])}")
    columns = [("line", ""), ("shows", ""), ("how sure", ""), ("or", ""), ("the model says", "")]
    if all(each.how_sure == "sure" for each in binding.proposals):
        columns, rows = columns[:3] + columns[4:], [[*row[:3], row[4]] for row in rows]
    table(columns, rows)
    say(*told, *[""] * bool(told))


def _show_text(binding: Binding, changed: list[Proposal], model: str, write: bool) -> None:
    from tachys.checking.probes.writing import probe_text
    from tachys.cli.output import say, say_as_is

    left = [each.line for each in binding.proposals if each.how_sure == "open" and each.line not in binding.today]
    if changed and not write:
        say_as_is(probe_text(changed).rstrip().splitlines())
        say("", f"--write puts this into {model}.")
    elif not changed and binding.proposals and not binding.faults:
        say("The probes of the model stand as they should, as far as this capture tells.")
    if left:
        say(f"Left to you: {', '.join(left)}; nothing tells enough of them.")
