"""Sheets of targets: where everything lies on the paper, in true millimeters.

A `Sheet` is a list of targets and lines; `formats.sheets` writes it as PDF and `picture` draws it as pixels, so both
show the same. The origin is the paper's upper left corner, x to the right, y down. A target's first sector begins at
x and they follow clockwise, as `code` has it.

Numbers are shared out so that sheets of different kinds can lie in one picture: calibration sheets take 0 to 159, the
turntable mat 160 to 191, scale bars 192 to 207, targets for the object 208 to 254.
"""

from dataclasses import dataclass, field

import numpy as np

from ..errors import UmbrateError
from .code import COUNT, REACH, is_dark

PAPERS = {"A4": (210.0, 297.0), "A3": (297.0, 420.0), "Letter": (215.9, 279.4)}  #: width and height in mm
MARGIN = 10.0  #: printers leave so much of the paper white
FOOT = 16.0  #: height of the strip at the lower edge that holds the ruler and the sheet's name
RULER = 150.0
CALIBRATION, MAT, BARS, OBJECT = range(0, 160), range(160, 192), range(192, 208), range(208, COUNT)
CALIBRATION_SHEETS = 4


@dataclass(frozen=True)
class PrintedTarget:
    """A target or a plain dot on paper; number is -1 for a plain dot, lengths in mm."""

    number: int
    x: float
    y: float
    diameter: float


@dataclass(frozen=True)
class Bar:
    """A known length between the centers of two targets of a sheet."""

    first: int
    second: int
    length: float


@dataclass(frozen=True)
class Sheet:
    """What is printed on one piece of paper, in mm.

    Attributes
    ----------
    name : str
        What kind it is, such as calibration-2.
    title : str
        Printed at the foot.
    paper : str
    width, height : float
    targets : list of PrintedTarget
    bars : list of Bar
    circles : list of (x, y, radius)
        Thin lines to cut along.
    lines : list of (x0, y0, x1, y1)
        Thin lines to cut along.
    texts : list of (x, y, text, size)
        Left ends of lines of text, size in mm.
    """

    name: str
    title: str
    paper: str
    width: float
    height: float
    targets: list
    bars: list = field(default_factory=list)
    circles: list = field(default_factory=list)
    lines: list = field(default_factory=list)
    texts: list = field(default_factory=list)


def _size(paper):
    if paper not in PAPERS:
        raise UmbrateError(f"There is no paper “{paper}” here. There is: {', '.join(PAPERS)}.")
    return PAPERS[paper]


def _label(mark):
    """The number of a target in small print below it, for people."""
    return mark.x - 0.5 * mark.diameter, mark.y + (REACH + 0.1) * 0.5 * mark.diameter + 2.2, f"{mark.number}", 2.4


def calibration(paper="A4", number=1):
    """One of four sheets of coded targets, with plain dots between them, to calibrate a lens on.

    number : int
        Which sheet, 1 to 4: each has 40 targets of its own.
    """
    width, height = _size(paper)
    if not 1 <= number <= CALIBRATION_SHEETS:
        raise UmbrateError(f"There are calibration sheets 1 to {CALIBRATION_SHEETS}, not {number}.")
    columns, rows = 5, 8
    wide, tall = (width - 2 * MARGIN) / columns, (height - 2 * MARGIN - FOOT) / rows
    diameter = round(0.98 * min(wide, tall) / REACH, 1)
    xs, ys = MARGIN + (np.arange(columns) + 0.5) * wide, MARGIN + (np.arange(rows) + 0.5) * tall
    first = CALIBRATION.start + 40 * (number - 1)
    targets = [
        PrintedTarget(first + r * columns + c, float(x), float(y), diameter)
        for r, y in enumerate(ys)
        for c, x in enumerate(xs)
    ]
    return Sheet(
        f"calibration-{number}", f"calibration sheet {number} of {CALIBRATION_SHEETS}", paper, width, height, targets,
        texts=[],
    )  # fmt: skip


def loose(paper="A4", diameter=6.0, first=OBJECT.start):
    """Targets to cut out and stick on or beside the object, numbered from `first` on, as many as fit.

    diameter : float
        Of the dot, mm; the whole target is 3.5 times as wide.
    """
    width, height = _size(paper)
    if not 1.0 <= diameter <= 40.0:
        raise UmbrateError(f"A dot of {diameter:g} mm does not fit: choose 1 to 40 mm.")
    cell = REACH * diameter + 4.0
    columns = int((width - 2 * MARGIN) // cell)
    rows = int((height - 2 * MARGIN - FOOT) // cell)
    count = min(columns * rows, COUNT - first)
    if count < 1:
        raise UmbrateError(f"No target of {diameter:g} mm fits on {paper}, or there is no number {first}.")
    left, top = 0.5 * (width - columns * cell), MARGIN
    targets, lines = [], []
    for k in range(count):
        r, c = divmod(k, columns)
        targets.append(PrintedTarget(first + k, left + (c + 0.5) * cell, top + (r + 0.5) * cell - 1.0, diameter))
    used = -(-count // columns)
    lines += [(left + c * cell, top, left + c * cell, top + used * cell) for c in range(columns + 1)]
    lines += [(left, top + r * cell, left + columns * cell, top + r * cell) for r in range(used + 1)]
    return Sheet(
        "loose", f"targets to cut out, dots of {diameter:g} mm", paper, width, height, targets, lines=lines,
        texts=[_label(m) for m in targets] if diameter >= 3 else [],
    )  # fmt: skip


def small(paper="A4", diameters=(1.5, 2.0, 3.0)):
    """Small targets for the object in several sizes: a block of rows for each, all with different numbers."""
    width, height = _size(paper)
    targets, lines, texts, top, number = [], [], [], MARGIN, OBJECT.start
    share = len(OBJECT) // len(diameters)
    for diameter in diameters:
        if not 0.5 <= diameter <= 10.0:
            raise UmbrateError(f"A small target has a dot of 0.5 to 10 mm, not {diameter:g}.")
        cell = REACH * diameter + 2.0
        columns = int((width - 2 * MARGIN) // cell)
        texts.append((MARGIN, top + 3.5, f"dots of {diameter:g} mm, numbers {number} to {number + share - 1}", 3.0))
        top += 6.0
        rows = -(-share // columns)
        if top + rows * cell > height - MARGIN - FOOT:
            raise UmbrateError(
                f"Targets of {', '.join(f'{d:g}' for d in diameters)} mm do not fit on one {paper} sheet."
            )
        for k in range(share):
            r, c = divmod(k, columns)
            targets.append(PrintedTarget(number + k, MARGIN + (c + 0.5) * cell, top + (r + 0.5) * cell, diameter))
        used = min(columns, share)
        lines += [(MARGIN + c * cell, top, MARGIN + c * cell, top + rows * cell) for c in range(used + 1)]
        lines += [(MARGIN, top + r * cell, MARGIN + used * cell, top + r * cell) for r in range(rows + 1)]
        number += share
        top += rows * cell + 8.0
    return Sheet("small", "small targets for the object", paper, width, height, targets, lines=lines, texts=texts)


def mat(paper="A4", hole=40.0, diameter=6.0):
    """A mat for the turntable: targets in a ring, and a hole for the pedestal the object stands on.

    hole : float
        Diameter of the hole, mm; 0: none.
    """
    width, height = _size(paper)
    outer = 0.5 * width - MARGIN - 0.5 * REACH * diameter - 1.5
    inner = outer - REACH * diameter * 0.9
    if not hole >= 0:
        raise UmbrateError(f"A hole of {hole:g} mm cannot be made: give its diameter, or 0 for none.")
    if inner - 0.5 * REACH * diameter < 0.5 * hole + 2:
        raise UmbrateError(f"A hole of {hole:g} mm leaves no room for the ring of targets on {paper}.")
    cx, cy = 0.5 * width, MARGIN + 0.5 * width - MARGIN
    n = min(len(MAT), int(np.pi * outer / (REACH * diameter * 0.62)) // 2 * 2)
    targets = []
    for k in range(n):
        # two rings, one between the other: no two that are half a turn apart look alike
        a, r = 2 * np.pi * k / n, outer if k % 2 == 0 else inner
        targets.append(PrintedTarget(MAT.start + k, cx + r * np.cos(a), cy + r * np.sin(a), diameter))
    circles = [(cx, cy, 0.5 * width - MARGIN)] + ([(cx, cy, 0.5 * hole)] if hole else [])
    bars = [Bar(MAT.start, MAT.start + n // 2, 2 * (outer if (n // 2) % 2 == 0 else 0.5 * (outer + inner)))]
    text = f"{MAT.start} to {MAT.start + n // 2}: {bars[0].length:.2f} mm"
    return Sheet(
        "mat", f"turntable mat, hole of {hole:g} mm", paper, width, height, targets, bars, circles,
        texts=[(cx - 20, cy + 0.5 * hole + 5.0, text, 2.6)],
    )  # fmt: skip


def bars(paper="A4", diameter=6.0, length=None):
    """Scale bars: strips with targets at both ends and in between, their lengths printed beside them.

    length : float, optional
        Of the longest length on a strip, in mm; without it, the longest round one that the paper holds.
    """
    width, height = _size(paper)
    tall = height - 2 * MARGIN - FOOT - REACH * diameter
    if length is None:
        length = next(x for x in (250.0, 200.0, 150.0, 100.0) if x <= tall)
    if not 2 * REACH * diameter < length <= tall:
        raise UmbrateError(
            f"A scale bar of {length:g} mm with dots of {diameter:g} mm does not fit on {paper}: choose more than "
            f"{2 * REACH * diameter:.0f} and at most {tall:.0f} mm."
        )
    cell = REACH * diameter + 6.0
    count = min(int((width - 2 * MARGIN) // cell), len(BARS) // 3)
    targets, found, lines, texts, number = [], [], [], [], BARS.start
    left = 0.5 * (width - count * cell)
    top, bottom = MARGIN, MARGIN + length + REACH * diameter
    middle = 50.0 if length > 50.0 + REACH * diameter else 0.5 * length
    for k in range(count):
        x, y = left + (k + 0.5) * cell, MARGIN + 0.5 * REACH * diameter
        places = (0.0, middle, length)
        row = [PrintedTarget(number + j, x, y + p, diameter) for j, p in enumerate(places)]
        targets += row
        for i in range(3):
            for j in range(i + 1, 3):
                found.append(Bar(row[i].number, row[j].number, places[j] - places[i]))
        texts.append((x - 0.42 * cell, y + 0.5 * (middle + length), f"{row[0].number}-{row[2].number}", 2.4))
        texts.append((x - 0.42 * cell, y + 0.5 * (middle + length) + 3.5, f"{length:g} mm", 2.4))
        number += 3
    lines += [(left + c * cell, top, left + c * cell, bottom) for c in range(count + 1)]
    lines += [(left, y, left + count * cell, y) for y in (top, bottom)]
    return Sheet("bars", "scale bars", paper, width, height, targets, found, [], lines, texts)


KINDS = ("calibration", "loose", "mat", "bars", "small")


def make(kind, paper="A4", diameters=(), hole=40.0, first=None, length=None):
    """All sheets of a kind.

    Parameters
    ----------
    kind : one of KINDS
    diameters : sequence of float
        Of the dots, in mm: the first one counts, of small targets all; empty: what is usual.
    hole : float
        Diameter of a mat's hole, in mm.
    first : int, optional
        Number of the first loose target.
    length : float, optional
        Of scale bars, in mm.

    Raises
    ------
    UmbrateError
        Where the paper is unknown or does not hold them.
    """
    if kind == "calibration":
        return [calibration(paper, k + 1) for k in range(CALIBRATION_SHEETS)]
    if kind == "mat":
        return [mat(paper, hole, *diameters[:1])]
    if kind == "bars":
        return [bars(paper, *(diameters[:1] or (6.0,)), length)]
    if kind == "small":
        return [small(paper, diameters or (1.5, 2.0, 3.0))]
    return [loose(paper, *(diameters[:1] or (6.0,)), OBJECT.start if first is None else first)]


def picture(sheet, px_per_mm=12.0, oversample=4):
    """A sheet's targets as pixels (h, w) float32, 0 dark to 1 paper; without lines and texts.

    Pixel (0, 0) is the upper left square of side 1 / px_per_mm.
    """
    h, w = round(sheet.height * px_per_mm), round(sheet.width * px_per_mm)
    out = np.ones((h, w), np.float32)
    sub = (np.arange(oversample) + 0.5) / oversample
    for m in sheet.targets:
        r = 0.5 * m.diameter
        reach = r * (3.2 if m.number >= 0 else 1.1)
        x0, x1 = int((m.x - reach) * px_per_mm), int((m.x + reach) * px_per_mm) + 2
        y0, y1 = int((m.y - reach) * px_per_mm), int((m.y + reach) * px_per_mm) + 2
        x0, y0, x1, y1 = max(x0, 0), max(y0, 0), min(x1, w), min(y1, h)
        x = ((np.arange(x0, x1)[:, None] + sub).ravel() / px_per_mm - m.x) / r
        y = ((np.arange(y0, y1)[:, None] + sub).ravel() / px_per_mm - m.y) / r
        u, v = np.meshgrid(x, y)
        dark = is_dark(m.number, u, v) if m.number >= 0 else np.hypot(u, v) < 1
        part = dark.reshape(y1 - y0, oversample, x1 - x0, oversample).mean((1, 3))
        out[y0:y1, x0:x1] = np.minimum(out[y0:y1, x0:x1], 1 - part)
    return out
