"""Target sheets as PDF: vectors in true millimeters, with a ruler that shows whether the printer kept them."""

import math
from pathlib import Path

from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas

from ..core.targets.code import dark_sectors
from ..core.targets.sheets import FOOT, MARGIN, RULER
from .files import CLOSED, written_aside

HAIRLINE = 0.15  #: mm


def _circle(canvas, sheet, x, y, r, fill):
    canvas.circle(x * mm, (sheet.height - y) * mm, r * mm, stroke=0 if fill else 1, fill=1 if fill else 0)


def _sector(canvas, sheet, x, y, part, radius):
    """A dark part of a ring. Our y points down and angles grow clockwise, the page's the other way."""
    r0, r1, a0, a1 = part
    cx, cy = x * mm, (sheet.height - y) * mm
    path = canvas.beginPath()
    path.moveTo(cx + r1 * radius * mm * math.cos(a0), cy - r1 * radius * mm * math.sin(a0))
    for r, start, extent in ((r1, -a0, a0 - a1), (r0, -a1, a1 - a0)):
        size = r * radius * mm
        path.arcTo(cx - size, cy - size, cx + size, cy + size, math.degrees(start), math.degrees(extent))
    path.close()
    canvas.drawPath(path, stroke=0, fill=1)


def _foot(canvas, sheet):
    """The ruler, the sheet's name, and what to do with both."""
    y = sheet.height - MARGIN - 0.35 * FOOT
    canvas.setLineWidth(HAIRLINE * mm)
    canvas.setFont("Helvetica", 6)
    for k in range(int(RULER) + 1):
        tall = 4.0 if k % 10 == 0 else 2.6 if k % 5 == 0 else 1.6
        x = (MARGIN + k) * mm
        canvas.line(x, (sheet.height - y) * mm, x, (sheet.height - y + tall) * mm)
        if k % 50 == 0:
            canvas.drawCentredString(x, (sheet.height - y + 4.6) * mm, f"{k}")
    canvas.line(MARGIN * mm, (sheet.height - y) * mm, (MARGIN + RULER) * mm, (sheet.height - y) * mm)
    canvas.setFont("Helvetica", 7)
    told = f"{sheet.title} · {sheet.paper} · print at 100 %: the ruler is {RULER:g} mm long, else print it again"
    canvas.drawString(MARGIN * mm, (MARGIN + 0.5) * mm, f"Umbrate · {told}")


def write_sheets(path, sheets, gate=CLOSED):
    """Write sheets into a PDF, one page each.

    Raises
    ------
    UmbrateError
        When the place cannot be written to.
    """
    with written_aside(Path(path), gate) as temporary:
        canvas = Canvas(str(temporary), pagesize=(1, 1), pageCompression=1, invariant=1)
        canvas.setTitle(", ".join(s.title for s in sheets))
        canvas.setCreator("Umbrate")
        for sheet in sheets:
            canvas.setPageSize((sheet.width * mm, sheet.height * mm))
            canvas.setFillGray(0)
            for m in sheet.targets:
                r = 0.5 * m.diameter
                _circle(canvas, sheet, m.x, m.y, r, True)
                for part in dark_sectors(m.number) if m.number >= 0 else ():
                    _sector(canvas, sheet, m.x, m.y, part, r)
            canvas.setStrokeGray(0.55)
            canvas.setLineWidth(HAIRLINE * mm)
            for x0, y0, x1, y1 in sheet.lines:
                canvas.line(x0 * mm, (sheet.height - y0) * mm, x1 * mm, (sheet.height - y1) * mm)
            for x, y, r in sheet.circles:
                _circle(canvas, sheet, x, y, r, False)
            canvas.setStrokeGray(0)
            canvas.setFillGray(0.25)
            for x, y, text, size in sheet.texts:
                canvas.setFont("Helvetica", size * mm)
                canvas.drawString(x * mm, (sheet.height - y) * mm, text)
            canvas.setFillGray(0)
            _foot(canvas, sheet)
            canvas.showPage()
        canvas.save()
