"""What the window costs with a large job: 300 photos in 4 sittings.

``python bench/window.py``: a click on a photo, a change of the job, a repaint while nothing changed, opening the job;
each the median of several, in milliseconds, with what it has to reach. The job's results are made up: the window shows
them, and what it costs does not depend on whether they are true.
"""

import argparse
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np  # noqa: E402
from PIL import Image  # noqa: E402

from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.geometry.lens import Lens  # noqa: E402
from umbrate.core.geometry.pose import look_at  # noqa: E402
from umbrate.core.poses.block import TARGET, Block  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.stages.base import settings_of  # noqa: E402
from umbrate.stages.cloud.figures import CloudFigures  # noqa: E402
from umbrate.stages.lens.figures import LensFigures, LensGroup  # noqa: E402
from umbrate.stages.poses.figures import PhotoFigures, PosesFigures  # noqa: E402
from umbrate.stages.scale.figures import ScaleFigures  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402
from umbrate.work.state import current_fingerprint  # noqa: E402

SITTINGS, PHOTOS, POINTS = 4, 75, 12_000
REACH_MS = {"a click on a photo": 30, "a change": 60, "a repaint at rest": 5, "opening": 1500}


def photos(folder, count, rng):
    """Small photos with noise in them, and masks beside them."""
    (folder / "masks").mkdir(parents=True)
    mask = np.zeros((120, 160), np.uint8)
    mask[20:100, 30:130] = 255
    for k in range(count):
        picture = rng.integers(0, 255, (120, 160, 3)).astype(np.uint8)
        Image.fromarray(picture).save(folder / f"P{k:03d}.jpg")
        Image.fromarray(mask).save(folder / "masks" / f"P{k:03d}.png")


def block_of(ids, rng):
    """A Block of a ring of photos about made-up points, every one seen by some of them."""
    n = len(ids)
    angle = np.linspace(0, 2 * np.pi, n, endpoint=False)
    poses = np.array([look_at([np.cos(a), np.sin(a), 0.4], np.zeros(3)) for a in angle])
    points = rng.normal(size=(POINTS, 3)) * 0.1
    seen = np.sort(rng.integers(0, n, (POINTS, 6)), axis=1)
    keep = np.ones_like(seen, bool)
    keep[:, 1:] = seen[:, 1:] != seen[:, :-1]
    point, photo = np.repeat(np.arange(POINTS), 6)[keep.ravel()], seen.ravel()[keep.ravel()]
    k, lens = len(point), Lens.guess(160, 120, 200.0)
    kind = np.zeros(POINTS, np.uint8)
    kind[:6] = TARGET
    return Block(
        poses, lens.vector[None], np.zeros(n), points, photo, rng.integers(0, 999, k), point,
        rng.uniform(0, 120, (k, 2)), rng.normal(size=(k, 2)) * 0.3, np.ones(k), free_lens=(0,), order=tuple(range(n)),
        photo_ids=ids, sizes=np.tile([160, 120], (n, 1)), colors=rng.integers(0, 255, (POINTS, 3)), kind=kind,
        label=np.where(kind == TARGET, 200 + np.arange(POINTS), 0), point_sigma=np.full(POINTS, 1e-4),
        pose_sigma=np.full((n, 2), 1e-4),
    )  # fmt: skip


def commit(job, sitting, name, figures, artefacts):
    """Keep a result that was made up."""
    stage = BY_NAME[name]
    settings = settings_of(job, sitting, stage)
    job.commit_result(
        sitting.id, name, current_fingerprint(job, sitting, stage, settings), settings.model_dump(mode="json"),
        figures, [], artefacts, 1.0, keeps=stage.keeps,
    )  # fmt: skip


def large_job(folder):
    """The folder of a job of 300 photos in 4 sittings, each with poses, scale, level and a cloud."""
    rng = np.random.default_rng(0)
    with Job.create(folder / "large") as job:
        for s in range(SITTINGS):
            source = folder / f"sitting-{s + 1}"
            photos(source, PHOTOS, rng)
            sitting, _, _ = take_in(job, f"Sitting {s + 1}", read_folder(source, source / "masks"))
            for name in ("photos", "masks"):
                run_now(job, sitting, name)
            ids = [p.id for p in job.photos(sitting.id)]
            b = block_of(ids, rng)
            key, lens = job.blobs.put_arrays(**b.arrays()), Lens.from_vector(160, 120, b.lenses[0])
            group = LensGroup(name="A, 50 mm, 160 x 120", photos=ids, size=(160, 120))
            commit(job, sitting, "lens", LensFigures(photos=PHOTOS, source="card", groups=[group], numbers=6), {})
            solved = PosesFigures(
                photos=PHOTOS, solved=PHOTOS, rms_px=0.3, points=POINTS, sightings=len(b.photo), lens=lens.as_dict(),
                keep_box=KeepBox(np.zeros(3), np.eye(3), np.full(3, 0.4)).as_dict(),
                made_from=dict.fromkeys(ids, "x"), residual_histogram=[9] * 30,
                per_photo={i: PhotoFigures(sightings=900, rms_px=0.3, covered=0.7) for i in ids},
            )  # fmt: skip
            n = 6 * PHOTOS + 1
            covariance = job.blobs.put_arrays(
                cameras=1e-8 * np.eye(n), free=np.array([0], np.int64), unit=np.array(1.0)
            )
            commit(job, sitting, "poses", solved, {("block", None): key, ("covariance", None): covariance})
            scaled = ScaleFigures(
                scaled=True, scale_sigma=1e-4, made_of=key, from_plain=np.diag([100.0, 100, 100, 1]).tolist()
            )
            bigger = b.moved(np.diag([100.0, 100, 100, 1]))
            blobs = {("block", None): job.blobs.put_arrays(**bigger.arrays()), ("covariance", None): covariance}
            commit(job, sitting, "scale", scaled, blobs)
            job.set_level(sitting.id, {"up": {"ends": ["200", "201", "202"]}})
            cloud = {
                "points": (b.points[rng.integers(0, POINTS, 200_000)] + rng.normal(size=(200_000, 3)) * 0.003),
                "normals": rng.normal(size=(200_000, 3)), "colors": rng.integers(0, 255, (200_000, 3)),
                "photos": np.full(200_000, 5), "score": np.full(200_000, 200),
            }  # fmt: skip
            kinds = {"points": np.float32, "normals": np.float32, "colors": np.uint8, "photos": np.uint8}
            arrays = {k: v.astype(kinds.get(k, np.float32)) for k, v in cloud.items()}
            done = CloudFigures(points=200_000, photos=PHOTOS, photo_scale=2, photos_histogram=[0, 0, 9, 9])
            commit(job, sitting, "cloud", done, {("cloud", None): job.blobs.put_arrays(**arrays)})
        return job.folder


def median_ms(act, times=9):
    """The median of what `act(k)` takes."""
    out = []
    for k in range(times):
        start = time.perf_counter()
        act(k)
        out.append(time.perf_counter() - start)
    return 1e3 * float(np.median(out))


def measure(folder):
    """Milliseconds of each."""
    from umbrate.desk.__main__ import make_app
    from umbrate.desk.window import Window

    app = make_app(["umbrate"])
    window = Window()
    window.resize(1280, 800)
    window.show()
    app.processEvents()
    s, out = window.session, {}

    def settle():
        for _ in range(40):
            app.processEvents()
            time.sleep(0.005)

    start = time.perf_counter()
    window.open_path(folder)
    app.processEvents()
    out["opening"] = 1e3 * (time.perf_counter() - start)
    settle()
    s.choose(stage="poses")
    settle()
    ids = [p.id for p in s.photos()]

    def click(k):
        s.choose(photo_id=ids[(7 * k + 3) % len(ids)])
        app.processEvents()

    out["a click on a photo"] = median_ms(click)
    settle()

    def change(k):
        s.edits.set_aside({ids[k]})
        app.processEvents()

    out["a change"] = median_ms(change)
    settle()
    out["a repaint at rest"] = median_ms(lambda k: window.scene.repaint())
    window.session.close()
    return out


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--keep", type=Path, help="a folder that the job is made in, and kept for the next time")
    parser.add_argument("--profile", action="store_true", help="print where the time goes")
    arguments = parser.parse_args()
    home = arguments.keep or Path(tempfile.mkdtemp(prefix="umbrate-window-"))
    try:
        job = home / "large.umbrate" if (home / "large.umbrate").exists() else large_job(home)
        copy = Path(tempfile.mkdtemp(prefix="umbrate-window-")) / "large.umbrate"
        shutil.copytree(job, copy)
        os.environ["XDG_STATE_HOME"] = str(copy.parent)
        if arguments.profile:
            import cProfile
            import pstats

            profile = cProfile.Profile()
            found = profile.runcall(measure, copy)
            pstats.Stats(profile).sort_stats("cumulative").print_stats(60)
        else:
            found = measure(copy)
        shutil.rmtree(copy.parent)
    finally:
        if not arguments.keep:
            shutil.rmtree(home)
    good = True
    for name, most in REACH_MS.items():
        good &= found[name] <= most
        word = "reached" if found[name] <= most else "MISSED"
        print(f"window: {SITTINGS * PHOTOS} photos: {name}: {found[name]:.1f} ms (<= {most})  {word}")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
