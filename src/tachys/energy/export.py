"""What the energy command found, as plain data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from tachys.checking.board.metering import Metered
from tachys.energy.saving import Saving
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System
from tachys.worstcase.supply import Supply, supply_data


def energy_data(
    system: System,
    length: int,
    paper: Supply,
    play: Supply,
    captures: Mapping[str, Supply | None],
    found: Sequence[Saving],
    shown: Mapping[str, Metered],
) -> dict[str, Any]:
    """A record of ``tachys.energy/1``: amperes, coulombs and seconds; on paper the charge is that of one second."""
    seen = {name: None if each is None else supply_data(each, system.battery) for name, each in captures.items()}
    told = [{"change": each.change, "average": float(each.average), "falls": list(each.falls)} for each in found]
    return {
        "format": "tachys.energy/1",
        "title": system.title,
        "length": length / PS_PER_SECOND,
        "paper": supply_data(paper, system.battery),
        "played": supply_data(play, system.battery),
        "captures": seen,
        "measured": {name: _measured(each) for name, each in shown.items()},
        "savings": told,
    }


def _measured(shown: Metered) -> dict[str, Any]:
    return {
        "length": shown.length / PS_PER_SECOND,
        "average": float(shown.average),
        "off": float(shown.average_off),
        "charge": shown.charge,
        "states": {name: {"mean": s.mean, "off": s.off, "count": s.count} for name, s in shown.states.items()},
        "on_top": {name: {"share": share, "charge": charge} for name, (share, charge) in shown.causes.items()},
    }
