"""``tachys check``: does the board agree with the model, and if not, why: on one screen, worst first."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.checking.out.telling import (
    consequence_text,
    finding_text,
    judged_count,
    miss_lines,
    need_sentence,
    period_text,
)
from tachys.cli.capturing import Given, shape_options
from tachys.cli.collecting import Collected, collecting_options, suite_of
from tachys.cli.modelling import Changes, laid_over, model_options
from tachys.cli.output import format_option
from tachys.cli.working import workers_options
from tachys.model.quantities import rounded
from tachys.needs.verdicts import WORST_FIRST, Basis, Verdict
from tachys.needs.words import bound_text, doubt_of, value_text, what_holds
from tachys.words import (
    NONE,
    PICO,
    count_text,
    instant_text,
    known_text,
    limit_text,
    numbers_text,
    off_text,
    pico_text,
    range_text,
    share_text,
    time_text,
)

if TYPE_CHECKING:
    from tachys.checking.compare.compared import Compared
    from tachys.checking.result import CheckResult, Miss, NeedCheck, Seen
    from tachys.figures import Figure
    from tachys.model.nodes import Core
    from tachys.needs.junit import Suite
    from tachys.spreading import Workers
    from tachys.worstcase.bounds import Bounds

Row = list[str | Verdict]
SHOWN_FINDINGS = 4
FIGURE_COLUMNS = [("what", ""), ("figure", ""), ("model", "right"), ("measured", "right"), ("cases", "right"),
                  ("known to", "right"), ("the capture", "")]  # fmt: skip


@click.command("check")
@click.argument("model", type=click.Path())
@click.argument("captures", type=click.Path(allow_dash=True), nargs=-1, required=True, metavar="CAPTURE...")
@click.option("--figures", is_flag=True, help="Every figure of the model beside what was measured of it.")
@click.option("--all", "every", is_flag=True, help="Every finding and every miss with its time.")
@click.option(
    "--strict",
    is_flag=True,
    help="Status 1 also for needs at risk, unseen or met on paper alone, and for findings nobody has accepted; no "
    "capture may be cut off.",
)
@click.option("--own-clock", is_flag=True, help="Count time by the board's clock, as its periodic lines show it.")
@collecting_options
@shape_options
@model_options
@workers_options
@format_option
def check_command(
    model: str, captures: tuple[str, ...], figures: bool, every: bool, strict: bool, own_clock: bool,
    collected: Collected, changes: Changes, given: Given, workers: Workers,
    shape: str,
) -> int:  # fmt: skip
    """Hold each CAPTURE against MODEL: verdicts, misses and who made them, figures that the board refutes.

    Several are worked on beside each other; 'captures/*.vcd' in quotes names all of them.

    The status is 0 when all needs are met, 1 when one is missed, 2 when the input is wrong.
    """
    from tachys.checking.out.export import check_data
    from tachys.cli.output import warn
    from tachys.worstcase.analysis import bounds

    system = changes.load(model)
    warn(system.remarks)
    before = collected.before("check")
    paper = bounds(system)
    files = _named(captures)
    if len(files) > 1:
        results = _check_all(changes, model, paper, files, given, workers, strict=strict, own_clock=own_clock)
    else:
        results = [_check_one(paper, files[0], given, strict=strict, own_clock=own_clock)]
    _print(results, shape, model, figures=figures, every=every)
    worse = collected.worse(before, map(check_data, results), system.needs, told=shape == "table")
    collected.write(lambda: [_suite(result, strict=strict) for result in results])
    return _status(results, model, strict=strict, worse=worse, told=shape == "table")


def _suite(result: CheckResult, *, strict: bool) -> Suite:
    accepted = result.bounds.system.accepted.on_paper

    def fails(need: NeedCheck) -> bool:
        on_paper = need.basis is Basis.PAPER and need.need.name not in accepted
        return need.verdict is Verdict.MISSED or (strict and (need.verdict is not Verdict.MET or on_paper))

    capture = result.capture
    return suite_of(capture.file, capture.length / PICO, result.needs, need_sentence, fails)


def _named(captures: tuple[str, ...]) -> list[str]:
    """The files that are named, also by a pattern that no shell has filled in."""
    import glob
    import os

    found: list[str] = []
    for name in captures:
        is_pattern = any(sign in name for sign in "*?") and not os.path.exists(name)
        found += (sorted(glob.glob(name)) if is_pattern else []) or [name]
    if "-" in found and len(found) > 1:
        raise click.UsageError("- is a capture of its own: give it alone")
    return found


def _check_one(paper: Bounds, file: str, given: Given, *, strict: bool, own_clock: bool) -> CheckResult:
    from tachys.capture.inspecting import changes_of
    from tachys.checking.checking import WHOLE, check
    from tachys.checking.correct.clocking import by_own_clock
    from tachys.cli.output import progress_through

    capture = given.read(file, strict=strict)
    size = changes_of(capture)
    with progress_through(f"checking {capture.name}", size if size > WHOLE else 0, of_bytes=False) as told:
        result = check(paper.system, capture, paper, told=told)
    return by_own_clock(result) if own_clock else result


def _check_all(
    changes: Changes, model: str, paper: Bounds, files: list[str], given: Given, workers: Workers, *,
    strict: bool, own_clock: bool,
) -> list[CheckResult]:  # fmt: skip
    from tachys.cli.output import progress_bar
    from tachys.trying.captures import check_all

    with progress_bar(f"checking {count_text(len(files), 'capture')}") as told:
        return check_all(
            changes.points(model), paper, files, given.how, workers, strict=strict, own_clock=own_clock, told=told
        )


def _status(results: list[CheckResult], model: str, *, strict: bool, worse: bool, told: bool) -> int:
    """0, or 1 where a need is missed, and if ``strict`` where anything is left that nobody has accepted.

    Raises:
        InputError: a capture shows nothing of the model.
    """
    from tachys.cli.output import say
    from tachys.errors import InputError, input_error

    if strict and told:
        left = list(dict.fromkeys(each for result in results for each in result.unaccepted))
        taken = sum(result.accepted for result in results)
        if taken:
            say(f"{count_text(taken, 'time')} what this rests on is accepted by the model.")
        if left:
            more = f"; and {len(left) - SHOWN_FINDINGS} more" if len(left) > SHOWN_FINDINGS else ""
            say(f"Strict: {'; '.join(left[:SHOWN_FINDINGS])}{more}")
    blind = [result for result in results if result.blind]
    if blind:
        wrong, things = "nothing of the model is seen in it", [isr.thing for isr in blind[0].bounds.system.isrs]
        line = next(iter(blind[0].capture.signals), "D0")
        mend = f'say which signal shows what, such as [probe.{line}] shows = "{things[0] if things else "step.NAME"}"'
        mend += f"; tachys probes {model} {blind[0].capture.file} proposes it"
        if blind[0].board.shown.coarse:
            wrong += ", since what it shows is sampled too slowly"
            mend = "record it with shorter steps"
        raise InputError([each for one in blind for each in input_error(one.capture.file, wrong, mend).problems])
    verdicts = [need.verdict for result in results for need in result.needs.values()]
    failed = strict and (worse or any(result.unaccepted for result in results))
    return int(failed or Verdict.MISSED in verdicts)


def _print(results: list[CheckResult], shape: str, model: str, *, figures: bool, every: bool) -> None:
    from tachys.checking.out.export import check_data, checks_data
    from tachys.cli.output import print_csv, print_json

    if shape == "json":
        print_json(check_data(results[0]) if len(results) == 1 else checks_data(results))
    elif shape == "csv":
        header = ["capture", "need", "limit", "bound", "seen most", "resolution", "misses", "verdict"]
        print_csv(header, (row for result in results for row in _csv_rows(result)))
    else:
        if len(results) > 1:
            _show_pooled(results, model)
        for result in results:
            show_check(result, model, figures=figures, every=every, brief=len(results) > 1)


def _csv_rows(result: CheckResult) -> list[list[object]]:
    from tachys.plain import seconds

    return [
        [result.capture.file, name, *(need.need.given(each) for each in (need.limit, need.bound, need.value)),
         seconds(result.capture.known_to), need.count, str(need.verdict)]
        for name, need in result.needs.items()
    ]  # fmt: skip


# --- several captures ---------------------------------------------------------------------------------------


def _show_pooled(results: list[CheckResult], model: str) -> None:
    from tachys.checking.out.pooling import pool
    from tachys.cli.output import heading, say, table

    together = pool(results)
    against = f"{Path(model).name}{laid_over(results[0].bounds.system)}"
    heading(f"{count_text(len(results), 'capture')} together against {against}")
    rows: list[Row] = []
    for need in sorted(together.needs.values(), key=lambda each: (WORST_FIRST.index(each.verdict), -each.misses)):
        bound = bound_text(need.need, need.bound, unseen=need.verdict is Verdict.UNSEEN)
        worst = "not seen" if need.worst is None else value_text(need.need, need.worst)
        rows.append([need.need.name, value_text(need.need, need.limit), bound, worst, Path(need.worst_in).name,
                     f"{need.misses} of {need.count}" if need.count else str(need.misses), need.verdict])  # fmt: skip
    table([("need", ""), ("limit", "right"), ("bound", "right"), ("worst seen", "right"), ("in", ""),
           ("misses", "right"), ("verdict", "")], rows)  # fmt: skip
    for number, (finding, count) in enumerate(together.findings[:SHOWN_FINDINGS], 1):
        say(f"{number}. In {count} of {len(results)}: {finding_text(finding)}.")
    say("")


# --- one capture --------------------------------------------------------------------------------------------


def show_check(
    result: CheckResult, model: str, *, figures: bool = False, every: bool = False, brief: bool = False
) -> None:
    """One capture against the model, worst first."""
    from tachys.cli.output import heading, say, table

    capture = result.capture
    against = f"{Path(model).name}{laid_over(result.bounds.system)}"
    heading(f"{Path(capture.file).name} against {against}: {_headline(result)}")
    say(_about(result), *result.remarks, "")
    needs = sorted(result.needs.values(), key=lambda need: (WORST_FIRST.index(need.verdict), -need.count))
    if needs:
        columns = [("need", ""), ("what must hold", ""), ("limit", "right"), ("bound", "right")]
        columns += [("worst seen", "right"), ("misses", "right"), ("verdict", "")]
        table(columns, [_need_row(need) for need in needs])
    doubts = [f"  {each.need.name}: {doubt}" for each in needs if (doubt := _doubt(result, each))]
    say(*doubts, *[""] * bool(doubts))
    _show_findings(result, model, every, brief)
    _show_groups(result, needs)
    if every:
        _show_misses(needs)
    if figures:
        _show_figures(result)
        _show_quantities(result)
    _show_rest(result, model, needs, figures)


def _doubt(result: CheckResult, need: NeedCheck) -> str:
    """Why a need is not met although it was not seen broken."""
    if need.verdict is Verdict.MET and need.basis is Basis.PAPER and not result.blind:
        return "met on paper alone: this capture shows no instance of it"
    if need.verdict is Verdict.MET or need.count:
        return ""
    return doubt_of(result.bounds.needs[need.need.name]) or need.reason


def _headline(result: CheckResult) -> str:
    if result.blind:
        return "nothing of the model is seen"
    missed = sum(need.verdict is Verdict.MISSED for need in result.needs.values())
    text = f"{missed} of {count_text(len(result.needs), 'need')} missed" if missed else "no need missed"
    return f"{text}, {count_text(len(result.findings), 'finding') if result.findings else 'nothing refuted'}"


def _about(result: CheckResult) -> str:
    capture, clock, load = result.capture, result.clock, result.load
    parts = [time_text(capture.length), count_text(len(capture.signals), "signal"),
             f"times known to {time_text(capture.known_to)}"]  # fmt: skip
    if clock is not None:
        parts.append(f"analyser {clock.ppm:+.1f} ± {clock.sure:.1f} ppm off")
    if load is not None:
        known = load.most - load.least < 0.001
        parts.append(f"load {load.least * 100:.1f} %" if known else f"load {load.least * 100:.1f} % or more")
    return ", ".join(parts)


def _need_row(need: NeedCheck) -> Row:
    bound = bound_text(need.need, need.bound, unseen=need.verdict is Verdict.UNSEEN)
    worst = "not seen" if need.value is None else value_text(need.need, need.value)
    if need.seen is not None and need.seen.relative:
        worst = f"≥ {worst}"
    judged = judged_count(need)
    misses = f"{need.count} of {judged}" if judged else str(need.count) if need.count else NONE
    return [need.need.name, what_holds(need.need), value_text(need.need, need.limit), bound, worst, misses,
            need.verdict]  # fmt: skip


def _show_findings(result: CheckResult, model: str, every: bool, brief: bool) -> None:
    from tachys.checking.compare.sentences import mend_of
    from tachys.cli.output import heading, say, say_below

    if not result.findings:
        return
    heading("Where model and board differ, what explains most first")
    shown = result.findings if every else result.findings[:SHOWN_FINDINGS]
    for number, finding in enumerate(shown, 1):
        say(f"{number}. {finding_text(finding)}.")
        more = consequence_text(finding, result)
        if more and not brief:
            say_below(f"{more[0].upper()}{more[1:]}.")
        if not brief:
            say_below(f"Next: {mend_of(finding.code, finding.text)}.")
    if len(shown) < len(result.findings):
        say_below(f"… and {len(result.findings) - len(shown)} more: --all lists them.")
    say_below(f"One taken apart: tachys explain {model} {result.capture.file} 1")
    say("")


def _show_groups(result: CheckResult, needs: list[NeedCheck]) -> None:
    from tachys.cli.output import heading, say

    missed = [need for need in needs if need.misses]
    lines = [f"  {need.need.name}: {line}" for need in missed for line in miss_lines(result, need)[:2]]
    if lines:
        early = any(miss.kind == "early" for need in missed for miss in need.misses)
        heading("Who made them late, and what came too early" if early else "Who made them late")
        say(*lines, "")


def _show_misses(needs: list[NeedCheck]) -> None:
    from tachys.cli.output import table

    rows = [[need.need.name, *_miss_row(miss)] for need in needs for miss in need.misses]
    if rows:
        table([("missed", ""), ("event at", "right"), ("answered after", "right"), ("meanwhile", "")], rows)


def _miss_row(miss: Miss) -> Row:
    if miss.value is not None:
        answered = time_text(miss.value)
    else:
        answered = {"lost": "never: lost", "open": "not by the end"}.get(miss.kind, NONE)
    running = [f"{cause.what or cause.how} {time_text(cause.time)}" for cause in miss.causes[:2]]
    return [instant_text(miss.at), answered, ", ".join(running) + (", …" if len(miss.causes) > 2 else "")]


def _show_figures(result: CheckResult) -> None:
    """Every figure of the model beside the measurement, and why some of them are not shown."""
    from tachys.cli.output import heading, say, table

    heading("Every figure of the model")
    core = result.bounds.system.core
    table(FIGURE_COLUMNS, [figure_row(figure, core) for figure in result.figures])
    reasons: dict[str, list[str]] = {}
    for figure in result.figures:
        if figure.measured is None or (figure.why and not figure.key.endswith(f".{figure.why}")):  # its name is told
            reasons.setdefault(figure.why, []).append(f"{figure.about} {figure.key}")
    for why, which in reasons.items():
        say(f"  {', '.join(dict.fromkeys(which))}: {why}.")
    say("")


def _range(low: int | None, high: int | None) -> str:
    if low is not None and high is not None:
        return range_text(low, high)
    return time_text(low if low is not None else high)


def figure_row(figure: Compared, core: Core) -> Row:
    """What, which figure, model, measured, cases, resolution, agreement."""
    key = figure.key if figure.urgency is None else f"{figure.key}, level {core.level_text(figure.urgency)}"
    model = f"≥ {time_text(figure.low)}" if figure.key in ("gap", "burst") else _range(figure.low, figure.high)
    if figure.key in ("guard", "jitter", "within"):
        model = f"≤ {time_text(figure.high)}"
    measured = figure.measured
    if figure.key in ("counts", "answers"):  # a number or a share, no time
        given = (figure.low, None if measured is None else measured.most)
        told = [NONE if each is None else str(each) if figure.key == "counts" else f"{each / 10**4:.4g} %"
                for each in given]  # fmt: skip
        return [figure.about, key, *told, str(measured.count) if measured else NONE, NONE, str(figure.state)]
    if figure.key == "looks":
        ends = [NONE, NONE] if measured is None else [numbers_text(measured.least, measured.most), str(measured.count)]
        paper = numbers_text(figure.low, figure.high)
        return [figure.about, "counts between looks", paper, *ends, NONE, str(figure.state)]
    if figure.of_current:
        model = pico_text(figure.low, figure.high)
        if measured is None:
            return [figure.about, key, model, NONE, NONE, NONE, str(figure.state)]
        known = known_text(Fraction(measured.most, PICO), Fraction(measured.resolution, PICO))
        return [figure.about, key, model, known[0], str(measured.count), known[1], str(figure.state)]
    if figure.key in ("period", "every") and figure.low and figure.high:
        middle = Fraction(figure.low + figure.high, 2)
        off = (figure.high - middle) / middle
        model = period_text(middle) + (f" ± {off_text(off)}" if off * 10**8 >= 1 else "")
    if measured is None:
        return [figure.about, key, model, NONE, NONE, NONE, str(figure.state)]
    seen = time_text(measured.least) if figure.key in ("gap", "burst") else _range(measured.least, measured.most)
    if figure.key in ("guard", "jitter", "within"):
        seen = time_text(measured.most)
    elif figure.key in ("period", "every"):
        seen = period_text(rounded(measured.most, measured.resolution))
    return [figure.about, key, model, seen, str(measured.count), time_text(measured.resolution),
            str(figure.state)]  # fmt: skip


def _show_quantities(result: CheckResult) -> None:
    """Every measured time: how often, least, median, 99 %, most, and how much of its bound was seen."""
    from tachys.cli.output import heading, table

    paper, rows = result.bounds, list[Row]()
    for name, isr in result.isrs.items():
        bound = paper.isrs[name]
        for what in ("latency", "response", "span"):
            rows += _quantity(f"isr.{name}", what, getattr(isr, what), getattr(bound, what))
    for name, flag in result.flags.items():
        rows += _quantity(f"flag.{name}", "reaction", flag.reaction, paper.flags[name].reaction)
    for name, step in result.steps.items():
        rows += _quantity(f"step.{name}", "duration", step.duration, paper.steps[name].duration)
        rows += _quantity(f"step.{name}", "interval", step.interval, paper.steps[name].interval)
    for name, unit in result.units.items():
        rows += _quantity(f"unit.{name}", "time", unit.time, paper.units[name].time)
    if result.busiest:
        heading("The busiest windows, of what has a line")
        windows: list[Row] = [
            [time_text(each.length), f"{each.share * 100:.1f} %", share_text(each.bound, "up"), instant_text(each.at)]
            for each in result.busiest
        ]
        table([("length", "right"), ("seen", "right"), ("bound", "right"), ("begins at", "right")], windows)
    heading("Every time that was measured")
    names = ("count", "least", "median", "99 %", "most", "bound", "seen of it")
    table([("what", ""), ("time", ""), *((name, "right") for name in names)], rows)


def _quantity(about: str, what: str, seen: Seen | None, bound: Figure) -> list[Row]:
    if seen is None:
        return []
    share = NONE if not bound.most else f"{seen.most * 100 / bound.most:.0f} %"
    most = "unbounded" if bound.most is None else time_text(bound.most, "up")
    mark = "≥ " if seen.relative else ""
    return [[about, what, str(seen.count), *(mark + time_text(value) for value in (seen.least, seen.median, seen.p99,
             seen.most)), most, share]]  # fmt: skip


def _show_rest(result: CheckResult, model: str, needs: list[NeedCheck], figures: bool) -> None:
    from tachys.cli.output import say

    for need in needs:
        if need.note and need.seen is not None:
            say(f"{need.need.name} is measured {need.note}.")
        if need.tail is not None:
            say(f"{need.need.name}: an estimate, no proof: about one in {need.tail.once_in:,} is later than "
                f"{limit_text(need.tail.value)}.")  # fmt: skip
    lost = [f"isr.{name} {isr.lost}" for name, isr in result.isrs.items() if isr.lost]
    lost += [f"unit.{name} {unit.lost}" for name, unit in result.units.items() if unit.lost]
    if lost:
        say("Events lost: " + ", ".join(lost) + ".")
    depths = {buffer.name: buffer.depth for buffer in result.bounds.system.buffers}
    full = [
        f"buffer.{name} {buffer.level} of {depths[name]}" + (f", {buffer.lost} lost" if buffer.lost else "")
        for name, buffer in result.buffers.items()
    ]
    if full:
        say("Most in at once, at least: " + "; ".join(full) + ".")
    over = [f"flag.{name} {flag.overwritten}" for name, flag in result.flags.items() if flag.overwritten]
    if over:
        say("Set again before they were taken: " + ", ".join(over) + ".")
    if result.unseen:
        say("This capture cannot show: " + ", ".join(result.unseen) + ", which no line shows.")
    if result.foreign:
        say("Lines that move and that the model does not name: " + ", ".join(result.foreign) + ".")
    if not figures and not result.blind:
        agree = sum(str(figure.state) == "agrees" for figure in result.figures)
        shown = sum(str(figure.state) != "not shown" for figure in result.figures)
        say(f"{agree} of the {shown} figures of the model that this capture shows agree; --figures lists them.")
    if result.missed:
        say(f"See the worst moment: tachys draw {model} {result.capture.file} -o worst.png")
    say("")
