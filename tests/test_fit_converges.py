"""A fit puts right any few figures that were between half and one and a half times what they are, at the first try."""

import random
import re

import pytest

from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.correct.fitting import fit
from tachys.demo.analyser import to_vcd
from tachys.model.loading import read_model
from trials import trial

COSTS = r'cost = \["(\d+) us", "(\d+) us"\]'
FIGURES = COSTS + r'|gap = "(\d+) us"|every = "(\d+) us"\n\[probe'


def spoiled(text, dice, figures, most, least_off, most_off):
    """The model with so many of its figures wrong, each by a factor between the two."""
    spots = list(re.finditer(figures, text))
    for spot in sorted(dice.sample(spots, most), key=lambda spot: -spot.start()):
        off = dice.uniform(least_off, most_off)
        wrong = re.sub(r"(\d+) us", lambda digits, off=off: f"{max(1, round(int(digits[1]) * off))} us", spot[0])
        text = text[: spot.start()] + wrong + text[spot.end() :]
    return text


@pytest.mark.parametrize("seed", range(12))
def test_a_model_with_wrong_figures_is_right_after_one_fit(seed):
    board, dice = trial(seed), random.Random(seed)
    text = spoiled(board.model, dice, FIGURES, dice.randint(1, 4), 0.5, 1.5)
    capture = read_vcd([to_vcd(board.recording).encode()], "board.vcd")
    fitted = fit(text, "trial.toml", [capture], "2026-11-26")
    assert check(read_model(fitted.text, "trial.toml"), capture).findings == ()
    assert fit(fitted.text, "trial.toml", [capture], "2026-11-26").changes == ()


@pytest.mark.parametrize("seed", range(100, 106))
def test_costs_that_are_too_low_are_no_routine_that_the_model_lacks(seed):
    board, dice = trial(seed), random.Random(seed)
    text = spoiled(board.model, dice, COSTS, 3, 0.5, 0.9)
    text = re.sub(r"guard = .*\n", "", text)  # a guard must fit into its body
    capture = read_vcd([to_vcd(board.recording).encode()], "board.vcd")
    assert all(each.code != "not-modelled" for each in check(read_model(text, "m.toml"), capture).findings)
