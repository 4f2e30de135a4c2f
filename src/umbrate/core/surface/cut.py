"""A surface cut where a value that its vertices have is zero: triangles across the line are divided along it."""

from typing import NamedTuple

import numpy as np


class Cut(NamedTuple):
    """What is left of a mesh.

    Attributes
    ----------
    faces : (t, 3) int32
        Of vertices that are numbered anew.
    first, second : (v,) int64, share : (v,) float64
        Each vertex lies between two of the old ones, that far toward the second; an old one lies at its own place.
    rim : (r, 2) int32
        Edges on the line, in the direction that the triangles on the side that was left have them.
    source : (t,) int64
        The old triangle each comes from.
    """

    faces: np.ndarray
    first: np.ndarray
    second: np.ndarray
    share: np.ndarray
    rim: np.ndarray
    source: np.ndarray

    def of(self, values):
        """Values (v, ...) of the vertices that are left, from those of all old ones."""
        a, b = values[self.first], values[self.second]
        if values.dtype.kind in "biu":  # there is nothing between
            return np.where((self.share < 0.5).reshape(-1, *[1] * (values.ndim - 1)), a, b)
        t = self.share.reshape(-1, *[1] * (values.ndim - 1))
        with np.errstate(invalid="ignore"):
            return np.where(t > 0, a + t * (b - a), a).astype(values.dtype)


def cut(faces, values):
    """The part of a mesh where the values (n,) of its vertices are negative, a Cut. None may be NaN."""
    values = np.asarray(values, float)
    inside = values < 0
    n = len(values)
    how_many = inside[faces].sum(1)
    whole = np.flatnonzero(how_many == 3)
    parts, sources, crossing, rims = [faces[whole].astype(np.int64)], [whole], [], []

    def between(a, b):
        """Keys of the places where edges are cut: the same from both sides."""
        key = n + np.minimum(a, b) * n + np.maximum(a, b)
        crossing.append(key)
        return key

    for count in (1, 2):
        rows = np.flatnonzero(how_many == count)
        f = faces[rows].astype(np.int64)
        lone = inside[f] if count == 1 else ~inside[f]
        k = lone.argmax(1)
        a, b, c = (np.take_along_axis(f, ((k + j) % 3)[:, None], 1)[:, 0] for j in range(3))
        ab, ac = between(a, b), between(a, c)
        if count == 1:
            parts.append(np.stack([a, ab, ac], 1))
            sources.append(rows)
            rims.append(np.stack([ab, ac], 1))
        else:
            parts += [np.stack([ab, b, c], 1), np.stack([ab, c, ac], 1)]
            sources += [rows, rows]
            rims.append(np.stack([ac, ab], 1))
    keys = np.concatenate(parts)
    used = np.unique(keys)
    number = np.searchsorted(used, keys).astype(np.int32)
    on_edge = used >= n
    first = np.where(on_edge, (used - n) // n, used)
    second = np.where(on_edge, (used - n) % n, used)
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(on_edge, values[first] / (values[first] - values[second]), 0.0)
    rim = np.searchsorted(used, np.concatenate(rims)).astype(np.int32)
    return Cut(number, first, second, np.nan_to_num(share), rim, np.concatenate(sources))
