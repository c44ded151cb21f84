"""Eight numbers moved at once from one flat float32 array to another: loops of eight are unrolled before the compiler
looks for vectors, and then it finds none."""

from typing import Any

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic

EIGHT = ir.VectorType(ir.FloatType(), 8)


@intrinsic
def move(context: Any, source: Any, at: Any, target: Any, to: Any) -> Any:
    """target[to : to + 8] = source[at : at + 8]; nothing is checked."""
    signature = types.void(source, types.int64, target, types.int64)

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        def place(array: int, offset: int) -> Any:
            data = cgutils.create_struct_proxy(signature.args[array])(context, builder, args[array]).data
            return builder.bitcast(builder.gep(data, [args[offset]]), EIGHT.as_pointer())

        value = builder.load(place(0, 1))
        value.align = 4
        builder.store(value, place(2, 3)).align = 4
        return context.get_dummy_value()

    return signature, build
