"""Photos from which no object can come: each must end in a sentence, without a crash, and soon.

``python bench/nonsense.py [SET ...]`` makes the sets named, or all, runs them through the ordinary stages up to the
cloud, and prints what was said and how long it took:

fog     blank photos with noise
black   a black cube before black
paper   a sheet of graph paper, photographed from all round
copies  one photo fifty times
noisy   one motif fifty times, without moving anything
mirror  a mirror ball in a room
glass   a glass ball in a room
two     two objects in one folder
"""

import argparse
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import scipy
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

from umbrate.core.errors import UmbrateError  # noqa: E402
from umbrate.core.geometry.pose import look_at  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402
from umbrate.work.now import run_now  # noqa: E402

HEIGHT, WIDTH, FOCAL = 600, 800, 900.0
AWAY = np.array([6.0, 6.0, 7.0])
MOST_S = 60.0


def rays(k, n):
    """Where photo k of n is taken from (3,), and the directions (h, w, 3) of its pixels."""
    turn = 2 * np.pi * k / n
    E = look_at(AWAY * [np.cos(turn), np.sin(turn), 1.0], np.zeros(3))
    v, u = np.mgrid[0:HEIGHT, 0:WIDTH]
    d = np.stack([(u - WIDTH / 2) / FOCAL, (v - HEIGHT / 2) / FOCAL, np.ones(u.shape)], -1) @ E[:3, :3]
    return -E[:3, :3].T @ E[:3, 3], d / np.linalg.norm(d, axis=-1, keepdims=True)


def on_ball(o, d):
    """Where rays meet a ball of radius 2 (h, w, 3), its normals there, and which do."""
    b = d @ o
    inside = b**2 - (o @ o - 4.0)
    p = o + (-b - np.sqrt(np.maximum(inside, 0)))[..., None] * d
    return p, p / 2, inside > 0


def room(d, rng_seed=3):
    """The light of a room from directions (h, w, 3)."""
    rng = np.random.default_rng(rng_seed)
    out = np.full(d.shape[:-1], 120.0)
    for size in (3, 6, 12, 24):
        axes = rng.normal(size=(6, 3)) * size
        out += 60.0 / len(axes) * np.sin(d @ axes.T + rng.uniform(0, 6, 6)).sum(-1)
    return out


def refracted(d, n, ratio):
    """Directions of rays that enter (ratio 1/1.5) or leave (1.5) glass with normals n toward where they come from."""
    cos = -(d * n).sum(-1, keepdims=True)
    return ratio * d + (ratio * cos - np.sqrt(np.maximum(1 - ratio**2 * (1 - cos**2), 0))) * n


def mirror(k, n):
    o, d = rays(k, n)
    _, normal, hit = on_ball(o, d)
    seen = d - 2 * (d * normal).sum(-1, keepdims=True) * normal
    return np.where(hit, 0.9 * room(seen), room(d))


def glass(k, n):
    o, d = rays(k, n)
    p, normal, hit = on_ball(o, d)
    inner = refracted(d, normal, 1 / 1.5)
    q = p - 2 * (p * inner).sum(-1, keepdims=True) * inner
    return np.where(hit, room(refracted(inner, -q / 2, 1.5)), room(d))


def paper(k, n):
    o, d = rays(k, n)
    x, y = (o + (-o[2] / d[..., 2])[..., None] * d)[..., :2].transpose(2, 0, 1)
    line = (np.abs((3 * x) % 1 - 0.5) > 0.44) | (np.abs((3 * y) % 1 - 0.5) > 0.44)
    return np.where(line, 90.0, 240.0)


def still(k, n):
    rng = np.random.default_rng(5)
    out = scipy.ndimage.gaussian_filter(rng.normal(size=(HEIGHT, WIDTH)), 2)
    return 128 + 40 * out / out.std()


#: what a photo shows, how many there are, and the noise on it in gray levels
MADE = {
    "fog": (lambda k, n: np.full((HEIGHT, WIDTH), 180.0), 12, 2.0),
    "black": (lambda k, n: np.full((HEIGHT, WIDTH), 2.0), 12, 1.0),
    "paper": (paper, 12, 2.0),
    "copies": (still, 50, 0.0),
    "noisy": (still, 50, 3.0),
    "mirror": (mirror, 24, 2.0),
    "glass": (glass, 24, 2.0),
}  # fmt: skip


def two(folder):
    """The demo's object beside another one of its photos' size: a bumpy painted ball."""
    for k, file in enumerate(sorted((demo_data() / SITTINGS[0][1]).glob("*.jpg"))[:10]):
        with Image.open(file) as photo:
            photo.convert("RGB").resize((WIDTH, HEIGHT)).save(folder / f"A_{k:03d}.jpg", quality=92)
    rng = np.random.default_rng(8)
    for k in range(10):
        o, d = rays(k, 24)
        p, normal, hit = on_ball(o, d)
        seen = np.where(hit, room(1.5 * p, 9) * (0.6 + 0.4 * np.abs(normal[..., 2])), 200.0)
        save(folder / f"B_{k:03d}.jpg", seen, rng, 2.0)


def save(path, gray, rng, noise):
    """A gray picture (h, w) with noise, as a photo."""
    out = np.repeat(gray[..., None], 3, 2) + noise * rng.normal(size=(HEIGHT, WIDTH, 3))
    Image.fromarray(np.clip(np.round(out), 0, 255).astype(np.uint8)).save(path, quality=92)


def make(name, folder):
    """Fill a folder with a set."""
    if name == "two":
        two(folder)
        return
    show, count, noise = MADE[name]
    rng = np.random.default_rng(1)
    for k in range(count):
        save(folder / f"P_{k:03d}.jpg", show(k, count), rng, noise)


def outcome(name):
    """What was said of a set, as lines, and the seconds it took."""
    said = []
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        folder = Path(scratch) / "photos"
        folder.mkdir()
        make(name, folder)
        start = time.monotonic()
        try:
            sitting, _, _ = take_in(job, "Photos", read_folder(folder))
            said.append(f"{len(job.photos(sitting.id))} photos taken in")
            for stage in ("photos", "masks", "lens", "poses", "cloud"):
                done = run_now(job, sitting, stage)
                if stage == "poses":
                    doubt = f", doubtful: {done.figures.doubt}" if done.figures.doubt else ""
                    said.append(f"{done.figures.solved} of {done.figures.photos} placed{doubt}")
                said += [f"{stage}: {p['text']}" for p in done.problems[:2]]
        except UmbrateError as e:
            said.append(f"{stage}, refused: {e}")
        return said, time.monotonic() - start


def main():
    """Run the sets and print what was said."""
    every = [*MADE, "two"]
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("sets", nargs="*", choices=[*every, []], metavar="SET")
    slow = 0
    for name in parser.parse_args().sets or every:
        said, seconds = outcome(name)
        slow += seconds > MOST_S
        print(f"{name}: {seconds:.0f} s", flush=True)
        for text in said:
            print(f"    {text}", flush=True)
    sys.exit(bool(slow))


if __name__ == "__main__":
    main()
