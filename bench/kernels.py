"""Kernels against plain NumPy, in one run: the ratio is what counts, not this machine's seconds.

``python bench/kernels.py`` prints one line a kernel: seconds of both, and how many times faster it is.
"""

import sys
import time
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]


def best(function, rounds=3):
    """Shortest of some runs, seconds."""
    out = []
    for _ in range(rounds):
        start = time.perf_counter()
        function()
        out.append(time.perf_counter() - start)
    return min(out)


def main():
    """Measure and print."""
    from scipy.ndimage import gaussian_filter

    from umbrate.core.features.match import SAME_PLACE, match, nearest_own, unit_descriptors
    from umbrate.core.imaging.filters import gaussian_blur
    from umbrate.core.raster.camera import eye_round
    from umbrate.core.raster.points import draw_points, paint

    rng = np.random.default_rng(1)
    rows = []

    image = rng.random((1200, 1600)).astype(np.float32)
    gaussian_blur(image, 1.6)
    rows.append(("blur 1600x1200", best(lambda: gaussian_blur(image, 1.6)), best(lambda: gaussian_filter(image, 1.6))))

    a, b = (unit_descriptors(rng.integers(0, 255, (6000, 128)).astype(np.uint8)) for _ in range(2))

    def slow_match():
        S = a @ b.T
        order = np.argpartition(-S, 2, axis=1)[:, :2]
        return order, S.argmax(0)

    match(a, b)
    rows.append(("match 6000 x 6000", best(lambda: match(a, b)), best(slow_match, 1)))

    xy = rng.uniform(0, 1600, (len(a), 2)).astype(np.float32)
    scale = np.full(len(a), 2.0, np.float32)

    def slow_own():
        apart = ((xy[:, None] - xy) ** 2).sum(2) > (SAME_PLACE * scale[:, None]) ** 2
        return np.where(apart, a @ a.T, -1).max(1)

    nearest_own(a[:100], xy[:100], scale[:100])
    rows.append(("nearest own of 6000", best(lambda: nearest_own(a, xy, scale)), best(slow_own, 1)))

    points = rng.normal(size=(1_000_000, 3)).astype(np.float32)
    colors = rng.integers(0, 255, (len(points), 3)).astype(np.uint8)
    eye = eye_round(np.zeros(3), 3.0, (1, -1, 0.5), 1280, 800)

    def draw(count):
        return paint(draw_points(points, eye, 1280, 800, 2, count), colors, (40, 40, 40), 25.0)

    def slow_draw():
        uvz = eye.project(points, 1280, 800)
        u, v = np.round(uvz[:, 0]).astype(int), np.round(uvz[:, 1]).astype(int)
        ok = (u >= 0) & (v >= 0) & (u < 1280) & (v < 800)
        order = np.argsort(-uvz[ok, 2], kind="stable")
        picture = np.zeros((800, 1280, 3), np.uint8)
        picture[v[ok][order], u[ok][order]] = colors[ok][order]

    draw(1000)
    rows.append(("draw 1 M points 1280x800", best(lambda: draw(None)), best(slow_draw, 1)))
    for name, fast, slow in rows:
        print(f"{name:28s} {1000 * fast:8.1f} ms   plain NumPy {1000 * slow:8.1f} ms   {slow / fast:5.1f} times faster")

    many = np.tile(points, (5, 1)) + rng.normal(size=(5_000_000, 3)).astype(np.float32) * 0.01
    tint = np.tile(colors, (5, 1))
    many = many[rng.permutation(len(many))]
    whole = best(lambda: paint(draw_points(many, eye, 1280, 800, 2), tint, (40, 40, 40), 25.0))
    part = next(
        n
        for n in (1_600_000, 800_000, 400_000, 200_000, 100_000)
        if best(lambda n=n: paint(draw_points(many, eye, 1280, 800, 2, n), tint, (40, 40, 40), 25.0)) < 1 / 30
    )
    print(f"scene, 5 M points: all of them in {1000 * whole:.0f} ms; {part:,} fit into a frame of 33 ms while it moves")


if __name__ == "__main__":
    main()
