"""A page that waits, tells how far something is, and goes on by itself."""

from __future__ import annotations

from flask import render_template

from pondel.jobs.making import Making
from pondel.jobs.songs import Measuring

MEASURING = "Measuring the recordings"
WHY_MEASURED = (
    "The levels, hits and stereo image of a session's recordings are measured once; then it opens by "
    "itself."
)
WHY_PLAYED = "Its instruments play their score once, on this machine; then it opens by itself."
GO_ON = "What was played is kept: start Pondel again, and it goes on from there."


def measuring(found: Measuring | None) -> str:
    """The page of a session whose recordings are being measured."""
    told = found or Measuring(0, 0)
    return render_template("waiting.html", title=MEASURING, why=WHY_MEASURED, told=told, what="")


def making(told: Making) -> str:
    """The page of a session that is being made, or could not be."""
    how, why = ("could not be played", GO_ON) if told.message else ("is being played", WHY_PLAYED)
    return render_template(
        "waiting.html", title=f"{told.name} {how}", why=why, told=told, what=told.what
    )
