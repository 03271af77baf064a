"""The files of the example project."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path

from tachys.demo.analyser import to_csv, to_vcd
from tachys.demo.board import record
from tachys.errors import InputError, Place, Problem
from tachys.files import write_whole

MODEL, FAULTY, MENDED = "row_unit.toml", "faulty.vcd", "mended.csv"
STARTER = "model.toml"


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
    _write_all(folder, content)
    return folder / MODEL, folder / FAULTY, folder / MENDED


def _holds(path: Path, text: str) -> bool:
    try:
        return path.read_bytes() == text.encode()
    except OSError:
        return False


def write_starter(folder: Path, text: str | None = None) -> Path:
    """Write a commented model to fill in, or the text of one that was begun.

    What is there already and differs is not overwritten.

    Raises:
        InputError: a model of that name is there already, or the place cannot be written to.
    """
    _write_all(folder, {STARTER: text or (files("tachys.demo") / "starter.toml").read_text(encoding="utf-8")})
    return folder / STARTER


def _write_all(folder: Path, content: dict[str, str]) -> None:
    problems = [
        Problem(
            Place(str(folder / name)), "", "is there already and differs from the example", "name another directory"
        )
        for name, text in content.items()
        if os.path.exists(folder / name) and not _holds(folder / name, text)
    ]
    if problems:
        raise InputError(problems)
    for name, text in content.items():
        write_whole(folder / name, text)
