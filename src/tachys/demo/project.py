"""The files of the example project."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from tachys.demo.board import record, to_csv, to_vcd
from tachys.errors import InputError, Place, Problem
from tachys.files import write_whole

MODEL, FAULTY, MENDED = "row_unit.toml", "faulty.vcd", "mended.csv"


def model_text() -> str:
    """The model of the row unit."""
    return (files("tachys.demo") / MODEL).read_text(encoding="utf-8")


def write_project(folder: Path) -> tuple[Path, Path, Path]:
    """Write model, faulty capture and mended capture; what is there already and differs is not overwritten.

    Raises:
        InputError: a file of that name holds something else, or the place cannot be written to.
    """
    content = {
        MODEL: model_text(),
        FAULTY: to_vcd(record(faulty=True)),
        MENDED: to_csv(record(faulty=False)),
    }
    wrong = "is there already and differs from the example"
    problems = [
        Problem(Place(str(folder / name)), "", wrong, "name another directory")
        for name, text in content.items()
        if (folder / name).exists() and not _holds(folder / name, text)
    ]
    if problems:
        raise InputError(problems)
    for name, text in content.items():
        write_whole(folder / name, text)
    return folder / MODEL, folder / FAULTY, folder / MENDED


def _holds(path: Path, text: str) -> bool:
    try:
        return path.read_bytes() == text.encode()
    except OSError:
        return False
