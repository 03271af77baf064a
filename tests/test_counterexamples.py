"""Models that once beat a bound or stopped the program: each is played in many ways and held against its bounds."""

import random
from pathlib import Path

import pytest

from soak import Case
from tachys.errors import InputError

FOUND = sorted((Path(__file__).parent / "counterexamples").glob("*.toml"))


@pytest.mark.parametrize("path", FOUND, ids=lambda path: path.stem)
def test_what_once_beat_a_bound_keeps_to_it(path):
    text = path.read_text()
    if "# refused:" in text:
        with pytest.raises(InputError, match=text.partition("# refused: ")[2].splitlines()[0]):
            Case(text)
        return
    case = Case(text)
    for seed in range(12):
        case.play(random.Random(seed))
    assert case.wrong == []
