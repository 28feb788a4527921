"""The vocabulary of parameters: all that a form, a schema, a recall sheet and a screen reader need."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import AllowInfNan, BeforeValidator, Field, PlainSerializer
from pydantic.config import JsonDict

from pondel.core.model import Model
from pondel.core.moves.placement import PLACEMENTS, Placement
from pondel.core.refs import PartRef
from pondel.core.units import PAN

Tap = Literal["source", "before fader", "after fader"]
TAPS: tuple[Tap, ...] = ("source", "before fader", "after fader")
ShownWhen = tuple[str, *tuple[Any, ...]] | None


def number(
    title: str,
    *,
    default: float | None,
    low: float,
    high: float,
    unit: str = "",
    scale: Literal["linear", "log"] = "linear",
    step: float = 1.0,
    decimals: int = 1,
    help: str,
    optional: bool = False,
    endless: bool = False,
    shown_when: ShownWhen = None,
) -> Any:
    """A number of a move, with all that a form, a schema and a screen reader need.

    `step` is one arrow key: in the unit on a linear scale, in per cent on a logarithmic one.
    An `optional` number may be null, which switches it off; an `endless` one may be infinite,
    and `high` is only where its slider ends. `shown_when` names another field and the values of it with
    which this one matters: (field, value, ...).
    """
    control: JsonDict = {
        "low": low,
        "high": high,
        "unit": unit,
        "scale": scale,
        "step": step,
        "decimals": decimals,
        "optional": optional,
        "endless": endless,
        "shown_when": list(shown_when) if shown_when else None,
    }
    return Field(
        default,
        ge=low,
        le=None if endless else high,
        title=title,
        description=help,
        json_schema_extra={"control": control},
    )


def choice(
    title: str,
    *,
    default: Any,
    labels: dict[str, str] | None = None,
    help: str,
    shown_when: ShownWhen = None,
) -> Any:
    """A choice among named values, or a switch when the field is a bool."""
    return Field(
        default,
        title=title,
        description=help,
        json_schema_extra={
            "control": {
                "labels": dict(labels or {}),
                "shown_when": list(shown_when) if shown_when else None,
            }
        },
    )


def items(
    title: str,
    *,
    least: int,
    most: int,
    first: Callable[[], list],
    help: str,
    grows: bool = True,
    fresh: JsonDict | None = None,
) -> Any:
    """A list of smaller parts of a move, such as the bands of an EQ; `first` makes the default.

    One that does not grow changes its length only by actions of its own; `fresh` are the values of
    one that is added.
    """
    return Field(
        default_factory=first,
        min_length=least,
        max_length=most,
        title=title,
        description=help,
        json_schema_extra={
            "items_of": {"least": least, "most": most, "grows": grows, "fresh": fresh or {}}
        },
    )


def numbers(title: str, *, first: Callable[[], list[float]], each: Any, help: str) -> Any:
    """A list of plain numbers; `each` describes one of them."""
    return Field(
        default_factory=first,
        title=title,
        description=help,
        json_schema_extra={
            "each": {**each.json_schema_extra["control"], "help": each.description, "title": title}
        },
    )


def _ratio_in(value: Any) -> Any:
    return float("inf") if value == "inf" else value


def _ratio_out(value: float) -> float | str:
    return "inf" if value == float("inf") else value


Ratio = Annotated[
    float,
    AllowInfNan(True),
    BeforeValidator(_ratio_in, json_schema_input_type=float | Literal["inf"]),
    PlainSerializer(_ratio_out, return_type=float | Literal["inf"]),
]

# The words that several kinds share: each is described once, with limits that a kind may narrow.


def decibels(title: str, default: float, low: float, high: float, help: str, **more: Any) -> Any:
    """A level or a gain."""
    return number(
        title, default=default, low=low, high=high, help=help, **{"unit": "dB", "step": 0.5, **more}
    )


def milliseconds(
    title: str, default: float | None, low: float, high: float, help: str, **more: Any
) -> Any:
    """A short time."""
    settings = {"unit": "ms", "scale": "log", "step": 5, **more}
    return number(title, default=default, low=low, high=high, help=help, **settings)


def frequency(
    title: str, default: float | None, low: float, high: float, help: str, **more: Any
) -> Any:
    """A frequency."""
    settings = {"unit": "Hz", "scale": "log", "step": 3, "decimals": 0, **more}
    return number(title, default=default, low=low, high=high, help=help, **settings)


def low_cut(title: str, of: str) -> Any:
    """The low cut of what is listened to; off as long as none is set."""
    help = f"Keeps what lies below this out of {of}."
    return frequency(title, None, 20, 12000, help, optional=True)


def high_cut(title: str, of: str) -> Any:
    """The high cut of what is listened to; off as long as none is set."""
    help = f"Keeps what lies above this out of {of}."
    return frequency(title, None, 30, 20000, help, optional=True)


def share(title: str, default: float, help: str, **more: Any) -> Any:
    """A share of a whole, from nothing to all of it."""
    settings = {"low": 0, "high": 1, "unit": "%", "step": 0.05, "decimals": 0, **more}
    return number(title, default=default, help=help, **settings)


def beats(title: str, default: float, low: float, high: float, help: str, **more: Any) -> Any:
    """A time in beats."""
    settings = {"unit": "beats", "scale": "log", "step": 10, "decimals": 3, **more}
    return number(title, default=default, low=low, high=high, help=help, **settings)


def sharpness(default: float, low: float, high: float, help: str, **more: Any) -> Any:
    """The Q of a bell."""
    settings = {"scale": "log", "step": 5, "decimals": 2, **more}
    return number("Q", default=default, low=low, high=high, help=help, **settings)


def threshold(
    default: float, help: str = "Level of the key above which the gain falls.", low: float = -80
) -> Any:
    """The level at which a move begins."""
    return decibels("Threshold", default, low, 0, help)


def ratio(
    default: float = 4.0,
    help: str = "Decibels over the threshold that become one decibel.",
    **more: Any,
) -> Any:
    """What of the level beyond the threshold is answered; may be endless."""
    settings = {"low": 1, "high": 20, "endless": True, "unit": ":1", "scale": "log", "step": 5, **more}
    return number("Ratio", default=default, help=help, **settings)


def knee(default: float = 6.0) -> Any:
    """The bend of the curve."""
    return decibels("Knee", default, 0, 30, "Width of the bend around the threshold.")


def attack(
    default: float = 5.0,
    help: str = "Time in which 63 % of a fall in gain is done.",
    low: float = 0.05,
    high: float = 300,
) -> Any:
    """How fast a move begins."""
    return milliseconds("Attack", default, low, high, help)


def hold(
    default: float = 0.0, help: str = "Time the gain stays down before it returns.", **more: Any
) -> Any:
    """How long a move stays before it returns."""
    settings = {"scale": "linear", "step": 2, "decimals": 0, **more}
    return milliseconds("Hold", default, 0, 1000, help, **settings)


def release(
    default: float = 120.0,
    help: str = "Time in which 63 % of the return is done.",
    low: float = 2,
    high: float = 5000,
    title: str = "Release",
) -> Any:
    """How fast a move returns."""
    return milliseconds(title, default, low, high, help, decimals=0)


def reach(
    default: float,
    help: str = "The most the gain may fall.",
    low: float = 0,
    high: float = 60,
    **more: Any,
) -> Any:
    """The most a move may do."""
    return decibels("Range", default, low, high, help, **more)


def makeup() -> Any:
    """Gain after a curve."""
    return decibels("Make-up", 0.0, -24, 24, "Gain after the curve.")


def placement(default: Placement = "both", **more: Any) -> Any:
    """Where in the stereo field a move acts."""
    help = "Where in the stereo field it acts."
    return choice("Acts on", default=default, labels=PLACEMENTS, help=help, **more)


def pan() -> Any:
    """A place between left and right."""
    help = "L100 is left, C the centre, R100 right; constant power."
    return number("Pan", default=0.0, low=-1, high=1, unit=PAN, step=0.05, decimals=2, help=help)


def mix() -> Any:
    """Treated against untreated."""
    return share("Mix", 1.0, "Treated against untreated sound.")


def look_ahead(help: str) -> Any:
    """How early a move begins."""
    return milliseconds("Look-ahead", 0.0, 0, 20, help, scale="linear", step=0.5)


def stereo_link() -> Any:
    """Whether channels are treated alike."""
    return choice("Stereo link", default=True, help="One gain for both channels, or one for each.")


class Key(Model):
    """What a move listens to instead of its own part."""

    source: PartRef = Field(title="Source", description="The part whose level drives the move.")
    tap: Tap = choice(
        "Tap",
        default="source",
        labels={
            "source": "at source",
            "before fader": "before fader",
            "after fader": "after fader",
        },
        help="Where the key is taken: as recorded, after the part's moves, or after its fader.",
    )
    level_db: float = number(
        "Level", default=0.0, low=-60, high=24, unit="dB", step=0.5, help="Gain of the key."
    )
    low_cut_hz: float | None = low_cut("Low cut", "the key")
    high_cut_hz: float | None = high_cut("High cut", "the key")
    slope_db_oct: Literal[12, 24] = choice(
        "Slope", default=12, labels={"12": "12 dB/oct", "24": "24 dB/oct"}, help="Slope of both cuts."
    )
