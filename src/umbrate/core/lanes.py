"""Vectors of eight floats inside kernels.

What runs in vector registers is said, and not left to the compiler: it would read a picture's pixels by gather
instructions, which on many machines take longer than the reads they stand for. `Lanes` are added, subtracted,
multiplied and divided as floats are, with each other and with one float32; `load` and `total` come from and go to
ordinary numbers, `read_cells` reads a picture between its pixels.

Kernels that use them take addresses of arrays (`array.ctypes.data`), not arrays: what an array as an argument costs is
more than these short functions do.
"""

import operator

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.core.typing.templates import ConcreteTemplate, infer_global, signature
from numba.extending import intrinsic, lower_builtin, models, register_model

WIDTH = 8
UNIT = 64  #: a gray value is so many units in `cells`
MIDDLE = 128  #: the gray value that is 0 there

_F32, _I16, _I32 = ir.FloatType(), ir.IntType(16), ir.IntType(32)
_FLOATS, _INTS, _CELL = ir.VectorType(_F32, WIDTH), ir.VectorType(_I32, WIDTH), ir.VectorType(_I16, 4)
_FAST = ("fast",)


class Lanes(types.Type):
    """The type of eight floats."""

    def __init__(self):
        super().__init__("Lanes")


lanes = Lanes()


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager, type_):
        super().__init__(manager, type_, _FLOATS)


def _shuffled(builder, a, b, order):
    return builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(_I32, len(order)), order))


def _all_of(builder, value, kind):
    none = ir.Constant(kind, ir.Undefined)
    return _shuffled(builder, builder.insert_element(none, value, ir.Constant(_I32, 0)), none, [0] * WIDTH)


def _as_lanes(builder, type_, value):
    return value if isinstance(type_, Lanes) else _all_of(builder, value, _FLOATS)


def _define(operation, name):
    one = types.float32
    pairs = [signature(lanes, lanes, lanes), signature(lanes, lanes, one), signature(lanes, one, lanes)]
    infer_global(operation)(type(f"Lanes_{name}", (ConcreteTemplate,), {"cases": pairs}))

    def lower(context, builder, sig, args):
        a, b = (_as_lanes(builder, t, v) for t, v in zip(sig.args, args, strict=True))
        return getattr(builder, name)(a, b, flags=_FAST)

    for s in pairs:
        lower_builtin(operation, *s.args)(lower)


for _operation, _name in (
    (operator.add, "fadd"), (operator.iadd, "fadd"), (operator.sub, "fsub"), (operator.mul, "fmul"),
    (operator.truediv, "fdiv"),
):  # fmt: skip
    _define(_operation, _name)


@intrinsic
def all_of(context, value):
    """Eight times one float32."""
    return lanes(types.float32), lambda context, builder, sig, args: _all_of(builder, args[0], _FLOATS)


@intrinsic
def load(context, address, at):
    """Eight float32 from place `at` of an array on."""

    def generate(context, builder, sig, args):
        p = builder.gep(builder.inttoptr(args[0], _F32.as_pointer()), [args[1]], inbounds=True)
        return builder.load(builder.bitcast(p, _FLOATS.as_pointer()), align=4)

    return lanes(types.intp, types.intp), generate


@intrinsic
def store(context, address, at, value):
    """Put eight float32 into an array from place `at` on."""

    def generate(context, builder, sig, args):
        p = builder.gep(builder.inttoptr(args[0], _F32.as_pointer()), [args[1]], inbounds=True)
        builder.store(args[2], builder.bitcast(p, _FLOATS.as_pointer()), align=4)
        return context.get_dummy_value()

    return types.void(types.intp, types.intp, lanes), generate


@intrinsic
def load_from(context, address, places, at):
    """Eight float32 from the places of an array that an int64 array has from `at` on."""

    def generate(context, builder, sig, args):
        base = builder.inttoptr(args[0], _F32.as_pointer())
        index = builder.inttoptr(args[1], ir.IntType(64).as_pointer())
        out = ir.Constant(_FLOATS, ir.Undefined)
        for k in range(WIDTH):
            i = builder.load(builder.gep(index, [builder.add(args[2], ir.Constant(ir.IntType(64), k))], inbounds=True))
            value = builder.load(builder.gep(base, [i], inbounds=True))
            out = builder.insert_element(out, value, ir.Constant(_I32, k))
        return out

    return lanes(types.intp, types.intp, types.intp), generate


@intrinsic
def only_within(context, a, limit, value):
    """Of eight values those where the size of `a` is no more than the limit, else 0."""

    def generate(context, builder, sig, args):
        limit = _all_of(builder, args[1], _FLOATS)
        near = builder.and_(
            builder.fcmp_ordered("<=", args[0], limit), builder.fcmp_ordered("<=", builder.fneg(args[0]), limit)
        )
        return builder.select(near, args[2], ir.Constant(_FLOATS, [0.0] * WIDTH))

    return lanes(lanes, types.float32, lanes), generate


def _one(kind, type_, doc):
    @intrinsic
    def read(context, address, at):
        def generate(context, builder, sig, args):
            return builder.load(builder.gep(builder.inttoptr(args[0], kind.as_pointer()), [args[1]], inbounds=True))

        return type_(types.intp, types.intp), generate

    read.__doc__ = doc
    return read


one_double = _one(ir.DoubleType(), types.float64, "The float64 at place `at` of an array.")


def _chosen(sign, doc):
    @intrinsic
    def choose(context, a, b):
        def generate(context, builder, sig, args):
            x, y = (_as_lanes(builder, t, v) for t, v in zip(sig.args, args, strict=True))
            return builder.select(builder.fcmp_ordered(sign, x, y, flags=_FAST), x, y)

        return lanes(lanes, b), generate

    choose.__doc__ = doc
    return choose


@intrinsic
def root_of(context, a):
    """The square root of each of the eight."""

    def generate(context, builder, sig, args):
        kind = ir.FunctionType(_FLOATS, [_FLOATS])
        root = cgutils.get_or_insert_function(builder.module, kind, f"llvm.sqrt.v{WIDTH}f32")
        return builder.call(root, args)

    return lanes(lanes), generate


lower_of = _chosen("<", "The lower of Lanes and Lanes or one float32, for each of the eight.")
higher_of = _chosen(">", "The higher of Lanes and Lanes or one float32, for each of the eight.")


@intrinsic
def total(context, a):
    """The sum of the eight, in an order that is always the same."""

    def generate(context, builder, sig, args):
        v, n = args[0], WIDTH
        while n > 1:
            n //= 2
            halves = (_shuffled(builder, v, v, list(range(k, k + n))) for k in (0, n))
            v = builder.fadd(*halves)
        return builder.extract_element(v, ir.Constant(_I32, 0))

    return types.float32(lanes), generate


@intrinsic
def read_cells(context, address, width, u, v):
    """What eight places between the pixels of a picture need: c, cx, cy, cxy, a, b.

    The brightness there is ``c + a cx + b (cy + a cxy)``, its slope along x ``cx + b cxy`` and along y ``cy + a cxy``.

    address : of `cells`; width : pixels of a row; u, v : Lanes, columns and rows, neither negative nor in the last ones
    """

    def generate(context, builder, sig, args):
        base = builder.inttoptr(args[0], _CELL.as_pointer())
        u, v = args[2], args[3]
        column, row = builder.fptosi(u, _INTS), builder.fptosi(v, _INTS)
        a = builder.fsub(u, builder.sitofp(column, _FLOATS), flags=_FAST)
        b = builder.fsub(v, builder.sitofp(row, _FLOATS), flags=_FAST)
        wide = _all_of(builder, builder.trunc(args[1], _I32), _INTS)
        place = builder.add(builder.mul(row, wide), column)
        cell = []
        for k in range(WIDTH):
            i = builder.zext(builder.extract_element(place, ir.Constant(_I32, k)), ir.IntType(64))
            cell.append(builder.load(builder.gep(base, [i], inbounds=True), align=8))
        # turned from one cell after the other into the eight of each part, two cells as one at first
        twos = [_shuffled(builder, cell[k], cell[k + 1], [0, 4, 1, 5, 2, 6, 3, 7]) for k in range(0, WIDTH, 2)]
        twos = [builder.bitcast(x, ir.VectorType(_I32, 4)) for x in twos]
        first, second = (
            [_shuffled(builder, *twos[k : k + 2], o) for k in (0, 2)] for o in ([0, 4, 1, 5], [2, 6, 3, 7])
        )
        parts = [_shuffled(builder, *x, o) for x in (first, second) for o in ([0, 1, 4, 5], [2, 3, 6, 7])]
        parts = [builder.bitcast(x, ir.VectorType(_I16, WIDTH)) for x in parts]
        out = [builder.sitofp(builder.sext(x, _INTS), _FLOATS) for x in parts]
        return context.make_tuple(builder, sig.return_type, [*out, a, b])

    return types.UniTuple(lanes, 6)(types.intp, types.intp, lanes, lanes), generate


@njit(cache=True, nogil=True)
def cells(gray, out):
    """A picture (h, w) float32 of brightness 0 to 255 as `read_cells` reads it: out (h, w', 4) int16, w' >= w.

    Of each pixel its own brightness, by how much the next in its row is brighter, the next in its column, and what is
    left of the one across: in `UNIT` parts of a gray value, `MIDDLE` of them being 0.
    """
    h, w = gray.shape
    for y in range(h):
        low = min(y + 1, h - 1)
        for x in range(w):
            right = min(x + 1, w - 1)
            c = np.int32(np.rint((min(max(gray[y, x], 0.0), 255.0) - MIDDLE) * UNIT))
            r = np.int32(np.rint((min(max(gray[y, right], 0.0), 255.0) - MIDDLE) * UNIT))
            d = np.int32(np.rint((min(max(gray[low, x], 0.0), 255.0) - MIDDLE) * UNIT))
            e = np.int32(np.rint((min(max(gray[low, right], 0.0), 255.0) - MIDDLE) * UNIT))
            out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3] = c, r - c, d - c, e - r - d + c
