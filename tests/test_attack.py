"""The attack of ``make soak`` on a few models: everything compared agrees, and what it finds it makes small."""

import contextlib
import subprocess
import sys
from pathlib import Path

import pytest

import soak
from attack import Attack, attack, shrunk, toml
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.worstcase import laws, window
from tachys.worstcase.analysis import bounds

EVERYTHING = 253_303_000_000  # of each kind of model something
EMPTYING = 512_003_000_000  # steps that drain until nothing is in
DRAINING = 1_024_003_500_000  # routines that do
ANSWERING = 2_048_000_000_000  # transfers that go on with their own routine
SHIFTING = 4_096_000_000_000  # guards that begin now sooner, now later


@pytest.mark.parametrize("first", [*range(0, 160, 40), EVERYTHING, EMPTYING, DRAINING, ANSWERING, SHIFTING])
def test_nothing_that_is_played_contradicts_paper(first):
    found = {seed: told["found"] for seed in range(first, first + 24) if (told := soak.one(seed, 1))["found"]}
    assert found == {}


def test_activations_that_are_passed_over_would_have_changed_nothing(monkeypatch):
    def told(row, seed):
        monkeypatch.setattr(window, "LONG_ROW", row)
        found = bounds(read_model(toml(attack(seed)), "m.toml"))
        return [(str(isr), isr.latency.parts, isr.response.parts, isr.pending_needed) for isr in found.isrs.values()]

    seen = 0
    for seed in range(253_303_000_100, 253_303_000_140):
        with contextlib.suppress(InputError):
            assert told(0, seed) == told(10**9, seed)
            seen += 1
    assert seen > 20


def test_a_theory_that_is_wrong_is_found_and_shrunk(monkeypatch):
    """With the number of starts lost in a row forgotten, some model loses a start that it never should."""
    monkeypatch.setattr(laws, "_lost_in_row", lambda *_: 0)

    def fails(model):
        try:
            wrong, _ = soak.look(model, 1, plays=1)
        except InputError:
            return False
        return "unit never loses and lost" in dict(wrong)

    model = Attack(11).model()
    assert fails(model)
    small = shrunk(model, fails)
    assert len(toml(small).splitlines()) < len(toml(model).splitlines())
    assert "[unit." in toml(small)
    assert read_model(toml(small), "small.toml").units


def test_the_soak_says_what_it_did():
    told = subprocess.run([sys.executable, Path(soak.__file__), "--models", "3", "--plays", "1"], capture_output=True,
                          text=True, check=True).stdout  # fmt: skip
    assert "3 models" in told
    assert "no bound beaten, nothing crashed" in told
