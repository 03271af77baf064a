"""A few of the files and calls of ``make soak``: every command ends with a result, or with errors in words."""

import fuzz


def test_no_file_and_no_call_ends_in_a_fault():
    cases, faults = fuzz.fuzz(range(120))
    assert faults == {}
    assert sum(cases.values()) == 120
    assert {"capture c.vcd", "capture c.csv", "capture c.txt", "model", "call"} <= set(cases)
