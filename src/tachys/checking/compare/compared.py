"""What a capture says of one figure of the model, and when that refutes it.

A figure is refuted only by what no resolution, no unseen routine and no tolerance can explain.
"""

from __future__ import annotations

from enum import StrEnum

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from tachys.capture.table import Instants
from tachys.checking.board.measuring import Measurement
from tachys.checking.board.nesting import ExecutionTimes
from tachys.checking.compare.rhythm import Rhythm
from tachys.model.events import Thing
from tachys.model.quantities import Range

MILLION = 10**6  # shares are whole millionths


class Agreement(StrEnum):
    """What a capture says of a modelled figure."""

    AGREES = "agrees"
    REFUTES = "refutes"
    NOT_SHOWN = "not shown"


class Measured(Struct, frozen=True):
    """What was seen of a figure: [least, most] in ps over ``count`` cases, each within ``resolution``."""

    least: int
    most: int
    count: int
    resolution: int


class Compared(Struct, frozen=True):
    """One figure of the model: ``about`` it belongs to, ``key`` as the model file names it, [low, high] in ps.

    ``high`` None: the figure is a least distance. ``sure_least`` and ``sure_most`` are what the
    measurement proves of the extremes: some case was at most ``sure_least``, some was at least ``sure_most``. ``at``
    is where the worst was seen, where that is known; ``rhythm``: that of the runs beyond it; ``asleep``: it agrees
    once what the core seems to have slept meanwhile is left out.
    """

    about: Thing
    key: str
    low: int | None
    high: int | None
    measured: Measured | None
    state: Agreement
    sure_least: int | None = None
    sure_most: int | None = None
    why: str = ""
    urgency: int | None = None
    at: int | None = None
    rhythm: Rhythm | None = None
    asleep: bool = False

    @property
    def of_current(self) -> bool:
        """Whether it is a supply current, in picoamperes."""
        return self.key.startswith("current")

    @property
    def below(self) -> bool:
        """Whether something came out smaller than the model allows."""
        return self.sure_least is not None and self.low is not None and self.sure_least < self.low

    @property
    def beyond(self) -> bool:
        """Whether something came out larger than the model allows."""
        return self.sure_most is not None and self.high is not None and self.sure_most > self.high


def judged(
    about: Thing, key: str, low: int | None, high: int | None, measured: Measured, sure: tuple[int, int],
    urgency: int | None = None, why: str = "",
) -> Compared:  # fmt: skip
    """A figure that was measured: refuted where that surely lies beyond it."""
    made = Compared(about, key, low, high, measured, Agreement.AGREES, sure[0], sure[1], why, urgency)
    if made.below or made.beyond:
        return Compared(about, key, low, high, measured, Agreement.REFUTES, sure[0], sure[1], why, urgency)
    return made


def not_shown(about: Thing, key: str, low: int | None, high: int | None, why: str) -> Compared:
    """A figure that the capture does not show, and why."""
    return Compared(about, key, low, high, None, Agreement.NOT_SHOWN, why=why)


def cost_figure(
    board: Measurement, about: Thing, cost: Range, own: ExecutionTimes, served: Instants | None, key: str = "cost"
) -> Compared:
    """``own`` of every whole run; what a run that served several events took is shared out among them."""
    least, most = own.least, own.most
    if served is not None:
        least = least // served
    slack = board.stretched(int(most.max()))
    sure_most = int((least - slack).max())
    sure_least = int((most + slack).min())
    middle = (own.least + own.most) // 2
    width = int((own.most - own.least).max())
    measured = Measured(max(0, int(middle.min())), max(0, int(middle.max())), len(middle), (width + 1) // 2)
    return judged(about, key, cost.least, cost.most, measured, (sure_least, sure_most))


def only(own: ExecutionTimes, chosen: NDArray[np.bool_]) -> ExecutionTimes:
    """The own times of some of the bodies."""
    return ExecutionTimes(own.least[chosen], own.most[chosen], own.interrupted[chosen])
