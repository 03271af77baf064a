"""Reading files of results, and writing so that a half-written one never stands in the place of a whole one."""

from __future__ import annotations

import json
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from difflib import get_close_matches
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from tachys.errors import InputError, input_error

LARGEST_JSON = 1 << 26
_LOOKED_AT = 2000  # names in a folder, for the one that is meant


def write_whole(path: str | Path, content: str | bytes) -> None:
    """Write ``content`` as :func:`written_whole`."""
    with written_whole(path) as stream:
        stream.write(content.encode() if isinstance(content, str) else content)


@contextmanager
def written_whole(path: str | Path) -> Iterator[BinaryIO]:
    """Write to a temporary file beside ``path``, which is moved there in one step at the end, its mode kept.

    Links are written through; what is no regular file (a pipe, a device) is written into.

    Raises:
        InputError: the place cannot be written to.
    """
    target = Path(os.path.realpath(path))  # what a link points to is written, and the link stays
    try:
        if target.exists() and not target.is_file():
            with target.open("wb") as stream:  # a pipe or a device takes what it is given, and stays what it is
                yield stream
            return
        with _replaced(target) as stream:
            yield stream
    except OSError as error:
        raise input_error(str(path), f"cannot be written: {error.strerror}", "choose another place") from None


@contextmanager
def _replaced(target: Path) -> Iterator[BinaryIO]:
    mode = None
    if target.exists():
        mode = stat.S_IMODE(target.stat().st_mode)
        if not mode & 0o222:
            raise input_error(str(target), "is read-only", "choose another place, or make it writable: chmod u+w")
    target.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=target.parent, prefix=".tachys-")
    try:
        with os.fdopen(handle, "wb") as stream:
            yield stream
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(name, 0o666 & ~umask if mode is None else mode)
        os.replace(name, target)
    except BaseException:
        os.unlink(name)
        raise


def titled_lines(path: Path) -> Iterator[tuple[str, str]]:
    """(title, line) of each line of one of our own lists: its first line says what it is, a title stands behind ##."""
    title = ""
    for line in path.read_text("utf-8").splitlines()[1:]:
        if line.startswith("## "):
            title = line.removeprefix("## ")
        else:
            yield title, line


def read_json(path: str, what: str, mend: str) -> Any:
    """What stands in a JSON file that should be ``what``; ``mend`` says how such a one is made.

    Raises:
        InputError: it cannot be read, is too large for one, or is no JSON.
    """
    try:
        if Path(path).stat().st_size > LARGEST_JSON:
            raise input_error(path, f"is too large for {what}", mend)
        return json.loads(Path(path).read_text(encoding="utf-8"))
    except OSError as error:
        raise input_error(path, f"cannot be read: {error.strerror or error}", mend) from None
    except (ValueError, RecursionError):
        raise input_error(path, "is no JSON", mend) from None


def no_such_file(path: str | Path, what: str) -> InputError:
    """The error for a file that is not there, with the one beside it that has nearly this name."""
    where = Path(path)
    try:
        beside = [each.name for each in islice(where.parent.iterdir(), _LOOKED_AT)]
    except OSError:
        beside = []
    near = get_close_matches(where.name, beside, n=9, cutoff=0.8)
    meant = next((each for each in near if get_close_matches(where.stem, [Path(each).stem])), None)
    mend = f"name a {what} file" if meant is None else f"did you mean {where.with_name(meant)}?"
    return input_error(str(path), "there is no such file", mend)


def read_text(path: str | Path, what: str, largest: int) -> str:
    """The text of a file that should be a ``what`` of at most ``largest`` bytes."""
    name = str(path)
    try:
        with open(path, "rb") as stream:
            data = stream.read(largest + 1)
    except FileNotFoundError:
        raise no_such_file(path, what) from None
    except IsADirectoryError:
        raise input_error(name, "this is a directory", f"name a {what} file in it") from None
    except (OSError, ValueError) as error:
        raise input_error(name, f"cannot be read: {getattr(error, 'strerror', error)}", f"name a {what} file") from None
    if len(data) > largest:
        raise input_error(name, f"is larger than {largest // 2**20} MiB", f"no {what} file is that large")
    if not data.strip():
        raise input_error(name, "the file is empty", f"name a {what} file")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise input_error(name, "this is not text in UTF-8", f"name a {what} file", line=line) from None
    if "\0" in text:
        line = text.count("\n", 0, text.index("\0")) + 1
        raise input_error(name, "holds NUL bytes: this is no text file", f"name a {what} file", line=line)
    return text
