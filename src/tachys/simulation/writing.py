"""A played model as a timeline file."""

from __future__ import annotations

import io
from pathlib import Path

from tachys.capture.parquet import write_parquet
from tachys.capture.vcd import read_vcd
from tachys.errors import input_error
from tachys.model.system import System
from tachys.simulation.engine import Run
from tachys.simulation.lanes import Lanes, lanes
from tachys.simulation.options import RunOptions
from tachys.simulation.timeline import signals, to_csv, to_vcd

FORMS = (".vcd", ".csv", ".parquet")


def play_lanes(system: System, ways: RunOptions, begin: int, end: int) -> Lanes:
    """Play a model up to ``end`` ps; its lanes between two instants."""
    run = Run(system, ways, end, record=True)
    return lanes(run.play(), run.index, begin, end)


def form_of(output: str) -> str:
    """The form of a timeline that the ending of a file tells.

    Raises:
        InputError: it tells none.
    """
    form = Path(output).suffix.lower()
    if form not in FORMS:
        raise input_error(output, "its ending tells no form of a timeline", f"end it in {', '.join(FORMS)}")
    return form


def timeline_bytes(system: System, ways: RunOptions, window: tuple[int, int], output: str, *, probes: bool) -> bytes:
    """The timeline between the two instants of ``window``, in the form that the ending of a file tells.

    Raises:
        InputError: the ending tells no form, or Parquet is not installed.
    """
    form = form_of(output)
    found = play_lanes(system, ways, *window)
    lines = signals(system, found, probes=probes)
    if form == ".csv":
        return to_csv(lines, *window).encode()
    text = to_vcd(lines, *window).encode()
    if form == ".vcd":
        return text
    made = io.BytesIO()
    write_parquet(read_vcd([text], output), output, made)
    return made.getvalue()
