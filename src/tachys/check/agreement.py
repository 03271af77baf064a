"""Which modelled figures the capture refutes: a measurement beyond a bound means that the model is wrong."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import numpy as np

from tachys.bounds.result import Bounds, Figure
from tachys.capture.table import Capture, Instants
from tachys.check.matching import Matched
from tachys.check.observe import Observed
from tachys.check.result import Finding, IsrCheck, Seen
from tachys.dividers.mistakes import TimerContext, read_ratio
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import Source, System


def find_refuted(
    system: System,
    bounds: Bounds,
    isrs: dict[str, IsrCheck],
    shown: Observed,
    matched: dict[str, Matched],
    capture: Capture,
) -> tuple[Finding, ...]:
    """Every figure that was measured outside what the model allows, in the order of the model."""
    found: list[Finding] = []
    for source in system.sources:
        found += _source(source, system, shown, matched, capture)
    for name, isr in isrs.items():
        paper = bounds.isrs[name]
        if isr.lost and not paper.lost:
            text = f"{isr.lost} of its events were never served, although the model loses none"
            found.append(Finding("lost-unexpected", f"isr.{name}", text, 0, isr.lost))
        late = list(_outside(f"isr.{name}", "latency", isr.latency, paper.latency))
        # a response that is only late because its beginning was says nothing more
        found += late or _outside(f"isr.{name}", "response", isr.response, paper.response)
        found += _outside(f"isr.{name}", "span", isr.span, paper.span)
    return tuple(found)


def _outside(about: str, quantity: str, measured: Seen | None, figure: Figure) -> Iterator[Finding]:
    if measured is None:
        return
    if figure.most is not None and measured.most - measured.resolution >= figure.most:
        yield Finding(
            f"{quantity}-beyond-bound", about, f"its {quantity} went beyond what the model allows", figure.most,
            measured.most,
        )  # fmt: skip
    if measured.least + measured.resolution <= figure.least:
        yield Finding(
            f"{quantity}-below-bound", about, f"its {quantity} was shorter than the model allows", figure.least,
            measured.least,
        )  # fmt: skip


def _source(
    source: Source, system: System, shown: Observed, matched: dict[str, Matched], capture: Capture
) -> Iterator[Finding]:
    about = f"source.{source.name}"
    instants, slop = _instants_of(source, system, shown, matched, capture)
    if instants is None or len(instants) < 2:
        return
    if source.period is None:
        least = int(np.diff(instants).min())
        if about in shown.instants and least + capture.resolution <= source.gap * (1 - system.capture_tolerance):
            yield Finding("gap-closer", about, "two events came closer than its gap", source.gap, least)
        return
    assert source.period_least is not None
    assert source.period_most is not None
    count, length = len(instants) - 1, int(instants[-1] - instants[0])
    slop += source.jitter
    low = Fraction(length - slop, count) * (1 - system.capture_tolerance)
    high = Fraction(length + slop, count) * (1 + system.capture_tolerance)
    if high < source.period_least or low > source.period_most:
        slop_share = Fraction(slop, length) + system.capture_tolerance
        text = "its mean period is not the modelled one" + _likely(source, system, Fraction(length, count), slop_share)
        yield Finding("period-off", about, text, round(source.period), round(length / count))


def _likely(source: Source, system: System, measured: Fraction, uncertainty: Fraction) -> str:
    """The mistake that the ratio of the periods points at, in words; empty where none fits."""
    if source.timer is None or source.period is None:
        return ""
    timer = source.timer
    context = TimerContext(
        clock=timer.clock.name,
        clocks={clock.name: clock.hertz for clock in system.clocks},
        setting=timer.setting,
        parents={clock.name: clock.parent for clock in system.clocks if clock.parent},
        tolerance=timer.clock.tolerance,
        most_excess=source.period / PS_PER_SECOND / 20,
    )
    found = read_ratio(source.period / PS_PER_SECOND, measured / PS_PER_SECOND, uncertainty, context)
    return f"; likely: {found[0].text}" if found else "; none of the usual timer mistakes gives this ratio"


def _instants_of(
    source: Source, system: System, shown: Observed, matched: dict[str, Matched], capture: Capture
) -> tuple[Instants | None, int]:
    """(the events of a source, how far first and last may be off); read off its routine where it has no probe."""
    direct = shown.instants.get(f"source.{source.name}")
    if direct is not None:
        return direct, 2 * capture.resolution
    for isr in system.isrs:
        starts = shown.instants.get(f"isr.{isr.name}.start")
        if isr.on == (f"source.{source.name}",) and starts is not None and len(starts) > 1:
            wander = int(np.diff(starts).max() - np.diff(starts).min())
            return starts, 2 * capture.resolution + wander
    return None, 0
