"""What is wrong with the pins of a board, each fault told once, by what explains most."""

from __future__ import annotations

from collections.abc import Iterator

from tachys.checking.board.measuring import Measurement
from tachys.checking.board.pins import PinSeen
from tachys.checking.compare.sentences import sentence
from tachys.checking.result import Finding
from tachys.words import count_text, time_text


def pin_findings(board: Measurement) -> Iterator[Finding]:
    """Every pin that did other than what writes it asks for."""
    for seen in board.pins.values():
        found = _fault(seen)
        if found is not None:
            code, text = found
            yield Finding(code, seen.pin.thing, sentence(code, text), None, None, (), (), seen.at)
        elif seen.first:
            level = "high" if seen.pin.first else "low"
            yield Finding("pin-first", seen.pin.thing, sentence("pin-first", f"{level} in the model"), None, None)
        elif seen.lengths is not None:
            yield from _lengths(board, seen)


def _fault(seen: PinSeen) -> tuple[str, str] | None:
    came = sum(seen.events.values())
    if not seen.edges:
        return ("pin-still", _listed(seen)) if came > 2 and not _may_rest(seen) else None
    if seen.turned:
        return "pin-inverted", ""
    if seen.follows is not None:
        return "pin-other", f"its edges follow {seen.follows.thing}"
    if seen.wrong:
        event = max(seen.wrong, key=lambda each: (seen.wrong[each], each.moment == "start"))
        edges = count_text(seen.most, "edge")
        return "pin-edges", f"{edges} in {seen.wrong[event]} of {seen.events[event]} times {event}, {seen.due} due"
    if seen.alone:
        return "pin-alone", f"{count_text(seen.alone, 'edge')} while nothing ran that writes it"
    return None


def _may_rest(seen: PinSeen) -> bool:
    """Whether it may stay as it is: all that came writes one and the same level."""
    does = {write.does for write in seen.pin.writes if seen.events[write.event]}
    return does in ({"high"}, {"low"})


def _listed(seen: PinSeen) -> str:
    told = [f"{event} came {count_text(count, 'time')}" for event, count in seen.events.items() if count]
    return " and ".join(told[:2])


def _lengths(board: Measurement, seen: PinSeen) -> Iterator[Finding]:
    """Pulses that are longer or shorter than the model says."""
    assert seen.lengths is not None
    at, lengths = seen.lengths
    allowed = seen.pin.writes[0].length
    if allowed is None or not len(lengths):
        return
    slack = board.slack(allowed.most)
    longest, shortest = int(lengths.argmax()), int(lengths.argmin())
    for code, place, off, limit in (
        ("pulse-longer", longest, int(lengths[longest]) - slack > allowed.most, allowed.most),
        ("pulse-shorter", shortest, int(lengths[shortest]) + slack < allowed.least, allowed.least),
    ):
        if off:
            text = sentence(code, f"{time_text(int(lengths[place]))}, model {time_text(limit)}")
            yield Finding(code, seen.pin.thing, text, None, None, (), (), int(at[place]))
