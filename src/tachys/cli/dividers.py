"""``tachys dividers``: settings for a rate, what given settings yield, and the timers of a model."""

from __future__ import annotations

from fractions import Fraction

import click

from tachys.cli.dividers_tables import (
    Request,
    show_cycles,
    show_found,
    show_model,
    show_serial,
    show_yield,
)
from tachys.cli.modelling import Changes, model_options
from tachys.cli.output import format_option
from tachys.cli.parameters import BAUD, COUNT, FACTORS, RATE, REGISTER, SHARE, TIME, TOLERANCE, WIDTH
from tachys.dividers.counter import Counter, Prescalers


@click.command("dividers")
@click.argument("model", type=click.Path(), required=False)
@click.option("--clock", type=RATE, help='Clock of the timer, such as "48 MHz".')
@click.option("--tolerance", type=TOLERANCE, default="0 %", help="How far that clock may be off.")
@click.option("--period", type=TIME, help='Wanted period, such as "1 ms".')
@click.option("--rate", type=RATE, help='Wanted rate, such as "1 kHz".')
@click.option("--baud", type=BAUD, help='Wanted serial rate, such as "115200 Bd".')
@click.option("--at-least", is_flag=True, help="Never shorter than wanted, even with the clock at its fastest.")
@click.option("--width", type=WIDTH, default="16", show_default=True, help="Bits of the counter or divisor.")
@click.option("--prescale", type=FACTORS, default="1", show_default=True, help="Factors to choose from.")
@click.option("--postscale", type=FACTORS, default="1", help="Every n-th event passes: factors to choose from.")
@click.option("--prescale-register", type=REGISTER, help="Given setting: divides by this + 1.")
@click.option("--count", type=COUNT, help="Given setting: true count.")
@click.option("--reload-register", type=REGISTER, help="Given setting: counts this + 1.")
@click.option("--preload", type=REGISTER, help="Given setting: counts from this up to the overflow.")
@click.option("--prefer", type=click.Choice(["resolution", "prescaler"]), default="resolution", help="Among equals.")
@click.option("--most", type=click.IntRange(1, 1000), default=8, show_default=True, help="How many settings.")
@click.option("--oversampling", type=FACTORS, default="8,16", show_default=True, help="Serial: samples a bit.")
@click.option("--fraction-bits", type=click.IntRange(0, 16), default=0, help="Serial: bits of a fractional divisor.")
@click.option("--bits", type=click.IntRange(2, 64), default=10, show_default=True, help="Serial: bits of a frame.")
@click.option("--partner", type=SHARE, default="0 %", help="Serial: how far the partner's rate may be off.")
@click.option("--cycles", type=COUNT, help="How long so many cycles of the clock take, such as a conversion.")
@model_options
@format_option
def dividers_command(
    model: str | None,
    changes: Changes,
    clock: Fraction | None,
    tolerance: Fraction,
    period: Fraction | None,
    rate: Fraction | None,
    baud: Fraction | None,
    at_least: bool,
    width: int,
    prescale: Prescalers,
    postscale: Prescalers,
    prescale_register: int | None,
    count: int | None,
    reload_register: int | None,
    preload: int | None,
    prefer: str,
    most: int,
    oversampling: Prescalers,
    fraction_bits: int,
    bits: int,
    partner: Fraction,
    cycles: int | None,
    shape: str,
) -> int:
    """Find timer settings for a period or rate, or say what given settings yield; or show the timers of MODEL.

    \b
    tachys dividers --clock "48 MHz" --period "1 ms" --prescale 1..65536
    tachys dividers --clock "16 MHz" --prescale 64 --reload-register 249
    tachys dividers --clock "8 MHz" --baud "115200 Bd" --fraction-bits 4 --partner "2 %"
    tachys dividers --clock "32 kHz" --tolerance "10 %" --period "1 s" --prescale 4,8,16,32 --width 12 --at-least
    """
    if model is not None:
        return show_model(changes.load(model), shape)
    if changes != Changes():
        raise click.UsageError("--variant, --costs and --set go with a model")
    if clock is None:
        raise click.UsageError('--clock is missing; write for instance --clock "48 MHz", or name a model')
    if prescale_register is not None:
        prescale = Prescalers(choices=(prescale_register + 1,))
    counter = Counter(width, prescale, tuple(postscale))
    wanted = [value for value in (period, rate and 1 / rate) if value]
    if sum(value is not None for value in (period, rate, baud)) > 1:
        raise click.UsageError("of --period, --rate and --baud one is enough")
    request = Request(clock, tolerance, counter, wanted[0] if wanted else None, rate is not None, shape)
    if cycles is not None:
        return show_cycles(request, cycles)
    if baud is not None:
        choices = tuple(oversampling)
        return show_serial(request, baud, choices, fraction_bits, bits, partner)
    true_count = _given_count(width, count, reload_register, preload)
    if true_count is not None:
        return show_yield(request, true_count)
    if request.wanted is None:
        raise click.UsageError("nothing is asked: give --period, --rate or --baud, or a setting such as --count")
    return show_found(request, prefer, most, at_least)


def _given_count(width: int, count: int | None, reload_register: int | None, preload: int | None) -> int | None:
    """The true count of a given setting; None if none is given."""
    given = [value for value in (count, reload_register, preload) if value is not None]
    if len(given) > 1:
        raise click.UsageError("of --count, --reload-register and --preload one says it all")
    top = 1 << width
    if preload is not None and preload >= top:
        raise click.UsageError(f"--preload {preload} does not fit {width} bits: at most {top - 1}")
    true = count if count is not None else None if reload_register is None else reload_register + 1
    if preload is not None:
        true = top - preload
    if true is not None and true > top:
        raise click.UsageError(f"a count of {true} does not fit {width} bits: at most {top}")
    return true
