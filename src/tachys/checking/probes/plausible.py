"""Whether a capture can be of this board at all: said first, in one line, before anything is read into its figures."""

from __future__ import annotations

import math

from tachys.capture.table import Capture
from tachys.checking.board.measuring import Measurement, measure
from tachys.checking.compare.compared import Agreement, Compared
from tachys.checking.compare.levels import other_levels
from tachys.checking.probes.binding import called_as
from tachys.checking.probes.misbound import Binding, Fault, judge_binding
from tachys.errors import InputError
from tachys.model.events import Thing
from tachys.model.quantities import time_in_words
from tachys.worstcase.analysis import bounds as bounds_of
from tachys.worstcase.bounds import Bounds

_OWN = {
    "period",
    "gap",
    "burst",
    "takes",
    "cost",
    "time",
    "every",
}  # figures of a thing itself, not of who holds it off
_EXACT = {"period", "every"}
_FEWEST = 3  # lines of which it can be said that half of them are wrong


def first_reason(board: Measurement, figures: tuple[Compared, ...]) -> str | None:
    """The one likely reason why most of a capture is not what the model says; None where it is."""
    return _power_of_ten(figures) or _misbound(board) or _another_board(board, figures) or _written_later(board)


def binding_of(paper: Bounds, capture: Capture) -> Binding:
    """What every line shows; with the levels that were seen, where modelled ones alone make a probe look wrong."""
    found = judge_binding(paper, capture)
    if not found.faults:
        return found
    try:
        system, called = called_as(paper.system, capture)
        board = measure(system, paper, called)
    except InputError:  # a probe names what the capture lacks
        return found
    system, others = other_levels(board)
    again = judge_binding(bounds_of(system), capture) if others else found
    return found if again.faults else again


def _misbound(board: Measurement) -> str | None:
    """Whether the lines show what their probes say, where something speaks against one."""
    found = judge_binding(board.paper, board.capture, if_doubted=True)
    if not found.faults or found.faults[0].fault is Fault.BOARD:
        return None
    rests = "what is said below rests on that, and " if found.faults[0].sure else ""
    return f"{found.first}; {rests}tachys probes shows why"


def _power_of_ten(figures: tuple[Compared, ...]) -> str | None:
    """Every period is off by the same power of ten: of the clocks of a board that is not to be expected."""
    periods = [figure for figure in figures if figure.key in _EXACT and figure.measured is not None and figure.high]
    ratios = [2 * each.measured.most / ((each.low or 0) + each.high) for each in periods if each.measured and each.high]
    if not ratios or min(ratios) <= 0:
        return None
    power = round(math.log10(ratios[0]))
    if power == 0 or any(not 0.97 < ratio / 10.0**power < 1.03 for ratio in ratios):
        return None
    if len(ratios) == 1 and power % 3:  # one timer may well be set ten times too slow; a unit is off by a thousand
        return None
    factor = f"{10**power} times" if power > 0 else f"1/{10**-power} of"
    which = "every period is" if len(ratios) > 1 else f"the period of {periods[0].about} is"
    return (
        f"{which} {factor} what the model says: look at the unit of time first (--time-unit of a "
        "table, the timescale of the export)"
    )


def _another_board(board: Measurement, figures: tuple[Compared, ...]) -> str | None:
    """Half or more of the lines show nothing that the model allows."""
    state: dict[Thing, set[Agreement]] = {}
    for figure in figures:
        if figure.key in _OWN and figure.state is not Agreement.NOT_SHOWN and figure.about in board.shown.through:
            state.setdefault(figure.about, set()).add(figure.state)
    wrong = [about for about, states in state.items() if states == {Agreement.REFUTES}]
    if len(state) < _FEWEST or 2 * len(wrong) < len(state):
        return None
    lines = ", ".join(dict.fromkeys(board.shown.through[about][0] for about in wrong[:4]))
    more = ", …" if len(wrong) > 4 else ""
    return (
        f"{len(wrong)} of {len(state)} lines ({lines}{more}) show nothing that the model allows: is this a capture of "
        "this board, and are its probes right?"
    )


def _written_later(board: Measurement) -> str | None:
    """A routine that seems to begin before its event: its pin is written sooner in it than the model says."""
    for runs in board.isrs.values():
        if runs.before:
            about = runs.isr.thing
            line, after = board.shown.through[about][0], board.system.written[about][0]
            return (
                f"{about} would begin {time_in_words(runs.before)} before its event, if {line} is written "
                f"{time_in_words(after)} after its first instruction: look at after of [probe.{line}] first; what is "
                "said below rests on that"
            )
    return None
