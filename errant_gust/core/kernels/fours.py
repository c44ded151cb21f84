"""Four numbers at a time, for loops that gather and scatter little rows: the compiler does not find these by itself.

A four is a tuple of float32 for the language and one vector for the machine: every function here is one or two
instructions, and between them nothing is taken apart.
"""

from typing import Any

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic

FOUR = types.UniTuple(types.float32, 4)
VECTOR = ir.VectorType(ir.FloatType(), 4)
FLAGS = ("contract", "nsz", "arcp")


def _packed(builder: Any, four: Any) -> Any:
    """A tuple as a vector."""
    v = ir.Constant(VECTOR, ir.Undefined)
    for lane in range(4):
        v = builder.insert_element(v, builder.extract_value(four, lane), ir.Constant(ir.IntType(32), lane))
    return v


def _tuple(context: Any, builder: Any, v: Any) -> Any:
    """A vector as a tuple."""
    out = cgutils.get_null_value(context.get_value_type(FOUR))
    for lane in range(4):
        out = builder.insert_value(out, builder.extract_element(v, ir.Constant(ir.IntType(32), lane)), lane)
    return out


def _even(builder: Any, x: Any) -> Any:
    """One number in all four places."""
    one = builder.insert_element(ir.Constant(VECTOR, ir.Undefined), x, ir.Constant(ir.IntType(32), 0))
    zeros = ir.Constant(ir.VectorType(ir.IntType(32), 4), [0, 0, 0, 0])
    return builder.shuffle_vector(one, ir.Constant(VECTOR, ir.Undefined), zeros)


def _place(context: Any, builder: Any, kind: Any, array: Any, at: Any) -> Any:
    data = cgutils.create_struct_proxy(kind)(context, builder, array).data
    return builder.bitcast(builder.gep(data, [at]), VECTOR.as_pointer())


def _madd(builder: Any, a: Any, s: Any, b: Any) -> Any:
    return builder.fadd(builder.fmul(a, _even(builder, s), flags=FLAGS), b, flags=FLAGS)


@intrinsic
def load(typing: Any, flat: Any, at: Any) -> Any:
    """The four numbers of a flat float32 array from `at` on. `at` is not checked."""

    def make(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        v = builder.load(_place(context, builder, signature.args[0], args[0], args[1]))
        v.align = 4
        return _tuple(context, builder, v)

    return FOUR(flat, types.uint64), make


@intrinsic
def madd(typing: Any, a: Any, s: Any, b: Any) -> Any:
    """a s + b, of fours a and b and a number s."""

    def make(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return _tuple(context, builder, _madd(builder, _packed(builder, args[0]), args[1], _packed(builder, args[2])))

    return FOUR(FOUR, types.float32, FOUR), make


@intrinsic
def add_to(typing: Any, flat: Any, at: Any, s: Any, a: Any) -> Any:
    """Add a s to the four numbers of a flat float32 array from `at` on. `at` is not checked."""

    def make(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        place = _place(context, builder, signature.args[0], args[0], args[1])
        before = builder.load(place)
        before.align = 4
        builder.store(_madd(builder, _packed(builder, args[3]), args[2], before), place).align = 4
        return context.get_dummy_value()

    return types.void(flat, types.uint64, types.float32, FOUR), make
