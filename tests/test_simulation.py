"""The engine against timelines drawn by hand, one for each law, and what is written read back by others."""

import io
import itertools
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import vcd.reader
from hypothesis import given
from hypothesis import strategies as st

from playing import LONG, needs_beaten, ways
from strategies import NS, needy_models
from tachys.capture.parquet import read_parquet
from tachys.capture.reading import read_capture
from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.project import model_text
from tachys.drawing.moment import play_moment
from tachys.drawing.scene import scene_of_played
from tachys.drawing.text import text_lines
from tachys.errors import InputError
from tachys.model.loading import load_model, read_model
from tachys.needs.verdicts import Verdict
from tachys.simulation import layout as at
from tachys.simulation.engine import Run, join, play_whole
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import counted, taken
from tachys.simulation.worst import search
from tachys.simulation.writing import play_lanes, timeline_bytes
from tachys.worstcase.analysis import bounds

HEAD = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 2\n'
FREE = HEAD + 'entry = "0 s"\nexit = "0 s"\n'
TAXED = HEAD + 'entry = "2 ns"\nexit = "1 ns"\nchain = "1 ns"\n'
SIGN = {"runs": "#", "aside": "=", "waits": ".", "enters": "+", "leaves": "+", "spins": "~", "sleeps": "z", "wakes": "^",
        "works": "o", "set": "|"}  # fmt: skip


def source(name, first, every=1000):
    return f'[source.{name}]\nevery = "{every} ns"\noffset = "{first} ns"\n'


def isr(name, on, level, cost, more=""):
    return f'[isr.{name}]\non = "{on}"\nlevel = {level}\ncost = "{cost} ns"\n{more}\n'


def drawn(text, length, compiled=True):
    """Every lane as a string, a character a nanosecond; all costs at their most."""
    system = read_model(text, "m.toml")
    found = play_lanes(system, RunOptions("most", "together", "gap"), 0, length * NS)
    lanes = {}
    for stretch in sorted(found.stretches, key=lambda s: list(SIGN).index(s.state), reverse=True):
        lane = lanes.setdefault(stretch.who.split(".")[1], [" "] * length)
        lane[stretch.begin // NS : stretch.end // NS] = SIGN[stretch.state] * ((stretch.end - stretch.begin) // NS)
    for who, times in found.lost.items():
        lane = lanes.setdefault(who.split(".")[1], [" "] * length)
        for time in times:
            lane[time // NS : time // NS + 1] = "X" * (time // NS < length)
    return {name: "".join(lane).rstrip() for name, lane in lanes.items()}


HAND_DRAWN = {
    "preemption": (
        FREE + source("l", 0) + source("h", 3) + isr("h", "source.h", 0, 4) + isr("l", "source.l", 1, 6),
        {"h": "   ####",
         "l": "###====###"},
    ),
    "one level: the second waits for the first": (
        FREE + source("a", 0) + source("b", 2) + isr("a", "source.a", 0, 5) + isr("b", "source.b", 0, 3),
        {"a": "#####",
         "b": "  ...###"},
    ),
    "a body that ends as a more urgent event comes has ended": (
        TAXED + source("l", 0) + source("h", 6) + isr("h", "source.h", 0, 3) + isr("l", "source.l", 1, 4),
        {"l": "++####",
         "h": "      +###+"},
    ),
    "a guard holds off, from after its beginning to its end": (
        FREE + source("l", 0) + source("h", 2) + isr("h", "source.h", 0, 2)
        + isr("l", "source.l", 1, 8, 'guard = { level = 0, for = "4 ns", at = "1 ns" }'),
        {"h": "  ...##",
         "l": "#####==###"},
    ),
    "a chain takes the place of exit and entry": (
        TAXED + source("a", 0) + source("b", 3) + isr("a", "source.a", 0, 4) + isr("b", "source.b", 0, 3),
        {"a": "++####",
         "b": "   ...+###+"},
    ),
    "what comes during an exit pays the rest of it and a full entry": (
        HEAD + 'entry = "2 ns"\nexit = "3 ns"\nchain = "1 ns"\n' + source("a", 0) + source("b", 5)
        + isr("a", "source.a", 0, 2) + isr("b", "source.b", 0, 2),
        {"a": "++##+++",
         "b": "     ..++##+++"},
    ),
    "an arrival during an entry is accepted right after, with its own": (
        TAXED + source("l", 0) + source("h", 1) + isr("h", "source.h", 0, 3) + isr("l", "source.l", 1, 4),
        {"h": " .++###+",
         "l": "++      ####+"},
    ),
    "late arrival takes the entry over": (
        TAXED + source("l", 0) + source("h", 1) + isr("h", "source.h", 0, 3) + isr("l", "source.l", 1, 4),
        {"h": "  ###",
         "l": ".....+####+"},
    ),
    "a third event is lost where one is remembered": (
        FREE + source("l", 0, 3) + isr("l", "source.l", 0, 8),
        {"l": "######X#"},
    ),
    "a unit that restarts": (
        FREE + source("s", 0, 4) + '[unit.u]\non = "source.s"\ntakes = "6 ns"\nbusy = "restart"\n',
        {"u": "ooooXooo"},
    ),
    "a unit that queues": (
        FREE + source("s", 0, 5) + '[unit.u]\non = "source.s"\ntakes = "3 ns"\nbusy = "queue"\n',
        {"u": "ooo  ooo"},
    ),
    "the lost wake-up: a flag set between its poll and the halt waits for the next interrupt": (
        FREE + source("s", 6, 20) + isr("r", "source.s", 0, 2, 'sets = "f"') + '[loop]\noverhead = "1 ns"\n'
        '[step.take]\npolls = "f"\ncost = "2 ns"\n[step.work]\ncost = "7 ns"\n[step.nap]\nsleep = true\n',
        {"r": "      ##                  ##",
         "work": " #####==##                     #######",
         "nap": "          zzzzzzzzzzzzzzzz==          zz",
         "take": "                             ##",
         "f": "        ||||||||||||||||||||X"},
    ),
    "a blocking wait with a timeout": (
        FREE + '[unit.u]\non = "step.go.end"\ntakes = "9 ns"\n[loop]\noverhead = "1 ns"\n'
        '[step.go]\ncost = "2 ns"\n[step.send]\nwaits = "unit.u"\nat_most = "4 ns"\ncost = "3 ns"\n',
        {"go": " ##     ##      ##",
         "send": "   ~~~~   ~~###   ~~",
         "u": "   oooooooXo      oo"},
    ),
    "a pause ends by the clock, whatever interrupts": (
        FREE + source("s", 3) + isr("r", "source.s", 0, 2) + '[loop]\noverhead = "1 ns"\n[step.p]\npause = "6 ns"\n',
        {"r": "   ##",
         "p": " ~~==~~ ~~~~~~"},
    ),
}  # fmt: skip


@pytest.mark.parametrize("law", HAND_DRAWN)
def test_timelines_drawn_by_hand(law):
    text, expected = HAND_DRAWN[law]
    if law.startswith("late"):
        text = text.replace("levels = 2\n", "levels = 2\nlate_arrival = true\n")
    length = max(max(map(len, expected.values())), 8)
    found = drawn(text, length)
    assert {name: found.get(name, "") for name in expected} == {n: lane.rstrip() for n, lane in expected.items()}


def test_lost_restarted_and_queued_are_counted():
    result = simulate(read_model(FREE + source("l", 0, 3) + isr("l", "source.l", 0, 8), "m"), 30 * NS)
    # came at 0, 3, 6 … 30; one is served and one waits: three of four are lost but for the first
    assert result.lost["isr.l"] == 11 - 4 - 1
    text = FREE + source("s", 0, 4) + '[unit.u]\non = "source.s"\ntakes = "6 ns"\nbusy = "{}"\n'
    kept = {busy: simulate(read_model(text.format(busy), "m"), 40 * NS).lost["unit.u"] for busy in
            ("drop", "restart", "queue")}  # fmt: skip
    assert kept == {"drop": 5, "restart": 10, "queue": 3}


def test_a_timer_reloaded_by_software_drifts():
    """Each round is the timer, the entry and the body: 100 + 2 + 5 ns where 100 were meant."""
    text = (
        TAXED + '[unit.t]\non = "isr.r.end"\ntakes = "100 ns"\nprimed = true\n[isr.r]\non = "unit.t"\ncost = "5 ns"\n'
    )
    _, records, _ = play_whole(read_model(text, "m.toml"), RunOptions(), 10_000 * NS)
    ends = records.time[records.kind == at.UNIT_END]
    assert set(np.diff(ends)) == {107 * NS}


def test_what_is_taken_of_the_core_adds_up_to_the_time():
    system = read_model(model_text(), "row_unit.toml")
    run, _, index = play_whole(system, RunOptions(), 200 * 10**9)
    assert sum(taken(run.memory, index, run.end).values()) == run.end


def test_runs_are_repeatable_and_add_up():
    system = read_model(model_text(), "row_unit.toml")
    one, same = (play_whole(system, RunOptions(seed=5), 10**10)[1] for _ in range(2))
    assert all((getattr(one, n) == getattr(same, n)).all() for n in ("time", "kind", "index", "cause"))
    many = simulate(system, 10**10, RunOptions(seed=5), runs=5, workers=2)
    alone = [simulate(system, 10**10, RunOptions(seed=5 + n)) for n in range(5)]
    assert many.runs == 5
    assert many.counted["isr.tick.latency"].total == sum(r.counted["isr.tick.latency"].total for r in alone)
    assert many.stats("pass").most == max(r.stats("pass").most for r in alone)


def test_percentiles_are_of_the_nearest_rank():
    system = read_model(model_text(), "row_unit.toml")
    run, records, index = play_whole(system, RunOptions(), 10**12)
    row = index.rows.index(("wheel", "source.wheel"))
    told = (records.kind == at.START) & (records.index == row)
    waits = np.sort(records.time[told] - records.cause[told])
    stats = counted(run.memory, index)["isr.wheel.latency"].stats()
    assert (stats.count, stats.least, stats.most) == (len(waits), waits[0], waits[-1])
    assert float(stats.mean) == pytest.approx(waits.mean())
    for share, value in ((0.5, stats.median), (0.99, stats.p99)):
        exact = waits[int(np.ceil(share * len(waits))) - 1]
        assert exact <= value <= exact * 1.016


@given(needy_models(), st.integers(0, 2**16))
def test_no_need_is_seen_beyond_its_bound(text, seed):
    system = read_model(text, "model.toml")
    paper = bounds(system)
    for number in range(2):
        assert not needs_beaten(paper, simulate(system, LONG, ways(seed + number), bounds=paper))


def test_a_need_that_is_broken_is_seen_with_its_time():
    text = TAXED + source("l", 0, 50) + source("h", 1, 75) + isr("h", "source.h", 0, 30) + isr("l", "source.l", 1, 4)
    text += '[need.n]\nfrom = "source.l"\nto = "isr.l.end"\nwithin = "20 ns"\n[need.kept]\nof = "isr.l"\nlost = 0\n'
    result = simulate(read_model(text, "m.toml"), 300 * NS, RunOptions("most", "together"))
    need = result.needs["n"]
    assert need.verdict is Verdict.MISSED
    # h runs at 1, 76, 151, 226: the events at 0, 100, 150 and 250 wait for it
    assert [(miss.at // NS, miss.value // NS) for miss in need.first] == [(0, 39), (150, 39)]


def test_the_worst_run_reaches_the_bound_where_theory_is_exact():
    text = HEAD.replace("levels = 2", "levels = 3") + 'entry = "2 ns"\nexit = "1 ns"\nchain = "3 ns"\n'
    for level, (gap, cost) in enumerate([(60, 9), (90, 14), (400, 30)]):
        text += f'[source.s{level}]\ngap = "{gap} ns"\n' + isr(
            f"r{level}", f"source.s{level}", level, cost, "pending = 5"
        )
    found = search(bounds(read_model(text, "m.toml")), "isr.r2.response")
    assert found.value == found.bound
    assert found.at - found.begin == found.value


def vcd_changes(text):
    """Changes by signal, as an independent reader of the format tells them."""
    names, changes, now = {}, {}, 0
    for token in vcd.reader.tokenize(io.BytesIO(text)):
        if token.kind is vcd.reader.TokenKind.VAR:
            names[token.var.id_code] = token.var.reference
        elif token.kind is vcd.reader.TokenKind.CHANGE_TIME:
            now = token.time_change
        elif token.kind is vcd.reader.TokenKind.CHANGE_SCALAR:
            changes.setdefault(names[token.scalar_change.id_code], []).append((now, token.scalar_change.value))
    return changes


def test_a_written_timeline_is_read_by_others_and_says_the_same(tmp_path):
    system = read_model(model_text(), "row_unit.toml")
    window = (0, 60 * 10**9)
    text = timeline_bytes(system, RunOptions(), window, "x.vcd", probes=False)
    _, records, index = play_whole(system, RunOptions(), window[1])
    row = index.rows.index(("tick", "source.tick"))
    starts = records.time[(records.kind == at.START) & (records.index == row)]
    rises = [time for time, value in vcd_changes(text)["isr.tick"] if value == "1"]
    assert rises == starts.tolist()
    (tmp_path / "probes.vcd").write_bytes(timeline_bytes(system, RunOptions(), window, "x.vcd", probes=True))
    (tmp_path / "probes.csv").write_bytes(timeline_bytes(system, RunOptions(), window, "x.csv", probes=True))
    seen = simulate(system, window[1], RunOptions())
    for name in ("probes.vcd", "probes.csv"):
        checked = check(system, read_capture(tmp_path / name))
        for isr_name in ("wheel", "pressure"):
            measured, played = checked.isrs[isr_name].latency, seen.stats(f"isr.{isr_name}.latency")
            assert abs(measured.most - played.most) <= measured.resolution
            assert abs(measured.count - played.count) <= 1
        assert not checked.findings


def test_a_timeline_in_any_form_is_the_same():
    system = read_model(HAND_DRAWN["preemption"][0], "m")
    of = {form: timeline_bytes(system, RunOptions("most"), (0, 10 * NS), f"x.{form}", probes=False)
          for form in ("vcd", "csv", "parquet")}  # fmt: skip
    plain, packed = read_vcd([of["vcd"]], "x.vcd"), read_parquet([of["parquet"]], "x.parquet")
    assert {name: signal.at.tolist() for name, signal in plain.signals.items()} == {
        name: signal.at.tolist() for name, signal in packed.signals.items()
    }
    with pytest.raises(InputError, match=r"end it in \.vcd, \.csv, \.parquet"):
        timeline_bytes(read_model(FREE, "m"), RunOptions(), (0, 1), "x.json", probes=False)


def test_the_timeline_as_text_fits_the_terminal():
    paper = bounds(read_model(model_text(), "row_unit.toml"))
    for width in (60, 100):
        lines = text_lines(scene_of_played(play_moment(paper, RunOptions(), 10**11)), width)
        assert all(len(line) <= width for line in lines[1:-2])
        assert any(line.startswith("isr.wheel") and "v" in line and "#" in line for line in lines)


def test_measured_costs_are_drawn_from(tmp_path):
    (tmp_path / "m.toml").write_text(model_text())
    (tmp_path / "costs.csv").write_text("name,cost\nisr.tick,4.5 us\nisr.tick,312 us\nisr.tick,6.5 us\n")
    system = load_model(tmp_path / "m.toml", None, ["isr.tick.cost.2=7 us"], tmp_path / "costs.csv")
    stats = simulate(system, 10**12, RunOptions("measured")).stats("isr.tick.cost")
    assert (stats.least, stats.most) == (4_500_000, 6_500_000)
    assert 5_400_000 < stats.mean < 5_600_000


def test_a_chain_that_takes_no_time_is_named_with_its_place():
    text = FREE + source("s", 0) + isr("a", "isr.b.end", 0, 0) + isr("b", "source.s", 0, 0)
    text = text.replace('on = "source.s"', 'on = ["source.s", "isr.a.end"]')
    with pytest.raises(InputError, match=r"m\.toml:\d+: isr\.[ab]: .*can take no time: isr\.[ab] → isr\.[ab] → isr"):
        read_model(text, "m.toml")
    assert read_model(text.replace('entry = "0 s"', 'entry = "1 ns"'), "m.toml")  # a chain takes entry and exit


def test_what_happens_at_one_instant_may_fill_the_log_and_goes_on_at_the_same_instant():
    text = FREE + "".join(source(f"s{n}", 0) + isr(f"r{n}", f"source.s{n}", 0, 1) for n in range(300))
    system = read_model(text, "m.toml")
    _, whole, _ = play_whole(system, RunOptions("most"), 900 * NS)
    run = Run(system, RunOptions("most"), 900 * NS, record=True)
    run.memory[at.LOG_FULL] = 60
    slices = list(run.slices())
    parts = join(slices)
    assert all((getattr(whole, name) == getattr(parts, name)).all() for name in ("time", "kind", "index", "cause"))
    assert len(slices) > 3
    assert all(a.time[-1] < b.time[0] for a, b in itertools.pairwise(each for each in slices if len(each.time)))
    run = Run(system, RunOptions("most"), 900 * NS, record=True)
    run.memory[at.LOG_END] = run.memory[at.LOG_FULL] = 30
    with pytest.raises(InputError, match="more happens at one instant"):
        run.play()


def test_no_two_are_drawn_to_run_at_once():
    """An accepted routine that is taken over before its first instruction begins as the other returns to it."""
    text = (Path(__file__).parent / "counterexamples" / "load_of_more_than_the_core.toml").read_text()
    found = play_lanes(read_model(text, "m.toml"), RunOptions("most"), 0, 4000 * NS)
    runs = sorted((s.begin, s.end) for s in found.stretches if s.state == "runs" and not s.who.startswith("unit."))
    assert len(runs) > 100
    assert all(end <= begin for (_, end), (begin, _) in itertools.pairwise(runs))


def test_the_worst_run_begins_when_it_may_and_takes_needs_as_targets():
    path = Path(__file__).parent / "counterexamples" / "worst_begins_too_late.toml"
    text = (
        path.read_text()
        + '[need.n]\nof = "isr.r.start"\nevery = "1 us"\ngive_or_take = "50 %"\n[need.m]\nfrom = "source.s"\nto = "step.nap.end"\nwithin = "9 us"\n'
    )
    paper = bounds(read_model(text, "m.toml"))
    for name in ("pass", "step.nap.interval", "need.n", "m"):
        found = search(paper, name, tries=60)
        assert 0 <= found.value <= found.bound
    never = search(
        bounds(read_model(text + '[step.p]\npolls = "f"\ncost = "1 ns"\n', "m.toml")), "step.p.duration", tries=9
    )
    assert never.value is None


def test_the_engine_runs_where_nothing_is_compiled():
    code = "from tachys.model.loading import load_model, read_model; from tachys.simulation.running import simulate\n"
    code += (
        f"print(simulate(read_model({(FREE + source('s', 0, 50) + isr('r', 'source.s', 0, 5))!r}, 'm'), 10**6).load)"
    )
    told = subprocess.run([sys.executable, "-c", code], env={**os.environ, "NUMBA_DISABLE_JIT": "1"},
                          capture_output=True, text=True, check=True)  # fmt: skip
    assert told.stdout.strip() == "1/10"


def test_two_orders_of_the_same_hash_play_the_same():
    """Nothing that is played or proved hangs on the order of a set."""
    code = "from tachys.model.loading import load_model, read_model; from tachys.simulation.engine import play_whole\n"
    code += (
        "from tachys.demo.project import model_text; from tachys.simulation.options import RunOptions; import zlib\n"
    )
    code += "print(zlib.crc32(play_whole(read_model(model_text(), 'm'), RunOptions(), 10**10)[1].time.tobytes()))"
    told = {subprocess.run([sys.executable, "-c", code], env={**os.environ, "PYTHONHASHSEED": seed}, capture_output=True,
                           text=True, check=True).stdout for seed in ("1", "2")}  # fmt: skip
    assert len(told) == 1
