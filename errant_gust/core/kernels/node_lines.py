"""Three by three by three nodes of a grid, and what one particle gives them or takes from them, a line of nodes at a
time: the compiler does not find this by itself.

A node is four numbers side by side, so a line of three nodes and the first of the next is a vector of sixteen, of which
the last four weigh nothing. A particle is nine such lines. What belongs to one particle stands in a record of 32:
four numbers four times (itself, and how it changes along x, y, z, about the middle node), then weights of the nodes of
a line and a nought, then nine of lines (those across y for each across x). The nodes have to go on for one after the
last one used. Arrays are flat float32, and nothing is checked.
"""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic

RECORD, WEIGHTS, SHARES, SUMS = 32, 16, 20, 144
"""How long a record is; where its weights along a line and its shares of lines begin; numbers of nine lines."""

FLOAT, INT, LONG = ir.FloatType(), ir.IntType(32), ir.IntType(64)
SIXTEEN = ir.VectorType(FLOAT, 16)
FLAGS = ("contract", "nsz", "arcp")


class _Code:
    """Builds what is done with vectors of sixteen."""

    def __init__(self, context: Any, builder: Any, signature: Any) -> None:
        self.context, self.b, self.kinds = context, builder, signature.args

    def data(self, args: Any, n: int) -> Any:
        return cgutils.create_struct_proxy(self.kinds[n])(self.context, self.b, args[n]).data

    def place(self, data: Any, at: Any, more: int = 0, size: int = 16) -> Any:
        here = self.b.gep(data, [self.b.add(at, ir.Constant(LONG, more))])
        return self.b.bitcast(here, ir.VectorType(FLOAT, size).as_pointer())

    def load(self, place: Any) -> Any:
        v = self.b.load(place)
        v.align = 4
        return v

    def store(self, v: Any, place: Any) -> None:
        self.b.store(v, place).align = 4

    def number(self, data: Any, at: Any, more: int) -> Any:
        """One number of an array in all sixteen places."""
        x = self.b.load(self.b.gep(data, [self.b.add(at, ir.Constant(LONG, more))]))
        one = self.b.insert_element(ir.Constant(SIXTEEN, ir.Undefined), x, ir.Constant(INT, 0))
        return self.shuffled(one, [0] * 16)

    def four(self, data: Any, at: Any, more: int) -> Any:
        """Four numbers of an array, at every node."""
        return self.shuffled(self.load(self.place(data, at, more, 4)), [lane % 4 for lane in range(16)])

    def by_node(self, data: Any, at: Any, more: int) -> Any:
        """Four numbers of an array, one for each node."""
        return self.shuffled(self.load(self.place(data, at, more, 4)), [lane // 4 for lane in range(16)])

    def shuffled(self, v: Any, lanes: list[int], other: Any = None) -> Any:
        which = ir.Constant(ir.VectorType(INT, len(lanes)), lanes)
        return self.b.shuffle_vector(v, ir.Constant(v.type, ir.Undefined) if other is None else other, which)

    def node(self, v: Any, n: int) -> Any:
        return self.shuffled(v, [4 * n + lane for lane in range(4)])

    def mul(self, x: Any, y: Any) -> Any:
        return self.b.fmul(x, y, flags=FLAGS)

    def add(self, x: Any, y: Any) -> Any:
        return self.b.fadd(x, y, flags=FLAGS)

    def sub(self, x: Any, y: Any) -> Any:
        return self.b.fsub(x, y, flags=FLAGS)

    def lines(self, data: Any, at: Any, line: Any, plane: Any) -> list[list[Any]]:
        """Where lines begin: those across y of each plane across x."""
        found: list[list[Any]] = []
        for _ in range(3):
            row, here = [], at
            for _ in range(3):
                row.append(self.place(data, here))
                here = self.b.add(here, line)
            found.append(row)
            at = self.b.add(at, plane)
        return found


def _made(does: Callable[[_Code, Any], None]) -> Any:
    def make(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        does(_Code(context, builder, signature), args)
        return context.get_dummy_value()

    return make


@intrinsic
def give(typing: Any, sums: Any, records: Any, at: Any) -> Any:
    """Add what the particle whose record begins at `at` gives its nodes to nine lines (SUMS numbers)."""

    def does(c: _Code, args: Any) -> None:
        to, of, at = c.data(args, 0), c.data(args, 1), args[2]
        nodes = ir.Constant(SIXTEEN, [float(lane // 4 - 1) for lane in range(16)])
        wz = c.by_node(of, at, WEIGHTS)
        middle = c.mul(wz, c.add(c.four(of, at, 0), c.mul(nodes, c.four(of, at, 12))))
        along_x, along_y = c.mul(wz, c.four(of, at, 4)), c.mul(wz, c.four(of, at, 8))
        for i, plane in enumerate((c.sub(middle, along_x), middle, c.add(middle, along_x))):
            for j, line in enumerate((c.sub(plane, along_y), plane, c.add(plane, along_y))):
                n = 3 * i + j
                place = c.place(to, ir.Constant(LONG, 16 * n))
                c.store(c.add(c.mul(c.number(of, at, SHARES + n), line), c.load(place)), place)

    return types.void(sums, records, types.int64), _made(does)


@intrinsic
def put(typing: Any, nodes: Any, at: Any, line: Any, plane: Any, sums: Any) -> Any:
    """Add nine lines to the nodes from index `at` on, lines being `line` numbers apart, planes `plane`; and make them
    nought."""

    def does(c: _Code, args: Any) -> None:
        of = c.data(args, 4)
        places = [p for row in c.lines(c.data(args, 0), *args[1:4]) for p in row]
        for n, place in enumerate(places):
            here = c.place(of, ir.Constant(LONG, 16 * n))
            c.store(c.add(c.load(here), c.load(place)), place)
            c.store(ir.Constant(SIXTEEN, [0.0] * 16), here)

    return types.void(nodes, types.int64, types.int64, types.int64, sums), _made(does)


@intrinsic
def take(typing: Any, nodes: Any, first: Any, line: Any, plane: Any, records: Any, at: Any) -> Any:
    """Sums of what nodes have, from index `first` on, by the weights of the record that begins at `at`; and sums of
    that times −1, 0, 1 along x, along y, along z: into the first sixteen numbers of the record."""

    def does(c: _Code, args: Any) -> None:
        of, at = c.data(args, 4), args[5]
        planes, along_y = [], None
        for i, row in enumerate(c.lines(c.data(args, 0), *args[1:4])):
            parts = [c.mul(c.number(of, at, SHARES + 3 * i + j), c.load(place)) for j, place in enumerate(row)]
            planes.append(c.add(parts[2], c.add(parts[1], parts[0])))
            rise = c.sub(parts[2], parts[0])
            along_y = rise if along_y is None else c.add(along_y, rise)
        wz = c.by_node(of, at, WEIGHTS)
        total = c.mul(wz, c.add(c.add(planes[0], planes[1]), planes[2]))
        along_x, along_y = c.mul(wz, c.sub(planes[2], planes[0])), c.mul(wz, along_y)

        def summed(v: Any) -> Any:
            return c.add(c.add(c.node(v, 0), c.node(v, 1)), c.node(v, 2))

        found = summed(total), summed(along_x), summed(along_y), c.sub(c.node(total, 2), c.node(total, 0))
        for n, four in enumerate(found):
            c.store(four, c.place(of, at, 4 * n, 4))

    longs = types.int64, types.int64, types.int64
    return types.void(nodes, *longs, records, types.int64), _made(does)


@intrinsic
def turned(typing: Any, of: Any, first: Any, step: Any, to: Any, to_first: Any, to_step: Any) -> Any:
    """Sixteen times sixteen numbers, rows as columns: from an array, where rows begin at index `first` and are `step`
    apart, into another."""

    def does(c: _Code, args: Any) -> None:
        source, target = c.data(args, 0), c.data(args, 3)
        _, first, step, _, to_first, to_step = args
        rows = []
        for _ in range(16):
            rows.append(c.load(c.place(source, first)))
            first = c.b.add(first, step)
        for reach in (1, 2, 4, 8):  # swaps ever larger squares
            low = [n if not n & reach else 16 + (n ^ reach) for n in range(16)]
            high = [n + reach if not n & reach else 16 + n for n in range(16)]
            for n in range(16):
                if not n & reach:
                    x, y = rows[n], rows[n + reach]
                    rows[n], rows[n + reach] = c.shuffled(x, low, y), c.shuffled(x, high, y)
        for row in rows:
            c.store(row, c.place(target, to_first))
            to_first = c.b.add(to_first, to_step)

    longs = types.int64, types.int64
    return types.void(of, *longs, to, *longs), _made(does)
