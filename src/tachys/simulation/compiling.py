"""Compilation by Numba, where it is wanted: the same functions run uncompiled inside ``left_alone()``."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar, cast

Function = TypeVar("Function", bound=Callable[..., Any])
PARTS = ("draws", "counting", "arriving", "kernel")  # the engine's files, those first that others import
_wanted = [True]


@contextmanager
def left_alone() -> Iterator[None]:
    """Functions that are declared inside are not compiled."""
    _wanted.append(False)
    try:
        yield
    finally:
        _wanted.pop()


def compiled(function: Function) -> Function:
    """Compile a function into whatever calls it."""
    return _compile(function, forceinline=True, no_cpython_wrapper=True, no_cfunc_wrapper=True)


def entry_point(function: Function) -> Function:
    """Compile a function that is called from outside, at its first call; later runs of the program find it done.

    Numba keeps what it compiled until the function's own file changes; the engine stands in several.
    """
    made = _compile(function, cache=True, nogil=True)
    kept: Any = getattr(getattr(made, "_cache", None), "_cache_file", None)
    if kept is not None and hasattr(kept, "_source_stamp"):
        kept._source_stamp = stamp_of_parts()
    return made


def stamp_of_parts() -> tuple[tuple[float, int], ...]:
    """When each file of the engine, its layout and the way it is compiled were changed, and their sizes."""
    here = Path(__file__).parent
    told = ((here / f"{name}.py").stat() for name in ("layout", "compiling", *PARTS))
    return tuple((each.st_mtime, each.st_size) for each in told)


def _is_wanted() -> bool:
    """Whether to compile: not inside ``left_alone()``, nor where Numba itself is told to leave functions alone."""
    if not _wanted[-1]:
        return False
    from numba import config

    return not config.DISABLE_JIT  # type: ignore[attr-defined]


def _compile(function: Function, **how: Any) -> Function:
    if not _is_wanted():
        return function
    from tachys.compiled import njit

    made: Function = njit(error_model="numpy", **how)(function)
    return made


def make_bare() -> Callable[[Any], Any]:
    """A function that turns an array into the bare address of its words.

    Compiled code counts references to arrays at every call, which costs more than the calls do; an address it takes as
    it is. Uncompiled, an array stays what it is.
    """
    if not _is_wanted():
        return lambda array: array
    from numba import types
    from numba.extending import intrinsic

    @intrinsic
    def bare(typing: Any, array: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            return context.make_array(array)(context, builder, values[0]).data

        pointer: Any = types.CPointer
        return pointer(types.int64)(array), generate

    made: Any = bare
    return cast(Callable[[Any], Any], made)


def make_bit_length() -> Callable[[int], int]:
    """How many bits a number (0 or more) has, in one instruction where it is compiled."""
    if not _is_wanted():
        return lambda number: int(number).bit_length()
    from llvmlite import ir
    from numba import types
    from numba.extending import intrinsic

    @intrinsic
    def bit_length(typing: Any, number: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
            zeros = builder.ctlz(values[0], ir.Constant(ir.IntType(1), 0))
            return builder.sub(ir.Constant(ir.IntType(64), 64), zeros)

        return types.int64(types.int64), generate

    made: Any = bit_length
    return cast(Callable[[int], int], made)
