"""How coordinates lie in a file: their unit, where zero is, and which axis points up."""

from dataclasses import dataclass

import numpy as np

from ..core.errors import UmbrateError

UNITS = {"mm": 1.0, "cm": 0.1, "m": 1e-3, "in": 1 / 25.4}  #: in a mm
ORIGINS = {"job": "that of the job", "middle": "its middle", "base": "below its middle"}
UPS = ("z", "y")
CLOUD_PARTS = {
    "normals": ("normals",), "colors": ("colors",), "confidence": ("score", "precision", "angle"),
    "photos": ("photos",),
}  # fmt: skip
MESH_PARTS = {
    "normals": ("normals",), "colors": ("colors",), "confidence": ("support", "deviation", "filled"),
    "photos": ("photos",),
}  # fmt: skip


@dataclass(frozen=True)
class Laying:
    """What goes into a file, and how it lies there.

    Attributes
    ----------
    without : tuple of str
        Of `CLOUD_PARTS` and `MESH_PARTS`, what is left out.
    text : bool
        PLY as text.
    shift : bool
        PLY far from zero: with its offset in the header, in single precision.
    unit, origin, up : str
        One of UNITS, ORIGINS and UPS.
    """

    without: tuple = ()
    text: bool = False
    shift: bool = False
    unit: str = "mm"
    origin: str = "job"
    up: str = "z"

    def __post_init__(self):
        for value, known, word in (
            (self.unit, UNITS, "unit"), (self.origin, ORIGINS, "origin"), (self.up, UPS, "axis that points up"),
        ):  # fmt: skip
            if value not in known:
                raise UmbrateError(f"“{value}” is no {word}. There is: {', '.join(known)}.")
        unknown = set(self.without) - set(CLOUD_PARTS)
        if unknown:
            raise UmbrateError(f"“{sorted(unknown)[0]}” cannot be left out. Parts are: {', '.join(CLOUD_PARTS)}.")

    @property
    def moves(self):
        """Whether coordinates are others than those of the job."""
        return (self.unit, self.origin, self.up) != ("mm", "job", "z")

    def left_out(self, parts):
        """Names of arrays that are left out, of CLOUD_PARTS or MESH_PARTS."""
        return {a for p in self.without for a in parts[p]}


def base_of(points):
    """The place (3,) below the middle of points (n, 3), at the height of the lowest."""
    low, high = points.min(0).astype(float), points.max(0).astype(float)
    return np.array([*((low + high) / 2)[:2], low[2]])


def laid(arrays, unit, offset, laying):
    """Arrays as they lie in the file, their unit, and their offset there.

    Parameters
    ----------
    arrays : dict
        ``points`` (n, 3) and perhaps ``normals`` (n, 3), in the job's frame.
    unit : "mm" or None
        None: unscaled; the unit asked for means nothing then.
    offset : (3,)
        What coordinates are more in the job than in `points`.
    laying : Laying
    """
    scale, name = (UNITS[laying.unit], laying.unit) if unit else (1.0, None)
    if not laying.moves or (scale == 1.0 and (laying.origin, laying.up) == ("job", "z")):
        return arrays, unit, offset
    points = np.asarray(arrays["points"], np.float64)
    offset = np.asarray(offset, float)
    if laying.origin != "job":
        points, offset = points - (base_of(points) if laying.origin == "base" else middle_of(points)), np.zeros(3)
    out = {**arrays, "points": upright(scale * points, laying.up)}
    if "normals" in arrays:
        out["normals"] = upright(np.asarray(arrays["normals"]), laying.up)
    return out, name, upright(scale * offset[None], laying.up)[0]


def middle_of(points):
    """The middle (3,) of what points (n, 3) span."""
    return (points.min(0) + points.max(0)) / 2


def upright(vectors, up):
    """Vectors (n, 3) of a frame whose z points up, in one where another axis does: z or y."""
    if up == "z":
        return vectors
    return np.stack([vectors[:, 0], vectors[:, 2], -vectors[:, 1]], 1)
