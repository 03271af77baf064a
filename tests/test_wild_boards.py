"""Right models of boards that are hard to read are never blamed, and no miss of theirs is invented.

Of wrong ones nothing is met that the board misses, beside anything that speaks against the model: whatever lines there are.
"""

import random
import re

import pytest
from msgspec.structs import replace

import wild as wild_boards
from tachys.checking.checking import check
from tachys.checking.compare.compared import Agreement
from tachys.errors import InputError
from tachys.model.loading import ModelText, read_model
from tachys.needs.verdicts import Verdict
from tachys.worstcase.analysis import bounds
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


SLOW = ["1", "0.5", "0.2", "0.1", "0.05", "0.02", "0.005"]  # MHz: bodies last 2 us and more


@pytest.mark.parametrize("rate", SLOW)
def test_a_right_model_is_not_blamed_by_samples_that_are_too_slow(rate, monkeypatch, pytestconfig):
    monkeypatch.setattr(wild_boards, "RATES", [rate])
    many = max(3, pytestconfig.getoption("boards") // 20)  # a board at 5 kHz takes as long as ten others
    assert {
        seed: told for first in (0, INSIDE, MEETS) for seed in range(first, first + many) if (told := wrongs(seed))
    } == {}


@pytest.mark.parametrize("board", [first + number for first in (0, INSIDE, MEETS) for number in range(300, 304)])
def test_when_a_capture_begins_and_in_which_order_its_lines_come_changes_nothing(board):
    case = wild(board)
    capture, system = case.capture(), read_model(case.model, "wild.toml")
    later = 9 * 10**17 // capture.resolution * capture.resolution
    signals = {name: replace(line, at=line.at + later) for name, line in reversed(capture.signals.items())}
    moved = replace(capture, signals=signals, begin=capture.begin + later, end=capture.end + later)

    def told(result, since):
        return (
            [(found.code, found.about, found.text, found.at and found.at - since) for found in result.findings],
            [(n.verdict, n.value, [(miss.at - since, miss.value, miss.causes) for miss in n.misses])
             for n in result.needs.values()],
            {repr((figure.about, figure.key, figure.urgency, figure.measured)) for figure in result.figures},
        )  # fmt: skip

    assert told(check(system, moved), later) == told(check(system, capture), 0)


# --- wrong models ---------------------------------------------------------------------------------------------------

_COST = re.compile(r'cost = \["(\d+) us", "(\d+) us"\]')
_GUARD = re.compile(r'guard = \{ level = \d+, at = \["\d+ us", "\d+ us"\], for = "\d+ us" \}\n')
_DISTANCE = re.compile(r'((?:gap|every) = ")(\d+)( us")')
FOUND_BY_SEARCH = (474,)  # of those that were told met beside a finding


def made_wrong(text, dice):
    """The model with one body shorter than it is, one guard unknown or one source slower; None where it has no such."""
    what = dice.choice(("cost", "guard", "distance"))
    if what == "cost":
        begin = dice.choice([each.start() for each in re.finditer(r"(?m)^\[(isr|step)\.\w+\]$", text)])
        end = text.find("\n[", begin + 1) % (len(text) + 1)
        body = re.sub(r"moments = .*\n", "", _GUARD.sub("", text[begin:end]))
        short = _COST.sub(lambda m: f'cost = ["{max(1, int(m[1]) // 3)} us", "{max(1, int(m[2]) // 3)} us"]', body)
        return text[:begin] + short + text[end:]
    found = list((_GUARD if what == "guard" else _DISTANCE).finditer(text))
    if not found:
        return None
    place = dice.choice(found)
    slower = "" if what == "guard" else f"{place[1]}{int(place[2]) * dice.choice([3, 10]) // 2}{place[3]}"
    return text[: place.start()] + slower + text[place.end() :]


def falsely_met(seed):
    """Needs that are told met, beside a finding, and that the board misses; each deadline is just above its bound."""
    case, dice = wild(seed), random.Random(seed)
    text = made_wrong(case.model, dice)
    if text is None:
        return []
    try:
        system, capture = read_model(text, "wild.toml"), case.capture()
        hidden = {probe.signal for probe in system.probes if dice.random() < 0.35}
        known = {name: isr.response.most for name, isr in bounds(system).isrs.items() if isr.response.most is not None}
        settings = [f"isr.{name}.deadline={most * 101 // 100} ps" for name, most in known.items()]
        settings += [f"probe.{signal}=false" for signal in hidden]
        kept = {name: signal for name, signal in capture.signals.items() if name not in hidden}
        result = check(ModelText(text, "wild.toml").system((), tuple(settings)), replace(capture, signals=kept))
    except InputError:
        return []
    wrong = []
    for name, need in result.needs.items():
        isr = name.removesuffix(".deadline")
        if (
            isr == name
            or result.bounds.system.isr(isr).serves_all
            or need.verdict is not Verdict.MET
            or not result.findings
        ):
            continue
        room = 2 * result.capture.known_to + need.need.within * PPM // 10**6
        late = [run for run in case.recording.truth.served
                if run.name == isr and run.end - run.event > need.need.within + room and case.inside(run.event, run.end)]  # fmt: skip
        wrong += [f"{name} is met, and missed {len(late)} times"] * bool(late)
    return wrong


def test_nothing_is_met_that_the_board_misses_beside_what_speaks_against_the_model(seed):
    assert falsely_met(seed) == []


@pytest.mark.parametrize("known", FOUND_BY_SEARCH)
def test_nothing_is_met_falsely_where_it_once_was(known):
    assert falsely_met(known) == []
