"""The check against the stand-in's truth, and matching of events to runs."""

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tachys.capture.csv import read_csv
from tachys.capture.vcd import read_vcd
from tachys.checking.board.matching import match
from tachys.checking.checking import check
from tachys.checking.compare import sentences
from tachys.demo import board
from tachys.demo.analyser import to_csv, to_vcd
from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.needs.verdicts import Verdict

LIMIT = 40 * board.US


def in_capture(at):
    return 0 < board.ANALYSER.time(at) <= board.LENGTH - 2 * board.SAMPLE


@pytest.fixture(scope="module", params=[7, 8, 9])
def faulty(request):
    recording = board.record(faulty=True, seed=request.param)
    capture = read_vcd([to_vcd(recording).encode()], "faulty.vcd")
    return recording, check(read_model(model_text(), "row_unit.toml"), capture)


def test_every_late_pulse_is_found_and_none_invented(faulty):
    recording, result = faulty
    late = [run for run in recording.late("wheel", LIMIT) if in_capture(run.event) and in_capture(run.start)]
    lost = [at for name, at in recording.truth.lost if name == "wheel" and in_capture(at)]
    assert all(run.start - run.event > LIMIT + 2 * board.SAMPLE for run in late), "a case within the resolution"
    need = result.needs["release"]
    assert need.verdict is Verdict.MISSED
    found = [miss.at for miss in need.misses]
    true = sorted(board.ANALYSER.time(at) for at in [*(run.event for run in late), *lost])
    assert len(found) == len(true) > 4
    assert all(abs(a - b) <= board.SAMPLE for a, b in zip(found, true, strict=True))


def test_losses_and_latencies_are_those_of_the_board(faulty):
    recording, result = faulty
    lost = [at for name, at in recording.truth.lost if name == "bus_byte" and in_capture(at)]
    assert result.isrs["bus_byte"].lost == len(lost) > 0
    true = max(
        run.start - run.event for run in recording.truth.served if run.name == "pressure" and in_capture(run.start)
    )
    assert abs(result.isrs["pressure"].latency.most - true) <= board.SAMPLE


def test_the_flash_write_is_named_for_every_miss(faulty):
    assert {miss.causes[0].what for miss in faulty[1].needs["release"].misses} == {"step.log"}


def test_the_mended_board_agrees_with_the_model():
    capture = read_csv([to_csv(board.record(faulty=False)).encode()], "mended.csv")
    result = check(read_model(model_text(), "row_unit.toml"), capture)
    assert {need.verdict for need in result.needs.values()} == {Verdict.MET}
    assert result.findings == ()


def test_a_period_that_is_off_is_refuted():
    capture = read_csv([to_csv(board.record(faulty=False)).encode()], "mended.csv")
    system = read_model(model_text().replace("reload_register = 5999", "reload_register = 6000"), "row_unit.toml")
    (finding,) = check(system, capture).findings
    assert finding.code == "period-off"
    assert "count 6000 in place of 6001" in finding.text


def instants(*values):
    return np.asarray(values, np.int64)


def test_matching_by_hand():
    """Events e, runs r; one is remembered.  e0 e5 r9 e20 r21: the event at 5 found the memory full."""
    found = match([instants(0, 5, 20)], instants(9, 21), pending=1, lead=1)
    assert (found.event.tolist(), found.run.tolist(), found.lost.tolist()) == ([0, 20], [0, 1], [5])
    # an event after the acceptance, in the entry of the run, waits for the next
    found = match([instants(0, 9)], instants(10, 30), pending=1, lead=2)
    assert (found.event.tolist(), found.run.tolist(), found.lost.tolist()) == ([0, 9], [0, 1], [])
    # the capture begins while an event waits already: its run is not given to the next event
    found = match([instants(5, 100)], instants(7, 9, 103), pending=1, lead=1)
    assert (found.event.tolist(), found.run.tolist()) == ([5, 100], [1, 2])


@given(st.lists(st.integers(30, 60), min_size=2, max_size=30), st.lists(st.integers(1, 25), min_size=30, max_size=30))
def test_matching_of_well_spaced_events_is_one_to_one(gaps, waits):
    events = np.cumsum(np.asarray(gaps, np.int64))
    runs = events + np.asarray(waits[: len(events)], np.int64)
    found = match([events], runs, pending=1, lead=1)
    assert found.run.tolist() == list(range(len(events)))
    assert not len(found.lost)
    assert not len(found.waiting)


def test_a_run_that_is_left_is_that_of_an_event_which_may_have_come_just_behind():
    """Sampled at 1 us: 62 may have come before 63 or behind it, and three events had three runs."""
    found = match([instants(53, 62, 77)], instants(63, 77, 92), pending=1, lead=0, longest=instants(2, 2, 2))
    assert (found.lost_count, len(found.lost)) == (0, 0)


def test_every_finding_stands_in_its_page():
    page = (Path(__file__).parent.parent / "docs" / "findings.md").read_text()
    for code in sentences._WORDS:
        assert f"`{code}`" in page, code
