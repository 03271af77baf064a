"""Every sentence a check can print about a difference: made by one change to a record that a model agrees with."""

import re
from pathlib import Path

import pytest

from tachys.capture.eventstream import read_event_stream
from tachys.checking.checking import check
from tachys.checking.compare.sentences import _MENDS, _WORDS, BELOW, BEYOND
from tachys.checking.out.explaining import explain_finding
from tachys.checking.out.telling import finding_text
from tachys.model.loading import read_model

MODEL = """
tachys = 1
[core]
clock = "16 MHz"
levels = 2
entry = "12 cycles"
exit = "10 cycles"
wake = "2 us"
[source.tick]
every = "1 ms"
jitter = "10 us"
[source.edge]
gap = "400 us"
[source.bounce]
burst = { count = 2, spaced = "50 us", every = "3 ms" }
[unit.adc]
on = "source.edge"
takes = ["20 us", "25 us"]
[unit.tx]
on = "step.page.start"
takes = ["50 us", "55 us"]
[isr.tick]
on = "source.tick"
level = 1
cost = ["20 us", "30 us"]
sets = "due"
[isr.edge]
on = "source.edge"
level = 0
cost = ["8 us", "12 us"]
[loop]
overhead = "2 us"
[step.use]
polls = "due"
cost = ["30 us", "40 us"]
guard = { level = 0, for = "4 us" }
[step.page]
every = "10 ms"
cost = ["95 us", "105 us"]
[step.rest]
every = "10 ms"
pause = "98 us"
cost = ["1 us", "4 us"]
"""
SLEEPS = MODEL + '[step.nap]\nsleep = { unless = ["due"] }\n'
TENTHS = MODEL.replace('cost = ["20 us", "30 us"]\n', 'cost = ["20 us", "30 us"]\nnth = { n = 10, cost = "12 us" }\n')
TELLS = TENTHS.replace('cost = "12 us" }', 'sets = ["due"] }').replace('sets = "due"\n', "", 1)
PAGED = MODEL + (
    '[unit.second]\ncounts = { n = 10, of = "isr.tick.end" }\nrepeats = true\nprimed = true\n'
    '[probe.UNIT]\nshows = "unit.second.end"\nedge = "rise"\nalso = ["unit.second.end"]\n'
)
WRITES = MODEL.replace('sets = "due"\n', 'sets = "due"\nmoments = { written = ["3 us", "5 us"] }\n')
FRAMES = 100


def frame(k, **how):
    """One millisecond of the board in tenths of a microsecond: a tick, its step, an edge; a page at every tenth."""
    at, told = k * 10_000 + 1_000, []

    def body(name, begin, length):
        told.extend([(begin, f"{name},enter"), (begin + length, f"{name},leave")])

    for name, begin, length in how.get("more", ()):
        body(name, at + begin, length)
    stray = how.get("stray", 0) * (1 if k % 2 else -1)
    if not how.get("no_tick"):
        told.append((at + stray, "source.tick,mark"))
        body("isr.tick", at + stray + 10 + how.get("late", 0), how.get("tick", 250))
    if not how.get("no_use"):
        body("step.use", at + 300 + stray + how.get("slow", 0), how.get("use", 350))
    edge = at + how.get("edge_at", 3_000)
    if not how.get("no_edge"):
        told += [] if how.get("no_mark") else [(edge, "source.edge,mark")]
        if how.get("adc", 220):
            body("unit.adc", edge, how.get("adc", 220))
        if not how.get("unserved"):
            body("isr.edge", edge + 10 + how.get("held", 0), 100)
    if k % 3 == 0:
        told += [(at + 4_000, "source.bounce,mark"), (at + 4_600, "source.bounce,mark")]
    if k % 10 == how.get("page_at", 5):
        body("step.page", at + 6_000, 1_000)
        body("unit.tx", at + 6_000, 520)
        body("step.rest", at + 7_400, how.get("rest", 1_000))
    return told


def record(change=lambda k: {}, more=(), frames=FRAMES):
    told = [line for k in range(frames) for line in frame(k, **change(k))]
    lines = [f"{at},{what}" for at, what in sorted([*told, *more, (frames * 10_000, "isr.other,mark")])]
    return "# unit = 100 ns\n" + "\n".join(lines[:-1]) + "\n"


def at(frame, time):
    return frame * 10_000 + 1_000 + time


def one(k, **how):
    return lambda each: how if each == k else {}


def each_tenth(tick):
    return lambda k: {"tick": tick, "slow": 300} if k % 10 == 4 else {}


def every(**how):
    return lambda k: how


def storm(first, count):
    """Starts that follow each other every 12 us, for which nothing asked."""
    starts = [at(first, 4_900) + 113 * k for k in range(count)]
    return [line for start in starts for line in ((start, "isr.edge,enter"), (start + 100, "isr.edge,leave"))]


def unmodelled():
    return [
        line for k in range(FRAMES) for line in ((at(k, 5_000), "isr.ghost,enter"), (at(k, 5_060), "isr.ghost,leave"))
    ]


CASES = {
    "period-off": (MODEL.replace("1 ms", "500 us"), record()),
    "period-off by a half": (MODEL.replace("1 ms", "400 us"), record()),
    "every-off": (MODEL.replace('every = "10 ms"\ncost = ["95', 'every = "9 ms"\ncost = ["95'), record()),
    "gap-closer": (MODEL, record(lambda k: {"edge_at": 2_900 if k % 2 else 9_200})),
    "burst-denser": (MODEL, record(more=[(at(5, 4_450), "source.bounce,mark")])),
    "jitter-more": (MODEL, record(every(stray=150))),
    "takes-longer": (MODEL, record(one(7, adc=330))),
    "takes-shorter": (MODEL, record(one(7, adc=120))),
    "answers-off": (MODEL, record(lambda k: {"adc": 0 if k % 10 == 3 else 220})),
    "stands-still": (SLEEPS, record(one(7, adc=3_000, edge_at=560, use=500))),
    "within-longer": (MODEL.replace('spaced = "50 us"', 'spaced = "50 us", within = "52 us"'), record()),
    "counts-off": (PAGED, record(more=[(at(k, 251) + 9, "unit.second.end,mark") for k in range(4, FRAMES, 9)])),
    "cost-longer": (MODEL, record(one(7, tick=380, slow=200))),
    "cost-shorter": (MODEL, record(one(7, tick=120))),
    "cost-longer each tenth": (MODEL, record(each_tenth(380))),
    "cost-longer of a tenth that is to cost no more": (TELLS, record(each_tenth(380))),
    "nth-longer": (TENTHS, record(each_tenth(500))),
    "nth-shorter": (TENTHS, record(each_tenth(290))),
    "moment-later": (WRITES, record(more=[(at(k, 80), "isr.tick.written,mark") for k in range(FRAMES)])),
    "moment-sooner": (WRITES, record(more=[(at(k, 20), "isr.tick.written,mark") for k in range(FRAMES)])),
    "time-longer": (MODEL, record(one(15, rest=1_900))),
    "duration-below-bound": (MODEL, record(one(15, rest=600))),
    "guard-longer": (MODEL, record(one(7, edge_at=420, held=230))),
    "runs-unasked": (MODEL, record(more=storm(9, 40))),
    "runs-too-often": (MODEL, record(every(no_mark=True), storm(9, 40))),
    "lost-unexpected": (MODEL, record(one(7, unserved=True))),
    "overwritten-unexpected": (MODEL, record(one(7, no_use=True))),
    "comes-too-seldom": (MODEL, record(lambda k: {"no_tick": 20 < k < 24, "no_use": 20 < k < 24})),
    "comes-no-more": (MODEL, record(lambda k: {"no_tick": k > 60, "no_use": k > 60})),
    "never-comes": (
        MODEL + '[probe.TICK]\nshows = "source.tick"\nedge = "fall"\n',
        record(lambda k: {"no_tick": True, "no_use": True}, [(99, "TICK,enter")]),
    ),
    "latency-beyond-bound": (MODEL, record(one(7, late=500, slow=900))),
    "latency-below-bound": (MODEL, record(every(late=-9))),
    "reaction-beyond-bound": (MODEL, record(one(7, slow=4_700, edge_at=9_000))),
    "lost-wake-up": (SLEEPS, record(lambda k: {7: {"slow": 10_000}, 8: {"no_use": True}}.get(k, {}))),
    "not-modelled": (MODEL, record(lambda k: {"use": 950, "more": [("D9", 500, 600)]})),
}
SAID = {
    "period-off": "source.tick: its mean period is not the modelled one; likely: an output toggled each period was read as the period: it has twice as long a one (1 ms, model 500 us)",
    "period-off by a half": "source.tick: its mean period is not the modelled one; none of the usual timer mistakes gives this ratio (1 ms, model 400 us)",
    "every-off": "step.page: it runs at another pace than the modelled one: at least 9.979 ms, model 9.000 ms",
    "gap-closer": "source.edge: two events came closer than its gap: at most 370.2 us, model 400.0 us",
    "burst-denser": "source.bounce: its events came denser than its bursts allow (3 of them): at most 1.015 ms, model 3.000 ms",
    "jitter-more": "source.tick: its events stray further from their grid than its jitter: at least 29.80 us, model 10.00 us",
    "takes-longer": "unit.adc: it works longer than modelled: at least 32.80 us, model 25.00 us",
    "takes-shorter": "unit.adc: it works for less than modelled: at most 12.20 us, model 20.00 us",
    "answers-off": "unit.adc: it answers more or less often than modelled (90 of 100 operations ended, all in the model)",
    "stands-still": "unit.adc: its clock seems to stand still while the core sleeps; else it takes what it should: 299.8 us, model 25.00 us",
    "within-longer": "source.bounce: a burst of it lasts longer than modelled: at least 59.80 us, model 52.00 us",
    "counts-off": "unit.second: it ends after another number of events than modelled (isr.tick.end): 9, model 10",
    "cost-longer": "isr.tick: its own running time is longer than modelled: at least 37.80 us, model 30.00 us",
    "cost-shorter": "isr.tick: its own running time is shorter than modelled: at most 12.20 us, model 20.00 us",
    "cost-longer each tenth": "isr.tick: its own running time is longer than modelled (each 10th run takes 13 us more): at least 37.80 us, model 30.00 us",
    "cost-longer of a tenth that is to cost no more": "isr.tick: its own running time is longer than modelled (each 10th run takes 13 us more): at least 37.80 us, model 30.00 us",
    "nth-longer": "isr.tick: what only some of its runs do takes longer than modelled (each 10th): at least 19.80 us, model 12.00 us",
    "nth-shorter": "isr.tick: what only some of its runs do takes less than modelled (each 10th): at most 9.200 us, model 12.00 us",
    "moment-later": "isr.tick: an event within it comes later than modelled (written): 6.800 us, model 5.000 us",
    "moment-sooner": "isr.tick: an event within it comes sooner than modelled (written): 1.200 us, model 3.000 us",
    "time-longer": "step.rest: it blocks longer than modelled: at least 189.8 us, model 102.0 us",
    "duration-below-bound": "step.rest: it took less than the model allows: 60.00 us, model 99.00 us",
    "guard-longer": "step.use: it holds interrupts off for longer than modelled: at least 21.42 us, model 4.000 us",
    "runs-unasked": "isr.edge: it runs without an event: something else raises its line as well (40 of its 140 runs); a storm of 42 starts from 9.301 ms to 10.3 ms of the capture, in which the loop stood for 450.7 us at a stretch",
    "runs-too-often": "isr.edge: it runs more often than its sources allow: 20 starts within 214.7 us, where 1 at most can come; a storm of 42 starts from 9.301 ms to 10.3 ms of the capture, in which the loop stood for 450.7 us at a stretch; look at source.edge",
    "lost-unexpected": "isr.edge: events were lost, although the model loses none: 1",
    "overwritten-unexpected": "flag.due: it was set while still set, although the model has no such case: 1",
    "comes-too-seldom": "source.tick: it stays away longer than the model allows; none for 4.000 ms, model 1.010 ms at most",
    "comes-no-more": "source.tick: it stops coming: the last at 60 ms of the capture; none for 39.46 ms, model 1.010 ms at most",
    "never-comes": "source.tick: its line never moves: it is due at least 98 times; none for 99.55 ms, model 1.010 ms at most",
    "latency-beyond-bound": "isr.tick: its first instruction came later than the model allows: nothing that has a line ran meanwhile: 51.00 us, model 18.12 us",
    "latency-below-bound": "isr.tick: its first instruction came sooner than the model allows: 100.0 ns, model 750.0 ns",
    "reaction-beyond-bound": "flag.due: the step that polls it came later than the model allows: nothing that has a line ran meanwhile: 474.0 us, model 233.0 us",
    "lost-wake-up": "step.nap: the core slept on a flag that was set, until the next interrupt: a lost wake-up (2 times, step.nap halts with flag.due set), for up to 690.0 us at a time",
    "not-modelled": "line.D9: its line is active 100 times on top of step.use; the model has nothing on it, for up to 60.00 us at a time",
}


def checked(code):
    model, text = CASES[code]
    return check(read_model(model, "m.toml"), read_event_stream([text.encode()], "r.events"))


def test_the_record_without_a_change_has_no_finding():
    for model in (MODEL, SLEEPS):
        assert not check(read_model(model, "m.toml"), read_event_stream([record().encode()], "r.events")).findings


@pytest.mark.parametrize("code", CASES)
def test_what_differs_is_said_first_in_one_sentence_and_can_be_taken_apart(code):
    result = checked(code)
    assert finding_text(result.findings[0]) == SAID[code]
    assert result.findings[0].code == code.partition(" ")[0]
    for number in range(1, len(result.findings) + 1):
        assert explain_finding(result, number).finding == result.findings[number - 1]


def test_every_code_is_in_the_list_with_what_to_do():
    told = Path(__file__).parent.parent.joinpath("docs/findings.md").read_text()
    rows = [line.split("|")[1:4] for line in told.splitlines() if line.startswith("| `")]
    mends = {code: row[2].strip().replace("`", "") for row in rows for code in re.findall("`([^`]+)`", row[0])}
    assert set(_MENDS) == {*_WORDS, "not-modelled"}
    assert {code: mends[code] for code in _MENDS} == _MENDS
    assert (mends["…-beyond-bound"], mends["…-below-bound"]) == (BEYOND, BELOW)
