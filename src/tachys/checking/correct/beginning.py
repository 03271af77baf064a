"""A model begun from a capture alone: what its lines look like, as a file to go on from.

Nothing of it is known, all of it was seen: each figure says so, and what a capture cannot tell is asked.
Regular lines become timers, pulses of one width events, lines busy for varying times routines or steps; who is more
urgent is read off who begins within whom.
"""

from __future__ import annotations

import re
from math import exp

import numpy as np
from msgspec import Struct
from tomlkit import string as toml_string

from tachys.capture.statistics import MeanPeriod, fitted
from tachys.capture.table import Capture, Instants, Signal
from tachys.checking.checking import check
from tachys.checking.correct.fitting import exact_quantity, fit, quantity
from tachys.checking.probes.lines import Bodies, edges_of, line_of, stretches
from tachys.errors import input_error
from tachys.model.loading import read_model
from tachys.model.nodes import Probe
from tachys.stretches import NEVER, joined

_FEWEST = 3  # edges of a line of which something is said
_ROUNDS = 6  # of widening what the capture refutes
_ONE_WIDTH = 0.02  # pulses whose widths spread by less are of one width
_REGULAR = 0.25  # distances that stray by less of a period are those of a timer
_FOLLOWED = 0.8  # so many events of a line are followed at once, where it causes another


class _Part(Struct):
    """A line as what it looks like."""

    signal: str
    name: str
    low: bool
    bodies: Bodies
    both: Instants
    known_to: int
    cause: str | None = None
    seems: str | None = None
    toggles: bool = False
    level: int = 0
    step: bool = False
    delay: int = 0

    @property
    def begun(self) -> Instants:
        """When it becomes active."""
        return self.bodies.begun

    @property
    def width(self) -> Instants:
        """How long it is active, in ps."""
        return (self.bodies.end - self.bodies.start)[self.bodies.whole]

    @property
    def events(self) -> Instants:
        """The events that it shows, where it shows events."""
        return self.both if self.toggles else self.begun

    @property
    def edge(self) -> str:
        """The edge of them."""
        return "both" if self.toggles else "fall" if self.low else "rise"

    @property
    def one_width(self) -> bool:
        """Whether it is a pulse of always the same width."""
        width = self.width
        return bool(len(width)) and int(np.ptp(width)) <= max(2 * self.known_to, _ONE_WIDTH * float(np.median(width)))

    def period(self) -> MeanPeriod | None:
        """The period of its events, where they are those of a timer."""
        return _period(self.events, self.known_to)


def _period(instants: Instants, known_to: int) -> MeanPeriod | None:
    if len(instants) < 2 * _FEWEST:
        return None
    found = fitted(lambda: iter([instants]), known_to)
    if found is None:
        return None
    return found if _stray(instants, found) <= _REGULAR * found.mean + 2 * known_to else None


def _stray(instants: Instants, period: MeanPeriod) -> float:
    """How far instants lie apart from a grid of that period, at most, in ps."""
    return float(np.ptp(instants - instants[0] - np.arange(len(instants)) * period.mean))


def begin_model(capture: Capture, today: str) -> str:
    """The text of a model that this capture refutes in nothing, with what it cannot tell as questions.

    Raises:
        InputError: no line of it moves.
    """
    parts = _parts(capture)
    if not parts:
        raise input_error(capture.file, "no line of it moves", "take a capture while the board is at work")
    _find_causes(parts)
    _find_levels(parts)
    for _ in parts:
        text, doubted = _widened(_text(parts, capture, today), capture, today)
        wrong = [part for part in parts if part.cause is not None and part.name in doubted]
        if not wrong:
            break
        for part in wrong:  # it follows the other line, and yet not as a routine of its own would
            part.seems, part.cause = part.cause, None
    return text


def _widened(text: str, capture: Capture, today: str) -> tuple[str, set[str]]:
    """(a model with the figures widened that the capture refutes, the names of routines that do not fit even so)."""
    for _ in range(_ROUNDS):
        before, text = text, fit(text, capture.file, [capture], today).text
        if text == before:
            break
    result = check(read_model(text, capture.file), capture)
    return text, {finding.about.name for finding in result.findings if finding.about.kind == "isr"}


def _parts(capture: Capture) -> list[_Part]:
    found, taken = [], set[str]()
    for signal in capture.signals.values():
        if signal.real or signal.width > 1 or len(signal.at) <= _FEWEST:
            continue
        part = _part(signal, capture, taken)
        if len(part.begun) >= _FEWEST:
            found.append(part)
            taken.add(part.name)
    return found


def _part(signal: Signal, capture: Capture, taken: set[str]) -> _Part:
    bodies = {
        low: stretches(line_of(signal, Probe(signal.name, (), active_low=low), capture), capture)
        for low in (False, True)
    }
    low = _lasts(bodies[False]) > _lasts(bodies[True])  # a line rests longer than it works
    both = edges_of(line_of(signal, Probe(signal.name, (), edge="both"), capture), "both")
    name = re.sub(r"[^A-Za-z0-9_]", "_", signal.name) or "line"
    while name in taken:
        name += "_"
    part = _Part(signal.name, name, low, bodies[low], both, capture.known_to)
    part.toggles = _toggles(part)
    return part


def _lasts(bodies: Bodies) -> int:
    return int((bodies.end - bodies.start).sum())


def _toggles(part: _Part) -> bool:
    """Whether each of its edges is an event: one after the other comes at regular distances."""
    return _period(part.both, part.known_to) is not None


def _find_causes(parts: list[_Part]) -> None:
    """Which line follows which at once: the routine of an event."""
    for body in parts:
        if body.toggles:
            continue
        found: list[tuple[float, int, _Part]] = []
        for other in parts:
            if other is not body and (other.toggles or other.one_width) and other.cause is None:
                share, delay, chance = _follows(other.events, body.begun, body.known_to)
                if share >= _FOLLOWED and chance < 0.5 * share:
                    found.append((share - chance, delay, other))
        if found:
            _, body.delay, cause = max(found, key=lambda each: each[0])
            body.cause = cause.name
    causes = {part.cause for part in parts}
    for part in parts:  # whoever is an event for others is no routine itself
        if part.name in causes:
            part.cause = None


def _follows(events: Instants, begun: Instants, known_to: int) -> tuple[float, int, float]:
    """(share of events that are followed before the next one, the least delay, how many would be by chance)."""
    after = np.append(begun, NEVER)[np.searchsorted(begun, events - known_to)] - events
    near = after[after < NEVER // 2]
    if len(near) < _FEWEST:
        return 0.0, 0, 1.0
    window = float(np.quantile(near, 0.8)) + known_to
    every = max(1.0, float(begun[-1] - begun[0]) / len(begun))
    share = float((after <= window).sum()) / len(events)
    return share, max(0, int(near.min())), 1 - exp(-window / every)


def _find_levels(parts: list[_Part]) -> None:
    """Who begins within whom is more urgent; what is only ever interrupted and comes regularly is a step."""
    bodies = [part for part in parts if _is_body(part)]
    above: dict[str, set[str]] = {part.name: set() for part in bodies}
    for one in bodies:
        for other in bodies:
            if one is not other and _begins_within(one, other):
                above[one.name].add(other.name)
    for _ in bodies:  # the longest way down; whoever interrupts each other stands on one level
        for part in bodies:
            below = [
                each.level for each in bodies if each.name in above[part.name] and part.name not in above[each.name]
            ]
            part.level = max([part.level, *(level + 1 for level in below)])
            part.level = min(part.level, len(bodies) - 1)
    for part in bodies:
        interrupted = any(part.name in above[each.name] for each in bodies)
        part.step = interrupted and not above[part.name] and part.cause is None and _due_by_timer(part, bodies)


def _due_by_timer(part: _Part, bodies: list[_Part]) -> bool:
    """Whether it begins each so often, and is no later than all others that are seen can make it."""
    period = _period(part.begun, part.known_to)
    others = sum(int(each.width.max()) for each in bodies if each is not part and len(each.width))
    return period is not None and int(_stray(part.begun, period)) - 2 * part.known_to <= others


def _is_body(part: _Part) -> bool:
    return not part.toggles and (part.cause is not None or not part.one_width)


def _begins_within(one: _Part, other: _Part) -> bool:
    """Whether one begins while the other runs, and ends before it does."""
    start, end = one.bodies.start[one.bodies.whole], one.bodies.end[one.bodies.whole]
    place = np.searchsorted(other.bodies.start, start - one.known_to) - 1
    inside = (place >= 0) & (end < other.bodies.end[np.maximum(place, 0)] - one.known_to)
    return bool(inside.any())


def _text(parts: list[_Part], capture: Capture, today: str) -> str:
    """The file."""
    file = re.sub(r"[^ -~]|[\"\\\\]", "?", capture.file.rpartition("/")[2])
    seen = f"seen in {file}, {today}"
    bodies = [part for part in parts if _is_body(part)]
    routines = [part for part in bodies if not part.step]
    levels = sorted({part.level for part in routines}, reverse=True) or [0]
    entry = max(0, min([part.delay for part in routines if part.cause is not None], default=0) - capture.known_to)
    lines = [
        f"# Begun from a capture: every figure was {seen}, and is no more than that.",
        "# A line that ends in a question is yours: it is what a capture cannot tell.",
        "tachys = 1",
        f'title = "What {file} shows"',
        "",
        "[core]",
        'clock = "1 MHz"  # what does the core run at?',
        f"levels = {len(levels)}  # so many interrupt each other here; how many are there, and which end is urgent?",
        f"entry = {_quoted(entry, up=False)}  # the least delay, {seen}; what says the manual of the core?",
        'exit = "0 s"  # and back?',
        f"chain = {_quoted(_chain(routines, entry), up=False)}  # the least from one routine to the next, {seen}",
        "",
    ]
    for part in parts:
        if not _is_body(part):
            lines += _source(part.name, part.events, part.known_to, seen)
            lines += _probe(part, f"source.{part.name}", part.edge)
    for part in routines:
        on = part.cause or f"{part.name}_event"
        if part.cause is None:
            lines += [*_source(on, part.begun, part.known_to, seen), _unknown(part), ""]
        lines += [f"[isr.{part.name}]", f'on = "source.{on}"', f"level = {levels.index(part.level)}"]
        lines += [_cost(part, bodies, seen), '# deadline = "?"  # by when must it have ended?']
        lines += _probe(part, f"isr.{part.name}", None)
    steps = [part for part in bodies if part.step]
    lines += ["[loop]", 'overhead = "1 us"  # of a pass in which nothing is due?', ""] if steps else []
    for part in steps:
        period = _period(part.begun, part.known_to)
        assert period is not None
        lines += [f"[step.{part.name}]", f"every = {_quoted(round(period.mean))}  # {seen}; or does it poll a flag?"]
        lines += [_cost(part, bodies, seen), *_probe(part, f"step.{part.name}", None)]
    lines += ["# What must hold?", "# [need.NAME]", '# from = "source.X"', '# to = "isr.X.start"', '# within = "?"']
    return "\n".join(lines) + "\n"


def _cost(part: _Part, bodies: list[_Part], seen: str) -> str:
    return f"cost = {_own(part, bodies)}  # {len(part.width)} runs, {seen}"


def _chain(routines: list[_Part], entry: int) -> int:
    """The least time from the end of a routine to the start of the next, no more than an entry takes, in ps."""
    ends = np.sort(np.concatenate([np.zeros(0, np.int64), *(part.bodies.ended for part in routines)]))
    least = entry
    for part in routines:
        place = np.searchsorted(ends, part.begun, side="right") - 1
        apart = part.begun[place >= 0] - ends[place[place >= 0]]
        least = min([least, *(apart - part.known_to).tolist()])
    return max(0, least)


def _unknown(part: _Part) -> str:
    if part.seems is None:
        return "# nothing shows this event: what is it?"
    return f"# it follows source.{part.seems}, and at times later or more often than this allows: is that its event?"


def _source(name: str, events: Instants, known_to: int, seen: str) -> list[str]:
    period, lines = _period(events, known_to), [f"[source.{name}]"]
    if period is None:
        apart = np.diff(events)
        least = max(1, int(apart.min()) - known_to)
        mean = max(least, round(float(apart.mean())))
        lines += [f"gap = {_quoted(least, up=False)}  # the least of {len(apart)}, {seen}; can it come sooner?"]
        return [*lines, f"mean = {_quoted(mean)}  # {seen}"]
    stray = max(0, int(_stray(events, period)) - known_to)
    lines += [f"every = {_quoted(round(period.mean))}  # {len(events)} events, {seen}; which timer makes it?"]
    lines += [
        f'tolerance = "{int(2e6 * period.sure / period.mean) + 1} ppm"  # as well as it is known; of which oscillator?'
    ]
    return [*lines, *([f"jitter = {_quoted(stray, up=True)}  # {seen}"] if stray > known_to else [])]


def _probe(part: _Part, shows: str, edge: str | None) -> list[str]:
    plain = re.fullmatch(r"[\w-]+", part.signal, re.ASCII)
    key = part.signal if plain else toml_string(part.signal).as_string()
    lines = ["", f"[probe.{key}]", f'shows = "{shows}"']
    if edge is not None:
        lines.append(f'edge = "{edge}"')
    elif part.low:
        lines.append('active = "low"  # it rests high; is that so?')
    return [*lines, ""]


def _own(part: _Part, bodies: list[_Part]) -> str:
    """What its runs took without what began within them, [least, most]."""
    whole = part.bodies.whole
    start, end = part.bodies.start[whole], part.bodies.end[whole]
    own = end - start
    above = [other.bodies for other in bodies if other.level > part.level]
    if above:
        begun, ended = joined(
            np.concatenate([each.start for each in above]), np.concatenate([each.end for each in above])
        )
        taken = np.append(0, np.cumsum(ended - begun))
        first, last = np.searchsorted(begun, start), np.searchsorted(begun, end)
        beyond = np.where(last > first, np.maximum(0, ended[np.maximum(last - 1, 0)] - end), 0)
        own = own - (taken[last] - taken[first] - beyond)
    own = np.maximum(own, part.known_to)
    return _range(max(0, int(own.min()) - part.known_to), int(own.max()) + part.known_to)


def _range(least: int, most: int) -> str:
    return f"[{_quoted(least, up=False)}, {_quoted(most, up=True)}]"


def _quoted(ps: int, *, up: bool | None = None) -> str:
    return f'"{exact_quantity(ps) if up is None else quantity(ps, up=up)}"'
