"""Coverage: how well each place of a surface was photographed, and where to stand for what is missing."""

from dataclasses import dataclass

import numpy as np

from ..geometry.pose import look_at

MATCHED_PX = 0.35  #: standard deviation with which a place is expected to be found in a photo, in its pixels
STEEPEST_DEG = 75.0  #: a surface seen flatter than this is not counted as seen
CELL = 2.0  #: side of a cell of the depth buffer, in distances between points
MOST = 120_000  #: points that are looked at for places to stand
MOST_PLACES = 8
LEAST_SHARE = 0.002  #: places with fewer weak points than this share of the cloud are not worth a photo
STEP_DEG = 12.0  #: between the three photos of a place
REACH_DEG = 55.0  #: a photo to be taken is expected to mend what faces it to within this


@dataclass(frozen=True)
class Camera:
    """A photo: pose (4, 4) world to camera; its Lens; mask (h, w) bool as taken, or None."""

    pose: np.ndarray
    lens: object
    mask: np.ndarray | None = None


@dataclass(frozen=True)
class Coverage:
    """What n places of a surface got.

    Attributes
    ----------
    seen : (n,) uint8
        Photos that see it: inside the picture and the mask, not too flat, nothing before it.
    resolution : (n,) float32
        Size of a pixel on the surface in the best of them, in the unit of the points; infinite where none sees it.
    spread : (n,) float32
        Largest angle between the rays of those photos from their middle direction, twice: degrees.
    precision : (n,) float32
        Standard deviation to expect across the surface where all of them are matched; infinite under two.
    """

    seen: np.ndarray
    resolution: np.ndarray
    spread: np.ndarray
    precision: np.ndarray


def _inverse_along(A, n):
    """``n' inv(A) n`` of symmetric matrices A (k, 6: xx, xy, xz, yy, yz, zz) and directions (k, 3)."""
    a, b, c, d, e, f = A.T
    x, y, z = n.T
    det = a * (d * f - e * e) - b * (b * f - c * e) + c * (b * e - c * d)
    adj = (
        x * x * (d * f - e * e) + y * y * (a * f - c * c) + z * z * (a * d - b * b)
        + 2 * (x * y * (c * e - b * f) + x * z * (b * e - c * d) + y * z * (b * c - a * e))
    )  # fmt: skip
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(det > 1e-12 * (a + d + f) ** 3, adj / det, np.inf)


def hidden(Y, tan, f, spacing):
    """Which places in a camera's frame (n, 3) lie behind others, by a coarse depth buffer.

    tan : (n,) tangent of the angle at which the surface is seen; f : of the camera; spacing : of the points
    """
    z = Y[:, 2]
    cell = CELL * spacing * f / np.median(z)
    u = np.floor(Y[:, 0] / z * f / cell).astype(np.int64)
    v = np.floor(Y[:, 1] / z * f / cell).astype(np.int64)
    u -= u.min()
    v -= v.min()
    key = v * (u.max() + 1) + u
    nearest = np.full(int(key.max()) + 1, np.inf)
    np.minimum.at(nearest, key, z)
    # within a cell a slanted surface lies deeper by its slant; the point's own noise comes on top
    return z > nearest[key] + CELL * spacing * (1.5 * tan + 1.5)


def coverage(points, normals, cameras, spacing, progress=None):
    """What each point of a cloud got from the photos.

    Parameters
    ----------
    points, normals : (n, 3)
        Normals are unit vectors out of the surface.
    cameras : list of Camera
    spacing : float
        Distance between points, for what lies before what.
    progress : callable(k, total), optional

    Returns
    -------
    Coverage
    """
    n = len(points)
    P, N = np.asarray(points, np.float64), np.asarray(normals, np.float64)
    seen, best = np.zeros(n, np.uint8), np.full(n, np.inf)
    A = np.zeros((n, 6))
    rays = []
    total = np.zeros((n, 3))
    for k, c in enumerate(cameras):
        if progress:
            progress(k, len(cameras))
        R, t = c.pose[:3, :3], c.pose[:3, 3]
        eye = -R.T @ t
        d = P - eye
        away = np.linalg.norm(d, axis=1)
        ray = d / away[:, None]
        cos = -(ray * N).sum(1)
        Y = P @ R.T + t
        front = np.flatnonzero((Y[:, 2] > 1e-9) & (cos > 0.02))
        if not len(front):
            rays.append((front, None))
            continue
        tan = np.sqrt(np.maximum(1 - cos[front] ** 2, 0)) / cos[front]
        front = front[~hidden(Y[front], tan, c.lens.f, spacing)]
        front = front[cos[front] > np.cos(np.radians(STEEPEST_DEG))]
        uv = c.lens.project(Y[front, :2] / Y[front, 2:])
        h, w = (c.lens.height, c.lens.width) if c.mask is None else c.mask.shape
        x, y = np.round(uv[:, 0]), np.round(uv[:, 1])
        inside = (x >= 0) & (y >= 0) & (x < w) & (y < h)
        if c.mask is not None:
            inside[inside] = c.mask[y[inside].astype(np.int64), x[inside].astype(np.int64)]
        on = front[inside]
        size = away[on] / c.lens.f
        best[on] = np.minimum(best[on], size / cos[on])
        seen[on] = np.minimum(seen[on].astype(np.int64) + 1, 255).astype(np.uint8)
        r, weight = ray[on], 1.0 / (MATCHED_PX * size) ** 2
        for q, (i, j) in enumerate(((0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2))):
            A[on, q] += weight * ((i == j) - r[:, i] * r[:, j])
        total[on] += r
        rays.append((on, r.astype(np.float32)))
    middle = total / np.maximum(np.linalg.norm(total, axis=1), 1e-12)[:, None]
    least = np.ones(n)
    for on, r in rays:
        if r is not None:
            least[on] = np.minimum(least[on], (r * middle[on]).sum(1))
    spread = 2 * np.degrees(np.arccos(np.clip(least, -1, 1)))
    precision = np.sqrt(_inverse_along(A, N))
    precision[seen < 2] = np.inf
    return Coverage(seen, best.astype(np.float32), spread.astype(np.float32), precision.astype(np.float32))


@dataclass(frozen=True)
class CoverageGap:
    """A place with too little, and where to stand for it.

    Attributes
    ----------
    center, normal : (3,)
    points : int
        Weak points that photos from there would see.
    rows : (m,) int
        Of large clouds, of an even share of them.
    poses : list of (4, 4)
        Photos to take, world to camera.
    """

    center: np.ndarray
    normal: np.ndarray
    points: int
    rows: np.ndarray
    poses: list


def places(points, normals, facing, weak, distance, spacing, lens):
    """Where to stand for the photos that would mend what is weak, the most worthwhile first (greedy set cover).

    Candidates look along the normals of weak patches from the usual distance. Each gives three photos, some degrees
    apart. What is hidden behind the object from there is not counted.

    Parameters
    ----------
    points, normals : (n, 3)
    facing : (n, 3)
        Unit vectors from where each point should be looked at: its normal, or turned beyond the rim of the surface.
    weak : (n,) bool
    distance : float
        From which photos were taken so far.
    spacing : float
        Distance between points.
    lens : Lens

    Returns
    -------
    list of CoverageGap
    """
    P, N, F = (np.asarray(x, np.float64) for x in (points, normals, facing))
    left = np.flatnonzero(weak)
    enough = max(int(LEAST_SHARE * len(P)), 20)
    if len(left) < enough:
        return []
    rng = np.random.default_rng(0)
    whole = len(P)
    if whole > MOST:  # an even share serves
        part = np.sort(rng.permutation(whole)[:MOST])
        P, N, F, weak = P[part], N[part], F[part], weak[part]
        left = np.flatnonzero(weak)
        share = MOST / whole
        spacing, enough = spacing / np.sqrt(share), max(enough * share, 5)
    else:
        part, share = np.arange(whole), 1.0
    side = np.ptp(P, axis=0).max() / 6
    some = left[rng.permutation(len(left))[:20000]]  # candidates need no more
    sector = np.argmax(np.concatenate([F[some], -F[some]], 1), 1)
    key = np.concatenate([np.floor(P[some] / side).astype(np.int64), sector[:, None]], 1)
    _, cell = np.unique(key, axis=0, return_inverse=True)
    cell = cell.ravel()
    count = np.bincount(cell)
    candidates = []
    for c in np.argsort(-count, kind="stable")[:40]:
        n = F[some[cell == c]].sum(0)
        if np.linalg.norm(n) > 1e-9:
            candidates.append((P[some[cell == c]].mean(0), n / np.linalg.norm(n)))
    sees = []
    half = np.array([lens.width, lens.height]) / 2 / lens.f
    for middle, n in candidates:
        E = look_at(middle + distance * n, middle)
        Y = P @ E[:3, :3].T + E[:3, 3]
        ray = P - (middle + distance * n)
        cos = -(ray * N).sum(1) / np.linalg.norm(ray, axis=1)
        ok = np.flatnonzero((cos > 0.02) & (Y[:, 2] > 1e-9))
        tan = np.sqrt(np.maximum(1 - cos[ok] ** 2, 0)) / cos[ok]
        ok = ok[~hidden(Y[ok], tan, lens.f, spacing)] if len(ok) else ok
        well = -(ray[ok] * F[ok]).sum(1) > np.cos(np.radians(REACH_DEG)) * np.linalg.norm(ray[ok], axis=1)
        ok = ok[well & (np.abs(Y[ok, :2] / Y[ok, 2:]) < half).all(1)]
        sees.append(ok[weak[ok]])
    out, missing = [], weak.copy()
    while len(out) < MOST_PLACES and candidates:
        gains = [int(missing[s].sum()) for s in sees]
        k = int(np.argmax(gains))
        if gains[k] < enough:
            break
        middle, n = candidates[k]
        rows = sees[k][missing[sees[k]]]
        missing[rows] = False
        out.append(CoverageGap(P[rows].mean(0), n, round(len(rows) / share), part[rows], _three(middle, n, distance)))
    return out


def _three(middle, n, distance):
    """Three poses round a direction, side by side as one would take them."""
    across = np.cross([0.0, 0.0, 1.0], n)
    across = across / np.linalg.norm(across) if np.linalg.norm(across) > 1e-6 else np.array([1.0, 0.0, 0.0])
    out = []
    for a in (-STEP_DEG, 0.0, STEP_DEG):
        d = np.cos(np.radians(a)) * n + np.sin(np.radians(a)) * across
        out.append(look_at(middle + distance * d, middle))
    return out
