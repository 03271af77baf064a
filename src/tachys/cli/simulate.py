"""``tachys simulate``: play the model, and say how near the worst came to the bound."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

import click

from tachys.cli.collecting import Collected, collecting_options, suite_of
from tachys.cli.completion import names_of
from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import INTERRUPTED, format_option
from tachys.cli.parameters import INSTANT, TIME
from tachys.cli.playing import for_option, length_of, play_options, ways_of
from tachys.cli.working import workers_options
from tachys.needs.verdicts import Verdict
from tachys.words import NONE, PICO, count_text, instant_text, numbers_text, share_text, time_text

if TYPE_CHECKING:
    from tachys.figures import Figure
    from tachys.model.system import System
    from tachys.simulation.options import RunOptions
    from tachys.simulation.result import NeedSeen, Simulated
    from tachys.simulation.statistics import Stats
    from tachys.simulation.worst import Worst
    from tachys.spreading import Workers
    from tachys.worstcase.bounds import Bounds

Row = list[str | Verdict]


@click.command("simulate")
@click.argument("model", type=click.Path())
@for_option
@click.option(
    "--runs", type=click.IntRange(1, 10**6), default=1, show_default=True, help="How many, each its own seed."
)
@play_options
@model_options
@click.option("--worst", metavar="NAME", shell_complete=names_of(),
              help="Search for the run that makes one figure as large as possible.")  # fmt: skip
@click.option("-o", "--output", help="Write the timeline: .vcd, .csv or .parquet.")
@click.option("--from", "begin", type=INSTANT, help="Begin of the timeline that is written.")
@click.option("--to", "end", type=TIME, help="End of it.")
@click.option("--probes", is_flag=True, help="Write the signals of the model's probes in place of every thing.")
@click.option("--strict", is_flag=True, help="End with status 1 also when a need is at risk or unseen.")
@collecting_options
@workers_options
@format_option
def simulate_command(
    model: str, length: Fraction, runs: int, bodies: str, phases: str, arrivals: str, clocks: str, seed: int,
    changes: Changes, worst: str | None, output: str | None, begin: Fraction | None, end: Fraction | None,
    probes: bool, strict: bool, collected: Collected, workers: Workers, shape: str,
) -> int:  # fmt: skip
    """Play MODEL from time zero: statistics, misses, and how near the worst seen came to each bound.

    The status is 1 when a need was seen broken, and 130 when it was interrupted: what was played until then is shown.
    """
    from tachys.cli.bounds import fails, status
    from tachys.cli.output import print_csv, print_json, warn
    from tachys.simulation.export import simulated_data
    from tachys.simulation.result import COLUMNS
    from tachys.simulation.writing import form_of
    from tachys.worstcase.analysis import bounds

    if output is not None:
        form_of(output)
    before = collected.before("simulation")
    system = changes.load(model)
    warn(system.remarks)
    paper = bounds(system)
    ways = ways_of(system, bodies, phases, arrivals, clocks, seed)
    if worst is not None:
        return _search(paper, worst, model, output, probes, shape)
    window = _window(length, begin, end)
    result = _play(paper, changes, model, length_of(length), ways, runs, workers)
    if shape == "json":
        print_json(simulated_data(result))
    elif shape == "csv":
        print_csv(COLUMNS, result.rows())
    else:
        show_simulated(result, model)
    if not result.complete:
        return INTERRUPTED
    if output is not None:
        _write(system, ways, window, output, probes)
    worse = collected.worse(before, [simulated_data(result)], system.needs, told=shape == "table")
    name, seconds = f"{model}, played", result.length / PICO
    collected.write(lambda: [suite_of(name, seconds, result.needs, _sentence, lambda need: fails(need, strict=strict))])
    return int(strict and worse) or status([need.verdict for need in result.needs.values()], strict=strict)


def _sentence(need: NeedSeen) -> str:
    from tachys.needs.words import value_text, what_holds

    seen = "not seen" if need.value is None else f"worst seen {value_text(need.need, need.value)}"
    limit = value_text(need.need, need.limit)
    return f"{what_holds(need.need)}: {need.verdict}; limit {limit}, {seen}, missed {count_text(need.misses, 'time')}"


def _window(length: Fraction, begin: Fraction | None, end: Fraction | None) -> tuple[int, int]:
    first, last = length_of(begin or Fraction(0)), length_of(end or length)
    if not first < last <= length_of(length):
        raise click.UsageError("--from must come before --to, and both lie within --for")
    return first, last


def _play(
    paper: Bounds, changes: Changes, model: str, length: int, ways: RunOptions, runs: int, workers: Workers
) -> Simulated:
    """Play with a progress bar where the work is long and somebody looks."""
    from tachys.cli.output import compile_note, progress_bar
    from tachys.simulation.running import simulate

    if workers.cluster:
        from tachys.trying.runs import play_all

        with progress_bar("playing") as told:
            return play_all(changes.points(model), paper, ways, length, runs, workers, told)
    compile_note(paper.system, runs * length)
    threads = workers.here if runs > 3 or workers.count else 1
    with progress_bar("playing") as told:
        return simulate(paper.system, length, ways, runs=runs, workers=threads, bounds=paper, progress=told)


def show_simulated(result: Simulated, model: str) -> None:
    """All statistics as tables."""
    from tachys.cli.output import heading, say

    heading(f"{titled(result.bounds.system, model)}, played")
    runs = f"{count_text(result.runs, 'run')}, " if result.runs > 1 else ""
    stopped = "" if result.complete else "; stopped before the end, this is what was seen until then"
    say(f"{runs}{time_text(result.length)} in all{stopped}", "")
    _show_needs(result)
    _show_isrs(result)
    _show_others(result)
    _show_pins(result)
    _show_counters(result)
    _show_load(result)


def _share(seen: int | None, bound: int | None) -> str:
    """How near a figure came to its bound; rounded down, so that 100 % means reached."""
    if seen is None or not bound:
        return NONE
    return share_text(Fraction(seen, bound), "down")


def _show_needs(result: Simulated) -> None:
    from tachys.cli.output import heading, say, table
    from tachys.needs.words import doubt_of, value_text, what_holds

    if not result.needs:
        return
    heading("Needs")
    rows: list[Row] = []
    for name, need in result.needs.items():
        bound = result.bounds.needs[name].bound
        rows.append([
            name, what_holds(need.need), value_text(need.need, need.limit),
            NONE if bound is None else value_text(need.need, bound, "up"), value_text(need.need, need.value),
            str(need.misses), need.verdict,
        ])  # fmt: skip
    columns = [
        ("need", ""),
        ("what must hold", ""),
        *((n, "right") for n in ("limit", "bound", "worst seen", "misses")),
    ]
    table([*columns, ("verdict", "")], rows)
    for name, need in result.needs.items():
        for line in _miss_lines(need, result.runs):
            say(f"  {name}: {line}")
        paper = result.bounds.needs[name]
        if paper.proof.cannot_hold:
            say(f"  {name}: {doubt_of(paper)}")
    if result.missed:
        say("")


def _miss_lines(need: NeedSeen, runs: int) -> list[str]:
    from tachys.needs.words import value_text

    lines = []
    for miss in need.first[:3]:
        where = f" of run {miss.run + 1}" if runs > 1 else ""
        how = {"lost": "lost", "open": "never answered"}.get(
            miss.kind, f"{miss.kind}, {value_text(need.need, miss.value)}"
        )
        lines.append(f"{how}, at {instant_text(miss.at)}{where}")
    if need.misses > 3 and len(need.first) > 3:
        lines.append(f"and {need.misses - 3} more")
    return lines


def _figures(stats: Stats | None, bound: Figure | None) -> list[str]:
    """Count, least, median, 99 %, 99.9 %, most, bound, share."""
    if stats is None:
        return ["0", *[NONE] * 7]
    most = None if bound is None else bound.most
    return [
        str(stats.count), time_text(stats.least), time_text(stats.median), time_text(stats.p99), time_text(stats.p999),
        time_text(stats.most), NONE if most is None else time_text(most, "up"), _share(stats.most, most),
    ]  # fmt: skip


_COLUMNS = ("count", "least", "median", "99 %", "99.9 %", "most", "bound", "share")


def _show_isrs(result: Simulated) -> None:
    from tachys.cli.output import heading, table

    if not result.bounds.isrs:
        return
    for what in ("latency", "response"):
        heading(f"Routines, {what}")
        rows: list[Row] = [
            [name, *_figures(result.stats(f"isr.{name}.{what}"), getattr(isr, what)), str(result.lost[f"isr.{name}"])]
            for name, isr in result.bounds.isrs.items()
        ]
        table([("routine", ""), *((name, "right") for name in (*_COLUMNS, "lost"))], rows)


def _show_others(result: Simulated) -> None:
    from tachys.cli.output import heading, table

    paper = result.bounds
    rows: list[Row] = [
        [f"unit.{name}", *_figures(result.stats(f"unit.{name}.time"), unit.time), str(result.lost[f"unit.{name}"])]
        for name, unit in paper.units.items()
    ]
    rows += [
        [f"flag.{name}", *_figures(result.stats(f"flag.{name}"), flag.reaction), str(result.lost[f"flag.{name}"])]
        for name, flag in paper.flags.items()
    ]
    rows += [
        [
            f"buffer.{name}",
            *_figures(result.stats(f"buffer.{name}.time"), each.time),
            str(result.lost[f"buffer.{name}"]),
        ]
        for name, each in paper.buffers.items()
    ]
    if rows:
        more = "; buffers, put to gone" if paper.buffers else ""
        heading(f"Units, start to end; flags, set to taken{more}")
        table([("name", ""), *((name, "right") for name in (*_COLUMNS, "lost"))], rows)
    _show_buffers(result)
    if paper.loop_pass is None:
        return
    heading("Loop: a pass; steps, start to start, and how late a timer's step began")
    rows = [["a pass", *_figures(result.stats("pass"), paper.loop_pass)]]
    for name, step in paper.steps.items():
        if paper.system.startup is None or paper.system.startup.name != name:
            rows.append([f"{name}, interval", *_figures(result.stats(f"step.{name}.interval"), step.interval)])
        if step.late is not None:
            rows.append([f"{name}, late", *_figures(result.stats(f"step.{name}.late"), step.late)])
    table([("step", ""), *((name, "right") for name in _COLUMNS)], rows)


def _show_buffers(result: Simulated) -> None:
    from tachys.cli.output import heading, table

    paper = result.bounds
    rows: list[Row] = []
    for name, buffer in paper.buffers.items():
        bound = "no limit" if buffer.level is None else str(buffer.level)
        rows.append([name, str(paper.system.buffer(name).depth), str(result.levels[name]), bound,
                     str(result.lost[f"buffer.{name}"])])  # fmt: skip
    if rows:
        heading("Buffers: how many were in at once")
        table([("buffer", ""), *((name, "right") for name in ("depth", "most in", "bound", "lost"))], rows)


def _show_pins(result: Simulated) -> None:
    from tachys.cli.output import heading, table

    if result.pins:
        rows: list[Row] = [
            [name, str(pin.edges), share_text(Fraction(pin.high, result.length))] for name, pin in result.pins.items()
        ]
        heading("Pins")
        table([("pin", ""), ("edges", "right"), ("of the time high", "right")], rows)


def _show_counters(result: Simulated) -> None:
    from tachys.cli.output import heading, table

    rows: list[Row] = []
    for name, seen in result.counters.items():
        paper = result.bounds.counters[name]
        between = NONE if seen.most < 0 else numbers_text(seen.least, seen.most)
        bound = numbers_text(paper.fewest, paper.most)
        numbers = [str(each) for each in (seen.missed, seen.tops)]
        rows.append([name, str(paper.states), str(seen.looks), between, bound, *numbers])
    if rows:
        heading("Counters that are looked at")
        names = ("states", "looks", "counts between two", "on paper", "rounds missed", "top seen")
        table([("counter", ""), *((name, "right") for name in names)], rows)


def _show_load(result: Simulated) -> None:
    from tachys.cli.output import say

    if result.idle:
        say("Never happened in this run: " + ", ".join(result.idle) + ".", "")
    cleared = [f"isr.{name} {count}" for name, count in result.cleared.items() if count]
    if cleared:
        say("Came while their routine ran, and cleared as it ended: " + ", ".join(cleared) + ".", "")
    silent = [f"unit.{name} {count}" for name, count in result.silent.items() if count]
    if silent:
        say("Began and never answered: " + ", ".join(silent) + ".", "")
    load = result.bounds.load
    bounds = f"{share_text(load.least, 'down')} to {share_text(load.most, 'up')} on paper"
    say(f"Load: {share_text(result.load)} ({bounds})")
    shares = sorted(result.shares.items(), key=lambda item: -item[1])
    parts = [f"{who} {share_text(share)}" for who, share in shares if share and who not in ("asleep", "spun", "wake")]
    say("  " + ", ".join(parts[:6]))
    apart = [f"{who} {share_text(result.shares[who])}" for who in ("spun", "asleep", "wake") if result.shares[who]]
    if apart:
        say("  not load: " + ", ".join(apart))


def _write(system: System, ways: RunOptions, window: tuple[int, int], output: str, probes: bool) -> None:
    from tachys.cli.output import say
    from tachys.files import write_whole
    from tachys.simulation.writing import timeline_bytes

    text = timeline_bytes(system, ways, window, output, probes=probes)
    write_whole(output, text)
    say("", f"Wrote {output}: {instant_text(window[0])} to {instant_text(window[1])} of run 1.")


def found_worst(paper: Bounds, name: str, model: str) -> Worst:
    """The run that makes a figure largest.

    Raises:
        InputError: there is no such figure.
    """
    from tachys.cli.output import compile_note
    from tachys.errors import did_you_mean, input_error
    from tachys.simulation.worst import goals, search

    known = goals(paper)
    if name not in known:
        raise input_error(
            model, f'there is no figure "{name}"', did_you_mean(name, list(known), "figure"), key="--worst"
        )
    compile_note(paper.system, None)
    return search(paper, name)


def _search(paper: Bounds, name: str, model: str, output: str | None, probes: bool, shape: str) -> int:
    from tachys.cli.output import print_json, say
    from tachys.plain import seconds

    found = found_worst(paper, name, model)
    bound = "there is no bound" if found.bound is None else f"bound {time_text(found.bound, 'up')}"
    if shape == "json":
        print_json({"format": "tachys.worst/1", "figure": name, "seen": seconds(found.value),
                    "bound": seconds(found.bound), "at": seconds(found.at), "tried": found.tried})  # fmt: skip
    elif found.value is None:
        say(f"{name}: it never happened in {count_text(found.tried, 'run')}; {bound}.",
            "Is what brings it about in the model? tachys simulate shows what happens, and how often.")  # fmt: skip
        return 0
    else:
        say(f"{name}: {time_text(found.value)} seen after {count_text(found.tried, 'run')}; {bound}"
            + (f", {_share(found.value, found.bound)} of it." if found.bound else "."))  # fmt: skip
        if found.placed:
            say(f"It began at {instant_text(found.begin)} and ended at {instant_text(found.at)}.")
    if output is not None:
        margin = max(found.at - found.begin, 10**6)
        window = (max(0, found.begin - margin), found.at + margin)
        _write(paper.system, found.ways, window, output, probes)
    elif shape == "table":
        say(f"See it: tachys simulate {model} --worst {name} -o worst.vcd, or tachys draw {model} --worst {name}")
    return 0
