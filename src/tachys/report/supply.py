"""The supply current on the page: what paper allows, state by state, beside what a meter's column says."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Any

from tachys.checking.board.metering import Metered
from tachys.checking.result import CheckResult
from tachys.energy.current import on_paper
from tachys.model.nodes import Amperes
from tachys.words import NONE, amperes_text, known_text, life_text, share_text
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.supply import currents_of, life


def supply_section(paper: Bounds, results: Sequence[CheckResult]) -> dict[str, Any] | None:
    """What the page shows of it; None where the model knows no current and no capture has a column of it."""
    currents = currents_of(paper.system)
    metered = {result.capture.name: result.metered for result in results if result.metered is not None}
    if not currents and not metered:
        return None
    supply = on_paper(paper.system, found=paper)
    names = dict.fromkeys([*supply.states, *(name for each in metered.values() for name in each.states)])
    rows = [
        {"state": name, "model": _ends(currents.get(name)), "share": _share(supply.states[name].share) if
         name in supply.states else NONE, "seen": [_seen(each, name) for each in metered.values()]}
        for name in names
    ]  # fmt: skip
    told = [f"on paper {_ends(supply.average)}"] if supply.average is not None else []
    if supply.missing:
        told.append(f"unknown on paper, since no current is given for {', '.join(supply.missing)}")
    told += [f"{name}: {' '.join(known_text(each.average, each.average_off))}" for name, each in metered.items()]
    battery = paper.system.battery
    lasts = None if battery is None else life(battery, supply.average)
    if lasts is not None:
        told.append(f"the battery lasts {life_text(lasts[0], 'down')} to {life_text(lasts[1], 'up')}")
    return {"rows": rows, "captures": list(metered), "average": "; ".join(told)}


def _ends(pair: Amperes | None) -> str:
    if pair is None:
        return NONE
    return " to ".join(dict.fromkeys((amperes_text(pair[0], "down"), amperes_text(pair[1], "up"))))


def _share(share: tuple[Fraction, Fraction]) -> str:
    return " to ".join(dict.fromkeys((share_text(share[0], "down"), share_text(share[1], "up"))))


def _seen(metered: Metered, name: str) -> str:
    state = metered.states.get(name)
    if state is None:
        return NONE
    return " ".join(known_text(Fraction(state.mean), Fraction(state.off)))
