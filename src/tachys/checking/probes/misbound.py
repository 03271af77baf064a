"""What is wrong with the binding itself: before a figure is believed, whether its line shows what the model says.

The probes of a model are held against the assignment for which the evidence speaks most; only where that is far better
is something said.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.scanning import LARGEST
from tachys.capture.table import Capture
from tachys.checking.probes.binding import called_as, things_by_name
from tachys.checking.probes.evidence import Expected, Line, Meaning
from tachys.checking.probes.proposing import FAR, LIKELY, SURE, Chosen, Proposal, Search, lines_of
from tachys.model.events import Event, Thing
from tachys.model.nodes import Probe
from tachys.model.system import System
from tachys.worstcase.bounds import Bounds

_POWERS = (3, -3, 6, -6, 1, -1, 2, -2)
_FEWEST = 3  # lines of which it can be said that they are of another board


class Fault(StrEnum):
    """The kinds of faults, those that spoil most first."""

    UNIT = "time-unit"
    BOARD = "other-board"
    EXCHANGED = "exchanged"
    ANOTHER = "another-thing"
    INVERTED = "inverted"
    EDGE = "wrong-edge"


class Misbound(Struct, frozen=True):
    """A fault of the binding: which lines have it, in words, and what would be right.

    Not ``sure``: a single wrong figure of the model would look the same.
    """

    fault: Fault
    lines: tuple[str, ...]
    wrong: str
    mend: str
    sure: bool = True


class Binding(Struct, frozen=True):
    """What is proposed for every line that moves, what the model says today, and what of that is wrong."""

    proposals: tuple[Proposal, ...]
    today: dict[str, Meaning] = field(default_factory=dict)
    faults: tuple[Misbound, ...] = ()

    @property
    def first(self) -> str | None:
        """The fault that spoils most, in one sentence."""
        return f"{self.faults[0].wrong}: {self.faults[0].mend}" if self.faults else None


def judge_binding(paper: Bounds, capture: Capture, *, if_doubted: bool = False) -> Binding:
    """Propose what every line shows, and hold the probes of the model against it.

    ``if_doubted``: only where something speaks against one of these probes, and only what is wrong.
    """
    system, capture = called_as(paper.system, capture)
    today, fixed = _today(system, capture)
    lines = {name: line for name, line in lines_of(capture).items() if name not in fixed}
    expected = Expected(paper, frozenset(fixed.values()))
    search = Search(expected, lines)
    if not lines or not expected.meanings:
        return Binding((), today)
    bound = {line: meaning for line, meaning in today.items() if line in lines}
    if if_doubted and not any(_is_doubted(search, line, bound) for line in bound):
        return Binding((), today)
    chosen = search.best()
    poor = _is_poor(search, bound or chosen)
    proposals = tuple(search.proposals(chosen)) if poor or not if_doubted else ()
    faults: list[Misbound] = []
    if poor:
        faults = _of_all(search, chosen, proposals, capture)
    if not faults:
        faults = _of_lines(search, chosen, bound)
    return Binding(proposals, today, tuple(faults))


def _is_doubted(search: Search, line: str, bound: dict[str, Meaning]) -> bool:
    """Whether something speaks against a probe, or its thing would be shown better by another edge or level."""
    meaning, chosen = bound[line], dict[str, Meaning | None](bound)
    if search.reasons(line, meaning, chosen)[1]:
        return True
    now = search.of_line(line, meaning, chosen)
    others = (each for each in search.expected.meanings if each.thing == meaning.thing and each != meaning)
    return any(search.of_line(line, each, chosen) > now + SURE for each in others)


def _today(system: System, capture: Capture) -> tuple[dict[str, Meaning], dict[str, Thing]]:
    """(meaning by line, things by line that are shown in a way that is not proposed)."""
    found: dict[str, Meaning] = {}
    fixed: dict[str, Thing] = {}
    named = things_by_name(system)
    probed = {probe.signal: probe for probe in system.probes}
    for name in capture.signals:
        probe = probed.get(name)
        if probe is None:
            meant = named.get(name, [])
            probe = Probe(name, (meant[0],)) if len(meant) == 1 else None
        if probe is None:
            continue
        meaning = _meaning(probe)
        if meaning is not None:
            found[name] = meaning
        else:
            fixed[name] = Thing(Event(probe.shows[0]).thing if probe.shows else "")
    return found, fixed


def _meaning(probe: Probe) -> Meaning | None:
    if len(probe.shows) != 1 or probe.codes or probe.meter is not None:
        return None
    event = Event(probe.shows[0])
    if event.kind == "source":
        edge = {"toggle": "both", "pulse": "rise", None: "rise"}.get(probe.edge, probe.edge)
        if probe.active_low and edge != "both":
            edge = "fall" if edge == "rise" else "rise"
        return Meaning(Thing(event), edge)
    if probe.edge is not None or event.kind not in ("isr", "step", "unit"):
        return None
    return Meaning(Thing(event), None, probe.active_low)


def _is_poor(search: Search, chosen: dict[str, Meaning] | Chosen) -> bool:
    """Whether half of what is bound shows what the model does not allow."""
    known = [(line, meaning) for line, meaning in chosen.items() if meaning is not None]
    wrong = sum(bool(search.one(line, meaning).against) for line, meaning in known)
    missing = len(chosen) - len(known)
    return 2 * (wrong + missing) >= len(chosen)


def _of_all(search: Search, chosen: Chosen, proposals: tuple[Proposal, ...], capture: Capture) -> list[Misbound]:
    """A fault of the whole capture: its unit of time, or the board."""
    now = search.total(chosen)
    for power in _POWERS:
        if power > 0 and capture.end * 10**power > LARGEST:
            continue
        other = Search(search.expected, _scaled(search, capture, power))
        best = other.best()
        if other.total(best) <= now + SURE * max(1, len(best) / 2):
            continue
        fits = [each for each in other.proposals(best) if each.meaning and not each.against]
        if 2 * len(fits) > len(best):
            times = f"{10**power} times" if power > 0 else f"1/{10**-power} of"
            return [
                Misbound(
                    Fault.UNIT, tuple(best), f"all times would fit the model if they were {times} what they are",
                    "look at the unit of time first (--time-unit of a table, the timescale of the export)",
                )
            ]  # fmt: skip
    fitting = [each for each in proposals if each.meaning and each.margin >= LIKELY and not each.against]
    if len(proposals) >= _FEWEST and 2 * len(fitting) < len(proposals):
        wrong = f"{len(proposals) - len(fitting)} of {len(proposals)} lines show nothing that the model allows"
        mend = "is this the capture of this board, with this firmware?"
        return [Misbound(Fault.BOARD, tuple(search.lines), wrong, mend)]
    return []


def _scaled(search: Search, capture: Capture, power: int) -> dict[str, Line]:
    """The lines as they would be if all times were a power of ten what they are."""

    def by(ps: Any) -> Any:
        return ps * 10**power if power > 0 else ps // 10**-power

    scaled = replace(capture, signals={}, begin=by(capture.begin), end=by(capture.end),
                     resolution=max(1, by(capture.resolution)), rounding=by(capture.rounding), gaps=())  # fmt: skip
    signals = (capture.signals[name] for name in search.lines)
    return {signal.name: Line(replace(signal, at=by(signal.at)), scaled) for signal in signals}


def _of_lines(search: Search, chosen: Chosen, bound: dict[str, Meaning]) -> list[Misbound]:
    """Lines that show another thing, or in another way, than their probes say."""
    wrong = {line: meaning for line, meaning in bound.items() if chosen[line] != meaning}
    found: dict[frozenset[str], Misbound] = {}
    for line, meaning in wrong.items():
        best = chosen[line]
        if best is None or search.one(line, best).against:
            continue
        better = -search.worth_of(line, meaning, chosen)
        if better < SURE:
            continue
        around = [{**others, line: meaning} for others in (chosen, bound)]
        against = [reason for others in around for reason in search.reasons(line, meaning, others)[1]]
        if not against and better < FAR:
            continue  # less likely is not wrong
        kinds = {kind for others in around for kind in search.kinds_against(line, meaning, others)}
        partner = next((each for each, other in bound.items() if each != line and other.thing == best.thing), None)
        if meaning.thing == best.thing:
            fault = _same_thing(line, meaning, best)
            fault = _in_doubt(fault, best, against) if kinds == {"pace"} else fault
        elif partner is not None and (back := chosen[partner]) is not None and back.thing == meaning.thing:
            fault = Misbound(
                Fault.EXCHANGED, (line, partner), f"{line} and {partner} are exchanged",
                f"{line} shows {best.text}, {partner} shows {back.text}",
            )  # fmt: skip
        else:
            fault = Misbound(Fault.ANOTHER, (line,), f"{line} does not show {meaning.thing}", f"it shows {best.text}")
            fault = _in_doubt(fault, best, against) if len(kinds) < 2 and "order" not in kinds else fault
        found.setdefault(frozenset(fault.lines), fault)
    order = list(Fault)
    return sorted(found.values(), key=lambda each: (not each.sure, order.index(each.fault)))


def _in_doubt(fault: Misbound, best: Meaning, against: list[str]) -> Misbound:
    """The same, where one wrong figure would explain it as well."""
    why = f" ({against[0]})" if against else ""
    mend = f"as {best.text} it would, if that figure of the model is right"
    wrong = f"{fault.lines[0]} does not look as its probe says{why}"
    return replace(fault, wrong=wrong, mend=mend, sure=False)


def _same_thing(line: str, meaning: Meaning, best: Meaning) -> Misbound:
    if meaning.edge is None:
        level = "low" if best.active_low else "high"
        return Misbound(
            Fault.INVERTED, (line,), f"{line} is inverted: {best.thing} runs while it is {level}",
            f'active = "{level}"',
        )  # fmt: skip
    wrong = f'the edge of {line} is wrong: {best.thing} is its "{best.edge}", not its "{meaning.edge}"'
    return Misbound(Fault.EDGE, (line,), wrong, f'edge = "{best.edge}"')
