"""Commands run in this process, as the program runs them: a test of what they print needs no new process.

And captures as the bytes of a file.
"""

import contextlib
import io
import sys
from types import SimpleNamespace
from unittest import mock

import pytest

from tachys.capture.writing import write_capture
from tachys.cli.main import main


def tachys(folder, *arguments, stdin=""):
    """Run a command in this process, as the program does it: its status and what it printed."""
    out, err = io.StringIO(), io.StringIO()
    given = io.TextIOWrapper(io.BytesIO(stdin.encode()))
    with (
        contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err),
        mock.patch.object(sys, "argv", ["tachys", *arguments]), mock.patch.object(sys, "stdin", given),
        pytest.raises(SystemExit) as ended,
    ):  # fmt: skip
        main()
    return SimpleNamespace(returncode=ended.value.code or 0, stdout=out.getvalue(), stderr=err.getvalue())


def capture_bytes(capture, output):
    """A capture as it is written to a file of that name."""
    stream = io.BytesIO()
    write_capture(capture, output, stream)
    return stream.getvalue()
