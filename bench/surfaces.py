"""Surfaces against truth, and the time and memory they take.

``python bench/surfaces.py [NAME ...] [--job JOB]`` prints those named, or all:

demo    the demo's joined cloud at photo scale 1/2, closed: how near the truth, signed, one piece, volume. `umbrate demo
        --job JOB` made the job; without --job it is made first, which takes minutes
maps    the same from the depth maps, with what photos saw through
patches how far patches of the demo's surface lie off the truth, in pixels: what intervals reckon with
speed   made-up clouds of 1 and 5 million points: seconds, memory
huge    20 million points, memory (not among all: it takes a quarter of an hour)
draw    the scene with a million triangles, at rest and moving
thin    a million triangles to a tenth: seconds, how far off, whether it is whole
values  area, volume and sizes of the demo's surface beside the truth's, with their intervals; and a model laid over it
repeat  200 made-up blocks solved with noise, a lump seen by each: does the interval of the volume hold the true one
preview a first surface of the demo from a cloud at photo scale 1/8: seconds after the cloud
"""

import argparse
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import trimesh

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from poses import told  # noqa: E402
from umbrate.actions import solids  # noqa: E402
from umbrate.actions.delivering import camera_rows  # noqa: E402
from umbrate.actions.measuring import Measurer  # noqa: E402
from umbrate.actions.models import compare_with_model  # noqa: E402
from umbrate.actions.solids import SurfaceMeasurer  # noqa: E402
from umbrate.core.geometry.sightings import directions  # noqa: E402
from umbrate.core.geometry.similarity import scale_of  # noqa: E402
from umbrate.core.measure.solid import area_of, patches  # noqa: E402
from umbrate.core.raster.camera import eye_round  # noqa: E402
from umbrate.core.raster.solid import draw_triangles, paint_quickly, paint_triangles  # noqa: E402
from umbrate.core.surface.build import Wanted, cell_for, make_surface  # noqa: E402
from umbrate.core.surface.coarse import coarse_copy  # noqa: E402
from umbrate.core.surface.crossing import crossing  # noqa: E402
from umbrate.core.surface.distance import signed_distance  # noqa: E402
from umbrate.core.surface.mesh import opposite, pieces, volume  # noqa: E402
from umbrate.core.surface.thin import thinned  # noqa: E402
from umbrate.formats.meshes import read_mesh  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.surfaces import load_surface  # noqa: E402
from umbrate.stages.base import Report  # noqa: E402
from umbrate.stages.executor import LocalExecutor  # noqa: E402
from umbrate.studio.judge import Truth  # noqa: E402
from umbrate.work.demo import demo_data  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

GB = 1024 / 1e9


def bench_demo(job, name="demo", settings=None, volume_limit=0.3):
    """The whole demo's surface against its truth."""
    with Job.open(demo_job(job)) as j:
        (row,) = j.joined_rows()
        j.set_settings(row.id, "surface", settings or {})
        start = time.perf_counter()
        run_now(j, row, "surface", None, Report(LocalExecutor(2)))
        seconds = time.perf_counter() - start
        truth, names = Truth(demo_data()), [s.name for s in j.photo_sittings()]
        solved = {n: {} for n in names}
        for r in camera_rows(j, row)[0]:
            if r["pose"] is not None:
                solved[r["sitting"]][r["name"]] = r["pose"]
        _, M = truth.judge_join(solved)
        mesh, figures = load_surface(j, row), j.result(row.id, "surface").figures
        f = truth.judge_surface(names, mesh, M)
    rim = int((opposite(mesh["faces"], len(mesh["points"])) < 0).sum())
    crossed = int(crossing(mesh["points"], mesh["faces"]).sum())
    print(f"{name}: {figures.triangles:,} triangles in {seconds:.0f} s; {figures.handles} handles cut, "
          f"{figures.dropped} pieces left out, {100 * figures.filled:.1f} % filled")  # fmt: skip
    signed = {
        k.removeprefix("surface_signed_mm"): v for k, v in f.items() if k.startswith("surface_signed") and v is not None
    }
    print(
        f"{name}: signed distance, median, mm:",
        ", ".join(f"{k.strip('_') or 'all'} {v:+.4f}" for k, v in signed.items()),
    )
    rows = (
        ("surface to truth, median, mm", f["surface_mm_median"], 0.025),
        ("truth to surface, median, mm", f["truth_to_surface_mm_median"], 0.03),
        ("signed median, mm, without the sign", abs(signed[""]), 0.006),
        ("the same on convex parts", abs(signed["_convex"]), 0.006),
        ("the same on concave parts", abs(signed["_concave"]), 0.006),
        ("normals off by, median, degrees", f["surface_normals_deg"], 4.0),
        ("of the truth that photos saw, % farther than 0.3 mm", 100 - f["surface_covered_0p3mm_percent"], 0.5),
        ("step between what one sitting shows and what the other does, mm", f["joint_step_mm"], 0.02),
        ("pieces beyond the first", int(pieces(mesh["faces"], len(mesh["points"])).max()), 0),
        ("edges without a second triangle", rim, 0),
        ("triangles that cross another", crossed, 0),
        ("handles more or fewer than the truth has", abs(f["surface_euler"] - f["true_euler"]) // 2, 0),
        ("volume off by, %", abs(f["volume_percent"]), volume_limit),
    )
    return all([told(f"{name}: {row} {value:.4g} (<= {limit:g})", value <= limit) for row, value, limit in rows])


def bench_maps(job):
    """The whole demo's surface from the depth maps."""
    return bench_demo(job, "maps", {"source": "depth"})


def bench_patches(job):
    """How far the demo's surface lies off the truth: all of it, and the means of patches, in pixels of a photo."""
    with Job.open(demo_job(job), writable=False) as j:
        (row,) = j.joined_rows()
        mesh, truth = load_surface(j, row), Truth(demo_data())
        solved = {s.name: {} for s in j.photo_sittings()}
        for r in camera_rows(j, row)[0]:
            if r["pose"] is not None:
                solved[r["sitting"]][r["name"]] = r["pose"]
        _, M = truth.judge_join(solved)
        of = SurfaceMeasurer(j, row)
    pixel = of.common / solids.COMMON_PX * scale_of(M)
    held = np.flatnonzero(~mesh["filled"])
    X = mesh["points"][held] @ M[:3, :3].T + M[:3, 3]
    off = np.clip(signed_distance(X, truth.vertices, truth.faces, 1.0).astype(float), -1, 1)
    rows, own = patches(mesh["points"][held], solids.PATCHES)
    mean = np.bincount(own, off) / np.bincount(own)
    normals, at = of.mesh["normals"][held[rows]].astype(float), 3 * of.patch[held[rows]][:, None] + np.arange(3)
    blocks = of.cov[at[:, :, None], at[:, None]]  # (m, 3, 3)
    stated = np.hypot(np.sqrt(np.einsum("ni,nij,nj->n", normals, blocks, normals)), of.common) * scale_of(M)
    print(f"patches: means of {solids.PATCHES} spread by {mean.std() / pixel:.3f} px, of which {solids.PATCH_PX} are "
          "reckoned with besides the network")  # fmt: skip
    whole = abs(off.mean()) / pixel
    text = f"patches: all of it off by {whole:.3f} px ({solids.COMMON_PX} reckoned with)"
    good = told(text, whole <= 2 * solids.COMMON_PX)
    rms = float(np.sqrt(np.mean((mean / stated) ** 2)))
    return good & told(f"patches: off by {rms:.2f} of what is stated, root mean square (<= 1.3)", rms <= 1.3)


def bumpy(count, seed=0):
    """A cloud of a ball with bumps, and noise of a fifth of its spacing."""
    rng = np.random.default_rng(seed)
    v = rng.normal(size=(count, 3)).astype(np.float32)
    v /= np.linalg.norm(v, axis=1, keepdims=True)
    r = 40 + 2 * np.sin(7 * v[:, 0] + 2) * np.sin(6 * v[:, 1]) * np.sin(8 * v[:, 2] + 1)
    spacing = np.sqrt(4 * np.pi * 40**2 / count)
    points = (r + rng.normal(0, 0.2 * spacing, count))[:, None].astype(np.float32) * v
    return {"points": points, "normals": v}  # normals of the ball: as far off as those of a noisy cloud


def _alone(millions, triangles):
    """A surface in a process of its own: seconds, triangles, bytes at the peak beyond those of the points."""
    places = [str(ROOT / "src"), str(ROOT / "bench")]
    code = f"import sys; sys.path[:0] = {places!r}\nimport umbrate, surfaces\nsurfaces.made({millions}, {triangles})"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    seconds, count, peak = done.stdout.split()[-3:]
    return float(seconds), int(count), float(peak)


def made(millions, triangles):
    """Print the seconds, the triangles and the peak memory in GB of a surface."""
    make_surface(bumpy(20_000), Wanted())
    cloud = bumpy(int(millions * 1e6))
    start = time.perf_counter()
    s = make_surface(cloud, Wanted(cell=cell_for(len(cloud["points"]), triangles)))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * GB
    print(time.perf_counter() - start, len(s.faces), peak)


def bench_speed(_, cases=((1, 1e6, 60, 2.5), (5, 3e6, 300, 2.5))):
    """Seconds and memory for clouds of some million points."""
    good = True
    for millions, triangles, limit, memory in cases:
        seconds, count, peak = _alone(millions, triangles)
        text = f"speed: {millions} million points to {count:,} triangles in {seconds:.0f} s (<= {limit}), "
        good &= told(f"{text}{peak:.2f} GB (<= {memory})", seconds <= limit and peak <= memory)
    return good


def bench_huge(_):
    """20 million points."""
    return bench_speed(None, ((20, 12e6, 1200, 3.0),))


def bench_draw(_):
    """A million triangles at 1280 x 800: all of them, and the copy that is drawn while the view moves."""
    s = make_surface(bumpy(1_200_000), Wanted(cell=cell_for(1_200_000, 1_000_000)))
    mesh, gray = s.arrays(), np.full((len(s.points), 3), 200, np.uint8)
    eye = eye_round(np.zeros(3), 42.0, (0.45, -1, 0.55), 1280, 800)
    points, faces, rows = coarse_copy(s.points, s.faces, 60_000)
    few = {"points": points, "faces": faces, "normals": s.normals[rows]}
    good = True
    for name, m, colors, limit in (("at rest", mesh, gray, 150), ("moving", few, gray[rows], 33)):
        times = []
        for _ in range(8):
            start = time.perf_counter()
            drawn = draw_triangles(m["points"], m["faces"], eye, 1280, 800, outer=True)
            if name == "moving":
                paint_quickly(drawn, m, colors, eye, (43, 43, 43))
            else:
                paint_triangles(drawn, m, colors, eye, (43, 43, 43), (0, 0, 0))
            times.append(1e3 * (time.perf_counter() - start))
        took = min(times[2:])
        good &= told(f"draw: {len(m['faces']):,} triangles {name}: {took:.0f} ms (<= {limit})", took <= limit)
    return good


def bench_thin(_):
    """A million triangles to a tenth."""
    s = make_surface(bumpy(1_200_000), Wanted(cell=cell_for(1_200_000, 1_000_000)))
    spacing = np.sqrt(4 * np.pi * 40**2 / 1_200_000)
    few = make_surface(bumpy(20_000), Wanted())
    thinned(few.points, few.faces, 2000)  # compiled
    start = time.perf_counter()
    made = thinned(s.points, s.faces, 100_000)
    seconds = time.perf_counter() - start
    whole = bool((opposite(made.faces, len(made.points)) >= 0).all()) and not crossing(made.points, made.faces).any()
    text = f"thin: {len(s.faces):,} to {len(made.faces):,} triangles in {seconds:.1f} s (<= 8)"
    good = told(text, seconds <= 8)
    off = made.median / spacing
    good &= told(
        f"thin: off by {off:.3f} spacings in the median (<= 0.1), {made.largest / spacing:.2f} at most", off <= 0.1
    )
    return good & told("thin: closed, no triangles that cross others", whole)


def demo_job(job):
    """The demo's job, made where it is not given."""
    if job is None:
        job = Path(tempfile.mkdtemp()) / "demo.umbrate"
        subprocess.run([sys.executable, "-m", "umbrate", "demo", "--no-window", "--job", str(job)], check=False)
    return job


def bench_values(job):
    """Are the true area and volume within the intervals that are stated?"""
    with Job.open(demo_job(job), writable=False) as j:
        (row,) = j.joined_rows()
        start = time.perf_counter()
        values = {v.name: v for v in SurfaceMeasurer(j, row).all()}
        seconds = time.perf_counter() - start
        mesh = load_surface(j, row)
    file = demo_data() / "truth.ply"
    points, faces = read_mesh(file)
    good = True
    for name, true in (("Area", area_of(points, faces)), ("Volume", volume(points, faces))):
        v = values[name]
        inside = v.value - v.below <= true <= v.value + v.above
        good &= told(f"values: {name} {v.text} in {seconds:.1f} s; {v.note}; true: {true:,.6g}", inside)
    start = time.perf_counter()
    f = compare_with_model(mesh, file, "shape").figures
    seconds = time.perf_counter() - start
    return good & told(
        f"values: to the true shape, laid over by itself in {seconds:.1f} s: median {f['median']:+.4f} mm, without the "
        f"sign {f['median_abs']:.4f} (<= 0.025)", f["median_abs"] <= 0.025
    )  # fmt: skip


def _lump(v):
    """Places (n, 3) of a lump in directions (n, 3), some 40 mm from its middle."""
    r = 40 + 3 * np.sin(3 * v[:, 0] + 2) * np.sin(2 * v[:, 1]) + 2 * np.sin(4 * v[:, 2])
    return r[:, None] * v


def _repetition(seed, points=20_000):
    """One block, solved; its cloud of the lump, with the noise that is reckoned with; the volume, a Value, of that."""
    from measure import K95, LENS, Lengths, _block, fit_known, fit_similarity, look_at, move_pose, seen_point  # noqa: F401

    rng = np.random.default_rng(9000 + seed)
    block, X, kind = _block(rng)
    targets = np.flatnonzero(kind == 1)
    ends, sigma = np.array([targets[:2], targets[2:4]]), np.array([0.02, 0.02])
    length = np.linalg.norm(X[ends[:, 0]] - X[ends[:, 1]], axis=1)
    fitted = fit_known(block, Lengths(ends[:, 0], ends[:, 1], length + rng.normal(0, sigma), sigma))
    b = fitted.block
    of = Measurer.__new__(Measurer)
    of.block, of.network, of.known, of.to_job, of.from_plain = b, fitted.network, None, np.eye(4), np.eye(4)
    of.datum = [seen_point(b, int(p)) for p in ends.ravel()]
    of.lengths = Lengths(np.array([0, 2]), np.array([1, 3]), length, sigma)
    of.frame = SimpleNamespace(unit="mm", matrix=np.eye(4), offset=0.0)
    # the lump's places as the true photos see them, where the solved ones say they are
    v = rng.normal(size=(points, 3))
    v /= np.linalg.norm(v, axis=1, keepdims=True)
    P = _lump(v)
    e = 1e-4
    a = np.cross(v, np.eye(3)[np.abs(v).argmin(1)])
    a /= np.linalg.norm(a, axis=1, keepdims=True)
    c = np.cross(v, a)
    turn = np.cross(_lump((v + e * a) / np.sqrt(1 + e * e)) - P, _lump((v + e * c) / np.sqrt(1 + e * e)) - P)
    N = turn / np.linalg.norm(turn, axis=1, keepdims=True)
    angles = np.linspace(0, 2 * np.pi, len(b.poses), endpoint=False)
    true = [look_at([400 * np.sin(t), -400 * np.cos(t), 120 + 90 * (k % 2)], np.zeros(3)) for k, t in enumerate(angles)]
    eyes = np.array([-E[:3, :3].T @ E[:3, 3] for E in true])
    ray = eyes[None] - P[:, None]
    facing = (ray * N[:, None]).sum(2) / np.linalg.norm(ray, axis=2)
    photo = np.argsort(-facing, axis=1)[:, :5]
    A, y = np.zeros((points, 3, 3)), np.zeros((points, 3))
    for k in range(5):
        rows = photo[:, k]
        E = np.array(true)[rows]
        Y = np.einsum("kij,kj->ki", E[:, :3, :3], P) + E[:, :3, 3]
        d, start = directions(b.poses, b.lenses, b.lens_of, rows, LENS.project(Y[:, :2] / Y[:, 2:]))
        across = np.eye(3) - d[:, :, None] * d[:, None]
        A, y = A + across, y + np.einsum("kij,kj->ki", across, start)
    Q = np.linalg.solve(A, y[:, :, None])[:, :, 0]
    M = fit_similarity(X, b.points)
    R = M[:3, :3] / np.cbrt(np.linalg.det(M[:3, :3]))
    normals = N @ R.T
    # what the surface itself is off by: all of it, its patches, and each point
    rows, own = patches(Q, solids.PATCHES, seed)
    one = [(normals[r], of.seen_at(Q[r], normals[r], 0.0, 1.0).own) for r in rows[::4]]
    pixel = float(np.median([np.sqrt(n @ C @ n) for n, C in one]))  # along the normal, for one that all photos share
    off = rng.normal(0, solids.COMMON_PX) + rng.normal(0, solids.PATCH_PX, len(rows))[own] + rng.normal(0, 0.5, points)
    Q = Q + (off * pixel)[:, None] * normals
    turned = normals + rng.normal(0, 0.03, normals.shape)
    turned /= np.linalg.norm(turned, axis=1, keepdims=True)
    cloud = {"points": Q.astype(np.float32), "normals": turned.astype(np.float32)}
    return SurfaceMeasurer.of_mesh(of, make_surface(cloud, Wanted(cell=1.2)).arrays()).volume()


def bench_repeat(_, count=200):
    """How often the true volume lies in its interval."""
    sphere = trimesh.creation.icosphere(7)
    true = volume(_lump(np.array(sphere.vertices)), np.array(sphere.faces))
    inside, off, half = [], [], []
    for seed in range(count):
        v = _repetition(seed)
        inside.append(v.value - v.below <= true <= v.value + v.above)
        off.append(v.value / true - 1)
        half.append(v.above / true)
    share = 100 * float(np.mean(inside))
    return told(
        f"repeat: {share:.1f} % of {count} volumes hold the true one (92 to 98); they are off by "
        f"{100 * np.mean(off):+.3f} % in the mean, spread {100 * np.std(off):.3f} %, half of the interval "
        f"{100 * np.median(half):.3f} %", 92 <= share <= 98,
    )  # fmt: skip


def bench_preview(job):
    """A first look while still shooting."""
    job = demo_job(job)
    with tempfile.TemporaryDirectory(dir=job.parent) as folder:  # photos are found from where the job lies
        copy = Path(folder).with_suffix(".umbrate")
        shutil.copytree(job, copy)
        with Job.open(copy) as j:
            (row,) = j.joined_rows()
            j.set_settings(row.id, "cloud", {"photo_scale": 8})
            run_now(j, row, "cloud", None, Report(LocalExecutor(2)))
            start = time.perf_counter()
            run_now(j, row, "surface", None, Report(LocalExecutor(2)))
            seconds = time.perf_counter() - start
            count = j.result(row.id, "surface").figures.triangles
        shutil.rmtree(copy)
    return told(f"preview: {count:,} triangles {seconds:.1f} s after the cloud at 1/8 (<= 10)", seconds <= 10)


ALL = {
    "demo": bench_demo, "maps": bench_maps, "patches": bench_patches, "speed": bench_speed, "huge": bench_huge,
    "draw": bench_draw, "thin": bench_thin,
    "values": bench_values, "preview": bench_preview, "repeat": bench_repeat,
}  # fmt: skip


def main():
    """Measure what is named; the exit code is 0 where every figure is within its limit."""
    parser = argparse.ArgumentParser(description="Surfaces against truth.")
    parser.add_argument("names", nargs="*", choices=[[], *ALL])
    parser.add_argument("--job", type=Path, help="a job that umbrate demo made; its surface is made anew")
    args = parser.parse_args()
    names = args.names or [n for n in ALL if n != "huge"]
    return 0 if all([ALL[n](args.job) for n in names]) else 1


if __name__ == "__main__":
    sys.exit(main())
