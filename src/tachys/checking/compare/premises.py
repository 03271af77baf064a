"""Which proofs rest on a figure that the capture refutes.

A refuted figure is known as an "at least" only: the board may well go further than what was measured. So a proof falls
with every figure that its bound reads, also where it would still hold with the measured one. Whether a bound reads a
figure is found by moving it: twice as far as it was measured, and more.
"""

from __future__ import annotations

from dataclasses import replace

from tachys.checking.board.measuring import Measurement
from tachys.checking.compare.consequence import corrected
from tachys.checking.compare.figures import Agreement, Compared
from tachys.checking.compare.items import overfull, rests_on, took_fewer
from tachys.checking.compare.unmodelled import Stranger
from tachys.model.quantities import Range
from tachys.worstcase.analysis import bounds as bounds_of


def refuted_figures(figures: tuple[Compared, ...]) -> tuple[Compared, ...]:
    """The figures of the model that the capture refutes; a pass is none, it follows from others."""
    return tuple(figure for figure in figures if figure.state is Agreement.REFUTES and figure.key != "pass")


def fallen_proofs(board: Measurement, figures: tuple[Compared, ...], strangers: tuple[Stranger, ...]) -> frozenset[str]:
    """The names of proved needs whose proof rests on a refuted figure, or on nothing running that is not modelled."""
    proved = {name: need for name, need in board.paper.needs.items() if need.proved}
    refuted = refuted_figures(figures)
    strange = {few.buffer for few in took_fewer(board)} | {full.buffer for full in overfull(board)}
    smaller = {name for name, need in proved.items() if any(rests_on(board, need.need, each) for each in strange)}
    if strangers or not refuted:
        return frozenset(proved if strangers else smaller)
    after = bounds_of(corrected(board.system, tuple(map(_further, refuted)))).needs
    fallen = {name for name, need in proved.items() if not after[name].proved or after[name].bound != need.bound}
    return frozenset(fallen | smaller)


def _further(figure: Compared) -> Compared:
    """A figure measured to lie twice as far out as it was, at the end that is refuted."""
    measured, rhythm = figure.measured, figure.rhythm
    assert measured is not None
    if rhythm is not None:
        longer = Range(rhythm.longer.least // 2, 2 * rhythm.longer.most)
        return replace(figure, rhythm=replace(rhythm, longer=longer))
    alone = figure.key in ("period", "every", "counts", "answers", "looks") or figure.of_current
    if alone:  # one figure, not a range
        return figure
    least = measured.least // 2 if figure.below else measured.least
    most = 2 * measured.most if figure.beyond else measured.most
    return replace(figure, measured=replace(measured, least=least, most=most))
