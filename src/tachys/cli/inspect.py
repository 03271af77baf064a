"""``tachys inspect``: what each line of a capture does, and the time between two edges."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from tachys.cli.capturing import Given, bus_options, meaning_of, shape_options, whole_option, with_bus
from tachys.cli.output import format_option
from tachys.cli.parameters import INSTANT, TIME
from tachys.cli.playing import length_of
from tachys.frames import PS
from tachys.model.quantities import rounded
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, count_text, instant_text, off_text, rate_text, seconds_text, time_text

if TYPE_CHECKING:
    from tachys.capture.inspecting import Line, Spans
    from tachys.capture.statistics import Times
    from tachys.capture.table import Capture

Row = list[str | Verdict]
_BARS = " .:-=+*#"
SHOWN_BINS = 12


MOST_LINES = 300  # in a table for people


@click.command("inspect")
@click.argument("capture", type=click.Path(allow_dash=True))
@click.option("--span", nargs=2, multiple=True, metavar="A B",
              help="Measure from each edge A to the next edge B, such as D0:rise D1:rise.")  # fmt: skip
@click.option("--at", "instants", type=INSTANT, multiple=True,
              help="The level of every line at an instant; of two, both and how far they are apart.")  # fmt: skip
@click.option("--from", "begin", type=INSTANT, help="Begin of the window that is looked at.")
@click.option("--to", "end", type=TIME, help="End of it.")
@bus_options
@click.option("--narrow", type=click.IntRange(0, 10**6), default=2, show_default=True,
              help="Pulses of at most so many samples are called glitches.")  # fmt: skip
@click.option("--nominal", type=TIME, help="How far each period near this one is off it.")
@shape_options
@whole_option
@format_option
def inspect_command(
    capture: str, span: tuple[tuple[str, str], ...], instants: tuple[Fraction, ...], begin: Fraction | None,
    end: Fraction | None, bus: tuple[str, ...], value: tuple[str, ...], narrow: int, nominal: Fraction | None,
    given: Given, strict: bool, shape: str,
) -> int:  # fmt: skip
    """What each line of CAPTURE does: edges, period, widths, duty, and what is odd about it."""
    from tachys.capture.export import capture_data, span_data
    from tachys.capture.inspecting import inspect, spans, window
    from tachys.cli.output import print_csv, print_json, say

    whole = given.read(capture, strict=strict)
    for text in bus:
        whole = with_bus(whole, text)
    first, last = (None if time is None else length_of(time) for time in (begin, end))
    if first is not None and last is not None and last <= first:
        raise click.UsageError("the window is empty: --to must come after --from")
    seen = window(whole, first, last)
    meanings = dict(meaning_of(seen, text) for text in value)
    if instants:
        if len(instants) > 2:
            raise click.UsageError("--at: two at most")
        _show_levels(seen, [length_of(each) for each in instants], meanings, shape)
        return 0
    found = [(f"{a} {b}", spans(seen, _edge(seen, a), _edge(seen, b))) for a, b in span]
    shown = seen
    if shape == "table" and len(seen.signals) > MOST_LINES:
        shown = replace(seen, signals=dict(list(seen.signals.items())[:MOST_LINES]))
    lines = inspect(shown, narrow)
    if shape == "json":
        print_json(capture_data(seen, lines, found, nominal))
    elif shape == "csv":
        if found:
            keys = ("span", "count", "unanswered", "least", "mean", "median", "p99", "most")
            data = [span_data(name, each, seen.resolution) for name, each in found]
            print_csv(keys, [[row.get(key) for key in keys] for row in data])
        else:
            _print_lines_csv(lines)
    else:
        _show(seen, lines, found, nominal)
        if shown is not seen:
            say(f"… and {len(seen.signals) - MOST_LINES} lines more: --format csv or json tells of all of them.")
        for name in dict.fromkeys([bus for bus, _ in meanings] + [text.partition("=")[0] for text in bus]):
            _show_values(seen, name, meanings)
    return 0


def _show_values(capture: Capture, name: str, meanings: dict[tuple[str, int], str]) -> None:
    from tachys.capture.inspecting import MOST_VALUES, held_values
    from tachys.cli.output import heading, say, table

    held = held_values(capture, capture.signals[name])
    heading(f"Values of {name}")
    rows: list[Row] = [
        ["unknown" if each.value is None else f"{each.value} = 0x{each.value:x}",
         "" if each.value is None else meanings.get((name, each.value), ""), str(each.count),
         f"{each.total / max(1, capture.length) * 100:.2f} %",
         time_text(each.least), time_text(each.most)]
        for each in held
    ]  # fmt: skip
    table([("value", ""), ("name", ""), ("times", "right"), ("of the time", "right"), ("least", "right"),
           ("most", "right")], rows)  # fmt: skip
    if len(held) >= MOST_VALUES:
        say(f"  Of values beyond the first {MOST_VALUES} nothing is said.")


def _edge(capture: Capture, text: str) -> tuple[str, str]:
    from tachys.errors import did_you_mean, input_error

    name, colon, kind = text.rpartition(":")
    if not colon:
        name, kind = text, "rise"
    if kind not in ("rise", "fall", "both"):
        raise click.UsageError(f'--span: "{kind}" is no edge; rise, fall or both')
    if name not in capture.signals:
        mend = did_you_mean(name, list(capture.signals), "signal")
        raise input_error(capture.file, f'there is no signal "{name}"', mend, key="--span")
    return name, kind


def _show(capture: Capture, lines: list[Line], found: list[tuple[str, Spans]], nominal: Fraction | None) -> None:
    from tachys.cli.output import heading, say, table

    heading(capture.file)
    signals = count_text(len(capture.signals), "signal")
    say(f"{time_text(capture.length)} from {instant_text(capture.begin)}, {signals}; every instant is known to "
        f"{time_text(capture.known_to)}, by the analyser's own clock", *capture.remarks, "")  # fmt: skip
    if found:
        for name, spans in found:
            _show_spans(name, spans, capture)
        return
    still = [line for line in lines if line.is_still]
    if still:
        say(f"Never move: {', '.join(f'{line.signal.name} ({_level(line.first)})' for line in still)}.", "")
    _show_moving([line for line in lines if not line.is_still and not line.signal.real])
    values = [(line.signal.name, line.edges, line.reals) for line in lines if line.reals and not line.is_still]
    if values:
        columns = [("line of reals", ""), *((title, "right") for title in ("changes", "least", "mean", "most"))]
        table(columns, [[name, str(changes), *(f"{value:.6g}" for value in (of.least, of.mean, of.most))]
                        for name, changes, of in values])  # fmt: skip
    odd = (line for line in lines if line.remarks and not line.is_still)
    say(*(f"  {line.signal.name}: {'; '.join(line.remarks)}." for line in odd))
    for line in lines:
        if line.period and line.edges > 20 and _is_regular(line):
            say(f"  {line.signal.name}: {_sure(line)}.")
    if nominal is not None:
        say("", *_off_nominal(lines, nominal))


def _show_moving(lines: list[Line]) -> None:
    from tachys.cli.output import table

    if lines:
        table([("line", ""), ("ends", ""), ("edges", "right"), ("period\nmedian", "right"), ("\nleast", "right"),
               ("\nmost", "right"), ("high\nmedian", "right"), ("duty", "right"), ("activity", "")],
              [_line_row(line) for line in lines])  # fmt: skip


def _off_nominal(lines: list[Line], nominal: Fraction) -> list[str]:
    """How far each line whose period is near a nominal one is off it, by the analyser's own clock."""
    told = []
    for line in lines:
        off = line.off(nominal)
        if off is not None:
            ppm = float(rounded(Fraction(off.ppm), Fraction(off.sure) / 10))
            told.append(f"  {line.signal.name}: {ppm:+g} ± {off.sure:.2g} ppm off {seconds_text(nominal)}")
    if not told:
        return [f"No line has a mean period within 10 % of {seconds_text(nominal)}."]
    return [*told, "  by the analyser's own clock, which may be off itself by as much as its data sheet says"]


def _is_regular(line: Line) -> bool:
    times = line.rising
    return times is not None and times.most - times.least < times.median // 2


def _sure(line: Line) -> str:
    """The mean period to as many digits as are sure."""
    assert line.period is not None
    mean, sure = Fraction(line.period.mean), Fraction(line.period.sure)
    rate, off = PS / mean, sure / mean
    period = seconds_text(rounded(mean, sure) / PS)
    return f"period {period}, {rate_text(rounded(rate, rate * off))}, sure to {off_text(off)} of the analyser's clock"


def _level(value: float | None) -> str:
    if isinstance(value, float):
        return f"{value:.4g}"
    return "?" if value is None else f"{value:x}" if value > 1 else str(value)


def _line_row(line: Line) -> Row:
    def figure(times: Times | None, key: str = "median") -> str:
        return NONE if times is None else time_text(getattr(times, key))

    most = max(line.activity, default=0)
    drawing = "".join(_BARS[-(-count * (len(_BARS) - 1) // most)] if most else " " for count in line.activity)
    return [
        line.signal.name, f"{_level(line.first)}..{_level(line.last)}", str(line.edges), figure(line.rising),
        figure(line.rising, "least"), figure(line.rising, "most"), figure(line.high),
        NONE if line.duty is None else f"{line.duty * 100:.1f} %", drawing,
    ]  # fmt: skip


def _show_spans(name: str, spans: Spans, capture: Capture) -> None:
    import numpy as np

    from tachys.cli.output import heading, say, table

    first, second = name.split(" ", 1)
    begin, end = (_edge_words(_edge(capture, text)) for text in (first, second))
    heading(f"From each {begin} to the next {end}: {count_text(len(spans.after), 'pair')}")
    if spans.unanswered:
        say(f"  After {spans.unanswered} of them no {end} came.")
    if not len(spans.after):
        say("")
        return
    ordered = np.sort(spans.after)
    ranks = [("least", 0.0), ("median", 0.5), ("99 %", 0.99), ("99.9 %", 0.999), ("most", 1.0)]
    cells = [time_text(int(ordered[max(0, int(np.ceil(share * len(ordered))) - 1)])) for _, share in ranks]
    mean = time_text(round(float(ordered.mean())))
    columns = [(title, "right") for title, _ in ranks]
    table([*columns, ("mean", "right"), ("known to", "right")], [[*cells, mean, time_text(capture.known_to)]])
    counts, borders = np.histogram(ordered, bins=min(SHOWN_BINS, max(1, len(set(ordered[:5000].tolist())))))
    widest = int(counts.max())
    rows: list[Row] = [
        [time_text(round(borders[k])), time_text(round(borders[k + 1])), str(count),
         "#" * max(int(count > 0), round(40 * int(count) / widest))]
        for k, count in enumerate(counts.tolist())
    ]  # fmt: skip
    table([("from", "right"), ("to", "right"), ("pairs", "right"), ("", "")], rows)
    worst = np.argsort(-spans.after, kind="stable")[:5]
    places = ", ".join(f"{time_text(int(spans.after[p]))} at {instant_text(int(spans.begins[p]))}" for p in worst)
    say(f"Longest: {places}", "")


def _edge_words(edge: tuple[str, str]) -> str:
    name, kind = edge
    return f"{'edge' if kind == 'both' else kind} of {name}"


def _show_levels(
    capture: Capture, instants: list[int], meanings: dict[tuple[str, int], str], shape: str
) -> None:  # fmt: skip
    from tachys.capture.inspecting import levels_at
    from tachys.cli.output import heading, print_json, say, table

    if not all(capture.begin <= instant <= capture.end for instant in instants):
        raise click.UsageError(
            f"--at: the capture lasts from {instant_text(capture.begin)} to {instant_text(capture.end)}"
        )
    levels = [levels_at(capture, instant) for instant in instants]
    if shape == "json":
        data = {"format": "tachys.levels/1", "at": instants[0] / PS, "levels": levels[0]}
        if len(instants) == 2:
            data |= {"to": instants[1] / PS, "apart": (instants[1] - instants[0]) / PS,
                     "resolution": capture.known_to / PS, "levels_to": levels[1]}  # fmt: skip
        print_json(data)
        return
    heading(f"{capture.file} at {' and '.join(map(instant_text, instants))}")
    rows: list[Row] = []
    for name in capture.signals:
        cells = [_level_cells(name, each[name], meanings) for each in levels]
        rows.append([name, *(cell for pair in cells for cell in pair)])
    table([("line", ""), *[("level", "right"), ("", "")] * len(instants)], rows)
    if len(instants) == 2:
        apart = time_text(abs(instants[1] - instants[0]))
        say(f"{apart} apart; from an edge at one to an edge at the other it is ± {time_text(capture.known_to)}")


def _level_cells(name: str, level: float | None, meanings: dict[tuple[str, int], str]) -> tuple[str, str]:
    """A level, and what else may be said of it: its name, or how it is written in hexadecimal digits."""
    if level is None:
        return "unknown", ""
    meaning = meanings.get((name, int(level)), "")
    return str(level), meaning or (hex(level) if isinstance(level, int) and level > 9 else "")


def _print_lines_csv(lines: list[Line]) -> None:
    from tachys.cli.output import print_csv

    header = ["signal", "edges", "period", "sure", "period least", "period most", "high", "low", "duty", "remarks"]

    def s(value: float | int | None) -> float | None:
        return None if value is None else value / PS

    print_csv(header, [
        [line.signal.name, line.edges, s(line.period.mean if line.period else None),
         s(line.period.sure if line.period else None), s(line.rising.least if line.rising else None),
         s(line.rising.most if line.rising else None), s(line.high.median if line.high else None),
         s(line.low.median if line.low else None), line.duty, "; ".join(line.remarks)]
        for line in lines
    ])  # fmt: skip
