"""The average supply current on paper and as far as captures show it; in play see ``simulation/supply``."""

from __future__ import annotations

from fractions import Fraction

from tachys.checking.result import CheckResult
from tachys.model.system import System
from tachys.worstcase.analysis import bounds
from tachys.worstcase.bounds import Bounds
from tachys.worstcase.supply import Share, Supply, supply_bounds


def on_capture(result: CheckResult) -> Supply | None:
    """What a capture leaves possible: its load, and what bounds allow of the rest; None: it shows no load."""
    if result.load is None:
        return None
    over = result.capture.end - result.capture.begin
    seen = Fraction(result.load.least), Fraction(min(result.load.most, 1))
    return on_paper(result.bounds.system, over, ran=seen)


def on_paper(system: System, over: int | None = None, found: Bounds | None = None, ran: Share | None = None) -> Supply:
    """The least and the most in the long run, or in any window of ``over`` ps; ``found``: bounds that are known.

    ``ran``: the share that the core was seen to run.
    """
    found = found or bounds(system, () if over is None else (over,))
    assert found.reach is not None
    return supply_bounds(found.reach, found.load, over, ran)
