"""What Numba is asked for: the machine code of kernels, and what compiled code has in place of plain Python.

To import this takes longer than most commands do: only whoever compiles does so.
"""

from __future__ import annotations

from types import FunctionType
from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core.cgutils import get_or_insert_function
from numba.extending import intrinsic
from numba.np.arrayobj import make_array, populate_array
from numba.np.numpy_support import as_dtype, from_dtype

from tachys.native import ROOM, Machine

_WORD = ir.IntType(64)
_SCALARS = {"i": types.int64, "f": types.float64}
_RESULTS = {types.int64: "q", types.uint64: "Q", types.intp: "q", types.float64: "d", types.boolean: "?"}
# no arrays that are counted, since all stand in memory of the caller, and nothing by which Numba would call it
_WAYS: dict[str, Any] = {"error_model": "numpy", "_nrt": False, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}


def dispatcher(function: FunctionType, inline: bool) -> Any:
    """What others that are compiled can call; ``inline``: a copy of it in each of them."""
    return njit(forceinline=inline, **_WAYS)(function)


def machine_code(function: FunctionType, of: str) -> Machine:
    """Compile a function for arguments of these types, as :func:`tachys.native.types_of` names them."""
    made = dispatcher(function, False)
    wanted = tuple(_SCALARS.get(each) or types.Array(from_dtype(np.dtype(each)), 1, "C") for each in of.split("."))
    made.compile(wanted)
    (found,) = made.overloads.values()
    kind, (code, _) = found.library.serialize_using_object_code()[1:]
    assert kind == "object"
    return Machine(found.fndesc.mangled_name, of, _result(found.signature.return_type), code)


def _result(kind: Any) -> str:
    """The types of what is returned, apart by dots: formats of ``struct``, or the types of arrays' items."""
    several: Any = types.BaseTuple
    if isinstance(kind, several):
        return ".".join(map(_result, kind))
    if isinstance(kind, types.Array):
        return as_dtype(kind.dtype).str[1:]
    return "" if kind == types.none else _RESULTS[kind]


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
        size = ir.Constant(_WORD, context.get_abi_sizeof(context.get_data_type(array.dtype)))
        room = get_or_insert_function(builder.module, ir.FunctionType(_WORD, [_WORD]), ROOM)
        address = builder.call(room, [builder.mul(values[0], size)])
        with builder.if_then(builder.icmp_unsigned("==", address, _WORD(0)), likely=False):
            context.call_conv.return_user_exc(builder, MemoryError, ("no memory left",))
        made = make_array(array)(context, builder)
        data = builder.inttoptr(address, made.data.type)
        populate_array(made, data, shape=(values[0],), strides=(size,), itemsize=size, meminfo=None)
        return made._getvalue()

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
