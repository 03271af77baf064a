"""Everything that a capture shows of a system, measured: runs, delays, own times, losses. Verdicts come later."""

from __future__ import annotations

from functools import partial

import numpy as np
import numpy.typing as npt
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.table import Capture, Instants
from tachys.checking.board.accepting import EMPTY, AllBodies, acceptance_leads
from tachys.checking.board.filling import Filled, fill
from tachys.checking.board.grid import ClockError, Grid, clock_error, hidden_grid, jitter_of, regular
from tachys.checking.board.matching import Matched, Merging, match, those
from tachys.checking.board.metering import Metered, Seen, metered
from tachys.checking.board.nesting import ExecutionTimes, WhoRuns, nest, who_runs
from tachys.checking.board.pairing import Paired, may_be_silent, pair_answers, pair_unit
from tachys.checking.board.pins import PinSeen, look_at_pins
from tachys.checking.board.unseen import stolen_in, unseen_routines, unseen_work
from tachys.checking.probes.binding import bind
from tachys.checking.probes.buscodes import BACKGROUND, urgency_of
from tachys.checking.probes.lines import Bodies
from tachys.checking.probes.readings import Readings
from tachys.checking.probes.sharing import deal_shared
from tachys.checking.probes.written import take_off_what_ran_on_top
from tachys.model.events import Event, Thing
from tachys.model.nodes import Core, Isr, Source, Step, Unit
from tachys.model.system import System
from tachys.needs.seen import Delays
from tachys.stretches import NEVER, place_of
from tachys.worstcase.bounds import Bounds

_MOST_SKIPPED = 10  # releases without a run, for each with one: beyond that a routine is taken not to follow them


class Runs(Struct):
    """What was measured of one routine. ``cost`` holds [least, most] of every whole run; None: it cannot be told.

    ``single`` says which whole bodies surely are one run each; no run was accepted before ``accepted``, which is known
    where one run may serve several events. ``unserved``: releases that no line shows and that surely had no run;
    ``crowded``: it runs on without a pause, so that nothing is known of such releases. ``before``: so many ps a run
    seems to begin before its event, since its pin is not written when the model says.
    """

    isr: Isr
    matched: Matched | None = None
    latency: Delays | None = None
    response: Delays | None = None
    cost: ExecutionTimes | None = None
    grid: Grid | None = None
    single: npt.NDArray[np.bool_] | None = None
    accepted: Instants | None = None
    unserved: Instants | None = None
    crowded: bool = False
    before: int = 0

    def lost(self, event: Event | None = None) -> tuple[Instants, int] | None:
        """(when events were lost, how many), of one that it serves or of all; None: it cannot be told."""
        if self.matched is None:
            return None if self.unserved is None else (self.unserved, len(self.unserved))
        if event is None:
            return self.matched.lost, self.matched.lost_count
        lost = self.matched.lost[self.matched.lost_kind == self.isr.on.index(event)]
        return lost, len(lost)

    def spans(self, bodies: Bodies | None) -> tuple[Instants, Instants] | None:
        """(when it began, how long it lasted) of each whole body that is surely one run; None: no line shows them."""
        if bodies is None or self.single is None:
            return None
        begun = bodies.start[bodies.whole][self.single]
        return begun, bodies.end[bodies.whole][self.single] - begun


class Steps(Struct):
    """What was measured of one step: start to start, start to end, own time, lateness against its own grid."""

    step: Step
    interval: Instants | None = None
    duration: Instants | None = None
    own: ExecutionTimes | None = None
    late: Delays | None = None


class Works(Struct):
    """What was measured of one unit: which start ended when, and which were lost."""

    unit: Unit
    paired: Paired | None = None


class Flags(Struct):
    """What was measured of one flag: set to ``taken``, when that was, and the sets that found it set already."""

    reaction: Delays
    taken: Instants
    overwritten: Instants


class Measurement(Struct):
    """A capture as its model reads it. ``things`` are those with bodies, by the numbers that :attr:`tops` uses.

    ``busy``: when something ran, of all of it and of interrupts only. ``on_top``: what is kept of ``tops``.
    ``forward``: the routines that were seen within one that they should wait for.
    """

    system: System
    paper: Bounds
    capture: Capture
    shown: Readings
    things: list[Thing] = field(default_factory=list)
    on_top: WhoRuns | None = None
    forward: list[Thing] = field(default_factory=list)
    isrs: dict[str, Runs] = field(default_factory=dict)
    steps: dict[str, Steps] = field(default_factory=dict)
    units: dict[str, Works] = field(default_factory=dict)
    flags: dict[str, Flags] = field(default_factory=dict)
    buffers: dict[str, Filled] = field(default_factory=dict)
    clock: ClockError | None = None
    busy: dict[bool, tuple[Instants, Instants]] = field(default_factory=dict)
    sets: dict[str, Instants | None] = field(default_factory=dict)
    metered: Metered | None = None
    pins: dict[str, PinSeen] = field(default_factory=dict)

    @property
    def resolution(self) -> int:
        """How far off the distance of two instants may be, in ps: by sampling and by printing."""
        return self.capture.known_to

    @property
    def tops(self) -> WhoRuns:
        """Who was on top when; worked out as it is first asked for."""
        if self.on_top is None:
            self.on_top = who_runs(*self._nested())
        return self.on_top

    def let_go(self) -> None:
        """Keep nothing that takes much memory and can be made again."""
        if self.on_top is not None and self.on_top.are_many:
            self.on_top = None

    def nest(self) -> list[ExecutionTimes]:
        """The own times of the bodies of each of ``things``."""
        found = nest(*self._nested())
        self.on_top = found.tops
        self.forward = [thing for thing, count in zip(self.things, found.forward, strict=True) if count]
        return found.owns

    def _nested(self) -> tuple[Core, list[Bodies], list[int], int]:
        bodies = [self.shown.bodies[thing] for thing in self.things]
        urgency = [urgency_of(self.system, thing) for thing in self.things]
        return self.system.core, bodies, urgency, self.resolution

    def stretched(self, value: int) -> int:
        """How much the analyser's own clock may make of a time, in ps."""
        return int(value * self.system.capture_tolerance) + 1

    def slack(self, value: int) -> int:
        """How far off a measured time may be, in ps: by its two ends and by the analyser's clock."""
        return self.resolution + self.stretched(value)

    def wanted_before(self, buffer: str, instant: int) -> tuple[Thing, int]:
        """(who drains a buffer, since when it was wanted at an instant)."""
        filled = self.buffers.get(buffer)
        return self.system.graph.drain[buffer].thing, instant if filled is None else filled.wanted_before(instant)

    def lost_items(self, buffer: str) -> Instants | None:
        """When items of a buffer were lost: as a line tells, or as it surely follows; None where nothing tells."""
        told, filled = self.events(f"buffer.{buffer}.lost"), self.buffers.get(buffer)
        return told if told is not None or filled is None else filled.lost

    def known_since(self, thing: Thing) -> int | None:
        """Since when all lines that show a thing are known; None where one of them is not, later on."""
        since, signals = self.capture.begin, self.capture.signals
        for line in (signals[name] for name in self.shown.through.get(thing, ()) if name in signals):
            if not line.known[1:].all():
                return None
            if not line.known[:1].all():  # before its first level no line of a simulator is known
                since = max(since, int(line.at[1]) if len(line.at) > 1 else self.capture.end)
        return since

    def shows_each(self, isr: Isr) -> bool:
        """Whether every run of a routine shows by itself."""
        single = self.isrs[isr.name].single
        alone = single is None or bool(single.all())
        return alone and isr.cost.least > self.resolution and self.known_since(isr.thing) is not None

    @property
    def switched_on(self) -> int | None:
        """When the start-up began, where a line shows that; None: there is none, or it had begun before the capture."""
        startup = self.system.startup
        bodies = None if startup is None else self.shown.bodies.get(startup.thing)
        if bodies is None or bodies.cut_begin or not len(bodies.start):
            return None
        return int(bodies.start[0])

    def sets_of(self, flag: str) -> Instants | None:
        """When a flag was set, by whatever sets it, worked out once; None where one of these has no line."""
        if flag not in self.sets:
            self.sets[flag] = self.shown.all_of(self.system.graph.sets_of(flag))
        return self.sets[flag]

    def events(self, event: str) -> Instants | None:
        """When an event was seen; None where no line shows it."""
        return self.shown.instants.get(Event(event))


def measure(system: System, paper: Bounds, capture: Capture, stranger: str | None = None) -> Measurement:
    """Read everything that the model speaks of out of a capture.

    ``stranger`` is a line that the model does not name, taken for the body of the most urgent routine of all.

    Raises:
        InputError: a probe names a signal that the capture lacks.
    """
    shown = bind(system, capture)
    deal_shared(system, shown, capture.known_to)
    take_off_what_ran_on_top(system, shown, capture.known_to)
    if stranger is not None:
        shown.bodies[Thing(f"line.{stranger}")] = shown.foreign[stranger]
    board = Measurement(system, paper, capture, shown)
    _nest(board)
    for unit in system.units:
        _without_restarts(shown, unit, board.resolution)
    routines = AllBodies.of(system, shown)
    for isr in system.isrs:
        board.isrs[isr.name] = _runs(board, isr, routines)
    for unit in system.units:
        board.units[unit.name] = Works(unit, _works(board, unit))
    for step in system.steps:
        board.steps[step.name] = _steps(board, step)
    for flag in paper.flags:
        found = _flag(board, flag)
        if found is not None:
            board.flags[flag] = found
    for buffer in sorted(system.buffers, key=lambda each: each.name in system.graph.mover):  # what moves on comes first
        filled = fill(system, shown, buffer, board.resolution, board.buffers, partial(_several_runs, board))
        if filled is not None:
            board.buffers[buffer.name] = filled
    board.clock = _clock(board)
    board.pins = look_at_pins(system, shown, board.resolution)
    if shown.current is not None:
        board.metered = metered(Seen(paper, capture, shown, board.things, board.tops))
    return board


def _nest(board: Measurement) -> None:
    board.things = [thing for thing in board.shown.bodies if thing.kind != "unit"]
    for thing, own in zip(board.things, board.nest(), strict=True):
        kind, name = thing.kind, thing.name
        whole = _sure(board, thing, own)
        if kind == "isr":
            board.isrs[name] = Runs(board.system.isr(name), cost=whole)
        elif kind == "step":
            step = board.system.step(name)
            if may_merge(board, thing):
                whole = without_least(whole, ~_lasts_for_two(board, whole, step))
            board.steps[name] = Steps(step, own=whole)


def without_least(own: ExecutionTimes, single: npt.NDArray[np.bool_]) -> ExecutionTimes:
    """Own times of which those of bodies that may be several runs say nothing from below."""
    return replace(own, least=np.where(single, own.least, 0))


def _sure(board: Measurement, thing: Thing, own: ExecutionTimes) -> ExecutionTimes:
    """The own times of whole bodies, with what sampling and routines that no line shows leave open."""
    bodies = board.shown.bodies[thing]
    part = bodies.whole
    ends = board.resolution * (1 + own.interrupted[part].astype(np.int64))
    spans = bodies.end[part] - bodies.start[part]
    unseen = _unseen_on_top(board, thing, spans) + stolen_in(board.paper, spans) + _outlasted(board, thing)
    least = np.maximum(0, own.least[part] - ends - unseen)
    return ExecutionTimes(least, own.most[part] + ends, own.interrupted[part])


def _outlasted(board: Measurement, thing: Thing) -> Instants | int:
    """How long before the end of each whole body a more urgent one begins that outlasts it: several look like one."""
    if board.resolution <= board.system.core.follows.least:
        return 0
    own, level = board.shown.bodies[thing], urgency_of(board.system, thing)
    starts, ends = own.start[own.whole], own.end[own.whole]
    found = np.zeros(len(starts), np.int64)
    for other in board.things:
        bodies = board.shown.bodies[other]
        if urgency_of(board.system, other) < level and len(bodies.start):
            last = np.maximum(place_of(bodies.start, ends) - 1, 0)
            begun, outlasts = bodies.start[last], bodies.end[last] > ends
            found = np.maximum(found, np.where(outlasts & (begun > starts) & (begun < ends), ends - begun, 0))
    return found


def _unseen_on_top(board: Measurement, thing: Thing, spans: Instants) -> Instants:
    """At most how much of each span routines without a line have taken, if the model is right about them."""
    level = urgency_of(board.system, thing)
    if level != BACKGROUND and not board.system.core.nesting:
        return np.zeros(len(spans), np.int64)
    above = [isr for isr in unseen_routines(board.paper, board.shown) if isr.urgency < level]
    return unseen_work(board.paper, above, spans)


def _runs(board: Measurement, isr: Isr, routines: AllBodies) -> Runs:
    """Which run served which event, and how soon."""
    found = board.isrs.get(isr.name) or Runs(isr)
    bodies = board.shown.bodies.get(isr.thing)
    starts = board.events(isr.start)
    several = _several(board, isr, bodies)
    if bodies is not None:
        _take_single(found, bodies, np.zeros(0, np.bool_) if several is None else several.may)
    if starts is None:
        return found
    events = [board.events(event) for event in isr.on]
    known = [each for each in events if each is not None]
    if isr.clears:  # what came while it ran was cleared
        known = [] if bodies is None else [_not_cleared(each, bodies, board.resolution) for each in known]
    if len(known) == len(events):
        lead, longest = acceptance_leads(board.system, routines, isr, starts, board.resolution)
        if isr.serves_all:
            found.accepted = starts - longest
        begin = board.capture.begin
        if several is not None and bodies is not None and bodies.cut_begin and len(bodies.end):
            begin = int(bodies.end[0])  # what came before may have been served in what was cut
            known = [each[each > begin] for each in known]

        def matched(lead: Instants) -> Matched:
            return match(known, starts, pending=isr.pending, lead=lead, takes_all=isr.serves_all,
                         hidden_until=begin + _longest_wait(board, isr), longest=longest, several=several)  # fmt: skip

        found.matched = matched(lead)
        broken = _contradictions(board, isr, found.matched, starts)
        if broken:  # the core may be faster than its entry is modelled to be
            core = board.system.core  # by which what ran on top was taken off, too
            for by in (0, core.entry.most, 4 * (core.entry.most + core.exit.most)):
                sooner = matched(np.full_like(lead, -board.resolution - by))
                left = _contradictions(board, isr, sooner, starts)
                if left < broken:
                    found.matched, broken = sooner, left
                if not broken:
                    break
            found.matched, found.before = _behind_their_events(board, isr, found.matched, starts)
        if bodies is not None and several is not None:
            began = bodies.start[bodies.whole]
            early = began <= begin + _longest_wait(board, isr)  # what came before the capture may be in it
            merged = early & _may_be_several(board, isr.thing, bodies)[bodies.whole]
            told = found.matched.merged[: len(merged)]
            merged[: len(told)] |= told
            _take_single(found, bodies, merged)
        at, run = found.matched.event, found.matched.run
        after = starts[run] - at
        after = np.maximum(after, np.minimum(0, after + board.resolution))  # it is not before its event
        found.latency = Delays(at, after, found.matched.lost, found.matched.waiting)
        found.response = _response(found.matched, bodies)
    elif len(events) == 1 and isr.on[0].kind == "source":
        source = board.system.source(isr.on[0][7:])
        found.crowded = bodies is not None and source.steady is not None and _crowded(board, source, bodies)
        if source.steady is not None and not found.crowded:
            found.grid = hidden_grid(starts, float(source.steady), source.jitter)
        if found.grid is not None and found.grid.told:
            _behind_hidden(board, found, found.grid, source.jitter, starts)
    return found


def _crowded(board: Measurement, source: Source, bodies: Bodies) -> bool:
    """Whether a routine mostly begins right behind its own end, or lasts for a period of its source.

    It loses releases then, and its starts tell nothing of when they are.
    """
    between, at_once = bodies.start[1:] - bodies.end[:-1], board.system.core.follows.most + board.resolution
    lasts = bodies.end[bodies.whole] - bodies.start[bodies.whole]
    assert source.period_least is not None
    a_period = lasts >= float(source.period_least)
    return 2 * int((between <= at_once).sum()) > len(between) or 2 * int(a_period.sum()) > len(lasts)


def _behind_hidden(board: Measurement, found: Runs, grid: Grid, jitter: int, starts: Instants) -> None:
    """How long after releases that no line shows a routine began, and which of them had no run.

    A start that is late beyond its bound, with releases before it that have none, took the mark of the first of these;
    the others found it set. Those before one that is in time are left out: their source may have been switched off.
    """
    after = np.maximum(0, grid.delay - jitter)  # the release may itself have come late
    lost: Instants | None = None
    isr, bodies = found.isr, board.shown.bodies.get(found.isr.thing)
    plain = isr.pending == 1 and not isr.serves_all and not isr.clears
    dealt = any(isr.thing in group for group, _ in board.shown.shared)
    if plain and bodies is not None and not dealt and board.shows_each(isr):
        longest, skipped = _longest_wait(board, isr), grid.skipped
        sure = np.where(after > longest + board.slack(longest), skipped, 0)
        if int(skipped.sum()) <= _MOST_SKIPPED * len(starts) and (sure.any() or not skipped.any()):
            after = after + np.floor(sure * grid.period).astype(np.int64)
            lost = _releases(starts - grid.delay, sure, grid.period)
    found.unserved = lost
    found.latency = Delays(starts - after, after, EMPTY if lost is None else lost, relative=True)


def _releases(own: Instants, many: Instants, period: float) -> Instants:
    """The last so many releases up to the ``own`` of each start, of a period in ps."""
    behind = np.repeat(np.cumsum(many), many)  # of all starts up to its own
    back = behind - 1 - np.arange(len(behind))
    found: Instants = np.repeat(own, many) - np.floor(back * period).astype(np.int64)
    return found


def _not_cleared(events: Instants, bodies: Bodies, off: int) -> Instants:
    """The events that may have a run: none that came during one; about its end those that alone can be the next."""
    run = place_of(bodies.end - off, events, behind=True)  # the first that has not surely ended before
    starts, ends = np.append(bodies.start, [NEVER, NEVER]), np.append(bodies.end, NEVER)
    outside, near = events < starts[run], events > ends[run] - off
    sole = (np.append(events[1:], NEVER) > starts[run + 1]) & (starts[run + 1] < NEVER)
    found: Instants = events[outside | (near & sole)]
    return found


def _behind_their_events(board: Measurement, isr: Isr, matched: Matched, starts: Instants) -> tuple[Matched, int]:
    """(what is sure where a run seems to begin before its event, since its probe is wrong; how long before in ps)."""
    waits, most = starts[matched.run] - matched.event, board.paper.isrs[isr.name].latency.most
    before = -int(waits.min(initial=0)) - board.resolution
    if before <= 0 or not board.system.written.get(isr.thing, (0, 0))[0]:
        return matched, 0
    return matched.only(waits <= (NEVER if most is None else most + board.slack(most))), before


def _contradictions(board: Measurement, isr: Isr, matched: Matched, starts: Instants) -> int:
    """How much the bounds do not allow, with events and runs matched so."""
    bound, waits = board.paper.isrs[isr.name], starts[matched.run] - matched.event
    late = (
        0 if bound.latency.most is None else int((waits > bound.latency.most + board.slack(bound.latency.most)).sum())
    )
    return late + len(matched.orphans) + (0 if bound.lost else matched.lost_count)


def _longest_wait(board: Measurement, isr: Isr) -> int:
    """How long an event that came before the capture can still have waited: its bound, or a round of everything."""
    most = board.paper.isrs[isr.name].latency.most
    if most is not None:
        return most
    system, core = board.paper.narrowed, board.system.core
    each = [(other.cost.most + core.entry.most + core.exit.most) * other.pending for other in system.isrs]
    return sum(each) + max((step.cost.most for step in system.steps if step.guards), default=0)


def _take_single(found: Runs, bodies: Bodies, merged: npt.NDArray[np.bool_]) -> None:
    """Which whole bodies are one run, of which some may be ``merged``."""
    count = max(0, bodies.whole.stop - bodies.whole.start)
    if not merged.any():
        found.single = np.broadcast_to(np.True_, count)
        return
    found.single = np.ones(count, np.bool_)
    found.single[: len(merged)] = ~merged[:count]


def _several(board: Measurement, isr: Isr, bodies: Bodies | None) -> Merging | None:
    """Which runs of a routine may be several, with gaps between them that are too short to be seen."""
    if bodies is None or not may_merge(board, isr.thing):
        return None
    first = int(bodies.cut_begin)
    return Merging(bodies.end[first:], _may_be_several(board, isr.thing, bodies)[first:], _longest_wait(board, isr))


def _several_runs(board: Measurement, thing: Thing) -> Instants:
    """The starts of bodies of a routine or step that may be several runs."""
    bodies = board.shown.bodies.get(thing)
    return EMPTY if bodies is None else bodies.start[_may_be_several(board, thing, bodies)]


def _may_be_several(board: Measurement, thing: Thing, bodies: Bodies) -> npt.NDArray[np.bool_]:
    """Which bodies may be several runs that flow together, by the analyser's clock; what is cut may be in any case."""
    if thing.kind not in ("isr", "step") or not may_merge(board, thing):
        return np.zeros(len(bodies.start), np.bool_)
    body = board.system.isr(thing.name) if thing.kind == "isr" else board.system.step(thing.name)
    own = board.isrs[thing.name].cost if thing.kind == "isr" else board.steps[thing.name].own
    may = np.ones(len(bodies.start), np.bool_)
    if own is not None:
        may[bodies.whole] = _lasts_for_two(board, own, body)
    return may


def _lasts_for_two(board: Measurement, own: ExecutionTimes, body: Isr | Step) -> npt.NDArray[np.bool_]:
    """Which of these own times are long enough for two runs."""
    two = 2 * body.cost.least
    found: npt.NDArray[np.bool_] = own.most + board.slack(two) >= two
    return found


def may_merge(board: Measurement, thing: Thing) -> bool:
    """Whether two runs of a routine or step that follow each other may look like one: too short a gap to be seen."""
    core = board.system.core
    if thing.kind == "step":
        return board.system.loop is not None and board.system.loop.overhead.least < board.resolution
    gap = core.least_latency if core.late_arrival else core.follows.least
    return gap < board.resolution


def _response(matched: Matched, bodies: Bodies | None) -> Delays | None:
    """Only where the body is seen as a level, so that every run has its own end."""
    if bodies is None:
        return None
    ended = bodies.end[bodies.whole]
    at, run = matched.event, matched.run
    running = np.sort(np.concatenate([at[run >= len(ended)], matched.waiting]))
    done = (run < len(ended)) & ~matched.merged[run]
    at, run = those(at, done), those(run, done)
    return Delays(at, ended[run] - at, matched.lost, running)


def _without_restarts(shown: Readings, unit: Unit, slack: int) -> None:
    """The line of a unit may fall for a moment as it begins anew: too soon, and as something starts it, is no end."""
    bodies = shown.bodies.get(unit.thing)
    causes = [shown.instants[event] for event in unit.on if event in shown.instants]
    if unit.busy != "restart" or bodies is None or not causes:
        return
    starts = np.sort(np.concatenate(causes))
    first = place_of(starts, bodies.end - slack)
    started = place_of(starts, bodies.end + slack, behind=True) > first
    false = started & (bodies.end - bodies.start < unit.takes.least - slack)
    false[len(false) - int(bodies.cut_end) :] = True
    shown.instants[unit.end] = bodies.end[~false]


def _works(board: Measurement, unit: Unit) -> Paired | None:
    """Starts and ends of a unit: from its own line, or from what starts it and its end."""
    bodies, ends = board.shown.bodies.get(unit.thing), board.events(unit.end)
    if unit.counts is not None and (unit.counts.repeats or unit.counts.cancelled_by):
        return None  # what it began with, or whether it was cancelled, no line tells
    if unit.drains is not None:
        return _taken_up(board, unit) if bodies is None else None  # one after the other look like one
    starts = board.shown.all_of(unit.on)
    if ends is not None and starts is not None:
        busy = bodies is not None and bodies.cut_begin
        if busy:  # what comes as the capture begins may be what it is busy with
            starts = starts[starts > board.capture.begin + board.resolution]
        slack, paired = board.slack(unit.takes.most), pair_unit(unit, starts, ends, board.capture.begin, busy=busy)
        if unit.stands_still or (not unit.may_stay_silent and not may_be_silent(unit, paired, starts, slack)):
            return paired
        other = pair_answers(unit, starts, ends, board.capture.end, slack, busy=busy)
        return other if unit.may_stay_silent or other.answers_again else paired
    if bodies is None:
        return None
    part = bodies.whole
    return Paired(bodies.start[part], bodies.end[part] - bodies.start[part], EMPTY, EMPTY, judged=False)


def _taken_up(board: Measurement, unit: Unit) -> Paired | None:
    """Each operation of a unit that takes one item after the other: from a start to the end behind it."""
    starts, ends = board.events(unit.start), board.events(unit.end)
    if starts is None or ends is None:
        return None
    place = place_of(ends, starts, behind=True)
    done = place < len(ends)
    at, ended = starts[done], ends[place[done]]
    return Paired(at, ended - at, EMPTY, starts[~done], ended - at)


def _steps(board: Measurement, step: Step) -> Steps:
    found = board.steps.get(step.name) or Steps(step)
    bodies = board.shown.bodies.get(step.thing)
    starts = board.events(step.start)
    several = _several_runs(board, step.thing)
    if bodies is not None:
        whole = bodies.start[bodies.whole]
        found.duration = (bodies.end[bodies.whole] - whole)[~np.isin(whole, several)]
    if starts is None:
        return found
    found.interval = np.diff(starts)[~np.isin(starts[:-1], several)]
    if step.every is not None and not step.polls and step.rearm == "grid":
        grid = hidden_grid(starts, float(step.every.nominal))
        if grid is not None and grid.told:
            found.late = Delays(starts - grid.delay, grid.delay, relative=True)
    return found


def _flag(board: Measurement, flag: str) -> Flags | None:
    """From the ends of all its setters to the starts of the one step that polls it."""
    graph = board.system.graph
    setters, takers = graph.sets_of(flag), graph.pollers.get(flag, ())
    if len(takers) != 1 or flag in graph.waiters or not setters:
        return None
    sets, takes = board.sets_of(flag), board.events(takers[0].start)
    if sets is None or takes is None:
        return None
    taken_by, told = takes_of(sets, takes, board.resolution), ~_during_several(board, takers[0].thing, sets)
    if len(takers[0].polls) > 1:  # it may have come for another: what is set just then may be taken or not
        told &= place_of(takes, sets - board.resolution) == place_of(takes, sets + board.resolution, behind=True)
    sets, taken_by = sets[told], taken_by[told]
    # one set may have come before the capture began: its take then answers none of those seen
    first, answered = np.append(True, taken_by[1:] != taken_by[:-1])[: len(sets)], taken_by < len(takes)
    good = first & answered
    late = sets[first & ~answered]
    taken = takes[taken_by[good]]
    return Flags(Delays(sets[good], np.maximum(0, taken - sets[good]), EMPTY, late), taken, sets[~first])


def takes_of(sets: Instants, takes: Instants, off: int) -> Instants:
    """Which take answers each set: the first behind it, or one before it by what samples hide that took no other."""
    soonest, found = place_of(takes, sets - off), place_of(takes, sets)
    for place in np.flatnonzero(soonest < found).tolist():
        free = found[place - 1] + 1 if place else 0
        found[place] = max(soonest[place], min(found[place], free))
    return found


def spans_of_several(board: Measurement, thing: Thing) -> tuple[Instants, Instants]:
    """(begin, end) of what may be several runs of a routine or step that flow together, as far as samples tell."""
    bodies = board.shown.bodies.get(thing)
    if bodies is None:
        return EMPTY, EMPTY
    may = _may_be_several(board, thing, bodies)
    return bodies.start[may] - board.resolution, bodies.end[may] + board.resolution


def _during_several(board: Measurement, taker: Thing, at: Instants) -> npt.NDArray[np.bool_]:
    """Which instants lie in what may be several runs of who takes: one of those may have begun after them."""
    begins, ends = spans_of_several(board, taker)
    place = np.searchsorted(begins, at, side="right") - 1
    found: npt.NDArray[np.bool_] = (place >= 0) & (at <= np.append(ends, 0)[place])
    return found


def _clock(board: Measurement) -> ClockError | None:
    """How far off the clocks are, from lines whose period the board makes from the core's clock."""
    found = []
    for source in board.system.sources:
        if source.steady is None or not _from_the_core(board.system, source):
            continue
        ticks = ticks_of(board, source)
        if ticks is None or len(ticks.at) < 8:
            continue
        nominal = float(source.steady)
        assert source.period_most is not None
        tolerance = float(source.period_most / source.steady) - 1 + float(board.system.capture_tolerance)
        if abs(ticks.period / nominal - 1) > max(100e-6, 1.5 * tolerance):
            continue  # that is no clock: something else is wrong with it
        length = float(ticks.at[-1] - ticks.at[0])
        ppm = (length / (float(ticks.number[-1]) * nominal) - 1) * 1e6
        found.append((source.event, ppm, ticks.off / length * 1e6))
    return clock_error(found)


def _from_the_core(system: System, source: Source) -> bool:
    """Whether the core's clock makes a periodic source: through its timer, or as it has no tolerance of its own."""
    if source.timer is not None:
        parents = {clock.name: clock.parent for clock in system.clocks}

        def root(name: str) -> str:
            while (above := parents.get(name)) is not None:
                name = above
            return name

        return root(source.timer.clock.name) == root(system.core.clock.parent or system.core.clock.name)
    assert source.period is not None
    assert source.period_most is not None
    own, core = source.period_most / source.period - 1, system.core.clock.tolerance
    return own <= core / (1 - core)


class Ticks(Struct, frozen=True):
    """The events of a periodic source as they show: ``at`` ps, ``off`` their grid at most, all counted.

    ``number`` is the place of each on its grid, from 0; ``period`` the one that fits them best, in ps.
    """

    at: Instants
    number: Instants
    period: float
    off: int


def _ticks(board: Measurement, at: Instants, number: Instants, period: float, allowed: int) -> Ticks:
    """Ticks that stray as far as is ``allowed``, in ps; or as they do, where that is further on any grid."""
    off = 2 * board.resolution + allowed
    rest = at - at[0] - number * period
    if float(rest.max() - rest.min()) > off:  # on this grid; on the one that fits them best it may be less
        strays = jitter_of(at, number, period * 0.9, period * 1.1)
        off = 2 * board.resolution + strays if strays > off else off
    return Ticks(at, number, period, off)


def ticks_of(board: Measurement, source: Source) -> Ticks | None:
    """The events of a periodic source, or what its routine shows of them; None where nothing regular does."""
    direct = board.events(source.event)
    if direct is not None:
        assert source.period is not None
        assert source.period_least is not None
        if len(direct) < 2:
            return None
        # events that stray as far as the next one cannot be told from missing ones: all are taken to be there, as where
        # they are as even as samples show them
        stray, apart = source.jitter + 2 * board.resolution, np.diff(direct)
        found = None if 4 * stray >= source.period_least else regular(direct, float(source.period))
        if found is not None:
            return _ticks(board, direct, found.number, found.period, source.jitter)
        if 4 * stray < source.period_least and int(apart.max() - apart.min()) > 2 * stray:
            return None
        return _ticks(board, direct, np.arange(len(direct)), float(apart.mean()), source.jitter)
    for isr in board.system.isrs:
        runs, starts = board.isrs[isr.name], board.events(isr.start)
        if isr.on == (source.event,) and runs.grid is not None and starts is not None:
            latency = board.paper.isrs[isr.name].latency
            wander = int(runs.grid.period) if latency.most is None else latency.most - latency.least
            return _ticks(board, starts, runs.grid.number, runs.grid.period, wander + source.jitter)
    return None
