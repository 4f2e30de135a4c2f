"""Clouds as PLY: binary, little-endian, with normals, colors, photo count and score."""

import numpy as np
from plyfile import PlyData, PlyElement

from .files import written_aside


def write_cloud(path, points, colors, normals=None, photos=None, score=None, unit=None):
    """Write a point cloud.

    Parameters
    ----------
    points : (n, 3); colors : (n, 3) uint8; normals : (n, 3) or None
    photos : (n,) uint8 or None, score : (n,) float32 or None
    unit : str or None
        Written as a comment; None says that the cloud is unscaled.
    """
    fields = [(a, "<f4") for a in "xyz"]
    if normals is not None:
        fields += [("nx", "<f4"), ("ny", "<f4"), ("nz", "<f4")]
    fields += [("red", "u1"), ("green", "u1"), ("blue", "u1")]
    if photos is not None:
        fields.append(("photos", "u1"))
    if score is not None:
        fields.append(("score", "<f4"))
    table = np.empty(len(points), dtype=fields)
    for k, a in enumerate("xyz"):
        table[a] = points[:, k]
        if normals is not None:
            table["n" + a] = normals[:, k]
    for k, a in enumerate(("red", "green", "blue")):
        table[a] = colors[:, k]
    if photos is not None:
        table["photos"] = photos
    if score is not None:
        table["score"] = score
    with written_aside(path) as temporary:
        PlyData(
            [PlyElement.describe(table, "vertex")],
            byte_order="<",
            comments=["made by Umbrate", f"unit {unit or 'unscaled'}"],
        ).write(str(temporary))
