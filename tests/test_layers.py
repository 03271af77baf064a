"""Changes laid over a model: variants in order, settings over them, and what follows when a clock moves."""

from fractions import Fraction

import pytest

from tachys.errors import InputError
from tachys.model.costs import read_cost_table
from tachys.model.loading import ModelText, read_model
from tachys.model.quantities import Range

MODEL = """tachys = 1
[core]
clock = "48 MHz"
levels = 2
entry = "12 cycles"
exit = "10 cycles"
[clock.bus]
from = "core"
divide = 2
[source.tick]
timer = { clock = "bus", width = 16, prescale = 24, count = 1000 }
wanted = "1 ms"
[source.slow]
timer = { clock = "bus", width = 16, prescale = 24, count = 2000 }
[source.rare]
gap = "1 ms"
mean = "4 ms"
[isr.tick]
on = ["source.tick", "source.slow"]
level = 1
cost = ["4 us", "7 us"]
guard = [{ level = 0, for = "2 us" }, { level = 1, for = "3 us" }]
[isr.rare]
on = "source.rare"
level = 0
cost = { "source.rare" = "90 cycles" }
[probe.D0]
shows = "isr.rare"
[variant.half.core]
clock = "24 MHz"
[variant.short.isr.tick]
cost = "3 us"
guard = false
[variant.long.isr.tick]
cost = "9 us"
[variant.bare]
isr.rare = false
"""


def read(*settings, variant=None):
    return read_model(MODEL, "m.toml", variant, settings)


def refused(*settings, variant=None):
    with pytest.raises(InputError) as told:
        read(*settings, variant=variant)
    return [str(problem) for problem in told.value.problems]


@pytest.mark.parametrize(("setting", "found"), [
    ("isr.tick.cost=5 us", lambda s: s.isr("tick").cost.most == 5 * 10**6),
    ("isr.tick.cost.2='8 us'", lambda s: (s.isr("tick").cost.least, s.isr("tick").cost.most) == (4 * 10**6, 8 * 10**6)),
    ("isr.tick.cost=[5 us, 8 us]", lambda s: s.isr("tick").cost.most == 8 * 10**6),
    ("isr.tick.guard.2.for=6 us", lambda s: [g.length.most for g in s.isr("tick").guards] == [2 * 10**6, 6 * 10**6]),
    ("isr.tick.guard=false", lambda s: s.isr("tick").guards == ()),
    ('isr.rare.cost."source.rare"=2 us', lambda s: s.isr("rare").cost.most == 2 * 10**6),
    ("isr.tick.level=0", lambda s: s.isr("tick").urgency == 0),
    ("source.rare.every=5 ms", lambda s: s.source("rare").period == 5 * 10**9),  # gap and mean go with it
    ("source.tick.gap=5 ms", lambda s: s.source("tick").gap == 5 * 10**9),
    ("core.nesting=false", lambda s: not s.core.nesting),
])  # fmt: skip
def test_a_setting_is_a_key_of_the_file(setting, found):
    system = read(setting)
    assert found(system)
    key, _, value = setting.partition("=")
    assert system.laid_over == (f"{key} = {value}",)


def test_variants_lie_over_each_other_in_order_and_settings_over_all():
    assert read(variant=["short", "long"]).isr("tick").cost.most == 9 * 10**6
    assert read(variant=["long", "short"]).isr("tick").cost.most == 3 * 10**6
    assert read(variant=["long", "short"]).isr("tick").guards == ()
    last = read("isr.tick.cost=1 us", variant=["long", "short"])
    assert last.isr("tick").cost.most == 10**6
    assert last.laid_over == ("variant long", "variant short", "isr.tick.cost = 1 us")


def test_a_timer_that_wants_a_period_is_set_anew_and_the_others_are_named():
    system = read(variant="half")
    assert system.source("tick").period == 10**9
    assert system.source("tick").timer.setting.count == 500
    assert system.source("slow").period == 4 * 10**9
    assert {remark.code: remark.key for remark in system.remarks} == {
        "costs-in-time": "core.clock", "timer-set-anew": "source.tick", "rate-moved": "source.slow",
    }  # fmt: skip
    told = next(remark for remark in system.remarks if remark.code == "costs-in-time")
    assert "isr.tick.cost" in told.text
    assert "rare" not in told.text  # it is in cycles
    given = read("source.tick.timer.count=1000", variant="half")
    assert given.source("tick").period == 2 * 10**9
    assert read("source.tick.wanted=2 ms").source("tick").period == Fraction(2 * 10**9)


@pytest.mark.parametrize(("setting", "told"), [
    ("isr.rara.cost=1 us", '--set: isr.rara.cost: there is no isr "rara"; did you mean "rare"?'),
    ("isr.tick.cots=1 us", '--set: isr.tick.cots: unknown key; did you mean "cost"?'),
    ("isr.tick.cost=1 uss", '--set: isr.tick.cost: "1 uss": unknown unit "uss"; known here: '
                            "s, ms, us, ns, ps, cycles, cycles@CLOCK"),
    ("isr.tick.cost.3=1 us", "--set: isr.tick.cost.3: isr.tick.cost is a list of 2; name one of it: isr.tick.cost.1"),
    ("isr.tick", '--set: "isr.tick" is no setting; write a key of the model and its value, as in core.clock="24 MHz"'),
    ("unit.adc.takes=1 us", "--set: unit.adc.takes: the model has no unit at all; set a key of what it has"),
    ("isr.rare=false", "--set: isr.rare: is taken away, and probe.D0.shows still names it; "
                       "take that away too (probe.D0 = false), or let it name another"),
])  # fmt: skip
def test_a_wrong_setting_is_said_in_one_line(setting, told):
    assert refused(setting) == [told]


def test_all_that_is_wrong_is_said_at_once():
    assert refused("x", "source.tick.every=1 ms", "source.tick.gap=2 ms") == [
        '--set: "x" is no setting; write a key of the model and its value, as in core.clock="24 MHz"',
        "--set: source.tick.every and source.tick.gap exclude each other; set one of them",
    ]
    assert refused(variant="bare") == [
        "m.toml:37: variant.bare.isr.rare: is taken away, and probe.D0.shows still names it; "
        "take that away too (probe.D0 = false), or let it name another"
    ]
    assert [remark.key for remark in read().remarks] == ["variant.bare"]


def with_costs(tmp_path, text, *settings, variant=None):
    (tmp_path / "b.csv").write_text(text)
    return ModelText(MODEL, "m.toml").system(variant, settings, read_cost_table(tmp_path / "b.csv"))


def test_costs_of_a_build_lie_over_variants_and_below_settings(tmp_path):
    text = "# of the map file\nname,least,most\nisr.tick,4.1 us,5 us\nisr.tick,6 us\ncore.exit,12 cycles\n"
    system = with_costs(tmp_path, text + 'isr.rare.cost."source.rare",48 cycles\n', variant="short")
    assert system.isr("tick").cost == Range(4_100_000, 6_000_000)
    assert system.isr("rare").cost == Range(10**6, 10**6)
    assert system.core.exit.most == 250_000
    told = ("variant short", "costs of b.csv (isr.tick, core.exit, isr.rare.cost.source.rare)")
    assert system.laid_over == told
    system = with_costs(tmp_path, "isr.tick,4 us,7 us", "isr.tick.cost=8 us")
    assert system.isr("tick").cost == Range(8_000_000, 8_000_000)
    assert system.laid_over[0] == "costs of b.csv (as the model has them)"


@pytest.mark.parametrize(("text", "wrong"), [
    ("isr.tick,4\nisr.tick,4 us,3 us\nisr.tick\nstep,1 us\nsource.rare,1 us\n",
     ['b.csv:1: isr.tick: "4" has no unit; write for instance "250 us"',
      "b.csv:2: isr.tick: the range runs backwards; write 3 us,4 us",
      "b.csv:3: isr.tick: a line gives a name and one time, or the least and the most; as in isr.tick,4.1 us,4.25 us",
      'b.csv:4: step: "step" names nothing that takes time; begin a line with a name, as in isr.tick,4.25 us',
      'b.csv:5: source.rare: "source.rare" names nothing that takes time; '
      'begin a line with a name, as in isr.tick,4.25 us']),
    ("isr.tick,4 us\n\nisr.tick,40 cycles\n",
     ["b.csv:3: isr.tick: times of one name are in cycles and in seconds; write them all in one way"]),
    ("isr.tock,4 us\nisr.tick.cots,4 us\n",
     ['b.csv:1: isr.tock: there is no isr "tock"; did you mean "tick"?']),
    ("isr.tick.cots,4 us\n", ['b.csv:1: isr.tick.cots: unknown key; did you mean "cost"?']),
    ("isr.tick,1 us\n", ["b.csv:1: isr.tick.guard: lasts beyond the end of the body; "
     "at + for must fit into cost; for = \"all\" holds to its end"]),
    ("isr.rare,4 us\nisr.rare.cost.x,4 us\n",
     ["b.csv:1: isr.rare is given as a whole and by event; give one of them"]),
    ("# nothing\n", ["b.csv: no line of it gives a cost; write lines such as isr.tick,4.1 us,4.25 us"]),
])  # fmt: skip
def test_what_is_wrong_in_a_file_of_costs(tmp_path, monkeypatch, text, wrong):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "b.csv").write_text(text)
    with pytest.raises(InputError) as told:
        ModelText(MODEL, "m.toml").system(None, (), read_cost_table("b.csv"))
    assert [str(problem) for problem in told.value.problems] == wrong
