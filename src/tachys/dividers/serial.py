"""Serial rates: divisor, oversampling, fractional divisor; error of a bit and drift over a frame.

A receiver resynchronises at the start edge and samples the last bit (bits - 1/2) bit times later; it finds the start
edge up to one oversampling tick late. So a frame is read if (bits - 1/2) · |own error| + partner's + 1/oversampling
stays below half a bit.
"""

from __future__ import annotations

from fractions import Fraction

from msgspec import Struct

from tachys.dividers.counter import deviation_ppm

HALF = Fraction(1, 2)


class SerialSetting(Struct, frozen=True):
    """baud = clock / (oversampling · steps / 2^fraction_bits); ``steps`` is what an undivided register would hold."""

    oversampling: int
    steps: int
    fraction_bits: int
    baud: Fraction
    deviation: Fraction

    @property
    def divisor(self) -> Fraction:
        """The true divisor."""
        return Fraction(self.steps, 1 << self.fraction_bits)

    @property
    def whole(self) -> int:
        """The whole part of the divisor."""
        return self.steps >> self.fraction_bits

    @property
    def fraction(self) -> int:
        """The fraction of the divisor, in steps of 2^-fraction_bits."""
        return self.steps & ((1 << self.fraction_bits) - 1)


def serial_settings(
    hertz: Fraction,
    baud: Fraction,
    *,
    oversamplings: tuple[int, ...] = (16, 8),
    width: int = 16,
    fraction_bits: int = 0,
) -> list[SerialSetting]:
    """The nearest setting for each oversampling, best first; ``width`` bits hold the whole part of the divisor.

    Raises:
        ValueError: the rate is not more than 0, or beyond the clock whatever the oversampling.
    """
    if baud <= 0 or hertz <= 0:
        raise ValueError("clock and rate must be more than 0")
    found = []
    for oversampling in oversamplings:
        exact = hertz / baud / oversampling * (1 << fraction_bits)
        least, most = 1 << fraction_bits, (1 << (width + fraction_bits)) - 1
        steps = min(max(_nearest(exact), least), most)
        real = hertz * (1 << fraction_bits) / (oversampling * steps)
        found.append(SerialSetting(oversampling, steps, fraction_bits, real, deviation_ppm(real, baud)))
    return sorted(found, key=lambda setting: (abs(setting.deviation), -setting.oversampling))


def _nearest(value: Fraction) -> int:
    return int((value + HALF) // 1)


def frame_drift(setting: SerialSetting, bits: int, partner: Fraction, own: Fraction = Fraction(0)) -> Fraction:
    """The furthest that the sample of the last bit can be off its middle, as a share of a bit (0.5: at its edge).

    ``bits``: of a frame with start and stop; ``partner`` and ``own``: tolerances of the two clocks as shares.
    """
    off = abs(setting.deviation) / 10**6 + partner + own
    return (bits - HALF) * off + Fraction(1, setting.oversampling)
