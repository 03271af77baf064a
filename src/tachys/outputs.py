"""What each JSON output looks like: the JSON Schemas that ``tachys schema --output`` prints.

Times are seconds, loads are shares of one, values of needs as their limits are given; what is not there is null. See
docs/formats.md for the meaning.
"""

from __future__ import annotations

from typing import Any, Literal

from tachys.measures import measures_of

Seconds = Share = Amount = float


def _shape(name: str, /, **fields: Any) -> Any:
    """An object with exactly these fields."""
    from typing_extensions import TypedDict

    return TypedDict(name, fields)  # type: ignore[operator]


def _or_not(fields: dict[str, Any]) -> dict[str, Any]:
    """Fields that may be missing."""
    from typing import NotRequired

    return {name: NotRequired[kind] for name, kind in fields.items()}


def _measured(kind: str, value: Any, **which: bool) -> dict[str, Any]:
    return {measure.key: value for measure in measures_of(kind, **which)}


def _by_name(kind: Any) -> Any:
    return dict[str, kind]


def _list(kind: Any) -> Any:
    return list[kind]


def _null_or(kind: Any) -> Any:
    return kind | None


def _head(name: str) -> Any:
    return Literal[f"tachys.{name}/1"]


def _range(name: str, kind: Any = Seconds) -> Any:
    return _shape(name, least=kind, most=kind)


def _bounds() -> Any:
    part = _shape("Part", what=str, who=str, count=int, time=Seconds)
    reason = _or_not({"reason": str})
    figure = _shape("Bound", least=Seconds, most=_null_or(Seconds), parts=_list(part), **reason)
    window = _shape("Window", length=Seconds, most=Share, shares=_by_name(Share))
    taken = _by_name(_range("Shares"))
    load = _shape("Load", least=Share, most=Share, groups=taken, shares=taken, windows=_list(window), storms=_list(str))
    loses = Literal["never", "possible"]
    between = _shape("Counts", least=int, most=_null_or(int))
    counter = _shape("Counter", states=int, between=between, missed=_null_or(int), between_looks=between,
                     rounds_missed=_null_or(int), shown=int, told=str, reason=str)  # fmt: skip
    inner = _or_not({"inner": _by_name(_shape("Within", response=figure, span=figure))})
    isr = _shape("Routine", **_measured("isr", figure, bounded=True), lost=loses, pending_needed=_null_or(int), **inner)
    unit = _shape("Unit", **_measured("unit", figure, bounded=True), lost=loses, lost_in_row=_null_or(int),
                  depth_needed=_null_or(int))  # fmt: skip
    flag = _shape("Flag", **_measured("flag", figure, bounded=True), overwritten=loses)
    level = _shape("Level", most=_null_or(int), depth=int)
    buffer = _shape("Buffer", **_measured("buffer", figure, bounded=True), level=level, lost=loses)
    step = _shape("Step", **_measured("step", figure, bounded=True) | {"late": _null_or(figure)}, drifts=bool)
    need = _shape(
        "Need", verdict=str, limit=Amount, bound=_null_or(Amount), **_or_not({"parts": _list(part)}), **reason
    )
    return _shape("Bounds", format=_head("bounds"), title=str, laid_over=_list(str),
                  load=load, loop=_by_name(figure), isrs=_by_name(isr),
                  units=_by_name(unit), flags=_by_name(flag), buffers=_by_name(buffer), steps=_by_name(step),
                  needs=_by_name(need), **_or_not({"energy": _supply(), "counters": _by_name(counter)}))  # fmt: skip


def _statistics(name: str, **more: Any) -> Any:
    times = ("mean", "least", "median", "p95", "p99", "p999", "most")
    return _null_or(_shape(name, count=int, **dict.fromkeys(times, Seconds), **more))


def _supply() -> Any:
    part = _shape("Part", share=_range("Shares", Share), charge=_range("Coulombs", float))
    return _shape("Supply", average=_null_or(_range("Amperes", float)), states=_by_name(part), causes=_by_name(part),
                  missing=_list(str), wakes=_null_or(float),
                  life=_null_or(_shape("Life", least=float, most=_null_or(float))))  # fmt: skip


def _energy() -> Any:
    supply = _supply()
    state = _shape("Metered", mean=float, off=float, count=int)
    metered = _shape("Measured", length=Seconds, average=float, off=float, charge=float, states=_by_name(state),
                     on_top=_by_name(_shape("OnTop", share=float, charge=float)))  # fmt: skip
    saving = _shape("Saving", change=str, average=float, falls=_list(str))
    return _shape("Energy", format=_head("energy"), title=str, length=Seconds, paper=supply, played=supply,
                  captures=_by_name(_null_or(supply)), measured=_by_name(metered), savings=_list(saving))  # fmt: skip


def _simulation() -> Any:
    stats = _statistics("Statistics")
    load = _shape("Load", seen=Share, shares=_by_name(Share))
    isr = _shape("Routine", **_measured("isr", stats, played=True), lost=int, cleared=int)
    unit = _shape("Unit", **_measured("unit", stats, played=True), lost=int, silent=int)
    flag = _shape("Flag", **_measured("flag", stats, played=True), overwritten=int)
    level = _shape("Level", most=int)
    buffer = _shape("Buffer", **_measured("buffer", stats, played=True), level=level, lost=int)
    step = _shape("Step", **_measured("step", stats, played=True))
    miss = _shape("Miss", run=int, at=Seconds, value=_null_or(Amount), kind=str)
    need = _shape("Need", verdict=str, limit=Amount, **_or_not({"seen": stats}), value=_null_or(Amount), missed=int,
                  misses=int, first=_list(miss))  # fmt: skip
    pin = _shape("Pin", edges=int, high=Share)
    between = _shape("Counts", least=_null_or(int), most=_null_or(int))
    counter = _shape("Counter", between=between, looks=int, tops=int, missed=int)
    return _shape("Simulation", format=_head("simulation"), title=str, laid_over=_list(str),
                  runs=int, length=Seconds, complete=bool,
                  load=load, loop=_by_name(stats), isrs=_by_name(isr), units=_by_name(unit), flags=_by_name(flag),
                  buffers=_by_name(buffer), steps=_by_name(step), needs=_by_name(need),
                  **_or_not({"energy": _supply(), "pins": _by_name(pin), "counters": _by_name(counter)}))  # fmt: skip


def _finding(name: str, **more: Any) -> Any:
    return _shape(name, code=str, about=str, text=str, modelled=_null_or(float), measured=_null_or(float),
                  falls=_list(str), explains=_list(str), at=_null_or(Seconds), **more)  # fmt: skip


def _of_a_miss() -> tuple[Any, Any]:
    cause = _shape("Cause", what=str, how=str, time=Seconds, expected=_null_or(Seconds))
    return cause, _shape("Stretch", **{"from": Seconds}, to=Seconds, how=str, what=str)


def _check() -> Any:
    seen = _statistics("Measured", resolution=Seconds, relative=bool)
    busy = _shape("BusyWindow", length=Seconds, seen=Share, at=Seconds, bound=Share)
    taken = _shape("Taken", least=Share, most=Share, by=str)
    load = _shape("Load", least=Share, most=Share, busiest=_list(busy), seen=_null_or(taken))
    clock = _shape("Clock", ppm=float, sure=float, lines=_list(str))
    isr = _shape("Routine", **_measured("isr", seen, seen=True), lost=_null_or(int), runs=_null_or(int), unasked=int)
    unit = _shape("Unit", **_measured("unit", seen, seen=True), lost=_null_or(int))
    flag = _shape("Flag", **_measured("flag", seen, seen=True), overwritten=int)
    buffer = _shape("Buffer", level=_shape("Level", most=int), lost=int)
    step = _shape("Step", **_measured("step", seen, seen=True))
    cause, stretch = _of_a_miss()
    miss = _shape("Miss", at=Seconds, value=_null_or(Seconds), kind=str, causes=_list(cause))
    estimate = _shape("Estimate", value=Seconds, once_in=int, fit=float)
    need = _shape("Need", verdict=str, basis=_null_or(str), limit=Amount, bound=_null_or(Amount), seen=seen,
                  value=_null_or(Amount), missed=int, misses=_list(miss), worst=_list(stretch), note=str,
                  estimate=_null_or(estimate))  # fmt: skip
    told = _shape("Told", count=int, least=Seconds, most=Seconds, resolution=Seconds)
    modelled = _shape("Modelled", least=_null_or(Seconds), most=_null_or(Seconds))
    figure = _shape("Figure", about=str, figure=str, modelled=modelled, measured=_null_or(told),
                    agreement=Literal["agrees", "refutes", "not shown"], why=str)  # fmt: skip
    return _shape("Check", format=_head("check"), capture=str, laid_over=_list(str),
                  length=Seconds, resolution=Seconds, remarks=_list(str),
                  load=load, clock=_null_or(clock), isrs=_by_name(isr), units=_by_name(unit), flags=_by_name(flag),
                  buffers=_by_name(buffer), steps=_by_name(step), periods=_by_name(seen), needs=_by_name(need),
                  figures=_list(figure), findings=_list(_finding("Finding")), unseen=_list(str),
                  foreign=_list(str))  # fmt: skip


def _checks() -> Any:
    need = _shape("PooledNeed", verdict=str, limit=Amount, bound=_null_or(Amount), worst=_null_or(Amount), count=int,
                  misses=int, worst_in=str)  # fmt: skip
    pooled = _shape("Pooled", needs=_by_name(need), findings=_list(_finding("PooledFinding", captures=int)))
    return _shape("Checks", format=_head("checks"), pooled=pooled, captures=_list(_check()))


def _capture() -> Any:
    sure = _or_not(dict.fromkeys(("mean", "sure"), _null_or(Seconds)))
    times = _null_or(
        _shape("Times", count=int, least=Seconds, median=Seconds, most=Seconds, resolution=Seconds, **sure)
    )
    line = _shape("Line", first=_null_or(float), last=_null_or(float), edges=int, period=times, high=times, low=times,
                  duty=_null_or(Share), remarks=_list(str),
                  **_or_not({"reals": _shape("Reals", least=float, mean=float, most=float),
                             "off_nominal": _shape("Off", ppm=float, sure=float)}))  # fmt: skip
    answered = dict.fromkeys(("least", "median", "p95", "p99", "p999", "most", "mean", "resolution"), Seconds)
    worst = {"worst": _list(_shape("Worst", at=Seconds, value=Seconds))}
    span = _shape("Span", span=str, count=int, unanswered=int, **_or_not(answered | worst))
    return _shape("Capture", format=_head("capture"), capture=str, begin=Seconds, length=Seconds, resolution=Seconds,
                  remarks=_list(str), signals=_by_name(line), spans=_list(span))  # fmt: skip


def _levels() -> Any:
    levels = _by_name(_null_or(float))
    second = _or_not({"to": Seconds, "apart": Seconds, "resolution": Seconds, "levels_to": levels})
    return _shape("Levels", format=_head("levels"), at=Seconds, levels=levels, **second)


def _worst() -> Any:
    return _shape("WorstRun", format=_head("worst"), figure=str, seen=_null_or(Seconds), bound=_null_or(Seconds),
                  at=Seconds, tried=int)  # fmt: skip


def _compare() -> Any:
    value = float | str | None
    changed = _shape("Changed", key=str, values=_list(_null_or(str)))
    kind = Literal["time", "share", "number", "current", "life", "word"]
    row = _shape("Row", about=str, quantity=str, kind=kind, values=_list(value),
                 differs=bool)  # fmt: skip
    return _shape("Comparison", format=_head("compare"), columns=_list(str), verdicts=_list(str),
                  changed=_list(changed), rows=_list(row))  # fmt: skip


def _sweep() -> Any:
    over = _shape("Over", key=str, values=_list(str))
    need = _shape("NeedAt", limit=_null_or(Amount), bound=_null_or(Amount), verdict=str, played=_null_or(Amount))
    point = _shape("Point", at=_list(str), holds=bool, wrong=_null_or(str), load=_null_or(Share), lost=_list(str),
                   needs=_by_name(need))  # fmt: skip
    change = _shape("Break", key=str, holds=str, falls=str, needs=_list(str), why=str)
    return _shape("Sweep", format=_head("sweep"), over=_list(over), complete=bool, points=_list(point),
                  breaks=_list(change))  # fmt: skip


def _headroom() -> Any:
    room = _shape("Room", key=str, now=str, last=_null_or(str), room=_null_or(Share), falls=_list(str), why=str,
                  wrong=_null_or(str), steady=bool, note=str, settings=_list(str))  # fmt: skip
    mend = _shape("Mend", need=str, key=str, now=str, becomes=str, share=Share, settings=_list(str))
    return _shape("Headroom", format=_head("headroom"), held=_list(str), fallen=_list(str), rooms=_list(room),
                  mends=_list(mend))  # fmt: skip


def _priorities() -> Any:
    moved = _shape("Moved", isr=str, level=_list(int), order=_list(int))
    need = _shape("Rooms", before=_null_or(Share), after=_null_or(Share))
    return _shape("Priorities", format=_head("priorities"), found=bool, told=str, proved=bool, tried=int,
                  moved=_list(moved), needs=_by_name(need))  # fmt: skip


def _probes() -> Any:
    line = _shape(
        "Line", line=str, shows=_null_or(str), edge=_null_or(str), active=_null_or(str),
        how_sure=Literal["sure", "likely", "open"], margin=float, other=_null_or(str), why=_list(str),
        against=_list(str),
    )  # fmt: skip
    fault = _shape("Fault", fault=str, lines=_list(str), wrong=str, mend=str, sure=bool)
    return _shape("Probes", format=_head("probes"), capture=str, lines=_list(line), faults=_list(fault))


def _explain() -> Any:
    part = _shape("Part", what=str, who=str, count=int, time=Seconds)
    bound = _shape("Bound", least=Seconds, most=_null_or(Seconds), parts=_list(part), **_or_not({"reason": str}))
    cause, stretch = _of_a_miss()
    return _shape("Explain", format=_head("explain"), capture=str, laid_over=_list(str), title=str, waiting=str,
                  begin=Seconds, end=Seconds, resolution=Seconds, limit=_null_or(Seconds), bound=_null_or(bound),
                  stretches=_list(stretch), causes=_list(cause), need=_null_or(str),
                  finding=_null_or(_finding("Finding")))  # fmt: skip


def _fit() -> Any:
    change = _shape("Change", key=str, was=str, becomes=str, why=str)
    return _shape("Fit", format=_head("fit"), changes=_list(change), left=_list(str), falls=_list(str),
                  rises=_list(str), written=bool)  # fmt: skip


OUTPUTS = {"bounds": _bounds, "simulation": _simulation, "check": _check, "checks": _checks, "capture": _capture,
           "levels": _levels, "worst": _worst, "compare": _compare, "sweep": _sweep, "headroom": _headroom,
           "energy": _energy, "priorities": _priorities, "probes": _probes, "explain": _explain,
           "fit": _fit}  # fmt: skip


def output_type(name: str) -> Any:
    """The type of an output, for a reader that checks what it is given."""
    from pydantic import ConfigDict

    kind = OUTPUTS[name]()
    kind.__pydantic_config__ = ConfigDict(extra="forbid")
    return kind


def output_schema(name: str) -> dict[str, Any]:
    """The JSON Schema of an output."""
    from pydantic import TypeAdapter

    return TypeAdapter(output_type(name)).json_schema()
