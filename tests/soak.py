"""Random models, played and held against their bounds, for as long as is wanted: ``make soak MODELS=100000``.

Everything that is seen is compared with what paper says of it; what beats a bound is shrunk to a small model file.
"""

import argparse
import json
import queue
import random
import subprocess
import sys
import threading
import time
import traceback
from collections import Counter
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

from attack import NS, attack, copied, relaxed, shrunk, toml
from playing import figures
from second_judge import Story, misses, rows_of
from tachys.compiled import checked
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.needs.kinds import LoadNeed, LossNeed
from tachys.needs.takers import share_of
from tachys.needs.verdicts import Verdict
from tachys.simulation.engine import play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import counted, levels, losses
from tachys.spreading import Workers, spread
from tachys.worstcase.analysis import bounds
from tachys.worstcase.load import surplus

LONGEST = 5.0  # seconds that a model may take


@dataclass
class Tally:
    """What was looked at, and what was found wrong: (kind, seed, in words)."""

    models: int = 0
    refused: Counter = field(default_factory=Counter)
    compared: int = 0
    slowest: float = 0.0
    found: list = field(default_factory=list)

    def add(self, told):
        self.models += 1
        self.compared += told["compared"]
        self.slowest = max(self.slowest, told["took"])
        self.found += [(kind, told["seed"], what) for kind, what in told["found"]]
        if told["refused"]:
            self.refused[told["refused"]] += 1


def ways(dice, system):
    """One of many ways to play; sources without an offset may be made to meet."""
    begin = {}
    if dice.random() < 0.3:
        meet = dice.randrange(60) * NS
        for source in system.sources:
            if source.offset is None:
                top = meet if source.period is None else min(meet, int(source.period))
                begin[source.name] = dice.choice([0, top, dice.randrange(top + 1)])
    return RunOptions(
        costs=dice.choice(["most", "most", "least", "drawn", "triangular"]),
        phases=dice.choice(["together", "together", "drawn"]),
        arrivals=dice.choice(["gap", "gap", "mean"]),
        jitter=dice.choice(["none", "drawn", "first-late"]),
        rates=dice.choice(["nominal", "drawn"]),
        seed=dice.randrange(2**31),
        begin=begin,
    )


def length_of(system, dice):
    """How long to play: many times the slowest, and not too long for the fastest."""
    slow = [int(s.period or s.mean or s.gap) + (s.offset or 0) for s in system.sources]
    slow += [int(step.every.nominal) for step in system.steps if step.every]
    fast = min(
        (int(s.period or (s.burst.every // s.burst.count if s.burst else s.gap)) for s in system.sources), default=NS
    )
    return max(300 * NS, min(dice.choice([3, 10]) * max([*slow, 100 * NS]), dice.choice([60, 200]) * fast))


class Case:
    """One model, with everything that is compared of it."""

    def __init__(self, model):
        self.text = model if isinstance(model, str) else toml(model)
        self.system = read_model(self.text, "model.toml")
        self.wrong = []
        self.compared = 0
        begun = time.process_time()
        self.paper = bounds(self.system)
        took = time.process_time() - begun
        self.hold("bounds are slow", f"{took:.1f} s", took < LONGEST)

    def hold(self, kind, what, true):
        """One comparison."""
        self.compared += 1
        if not true:
            self.wrong.append((kind, what))

    def play(self, dice):
        """Play it once and compare."""
        how, end = ways(dice, self.system), length_of(self.system, dice)
        run, records, index = play_whole(self.system, how, end, compiled=True)
        if dice.random() < 0.3:
            self._checked(how, min(end, 3000 * NS))
        story = Story(self.system, index, rows_of(records), end)
        self._figures(run)
        self._losses(run)
        self._events(story)
        self._loads(story)
        seen = simulate(self.system, end, how, bounds=self.paper)
        self._needs(story, seen)
        self._shares(seen, end)
        return seen

    def _checked(self, how, end):
        """Played uncompiled, with every read and write bounded, it comes to the same."""
        made, _, _ = play_whole(self.system, how, end, compiled=True)
        with checked():
            plain, _, _ = play_whole(self.system, how, end)
        self.hold("compiled and checked engines differ", end, bool((made.memory == plain.memory).all()))

    def _figures(self, run):
        seen = counted(run.memory, run.index)
        for name, figure in figures(self.paper).items():
            if seen[name].count:
                self.hold(
                    f"{name.split('.')[0]} {name.split('.')[-1]} below its least",
                    (name, seen[name].least, figure.least),
                    seen[name].least >= figure.least,
                )
                self.hold(f"{name.split('.')[0]} {name.split('.')[-1]} beyond its most", (name, seen[name].most, figure.most),
                          figure.most is None or seen[name].most <= figure.most)  # fmt: skip

    def _losses(self, run):
        lost = losses(run.memory, run.index)
        for kind, table, may in (
            ("isr", self.paper.isrs, "lost"),
            ("unit", self.paper.units, "lost"),
            ("flag", self.paper.flags, "overwritten"),
            ("buffer", self.paper.buffers, "lost"),
        ):
            for name, found in table.items():
                self.hold(f"{kind} never loses and lost", name, getattr(found, may) or not lost[f"{kind}.{name}"])
        deepest = levels(run.memory, run.index)
        for name, found in self.paper.buffers.items():
            self.hold("more in a buffer than its level", (name, deepest[name], found.level),
                      found.level is None or deepest[name] <= found.level)  # fmt: skip

    def _events(self, story):
        reach = self.paper.reach
        for event, times in story.events.items():
            curve = reach.events.curve(event)
            for count in (2, 3, 5, 8):
                if len(times) >= count:
                    least = min(b - a for a, b in zip(times, times[count - 1 :], strict=False))
                    self.hold(f"{event.split('.')[0]} events closer than their curve", (event, count, least, curve.least_span(count)),
                              least >= curve.least_span(count))  # fmt: skip
            apart = [b - a for a, b in pairwise(times)]
            least, most = reach.distances(event)
            if apart:
                self.hold(
                    f"{event.split('.')[0]} events closer than their distance",
                    (event, min(apart), least),
                    min(apart) >= least,
                )
                self.hold(
                    f"{event.split('.')[0]} events further than their distance",
                    (event, max(apart), most.most),
                    most.most is None or max(apart) <= most.most,
                )
        for event in index_events(self.system):
            times = story.events.get(event, [])
            gap = reach.gap(event)
            if gap is not None:
                longest = max(b - a for a, b in zip([0, *times], [*times, story.end], strict=True))
                self.hold(
                    f"{event.split('.')[0]} event stays away longer than its gap", (event, longest, gap), longest <= gap
                )

    def _loads(self, story):
        for window in self.paper.load.windows:
            if window.length <= story.end:
                seen = story.busiest(window.length)
                self.hold("load beyond the window's most", (window.length, seen, window.most), seen <= window.most)

    def _needs(self, story, seen):
        for name, need in seen.needs.items():
            paper = self.paper.needs[name]
            self.hold(
                f"proved need missed: {type(need.need).__name__}",
                (name, need.first[:1]),
                not (paper.proved and need.misses),
            )
            self.hold(
                f"need both ways: {type(need.need).__name__}",
                name,
                (need.verdict is Verdict.MISSED) == bool(need.misses or paper.proof.cannot_hold),
            )
            if paper.proof.cannot_hold and need.need.timed:
                shown = need.seen.count if need.seen else 0
                first = need.need.feeds is not None  # of a watchdog the time to the first feed, which may be short
                self.hold(
                    f"need that cannot hold did: {type(need.need).__name__}", name, shown <= first or need.misses > 0
                )
            if paper.bound is not None and need.value is not None and not isinstance(need.need, LoadNeed):
                self.hold(
                    f"need beyond its bound: {type(need.need).__name__}",
                    (name, need.value, paper.bound),
                    need.value <= paper.bound or isinstance(need.need, LossNeed),
                )
            told = misses(story, need.need)
            if told is not None:
                self.hold(f"judges differ: {type(need.need).__name__}", (name, need.misses, told), need.misses == told)
            if isinstance(need.need, LoadNeed) and need.need.over is not None and need.need.over <= story.end:
                self.hold(
                    "judges differ on the load",
                    (name, need.value, story.busiest(need.need.over, need.need.of)),
                    need.value == story.busiest(need.need.over, need.need.of),
                )

    def _shares(self, seen, end):
        """No routine, step or group takes more than its share, but for what a run holds more as it ends somewhere."""
        overhead = self.system.loop.overhead.most if self.system.loop else 0
        cost = sum(step.cost.most for step in self.system.steps)
        for share in [*self.paper.load.shares, *self.paper.load.groups[:1]]:
            if share.who == "loop.overhead":
                taken, more = seen.shares["loop.overhead"], surplus(self.paper.reach, end, ()) + cost + overhead
            else:
                taken = share_of(seen.shares, (share.who,))
                more = surplus(self.paper.reach, end, (share.who,)) + cost * share.who.startswith("step.")
            self.hold(
                "more taken than its share",
                (share.who, float(taken), float(share.most), more / end),
                taken * end <= share.most * end + more,
            )


def index_events(system):
    """Every event of a system."""
    for kind, things in (
        ("source", system.sources),
        ("unit", system.units),
        ("isr", system.isrs),
        ("step", system.steps),
    ):
        for thing in things:
            yield from (
                [f"source.{thing.name}"] if kind == "source" else [f"{kind}.{thing.name}.{m}" for m in ("start", "end")]
            )


def at_their_bounds(model, paper):
    """The model with its needs set to exactly their own bounds."""
    made = copied(model)
    for name, need in made.get("need", {}).items():
        bound = paper.needs[name].bound
        key = next((key for key in ("within", "jitter") if key in need), None)
        if bound is not None and key and bound > 0:
            need[key] = type(need[key])(bound)
    if made.get("watchdog") and paper.needs["watchdog"].bound:
        made["watchdog"]["timeout"] = type(made["watchdog"]["timeout"])(paper.needs["watchdog"].bound + 1)
    return made


def monotone(case, model, dice):
    """Compare with the same model, in which more is allowed."""
    change = relaxed(model, dice)
    if change is None:
        return
    try:
        wider = bounds(read_model(toml(change[0]), "model.toml"))
    except InputError:
        return
    narrow, wide = figures(case.paper), figures(wider)
    for name, figure in narrow.items():
        case.hold(
            f"allowing more makes a most smaller: {name.split('.')[0]} {name.split('.')[-1]}",
            (change[1], name, figure.most, wide[name].most),
            wide[name].most is None or (figure.most is not None and wide[name].most >= figure.most),
        )
        case.hold(
            f"allowing more makes a least larger: {name.split('.')[0]} {name.split('.')[-1]}",
            (change[1], name, figure.least, wide[name].least),
            wide[name].least <= figure.least,
        )
    case.hold(
        "allowing more makes the load smaller",
        (change[1], case.paper.load.most, wider.load.most),
        wider.load.most >= case.paper.load.most,
    )
    for name, isr in case.paper.isrs.items():
        case.hold("allowing more makes a loss impossible", (change[1], name), wider.isrs[name].lost or not isr.lost)
    for name, need in case.paper.needs.items():
        if "one more" not in change[1]:  # which may make another, shorter way
            case.hold("allowing more proves a need", (change[1], name), need.proved or not wider.needs[name].proved)


def plainer(case):
    """By plain rules no bound is nearer to what can happen."""
    plain = figures(bounds(case.system, plain=True))
    for name, figure in figures(case.paper).items():
        most = plain[name].most
        case.hold(
            "refined above plain",
            (name, figure.most, most),
            most is None or (figure.most is not None and figure.most <= most),
        )
        case.hold(
            "refined least below plain", (name, figure.least, plain[name].least), figure.least >= plain[name].least
        )


def deeper(case, model, dice):
    """A queue that is deep enough does not make anything later by being deeper."""
    deep = [
        name
        for name, unit in model.get("unit", {}).items()
        if unit.get("busy") == "queue" and not case.paper.units[name].lost
    ]
    if not deep:
        return
    made = copied(model)
    unit = made["unit"][dice.choice(deep)]
    unit["depth"] = unit.get("depth", 1) + dice.choice([1, 5, 97])
    wide = figures(bounds(read_model(toml(made), "model.toml")))
    for name, figure in figures(case.paper).items():
        case.hold(
            "a deeper queue makes a bound larger", (name, figure.most, wide[name].most), figure.most == wide[name].most
        )


def look(model, seed, plays=2):
    """Everything that is compared of one model: (wrong, how many comparisons)."""
    dice = random.Random(seed)
    case = Case(model)
    for _ in range(plays):
        case.play(dice)
    if dice.random() < 0.5 and (case.system.needs):
        sharp = Case(at_their_bounds(model, case.paper))
        sharp.play(dice)
        case.wrong += sharp.wrong
        case.compared += sharp.compared
    if dice.random() < 0.5:
        monotone(case, model, dice)
        deeper(case, model, dice)
        plainer(case)
    return case.wrong, case.compared


def one(seed, plays):
    """What one model gives: a plain record, so that a worker that dies takes only its own model with it."""
    told = {"seed": seed, "found": [], "compared": 0, "refused": ""}
    begun = time.process_time()
    model = attack(seed)
    try:
        wrong, told["compared"] = look(model, seed, plays)
        told["found"] = [(kind, str(what)) for kind, what in dict(reversed(wrong)).items()]
    except InputError as error:
        told["refused"] = error.problems[0].wrong.split(":")[0][:60]
    except Exception as error:
        told["found"] = [(f"crash: {type(error).__name__}", traceback.format_exc(limit=-3))]
    told["took"] = time.process_time() - begun
    return told


def work(first, last, plays, step):
    """The records of some models, a line each."""
    for seed in range(first, last, step):
        print(json.dumps(one(seed, plays)), flush=True)


def watched(first, last, plays, step, results):
    """Run :func:`work` in a process of its own; one that dies is begun again behind the model that killed it."""
    while first < last:
        args = [sys.executable, __file__, "--work", str(first), str(last), str(step), "--plays", str(plays)]
        process = subprocess.Popen(args, stdout=subprocess.PIPE, text=True)
        for line in process.stdout:
            told = json.loads(line)
            first = told["seed"] + step
            results.put(told)
        if process.wait() == 0:
            break
        results.put({"seed": first, "found": [("crash: the process died", str(process.returncode))], "compared": 0,
                     "refused": "", "took": 0.0})  # fmt: skip
        first += step
    results.put(None)


def soak_one(plays, seed):
    """What one model gives: a job."""
    return one(seed, int(plays))


def on_cluster(address, seeds, plays, results):
    """Run all of them there; its workers find this folder by PYTHONPATH."""
    import soak  # by its name, as the workers know it

    for told in spread(soak.soak_one, str(plays), seeds, Workers(cluster=address), chunk=5):
        results.put(told)
    results.put(None)


def smallest(kind, seed, plays=2):
    """The smallest model found that is wrong in the same way; one that kills the process stays as it is."""
    if kind == "crash: the process died":
        return attack(seed)

    def fails(model):
        try:
            return any(found == kind for n in range(3) for found, _ in look(model, seed + n, plays)[0])
        except InputError:
            return False
        except Exception as error:
            return kind == f"crash: {type(error).__name__}"

    return shrunk(attack(seed), fails)


def main():
    """Soak, report, shrink."""
    options = argparse.ArgumentParser()
    options.add_argument("--models", type=int, default=2000)
    options.add_argument("--seed", type=int, default=2_000_000)
    options.add_argument("--plays", type=int, default=2)
    options.add_argument("--workers", type=int, default=2)
    options.add_argument("--cluster", default="", help="ADDRESS of a Dask cluster, or local:2")
    options.add_argument("--shrink", type=int, default=5, help="how many of the kinds found are shrunk")
    options.add_argument("--out", type=Path, default=Path("soak-found"))
    options.add_argument("--work", type=int, nargs=3, help=argparse.SUPPRESS)
    asked = options.parse_args()
    if asked.work:
        work(asked.work[0], asked.work[1], asked.plays, asked.work[2])
        return 0
    tally, begun, results = Tally(), time.monotonic(), queue.Queue()
    last = asked.seed + asked.models
    begins = [(watched, (asked.seed + k, last, asked.plays, asked.workers, results)) for k in range(asked.workers)]
    if asked.cluster:
        begins = [(on_cluster, (asked.cluster, range(asked.seed, last), asked.plays, results))]
    for target, args in begins:
        threading.Thread(target=target, args=args, daemon=True).start()
    working = len(begins)
    while working:
        told = results.get()
        if told is None:
            working -= 1
            continue
        tally.add(told)
        for kind, what in told["found"]:
            print(f"seed {told['seed']}: {kind}: {what[:150]}", flush=True)
        if tally.models % 2000 == 0:
            print(
                f"{tally.models} models, {len(tally.found)} found wrong, {time.monotonic() - begun:.0f} s", flush=True
            )
    kinds = Counter(kind for kind, _, _ in tally.found)
    print(
        f"{tally.models} models, {sum(tally.refused.values())} of them refused; {tally.compared} comparisons; "
        f"slowest {tally.slowest:.1f} s; {time.monotonic() - begun:.0f} s in all"
    )
    for why, count in tally.refused.most_common(8):
        print(f"  refused: {count:6} {why}")
    for kind, count in kinds.most_common():
        first = next(each for each in sorted(tally.found, key=lambda each: each[1]) if each[0] == kind)
        print(f"  {count:6} {kind}; seed {first[1]}: {first[2]}")
    print("no bound beaten, nothing crashed" if not kinds else f"{len(kinds)} kinds of faults")
    for kind, _ in kinds.most_common(asked.shrink):
        seed = min(seed for found, seed, _ in tally.found if found == kind)
        asked.out.mkdir(exist_ok=True)
        path = asked.out / ("".join(c if c.isalnum() else "_" for c in kind) + f"_{seed}.toml")
        path.write_text(f"# {kind}\n" + toml(smallest(kind, seed, asked.plays)))
        print(f"  {path}")
    return 1 if kinds else 0


if __name__ == "__main__":
    sys.exit(main())
