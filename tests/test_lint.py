"""Each warning fires on its own small example and stays silent on the mended twin."""

import pytest

from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds
from tachys.worstcase.lint import lint

HEAD = 'tachys = 1\n[core]\nclock = "1 MHz"\nlevels = 3\nentry = "1 us"\nexit = "1 us"\n'
A = '[source.a]\ngap = "1 ms"\n[isr.a]\non = "source.a"\ncost = "{cost}"\nlevel = {level}\n'
B = '[source.b]\ngap = "100 us"\n[isr.b]\non = "source.b"\ncost = "2 us"\nlevel = {level}\n'
LOOP = '[loop]\noverhead = "2 us"\n'
NAP = "[step.nap]\nsleep = true\n"
TICK = '[source.t]\nevery = "1 ms"\n[isr.t]\non = "source.t"\ncost = "2 us"\n'
DOG = '[watchdog]\nfed_by = "step.s.end"\ntimeout = "10 ms"\n'

EXAMPLES = {
    "long-routine": (A.format(cost="150 us", level=0) + B.format(level=1), ("150 us", "50 us")),
    "busy-wait": (
        A.format(cost="20 us", level=0) + '[unit.u]\non = "isr.a.start"\ntakes = "15 us"\n',
        ('on = "isr.a.start"', 'on = "isr.a.end"'),
    ),
    "inverted-order": (
        A.format(cost="3 us", level=1) + 'deadline = "900 us"\n' + B.format(level=1) + 'deadline = "60 us"\n',
        ('deadline = "60 us"', 'order = -1\ndeadline = "60 us"'),
    ),
    "step-would-do": (
        A.format(cost="20 us", level=0) + 'deadline = "900 us"\n' + B.format(level=1) + LOOP,
        ('deadline = "900 us"', 'deadline = "30 us"'),
    ),
    "need-unseen": (
        A.format(cost="3 us", level=0) + LOOP + '[step.s]\npolls = "f"\ncost = "1 us"\n'
        '[need.n]\nfrom = "source.a"\nto = "step.s.end"\nwithin = "1 ms"\n',
        ("[need.n]", '[probe.D0]\nshows = "source.a"\nedge = "rise"\n[probe.D1]\nshows = "step.s"\n[need.n]'),
    ),
    "needless-waking": (
        TICK + LOOP + '[step.s]\nevery = "50 ms"\ncost = "9 us"\n' + NAP,
        ('every = "1 ms"', 'every = "50 ms"'),
    ),
    "longer-than-watchdog": (LOOP + '[step.s]\ncost = "1 us"\npause = "12 ms"\n' + DOG, ("12 ms", "2 ms")),
    "deadline-beyond-gap": (B.format(level=0) + 'deadline = "300 us"\n', ('"300 us"', '"90 us"')),
    "interrupt-storm": (A.format(cost="2 ms", level=0), ('cost = "2 ms"', 'cost = "20 us"')),
    "flag-never-polled": (A.format(cost="3 us", level=0) + 'sets = "f"\n' + LOOP + NAP,
                          (LOOP, LOOP + '[step.s]\npolls = "f"\ncost = "1 us"\n')),
    "flag-never-set": (LOOP + '[step.s]\npolls = "f"\ncost = "1 us"\n' + A.format(cost="3 us", level=0),
                       ('cost = "3 us"', 'cost = "3 us"\nsets = "f"')),
    "does-not-wake": (
        TICK + '[source.a]\ngap = "9 ms"\n[unit.u]\non = "source.a"\ntakes = "1 ms"\n[flag.f]\nset_by = "unit.u"\n' + LOOP
        + '[step.s]\npolls = "f"\ncost = "1 us"\n' + NAP,
        (NAP, '[step.s2]\ncost = "1 us"\n'),
    ),
    "asked-too-soon": (
        A.format(cost="3 us", level=0) + '[isr.b]\non = "unit.u.end"\nlevel = 1\ncost = "1 us"\n[buffer.q]\ndepth = 4\n'
        'fed_by = "isr.a.end"\n[unit.u]\non = ["isr.a.end", "isr.b.end"]\ndrains = "buffer.q"\ntakes = "5 us"\n',
        ('fed_by = "isr.a.end"', 'fed_by = "isr.a.start"'),
    ),
    "no-overhead": (A.format(cost="3 us", level=0), None),
}  # fmt: skip


def codes(text):
    system = read_model(text, "m.toml")
    return {remark.code for remark in [*system.remarks, *lint(bounds(system))]}


@pytest.mark.parametrize("code", EXAMPLES)
def test_each_warning_fires_and_is_silent_when_mended(code):
    body, change = EXAMPLES[code]
    bad = HEAD.replace('exit = "1 us"\n', "") + body if change is None else HEAD + body
    good = HEAD + body if change is None else bad.replace(*change)
    assert good != bad
    assert code in codes(bad)
    assert code not in codes(good)


def test_a_warning_says_where_and_what_to_do():
    (remark,) = [r for r in lint(bounds(read_model(HEAD + EXAMPLES["interrupt-storm"][0], "m.toml")))
                 if r.code == "interrupt-storm"]  # fmt: skip
    assert (str(remark.place), remark.key) == ("m.toml:9", "isr.a")
    assert "filter it in hardware" in remark.mend


WOKEN = TICK + LOOP + NAP + '[step.s]\ncost = "9 us"\n'


@pytest.mark.parametrize(
    "text",
    [
        WOKEN + 'every = { n = 10, of = "isr.t.end" }\n',  # the core is awake as its routine ends
        WOKEN + 'every = { n = 10, of = "source.t" }\n',
        WOKEN.replace('cost = "2 us"', 'cost = "2 us"\nnth = { n = 10, cost = "1 us", sets = ["f"] }', 1)
        + 'polls = "f"\n',
    ],
)
def test_a_tick_that_is_counted_wakes_for_something(text):
    assert {remark.code for remark in lint(bounds(read_model(HEAD + text, "m.toml")))} == set()
