"""Captures as Parquet files, in our own layout: a row a change, as ``docs/formats.md`` describes it."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable
from typing import Any, BinaryIO

import numpy as np
from msgspec.structs import replace

from tachys.capture.sampling import Resolution, step_of
from tachys.capture.table import MOST_BITS, Capture, Instants, Known, Signal, bits_used, in_order, timed
from tachys.errors import input_error
from tachys.frames import parquet_library

MAGIC = b"PAR1"
LARGEST = 1 << 31
_COLUMNS = ("time_ps", "signal", "value")
_VERSIONS = ("capture/1", "capture/2")  # the first had no nulls: -1 was what is not known


def write_parquet(capture: Capture, file: str, stream: BinaryIO) -> None:
    """Write a capture as a Parquet file; ``file`` is only shown.

    Raises:
        InputError: the package for it is not installed.
    """
    pa, pq = parquet_library(file)
    about = {"tachys": "capture/2", "begin_ps": str(capture.begin), "end_ps": str(capture.end),
             "resolution_ps": str(capture.resolution), "rounding_ps": str(capture.rounding),
             "told": str(int(capture.told)),
             "reals": json.dumps([name for name, signal in capture.signals.items() if signal.real])}  # fmt: skip
    kinds = (pa.int64(), pa.dictionary(pa.int32(), pa.string()), pa.uint64())
    columns, names = pa.schema(list(zip(_COLUMNS, kinds, strict=True)), metadata=about), pa.array(list(capture.signals))
    with pq.ParquetWriter(stream, columns, compression="zstd") as writer:
        for at, which, values, known in in_order(capture):
            signal = pa.DictionaryArray.from_arrays(pa.array(which.astype(np.int32)), names)
            value = pa.array(values.astype(np.int64).view(np.uint64), mask=~known)
            writer.write_table(pa.table([pa.array(at), signal, value], schema=columns))


def read_parquet(chunks: Iterable[bytes], file: str) -> Capture:
    """Read a capture that was written as Parquet; ``file`` is only shown.

    Raises:
        InputError: it is damaged, too large, or not in our layout; or the package for it is not installed.
    """
    pa, pq = parquet_library(file)
    held = io.BytesIO()
    for piece in chunks:
        held.write(piece)
        if held.tell() > LARGEST:
            raise input_error(file, f"is larger than {LARGEST >> 30} GiB", "convert it to VCD, which is read in pieces")
    try:
        table = pq.read_table(held)
        about = {key.decode(): value.decode() for key, value in (table.schema.metadata or {}).items()}
        if about.get("tachys") not in _VERSIONS or not set(_COLUMNS) <= set(table.column_names):
            raise input_error(file, "this Parquet file is no capture", "one that tachys convert has written is due")
        at = table.column("time_ps").to_numpy().astype(np.int64)
        value, known = _values(table.column("value").combine_chunks(), about["tachys"] == "capture/1")
        coded = table.column("signal").combine_chunks().dictionary_encode()
        names, which = coded.dictionary.to_pylist(), coded.indices.to_numpy()
        begin, end, reals = int(about["begin_ps"]), int(about["end_ps"]), set(json.loads(about.get("reals", "[]")))
    except (pa.ArrowException, ValueError, KeyError, TypeError) as error:
        wrong = f"cannot be read: {str(error).splitlines()[0][:80] if str(error) else type(error).__name__}"
        raise input_error(file, wrong, "write it again: tachys convert") from None
    if len(at) and ((np.diff(at) < 0).any() or at[0] < begin or at[-1] > end):
        raise input_error(file, "time runs backwards", "a capture is written in order of time")
    signals = {}
    for number, name in enumerate(names):
        mine = which == number
        real = name in reals
        signal = Signal(str(name), MOST_BITS, at[mine], value[mine], known[mine], real=real)
        signals[str(name)] = signal if real else replace(signal, width=bits_used(signal))
    step = Resolution(int(about.get("resolution_ps", 0)), int(about.get("rounding_ps", 0)))
    step = step if step.ps else step_of(timed(signals.values()), 1)
    return Capture(file, signals, begin, end, step.ps, rounding=step.rounding, told=about.get("told") == "1")


def _values(column: Any, first_version: bool) -> tuple[Instants, Known]:
    if first_version:
        old = column.to_numpy(zero_copy_only=False).astype(np.int64)
        return old, old != -1
    known = column.is_valid().to_numpy(zero_copy_only=False)
    bits = column.fill_null(2**64 - 1).to_numpy(zero_copy_only=False).astype(np.uint64)
    return bits.view(np.int64), known
