"""One thing wrong on a board at a time: it is named first, its sound twin is not blamed, and a fit puts it right."""

import difflib

import pytest

from planted import FAULTS, MODEL, planted
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.checking.correct.fitting import fit, quantity
from tachys.demo.analyser import to_vcd
from tachys.model.loading import read_model

SEEDS = (1,)
TODAY = "2026-11-25"


def capture_of(fault, seed):
    return read_vcd([to_vcd(planted(fault, seed)).encode()], "board.vcd")


@pytest.fixture(scope="module")
def captures():
    return {(fault, seed): capture_of(fault, seed) for fault in FAULTS for seed in SEEDS}


@pytest.fixture(scope="module")
def system():
    return read_model(MODEL, "planted.toml")


@pytest.mark.parametrize("seed", range(1, 5))
def test_the_sound_twin_has_no_finding(system, seed):
    result = check(system, capture_of(None, seed))
    assert result.findings == ()
    assert not result.missed
    assert abs(result.clock.ppm - 6) < 0.5  # 17 of the board, -11 of the analyser


@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("fault", FAULTS)
def test_a_planted_fault_is_named_first(system, captures, fault, seed):
    result = check(system, captures[fault, seed])
    first = result.findings[0]
    assert (first.about, first.code) == FAULTS[fault]
    assert f"{first.code} {first.about}" in result.unaccepted  # so a strict check ends with 1


def test_words_and_consequences(system, captures):
    first = check(system, captures["prescaler not written", 1]).findings[0]
    assert "the prescaler is not written: it divides by 1, not by 24" in first.text
    assert "count 6001 in place of 6000" in check(system, captures["n for n + 1", 1]).findings[0].text
    dropped = check(system, captures["dropped conversions", 1])
    assert dropped.findings[0].falls == ("sampled", "kept")
    assert "unit.adc" in dropped.findings[0].explains
    truth = [at for name, at in planted("dropped conversions", 1).truth.lost if name == "adc"]
    assert abs(dropped.needs["kept"].value - sum(41_212_345_678 < at < 441_212_345_678 for at in truth)) <= 1


@pytest.mark.parametrize("fault", FAULTS)
def test_a_fit_makes_the_capture_agree_and_changes_values_only(captures, fault):
    capture = captures[fault, 1]
    fitted = fit(MODEL, "planted.toml", [capture], TODAY)
    after = check(read_model(fitted.text, "planted.toml"), capture)
    assert not [each for each in after.figures if each.state is Agreement.REFUTES]
    changed = [line for line in difflib.ndiff(MODEL.splitlines(), fitted.text.splitlines()) if line[0] in "+-"]
    keys = {line[2:].split(" = ")[0] for line in changed}
    assert keys == {change.key.rsplit(".", 1)[1] for change in fitted.changes}
    assert all(f"# measured: board.vcd, {TODAY}" in line for line in changed if line[0] == "+")
    again = fit(fitted.text, "planted.toml", [capture], TODAY)
    assert again.text == fitted.text
    assert again.changes == ()


def test_margins_and_tightening(captures):
    capture = captures["longer routine", 1]
    plain, roomy = (fit(MODEL, "p.toml", [capture], TODAY, margin=margin) for margin in (0, 1))
    assert [change.key for change in plain.changes] == ["isr.tick.cost"]
    most = float(plain.changes[0].becomes.split('"')[3].split()[0])
    assert float(roomy.changes[0].becomes.split('"')[3].split()[0]) == pytest.approx(2 * most, rel=0.01)
    tight = fit(MODEL, "p.toml", [capture], TODAY, tighten=True)
    assert {"isr.wheel.cost", "source.wheel.gap"} <= {change.key for change in tight.changes}
    assert not [
        each for each in check(read_model(tight.text, "p.toml"), capture).figures if each.state is Agreement.REFUTES
    ]


def test_comments_and_order_are_kept(captures):
    text = MODEL.replace('cost = ["4 us", "7 us"]', 'cost = ["4 us", "7 us"]   # read off the listing')
    fitted = fit(text, "p.toml", [captures["longer routine", 1]], TODAY)
    line = next(line for line in fitted.text.splitlines() if "listing" in line)
    assert line.startswith('cost = ["4 us", "3')
    assert line.endswith(f"# read off the listing; measured: board.vcd, {TODAY}")


@pytest.mark.parametrize(("ps", "up", "down"), [
    (7_000_001, "7.001 us", "7 us"), (33_000_000, "33 us", "33 us"), (235_400_123, "235.5 us", "235.4 us"),
    (999, "999 ps", "999 ps"), (1_000_000_000, "1 ms", "1 ms"),
])  # fmt: skip
def test_times_are_written_on_the_safe_side(ps, up, down):
    assert quantity(ps, up=True) == up
    assert quantity(ps, up=False) == down
