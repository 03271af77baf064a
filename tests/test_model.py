"""Reading a model: exact quantities, and every fault of a file at once, each with its line."""

import json
import re
from fractions import Fraction
from pathlib import Path

import pytest

from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.model.places import key_lines
from tachys.model.quantities import Range, parse_duration, parse_share
from tachys.model.schema import json_schema
from tachys.worstcase.analysis import bounds
from tachys.worstcase.export import bounds_data

GOOD = """tachys = 1
[clock.bus]
from = "core"
divide = 3
[core]
clock = "14.318180 MHz"
tolerance = "100 ppm"
levels = 2
entry = "16 cycles"
exit = "0.25 us"
[source.wheel]
gap = "180 us"
[isr.wheel]
on = "source.wheel"
cost = ["15 cycles@bus", "9 us"]
"""


def faults(text):
    with pytest.raises(InputError) as caught:
        read_model(text, "m.toml")
    return [str(problem) for problem in caught.value.problems]


def test_quantities_are_exact():
    assert parse_duration("0.1 us").amount == 100_000
    assert parse_duration("250 µs").amount == parse_duration("0.25 ms").amount
    assert parse_duration("1e-3 ps").amount == Fraction(1, 1000)
    assert parse_share("50 ppm") == Fraction(1, 20_000)


def test_costs_widen_with_the_clock_and_round_up():
    system = read_model(GOOD, "m.toml")
    period = Fraction(10**12, 14_318_180)
    assert system.core.exit == Range(250_000, 250_000)
    least, most = 16 * period / (1 + Fraction(1, 10**4)), 16 * period / (1 - Fraction(1, 10**4))
    assert system.core.entry == Range(-int(-least // 1), -int(-most // 1))
    assert system.core.chain.most == system.core.entry.most + 250_000
    assert system.isr("wheel").cost.least == -int(-(45 * period / (1 + Fraction(1, 10**4))) // 1)


def test_all_faults_of_a_file_come_at_once():
    text = GOOD.replace('"180 us"', "180").replace("source.wheel", "source.whel", 2).replace("levels", "levles")
    text += 'order = "first"\n[probe.D0]\nshows = "isr.wheel.start"\n[need.x]\nfrom = "source.wheel"\n'
    found = faults(text)
    assert found == [
        'm.toml:8: core.levles: unknown key; did you mean "levels"?',
        'm.toml:12: source.whel.gap: 180 has no unit; write a string with a unit, for instance "180 us"',
        "m.toml:16: isr.wheel.order: 'first' is no whole number; a whole number is due, without quotes",
        'm.toml:17: probe.D0: "isr.wheel.start" happens at an instant, which a level cannot show; '
        'add edge = "rise", "fall", "both", "toggle" or "pulse"',
        'm.toml:19: need.x: does not say what must hold; write from, to and within = "40 us"; or load = "70 %"; '
        'or of and one of lost = 0, fill = 12, jitter = "5 us", every = "50 ms" with give_or_take = "2 %"; or current = "40 uA"; or lasts = "2 years"',
        'm.toml:20: need.x.from: "source.wheel" names no event; did you mean "source.whel"?',
    ]


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('"180 us"', '"-1 us"', "is negative"),
        ('"180 us"', '"nan us"', "does not begin with a number"),
        ('"180 us"', '"1e99 s"', "longer than Tachys can count"),
        ('"180 us"', '"180 parsec"', 'unknown unit "parsec"'),
        ('gap = "180 us"', "", "a source comes in one way"),
        ("levels = 2", "levels = 2\nlevels = 3", "every name is used once"),
        ("[isr.wheel]", "[source.wheel]\n[isr.wheel]", "every name is used once"),
        ("levels = 2", "levels = ", "mend the TOML"),
        ('from = "core"', 'from = "bus"', "the clocks go round in a ring"),
        ("@bus", "@buss", 'there is no clock "buss"; did you mean "bus"?'),
        ('on = "source.wheel"', 'on = "source.wheel"\nlevel = 2', "levels run from 0 to 1"),
        ('on = "source.wheel"', 'on = "source.wheel"\nguard = { level = 0, for = "10 us" }', "beyond the end"),
        ('"9 us"]', '"1 ns"]', "runs backwards"),
    ],
)
def test_faults_are_told_with_a_mend(old, new, words):
    assert any(words in fault and fault.startswith("m.toml:") for fault in faults(GOOD.replace(old, new)))


def test_what_other_people_call_a_key_is_told_with_what_was_given():
    """And that the key itself is missing only follows from it."""
    text = (
        GOOD.replace(
            'on = "source.wheel"\ncost = ["15 cycles@bus", "9 us"]',
            'irq = "source.wheel"\npriority = 0\nguard = "all"\nwcet = "3-5 us"',
        )
        + '[interrupt.b]\n[buffer.b]\nsize = 4\nfed_by = "source.wheel"\n'
    )
    assert [each.partition(": ")[2] for each in faults(text)] == [
        'isr.wheel.irq: unknown key; write on = "source.wheel" (The event that it serves, or several: a shared line)',
        "isr.wheel.priority: unknown key; write level = 0 (Its preemption level: 0 is the most urgent, unless urgent of "
        "[core] says otherwise)",
        "isr.wheel.guard: 'all' stands where a table is due; write guard = { level = 0, for = \"3 us\", at = \"1 us\" }",
        'isr.wheel.wcet: unknown key; write cost = "3-5 us" (CPU time of the body while nothing interrupts it)',
        "interrupt: unknown key; write [isr.X] (Interrupt routines)",
        "buffer.b.size: unknown key; write depth = 4 (How many items find room)",
    ]  # fmt: skip
    assert 'write ["3 us", "5 us"]' in faults(GOOD.replace('["15 cycles@bus", "9 us"]', '"3-5 us"'))[0]


def test_lines_of_keys_survive_strings_and_inline_tables():
    text = 'a = """\n[x]\nb = 1\n"""\n[t."q r"] # c = 2\nlist = [ "]", # }\n  { k = "v" } ]\nd.e = 1\n'
    lines = key_lines(text)
    assert lines["t", "q r"] == 5
    assert lines["t", "q r", "list", "1", "k"] == 7
    assert lines["t", "q r", "d", "e"] == 8
    assert ("x",) not in lines


def test_remarks_name_what_was_left_out():
    codes = [remark.code for remark in read_model(GOOD.replace('exit = "0.25 us"\n', ""), "m.toml").remarks]
    assert codes == ["no-overhead"]


TIMER = GOOD.replace(
    'gap = "180 us"', 'timer = { clock = "bus", width = 16, prescale = 24, count = 1000 }\nwanted = "1 ms"'
)


def test_timers_give_exact_periods_and_say_when_they_miss():
    source = read_model(TIMER, "m.toml").source("wheel")
    assert source.period == Fraction(24_000 * 3 * 10**12, 14_318_180)
    assert source.period_least == source.period / (1 + Fraction(1, 10**4))
    (remark,) = read_model(TIMER, "m.toml").remarks
    assert (remark.code, remark.key) == ("period-misses-wanted", "source.wheel.wanted")
    chosen = read_model(TIMER.replace("prescale = 24, count = 1000", "prescales = [1, 8]"), "m.toml").source("wheel")
    assert (chosen.timer.setting.prescale, chosen.timer.setting.count, chosen.timer.chosen) == (1, 4773, True)


@pytest.mark.parametrize(
    ("new", "words"),
    [
        ("count = 70_000", "a count of 70000 does not fit 16 bits; at most 65536; the longest period in reach is"),
        ("preload = 65_536", "a preload of 65536 does not fit 16 bits"),
        ("count = 5, preload = 5", "count and preload are both given"),
        ("prescale_register = 3, count = 5", "prescale and prescale_register are both given"),
    ],
)
def test_timer_faults(new, words):
    assert any(words in fault for fault in faults(TIMER.replace("count = 1000", new)))


def test_serial_lines_bring_bytes_back_to_back():
    text = GOOD.replace('gap = "180 us"', 'serial = { baud = "115200 Bd", clock = "core" }\ntolerance = "2 %"')
    source = read_model(text, "m.toml").source("wheel")
    assert source.gap == 10 * 10**12 * 100 // (115200 * 102)
    assert source.serial.setting.steps == 8


def keys_of(schema):
    """Every key of every table of the language, from its JSON Schema."""
    tables = [schema, *schema["$defs"].values()]
    return {key for table in tables for key in table.get("properties", {})}


def test_a_model_of_every_key_is_read_bounded_and_told():
    text = (Path(__file__).parent / "every_key.toml").read_text()
    unused = {key for key in keys_of(json_schema()) if not re.search(rf"\b{key}\b", text)}
    assert unused == set()
    system = read_model(text, "every_key.toml")
    data = json.loads(json.dumps(bounds_data(bounds(system)), allow_nan=False))
    for section, things in (("isrs", system.isrs), ("units", system.units), ("steps", system.steps)):
        assert list(data[section]) == [thing.name for thing in things]
    assert set(data["flags"]) == {"bit", "ready", "rare", "taken", "block", "spare"}
    needs = {
        "adc.deadline",
        "way",
        "kept",
        "room",
        "pace",
        "steady",
        "watchdog",
        "block",
        "written",
        "shallow",
        "frugal",
        "life",
    }
    assert data["needs"].keys() == needs


def test_a_variant_is_laid_over_the_model():
    text = (Path(__file__).parent / "every_key.toml").read_text()
    plain, slow = read_model(text, "m.toml"), read_model(text, "m.toml", "slow")
    assert (plain.core.clock.hertz, slow.core.clock.hertz) == (48 * 10**6, 24 * 10**6)
    assert (len(plain.isr("adc").guards), slow.isr("adc").guards) == (1, ())
    with pytest.raises(InputError, match='there is no variant "slwo"; did you mean "slow"'):
        read_model(text, "m.toml", "slwo")
    broken = text + "[variant.more]\nisr.adc.cots = 1\n[variant.bare]\nisr.adc = false\n"
    last = text.count("\n")
    with pytest.raises(InputError, match=rf'm.toml:{last + 2}: variant.more.isr.adc.cots: unknown key; .*"cost"\?'):
        read_model(broken, "m.toml", "more")
    with pytest.raises(InputError) as told:
        read_model(broken, "m.toml", "bare")
    line = f"m.toml:{last + 4}: variant.bare.isr.adc: is taken away, and"
    assert f"{line} probe.D0.shows still names it; take that away too (probe.D0 = false)" in str(told.value)
    remarks = [remark for remark in read_model(broken, "m.toml").remarks if remark.code == "variant-broken"]
    assert {remark.key for remark in remarks} == {"variant.more", "variant.bare"}  # the model itself works all the same
