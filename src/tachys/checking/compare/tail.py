"""An estimate of how far the worst case may lie beyond what was seen: extreme values over blocks.

The largest value of each block of equally many is taken, and a generalised extreme value distribution is fitted to
these by their L-moments (Hosking, Wallis, Wood, Estimation of the generalized extreme-value distribution by the method
of probability-weighted moments, Technometrics 27, 1985). The fit is tested by Kolmogorov and Smirnov's distance against
samples drawn from it and fitted again, since the parameters come from the same values. Only a fit that passes is shown,
and it is an estimate: it never makes a need met.
"""

from __future__ import annotations

from math import gamma, log

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from tachys.capture.table import Instants, distinct

BLOCKS = 60
LEAST_BLOCK = 20
DRAWN = 100
LEVEL = 0.1

Values = npt.NDArray[np.float64]


class Tail(Struct, frozen=True):
    """``value`` ps is passed about once in ``once_in`` events, if it goes on as seen; ``fit`` is what the test says."""

    value: int
    once_in: int
    fit: float


def tail_of(values: Instants, once_in: int = 1_000_000) -> Tail | None:
    """The value that is passed about once in so many; None of too few values, or where no such tail fits."""
    if len(values) < BLOCKS * LEAST_BLOCK:
        return None
    from scipy.stats import genextreme

    size = len(values) // BLOCKS
    maxima = values[: size * BLOCKS].reshape(BLOCKS, size).max(axis=1).astype(np.float64)
    if len(distinct(maxima)) < BLOCKS // 3:
        return None
    fitted = _fitted(maxima)
    seen = _distance(maxima, fitted)
    drawn = genextreme.rvs(*fitted, size=(DRAWN, BLOCKS), random_state=np.random.default_rng(1))
    fit = sum(_distance(sample, _fitted(sample)) >= seen for sample in drawn) / DRAWN
    value = float(genextreme.isf(min(0.5, size / once_in), *fitted))
    if fit < LEVEL or not np.isfinite(value) or value > 1e3 * float(maxima.max()):
        return None
    return Tail(max(int(values.max()), round(value)), once_in, fit)


def _fitted(sample: Values) -> tuple[float, float, float]:
    """(shape, place, scale) of the distribution with the first three L-moments of a sample."""
    ordered, count = np.sort(sample), len(sample)
    rank = np.arange(count)
    b0 = float(ordered.mean())
    b1 = float((rank * ordered).sum()) / (count * (count - 1))
    b2 = float((rank * (rank - 1) * ordered).sum()) / (count * (count - 1) * (count - 2))
    second, skew = 2 * b1 - b0, (6 * b2 - 6 * b1 + b0) / (2 * b1 - b0)
    c = 2 / (3 + skew) - log(2) / log(3)
    shape = 7.8590 * c + 2.9554 * c * c
    if abs(shape) < 1e-6:
        shape = 1e-6
    turn = gamma(1 + shape)
    scale = second * shape / ((1 - 2**-shape) * turn)
    return shape, b0 - scale * (1 - turn) / shape, scale


def _distance(sample: Values, fitted: tuple[float, float, float]) -> float:
    """The largest distance between what a sample and its distribution say of the share below a value."""
    from scipy.stats import genextreme

    below = genextreme.cdf(np.sort(sample), *fitted)
    steps = np.arange(len(sample) + 1) / len(sample)
    return float(max((steps[1:] - below).max(), (below - steps[:-1]).max()))
