"""Known coordinates of points as CSV, as people have them: other separators, decimal commas, other units.

Columns are found by their names (``name``, ``x``, ``y``, ``z``, and ``sx``, ``sy``, ``sz`` or ``sigma``); a file
without a head line has them in that order. Nothing is guessed that could be wrong silently: where a line cannot be
read, the error says which and why, and nothing is taken.
"""

import csv
import math
import re
from collections import Counter
from dataclasses import dataclass

from ..core.errors import UmbrateError
from .files import CLOSED, written_aside
from .reading import read_text
from .tables import TableWriter, armed

UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "inch": 25.4, "um": 0.001, "µm": 0.001}
NAMES = {
    "name": ("name", "point", "id", "label", "no", "nr", "number"),
    "x": ("x", "e", "easting"), "y": ("y", "n", "northing"), "z": ("z", "h", "height", "elevation"),
    "sigma": ("sigma", "s", "sd", "std", "accuracy"),
    "sx": ("sx", "sigma_x", "sigmax", "sd_x"), "sy": ("sy", "sigma_y", "sigmay", "sd_y"),
    "sz": ("sz", "sigma_z", "sigmaz", "sd_z"),
}  # fmt: skip
DEFAULT_SIGMA_MM = 0.1
LONGEST_LINE = 10_000  #: characters


@dataclass(frozen=True)
class KnownPoint:
    """A point with known coordinates and their standard deviations, in mm."""

    name: str
    xyz: tuple
    sigma: tuple


def _usual(counts):
    """The number that comes most often, the least of them, and how often."""
    found = Counter(counts)
    most = max(sorted(found), key=found.get)
    return most, found[most]


def _separator(lines):
    """What separates the columns: the character that makes the same number of columns, three or more, in most lines."""
    best = (0, ";")
    for c in (";", "\t", ",", "|"):
        counts = [len(x.split(c)) for x in lines]
        most, share = _usual(counts)
        if most >= 3:
            agree = share / len(counts)
            # a decimal comma doubles the columns of a comma-separated file: semicolon and tab come first
            score = agree + (0.2 if c in ";\t|" else 0.0)
            if score > best[0]:
                best = (score, c)
    return best[1] if best[0] > 0 else None


def _number(text, line, column):
    plain = text.strip().strip('"').replace("\u00a0", "").replace(" ", "")
    if re.fullmatch(r"[+-]?\d+,\d+([eE][+-]?\d+)?", plain):
        plain = plain.replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        raise UmbrateError(f"Line {line}: “{text.strip()}” in column {column} is no number.") from None
    if value != value or abs(value) > 1e12:
        raise UmbrateError(f"Line {line}: “{text.strip()}” in column {column} is no length.")
    return value


def _columns(head):
    """Columns by meaning and the unit that the head line states for each, or None where it is no head line."""
    out, units = {}, {}
    for k, text in enumerate(head):
        m = re.fullmatch(r"\s*([^\[\(]*?)\s*(?:[\[\(]\s*([^\]\)]*)\s*[\]\)])?\s*", text.strip().strip('"').lower())
        word, said = (m.group(1), m.group(2)) if m else (text.lower(), None)
        for meaning, words in NAMES.items():
            if word in words and meaning not in out:
                out[meaning] = k
                if said:
                    if said not in UNITS:
                        raise UmbrateError(f"The unit “{said}” is not known. There are: {', '.join(UNITS)}.")
                    units[meaning] = said
                break
    return (out, units) if {"x", "y"} & out.keys() or "name" in out else (None, None)


def _check_commas(rows, separator, path, head):
    """Refuse decimal commas in a file whose columns are separated by commas: they cannot be told apart.

    head : the cells of the head line, or None
    """
    if separator != ",":
        return
    widths = [len(r) for _, r in rows]
    usual = len(head) if head else _usual(widths)[0]
    points = any("." in x for _, r in rows for x in r[1:])
    for line, r in rows:
        quoted = next((x for x in r if re.fullmatch(r"\s*[+-]?\d+,\d+\s*", x)), None)
        why = ""
        if quoted:
            why = f"“{quoted.strip()}” has a decimal comma"
        elif len(r) > usual:
            why = f"it has {len(r)} columns, {'the head line' if head else 'others'} {usual}"
        elif not head and not points and usual in (7, 9):
            why = f"{usual} columns without a head line and without a decimal point may be decimal commas"
        if why:
            raise UmbrateError(
                f"Line {line} of {path}: {why}, and columns are separated by commas too, so the numbers cannot be told "
                "apart. Save it with semicolons between the columns, or with decimal points."
            )


def read_coordinates(path, unit=None, sigma_mm=None):
    """Known points of a CSV file.

    Parameters
    ----------
    path : path
    unit : str, optional
        Of columns for which the head line says none in brackets, one of UNITS; else that of the others, else mm.
    sigma_mm : float, optional
        Standard deviation where the file has none.

    Returns
    -------
    list of KnownPoint

    Raises
    ------
    UmbrateError
        Where something cannot be read: nothing is taken then.
    """
    text = read_text(path, otherwise="latin-1").replace("\0", "")
    numbered = [(k, x) for k, x in enumerate(text.splitlines(), 1) if x.strip() and not x.lstrip().startswith("#")]
    if not numbered:
        raise UmbrateError(f"{path} holds no points. Each line takes a name and three coordinates.")
    long = next((k for k, x in numbered if len(x) > LONGEST_LINE), None)
    if long:
        raise UmbrateError(f"{path} is no table of points: line {long} has more than {LONGEST_LINE:,} characters.")
    separator = _separator([x for _, x in numbered])
    if separator is None:
        raise UmbrateError(
            f"{path} has no four columns separated by semicolon, tab or comma: a name and three coordinates are needed."
        )
    try:
        rows = [(k, next(csv.reader([x], delimiter=separator), [])) for k, x in numbered]
    except csv.Error as e:
        raise UmbrateError(f"{path} is no table of points ({e}).") from None
    columns, units = _columns(rows[0][1])
    if columns is not None:
        head, rows = rows[0][1], rows[1:]
        missing = [m for m in ("name", "x", "y", "z") if m not in columns]
        if missing:
            told = ", ".join(x.strip() for x in head)
            raise UmbrateError(f"{path} has no column for {', '.join(missing)}. Its head line says: {told}.")
    else:
        head, columns, units = None, {"name": 0, "x": 1, "y": 2, "z": 3}, {}
        width = max(len(r) for _, r in rows)
        columns.update({"sigma": 4} if width == 5 else {"sx": 4, "sy": 5, "sz": 6} if width >= 7 else {})
    _check_commas(rows, separator, path, head)
    if unit is not None and unit not in UNITS:
        raise UmbrateError(f"The unit “{unit}” is not known. There are: {', '.join(UNITS)}.")
    if sigma_mm is not None and not (math.isfinite(sigma_mm) and sigma_mm > 0):
        raise UmbrateError(f"A standard deviation must be more than 0 mm, not {sigma_mm:g}.")
    usual = unit or next(iter(units.values()), None) or "mm"  # of columns that state none, as the others
    factor = {m: UNITS[units.get(m, usual)] for m in columns if m != "name"}
    out, seen = [], {}
    default = sigma_mm if sigma_mm is not None else DEFAULT_SIGMA_MM
    for line, r in rows:
        if max(columns[m] for m in ("name", "x", "y", "z")) >= len(r):
            raise UmbrateError(f"Line {line} has {len(r)} columns: a name and three coordinates are needed.")
        name = armed(r[columns["name"]].strip())
        if not name:
            raise UmbrateError(f"Line {line} has no name.")
        if name in seen:
            raise UmbrateError(f"“{name}” stands in lines {seen[name]} and {line}: a name stands for one place.")
        seen[name] = line

        def value(m, r=r, line=line):
            return factor[m] * _number(r[columns[m]], line, m)

        def has(m, r=r):
            return m in columns and columns[m] < len(r) and bool(r[columns[m]].strip())

        xyz = tuple(value(m) for m in ("x", "y", "z"))
        # a deviation for each axis, some of them, or one for all
        common = value("sigma") if has("sigma") else None
        sigma = tuple(value(m) if has(m) else common if common is not None else default for m in ("sx", "sy", "sz"))
        if not min(sigma) > 0:
            raise UmbrateError(f"Line {line}: a standard deviation must be more than 0.")
        out.append(KnownPoint(name, xyz, sigma))
    return out


def write_coordinates(path, points, unit="mm", gate=CLOSED):
    """Write points as CSV: names, coordinates and standard deviations, each column with its unit.

    points : sequence of (name, (x, y, z), (sx, sy, sz))
    """
    with written_aside(path, gate) as temporary, open(temporary, "w", newline="", encoding="utf-8") as f:
        w = TableWriter(f)
        columns = ("x", "y", "z", "sx", "sy", "sz")
        w.writerow(["name", *(f"{a} [{unit}]" if unit else a for a in columns)])
        for name, xyz, sigma in points:
            # a deviation is never written as zero: it would not come back in
            w.writerow([name, *(f"{x:.5f}" for x in xyz), *(f"{max(s, 1e-5):.5f}" for s in sigma)])
