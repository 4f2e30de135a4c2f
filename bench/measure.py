"""Scale, marked points and measurements against truth.

``python bench/measure.py [NAME ...]`` prints those named, or all:

demo      the demo scaled by its two bars: check lengths of 40 to 180 mm, the precision of the target network, and
          whether 300 distances on its cloud lie within the intervals stated for them
honest    60 made-up blocks: do 95 % intervals of target-to-target and control-point distances hold the truth
marked    three photos solved from twelve marked points with 0.5 px noise
float     a ring of photos in two parts, links between them withheld, tied by three points marked on two photos a side
speed     adjusting 48 photos after a change, and what dragging a mark costs
"""

import argparse
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "bench")]

from tests.test_grow import LENS, made_up_block  # noqa: E402

from poses import run_to_poses, told  # noqa: E402
from umbrate.actions.measuring import Measurer, plain_spot  # noqa: E402
from umbrate.core.geometry.lens import Lens  # noqa: E402
from umbrate.core.geometry.pose import center, look_at  # noqa: E402
from umbrate.core.geometry.rotation import rotation_angle  # noqa: E402
from umbrate.core.geometry.sightings import PointSightings, locate  # noqa: E402
from umbrate.core.geometry.similarity import fit_similarity, move_pose  # noqa: E402
from umbrate.core.measure.datum import Lengths, after  # noqa: E402
from umbrate.core.measure.fit import fit_known  # noqa: E402
from umbrate.core.measure.network import seen_point  # noqa: E402
from umbrate.core.measure.quantities import K95, propagate, quantity  # noqa: E402
from umbrate.core.poses.block import Block  # noqa: E402
from umbrate.core.poses.fragments import solve  # noqa: E402
from umbrate.core.poses.lensprior import LensPrior  # noqa: E402
from umbrate.core.poses.marked import solve_marked  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.clouds import load_cloud  # noqa: E402
from umbrate.studio.judge import Truth, nearest_on_triangles  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

BARS = (("192", "194"), ("195", "197"))


def run(job, sitting, name):
    """Run one more stage here; its seconds."""
    start = time.monotonic()
    run_now(job, sitting, name)
    return time.monotonic() - start


# ---------------------------------------------------------------------- the demo
def true_centers(truth, sitting):
    """True places of targets by number, in the frame of the object, as a camera sees them.

    A dot on a curved surface is bent with it: what is seen as its center is the middle of the bent disc, not the
    apex that the truth file states.
    """
    s = truth.data["sittings"][sitting]
    M = np.array(s["object_to_table"])
    out = {}
    for t in s["targets"]:
        c = np.array(t["center"])
        if t["frame"] == "object":
            a, b, d = (truth.vertices[truth.faces[:, k]] for k in range(3))
            middle = (a + b + d) / 3
            on = np.linalg.norm(middle - c, axis=1) < t["diameter"] / 2
            if on.sum() >= 8:
                area = np.linalg.norm(np.cross((b - a)[on], (d - a)[on]), axis=1)
                mean = (middle[on] * area[:, None]).sum(0) / area.sum()
                n = np.cross((b - a)[on], (d - a)[on]).sum(0)
                n /= np.linalg.norm(n)
                c = c + ((mean - c) @ n) * n
            out[t["number"]] = c
        else:
            out[t["number"]] = M[:3, :3].T @ (c - M[:3, 3])
    return out


def foot(truth, X, n):
    """Where a place (3,) on a cloud meets the true surface along its normal, and how far that is."""
    d = float(nearest_on_triangles(X[None], truth.vertices, truth.faces)[0])
    both = np.array([X - d * n, X + d * n])
    off = nearest_on_triangles(both, truth.vertices, truth.faces)
    return both[int(np.argmin(off))]


def bench_demo(_):
    """Both sittings."""
    truth, good = Truth(demo_data()), True
    rng = np.random.default_rng(3)
    inside = []
    for name, sub in SITTINGS:
        photos = demo_data() / sub
        with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
            sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
            for a, b in BARS:
                job.add_length(sitting.id, a, b, 100.0, 0.01)
            run_to_poses(job, sitting)
            seconds = run(job, sitting, "scale")
            f = job.result(sitting.id, "scale").figures
            m, true = Measurer(job, sitting), true_centers(truth, name)
            have = [n for n, row in m.block.targets.items() if m.block.photos_of[row] >= 3]
            errors, hits = [], []
            for k, a in enumerate(have):
                for b in have[k + 1 :]:
                    d = float(np.linalg.norm(true[a] - true[b]))
                    if 40 <= d <= 180:
                        v = m.measure("distance", [str(a), str(b)])
                        errors.append((abs(v["value"] - d) / (0.02 + 0.0002 * d), v["value"] - d, d, a, b))
                        hits.append(abs(v["value"] - d) <= v["half95"])
            worst = max(errors)
            middle = np.median([abs(e[1]) for e in errors])
            text = f"demo: {name}: {len(errors)} check lengths of 40 to 180 mm, worst {worst[1]:+.3f} mm of "
            text += f"{worst[2]:.1f} ({worst[3]} to {worst[4]}; <= 0.02 mm + 0.02 %), median {middle:.4f} mm, "
            text += f"{100 * np.mean(hits):.1f} % within their interval"
            good &= told(text, worst[0] <= 1)
            p = f.target_precision
            good &= told(
                f"demo: {name}: network of {f.targets} targets 1:{p:,.0f} (>= 1:20,000), scale in {seconds:.1f} s",
                p >= 2e4,
            )
            run(job, sitting, "cloud")
            inside += _on_cloud(job, sitting, truth, true, rng, 150)
    share = 100 * float(np.mean(inside))
    return (
        told(
            f"demo: {len(inside)} distances on the cloud: {share:.1f} % within their interval (92 to 98)",
            92 <= share <= 98,
        )
        and good
    )


def _on_cloud(job, sitting, truth, true, rng, count):
    """Whether distances between spots on the cloud lie within their intervals."""
    cloud = load_cloud(job, sitting)
    m = Measurer(job, sitting)
    shared = [n for n in m.block.targets if n in true]
    rows = [m.block.targets[n] for n in shared]
    J = m.block.points[rows] @ m.to_job[:3, :3].T + m.to_job[:3, 3]
    T = fit_similarity(J, np.array([true[n] for n in shared]), with_scale=False)
    out, tries = [], 0
    while len(out) < count and tries < 20 * count:
        tries += 1
        ends = [plain_spot(job, sitting, cloud["points"][k]) for k in rng.integers(len(cloud["points"]), size=2)]
        v = m.measure("distance", ends)
        if v["value"] < 10:
            continue
        X = np.array(v["places"]) @ T[:3, :3].T + T[:3, 3]
        normals = []
        for place in v["places"]:
            near = int(np.argmin(((cloud["points"] - np.array(place)) ** 2).sum(1)))
            normals.append(T[:3, :3] @ cloud["normals"][near].astype(float))
        feet = [foot(truth, x, n / np.linalg.norm(n)) for x, n in zip(X, normals, strict=True)]
        out.append(abs(v["value"] - float(np.linalg.norm(feet[0] - feet[1]))) <= v["half95"])
    return out


# ---------------------------------------------------------------------- made-up blocks
def _block(rng, photos=16, ties=220, targets=10, marks=8):
    """A block of key points, targets and marked points with noise, near its solution, and its true points."""
    a = np.linspace(0, 2 * np.pi, photos, endpoint=False)
    poses = np.array(
        [look_at([400 * np.sin(t), -400 * np.cos(t), 120 + 90 * (k % 2)], np.zeros(3)) for k, t in enumerate(a)]
    )
    kind = np.repeat([0, 1, 2], [ties, targets, marks])
    X = rng.uniform(-60, 60, (len(kind), 3))
    sigma_of = np.array([0.4, 0.05, 0.5])
    rows = []
    for p in range(len(X)):
        n = int(rng.integers(4, 8)) if kind[p] == 1 else int(rng.integers(3, 6))
        first = int(rng.integers(photos))
        for i in sorted((first + k) % photos for k in range(n)):
            rows.append((p, i))
    point, photo = np.array(rows).T
    Y = np.einsum("kij,kj->ki", poses[photo, :3, :3], X[point]) + poses[photo, :3, 3]
    sigma = sigma_of[kind[point]]
    xy = LENS.project(Y[:, :2] / Y[:, 2:]) + rng.normal(size=(len(point), 2)) * sigma[:, None]
    start = X / 300 + rng.normal(0, 1e-4, X.shape)  # unscaled, as poses leave it
    small = poses.copy()
    small[:, :3, 3] /= 300
    return Block(
        small, LENS.vector[None], np.zeros(photos), start, photo, np.arange(len(xy)), point, xy,
        np.zeros((len(xy), 2)), sigma, free_lens=(0,), prior=LensPrior.of_sigmas(LENS.vector[None], 20.0),
    ), X, kind  # fmt: skip


def bench_honest(_):
    """300 distances of each kind."""
    hits = {"target to target": [], "control point to control point": []}
    for seed in range(60):
        rng = np.random.default_rng(500 + seed)
        block, X, kind = _block(rng)
        targets, marks = np.flatnonzero(kind == 1), np.flatnonzero(kind == 2)
        ends = np.array([[targets[0], targets[1]], [targets[2], targets[3]]])
        sigma = np.array([0.02, 0.02])
        length = np.linalg.norm(X[ends[:, 0]] - X[ends[:, 1]], axis=1)
        known = Lengths(ends[:, 0], ends[:, 1], length + rng.normal(0, sigma), sigma)
        fitted = fit_known(block, known)
        for name, some in (("target to target", targets[4:]), ("control point to control point", marks)):
            for _ in range(5):
                a, b = rng.choice(some, 2, replace=False)
                rows = [*ends.ravel(), a, b]
                places = [seen_point(fitted.block, int(p)) for p in rows]
                P = np.array([p.xyz for p in places])
                cov = after(
                    fitted.network.joint(places), P, Lengths(np.array([0, 2]), np.array([1, 3]), known.value, sigma)
                )
                value, C = propagate(lambda Y: quantity("distance", Y), P[4:], cov[12:, 12:])
                hits[name].append(abs(value[0] - np.linalg.norm(X[a] - X[b])) <= K95 * np.sqrt(C[0, 0]))
    good = True
    for name, h in hits.items():
        share = 100 * float(np.mean(h))
        good &= told(
            f"honest: {name}: {share:.1f} % of {len(h)} within their 95 % interval (92 to 98)", 92 <= share <= 98
        )
    return good


def bench_marked(_):
    """40 scenes: photos of 24 MP round an object that fills them."""
    turns, lengths = [], []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        lens = Lens.guess(6000, 4000, 6300.0)
        X = rng.uniform(-60, 60, (12, 3)) * [1, 1, 0.6]
        poses = [
            look_at([260 * np.cos(a), 260 * np.sin(a), 130 + 60 * k], np.zeros(3)) for k, a in enumerate((0, 0.8, 1.6))
        ]
        xy = []
        for E in poses:
            Y = X @ E[:3, :3].T + E[:3, 3]
            xy.append(lens.project(Y[:, :2] / Y[:, 2:]) + rng.normal(0, 0.5, (12, 2)))
        b = solve_marked(xy, [np.arange(12)] * 3, [lens.vector], [0, 0, 0], [np.full(12, 0.5)] * 3)
        M = fit_similarity(b.points, X)
        turns.append(
            max(np.degrees(rotation_angle(move_pose(b.poses[i], M)[:3, :3] @ poses[i][:3, :3].T)) for i in range(3))
        )
        D = np.linalg.norm(X[:, None] - X[None], axis=2)
        d = np.linalg.norm(b.points[:, None] - b.points[None], axis=2)
        i, j = np.unravel_index(np.argmax(D), D.shape)
        d = d * D[i, j] / d[i, j]
        some = D > 0.4 * D.max()
        lengths.append(100 * float((np.abs(d - D)[some] / D[some]).max()))
    text = f"marked: orientation {np.median(turns):.3f} degrees in the median, {np.percentile(turns, 95):.3f} in 95 of "
    text += f"100 (<= 0.1), lengths {np.median(lengths):.3f} %, {np.percentile(lengths, 95):.3f} in 95 of 100 (<= 0.3)"
    return told(text, np.percentile(turns, 95) <= 0.1 and np.percentile(lengths, 95) <= 0.3)


def _solve(xy, pairs, marks=None):
    """A ring of photos through a known lens, from pairs and marked places; the Solved of `fragments.solve`."""
    n = len(xy)
    return solve(xy, lambda _: pairs, LENS.vector[None], np.zeros(n, int), [1600] * n, marks=marks, trusted=(0,))


def bench_float(_):
    """Links between two halves of a ring withheld."""
    good = True
    for seed in range(4):
        rng = np.random.default_rng(70 + seed)
        xy, pairs, poses, X, ids = made_up_block(rng, 20, 1200, 0.3, 0.0, False, with_points=True)
        half = [set(range(10)), set(range(10, 20))]
        inner = {p: g for p, g in pairs.items() if any(p[0] in h and p[1] in h for h in half)}
        go = partial(_solve, xy)
        whole = go(pairs).block
        apart = go(inner)
        # three places that two photos of either half see, marked by somebody
        seen = [{int(n): f for f, n in enumerate(i)} for i in ids]
        able = [n for n in range(len(X)) if all(sum(n in seen[k] for k in h) >= 2 for h in half)]
        far = max(
            (rng.choice(able, 3, replace=False) for _ in range(200)),
            key=lambda t: np.linalg.norm(np.cross(X[t[1]] - X[t[0]], X[t[2]] - X[t[0]])),
        )
        marks = {}
        for n in far:
            photos = [k for h in half for k in [k for k in sorted(h) if n in seen[k]][:2]]
            Y = [poses[k][:3, :3] @ X[n] + poses[k][:3, 3] for k in photos]
            at = LENS.project(np.array([y[:2] / y[2] for y in Y])) + rng.normal(0, 0.5, (len(photos), 2))
            marks[int(n)] = PointSightings(np.array(photos), at, np.full(len(photos), 0.5))
        tied = go(inner, marks)
        errors = [np.degrees(rotation_angle(a[:3, :3] @ b[:3, :3].T)) for a, b in _aligned(tied.block, poses)]
        parts = [int(b.solved.sum()) for b in (apart.block, *apart.fragments)]
        text = f"float: {parts} photos apart; tied {int(tied.block.solved.sum())} of 20, residual "
        text += f"{tied.block.rms_px:.3f} px (intact {whole.rms_px:.3f}; <= 1.05 times), "
        text += f"worst turn {max(errors):.3f} degrees"
        good &= told(text, tied.block.solved.all() and not tied.fragments and tied.block.rms_px <= 1.05 * whole.rms_px)
    return good


def _aligned(block, true):
    on = np.flatnonzero(block.solved)
    M = fit_similarity(np.array([center(block.poses[k]) for k in on]), np.array([center(true[k]) for k in on]))
    return [(move_pose(block.poses[k], M), true[k]) for k in on]


def bench_speed(_):
    """48 photos, 6,000 points; and a mark of twelve sightings."""
    rng = np.random.default_rng(9)
    block, X, kind = _block(rng, 48, 6000, 30, 12)
    t = np.flatnonzero(kind == 1)
    known = Lengths(t[[0, 2]], t[[1, 3]], np.linalg.norm(X[t[[0, 2]]] - X[t[[1, 3]]], axis=1), np.array([0.02, 0.02]))
    fit_known(block, known)
    start = time.perf_counter()
    fit_known(block, known)
    seconds = time.perf_counter() - start
    good = told(
        f"speed: adjusting 48 photos, {len(block.point):,} sightings, to two lengths: {seconds:.2f} s (<= 3)",
        seconds <= 3,
    )
    poses, lenses, lens_of = block.poses, block.lenses, block.lens_of
    photos = np.arange(12)
    E = poses[photos]
    Y = E[:, :3, :3] @ np.zeros(3) + E[:, :3, 3]
    seen = PointSightings(photos, LENS.project(Y[:, :2] / Y[:, 2:]) + rng.normal(0, 0.5, (12, 2)), np.full(12, 0.5))
    locate(poses, lenses, lens_of, seen)
    start = time.perf_counter()
    for _ in range(100):
        locate(poses, lenses, lens_of, seen)
    rate = 100 / (time.perf_counter() - start)
    return told(f"speed: residuals of a mark in 12 photos {rate:.0f} times a second (>= 20)", rate >= 20) and good


BENCHES = {k[6:]: v for k, v in list(globals().items()) if k.startswith("bench_")}


def main():
    """Run the benches named, or all; exit code 1 where a figure is missed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", choices=[*BENCHES, []], help="which; all where none is named")
    chosen = parser.parse_args().names or list(BENCHES)
    done = {}
    return 0 if all([BENCHES[n](done) for n in chosen]) else 1


if __name__ == "__main__":
    sys.exit(main())
