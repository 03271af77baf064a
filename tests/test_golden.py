"""What every command prints stays as it is, unless it is changed on purpose (``python tests/golden.py``)."""

import pytest

from golden import KEPT, differing, inputs, printed

INPUTS = {title: (files, calls) for title, files, calls in inputs()}


@pytest.mark.parametrize("title", INPUTS)
def test_what_is_printed_is_what_was_kept(title):
    assert differing((KEPT / f"{title}.txt").read_text(), printed(*INPUTS[title])) == ""
