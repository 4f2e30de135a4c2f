"""Planes, spheres and cylinders through a part of a surface, and how far places are from them, with the sign.

By least squares of the distances (Gauss and Newton), where places that lie far off count less, so that a rounded edge
of the part that was chosen does not tilt the form.
"""

from dataclasses import dataclass

import numpy as np

from ..errors import UmbrateError
from .quantities import fit_plane, fit_sphere

FORMS = ("plane", "sphere", "cylinder")
FEWEST, ROUNDS, FAR = 12, 12, 2.5  #: places; rounds; multiples of the usual distance that count less
SAMPLE = 60_000  #: places that a form is fitted to


@dataclass(frozen=True)
class Form:
    """A plane, sphere or cylinder.

    Attributes
    ----------
    kind : str
    place : (3,)
        On the plane, the center, or on the axis.
    axis : (3,)
        The plane's normal or the cylinder's axis, unit; of a sphere zero.
    radius : float
        0 of a plane.
    outside : float
        1 where the surface shows the outside of the form, -1 where it is a bore: distances are positive outside of the
        material.
    """

    kind: str
    place: np.ndarray
    axis: np.ndarray
    radius: float
    outside: float = 1.0

    def distance(self, X):
        """Signed distances (n,) of places (n, 3)."""
        Y = np.asarray(X, float) - self.place
        if self.kind == "plane":
            return self.outside * (Y @ self.axis)
        if self.kind == "cylinder":
            Y = Y - np.outer(Y @ self.axis, self.axis)
        return self.outside * (np.linalg.norm(Y, axis=1) - self.radius)


def _step(kind, place, axis, radius, X):
    """Distances (n,) and their derivatives by the form's parameters (n, p)."""
    Y = X - place
    if kind == "plane":
        u, v = _across(axis)
        return Y @ axis, np.stack([Y @ u, Y @ v, -np.ones(len(Y))], 1)
    if kind == "sphere":
        r = np.linalg.norm(Y, axis=1)
        return r - radius, np.c_[-Y / r[:, None], -np.ones(len(Y))]
    u, v = _across(axis)
    along = Y @ axis
    out = Y - np.outer(along, axis)
    r = np.maximum(np.linalg.norm(out, axis=1), 1e-300)
    n = out / r[:, None]
    return r - radius, np.stack([-along * (n @ u), -along * (n @ v), -(n @ u), -(n @ v), -np.ones(len(Y))], 1)


def _across(axis):
    u = np.cross(axis, np.eye(3)[np.abs(axis).argmin()])
    u /= np.linalg.norm(u)
    return u, np.cross(axis, u)


def _moved(kind, place, axis, radius, d):
    if kind == "sphere":
        return place + d[:3], axis, radius + d[3]
    u, v = _across(axis)
    turned = axis + d[0] * u + d[1] * v
    turned /= np.linalg.norm(turned)
    if kind == "plane":
        return place + d[2] * axis, turned, 0.0
    return place + d[2] * u + d[3] * v, turned, radius + d[4]


def fit_form(kind, points, normals):
    """The Form of a kind through places (n, 3) of a surface with their normals, and its derivative.

    Returns
    -------
    Form
    of_radius : (n, 3)
        How its radius changes as each place moves (of a plane: its distance along the normal); zero for places that
        took no part.

    Raises
    ------
    UmbrateError
        Where there are too few, or they do not tell of such a form.
    """
    if kind not in FORMS:
        raise UmbrateError(f"There is no form “{kind}”. There are: {', '.join(FORMS)}.")
    if len(points) < FEWEST:
        raise UmbrateError(f"{len(points)} places are too few for a {kind}. Choose a larger part.")
    rows = np.arange(0, len(points), max(1, len(points) // SAMPLE))
    X, N = np.asarray(points, float)[rows], np.asarray(normals, float)[rows]
    place, axis, radius = _start(kind, X, N)
    w = np.ones(len(X))
    for _ in range(ROUNDS):
        off, J = _step(kind, place, axis, radius, X)
        usual = 1.4826 * float(np.median(np.abs(off))) + 1e-12 * float(np.ptp(X, axis=0).max())
        w = 1.0 / np.maximum(1.0, np.abs(off) / (FAR * usual))
        scale = np.linalg.norm(J, axis=0)
        scale[scale == 0] = 1.0
        A = (J / scale) * np.sqrt(w)[:, None]
        if np.linalg.cond(A) > 1e6:
            raise UmbrateError(f"This part does not tell of a {kind}: choose one that shows more of its curve.")
        d = np.linalg.lstsq(A, -off * np.sqrt(w), rcond=None)[0] / scale
        place, axis, radius = _moved(kind, place, axis, radius, d)
        if not np.isfinite(radius) or radius < 0 or radius > 1e4 * float(np.ptp(X, axis=0).max()):
            raise UmbrateError(f"This part does not tell of a {kind}: choose one that shows more of its curve.")
    off, J = _step(kind, place, axis, radius, X)
    out = _outward(kind, place, axis, X)
    outside = 1.0 if float((out * N).sum()) >= 0 else -1.0
    # the last parameter is the radius, or of a plane its distance: its row of the pseudo-inverse, along the distances
    row = -np.linalg.pinv(J * np.sqrt(w)[:, None])[-1] * np.sqrt(w)
    of_radius = np.zeros((len(points), 3))
    of_radius[rows] = row[:, None] * out
    return Form(kind, place, axis, float(radius), outside), of_radius


def _outward(kind, place, axis, X):
    """Unit directions (n, 3) in which distances grow."""
    Y = X - place
    if kind == "plane":
        return np.broadcast_to(axis, X.shape)
    if kind == "cylinder":
        Y = Y - np.outer(Y @ axis, axis)
    return Y / np.maximum(np.linalg.norm(Y, axis=1, keepdims=True), 1e-300)


def _start(kind, X, N):
    if kind == "plane":
        middle, normal = fit_plane(X)
        return middle, normal * (1 if (N @ normal).sum() >= 0 else -1), 0.0
    if kind == "sphere":
        center, radius = fit_sphere(X)
        return center, np.zeros(3), radius
    # normals of a cylinder are all across its axis
    axis = np.linalg.eigh(N.T @ N)[1][:, 0]
    u, v = _across(axis)
    p = np.stack([X @ u, X @ v], 1)
    middle = p.mean(0)
    q = p - middle
    c = np.linalg.lstsq(np.c_[2 * q, np.ones(len(q))], (q**2).sum(1), rcond=None)[0]
    radius = np.sqrt(max(c[2] + c[0] ** 2 + c[1] ** 2, 1e-300))
    return (middle[0] + c[0]) * u + (middle[1] + c[1]) * v + (X @ axis).mean() * axis, axis, float(radius)
