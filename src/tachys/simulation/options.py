"""How a model is played: costs, phases, arrivals, jitter, seed."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

Costs = Literal["most", "least", "drawn", "triangular", "measured"]
Phases = Literal["together", "drawn"]
Arrivals = Literal["gap", "mean"]
Jitter = Literal["none", "drawn", "first-late"]


class RunOptions(Struct, frozen=True):
    """``costs``: always the most or least, drawn evenly or with a peak in the middle, or from the
    values that came with the system (drawn evenly where none did).

    ``phases``: sources without an offset begin all at time zero, or anywhere in their period (``begin`` in ps, by
    source, says so for some). ``arrivals``: sporadic sources at their gap or, at random, with their mean. ``jitter``:
    none, drawn, or only the first release late, by all of it. ``rates``: clocks as written, or drawn within their
    tolerance.
    """

    costs: Costs = "drawn"
    phases: Phases = "drawn"
    arrivals: Arrivals = "mean"
    jitter: Jitter = "drawn"
    rates: Literal["nominal", "drawn"] = "nominal"
    seed: int = 1
    begin: dict[str, int] = field(default_factory=dict)
