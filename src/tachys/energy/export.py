"""What the energy command found, as plain data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from tachys.energy.life import life
from tachys.energy.saving import Saving
from tachys.model.nodes import Battery
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System
from tachys.worstcase.supply import Part, Supply


def energy_data(
    system: System,
    length: int,
    paper: Supply,
    play: Supply,
    captures: Mapping[str, Supply | None],
    found: Sequence[Saving],
) -> dict[str, Any]:
    """A record of ``tachys.energy/1``: amperes, coulombs and seconds; on paper the charge is that of one second."""
    told = [{"change": each.change, "average": float(each.average), "falls": list(each.falls)} for each in found]
    return {
        "format": "tachys.energy/1",
        "title": system.title,
        "length": length / PS_PER_SECOND,
        "paper": _supply(paper, system.battery),
        "played": _supply(play, system.battery),
        "captures": {name: None if each is None else _supply(each, system.battery) for name, each in captures.items()},
        "savings": told,
    }


def _supply(supply: Supply, battery: Battery | None) -> dict[str, Any]:
    lasts = None if battery is None else life(battery, supply.average)
    average = supply.average
    return {
        "average": None if average is None else {"least": float(average[0]), "most": float(average[1])},
        "states": {name: _part(part) for name, part in supply.states.items()},
        "causes": {name: _part(part) for name, part in supply.causes.items()},
        "missing": list(supply.missing),
        "life": None
        if lasts is None
        else {"least": float(lasts[0]), "most": None if lasts[1] is None else float(lasts[1])},
    }


def _part(part: Part) -> dict[str, Any]:
    return {
        "share": {"least": float(part.share[0]), "most": float(part.share[1])},
        "charge": {"least": float(part.charge[0]), "most": float(part.charge[1])},
    }
