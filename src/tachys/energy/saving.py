"""What would save most: changes of a model, each made and played, of which none may cost a need that holds on paper."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fractions import Fraction
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from tachys.errors import InputError
from tachys.model.costs import CostTable
from tachys.model.events import Event
from tachys.model.loading import ModelText
from tachys.model.nodes import Isr
from tachys.model.system import System
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.supply import played
from tachys.trying.figures import movable
from tachys.worstcase.analysis import bounds
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.lint import lint
from tachys.worstcase.supply import Supply

MOST_TRIED = 60
TENTH = Fraction(1, 10)


class Saving(Struct, frozen=True):
    """A change as the command line has it, the average in amperes that it gives in play, and needs that fall by it."""

    change: str
    average: Fraction
    falls: tuple[str, ...] = ()


def average_of(paper: Bounds, length: int, ways: RunOptions) -> Supply:
    """What is taken in play; no need is followed, which takes most of the time."""
    bare = replace(paper, system=replace(paper.system, needs=()), needs={})
    return played(simulate(bare.system, length, ways, bounds=bare))


def savings(
    text: ModelText,
    laid: tuple[tuple[str, ...], tuple[str, ...], CostTable | None],
    before: Bounds,
    length: int,
    ways: RunOptions,
    progress: Callable[[float], None] | None = None,
) -> list[Saving]:
    """Every change that lowers the average, the most first.

    Variants, depths of sleep, without what wakes the core for nothing, each figure a tenth better.

    ``laid``: what is laid over the model already: variants, settings, costs. A change with which a need that was proved
    is not any more comes after all others. What a change makes wrong is left out.
    """
    was = average_of(before, length, ways).average
    if was is None:
        return []
    variants, settings, costs = laid
    found = []
    tried = list(_changes(text, before, variants, settings, costs))[:MOST_TRIED]
    for number, (words, more_variants, more) in enumerate(tried):
        if progress is not None:
            progress(number / len(tried))
        try:
            system = text.system((*variants, *more_variants), (*settings, *more), costs)
        except InputError:
            continue
        paper = bounds(system)
        average = average_of(paper, length, ways).average
        if average is not None and average[1] < was[1]:
            proved = {name for name, need in before.needs.items() if need.proved}
            kept = {name for name, need in paper.needs.items() if need.proved}
            found.append(Saving(words, average[1], tuple(sorted(proved & paper.needs.keys() - kept))))
    return sorted(found, key=lambda saving: (bool(saving.falls), saving.average))


def _changes(
    text: ModelText,
    before: Bounds,
    variants: tuple[str, ...],
    settings: tuple[str, ...],
    costs: CostTable | None,
) -> Iterator[tuple[str, tuple[str, ...], tuple[str, ...]]]:
    """(words, variants, settings) of each change that is tried."""
    system = before.system
    for name in text.variants:
        if name not in variants:
            yield f"--variant {name}", (name,), ()
    tables = text.merged(variants, settings, costs)
    for step in system.steps:
        if step.halt is None:
            continue
        table: Any = tables["step"][step.name]["sleep"]
        key = f"step.{step.name}.sleep" + (".depth" if isinstance(table, dict) else "")
        for depth, _ in system.core.depths:
            if depth != step.halt.depth:
                yield f"--set {key}={depth}", (), (f"{key}={depth}",)
    for told in lint(before):
        if told.code == "needless-waking":
            gone = _without(system, system.isr(told.key.partition(".")[2]))
            yield " ".join(f"--set {each}=false" for each in gone), (), tuple(f"{each}=false" for each in gone)
    for each in movable(tables, system):
        if each.key.startswith(("clock.", "core.clock")) or ".guard" in each.key or ".serial." in each.key:
            continue
        changed = each.scaled(1 - TENTH if each.up else 1 + TENTH)
        yield " ".join(f"--set {_shell(setting)}" for setting in changed), (), changed


def _without(system: System, isr: Isr) -> list[str]:
    """What to take away so that a routine is gone: itself, what raises nothing else, the lines that show no more."""
    gone = [isr.thing, *(event.thing for event in isr.on if list(system.graph.begun_by[event]) == [isr])]
    dark = [probe.signal for probe in system.probes if probe.shows and {Event(s).thing for s in probe.shows} <= {*gone}]
    return [*gone, *(f"probe.{signal}" for signal in dark)]


def _shell(setting: str) -> str:
    """A setting as it is typed."""
    key, _, value = setting.partition("=")
    quote = "'" if '"' in value else '"'
    return f"{key}={quote}{value}{quote}" if " " in value else setting
