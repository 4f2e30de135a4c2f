"""Dense clouds against truth, and the speed of cleaning and writing them.

``python bench/clouds.py [NAME ...]`` prints those named, or all:

demo      both sittings at photo scale 1/2: distance to the true surface, completeness, points that are far off, time
unmasked  one of them without masks: time
again     the same sitting fused anew with another setting: depth maps are used again
kernel    the matching kernel's samples a second beside a bare loop over the same samples
scales    photo scales 1 and 1/8: time, memory, and how near the surface
turn      the scene with 20 million points
open      a job with a cloud of 20 million points: until it is drawn, and the window's memory
clean     every filter on 5 and on 20 million points, the lasso, and writing them as PLY
"""

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from numba import njit

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "bench")]

from measure import run  # noqa: E402
from poses import run_to_poses, told  # noqa: E402
from umbrate.actions.delivering import camera_rows  # noqa: E402
from umbrate.actions.steps import FILTERS, try_step  # noqa: E402
from umbrate.core.cloud import filters  # noqa: E402
from umbrate.core.cloud.clean import isolated  # noqa: E402
from umbrate.core.cloud.coverage import Camera  # noqa: E402
from umbrate.core.cloud.grid import spacing_of  # noqa: E402
from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.dense.patch import ROWS, compare, neighbor_row, support  # noqa: E402
from umbrate.core.geometry.lens import Lens  # noqa: E402
from umbrate.core.geometry.pose import look_at  # noqa: E402
from umbrate.core.lanes import cells  # noqa: E402
from umbrate.formats.clouds import write_cloud  # noqa: E402
from umbrate.job.contents import CLOUD  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.clouds import load_cloud  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import parse_settings  # noqa: E402
from umbrate.studio.judge import Truth  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402

MILLIONS, MANY = 5, 20  #: points that are cleaned


def bench_demo(done):
    """Both sittings with their lens shared, poses fitted, nothing cleaned by hand."""
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        return _both_sittings(job, Truth(demo_data()), done)


def _both_sittings(job, truth, done):
    pixel, good, total = truth.distance / truth.lens.f, True, 0.0
    for name, sub in SITTINGS:
        photos = demo_data() / sub
        sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
        run_to_poses(job, sitting)
        seconds = run(job, sitting, "cloud")
        total += seconds
        rows = [r for r in camera_rows(job)[0] if r["sitting"] == name and r["pose"] is not None]
        _, M = truth.judge_poses(name, {r["name"]: r["pose"] for r in rows})
        f = truth.judge_cloud(name, load_cloud(job, sitting)["points"], M)
        if "again" not in done:
            job.set_settings(sitting.id, "cloud", {"min_photos": 4})
            done["again"] = run(job, sitting, "cloud"), seconds
        text = f"demo: {name}, 1/2: median {f['distance_mm_median'] / pixel:.2f} px (<= 0.6), 90 % within "
        text += (
            f"{f['distance_mm_p90'] / pixel:.2f} px (<= 2), {f['covered_0p5mm_percent']:.1f} % within 0.5 mm (>= 95), "
        )
        text += f"{f['off_2mm_percent']:.4f} % more than 2 mm off (<= 0.2); {f['points']:,} points in {seconds:.0f} s"
        print(f"demo: {name}, 1/2: {signed_text(f)}", flush=True)
        bias = abs(f["signed_mm"]) / (2 * pixel)
        good &= told(f"demo: {name}, 1/2: signed median {bias:.3f} pixel of the photo scale (<= 0.02)", bias <= 0.02)
        good &= told(
            text,
            f["distance_mm_median"] <= 0.6 * pixel
            and f["distance_mm_p90"] <= 2 * pixel
            and f["covered_0p5mm_percent"] >= 95
            and f["off_2mm_percent"] <= 0.2,
        )
    return told(f"demo: 48 photos at 1/2 in {total:.0f} s (<= 35)", total <= 35) and good


def signed_text(f):
    """Signed medians in words: negative where the cloud lies inside the surface."""
    parts = [(k.removeprefix("signed_mm").strip("_").replace("_", " "), v) for k, v in f.items() if "signed" in k]
    told = ", ".join(f"{name or 'all'} {v:+.4f}" for name, v in parts if v is not None)
    return f"signed distance to the true surface, median, mm: {told}"


def bench_unmasked(_):
    """A sitting without masks: depth for what lies inside the keep box, of the whole picture."""
    truth, (name, sub) = Truth(demo_data()), SITTINGS[0]
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        sitting, _, _ = take_in(job, name, read_folder(demo_data() / sub, None))
        run_to_poses(job, sitting)
        seconds = run(job, sitting, "cloud")
        rows, *_ = camera_rows(job)
        _, M = truth.judge_poses(name, {r["name"]: r["pose"] for r in rows if r["pose"] is not None})
        f = truth.judge_cloud(name, load_cloud(job, sitting)["points"], M)
    as_forty = seconds * 40 / len(rows)
    print(f"unmasked: {name}, 1/2: {signed_text(f)}")
    text = f"unmasked: {len(rows)} photos of 1600 x 1200 at 1/2 in {seconds:.0f} s, 40 would take {as_forty:.0f} s "
    text += f"(<= 120); {f['covered_0p5mm_percent']:.1f} % within 0.5 mm"
    return told(text, as_forty <= 120)


def bench_again(done):
    """With depth maps that are there."""
    if "again" not in done:
        bench_demo(done)
    again, first = done["again"]
    return told(f"again: fused anew in {again:.1f} s, of {first:.0f} s the first time", again < 0.3 * first)


def bench_clean(_):
    return all([_clean(MILLIONS, 3, 0.3), _clean(MANY, 8, 0.5)])  # both, whatever the first says


class OnTheBench:
    """What cleaning steps ask of a job, in the cloud's own frame."""

    up, to_job, now, scale = (np.array([0, 0, 1.0]), 0.0), np.eye(4), np.eye(4), 1.0

    def __init__(self, cameras):
        self.cameras = lambda: cameras

    def length(self, value):
        return value

    def spacing(self, cloud):
        return spacing_of(cloud["points"])

    def keep_box(self):
        return KeepBox(np.zeros(3), np.eye(3), np.full(3, 45.0))


def _clean(millions, most_s, hand_s):
    """A lumpy ball with noise."""
    rng = np.random.default_rng(0)
    n = millions * 1_000_000
    d = rng.normal(size=(n, 3)).astype(np.float32)
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    bumps = 1 + 0.3 * np.sin(3 * d[:, :1]) * np.cos(4 * d[:, 1:2])
    P = (d * 50 * bumps + rng.normal(0, 0.01, (n, 3))).astype(np.float32)
    flat = np.column_stack([rng.uniform(-130, 130, (n // 5, 2)), np.full(n // 5, P[:, 2].min())])
    on_table = np.concatenate([P[n // 5 :], flat.astype(np.float32)])
    s = spacing_of(P)
    a = np.linspace(0, 2 * np.pi, 200)
    round_it = np.stack([400 + 150 * np.cos(a), 300 + 120 * np.sin(a)], 1)
    view = np.eye(4)
    view[2, 3] = 250
    stroke = np.stack([400 + 150 * np.cos(a), 300 + 120 * np.sin(a)], 1)[:80]
    y, x = np.mgrid[:1200, :1600]
    mask = (x - 800) ** 2 + (y - 600) ** 2 < 500**2
    cameras = [
        Camera(look_at((250 * np.cos(b), 250 * np.sin(b), 80), (0, 0, 0)), Lens(1600, 1200, 1700.0, 799.5, 599.5), mask)
        for b in np.linspace(0, 2 * np.pi, 49)[:-1]
    ]
    cloud = {
        "points": P, "normals": d, "colors": (d * 100 + 120).astype(np.uint8),
        "photos": rng.integers(2, 9, n).astype(np.uint8), "angle": rng.integers(2, 60, n).astype(np.uint8),
        "score": rng.uniform(0.4, 1, n).astype(np.float32), "precision": rng.uniform(0.01, 0.3, n).astype(np.float32),
    }  # fmt: skip
    drawn = {"view": view.tolist(), "f": 800.0, "middle": (400, 300)}
    more = {
        "lasso": drawn | {"polygon": round_it},
        "brush": drawn | {"strokes": [stroke], "radius": 25, "front": (0, 0, 1, 250)},
        "slab": {"normal": (0, 0, 1), "low": -5.0, "high": 5.0},
        "count": {"count": n // 2}, "thin": {"distance": 1.5 * s}, "doubles": {"apart": 3 * s},
    }  # fmt: skip
    works = {
        f.title: lambda f=f: try_step(
            cloud | ({"points": on_table} if f.name == "support" else {}),
            {"filter": f.name, **more.get(f.name, {})}, OnTheBench(cameras),
        )
        for f in FILTERS
    }  # fmt: skip
    works["stand alone (in Cloud)"] = lambda: isolated(P)
    works["distance to another"] = lambda: filters.distance_to(P, P[::2], 2.5 * s, d[::2])
    good, by_hand = True, {f.title for f in FILTERS if f.name in ("lasso", "brush")}
    for name, work in works.items():
        work()
        start, limit = time.perf_counter(), hand_s if name in by_hand else most_s
        work()
        seconds = time.perf_counter() - start
        good &= told(f"clean: {name}, {millions} million points: {seconds:.2f} s (<= {limit})", seconds <= limit)
    with tempfile.TemporaryDirectory() as folder:
        start = time.perf_counter()
        write_cloud(Path(folder) / "c.ply", cloud, "mm")
        seconds = time.perf_counter() - start
    limit = 0.4 * millions
    text = f"clean: {millions} million written as binary PLY in {seconds:.2f} s (<= {limit:g})"
    return told(text, seconds <= limit) and good


@njit(nogil=True, fastmath=True, error_model="numpy")
def _bare(gray, w, h, dx, dy, rounds):
    """Bilinear samples of the same patches at the same places, and nothing else."""
    total = np.float32(0)
    for r in range(rounds):
        for y in range(8, h - 8):
            for x in range(8, w - 8):
                u0, v0 = np.float32(x) + np.float32(0.3 + 0.01 * r), np.float32(y) + np.float32(0.4)
                for s in range(dx.shape[0]):
                    u, v = u0 + dx[s], v0 + dy[s]
                    iu, iv = np.int32(u), np.int32(v)
                    a, b = u - np.float32(iu), v - np.float32(iv)
                    k = iv * np.int32(w) + iu
                    top = gray[k] + a * (gray[k + 1] - gray[k])
                    low = gray[k + w] + a * (gray[k + w + 1] - gray[k + w])
                    total += top + b * (low - top)
    return total


@njit(nogil=True, fastmath=True, error_model="numpy")
def _matched(row, cells, w, h, made, rounds):
    """The kernel that depth spends its time in, on the same patches."""
    total = np.float32(0)
    patch = made.ctypes.data
    for r in range(rounds):
        for y in range(8, h - 8):
            for x in range(8, w - 8):
                z = 0.3 + 0.01 * r
                total += compare(row.ctypes.data, cells.ctypes.data, w, x, y, z, 0.0, 0.0, patch, np.float32(900.0))
    return total


def bench_kernel(_):
    """Samples a second of the matching kernel beside a bare loop over the same bilinear samples, one thread."""
    w, h, rounds = 800, 600, 3
    gray = np.random.default_rng(0).random((h, w)).astype(np.float32) * 255
    places = support(3.2, 1)
    dx, dy = (np.ascontiguousarray(places[k]) for k in (0, 1))
    n = len(dx)
    read = np.zeros((h, w, 4), np.int16)
    cells(gray, read)
    row = neighbor_row(np.eye(3), np.array([1.0, 0.4 / 0.3, 0.0]), w, h)
    made = np.zeros((ROWS, n), np.float32)
    made[:2], made[2], made[3] = places[:2], 1 / n, 1.0
    flat, best = gray.reshape(-1), [np.inf, np.inf]
    for _ in range(5):  # turn by turn, so that both see the same machine
        for k, work in enumerate(
            (lambda: _bare(flat, w, h, dx, dy, rounds), lambda: _matched(row, read, w, h, made, rounds))
        ):
            start = time.perf_counter()
            work()
            best[k] = min(best[k], time.perf_counter() - start)
    samples = (w - 16) * (h - 16) * n * rounds
    ratio = best[0] / best[1]
    text = f"kernel: {samples / best[1] / 1e6:.0f} M samples a second (>= 300), {100 * ratio:.0f} % of a bare loop's "
    return told(f"{text}{samples / best[0] / 1e6:.0f} M (>= 60 %)", ratio >= 0.6)


def bench_scales(_):
    """Both sittings at photo scales 1 and 1/8: time and memory, and how near the surface."""
    truth, good = Truth(demo_data()), True
    pixel = truth.distance / truth.lens.f
    for scale, limit in ((8, 20), (1, 130)):
        total = 0.0
        for name, sub in SITTINGS:
            photos = demo_data() / sub
            with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
                sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
                run_to_poses(job, sitting)
                job.set_settings(sitting.id, "cloud", {"photo_scale": scale})
                stage = BY_NAME["cloud"]
                estimate = stage.forecast(job, sitting, parse_settings(stage, {"photo_scale": scale})).text
                seconds = run(job, sitting, "cloud")
                total += seconds
                rows, *_ = camera_rows(job)
                _, M = truth.judge_poses(name, {r["name"]: r["pose"] for r in rows if r["pose"] is not None})
                f = truth.judge_cloud(name, load_cloud(job, sitting)["points"], M)
            text = f"scales: {name}, 1/{scale}: median {f['distance_mm_median'] / pixel:.2f} px, 90 % within "
            text += f"{f['distance_mm_p90'] / pixel:.2f} px, {f['covered_0p5mm_percent']:.1f} % within 0.5 mm, "
            text += f"{f['off_2mm_percent']:.4f} % more than 2 mm off; {f['points']:,} points in {seconds:.0f} s"
            told(text, True)
            print(f"scales: {name}, 1/{scale}: {signed_text(f)}")
            print("   ", next(x for x in estimate.splitlines() if x.startswith(f"1/{scale}:")))
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
        good &= told(f"scales: 48 photos at 1/{scale} in {total:.0f} s (<= {limit})", total <= limit)
        good &= told(f"scales: peak memory so far {peak:.2f} GB (<= 2.5)", peak <= 2.5)
    return good


def bench_turn(_):
    """The scene itself, without a screen, with 20 million points."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtWidgets import QApplication

    from umbrate.core.raster.camera import eye_round
    from umbrate.desk.scene.scene import Scene
    from umbrate.desk.session.session import Session

    app = QApplication.instance() or QApplication([])
    rng = np.random.default_rng(0)
    n = 20_000_000
    P = rng.normal(size=(n, 3)).astype(np.float32)
    P *= 50 / np.linalg.norm(P, axis=1, keepdims=True)
    scene = Scene(Session())
    scene.resize(1000, 700)
    scene.drawn.points, scene.drawn.colors, scene.drawn.is_cloud = P, (P + 128).astype(np.uint8), True
    scene.eye = eye_round(np.zeros(3), 55.0, (1, 1, 1), 1000, 700)
    frames = []
    scene.canvas.moving = True
    for _ in range(60):
        start = time.perf_counter()
        scene.eye = scene.eye.turned(0.02, 0.01)
        scene.canvas.draw()
        app.processEvents()
        frames.append(time.perf_counter() - start)
    late = np.array(frames[20:])
    scene.canvas.moving = False
    start = time.perf_counter()
    scene.canvas.draw()
    still = time.perf_counter() - start
    rate = 1 / np.percentile(late, 90)
    drawn = f"{scene.canvas.budget / 1e6:.1f} million drawn"
    text = f"turn: 20 million points turn with {drawn}, 9 of 10 frames at {rate:.0f} "
    text += f"a second or more (>= 20); all of them {still:.2f} s after it stands"
    return told(text, rate >= 20)


def bench_wide(_):
    """The scene at 2000 x 1500, as on a 4K screen: 5 million points and a million triangles while they move."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    import trimesh
    from PyQt6.QtGui import QImage, QPainter
    from PyQt6.QtWidgets import QApplication

    from umbrate.core.raster.camera import eye_round
    from umbrate.core.surface.coarse import coarse_copy
    from umbrate.desk.scene.scene import Scene
    from umbrate.desk.session.session import Session
    from umbrate.desk.session.surfaces import MOVING, Coarse, SurfaceWork

    app = QApplication.instance() or QApplication([])
    rng, good = np.random.default_rng(0), True
    P = rng.normal(size=(5_000_000, 3)).astype(np.float32)
    P *= 50 / np.linalg.norm(P, axis=1, keepdims=True)
    ball = trimesh.creation.icosphere(8, 50.0)  # 1.3 million triangles
    vertices, triangles = np.asarray(ball.vertices, np.float32), np.asarray(ball.faces, np.int32)
    SurfaceWork.is_closed = True  # there is no job that could tell
    scene = Scene(Session())
    scene.resize(2000, 1500)
    target = QImage(2000, 1500, QImage.Format.Format_RGB32)
    for what in ("points", "triangles"):
        d = scene.drawn
        if what == "points":
            d.points, d.colors, d.is_cloud = P, (P + 128).astype(np.uint8), True
            many = f"{len(P) / 1e6:.0f} million points"
        else:
            d.points, d.faces, d.is_cloud, d.is_surface = vertices, triangles, False, True
            d.normals, d.colors = vertices / 50, np.full((len(vertices), 3), 200, np.uint8)
            points, faces, rows = coarse_copy(vertices, triangles, MOVING)
            d.moving, d.moving_colors = Coarse(points, faces, rows, d.normals[rows]), d.colors[rows]
            many = f"{len(triangles):,} triangles"
        scene.eye = eye_round(np.zeros(3), 55.0, (1, 1, 1), 2000, 1500)
        frames, scene.canvas.moving = [], True
        for _ in range(60):
            start = time.perf_counter()
            scene.eye = scene.eye.turned(0.02, 0.01)
            scene.canvas.image = None
            p = QPainter(target)
            scene.canvas.paint(p)
            p.end()
            app.processEvents()
            frames.append(time.perf_counter() - start)
        rate = 1 / np.percentile(frames[20:], 90)
        pixels = scene.canvas.image.width() * scene.canvas.image.height()
        text = f"wide: {many} at 2000 x 1500 move with {pixels / 1e6:.1f} million pixels, 9 of 10 frames at {rate:.0f} "
        good &= told(f"{text}a second or more (>= 30)", rate >= 30)
    return good


def bench_open(_):
    """A job whose cloud has 20 million points, opened in a process of its own, without a screen."""
    from tests.scenes import scratch
    from tests.test_stages import job_with

    folder = scratch() / "many"
    job, sitting = job_with(folder, "photos", "masks", "lens", "poses", "cloud")
    with job:
        done, n = job.result(sitting.id, "cloud"), MANY * 1_000_000
        small = job.blobs.get_arrays(done.blob("cloud"), CLOUD)
        rng = np.random.default_rng(0)
        many = {k: np.repeat(v, -(-n // len(v)), 0)[:n] for k, v in small.items()}
        for first in range(0, n, 1_000_000):
            part = many["points"][first : first + 1_000_000]
            part += rng.normal(0, 1e-3, part.shape).astype(np.float32)
        order = rng.permutation(n)
        many = {k: v[order] for k, v in many.items()}
        figures = done.figures.model_copy(update={"points": n})
        key = job.blobs.put_arrays(**many)
        job.commit_result(
            sitting.id, "cloud", done.fingerprint, done.settings, figures, [], {**done.artefacts, ("cloud", None): key},
            1.0, keeps="cloud",
        )  # fmt: skip
        where = job.folder
    del many, small
    code = OPENING.format(folder=str(where))
    env = os.environ | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=env, check=True)
    seconds, gigabytes = map(float, done.stdout.split()[-2:])
    good = told(
        f"open: {MANY} million points drawn {seconds:.1f} s after their job is opened in a window that stands (<= 2)",
        seconds <= 2,
    )
    return told(f"open: the window's memory {gigabytes:.2f} GB (<= 1)", gigabytes <= 1) and good


#: opens a job and prints when its cloud is drawn, and the memory at rest
OPENING = """
import os
import time
from PyQt6.QtWidgets import QApplication
from umbrate.desk.__main__ import make_app
from umbrate.desk.warmth import Warmth
from umbrate.desk.window import Window
app = make_app([])
window = Window()
window.resize(1280, 800)
window.show()
Warmth(window).begin()  # as the application does; somebody who chooses a job takes as long
until = time.perf_counter() + 3
while time.perf_counter() < until:
    app.processEvents()
    time.sleep(0.01)
start = time.perf_counter()
window.open_path({folder!r})
window.session.choose(stage="cloud")
scene = window.scene
while scene.drawn.points is None or len(scene.drawn.points) < 20_000_000 or not window.session.background.idle:
    app.processEvents()
    if time.perf_counter() - start > 100:
        break
window.repaint()
app.processEvents()
seconds = time.perf_counter() - start
until = time.perf_counter() + 2
while time.perf_counter() < until:
    app.processEvents()
    time.sleep(0.01)
memory = int(open("/proc/self/statm").read().split()[1]) * 4096 / 1e9
print(seconds, memory, flush=True)
os._exit(0)  # at once: what is left of the window is not taken down
"""


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
