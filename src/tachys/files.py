"""Writing files so that a half-written one never stands in the place of a whole one."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from tachys.errors import input_error


def write_whole(path: str | Path, content: str | bytes) -> None:
    """Write ``content`` to a temporary file beside ``path`` and move it there in one step.

    Raises:
        InputError: the place cannot be written to.
    """
    target = Path(path)
    data = content.encode() if isinstance(content, str) else content
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.")
    except OSError as error:
        raise input_error(str(path), f"cannot be written: {error.strerror}", "choose another place") from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(name, 0o666 & ~umask)
        os.replace(name, target)
    except OSError as error:
        os.unlink(name)
        raise input_error(str(path), f"cannot be written: {error.strerror}", "choose another place") from None
