"""Sources: the four ways in which events come, each judged and turned into periods and gaps."""

from __future__ import annotations

from fractions import Fraction

from tachys.dividers.counter import Counter, Prescalers, Setting, deviation_ppm
from tachys.dividers.search import best_settings, shortfall
from tachys.dividers.serial import serial_settings
from tachys.model.clocks import ClockTree
from tachys.model.nodes import Burst, Serial, Source, Timer
from tachys.model.quantities import LONGEST_PS, PS_PER_SECOND, floor_ps, time_in_words
from tachys.model.report import Path, Reporter
from tachys.model.schema import BurstTable, SerialTable, SourceTable, TimerTable

WAYS = ("every", "gap", "timer", "serial", "burst")
USUAL_GIVE_OR_TAKE = Fraction(1, 1000)
GOES_WITH = {
    "jitter": ("every", "timer"),
    "offset": ("every", "timer"),
    "tolerance": ("every", "serial"),
    "mean": ("gap", "serial", "burst"),
    "wanted": ("timer",),
    "give_or_take": ("timer",),
}


def make_source(name: str, table: SourceTable, clocks: ClockTree, report: Reporter) -> Source:
    """The source of one table."""
    path = ("source", name)
    ways = [way for way in WAYS if getattr(table, way) is not None]
    if len(ways) != 1:
        report.complain(
            path, "a source comes in one way: regularly, at random, in bursts, from a timer or a serial line",
            'write one of every = "250 us", gap = "180 us", burst = { … }, timer = { … }, serial = { … }',
        )  # fmt: skip
        return Source(name)
    for key, allowed in GOES_WITH.items():
        if getattr(table, key) is not None and ways[0] not in allowed:
            report.complain((*path, key), f"goes with {' or '.join(allowed)}, not with {ways[0]}", "remove it")
    if table.gap is not None:
        gap = clocks.distance(table.gap, (*path, "gap"))
        return _sporadic(name, table, gap, clocks, report)
    if table.serial is not None:
        return _serial(name, table, table.serial, clocks, report)
    if table.timer is not None:
        return _from_timer(name, table, table.timer, clocks, report)
    if table.burst is not None:
        return _burst(name, table, table.burst, clocks, report)
    assert table.every is not None
    least, nominal, most = clocks.exact(table.every, (*path, "every"))
    off = table.tolerance or Fraction(0)
    return _periodic(name, table, (least / (1 + off), nominal, most / (1 - off)), None, clocks, report)


def _burst(name: str, table: SourceTable, burst: BurstTable, clocks: ClockTree, report: Reporter) -> Source:
    path = ("source", name)
    spaced = clocks.distance(burst.spaced, (*path, "burst", "spaced"))
    every = clocks.distance(burst.every, (*path, "burst", "every"))
    if (burst.count - 1) * spaced >= every:
        report.complain(
            (*path, "burst"), "a burst lasts until the next one begins", "(count - 1) · spaced must be less than every"
        )
    within = None if burst.within is None else clocks.distance(burst.within, (*path, "burst", "within"))
    if within is not None and not (burst.count - 1) * spaced <= within < every // 2:
        report.complain(
            (*path, "burst", "within"), "is how long a burst lasts at most",
            "from (count - 1) · spaced on, and less than half of every: else bursts do not look apart",
        )  # fmt: skip
    source = _sporadic(name, table, spaced, clocks, report)
    mean = source.mean if table.mean else every * 3 // 2 // burst.count
    _judge_mean(path, mean * burst.count, report)
    return Source(name, gap=spaced, mean=mean, burst=Burst(burst.count, spaced, every, within))


def _judge_mean(path: Path, together: int, report: Reporter) -> None:
    """What comes together on average must be countable."""
    if together > LONGEST_PS:
        report.complain(
            (*path, "mean"), "so many events at this distance take longer than Tachys can count",
            f"count times mean is at most {LONGEST_PS // PS_PER_SECOND} s",
        )  # fmt: skip


def _sporadic(name: str, table: SourceTable, gap: int, clocks: ClockTree, report: Reporter) -> Source:
    path = ("source", name)
    mean = clocks.distance(table.mean, (*path, "mean")) if table.mean else gap * 3 // 2
    if mean < gap:
        report.complain((*path, "mean"), "is shorter than the gap", "the mean distance is at least the gap")
    return Source(name, gap=gap, mean=mean)


def _periodic(
    name: str,
    table: SourceTable,
    period: tuple[Fraction, Fraction, Fraction],
    timer: Timer | None,
    clocks: ClockTree,
    report: Reporter,
) -> Source:
    path = ("source", name)
    if 0 < period[0] < 1:
        report.complain(path, "its period is shorter than 1 ps", "write a real period")
    if period[2] > LONGEST_PS:
        report.complain(
            path, f"its period of {float(period[1] / PS_PER_SECOND):.3g} s is longer than Tachys can count",
            f"at most {LONGEST_PS // PS_PER_SECOND} s",
        )  # fmt: skip
    offset = None if table.offset is None else floor_ps(clocks.exact(table.offset, (*path, "offset"))[1])
    jitter = clocks.cost(table.jitter, (*path, "jitter")).most
    return Source(name, period[1], period[0], period[2], jitter, offset, timer=timer)


def _serial(name: str, table: SourceTable, line: SerialTable, clocks: ClockTree, report: Reporter) -> Source:
    path = ("source", name, "serial")
    fastest = line.baud * (1 + (table.tolerance or Fraction(0)))
    source = _sporadic(name, table, floor_ps(line.bits * PS_PER_SECOND / fastest), clocks, report)
    clock = setting = None
    if line.clock is not None:
        clock = clocks.named(line.clock, (*path, "clock"))
        setting = serial_settings(
            clock.hertz, line.baud, oversamplings=(line.oversampling,), fraction_bits=line.fraction_bits
        )[0]
        if abs(setting.deviation) > 30_000:
            report.note(
                path, "rate-off", f"clock {clock.name} makes {float(setting.baud):.0f} Bd, "
                f"{float(setting.deviation) / 10_000:+.1f} % off",
                "another clock, less oversampling or a fractional divisor comes nearer",
            )  # fmt: skip
    _judge_mean(path, source.mean * line.frame, report)
    made = Serial(line.baud, line.bits, line.frame, clock, setting)
    return Source(name, gap=source.gap, mean=source.mean, serial=made)


def _from_timer(name: str, table: SourceTable, timer: TimerTable, clocks: ClockTree, report: Reporter) -> Source:
    path = ("source", name)
    clock = clocks.named(timer.clock, (*path, "timer", "clock"))
    wanted = None if table.wanted is None else clocks.exact(table.wanted, (*path, "wanted"))[1]
    counter, fixed = _counter(path, timer, report)
    count = _count(path, timer, report)
    if count is not None:
        setting = Setting(fixed or 1, count, timer.postscale)
    elif wanted is None:
        report.complain(
            (*path, "timer"), "neither a count nor a wanted period is given",
            'write count, reload_register or preload; or wanted = "1 ms" beside timer',
        )  # fmt: skip
        setting = Setting(1, 1)
    else:
        setting = best_settings(clock.hertz, wanted / PS_PER_SECOND, counter, most=1)[0].setting
    if setting.count > counter.most_counts:
        longest = float(counter.longest(clock.hertz) * 10**3)
        report.complain(
            (*path, "timer"), f"a count of {setting.count} does not fit {timer.width} bits",
            f"at most {counter.most_counts}; the longest period in reach is {longest:g} ms",
        )  # fmt: skip
    made = Timer(clock, counter, setting, wanted, chosen=count is None)
    period = setting.period(clock.hertz) * PS_PER_SECOND
    _judge(path, table, made, period, report)
    band = (period / (1 + clock.tolerance), period, period / (1 - clock.tolerance))
    return _periodic(name, table, band, made, clocks, report)


def _counter(path: Path, timer: TimerTable, report: Reporter) -> tuple[Counter, int | None]:
    """(what the timer could be set to, the prescale that is written, if one is)."""
    fixed = timer.prescale
    if timer.prescale_register is not None:
        if fixed is not None:
            report.complain((*path, "timer"), "prescale and prescale_register are both given", "remove one of them")
        fixed = timer.prescale_register + 1
    choices = tuple(sorted(set(timer.prescales))) if timer.prescales else None
    if fixed is not None and choices is not None and fixed not in choices:
        shown = ", ".join(map(str, choices))
        report.complain((*path, "timer"), f"a prescale of {fixed} is not among prescales", f"one of {shown}")
    return Counter(timer.width, Prescalers(choices=(fixed,) if fixed else choices), (timer.postscale,)), fixed


def _count(path: Path, timer: TimerTable, report: Reporter) -> int | None:
    given = [key for key in ("count", "reload_register", "preload") if getattr(timer, key) is not None]
    if len(given) > 1:
        report.complain((*path, "timer"), f"{' and '.join(given)} are both given", "one of them says it all")
    if timer.count is not None:
        return timer.count
    if timer.reload_register is not None:
        return timer.reload_register + 1
    if timer.preload is None:
        return None
    if timer.preload >= 1 << timer.width:
        report.complain(
            (*path, "timer"), f"a preload of {timer.preload} does not fit {timer.width} bits",
            f"at most {(1 << timer.width) - 1}",
        )  # fmt: skip
        return 1
    return (1 << timer.width) - timer.preload


def _judge(path: Path, table: SourceTable, timer: Timer, period: Fraction, report: Reporter) -> None:
    """Warn where the real period misses the wanted one by more than its give_or_take."""
    if timer.wanted is None:
        return
    allowed = USUAL_GIVE_OR_TAKE if table.give_or_take is None else table.give_or_take
    off = deviation_ppm(period, timer.wanted)
    if abs(off) <= allowed * 10**6:
        return
    needed = shortfall(timer.clock.hertz, timer.wanted / PS_PER_SECOND, timer.counter)
    mend = f"tachys dividers finds better ones; a counter of {needed.width} bits would do" if needed else ""
    report.note(
        (*path, "wanted"), "period-misses-wanted",
        f"the timer makes {time_in_words(round(period))}, {float(off):+.1f} ppm off what is wanted",
        mend or "tachys dividers finds better settings; give_or_take says how much is good enough",
    )  # fmt: skip
