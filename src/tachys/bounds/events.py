"""The arrival curve of every event: of sources as written, of all others from what causes them.

What a routine, unit or step raises comes as its causes do, moved by a way whose time varies; never closer than the
least time that its producer needs. Where the way has no bound, as many more can come as wait at most when a window
begins. The time that ways vary (``Delays``) is found by iteration in ``settling``.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from math import ceil

from tachys.bounds.arrivals import Curve, Endless, More, Staircase, apart, delayed, source_curve, tightest, together
from tachys.bounds.rings import Rings, find_rings
from tachys.model.system import Isr, Step, System, Unit


@dataclass(slots=True)
class Delays:
    """How much the time from cause to an event varies, in ps, by event; None: without bound."""

    spread: dict[str, int | None] = field(default_factory=dict)
    late: dict[str, int | None] = field(default_factory=dict)


class Events:
    """The curves of all events of a system, for given delays."""

    def __init__(self, system: System, delays: Delays, rings: Rings | None = None) -> None:
        self.system = system
        self.delays = delays
        self.rings = rings or find_rings(system)
        self._curves: dict[str, Curve] = {f"source.{s.name}": source_curve(s) for s in system.sources}

    def curve(self, event: str) -> Curve:
        """The densest way in which an event can come."""
        if event not in self._curves:
            self._curves[event] = self._derive(event)
        return self._curves[event]

    def sets(self, flag: str) -> Curve | None:
        """The densest way in which a flag can be set; None if nobody sets it."""
        return together([self.curve(f"isr.{isr.name}.end") for isr in self.system.isrs if flag in isr.sets])

    def starts(self, unit: Unit) -> Curve:
        """Every start of a unit, the lost ones and that of a primed unit included."""
        body = f"unit.{unit.name}"
        if body in self.rings.rounds:
            return apart(self.rings.rounds[body])
        given = together([self.curve(event) for event in unit.on])
        return More(given) if unit.primed or given is None else given

    def _derive(self, event: str) -> Curve:
        kind, name, moment = event.split(".")
        body = f"{kind}.{name}"
        if body in self.rings.rounds:
            return apart(self.rings.rounds[body])
        if kind == "unit":
            return self._unit(self.system.unit(name), moment)
        if kind == "isr":
            return self._isr(self.system.isr(name), moment)
        return self._step(self.system.step(name), moment)

    def _unit(self, unit: Unit, moment: str) -> Curve:
        takes = unit.takes
        if f"unit.{unit.name}" in self.rings.tangled:
            return apart(takes.least) if moment == "end" or unit.busy != "restart" else Endless(
                f"unit.{unit.name} restarts itself round a chain"
            )  # fmt: skip
        starts = self.starts(unit)
        if moment == "end":
            return delayed(starts, takes.most * (unit.depth + 1) - takes.least, takes.least)
        return starts if unit.busy == "restart" else delayed(starts, takes.most * unit.depth, takes.least)

    def _isr(self, isr: Isr, moment: str) -> Curve:
        distance = least_distance(self.system, isr)
        body = f"isr.{isr.name}"
        if body in self.rings.tangled:
            return apart(distance, f"isr.{isr.name} feeds itself round a chain that takes no time")
        given = together([self.curve(event) for event in isr.on])
        assert given is not None
        return self._moved(f"{body}.{moment}", given, isr.pending * len(isr.on) + (moment == "end"), distance)

    def _moved(self, event: str, given: Curve, waiting: int, distance: int) -> Curve:
        """The events of ``given`` after their way; ``waiting`` of them at most are on it at once."""
        spread = self.delays.spread.get(event, 0)
        if spread is not None:
            return delayed(given, spread, distance)
        if isinstance(given, Endless):
            return apart(distance, given.reason)
        return tightest([More(given, waiting), apart(distance)])

    def _step(self, step: Step, moment: str) -> Curve:
        round_least = least_round(self.system, step)
        body = f"step.{step.name}"
        curves = [apart(round_least)]
        if step.every is not None:
            curves += self._timed(step)
        if step.polls is not None and body not in self.rings.tangled:
            sets = self.sets(step.polls)
            curves.append(More(sets) if sets is None or not isinstance(sets, Endless) else sets)
        starts = tightest(curves)
        return starts if moment == "start" else self._moved(f"{body}.end", starts, 1, round_least)

    def _timed(self, step: Step) -> list[Curve]:
        assert step.every is not None
        period = step.every.least
        if step.rearm == "now":
            return [Staircase(period, distance=int(period))]
        if step.rearm == "skip":
            return [More(Staircase(period))]
        late = self.delays.late.get(step.name, 0)
        return [] if late is None else [Staircase(period, late)]

    # --- the least events -----------------------------------------------------------------------------------------

    def gap(self, event: str, asked: frozenset[str] = frozenset()) -> int | None:
        """The longest time in ps from any instant to the next event, for sources and units; None: no such time.

        A unit that drops or queues ends within its time after whatever start comes, lost or not; one that restarts
        may never end.
        """
        if event in asked:
            return None
        kind, name = event.split(".")[:2]
        if kind == "source":
            source = self.system.source(name)
            if source.period_most is None:
                return None
            return max(ceil(source.period_most), source.offset or 0) + source.jitter
        if kind != "unit":
            return None
        unit = self.system.unit(name)
        gaps = [gap for cause in unit.on if (gap := self.gap(cause, asked | {event})) is not None]
        if not gaps or unit.busy == "restart":
            return None
        after_start = 0 if event.endswith(".start") and unit.busy == "drop" else unit.longest
        # a start event may be dropped because the unit is busy: then the next one that is not counts from its end
        again = unit.longest + min(gaps) if event.endswith(".start") and unit.busy == "drop" else 0
        return min(gaps) + max(after_start, again)


def least_distance(system: System, isr: Isr) -> int:
    """The least time in ps between two starts, or two ends, of one routine."""
    core = system.core
    return isr.cost.least + min(core.entry.least + core.exit.least, core.chain.least)


def own_least(step: Step, wake: int) -> int:
    """The least time in ps from a step's start to its end."""
    own = step.cost.least + step.pause.least + (wake if step.sleeps and not step.unless else 0)
    return own if step.at_most is None else min(own, step.at_most.least)


def least_round(system: System, step: Step | None = None) -> int:
    """The least time in ps of a pass; of one in which ``step`` runs, if it is given."""
    if system.loop is None:
        return 0
    wake = system.core.wake.least
    gated = [each for each in system.steps if each is step or (each.polls is None and each.every is None)]
    return system.loop.overhead.least + sum(own_least(each, wake) for each in gated)
