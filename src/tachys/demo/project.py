"""The files of the example projects."""

from __future__ import annotations

import os
from collections.abc import Sequence
from importlib import import_module
from importlib.resources import files
from pathlib import Path

from msgspec import Struct

from tachys.demo.analyser import to_csv, to_vcd
from tachys.demo.board import record
from tachys.errors import InputError, Place, Problem, did_you_mean, input_error
from tachys.files import write_whole

MODEL, FAULTY, MENDED = "row_unit.toml", "faulty.vcd", "mended.csv"
STARTER = "model.toml"
EXAMPLES = "tachys.examples"
CAPTURE, README = "board.vcd", "README.md"


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


class Example(Struct, frozen=True):
    """A small project: its name on the command line, and the question that it answers."""

    name: str
    question: str

    def text(self, file: str) -> str:
        """One of its files that lie beside its board."""
        return (files(EXAMPLES) / self.name.replace("-", "_") / file).read_text(encoding="utf-8")

    def capture(self) -> str:
        """What the analyser saw of its board."""
        board = import_module(f"{EXAMPLES}.{self.name.replace('-', '_')}.board")
        return to_vcd(board.record())


def examples() -> Sequence[Example]:
    """All small projects, by name."""
    found = []
    for folder in sorted(each.name for each in files(EXAMPLES).iterdir() if (each / STARTER).is_file()):
        example = Example(folder.replace("_", "-"), "")
        lines = example.text(README).splitlines()
        question = next(line.partition(": ")[2] for line in lines if line.startswith("Question: "))
        found.append(Example(example.name, question))
    return found


def write_example(folder: Path, name: str) -> tuple[Path, Path]:
    """Write a small project: model, capture and what to ask of them. What is there and differs is not overwritten.

    Raises:
        InputError: there is no such project, a file of it is there already, or the place cannot be written to.
    """
    known = {each.name: each for each in examples()}
    example = known.get(name.replace("_", "-"))
    if example is None:
        raise input_error("--like", f'there is no example "{name}"', did_you_mean(name, list(known), "example"))
    content = {STARTER: example.text(STARTER), CAPTURE: example.capture(), README: example.text(README)}
    _write_all(folder, content)
    return folder / STARTER, folder / CAPTURE


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
