"""The average supply current on paper, from the least to the most that bounds allow.

The core is in one state at any instant: it runs (bodies, entries, exits, passes in which a step ran), spins (all else
that it is awake), wakes or sleeps; each state has a current, and what units at work and pins take comes on top. So the
average is the sum over the states of share and current, and the most that it can be is the most of that sum over all
shares that the bounds allow: a linear program of one equation, solved by filling up the dearest state first
(G. Dantzig, "Discrete-variable extremum problems", Operations Research 5, 1957). All of it in rationals.
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from fractions import Fraction
from typing import Any

from msgspec import Struct, field

from tachys.model.events import Event, Thing
from tachys.model.nodes import Amperes, Battery, Does, Pin, Unit, Write
from tachys.model.quantities import PS_PER_SECOND
from tachys.model.system import System
from tachys.worstcase.arrivals import NoBound, tightest
from tachys.worstcase.eventbounds import EventBounds
from tachys.worstcase.load import passes, step_rate
from tachys.worstcase.result import LoadBounds
from tachys.worstcase.ways import way

ZERO, ONE = Fraction(0), Fraction(1)
NOTHING: Amperes = (ZERO, ZERO)
Share = tuple[Fraction, Fraction]  # of the time, the least and the most


class Part(Struct, frozen=True):
    """Of a state or a cause: its share of the time and its charge, the least and the most, in coulombs.

    On paper the charge is that of one second: its part of the average current, in amperes.
    """

    share: Share
    charge: Amperes


class Supply(Struct, frozen=True):
    """What a model takes. ``average`` in amperes, None where the current of a state is ``missing``.

    ``states``: "run", "spin", "wake", "sleep", "sleep.DEPTH", "unit.NAME", "pin.NAME"; ``causes``: "isr.NAME",
    "step.NAME", "loop" (passes and idling), "sleep", "unit.NAME", "pin.NAME". ``mostly``: the state in which a cause
    takes most of its charge, in play. ``wakes``: how often it wakes a second, on paper the most, if there is a bound.
    ``at_most``: the shares of which the most on paper is made.
    """

    average: Amperes | None
    states: dict[str, Part]
    causes: dict[str, Part]
    missing: tuple[str, ...] = ()
    wakes: Fraction | None = None
    mostly: dict[str, str] = field(default_factory=dict)
    at_most: dict[str, Fraction] = field(default_factory=dict)


def currents_of(system: System) -> dict[str, Amperes]:
    """The current of each state that has one, units and pins with theirs."""
    return system.currents | system.on_top


def supply_bounds(reach: EventBounds, load: LoadBounds, over: int | None = None, ran: Share | None = None) -> Supply:
    """The least and the most in the long run, or in any window of ``over`` ps, of which ``load`` must know.

    ``ran``: the share that the core was seen to run. What never comes closer than a gap may stay away for ever: then
    the least is that of sleep.
    """
    currents, shares = currents_of(reach.system), _Shares(reach, load, over, ran)
    core = shares.of_core()
    works = {thing: shares.on_top(thing) for thing in reach.system.on_top}
    missing = tuple(state for state, (_, most) in core.items() if most and state not in currents)
    states = {state: _part(share, currents.get(state)) for state, share in (core | works).items() if share[1]}
    causes = {cause: _part(share, currents.get(state)) for cause, (state, share) in shares.by_cause(core).items()}
    causes |= {unit: _part(share, currents[unit]) for unit, share in works.items()}
    average, at_most = None, dict[str, Fraction]()
    if not missing:
        low, high = ({state: currents.get(state, NOTHING)[side] for state in core} for side in (0, 1))
        cheap, dear = _filled(core, {state: -each for state, each in low.items()}), _filled(core, high)
        least = sum((share * low[state] for state, share in cheap.items()), ZERO)
        most = sum((share * high[state] for state, share in dear.items()), ZERO)
        on_top = [states[unit].charge for unit in works if unit in states]
        average = least + sum((each[0] for each in on_top), ZERO), most + sum((each[1] for each in on_top), ZERO)
        at_most = dear | {unit: share[1] for unit, share in works.items()}
    return Supply(average, states, causes, missing, shares.wakes(), at_most=at_most)


def _part(share: Share, current: Amperes | None) -> Part:
    least, most = current or NOTHING
    return Part(share, (share[0] * least, share[1] * most))


def _filled(shares: Mapping[str, Share], worth: Mapping[str, Fraction]) -> dict[str, Fraction]:
    """The shares with which the sum of share and worth is the most; in all they are one.

    Each at its least; what is left goes to the dearest, as far as that can be.
    """
    left = max(ZERO, ONE - sum((least for least, _ in shares.values()), ZERO))
    found = {}
    for state in sorted(shares, key=lambda each: -worth[each]):
        least, most = shares[state]
        more = min(left, most - least)
        left -= more
        found[state] = least + more
    return found


class _Shares(Struct, frozen=True):
    """What shares of the time bounds allow, in the long run or in any window of ``over`` ps."""

    reach: EventBounds
    load: LoadBounds
    over: int | None
    ran: Share | None

    @property
    def system(self) -> System:
        """With what is known of buffers."""
        return self.reach.system

    @property
    def deep(self) -> list[str]:
        """The states in which steps halt."""
        halts = [step.halt for step in self.system.steps if step.halt is not None]
        return [state for halt in halts for state in halt.states]

    def of_core(self) -> dict[str, Share]:
        """The least and most share of each state; together they are one."""
        least, most = self.load.least, self.load.most
        if self.over is not None:
            least, most = ZERO, next(each.most for each in self.load.windows if each.length == self.over)
        if self.ran is not None:
            least, most = max(least, self.ran[0]), max(least, self.ran[0], min(most, self.ran[1]))
        if not self.deep:
            return {"run": (least, most), "spin": (ONE - most, ONE - least)}
        wake = self._waking()
        found = {"run": (least, most), "spin": (ZERO, min(self._spinning(), ONE - least)), "wake": (ZERO, wake)}
        return found | dict.fromkeys(self.deep, (ZERO, ONE - least))

    def by_cause(self, core: Mapping[str, Share]) -> dict[str, tuple[str, Share]]:
        """(state, share) of each cause that paper knows of; what spins is that of the steps that wait or pause."""
        found = {}
        for share in self.load.shares:
            who = "loop" if share.who == "loop.overhead" else share.who
            found[who] = "run", (share.least if self.over is None else ZERO, share.most)
        for step in self.system.steps:
            spins = min(self._spun(step.name), core["spin"][1])
            if spins and step.spins:
                found[f"{step.thing} spinning"] = "spin", (ZERO, spins)
        return found

    def _count(self, event: Event) -> Fraction:
        """The most of an event a ps."""
        curve = self.reach.events.raised(event)
        if self.over is None:
            return curve.rate()
        return Fraction(curve.most_within(self.over), self.over)

    def wakes(self) -> Fraction | None:
        """The most wake-ups a second: each ends with an event of some line, that came after the one before."""
        if not self.deep:
            return ZERO
        try:
            many = sum((self._count(event) for isr in self.system.isrs for event in isr.on if self._comes(event)), ZERO)
        except NoBound:
            return None
        return (many + (ZERO if self.over is None else Fraction(1, self.over))) * PS_PER_SECOND

    def _comes(self, event: Event) -> bool:
        """Whether it may come while the core halts: not the events of what always stands still then."""
        halts = [step.halt for step in self.system.steps if step.halt is not None]
        still = all(event.thing in halt.stops and not halt.plain_if for halt in halts)
        return not (still and (event.kind == "source" or event.moment == "end"))

    def _waking(self) -> Fraction:
        wakes = self.wakes()
        longest = max((step.halt.waking.most for step in self.system.steps if step.halt is not None), default=0)
        return ONE if wakes is None else min(ONE, wakes / PS_PER_SECOND * longest)

    def _spinning(self) -> Fraction:
        """Where each pass halts, what its steps pause and wait; else there may be passes in which nothing runs."""
        if passes(self.system, self.reach) is None:
            return ONE
        return min(ONE, sum((self._spun(step.name) for step in self.system.steps), ZERO))

    def _spun(self, name: str) -> Fraction:
        """The most share that a step spins."""
        step, bound = self.system.step(name), self.reach.steps[name]
        ways = [step.spins] if all(wait.at_most is not None for wait in step.waits) else []
        if step.halt is None and bound.duration.most is not None:
            ways.append(bound.duration.most)
        if not step.spins and not step.waits:
            return ZERO
        longest = min(ways, default=None)
        if longest is None:
            return ONE
        with suppress(NoBound):
            if self.over is None:
                rate = step_rate(self.system, step, self.reach)
                return ONE if rate is None else min(ONE, rate * longest)
            rounds, starts = passes(self.system, self.reach), self.reach.events.curve(step.start)
            starts = starts if rounds is None else tightest([starts, rounds])
            if bound.duration.most is not None:
                return min(ONE, Fraction(starts.most_within(self.over + bound.duration.most) * longest, self.over))
        return ONE

    def on_top(self, thing: Thing) -> Share:
        """How much of the time a unit works, or a pin is high."""
        if thing.kind == "unit":
            return self._of_unit(self.system.unit(thing.name))
        pin = self.system.pin(thing.name)
        if len(pin.writes) == 1 and pin.writes[0].does == "toggle":
            return self._of_toggle(pin.writes[0].event)
        if pin.pulses:
            shares = [self._of_pulse(write) for write in pin.writes]
            away = max(least for least, _ in shares), min(ONE, sum((most for _, most in shares), ZERO))
            return (ONE - away[1], ONE - away[0]) if pin.first == 1 else away
        high = self._lasting(pin, "high", pin.rise, pin.fall)
        if self.over is not None:  # of a window at the beginning nothing says when it moves for the first time
            return ZERO, ONE if pin.first == 1 else high[1]
        low = self._lasting(pin, "low", pin.fall, pin.rise)
        return max(high[0], ONE - low[1]), min(high[1], ONE - low[0])

    def _of_unit(self, unit: Unit) -> Share:
        least = ZERO if self.over is not None else self.reach.least_rate(unit.end) * unit.takes.least
        return least, self._taken(unit.start, unit.takes.most) if unit.surely_ends else ONE

    def _of_toggle(self, event: Event) -> Share:
        """Of two neighbouring distances one is high."""
        least, most = self.reach.distances(event)
        if self.over is not None or not most.most:
            return ZERO, ONE
        return Fraction(least, least + most.most), Fraction(most.most, least + most.most)

    def _of_pulse(self, write: Write) -> Share:
        assert write.length is not None
        apart = min(write.length.least, self.reach.distances(write.event)[0])  # one that goes on is no second one
        least = ZERO if self.over is not None else self.reach.least_rate(write.event) * apart
        return least, self._taken(write.event, write.length.most)

    def _lasting(self, pin: Pin, does: Does, begins: Event | None, ends: Event | None) -> Share:
        """How much of the time a pin is at a level: from what writes that to what undoes it.

        Where both hang on one body, and on nothing else, each lasts from the one event to the other.
        """
        least, most = ZERO, ZERO
        if begins is not None and ends is not None and self.over is None:
            found = way(self.reach, begins, ends, age=False)
            least = self.reach.least_rate(begins) * found[0].least if found is not None else ZERO
        undone = [write.event for write in pin.writes if write.does not in (does, "toggle")]
        if pin.first != int(does != "high") and all(self.reach.gap(event) is None for event in undone):
            return least, ONE  # as it was in the beginning, so it may stay
        for write in pin.writes:
            if write.does != does and write.does != "toggle":
                continue
            ways = [each for event in undone if (each := way(self.reach, write.event, event, age=False)) is not None]
            lasts = min((figure.most for figure, lost in ways if figure.most is not None and not lost), default=None)
            most += ONE if lasts is None else self._taken(write.event, lasts)
        return least, max(least, min(ONE, most))

    def _taken(self, event: Event, lasts: int) -> Fraction:
        """The most share of the time in what begins with an event and lasts so long at most."""
        with suppress(NoBound):
            curve = self.reach.events.curve(event)
            if self.over is None:
                return min(ONE, curve.rate() * lasts)
            return min(ONE, Fraction(curve.most_within(self.over + lasts) * lasts, self.over))
        return ONE


# --- how long it lasts, and all of it as plain data ------------------------------------------------------------------


def life(battery: Battery, average: Amperes | None) -> tuple[Fraction, Fraction | None] | None:
    """The shortest and the longest life in seconds; None: unknown, a longest of None: without end."""
    if average is None:
        return None
    shortest, longest = (battery.lasts(each) for each in (average[1], average[0]))
    return None if shortest is None else (shortest, longest)


def supply_data(supply: Supply, battery: Battery | None) -> dict[str, Any]:
    """Amperes, coulombs (on paper those of one second) and seconds."""
    lasts = None if battery is None else life(battery, supply.average)
    return {
        "average": None if supply.average is None else _ends(supply.average),
        "states": {name: _part_data(part) for name, part in supply.states.items()},
        "causes": {name: _part_data(part) for name, part in supply.causes.items()},
        "missing": list(supply.missing),
        "wakes": None if supply.wakes is None else float(supply.wakes),
        "life": None if lasts is None else _ends(lasts),
    }


def _ends(pair: tuple[Fraction, Fraction | None]) -> dict[str, float | None]:
    return {"least": float(pair[0]), "most": None if pair[1] is None else float(pair[1])}


def _part_data(part: Part) -> dict[str, Any]:
    return {"share": _ends(part.share), "charge": _ends(part.charge)}
