"""How the clouds of two joined sittings lie to each other: how much they overlap, and how far apart they are."""

import numpy as np

from ...core.cloud.grid import spacing_of
from ...core.join.surfacedistance import surface_distances
from ...sitting.frames import move_directions, move_points
from .figures import SurfacesFigures

COMPARED = 60_000  #: points of a cloud that are compared with the other
CELL, WORST = 0.05, 5  #: size of a place, of the extent, and how many of the worst are named
LEAST_OF_PLACE = 20  #: points of a place that counts


def compare_surfaces(a, b, M):
    """How two clouds lie to each other after a join, or None where one is missing.

    Returns
    -------
    SurfacesFigures
        Of a's points; the worst places, up to five, in b's frame.
    """
    if a.cloud is None or b.cloud is None:
        return None
    P, N, _ = a.surface
    Q, QN, _ = b.surface
    rows = np.random.default_rng(0).permutation(len(P))[:COMPARED]
    P, N = move_points(P[rows], M), move_directions(N[rows], M)
    d = surface_distances(P, N, Q, QN, max(0.02 * b.extent, 4 * spacing_of(Q)))
    on = np.isfinite(d)
    if not on.any():
        return SurfacesFigures(overlap=0.0, median=0.0, p95=0.0)
    cell = np.floor(P[on] / (CELL * b.extent)).astype(np.int64)
    _, where = np.unique(cell, axis=0, return_inverse=True)
    where = where.ravel()
    order = np.argsort(where, kind="stable")
    size = np.abs(d[on])[order]
    places = []
    for rows in np.split(np.arange(len(order)), np.flatnonzero(np.diff(where[order])) + 1):
        if len(rows) >= LEAST_OF_PLACE:
            middle = np.median(P[on][order[rows]], axis=0)
            places.append((float(np.median(size[rows])), middle.tolist()))
    places.sort(key=lambda x: -x[0])
    return SurfacesFigures(
        overlap=float(on.mean()), median=float(np.median(size)), p95=float(np.percentile(size, 95)),
        worst=[[*p, m] for m, p in places[:WORST]],
    )  # fmt: skip
