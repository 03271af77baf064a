"""Functions that are compiled where it pays: the one way to compiled code, and the choice between it and plain Python.

To load what was compiled takes a tenth of a second, to compile many whole ones. Short work is therefore done at once,
as plain Python; both do the same, operation by operation. Once compiled code is loaded, or enough was done plainly,
everything is done by it.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cached_property
from hashlib import blake2b
from importlib import import_module
from pathlib import Path
from threading import RLock
from types import FunctionType
from typing import Any, Generic, ParamSpec, TypeVar, cast

import numpy as np

from tachys.native import Loaded, files_of, keep, kept, types_of

P = ParamSpec("P")
R = TypeVar("R")

# how much is done plainly, all in all, in millionths of a second on a slow machine: less where it was compiled before
LITTLE, ENOUGH = 100_000, 2_500_000
_ONE_AT_A_TIME = RLock()
_OWN = tuple(Path(__file__).with_name(name) for name in ("compiled.py", "compiling.py", "native.py"))


class _Choice:
    """How much was done plainly, and whether somebody has chosen."""

    done = 0
    only: bool | None = None
    checked = False
    missed = False


def is_missed() -> bool:
    """Whether something was done plainly that would have been faster if it had been compiled before."""
    return _Choice.missed


@contextmanager
def only(*, plain: bool) -> Iterator[None]:
    """Everything inside is done plainly, or nothing."""
    before, _Choice.only = _Choice.only, plain
    try:
        yield
    finally:
        _Choice.only = before


@contextmanager
def checked() -> Iterator[None]:
    """Everything inside is done plainly, and an array is neither read nor written outside of it.

    Compiled code does not ask; plain code takes an index below zero for one from the end.
    """
    with only(plain=True):
        _Choice.checked = True
        try:
            yield
        finally:
            _Choice.checked = False


class _Checked:
    """A view that is only read and written within."""

    def __init__(self, view: Any) -> None:
        self.view = view

    def __len__(self) -> int:
        return len(self.view)

    def __getitem__(self, place: int) -> Any:
        if not 0 <= place < len(self.view):
            raise IndexError(f"read at {place} of {len(self.view)}")
        return self.view[place]

    def __setitem__(self, place: int, value: Any) -> None:
        if not 0 <= place < len(self.view):
            raise IndexError(f"written at {place} of {len(self.view)}")
        self.view[place] = value

    def __array__(self, dtype: Any = None, copy: Any = None) -> Any:
        return np.asarray(self.view, dtype)


class Twin:
    """What is one thing in compiled code and another in plain Python, to the same effect.

    What compiled code has may stand in :mod:`tachys.compiling`, under a name.
    """

    def __init__(self, plain: Callable[..., Any], made: Any) -> None:
        self.plain, self._made = plain, made

    @property
    def made(self) -> Any:
        """What compiled code has."""
        return getattr(_compiling(), self._made) if isinstance(self._made, str) else self._made

    def __call__(self, *values: Any) -> Any:
        """As plain Python has it."""
        return self.plain(*values)


def _compiling() -> Any:
    return import_module("tachys.compiling")


def _signed(number: Any) -> Any:
    return number - (1 << 64) if number >> 63 else number


# what kernels do with single numbers
int64 = Twin(int, np.int64)  # a whole number with a sign, which never leaves 64 bits
uint64 = Twin(int, np.uint64)  # one without
as_signed = Twin(_signed, np.int64)  # the number with the same 64 bits as one without a sign
rint = Twin(lambda number: float(round(number)), np.rint)  # half-way cases to the even one
wrapped = Twin(lambda number: _signed(number & ((1 << 64) - 1)), np.int64)  # the 64 bits of one that may leave them


# so many zeros, whole numbers of 64 bits or of another kind, for a kernel to work with or to return
zeros = Twin(lambda count: _viewed(np.zeros(count, np.int64)), "zeros")
zeros_of = Twin(lambda count, kind: _viewed(np.zeros(count, kind)), "zeros_of")
# the bare address of an array's items: compiled code asks at every index of an array whether it counts from the end; an
# address it takes as it is
bare = Twin(lambda array: array, "bare")
# the number of eight bytes from a place on, the first the lowest, as every processor that Numba knows has them
eight_bytes = Twin(lambda data, at: sum(data[at + k] << 8 * k for k in range(8)), "eight_bytes")
bit_length = Twin(lambda number: number.bit_length(), "bit_length")  # of 0 or more, in one instruction


class Kernel(Generic[P, R]):
    """A function of numbers and arrays, which is compiled or not.

    Plainly, arrays of one dimension come as views of their memory, which give and take numbers of Python and so are
    faster item by item; whatever is done with a whole array goes to ``np.asarray``.
    """

    def __init__(self, function: Callable[P, R], weight: int, size: int | None, patience: int = 1) -> None:
        self.function = cast(FunctionType, function)
        self.weight, self.size, self.patience = weight, size, patience
        self.__doc__, self.__name__, self.__wrapped__ = function.__doc__, function.__name__, function
        self._loaded: dict[str, Loaded] = {}

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R:
        """Do it, in the way that is due."""
        assert not kwargs
        types = types_of(args)
        return cast(R, self._run(args, types, self.is_short(self._work(args), types)))

    def is_short(self, work: int, types: str = "*") -> bool:
        """Whether to do it plainly: it takes ``work`` millionths of a second, which is counted then."""
        if _Choice.only is not None or types in self._loaded:
            return bool(_Choice.only)
        done = _Choice.done + work
        little = 0 if "llvmlite" in sys.modules else LITTLE  # what is kept costs little more to load then
        if done > ENOUGH * self.patience or (done > little and self.is_kept(types)):
            return False
        _Choice.done, _Choice.missed = done, _Choice.missed or done > LITTLE
        return True

    def waits(self, work: int) -> bool:
        """Whether so much work would have to wait for the compiler."""
        return _Choice.done + work > ENOUGH * self.patience and not self.is_kept()

    def run(self, *args: Any, plain: bool) -> Any:
        """Do it in one of both ways."""
        return self._run(args, types_of(args), plain if _Choice.only is None else _Choice.only)

    def _run(self, args: Any, types: str, plain: bool) -> Any:
        return _whole(self.plain(*map(_viewed, args))) if plain else self.native(types)(*args)

    def _work(self, args: Any) -> int:
        if self.size is not None:
            return self.weight * int(args[self.size])
        return self.weight * sum(len(each) for each in args if isinstance(each, np.ndarray))

    @cached_property
    def plain(self) -> Any:
        """The plain function; those that it calls are plain, too."""
        return self._bound({name: each.plain for name, each in self._called.items()})

    @cached_property
    def made(self) -> Any:
        """What other compiled functions call."""
        return _compiling().Dispatcher(self._compilable())

    def native(self, types: str) -> Loaded:
        """Its machine code for arguments of these types, compiled once; it is kept until one of its files changes."""
        if types in self._loaded:
            return self._loaded[types]
        with _ONE_AT_A_TIME:
            if not self.is_kept(types):
                machine = _compiling().machine_code(self._compilable(), types)
                for folder in self._folders():
                    if keep(machine, folder, self._stem):
                        break
                self._loaded[types] = Loaded(machine)
            return self._loaded[types]

    def is_kept(self, types: str = "*") -> bool:
        """Whether it is compiled, or an earlier run of the program has left it behind; that is loaded then."""
        with _ONE_AT_A_TIME:
            for folder in self._folders():
                for takes, path in files_of(folder, self._stem, types):
                    if takes not in self._loaded and (machine := kept(path)) is not None:
                        self._loaded[takes] = Loaded(machine)
            return types in self._loaded or (types == "*" and bool(self._loaded))

    def _compilable(self) -> FunctionType:
        return self._bound({name: each.made for name, each in self._called.items()})

    def _folders(self) -> tuple[Path, ...]:
        """Where it is kept: beside its file, or where that cannot be, in the home folder."""
        beside = Path(self.function.__code__.co_filename).parent / "__pycache__"
        with suppress(RuntimeError):  # there is none
            return beside, Path.home() / ".cache" / "tachys"
        return (beside,)

    @cached_property
    def _stem(self) -> str:
        """Its name, and a stamp of the files that are compiled into it and of numbers that come from others."""
        file = Path(self.function.__code__.co_filename)
        files = [(each.name, each.stat().st_mtime, each.stat().st_size) for each in sorted(self._files)]
        stamp = repr((files, sorted(self._constants))).encode()
        return f"{file.stem}.{self.__name__}-{blake2b(stamp, digest_size=8).hexdigest()}"

    @cached_property
    def _used(self) -> dict[str, Any]:
        """What it takes from its module."""
        names = self.function.__code__.co_names
        return {name: self.function.__globals__[name] for name in names if name in self.function.__globals__}

    @cached_property
    def _called(self) -> dict[str, Any]:
        used = self._used.items()
        return {name: each for name, each in used if isinstance(each, Kernel | Twin) and each is not self}

    def _bound(self, others: dict[str, Any]) -> FunctionType:
        function = self.function
        if not others:
            return function
        known = {**function.__globals__, **others}
        made = FunctionType(function.__code__, known, function.__name__, function.__defaults__)
        made.__qualname__, made.__module__, made.__doc__ = function.__qualname__, function.__module__, function.__doc__
        return made

    @cached_property
    def _files(self) -> set[Path]:
        others = (each._files for each in self._called.values() if isinstance(each, Kernel))
        return {Path(self.function.__code__.co_filename), *_OWN}.union(*others)

    @cached_property
    def _constants(self) -> set[tuple[str, float]]:
        """The numbers that it and those that it calls take from their modules, which may come from others."""
        own = {(name, value) for name, value in self._used.items() if isinstance(value, int | float)}
        return own.union(*(each._constants for each in self._called.values() if isinstance(each, Kernel)))


def kernel(*, weight: int = 1, size: int | None = None, patience: int = 1) -> Callable[[Callable[P, R]], Kernel[P, R]]:
    """Declare a function of numbers and arrays that is compiled where it pays.

    ``weight``: how many millionths of a second an item takes plainly; ``size``: which argument says how many
    there are, where it is not the length of all arrays. ``patience``: how many times as long as others it may take
    plainly, since it takes so long to compile.
    """
    return lambda function: Kernel(function, weight, size, patience)


def _viewed(value: Any) -> Any:
    if isinstance(value, np.ndarray) and value.ndim == 1 and value.flags.c_contiguous:
        view: Any = memoryview(cast(Any, value))
        return _Checked(view) if _Choice.checked else view
    return value


def _whole(found: Any) -> Any:
    if isinstance(found, tuple):
        return tuple(map(_whole, found))
    return np.asarray(found) if isinstance(found, memoryview | _Checked) else found
