"""An estimate of how far the worst case may lie beyond what was seen: extreme values over blocks.

The largest value of each block of equally many is taken, a generalised extreme value distribution is fitted to these
(Coles, An Introduction to Statistical Modeling of Extreme Values, 2001, chapter 3), and the fit is tested by
Kolmogorov and Smirnov's distance against samples drawn from the fit itself and fitted again, since the parameters come
from the same values. Only a fit that passes is shown, and it is an estimate: it never makes a need met.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tachys.capture.table import Instants

BLOCKS = 60
LEAST_BLOCK = 20
DRAWN = 40
LEVEL = 0.1


@dataclass(frozen=True, slots=True)
class Tail:
    """``value`` ps is passed about once in ``once_in`` events, if it goes on as seen; ``fit`` is what the test says."""

    value: int
    once_in: int
    fit: float


def tail_of(values: Instants, once_in: int = 1_000_000) -> Tail | None:
    """The value that is passed about once in so many; None of too few values, or where no such tail fits."""
    if len(values) < BLOCKS * LEAST_BLOCK:
        return None
    from scipy import stats

    size = len(values) // BLOCKS
    maxima = values[: size * BLOCKS].reshape(BLOCKS, size).max(axis=1).astype(np.float64)
    if len(np.unique(maxima)) < BLOCKS // 3:
        return None
    scale = float(maxima.std())
    scaled = (maxima - maxima.mean()) / scale
    with np.errstate(all="ignore"):
        shape, place, width = stats.genextreme.fit(scaled)
        seen = float(stats.kstest(scaled, "genextreme", (shape, place, width)).statistic)
        dice, worse = np.random.default_rng(1), 0
        for _ in range(DRAWN):
            drawn = stats.genextreme.rvs(shape, place, width, BLOCKS, random_state=dice)
            own = stats.genextreme.fit(drawn, shape, loc=place, scale=width)
            worse += float(stats.kstest(drawn, "genextreme", own).statistic) >= seen
        fit = worse / DRAWN
        value = float(stats.genextreme.isf(min(0.5, size / once_in), shape, place, width))
    if fit < LEVEL or not np.isfinite(value) or value > 1e3:
        return None
    return Tail(max(int(values.max()), round(maxima.mean() + value * scale)), once_in, fit)
