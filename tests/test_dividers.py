"""Timer arithmetic against brute force, exact cases, and every mistake of the ratio reader planted."""

import random
from fractions import Fraction

import pytest

from tachys.dividers.counter import Counter, Prescalers, Setting, tolerance_band
from tachys.dividers.mistakes import TimerContext, read_ratio
from tachys.dividers.search import best_settings, shortfall
from tachys.dividers.serial import frame_drift, serial_settings

MHZ = 10**6


def brute_force(ticks, width, prescalers):
    """The least |p·c - ticks| over all pairs."""
    return min(abs(p * c - ticks) for p in prescalers for c in range(1, (1 << width) + 1))


def test_thousands_of_searches_equal_brute_force():
    dice = random.Random(3)
    for _ in range(3_000):
        width = dice.randint(1, 5)
        prescalers = tuple(sorted(dice.sample(range(1, 40), dice.randint(1, 4))))
        hertz = Fraction(dice.randint(1, 10**6), dice.randint(1, 9))
        ticks = Fraction(dice.randint(1, 3000), dice.randint(1, 9))
        found = best_settings(hertz, ticks / hertz, Counter(width, Prescalers(choices=prescalers)), most=3)
        assert abs(found[0].setting.ticks - ticks) == brute_force(ticks, width, prescalers)
        assert found[0].setting.prescale in prescalers
        assert 1 <= found[0].setting.count <= 1 << width
        errors = [abs(each.deviation) for each in found]
        assert errors == sorted(errors)


def test_exact_cases_are_exact():
    counter = Counter(16, Prescalers(most=1 << 16))
    found = best_settings(Fraction(48 * MHZ), Fraction(1, 1000), counter, most=200)
    exact = [each.setting for each in found if each.deviation == 0]
    assert Setting(1, 48000) == exact[0]
    assert len(exact) == sum(48000 % p == 0 for p in range(1, 48001))
    crystal = Fraction("14.318180") * MHZ
    best = best_settings(crystal, Fraction(1, 1000), Counter(16), most=1)[0]
    assert best.period == Fraction(14318, 14318180)
    assert best.deviation == Fraction(14318 * 1000 - 14318180, 14318180) * 10**6


def test_ties_are_broken_as_asked():
    counter = Counter(8, Prescalers(choices=(1, 8, 64)))
    wanted = Fraction(128, MHZ)
    by_resolution = best_settings(Fraction(MHZ), wanted, counter, prefer="resolution")
    assert [(f.setting.prescale, f.setting.count) for f in by_resolution[:3]] == [(1, 128), (8, 16), (64, 2)]
    registers = by_resolution[1].setting
    assert (registers.reload_register, registers.preload(8), counter.prescalers.register(8)) == (15, 240, None)


def test_a_period_out_of_reach_says_what_would_do():
    counter = Counter(16, Prescalers(choices=(1, 8, 64, 256)))
    hertz, wanted = Fraction(16 * MHZ), Fraction(10)
    missing = shortfall(hertz, wanted, counter)
    assert Counter(missing.width, counter.prescalers).longest(hertz) >= wanted
    assert Counter(missing.width - 1, counter.prescalers).longest(hertz) < wanted
    assert Counter(16, Prescalers(choices=(missing.prescale,))).longest(hertz) >= wanted
    assert missing.software_count == missing.postscale == 10
    assert shortfall(hertz, Fraction(1), counter) is None


def test_serial_rates():
    """8 MHz and 115200 Bd at 16 samples a bit: divisor 4, 8.5 % off; with 1/16 steps 0.08 %."""
    coarse = serial_settings(Fraction(8 * MHZ), Fraction(115200), oversamplings=(16,))[0]
    assert (coarse.steps, coarse.baud) == (4, 125_000)
    fine = serial_settings(Fraction(8 * MHZ), Fraction(115200), oversamplings=(16,), fraction_bits=4)[0]
    assert (fine.whole, fine.fraction, fine.divisor) == (4, 5, Fraction(69, 16))
    assert frame_drift(coarse, 10, Fraction(0)) > Fraction(1, 2) > frame_drift(fine, 10, Fraction(2, 100))


def test_the_tolerance_band_is_one_of_frequency():
    assert tolerance_band(Fraction(1), Fraction(1, 20)) == (Fraction(20, 21), Fraction(20, 19))


SETTING = Setting(24, 70_001)
CLOCKS = {"core": Fraction(72 * MHZ), "bus": Fraction(24 * MHZ), "slow": Fraction(32768), "half": Fraction(6 * MHZ)}
PARENTS = {"bus": "core", "half": "bus"}
WANTED = SETTING.period(CLOCKS["bus"])
PLANTED = {
    "prescaler-unset": Fraction(1, 24),
    "prescaler-plus-one": Fraction(25, 24),
    "prescaler-minus-one": Fraction(23, 24),
    "width-overflow": Fraction(70_001 - 65_536, 70_001),
    "toggled-output": Fraction(2),
    "both-edges": Fraction(1, 2),
    "clock-undivided": Fraction(1, 3),
    "clock-divided": Fraction(4),
    "other-clock-slow": Fraction(24 * MHZ, 32768),
}


@pytest.mark.parametrize("code", PLANTED)
def test_each_planted_mistake_is_named_first(code):
    ratio = PLANTED[code]
    dice = random.Random(code)
    for _ in range(50):
        noise = 1 + Fraction(dice.randint(-30, 30), MHZ)
        found = read_ratio(
            WANTED, WANTED * ratio * noise, Fraction(40, MHZ), TimerContext("bus", CLOCKS, SETTING, PARENTS)
        )
        assert found[0].code == code
        assert abs(found[0].off_ppm) <= 31
        assert found[0].ratio == ratio


@pytest.mark.parametrize(("code", "off"), [("count-plus-one", 1), ("count-minus-one", -1)])
def test_one_count_too_many_or_too_few(code, off):
    setting = Setting(3, 1000)
    wanted = setting.period(CLOCKS["bus"])
    measured = wanted * Fraction(1000 + off, 1000) * (1 + Fraction(30, MHZ))
    found = read_ratio(wanted, measured, Fraction(40, MHZ), TimerContext("bus", CLOCKS, setting, PARENTS))
    assert [mistake.code for mistake in found] == [code]


def test_reload_by_software_and_a_clock_that_is_off():
    context = TimerContext("bus", CLOCKS, SETTING, PARENTS, Fraction(1, 100), most_excess=Fraction(20, MHZ))
    excess = read_ratio(
        WANTED,
        WANTED + Fraction(15, MHZ),
        Fraction(40, MHZ),
        TimerContext("bus", CLOCKS, SETTING, most_excess=Fraction(20, MHZ)),
    )
    assert [mistake.code for mistake in excess] == ["software-reload"]
    slow = read_ratio(WANTED, WANTED * Fraction(1006, 1000), Fraction(40, MHZ), context)
    assert [mistake.code for mistake in slow] == ["clock-tolerance"]


def test_nothing_is_named_where_nothing_is_wrong():
    context = TimerContext("bus", CLOCKS, SETTING, PARENTS, most_excess=Fraction(1))
    assert read_ratio(WANTED, WANTED * (1 + Fraction(30, MHZ)), Fraction(40, MHZ), context) == ()
    assert (
        read_ratio(WANTED, WANTED * Fraction(137, 100), Fraction(40, MHZ), TimerContext("bus", CLOCKS, SETTING)) == ()
    )
