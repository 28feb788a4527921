"""Eight numbers side by side, for kernels in which eight bands do the same at once.

    y = add(mul(b0, x), z1)         # one instruction or two, for all eight

The compiler vectorises plain loops by itself, but not recursive filters whose states should stay in
registers. Lanes are values of a compiled kernel only; `load` and `store` take them from and to arrays.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic, models, register_model

WIDTH = 8
FLAGS = ("contract", "nsz")
_VECTOR = ir.VectorType(ir.DoubleType(), WIDTH)
_SINGLE = ir.VectorType(ir.FloatType(), WIDTH)
_INDEX = ir.IntType(32)


_intrinsic: Any = intrinsic


class _Lanes(types.Type):
    def __init__(self) -> None:
        super().__init__(name="Lanes")


_LANES = _Lanes()


@register_model(_Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager: Any, kind: Any) -> None:
        super().__init__(manager, kind, _VECTOR)


def _binary(instruction: str) -> Any:
    def typed(typing_context, a, b):
        def generate(context, builder, signature, args):
            return getattr(builder, instruction)(args[0], args[1], flags=FLAGS)

        return _LANES(_LANES, _LANES), generate

    return _intrinsic(typed)


def _chosen(comparison: str) -> Any:
    def typed(typing_context, a, b):
        def generate(context, builder, signature, args):
            first = builder.fcmp_ordered(comparison, args[0], args[1])
            return builder.select(first, args[0], args[1])

        return _LANES(_LANES, _LANES), generate

    return _intrinsic(typed)


add, sub, mul = _binary("fadd"), _binary("fsub"), _binary("fmul")
larger, smaller = _chosen(">"), _chosen("<")


@_intrinsic
def where_at_least(typing_context, a, b, then, otherwise):
    """`then` in the lanes in which a >= b, `otherwise` in the rest."""

    def generate(context, builder, signature, args):
        return builder.select(builder.fcmp_ordered(">=", args[0], args[1]), args[2], args[3])

    return _LANES(_LANES, _LANES, _LANES, _LANES), generate


def _shuffled(builder: ir.IRBuilder, value: Any, order: list[int]) -> Any:
    undefined = ir.Constant(_VECTOR, ir.Undefined)
    return builder.shuffle_vector(value, undefined, ir.Constant(ir.VectorType(_INDEX, WIDTH), order))


@_intrinsic
def spread(typing_context, x):
    """One number in all lanes."""

    def generate(context, builder, signature, args):
        undefined = ir.Constant(_VECTOR, ir.Undefined)
        first = builder.insert_element(undefined, args[0], ir.Constant(_INDEX, 0))
        return _shuffled(builder, first, [0] * WIDTH)

    return _LANES(types.float64), generate


@_intrinsic
def moved_up(typing_context, lanes, x):
    """Each lane's value in the next lane, x in the first."""

    def generate(context, builder, signature, args):
        first = builder.insert_element(ir.Constant(_VECTOR, ir.Undefined), args[1], _INDEX(0))
        everywhere = _shuffled(builder, first, [0] * WIDTH)
        # From two vectors at once, so that the way from lane to lane is a single instruction.
        order = ir.Constant(ir.VectorType(_INDEX, WIDTH), [0, *range(WIDTH, 2 * WIDTH - 1)])
        return builder.shuffle_vector(everywhere, args[0], order)

    return _LANES(_LANES, types.float64), generate


def _lane(number: int) -> Any:
    def typed(typing_context, lanes):
        def generate(context, builder, signature, args):
            return builder.extract_element(args[0], ir.Constant(_INDEX, number))

        return types.float64(_LANES), generate

    return _intrinsic(typed)


second, fourth, sixth, last = _lane(1), _lane(3), _lane(5), _lane(WIDTH - 1)
"""The value of one lane."""


def _place(context: Any, builder: ir.IRBuilder, kind: Any, array: Any, at: Any) -> tuple[Any, bool]:
    """Where lanes stand in a contiguous array of one dimension, and whether it is of single
    precision."""
    data = context.make_array(kind)(context, builder, array).data
    is_single = kind.dtype == types.float32
    vector = _SINGLE if is_single else _VECTOR
    return builder.bitcast(builder.gep(data, [at]), vector.as_pointer()), is_single


@_intrinsic
def load(typing_context, array, at):
    """Eight neighbours of a contiguous array of float32 or float64, from an index on."""

    def generate(context, builder, signature, args):
        place, is_single = _place(context, builder, signature.args[0], args[0], args[1])
        found = builder.load(place)
        found.align = 4 if is_single else 8
        return builder.fpext(found, _VECTOR) if is_single else found

    return _LANES(array, types.intp), generate


@_intrinsic
def store(typing_context, array, at, lanes):
    """Write lanes to eight neighbours of a contiguous array, from an index on."""

    def generate(context, builder, signature, args):
        place, is_single = _place(context, builder, signature.args[0], args[0], args[1])
        value = builder.fptrunc(args[2], _SINGLE) if is_single else args[2]
        builder.store(value, place, align=4 if is_single else 8)
        return context.get_dummy_value()

    return types.void(array, types.intp, _LANES), generate


def even(channels: int) -> int:
    """So many channels, or one more: kernels here work at them in pairs."""
    return channels + channels % 2
