"""Everything that Numba compiles, compiled once and kept, so that no later command has to wait for it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context


def warm_engine() -> str:
    """The engine, by playing the example for a moment."""
    from tachys.demo.project import model_text
    from tachys.model.loading import read_model
    from tachys.simulation.running import simulate

    simulate(read_model(model_text(), "row_unit.toml"), 10**9)
    return "the engine"


def warm_captures() -> str:
    """The scanners and the check, by checking the example's captures."""
    from tachys.capture.csv import read_csv
    from tachys.capture.inspecting import inspect
    from tachys.capture.vcd import read_vcd
    from tachys.checking.checking import check
    from tachys.demo import board
    from tachys.demo.analyser import to_csv, to_vcd
    from tachys.demo.project import model_text
    from tachys.model.loading import read_model

    system = read_model(model_text(), "row_unit.toml")
    vcd = read_vcd([to_vcd(board.record(faulty=True)).encode()], "faulty.vcd")
    check(system, vcd)
    inspect(read_csv([to_csv(board.record(faulty=False)).encode()], "mended.csv"))
    return "the scanners and the check"


_PARTS: tuple[Callable[[], str], ...] = (warm_engine, warm_captures)


def warm() -> Iterator[str]:
    """Compile all of it, each part in a process of its own; yields what is done."""
    with ProcessPoolExecutor(len(_PARTS), get_context("spawn")) as pool:
        for done in as_completed([pool.submit(part) for part in _PARTS]):
            yield done.result()
