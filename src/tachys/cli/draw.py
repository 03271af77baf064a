"""``tachys draw``: a moment of a capture as a picture."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("draw")
@click.argument("model", type=click.Path())
@click.argument("capture", type=click.Path())
@click.option("-o", "--output", default="timeline.png", help="Where to write: .png, .svg or .pdf.", show_default=True)
@click.option("--from", "begin", metavar="TIME", help='Begin of the window in the capture, such as "12.5 ms".')
@click.option("--to", "end", metavar="TIME", help="End of the window.")
def draw_command(model: str, capture: str, output: str, begin: str | None, end: str | None) -> int:
    """Draw CAPTURE as a timeline of MODEL: around its worst miss, or from one time to another."""
    from tachys.capture.reading import read_capture
    from tachys.check.checking import check
    from tachys.cli.output import say
    from tachys.draw.timeline import Moment, draw_timeline, worst_moment
    from tachys.errors import input_error
    from tachys.files import write_whole
    from tachys.model.loading import load_model

    form = Path(output).suffix.lower().removeprefix(".")
    if form not in ("png", "svg", "pdf"):
        raise input_error(output, "its ending tells no form that can be drawn", "end it in .png, .svg or .pdf")
    result = check(load_model(model), read_capture(capture))
    moment = worst_moment(result)
    if begin is not None or end is not None:
        first = result.capture.begin if begin is None else _instant(begin, "--from")
        last = result.capture.end if end is None else _instant(end, "--to")
        if last <= first:
            raise click.UsageError(f'the window from "{begin}" to "{end}" is empty: --to must come after --from')
        moment = Moment(first, last)
    write_whole(output, draw_timeline(result, moment, form))
    say(f"{output}: {(moment.end - moment.begin) / 1e9:.3f} ms from {moment.begin / 1e9:.6f} ms of {capture}")
    return 0


def _instant(text: str, option: str) -> int:
    from tachys.model.quantities import floor_ps, parse_duration

    try:
        time = parse_duration(text)
    except ValueError as error:
        raise click.UsageError(f"{option}: {error}") from None
    if time.clock is not None:
        raise click.UsageError(f'{option}: "{text}" counts cycles; write a time such as "12.5 ms"')
    return floor_ps(time.amount)
