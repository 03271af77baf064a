"""No bound may ever be beaten: random models, played on the stand-in machine, stay within [least, most]."""

from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from strategies import models, play
from tachys.bounds.analysis import bounds
from tachys.demo.machine import Machine, Plan, Routine
from tachys.model.loading import read_model


def inside(figure, value):
    return figure.least <= value and (figure.most is None or value <= figure.most)


@given(models(), st.integers(0, 2**16))
def test_nothing_played_is_outside_its_bounds(text, seed):
    system, truth = play(text, seed)
    found = bounds(system)
    for run in truth.served:
        figures = found.isrs[run.name]
        assert inside(figures.latency, run.start - run.event), (run, "latency")
        assert inside(figures.response, run.end - run.event), (run, "response")
        assert inside(figures.span, run.end - run.start), (run, "span")
    for name, at in truth.lost:
        assert found.isrs[name].lost, (name, at)


@given(models())
def test_every_figure_is_the_sum_of_its_parts(text):
    for isr in bounds(read_model(text, "model.toml")).isrs.values():
        for figure in (isr.latency, isr.response, isr.span):
            assert figure.most is None or sum(part.total for part in figure.parts) == figure.most
            assert figure.most is not None or figure.reason


@given(st.lists(st.tuples(st.integers(50, 400), st.integers(1, 20)), min_size=1, max_size=5))
def test_nested_sporadic_routines_reach_their_bound(tasks):
    """Where the theory is exact, a run in which everything arrives together and densely reaches it."""
    text = f'tachys = 1\n[core]\nclock = "1 GHz"\nlevels = {len(tasks)}\nentry = "2 ns"\nexit = "1 ns"\n'
    for i, (gap, cost) in enumerate(tasks):
        text += f'[source.s{i}]\ngap = "{gap} ns"\n[isr.r{i}]\non = "source.s{i}"\nlevel = {i}\ncost = "{cost} ns"\n'
        text += "pending = 9\n"
    found = bounds(read_model(text, "model.toml")).isrs[f"r{len(tasks) - 1}"]
    if sum(Fraction(cost + 3, gap) for gap, cost in tasks) > Fraction(9, 10):
        return
    routines = tuple(
        Routine(f"r{i}", i, range(0, 10**7, gap * 1000), (cost * 1000,) * 2, pending=9)
        for i, (gap, cost) in enumerate(tasks)
    )
    truth = Machine(Plan(routines, entry=2000, exit=1000, chain=3000)).run(10**6)
    last = [run for run in truth.served if run.name == f"r{len(tasks) - 1}"]
    assert max(run.end - run.event for run in last) == found.response.most
