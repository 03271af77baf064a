"""Everything that Numba compiles, compiled once and kept, so that no later command has to wait for it."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from contextlib import suppress
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path

from tachys.compiled import only

_AT_MOST = 600  # seconds: whoever has been at it for longer is no more


def warm_engine() -> str:
    """The engine, by playing the example for a moment."""
    from tachys.demo.project import model_text
    from tachys.model.loading import read_model
    from tachys.simulation.running import simulate

    with only(plain=False):
        simulate(read_model(model_text(), "row_unit.toml"), 10**9)
    return "the engine"


def warm_captures() -> str:
    """The scanners and the check, by checking the example's captures."""
    from tachys.capture.csv import read_csv
    from tachys.capture.inspecting import inspect
    from tachys.capture.opening import LongFile
    from tachys.capture.packets import PacketShape, read_packets
    from tachys.capture.vcd import read_vcd
    from tachys.checking.checking import check
    from tachys.demo import board
    from tachys.demo.analyser import to_csv, to_vcd
    from tachys.demo.project import model_text
    from tachys.model.loading import read_model

    system = read_model(model_text(), "row_unit.toml")
    with only(plain=False), tempfile.TemporaryDirectory() as folder:
        dump, path = to_vcd(board.record(faulty=True)).encode(), Path(folder, "faulty.vcd")
        path.write_bytes(dump)
        check(system, read_vcd([dump], "faulty.vcd", long=LongFile(path)))
        inspect(read_csv([to_csv(board.record(faulty=False)).encode()], "mended.csv"))
        read_packets([b"\0\0\0\0\0\x80\x0e\x10\x10\x10"], "trace.bin", PacketShape(Fraction(10**6)))
    return "the scanners and the check"


_PARTS: tuple[Callable[[], str], ...] = (warm_engine, warm_captures)


def warm() -> Iterator[str]:
    """Compile all of it, each part in a process of its own; yields what is done."""
    with ProcessPoolExecutor(len(_PARTS), get_context("spawn")) as pool:
        for done in as_completed([pool.submit(part) for part in _PARTS]):
            yield done.result()


def is_done() -> bool:
    """Whether an earlier run of the program has left all of it behind."""
    from tachys.capture.vcd_quick import place_changes
    from tachys.capture.vcd_scan import scan_changes
    from tachys.simulation.kernel import play

    return all(each.is_kept() for each in (play, scan_changes, place_changes))


def begin() -> bool:
    """Have all of it compiled by a process of its own, behind everything else; False where that is or has been done.

    Whatever goes wrong with it is no matter: the next command finds nothing, and does short work plainly. Where nothing
    can be kept, it is tried again after a while.
    """
    if is_done():
        return False
    mark = Path(tempfile.gettempdir(), f"tachys-warming-{os.getuid() if hasattr(os, 'getuid') else 0}")
    with suppress(OSError):
        if time.time() - mark.stat().st_mtime > _AT_MOST:
            mark.unlink()
    try:
        os.close(os.open(mark, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    except OSError:
        return False
    quiet = subprocess.DEVNULL
    with suppress(OSError):
        subprocess.Popen(  # it goes on when this process has ended
            [sys.executable, "-c", "from tachys.warming import behind; behind()", str(mark)],
            stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True,
        )  # fmt: skip
    return True


def behind() -> None:
    """What such a process does: all of it, at the lowest priority; then its mark goes, if that was of use."""
    with suppress(OSError, AttributeError):
        os.nice(19)
    for part in reversed(_PARTS):  # what is sooner done first
        part()
    if is_done():
        with suppress(OSError):
            Path(sys.argv[1]).unlink()
