"""Tables as pandas frames, and times in seconds: for notebooks."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import islice
from types import ModuleType
from typing import TYPE_CHECKING, BinaryIO, NamedTuple

from tachys.errors import input_error

if TYPE_CHECKING:
    import pandas as pd

PS = 10**12
_ROWS = 10_000  # that are held while Parquet is written


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


def write_parquet(
    file: BinaryIO, name: str, columns: Sequence[str], types: Sequence[type], rows: Iterable[Sequence[object]]
) -> None:
    """A table into a Parquet file, some rows at a time; ``name`` is only shown.

    Raises:
        InputError: the package for it is not installed.
    """
    pa, pq = parquet_library(name)
    kinds = {str: pa.string(), float: pa.float64(), bool: pa.bool_()}
    schema = pa.schema([(column, kinds[kind]) for column, kind in zip(columns, types, strict=True)])
    left = iter(rows)
    with pq.ParquetWriter(file, schema) as writer:
        while part := list(islice(left, _ROWS)):
            made = zip(*part, strict=True)
            arrays = [pa.array(column, field.type) for column, field in zip(made, schema, strict=True)]
            writer.write_batch(pa.record_batch(arrays, schema=schema))
