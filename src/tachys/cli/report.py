"""``tachys report``: one page of HTML for the team, that opens from disk and needs nothing else."""

from __future__ import annotations

from pathlib import Path

import click

from tachys.cli.capturing import Given, shape_options
from tachys.cli.modelling import Changes, model_options

_MB = 10**6


@click.command("report")
@click.argument("model", type=click.Path())
@click.argument("captures", type=click.Path(), nargs=-1, metavar="[CAPTURE...]")
@click.option("-o", "--output", required=True, metavar="FILE.html", help="Where to write the page.")
@click.option("--limit", type=click.FloatRange(0.01, 1000), default=20, show_default=True, metavar="MB",
              help="So large may the timelines be; beyond, all but the worst moments is thinned.")  # fmt: skip
@click.option("--open", "opened", is_flag=True, help="Show it when it is written.")
@shape_options
@model_options
def report_command(
    model: str, captures: tuple[str, ...], output: str, limit: float, opened: bool, changes: Changes, given: Given
) -> int:  # fmt: skip
    """Write one page about MODEL and what each CAPTURE says of it: verdicts, findings, figures, a timeline.

    The status is that of tachys check, or of tachys bounds without a capture.
    """
    from tachys.checking.checking import check
    from tachys.cli.bounds import status
    from tachys.cli.output import progress_bar, say, warn
    from tachys.files import read_text, write_whole
    from tachys.model.loading import LARGEST_MODEL
    from tachys.report.page import page
    from tachys.trying.headroom import headroom_of
    from tachys.worstcase.analysis import bounds

    if Path(output).suffix.lower() not in (".html", ".htm"):
        raise click.UsageError("-o: a page ends in .html")
    system = changes.load(model)
    warn(system.remarks)
    paper = bounds(system)
    read = [given.read(capture) for capture in captures]
    shown = frozenset(name for capture in read for name in capture.signals)
    results = [check(system, capture, paper, elsewhere=shown) for capture in read]
    with progress_bar("trying") as told:
        headroom = headroom_of(changes.points(model), (), told) if system.needs else None
    text = read_text(model, "model", LARGEST_MODEL)
    made = page(paper, results, model, text, headroom, round(limit * _MB))
    write_whole(output, made)
    say(f"{output}: {len(made.encode()) / _MB:.2f} MB, opens in any browser")
    if opened:
        click.launch(output)
    verdicts = [need.verdict for result in results for need in result.needs.values()]
    return status(verdicts or [need.verdict for need in paper.needs.values()], strict=False)
