"""Values that no page sends."""

from __future__ import annotations

import math
import random
from typing import Any

NAMES = [
    "..",
    ".",
    "%2e%2e",
    "%2e%2e%2f%2e%2e",
    "a%00b",
    "%ff%fe",
    "x" * 5000,
    "é☃",
    "' or 1=1 --",
    "-1",
    "0",
]
NUMBERS = [
    "0",
    "-1",
    "9" * 20,
    "9" * 5000,
    "1e400",
    "nan",
    "inf",
    "-inf",
    "0x10",
    "--5",
    "-",
    "5-",
    "",
    " ",
    "１２",
    "1_000",
    "NaN",
]
ATOMS: list[Any] = [
    None,
    True,
    False,
    0,
    -1,
    2**53,
    10**15,
    -(10**15),
    1.5,
    -0.0,
    1e11,
    1e-300,
    "",
    " ",
    "inf",
    "nan",
    "-",
    "off",
    "1.2k",
    "1e400",
    "9" * 400,
    "4:1",
    "é" * 300,
    "\t\r\n",
    "a/b",
    "..",
    "{}",
    [],
    {},
    [[]],
    [None],
    {"a": 1},
    [1, "a", None],
    [{"name": 1, "start_s": "x", "end_s": []}],
    [0.5] * 50,
]
RAW = [
    b"",
    b"{",
    b"null",
    b"[]",
    b'"x"',
    b"\xff\xfe",
    b"[" * 100_000,
    b'{"do":' * 2000 + b"1" + b"}" * 2000,
    b'{"do": {"op": "set part"}, "base": 1' + b"0" * 400 + b"}",
    b'{"base": 1e999, "do": {"op": "set part", "part": "kick", "field": "fader_db", "value": 1}}',
    b'{"do": {"op": "set part"}, "base": NaN}',
    b'{"do": {"op": "\\ud800"}, "base": 1}',
    b'{"base": 1, "do": {"op": "set part", "part": "\\u0000", "field": "name", "value": "x"}}',
    b'{"base": 1, "do": {"op": "set part", "part": "kick", "field": "name", "value": "\\udfff"}}',
    b'{"base": 1, "do": {"op": "set part", "part": "kick", "field": "name", "value": "'
    + b"x" * 100_000
    + b'"}}',
]


def anything(rng: random.Random, depth: int = 0) -> Any:
    """Some JSON value, mostly of the wrong kind."""
    roll = rng.random()
    if depth < 3 and roll < 0.08:
        return [anything(rng, depth + 1) for _ in range(rng.randrange(4))]
    if depth < 3 and roll < 0.14:
        return {rng.choice(["a", "id", "source", "hz", "kind"]): anything(rng, depth + 1)}
    if roll < 0.3:
        return rng.choice(
            [rng.uniform(-1e6, 1e6), rng.randrange(-(10**9), 10**9), 10 ** rng.uniform(-12, 11)]
        )
    return rng.choice(ATOMS)


def is_plain(value: Any) -> bool:
    """Whether JSON as it is written down holds the value."""
    return not isinstance(value, float) or math.isfinite(value)
