"""What the engine is made of: sources that keep their promises, draws, the order of acceptance, the loop's timers."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from strategies import NS, firm_models, source
from tachys.errors import InternalError
from tachys.model.loading import read_model
from tachys.simulation import draws as draws_of
from tachys.simulation import kernel
from tachys.simulation import layout as at
from tachys.simulation.engine import Run, play_whole
from tachys.simulation.invariants import check_invariants
from tachys.simulation.options import RunOptions
from tachys.simulation.running import simulate
from tachys.simulation.statistics import bucket_end, bucket_of, counted, taken
from tachys.worstcase.arrivals import source_curve

CORE = 'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = 3\nentry = "0 s"\nexit = "0 s"\n'


DENSE = RunOptions("most", "together", "gap")


def told(text, kind, end, how=DENSE):
    """(name, instant) of every record of a kind, in ns."""
    _, records, index = play_whole(read_model(text, "m.toml"), how, end * NS)
    table = {at.SOURCE: index.sources, at.STEP_START: index.steps, at.FLAG_TAKEN: index.flags}.get(kind)
    table = table or [name for name, _ in index.rows]
    chosen = records.kind == kind
    return [(table[i], int(t) // NS) for i, t in zip(records.index[chosen], records.time[chosen], strict=True)]


@given(
    source("s"), st.integers(0, 999), st.sampled_from(["gap", "mean"]), st.sampled_from(["none", "drawn", "first-late"])
)
def test_no_source_comes_denser_than_its_curve(text, seed, arrivals, jitter):
    system = read_model(CORE + text + '[isr.r]\non = "source.s"\ncost = "0 s"\n', "m.toml")
    _, records, _ = play_whole(system, RunOptions("most", "drawn", arrivals, jitter, seed=seed), 20_000 * NS)
    times = records.time[records.kind == at.SOURCE]
    curve = source_curve(system.sources[0])
    assert len(times) > 20
    assert (np.diff(times) >= 0).all()
    for count in range(2, 12):
        spans = times[count - 1 :] - times[: len(times) - count + 1]
        assert spans.min() >= curve.least_span(count)


def test_sporadic_sources_keep_their_mean():
    text = CORE + '[source.s]\ngap = "100 ns"\nmean = "250 ns"\n[isr.r]\non = "source.s"\ncost = "1 ns"\n'
    _, records, _ = play_whole(read_model(text, "m"), RunOptions(), 5_000_000 * NS)
    apart = np.diff(records.time[records.kind == at.SOURCE])
    assert apart.min() >= 100 * NS
    assert apart.mean() == pytest.approx(250 * NS, rel=0.02)
    # exponential beyond the gap: as many wait longer than the mean of the rest as e says
    assert (apart > 250 * NS).mean() == pytest.approx(math.exp(-1), abs=0.02)


def test_bytes_of_a_frame_come_back_to_back():
    text = (
        CORE
        + '[source.s]\nserial = { baud = "10 MBd", frame = 4 }\nmean = "3 us"\n[isr.r]\non = "source.s"\ncost = "1 ns"\n'
    )
    _, records, _ = play_whole(read_model(text, "m"), RunOptions(), 1_000_000 * NS)
    apart = np.diff(records.time[records.kind == at.SOURCE]) // NS
    inside = apart.reshape(-1)[: len(apart) // 4 * 4].reshape(-1, 4)[:, :3]
    assert (inside == 1000).all()
    assert apart.mean() == pytest.approx(3000, rel=0.1)


def test_bursts_as_dense_as_they_may_be():
    text = (
        CORE
        + '[source.s]\nburst = { count = 3, spaced = "10 ns", every = "100 ns" }\n[isr.r]\non = "source.s"\ncost = "1 ns"\n'
    )
    assert [t for _, t in told(text, at.SOURCE, 225)] == [0, 10, 20, 100, 110, 120, 200, 210, 220]


def test_releases_follow_the_exact_period_and_not_a_rounded_one():
    """3 MHz: 333.333… ps a tick; the thousandth release of 1000 ticks lies where k·P says, without drift."""
    text = (
        CORE
        + '[clock.c]\nrate = "3 MHz"\n[source.s]\nevery = "1000 cycles@c"\n[isr.r]\non = "source.s"\ncost = "1 ns"\n'
    )
    _, records, _ = play_whole(read_model(text, "m"), RunOptions(phases="together"), 10**12)
    times = records.time[records.kind == at.SOURCE]
    assert times.tolist() == [k * 10**15 // (3 * 10**6) for k in range(len(times))]


def test_clocks_are_drawn_within_their_tolerance():
    text = CORE + '[source.s]\nevery = "1 us"\ntolerance = "1 %"\n[isr.r]\non = "source.s"\ncost = "1 ns"\n'
    system, seen = read_model(text, "m"), set()
    for seed in range(12):
        _, records, _ = play_whole(system, RunOptions(rates="drawn", seed=seed), 10**9)
        seen.add(int(np.diff(records.time[records.kind == at.SOURCE]).max()))
    assert len(seen) > 6
    assert min(seen) >= 10**6 / 1.01 - 1
    assert max(seen) <= 10**6 / 0.99 + 1


def test_costs_are_drawn_over_the_whole_range_and_no_further():
    text = CORE + '[source.s]\nevery = "1 us"\n[isr.r]\non = "source.s"\ncost = ["10 ns", "30 ns"]\n'
    for costs, mean in (("least", 10), ("most", 30), ("drawn", 20), ("triangular", 20)):
        result = simulate(read_model(text, "m"), 10**10, RunOptions(costs))
        stats = result.stats("isr.r.cost")
        assert float(stats.mean) == pytest.approx(mean * NS, rel=0.02)
        assert 10 * NS <= stats.least <= stats.most <= 30 * NS
    assert stats.p95 - stats.median < 0.45 * 20 * NS  # a triangle has thinner tails than an even draw


def test_pending_lines_go_by_level_then_order_then_as_written():
    text = CORE + "".join(f'[source.{n}]\nevery = "1 us"\noffset = "5 ns"\n' for n in "abcd")
    for name, level, order in (("a", 2, 0), ("b", 1, 7), ("c", 1, -1), ("d", 1, 7)):
        text += f'[isr.{name}]\non = "source.{name}"\nlevel = {level}\norder = {order}\ncost = "3 ns"\n'
    assert told(text, at.START, 100) == [("c", 5), ("b", 8), ("d", 11), ("a", 14)]
    high = text.replace("levels = 3\n", 'levels = 3\nurgent = "high"\n')
    assert [name for name, _ in told(high, at.START, 100)] == ["a", "c", "b", "d"]


def test_without_nesting_nothing_is_accepted_before_the_exit():
    text = CORE.replace('exit = "0 s"', 'exit = "4 ns"\nnesting = false')
    text += '[source.l]\nevery = "1 us"\n[source.h]\nevery = "1 us"\noffset = "12 ns"\n'
    text += '[isr.l]\non = "source.l"\nlevel = 2\ncost = "10 ns"\n[isr.h]\non = "source.h"\nlevel = 0\ncost = "2 ns"\n'
    assert told(text, at.START, 100) == [("l", 0), ("h", 14)]


@pytest.mark.parametrize(("rearm", "starts"), [
    # every 20; a long step keeps the loop from 30 to 95: dues 40, 60, 80 have passed
    ("grid", [20, 96, 98, 100, 102, 120]),
    ("skip", [20, 96, 101, 121]),
    ("now", [20, 95, 115]),
])  # fmt: skip
def test_software_timers_catch_up_skip_or_drift(rearm, starts):
    text = CORE + f'[loop]\noverhead = "1 ns"\n[step.t]\nevery = "20 ns"\nrearm = "{rearm}"\ncost = "1 ns"\n'
    text += '[source.s]\nevery = "1 us"\noffset = "30 ns"\n[isr.r]\non = "source.s"\ncost = "65 ns"\n'
    found = [t for name, t in told(text, at.STEP_START, 122) if name == "t"]
    assert len(found) == len(starts)
    assert all(abs(a - b) <= 1 for a, b in zip(found, starts, strict=True))


def test_a_sleep_that_looks_at_a_flag_is_not_slept_through():
    text = CORE + '[source.s]\nevery = "1 us"\noffset = "6 ns"\n[isr.r]\non = "source.s"\ncost = "2 ns"\nsets = "f"\n'
    text += '[loop]\noverhead = "1 ns"\n[step.take]\npolls = "f"\ncost = "2 ns"\n[step.work]\ncost = "7 ns"\n'
    deaf, wary = (text + f"[step.nap]\nsleep = {how}\n" for how in ("true", '{ unless = "f" }'))
    assert told(deaf, at.FLAG_TAKEN, 2000) == [("f", 1009)]
    assert told(wary, at.FLAG_TAKEN, 900) == [("f", 11)]


def test_what_runs_at_the_end_counts_up_to_there():
    text = (
        CORE
        + '[source.s]\nevery = "100 ns"\n[isr.r]\non = "source.s"\ncost = "80 ns"\n[loop]\noverhead = "1 ns"\n[step.s]\ncost = "3 ns"\n'
    )
    for end in (40, 79, 80, 83, 150, 199, 555):
        run, _, index = play_whole(read_model(text, "m"), RunOptions("most", "together", "gap"), end * NS)
        shares = taken(run.memory, index, end * NS)
        assert sum(shares.values()) == end * NS
        assert shares["isr.r"] == sum(min(80, max(0, end - 100 * k)) for k in range(6)) * NS


def test_an_entry_or_exit_on_the_end_is_paid_by_its_own_routine():
    text = CORE.replace('entry = "0 s"\nexit = "0 s"', 'entry = "10 ns"\nexit = "6 ns"')
    text += '[source.a]\nevery = "100 ns"\n[isr.a]\non = "source.a"\ncost = "5 ns"\n'
    text += '[source.b]\nevery = "900 ns"\noffset = "850 ns"\n[isr.b]\non = "source.b"\ncost = "5 ns"\n'
    for end, a, b in ((807, 8 * 16 + 7, 0), (818, 9 * 16 - 3, 0), (853, 9 * 16, 3), (868, 9 * 16, 10 + 3)):
        run, _, index = play_whole(read_model(text, "m"), RunOptions("most", "together", "gap"), end * NS)
        shares = taken(run.memory, index, end * NS)
        assert (shares["isr.a.overhead"] // NS, shares["isr.b.overhead"] // NS) == (a, b)


def test_many_sources_come_in_the_order_written():
    """More items than stand in one block of the engine's memory, all at one instant."""
    text = CORE + "".join(
        f'[source.s{k}]\nevery = "1 us"\n[isr.r{k}]\non = "source.s{k}"\ncost = "1 ns"\n' for k in range(40)
    )
    assert [name for name, _ in told(text, at.SOURCE, 900)] == [f"s{k}" for k in range(40)]
    assert [t for _, t in told(text, at.SOURCE, 1000)][40:] == [1000] * 40


@given(st.integers(0, 2**60), st.sampled_from([4, 6]))
def test_a_bucket_holds_what_it_says(ps, bits):
    (bucket,) = bucket_of(np.array([ps]), bits).tolist()
    end = bucket_end(bucket, bits)
    assert ps <= end <= ps + ps / 2**bits + 1
    assert bucket == 0 or bucket_end(bucket - 1, bits) < ps


def test_draws_are_even_and_the_same_in_both_engines():
    memory = np.zeros(at.SCALARS, np.int64)
    memory[at.DRAW_0 : at.DRAW_3 + 1] = (1, 2, 3, 4)
    draws = [int(draws_of.draw_uniform.plain(memory, 10, 19)) for _ in range(5000)]
    assert set(draws) == set(range(10, 20))
    assert max(map(draws.count, range(10, 20))) < 1.35 * min(map(draws.count, range(10, 20)))
    waits = [int(draws_of.draw_exponential.plain(memory, 10**6)) for _ in range(3000)]
    assert np.mean(waits) == pytest.approx(10**6, rel=0.08)
    large = [int(draws_of.draw_exponential.plain(memory, 10**13)) for _ in range(2000)]
    assert np.mean(large) == pytest.approx(10**13, rel=0.1)


def test_statistics_do_not_grow_with_the_time_played():
    text = CORE + '[source.s]\nevery = "1 us"\n[isr.r]\non = "source.s"\ncost = ["1 ns", "90 ns"]\n'
    sizes = set()
    for end in (10**9, 10**12):
        run, _, _ = play_whole(read_model(text, "m"), RunOptions(), 10**9)
        result = simulate(read_model(text, "m"), end, RunOptions())
        sizes.add(run.memory.nbytes)
        assert result.stats("isr.r.cost").count in (end // 10**6, end // 10**6 + 1)
    assert len(sizes) == 1
    assert counted(run.memory, run.index)["isr.r.cost"].count > 0


@given(firm_models(), st.integers(0, 99), st.integers(1, 400))
def test_what_always_holds_in_the_engine_holds_after_each_slice(text, seed, turns):
    """Also in slices of a few instants, and in those that a full log ends."""
    system = read_model(text, "m.toml")
    run = Run(system, RunOptions("drawn", "drawn", "mean", seed=seed), 40_000 * NS, record=True)
    for _ in range(60):
        ended = kernel.play.run(run.memory, run._log, turns, plain=False)
        check_invariants(run.memory)
        run.memory[at.LOGGED] = 0
        if ended:
            break


def test_a_broken_memory_is_told():
    """What a fault of the engine would look like."""
    run, _, _ = play_whole(
        read_model(CORE + '[source.s]\nevery = "9 ns"\n[isr.r]\non = "source.s"\ncost = "2 ns"\n', "m"), DENSE, 500 * NS
    )
    run.memory[at.BEST] = 7
    run.memory[run.memory[at.NEXT]] = 3
    with pytest.raises(InternalError, match=r"the earliest item is 3.*the best pending line is 1, noted is 7"):
        check_invariants(run.memory)


def test_a_record_has_the_fields_that_were_declared():
    """One that is missing is told, not filled with another's."""
    with pytest.raises(InternalError, match="a record F with other fields"):
        at.record("F", set=0, over=0)
