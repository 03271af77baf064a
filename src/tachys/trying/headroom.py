"""How far each figure of a model can move alone before a need falls, and the smallest single changes that mend one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from typing import Any

from msgspec import Struct

from tachys.errors import did_you_mean, input_error
from tachys.model.events import Thing
from tachys.model.nodes import Isr
from tachys.spreading import EACH_CORE, Workers, spread, with_progress
from tachys.trying.amounts import Amount, halved
from tachys.trying.figures import ALL_WORK, Movable, all_work, movable
from tachys.trying.points import Model, Outcome, Tried, tried_of
from tachys.trying.why import shares_of, why
from tachys.worstcase.bounds import Bounds

_FARTHEST = 1000  # what can be a thousand times as much is no concern
_DOUBLINGS = 10
_EDGE = Fraction(1, 50)  # of what is left: the search always gets that much nearer
_LOOKED_AT = 8  # places in between, of what need not be steady
_FINE = Fraction(1, 4000)  # how near the search comes before it is rounded to four digits
_MORE_PENDING = 8
MENDED = 5  # needs
_FEW = 60  # figures: of more only those that have a say in a need are tried as mends
_SAY = 12  # things


class Room(Struct, frozen=True):
    """How far a figure can move for the worse: ``last`` is the last amount that holds, None where nothing ends it.

    ``falls`` are the needs that are no longer proved just beyond, ``why`` what the first of them is then made of;
    ``wrong``: why there is no such model beyond. ``unsteady``: it holds again further on, or not all the way.
    ``settings`` make the model just inside, ``outside`` just beyond.
    """

    key: str
    now: Amount
    up: bool
    last: Amount | None
    falls: tuple[str, ...] = ()
    why: str = ""
    wrong: str = ""
    unsteady: bool = False
    note: str = ""
    settings: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()

    @property
    def share(self) -> float | None:
        """How far it can move, as a share of what it is; of what shrinks, how much of it can go."""
        return None if self.last is None else abs(float(self.last.number / self.now.number) - 1)


class Mend(Struct, frozen=True):
    """A single change with which a need that fell is proved, and none that held falls: run, not guessed."""

    need: str
    key: str
    now: str
    becomes: str
    share: float
    settings: tuple[str, ...]


class Headroom(Struct, frozen=True):
    """Every figure with its room, the nearest first, and for each need that does not hold what would mend it."""

    rooms: tuple[Room, ...]
    held: tuple[str, ...]
    fallen: tuple[str, ...]
    mends: tuple[Mend, ...]

    def __repr__(self) -> str:
        first = self.rooms[0].key if self.rooms else "nothing"
        return f"<Headroom of {len(self.rooms)} figures, {first} first; {len(self.fallen)} needs do not hold>"


def headroom_of(
    model: Model, keys: Sequence[str] = (), told: Callable[[float], None] | None = None, *, mends: bool = True,
    workers: Workers = EACH_CORE,
) -> Headroom:  # fmt: skip
    """The room of the figures whose keys begin with one of ``keys``, or of all; among these, what mends a need.

    Raises:
        InputError: the model is wrong as it stands, or has no figure of such a key.
    """
    tried = Tried(model)
    paper = tried.bounds()
    base = tried.outcome(paper)
    tables = tried.merged()
    figures = movable(tables, paper.system)
    _check_keys(keys, [*(each.key for each in figures), ALL_WORK], model.file)
    figures = [each for each in figures if _asked(each.key, keys)]
    held = tuple(name for name, need in base.needs.items() if need.proved)
    work = all_work(tables)
    together = [_Together(work)] if work and _asked(ALL_WORK, keys) else []
    moved: list[Movable | _Together] = [*together, *figures]
    searches = [(held, each) for each in moved]
    text = model.to_text()
    rooms = list(with_progress(spread(_room, text, searches, workers), len(searches), told))
    found: list[Mend] = []
    if mends and base.falls:
        looked_at = base.falls[:MENDED]
        asked = [(base, each, name) for name in looked_at for each in _concerned(paper, name, figures)]
        tries = with_progress(spread(_by_figure, text, asked, workers), len(asked), told)
        by_figure = [mend for mend in tries if mend is not None]
        for name in looked_at:
            found += sorted((mend for mend in by_figure if mend.need == name), key=lambda mend: mend.share)
            found += (mend for mend in _by_order(tried, base, paper, name) if _asked(mend.key, keys))
    rooms.sort(key=lambda room: (room.share is None, room.share or 0.0))
    return Headroom(tuple(rooms), held, base.falls, tuple(found))


def _concerned(paper: Bounds, need: str, figures: list[Movable]) -> list[Movable]:
    """The figures that can have a say in a need: of all that its bound is made of, and of what causes that."""
    shares = [who for who, _ in shares_of(paper, need)]
    if len(figures) <= _FEW or not shares:
        return figures
    things = {*shares[:_SAY], str(paper.needs[need].need.waits)}
    causes = paper.system.graph.causes
    things |= {str(cause.thing) for thing in list(things) for cause in causes.get(Thing(thing), ())}
    return [each for each in figures if each.key.startswith(("core.", "clock.", "loop."))
            or ".".join(each.key.split(".")[:2]) in things]  # fmt: skip


def _check_keys(keys: Sequence[str], known: Sequence[str], file: str) -> None:
    for key in keys:
        if not any(_asked(each, [key]) for each in known):
            short = list(dict.fromkeys(each.removesuffix(".2") for each in known))
            raise input_error(file, f'no figure "{key}" can be moved', did_you_mean(key, short, "figure"), key="KEY")


def _asked(key: str, keys: Sequence[str]) -> bool:
    return not keys or any(key == asked or key.startswith(f"{asked}.") for asked in keys)


def _room(model: str, search: tuple[tuple[str, ...], Movable | _Together]) -> Room:
    return _Search(tried_of(model), *search).room()


class _Together:
    """All work scaled by one factor, as if it were a figure of 1."""

    key = ALL_WORK
    amount = Amount(Fraction(1), "times")
    up = True
    steady = True
    note = "together, by one factor"

    def __init__(self, work: tuple[Movable, ...]) -> None:
        self._work = work

    def at(self, amount: Amount) -> tuple[str, ...]:
        """The settings that scale them so."""
        return tuple(each for figure in self._work for each in figure.scaled(amount.number))


class _Search:
    """The search for the last amount of a figure with which every need that held still does."""

    def __init__(self, tried: Tried, held: tuple[str, ...], figure: Movable | _Together) -> None:
        self._tried = tried
        self._held = held
        self._figure = figure
        self._known: dict[Fraction, Outcome] = {}

    def room(self) -> Room:
        """What it finds."""
        figure = self._figure
        inside, beyond = self._bracket()
        if beyond is None:
            return Room(figure.key, figure.amount, figure.up, None, note=figure.note)
        inside, beyond = self._narrow(inside, beyond)
        unsteady = False
        if not figure.steady:
            earlier = self._earlier(inside)
            if earlier is not None:
                unsteady = True
                inside, beyond = self._narrow(*earlier)
        inside, beyond = self._in_digits(inside)
        outcome = self._at(beyond)
        falls = tuple(name for name in self._held if name in outcome.falls)
        return Room(
            figure.key, figure.amount, figure.up, inside, falls, self._why(beyond, falls), outcome.wrong, unsteady,
            figure.note, figure.at(inside), figure.at(beyond),
        )  # fmt: skip

    def _at(self, amount: Amount) -> Outcome:
        if amount.number not in self._known:
            self._known[amount.number] = self._tried.at(self._figure.at(amount))
        return self._known[amount.number]

    def _holds(self, amount: Amount) -> bool:
        outcome = self._at(amount)
        return not outcome.wrong and all(name in outcome.needs and outcome.needs[name].proved for name in self._held)

    def _bracket(self) -> tuple[Amount, Amount | None]:
        """An amount that holds, and one further on that does not; None: none up to a thousand times as much."""
        figure = self._figure
        inside, factor, last = figure.amount, Fraction(1), self._slack(figure.amount)
        step = Fraction(2)
        while factor < _FARTHEST:
            factor = min(factor * step, Fraction(_FARTHEST))
            beyond = figure.amount.times(factor if figure.up else 1 / factor).rounded(up=figure.up)
            if not beyond.number or beyond.number == inside.number:
                return inside, None
            if not self._holds(beyond):
                return inside, beyond
            slack = self._slack(beyond)
            # as far as the room would last if it went on as it did so far, and a little more
            step = min(max(1 + Fraction(slack / max(last - slack, 1e-9)) * (1 - 1 / step), Fraction(2)), Fraction(8))
            inside, last = beyond, slack
        return inside, None

    def _narrow(self, inside: Amount, beyond: Amount) -> tuple[Amount, Amount]:
        """Nearer to where it breaks: along a line through the least room at both ends, which is halved (Illinois)."""
        room, lack = self._slack(inside), self._slack(beyond)
        while abs(beyond.number - inside.number) > _FINE * max(beyond.number, inside.number):
            share = min(max(Fraction(room / (room - lack)), _EDGE), 1 - _EDGE)
            place = Amount(inside.number + (beyond.number - inside.number) * share, inside.unit)
            if place.whole:
                place = Amount(Fraction(round(place.number)), place.unit)
                if abs(beyond.number - inside.number) <= 1:
                    break
                if place.number in (inside.number, beyond.number):
                    place = Amount(Fraction(int(inside.number + beyond.number) // 2), place.unit)
            if self._holds(place):
                inside, room, lack = place, self._slack(place), lack / 2
            else:
                beyond, lack, room = place, self._slack(place), room / 2
        return inside, beyond

    def _slack(self, amount: Amount) -> float:
        """The least room of the needs that held, below zero where one falls; only a guide for the search."""
        outcome = self._at(amount)
        rooms = [outcome.needs[name].room for name in self._held if name in outcome.needs]
        least = min((-1.0 if room is None else room for room in rooms), default=-1.0)
        return max(least, 1e-6) if self._holds(amount) else min(least, -1e-6)

    def _earlier(self, inside: Amount) -> tuple[Amount, Amount] | None:
        """Between today's amount and the last that holds: the first place found where it does not."""
        last = self._figure.amount
        ratio = float(inside.number / last.number)
        for step in range(1, _LOOKED_AT):
            number = self._figure.amount.number * Fraction(ratio ** (step / _LOOKED_AT)).limit_denominator(10**6)
            place = Amount(number, inside.unit).rounded(up=self._figure.up)
            if not self._holds(place):
                return last, place
            last = place
        return None

    def _in_digits(self, inside: Amount) -> tuple[Amount, Amount]:
        """The last amount of four digits that holds, and the next one, which does not."""
        up = self._figure.up
        place = inside.rounded(up=not up)
        if (place.number < self._figure.amount.number) == up:
            place = self._figure.amount
        for _ in range(4):
            if self._holds(place) or place.number == self._figure.amount.number:
                break
            place = place.neighbour(up=not up)
        if not self._holds(place):
            place = self._figure.amount
        for _ in range(16):
            further = place.neighbour(up=up)
            if not self._holds(further):
                return place, further
            place = further
        return place, place.neighbour(up=up)

    def _why(self, beyond: Amount, falls: tuple[str, ...]) -> str:
        return why(self._tried.bounds(self._figure.at(beyond)), falls[0]) if falls else ""


# --- mends --------------------------------------------------------------------------------------------------


def _mended(tried: Tried, base: Outcome, settings: tuple[str, ...], need: str) -> bool:
    outcome = tried.at(settings)
    if outcome.wrong or need not in outcome.needs or not outcome.needs[need].proved:
        return False
    return not any(name not in base.falls and name in outcome.falls for name in base.needs)


def _by_figure(model: str, asked: tuple[Outcome, Movable, str]) -> Mend | None:
    """The smallest change of a figure with which a need is proved: a job."""
    tried, (base, figure, need) = tried_of(model), asked
    known: dict[Fraction, bool] = {}

    def good(amount: Amount) -> bool:
        if amount.number not in known:
            known[amount.number] = _mended(tried, base, figure.at(amount), need)
        return known[amount.number]

    inside, outside = None, figure.amount
    for step in range(1, _DOUBLINGS + 1):
        place = figure.amount.times(Fraction(2) ** (-step if figure.up else step)).rounded(up=not figure.up)
        if not place.number or place.number == outside.number:
            break
        if good(place):
            inside = place
            break
        outside = place
    if inside is None:
        return None
    inside, _ = halved(inside, outside, good, _FINE, Amount.to_whole)
    place = inside.rounded(up=not figure.up)
    if not good(place):
        place = inside
    share = abs(float(place.number / figure.amount.number) - 1)
    return Mend(need, figure.key, str(figure.amount), str(place), share, figure.at(place))


def _by_order(tried: Tried, base: Outcome, paper: Bounds, need: str) -> Iterator[Mend]:
    """A routine at another level, or a line that remembers more."""
    system, isr = paper.system, paper.system.nodes.get(paper.needs[need].need.waits)
    if not isinstance(isr, Isr):
        return
    now = system.core.level_text(isr.urgency)
    for urgency in range(isr.urgency - 1, -1, -1):
        level = system.core.level_text(urgency)
        settings = (f"isr.{isr.name}.level={level}",)
        if _mended(tried, base, settings, need):
            yield Mend(need, f"isr.{isr.name}.level", str(now), str(level), 1.0, settings)
            break
    if paper.isrs[isr.name].lost:
        for pending in range(isr.pending + 1, isr.pending + _MORE_PENDING):
            settings = (f"isr.{isr.name}.pending={pending}",)
            if _mended(tried, base, settings, need):
                yield Mend(need, f"isr.{isr.name}.pending", str(isr.pending), str(pending), 1.0, settings)
                break


def headroom_data(found: Headroom) -> dict[str, Any]:
    """As JSON."""
    return {
        "format": "tachys.headroom/1",
        "held": list(found.held),
        "fallen": list(found.fallen),
        "rooms": [
            {"key": room.key, "now": str(room.now), "last": None if room.last is None else str(room.last),
             "room": room.share, "falls": list(room.falls), "why": room.why, "wrong": room.wrong or None,
             "steady": not room.unsteady, "note": room.note, "settings": list(room.settings)}
            for room in found.rooms
        ],
        "mends": [
            {"need": mend.need, "key": mend.key, "now": mend.now, "becomes": mend.becomes, "share": mend.share,
             "settings": list(mend.settings)}
            for mend in found.mends
        ],
    }  # fmt: skip
