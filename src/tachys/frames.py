"""Tables as pandas frames, and times in seconds: for notebooks."""

from __future__ import annotations

import io
from collections.abc import Sequence
from types import ModuleType
from typing import TYPE_CHECKING, NamedTuple

from tachys.errors import input_error

if TYPE_CHECKING:
    import pandas as pd

PS = 10**12


class Seconds(NamedTuple):
    """Times in seconds; those that are not there are None."""

    least: float | None
    most: float | None
    mean: float | None = None
    median: float | None = None


def in_seconds(least: int | None, most: int | None, mean: float | None = None, median: int | None = None) -> Seconds:
    """Times in ps as seconds."""
    return Seconds(*(None if ps is None else float(ps / PS) for ps in (least, most, mean, median)))


def frame(columns: Sequence[str], rows: Sequence[Sequence[object]]) -> pd.DataFrame:
    """A pandas frame.

    Raises:
        InputError: pandas is not installed.
    """
    try:
        import pandas
    except ImportError:
        raise input_error("to_frame()", "pandas is not installed", "pip install tachys[frames]") from None
    return pandas.DataFrame([list(row) for row in rows], columns=list(columns))


def parquet_library(file: str) -> tuple[ModuleType, ModuleType]:
    """(pyarrow, pyarrow.parquet); ``file`` is only shown.

    Raises:
        InputError: the package is not installed.
    """
    try:
        import pyarrow as pa
        import pyarrow.parquet as pq
    except ImportError:
        raise input_error(file, "Parquet needs another package", "pip install tachys[parquet]") from None
    return pa, pq


def parquet_table(file: str, columns: Sequence[str], rows: Sequence[Sequence[object]]) -> bytes:
    """A table as a Parquet file.

    Raises:
        InputError: the package for it is not installed.
    """
    pa, pq = parquet_library(file)
    stream = io.BytesIO()
    pq.write_table(pa.table({name: [row[place] for row in rows] for place, name in enumerate(columns)}), stream)
    return stream.getvalue()
