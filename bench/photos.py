"""Bringing photos in: how fast, how much memory, whether soft ones and bare frames are found.

``python bench/photos.py [add] [import] [many] [sharpness] [bare]`` prints the figures named, or all of them:

add         `umbrate add` of 36 photos of 2 MP with their masks (the demo's), and what each part of a photo takes
import      24 photos of 12 MP (the demo's, enlarged, with noise): read, thumbnails, sharpness, in a worker
many        500 photos of 24 MP: the window's memory while all are scrolled past and some are looked at, and
            how long a step of scrolling takes to draw; needs 3 GB of disk for the time
sharpness   60 simulated photos of the demo's object, six of them blurred by 1.5 to 3 px: are they the lowest?
bare        both sittings of the demo and their plates in one folder: which frames are bare?
"""

import argparse
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from itertools import repeat
from pathlib import Path

import numpy as np
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src")]

from umbrate.core.imaging.decode import read_reduced_image, thumbnail_of  # noqa: E402
from umbrate.core.imaging.sharpness import LONGEST, gray_of, sharpness  # noqa: E402
from umbrate.core.masking.light import small_light  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.stages import BY_NAME  # noqa: E402
from umbrate.studio.scene import turntable_shots, whistle  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402
from umbrate.work.serve import run_stage  # noqa: E402
from umbrate.work.worker import Worker  # noqa: E402

PER_SECOND, ADD_S, MEMORY_GB, FRAME_MS = 6.0, 4.0, 1.5, 33.0
BLUR_PX = (1.5, 1.7, 2.0, 2.3, 2.6, 3.0)


def told(text, good):
    """Print a figure; returns whether it is reached."""
    print(f"{text}  {'reached' if good else 'MISSED'}", flush=True)
    return good


def enlarge(folder, width, height, count, quality):
    """Write `count` photos of that size made from the demo's: enlarged, with noise, shifted, none like another."""
    folder.mkdir(parents=True)
    rng = np.random.default_rng(1)
    noise = rng.normal(0, 2.5, (height, width, 1)).astype(np.int16)
    files = sorted((ROOT / "demo" / "upright").glob("*.jpg"))

    def write(k, picture, exif):
        image = Image.fromarray(np.roll(picture, (7 * k, 13 * k), axis=(0, 1)))
        image.save(folder / f"IMG_{k:04d}.jpg", quality=quality, exif=exif)

    with ThreadPoolExecutor(2) as pool:
        for j, file in enumerate(files[:count]):
            with Image.open(file) as image:
                large, exif = np.asarray(image.resize((width, height), Image.LANCZOS)), image.getexif()
            picture = np.clip(large + noise, 0, 255).astype(np.uint8)
            list(pool.map(write, range(j, count, len(files)), repeat(picture), repeat(exif)))


def wait_for(worker):
    """The value of what a worker was given."""
    while True:
        for e in worker.poll(0.1):
            if e.kind == "done":
                return e.data["value"]
            if e.kind not in ("progress", "live"):
                raise RuntimeError(e.data["message"])


def bench_import(home):
    """Photos a second, from the files to thumbnails and sharpness."""
    count = 24
    enlarge(home / "in", 4000, 3000, count, 93)
    stage, worker = BY_NAME["photos"], Worker()
    with Job.create(home / "in") as job:
        seconds = []
        for k in range(3):  # the first finds no process and cold files; people bring in more than one folder
            start = time.monotonic()
            worker.submit(read_folder, home / "in", None, None)
            sitting, _, _ = take_in(job, f"try {k}", wait_for(worker))
            worker.submit(run_stage, "photos", stage.gather(job, sitting, stage.Settings()), {})
            out = wait_for(worker)
            job.commit_result(sitting.id, "photos", "", {}, out.figures, out.problems, out.artefacts, 0.0)
            seconds.append(time.monotonic() - start)
        worker.close()
    best, first = count / min(seconds), count / seconds[0]
    text = f"import: {best:.1f} photos of 12 MP a second, {first:.1f} with the worker's start (>= {PER_SECOND:g})"
    return told(text, best >= PER_SECOND)


def bench_add(home):
    """The whole command, and the parts of looking at a photo."""
    folder = home / "add" / "masks"
    folder.mkdir(parents=True)
    files = sorted((ROOT / "demo").glob("[uo]*/*.jpg"))[:36]
    for file in files:
        shutil.copy(file, folder.parent)
        shutil.copy(file.parent / "masks" / f"{file.stem}.png", folder)
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    command = [sys.executable, "-m", "umbrate"]
    seconds = []
    for k in range(3):
        subprocess.run([*command, "new", home / f"a{k}"], env=environment, check=True, stdout=subprocess.DEVNULL)
        start = time.monotonic()
        given = [home / f"a{k}.umbrate", folder.parent, "--sitting", "A", "--masks", folder]
        subprocess.run([*command, "add", *given], env=environment, stdout=subprocess.DEVNULL)
        seconds.append(time.monotonic() - start)
    file = files[0]
    image = read_reduced_image(file, LONGEST)[0]
    gray = gray_of(image)
    parts = {
        "hashing": lambda: hashlib.sha256(file.read_bytes()).hexdigest(),
        "decoding": lambda: read_reduced_image(file, LONGEST),
        "thumbnail": lambda: thumbnail_of(image, 1),
        "gray": lambda: gray_of(image),
        "sharpness": lambda: sharpness(gray),
        "small light": lambda: small_light(image),
    }  # fmt: skip
    for name, part in parts.items():
        part()
        took = []
        for _ in range(9):
            start = time.perf_counter()
            part()
            took.append(time.perf_counter() - start)
        print(f"add: {name} of a photo of 2 MP {1e3 * min(took):.1f} ms")
    text = f"add: {len(files)} photos of 2 MP with masks in {min(seconds):.1f} s (<= {ADD_S:g})"
    return told(text, min(seconds) <= ADD_S)


def bench_many(home):
    """Memory of the window's process and time to draw a step of scrolling, with 500 photos."""
    count = 500
    enlarge(home / "many", 6000, 4000, count, 80)
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    command = [sys.executable, "-m", "umbrate"]
    subprocess.run([*command, "new", home / "job"], env=environment, check=True, stdout=subprocess.DEVNULL)
    start = time.monotonic()
    add = [*command, "add", home / "job", home / "many", "--sitting", "Many"]
    subprocess.run(add, env=environment, stdout=subprocess.DEVNULL)  # it tells of soft ones with its exit code
    with Job.open(home / "job.umbrate", writable=False) as job:
        (sitting,) = job.sittings()
        if job.result(sitting.id, "photos").figures.readable != count:
            return told("many: not all photos came in", False)
    print(f"many: {count} photos of 24 MP brought in in {time.monotonic() - start:.0f} s", flush=True)
    if not environment.get("DISPLAY"):
        environment["QT_QPA_PLATFORM"] = "offscreen"
    look = [sys.executable, __file__, "--look", home / "job.umbrate"]
    answer = subprocess.run(look, env=environment, check=True, capture_output=True, text=True).stdout.split()
    memory, median, worst = map(float, answer[-3:])
    good = told(f"many: {memory:.2f} GB in the window's process (< {MEMORY_GB:g})", memory < MEMORY_GB)
    text = f"many: a step of scrolling is drawn in {median:.0f} ms, the slowest in {worst:.0f} ms (<= {FRAME_MS:g})"
    return told(text, worst <= FRAME_MS) and good


def look(job):
    """Open the window on a job, scroll, look at photos; prints peak memory and times (in a process of its own)."""
    from PyQt6.QtWidgets import QApplication

    from umbrate.desk import appearance
    from umbrate.desk.window import Window

    app = QApplication(["umbrate"])
    app.setStyle("Fusion")
    appearance.put_on(app)
    window = Window()
    window.show()
    window.open_path(job)

    def live(seconds):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            app.processEvents()
            time.sleep(0.005)

    live(2.0)
    listing = window.strip.list
    bar, times = listing.horizontalScrollBar(), []
    for _ in range(2):
        for value in np.linspace(0, bar.maximum(), 400):
            start = time.monotonic()
            bar.setValue(int(value))
            listing.viewport().repaint()
            app.processEvents()
            times.append(time.monotonic() - start)
    for stage in ("photos", "masks"):
        window.session.choose(stage=stage)
        for row in range(0, listing.count(), 25):
            listing.setCurrentRow(row)
            live(1.0)
    peak = next(x for x in Path("/proc/self/status").read_text().splitlines() if x.startswith("VmHWM"))
    print(int(peak.split()[1]) / 1024**2, 1000 * float(np.median(times)), 1000 * max(times))
    sys.stdout.flush()
    window.session.close()
    os._exit(0)


def bench_sharpness(home):
    """Whether six blurred photos among sixty rank lowest."""
    scene, rng = whistle(), np.random.default_rng(60)
    shots = turntable_shots(((22.0, 0.0, False), (48.0, 15.0, True)), 30, 355.0, (0, 0, 33.0), rng)
    rows = rng.choice(60, 6, replace=False)
    for row, blur in zip(rows, BLUR_PX, strict=True):
        shots[row] = replace(shots[row], blur_px=blur)
    sitting = replace(scene.sittings[0], shots=shots, plates=False)
    shoot(replace(scene, sittings=[sitting], truth_step_mm=4.0), home / "sixty")
    with Job.create(home / "sixty") as job:
        sitting, _, _ = take_in(job, "Sixty", read_folder(home / "sixty" / "upright"))
        out = run_now(job, sitting, "photos")
        order = sorted(out.figures.sharpness.items(), key=lambda x: x[1])
        photos = [p.id for p in job.photos(sitting.id)]
    blurred = {photos[k] for k in rows}
    lowest = {int(i) for i, _ in order[:6]}
    least = min(v for i, v in order if int(i) not in blurred)
    most = max(v for i, v in order if int(i) in blurred)
    text = (
        f"sharpness: {len(lowest & blurred)} of the 6 lowest of 60 are the blurred ones, at most {most:.3f}, others at"
    )
    good = told(f"{text} least {least:.3f}", lowest == blurred)
    soft = set(out.figures.soft)
    return told(f"sharpness: pointed out as soft: {len(soft & blurred)} of 6, {len(soft - blurred)} others", good)


def bench_bare(home):
    """Which frames of both demo sittings and their plates, in shooting order, are found to be bare."""
    folder, plates = home / "card", set()
    folder.mkdir()
    for s in ("upright", "on-its-back"):
        for file in (ROOT / "demo" / s).glob("*.jpg"):
            shutil.copy(file, folder)
        for file in (ROOT / "demo" / s / "plates").glob("*.jpg"):
            shutil.copy(file, folder)
            plates.add(file.name)
    with Job.create(home / "card") as job:
        sitting, _, _ = take_in(job, "Card", read_folder(folder))
        out = run_now(job, sitting, "photos")
        names = {p.id: p.name for p in job.photos(sitting.id)}
    found = {names[i] for i in out.figures.bare}
    text = f"bare: {len(found & plates)} of {len(plates)} bare frames among {len(names)} found"
    return told(f"{text}, {len(found - plates)} invented", found == plates)


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    benches = {
        "add": bench_add,
        "import": bench_import,
        "many": bench_many,
        "sharpness": bench_sharpness,
        "bare": bench_bare,
    }
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("which", nargs="*", help=", ".join(benches))
    parser.add_argument("--look", metavar="JOB", help=argparse.SUPPRESS)
    chosen = parser.parse_args()
    if chosen.look:
        look(chosen.look)
    good = True
    for name in chosen.which or benches:
        with tempfile.TemporaryDirectory() as home:
            good &= benches[name](Path(home))
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
