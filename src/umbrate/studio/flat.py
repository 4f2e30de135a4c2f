"""Photos of printed sheets that lie on a table: quick to make, exact, for calibration.

Each sub-pixel's ray meets the nearest sheet plane in closed form and reads the sheet's own formula (is this
place dark?), so edges are as sharp as the lens model lets them be. Light falls off to one side and shade lies
over a part, as on a real table.
"""

from dataclasses import replace

import numpy as np
from numba import njit, prange

from ..core.geometry.lens import unproject_one
from ..core.geometry.pose import inverse, look_at, pose
from ..core.geometry.rotation import rotation_matrix
from ..core.targets.circle import center_shift
from ..core.targets.sheets import calibration
from .prints import Printed, level, pack
from .render import develop


@njit(cache=True, nogil=True, parallel=True)
def _render(lens, M, sheets, n, light, out):
    """M (m, 4, 4): from the camera to each sheet, read by element: counting who holds a row would cost the most."""
    m = M.shape[0]
    height, width = out.shape
    for row in prange(height):
        for col in range(width):
            total = 0.0
            for i in range(n):
                for j in range(n):
                    x, y = unproject_one(col + (i + 0.5) / n - 0.5, row + (j + 0.5) / n - 0.5, lens)
                    best, value = 1e30, 0.16  # the table
                    for k in range(m):
                        oz = M[k, 2, 3]
                        dz = M[k, 2, 0] * x + M[k, 2, 1] * y + M[k, 2, 2]
                        s = -oz / dz
                        if s <= 0 or s >= best:
                            continue
                        u = M[k, 0, 3] + s * (M[k, 0, 0] * x + M[k, 0, 1] * y + M[k, 0, 2])
                        v = M[k, 1, 3] + s * (M[k, 1, 0] * x + M[k, 1, 1] * y + M[k, 1, 2])
                        here = level(sheets, k, u, v)
                        if here >= 0:
                            best, value = s, here
                    total += value
            fall = 1.0 + light[0] * (col / width - 0.5) + light[1] * (row / height - 0.5)
            shade = 1.0 / (1.0 + np.exp(-(light[2] * col / width + light[3] * row / height + light[4]) * 30.0))
            out[row, col] = total / (n * n) * fall * (1.0 - light[5] * shade)


def photograph(sheets, lens, world_to_camera, samples=4, light=(0.0, 0.0, 0.0, 0.0, 0.0, 0.0)):
    """The light (h, w) float32 of a photo of sheets on a dark table, noise and blur not yet in it.

    Parameters
    ----------
    sheets : list of Printed
    lens : Lens
    world_to_camera : (4, 4)
    samples : int
        Sub-pixels to each side.
    light : 6 floats
        Fall-off across and down the picture; a, b, c of the line a x + b y + c = 0 (x, y from 0 to 1) beyond which
        shade lies, and how much light that takes away.
    """
    from_camera = np.array([inverse(world_to_camera @ s.to_world) for s in sheets])
    out = np.empty((lens.height, lens.width), np.float32)
    _render(lens.vector, from_camera, pack(sheets), samples, np.asarray(light, float), out)
    return out


def true_pixels(sheet, lens, world_to_camera):
    """Pixels (n, 2) of the centers of a sheet's targets, and whether they lie in the picture (n,)."""
    points = np.array([[m.x, m.y, 0.0, 1.0] for m in sheet.targets]) @ (world_to_camera @ sheet.to_world).T
    uv = lens.project(points[:, :2] / points[:, 2:3])
    inside = (uv >= 0).all(1) & (uv[:, 0] <= lens.width - 1) & (uv[:, 1] <= lens.height - 1) & (points[:, 2] > 0)
    return uv, inside


def calibration_sheets(raised_mm=100.0, paper="A4", bend_mm=0.0):
    """The four calibration sheets, laid out two by two, the fourth raised: a list of Printed.

    bend_mm : float
        Every target is printed off its place by so much, at random: paper is not ideal.
    """
    out, rng = [], np.random.default_rng(5)
    for k in range(4):
        sheet = calibration(paper, k + 1)
        targets = [replace(m, x=m.x + bend_mm * rng.normal(), y=m.y + bend_mm * rng.normal()) for m in sheet.targets]
        M = np.eye(4)
        a = np.radians((3.0, -4.0, 92.0 - 90.0, 1.0)[k])
        M[:2, :2] = [[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]]
        M[:3, 3] = (k % 2) * (sheet.width + 14.0), (k // 2) * (sheet.height + 10.0), -raised_mm if k == 3 else 0.0
        out.append(Printed(targets, sheet.width, sheet.height, M))
    return out


def calibration_poses(count=8, distance_mm=820.0, slant_deg=36.0, seed=0, middle=(215.0, 300.0, -20.0)):
    """World-to-camera poses (count, 4, 4) from four sides, every other one with the camera turned by 90 degrees."""
    rng, out = np.random.default_rng(seed), []
    for k in range(count):
        side = np.pi / 2 * (k % 4) + rng.normal() * 0.12
        slant = np.radians(slant_deg + 5 * rng.normal())
        away = distance_mm * (1 + 0.04 * rng.normal())
        eye = np.array(middle) + away * np.array(
            [np.sin(slant) * np.cos(side), np.sin(slant) * np.sin(side), -np.cos(slant)]
        )
        E = look_at(eye, np.array(middle) + 15 * rng.normal(size=3), up=(0.0, 0.0, -1.0))
        roll = (np.pi / 2 if k >= count // 2 else 0.0) + 0.05 * rng.normal()
        out.append(pose(rotation_matrix(np.array([0.0, 0.0, roll])), np.zeros(3)) @ E)
    return np.array(out)


def develop_gray(light, seed, blur_px=0.6):
    """The light of a photo as an 8-bit gray picture in three channels, with blur and noise."""
    return develop(np.repeat(light[..., None], 3, 2), np.random.default_rng(seed), blur_px)


def sight(sheets, ideal, lens, poses, sigma_px, rng):
    """What a perfect detector sees of sheets, with noise: arrays by name, as `Sightings` of a calibration takes them.

    Parameters
    ----------
    sheets : list of Printed
        As they lie there.
    ideal : list of Printed
        As they were meant to be: what is known of them.
    sigma_px : float
        Standard deviation of the noise on each coordinate.
    """
    rows = []
    count = np.cumsum([0, *(len(s.targets) for s in sheets)])
    for i, E in enumerate(poses):
        for g, s in enumerate(sheets):
            _, inside = true_pixels(s, lens, E)
            M = E @ s.to_world
            centers = np.array([[m.x, m.y, 0.0, 1.0] for m in s.targets]) @ M.T
            radii = np.array([0.5 * m.diameter for m in s.targets])
            off = center_shift(centers[:, :3], np.tile(M[:3, 2], (len(radii), 1)), radii)
            uv = lens.project(centers[:, :2] / centers[:, 2:3] + off)
            rows += [(i, count[g] + k, *uv[k]) for k in np.flatnonzero(inside)]
    rows = np.array(sorted(rows, key=lambda r: (r[1], r[0])))
    targets = [m for s in ideal for m in s.targets]
    return {
        "photo": rows[:, 0].astype(int),
        "point": rows[:, 1].astype(int),
        "xy": rows[:, 2:] + rng.normal(0, sigma_px, (len(rows), 2)),
        "sigma": np.full(len(rows), max(sigma_px, 1e-3)),
        "plane": np.array([[m.x, m.y] for m in targets]),
        "sheet": np.repeat(np.arange(len(ideal)), [len(s.targets) for s in ideal]),
        "radius": np.array([0.5 * m.diameter for m in targets]),
    }
