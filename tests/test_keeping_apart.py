"""Sources that are never closer than a gap together: by hand, on paper, in play, on captures."""

from fractions import Fraction

import pytest

import playing
from boards import first, on_board
from planted import MS, US
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.demo.analyser import pulses
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.engine import play_whole
from tachys.simulation.follow import event_times
from tachys.simulation.options import RunOptions
from tachys.worstcase.analysis import bounds

NODE = """
tachys = 1
[core]
clock = "1 GHz"
levels = 3
[source.rx]
gap = "100 us"
[source.tx]
gap = "100 us"
[apart.line]
of = ["source.rx", "source.tx"]
gap = "86 us"
[isr.rx]
on = "source.rx"
level = 0
cost = "10 us"
[isr.tx]
on = "source.tx"
level = 1
cost = "30 us"
[source.key]
gap = "10 ms"
[isr.key]
on = "source.key"
level = 2
cost = "55 us"
"""


def test_what_comes_too_soon_comes_as_soon_as_it_may_and_its_own_gap_runs_from_there():
    _, records, index = play_whole(read_model(NODE, "m.toml"), RunOptions(phases="together"), 700 * US)
    rx, tx = (event_times(records, index, f"source.{name}") // US for name in ("rx", "tx"))
    # both at 0: the first written goes first; then each wants to come 100 behind itself, and has to wait
    assert rx.tolist() == [0, 172, 344, 516, 688]
    assert tx.tolist() == [86, 258, 430, 602]


def test_they_hold_others_off_no_more_than_their_common_distance_allows():
    together = bounds(read_model(NODE, "m.toml"))
    alone = bounds(read_model(NODE.replace('gap = "86 us"', 'gap = "1 ns"'), "m.toml"))
    # key: in [0, 85) comes but one of both, the longer one; without it one of each
    assert together.isrs["key"].response.most == (55 + 30) * US
    assert alone.isrs["key"].response.most == (55 + 30 + 10) * US
    text = NODE.replace('cost = "55 us"', 'cost = "100 us"')
    together = bounds(read_model(text, "m.toml"))
    alone = bounds(read_model(text.replace('gap = "86 us"', 'gap = "1 ns"'), "m.toml"))
    # in [0, 160): two come, the two of 30 would be 100 apart: 100 + 30 + 30; without it four: 100 + 60 + 20
    assert together.isrs["key"].response.most == 160 * US
    assert alone.isrs["key"].response.most == 180 * US


def test_together_they_ask_for_no_more_than_their_common_distance_allows():
    """Half duplex: 50 us at each byte, whichever way it goes, of 86 us; counted apart they would want 116 %."""
    text = NODE.replace('gap = "100 us"', 'gap = "86 us"').replace('"10 us"', '"50 us"').replace('"30 us"', '"50 us"')
    found = bounds(read_model(text, "m.toml"))
    assert found.load.most == Fraction(50, 86) + Fraction(55, 10_000)
    # key: 55, and in [0, 155) two come
    assert found.isrs["key"].response.most == 155 * US
    assert next(group.most for group in found.load.groups if group.who == "interrupts") == found.load.most
    # of the dearer one as much as may come of it, of the other what is left: 30 us at 1 / 100 us, 10 us else
    mixed = bounds(read_model(NODE, "m.toml")).load.most
    assert mixed == Fraction(30, 100) + (Fraction(1, 86) - Fraction(1, 100)) * 10 + Fraction(55, 10_000)
    window = bounds(read_model(text, "m.toml"), (860 * US,)).load.windows
    # of either what comes up to its response and end before it too: 860 and 100 us, 960 / 86: 12 of both; one key
    assert next(each.most for each in window if each.length == 860 * US) == Fraction(12 * 50 + 55, 860)


BURSTS = NODE.replace(
    '[source.tx]\ngap = "100 us"',
    """[source.tx]
burst = { count = 3, spaced = "20 us", every = "1 ms" }""",
)


def test_a_burst_that_has_to_wait_goes_on_later_as_a_whole():
    _, records, index = play_whole(
        read_model(BURSTS, "m.toml"), RunOptions(phases="together", arrivals="gap"), 1600 * US
    )
    rx, tx = (event_times(records, index, f"source.{name}") // US for name in ("rx", "tx"))
    # both at 0: rx first; tx at 86, then wanted at 106, rx wanted at 100 and goes first at 172: tx at 258, and so on
    assert rx.tolist()[:4] == [0, 172, 344, 516]
    assert tx.tolist()[:3] == [86, 258, 430]
    # its next burst begins 1 ms after the first, and as much later as it has waited: 86, 152 and 152
    assert tx.tolist()[3] >= 1000 + 86 + 152 + 152


@pytest.mark.parametrize("text", [NODE, BURSTS])
@pytest.mark.parametrize("phases", ["together", "drawn"])
def test_what_is_played_stays_within(phases, text):
    system = read_model(text, "m.toml")
    run = playing.played(system, RunOptions(phases=phases, seed=3), 200 * MS)
    assert not playing.beaten(bounds(system), run)


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('of = ["source.rx", "source.tx"]', 'of = ["source.rx", "source.tz"]', 'did you mean "source.tx"'),
        ('of = ["source.rx", "source.tx"]', 'of = "source.rx"', "two of them at least"),
        ('[source.tx]\ngap = "100 us"', '[source.tx]\nevery = "100 us"', "a period cannot be moved"),
        (
            '[source.tx]\ngap = "100 us"',
            '[source.tx]\nburst = { count = 2, spaced = "1 us", within = "5 us", every = "1 ms" }',
            "within",
        ),
        ("[isr.rx]", '[apart.b]\nof = ["source.rx", "source.key"]\ngap = "1 us"\n[isr.rx]', "not yet in two"),
    ],
)
def test_what_cannot_keep_apart_is_said(old, new, what):
    with pytest.raises(InputError, match=what):
        read_model(NODE.replace(old, new), "m.toml")


LINE = """
[source.echo]
gap = "300 us"
[apart.line]
of = ["source.wheel", "source.echo"]
gap = "120 us"
[probe.D2]
shows = "source.echo"
edge = "rise"
"""


def echoed(gap, seed=1):
    """A board on which an echo comes so long after each third pulse of the wheel."""

    def lines(truth):
        wheel = [run.event for run in truth.served]
        return {"D2": pulses([at + gap for at in wheel[::3]], 20 * US)}

    return on_board(LINE, seed, False, (), lines)[0]


def test_a_line_that_keeps_apart_is_not_blamed():
    result = echoed(140 * US)
    assert not result.findings
    figure = next(each for each in result.figures if each.about == "apart.line")
    assert figure.state == "agrees"


def test_what_comes_closer_together_is_named_and_written():
    result = echoed(90 * US)
    assert first(result) == [("apart.line", "gap-closer")]
    text = LINE
    from boards import BOARD

    again = fit(BOARD + text, "m.toml", [result.capture], "today")
    assert 'gap = "89.' in again.text
    assert not check(read_model(again.text, "m.toml"), result.capture).findings


def test_they_do_not_hold_each_other_off_where_a_busy_window_is_shorter_than_their_distance():
    # each alone is done after 30 us: if they come further apart than that, none finds the other
    for gap, tx in (("86 us", 30), ("30.001 us", 30), ("30 us", 40), ("1 ns", 40)):
        found = bounds(read_model(NODE.replace('gap = "86 us"', f'gap = "{gap}"'), "m.toml")).isrs
        assert found["tx"].response.most == found["tx"].span.most == tx * US
        assert found["rx"].response.most == 10 * US
    # without nesting rx waits for what of tx has begun, though that came long before
    flat = NODE.replace("levels = 3", "levels = 3\nnesting = false")
    assert bounds(read_model(flat, "m.toml")).isrs["rx"].response.most == (55 + 10) * US
    # what comes of something else may find any of them
    two = NODE.replace('on = "source.tx"', 'on = ["source.tx", "source.key"]').replace(
        '[isr.key]\non = "source.key"', '[isr.key]\non = "source.tx"'
    )
    assert bounds(read_model(two, "m.toml")).isrs["tx"].response.most > 40 * US
