"""The misses of a need, grouped by what was running while the events waited."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from tachys.check.result import Miss
from tachys.model.system import Guard, System


@dataclass(frozen=True, slots=True)
class Culprit:
    """What ran longest during ``count`` misses: for ``least`` to ``most`` ps of the wait.

    ``guard`` is the longest guard in ps that the model gives it, None if it has none. ``what`` None: nothing probed.
    """

    what: str | None
    count: int
    least: int
    most: int
    guard: int | None


def culprits(system: System, misses: Sequence[Miss]) -> tuple[Culprit, ...]:
    """The main cause of each miss, most frequent first."""
    times: dict[str | None, list[int]] = {}
    for miss in misses:
        main = miss.causes[0] if miss.causes else None
        times.setdefault(main.what if main else None, []).append(main.time if main else 0)
    found = [
        Culprit(what, len(values), min(values), max(values), _longest_guard(system, what))
        for what, values in times.items()
    ]
    return tuple(sorted(found, key=lambda culprit: -culprit.count))


def _longest_guard(system: System, what: str | None) -> int | None:
    steps = system.loop.steps if system.loop else ()
    bodies = {f"isr.{isr.name}": (isr.guards, isr.cost) for isr in system.isrs}
    bodies |= {f"step.{step.name}": (step.guards, step.cost) for step in steps}
    if what not in bodies:
        return None
    guards, cost = bodies[what]
    lengths = [_length(guard, cost.most) for guard in guards]
    return max(lengths, default=None)


def _length(guard: Guard, body: int) -> int:
    return body if guard.length is None else guard.length.most
