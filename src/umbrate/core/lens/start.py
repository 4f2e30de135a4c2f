"""Sightings of printed sheets, and where photos and sheets are before anything is adjusted: from homographies."""

from dataclasses import dataclass, replace

import numpy as np

from ..errors import UmbrateError
from ..geometry.pose import inverse
from .planes import guess_focal, homography, pose_of_plane


@dataclass(frozen=True)
class SheetSightings:
    """What was seen of known things on flat sheets.

    Attributes
    ----------
    photo, point : (k,) int
        Rows of the photos and of `plane`.
    xy : (k, 2)
        Ellipse centers or corners, in pixels.
    sigma : (k,)
        Their standard deviations, in pixels.
    plane : (p, 2)
        Where each point lies on its sheet, mm.
    sheet : (p,) int
        Which sheet it is on.
    radius : (p,)
        Radius of its dot in mm; 0 for a corner.
    """

    photo: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    plane: np.ndarray
    sheet: np.ndarray
    radius: np.ndarray

    def kept(self, keep):
        """Only some of the sightings (k,) bool."""
        return replace(self, photo=self.photo[keep], point=self.point[keep], xy=self.xy[keep], sigma=self.sigma[keep])


def _robust_homography(plane, image):
    """The homography of most points: those far from it are left out, again and again."""
    keep = np.ones(len(plane), bool)
    for _ in range(5):
        H = homography(plane[keep], image[keep])
        q = np.hstack([plane, np.ones((len(plane), 1))]) @ H.T
        off = np.linalg.norm(q[:, :2] / q[:, 2:] - image, axis=1)
        keep = off <= max(4 * np.median(off), np.sort(off)[5])
    return H


def first_guess(s, width, height, photos, focal):
    """First poses (n, 4, 4) and points (p, 3) from homographies, and the focal length."""
    H = {}
    for i in range(photos):
        for g in np.unique(s.sheet):
            rows = np.flatnonzero((s.photo == i) & (s.sheet[s.point] == g))
            if len(rows) >= 6:
                H[i, int(g)] = _robust_homography(s.plane[s.point[rows]], s.xy[rows])
    if not H:
        raise UmbrateError(
            "No photo shows six targets of one sheet or more. Come nearer, or print the sheets again at 100 %."
        )
    if focal is None:
        focal, _ = guess_focal(list(H.values()), width, height)
    cx, cy = (width - 1) / 2, (height - 1) / 2
    to_camera = {k: pose_of_plane(h, focal, cx, cy) for k, h in H.items()}
    count = {k: int(((s.photo == k[0]) & (s.sheet[s.point] == k[1])).sum()) for k in H}
    first = max(np.unique(s.sheet), key=lambda g: sum(n for k, n in count.items() if k[1] == g))
    # from sheet to sheet through photos that show both
    sheet_to_world, poses = {int(first): np.eye(4)}, np.full((photos, 4, 4), np.nan)
    for _ in range(photos + len(np.unique(s.sheet))):
        for i in range(photos):
            known = [g for (j, g) in to_camera if j == i and g in sheet_to_world]
            if known and np.isnan(poses[i, 0, 0]):
                g = max(known, key=lambda g: count[i, g])
                poses[i] = to_camera[i, g] @ inverse(sheet_to_world[g])
        for i, g in to_camera:
            if g not in sheet_to_world and not np.isnan(poses[i, 0, 0]):
                links = [(count[j, h], j) for (j, h) in to_camera if h == g and not np.isnan(poses[j, 0, 0])]
                j = max(links)[1]
                sheet_to_world[g] = inverse(poses[j]) @ to_camera[j, g]
    points = np.full((len(s.plane), 3), np.nan)
    for g, M in sheet_to_world.items():
        rows = s.sheet == g
        flat = np.hstack([s.plane[rows], np.zeros((rows.sum(), 1))])
        points[rows] = flat @ M[:3, :3].T + M[:3, 3]
    return poses, points, focal
