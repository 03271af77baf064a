"""What Numba is asked for: the machine code of kernels, and what compiled code has in place of plain Python.

To import this takes longer than most commands do: only whoever compiles does so.
"""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from itertools import count
from types import FunctionType
from typing import Any, cast

import numpy as np
from llvmlite import binding, ir
from numba import types
from numba.core import cgutils
from numba.core import config as _config
from numba.core.codegen import JITCodeLibrary, JITCPUCodegen
from numba.core.registry import CPUDispatcher, cpu_target
from numba.extending import intrinsic
from numba.np.arrayobj import make_array, populate_array
from numba.np.numpy_support import as_dtype, from_dtype

from tachys.native import ROOM, Machine, loader, target

config: Any = _config
_WORD = ir.IntType(64)
_SCALARS = {"i": types.int64, "f": types.float64}
_RESULTS = {types.int64: "i", types.uint64: "u", types.float64: "f", types.boolean: "b"}
# no arrays that are counted, since all stand in memory of the caller, and nothing by which Numba would call it
_WAYS = {"nopython": True, "error_model": "numpy", "_nrt": False, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}


class Dispatcher(CPUDispatcher):
    """A function as others that are compiled call it."""

    def __init__(self, function: FunctionType) -> None:
        super().__init__(function, targetoptions=dict(_WAYS))

    def get_call_template(self, args: Any, kws: Any) -> Any:
        """Compile it once for all numbers of a kind, not anew for each one that is known."""
        return super().get_call_template(tuple(map(types.unliteral, args)), kws)


def machine_code(function: FunctionType, of: str) -> Machine:
    """Compile a function for arguments of these types, as :func:`tachys.native.types_of` names them."""
    called = Dispatcher(function)
    takes = tuple(_SCALARS.get(each) or types.Array(from_dtype(np.dtype(each)), 1, "C") for each in of.split("."))
    with _unoptimised():
        run: Any = _by_words(called, takes)
        made = Dispatcher(cast(FunctionType, lambda words: run(words)))
        made.compile((types.CPointer(types.int64),))
    entry, found = (next(iter(cast(Any, each).overloads.values())) for each in (made, called))
    name = entry.fndesc.mangled_name
    code = _optimised(entry.library.with_all(), name)
    return Machine(name, of, ".".join(map(_name_of, _parts(found.signature.return_type))), code)


def _by_words(called: Dispatcher, takes: tuple[Any, ...]) -> Any:
    """The call of a function whose arguments stand in words of memory, and behind them what it returns.

    A number has one word, an array two: its address and how many items it has.
    """

    @intrinsic
    def run(typing: Any, words: Any) -> Any:
        function = types.Dispatcher(called)
        signature: Any = function.get_call_type(typing, takes, {})

        def generate(context: Any, builder: Any, _: Any, values: Any) -> Any:
            place = iter(builder.gep(values[0], [_WORD(number)]) for number in count())
            args = [_from_words(context, builder, kind, place) for kind in takes]
            call = context.get_function(function, signature)
            context.add_linking_libs(getattr(call, "libs", ()))
            found = call(builder, args)
            parts = _parts(signature.return_type)
            each = [found] if parts == [signature.return_type] else cgutils.unpack_tuple(builder, found, len(parts))
            for kind, value in zip(parts, each, strict=True):
                _to_words(context, builder, kind, value, place)
            return context.get_dummy_value()

        return types.none(words), generate

    return run


def _from_words(context: Any, builder: Any, kind: Any, place: Any) -> Any:
    first = builder.load(next(place))
    if kind == types.float64:
        return builder.bitcast(first, ir.DoubleType())
    if kind == types.int64:
        return first
    return _array(context, builder, kind, first, builder.load(next(place)))


def _to_words(context: Any, builder: Any, kind: Any, value: Any, place: Any) -> None:
    if isinstance(kind, types.Array):
        array = make_array(kind)(context, builder, value)
        builder.store(builder.ptrtoint(array.data, _WORD), next(place))
        value = array.nitems
    elif kind == types.float64:
        value = builder.bitcast(value, _WORD)
    elif kind == types.boolean:
        value = builder.zext(value, _WORD)
    builder.store(value, next(place))


def _array(context: Any, builder: Any, kind: Any, address: Any, many: Any) -> Any:
    """An array somewhere in memory."""
    size = ir.Constant(_WORD, context.get_abi_sizeof(context.get_data_type(kind.dtype)))
    made = make_array(kind)(context, builder)
    data = builder.inttoptr(address, made.data.type)
    populate_array(made, data, shape=(many,), strides=(size,), itemsize=size, meminfo=None)
    return made._getvalue()


def _parts(returned: Any) -> list[Any]:
    """The types of what is returned together."""
    several: Any = types.BaseTuple
    return list(returned) if isinstance(returned, several) else [] if returned == types.none else [returned]


def _name_of(kind: Any) -> str:
    return as_dtype(kind.dtype).str[1:] if isinstance(kind, types.Array) else _RESULTS[kind]


@contextmanager
def _unoptimised() -> Iterator[None]:
    """Numba leaves the code of functions as it is.

    Else it would make the best of each by itself, link and load it, which takes longer than to do so once at the end.
    """
    context, level, collects = cpu_target.target_context, config.OPT, gc.isenabled()
    usual = context._internal_codegen
    loader()  # knows of the memory
    config.OPT = config._OptLevel(0)
    context._internal_codegen = _codegen()
    gc.disable()
    try:
        yield
    finally:
        config.OPT, context._internal_codegen = level, usual
        if collects:
            gc.enable()


class _Library(JITCodeLibrary):
    """The code of a function as Numba makes it: others that it calls are only noted."""

    def add_llvm_module(self, ll_module: Any) -> None:
        self._final_module.link_in(ll_module)

    def finalize(self) -> None:
        self._finalized = True

    def get_pointer_to_function(self, name: str) -> int:
        """Nothing is loaded."""
        return 0

    def with_all(self) -> Any:
        """A module of it and of all that it calls."""
        module = self._final_module.clone()
        found, waiting = {self}, [self]
        while waiting:
            for library in waiting.pop()._linking_libraries:
                if library not in found:
                    found.add(library)
                    waiting.append(library)
                    module.link_in(library._final_module, preserve=True)
        return module


class _Codegen(JITCPUCodegen):
    _library_class = _Library

    def set_env(self, env_name: str, env: Any) -> None:
        """What is not loaded has none."""


@cache
def _codegen() -> Any:
    return _Codegen("tachys")


def _optimised(module: Any, name: str) -> bytes:
    """An object file of a function and of those that it calls, of which nothing else is seen outside."""
    for each in module.functions:
        if not each.is_declaration and each.name != name:
            each.linkage = "internal"
    machine = target()
    module.triple, module.data_layout = machine.triple, str(machine.target_data)
    builder = binding.create_pass_builder(machine, binding.create_pipeline_tuning_options(speed_level=3))
    builder.getModulePassManager().run(module, builder)
    code: bytes = machine.emit_object(module)
    return code


@intrinsic
def zeros(typing: Any, count: Any) -> Any:
    """An array of 64 bits in memory that the caller of the kernel lends."""
    array, make = _lent(types.int64)
    return array(types.int64), make


@intrinsic
def zeros_of(typing: Any, count: Any, kind: Any) -> Any:
    """One of another kind."""
    array, make = _lent(kind.dtype)
    return array(types.int64, kind), make


def _lent(kind: Any) -> Any:
    array = types.Array(kind, 1, "C")

    def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        size = ir.Constant(_WORD, context.get_abi_sizeof(context.get_data_type(kind)))
        room = cgutils.get_or_insert_function(builder.module, ir.FunctionType(_WORD, [_WORD]), ROOM)
        address = builder.call(room, [builder.mul(values[0], size)])
        with builder.if_then(builder.icmp_unsigned("==", address, _WORD(0)), likely=False):
            context.call_conv.return_user_exc(builder, MemoryError, ("no memory left",))
        return _array(context, builder, array, address, values[0])

    return array, generate


@intrinsic
def bare(typing: Any, array: Any) -> Any:
    """The address of an array's items."""

    def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        return make_array(array)(context, builder, values[0]).data

    return types.CPointer(array.dtype)(array), generate


@intrinsic
def eight_bytes(typing: Any, address: Any, place: Any) -> Any:
    """Eight bytes as one number."""

    def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        first = builder.gep(values[0], [values[1]])
        return builder.load(builder.bitcast(first, _WORD.as_pointer()), align=1)

    return types.uint64(address, types.int64), generate


@intrinsic
def bit_length(typing: Any, number: Any) -> Any:
    """Of 0 or more, in one instruction."""

    def generate(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        return builder.sub(_WORD(64), builder.ctlz(values[0], ir.IntType(1)(0)))

    return types.int64(types.int64), generate
