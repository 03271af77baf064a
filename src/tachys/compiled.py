"""Functions that are compiled where it pays: the one way to Numba, and the choice between it and plain Python.

To fetch the compiler and what it has left behind takes half a second, to compile takes many more. Short work is
therefore done at once, as plain Python; both do the same, operation by operation. Once compiled code is loaded, or
enough was done plainly, everything is done by it.
"""

from __future__ import annotations

import gc
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache, cached_property
from importlib import import_module
from pathlib import Path
from threading import RLock
from types import FunctionType
from typing import Any, Generic, ParamSpec, TypeVar, cast

import numpy as np

P = ParamSpec("P")
R = TypeVar("R")

# how much is done plainly, all in all, in millionths of a second on a slow machine: less where it was compiled before
LITTLE, ENOUGH = 1_200_000, 2_500_000
_LEFT_OUT = ("scipy.linalg", "yaml")  # linear algebra, settings of Numba in a file
_ONE_AT_A_TIME = RLock()


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


@cache
def compiler() -> Any:
    """Numba's ``njit``; Numba is loaded without what it asks for and nothing here has a use for.

    That takes longer than all of our own modules. Where it is loaded already it stays.
    """
    kept: Any = sys.modules
    left_out = [each for each in _LEFT_OUT if each not in kept]
    kept.update(dict.fromkeys(left_out))  # an import of it fails, as if it were not installed
    collects = gc.isenabled()
    gc.disable()  # what is loaded stays
    try:
        from numba import njit

        import_module("numba.np.arraymath")  # what asks for linear algebra
    finally:
        for each in left_out:
            del kept[each]
        if collects:
            gc.enable()
    return njit


class Twin:
    """What is one thing in compiled code and another in plain Python, to the same effect.

    ``make`` makes the former at its first use, where that needs Numba.
    """

    def __init__(self, plain: Callable[..., Any], made: Any = None, make: Callable[[], Any] | None = None) -> None:
        self.plain, self._made, self._make = plain, made, make

    @cached_property
    def made(self) -> Any:
        """What compiled code has."""
        return self._made if self._make is None else self._make()

    def __call__(self, *values: Any) -> Any:
        """As plain Python has it."""
        return self.plain(*values)


def _signed(number: Any) -> Any:
    return number - (1 << 64) if number >> 63 else number


# what kernels do with single numbers
int64 = Twin(int, np.int64)  # a whole number with a sign, which never leaves 64 bits
uint64 = Twin(int, np.uint64)  # one without
as_signed = Twin(_signed, np.int64)  # the number with the same 64 bits as one without a sign
rint = Twin(lambda number: float(round(number)), np.rint)  # half-way cases to the even one
wrapped = Twin(lambda number: _signed(number & ((1 << 64) - 1)), np.int64)  # the 64 bits of one that may leave them


def _make_bare() -> Any:
    from numba import types
    from numba.extending import intrinsic

    def bare(typing: Any, array: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            return context.make_array(array)(context, builder, values[0]).data

        pointer: Any = types.CPointer
        return pointer(array.dtype)(array), generate

    return intrinsic(bare)


# the bare address of an array's items: compiled code counts references to arrays at every call, which costs more than
# the calls do, and asks at every index whether it counts from the end; an address it takes as it is.
# Only of what comes in or is returned: an array that is made within goes with its last use
bare = Twin(lambda array: array, make=_make_bare)


def _make_eight_bytes() -> Any:
    from llvmlite import ir
    from numba import types
    from numba.extending import intrinsic

    def eight(typing: Any, address: Any, place: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            first = builder.gep(values[0], [values[1]])
            return builder.load(builder.bitcast(first, ir.IntType(64).as_pointer()), align=1)

        return types.uint64(address, types.int64), generate

    return intrinsic(eight)


# the number of eight bytes from a place on, the first the lowest, as every processor that Numba knows has them
eight_bytes = Twin(lambda data, at: sum(data[at + k] << 8 * k for k in range(8)), make=_make_eight_bytes)


def _make_bit_length() -> Any:
    from llvmlite import ir
    from numba import types
    from numba.extending import intrinsic

    def bits(typing: Any, number: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            zeros = builder.ctlz(values[0], ir.Constant(ir.IntType(1), 0))
            return builder.sub(ir.Constant(ir.IntType(64), 64), zeros)

        return types.int64(types.int64), generate

    return intrinsic(bits)


bit_length = Twin(lambda number: number.bit_length(), make=_make_bit_length)  # of 0 or more, in one instruction


class Kernel(Generic[P, R]):
    """A function of numbers and arrays, which is compiled or not.

    Plainly, arrays of one dimension come as views of their memory, which give and take numbers of Python and so are
    faster item by item; whatever is done with a whole array goes to ``np.asarray``.
    """

    def __init__(
        self,
        function: Callable[P, R],
        weight: int,
        size: int | None,
        inline: bool,
        patience: int = 1,
        apart: bool = False,
    ) -> None:
        self.function = cast(FunctionType, function)
        self.weight, self.size, self.inline, self.patience, self.apart = weight, size, inline, patience, apart
        self.__doc__, self.__name__, self.__wrapped__ = function.__doc__, function.__name__, function
        self._made: Any = None

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R:
        """Do it, in the way that is due."""
        assert not kwargs
        return cast(R, self.run(*args, plain=self.is_short(self._work(args))))

    def is_short(self, work: int) -> bool:
        """Whether to do it plainly: it takes ``work`` millionths of a second, which is counted then."""
        if _Choice.only is not None or self._made is not None:
            return bool(_Choice.only)
        done = _Choice.done + work
        little = 0 if "numba" in sys.modules else LITTLE  # what is kept costs little more to fetch then
        if done > ENOUGH * self.patience or (done > little and self.is_kept()):
            return False
        _Choice.done, _Choice.missed = done, _Choice.missed or done > LITTLE
        return True

    def waits(self, work: int) -> bool:
        """Whether so much work would have to wait for the compiler."""
        return _Choice.done + work > ENOUGH * self.patience and not self.is_kept()

    def run(self, *args: Any, plain: bool) -> Any:
        """Do it in one of both ways."""
        if plain if _Choice.only is None else _Choice.only:
            return _whole(self.plain(*map(_viewed, args)))
        return self.made(*args)

    def _work(self, args: Any) -> int:
        if self.size is not None:
            return self.weight * int(args[self.size])
        return self.weight * sum(len(each) for each in args if isinstance(each, np.ndarray))

    @cached_property
    def plain(self) -> Any:
        """The plain function; those that it calls are plain, too."""
        return self._bound({name: each.plain for name, each in self._called().items()})

    @property
    def made(self) -> Any:
        """What Numba makes of it, once; it is kept until a file changes in which one of its functions stands."""
        with _ONE_AT_A_TIME:
            return self._made or self._make()

    def _make(self) -> Any:
        if self._made is None:
            bound = self._bound({name: each.made for name, each in self._called().items()})
            if self.inline:
                bare_of = {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}  # nothing else calls it
                self._made = compiler()(error_model="numpy", forceinline=not self.apart, **bare_of)(bound)
            else:
                self._made = compiler()(error_model="numpy", cache=True, nogil=True)(bound)
                self._stamp_cache()
        return self._made

    def is_kept(self) -> bool:
        """Whether it is compiled, or an earlier run of the program has left it behind; Numba gives it this name."""
        if self._made is not None:
            return True
        file = Path(self.function.__code__.co_filename)
        name = f"{file.stem}.{self.__name__}-{self.function.__code__.co_firstlineno}.*.nbi"
        changed = max(each.stat().st_mtime for each in self._files())
        return any(each.stat().st_mtime > changed for each in (file.parent / "__pycache__").glob(name))

    def _called(self) -> dict[str, Any]:
        used = {name: self.function.__globals__.get(name) for name in self.function.__code__.co_names}
        return {name: each for name, each in used.items() if isinstance(each, Kernel | Twin) and each is not self}

    def _bound(self, others: dict[str, Any]) -> FunctionType:
        function = self.function
        if not others:
            return function
        known = {**function.__globals__, **others}
        made = FunctionType(function.__code__, known, function.__name__, function.__defaults__)
        made.__qualname__, made.__module__, made.__doc__ = function.__qualname__, function.__module__, function.__doc__
        return made

    def _stamp_cache(self) -> None:
        """Have what Numba keeps depend on all that is compiled into it, and not only on the function's own file."""
        kept: Any = getattr(getattr(self._made, "_cache", None), "_cache_file", None)
        if kept is not None and hasattr(kept, "_source_stamp"):
            files = ((each.stat().st_mtime, each.stat().st_size) for each in sorted(self._files()))
            kept._source_stamp = (*files, *sorted(self._constants()))

    def _files(self) -> set[Path]:
        others = (each._files() for each in self._called().values() if isinstance(each, Kernel))
        return {Path(self.function.__code__.co_filename), Path(__file__)}.union(*others)

    def _constants(self) -> set[tuple[str, float]]:
        """The numbers that it and those that it calls take from their modules, which may come from others."""
        used = {name: self.function.__globals__.get(name) for name in self.function.__code__.co_names}
        own = {(name, value) for name, value in used.items() if isinstance(value, int | float)}
        return own.union(*(each._constants() for each in self._called().values() if isinstance(each, Kernel)))


def kernel(
    *, weight: int = 1, size: int | None = None, inline: bool = False, patience: int = 1, apart: bool = False
) -> Callable[[Callable[P, R]], Kernel[P, R]]:
    """Declare a function of numbers and arrays that is compiled where it pays.

    ``weight``: how many millionths of a second an item takes plainly; ``size``: which argument says how many
    there are, where it is not the length of all arrays. ``inline``: it becomes part of the others that call it.
    ``patience``: how many times as long as others it may take plainly, since it takes so long to compile. ``apart``:
    of the others, it is called rather than copied into each of them, which takes less time to compile.
    """
    return lambda function: Kernel(function, weight, size, inline, patience, apart)


@kernel(inline=True)
def zeros(count: int) -> Any:
    """So many zeros of 64 bits, for a kernel to work with or to return."""
    return np.zeros(count, np.int64)


zeros.plain = lambda count: _viewed(np.zeros(count, np.int64))


def _viewed(value: Any) -> Any:
    if isinstance(value, np.ndarray) and value.ndim == 1 and value.flags.c_contiguous:
        view: Any = memoryview(cast(Any, value))
        return _Checked(view) if _Choice.checked else view
    return value


def _whole(found: Any) -> Any:
    if isinstance(found, tuple):
        return tuple(map(_whole, found))
    return np.asarray(found) if isinstance(found, memoryview | _Checked) else found
