"""A capture that is larger than one look takes is checked piece by piece, and nothing false is said at the cuts."""

import tracemalloc

import numpy as np
import pytest

from tachys.capture.inspecting import changes_of, pieces
from tachys.capture.reading import read_capture
from tachys.capture.table import Capture, Signal
from tachys.checking import checking
from tachys.checking.board import nesting
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.checking.out.explaining import explain_finding
from tachys.demo.project import write_project
from tachys.model.loading import load_model, read_model
from tachys.needs.verdicts import Verdict
from test_wild_boards import wrongs
from wild import INSIDE, MEETS, wild


@pytest.fixture
def in_pieces(monkeypatch):
    monkeypatch.setattr(checking, "WHOLE", 400)
    monkeypatch.setattr(checking, "PIECE", 400)


@pytest.mark.parametrize("seed", [first + number for first in (0, INSIDE, MEETS) for number in range(12)])
def test_a_right_model_is_not_blamed_at_the_cuts(in_pieces, seed):
    assert wrongs(seed) == []


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo")
    write_project(folder)
    return load_model(folder / "row_unit.toml"), read_capture(folder / "faulty.vcd")


def test_pieces_are_the_capture_cut_where_no_line_changes(demo):
    _, capture = demo
    parts = pieces(capture, 1000)
    changes = changes_of(capture)
    assert len(parts) == -(-changes // 1000)
    assert [parts[0].begin, *(part.end for part in parts)] == [*(part.begin for part in parts), capture.end]
    for name, signal in capture.signals.items():
        again = np.concatenate([part.signals[name].at[min(number, 1) :] for number, part in enumerate(parts)])
        assert (again == signal.at).all()
    assert pieces(capture, changes) == [capture]


def test_in_pieces_the_demo_says_the_same(demo, monkeypatch):
    system, capture = demo
    whole = check(system, capture)
    monkeypatch.setattr(checking, "WHOLE", 2000)
    monkeypatch.setattr(checking, "PIECE", 2000)
    told = []
    parted = check(system, capture, told=told.append)
    assert len(parted.parts) > 2
    assert sum(told) >= changes_of(capture)
    assert {name: need.verdict for name, need in parted.needs.items()} == {
        name: need.verdict for name, need in whole.needs.items()
    }
    assert parted.findings[0].name == whole.findings[0].name
    assert any("pieces" in remark for remark in parted.remarks)
    cuts = len(parted.parts) - 1
    for name, need in parted.needs.items():
        assert whole.needs[name].count - cuts <= need.count <= whole.needs[name].count
    for name, isr in parted.isrs.items():
        assert isr.runs == whole.isrs[name].runs
    figures = {(figure.about, figure.key): figure for figure in whole.figures}
    for figure in parted.figures:
        assert figure.state in (figures[figure.about, figure.key].state, Agreement.NOT_SHOWN)  # too slow for a piece
    missed = next(need for need in parted.needs.values() if need.verdict is Verdict.MISSED)
    late = missed.misses[-1]
    part = parted.around(late.at)
    assert part.capture.begin <= late.at <= part.capture.end
    assert explain_finding(parted, 1).result.capture.length < capture.length


@pytest.mark.parametrize("seed", [first + number for first in (0, INSIDE, MEETS) for number in range(4)])
def test_who_ran_when_is_made_again_as_it_was(monkeypatch, seed):
    board = wild(seed)
    system, capture = read_model(board.model, "wild.toml"), board.capture()
    before = check(system, capture)
    monkeypatch.setattr(nesting, "FEW", 0)
    after = check(system, capture)
    assert (after.needs, after.findings, repr(after.figures)) == (before.needs, before.findings, repr(before.figures))


def test_what_is_measured_of_an_edge_takes_few_bytes():
    text, signals, count = ['tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 10\nentry = "1 us"'], {}, 20_000
    for k in range(10):
        text.append(f'[source.s{k}]\ngap = "900 us"\n[isr.r{k}]\non = "source.s{k}"\nlevel = {k}\ncost = "20 us"')
        text.append(
            f'deadline = "200 us"\n[probe.E{k}]\nshows = "source.s{k}"\nedge = "rise"\n[probe.B{k}]\nshows = "isr.r{k}"'
        )
        rises = 10**9 * np.arange(1, count + 1) + 10**8 * k
        for name, rise, width in ((f"E{k}", rises, 10**6), (f"B{k}", rises + 10**6, 20 * 10**6)):
            at = np.concatenate([[0], np.stack([rise, rise + width], 1).ravel()])
            signals[name] = Signal(name, 1, at, (np.arange(len(at)) % 2).astype(np.int8), np.ones(len(at), np.bool_))
    system, capture = read_model("\n".join(text), "m.toml"), Capture("c.vcd", signals, 0, 10**9 * count + 10**10, 1000)
    check(system, capture)
    tracemalloc.start()
    found = check(system, capture)
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert not found.findings
    assert most / changes_of(capture) < 25
