"""Something runs that the model does not have: seen on a line of its own, or only by what it takes from the others.

If it has a line, taking that line for the most urgent routine of all makes costs agree that did not. If it has none,
several bodies at once take longer than modelled, each only now and then.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tachys.capture.table import Capture
from tachys.checking.board.measuring import Measurement, measure
from tachys.checking.compare.compared import Agreement, Compared
from tachys.checking.compare.figures import compare_figures
from tachys.model.events import Thing
from tachys.model.system import System
from tachys.worstcase.bounds import Bounds

TRIED = 8


class Stranger(Struct, frozen=True):
    """``what`` runs for up to ``most`` ps at a time; ``explains`` names the things whose figures it made look wrong."""

    what: Thing
    text: str
    most: int
    explains: tuple[str, ...]
    at: int | None = None


def look_for_strangers(
    system: System, paper: Bounds, capture: Capture, board: Measurement, figures: tuple[Compared, ...]
) -> tuple[Measurement, tuple[Compared, ...], tuple[Stranger, ...]]:
    """The board with what does not belong to it told apart; its figures then; who was found."""
    wrong = _too_long(figures)
    if not wrong:
        return board, figures, ()
    for line in list(board.shown.foreign)[:TRIED]:
        again = measure(system, paper, capture, stranger=line)
        other = compare_figures(again)
        gone = [about for about in wrong if about not in _too_long(other)]
        if gone and len(_refuted(other)) < len(_refuted(figures)):
            return again, other, (_on_line(board, line, gone),)
    hidden = _hidden(board, figures)
    if hidden is None:
        return board, figures, ()
    why = "something without a line runs on top of it"
    kept = tuple(
        replace(figure, state=Agreement.NOT_SHOWN, why=why) if _may_be(figure, hidden) else figure for figure in figures
    )
    return board, kept, (hidden,)


def _may_be(figure: Compared, hidden: Stranger) -> bool:
    """Whether a refuted figure may as well be what the hidden one did."""
    if figure.state is not Agreement.REFUTES or not figure.beyond:
        return False
    if figure.key == "guard":
        return figure.measured is not None and figure.measured.most <= 2 * hidden.most
    return figure.key == "cost" and figure.about in hidden.explains


def _refuted(figures: tuple[Compared, ...]) -> set[tuple[str, str, int | None]]:
    return {(each.about, each.key, each.urgency) for each in figures if each.state is Agreement.REFUTES}


def _too_long(figures: tuple[Compared, ...]) -> list[str]:
    wrong = [f for f in figures if f.state is Agreement.REFUTES and f.beyond and f.key in ("cost", "time", "guard")]
    return list(dict.fromkeys(figure.about for figure in wrong))


def _on_line(board: Measurement, line: str, gone: list[str]) -> Stranger:
    bodies = board.shown.foreign[line]
    lasting = bodies.end - bodies.start
    place = int(np.argmax(lasting))
    runs = len(lasting)
    text = f"its line is active {runs} times on top of {listed(gone)}; the model has nothing on it"
    return Stranger(Thing(f"line.{line}"), text, int(lasting[place]), tuple(gone), int(bodies.start[place]))


def _hidden(board: Measurement, figures: tuple[Compared, ...]) -> Stranger | None:
    """At least two bodies that are too long now and then, and mostly not."""
    rare, most, at = [], 0, None
    for figure in figures:
        if figure.state is not Agreement.REFUTES or not figure.beyond or figure.key != "cost":
            continue
        kind, name = figure.about.kind, figure.about.name
        if getattr(board.system.nodes[figure.about], "drains", None) is not None:
            continue  # how long a run is hangs on how many items it takes
        own = board.isrs[name].cost if kind == "isr" else board.steps[name].own
        assert own is not None
        assert figure.high is not None
        over = own.least - figure.high
        beyond = over[over > 0]
        # a routine that runs on top adds all that it takes; of a cost that is too low some runs lie just beyond it
        just = float((beyond < beyond.max() / 3).mean())
        if len(beyond) * 2 < len(over) and just < 0.2:
            rare.append(figure.about)
            if int(over.max()) > most:
                bodies = board.shown.bodies[figure.about]
                most, at = int(over.max()), int(bodies.start[bodies.whole][int(np.argmax(over))])
    if len(rare) < 2:
        return None
    text = f"something without a line runs now and then on top of {listed(rare)}: a routine that the model lacks?"
    return Stranger(Thing("core"), text, most, tuple(rare), at)


def listed(names: Sequence[str]) -> str:
    """A few names in a sentence."""
    if len(names) > 4:
        return f"{', '.join(names[:3])} and {len(names) - 3} more"
    return ", ".join(names[:-1]) + (" and " if len(names) > 1 else "") + names[-1]
