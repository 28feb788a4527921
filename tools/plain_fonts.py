"""Makes the plain faces that PDF and pictures need from the variable ones that the screens use.

python tools/plain_fonts.py      # part of make assets
"""

from __future__ import annotations

from pathlib import Path

from fontTools.ttLib import TTFont
from fontTools.varLib import instancer

FONTS = Path(__file__).parents[1] / "pondel" / "web" / "static" / "fonts"
FACES = {
    "atkinson-hyperlegible-next": {"regular": {"wght": 400}, "bold": {"wght": 650}},
    "martian-mono": {"regular": {"wght": 400, "wdth": 87.5}},
}


def main() -> None:
    for family, weights in FACES.items():
        for name, place in weights.items():
            font = TTFont(FONTS / f"{family}.woff2")
            axes = {axis.axisTag for axis in font["fvar"].axes}
            font = instancer.instantiateVariableFont(
                font, {k: v for k, v in place.items() if k in axes}
            )
            font.flavor = None
            font.save(FONTS / f"{family}-{name}.ttf")


if __name__ == "__main__":
    main()
