"""Coded targets as tie points: matches that cannot be mistaken, and readings that are much finer than key points.

Their rows follow those of the key points of each photo.
"""

import numpy as np

from ..geometry.lens import Lens
from ..targets.circle import circle_normals, outlines_of, slant_shifts

LEAST_SIGMA_PX = 0.03  #: paper, print and lens model are not better than this, whatever the reading's own noise says


class TargetSightings:
    """The coded targets of all photos.

    Parameters
    ----------
    counts : list of int
        Key points of each photo.
    numbers : list of (n_i,) int
    dots : list of (n_i, 12)
        See `targets.dots.fit_dots`.
    """

    def __init__(self, counts, numbers, dots):
        self.counts, self.numbers, self.dots = list(counts), list(numbers), list(dots)

    @property
    def xy(self):
        """Ellipse centers (n_i, 2) of each photo."""
        return [d[:, :2] for d in self.dots]

    @property
    def sigma(self):
        """Standard deviations (n_i,) in pixels."""
        return [np.maximum(np.sqrt(0.5 * (d[:, 9] + d[:, 11])), LEAST_SIGMA_PX) for d in self.dots]

    def matches(self, i, j):
        """Rows (k, 2) of the targets that two photos share."""
        _, a, b = np.intersect1d(self.numbers[i], self.numbers[j], return_indices=True)
        return np.stack([self.counts[i] + a, self.counts[j] + b], 1).astype(np.int32)

    def number_of(self, photo, feature):
        """The target's number of each sighting (k,), -1 for key points."""
        out = np.full(len(photo), -1)
        for k, (i, f) in enumerate(zip(photo, feature, strict=True)):
            if self.counts[i] <= f < self.counts[i] + len(self.numbers[i]):
                out[k] = self.numbers[i][f - self.counts[i]]
        return out

    def shifts(self, photo, feature, point, poses, lenses, lens_of):
        """By how much (k, 2) sightings of placed points are shifted because circles were seen at a slant.

        photo, feature, point : (k,) rows; poses (n, 4, 4); lenses (m, 10); lens_of (n,)
        """
        out = np.zeros((len(photo), 2))
        rows = np.flatnonzero(self.number_of(photo, feature) >= 0)
        if not len(rows):
            return out
        dots = np.array([self.dots[i][f - self.counts[i]] for i, f in zip(photo[rows], feature[rows], strict=True)])
        by_photo = [(i, np.flatnonzero(photo[rows] == i)) for i in np.unique(photo[rows])]
        lens = {i: Lens.from_vector(1, 1, lenses[lens_of[i]]) for i, _ in by_photo}
        planes = np.empty((len(rows), 2, 3))
        for i, mine in by_photo:
            planes[mine] = circle_normals(outlines_of(dots[mine], lens[i])[0]) @ poses[i, :3, :3]
        # each photo leaves two planes open, but only the true one is the same in all of them
        normals = np.empty((len(rows), 3))
        for p in np.unique(point[rows]):
            mine = np.flatnonzero(point[rows] == p)
            every = planes[mine].reshape(-1, 3)
            agree = np.einsum("mkj,aj->amk", planes[mine], every).max(2).sum(1)
            normals[mine] = every[int(np.argmax(agree))]
        for i, mine in by_photo:
            out[rows[mine]] = slant_shifts(dots[mine], lens[i], normals[mine] @ poses[i, :3, :3].T)
        return out
