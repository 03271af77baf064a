"""The average supply current of what was played: charge by state is charge by cause is average times time, exactly."""

from __future__ import annotations

from fractions import Fraction

from tachys.model.quantities import PS_PER_SECOND
from tachys.simulation.result import Simulated
from tachys.worstcase.supply import NOTHING, ZERO, Part, Supply, currents_of


def played(result: Simulated) -> Supply:
    """What was taken in play, exactly; a range only where currents are ranges."""
    currents, length = currents_of(result.bounds.system), Fraction(result.length, PS_PER_SECOND)
    states: dict[str, Part] = {}
    causes: dict[str, Part] = {}
    missing, mostly = [], dict[str, tuple[Fraction, str]]()
    for (state, cause), ps in result.spent.items():
        if not ps or (state.startswith(("unit.", "pin.")) and state not in currents):
            continue
        if state not in currents:
            missing.append(state)
        time = Fraction(ps, PS_PER_SECOND)
        share = Fraction(ps, result.length)
        least, most = currents.get(state, NOTHING)
        part = Part((share, share), (least * time, most * time))
        mostly[cause] = max(mostly.get(cause, (ZERO, state)), (part.charge[1], state))
        for table, key in ((states, state), (causes, cause)):
            table[key] = part if key not in table else _sum(table[key], part)
    average = None
    if not missing and length:
        least, most = (sum((part.charge[side] for part in states.values()), ZERO) / length for side in (0, 1))
        average = least, most
    told = {cause: state for cause, (_, state) in mostly.items()}
    wakes = result.wakes / length if length else ZERO
    return Supply(average, states, causes, tuple(dict.fromkeys(missing)), wakes, told)


def _sum(one: Part, other: Part) -> Part:
    return Part(
        (one.share[0] + other.share[0], one.share[1] + other.share[1]),
        (one.charge[0] + other.charge[0], one.charge[1] + other.charge[1]),
    )
