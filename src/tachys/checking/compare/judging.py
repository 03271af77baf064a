"""The verdict on every need: what the paper proves, what the capture shows, and each miss taken apart."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from tachys.capture.table import Instants
from tachys.checking.board.accepting import EMPTY
from tachys.checking.board.following import Followed, follow
from tachys.checking.board.load import busiest, load_seen, taken_by
from tachys.checking.board.measuring import Measurement
from tachys.checking.board.waits import Cause, WaitPart, causes_of, stretches_of
from tachys.checking.compare.tail import tail_of
from tachys.checking.result import Miss, NeedCheck, seen
from tachys.model.events import Event, Thing
from tachys.needs.kinds import Need, NeedBounds
from tachys.needs.seen import Broken, Delays, Following, Past, Taken, Total
from tachys.needs.verdicts import basis_of, verdict_of
from tachys.worstcase.load import surplus

APART = 2000  # misses that are taken apart, of each need; the others are counted


class BoardSeen(Struct):
    """A capture as needs see it: to its resolution, from somewhere in the midst of a run."""

    board: Measurement
    followed: dict[str, Followed] = field(default_factory=dict)
    whole: bool = True

    @property
    def slack(self) -> int:
        """How far off a time may be, in ps."""
        return self.board.resolution

    @property
    def end(self) -> int:
        """The end of the capture, in ps."""
        return self.board.capture.end

    @property
    def zero(self) -> int | None:
        """When the board was switched on, where a line shows its start-up from its beginning."""
        return self.board.switched_on

    def instants(self, event: Event) -> Instants | None:
        """When an event happened."""
        return self.board.events(event)

    def answers(self, need: Following) -> Delays | None:
        """From the events of a need to their answers."""
        found = follow(self.board, need)
        if found is None:
            return None
        self.followed[need.name] = found
        return found.delays

    def delays(self, event: Event) -> Delays | None:
        """From what causes an event to the event."""
        board, name = self.board, event.name
        if event.kind == "isr":
            return board.isrs[name].latency if event.moment == "start" else board.isrs[name].response
        if event.kind == "unit":
            paired = board.units[name].paired
            return None if paired is None or event.moment != "end" else Delays(paired.at, paired.after)
        if event.kind == "step" and event.moment == "start":
            polls = board.system.step(name).polls
            if len(polls) > 1:  # each has a cause of its own
                return None
            return board.flags[polls[0]].reaction if polls and polls[0] in board.flags else board.steps[name].late
        return None

    def lost(self, thing: Thing) -> tuple[Instants, int] | None:
        """(when events of a thing were lost, how many): of a source where it is taken; None where no line tells."""
        board, name = self.board, thing.name
        if thing.kind == "isr":
            return board.isrs[name].lost()
        if thing.kind == "unit" and board.system.unit(name).asked_at:
            filled = board.buffers.get(board.system.unit(name).drains or "")
            return None if filled is None else (filled.starved, len(filled.starved))
        if thing.kind == "unit":
            paired = board.units[name].paired
            return None if paired is None or not paired.judged else (paired.lost, len(paired.lost))
        if thing.kind == "buffer":
            lost = board.lost_items(name)
            return None if lost is None else (lost, len(lost))
        if thing.kind == "flag":
            flag = board.flags.get(name)
            return None if flag is None else (flag.overwritten, len(flag.overwritten))
        return self._lost_of_source(Event(thing))

    def beyond(self, buffer: Thing, level: int) -> tuple[Instants, int, int] | None:
        """(when puts made it hold more, how many did, the most that was in), at least."""
        filled = self.board.buffers.get(buffer.name)
        if filled is None:
            return None
        found = filled.beyond(level)
        return found, len(found), filled.deepest

    def _lost_of_source(self, event: Event) -> tuple[Instants, int] | None:
        parts = []
        for body in self.board.system.graph.begun_by.get(event, ()):
            if body.kind == "isr":
                found = self.board.isrs[body.name].lost(event)
                if found is None:
                    return None
                parts.append(found[0])
            else:
                paired = self.board.units[body.name].paired
                if paired is None or not paired.judged:
                    return None
                parts.append(paired.lost)
        lost = np.sort(np.concatenate([EMPTY, *parts]))
        return (lost, len(lost)) if parts else None

    def supply(self) -> Fraction | None:
        """As a column of it shows."""
        return None if self.board.metered is None else self.board.metered.average

    def load(self, over: int | None, of: tuple[str, ...]) -> Taken | None:
        """What was taken of the core, at least: of the busiest window of ``over`` ps, or of the whole capture."""
        board = self.board
        if over is None and of:
            taken = taken_by(board, of)
            return None if taken is None else Taken(taken, board.capture.begin, by="from their own lines")
        if over is None:
            load = load_seen(board)
            if load is None:
                return None
            return Taken(Fraction(load.least).limit_denominator(10**6), board.capture.begin, by=f"from {load.by}")
        found = busiest(board, over, interrupts_only=bool(of))
        if found is None:
            return None
        share, at = found
        note = f"the busiest window begins at {at / 1e9:.6f} ms"
        return Taken(Fraction(share).limit_denominator(10**6), at, Fraction(2 * board.resolution, over), note)


def judge(board: Measurement, paper: NeedBounds, *, refuted: bool = False) -> NeedCheck:
    """One need. ``refuted``: the capture refutes a figure that its proof rests on."""
    shown = BoardSeen(board)
    return _timed(shown, paper, refuted) if paper.need.timed else _total(shown, paper, refuted)


def _made(
    paper: NeedBounds, shown: int, misses: int, refuted: bool, value: int | Fraction | None = None,
    slack: int | Fraction = 0, held: int | None = None,
) -> NeedCheck:  # fmt: skip
    """A need with its verdict; ``shown``: how often it was seen, ``value``: the worst of it, known to ``slack``.

    ``held``: how many of those seen would refute a need that cannot hold; None: all.
    """
    if value is not None and paper.bound is not None and value - slack > paper.bound:
        refuted = True  # what was seen lies beyond the bound itself
    holds = shown > 0 and paper.need.measures != "share"  # of a load at least so much was seen
    held = shown if held is None else held
    verdict = verdict_of(paper.proof, seen=holds, held=holds and held > 0, broken=misses > 0, refuted=refuted)
    basis = basis_of(paper.proof, verdict, seen=shown > 0 or misses > 0)
    told = paper.proof.bounded or shown or misses
    reason = paper.reason or ("" if told else "no line shows it")
    if refuted and paper.proved:
        reason = "proved, but the proof rests on what this capture refutes"
    return NeedCheck(paper.need, paper.limit, paper.bound, None, (), verdict, reason, value, basis=basis, count=misses)


def _total(shown: BoardSeen, paper: NeedBounds, refuted: bool) -> NeedCheck:
    board, need = shown.board, paper.need
    reach = board.paper.reach
    length = board.capture.length
    assert reach is not None
    more = Fraction(surplus(reach, length, need.takers), length) if length and need.measures == "share" else Fraction(0)
    total: Total | None = need.sum_up(shown, more)
    if total is None:
        return _made(paper, 0, 0, refuted)
    if need.measures in ("current", "life"):  # what is seen ends somewhere: only paper judges
        return replace(_made(paper, 0, 0, refuted), value=total.value)
    made = _made(paper, 1, total.misses, refuted, total.value, total.slack + more)
    misses = tuple(Miss(each.at, None, each.kind, _lost_causes(board, need.waits, each)) for each in total.broken)
    return replace(made, misses=misses, note=total.note)


def _lost_causes(board: Measurement, thing: Thing, miss: Broken) -> tuple[Cause, ...]:
    """What kept the event before it waiting, whose mark was still set: from when that came to its run."""
    if thing.kind == "buffer":
        drain, begin = board.wanted_before(thing.name, miss.at)
        return causes_of(stretches_of(board, begin, miss.at, drain), None, board.paper.narrowed)
    if thing.kind == "source":
        begun = board.system.graph.begun_by.get(Event(thing), ())
        thing = begun[0].thing if len(begun) == 1 else thing
    starts = board.events(thing.start) if thing.kind == "isr" and miss.kind == "lost" else None
    if starts is None:
        return ()
    place = int(np.searchsorted(starts, miss.at))
    end = int(starts[place]) if place < len(starts) else board.capture.end
    bound, matched = board.paper.isrs[thing.name].latency, board.isrs[thing.name].matched
    came = EMPTY if matched is None else matched.event[matched.event < miss.at]
    begin = int(came[-1]) if len(came) else miss.at
    waited = stretches_of(board, begin, max(miss.at, end), thing)
    return causes_of(waited, bound, board.paper.narrowed, late=end - miss.at)


def _timed(shown: BoardSeen, paper: NeedBounds, refuted: bool) -> NeedCheck:
    board, need = shown.board, paper.need
    look = need.look(shown, Past())
    if look is None:
        return _made(paper, 0, 0, refuted)
    measured = seen(look.after, board.resolution, relative=look.relative)
    values = [] if measured is None else [need.worst(measured.least, measured.most)]
    values += [] if look.still is None else [look.still]
    value = max(values, default=None)
    made = _made(paper, len(look.after), len(look.broken), refuted, value, board.slack(value or 0), look.speaks)
    made = replace(made, seen=measured, misses=_misses(board, paper, look.broken))
    followed = shown.followed.get(need.name)
    if followed is None or not len(look.after):
        return made if followed is None else replace(made, note=_note(followed))
    worst = int(np.argmax(look.after))
    begin, after = int(look.at[worst]), int(look.after[worst])
    apart = tuple(_wait_of(board, need).apart(begin, begin + after))
    tail = None if look.relative or made.misses or paper.proved else tail_of(look.after)
    return replace(made, worst_at=begin, worst=apart, tail=tail, note=_note(followed))


class _Wait(Struct, frozen=True):
    """How the waits of a need are taken apart; ``ended`` is when a unit ended, where it waits for one first.

    ``buffer``: the one on the way, in which it may have found no room.
    """

    board: Measurement
    waits: Thing
    unit: Thing
    ended: Instants | None
    buffer: str = ""

    def apart(self, begin: int, end: int, *, lost: bool = False) -> list[WaitPart]:
        """A wait: while the unit is at work nothing holds anything off.

        What is ``lost`` was, where a unit comes first, as that was still at work.
        """
        if lost and self.buffer:
            drain, since = self.board.wanted_before(self.buffer, begin)
            return stretches_of(self.board, since, begin, drain)
        if self.ended is None:
            return stretches_of(self.board, begin, end, self.waits)
        place = int(np.searchsorted(self.ended, begin, side="right"))
        border = min(int(self.ended[place]), end) if place < len(self.ended) else end
        works = [WaitPart(begin, border, "ran", self.unit)] if border > begin else []
        return works if lost or end <= border else works + stretches_of(self.board, border, end, self.waits)


def _wait_of(board: Measurement, need: Need) -> _Wait:
    follows = need.follows
    links = None if follows is None else board.system.graph.chain(follows.begins, follows.ends)
    first = links[0].after if links and len(links) > 1 else None
    by_unit = first is not None and first.kind == "unit" and first.moment == "end"
    unit, ended = (first.thing, board.events(first)) if first is not None and by_unit else (need.waits, None)
    buffers = [link.flag for link in links or () if link.kind == "drains" and link.flag in board.buffers]
    return _Wait(board, need.waits, unit, ended, buffers[0] if buffers else "")


def _note(followed: Followed) -> str:
    last = ", and from the last run that can have led to it" if followed.nth else ""
    if followed.since is not None:
        return f"from {followed.since} on, since no line shows the event{last}"
    if followed.nth:
        return "from the last event that can have led to it, since no line shows which run is an n-th one"
    if followed.delays.relative:
        return "against the fastest one seen, since no line shows the event"
    if followed.by_order:
        return "with each event answered by the next that can be its own, since part of the way has no line"
    return ""


def _misses(board: Measurement, paper: NeedBounds, broken: list[Broken]) -> tuple[Miss, ...]:
    """The misses in order of time, the longest of them with what made them late; nobody makes one early."""
    need = paper.need
    bound, wait = paper.figure if need.bound_is_wait else None, _wait_of(board, need)
    longest = sorted(broken, key=lambda miss: -(miss.value or 1 << 62))
    made = [
        Miss(miss.at, miss.value, miss.kind,
             causes_of(wait.apart(miss.begin, miss.end, lost=miss.kind == "lost"),
                       None if wait.buffer and miss.kind == "lost" else bound, board.system,
                       0 if bound is None or miss.value is None else miss.value - int(paper.limit))
             if k < APART and miss.kind != "early" else ())
        for k, miss in enumerate(longest)
    ]  # fmt: skip
    return tuple(sorted(made, key=lambda miss: miss.at))
