"""The engine and the stand-in for the board, given the same model and the same events, beside each other."""

from tachys.demo.machine import (
    Burns,
    Empties,
    Fills,
    Halts,
    Hold,
    Latch,
    Machine,
    More,
    Pauses,
    Plan,
    Reply,
    Routine,
    Store,
    Tally,
    Task,
    Waits,
)
from tachys.model import acts
from tachys.simulation import layout as at
from tachys.simulation.engine import play_whole


def pair(given):
    return given and (given.least, given.most)


def part(system, act):
    """What an act of the model is on the stand-in board."""
    if isinstance(act, acts.Wait):
        reply = act.on.name if act.flag is None and not act.next else None
        return Waits(act.flag, pair(act.at_most), system.unit(act.on.name).drains if act.next else None, reply)
    if isinstance(act, acts.Pause):
        return Pauses(pair(act.length))
    if isinstance(act, acts.Halt):
        stops = tuple(isr.name for isr in system.isrs if isr.on[0] in act.stops)
        stops += tuple(thing.name for thing in act.stops if thing.kind == "unit")
        masked = any(isinstance(each, acts.Work) and each.masked for step in system.steps for each in step.acts
                     if act in step.acts)  # fmt: skip
        return Halts(act.unless, act.wake.most, stops, act.plain_if, pair(act.masked) if masked else None)
    if isinstance(act, acts.Put):
        return Fills(act.buffer, pair(act.items))
    return empties(act) if isinstance(act, acts.Drain) else Burns(pair(act.cost), holds(act.guards))


def empties(drain):
    return drain and Empties(drain.buffer, drain.most, pair(drain.each), drain.until_empty)


def holds(guards):
    return tuple(
        Hold(guard.urgency, guard.at.least, guard.length and guard.length.most, guard.at.most - guard.at.least)
        for guard in guards
    )


def routine(system, isr, came):
    event, puts = isr.on[0], system.graph.feeds.get(isr.end, ())
    return Routine(
        isr.name, isr.urgency, came[event.name] if event.kind == "source" else (), pair(isr.costs_first[0]),
        holds(isr.guards), isr.pending, isr.serves_all, isr.sets, next((buffer for buffer, _ in puts), None),
        isr.moves_to, event.name if event.requests else None, empties(isr.drains),
        isr.drains is not None and system.buffer(isr.drains.buffer).room_in is not None,
        isr.nth and More(isr.nth.n, isr.nth.first or isr.nth.n, pair(isr.nth.cost), isr.nth.sets),
        tuple((name, pair(place)) for name, place in isr.moments), event.name if event.kind == "unit" else None,
        event.name if event.moment == "lost" else None, pair(isr.pause) if isr.pause.most else None, isr.clears,
        event.name if event.kind == "unit" else None,
    )  # fmt: skip


def store(system, buffer, came):
    feeds = [feed for feed in buffer.fed_by if feed.event.kind == "source"]
    arrivals = sorted(time for feed in feeds for time in came[feed.event.name] for _ in range(feed.items))
    drain = system.graph.drain[buffer.name]
    sent_in = pair(drain.takes) if drain.kind == "unit" else None
    asked = drain.asked_at if drain.kind == "unit" else ()
    sent_at = sorted(time for event in asked for time in came[event.name]) if asked else None
    sets = tuple(flag for flag, events in system.set_by.items() if buffer.lost in events)
    return Store(buffer.name, buffer.depth, arrivals, buffer.threshold, pair(buffer.quiet), sent_in, sent_at,
                 buffer.asks_each, buffer.overwrites, sets)  # fmt: skip


def tally(unit, came):
    starts = sorted(time for event in unit.on for time in came[event.name])
    return Tally(unit.name, unit.counts.of.name, unit.counts.n, starts, unit.counts.repeats)


def reply(unit, silent):
    return Reply(unit.name, unit.on[0].name, pair(unit.takes), silent, unit.busy == "restart", steals=pair(unit.steals))


def grid(source, came):
    """When a source whose clock may stand still comes by that clock."""
    distance = source.period or source.gap
    return [int(source.offset + number * distance) for number in range(len(came[source.name]) + 1)]


def plan(system, came, ends=None):
    """The stand-in's plan for a system; ``came``: the instants of each source, ``ends``: which operations of a unit do."""
    core = system.core
    came = came | {source.name: grid(source, came) for source in system.sources if source.stands_still}
    steps = tuple(
        Task(s.name, tuple(part(system, act) for act in s.acts if getattr(act, "masked", False) is not True), () if s.asked_by else s.polls,
             int(s.every.nominal) if s.every else None, s.rearm, s.sets, s.asked_by, s.polls_all, s.once)
        for s in system.steps
    )  # fmt: skip
    return Plan(
        tuple(routine(system, isr, came) for isr in system.isrs), steps,
        system.loop.overhead.most if system.loop else 0, core.nesting, core.entry.most, core.exit.most, core.chain.most,
        core.wake.most, core.late_arrival,
        tuple(Latch(flag, came[event.name]) for flag, events in system.set_by.items() for event in events
              if event.kind == "source"),
        tuple(store(system, buffer, came) for buffer in system.buffers),
        tuple(tally(unit, came) for unit in system.units if unit.counts),
        tuple(reply(unit, ends[unit.name]) for unit in system.units if unit.on and unit.on[0].kind == "step"),
    )  # fmt: skip


def assert_agreement(system, how, until):
    """Both do the same at the same instants, at their most costs."""
    _, seen, index = play_whole(system, how, until)

    def records(kind, names):
        mask = seen.kind == kind
        return [(names[i], int(c), int(t)) for i, c, t in zip(seen.index[mask], seen.cause[mask], seen.time[mask],
                                                              strict=True)]  # fmt: skip

    came = {name: [time for other, _, time in records(at.SOURCE, index.sources) if other == name]
            for name in index.sources}  # fmt: skip
    begun, silent = records(at.UNIT_START, index.units), set(records(at.UNIT_SILENT, index.units))
    ends = {name: [each not in silent for each in begun if each[0] == name] or [True] for name in index.units}
    truth = Machine(plan(system, came, ends), 0, "most").run(until)
    asked = {reply.name for reply in Machine(plan(system, came, ends)).plan.replies}
    assert [(name, at_) for name, at_, _ in begun if name in asked] == [
        each for each in truth.asked if each[1] <= until
    ]
    rows = [name for name, _ in index.rows]
    assert records(at.LAST, rows) == [(r.name, r.event, r.end) for r in truth.served if r.end <= until]
    assert records(at.STEP_END, index.steps) == [step for step in truth.steps if step[2] <= until]
    counting = [unit.name for unit in system.units if unit.counts]
    ended = [each for each in records(at.UNIT_END, index.units) if each[0] in counting]
    assert ended == [each for each in truth.tallied if each[2] <= until]
    if system.buffers and not asked:
        assert sorted(records(at.UNIT_START, index.units)) == sorted((n, b, b) for n, b, _ in truth.sent if b <= until)
    assert [(event.removeprefix("isr."), time) for event, _, time in records(at.INNER, index.inner)] == [
        mark for mark in truth.marks if mark[1] <= until
    ]
    items = [*records(at.ITEM_LOST, index.buffers), *records(at.ITEM_OVER, index.buffers)]
    lost = [*records(at.LOST, rows), *((name, time, time) for name, _, time in items)]
    assert sorted(lost) == sorted((name, t, t) for name, t in truth.lost if t <= until)
