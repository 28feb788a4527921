"""The recall sheet as a PDF: text that can be searched, curves as lines.

recall_pdf(sheet)      # bytes
"""

from __future__ import annotations

from pathlib import Path
from typing import Any
from unicodedata import bidirectional

import numpy as np
from fpdf import FPDF
from matplotlib import get_data_path

from pondel.core.handon.recall import decided_in_words, levels_in_words
from pondel.web.shipped import SHIPPED
from pondel.web.words import minutes, signed

Json = dict[str, Any]
FONTS = SHIPPED / "fonts"
INK, SOFT, RULE = (34, 37, 45), (98, 90, 79), (203, 191, 170)
MARGIN_MM, LINE_MM = 17.0, 5.0
LABEL_MM, VALUE_MM, GAP_MM = 42.0, 46.0, 6.0
CURVE_MM = (80.0, 26.0)
HIGHEST_DB, LOWEST_DB = 12.0, -24.0
LOW_HZ, HIGH_HZ = 20.0, 20_000.0
LABELLED_HZ = {50: "50", 200: "200", 1000: "1k", 5000: "5k"}


PAGES = "\ue000pages\ue000"
"""What the number of pages is put in place of: no name holds these letters."""
UNSET = (
    "Some names are written from right to left, or in letters that the fonts of this PDF lack: "
    "here they are out of order, or missing. The sheet on screen shows them as they are."
)


class _Sheet(FPDF):
    """A4 pages with the session's name and the page's number at their foot."""

    def __init__(self, session: str) -> None:
        super().__init__(format="A4")
        self.session = session
        faces = {"text": "atkinson-hyperlegible-next", "numbers": "martian-mono"}
        self.add_font("text", "", FONTS / f"{faces['text']}-regular.ttf")
        self.add_font("text", "B", FONTS / f"{faces['text']}-bold.ttf")
        self.add_font("numbers", "", FONTS / f"{faces['numbers']}-regular.ttf")
        self.add_font("others", "", Path(get_data_path()) / "fonts" / "ttf" / "DejaVuSans.ttf")
        self.set_fallback_fonts(["others"], exact_match=False)
        self.alias_nb_pages(PAGES)
        self.set_margins(MARGIN_MM, MARGIN_MM)
        self.set_auto_page_break(True, MARGIN_MM + LINE_MM)
        self.set_title(f"{session}: recall sheet")
        self.set_creator("Pondel")

    def cannot_set(self, words: str) -> bool:
        """Whether words hold letters that run from right to left, or that none of the fonts has."""
        known = set(self.fonts["text"].cmap) | set(self.fonts["others"].cmap)  # type: ignore[union-attr]
        return any(bidirectional(one) in ("R", "AL") or ord(one) not in known for one in words)

    def footer(self) -> None:
        self.set_y(-MARGIN_MM)
        self.write_in("text", 8, SOFT)
        self.cell(0, LINE_MM, f"{self.session} · recall sheet · {self.page_no()} of {PAGES}", align="R")

    def write_in(
        self, face: str, size: float, ink: tuple[int, int, int] = INK, *, bold: bool = False
    ) -> None:
        self.set_font(face, "B" if bold else "", size)
        self.set_text_color(*ink)

    def paragraph(self, words: str, width: float = 0) -> None:
        self.multi_cell(width, LINE_MM, words, align="L", new_x="LMARGIN", new_y="NEXT")

    def lines(self, width: float, words: str) -> int:
        """How many lines words take in a column."""
        found = self.multi_cell(width, LINE_MM, words, dry_run=True, output="LINES")
        assert isinstance(found, list)
        return len(found)

    def needs(self, height: float) -> None:
        """Begin a page unless there is room for so much."""
        if self.get_y() + height > self.h - self.b_margin:
            self.add_page()


def recall_pdf(sheet: Json) -> bytes:
    """A PDF of what `recall` told."""
    pdf = _Sheet(sheet["session"])
    pdf.add_page()
    _head(pdf, sheet)
    names = "".join([sheet["session"], *(part["name"] for part in sheet["parts"])])
    if pdf.cannot_set(names):
        pdf.write_in("text", 9, SOFT)
        pdf.paragraph(UNSET)
    plain = [part for part in sheet["parts"] if not part["moves"]]
    for part in plain:
        pdf.needs(3 * LINE_MM)
        _part_head(pdf, part)
    for part in sheet["parts"]:
        if part["moves"]:
            pdf.add_page()
            _part_head(pdf, part)
            for move in part["moves"]:
                _move(pdf, move)
    _meant(pdf, sheet)
    return bytes(pdf.output())


def _head(pdf: _Sheet, sheet: Json) -> None:
    pdf.write_in("text", 20, bold=True)
    pdf.multi_cell(0, 9, sheet["session"], align="L", new_x="LMARGIN", new_y="NEXT")
    pdf.write_in("numbers", 8)
    bpm = sheet["tempo_bpm"]
    tempo = f"{bpm:g} bpm" if bpm else "tempo not known"
    pdf.paragraph(f"{sheet['rate_hz']} Hz, {tempo}")
    if sheet["sections"]:
        pdf.paragraph(
            " · ".join(f"{one['name']} {minutes(one['start_s'])}" for one in sheet["sections"])
        )
    pdf.write_in("text", 10)
    for one in sheet["decided"]:
        pdf.paragraph(decided_in_words(one))
    for one in sheet.get("figures", []):
        pairs = [("clear by", one["clear_db"]), ("on its hits", one["clear_on_hits_db"])]
        told = [f"{name} {_before_after(pair)}" for name, pair in pairs if None not in pair]
        pdf.paragraph(f"{one['leader']}, over the whole song in its zone: {', '.join(told)}")
    pdf.ln(2)


def _before_after(pair: list[float]) -> str:
    before, after = pair
    return f"{signed(before, '')} → {signed(after, 'dB')}"


def _part_head(pdf: _Sheet, part: Json) -> None:
    pdf.ln(2)
    pdf.set_draw_color(*RULE)
    pdf.line(pdf.l_margin, pdf.get_y(), pdf.w - pdf.r_margin, pdf.get_y())
    pdf.ln(1.5)
    pdf.write_in("text", 13, bold=True)
    pdf.multi_cell(0, 6, part["name"], align="L", new_x="LMARGIN", new_y="NEXT")
    pdf.write_in("text", 9, SOFT)
    pdf.paragraph("return" if part["is_return"] else part["role"])
    pdf.write_in("numbers", 8)
    start = f", starts at {part['starts_s']:g} s" if part["starts_s"] else ""
    pdf.paragraph(levels_in_words(part) + start)


def _move(pdf: _Sheet, move: Json) -> None:
    pdf.ln(3)
    pdf.needs(CURVE_MM[1] + 4 * LINE_MM)
    pdf.write_in("text", 11, bold=True)
    pdf.paragraph(f"{move['number']} · {move['kind']}{'' if move['on'] else ', off'}")
    pdf.ln(1)
    if move["curve"]:
        _curve(pdf, move["curve"], pdf.w - pdf.r_margin - CURVE_MM[0], pdf.get_y() + 1)
    page, foot = pdf.page, pdf.get_y() + CURVE_MM[1] + 6 if move["curve"] else 0.0
    for one in move["settings"]:
        _setting(pdf, one["label"], one["words"])
    if pdf.page == page:
        pdf.set_y(max(pdf.get_y(), foot))
    pdf.write_in("text", 9, SOFT)
    if move["changed_by_hand"] and move["why"]:
        changed = ", ".join(move["changed_by_hand"])
        pdf.paragraph(f"First setting, changed by hand since: {changed}.")
    for why in move["why"]:
        pdf.paragraph(why)


def _setting(pdf: _Sheet, label: str, words: str) -> None:
    pdf.write_in("text", 9, SOFT)
    lines = pdf.lines(LABEL_MM, label)
    pdf.write_in("numbers", 8)
    said = pdf.lines(VALUE_MM, words)
    pdf.needs(LINE_MM * max(lines, said))
    top = pdf.get_y()
    pdf.write_in("text", 9, SOFT)
    pdf.multi_cell(LABEL_MM, LINE_MM, label, align="L", new_x="RIGHT", new_y="TOP")
    pdf.write_in("numbers", 8)
    pdf.multi_cell(VALUE_MM, LINE_MM, words, align="L", new_x="LMARGIN", new_y="NEXT")
    pdf.set_y(top + LINE_MM * max(lines, said))


def _curve(pdf: _Sheet, curve: Json, left: float, top: float) -> None:
    width, height = CURVE_MM

    def x(hz: float) -> float:
        return left + width * float(np.log2(hz / LOW_HZ) / np.log2(HIGH_HZ / LOW_HZ))

    def y(db: float) -> float:
        share = (HIGHEST_DB - np.clip(db, LOWEST_DB, HIGHEST_DB)) / (HIGHEST_DB - LOWEST_DB)
        return top + height * float(share)

    pdf.set_draw_color(*RULE)
    pdf.set_line_width(0.12)
    pdf.write_in("numbers", 6, SOFT)
    for db in (12, 0, -12, -24):
        pdf.line(left, y(db), left + width, y(db))
        pdf.set_xy(left - 10, y(db) - 1.5)
        pdf.cell(9, 3, f"{db} dB" if db == HIGHEST_DB else str(db).replace("-", "\u2212"), align="R")
    for hz, name in LABELLED_HZ.items():
        pdf.line(x(hz), top, x(hz), top + height)
        pdf.set_xy(x(hz) - 6, top + height + 0.5)
        pdf.cell(12, 3, f"{name} Hz" if hz == max(LABELLED_HZ) else name, align="C")
    pdf.set_draw_color(*INK)
    pdf.set_line_width(0.3)
    for gains_db, dash in ((curve["rest_db"], 0.0), (curve["most_db"], 1.2)):
        if gains_db:
            pdf.set_dash_pattern(dash, 0.9 if dash else 0.0)
            pdf.polyline([(x(hz), y(db)) for hz, db in zip(curve["hz"], gains_db, strict=True)])
    pdf.set_dash_pattern()
    pdf.set_xy(left, top + height + 3.5)
    pdf.write_in("text", 7, SOFT)
    pdf.cell(width, 3, "gain at rest" + ("; dashed: as far as it goes" if curve["most_db"] else ""))
    pdf.set_xy(pdf.l_margin, top - 1)


def _meant(pdf: _Sheet, sheet: Json) -> None:
    pdf.needs(9 * LINE_MM)
    pdf.ln(6)
    pdf.write_in("text", 11, bold=True)
    pdf.paragraph("How values are meant")
    pdf.write_in("text", 9, SOFT)
    for one in sheet["meant"]:
        pdf.paragraph(one)
