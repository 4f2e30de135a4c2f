"""How far two lenses are apart in the picture, which is what matters: not in numbers that make up for each other."""

import numpy as np

from ..geometry.rotation import rotation_matrix


def field_difference(lens, other, across=13, down=10):
    """By how many pixels two lenses map directions differently, over the picture.

    The camera's own turn is taken out first: a shift of the principal point is nearly a turn, and poses take up both.

    Returns
    -------
    (down, across) float64
    """
    u, v = np.meshgrid(np.linspace(0, lens.width - 1, across), np.linspace(0, lens.height - 1, down))
    uv = np.stack([u.ravel(), v.ravel()], 1)
    rays = np.hstack([other.unproject(uv), np.ones((u.size, 1))])
    turn = np.zeros(3)

    def off(w):
        d = rays @ rotation_matrix(w).T
        return (lens.project(d[:, :2] / d[:, 2:]) - uv).ravel()

    for _ in range(5):
        r = off(turn)
        J = np.stack([(off(turn + 1e-6 * e) - r) / 1e-6 for e in np.eye(3)], 1)
        turn = turn - np.linalg.lstsq(J, r, rcond=None)[0]
    return np.linalg.norm(off(turn).reshape(-1, 2), axis=1).reshape(u.shape)
