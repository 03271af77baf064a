"""A unit that no line shows, between two routines that lines show: only what even its quickest way refutes is said."""

import random

import pytest

from tachys.capture.table import Capture, make_signal
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.model.loading import read_model

US = 10**6
MODEL = """
tachys = 1
[core]
clock = "8 MHz"
levels = 2
entry = "1 us"
exit = "1 us"
[source.tick]
every = "1 ms"
[unit.adc]
on = "isr.tick.convert"
takes = ["50 us", "60 us"]
[isr.tick]
on = "source.tick"
level = 0
cost = "12 us"
moments = { convert = "4 us" }
[isr.data]
on = "unit.adc"
level = 1
cost = "9 us"
"""


def adc_of(takes, wait=1.0, every=1, lost=()):
    """The figure of the unit, where it takes so many us of each conversion, and its routine begins so long after that."""
    tick, data = [], []
    for k in range(40):
        at = (k * 1000 + 300) * US
        tick += [(at, 1), (at + 12 * US, 0)]
        start = at + round((4 + takes(k) + wait) * US)
        if k % every == 0 and k not in lost:
            data += [(start, 1), (start + 9 * US, 0)]
    signals = {name: make_signal(name, 1, [0, *(at for at, _ in line)], [0, *(level for _, level in line)])
               for name, line in (("isr.tick", tick), ("isr.data", data))}  # fmt: skip
    result = check(read_model(MODEL, "adc.toml"), Capture("adc.vcd", signals, 0, 40_000 * US, 100_000))
    (figure,) = [each for each in result.figures if each.about == "unit.adc"]
    return figure, [(finding.code, finding.about) for finding in result.findings]


@pytest.mark.parametrize("takes", [50, 55, 60])
def test_a_right_model_says_nothing_of_it(takes):
    figure, found = adc_of(lambda k: takes)
    assert (figure.state, found) == (Agreement.NOT_SHOWN, [])


def test_one_that_is_slow_is_named_first():
    figure, found = adc_of(lambda k: 110 + k % 3)
    assert (figure.state, found[0]) == (Agreement.REFUTES, ("takes-longer", "unit.adc"))
    assert 60 * US < figure.sure_most <= 110 * US <= figure.measured.most


def test_one_that_is_quick_is_named_first():
    figure, found = adc_of(lambda k: 30)
    assert (figure.state, found[0]) == (Agreement.REFUTES, ("takes-shorter", "unit.adc"))
    assert figure.sure_least >= 30 * US


@pytest.mark.parametrize("more", [{"every": 2}, {"lost": (7,)}], ids=["each second has no routine", "one has none"])
def test_where_not_each_has_its_own_nothing_is_said(more):
    assert adc_of(lambda k: 110, **more)[0].state is Agreement.NOT_SHOWN


def test_what_held_off_some_of_them_is_no_matter_of_the_unit():
    dice = random.Random(5)
    figure, _ = adc_of(lambda k: 55 + (dice.choice([0, 90]) if k else 0))
    assert figure.state is Agreement.NOT_SHOWN
