"""``tachys bounds``: worst cases on paper, and what each is made of."""

from __future__ import annotations

from collections.abc import Iterable

import click

from tachys.bounds.result import Bounds, Figure, NeedBounds, Verdict
from tachys.cli.output import format_option
from tachys.cli.words import count_text, exact_time, limit_text, share_text, time_text
from tachys.model.system import LoadNeed


@click.command("bounds")
@click.argument("model", type=click.Path())
@click.option("--why", metavar="ROUTINE", help="Take the figures of one routine apart.")
@click.option("--strict", is_flag=True, help="End with status 1 also when a need is at risk or unseen.")
@format_option
def bounds_command(model: str, why: str | None, strict: bool, shape: str) -> int:
    """Worst-case latency, response, loss, load and needs of MODEL, without running anything."""
    from tachys.bounds.analysis import bounds
    from tachys.bounds.export import bounds_data
    from tachys.cli.output import print_json, warn
    from tachys.model.loading import load_model

    system = load_model(model)
    warn(system.remarks)
    found = bounds(system)
    if why is not None:
        _show_why(found, why, model)
    elif shape == "json":
        print_json(bounds_data(found))
    elif shape == "csv":
        _print_csv(found)
    else:
        show_bounds(found, model)
    return status(need.verdict for need in found.needs.values()) if strict else 0


def status(verdicts: Iterable[Verdict]) -> int:
    """The exit status of a strict command."""
    return int(any(verdict is not Verdict.MET for verdict in verdicts))


def show_bounds(found: Bounds, model: str) -> None:
    """All bounds as tables."""
    from tachys.cli.output import heading, say, table

    heading(found.system.title or model)
    say(_core_line(found), "")
    if found.needs:
        heading("Needs, least room first")
        columns = [("need", ""), ("what must hold", ""), *((name, "right") for name in ("limit", "bound", "slack"))]
        table([*columns, ("verdict", "")], [need_row(need) for need in by_slack(found.needs.values())])
    heading("Interrupt routines, most urgent first")
    columns = [("routine", ""), ("level", "right"), ("latency least", "right"), ("most", "right")]
    columns += [("response least", "right"), ("most", "right"), ("lost", ""), ("can wait", "right")]
    table(columns, [_isr_row(found, name) for name in found.isrs])
    for name, isr in found.isrs.items():
        if isr.latency.reason:
            say(f"isr.{name} is unbounded: {isr.latency.reason}.")
    say(*_load_lines(found), "")
    if found.isrs:
        worst = max(found.isrs.values(), key=lambda isr: isr.latency.most or 0)
        say(f"What a figure is made of: tachys bounds {model} --why {worst.name}")


def _core_line(found: Bounds) -> str:
    core = found.system.core
    nesting = "routines nest" if core.nesting else "routines do not nest"
    rate = core.clock.hertz / 10**6
    overhead = f"entry {time_text(core.entry.most, 'up')}, exit {time_text(core.exit.most, 'up')}"
    chain = f"chain {time_text(core.chain.most, 'up')}"
    return f"core {float(rate):g} MHz, {count_text(core.levels, 'level')}, {nesting}; {overhead}, {chain}"


def by_slack(needs: Iterable[NeedBounds]) -> list[NeedBounds]:
    """The needs with the least room first; those without a bound lead."""

    def room(need: NeedBounds) -> tuple[bool, float]:
        return need.bound is not None, 0.0 if need.bound is None else 1 - float(need.bound / need.limit)

    return sorted(needs, key=room)


def what_holds(need: NeedBounds) -> str:
    """A need in the model's words."""
    if isinstance(need.need, LoadNeed):
        return "load"
    return f"{need.need.begins.removeprefix('source.')} → {need.need.ends}"


def need_row(need: NeedBounds) -> list[str | Verdict]:
    """Name, what, limit, bound, slack, verdict."""
    bound = "none" if need.bound is None else limit_text(need.bound, "up")
    if need.bound is None and need.reason and not need.reason.startswith("no bound"):
        bound = "unbounded"
    room = "-" if need.bound is None else limit_text(need.limit - need.bound, "down")
    return [need.need.name, what_holds(need), limit_text(need.limit), bound, room, need.verdict]


def _most(figure: Figure) -> str:
    return "unbounded" if figure.most is None else time_text(figure.most, "up")


def _isr_row(found: Bounds, name: str) -> list[str | Verdict]:
    isr, line = found.isrs[name], found.system.isr(name)
    return [
        name,
        str(found.system.core.level_text(line.urgency)),
        time_text(isr.latency.least, "down"),
        _most(isr.latency),
        time_text(isr.response.least, "down"),
        _most(isr.response),
        "possible" if isr.lost else "never",
        "no limit" if isr.pending_needed is None else f"{isr.pending_needed} of {line.pending}",
    ]


def _load_lines(found: Bounds) -> list[str]:
    load = found.load
    lines = [f"Load in the long run: {share_text(load.least, 'down')} to {share_text(load.most, 'up')}"]
    biggest = sorted(load.shares, key=lambda share: -share.most)[:5]
    if biggest:
        lines.append("  at most: " + ", ".join(f"{share.who} {share_text(share.most, 'up')}" for share in biggest))
    if load.reason:
        lines.append(f"  {load.reason}.")
    return lines


def _show_why(found: Bounds, name: str, model: str) -> None:
    from tachys.cli.output import heading, say, table
    from tachys.errors import did_you_mean, input_error

    name = name.removeprefix("isr.")
    if name not in found.isrs:
        mend = did_you_mean(name, list(found.isrs), "routine")
        raise input_error(model, f'there is no routine "{name}"', mend, key="--why")
    isr = found.isrs[name]
    for quantity in ("latency", "response", "span"):
        figure: Figure = getattr(isr, quantity)
        if figure.most is None:
            say(f"{quantity} of isr.{name} is unbounded: {figure.reason}")
            continue
        heading(f"{quantity} of isr.{name}, at most {exact_time(figure.most)}{_which(figure)}")
        rows: list[list[str | Verdict]] = [
            [part.what, part.who, f"{part.count} x", exact_time(part.body), exact_time(part.overhead),
             exact_time(part.total)]
            for part in figure.parts
        ]  # fmt: skip
        rows.append(["sum", "", "", "", "", exact_time(sum(part.total for part in figure.parts))])
        columns = [("what", ""), ("who", ""), ("times", "right"), ("body", "right")]
        table([*columns, ("entry, exit, chain", "right"), ("adds", "right")], rows)
    if isr.lost_reason:
        say(f"An activation may be lost: {isr.lost_reason}.")


def _which(figure: Figure) -> str:
    return f" (activation {figure.activation} of the busy window)" if figure.activation > 1 else ""


def _print_csv(found: Bounds) -> None:
    from tachys.bounds.export import limit_value, seconds
    from tachys.cli.output import print_csv

    rows: list[list[object]] = []
    for name, isr in found.isrs.items():
        lost = "possible" if isr.lost else "never"
        for quantity, figure in (("latency", isr.latency), ("response", isr.response), ("span", isr.span)):
            rows.append([f"isr.{name}", quantity, seconds(figure.least), seconds(figure.most), None, lost])
    for name, need in found.needs.items():
        rows.append([f"need.{name}", "bound", None, limit_value(need.bound), limit_value(need.limit), need.verdict])
    print_csv(["name", "quantity", "least", "most", "limit", "lost or verdict"], rows)
