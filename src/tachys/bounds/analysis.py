"""All bounds of a system, and what they prove of its needs."""

from __future__ import annotations

from fractions import Fraction

from tachys.bounds.arrivals import source_curve
from tachys.bounds.load import load_bounds
from tachys.bounds.result import Bounds, Figure, IsrBounds, LoadBounds, NeedBounds, Verdict
from tachys.bounds.window import isr_bounds, make_lines
from tachys.model.system import LoadNeed, Need, System, WithinNeed


def bounds(system: System) -> Bounds:
    """The worst and best cases of every routine, the load and the needs. Overload is said, never an endless search."""
    curves = {f"source.{source.name}": source_curve(source) for source in system.sources}
    lines = make_lines(system, curves)
    isrs = {line.isr.name: isr_bounds(system, lines, rank) for rank, line in enumerate(lines)}
    load = load_bounds(system, lines, isrs)
    needs = {need.name: _need(system, need, isrs, load) for need in system.needs}
    return Bounds(system, isrs, load, needs)


def verdict_of(*, proved: bool, can_tell: bool, seen_beyond: bool) -> Verdict:
    """The verdict on a need, from what is proved, whether anything can tell, and whether it was seen broken."""
    if seen_beyond:
        return Verdict.MISSED
    if proved:
        return Verdict.MET
    return Verdict.AT_RISK if can_tell else Verdict.UNSEEN


def answering(system: System, need: WithinNeed) -> tuple[str, str] | None:
    """(routine, quantity) that a from-to need asks for: its "latency", "response" or "span"; None if none is."""
    for isr in system.isrs:
        ends = {f"isr.{isr.name}.start": "latency", f"isr.{isr.name}.end": "response"}
        if need.ends in ends and need.begins in isr.on:
            return isr.name, ends[need.ends]
        if need.begins == f"isr.{isr.name}.start" and need.ends == f"isr.{isr.name}.end":
            return isr.name, "span"
    return None


def _need(system: System, need: Need, isrs: dict[str, IsrBounds], load: LoadBounds) -> NeedBounds:
    if isinstance(need, LoadNeed):
        proved = load.most <= need.limit
        return NeedBounds(
            need,
            need.limit,
            load.most,
            proved,
            verdict_of(proved=proved, can_tell=True, seen_beyond=False),
            load.reason,
        )
    asked = answering(system, need)
    if asked is None:
        reason = f"no bound leads from {need.begins} to {need.ends}"
        return NeedBounds(need, need.within, None, False, Verdict.UNSEEN, reason)
    isr = isrs[asked[0]]
    figure: Figure = getattr(isr, asked[1])
    may_lose = isr.lost and asked[1] != "span"
    proved = figure.most is not None and figure.most <= need.within and not may_lose
    reason = figure.reason or (f"an activation may be lost: {isr.lost_reason}" if may_lose else "")
    verdict = verdict_of(proved=proved, can_tell=True, seen_beyond=False)
    return NeedBounds(need, need.within, figure.most, proved, verdict, reason)


def slack(need: NeedBounds) -> int | Fraction | None:
    """How much room is left between bound and limit; negative when the bound is beyond it; None without a bound."""
    return None if need.bound is None else need.limit - need.bound
