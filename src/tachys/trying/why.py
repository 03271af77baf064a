"""What a need comes to is made of: who takes which share of its bound, the most first."""

from __future__ import annotations

from fractions import Fraction

from tachys.figures import Figure
from tachys.needs.kinds import NeedBounds
from tachys.needs.takers import is_of
from tachys.worstcase.bounds import Bounds

_SHOWN = 3
_ENTRIES = "entry and exit"


def shares_of(paper: Bounds, name: str) -> list[tuple[str, Fraction]]:
    """(who, share of the whole) of what stands against a need: of its bound, of a response, or of the load."""
    need = paper.needs[name]
    if need.need.measures == "share":
        most = [(share.who, share.most) for share in paper.load.shares if is_of(share.who, need.need.takers)]
        return _by_size(most, sum((share for _, share in most), Fraction(0)))
    figure, own = _figure(paper, need)
    if figure is None or figure.most is None:
        return []
    taken: dict[str, int] = {}
    for part in figure.parts:
        who = "own cost" if part.who == own and part.what.endswith(("cost", "own items")) else part.who
        besides = "waking" if "wake" in part.what else _ENTRIES
        taken[who] = taken.get(who, 0) + part.count * part.body
        taken[besides] = taken.get(besides, 0) + part.count * part.overhead
    return _by_size([(who, Fraction(time)) for who, time in taken.items()], Fraction(sum(taken.values())))


def _figure(paper: Bounds, need: NeedBounds) -> tuple[Figure | None, str]:
    """The figure that stands behind a need, and the thing that it is of."""
    thing = need.need.waits
    if need.need.measures == "number" and thing.kind == "isr" and thing.name in paper.isrs:
        return paper.isrs[thing.name].response, thing
    if need.need.measures == "number" and thing.kind == "flag" and thing.name in paper.flags:
        return paper.flags[thing.name].reaction, thing
    if need.need.measures == "number" and thing.kind == "buffer":
        return paper.buffers[thing.name].time, thing
    return need.figure, thing if need.need.follows is not None else ""


def _by_size(found: list[tuple[str, Fraction]], whole: Fraction) -> list[tuple[str, Fraction]]:
    if not whole:
        return []
    return sorted(((who, part / whole) for who, part in found if part > 0), key=lambda pair: -pair[1])


def why(paper: Bounds, name: str) -> str:
    """In words: the reason that paper gives, and who takes most."""
    need = paper.needs[name]
    shares = ", ".join(f"{who} {round(share * 100)} %" for who, share in shares_of(paper, name)[:_SHOWN])
    return ": ".join(filter(None, (need.reason, shares)))
