"""A surface beside a model that was read from a file, or beside a plane, sphere or cylinder fitted to a part of it."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.rotation import rotation_matrix
from ..core.geometry.similarity import fit_similarity
from ..core.join.shape import fit_shapes
from ..core.measure.forms import fit_form
from ..core.surface.distance import places_on, signed_distance
from ..formats.meshes import read_mesh
from ..sitting.clouds import distance_figures
from .solids import Value

PLACED = ("frame", "shape", "picks")
FEWEST_PICKS = 3
REACH = 0.1  #: of the surface's extent: farther from a model nothing is compared
START = 0.15  #: of it: how far off a model may be that is placed by its shape, once it lies about right
SAMPLE = 20_000
WELL = 0.5  #: share of the surface that must find the model for a placing by shape to hold


@dataclass(frozen=True)
class Compared:
    """A surface beside something else.

    Attributes
    ----------
    name : str
    distance : (n,) float32
        Of its vertices, positive outside; infinite where the other has nothing near.
    figures : dict
        See `sitting.clouds.distance_figures`.
    values : list of Value
        What was fitted.
    M : (4, 4) or None
        From the model's frame to the job's.
    """

    name: str
    distance: np.ndarray
    figures: dict
    values: list
    M: np.ndarray | None = None

    def within(self, tolerance):
        """Share of what was compared that lies within a tolerance."""
        return share_within(self.distance, tolerance)


def share_within(distance, tolerance):
    """Share of distances (n,) that are known and lie within a tolerance."""
    some = np.abs(distance[np.isfinite(distance)])
    return float((some <= tolerance).mean()) if len(some) else 0.0


def compare_with_model(mesh, file, placed="frame", picks=()):
    """The Compared of a surface (arrays in the job's frame) and the model in a file.

    Parameters
    ----------
    placed : one of PLACED
        Whether the model stands in the job's frame already, is laid over the surface by its shape, or by `picks`.
    picks : list of ((3,), (3,))
        Places of the model and the same of the surface, three or more.

    Raises
    ------
    UmbrateError
        Where the file holds no triangles, or they cannot be laid over the surface.
    """
    points, faces, name = *read_mesh(file), Path(file).name
    M = _placed(mesh, points, faces, placed, picks)
    over = points @ M[:3, :3].T + M[:3, 3]
    reach = REACH * float(np.linalg.norm(np.ptp(mesh["points"], axis=0)))
    d = signed_distance(mesh["points"], over, faces, reach)
    if not np.isfinite(d).any():
        raise UmbrateError(
            f"{name} lies nowhere near the surface. Lay it over by shape or by picks, or look "
            "whether its unit is that of the job."
        )
    return Compared(name, d, distance_figures(d, reach), [], M)


def _placed(mesh, points, faces, placed, picks):
    if placed == "frame":
        return np.eye(4)
    if placed == "picks":
        return place_by_picks(picks)
    if placed != "shape":
        raise UmbrateError(f"A model is placed by one of {', '.join(PLACED)}.")
    return place_by_shape(mesh, points, faces)


def place_by_picks(picks):
    """The rigid motion (4, 4) that lays places of a model over those of the surface best.

    picks : list of ((3,), (3,))

    Raises
    ------
    UmbrateError
        Where they are too few, or lie on one line.
    """
    if len(picks) < FEWEST_PICKS:
        raise UmbrateError("Placing by picks takes three pairs of places or more.")
    a, b = (np.array([p[k] for p in picks], float) for k in (0, 1))
    for x in (a, b):
        spread = np.linalg.svd(x - x.mean(0))[1]
        if spread[1] < 0.02 * spread[0]:
            raise UmbrateError("The picked places lie nearly on one line: take one that lies aside.")
    M = fit_similarity(a, b)
    R = M[:3, :3] / np.cbrt(np.linalg.det(M[:3, :3]))  # a model is not stretched
    return _rigid(R, a.mean(0), b.mean(0))


def _rigid(R, a, b):
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = R, b - R @ a
    return out


def place_by_shape(mesh, points, faces):
    """Where a model lies over a surface best, a rigid motion (4, 4): from its main axes, then by its shape.

    Raises
    ------
    UmbrateError
        Where no place fits.
    """
    rng = np.random.default_rng(0)
    some = rng.permutation(len(mesh["points"]))[:SAMPLE]
    P, N = mesh["points"][some].astype(float), mesh["normals"][some].astype(float)
    Q, QN = _even_sample(points, faces, SAMPLE)
    size = float(np.linalg.norm(np.ptp(P, axis=0)))
    a, b = Q.mean(0), P.mean(0)
    A, B = (np.linalg.eigh(np.cov((x - x.mean(0)).T))[1] for x in (Q, P))
    starts = [np.eye(4), _rigid(np.eye(3), a, b)]
    for s in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
        R = B @ np.diag([s[0], s[1], 1.0]) @ A.T
        starts.append(_rigid(R if np.linalg.det(R) > 0 else B @ np.diag([s[0], s[1], -1.0]) @ A.T, a, b))
    best = None
    for M in starts:
        fit = fit_shapes((Q, QN), (P, N), M, START * size, finest=0.01 * size)
        if fit is not None and (best is None or fit.median / fit.overlap < best.median / best.overlap):
            best = fit
    if best is None or best.overlap < WELL:
        raise UmbrateError("The model's shape does not lie over this surface. Place it by picks.")
    last = fit_shapes((Q, QN), (P, N), best.M, 0.02 * size, finest=0.004 * size)
    M = (last or best).M
    return _finer(mesh, points, faces, M)


def _finer(mesh, points, faces, M, rounds=20):
    """A motion bettered by how far the surface's vertices are from the model's triangles, the far ones counting less.

    Points to points leave the grain of both; triangles do not.
    """
    some = np.random.default_rng(1).permutation(len(mesh["points"]))[:SAMPLE]
    X = mesh["points"][some].astype(float)
    reach = REACH * float(np.linalg.norm(np.ptp(X, axis=0)))
    for _ in range(rounds):
        back = np.linalg.inv(M)
        Y = X @ back[:3, :3].T + back[:3, 3]
        places, which, _ = places_on(Y, points, faces, reach)
        on = which >= 0
        T = points[faces[which[on]]]
        n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        y = Y[on]
        r = ((y - places[on]) * n).sum(1)
        w = 1.0 / np.maximum(1.0, np.abs(r) / (2.5 * 1.4826 * np.median(np.abs(r)) + 1e-12))
        middle = y.mean(0)
        J = np.c_[np.cross(y - middle, n), n]
        d = np.linalg.lstsq(J * np.sqrt(w)[:, None], -r * np.sqrt(w), rcond=None)[0]
        step = _rigid(rotation_matrix(d[:3]), middle, middle + d[3:])
        M = M @ np.linalg.inv(step)
        if np.linalg.norm(d[3:]) < 1e-7 * reach and np.linalg.norm(d[:3]) < 1e-8:
            break
    return M


def _even_sample(points, faces, count):
    """Places spread over triangles by area, and the triangles' normals."""
    T = np.asarray(points, float)[faces]
    n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    area = np.linalg.norm(n, axis=1)
    rng = np.random.default_rng(0)
    t = rng.choice(len(faces), count, p=area / area.sum())
    u, v = rng.random((2, count))
    flip = u + v > 1
    u[flip], v[flip] = 1 - u[flip], 1 - v[flip]
    X = T[t, 0] + u[:, None] * (T[t, 1] - T[t, 0]) + v[:, None] * (T[t, 2] - T[t, 0])
    return X, n[t] / np.maximum(area[t], 1e-300)[:, None]


def compare_with_form(measurer, kind, part=None):
    """The Compared of a surface and a plane, sphere or cylinder fitted to a part of it.

    Parameters
    ----------
    measurer : SurfaceMeasurer
    part : (n,) bool, optional
        The vertices it is fitted to; else all.

    Raises
    ------
    UmbrateError
        Where the part does not tell of such a form.
    """
    m = measurer
    rows = np.flatnonzero(part if part is not None else ~m.mesh["filled"])
    form, of_radius = fit_form(kind, m.points[rows], m.mesh["normals"][rows])
    d = form.distance(m.points).astype(np.float32)
    values = []
    if kind != "plane":
        derivative = np.zeros((len(m.points), 3))
        derivative[rows] = of_radius
        half = m.half(derivative)
        values.append(Value("Diameter", 2 * form.radius, 2 * half, 2 * half, m.unit))
    own = d[rows].astype(float)
    spread = float(np.sqrt(np.mean(own**2)))
    values.append(Value("Off the form, root mean square", spread, np.nan, np.nan, m.unit))
    values.append(Value("Form error", float(np.ptp(own)), np.nan, np.nan, m.unit))
    reach = float(np.abs(d).max())
    return Compared(f"{kind} fitted to {len(rows):,} vertices", d, distance_figures(d, reach), values)
