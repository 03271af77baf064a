"""``tachys check``: limit, bound and measurement side by side, and every miss with its time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from tachys.bounds.result import Figure, Verdict
from tachys.cli.bounds import status, what_holds
from tachys.cli.capturing import read_given, shape_options
from tachys.cli.output import format_option, variant_option
from tachys.cli.words import NONE, count_text, instant_text, limit_text, time_text

if TYPE_CHECKING:
    from tachys.check.culprits import Culprit
    from tachys.check.result import CheckResult, Miss, NeedCheck, Seen

SHOWN_MISSES = 3


@click.command("check")
@click.argument("model", type=click.Path())
@click.argument("captures", type=click.Path(), nargs=-1, required=True, metavar="CAPTURE...")
@click.option("--all", "every", is_flag=True, help=f"List every miss, not only the {SHOWN_MISSES} worst of each need.")
@click.option("--strict", is_flag=True, help="End with status 1 also when a need is at risk or unseen.")
@shape_options
@variant_option
@format_option
def check_command(
    model: str,
    captures: tuple[str, ...],
    every: bool,
    strict: bool,
    variant: str | None,
    time_unit: str | None,
    separator: str | None,
    shape: str,
) -> int:
    """Hold each CAPTURE (VCD or CSV) against MODEL: verdicts, misses with their times, refuted figures.

    The status is 0 when all needs are met, 1 when one is missed, 2 when the input is wrong.
    """
    from tachys.bounds.analysis import bounds
    from tachys.check.checking import check
    from tachys.cli.output import warn
    from tachys.model.loading import load_model

    system = load_model(model, variant)
    warn(system.remarks)
    paper = bounds(system)
    results = [check(system, read_given(path, time_unit, separator, False), paper) for path in captures]
    _print(results, shape, model, every)
    if any(result.missed for result in results):
        return 1
    return status(need.verdict for result in results for need in result.needs.values()) if strict else 0


def _print(results: list[CheckResult], shape: str, model: str, every: bool) -> None:
    from tachys.check.export import check_data
    from tachys.cli.output import print_csv, print_json

    if shape == "json":
        data = [check_data(result) for result in results]
        print_json(data[0] if len(data) == 1 else {"format": "tachys.checks/1", "captures": data})
    elif shape == "csv":
        header = ["capture", "need", "limit", "bound", "seen most", "resolution", "misses", "verdict"]
        print_csv(header, (row for result in results for row in _csv_rows(result)))
    else:
        for result in results:
            show_check(result, model, every)


def _csv_rows(result: CheckResult) -> list[list[object]]:
    from tachys.bounds.export import limit_value, seconds

    return [
        [result.capture.file, name, limit_value(need.limit), limit_value(need.bound),
         seconds(need.seen.most if need.seen else None), seconds(result.capture.resolution),
         len(need.misses), str(need.verdict)]
        for name, need in result.needs.items()
    ]  # fmt: skip


def show_check(result: CheckResult, model: str, every: bool = False) -> None:
    """One capture against the model, worst first."""
    from tachys.cli.output import heading, say, table

    capture = result.capture
    heading(f"{Path(capture.file).name} against {Path(model).name}")
    signals = count_text(len(capture.signals), "signal")
    say(f"{time_text(capture.length)}, {signals}, times known to {time_text(capture.resolution)}", *capture.remarks, "")
    order = {Verdict.MISSED: 0, Verdict.AT_RISK: 1, Verdict.UNSEEN: 2, Verdict.MET: 3}
    needs = sorted(result.needs.values(), key=lambda need: (order[need.verdict], -len(need.misses)))
    if needs:
        columns = [("need", ""), ("what must hold", ""), ("limit", "right"), ("bound", "right")]
        columns += [("worst seen", "right"), ("misses", "right"), ("verdict", "")]
        table(columns, [_need_row(result, need) for need in needs])
    figures = ("latency bound", "least seen", "median", "worst seen", "runs", "lost", "span bound", "worst")
    columns = [("routine", ""), *((name, "right") for name in figures)]
    rows = [row for name in result.isrs if (row := _isr_row(result, name))]
    if rows:
        table(columns, rows)
    _show_misses(result, [need for need in needs if need.misses], every)
    _show_findings(result)
    if result.unprobed:
        say("Not probed, so not seen: " + ", ".join(result.unprobed), "")
    if result.missed:
        say(f"See the worst moment: tachys draw {model} {capture.file} -o worst.png")


def _need_row(result: CheckResult, need: NeedCheck) -> list[str | Verdict]:
    bound = limit_text(need.bound, "up") if need.bound is not None else "none"
    worst = time_text(need.seen.most) if need.seen else "not seen"
    misses = f"{len(need.misses)} of {_judged(need)}" if need.seen or need.misses else NONE
    holds = what_holds(need.need)
    return [need.need.name, holds, limit_text(need.limit), bound, worst, misses, need.verdict]


def _judged(need: NeedCheck) -> int:
    return (need.seen.count if need.seen else 0) + sum(miss.kind != "late" for miss in need.misses)


def _isr_row(result: CheckResult, name: str) -> list[str | Verdict] | None:
    isr, paper = result.isrs[name], result.bounds.isrs[name]
    if isr.latency is None and isr.span is None:
        return None

    def most(figure: Figure) -> str:
        return "unbounded" if figure.most is None else time_text(figure.most, "up")

    def value(seen: Seen | None, key: str) -> str:
        return time_text(getattr(seen, key)) if seen else NONE

    runs = isr.span or isr.latency
    latency = [value(isr.latency, key) for key in ("least", "median", "most")]
    lost = NONE if isr.lost is None else str(isr.lost)
    runs_text = str(runs.count if runs else 0)
    return [name, most(paper.latency), *latency, runs_text, lost, most(paper.span), value(isr.span, "most")]


def _show_misses(result: CheckResult, needs: list[NeedCheck], every: bool) -> None:
    """Who was running in all of them, then the worst of each need (or every one), in order of time."""
    from tachys.check.culprits import culprits
    from tachys.cli.output import heading, say, table

    if not needs:
        return
    heading("What ran while the missed events waited")
    rows: list[list[str | Verdict]] = []
    for need in needs:
        for culprit in culprits(result.bounds.system, need.misses):
            say(f"  {need.need.name}: {culprit_text(culprit)}")
        worst = sorted(need.misses, key=lambda miss: -(miss.value or 2**62))
        shown = need.misses if every else sorted(worst[:SHOWN_MISSES], key=lambda miss: miss.at)
        rows += [[need.need.name, *_miss_row(miss)] for miss in shown]
    say("")
    table([("missed", ""), ("event at", "right"), ("answered after", "right"), ("seen running meanwhile", "")], rows)
    total = sum(len(need.misses) for need in needs)
    if len(rows) < total:
        say(f"These are the {SHOWN_MISSES} worst of each; --all lists all {total}.", "")


def _miss_row(miss: Miss) -> list[str | Verdict]:
    answered = {"late": time_text(miss.value), "lost": "never: lost", "open": "not by the end"}[miss.kind]
    running = ", ".join(f"{cause.what} {time_text(cause.time)}" for cause in miss.causes[:2])
    more = ", …" if len(miss.causes) > 2 else ""
    return [instant_text(miss.at), answered, running + more or "nothing that is probed"]


def culprit_text(culprit: Culprit) -> str:
    """A sentence on what was running while events waited."""
    if culprit.what is None:
        return f"{culprit.count} with nothing probed running: what holds them off has no probe"
    low, high = time_text(culprit.least), time_text(culprit.most)
    during = f"{culprit.count} while {culprit.what} ran, {low if low == high else f'{low} to {high}'}"
    if culprit.guard is None:
        return f"{during}; no guard of it is modelled"
    return f"{during}; its modelled guard: {time_text(culprit.guard)}"


def _side(code: str) -> str:
    """A bound is shown as it is in the tables of bounds: a most rounded up, a least down."""
    return {"beyond-bound": "up", "below-bound": "down"}.get(code.partition("-")[2], "near")


def _show_findings(result: CheckResult) -> None:
    from tachys.cli.output import heading, table

    if not result.findings:
        return
    heading("Refuted by this capture: the model is wrong here")
    rows: list[list[str | Verdict]] = []
    for finding in result.findings:
        counts = finding.code.startswith("lost")
        model = str(finding.modelled) if counts else time_text(finding.modelled, _side(finding.code))
        measured = str(finding.measured) if counts else time_text(finding.measured)
        rows.append([finding.about, finding.text, model, measured])
    table([("what", ""), ("how", ""), ("model", "right"), ("measured", "right")], rows)
