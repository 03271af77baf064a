"""Timer and serial settings as plain data: format "tachys.dividers/1", described in docs/formats.md."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from msgspec.structs import replace

from tachys.dividers.counter import Counter, Setting, deviation_ppm, tolerance_band
from tachys.dividers.serial import SerialSetting, frame_drift


def setting_data(
    hertz: Fraction, setting: Setting, counter: Counter, tolerance: Fraction, wanted: Fraction | None
) -> dict[str, Any]:
    """One timer setting: factors, registers, period in seconds and its deviation in ppm, that of slips too."""
    period = setting.period(hertz)
    shortest, longest = tolerance_band(period, tolerance)
    slips = {name: slip.period(hertz) for name, slip in slips_of(setting)}
    return {
        "prescale": setting.prescale,
        "count": setting.count,
        "postscale": setting.postscale,
        "registers": {
            "prescale": counter.prescalers.register(setting.prescale),
            "reload": setting.reload_register,
            "preload": setting.preload(counter.width),
        },
        "period": float(period),
        "shortest": float(shortest),
        "longest": float(longest),
        "deviation_ppm": None if wanted is None else float(deviation_ppm(period, wanted)),
        "slips_ppm": {name: float(deviation_ppm(each, wanted or period)) for name, each in slips.items()},
    }


def slips_of(setting: Setting) -> list[tuple[str, Setting]]:
    """What comes of a reload register that holds one too many, or one too few: the factor itself, or two less."""
    around = [("one more", setting.count + 1), ("one less", setting.count - 1)]
    return [(name, replace(setting, count=count)) for name, count in around if count > 0]


def serial_data(setting: SerialSetting, bits: int, partner: Fraction, own: Fraction) -> dict[str, Any]:
    """One serial setting: divisor, rate in baud, deviation in ppm and the drift at the last bit."""
    return {
        "oversampling": setting.oversampling,
        "divisor": float(setting.divisor),
        "whole": setting.whole,
        "fraction": setting.fraction,
        "baud": float(setting.baud),
        "deviation_ppm": float(setting.deviation),
        "drift": float(frame_drift(setting, bits, partner, own)),
    }
