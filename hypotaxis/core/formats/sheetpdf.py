"""The sheet of settings as PDF, A4, in our own faces, so that it looks alike wherever it is opened.

Written by fpdf2 in pure Python. A character that none of the faces has is printed as a question mark; it stands whole
on the page and in every other file.
"""

from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import Path

from fontTools.ttLib import TTFont
from fpdf import FPDF
from fpdf.drawing import PaintedPath, Transform
from fpdf.enums import TableBordersLayout
from fpdf.fonts import FontFace
from fpdf.svg import svg_path_converter

from hypotaxis.core.session.sheet import BACK, OUT, Card, Label, Photo, RigPicture, Section, Sheet

FACES = Path(__file__).with_name("faces")
TEXT, NAMES, FIGURES = "text", "names", "figures"
FILES = {
    TEXT: ("barlow-400.ttf", "barlow-ext-400.ttf"),
    NAMES: ("barlow-semi-condensed-600.ttf", "barlow-semi-condensed-ext-600.ttf"),
    FIGURES: ("ibm-plex-mono-400.ttf",),
}
INKS = {OUT: (0x4A, 0x3A, 0xA7), BACK: (0xA9, 0x4A, 0x06), "": (0x18, 0x21, 0x2B)}
MUTED, HAIR = (0x56, 0x60, 0x6A), (0xC9, 0xCE, 0xC3)
MARGIN_MM, WIDTH_MM = 15.0, 180.0
LINE_MM, SMALL = 4.6, 8.5
UNKNOWN = "?"


def write_sheet_pdf(sheet: Sheet) -> bytes:
    """The file's bytes."""
    pdf = _Pages(sheet)
    pdf.add_page()
    pdf.head()
    for section in sheet.sections:
        pdf.section(section)
    if sheet.picture:
        pdf.rig(sheet.picture)
    if sheet.photos:
        pdf.boxes(sheet.photos)
    return bytes(pdf.output())


class _Pages(FPDF):
    """An A4 document with our faces and a foot on every page."""

    def __init__(self, sheet: Sheet) -> None:
        super().__init__(format="A4")
        self.sheet = sheet
        self.set_title(f"{sheet.title}: settings")
        self.set_creator("Hypotaxis")
        self.set_margins(MARGIN_MM, MARGIN_MM)
        self.set_auto_page_break(auto=True, margin=18)
        for family, files in FILES.items():
            for number, file in enumerate(files):
                self.add_font(f"{family}{number or ''}", fname=FACES / file)
        self.set_fallback_fonts([f"{TEXT}1", f"{NAMES}1"], exact_match=False)

    def face(self, family: str, size: float, ink: tuple[int, int, int] = INKS[""]) -> None:
        """Write in this face from now on."""
        self.set_font(family, size=size)
        self.set_text_color(*ink)

    def head(self) -> None:
        """Title, rig, day."""
        self.face(NAMES, 20)
        self.cell(WIDTH_MM * 0.68, 9, printable(self.sheet.title))
        self.face(TEXT, 10)
        self.cell(WIDTH_MM * 0.32, 9, printable(self.sheet.rig), align="R", new_x="LMARGIN", new_y="NEXT")
        self.face(TEXT, 9, MUTED)
        self.cell(WIDTH_MM * 0.68, 5, printable(self.sheet.under))
        self.cell(WIDTH_MM * 0.32, 5, printable(self.sheet.day), align="R", new_x="LMARGIN", new_y="NEXT")
        self.set_draw_color(*INKS[""])
        self.line(MARGIN_MM, self.get_y() + 1.5, MARGIN_MM + WIDTH_MM, self.get_y() + 1.5)
        self.ln(4)

    def section(self, section: Section) -> None:
        """A table; its title stays with its first rows."""
        if self.will_page_break(24):
            self.add_page()
        self.face(NAMES, 12)
        self.cell(0, 7, printable(section.title), new_x="LMARGIN", new_y="NEXT")
        self.face(TEXT, SMALL)
        self.set_draw_color(*HAIR)
        aligned = tuple("RIGHT" if column.number else "LEFT" for column in section.columns)
        with self.table(
            width=WIDTH_MM,
            col_widths=tuple(column.share for column in section.columns),
            text_align=aligned,
            line_height=LINE_MM,
            borders_layout=TableBordersLayout.HORIZONTAL_LINES,
            headings_style=FontFace(family=TEXT, size_pt=SMALL, color=MUTED, emphasis=""),
            padding=(0.4, 1.2, 0.4, 0),
        ) as table:
            head = table.row()
            for column in section.columns:
                head.cell(column.head)
            for cells in section.cells:
                row = table.row()
                for place, (column, text) in enumerate(cells):
                    row.cell(printable(text), style=_style(place, column))
        if section.note:
            self.face(TEXT, SMALL, MUTED)
            self.multi_cell(0, LINE_MM, printable(section.note), new_x="LMARGIN", new_y="NEXT")
        self.ln(3)

    def rig(self, picture: RigPicture) -> None:
        """The picture of the rig on a page of its own, as large as it fits."""
        self.add_page()
        self.face(NAMES, 12)
        self.cell(0, 7, printable(f"{self.sheet.rig}, out and back"), new_x="LMARGIN", new_y="NEXT")
        top, room = self.get_y() + 2, self.h - self.get_y() - 22
        scale = min(WIDTH_MM / picture.width, room / picture.height)
        with self.drawing_context() as drawing:
            for wire in picture.wires:
                path = PaintedPath()
                svg_path_converter(path, wire.path)
                path.transform = Transform.scaling(scale, scale).translate(MARGIN_MM, top)
                path.style.fill_color, path.style.auto_close = None, False
                path.style.stroke_color = "#{:02x}{:02x}{:02x}".format(*INKS[wire.ink])
                path.style.stroke_width = 1.8
                path.style.stroke_dash_pattern = [8, 5] if wire.dashed else None
                drawing.add_item(path)
        self.set_line_width(0.2)
        for card in picture.cards:
            self._card(card, lambda x, y: (MARGIN_MM + x * scale, top + y * scale), scale)
        self.set_xy(MARGIN_MM, top + picture.height * scale + 4)

    def _card(self, card: Card, at: Callable[[float, float], tuple[float, float]], scale: float) -> None:
        self.set_draw_color(*INKS[""])
        self.set_fill_color(255)
        self.rect(*at(card.x, card.y), card.w * scale, card.h * scale, style="DF")
        if card.colour:
            self.set_fill_color(card.colour)
            self.rect(*at(card.x, card.y), 4 * scale, card.h * scale, style="F")
        points = 72 / 25.4 * scale
        self.face(NAMES, max(4.0, 16 * points))
        self._label(card.name, at)
        self.face(TEXT, max(3.2, 12 * points), MUTED)
        for label in card.labels:
            self._label(label, at)

    def _label(self, label: Label, at: Callable[[float, float], tuple[float, float]]) -> None:
        x, y = at(label.x, label.y)
        back = {"end": 1.0, "middle": 0.5}.get(label.anchor, 0.0)
        text = printable(label.text)
        self.text(x - back * self.get_string_width(text), y, text)

    def boxes(self, photos: Sequence[Photo]) -> None:
        """The boxes' pictures, three in a row."""
        if self.will_page_break(60):
            self.add_page()
        self.face(NAMES, 12)
        self.cell(0, 7, "Boxes", new_x="LMARGIN", new_y="NEXT")
        wide, high = WIDTH_MM / 3, 52.0
        for number, photo in enumerate(photos):
            if number % 3 == 0 and self.will_page_break(high):
                self.add_page()
            x, y = MARGIN_MM + number % 3 * wide, self.get_y()
            self.image(photo.file, x, y, wide - 6, high - 10, keep_aspect_ratio=True)
            self.face(NAMES, 9)
            self.text(x, y + high - 5, printable(photo.name))
            if number % 3 == 2 or number == len(photos) - 1:
                self.set_y(y + high)

    def footer(self) -> None:
        """What it is, and the page."""
        self.set_y(-13)
        self.face(TEXT, 8, MUTED)
        self.cell(0, 5, printable(f"{self.sheet.title}, {self.sheet.rig}, page {self.page_no()}"), align="R")


def _style(place: int, column) -> FontFace:
    family = FIGURES if column.number else NAMES if place == 0 and not column.head else TEXT
    return FontFace(family=family, size_pt=SMALL - 0.5 * (family == FIGURES), color=INKS[column.ink])


@lru_cache(maxsize=1)
def _known() -> frozenset[int]:
    """Code points that the text faces have."""
    faces = (TTFont(FACES / file, lazy=True) for file in FILES[TEXT])
    return frozenset(code for face in faces for code in face.getBestCmap())


def printable(text: str) -> str:
    """A text without what the faces cannot print."""
    return "".join(one if ord(one) in _known() else UNKNOWN for one in text)
