"""How far a mat was turned between two photos of a camera that stood still, from its targets alone.

The plane of the mat goes to itself: what the photos show of it is one homography, a turn as the camera sees it. So its
eigenvalues are those of the turn, 1 and exp(+-i angle), up to one factor, whatever lens and place the camera has. Where
they are not, the camera came nearer or went higher, or what was seen is no mat. A camera that goes round the mat sees
it turn as well.
"""

from itertools import combinations

import numpy as np

from ..lens.planes import homography

FEWEST = 5  #: targets that both photos have to show: four fit always
ON_PLANE = 0.004  #: of the widest distance of the targets: those farther from the homography are on no mat
DRAWS = 300  #: fours of targets that are tried
MOST = 0.7  #: share of the targets in one plane with which no more are tried
AS_LONG = 0.01  #: how far the eigenvalues' lengths may be from each other
LEAST_DEG = 3.0  #: less is no turn that anybody makes, and hard to tell from a camera that moved


def turned(a, b):
    """Degrees that a mat was turned from one photo to another, positive clockwise as seen from above, or None.

    Parameters
    ----------
    a, b : dict of number to (2,)
        Pixels of the coded targets in each photo.
    """
    both = sorted(a.keys() & b.keys())
    if len(both) < FEWEST:
        return None
    p, q = (np.array([x[n] for n in both], float).reshape(-1, 2) for x in (a, b))
    near = ON_PLANE * np.linalg.norm(np.ptp(q, axis=0))
    best = np.zeros(len(both), bool)
    rng = np.random.default_rng(0)  # the same photos say the same
    fours = list(combinations(range(len(both)), 4))
    for k in rng.permutation(len(fours))[:DRAWS]:
        four = list(fours[k])
        on = _on(homography(p[four], q[four]), p, q, near)
        if on.sum() > best.sum():
            best = on
            if on.mean() > MOST:
                break
    return _angle(homography(p[best], q[best]), p[best], q[best]) if best.sum() >= FEWEST else None


def _on(H, p, q, near):
    """Which places (n, 2) a homography takes to where they were seen."""
    seen = np.c_[p, np.ones(len(p))] @ H.T
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.linalg.norm(seen[:, :2] / seen[:, 2:] - q, axis=1) <= near


def _angle(H, p, q):
    """The angle of a turn that a homography is, with its sign by how points (n, 2) moved; None where it is none."""
    values, vectors = np.linalg.eig(H)
    k = int(np.abs(values.imag).argmin())
    pair = np.delete(values, k) / values[k]
    if np.ptp(np.abs(values)) > AS_LONG * np.abs(values).max():
        return None
    angle = float(np.degrees(np.abs(np.angle(pair)).mean()))
    if angle < LEAST_DEG:
        return None
    middle = vectors[:, k].real
    middle = middle[:2] / middle[2]
    u, v = p - middle, q - middle
    # y goes down in a picture, so a positive area is clockwise; a mat is seen from above
    return angle if (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() > 0 else -angle


def turns(photos):
    """How far the mat had been turned at each photo of the round that is under way, as angles of one circle.

    Parameters
    ----------
    photos : list of dict of number to (2,)
        Coded targets of the photos, in the order they were taken.

    Returns
    -------
    (k,) degrees, positive clockwise as seen from above; the last photo's comes last. Photos that were not taken from
    its place are left out.
    """
    at = {len(photos) - 1: 0.0} if photos else {}
    todo = [*range(len(photos) - 1)]
    grown = True
    while todo and grown:  # from photo to photo: those far apart share too few targets
        grown = False
        for k in sorted(todo, reverse=True):
            for j in sorted(at, key=lambda j, k=k: abs(j - k))[:4]:
                angle = turned(photos[j], photos[k])
                if angle is not None:
                    at[k] = at[j] + angle
                    todo.remove(k)
                    grown = True
                    break
    return np.array([at[k] for k in sorted(at)])
