"""No bound may ever be beaten: random models of the whole language, played, stay within [least, most]."""

import random
from contextlib import suppress
from fractions import Fraction
from pathlib import Path

from hypothesis import example, given, settings
from hypothesis import strategies as st

from attack import Attack, toml
from playing import LONG, beaten, played, ways
from strategies import firm_models, lone_models
from tachys.compiled import checked
from tachys.demo.project import model_text
from tachys.errors import InputError
from tachys.model.loading import read_model
from tachys.simulation.options import RunOptions
from tachys.simulation.statistics import counted
from tachys.worstcase.analysis import bounds
from tachys.worstcase.arrivals import NoBound
from tachys.worstcase.fixedpoint import settle
from two_machines import assert_agreement


@given(firm_models(), st.integers(0, 2**16))
def test_nothing_played_is_outside_its_bounds(text, seed):
    system = read_model(text, "model.toml")
    found = bounds(system)
    for number in range(3):
        assert not beaten(found, played(system, ways(seed + number)))


@settings(max_examples=40)
@given(firm_models(), st.integers(0, 2**16))
def test_compiled_and_uncompiled_engines_do_the_same(text, seed):
    system = read_model(text, "model.toml")
    quick = played(system, ways(seed), LONG // 4, compiled=True)
    with checked():
        slow = played(system, ways(seed), LONG // 4)
    assert (quick.memory == slow.memory).all()


@given(firm_models())
@example(model_text())
@example((Path(__file__).parent / "every_key.toml").read_text())
def test_every_figure_is_the_sum_of_its_parts(text):
    for figures in bounds(read_model(text, "model.toml")).catalog().values():
        for _, figure in figures:
            assert figure.most is None or sum(part.total for part in figure.parts) == figure.most
            assert figure.most is not None or figure.reason


@given(lone_models(), st.integers(0, 2**16))
def test_two_machines_that_share_no_code_agree(text, seed):
    """The engine and the stand-in for the board, given the same events, do the same at the same instants."""
    system, dice = read_model(text, "model.toml"), random.Random(seed)
    how = RunOptions("most", dice.choice(["together", "drawn"]), dice.choice(["gap", "mean"]), seed=seed)
    assert_agreement(system, how, LONG)


@given(st.lists(st.tuples(st.integers(50, 400), st.integers(1, 20)), min_size=1, max_size=5))
def test_nested_sporadic_routines_reach_their_bound(tasks):
    """Where the theory is exact, a run in which everything arrives together and densely reaches it."""
    text = f'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = {len(tasks)}\nentry = "2 ns"\nexit = "1 ns"\n'
    for i, (gap, cost) in enumerate(tasks):
        text += f'[source.s{i}]\ngap = "{gap} ns"\n[isr.r{i}]\non = "source.s{i}"\nlevel = {i}\ncost = "{cost} ns"\n'
        text += "pending = 9\n"
    if sum(Fraction(cost + 3, gap) for gap, cost in tasks) > Fraction(9, 10):
        return
    system = read_model(text, "model.toml")
    run = played(system, RunOptions("most", "together", "gap"), 10**6)
    last = f"r{len(tasks) - 1}"
    assert counted(run.memory, run.index)[f"isr.{last}.response"].most == bounds(system).isrs[last].response.most


@given(st.integers(0, 2**16))
def test_the_work_of_a_window_is_that_of_its_counts(seed):
    try:
        load = settle(read_model(toml(Attack(seed).model()), "m")).load
    except InputError:
        return
    dice = random.Random(seed)
    for _ in range(50):
        ps, end = dice.randrange(10 ** dice.randrange(1, 17)), dice.randrange(len(load.rows) + 1)
        with suppress(NoBound):
            counts = load.counts(ps, end)
            assert load.work(ps, end) == sum(int(n) * int(t) for n, t in zip(counts, load.taken, strict=False))
