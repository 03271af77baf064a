"""``tachys draw``: a model as it is played, or a moment of a capture, as a picture or as text."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.cli.capturing import bus_options
from tachys.cli.modelling import Changes, laid_over, model_options
from tachys.cli.parameters import INSTANT, TIME
from tachys.cli.playing import for_option, length_of, play_options, ways_of

if TYPE_CHECKING:
    from tachys.checking.result import CheckResult
    from tachys.drawing.moment import Played
    from tachys.drawing.scene import Moment, Scene
    from tachys.simulation.options import RunOptions
    from tachys.worstcase.bounds import Bounds


@click.command("draw")
@click.argument("model", type=click.Path(), metavar="MODEL|CAPTURE")
@click.argument("capture", type=click.Path(), required=False)
@click.argument("what", required=False, metavar="[NEED|NUMBER]")
@click.option("-o", "--output", default="timeline.png", help="Where to write: .png, .svg or .pdf.", show_default=True)
@click.option("--from", "begin", type=INSTANT, help='Begin of the window, such as "12.5 ms".')
@click.option("--to", "end", type=TIME, help="End of the window.")
@click.option("--text", is_flag=True, help="Print the timeline in place of drawing it.")
@click.option(
    "--cursor", type=INSTANT, multiple=True, help="Of a capture alone: an instant to mark; of two, the difference."
)
@click.option(
    "--lines", metavar="NAMES", help="Only these lanes, or lines of a capture alone, in this order: wheel,tick."
)
@click.option("--dark", is_flag=True, help="On a dark ground.")
@click.option("--open", "opened", is_flag=True, help="Show the picture when it is written.")
@click.option("--beside", is_flag=True, help="The played model above the capture, each at its worst moment.")
@click.option("--spread", multiple=True, metavar="NAME",
              help="How often a latency was how long: a routine, or a figure such as isr.tick.response.")  # fmt: skip
@click.option("--worst", metavar="NAME", help="The run that makes a figure as large as possible.")
@bus_options
@for_option
@play_options
@model_options
def draw_command(
    model: str, capture: str | None, what: str | None, output: str, begin: Fraction | None, end: Fraction | None,
    text: bool, cursor: tuple[Fraction, ...], beside: bool, spread: tuple[str, ...], worst: str | None,
    length: Fraction, bodies: str, phases: str, arrivals: str, clocks: str, seed: int, changes: Changes,
    lines: str | None, dark: bool, opened: bool,
    bus: tuple[str, ...], value: tuple[str, ...],
) -> int:  # fmt: skip
    """Draw MODEL as it is played, CAPTURE as a timeline of MODEL, or CAPTURE alone as on the analyser's screen.

    The window is the worst moment (of a capture: its worst miss), or the worst miss of NEED, the finding of that
    NUMBER, or from one time to another.
    """
    from tachys.cli.explain import found_in, scene_of
    from tachys.cli.output import compile_note, say_as_is, terminal_width
    from tachys.drawing.figure import draw_scenes, form_of
    from tachys.drawing.scene import scene_of_capture
    from tachys.drawing.text import text_lines
    from tachys.worstcase.analysis import bounds

    form = form_of(output)
    alone = capture is None and Path(model).suffix.lower() != ".toml" and model != "-"
    shown = "a capture alone" if alone else "a model alone" if capture is None else "a capture beside its model"
    played_too = not alone and (capture is None or beside)
    for option, given, applies in (
        ("--cursor", cursor, alone), ("--bus", bus, alone), ("--value", value, alone),
        ("--spread", spread, played_too and not beside), ("--worst", worst, played_too),
    ):  # fmt: skip
        if given and not applies:
            raise click.UsageError(f"{option} does not go with {shown}")
    if dark and (alone or spread):
        raise click.UsageError(f"--dark does not go with {'a capture alone' if alone else '--spread'}")
    if what is not None and beside:
        raise click.UsageError("a need or finding does not go with --beside, which shows the worst moments")
    if opened and text:
        raise click.UsageError("--open does not go with --text, which writes nothing")
    if alone:
        return _draw_alone(model, output, (begin, end), cursor, form, text, lines, (bus, value), opened)
    paper = bounds(changes.load(model))
    window = _window(begin, end, length)
    if capture is not None and not beside:
        if what is None:
            result, moment = _moment_of(paper, capture, window)
            scenes = [scene_of_capture(result, moment)]
        else:
            if window is not None:
                raise click.UsageError("--from and --to do not go with a need or finding, which has its own moment")
            scenes = [scene_of(found_in(_checked(paper, capture)[0], what, None, model))]
        told = _where(scenes[0].begin, scenes[0].end, capture)
    else:
        if beside and capture is None:
            raise click.UsageError("--beside draws the model above a capture: name the capture too")
        compile_note(paper.system, length_of(length))
        ways = ways_of(paper.system, bodies, phases, arrivals, clocks, seed)
        if spread:
            written, told = _draw_spread(paper, spread, ways, length_of(length), model, form)
            return _wrote(output, written, f"{told}{laid_over(paper.system)}", opened)
        scenes, told = _scenes_played(
            paper, _played(paper, worst, ways, length_of(length), window, model), capture if beside else None
        )  # fmt: skip
    scenes = [_only(scene, lines, model) for scene in scenes]
    if text:
        for scene in scenes:
            say_as_is(text_lines(scene, terminal_width()))
        return 0
    return _wrote(output, draw_scenes(scenes, form, dark=dark), f"{told}{laid_over(paper.system)}", opened)


def _wrote(output: str, picture: bytes, told: str, opened: bool) -> int:
    """Write a picture, say what it shows, and show it where that was asked for."""
    from tachys.cli.output import say
    from tachys.files import write_whole

    write_whole(output, picture)
    say(f"{output}: {told}")
    if opened:
        click.launch(output)
    return 0


def _draw_alone(
    capture: str, output: str, given: tuple[Fraction | None, Fraction | None], cursor: tuple[Fraction, ...], form: str,
    text: bool, lines: str | None, named: tuple[tuple[str, ...], tuple[str, ...]], opened: bool,
) -> int:  # fmt: skip
    """A capture without a model: its lines as they are."""
    from msgspec.structs import replace

    from tachys.capture.inspecting import window
    from tachys.cli.capturing import Given, meaning_of, with_bus
    from tachys.cli.output import say_as_is, terminal_width
    from tachys.drawing.waveform import draw_waveform, waveform_lines

    if len(cursor) > 2:
        raise click.UsageError("--cursor: two at most")
    whole = Given().read(capture)
    for bus in named[0]:
        whole = with_bus(whole, bus)
    names = dict(meaning_of(whole, value) for value in named[1])
    first, last = (None if time is None else length_of(time) for time in given)
    part = window(whole, first, last)
    if part.length <= 0:
        raise click.UsageError("the window lies outside the capture")
    if lines is not None:
        part = replace(part, signals={name: part.signals[name] for name in _known(lines, list(part.signals), capture)})
    cursors = tuple(length_of(time) for time in cursor)
    if text:
        say_as_is(waveform_lines(part, cursors, terminal_width(), names))
        return 0
    return _wrote(output, draw_waveform(part, cursors, form, names), _where(part.begin, part.end, capture), opened)


def _window(begin: Fraction | None, end: Fraction | None, length: Fraction) -> tuple[int | None, int | None] | None:
    if begin is None and end is None:
        return None
    first, last = (None if time is None else length_of(time) for time in (begin, end))
    if first is not None and last is not None and last <= first:
        raise click.UsageError("the window is empty: --to must come after --from")
    return first, last


def _known(lines: str, known: list[str], file: str) -> list[str]:
    """The names that were asked for, each of which there is."""
    from tachys.errors import did_you_mean, input_error

    names = [name.strip() for name in lines.split(",")]
    for name in names:
        if name not in known:
            raise input_error(file, f'there is no lane "{name}"', did_you_mean(name, known, "lane"), key="--lines")
    return names


def _only(scene: Scene, lines: str | None, file: str) -> Scene:
    if lines is None:
        return scene
    known = [name for lane in scene.lanes for name in (lane.thing, lane.thing.name)]
    return scene.only(_known(lines, known, file))


def _moment_of(paper: Bounds, capture: str, window: tuple[int | None, int | None] | None) -> tuple[CheckResult, Moment]:
    """What was asked for, or else the worst moment."""
    from tachys.drawing.scene import Moment

    result, moment = _checked(paper, capture)
    if window is not None:
        first = result.capture.begin if window[0] is None else window[0]
        last = result.capture.end if window[1] is None else window[1]
        if last <= first or first >= result.capture.end or last <= result.capture.begin:
            raise click.UsageError("the window lies outside the capture")
        moment = Moment(first, last)
    return result.around((moment.begin + moment.end) // 2), moment


def _checked(paper: Bounds, capture: str) -> tuple[CheckResult, Moment]:
    from tachys.capture.reading import read_capture
    from tachys.checking.checking import check
    from tachys.drawing.scene import worst_moment

    result = check(paper.system, read_capture(capture), paper)
    return result, worst_moment(result)


def _where(begin: int, end: int, what: str) -> str:
    return f"{(end - begin) / 1e9:.3f} ms from {begin / 1e9:.6f} ms of {what}"


def _played(
    paper: Bounds,
    worst: str | None,
    ways: RunOptions,
    length: int,
    window: tuple[int | None, int | None] | None,
    model: str,
) -> Played:
    from tachys.drawing.moment import play_moment

    if worst is None:
        whole = None if window is None else (window[0] or 0, min(length, window[1] or length))
        if whole is not None and whole[1] <= whole[0]:
            raise click.UsageError("the window lies beyond what is played: say --for longer")
        return play_moment(paper, ways, length, whole)
    from msgspec.structs import replace

    from tachys.cli.simulate import found_worst
    from tachys.words import time_text

    found = found_worst(paper, worst, model)
    if found.value is None:
        from tachys.errors import input_error

        raise input_error(model, f"{worst} never happened in any run that was tried", "", key="--worst")
    margin = max(found.at - found.begin, 10**6)
    around = (max(0, found.begin - margin // 2), found.at + margin // 2)
    played = play_moment(paper, found.ways, around[1], around, (found.begin, found.at))
    bound = "" if found.bound is None else f", bound {time_text(found.bound, 'up')}"
    need = paper.needs.get(worst.removeprefix("need."))
    lane = worst if worst.count(".") == 1 else worst.rsplit(".", 1)[0] if "." in worst else f"isr.{worst}"
    if need is not None and worst not in paper.isrs:
        lane = need.need.waits
    return replace(played, title=f"the worst {worst} found: {time_text(found.value)}{bound}", lane=lane)


def _scenes_played(paper: Bounds, played: Played, capture: str | None) -> tuple[list[Scene], str]:
    """The played model, above a capture where one is named: the same lanes in the same order, at the same scale."""
    from tachys.drawing.scene import scene_of_capture, scene_of_played, side_by_side

    told = _where(played.lanes.begin, played.lanes.end, "the played model")
    if capture is None:
        return [scene_of_played(played)], told
    result, moment = _checked(paper, capture)
    both = side_by_side(scene_of_played(played), scene_of_capture(result, moment))
    return list(both), f"{told}, above {_where(moment.begin, moment.end, capture)}"


def _draw_spread(
    paper: Bounds, names: tuple[str, ...], ways: RunOptions, length: int, model: str, form: str
) -> tuple[bytes, str]:
    from tachys.drawing.spread import Spread, draw_spreads
    from tachys.errors import did_you_mean, input_error
    from tachys.simulation.running import simulate
    from tachys.simulation.worst import measured_figures

    known, result, spreads = measured_figures(paper), simulate(paper.system, length, ways, bounds=paper), []
    for name in names:
        if name not in known:
            raise input_error(model, f'there is no figure "{name}"', did_you_mean(name, list(known), "figure"),
                              key="--spread")  # fmt: skip
        full = f"isr.{name}.latency" if name in paper.isrs else name
        spreads.append(Spread(full, result.counted[full], _limit(paper, full), known[name]))
    if not any(spread.counted.count for spread in spreads):
        raise input_error(model, "none of these was ever seen", "play it longer: --for", key="--spread")
    return draw_spreads(spreads, form), f"{', '.join(names)} over {length / 1e12:g} s of the played model"


def _limit(paper: Bounds, name: str) -> int | None:
    """The tightest limit that a need sets on a latency or response."""
    from tachys.model.events import Event

    asked = Event(name)
    if asked.kind != "isr":
        return None
    ends, what = asked.thing.start if asked.moment == "latency" else asked.thing.end, asked.moment
    on = paper.system.isr(asked.name).on
    answers = [need.follows for need in paper.system.needs if need.follows]
    limits = [each.within for each in answers if each.ends == ends and each.begins in on]
    return min(limits, default=None) if what in ("latency", "response") else None
