"""Every figure of the bounds by the name of the thing it belongs to, for those who take one apart."""

from __future__ import annotations

from collections.abc import Iterator

from tachys.bounds.result import Bounds
from tachys.figures import Figure

Titled = tuple[str, Figure]


def catalog(bounds: Bounds) -> dict[str, list[Titled]]:
    """(what it measures, figure) of each thing: "isr.tick", "unit.adc", "flag.ready", "step.log", "loop", "need.x"."""
    found: dict[str, list[Titled]] = {}
    for name, isr in bounds.isrs.items():
        found[f"isr.{name}"] = [("latency", isr.latency), ("response", isr.response), ("span", isr.span)]
    for name, unit in bounds.units.items():
        found[f"unit.{name}"] = [("start to end", unit.time)]
    for name, flag in bounds.flags.items():
        found[f"flag.{name}"] = [("set to taken", flag.reaction)]
    for name, step in bounds.steps.items():
        late = [("due to start", step.late)] if step.late is not None else []
        found[f"step.{name}"] = [("start to next start", step.interval), ("start to end", step.duration), *late]
    if bounds.loop_pass is not None:
        found["loop"] = [("one pass", bounds.loop_pass)]
    for name, need in bounds.needs.items():
        if need.figure is not None:
            found[f"need.{name}"] = [("its bound", need.figure)]
    return found


def named(bounds: Bounds, name: str) -> Iterator[tuple[str, list[Titled]]]:
    """The things that a name means: the full name, or the last part of it."""
    for full, figures in catalog(bounds).items():
        if name in (full, full.partition(".")[2]):
            yield full, figures
