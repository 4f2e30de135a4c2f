"""Neighbors: which photos help a photo's depth.

Two photos help each other where they see the same tie points, at an angle wide enough to measure
depth and narrow enough to still look alike (the weighting follows Goesele et al. 2007).
"""

import numpy as np

from ..geometry.pose import center


def choose_neighbors(poses, solved, points, photo, point, count=6, best_angle_deg=15.0, quality=None):
    """The best neighbors of every solved photo.

    Parameters
    ----------
    poses : (n, 4, 4), solved : (n,) bool
    points : (p, 3)
    photo, point : (k,) int
        Sightings.
    count : int
    best_angle_deg : float
        Angles up to this are worth more the wider they are; beyond, less.
    quality : (n,), optional
        What a photo is worth besides: 1, and less for soft ones.

    Returns
    -------
    list of lists of int
        For each photo, at most `count` photos, best first.
    """
    n = len(poses)
    sees = np.zeros((n, len(points)), bool)
    sees[photo, point] = True
    centers = np.array([center(E) if s else np.zeros(3) for E, s in zip(poses, solved, strict=True)])
    out = [[] for _ in range(n)]
    for i in range(n):
        if not solved[i]:
            continue
        value = np.zeros(n)
        for j in range(n):
            if i == j or not solved[j]:
                continue
            both = np.flatnonzero(sees[i] & sees[j])
            if len(both) < 8:
                continue
            a, b = centers[i] - points[both], centers[j] - points[both]
            la, lb = np.linalg.norm(a, axis=1), np.linalg.norm(b, axis=1)
            angle = np.degrees(np.arccos(np.clip((a * b).sum(1) / (la * lb), -1, 1)))
            worth = np.where(
                angle < best_angle_deg,
                (angle / best_angle_deg) ** 1.5,
                np.exp(-(((angle - best_angle_deg) / 20.0) ** 2)),
            )
            size = np.minimum(la, lb) / np.maximum(la, lb)
            value[j] = (worth * size**2).sum() * (1.0 if quality is None else quality[j])
        order = np.argsort(-value, kind="stable")
        out[i] = [int(j) for j in order[:count] if value[j] > 0]
    return out
