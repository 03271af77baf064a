"""A check with time counted by the board's clock: the analyser's own error, as periodic lines show it, taken out."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.checking import check
from tachys.checking.result import CheckResult


def by_own_clock(result: CheckResult) -> CheckResult:
    """The same check with every instant divided by what the analyser counts too much; unchanged where nothing tells."""
    clock = result.clock
    if clock is None:
        return result
    capture, begin = result.capture, result.capture.begin
    scale = 1 + clock.ppm * 1e-6

    def moved(at: Instants) -> Instants:
        shifted = at - begin
        corrected: Instants = at - np.rint(shifted * (1 - 1 / scale)).astype(np.int64)
        return corrected

    signals = {name: replace(s, at=moved(s.at)) for name, s in capture.signals.items()}
    end = int(moved(np.array([capture.end], np.int64))[0])
    remark = f"time is counted by the board's clock: {clock.ppm:+.2f} ppm, known to {clock.sure:.2f} ppm, are taken out"
    whole = replace(capture, signals=signals, end=end, remarks=(*capture.remarks, remark))
    tolerance = Fraction(max(clock.sure, 0.01)).limit_denominator(10**6) / 10**6
    system = replace(result.bounds.system, capture_tolerance=tolerance)
    return check(system, whole, replace(result.bounds, system=system))
