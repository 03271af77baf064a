"""How well a line fits what it may show, as evidence for and against it, in nats: what is said of one line by itself
(how often, how far apart, how long), and of two together (one follows the other, one holds the other off).

Each figure is weighed against what a line that has nothing to do with it would show: a narrow range that is hit says
much, a wide one little (Good, Probability and the Weighing of Evidence, 1950).
"""

from __future__ import annotations

from fractions import Fraction
from functools import cached_property
from math import exp, log
from typing import Literal, NamedTuple

import numpy as np
from msgspec import Struct, field

from tachys.capture.table import Capture, Instants, Signal
from tachys.checking.probes.lines import Bodies, Levels, LineReading, edges_of, line_of, stretches
from tachys.model.events import Event, Thing
from tachys.model.nodes import Probe, Source
from tachys.model.quantities import time_in_words
from tachys.model.system import System
from tachys.stretches import NEVER
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.bounds import Bounds

MOST_EDGES = 4000  # of a line that are looked at
_ANY = log(100.0)  # how widely rates and widths of lines spread that have nothing to do with a thing
_STRONG, _FAULT, _AT_MOST = 8.0, 3.0, 20.0
_CLOCK = 3e-4  # how far the clocks of board and analyser may differ
_OFF = 0.02  # so many may lie outside of a figure of the model that is not quite right
_CHAIN = 25.0  # the most that one line following another says


Kind = Literal["pace", "width", "order"]  # one wrong figure of a model can speak in one of the first two


class Meaning(NamedTuple):
    """What a line may show: edges of a source, or the bodies of anything else."""

    thing: Thing
    edge: str | None = None
    active_low: bool = False

    @property
    def text(self) -> str:
        """In words, short."""
        how = f", {self.edge}" if self.edge else ""
        return f"{self.thing}{how}{', active low' if self.active_low else ''}"

    @property
    def keys(self) -> dict[str, str]:
        """As the keys of a probe."""
        keys = {"shows": str(self.thing)}
        if self.edge is not None:
            keys["edge"] = self.edge
        if self.active_low:
            keys["active"] = "low"
        return keys


class Evidence(Struct):
    """Nats for a meaning; ``why`` in words; ``against``: what the model does not allow; of which ``kinds`` that is."""

    score: float = 0.0
    why: list[str] = field(default_factory=list)
    against: list[str] = field(default_factory=list)
    kinds: set[Kind] = field(default_factory=set)

    def weigh(self, score: float, why: str = "", kind: Kind = "pace") -> None:
        """Take in a figure: what speaks for it is named, and what speaks clearly against it."""
        self.score += score
        if why and score > 1:
            self.why.append(why)
        elif why and score <= -_FAULT:
            self.against.append(why)
            self.kinds.add(kind)


class Line:
    """A line of a capture, read in every way that is asked for; the beginning of a long one stands for all of it."""

    def __init__(self, signal: Signal, capture: Capture) -> None:
        self.name = signal.name
        self.slack = capture.known_to
        last = int(signal.at[min(len(signal.at), MOST_EDGES) - 1])
        self._capture = capture if last >= int(signal.at[-1]) else _until(capture, last)
        cut = slice(0, MOST_EDGES)
        self._signal = Signal(signal.name, signal.width, signal.at[cut], signal.value[cut], signal.known[cut])
        self._edges: dict[str, Instants] = {}

    @cached_property
    def _line(self) -> LineReading:
        return line_of(self._signal, Probe(self.name, (), edge="rise"), self._capture)

    @cached_property
    def _high(self) -> Bodies:
        return stretches(line_of(self._signal, Probe(self.name, ()), self._capture), self._capture)

    @cached_property
    def _low(self) -> Bodies:
        return stretches(line_of(self._signal, Probe(self.name, (), active_low=True), self._capture), self._capture)

    @property
    def end(self) -> int:
        """Up to when it was looked at, in ps."""
        return self._capture.end

    @property
    def levels(self) -> tuple[Instants, Levels]:
        """(instants, the level from each on)."""
        return self._line.at, self._line.level

    def edges(self, kind: str) -> Instants:
        """Its edges of a kind."""
        if kind not in self._edges:
            self._edges[kind] = edges_of(self._line, kind)
        return self._edges[kind]

    def bodies(self, meaning: Meaning) -> Bodies:
        """When it is active."""
        return self._low if meaning.active_low else self._high

    def starts(self, meaning: Meaning) -> Instants:
        """When what it shows begins."""
        return self.edges(meaning.edge) if meaning.edge else self.bodies(meaning).begun

    def ends(self, meaning: Meaning) -> Instants:
        """When what it shows ends."""
        return self.edges(meaning.edge) if meaning.edge else self.bodies(meaning).ended


def _until(capture: Capture, end: int) -> Capture:
    return Capture(capture.file, {}, capture.begin, end, capture.resolution, (), capture.rounding)


class Expected:
    """What a model allows of each thing: events and their distances, widths of bodies, who follows whom."""

    def __init__(self, paper: Bounds, shown: frozenset[Thing] = frozenset()) -> None:
        self.paper = paper
        self.shown = shown  # in ways that are not proposed
        self.system = paper.system
        self._distances: dict[Event, tuple[int, int | None]] = {}
        self._linked: dict[Thing, tuple[Thing, ...]] = {}
        self._delays: dict[tuple[Thing, Thing], _Delay | None] = {}
        self._held_off: dict[tuple[Thing, Thing], bool] = {}

    @cached_property
    def meanings(self) -> tuple[Meaning, ...]:
        """Everything that a line may show; not what may come at any time, since its clock stands still in sleep."""
        system = self.system
        known = (each for each in system.sources if each.period is None or each.steady is not None)
        edges = [Meaning(each.thing, edge) for each in known for edge in ("rise", "fall", "both")]
        units = (each for each in system.units if each.name not in system.ticking)
        bodies = (*system.isrs, *system.steps, *units)  # of equal evidence the first counts
        found = (*edges, *(Meaning(each.thing, None, low) for each in bodies for low in (False, True)))
        return tuple(each for each in found if each.thing not in self.shown)

    def linked(self, thing: Thing) -> tuple[Thing, ...]:
        """The things that cause it, or that it causes."""
        if thing not in self._linked:
            others = {each.thing for each in self.meanings} - {thing}
            near = (each for each in others if self.delay(thing, each) or self.delay(each, thing))
            self._linked[thing] = tuple(near)
        return self._linked[thing]

    def delay(self, cause: Thing, effect: Thing) -> _Delay | None:
        """The time from one to the other; None where it causes nothing."""
        if (cause, effect) not in self._delays:
            self._delays[cause, effect] = _delay(cause, effect, self)
        return self._delays[cause, effect]

    def holds_off(self, first: Thing, second: Thing) -> bool:
        """Whether nothing of the second can begin while the first runs."""
        if (first, second) not in self._held_off:
            self._held_off[first, second] = _holds_off(first, second, self.system)
        return self._held_off[first, second]

    def begin_of(self, thing: Thing) -> Event:
        """The event that its lines begin with."""
        return Event(thing) if thing.kind == "source" else thing.start

    def distances(self, event: Event) -> tuple[int, int | None]:
        """The least and the most time between two of an event, in ps."""
        if event not in self._distances:
            assert self.paper.reach is not None
            least, most = self.paper.reach.distances(event)
            self._distances[event] = least, most.most
        return self._distances[event]

    def rates(self, event: Event) -> tuple[float, float]:
        """The least and most events in a ps, in the long run; 0: none is sure."""
        assert self.paper.reach is not None
        curve = self.paper.reach.events.curve(event)
        try:
            most = float(curve.rate())
        except NoBound:  # nothing holds them apart
            most = 1.0
        return float(self.paper.reach.least_rate(event)), most

    def source(self, thing: Thing) -> Source | None:
        """The source, where the thing is one."""
        return self.system.source(thing.name) if thing.kind == "source" else None

    def written(self, thing: Thing) -> tuple[int, int]:
        """How long after its first and before its last instruction it writes its pin, in ps."""
        return self.system.written.get(thing, (0, 0))

    def widths(self, thing: Thing) -> tuple[int, int, int | None] | None:
        """(least, most when nothing interrupts, most at all) that its line is active in ps; None where it has none."""
        found, out = self._bodies(thing), sum(self.written(thing))
        if found is None:
            return None
        least, alone, most = found
        return max(0, least - out), max(0, alone - out), None if most is None else max(0, most - out)

    def _bodies(self, thing: Thing) -> tuple[int, int, int | None] | None:
        """The same of its bodies."""
        paper = self.paper
        if thing.kind == "isr":
            cost = paper.narrowed.isr(thing.name).cost
            return cost.least, cost.most, paper.isrs[thing.name].span.most
        if thing.kind == "unit":
            unit = self.system.unit(thing.name)
            return unit.takes.least, unit.takes.most, None if unit.stands_still else unit.takes.most
        if thing.kind == "step":
            duration = paper.steps[thing.name].duration
            alone = sum(act.takes.most for act in paper.narrowed.step(thing.name).acts)
            return duration.least, max(alone, duration.least), duration.most
        return None


def of_one(line: Line, meaning: Meaning, expected: Expected) -> Evidence:
    """What a line says by itself for what it may show."""
    found = Evidence()
    event = expected.begin_of(meaning.thing)
    starts = line.starts(meaning)
    if len(starts) < 3:
        found.weigh(-_AT_MOST if len(line.edges("both")) > 5 else -1.0, "hardly anything of it is seen")
        return found
    _weigh_distances(found, line, starts, event, expected)
    source = expected.source(meaning.thing)
    if source is not None and source.steady is not None:
        _weigh_period(found, line, starts, source)
    else:
        _weigh_rate(found, line, starts, event, expected)
        if source is not None and source.mean:
            found.weigh(-min(_STRONG, log(max(1.0, float(np.diff(starts).mean())) / source.mean) ** 2 / 2))
    if meaning.edge in ("rise", "fall"):
        found.weigh(_shape_of_a_pulse(line, meaning.edge))
        if source is not None and source.steady is not None and not source.jitter:
            found.weigh(_as_a_timer(line, meaning.edge))
    widths = expected.widths(meaning.thing)
    if widths is not None:
        _weigh_widths(found, line, meaning, widths)
    return found


def _outside(wrong: int, many: int) -> float:
    """Nats against, where so many lie outside of what is allowed: a figure of the model may be a little off."""
    share = min(wrong / many, 0.999)
    if share <= _OFF:
        return -1.0
    return -min(_AT_MOST, 1 + many * (share * log(share / _OFF) + (1 - share) * log((1 - share) / (1 - _OFF))))


def _weigh_distances(found: Evidence, line: Line, starts: Instants, event: Event, expected: Expected) -> None:
    apart = np.diff(starts)
    least, most = expected.distances(event)
    mean = max(1.0, float(apart.mean()))
    slack = line.slack + _CLOCK * apart
    many = len(apart)
    closer = int((apart + slack < least).sum())
    if closer:
        told = f"{closer} of {many} come closer than {time_in_words(least)}, to {time_in_words(int(apart.min()))}"
        found.weigh(_outside(closer, many), told)
    elif least > line.slack:
        found.weigh(min(_STRONG, many * least / mean) / 2, "")
    if most is None:
        return
    further = int((apart - slack > most).sum())
    if further:
        told = (
            f"{further} of {many} are further apart than {time_in_words(most)}, up to {time_in_words(int(apart.max()))}"
        )
        found.weigh(_outside(further, many), told)
    else:
        chance = -many * log(max(1e-9, 1 - exp(-most / mean)))
        found.weigh(min(_STRONG, chance) / 2, "")


def _weigh_period(found: Evidence, line: Line, starts: Instants, source: Source) -> None:
    assert source.period is not None
    mean = Fraction(int(starts[-1] - starts[0]), len(starts) - 1)
    off = abs(float(mean / source.period) - 1)
    known = _CLOCK + (source.jitter + line.slack) / float(source.period) / (len(starts) - 1)
    words = f"every {time_in_words(int(mean))}, {time_in_words(int(source.period))} in the model"
    if source.period_least is not None and source.period_most is not None:
        known += float((source.period_most - source.period_least) / source.period) / 2
    if off <= 1.5 * known:
        found.weigh(min(_STRONG, _ANY - log(2 * known + 1e-4)), words)
    else:
        found.weigh(-min(_AT_MOST, 2 + off / known), words)


def _weigh_rate(found: Evidence, line: Line, starts: Instants, event: Event, expected: Expected) -> None:
    rate = (len(starts) - 1) / max(1.0, float(starts[-1] - starts[0]))
    low, high = expected.rates(event)
    room = 0.03 + 2.5 / len(starts) ** 0.5
    every = time_in_words(round(1 / rate))
    if high > 0 and rate > high * (1 + room):
        words = f"on average every {every}, at most every {time_in_words(round(1 / high))} in the model"
        found.weigh(-min(_AT_MOST, _FAULT * log(rate / high) / room), words)
        return
    if not high:
        return  # on paper it never comes: nothing is known of how often it would
    least = max(low, high / 60)
    wide = log(max(1.0, high / least)) + 2 * room
    if rate >= least * (1 - room):
        found.weigh(_ANY / 2 - log(1 + wide), f"on average every {every}" if wide < 1 else "")
    else:
        words = f"on average every {every}, at least every {time_in_words(round(1 / least))} in the model"
        found.weigh(
            -min(_AT_MOST, log(least / rate) / room) if low else -log(1 + log(least / rate)), words if low else ""
        )


def _shape_of_a_pulse(line: Line, edge: str) -> float:
    """An event is shown by the edge with which a line leaves its rest."""
    at, level = line.levels
    high = float(np.diff(at)[level[:-1] == 1].sum())
    share = high / max(1.0, float(at[-1] - at[0]))
    return 1.5 if (share < 0.5) == (edge == "rise") else -1.5


def _as_a_timer(line: Line, edge: str) -> float:
    """A timer makes its pulses all of one width; what a routine writes at its begin and end varies."""
    bodies = line.bodies(Meaning(Thing(""), None, edge == "fall"))
    length = (bodies.end - bodies.start)[bodies.whole]
    if not len(length):
        return 0.0
    longest = int(length.max())
    return -_FAULT - 2 if longest - int(length.min()) > 4 * line.slack + _OFF * longest else 0.0


def _weigh_widths(found: Evidence, line: Line, meaning: Meaning, widths: tuple[int, int, int | None]) -> None:
    bodies = line.bodies(meaning)
    length = (bodies.end - bodies.start)[bodies.whole]
    if not len(length):
        found.weigh(-1.0)
        return
    least, alone, most = widths
    slack = line.slack + _CLOCK * length
    shorter, longer = int((length + slack < least).sum()), 0 if most is None else int((length - slack > most).sum())
    says = f"{time_in_words(int(length.min()))} to {time_in_words(int(length.max()))} long"
    if shorter:
        found.weigh(_outside(shorter, len(length)), f"{says}, at least {time_in_words(least)} in the model", "width")
    if longer and most is not None:
        found.weigh(_outside(longer, len(length)), f"{says}, at most {time_in_words(most)} in the model", "width")
    if max(shorter, longer) > _OFF * len(length):
        return
    middle = float(np.median(length))
    wide = log((alone + line.slack) / max(1.0, least - line.slack, 0.02 * alone)) + 0.1
    if middle <= alone + line.slack:
        found.weigh(_ANY - log(1 + 2 * wide), f"{says}, {time_in_words(least)} to {time_in_words(alone)} in the model")
    else:  # most of them are interrupted
        found.weigh(_ANY / 3 - log(middle / max(1, alone)), f"{says}, {time_in_words(least)} and more in the model")
    # runs that nothing interrupts show the range from end to end
    found.weigh(_fills(length, least, alone))


def _fills(length: Instants, least: int, alone: int) -> float:
    """Whether the shortest lies near the least: of runs spread over a range one does."""
    return -min(4.0, 2.5 * max(0.0, float(length.min() - least)) / max(1.0, alone - least + 0.1 * least)) + 1.0


def of_two(one: Line, first: Meaning, other: Line, second: Meaning, expected: Expected) -> Evidence:
    """What two lines say together for what they may show."""
    found = Evidence()
    _weigh_cause(found, one, first, other, second, expected)
    _weigh_cause(found, other, second, one, first, expected)
    if first.edge is None and second.edge is None:
        _weigh_nesting(found, one, first, other, second, expected)
        _weigh_nesting(found, other, second, one, first, expected)
    return found


def _weigh_cause(found: Evidence, one: Line, first: Meaning, other: Line, second: Meaning, expected: Expected) -> None:
    """Whether the second follows the first as the model has it: always in time, and often with nothing in the way."""
    delay = expected.delay(first.thing, second.thing)
    if delay is None:
        return
    causes = one.ends(first) + expected.written(first.thing)[1] if first.edge is None else one.starts(first)
    effects = other.starts(second) - (expected.written(second.thing)[0] if second.edge is None else 0)
    end = min(one.end, other.end) - (delay.most or 0)
    causes, effects = causes[causes < end], effects[effects <= end]
    if len(causes) < 3 or len(effects) < 3:
        return
    after = np.append(effects, NEVER)[np.searchsorted(effects, causes + delay.least - one.slack)] - causes
    every = max(1.0, float(effects[-1] - effects[0]) / len(effects))
    wide = float(delay.prompt - delay.least + 2 * one.slack)
    many = len(after)
    prompt = int((after <= delay.prompt + one.slack).sum())
    words = f"{second.thing} follows {prompt} of {many} times within {time_in_words(max(delay.prompt, one.slack))}"
    # a busy core lets it wait, so that it seldom comes at once speaks against nothing
    found.weigh(_likely(prompt, many, 1 - exp(-wide / every), prompt / many), words, "order")
    if delay.most is None:
        return
    wide = float(delay.most - delay.least + 2 * one.slack)
    good = int((after <= delay.most + one.slack).sum())
    words = f"{second.thing} follows {good} of {many} times within {time_in_words(delay.most)}"
    found.weigh(_likely(good, many, 1 - exp(-wide / every), 0.85), words if good > prompt else "", "order")


class _Delay(Struct, frozen=True):
    """From a cause to its effect in ps: least, when nothing is in the way, and most, if it has a bound."""

    least: int
    prompt: int
    most: int | None


def _delay(cause: Thing, effect: Thing, expected: Expected) -> _Delay | None:
    system, paper = expected.system, expected.paper
    event = Event(cause) if cause.kind == "source" else cause.end
    if effect.kind == "isr" and event in system.isr(effect.name).on:
        latency = paper.isrs[effect.name].latency
        return _Delay(0, system.core.entry.most, latency.most)  # an entry that is modelled too long is no other line
    if effect.kind == "unit" and event in system.unit(effect.name).on:
        return _Delay(0, 0, 0)
    if effect.kind == "step":
        flag = next((each for each in system.step(effect.name).polls if event in system.graph.sets_of(each)), None)
        if flag is not None:
            loop = paper.loop_pass
            prompt = system.core.exit.most + 2 * (loop.least if loop is not None else 0)
            assert paper.reach is not None
            return _Delay(0, prompt, paper.reach.flags[flag].reaction.most)
    return None


def _likely(good: int, many: int, chance: float, share: float) -> float:
    """Nats for "so many follow" against chance."""
    if not many:
        return 0.0
    chance = min(max(chance, 1e-3), 0.98)
    share = max(share, chance)
    score = good * log(share / chance) + (many - good) * log(max(1e-3, 1 - share) / (1 - chance))
    return max(-_CHAIN, min(_CHAIN, score))


def _weigh_nesting(
    found: Evidence, one: Line, first: Meaning, other: Line, second: Meaning, expected: Expected
) -> None:
    """Whether the second never begins while the first runs, where the first holds it off."""
    if not expected.holds_off(first.thing, second.thing):
        return
    bodies, begun = one.bodies(first), other.starts(second)
    end = min(one.end, other.end)
    begun = begun[begun <= end]
    if not len(bodies.start) or not len(begun):
        return
    slack = one.slack
    place = np.searchsorted(bodies.start, begun - slack, side="left") - 1
    inside = (place >= 0) & (begun < bodies.end[np.maximum(place, 0)] - slack)
    wrong = int(inside.sum())
    duty = float((bodies.end - bodies.start).sum()) / max(1.0, float(end - bodies.start[0]))
    due = duty * len(begun)
    if wrong:
        words = f"{second.thing} begins {wrong} times while {first.thing} runs"
        found.weigh(_outside(wrong, len(begun)), words, "order")
    else:
        found.weigh(min(_STRONG, due) / 2)


def _holds_off(first: Thing, second: Thing, system: System) -> bool:
    if first.kind == "isr" and second.kind == "isr":
        one, other = system.isr(first.name), system.isr(second.name)
        return first != second and (one.urgency <= other.urgency or not system.core.nesting)
    return first.kind in ("isr", "step") and second.kind == "step" and first != second
