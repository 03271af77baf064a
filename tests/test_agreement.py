"""Bounds, simulation and check held against each other: a model played, looked at as a capture, and checked."""

import random

import pytest

from planted import MODEL
from playing import ways
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict
from tachys.simulation.writing import timeline_bytes
from tachys.worstcase.analysis import bounds
from trials import trial

MODELS = {"row unit": model_text(), "planted": MODEL} | {f"trial {seed}": trial(seed).model for seed in range(3)}
MS = 10**9
# what the bounds say of a time, and where a check measures it
TIMES = [("isrs", ("latency", "response", "span")), ("flags", ("reaction",)), ("steps", ("duration", "interval"))]


@pytest.fixture(scope="module", params=MODELS)
def paper(request):
    return bounds(read_model(MODELS[request.param], "model.toml"))


def seen_as_a_capture(paper, seed, begin=0):
    """A run of a model from ``begin`` on as its probes show it, checked against the model."""
    window = (begin, begin + 60 * MS)
    text = timeline_bytes(paper.system, ways(seed), window, "run.vcd", probes=True)
    return check(paper.system, read_vcd([text], "run.vcd"), paper)


@pytest.mark.parametrize("seed", range(4))
def test_a_run_of_a_model_does_not_refute_it(paper, seed):
    """From the beginning, or from the middle of things on."""
    result = seen_as_a_capture(paper, seed, begin=seed % 2 * random.Random(seed).randrange(5 * MS, 20 * MS))
    assert result.findings == ()
    assert [figure for figure in result.figures if figure.state is Agreement.REFUTES] == []
    for name, need in result.needs.items():
        if paper.needs[name].proved:
            assert need.verdict is Verdict.MET
            assert need.misses == ()


@pytest.mark.parametrize("seed", range(2))
def test_nothing_measured_is_outside_its_bounds(paper, seed):
    """Least bound ≤ measured ≤ most bound, each within what is known of the measurement."""
    result = seen_as_a_capture(paper, seed)
    for kind, names in TIMES:
        for name, measured in getattr(result, kind).items():
            for what in names:
                figure, seen = getattr(getattr(paper, kind)[name], what), getattr(measured, what)
                if seen is None:
                    continue
                room = seen.resolution + seen.most // 10_000
                assert figure.most is None or seen.most <= figure.most + room, (name, what)
                assert seen.relative or seen.least >= figure.least - room, (name, what)
    for name, isr in result.isrs.items():
        if isr.cost is not None:
            cost = paper.system.isr(name).cost
            assert isr.cost.least <= cost.most + isr.cost.resolution
        assert not isr.lost or paper.isrs[name].lost


@pytest.mark.parametrize("seed", range(2))
def test_shares_of_load_agree(paper, seed):
    result = seen_as_a_capture(paper, seed)
    assert result.load.least <= float(paper.load.most) + 0.01
    for window in result.busiest:
        assert window.share <= float(window.bound) + 0.01
