"""``tachys bounds``: worst cases on paper, and what each is made of."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from fractions import Fraction
from typing import TYPE_CHECKING

import click

from tachys.cli.collecting import Collected, collecting_options, suite_of
from tachys.cli.completion import names_of
from tachys.cli.modelling import Changes, model_options, titled
from tachys.cli.output import format_option
from tachys.figures import Figure, total_of
from tachys.needs.takers import INTERRUPTS
from tachys.needs.verdicts import Verdict
from tachys.needs.words import bound_text, doubt_of, slack_text, value_text, what_holds
from tachys.words import count_text, exact_share, exact_time, numbers_text, range_text, share_text, time_text

if TYPE_CHECKING:
    from tachys.model.events import Thing
    from tachys.model.quantities import Range
    from tachys.needs.kinds import NeedBounds
    from tachys.simulation.result import NeedSeen
    from tachys.worstcase.bounds import Bounds

Row = list[str | Verdict]


@click.command("bounds")
@click.argument("model", type=click.Path())
@click.option("--why", metavar="NAME", shell_complete=names_of(),
              help="Take apart the figures of one thing: a routine, step, flag, need, load …")  # fmt: skip
@click.option(
    "--rules",
    type=click.Choice(["refined", "plain"]),
    default="refined",
    help="plain: follow no tokens through the loop, and count all that can come while it sleeps or waits.",
)
@model_options
@click.option("--strict", is_flag=True, help="End with status 1 also when a need is at risk or unseen.")
@collecting_options
@format_option
def bounds_command(
    model: str, why: str | None, rules: str, changes: Changes, strict: bool, collected: Collected, shape: str
) -> int:
    """Worst-case latency, response, loss, load and needs of MODEL, without running anything."""
    from tachys.cli.output import print_csv, print_json, warn
    from tachys.worstcase.analysis import bounds
    from tachys.worstcase.bounds import COLUMNS
    from tachys.worstcase.export import bounds_data
    from tachys.worstcase.lint import lint

    before = collected.before("bounds")
    system = changes.load(model)
    found = bounds(system, plain=rules == "plain")
    warn([*system.remarks, *lint(found)])
    if why is not None:
        _show_why(found, why, model, shape)
    elif shape == "json":
        print_json(bounds_data(found))
    elif shape == "csv":
        print_csv(COLUMNS, found.rows())
    else:
        show_bounds(found, model)
    worse = collected.worse(before, [bounds_data(found)], system.needs, told=shape == "table")
    collected.write(
        lambda: [suite_of(f"{model}, on paper", 0.0, found.needs, _sentence, lambda need: fails(need, strict=strict))]
    )
    verdicts = [need.verdict for need in found.needs.values()]
    return int(strict and worse) or status(verdicts, strict=strict)


def _sentence(need: NeedBounds) -> str:
    limit, bound = value_text(need.need, need.limit), bound_text(need.need, need.bound)
    doubt = doubt_of(need)
    return f"{what_holds(need.need)}: {need.verdict}; limit {limit}, bound {bound}{f'; {doubt}' * bool(doubt)}"


def fails(need: NeedBounds | NeedSeen, *, strict: bool) -> bool:
    """Whether a need makes the status 1."""
    return bool(status([need.verdict], strict=strict))


def status(verdicts: Collection[Verdict], *, strict: bool) -> int:
    """The exit status that follows from verdicts."""
    return int(Verdict.MISSED in verdicts or (strict and any(verdict is not Verdict.MET for verdict in verdicts)))


def show_bounds(found: Bounds, model: str) -> None:
    """All bounds as tables, one for each kind of thing."""
    from tachys.cli.output import heading, say

    heading(titled(found.system, model))
    say(_core_line(found), "")
    _show_needs(found)
    _show_isrs(found)
    _show_inner(found)
    _show_units(found)
    _show_loop(found)
    _show_flags(found)
    _show_buffers(found)
    _show_counters(found)
    say(*_load_lines(found), "")
    for event in found.endless:
        say(f"The delay of {event} grows without end: what follows it is held apart only by what its producer needs.")
    if found.isrs:
        worst = max(found.isrs.values(), key=lambda isr: isr.latency.most or 0)
        say(f"What a figure is made of: tachys bounds {model} --why {worst.name}")


def _core_line(found: Bounds) -> str:
    core = found.system.core
    nesting = "routines nest" if core.nesting else "routines do not nest"
    rate = core.clock.hertz / 10**6
    took = [("entry", core.entry), ("exit", core.exit), ("chain", core.chain)]
    told = ", ".join(f"{what} {_switch_text(each)}" for what, each in took)
    return f"core {float(rate):g} MHz, {count_text(core.levels, 'level')}, {nesting}; {told}"


def _switch_text(took: Range) -> str:
    """The most; the least too, where it differs by more than a clock does."""
    return range_text(took.least, took.most) if 10 * took.most > 11 * took.least else time_text(took.most, "up")


def by_slack(needs: Iterable[NeedBounds]) -> list[NeedBounds]:
    """The needs with the least room first; those without a bound lead."""

    def room(need: NeedBounds) -> tuple[bool, float]:
        if need.bound is None or not need.limit:
            return need.proved, 0.0
        return True, 1 - float(need.bound / need.limit)

    return sorted(needs, key=room)


def need_row(need: NeedBounds) -> Row:
    """Name, what, limit, bound, slack, verdict."""
    bound = bound_text(need.need, need.bound, unseen=need.verdict is Verdict.UNSEEN)
    limit, room = value_text(need.need, need.limit), slack_text(need.need, need.limit, need.bound)
    return [need.need.name, what_holds(need.need), limit, bound, room, need.verdict]


def _show_needs(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table

    if not found.needs:
        return
    heading("Needs, least room first")
    needs = by_slack(found.needs.values())
    columns = [("need", ""), ("what must hold", ""), *((name, "right") for name in ("limit", "bound", "slack"))]
    table([*columns, ("verdict", "")], [need_row(need) for need in needs])
    doubts = [f"  {need.need.name}: {doubt}." for need in needs if (doubt := doubt_of(need))]
    say(*doubts, *[""] * bool(doubts))


def most_text(figure: Figure) -> str:
    """The most of a figure, rounded up."""
    return "unbounded" if figure.most is None else time_text(figure.most, "up")


def _show_isrs(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table

    if not found.isrs:
        return
    heading("Interrupt routines: those that may lose events first, then by urgency")
    columns = [("routine", ""), ("level", "right"), ("latency least", "right"), ("most", "right")]
    columns += [("response least", "right"), ("most", "right"), ("lost", ""), ("can wait", "right")]
    table(columns, [_isr_row(found, name) for name in sorted(found.isrs, key=lambda name: not found.isrs[name].lost)])
    for reason, names in _by_reason(found).items():
        say(f"{', '.join(f'isr.{name}' for name in names)}: unbounded, {reason}.")
    never = [isr.thing for isr in found.system.isrs if found.reach is not None and found.reach.never(isr.on)]
    if never:
        say(f"On paper no item is lost that would make it run: {', '.join(never)}, as late as it would be.")


def _show_inner(found: Bounds) -> None:
    from tachys.cli.output import heading, table

    rows: list[Row] = [
        [f"{name}.{moment}", *(text for figure in (within.response, within.span)
                               for text in (time_text(figure.least, "down"), most_text(figure)))]
        for name, isr in found.isrs.items() for moment, within in isr.inner.items()
    ]  # fmt: skip
    if rows:
        heading("Within routines: each n-th run, and moments")
        columns = [("event", ""), ("after what it serves least", "right"), ("most", "right")]
        table([*columns, ("after first instruction least", "right"), ("most", "right")], rows)


def _by_reason(found: Bounds) -> dict[str, list[str]]:
    reasons: dict[str, list[str]] = {}
    for name, isr in found.isrs.items():
        if isr.latency.reason:
            reasons.setdefault(isr.latency.reason, []).append(name)
    return reasons


def _isr_row(found: Bounds, name: str) -> Row:
    from tachys.plain import possible

    isr, line = found.isrs[name], found.system.isr(name)
    return [
        name,
        str(found.system.core.level_text(line.urgency)),
        time_text(isr.latency.least, "down"),
        most_text(isr.latency),
        time_text(isr.response.least, "down"),
        most_text(isr.response),
        possible(isr.lost),
        "no limit" if isr.pending_needed is None else f"{isr.pending_needed} of {line.pending}",
    ]


def _show_units(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table
    from tachys.plain import possible
    from tachys.worstcase.laws import law_of

    if not found.units:
        return
    heading("Units")
    rows: list[Row] = []
    for name, unit in sorted(found.units.items(), key=lambda item: not item[1].lost):
        busy = found.system.unit(name).busy
        in_row = "no limit" if unit.lost_in_row is None else str(unit.lost_in_row)
        depth = "no limit" if unit.depth_needed is None else str(unit.depth_needed)
        times = [time_text(unit.time.least, "down"), most_text(unit.time)]
        rows.append([name, busy, *times, possible(unit.lost), in_row if unit.lost else "-", depth])
    notes = [silent for unit in found.system.units if (silent := law_of(found.system, unit.thing).silent) is not None]
    columns = [("unit", ""), ("when busy", ""), ("start to end least", "right"), ("most", "right"), ("starts lost", "")]
    table([*columns, ("in a row", "right"), ("queue needed", "right")], rows)
    for note in notes:
        say(f"  {note}.")


def _show_loop(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table

    if found.loop_pass is None:
        return
    from tachys.worstcase.arrivals import BEYOND

    whole, startup = found.loop_pass, found.system.startup
    heading(f"Loop: a pass takes {time_text(whole.least, 'down')} to {most_text(whole)}")
    if whole.most is None:
        say(f"  {whole.reason}.")
    rows: list[Row] = []
    for name, step in found.steps.items():
        late = "-" if step.late is None else most_text(step.late)
        interval = most_text(step.interval)
        if interval == "unbounded" and found.system.steps and step.interval.reason.startswith("it waits for "):
            interval = "when asked" if found.system.step(name).asked_by else "when flagged"
        least = time_text(step.interval.least, "down")
        if startup is not None and startup.name == name:
            least, interval = "-", "once"
        elif step.interval.least >= BEYOND:
            least, interval = "-", "never"
        rows.append([name, least, interval, time_text(step.duration.least, "down"),
                     most_text(step.duration), late + (", drifts" if step.drifts else "")])  # fmt: skip
    if rows:
        columns = [("step", ""), ("start to start least", "right"), ("most", "right")]
        columns += [("start to end least", "right"), ("most", "right"), ("late at most", "right")]
        table(columns, rows)
    if startup is not None:
        probes = [probe for probe in found.system.probes if startup.thing in probe.shows]
        shown = "".join(f" --set probe.{probe.signal}=false" for probe in probes)
        say(f"  All figures hold from time zero on, the start-up included; --set startup=false{shown} leaves it out.")
    for name, step in found.steps.items():
        for what, figure in (("late", step.late), ("duration", step.duration)):
            if figure is not None and figure.reason and figure.reason != whole.reason:
                say(f"  step.{name} {what}: {figure.reason}.")


def _show_flags(found: Bounds) -> None:
    from tachys.cli.output import heading, table
    from tachys.plain import possible

    if not found.flags:
        return
    heading("Flags")
    rows: list[Row] = []
    for name, flag in sorted(found.flags.items(), key=lambda item: not item[1].overwritten):
        why = flag.reaction.reason or flag.reason
        rows.append([name, most_text(flag.reaction), possible(flag.overwritten), why if flag.overwritten else ""])
    table([("flag", ""), ("set to taken at most", "right"), ("overwritten", ""), ("why", "")], rows)


def _show_counters(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table

    if not found.counters:
        return
    heading("Counters that are looked at")
    rows: list[Row] = []
    for name, each in found.counters.items():
        counts = numbers_text(each.fewest, each.most) + (", always" if each.exact else "")
        missed = "no limit" if each.missed is None else str(each.missed)
        rows.append([name, str(each.states), counts, missed])
    columns = [("counter", ""), ("states", "right"), ("counts between two looks", "right")]
    table([*columns, ("rounds missed between them", "right")], rows)
    for name, each in found.counters.items():
        why = f"; {each.reason}" if each.reason else ""
        say(f"  what looks at {name} show: {each.told}{why}.")
    say("")


def _show_buffers(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table
    from tachys.plain import possible
    from tachys.worstcase.analysis import depth_for

    if not found.buffers:
        return
    heading("Buffers")
    rows: list[Row] = []
    for name, buffer in sorted(found.buffers.items(), key=lambda item: not item[1].lost):
        level = "no limit" if buffer.level is None else str(buffer.level)
        depth, drain = found.system.buffer(name).depth, found.system.graph.drain[name].thing
        needed = depth_for(found, name) if buffer.lost else buffer.level
        waits = name in found.system.graph.putters
        full_after = "it waits" if waits else time_text(buffer.full_after, "down")
        rows.append([name, drain, str(depth), full_after, level, most_text(buffer.time), possible(buffer.lost),
                     "no limit" if needed is None else str(needed)])  # fmt: skip
    columns = [("buffer", ""), ("emptied by", ""), ("depth", "right"), ("overflows after", "right")]
    columns += [("most in", "right"), ("put to gone at most", "right")]
    table([*columns, ("lost", ""), ("depth needed", "right")], rows)
    for name, buffer in found.buffers.items():
        if buffer.time.reason:
            say(f"  buffer.{name}: {buffer.time.reason}.")


def _load_lines(found: Bounds) -> list[str]:
    load = found.load
    whole = f"{share_text(load.least, 'down')} to {share_text(load.most, 'up')}"
    lines = [f"Load in the long run: {whole}; and what each takes at most by itself"]
    for group in load.groups:
        kinds = {INTERRUPTS: ("isr",), "stolen": ("unit",)}.get(group.who, ("step", "loop"))
        mine = [share for share in load.shares if share.who.partition(".")[0] in kinds]
        biggest = sorted(mine, key=lambda share: -share.most)[:3] if group.who != "idle" else []
        told = ", ".join(f"{share.who} {share_text(share.most, 'up')}" for share in biggest if share.most)
        range_ = f"{share_text(group.least, 'down'):>7} to {share_text(group.most, 'up'):>7}"
        lines.append(f"  {group.who:10} {range_}" + (f": {told}" if told else ""))
    if load.reason:
        lines.append(f"  {load.reason}.")
    busiest = ", ".join(f"{share_text(w.most, 'up')} of any {time_text(w.length)}" for w in load.windows)
    lines.append(f"Busiest windows: {busiest}")
    if load.storms:
        names = ", ".join(f"isr.{name}" for name in load.storms)
        lines.append(
            f"Interrupt storm: {names} alone can take the whole core when its events come as fast as they may."
        )
    return lines


def _show_why(found: Bounds, name: str, model: str, shape: str) -> None:
    from tachys.cli.output import print_json, say
    from tachys.errors import did_you_mean, input_error
    from tachys.plain import figure as figure_data
    from tachys.worstcase.export import need_data

    need = found.needs.get(name.removeprefix("need."))
    if name in ("load", "current"):
        _show_load_why(found) if name == "load" else _show_current_why(found)
        return
    things = list(found.named(name))
    if need is not None and not things:
        if shape == "json":
            print_json({"format": "tachys.why/1", f"need.{need.need.name}": need_data(need)})
        else:
            _show_need_why(found, need)
        return
    if not things:
        known = [*found.catalog(), *(f"need.{each}" for each in found.needs)]
        short = [full.partition(".")[2] or full for full in known]
        known_names = [*dict.fromkeys((*known, *short)), "load", "current"]
        raise input_error(model, f'there is no "{name}"', did_you_mean(name, known_names, "name"), key="--why")
    if shape == "json":
        print_json({"format": "tachys.why/1"} | {f: {title: figure_data(x) for title, x in xs} for f, xs in things})
        return
    for full, figures in things:
        for title, figure in figures:
            _show_figure(full, title, figure)
        isr = found.isrs.get(full.removeprefix("isr."))
        if isr is not None and isr.lost_reason:
            say(f"An activation may be lost: {isr.lost_reason}.")
    if need is not None:
        if need.need.feeds is not None:  # what the longest time between two feeds is made of
            for full, figures in found.named(need.need.feeds.fed_by.thing):
                _show_figure(full, *figures[0])
        say(_verdict_line(need))


def _show_need_why(found: Bounds, need: NeedBounds) -> None:
    """What a need without a sum of its own is made of: a load, a loss, a level, a current."""
    from tachys.cli.output import say

    if need.need.measures == "share":
        _show_load_why(found)
    elif need.need.measures in ("current", "life"):
        _show_current_why(found)
    else:
        for full in _taken_by(found, need.need.waits):
            if line := _room_line(found, full):
                say(line)
            for each, figures in found.named(full):
                for title, figure in figures[: 2 if full.startswith("isr.") else 1]:
                    _show_figure(each, title, figure)
    say(_verdict_line(need))


def _taken_by(found: Bounds, thing: Thing) -> list[str]:
    """A thing itself; of a source all that it begins."""
    if thing.kind != "source":
        return [thing]
    begun = found.system.graph.begun_by
    return [each.thing for event, things in begun.items() if event.thing == thing for each in things]


def _room_line(found: Bounds, full: str) -> str:
    """How many can wait at a thing, and how many may have to."""
    kind, _, name = full.partition(".")
    if kind == "buffer":
        buffer, depth = found.buffers[name], found.system.buffer(name).depth
        level = "more than can be told" if buffer.level is None else f"{buffer.level} at most"
        full_after = "" if buffer.full_after is None else f" It overflows after {time_text(buffer.full_after, 'down')}."
        return f"{full} holds {depth}; {level} are in it at once.{full_after}"
    if kind == "isr":
        isr, line = found.isrs[name], found.system.isr(name)
        needed = "no number is enough" if isr.pending_needed is None else f"{isr.pending_needed} may have to"
        lost = f" {isr.lost_reason[0].upper()}{isr.lost_reason[1:]}." if isr.lost_reason else ""
        return f"{count_text(line.pending, 'event')} of {full} can wait; {needed}.{lost}"
    if kind == "flag":
        return f"{full} is one bit: set while it is still set, an event is lost."
    return ""


def _verdict_line(need: NeedBounds) -> str:
    limit, bound = value_text(need.need, need.limit), bound_text(need.need, need.bound)
    doubt = doubt_of(need)
    room = "" if need.bound is None else f", room {slack_text(need.need, need.limit, need.bound)}"
    return f"need.{need.need.name}: limit {limit}, bound {bound}{room}: {need.verdict}{f', {doubt}' * bool(doubt)}."


def _show_figure(full: str, title: str, figure: Figure) -> None:
    from tachys.cli.output import heading, say, table

    if figure.most is None:
        say(f"{full}, {title}: unbounded, {figure.reason}")
        return
    heading(f"{full}, {title}: at most {exact_time(figure.most)}{_which(figure)}")
    rows: list[Row] = [
        [part.what, part.who, f"{part.count} x", exact_time(part.body), exact_time(part.overhead),
         exact_time(part.total)]
        for part in figure.parts
    ]  # fmt: skip
    rows.append(["sum", "", "", "", "", exact_time(total_of(figure.parts))])
    columns = [("what", ""), ("who", ""), ("times", "right"), ("body", "right")]
    table([*columns, ("entry, exit, chain", "right"), ("adds", "right")], rows)


def _show_current_why(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table
    from tachys.words import amperes_text
    from tachys.worstcase.supply import currents_of, supply_bounds

    assert found.reach is not None
    supply, currents = supply_bounds(found.reach, found.load), currents_of(found.system)
    if supply.average is None:
        say(f"The average supply current is unknown: no current is given for {', '.join(supply.missing)}.")
        return
    heading(f"Average supply current: at most {amperes_text(supply.average[1], 'up')}")
    rows: list[Row] = []
    for state, share in sorted(supply.at_most.items(), key=lambda each: -each[1] * currents.get(each[0], (0, 0))[1]):
        part, most = supply.states.get(state), currents.get(state, (Fraction(0), Fraction(0)))[1]
        if part is not None:
            rows.append([state, share_text(part.share[0], "down"), share_text(part.share[1], "up"), share_text(share),
                         amperes_text(most), amperes_text(share * most)])  # fmt: skip
    rows.append(["sum", "", "", "", "", amperes_text(supply.average[1], "up")])
    columns = [("state", ""), *((name, "right") for name in ("of the time least", "most", "here", "takes", "adds"))]
    table(columns, rows)
    say("The dearest state has as much of the time as it can have. How much each state can have: --why load.")


def _show_load_why(found: Bounds) -> None:
    from tachys.cli.output import heading, say, table

    load = found.load
    heading("Load, who takes how much at most")
    columns = [("who", ""), ("long run least", "right"), ("most", "right")]
    columns += [(f"any {time_text(window.length)}", "right") for window in load.windows]
    inside = [dict(window.shares) for window in load.windows]
    rows: list[Row] = [
        [share.who, exact_share(share.least), exact_share(share.most),
         *(exact_share(each[share.who]) if share.who in each else "-" for each in inside)]
        for share in sorted(load.shares, key=lambda share: -share.most)
    ]  # fmt: skip
    sums = [sum((getattr(s, key) for s in load.shares), Fraction(0)) for key in ("least", "most")]
    sums += [sum(each.values(), Fraction(0)) for each in inside]
    rows.append(["sum", *map(exact_share, sums)])
    if any(each > 1 for each in sums):
        rows.append(["no more than", *(exact_share(min(each, Fraction(1))) for each in sums)])
    table(columns, rows)
    if any(each > 1 for each in sums):
        say("Each is what one can take by itself. Not all of them can at once, so sums may be beyond 100 %.")


def _which(figure: Figure) -> str:
    return f" (activation {figure.activation} of the busy window)" if figure.activation > 1 else ""
