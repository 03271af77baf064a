"""Reading a capture file, whatever its format."""

from __future__ import annotations

from pathlib import Path

from tachys.capture.csv import FOUND_OUT, CsvShape, read_csv
from tachys.capture.table import Capture
from tachys.capture.vcd import read_vcd
from tachys.model.loading import read_text

LARGEST_CAPTURE = 2**30


def read_capture(path: str | Path, shape: CsvShape = FOUND_OUT) -> Capture:
    """Read a VCD or CSV capture; the format is told by its first character, not by its name.

    Raises:
        InputError: the file cannot be read, or is wrong at a line that is named.
    """
    text = read_text(path, "capture", LARGEST_CAPTURE)
    lines = text.splitlines(keepends=True)
    if text.lstrip().startswith("$"):
        return read_vcd(lines, str(path))
    return read_csv(lines, str(path), shape)
