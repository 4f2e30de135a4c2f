"""Printed paper in the studio: targets and checkerboards as exact formulas.

Whether a place of a sheet is dark is asked of the sheet's own geometry, never of a picture of it, so edges are as
sharp as the lens model lets them be and the centers of targets are as true as their numbers.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit

from ..core.targets.code import BITS, INNER, OUTER, bits_of

STUDIO, TURNING, OBJECT = 0, 1, 2  #: what a sheet is fixed to
DARK, WHITE, NOTHING = 0.05, 0.82, -1.0


@dataclass(frozen=True)
class Printed:
    """A sheet of targets lying somewhere, or stuck to something.

    Attributes
    ----------
    targets : list of `core.targets.sheets.PrintedTarget`
    width, height : float
        mm.
    to_world : (4, 4)
        Sheet (x right, y down the paper, z into the table) to world, mm; the frame is that of what it is fixed to.
    squares : tuple (columns, rows, side_mm) or None
        Instead of targets, a checkerboard with so many squares.
    cut : tuple (x, y, outer, hole) or None
        Cut out round a place: nothing is left beyond the outer radius nor within the hole, mm.
    fixed_to : int
        STUDIO, TURNING or OBJECT.
    """

    targets: list
    width: float
    height: float
    to_world: np.ndarray
    squares: tuple | None = None
    cut: tuple | None = None
    fixed_to: int = TURNING


class Sheets(NamedTuple):
    """Sheets as `level` takes them: arrays whose first axis is the sheet. See `pack`.

    Attributes
    ----------
    size : (s, 2)
        Width and height, mm.
    cut : (s, 4)
        x, y, outer radius, hole; an outer radius of 0 where nothing is cut.
    targets : (s, r, 5)
        x, y, radius of the dot, number or -1, and the next row to look at or -1; by the cells of a grid.
    bits : (s, r, BITS) bool
    first : (s, c)
        The row to begin with in each cell of the grid, or -1.
    cell, across : (s,)
        Size of a cell in mm, and cells in a row.
    squares : (s, 5)
        Columns, rows, side, and where they begin; a side of 0 where there are none.
    """

    size: np.ndarray
    cut: np.ndarray
    targets: np.ndarray
    bits: np.ndarray
    first: np.ndarray
    cell: np.ndarray
    across: np.ndarray
    squares: np.ndarray


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def level(sheets, s, u, v):
    """Reflectance of a place (u, v) of sheet s, mm; NOTHING beside it."""
    if u < 0 or v < 0 or u >= sheets.size[s, 0] or v >= sheets.size[s, 1]:
        return NOTHING
    if sheets.cut[s, 2] > 0:
        d = (u - sheets.cut[s, 0]) ** 2 + (v - sheets.cut[s, 1]) ** 2
        if d > sheets.cut[s, 2] * sheets.cut[s, 2] or d < sheets.cut[s, 3] * sheets.cut[s, 3]:
            return NOTHING
    if sheets.squares[s, 2] > 0:
        a, b = (u - sheets.squares[s, 3]) / sheets.squares[s, 2], (v - sheets.squares[s, 4]) / sheets.squares[s, 2]
        if a < 0 or b < 0 or a >= sheets.squares[s, 0] or b >= sheets.squares[s, 1]:
            return WHITE
        return DARK if (int(a) + int(b)) % 2 == 0 else WHITE
    cell = sheets.cell[s]
    k = sheets.first[s, int(v / cell) * sheets.across[s] + int(u / cell)]
    while k >= 0:
        r = sheets.targets[s, k, 2]
        x, y = (u - sheets.targets[s, k, 0]) / r, (v - sheets.targets[s, k, 1]) / r
        d = x * x + y * y
        if d < 1.0:
            return DARK
        if sheets.targets[s, k, 3] >= 0 and INNER[0] * INNER[0] <= d < OUTER[1] * OUTER[1]:
            a = np.arctan2(y, x)
            if a < 0:
                a += 2 * np.pi
            bit = sheets.bits[s, k, min(int(a / (2 * np.pi) * BITS), BITS - 1)]
            inner = d < INNER[1] * INNER[1]
            return DARK if bit == inner else WHITE
        k = int(sheets.targets[s, k, 4])
    return WHITE


def _index(sheet):
    """Targets as rows with a grid over them, so that a place finds its mark at once."""
    count = len(sheet.targets)
    reach = max([0.5 * m.diameter * OUTER[1] for m in sheet.targets], default=10.0)
    cell = max(2 * reach, 2.0)
    across, down = int(sheet.width / cell) + 1, int(sheet.height / cell) + 1
    rows, bits = np.zeros((max(count, 1) * 9, 5)), np.zeros((max(count, 1) * 9, BITS), bool)
    first, n = np.full(across * down, -1, np.int64), 0
    for m in sheet.targets:
        r = 0.5 * m.diameter * OUTER[1]
        for j in range(int((m.y - r) / cell), int((m.y + r) / cell) + 1):
            for i in range(int((m.x - r) / cell), int((m.x + r) / cell) + 1):
                if 0 <= i < across and 0 <= j < down:
                    rows[n] = m.x, m.y, 0.5 * m.diameter, m.number, first[j * across + i]
                    bits[n] = bits_of(m.number) if m.number >= 0 else False
                    first[j * across + i] = n
                    n += 1
    squares = np.zeros(5)
    if sheet.squares:
        columns, down_n, side = sheet.squares
        squares[:] = columns, down_n, side, 0.5 * (sheet.width - columns * side), 0.5 * (sheet.height - down_n * side)
    return rows, bits, first, cell, across, squares


def _padded(arrays):
    """Arrays of several lengths as one, the rest filled up."""
    out = np.zeros((len(arrays), max(len(a) for a in arrays), *arrays[0].shape[1:]), arrays[0].dtype)
    for k, a in enumerate(arrays):
        out[k, : len(a)] = a
    return out


def pack(sheets):
    """A list of Printed as Sheets."""
    parts = [_index(s) for s in sheets or [Printed([], 1.0, 1.0, np.eye(4))]]
    size = np.array([[s.width, s.height] for s in sheets] or np.zeros((0, 2)))
    cut = np.array([s.cut or (0.0, 0.0, 0.0, 0.0) for s in sheets] or np.zeros((0, 4)), float)
    return Sheets(
        size, cut, _padded([p[0] for p in parts]), _padded([p[1] for p in parts]), _padded([p[2] for p in parts]),
        np.array([p[3] for p in parts]), np.array([p[4] for p in parts]), np.array([p[5] for p in parts]),
    )  # fmt: skip


def center_of(sheet, mark):
    """Center of a mark (3,) in the frame of what its sheet is fixed to, mm."""
    return (np.asarray(sheet.to_world) @ [mark.x, mark.y, 0.0, 1.0])[:3]
