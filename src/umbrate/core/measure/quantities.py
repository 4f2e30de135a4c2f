"""What can be measured between places: lengths, angles, radii, heights, and how sure each is.

A quantity is a function of places; its variance follows from theirs by its derivatives (the law of propagation of
uncertainty; GUM, JCGM 100:2008, 5.2). A value is stated with the interval that holds the true one in 95 of 100 cases.
"""

from dataclasses import dataclass

import numpy as np

from ..errors import UmbrateError

K95 = 1.96  #: half an interval of 95 % of a normal distribution, in standard deviations
LINE = 0.02  #: points whose spread across their line is less than this share of that along it lie on a line


@dataclass(frozen=True)
class Kind:
    """A kind of measurement: its name, how many places it takes at least and at most, and what it gives."""

    name: str
    title: str
    least: int
    most: int | None
    unit: str  #: "length", "angle" or "area"
    about: str


KINDS = (
    Kind("point", "Point", 1, 1, "length", "coordinates of one place"),
    Kind("distance", "Distance", 2, 2, "length", "straight from one place to another"),
    Kind("polyline", "Polyline", 2, None, "length", "length along several places"),
    Kind("angle", "Angle", 3, 3, "angle", "at the second of three places"),
    Kind("circle", "Circle", 3, None, "length", "diameter and radius of the circle through three or more places"),
    Kind("sphere", "Sphere", 4, None, "length", "diameter and radius of the sphere through four or more places"),
    Kind("plane", "To a plane", 4, None, "length", "from the last place to the plane through those before"),
    Kind("area", "Area", 3, None, "area", "of the face that three or more places in order bound"),
    Kind("height", "Height", 1, 1, "length", "over the level"),
)
BY_NAME = {k.name: k for k in KINDS}
ROUND = ("circle", "sphere")  #: their value is the radius; the diameter is told beside it


def _spread(X):
    """Singular values of points about their mean, falling, and directions in rows."""
    _, s, Vt = np.linalg.svd(X - X.mean(0), full_matrices=False)
    return s, Vt


def fit_plane(X):
    """Mean (3,) and unit normal (3,) of the plane through points (n, 3), n >= 3, by least squares.

    Raises
    ------
    UmbrateError
        Where they lie nearly on a line.
    """
    s, Vt = _spread(X)
    if s[1] <= LINE * s[0]:
        raise UmbrateError("These points lie nearly on one line: they give no plane. Take one that lies aside.")
    return X.mean(0), Vt[2]


def fit_circle(X):
    """Center (3,), radius and normal of the circle through points (n, 3), n >= 3: algebraic start, geometric fit."""
    middle, normal = fit_plane(X)
    _, Vt = _spread(X)
    u, v = (X - middle) @ Vt[0], (X - middle) @ Vt[1]
    c = np.linalg.lstsq(np.c_[2 * u, 2 * v, np.ones(len(u))], u * u + v * v, rcond=None)[0]
    c[2] = np.sqrt(max(c[2] + c[0] ** 2 + c[1] ** 2, 1e-300))
    for _ in range(10 if len(X) > 3 else 0):
        d = np.hypot(u - c[0], v - c[1])
        J = np.c_[(c[0] - u) / d, (c[1] - v) / d, -np.ones(len(u))]
        c = c - np.linalg.lstsq(J, d - c[2], rcond=None)[0]
    return middle + c[0] * Vt[0] + c[1] * Vt[1], float(c[2]), normal


def fit_sphere(X):
    """Center (3,) and radius of the sphere through points (n, 3), n >= 4.

    Raises
    ------
    UmbrateError
        Where they lie nearly in one plane.
    """
    s, _ = _spread(X)
    if s[2] <= LINE * s[0]:
        raise UmbrateError("These points lie nearly in one plane: they give no sphere. Take one that lies aside.")
    middle = X.mean(0)
    Y = X - middle
    c = np.linalg.lstsq(np.c_[2 * Y, np.ones(len(Y))], (Y**2).sum(1), rcond=None)[0]
    c[3] = np.sqrt(max(c[3] + (c[:3] ** 2).sum(), 1e-300))
    for _ in range(10 if len(X) > 4 else 0):
        d = np.linalg.norm(Y - c[:3], axis=1)
        J = np.c_[(c[:3] - Y) / d[:, None], -np.ones(len(Y))]
        c = c - np.linalg.lstsq(J, d - c[3], rcond=None)[0]
    return middle + c[:3], float(c[3])


def _angle(X):
    a, b = X[0] - X[1], X[2] - X[1]
    if min(np.linalg.norm(a), np.linalg.norm(b)) < 1e-12:
        raise UmbrateError("An angle needs three different places: the second is where it is taken.")
    return float(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b))


def _to_plane(X):
    middle, normal = fit_plane(X[:-1])
    d = float((X[-1] - middle) @ normal)
    return abs(d)


def _area(X):
    middle = X.mean(0)
    cross = np.cross(X - middle, np.roll(X, -1, axis=0) - middle).sum(0)  # Newell's normal: twice the area long
    return 0.5 * float(np.linalg.norm(cross))


def _length(X):
    return float(np.linalg.norm(np.diff(X, axis=0), axis=1).sum())


_FUNCTIONS = {
    "distance": _length,
    "polyline": _length,
    "angle": _angle,
    "circle": lambda X: fit_circle(X)[1],
    "sphere": lambda X: fit_sphere(X)[1],
    "plane": _to_plane,
    "area": _area,
    "height": lambda X: float(X[0, 2]),
}


def quantity(kind, points):
    """The value of a measurement of places (n, 3): a length in their unit or an angle in radians.

    Raises
    ------
    UmbrateError
        Where the kind is unknown, the number of places is wrong, or they lie so that there is no value.
    """
    check_count(kind, len(points))
    return _FUNCTIONS[kind](np.asarray(points, float))


def check_count(kind, count):
    """Raise UmbrateError where a kind of measurement does not take so many places."""
    if kind not in BY_NAME:
        raise UmbrateError(f"There is no measurement “{kind}”. There are: {', '.join(BY_NAME)}.")
    k = BY_NAME[kind]
    if count < k.least or (k.most and count > k.most):
        many = f"{k.least}" if k.most == k.least else f"at least {k.least}"
        raise UmbrateError(f"{k.title} takes {many} place{'s' * (k.least > 1)} ({k.about}), not {count}.")


def derivatives(function, points):
    """Derivatives of `function(points)` (m,) or a number by places (n, 3): (m, 3 n), by central differences."""
    X = np.asarray(points, float)
    size = max(float(np.ptp(X, axis=0).max()), float(np.abs(X).max()) * 1e-3, 1e-9)
    h = 1e-5 * size
    rows = []
    for k in range(X.size):
        up, down = X.copy(), X.copy()
        up.flat[k] += h
        down.flat[k] -= h
        rows.append((np.atleast_1d(function(up)) - np.atleast_1d(function(down))) / (2 * h))
    return np.array(rows).T


def propagate(function, points, cov):
    """Value (m,) of a function of places and its covariance (m, m), from theirs (3 n, 3 n)."""
    J = derivatives(function, points)
    return np.atleast_1d(function(np.asarray(points, float))), J @ cov @ J.T
