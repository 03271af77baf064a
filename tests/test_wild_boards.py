"""Right models of boards that are hard to read are never blamed, and no miss of theirs is invented."""

from tachys.checking.checking import check
from tachys.checking.compare.figures import Agreement
from tachys.errors import InputError
from tachys.model.loading import read_model
from wild import INSIDE, MEETS, PPM, Wild, wild


def pytest_generate_tests(metafunc):
    if "seed" in metafunc.fixturenames:
        many = metafunc.config.getoption("--boards")
        metafunc.parametrize("seed", [first + number for first in (0, INSIDE, MEETS) for number in range(many)])


def wrongs(seed: int) -> list[str]:
    """What a check says of the board of that number that is not so."""
    case = wild(seed)
    system = read_model(case.model, "wild.toml")
    try:
        result = check(system, case.capture())
    except InputError as error:
        return [] if not case.recording.levels else [f"refused: {error}"]
    told = [f"finding {each.code} {each.about}: {each.text}" for each in result.findings]
    told += [f"refuted {f.about}.{f.key}" for f in result.figures if f.state is Agreement.REFUTES]
    for name, need in result.needs.items():
        isr = name.removesuffix(".deadline")
        if name.startswith("kept"):
            lost = [at for who, at in case.lost(need.need.of.name)]
            told += [f"{name}: {need.count} lost of {len(lost)}"] if need.count > len(lost) else []
        elif isr != name and not system.isr(isr).serves_all:  # a run serves others besides its earliest event
            told += [f"{name}: {each}" for each in _invented(case, isr, need, result.capture.known_to)]
    return told


def _invented(case: Wild, isr: str, need, step: int) -> list[str]:
    limit, analyser = need.need.within, case.recording.analyser
    runs = [run for run in case.recording.truth.served if run.name == isr]
    room = 2 * step + limit * PPM // 10**6
    ends = [analyser.time(run.end) for run in runs if run.end - run.event > limit - room]  # events may have no line
    return [f"a miss at {miss.at} that was none" for miss in need.misses
            if miss.kind == "late" and not any(abs(miss.at + miss.value - end) <= room for end in ends)]  # fmt: skip


def test_a_right_model_is_not_blamed(seed):
    assert wrongs(seed) == []
