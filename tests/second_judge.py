"""A second, naive judge of what was played: walks the records one by one and shares no code with the simulation's.

It keeps the queue of every line, unit and flag and passes on, with each event, which events of the need it answers.
"""

from bisect import bisect_right
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property
from itertools import accumulate, pairwise

from tachys.needs.kinds import FeedNeed, FillNeed, JitterNeed, LoadNeed, LossNeed, PeriodNeed, WithinNeed
from tachys.simulation import layout as at


def rows_of(records):
    """The records as plain numbers: (time, kind, index, cause)."""
    return list(zip(records.time.tolist(), records.kind.tolist(), records.index.tolist(), records.cause.tolist(),
                    strict=True))  # fmt: skip


@dataclass(eq=False)
class Story:
    """A run, told event by event."""

    system: object
    index: object
    rows: list
    end: int
    events: dict = field(init=False)

    def __post_init__(self):
        self.events = defaultdict(list)
        for time, kind, number, _ in self.rows:
            name = self.event_of(kind, number)
            if name:
                self.events[name].append(time)

    def event_of(self, kind, number):
        """The event that a record tells of; "" for others."""
        index = self.index
        if kind == at.SOURCE:
            return f"source.{index.sources[number]}"
        if kind == at.INNER:
            return str(index.inner[number])
        if kind == at.ASKED:
            return f"buffer.{index.buffers[number]}"
        if kind in (at.ITEM_LOST, at.ITEM_OVER):
            return f"buffer.{index.buffers[number]}.lost"
        for table, names, thing in (
            ({at.UNIT_START: "start", at.UNIT_END: "end"}, index.units, "unit"),
            ({at.START: "start", at.LAST: "end"}, [row[0] for row in index.rows], "isr"),
            ({at.STEP_START: "start", at.STEP_END: "end"}, index.steps, "step"),
        ):
            if kind in table:
                return f"{thing}.{names[number]}.{table[kind]}"
        return ""

    # --- loads -----------------------------------------------------------------------------------------------------

    @cached_property
    def busy(self):
        """When the core worked: whole nests of interrupts, and the costs of steps, apart from each other."""
        return self._ran(loop=True)

    @cached_property
    def interrupted(self):
        """When it served interrupts, entries and exits included."""
        return self._ran(loop=False)

    def _ran(self, loop):
        found, since, cost = [], None, None
        for time, kind, number, cause in self.rows:
            if not loop and kind in (at.STEP_PHASE, at.PASS, at.HALTS, at.STEP_END):
                continue
            if kind == at.ACCEPT:
                if since is None and cost is not None and time > cost:
                    found.append((cost, time))
                since = time if since is None else since
            elif kind == at.BACK and number == len(self.index.rows):
                if time > since:
                    found.append((since, time))
                since = None
                cost = time if cost is not None else None
            elif kind == at.STEP_PHASE and cause in (at.WORK, at.DRAIN):
                cost = time if cost is None else cost
            elif kind == at.PASS and time > cause:
                found.append((cause, time))
            elif kind in (at.STEP_PHASE, at.HALTS, at.STEP_END) and cost is not None:
                if time > cost:
                    found.append((cost, time))
                cost = None
        if since is not None:
            found.append((since, self.end))
        elif cost is not None and self.end > cost:
            found.append((cost, self.end))
        apart = []
        for begin, end in sorted(found):
            if apart and begin <= apart[-1][1]:
                apart[-1] = (apart[-1][0], max(end, apart[-1][1]))
            else:
                apart.append((begin, end))
        return apart

    def busiest(self, length, of=()):
        """The most load of any window of ``length`` ps that lies in the run; ``of`` interrupts, or of all."""
        busy = self.interrupted if of else self.busy
        if self.end < length or not busy:
            return Fraction(0)
        begins, before = [begin for begin, _ in busy], [0, *accumulate(end - begin for begin, end in busy)]

        def until(time):
            place = bisect_right(begins, time)
            return before[place] - max(0, busy[place - 1][1] - time) if place else 0

        edges = [begin for begin, _ in busy] + [end - length for _, end in busy]
        edges = [min(max(edge, 0), self.end - length) for edge in edges]
        return Fraction(max(until(edge + length) - until(edge) for edge in edges), length)

    def delays(self, event):
        """The delay of each event against what caused it: for a step, since it was due or its flag was set."""
        cause, taken, found = None, None, []
        for time, kind, number, given in self.rows:
            name = self.event_of(kind, number)
            if kind == at.FLAG_TAKEN:
                taken = given
            if event.startswith("step.") and name == event.rpartition(".")[0] + ".start":
                step = self.system.step(self.index.steps[number])
                if step.asked_by is not None or len(step.polls) > 1:
                    return []
                cause = taken if step.polls and step.every is None else given
            if name == event:
                found.append(time - (cause if event.startswith("step.") else given))
        return found

    # --- from an event to its answer -------------------------------------------------------------------------------

    def answers(self, need):
        """(event, its answer) of each event that was answered; those lost on the way; those still open."""
        hops = self.system.graph.chain(need.begins, need.ends)
        if hops is None:
            ends = self.events[need.ends]
            told = [(time, next((end for end in ends if end >= time), None)) for time in self.events[need.begins]]
            return [pair for pair in told if pair[1] is not None], [], [time for time, end in told if end is None]
        return _Tokens(self, need, hops).walk()


class _Tokens:
    """Which events of a need each event on the way answers."""

    def __init__(self, story, need, hops):
        self.story, self.need, self.hops = story, need, hops
        self.queues = defaultdict(list)  # of a row or unit: what waits, each a list of events of the need
        self.works = defaultdict(list)  # of a routine, unit or step: what runs
        self.set = defaultdict(list)
        self.coming, self.inside = defaultdict(list), defaultdict(list)  # of a buffer: items to be put, items in it
        self.went = defaultdict(list)  # of a buffer: how each item went that was put into it
        for _, kind, number, _ in story.rows:
            if kind in (at.ITEM_OUT, at.ITEM_OVER):
                self.went[number].append(kind)
        self.put, self.gone = defaultdict(int), defaultdict(int)
        self.running = {}  # since when steps do, and routines that drain
        self.came = {}  # when each item of each buffer was put
        self.took = []  # what a step or operation that begins just now has taken
        self.moved = {}  # of a routine that moves on what it drains: how many it has taken
        self.early = 0  # how many a routine that has just begun has taken, which are told behind its beginning
        self.told, self.lost, self.born, self.superseded = [], [], [], []
        self.hopes, self.over = {}, set()  # what goes on from within a run; what does not, since that is over
        self.lately = []  # of what has happened at this instant: (event, what goes on from it, flags it has yet to set)
        self.primed = {unit.name for unit in story.system.units if unit.primed}

    def walk(self):
        story = self.story
        system, index = story.system, story.index
        self.now = 0
        for place, (time, kind, number, _) in enumerate(story.rows):
            name, self.time = story.event_of(kind, number), time
            carried = []
            if kind == at.TAKEN:
                isr = system.isr(index.rows[number][0])
                if isr.serves_all:
                    rows = [row for row, (other, _) in enumerate(index.rows) if other == isr.name]
                    taken = {row: [self.queues["row", row].pop(0) for _ in self.queues["row", row][:]] for row in rows}
                else:
                    taken = {number: [self.queues["row", number].pop(0)]}
                self.works["isr", isr.name] = taken
                continue
            if kind in (at.ITEM_IN, at.ITEM_LOST):
                self._item(number, kind == at.ITEM_LOST)
            elif kind == at.ITEM_TAKEN or (kind == at.ITEM_OUT and self._by_unit(number)):
                drain = system.graph.drain[index.buffers[number]]
                if kind == at.ITEM_TAKEN and drain.thing in self.running and not self.early:
                    self._taken_late(drain, self.came[number, self.inside[number][0][0]], self._out(number))
                elif not self.early:
                    self.took += self._out(number)
                self.early -= self.early > 0
            if kind in (at.ITEM_OUT, at.ITEM_OVER):
                if kind == at.ITEM_OVER and self.inside[number] and self.inside[number][0][0] == self.gone[number]:
                    self._out(number)
                self.gone[number] += 1
            if kind == at.CLEARED:
                self.superseded += self.queues["row", number].pop()
            elif kind == at.LOST:
                self._lose(self.queues["row", number].pop())
            elif kind == at.UNIT_LOST:
                unit = system.units[number]
                if unit.drains is not None:  # it was asked, and found nothing
                    pass
                elif unit.busy == "restart":
                    self._lose(
                        self.works.pop(("unit", unit.name), []) + self.works.pop(("on top", f"unit.{unit.name}"), [])
                    )
                else:
                    self._lose(self.queues["unit", unit.name].pop())
            elif kind == at.UNIT_SILENT:  # it stands behind the start
                unit = index.units[number]
                self._lose(self.works.pop(("unit", unit), []) + self.works.pop(("on top", f"unit.{unit}"), []))
            elif kind == at.UNIT_OFF:
                unit = index.units[number]
                self.superseded += self.works.pop(("unit", unit), []) + self.works.pop(("on top", f"unit.{unit}"), [])
            elif kind == at.UNIT_START:
                unit = index.units[number]
                # a primed unit begins at time zero without a cause, before anything else is told
                before = story.rows[place - 1][1:3] if place else None
                counts = system.units[number].counts
                begun = unit in self.primed or (before == (at.UNIT_END, number) and counts and counts.repeats)
                self.primed.discard(unit)
                waiting = [] if begun else self.queues["unit", unit]
                self.works["unit", unit] = waiting.pop(0) if waiting else []
                if system.units[number].drains is not None:
                    carried, self.took = self.took, []
                carried += self._through(f"unit.{unit}", "begins", self.works["unit", unit])
                if carried:  # they have arrived where they were going, whatever becomes of the operation
                    self.works["unit", unit] = []
            elif kind == at.UNIT_END:
                unit = index.units[number]
                carried = self._through(f"unit.{unit}", "serves", self.works["unit", unit])
                self.works["unit", unit] = []
            elif kind in (at.START, at.LAST):
                isr = index.rows[number][0]
                running = self.works["isr", isr]
                for hop in self.hops:
                    if hop.after == name and hop.kind in ("begins", "serves"):
                        row = index.rows.index((isr, hop.before))
                        carried += [token for each in running.get(row, []) for token in each]
                for hop in self.hops:
                    if hop.after in index.inner and hop.after.startswith(f"isr.{isr}.") and kind == at.START:
                        self.superseded += self.hopes.pop(hop.after, [])
                        self.over.discard(hop.after)
                        row = index.rows.index((isr, hop.before)) if hop.kind == "serves" else -1
                        self.hopes[hop.after] = [token for each in running.get(row, []) for token in each]
                    elif hop.after in index.inner and hop.after.startswith(f"isr.{isr}."):
                        self.over.add(hop.after)
                if kind == at.START and system.isr(isr).drains is not None:
                    self.running[f"isr.{isr}"] = time
                    carried += self._taken_behind(place)
                if kind == at.LAST:
                    self.running.pop(f"isr.{isr}", None)
                if kind == at.LAST:
                    carried += self.works.pop(("on top", f"isr.{isr}"), [])
            elif kind == at.INNER:
                carried = self.hopes.pop(name, [])
            elif kind == at.FLAG_SET or kind == at.FLAG_OVER:
                flag = index.flags[number]
                by, ended = self._setter(flag)
                if any(hop.kind == "sets" and hop.flag == flag and hop.before == by for hop in self.hops):
                    self._set(flag, ended, kind == at.FLAG_OVER)
                elif kind == at.FLAG_OVER and self.need.age:
                    self.superseded += self.set.pop(index.flags[number], [])
            elif kind == at.FLAG_TAKEN:
                flag = index.flags[number]
                tokens = self.set[flag]
                self.set[flag] = []
                hop = next((hop for hop in self.hops if hop.kind == "sets" and hop.flag == flag), None)
                behind = (row for row in story.rows[place + 1 :] if row[1] != at.FLAG_TAKEN)
                following = next(behind, (0, -1, 0, 0))
                step = hop.after.split(".")[1] if hop else ""
                if hop and following[1] == at.STEP_START and index.steps[following[2]] == step:
                    self.works["flag", step] = tokens
                else:
                    self._lose(tokens)
            elif kind == at.STEP_START:
                self.running[f"step.{index.steps[number]}"] = time
                carried = self.works.pop(("flag", index.steps[number]), []) + self.took
                self.took = []
            elif kind == at.STEP_END:
                del self.running[f"step.{index.steps[number]}"]
                carried = self.works.pop(("on top", f"step.{index.steps[number]}"), [])
            if name:
                sets = set(system.graph.sets.get(name, ()))
                self.lately = [] if time > self.now else self.lately
                self.lately.append((name, self._happens(time, name, carried), sets))
                self.now = time
        self.superseded += [token for event in self.over for token in self.hopes.pop(event, [])]
        gone = Counter(time for time, _ in self.told) + Counter(self.lost) + Counter(self.superseded)
        opened = list((Counter(self.born) - gone).elements())
        return self.told, self.lost, opened

    def _setter(self, flag):
        """Which event sets a flag just now, and what goes on from it: what it raises first may have raised others."""
        name, ended, sets = next(each for each in reversed(self.lately) if flag in each[2])
        sets.discard(flag)
        return name, ended

    def _by_unit(self, number):
        return self.story.system.graph.drain[self.story.index.buffers[number]].kind == "unit"

    def _item(self, number, lost):
        """An item goes in or is lost: the events of the need go with the last of those that one event puts."""
        tokens, last = self.coming[number].pop(0) if self.coming[number] else ({"of": []}, True)
        if lost:
            self._lose(tokens["of"])
            tokens["of"] = []
        else:
            self.inside[number].append((self.put[number], tokens, last))
            self.came[number, self.put[number]] = self.time
            self.put[number] += 1

    def _out(self, number):
        """The events of the need that go with the oldest item of a buffer; none where it is overwritten before it left."""
        place, tokens, last = self.inside[number].pop(0)
        went = self.went[number]
        if place < len(went) and went[place] == at.ITEM_OVER:
            self._lose(tokens["of"])
            tokens["of"] = []
        return _of([tokens]) if last else []

    def _taken_behind(self, place):
        """What a routine takes whose first instruction is told at ``place``."""
        rows, found = self.story.rows[place + 1 :], []
        for _, kind, number, _ in rows:
            if kind != at.ITEM_TAKEN:
                break
            found += self._out(number)
            self.early += 1
        self.moved[self.story.index.rows[self.story.rows[place][2]][0]] = self.early
        return found

    def _taken_late(self, body, came, tokens):
        """A run that has begun before takes what goes with these events, which ``came`` meanwhile."""
        if body.kind == "isr":
            self.moved[body.name] += 1
        if body.start == self.need.ends:
            self.told += [(token, max(came, self.running[body.thing])) for token in tokens]
        elif any(hop.before == body.start for hop in self.hops):
            self.works.setdefault(("on top", body.thing), []).extend(tokens)

    def _through(self, body, kind, tokens):
        """What a unit passes on as it begins ("begins") or ends ("serves")."""
        moment = "start" if kind == "begins" else "end"
        asked = any(hop.after == f"{body}.{moment}" and hop.kind == kind for hop in self.hops)
        passed = list(tokens) if asked else []
        if kind == "serves":
            passed += self.works.pop(("on top", body), [])
        return passed

    def _set(self, flag, tokens, again):
        if not again:
            self.set[flag] = list(tokens)
        elif self.need.age:  # what was set before is superseded: neither answered nor lost
            self.superseded += self.set[flag]
            self.set[flag] = list(tokens)
        else:
            self._lose(tokens)

    def _lose(self, tokens):
        self.lost += tokens

    def _happens(self, time, name, tokens):
        """An event on the way: it answers, or goes on to what stands on it; what goes on."""
        story = self.story
        if name == self.need.ends:
            self.told += [(token, time) for token in tokens]
            tokens = []
        if name == self.need.begins:
            self.born.append(time)
            tokens = [time]
        going = tokens if any(hop.before == name for hop in self.hops) else []
        for hop in self.hops:
            if hop.before == name and hop.kind == "ends" and hop.after in story.index.inner:
                self.hopes[hop.after] = list(going)
            elif hop.before == name and hop.kind == "ends":
                kind, thing, _ = hop.after.split(".")
                self.works["on top", f"{kind}.{thing}"] = list(going)
        for buffer, items in story.system.graph.feeds.get(name, ()):
            asked = any(hop.before == name and hop.kind == "drains" and hop.flag == buffer for hop in self.hops)
            group = {"of": list(going) if asked else []}
            number = story.index.buffers.index(buffer)
            self.coming[number] += [(group, False)] * (items - 1) + [(group, True)]
        for buffer, isr in story.system.graph.mover.items():
            if name == isr.end:
                asked = any(hop.before == name and hop.kind == "drains" and hop.flag == buffer for hop in self.hops)
                group, many = {"of": list(going) if asked else []}, self.moved[isr.name]
                number = story.index.buffers.index(buffer)
                self.coming[number] += [(group, False)] * (many - 1) + [(group, True)] * (many > 0)
                self.superseded += [] if many else group["of"]
        for unit in story.system.units:
            if name in unit.on:
                asked = any(hop.before == name and hop.after.startswith(f"unit.{unit.name}.") and hop.kind != "ends"
                            for hop in self.hops)  # fmt: skip
                self.queues["unit", unit.name].append(list(going) if asked else [])
        for row, (isr, event) in enumerate(story.index.rows):
            if name == event:
                asked = any(hop.before == name and hop.after.startswith(f"isr.{isr}.") and hop.kind != "ends"
                            for hop in self.hops)  # fmt: skip
                self.queues["row", row].append(list(going) if asked else [])
        return going


def _of(groups):
    """The events of the need that go with an item, unless another item of the same event was lost."""
    return [token for group in groups for token in group["of"]]


def _goes_on_from_before(system, need):
    """Whether what takes an item may have begun before, and what follows from its beginning have happened by then."""
    hops = system.graph.chain(need.begins, need.ends) or ()
    until = {hop.after for hop in hops if hop.kind == "drains" and hop.flag in system.graph.until_empty}
    return any(hop.before in until and hop.after != hop.before.thing.end for hop in hops)


def misses(story, need):
    """How often a need was broken; None for kinds that only add up over the whole run."""
    if isinstance(need, WithinNeed):
        if _goes_on_from_before(story.system, need):
            return None
        told, lost, opened = story.answers(need)
        return (sum(end - begin > need.within for begin, end in told) + len(lost)
                + sum(story.end - begin > need.within for begin in opened))  # fmt: skip
    if isinstance(need, PeriodNeed):
        times = story.events[need.of]
        return sum(abs(b - a - need.every) > need.give_or_take for a, b in pairwise(times))
    if isinstance(need, FeedNeed):
        dog, last, count = need.watchdog, 0, 0
        for number, time in enumerate(story.events[dog.fed_by]):
            early = number > 0 and time - last < dog.not_before
            count += early or time - last >= dog.timeout
            last = time
        return count + (story.end - last >= dog.timeout)
    if isinstance(need, LoadNeed) and need.over is not None:
        return int(story.busiest(need.over, need.of) > need.limit)
    if isinstance(need, JitterNeed) and not need.of.startswith("source."):
        least, most, count = None, None, 0
        for delay in story.delays(need.of):
            least = delay if least is None else min(least, delay)
            most = delay if most is None else max(most, delay)
            count += max(delay - least, most - delay) > need.jitter
        return count
    if isinstance(need, FillNeed):
        level, count, number = 0, 0, story.index.buffers.index(need.of.name)
        drain = story.system.graph.drain[need.of.name]
        takes_at_once = drain.kind == "unit" and not drain.asked_at
        for place, (_, kind, which, _) in enumerate(story.rows):
            if which == number and kind in (at.ITEM_IN, at.ITEM_OUT, at.ITEM_OVER, at.ITEM_LOST):
                level += {at.ITEM_IN: 1, at.ITEM_LOST: 0}.get(kind, -1)
                gone = takes_at_once and [row[1:3] for row in story.rows[place + 1 : place + 2]] == [
                    (at.ITEM_OUT, which)
                ]
                count += level > need.most and (kind == at.ITEM_LOST or (kind == at.ITEM_IN and not gone))
        return count
    if isinstance(need, (JitterNeed, LossNeed, LoadNeed)):
        return None
    raise AssertionError(need)
