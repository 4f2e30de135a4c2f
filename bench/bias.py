"""Where dense depth and the fused cloud lie to the true surface, with the sign, on shapes known in closed form.

``python bench/bias.py [plane] [slanted] [spheres] [bowls] [cylinders] [pipes]`` prints those named, or all: seven
photos of a textured shape from within a cone of 13 degrees, true poses, a pixel one unit wide on the surface. Radii are
in pixels. Spheres and cylinders are seen from outside, bowls and pipes are the same from inside. Errors are in pixels,
positive toward the camera: a convex surface that is found too small is negative.
"""

import argparse
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from poses import told  # noqa: E402
from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.dense.depth import View, depth_map  # noqa: E402
from umbrate.core.dense.fuse import Agreement, fuse  # noqa: E402
from umbrate.core.dense.held import maps_of, noise_codes  # noqa: E402
from umbrate.studio.solids import PHOTOS, Solid  # noqa: E402

LIMIT = 0.02  #: pixels: what is to be reached


def places(view, depth):
    """The places (n, 3) of the pixels of a depth map that have one."""
    v, u = np.nonzero(depth > 0)
    f, cx, cy = view.K
    z = depth[v, u].astype(float)
    Y = np.stack([(u - cx) / f * z, (v - cy) / f * z, z], 1)
    return (Y - view.pose[:3, 3]) @ view.pose[:3, :3]


def measure(name, solid):
    """Print what becomes of one shape; whether the cloud's median and its stated precision are within limits."""
    grays, masks, K, poses = solid.photographs()
    views = [View(g, m, K, E) for g, m, E in zip(grays, masks, poses, strict=True)]
    box = KeepBox(np.zeros(3), np.eye(3), np.full(3, solid.reach + 5.0))
    points, others = solid.some_points(), [[j for j in range(PHOTOS) if j != i] for i in range(PHOTOS)]

    def work(i):
        return depth_map(views[i], [views[j] for j in others[i]], box, points, seed=i)

    with ThreadPoolExecutor(2) as pool:
        maps = list(pool.map(work, range(PHOTOS)))
    alone = solid.error(places(views[0], np.where(maps[0].score > 0.6, maps[0].depth, 0)))
    D, N, S = (np.stack([getattr(m, k) for m in maps]) for k in ("depth", "normal", "score"))
    noise = noise_codes(np.stack([m.noise for m in maps]))
    rgb = np.repeat(grays[..., None], 3, 3).astype(np.uint8)
    cloud, _ = fuse(maps_of(D, N, S, rgb, np.tile(K, (PHOTOS, 1)), poses, noise=noise), others, Agreement(3))
    e = solid.error(cloud.points.astype(float))
    t = e / cloud.precision
    middle, spread = np.median(t), np.subtract(*np.percentile(t, (84.13, 15.87))) / 2
    text = f"bias: {name:19s} one map {np.median(alone):+.3f} ({np.median(np.abs(alone)):.3f})"
    text += f"  cloud {np.median(e):+.3f} ({np.median(np.abs(e)):.3f}, 90 % {np.percentile(np.abs(e), 90):.3f})"
    text += f"  over its stated precision {middle:+.2f}, spread {spread:.2f}; {len(e):,} points"
    return told(text, abs(np.median(e)) <= LIMIT and 0.8 <= spread <= 1.25)


RADII = (20, 40, 80, 200)
SHAPES = {
    "plane": {"plane": Solid(), "faint plane": Solid(contrast=8.0)},
    "slanted": {f"plane, seen at {d}°": Solid(lean=d) for d in (45, 60, 70)},
    "spheres": {f"sphere {r}": Solid(r) for r in RADII},
    "bowls": {f"bowl {r}": Solid(r, inside=True) for r in RADII[1:]},
    "cylinders": {f"cylinder {r}": Solid(r, sphere=False) for r in RADII},
    "pipes": {f"pipe {r}": Solid(r, sphere=False, inside=True) for r in RADII[1:]},
}


def main():
    """Measure what is named; the exit code is 0 where every figure is within its limit."""
    parser = argparse.ArgumentParser(description="Signed errors of depth and clouds on known shapes.")
    parser.add_argument("names", nargs="*", choices=[[], *SHAPES])
    names = parser.parse_args().names or list(SHAPES)
    return 0 if all([measure(*x) for n in names for x in SHAPES[n].items()]) else 1


if __name__ == "__main__":
    sys.exit(main())
