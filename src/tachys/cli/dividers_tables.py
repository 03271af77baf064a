"""What ``tachys dividers`` prints."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import click
from msgspec import Struct

from tachys.dividers.counter import Counter, Setting, deviation_ppm, tolerance_band
from tachys.dividers.export import slips_of
from tachys.dividers.search import best_settings, shortfall
from tachys.dividers.serial import HALF, frame_drift, serial_settings
from tachys.needs.verdicts import Verdict
from tachys.words import count_text, exact_share, rate_text, seconds_text

Row = list[str | Verdict]
_RIGHT = "right"
_SLIPS = "reg + 1, reg - 1: the deviation with one too many or one too few in the reload register"

if TYPE_CHECKING:
    from tachys.model.nodes import Serial
    from tachys.model.system import System


class Request(Struct, frozen=True):
    """A question about one timer. ``wanted`` in seconds; ``as_rate``: it was asked as a rate."""

    hertz: Fraction
    tolerance: Fraction
    counter: Counter
    wanted: Fraction | None
    as_rate: bool
    shape: str

    def data(self, **more: Any) -> dict[str, Any]:
        """The head of the JSON answer."""
        wanted = None if self.wanted is None else float(self.wanted)
        return {"format": "tachys.dividers/1", "clock": float(self.hertz), "wanted": wanted, **more}


def ppm_text(ppm: Fraction) -> str:
    """A deviation with its sign; 0 is exact, and what only looks like 0 is not shown as 0."""
    if ppm == 0:
        return "exact"
    if abs(ppm) >= 10_000:
        return f"{float(ppm / 10_000):+.2f} %"
    text = f"{float(ppm):+.1f}" if abs(ppm) >= Fraction(1, 20) else f"{float(ppm):+.1e}"
    return f"{text} ppm"


def _emit(request: Request, data: dict[str, Any], rows: list[dict[str, Any]]) -> bool:
    """Print as data if that was asked for."""
    from tachys.cli.output import print_csv, print_json

    if request.shape == "json":
        print_json(data)
    elif request.shape == "csv":
        flat = [{key: value for key, value in row.items() if not isinstance(value, dict)} for row in rows]
        print_csv(list(flat[0]) if flat else [], [list(row.values()) for row in flat])
    return request.shape != "table"


def show_found(request: Request, prefer: str, most: int, at_least: bool) -> int:
    """The best settings for a wanted period; status 1 where it is out of reach."""
    from tachys.cli.output import heading, say, table
    from tachys.dividers.export import setting_data

    hertz, counter, wanted = request.hertz, request.counter, request.wanted
    assert wanted is not None
    if wanted * hertz < 1:
        raise click.UsageError(
            f"{seconds_text(wanted)} is shorter than one tick of the clock, {seconds_text(1 / hertz)}"
        )
    aim = wanted * (1 + request.tolerance) if at_least else wanted
    found = best_settings(hertz, aim, counter, most=most * (50 if at_least else 1), prefer=prefer)  # type: ignore[arg-type]
    if at_least:
        found = [each for each in found if each.period >= aim][:most]
    missing = shortfall(hertz, aim, counter)
    settings = [setting_data(hertz, each.setting, counter, request.tolerance, wanted) for each in found]
    reach = {"shortest": float(counter.shortest(hertz)), "longest": float(counter.longest(hertz))}
    if _emit(request, request.data(settings=settings, reach=reach), settings):
        return int(missing is not None or not found)
    ticks = hertz * wanted
    heading(f"{rate_text(hertz)} to {_asked(request)}: {_ticks_text(ticks)}")
    rows = [_row(request, each.setting, wanted) for each in found if not missing]
    if rows:
        table(_columns(request), rows)
    if rows:
        say(_SLIPS, *_band(request, found[0].period))
    say(f"In reach: {seconds_text(counter.shortest(hertz))} to {seconds_text(counter.longest(hertz))}")
    if missing is not None:
        _say_shortfall(request, counter, missing.width, missing.prescale, missing.postscale, missing.software_count)
    elif not rows:
        say("No setting is that long even with the clock at its fastest: ask for a wider counter or prescaler.")
    return int(missing is not None or not rows)


def _band(request: Request, period: Fraction) -> list[str]:
    """How long the first period of a table is over the tolerance of the clock."""
    if not request.tolerance:
        return []
    shortest, longest = (seconds_text(each) for each in tolerance_band(period, request.tolerance))
    return [f"With the tolerance of the clock the first of them is {shortest} to {longest}, the others as far off."]


def _asked(request: Request) -> str:
    assert request.wanted is not None
    return rate_text(1 / request.wanted) if request.as_rate else seconds_text(request.wanted)


def _ticks_text(ticks: Fraction) -> str:
    if ticks.denominator == 1:
        return count_text(ticks.numerator, "tick")
    return f"{float(ticks):.6g} ticks, which is no whole number"


def _say_shortfall(request: Request, counter: Counter, width: int, prescale: int, post: int, software: int) -> None:
    from tachys.cli.output import say

    longest = counter.longest(request.hertz)
    say(
        f"{_asked(request)} is out of reach; the nearest is the longest, {seconds_text(longest)}. What would do:",
        f"  a counter of {width} bits instead of {counter.width}",
        f"  or a prescaler of at least {prescale} instead of {counter.prescalers.largest}",
        f"  or a postscaler of at least {post}",
        f"  or {software} periods counted in software",
    )


def _columns(request: Request) -> list[tuple[str, str]]:
    names = ["prescale", "count"]
    if max(request.counter.postscalers) > 1:
        names.append("postscale")
    if request.counter.prescalers.choices is None:
        names.append("presc reg")
    names += ["reload reg", "preload", "rate" if request.as_rate else "period"]
    if request.wanted is not None:
        names.append("deviation")
    names += ["reg + 1", "reg - 1"]
    return [(name, _RIGHT) for name in names]


def _row(request: Request, setting: Setting, wanted: Fraction | None) -> Row:
    counter, period = request.counter, setting.period(request.hertz)
    row: Row = [str(setting.prescale), str(setting.count)]
    if max(counter.postscalers) > 1:
        row.append(str(setting.postscale))
    register = counter.prescalers.register(setting.prescale)
    row += [*([] if register is None else [str(register)]), str(setting.reload_register)]
    row += [str(setting.preload(counter.width)), rate_text(1 / period) if request.as_rate else seconds_text(period)]
    if wanted is not None:
        row.append(_off(request, period, wanted))
    slips = dict(slips_of(setting))
    for name in ("one more", "one less"):
        row.append(_off(request, slips[name].period(request.hertz), wanted or period) if name in slips else "-")
    return row


def _off(request: Request, period: Fraction, wanted: Fraction) -> str:
    return ppm_text(deviation_ppm(wanted, period) if request.as_rate else deviation_ppm(period, wanted))


def show_yield(request: Request, count: int) -> int:
    """What a given setting yields."""
    from tachys.cli.output import heading, say, table
    from tachys.dividers.export import setting_data

    counter, hertz = request.counter, request.hertz
    settings = [Setting(pre, count, post) for pre in counter.prescalers for post in counter.postscalers][:64]
    data = [setting_data(hertz, setting, counter, request.tolerance, request.wanted) for setting in settings]
    if _emit(request, request.data(settings=data), data):
        return 0
    heading(f"{rate_text(hertz)}, counter of {counter.width} bits")
    table(_columns(request), [_row(request, setting, request.wanted) for setting in settings])
    say(_SLIPS, *_band(request, settings[0].period(hertz)))
    for setting in settings[:1]:
        period = setting.period(hertz)
        delay = Fraction(setting.prescale * counter.most_counts) / hertz
        say(
            f"rate {rate_text(1 / period)}; an output toggled by it: {rate_text(1 / period / 2)}",
            f"one count takes {seconds_text(setting.prescale / hertz)}; "
            f"the largest delay before the counter overflows: {seconds_text(delay)}",
        )
    return 0


def show_cycles(request: Request, cycles: int) -> int:
    """How long some cycles take."""
    from tachys.cli.output import say

    time = cycles / request.hertz
    shortest, longest = tolerance_band(time, request.tolerance)
    data = {"cycles": cycles, "time": float(time), "shortest": float(shortest), "longest": float(longest)}
    if _emit(request, request.data(**data), [data]):
        return 0
    band = f", {seconds_text(shortest)} to {seconds_text(longest)} over its tolerance" if request.tolerance else ""
    say(f"{count_text(cycles, 'cycle')} of {rate_text(request.hertz)}: {seconds_text(time)}{band}")
    return 0


def show_serial(
    request: Request, baud: Fraction, oversamplings: tuple[int, ...], fraction_bits: int, bits: int, partner: Fraction
) -> int:
    """Divisors for a serial rate, and whether a frame survives them; status 1 where none does."""
    from tachys.cli.output import heading, say, table
    from tachys.dividers.export import serial_data

    if baud > request.hertz:
        raise click.UsageError(f"{float(baud):g} Bd is more than one bit a tick of {rate_text(request.hertz)}")
    settings = serial_settings(
        request.hertz, baud, oversamplings=oversamplings, width=request.counter.width, fraction_bits=fraction_bits
    )
    drifts = [frame_drift(setting, bits, partner, request.tolerance) for setting in settings]
    fits = any(drift < HALF for drift in drifts)
    data = [serial_data(setting, bits, partner, request.tolerance) for setting in settings]
    if _emit(request, request.data(baud=float(baud), settings=data), data):
        return int(not fits)
    heading(f"{rate_text(request.hertz)} to {float(baud):g} Bd, {count_text(bits, 'bit')} a frame")
    rows: list[Row] = []
    for setting, drift in zip(settings, drifts, strict=True):
        rows.append(
            [str(setting.oversampling), f"{Decimal(setting.divisor.numerator) / setting.divisor.denominator:f}",
             str(setting.whole), str(setting.fraction) if fraction_bits else "-", f"{float(setting.baud):.1f} Bd",
             ppm_text(setting.deviation), exact_share(drift), "read" if drift < HALF else "may be misread"]
        )  # fmt: skip
    names = ("samples a bit", "divisor", "whole", "fraction", "real rate", "deviation", "drift at last bit")
    table([*((name, _RIGHT) for name in names), ("a frame is", "")], rows)
    say("Drift: how far off its middle the last bit can be sampled, with both clocks and the start edge; below 50 %.")
    return int(not fits)


def _serial_lines(lines: dict[str, Serial]) -> list[dict[str, Any]]:
    from tachys.dividers.export import serial_data

    return [
        {"source": name, "wanted": float(line.baud), "bits": line.bits}
        | ({} if line.setting is None else serial_data(line.setting, line.bits, Fraction(0), Fraction(0)))
        for name, line in lines.items()
    ]


def show_model(system: System, shape: str) -> int:
    """Clocks, timers and serial lines of a model: wanted, real, deviation, registers, headroom."""
    from tachys.cli.output import heading, say, table, warn
    from tachys.dividers.export import setting_data

    warn(system.remarks)
    timers = {source.name: source.timer for source in system.sources if source.timer}
    lines = {source.name: source.serial for source in system.sources if source.serial}
    request = Request(system.core.clock.hertz, Fraction(0), Counter(16), None, False, shape)
    data = [
        {"source": name, **setting_data(
            timer.clock.hertz, timer.setting, timer.counter, timer.clock.tolerance,
            timer.wanted and timer.wanted / 10**12,
        )}
        for name, timer in timers.items()
    ]  # fmt: skip
    clocks = {
        clock.name: {"hertz": float(clock.hertz), "tolerance": float(clock.tolerance), "from": clock.parent}
        for clock in system.clocks
    }
    if _emit(request, request.data(clocks=clocks, timers=data, serial=_serial_lines(lines)), data):
        return 0
    heading("Clocks")
    rows: list[Row] = [
        [clock.name, rate_text(clock.hertz), f"{float(clock.tolerance * 10**6):g} ppm", clock.parent or "-"]
        for clock in system.clocks
    ]
    table([("clock", ""), ("rate", _RIGHT), ("tolerance", _RIGHT), ("from", "")], rows)
    if timers:
        heading("Timers")
        names = ("prescale", "count", "reload reg", "wanted", "real", "deviation", "longest")
        rows = []
        for name, timer in timers.items():
            period = timer.setting.period(timer.clock.hertz)
            longest = Fraction(timer.setting.prescale * timer.counter.most_counts * timer.setting.postscale)
            rows.append([
                name, timer.clock.name, str(timer.setting.prescale) + ("*" if timer.chosen else ""),
                str(timer.setting.count) + ("*" if timer.chosen else ""), str(timer.setting.reload_register),
                "-" if timer.wanted is None else seconds_text(timer.wanted / 10**12), seconds_text(period),
                "-" if timer.wanted is None else ppm_text(deviation_ppm(period, timer.wanted / 10**12)),
                seconds_text(longest / timer.clock.hertz),
            ])  # fmt: skip
        table([("source", ""), ("clock", ""), *((name, _RIGHT) for name in names)], rows)
        if any(timer.chosen for timer in timers.values()):
            say("* chosen by Tachys as the nearest to what is wanted", "")
    if lines:
        heading("Serial lines")
        rows = []
        for name, line in lines.items():
            real = "-" if line.setting is None else f"{float(line.setting.baud):.1f} Bd"
            off = "-" if line.setting is None else ppm_text(line.setting.deviation)
            divisor = "-" if line.setting is None else f"{float(line.setting.divisor):g}"
            rows.append([name, f"{float(line.baud):g} Bd", str(line.bits), divisor, real, off])
        table([("source", ""), *((n, _RIGHT) for n in ("rate", "bits", "divisor", "real", "deviation"))], rows)
    if not timers and not lines:
        say("No source of this model has a timer or a serial line.")
    return 0
