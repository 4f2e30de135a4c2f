"""Depth from a rectified stereo pair, against its known disparity.

``python bench/stereo.py LEFT RIGHT DISPARITY [--range LOW HIGH] [--occluded MASK]``, or
``python bench/stereo.py`` for a made-up pair of 1.4 MP (within 12 seconds; ``--seed`` makes another).

DISPARITY: of the left picture in pixels, as .npz, .npy or .pfm; not finite or 0 where it is not known. The pair is
computed as a job of two photos is: depth for both, and what the other one does not confirm is left out. Prints how much
of the left picture with a known disparity has depth, and how much of that is wrong by more than one pixel (6 % at 75 %
allowed).
"""

import argparse
import re
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from madepair import made_pair  # noqa: E402
from poses import told  # noqa: E402
from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.dense.depth import View, depth_map  # noqa: E402
from umbrate.core.dense.fuse import Agreement, fuse  # noqa: E402
from umbrate.core.dense.held import maps_of, noise_codes  # noqa: E402
from umbrate.core.dense.pair import BACK_PX, LEAST_COS, inverse_step, pair_tolerance, without_specks  # noqa: E402
from umbrate.core.imaging.sharpness import LUMA  # noqa: E402
from umbrate.stages.dense.settings import DenseSettings as Settings  # noqa: E402

MADE_SECONDS = 12.0  #: that the made-up pair may take on two cores


def read_disparity(path):
    """Disparity (h, w) float, NaN where it is not known."""
    path = Path(path)
    if path.suffix == ".npz":
        d = next(iter(np.load(path).values()))
    elif path.suffix == ".npy":
        d = np.load(path)
    else:
        data = path.read_bytes()
        w, h, scale = re.match(rb"P[fF]\s+(\d+)\s+(\d+)\s+([-\d.]+)\s", data).groups()
        head = re.match(rb"P[fF]\s+\d+\s+\d+\s+[-\d.]+\s", data).end()
        d = np.frombuffer(data[head:], "<f4" if float(scale) < 0 else ">f4").reshape(int(h), int(w), -1)[::-1, :, 0]
    return np.where(np.isfinite(d) & (d > 0), d, np.nan).astype(float)


def pair_views(left, right):
    """Views of a rectified pair: focal length 1 width, baseline 1, both axes through the picture's middle."""
    h, w = left.shape[:2]
    K = np.array([float(w), (w - 1) / 2, (h - 1) / 2])
    poses = np.tile(np.eye(4), (2, 1, 1))
    poses[1, 0, 3] = -1.0
    return [
        View(np.ascontiguousarray(x.astype(np.float32) @ LUMA), np.ones((h, w), bool), K, E)
        for x, E in zip((left, right), poses, strict=True)
    ]


def disparity_of(left, right, low, high, settings):
    """Pixels x y (n, 2) of the left picture that the right confirms, their disparity (n,); all (h, w) before that."""
    views = pair_views(left, right)
    h, w = left.shape[:2]
    f = views[0].K[0]
    near, far = f / high, f / low
    wide = far * max(w, h) / f
    box = KeepBox(np.array([0, 0, (near + far) / 2]), np.eye(3), np.array([wide, wide, (far - near) / 2]))

    def work(k):
        return depth_map(views[k], [views[1 - k]], box, np.zeros((0, 3)), seed=k, rounds=settings.rounds)

    with ThreadPoolExecutor(2) as pool:  # side by side, as in a job
        maps = list(pool.map(work, range(2)))
    D, N, S = (np.stack([getattr(m, n) for m in maps]) for n in ("depth", "normal", "score"))
    K, poses = np.stack([v.K for v in views]), np.stack([v.pose for v in views])
    step = inverse_step(K, poses)
    D = np.stack([without_specks(d, step) for d in D])
    rgb, noise = np.stack([left, right]).astype(np.uint8), noise_codes(np.stack([m.noise for m in maps]))
    tolerance = max(settings.depth_tolerance / 100, pair_tolerance(D, step))
    limits = Agreement(2, settings.min_score, 2.0, tolerance, BACK_PX, LEAST_COS)
    cloud, _ = fuse(maps_of(D, N, S, rgb, K, poses, noise=noise), [[1], []], limits)
    xy = np.round(cloud.points[:, :2] / cloud.points[:, 2:] * f + views[0].K[1:]).astype(int)
    return xy, f / cloud.points[:, 2], np.where(D[0] > 0, f / np.maximum(D[0], 1e-9), np.nan)


def read_pair(args):
    """Left, right (h, w, 3) and disparity (h, w) of the files named, and the parts (h, w) that figures are said of."""
    left, right = (np.asarray(Image.open(p).convert("RGB")) for p in (args.left, args.right))
    truth = read_disparity(args.disparity)
    parts = {"all": np.isfinite(truth)}
    if args.occluded:
        parts["seen by both"] = parts["all"] & (np.asarray(Image.open(args.occluded).convert("L")) > 250)
    return left, right, truth, parts


def main():
    """Measure one pair."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    for name in ("left", "right", "disparity"):
        parser.add_argument(name, nargs="?")
    parser.add_argument("--range", nargs=2, type=float, help="disparities looked among; else those of the truth")
    parser.add_argument("--occluded", help="a picture that is bright where both see the place")
    parser.add_argument("--seed", type=int, default=5, help="of a made-up pair")
    args = parser.parse_args()
    if args.left and not args.disparity:
        parser.error(
            "A pair is measured against its disparity: name that as well, or no file at all for a made-up pair."
        )
    if args.left:
        left, right, truth, parts = read_pair(args)
    else:
        left, right, truth, both = made_pair(seed=args.seed)
        parts = {"all": np.isfinite(truth), "seen by both": both}
        disparity_of(left[:120, :300], right[:120, :300], truth.min(), truth.max(), Settings())  # kernels are made
    low, high = args.range or (np.nanmin(truth) * 0.95, np.nanmax(truth) * 1.05)
    start = time.perf_counter()
    xy, got, raw = disparity_of(left, right, low, high, Settings())
    seconds = time.perf_counter() - start
    good = told(
        f"{left.shape[1]} x {left.shape[0]}, disparity {low:.0f} to {high:.0f} px, {seconds:.1f} s"
        + ("" if args.left else f" (<= {MADE_SECONDS:.0f})"),
        bool(args.left) or seconds <= MADE_SECONDS,
    )
    judged = parts if args.left else {"seen by both"}  # of a made-up pair, much is hidden from the other side
    for name, part in parts.items():
        on = part[xy[:, 1], xy[:, 0]]
        wrong = (np.abs(got - truth[xy[:, 1], xy[:, 0]])[on] > 1).mean()
        density = on.sum() / part.sum()
        has = part & np.isfinite(raw)
        before = (np.abs(raw - truth)[has] > 1).mean()
        good &= told(
            f"{name}: density {100 * density:.1f} % (>= 75), wrong by more than 1 px {100 * wrong:.2f} % (<= 6); "
            f"{100 * before:.1f} % before the check",
            name not in judged or (wrong <= 0.06 and density >= 0.75),
        )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
