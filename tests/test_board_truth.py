"""What a check measures on boards made up by chance, whose models are right, held against what really happened."""

from bisect import bisect_left

import pytest

from tachys.capture.vcd import read_vcd
from tachys.checking.checking import check
from tachys.demo.analyser import to_vcd
from tachys.model.loading import read_model
from trials import trial

PPM = 100  # the analyser is never further off


class Run:
    """One trial, checked; with helpers that translate the truth into the analyser's time."""

    def __init__(self, seed: int, *, glitches: bool) -> None:
        self.trial = trial(seed, glitches=glitches)
        self.truth, self.analyser = self.trial.recording.truth, self.trial.recording.analyser
        self.system = read_model(self.trial.model, "trial.toml")
        self.result = check(self.system, read_vcd([to_vcd(self.trial.recording).encode()], "trial.vcd"))
        self.board, self.step = self.result.board, self.result.capture.resolution

    def inside(self, *instants: int) -> bool:
        end = (self.analyser.samples - 1) * self.analyser.sample
        return all(0 < self.analyser.time(at) <= end for at in instants)

    def served(self, name: str) -> list:
        return [run for run in self.truth.served if run.name == name]

    def close(self, true: int, measured: int, resolution: int) -> bool:
        return abs(true - measured) <= resolution + true * PPM // 10**6


def pytest_generate_tests(metafunc):
    if "case" in metafunc.fixturenames:
        count = metafunc.config.getoption("--boards")
        metafunc.parametrize("case", range(count), indirect=True)


@pytest.fixture(scope="module")
def case(request):
    return Run(request.param, glitches=request.param % 2 == 1)


def test_every_latency_reported_is_a_true_one(case):
    """None is invented; few are left out, and only where the capture cannot tell."""
    for routine in case.trial.plan.routines:
        runs, measured = case.served(routine.name), case.board.isrs[routine.name]
        first = measured.matched.firsts
        true = sorted((case.analyser.time(run.event), run.start - run.event) for run in runs)
        pairs = zip(measured.latency.at[first].tolist(), measured.latency.after[first].tolist(), strict=True)
        for at, after in pairs:
            near = [d for e, d in true[bisect_left(true, (at - case.step, 0)) :][:2] if abs(e - at) <= case.step]
            assert any(case.close(delay, after, case.step) for delay in near), (routine.name, at, after)
        seen = [run for run in runs if case.inside(run.event, run.start)]
        left_out = measured.matched.left_out + int(measured.matched.doubted.sum())
        assert len(seen) - left_out - routine.pending - 1 <= int(first.sum()) <= len(seen)


def test_losses_are_those_of_the_board(case):
    for routine in case.trial.plan.routines:
        lost = [at for name, at in case.truth.lost if name == routine.name and case.inside(at)]
        measured = case.board.isrs[routine.name].matched
        true = [case.analyser.time(at) for at in lost]
        assert all(any(abs(at - each) <= case.step for each in true) for at in measured.lost.tolist())
        starts = case.board.events(f"isr.{routine.name}.start")[: routine.pending]
        unjudged = sum(at <= starts[-1] + case.step for at in true) if len(starts) else 0
        assert len(lost) - unjudged <= measured.lost_count <= len(lost)


def test_spans_and_own_times_hold_the_truth(case):
    for routine in case.trial.plan.routines:
        measured = case.board.isrs[routine.name]
        seen = [run for run in case.served(routine.name) if case.inside(run.start, run.end)]
        _, spans = measured.spans(case.board.shown.bodies[measured.isr.thing])
        assert len(seen) == len(spans)
        for run, span, least, most in zip(seen, spans.tolist(), measured.cost.least.tolist(),
                                          measured.cost.most.tolist(), strict=True):  # fmt: skip
            assert case.close(run.end - run.start, span, case.step)
            slack = run.cost * PPM // 10**6 + 1
            assert least - slack <= run.cost <= most + slack
    for work in case.trial.plan.steps:
        own = case.board.steps[work.name].own
        assert all(low <= work.parts[0].cost[1] + case.step for low in own.least.tolist())
        assert all(high >= work.parts[0].cost[0] - case.step for high in own.most.tolist())


def test_every_miss_is_found_and_none_invented(case):
    for name, need in case.result.needs.items():
        isr = case.system.isr(name.split(".")[0])
        limit = need.need.within
        beyond = limit + 2 * case.step + limit * PPM // 10**6
        runs = case.served(isr.name)
        found = [miss.at for miss in need.misses if miss.kind == "late"]
        if not isr.serves_all:  # what a run serves besides its earliest event is late as well, but no run of its own
            true = [case.analyser.time(run.event) for run in runs if run.end - run.event > limit - 2 * case.step]
            assert all(any(abs(at - each) <= case.step for each in true) for at in found)
        late = [run for run in runs if run.end - run.event > beyond and case.inside(run.event, run.end)]
        unfound = [r for r in late if not any(abs(case.analyser.time(r.event) - at) <= case.step for at in found)]
        matched = case.board.isrs[isr.name].matched
        assert len(unfound) <= matched.left_out + int(matched.doubted.sum()) + isr.pending * bool(unfound)


def test_a_model_that_is_right_is_not_blamed(case):
    assert case.result.findings == ()


def test_the_parts_of_every_wait_add_up(case):
    for need in case.result.needs.values():
        if need.worst:
            assert sum(part.end - part.begin for part in need.worst) == need.seen.most
        for miss in need.misses:
            if miss.kind == "late":
                assert sum(cause.time for cause in miss.causes) == miss.value
