"""The least times that bodies need: no two starts, or ends, of one lie closer together."""

from __future__ import annotations

from tachys.model.nodes import Core, Isr, Step
from tachys.model.system import System


def least_distance(core: Core, isr: Isr) -> int:
    """The least time in ps between two starts, or two ends, of one routine."""
    return isr.shortest + min(core.entry.least + core.exit.least, core.chain.least)


def own_least(step: Step) -> int:
    """The least time in ps from a step's start to its end."""
    least = 0
    for act in reversed(step.acts):
        least += act.takes.least
        if act.gives_up is not None:
            least = min(least, act.gives_up.least)
    return least


def least_round(system: System, step: Step | None = None) -> int:
    """The least time in ps of a pass; of one in which ``step`` runs, if it is given."""
    if system.loop is None:
        return 0
    run = [each for each in system.steps if each is step or not each.gated]
    return system.loop.overhead.least + sum(own_least(each) for each in run)
