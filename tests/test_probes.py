"""Which line shows what: proposed for boards whose lines have lost their names, faults of binding found, models begun."""

import json
import re

import pytest

from bindings import DUE, KINDS, nameless, planted, with_a_wrong_figure, with_probes
from calling import tachys
from tachys.capture.csv import read_csv
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.checking.correct.beginning import begin_model
from tachys.checking.probes.misbound import judge_binding
from tachys.compiled import only
from tachys.demo import board
from tachys.demo.analyser import Recording, to_vcd
from tachys.demo.project import model_text
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.worstcase.analysis import bounds

HEAD = 'tachys = 1\n[core]\nclock = "48 MHz"\nlevels = 2\n'


def propose(paper, capture):
    return list(judge_binding(paper, capture).proposals)


def judged(text, capture):
    return judge_binding(bounds(read_model(text, "m.toml")), capture)


@pytest.mark.parametrize("seed", [1, 2, 3, 855])
def test_lines_are_known_by_what_they_do(seed):
    """855: two routines and their events are so much alike that exchanging all four would do as well."""
    made = nameless(seed)
    wrong, sure = 0, 0
    for proposal in propose(bounds(read_model(made.model, "m.toml")), made.capture):
        due = made.truth.get(proposal.line)
        if due is not None:
            right = proposal.meaning is not None and (proposal.meaning.thing, proposal.meaning.edge) == due
            wrong += not right
            sure += proposal.is_sure
            assert right or not proposal.is_sure
    assert wrong == (4 if seed == 855 else 0)
    assert sure >= 0.7 * len(made.truth)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", [4, 5])
def test_a_fault_of_binding_is_named_first_and_a_right_model_has_none(seed, kind):
    made = nameless(seed)
    right = with_probes(made, {line: (*due, False) for line, due in made.truth.items()})
    assert judged(right, made.capture).faults == ()
    text, capture, lines = planted(made, kind, seed)
    first = judged(text, capture).faults[0]
    assert first.fault is DUE[kind]
    assert not lines or set(first.lines) == set(lines)
    if kind != "another":  # too little of it is refuted for the check to ask
        told = check(read_model(text, "m.toml"), capture).remarks[0]
        assert first.wrong.split(":")[0] in told or "look at the unit of time first" in told


@pytest.mark.parametrize("seed", [1151, 1133])
def test_what_a_wrong_figure_would_explain_as_well_is_no_sure_fault(seed):
    made = nameless(seed)
    text, what = with_a_wrong_figure(made, seed)
    (fault, *_) = judged(text, made.capture).faults
    assert not fault.sure
    assert "if that figure of the model is right" in fault.mend
    assert what


def test_proposals_go_into_the_file_and_are_then_as_it_is(tmp_path):
    text = "".join(part for part in model_text().partition("[probe.D0]")[:1]) + "# the end\n"
    (tmp_path / "m.toml").write_text(text)
    (tmp_path / "c.vcd").write_text(to_vcd(board.record(faulty=False)))
    blind = tachys(tmp_path, "check", "m.toml", "c.vcd")
    assert (blind.returncode, "tachys probes m.toml c.vcd proposes it" in blind.stderr) == (2, True)
    shown = tachys(tmp_path, "probes", "m.toml", "c.vcd")
    assert (shown.returncode, (tmp_path / "m.toml").read_text()) == (0, text)
    assert tachys(tmp_path, "probes", "m.toml", "c.vcd", "--write").returncode == 0
    written = (tmp_path / "m.toml").read_text()
    assert "# the end" in written
    theirs, ours = read_model(model_text(), "a").probes, read_model(written, "b").probes
    same = {"toggle": "both", "pulse": "rise"}
    assert {(p.signal, p.shows, same.get(p.edge, p.edge)) for p in ours} == {
        (p.signal, p.shows, same.get(p.edge, p.edge)) for p in theirs
    }
    again = tachys(tmp_path, "probes", "m.toml", "c.vcd")
    assert "stand as they should" in again.stdout


def test_nothing_is_proposed_of_lines_that_stand_still_and_of_empty_models():
    still = read_csv([b"t [us],a,b\n0,0,1\n1,1,1\n9,0,1\n"], "s.csv")
    assert propose(bounds(read_model(model_text(), "m.toml")), still) == []
    assert propose(bounds(read_model(HEAD, "m.toml")), nameless(1).capture) == []
    with pytest.raises(InputError, match="no line of it moves"):
        begin_model(still, "2026-01-01")


@pytest.mark.parametrize("seed", [0, 4, 8, None])
def test_a_model_begun_from_a_capture_is_refuted_by_it_in_nothing(seed):
    with only(plain=False):
        if seed is None:
            capture = read_vcd([to_vcd(board.record(faulty=True)).encode()], 'odd "name".vcd')
        else:
            capture = nameless(seed).capture
        text = begin_model(capture, "2026-01-01")
        found = check(read_model(text, "begun.toml"), capture)
    assert found.findings == ()
    assert not any(figure.state.value == "refutes" for figure in found.figures)
    assert text.count("?") > 10


def test_names_of_lines_that_are_no_names_in_a_model():
    rows = "".join(f"{20 * k},1,{k % 7 % 2}\n{20 * k + 2 + k % 3},0,{k % 7 % 2}\n" for k in range(60))
    capture = read_csv([f't [us],"a b.c",x\n{rows}'.encode()], "c.csv")
    text = begin_model(capture, "2026-01-01")
    assert check(read_model(text, "m"), capture).findings == ()
    assert '[probe."a b.c"]' in text


def test_captures_with_other_lines_and_other_names_are_checked_together(tmp_path):
    """What one capture does not show another may; only what none shows is missed, and so is a line's other name."""
    seen = board.record(faulty=False)
    first, second = (Recording({name: seen.levels[name] for name in names}, seen.analyser, seen.truth)
                     for names in (("D0", "D1"), ("D2", "D3", "D7")))  # fmt: skip
    (tmp_path / "a.vcd").write_text(to_vcd(first).replace(" D1 $end", " CH1 $end"))
    (tmp_path / "b.vcd").write_text(to_vcd(second))
    text = re.sub(r"(?s)\[probe\.D[45689]\].*?(?=\n\[|$)", "", model_text())
    (tmp_path / "m.toml").write_text(text.replace("[probe.D1]\n", '[probe.D1]\nalso = ["IN1", "CH1"]\n'))
    alone = tachys(tmp_path, "check", "m.toml", "b.vcd")
    assert (alone.returncode, 'b.vcd has no signal "D0"' in alone.stderr) == (2, True)
    both = tachys(tmp_path, "check", "m.toml", "a.vcd", "b.vcd", "--format", "json")
    needs = [each["needs"] for each in json.loads(both.stdout)["captures"]]
    assert both.returncode == 0
    assert [each["release"]["basis"] for each in needs] == ["paper and board", "paper"]
    assert [each["bus_byte.deadline"]["basis"] for each in needs] == ["paper", "paper and board"]


def test_a_long_capture_of_another_board_is_not_scaled_beyond_what_times_can_be():
    rows = "".join(f"{10 * k},{k % 2},{k // 3 % 2},{k // 2 % 2}\n" for k in range(60))
    capture = read_csv([f"t [s],a,b,c\n{rows}".encode()], "long.csv")
    binding = judged(model_text()[: model_text().index("[probe.D0]")], capture)
    assert [str(each.fault) for each in binding.faults] == ["other-board"]
