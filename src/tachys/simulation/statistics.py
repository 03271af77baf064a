"""Statistics of a run: from the counters and histograms in the engine's memory to figures by name."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

import numpy as np
from msgspec import Struct

from tachys.frames import Seconds, in_seconds
from tachys.simulation import layout as at
from tachys.simulation.index import Index
from tachys.simulation.watching import settle

_SHARES = {"median": 0.5, "p95": 0.95, "p99": 0.99, "p999": 0.999}


class Stats(Struct, frozen=True):
    """Times in ps. ``least``, ``mean`` and ``most`` are exact; percentiles are of the nearest rank, rounded up to the
    end of a bucket (at most 1.6 % of the value wide; 6.3 % where there are more than a hundred routines)."""

    count: int
    least: int
    mean: Fraction
    median: int
    p95: int
    p99: int
    p999: int
    most: int

    @property
    def seconds(self) -> Seconds:
        """Least, most, mean and median in seconds."""
        return in_seconds(self.least, self.most, float(self.mean), self.median)


class Counted(Struct):
    """One quantity while it is still being counted; runs can be added up."""

    count: int
    total: int
    least: int
    most: int
    buckets: at.Ints
    bits: int

    def add(self, other: Counted) -> None:
        """Take in what another run has counted."""
        self.count += other.count
        self.total += other.total
        self.least, self.most = min(self.least, other.least), max(self.most, other.most)
        self.buckets = self.buckets + other.buckets

    def stats(self) -> Stats | None:
        """The figures; None where nothing was counted."""
        if not self.count:
            return None
        places = np.cumsum(self.buckets)
        ranks = {}
        for name, share in _SHARES.items():
            rank = max(1, int(np.ceil(share * self.count)))
            bucket = int(np.searchsorted(places, rank))
            ranks[name] = min(self.most, max(self.least, bucket_end(bucket, self.bits)))
        return Stats(self.count, self.least, Fraction(self.total, self.count), most=self.most, **ranks)


def nothing_counted(bits: int) -> Counted:
    """As counting begins, in buckets of so many bits."""
    return Counted(0, 0, at.NEVER, -1, np.zeros((at.OCTAVES + 2) << bits, np.int64), bits)


def bucket_of(values: at.Ints, bits: int) -> at.Ints:
    """The bucket of the histogram that each time in ps falls into, as the engine counts it."""
    rest = values >> (bits + 1)
    octaves = np.frexp(rest.astype(np.float64))[1].astype(np.int64)
    octaves -= rest < (1 << octaves) >> 1  # what has more digits than a float was rounded up
    found: at.Ints = (octaves << bits) + (values >> octaves)
    return found


def bucket_end(bucket: int, bits: int) -> int:
    """The largest time in ps that falls into a bucket of the histogram."""
    octave = max(0, (bucket >> bits) - 1)
    return ((bucket - (octave << bits) + 1) << octave) - 1


def counted(memory: at.Ints, index: Index) -> dict[str, Counted]:
    """Every quantity of a run, by name: "isr.tick.latency", "step.log.late", "flag.ready", "pass", …"""
    names = index.statistics()
    size, bits = int(memory[at.STAT_SIZE]), int(memory[at.BITS])
    table = memory[memory[at.STATS] :].reshape(len(names), size)
    return {
        name: Counted(
            int(row[at.T_COUNT]), (int(row[at.T_HIGH]) << 40) + int(row[at.T_LOW]), int(row[at.T_LEAST]),
            int(row[at.T_MOST]), row[at.T_BUCKETS :], bits,
        )
        for name, row in zip(names, table, strict=True)
    }  # fmt: skip


class PinPlayed(Struct):
    """How many edges a pin had, and for how long (ps) it was high."""

    edges: int
    high: int

    def add(self, other: PinPlayed) -> None:
        """Take in another run."""
        self.edges += other.edges
        self.high += other.high


class CounterPlayed(Struct):
    """Of a counter how many ``looks`` there were, how many saw its ``tops``, and how many rounds they ``missed``.

    ``least`` and ``most``: counts from look to look, from the first count on; ``most`` -1: there were no two.
    """

    looks: int
    least: int
    most: int
    tops: int
    missed: int

    def add(self, other: CounterPlayed) -> None:
        """Take in another run."""
        self.least, self.most = min(self.least, other.least), max(self.most, other.most)
        for key in ("looks", "tops", "missed"):
            setattr(self, key, getattr(self, key) + getattr(other, key))


def losses(memory: at.Ints, index: Index) -> dict[str, int]:
    """How much was lost: by "isr.NAME", "unit.NAME", "buffer.NAME", "flag.NAME", and by input "isr.NAME(EVENT)"."""
    found = {f"isr.{name}": 0 for name in index.isrs}
    for number, (isr, event) in enumerate(index.rows):
        lost = int(memory[memory[at.ROWS] + number * at.ROW_SIZE + at.R_LOST])
        found[f"isr.{isr}"] += lost
        found[f"isr.{isr}({event})"] = lost
    for number, unit in enumerate(index.units):
        found[f"unit.{unit}"] = int(memory[memory[at.UNITS] + number * at.UNIT_SIZE + at.U_LOST])
    for number, buffer in enumerate(index.buffers):
        found[f"buffer.{buffer}"] = int(memory[memory[at.BUFFERS] + number * at.BUFFER_SIZE + at.Q_LOST])
    for number, flag in enumerate(index.flags):
        found[f"flag.{flag}"] = int(memory[memory[at.FLAGS] + number * at.FLAG_SIZE + at.F_OVER])
    return found


def silent(memory: at.Ints, index: Index) -> dict[str, int]:
    """How many operations of each unit never ended."""
    return {
        name: int(memory[memory[at.UNITS] + number * at.UNIT_SIZE + at.U_GONE])
        for number, name in enumerate(index.units)
    }


def cleared(memory: at.Ints, index: Index) -> dict[str, int]:
    """How many events of each routine it has cleared itself, as it ended."""
    found = dict.fromkeys(index.isrs, 0)
    for number, (isr, _) in enumerate(index.rows):
        found[isr] += int(memory[memory[at.ROWS] + number * at.ROW_SIZE + at.R_CLEARED])
    return found


def pins(memory: at.Ints, index: Index, end: int) -> dict[str, PinPlayed]:
    """What each pin did up to ``end``, in ps."""
    found = {}
    for number, name in enumerate(index.pins):
        pin = int(memory[at.PINS]) + number * at.PIN_SIZE
        level, since, until, high, edges = (
            int(memory[pin + field]) for field in (at.O_LEVEL, at.O_SINCE, at.O_UNTIL, at.O_HIGH, at.O_EDGES)
        )
        if until >= 0:  # away from its rest, which a pulse never leaves for good
            away, edges = high - max(0, until - end), edges - (until > end)
            found[name] = PinPlayed(edges, end - away if level else away)
        else:
            found[name] = PinPlayed(edges, high + (end - since if level else 0))
    return found


def counters(memory: at.Ints, index: Index) -> dict[str, CounterPlayed]:
    """What was counted between looks at each counter."""
    found = {}
    for number, name in enumerate(index.counters):
        counter = int(memory[at.COUNTERS]) + number * at.COUNTER_SIZE
        settle.plain(memory, counter, at.NEVER)
        looks, least, most, tops, missed = memory[counter + at.C_LOOKS : counter + at.C_MISSED + 1].tolist()
        found[name] = CounterPlayed(looks, least, most, tops, missed)
    return found


def levels(memory: at.Ints, index: Index) -> dict[str, int]:
    """The most items that were in each buffer at once."""
    first = int(memory[at.BUFFERS])
    return {
        name: int(memory[first + number * at.BUFFER_SIZE + at.Q_DEEPEST]) for number, name in enumerate(index.buffers)
    }


def taken(memory: at.Ints, index: Index, end: int) -> dict[str, int]:
    """What was taken of the core up to ``end``, in ps, by who; the bodies that still ran at the end up to there.

    "isr.NAME" and "step.NAME" are bodies, "isr.NAME.overhead" its entries, exits and chains: of one behind it what is
    longer than an entry, of one before it the rest. "loop.overhead" is that of passes in which a step ran; "asleep" and
    "wake" stand apart, and "spun" is what is left.
    """
    found: dict[str, int] = {}
    woken = aslept = 0
    for number, name in enumerate(index.isrs):
        line = int(memory[at.LINES]) + number * at.LINE_SIZE
        woken += int(memory[line + at.L_WOKE])
        found[f"isr.{name}"] = int(memory[line + at.L_BODY])
        found[f"isr.{name}.overhead"] = int(memory[line + at.L_OVER])
    for number, name in enumerate(index.steps):
        step = int(memory[at.STEPS]) + number * at.STEP_SIZE
        aslept += int(memory[step + at.P_ASLEPT])
        found[f"step.{name}"] = int(memory[step + at.P_BODY])
    for number, name in enumerate(index.units):
        unit = int(memory[at.UNITS]) + number * at.UNIT_SIZE
        if memory[unit + at.U_STEALS_MOST]:
            found[f"unit.{name}"] = int(memory[unit + at.U_STOLEN])
    found["loop.overhead"] = int(memory[at.LOOP_LOAD])
    found["asleep"], found["wake"] = aslept, woken
    _at_the_end(memory, index, end, found)
    found["spun"] = max(0, end - sum(found.values()))
    return found


def spent(memory: at.Ints, index: Index, depths: Mapping[str, tuple[str, ...]], end: int) -> dict[tuple[str, str], int]:
    """What the core was in up to ``end``, in ps, by (state, who caused it); how long units worked and pins were high.

    States are "run", "spin", "wake", "sleep" or "sleep.DEPTH", of the step by ``depths`` (where it can be plain too,
    that is the second); of a unit its own name, while its clock goes on. An
    entry counts for the routine entered, an exit for the one left, waking for the one that ended the sleep.
    """
    known = taken(memory, index, end)
    bodies = [*(f"isr.{name}" for name in index.isrs), *(f"step.{name}" for name in index.steps)]
    found = {("run", name): known[name] + known.get(f"{name}.overhead", 0) for name in bodies}
    found["run", "loop"] = known["loop.overhead"]
    stealing = [f"unit.{name}" for name in index.units if f"unit.{name}" in known]
    found |= {("run", name): known[name] for name in stealing}
    for number, name in enumerate(index.isrs):
        found["wake", f"isr.{name}"] = int(memory[memory[at.LINES] + number * at.LINE_SIZE + at.L_WOKE])
    beyond = sum(woken for (state, _), woken in found.items() if state == "wake") - known["wake"]
    if beyond:  # it wakes as the time ends
        found["wake", f"isr.{index.isrs[int(memory[at.WOKEN_BY])]}"] -= beyond
    spun = 0
    for number, name in enumerate(index.steps):
        step = int(memory[at.STEPS]) + number * at.STEP_SIZE
        spun += int(memory[step + at.P_SPUN])
        found["spin", f"step.{name}"] = int(memory[step + at.P_SPUN])
        shallow, aslept = int(memory[step + at.P_SHALLOW]), int(memory[step + at.P_ASLEPT])
        slept = dict(zip(depths.get(name, ("sleep",)), (aslept - shallow, shallow), strict=False))
        if memory[at.MODE] == at.HALT and int(memory[at.AT_STEP]) == number:
            slept[depths[name][int(memory[at.SHALLOW])]] += end - int(memory[at.HALTED])
        for deep, time in slept.items():
            found[deep, "sleep"] = found.get((deep, "sleep"), 0) + time
    found["spin", "loop"] = known["spun"] - spun
    for number, name in enumerate(index.units):
        unit = int(memory[at.UNITS]) + number * at.UNIT_SIZE
        comes, until = int(memory[memory[at.NEXT] + number]), end
        if comes == at.STILL:
            until = max(int(memory[at.HALTED]), int(memory[unit + at.U_SINCE]))
        found[f"unit.{name}", f"unit.{name}"] = int(memory[unit + at.U_WORKED]) + (
            until - int(memory[unit + at.U_SINCE]) if comes != at.NEVER else 0
        )
    return found | {(f"pin.{name}", f"pin.{name}"): pin.high for name, pin in pins(memory, index, end).items()}


def _at_the_end(memory: at.Ints, index: Index, end: int, found: dict[str, int]) -> None:
    """Add the parts of bodies, and take off the parts of entries, exits and wakings, that lie on the end."""
    mode, now, until = int(memory[at.MODE]), int(memory[at.NOW]), int(memory[at.UNTIL])
    frames, size = int(memory[at.FRAMES]), int(memory[at.FRAME_SIZE])
    depth = int(memory[at.DEPTH])
    running = max(0, end - now) if mode == at.RUN else 0
    top = frames + depth * size
    stood = min(running, int(memory[top + at.B_STANDS]))
    left = sum(int(memory[frames + level * size + at.B_STANDS]) for level in range(depth + 1)) - stood
    running -= stood
    for name in index.units:  # for which of them it would still stand, nobody tells
        if left and f"unit.{name}" in found:
            off = min(left, found[f"unit.{name}"])
            found[f"unit.{name}"] -= off
            left -= off
    for level in range(1, depth + 1):
        frame = frames + level * size
        done = int(memory[frame + at.B_DONE]) + (running if level == depth else 0)
        found[f"isr.{index.isrs[int(memory[frame + at.B_LINE])]}"] += done
    if memory[at.PASS_RAN]:  # the pass is not over, but its overhead is
        found["loop.overhead"] += int(memory[at.PASS_COST])
    phase = int(memory[at.PHASE])
    done = int(memory[frames + at.B_DONE]) + (running if depth == 0 else 0)
    if phase == at.WORKS:
        found[f"step.{index.steps[int(memory[at.AT_STEP])]}"] += done
    if mode == at.HALT:
        found["asleep"] += end - int(memory[at.HALTED])
    beyond = max(0, until - end)
    if mode == at.WAKE:
        found["wake"] -= beyond
    elif mode in (at.ENTRY, at.EXIT):
        found[f"isr.{index.isrs[int(memory[at.PAYING])]}.overhead"] -= beyond
