"""Errands: a step begins a unit, which sets a flag or has a routine do it, and a step of the same pass waits for that.

Where both steps come in every pass, the one before the other, or are one, nobody else takes a hand in it, and the wait
does not give up, each pass has its own errand, which is over before the next begins: unit and routine lose nothing, the
flag is never set twice, and the wait lasts no longer than the unit works and its routine takes to end.
"""

from __future__ import annotations

from msgspec import Struct

from tachys.model.acts import Act, Wait
from tachys.model.nodes import Isr, Step, Unit
from tachys.model.system import System


class Errand(Struct, frozen=True):
    """``begins`` begins ``unit``, at whose end ``isr`` sets the flag ``waits_for``; for that ``waits`` waits.

    ``ahead``: what that step does before.
    """

    begins: Step
    unit: Unit
    isr: Isr | None
    waits: Step
    waits_for: str
    ahead: tuple[Act, ...]


def find_errands(system: System) -> dict[str, Errand]:
    """All errands of a system, by the flag."""
    found = {flag: _errand(system, flag) for flag in system.graph.flags}
    return {flag: errand for flag, errand in found.items() if errand is not None}


def _errand(system: System, flag: str) -> Errand | None:
    setters, waiters = system.graph.sets_of(flag), system.graph.waiters.get(flag, [])
    if len(setters) != 1 or len(waiters) != 1 or system.graph.pollers.get(flag) or setters[0].moment != "end":
        return None
    isr, waits = system.isr(setters[0].name) if setters[0].kind == "isr" else None, waiters[0]
    ended = setters[0] if isr is None else isr.on[0]
    acts = list(waits.acts)
    places = [place for place, act in enumerate(acts) if isinstance(act, Wait) and act.flag == flag]
    if (
        len(places) != 1
        or (isr is not None and (len(isr.on) != 1 or isr.clears))
        or ended.kind != "unit"
        or ended.moment != "end"
    ):
        return None
    unit = system.unit(ended.name)
    if unit.counts is not None or not unit.surely_ends or unit.primed or len(unit.on) != 1 or unit.on[0].kind != "step":
        return None
    begins, steps = system.step(unit.on[0].name), list(system.steps)
    always = not (begins.gated or waits.gated)
    itself = begins is waits and unit.on[0].moment == "start"
    ahead = tuple(acts[: places[0]])
    firm = all(act.gives_up is None for act in acts[: places[0] + 1])
    if firm and (itself or (always and steps.index(begins) < steps.index(waits))):
        return Errand(begins, unit, isr, waits, flag, ahead)
    return None
