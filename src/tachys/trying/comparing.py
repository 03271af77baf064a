"""Models, variants or captures beside each other: what differs in the models, and what that makes of every figure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, get_args

from msgspec import Struct

from tachys.figures import Figure
from tachys.frames import PS
from tachys.measures import measures_of
from tachys.model.system import System
from tachys.needs.verdicts import Verdict
from tachys.plain import possible
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

if TYPE_CHECKING:
    from tachys.capture.table import Capture
    from tachys.checking.result import CheckResult
    from tachys.model.costs import CostTable
    from tachys.model.loading import ModelText
    from tachys.simulation.result import Simulated

Value = float | str | None
Kind = Literal["time", "share", "number", "current", "life", "word"]


class Column(Struct, frozen=True):
    """One of what is compared: a model with its bounds, and what a capture or a simulation shows of it."""

    name: str
    bounds: Bounds
    tables: Mapping[str, Any]
    checked: CheckResult | None = None
    played: Simulated | None = None

    @property
    def verdicts(self) -> dict[str, Verdict]:
        """The verdict of each need: with the capture where there is one, else on paper, and with what was played."""
        if self.checked is not None:
            return {name: need.verdict for name, need in self.checked.needs.items()}
        if self.played is not None:
            return {name: need.verdict for name, need in self.played.needs.items()}
        return {name: need.verdict for name, need in self.bounds.needs.items()}


class Row(Struct, frozen=True):
    """A quantity of a thing in every column: seconds, a share of one, a number or a word; None where there is none."""

    about: str
    quantity: str
    kind: Kind
    values: tuple[Value, ...]

    @property
    def differs(self) -> bool:
        """Whether not all columns say the same."""
        return any(value != self.values[0] for value in self.values[1:])


class Changed(Struct, frozen=True):
    """A key of the models that differs, as written in each column; None where it does not stand."""

    key: str
    values: tuple[str | None, ...]


class Comparison(Struct, frozen=True):
    """What differs in the models first, then every figure of every column."""

    columns: tuple[str, ...]
    changed: tuple[Changed, ...]
    rows: tuple[Row, ...]
    verdicts: tuple[Verdict, ...]

    def __repr__(self) -> str:
        differ = sum(row.differs for row in self.rows)
        return f"<Comparison of {', '.join(self.columns)}: {differ} of {len(self.rows)} figures differ>"


def columns_of(
    text: ModelText, variants: Sequence[str] = (), settings: Sequence[str] = (), captures: Sequence[Capture] = (),
    play: int | None = None, name: str = "", costs: CostTable | None = None,
) -> list[Column]:  # fmt: skip
    """The columns of a model: as it stands, each variant (A+B: both, in that order), last what lies over these.

    Of several captures each is a column, with all changes in the model. ``play``: for how long to play each, in ps.
    """
    stacks = [tuple(each.split("+")) if each not in text.variants else (each,) for each in variants]
    last = stacks[-1] if stacks else ()
    whole = (last, tuple(settings), costs)
    laid: list[tuple[tuple[str, ...], tuple[str, ...], CostTable | None]]
    laid = [((), (), None), *((stack, (), None) for stack in stacks)]
    laid = [whole] if len(captures) > 1 else laid + [whole] * bool(settings or costs)
    found = []
    for stack, over, table in laid:
        system, tables = text.system(stack, over, table), text.merged(stack, over, table)
        change = ", ".join(
            filter(None, (" + ".join(stack), f"costs of {Path(table.file).name}" if table else "", *over))
        )
        for capture in captures or (None,):
            seen = Path(capture.file).name if capture is not None and len(captures) > 1 else ""
            shown = ", ".join(filter(None, (name, change, seen))) or "as it stands"
            found.append(_column(shown, system, tables, capture, play))
    return found


def _column(name: str, system: System, tables: Mapping[str, Any], capture: Capture | None, play: int | None) -> Column:
    paper = bounds_of(system)
    checked = played = None
    if capture is not None:
        from tachys.checking.checking import check

        checked = check(system, capture, paper)
    if play is not None:
        from tachys.simulation.running import simulate

        played = simulate(system, play, bounds=paper)
    return Column(name, paper, tables, checked, played)


def compare(columns: Sequence[Column], baseline: Comparison | None = None) -> Comparison:
    """Put columns beside each other; of a ``baseline`` its last column goes first.

    The verdicts are those of the last column, the one that is to be built.
    """
    told: list[dict[tuple[str, str], tuple[Kind, Value]]] = []
    names = [column.name for column in columns]
    keys = [{**dict(_flat(column.tables, ())), **dict(_timers(column.bounds.system))} for column in columns]
    if baseline is not None:
        names.insert(0, f"baseline, {baseline.columns[-1]}")
        told.append({(row.about, row.quantity): (row.kind, row.values[-1]) for row in baseline.rows})
    told += [{(about, what): (kind, value) for about, what, kind, value in _figures(column)} for column in columns]
    order = dict.fromkeys(key for each in reversed(told) for key in each)
    rows = []
    for about, what in order:
        cells = [each.get((about, what)) for each in told]
        kind = next(cell[0] for cell in cells if cell is not None)
        rows.append(Row(about, what, kind, tuple(None if cell is None else cell[1] for cell in cells)))
    changed = [
        Changed(key, (*[None] * (baseline is not None), *(each.get(key) for each in keys)))
        for key in dict.fromkeys(key for each in keys for key in each)
        if len({each.get(key) for each in keys}) > 1
    ]
    return Comparison(tuple(names), tuple(changed), tuple(rows), tuple(columns[-1].verdicts.values()))


def _flat(tables: Any, path: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """Every key of a model with its value as text."""
    items = tables.items() if isinstance(tables, Mapping) else ((str(n), each) for n, each in enumerate(tables, 1))
    for key, value in items:
        here = (*path, str(key))
        table_like = isinstance(value, list) and any(isinstance(each, Mapping) for each in value)
        if here == ("title",) or here == ("tachys",) or here[0] == "variant":
            continue
        if isinstance(value, Mapping) or table_like:
            yield from _flat(value, here)
        elif isinstance(value, list):
            yield ".".join(here), f"[{', '.join(map(str, value))}]"
        else:
            yield ".".join(here), str(value).lower() if isinstance(value, bool) else str(value)


def _timers(system: System) -> Iterator[tuple[str, str]]:
    """What the timers are really set to: they may have been set anew."""
    for source in system.sources:
        if source.timer is not None:
            setting = source.timer.setting
            yield f"{source.thing}: set to", f"prescale {setting.prescale}, count {setting.count}"


def _figures(column: Column) -> Iterator[tuple[str, str, Kind, Value]]:
    paper = column.bounds
    met = sum(verdict is Verdict.MET for verdict in column.verdicts.values())
    yield "needs", "met", "word", f"{met} of {len(column.verdicts)}"
    yield from _needs(column)
    yield from _sources(paper.system)
    for name, isr in paper.isrs.items():
        yield from _times(column, f"isr.{name}", "isr", name, isr)
        yield f"isr.{name}", "events lost", "word", possible(isr.lost)
    for name, unit in paper.units.items():
        yield f"unit.{name}", "starts lost", "word", possible(unit.lost)
    for name, flag in paper.flags.items():
        yield from _times(column, f"flag.{name}", "flag", name, flag)
        yield f"flag.{name}", "overwritten", "word", possible(flag.overwritten)
    for name, buffer in paper.buffers.items():
        yield from _times(column, f"buffer.{name}", "buffer", name, buffer)
        yield f"buffer.{name}", "most in", "number", "no limit" if buffer.level is None else buffer.level
        yield f"buffer.{name}", "items lost", "word", possible(buffer.lost)
    for name, step in paper.steps.items():
        yield from _times(column, f"step.{name}", "step", name, step)
    if paper.loop_pass is not None:
        yield "loop", "one pass", "time", _most(paper.loop_pass)
    yield "load", "long run", "share", float(paper.load.most)
    if column.checked is not None and column.checked.load is not None:
        yield "load", "seen", "share", column.checked.load.least
    if column.played is not None:
        yield "load", "played", "share", float(column.played.load)
    for share in paper.load.shares:
        yield "load", share.who, "share", float(share.most)


def _needs(column: Column) -> Iterator[tuple[str, str, Kind, Value]]:
    for name, need in column.bounds.needs.items():
        kind, about = need.need.measures, f"need.{name}"
        yield about, "limit", kind, need.need.given(need.limit)
        bound: Value = need.need.given(need.bound)
        if bound is None:
            bound = {"number": "possible", "current": "unknown", "life": "unknown"}.get(kind, "unbounded")
        yield about, "bound", kind, bound
        if column.checked is not None:
            yield about, "seen", kind, need.need.given(column.checked.needs[name].value)
        if column.played is not None:
            yield about, "played", kind, need.need.given(column.played.needs[name].value)
        yield about, "verdict", "word", str(column.verdicts[name])


def _sources(system: System) -> Iterator[tuple[str, str, Kind, Value]]:
    for source in system.sources:
        if source.period is not None:
            yield source.thing, "period", "time", float(Fraction(source.period) / PS)
        else:
            yield source.thing, "gap", "time", source.gap / PS


def _times(column: Column, about: str, kind: str, name: str, bounded: object) -> Iterator[tuple[str, str, Kind, Value]]:
    for measure in measures_of(kind, bounded=True):
        figure = getattr(bounded, measure.key)
        if figure is None or measure.key == "span":
            continue
        yield about, measure.title, "time", _most(figure)
        if column.checked is not None and measure.seen:
            shown = getattr(column.checked, f"{kind}s").get(name)
            seen = None if shown is None else getattr(shown, measure.key)
            if seen is not None:
                yield about, f"{measure.title}, seen", "time", seen.most / PS
        if column.played is not None and measure.played:
            stats = column.played.stats(measure.name(name))
            yield about, f"{measure.title}, played", "time", None if stats is None else stats.most / PS


def _most(figure: Figure) -> Value:
    return "unbounded" if figure.most is None else figure.most / PS


def comparison_data(found: Comparison) -> dict[str, Any]:
    """As JSON."""
    return {
        "format": "tachys.compare/1",
        "columns": list(found.columns),
        "verdicts": [str(verdict) for verdict in found.verdicts],
        "changed": [{"key": each.key, "values": list(each.values)} for each in found.changed],
        "rows": [
            {"about": row.about, "quantity": row.quantity, "kind": row.kind, "values": list(row.values),
             "differs": row.differs}
            for row in found.rows
        ],
    }  # fmt: skip


def comparison_of(data: Any) -> Comparison | None:
    """What an earlier comparison was kept as; None where the data are none."""
    if not isinstance(data, dict) or data.get("format") != "tachys.compare/1":
        return None
    columns, rows = data.get("columns"), data.get("rows")
    if not isinstance(columns, list) or not columns or not isinstance(rows, list):
        return None
    found = []
    for row in rows:
        values = row.get("values") if isinstance(row, dict) else None
        if not isinstance(values, list) or len(values) != len(columns):
            return None
        if row.get("kind") not in get_args(Kind):
            return None
        if not all(each is None or isinstance(each, (int, float, str)) for each in values):
            return None
        found.append(Row(str(row.get("about")), str(row.get("quantity")), row["kind"], tuple(values)))
    return Comparison(tuple(map(str, columns)), (), tuple(found), ())
