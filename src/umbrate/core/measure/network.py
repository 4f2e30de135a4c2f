"""How sure places are together: the joint covariance of any points that a block's photos see.

An uncertainty of one point says nothing of a length: what both ends share (a photo that is off by a hair moves both)
cancels, what they do not share adds up. So a length needs the covariance of its ends together. It follows from that of
the photos: each place is where its rays meet, so it moves with its photos by a linear map, and besides that by the
noise of its own sightings. A place need not have taken part in the adjustment: a spot on the dense cloud moves with
the photos that see it just the same.

The covariance of the photos is that in which their own frame is held (the minimum trace over the photos: Meissl 1965).
Lengths, angles and radii do not depend on that choice; see `datum` for what does.
"""

from dataclasses import dataclass, field

import numpy as np

from ..poses.reprojection import SQUARED, Loss, State, derivatives, linearize, observations


@dataclass
class SeenPoint:
    """A point and who sees it.

    Attributes
    ----------
    xyz : (3,) float64
    photo : (k,) int
        Rows of the network's photos.
    xy : (k, 2) float64
        Pixels; what they are does not matter much for a covariance, where they are does.
    sigma : (k,) float64
        Standard deviations of the sightings in pixels.
    own : (3, 3) float64, optional
        Covariance of the place where the photos stand still, in place of what the sightings say. For spots on a
        surface.
    """

    xyz: np.ndarray
    photo: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    own: np.ndarray | None = None


def seen_point(block, row):
    """The SeenPoint of a point of a Block of solved photos (`Block.of_solved`)."""
    some = block.of_point(row)
    return SeenPoint(block.points[row], block.photo[some], block.xy[some], block.sigma[some])


@dataclass
class Network:
    """Solved photos and the covariance of poses and lenses together.

    Attributes
    ----------
    poses : (n, 4, 4), lenses : (m, 10), lens_of : (n,)
    cameras : (6 n + L m, 6 n + L m)
        Covariance for sightings that are as good as stated.
    free : (L,) int
        The lens parameters that were solved.
    unit : float
        Standard deviation of unit weight: what the sightings' own are to be multiplied by.
    """

    poses: np.ndarray
    lenses: np.ndarray
    lens_of: np.ndarray
    cameras: np.ndarray
    free: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    unit: float = 1.0

    def _derivatives(self, points, photo, point, xy, sigma):
        """Weighted residual derivatives of sightings: cameras (k, 2, 6), lenses (k, 2, L), points (k, 2, 3)."""
        out = derivatives(len(photo))
        seen = observations(self.lens_of, photo, point, xy, sigma, len(points))
        linearize(State(self.poses, self.lenses, points), seen, Loss(SQUARED), out)
        return out.by_pose, out.by_lens[:, :, self.free], out.by_point

    def _columns(self, i):
        """Where a photo's pose and its lens stand in `cameras`."""
        L = len(self.free)
        lens = 6 * len(self.poses) + L * self.lens_of[i]
        return slice(6 * i, 6 * i + 6), slice(lens, lens + L)

    def moves(self, places):
        """How places follow the photos, (p, 3, c), and their own covariances (p, 3, 3), not times `unit`."""
        if not places:
            return np.zeros((0, 3, len(self.cameras))), np.zeros((0, 3, 3))
        counts = [len(p.photo) for p in places]
        point = np.repeat(np.arange(len(places)), counts)
        photo = np.concatenate([np.asarray(p.photo, np.int64) for p in places])
        Jc, Jl, Jx = self._derivatives(
            np.array([p.xyz for p in places], float), photo, point, np.concatenate([p.xy for p in places]),
            np.concatenate([p.sigma for p in places]),
        )  # fmt: skip
        D, own, at = np.zeros((len(places), 3, len(self.cameras))), np.zeros((len(places), 3, 3)), 0
        for a, (place, count) in enumerate(zip(places, counts, strict=True)):
            rows = range(at, at + count)
            at += count
            V = sum(Jx[k].T @ Jx[k] for k in rows)
            own[a] = np.linalg.inv(V + 1e-12 * np.trace(V) * np.eye(3))
            for k in rows:
                pose, lens = self._columns(photo[k])
                D[a][:, pose] -= own[a] @ Jx[k].T @ Jc[k]
                D[a][:, lens] -= own[a] @ Jx[k].T @ Jl[k]
            if place.own is not None:
                own[a] = np.asarray(place.own, float) / self.unit**2  # it is given as it is
        return D, own

    def joint(self, places):
        """Covariance (3 p, 3 p) of places together. A place given twice, as the same object, is one place."""
        D, own = self.moves(places)
        flat = D.reshape(3 * len(places), -1)
        out = flat @ self.cameras @ flat.T
        for a in range(len(places)):
            for b in range(len(places)):
                if places[a] is places[b]:
                    out[3 * a : 3 * a + 3, 3 * b : 3 * b + 3] += own[a]
        return out * self.unit**2

    def spot(self, place, photo):
        """Covariance (2, 2) in pixels of where a place must be seen in a photo, without a sighting's own noise."""
        D, own = self.moves([place])
        one = np.array([photo], np.int64)
        Jc, Jl, Jx = self._derivatives(
            np.array([place.xyz], float), one, np.zeros(1, np.int64), np.zeros((1, 2)), np.ones(1)
        )
        J = Jx[0] @ D[0]
        pose, lens = self._columns(photo)
        J[:, pose] += Jc[0]
        J[:, lens] += Jl[0]
        return (J @ self.cameras @ J.T + Jx[0] @ own[0] @ Jx[0].T) * self.unit**2
