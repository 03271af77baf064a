"""Machine code that was compiled once: kept in files, loaded and called without the compiler.

To fetch the compiler takes ten times as long as to load what it has made. A file holds a digest, a line of JSON and an
object file, which asks nothing of the program but memory for arrays (``ROOM``).
"""

from __future__ import annotations

import ctypes
import json
import os
import struct
import threading
from collections.abc import Iterator
from contextlib import suppress
from functools import cache
from hashlib import blake2b
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

ROOM = "tachys_room"  # what compiled code calls for so many bytes; 0: there are none
_WORDS = {"i": "q", "u": "Q", "f": "d", "b": "q"}  # of numbers
_NAMES = {char: np.dtype(char).str[1:] for char in "?bBhHiIlLqQfd"}
_SPARE = (ctypes.c_int64 * 2)()  # what Numba would have told there is not asked for
_LENT = threading.local()  # of this thread: arrays whose memory its kernel has, why it got none


class Machine(Struct, frozen=True):
    """A function as an object file has it: its name, the types of its arguments and of what it returns, the file.

    It takes two addresses of no use and that of its words: the arguments, a word of 64 bits for a number, two for
    an array of one dimension (address, length), and behind them what it returns. It returns whether memory ran out.
    """

    name: str
    takes: str
    returns: str
    code: bytes


def types_of(args: tuple[Any, ...]) -> str:
    """The types of arguments, apart by dots: ``i`` and ``f`` for numbers, as ``i8`` or ``u1`` for arrays of them."""
    return ".".join(
        [
            _NAMES[each.dtype.char] if isinstance(each, np.ndarray) else "f" if isinstance(each, float) else "i"
            for each in args
        ]
    )


def keep(machine: Machine, folder: Path, stem: str) -> bool:
    """Leave it behind for other runs of the program, in place of what is older; whether that could be done.

    ``stem``: the name of the function, a dash, and a stamp of what it hangs on. The types of its arguments and the
    processor are added to it.
    """
    end = f"{machine.takes}.{_processor()}.code"
    whole = json.dumps([machine.name, machine.takes, machine.returns]).encode() + b"\n" + machine.code
    path, part = folder / f"{stem}.{end}", folder / f"{stem}.{os.getpid()}"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        part.write_bytes(_digest(whole) + b"\n" + whole)
        part.replace(path)
        for older in folder.glob(f"{stem.partition('-')[0]}-*.{_processor()}.code"):
            if not older.name.startswith(f"{stem}."):  # of other files or numbers, whatever it takes
                older.unlink(missing_ok=True)
    except OSError:
        with suppress(OSError):
            part.unlink(missing_ok=True)
        return False
    return True


def files_of(folder: Path, stem: str, takes: str = "*") -> Iterator[tuple[str, Path]]:
    """(types of the arguments, file) of each that was left behind for this processor."""
    for path in folder.glob(f"{stem}.{takes}.*.code"):
        types, processor = path.name[len(stem) + 1 : -len(".code")].rsplit(".", 1)
        if processor == _processor():
            yield types, path


def kept(path: Path) -> Machine | None:
    """What was left behind; None where it is damaged or cut short."""
    with suppress(OSError):
        digest, _, whole = path.read_bytes().partition(b"\n")
        if digest == _digest(whole):
            head, _, code = whole.partition(b"\n")
            name, takes, returns = json.loads(head)
            return Machine(name, takes, returns, code)
    return None


def _digest(whole: bytes) -> bytes:
    return blake2b(whole, digest_size=8).hexdigest().encode()


@cache
def _processor() -> str:
    """What the code is made for, and by which version of the compiler."""
    return _digest(" ".join([*_host(), str(loader().llvm_version_info)]).encode()).decode()


def _host() -> tuple[str, str]:
    return loader().get_host_cpu_name(), loader().get_host_cpu_features().flatten()


def target() -> Any:
    """The machine that code is made for, and loaded on."""
    cpu, features = _host()
    return loader().Target.from_default_triple().create_target_machine(cpu=cpu, features=features, opt=3, jit=True)


def _lend(size: int) -> int:
    try:
        _LENT.arrays.append(np.zeros(size, np.uint8))
        return _address(_LENT.arrays[-1])
    except ValueError:  # more than can be
        _LENT.wrong = MemoryError()
    except BaseException as wrong:  # no memory left, or Ctrl-C: it goes on where the kernel was called
        _LENT.wrong = wrong
    return 0


_room = ctypes.CFUNCTYPE(ctypes.c_int64, ctypes.c_int64)(_lend)


@cache
def loader() -> Any:
    """What loads machine code."""
    import llvmlite.binding as binding

    binding.initialize_native_target()
    binding.initialize_native_asmprinter()
    binding.add_symbol(ROOM, ctypes.cast(_room, ctypes.c_void_p).value)
    return binding


def _address(array: Any) -> int:
    return int(array.__array_interface__["data"][0])


class Loaded:
    """Machine code, to be called."""

    def __init__(self, machine: Machine) -> None:
        binding = loader()
        self._engine = binding.create_mcjit_compiler(binding.parse_assembly(""), target())
        self._engine.add_object_file(binding.ObjectFileRef.from_data(machine.code))
        self._engine.finalize_object()
        address = self._engine.get_function_address(machine.name)
        self._call = ctypes.CFUNCTYPE(ctypes.c_int32, *[ctypes.c_void_p] * 3)(address)
        self._takes = struct.Struct("".join(_WORDS.get(each, "qq") for each in machine.takes.split(".")))
        self._kinds = machine.returns.split(".") if machine.returns else []
        self._returns = struct.Struct("".join(_WORDS.get(each, "qq") for each in self._kinds))

    def __call__(self, *args: Any) -> Any:
        """What it returns; arrays are changed as plain code would change them."""
        given: list[Any] = []
        copied = []
        for value in args:
            if not isinstance(value, np.ndarray):
                given.append(value.item() if isinstance(value, np.generic) else value)
                continue
            flags = value.flags
            if not (flags.carray or (flags.c_contiguous and flags.aligned)):
                copied.append((value, value.copy()))
                value = copied[-1][1]
            given += (_address(value), len(value))
        words = ctypes.create_string_buffer(self._takes.pack(*given), self._takes.size + self._returns.size + 1)
        lent: list[Any] = []
        _LENT.arrays = lent
        try:
            if self._call(_SPARE, _SPARE, words):
                raise _LENT.wrong
        finally:
            _LENT.arrays = []
        for value, copy in copied:
            if value.flags.writeable:
                value[...] = copy
        found = self._found(list(self._returns.unpack_from(words, self._takes.size)), lent)
        return tuple(found) if len(found) > 1 else found[0] if found else None

    def _found(self, words: list[Any], lent: list[Any]) -> list[Any]:
        found = []
        for kind in self._kinds:
            if kind in _WORDS:
                found.append(bool(words.pop(0)) if kind == "b" else words.pop(0))
                continue
            address, many = words.pop(0), words.pop(0)
            size = many * int(kind[1])
            place = next(each for each in lent if 0 <= address - _address(each) <= each.size - size)
            begin = address - _address(place)
            found.append(place[begin : begin + size].view(kind))
        return found
