"""Where dense depth and the fused cloud lie to the true surface, with the sign, on shapes known in closed form.

``python bench/bias.py [plane] [spheres] [bowls] [cylinders] [pipes]`` prints those named, or all: seven photos of a
textured shape from within a cone of 13 degrees, true poses, a pixel one unit wide on the surface. Radii are in pixels.
Spheres and cylinders are seen from outside, bowls and pipes are the same from inside. Errors are in pixels, positive
toward the camera: a convex surface that is found too small is negative.
"""

import argparse
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from numba import njit, prange

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src")]

from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.dense.depth import View, depth_map  # noqa: E402
from umbrate.core.dense.fuse import Agreement, fuse, maps_of  # noqa: E402
from umbrate.core.geometry.pose import look_at  # noqa: E402
from umbrate.studio.noise import fractal  # noqa: E402

F, SIZE, SAMPLES = 1500.0, 300, 3
CONE_DEG = 13.0
NOISE = 1.0  #: of a gray value of 255
GRAIN = 3.0  #: the texture's coarsest features, in pixels
LIMIT = 0.02  #: pixels: what is to be reached


@njit(cache=True, nogil=True)
def _hit(ox, oy, oz, dx, dy, dz, radius, round_y, far):
    """Where a ray meets a sphere about (0, 0, -radius), or a cylinder along y; far: its inner side. Negative: nowhere.

    The pole (0, 0, 0) is what the cameras look at; from inside, the shape is mirrored to have its pole there as well.
    """
    cz = radius if far else -radius
    oz = oz - cz
    a = dx * dx + dz * dz + (dy * dy if round_y else 0.0)
    b = ox * dx + oz * dz + (oy * dy if round_y else 0.0)
    c = ox * ox + oz * oz + (oy * oy if round_y else 0.0) - radius * radius
    root = b * b - a * c
    if root < 0:
        return -1.0
    return (-b + np.sqrt(root)) / a if far else (-b - np.sqrt(root)) / a


@njit(cache=True, nogil=True, parallel=True)
def _photograph(E, radius, round_y, far, reach, gray, mask):
    h, w = gray.shape
    cx, cy = (w - 1) / 2.0, (h - 1) / 2.0
    o = np.empty(3)
    for k in range(3):
        o[k] = -(E[0, k] * E[0, 3] + E[1, k] * E[1, 3] + E[2, k] * E[2, 3])
    for v in prange(h):
        for u in range(w):
            total, hits = 0.0, 0
            for i in range(SAMPLES):
                for j in range(SAMPLES):
                    x = (u + (i + 0.5) / SAMPLES - 0.5 - cx) / F
                    y = (v + (j + 0.5) / SAMPLES - 0.5 - cy) / F
                    dx = E[0, 0] * x + E[1, 0] * y + E[2, 0]
                    dy = E[0, 1] * x + E[1, 1] * y + E[2, 1]
                    dz = E[0, 2] * x + E[1, 2] * y + E[2, 2]
                    if radius > 0:
                        s = _hit(o[0], o[1], o[2], dx, dy, dz, radius, round_y, far)
                    else:
                        s = -o[2] / dz
                    X, Y, Z = o[0] + s * dx, o[1] + s * dy, o[2] + s * dz
                    if s <= 0 or X * X + Y * Y > reach * reach or abs(Z) > reach:
                        total += 30.0
                        continue
                    hits += 1
                    total += 120.0 + 75.0 * fractal(X / GRAIN, Y / GRAIN, Z / GRAIN, 3, 7)
            gray[v, u] = total / (SAMPLES * SAMPLES)
            mask[v, u] = hits == SAMPLES * SAMPLES


def photographs(radius, round_y, far):
    """Seven Views of a shape: from the front, and from six sides round it."""
    rng, out = np.random.default_rng(3), []
    reach = 0.42 * SIZE if radius <= 0 else min(0.42 * SIZE, (0.7 if far else 0.97) * radius)
    for k in range(7):
        tilt, turn = np.radians(CONE_DEG if k else 0.0), 2 * np.pi * (k - 1) / 6
        eye = F * np.array([np.sin(tilt) * np.cos(turn), np.sin(tilt) * np.sin(turn), np.cos(tilt)])
        E = look_at(eye, np.zeros(3), (0.0, 1.0, 0.0))
        gray, mask = np.empty((SIZE, SIZE), np.float32), np.empty((SIZE, SIZE), np.bool_)
        _photograph(E, float(radius), round_y, far, float(reach), gray, mask)
        gray = np.round(np.clip(gray + rng.normal(0, NOISE, gray.shape), 0, 255)).astype(np.float32)
        out.append(View(gray, mask, np.array([F, (SIZE - 1) / 2, (SIZE - 1) / 2]), E))
    return out, reach


def error(X, radius, round_y, far):
    """Signed distance (n,) of places to the shape, positive toward the cameras."""
    if radius <= 0:
        return X[:, 2]
    Y = X - [0.0, 0.0, radius if far else -radius]
    r = np.linalg.norm(Y if round_y else Y[:, [0, 2]], axis=1) - radius
    return -r if far else r


def places(view, depth):
    """The places (n, 3) of the pixels of a depth map that have one."""
    v, u = np.nonzero(depth > 0)
    f, cx, cy = view.K
    z = depth[v, u].astype(float)
    Y = np.stack([(u - cx) / f * z, (v - cy) / f * z, z], 1)
    return (Y - view.pose[:3, 3]) @ view.pose[:3, :3]


def measure(name, radius=0, round_y=True, far=False):
    """Print what becomes of one shape; returns whether the cloud's median is within the limit."""
    views, reach = photographs(radius, round_y, far)
    box = KeepBox(np.zeros(3), np.eye(3), np.full(3, reach + 5.0))
    rng = np.random.default_rng(1)
    x, y = rng.uniform(-0.6, 0.6, (2, 300)) * reach
    z = np.zeros(300)
    if radius > 0:
        z = np.sqrt(radius**2 - x**2 - (y**2 if round_y else 0)) - radius
        z = -z if far else z
    points = np.stack([x, y, z], 1) + rng.normal(0, 0.3, (300, 3))
    others = [[j for j in range(7) if j != i][:6] for i in range(7)]

    def work(i):
        return depth_map(views[i], [views[j] for j in others[i]], box, points, seed=i)

    with ThreadPoolExecutor(2) as pool:
        maps = list(pool.map(work, range(7)))
    alone = error(places(views[0], np.where(maps[0].score > 0.6, maps[0].depth, 0)), radius, round_y, far)
    D, N, S = (np.stack([getattr(m, k) for m in maps]) for k in ("depth", "normal", "score"))
    rgb = np.stack([np.repeat(v.gray[..., None], 3, 2) for v in views]).astype(np.uint8)
    K, E = np.array([v.K for v in views]), np.array([v.pose for v in views])
    cloud = fuse(maps_of(D, N.astype(np.float32), S, rgb, K, E), others, Agreement(3))
    e = error(cloud.points.astype(float), radius, round_y, far)
    told = f"{name:16s} one map {np.median(alone):+.3f} ({np.median(np.abs(alone)):.3f})"
    told += f"  cloud {np.median(e):+.3f} ({np.median(np.abs(e)):.3f}, 90 % {np.percentile(np.abs(e), 90):.3f})"
    t = e / cloud.precision
    middle, spread = np.median(t), np.subtract(*np.percentile(t, (84.13, 15.87))) / 2
    told += f"  over its stated precision {middle:+.2f}, spread {spread:.2f}; {len(e):,} points"
    good = abs(np.median(e)) <= LIMIT
    print(f"bias: {told}  {'reached' if good else 'MISSED'}", flush=True)
    return good


RADII = (20, 40, 80, 200)
SHAPES = {
    "plane": lambda: [measure("plane")],
    "spheres": lambda: [measure(f"sphere {r}", r) for r in RADII],
    "bowls": lambda: [measure(f"bowl {r}", r, far=True) for r in RADII[1:]],
    "cylinders": lambda: [measure(f"cylinder {r}", r, round_y=False) for r in RADII],
    "pipes": lambda: [measure(f"pipe {r}", r, round_y=False, far=True) for r in RADII[1:]],
}


def main():
    """Measure what is named; the exit code is 0 where every median is within the limit."""
    parser = argparse.ArgumentParser(description="Signed errors of depth and clouds on known shapes.")
    parser.add_argument("names", nargs="*", choices=[[], *SHAPES])
    names = parser.parse_args().names or list(SHAPES)
    return 0 if all([x for n in names for x in SHAPES[n]()]) else 1


if __name__ == "__main__":
    sys.exit(main())
