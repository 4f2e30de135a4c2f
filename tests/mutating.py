"""Files of every kind that is read, changed at random: each is read, or refused with a sentence, soon and in bounds.

What is changed: bytes, stretches cut out, doubled or filled, lengths; of texts also their numbers and brackets. Each
try is made from its seed alone.
"""

import io
import json
import os
import random
import re
import resource
import select
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import zlib
from contextlib import closing
from pathlib import Path

import numpy as np
from PIL import Image

import umbrate.core.imaging.decode  # noqa: F401  (knows how to write HEIC)

ROOT = Path(__file__).resolve().parents[1]
LIMIT_S = 5.0
MORE_BYTES = 1 << 30  #: of memory beyond what reading the whole file takes
INTERESTING = (0, 1, 0x7F, 0x80, 0xFF)


def mutated(data, rng):
    """Bytes changed in one to eight ways."""
    data = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 8))):
        if not data:
            break
        at, way = rng.randrange(len(data)), rng.randrange(8)
        long = rng.choice((1, 2, 4, 64, 4096))
        if way == 0:
            data[at] ^= 1 << rng.randrange(8)
        elif way == 1:
            data[at] = rng.choice(INTERESTING)
        elif way == 2:
            data[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\0\0\0\0", b"\0\0\0\1"))
        elif way == 3:
            del data[at : at + long]
        elif way == 4:
            data[at:at] = data[at : at + long]
        elif way == 5:
            data[at : at + long] = rng.randbytes(min(long, len(data) - at))
        elif way == 6:
            del data[at:]
        else:  # most that matters stands at the beginning
            data[rng.randrange(min(len(data), 256))] = rng.randrange(256)
    return bytes(data)


def mutated_text(data, rng):
    """The same, and changes that leave a text a text."""
    if rng.random() < 0.4:
        return mutated(data, rng)
    text = data.decode("utf-8", "replace")
    numbers = list(re.finditer(r"-?\d+\.?\d*", text))
    for _ in range(rng.choice((1, 2, 4))):
        way = rng.randrange(4)
        if way == 0 and numbers:
            m = rng.choice(numbers)
            value = rng.choice(("1e999", "-1e308", "NaN", "0", "-0", "9" * 400, "", "[1]", '"x"', "null", "1e-320"))
            text = text[: m.start()] + value + text[m.end() :]
            numbers = list(re.finditer(r"-?\d+\.?\d*", text))
        elif way == 1 and text:
            at = rng.randrange(len(text))
            text = (
                text[:at]
                + rng.choice(('"', "{", "[", "]", "}", ",", ";", "\n", "\0", "\ud7ff", "=", "<img>"))
                + text[at:]
            )
            numbers = list(re.finditer(r"-?\d+\.?\d*", text))
        elif way == 2 and text:
            at = rng.randrange(len(text))
            text = text[:at] + text[at + rng.randrange(40) :]
            numbers = list(re.finditer(r"-?\d+\.?\d*", text))
        else:
            text = text.replace(*rng.choice((("true", "null"), (":", ","), ("[", "[["), ('"', "'"))), 1)
    return text.encode("utf-8", "replace")


def with_sums(data):
    """A PNG file with the sums of its parts made right, as far as its parts can be told."""
    out, at = bytearray(data), 8
    while at + 12 <= len(out):
        long = int.from_bytes(out[at : at + 4], "big")
        end = at + 8 + long
        if end + 4 > len(out):
            break
        out[end : end + 4] = zlib.crc32(out[at + 4 : end]).to_bytes(4, "big")
        at = end + 4
    return bytes(out)


class Samples:
    """Whole files of every kind, from a job of the pebble and from what is written here."""

    def __init__(self, home, job, photos):
        from tests.test_imaging import write_dng
        from tests.test_outside import card

        self.home, self.job = Path(home), Path(job)
        photo = Image.open(sorted(Path(photos).glob("*.jpg"))[0])
        mask = sorted((Path(photos) / "masks").glob("*.png"))[0]
        self.files = {"mask.png": mask.read_bytes()}
        exif = Image.Exif()
        exif[0x010F], exif[0x0110], exif[0x0112] = "Maker", "Model", 6
        exif.get_ifd(0x8769).update({0x9003: "2026:01:02 03:04:05", 0x920A: 50.0, 0xA405: 75, 0x829A: 0.01})
        for name, more in (
            ("photo.jpg", {"exif": exif}), ("photo.png", {"exif": exif}), ("photo.tif", {"exif": exif}),
            ("deep.tif", {}), ("photo.heic", {"exif": exif.tobytes()}), ("alpha.png", {}),
        ):  # fmt: skip
            out, picture = io.BytesIO(), photo.resize((320, 240))
            if name == "deep.tif":
                picture = Image.fromarray(np.asarray(picture.convert("L")).astype(np.uint16) * 257)
            if name == "alpha.png":
                picture.putalpha(128)
            kind = {"jpg": "JPEG", "png": "PNG", "tif": "TIFF", "heic": "HEIF"}[name.rpartition(".")[2]]
            picture.save(out, kind, **more)
            self.files[name] = out.getvalue()
        write_dng(self.home / "r.dng", 6)
        self.files["photo.dng"] = (self.home / "r.dng").read_bytes()
        self.files["video.mp4"] = _video(self.home / "v.mp4", photo)
        self.files["card.json"] = json.dumps(card().as_dict()).encode()
        self.files["points.csv"] = b"name;x [mm];y [mm];z [mm];sigma\n" + b"".join(
            b"P%d;%f;%f;%f;0.1\n" % (k, k * 1.5, -k, 0.25 * k) for k in range(40)
        )
        self.files["steps.json"] = json.dumps({"umbrate": "cleaning", "steps": [
            {"filter": "share", "percent": 50.0, "seed": 0}, {"filter": "plane", "height": 1.5}]}).encode()  # fmt: skip
        self.files["job.sqlite"] = self._database()

    def _database(self):
        with closing(sqlite3.connect(self.job / "job.sqlite")) as db:
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return (self.job / "job.sqlite").read_bytes()

    def blobs(self):
        """(name of the artefact, key) of the job's data files, one of each kind."""
        with closing(sqlite3.connect(self.job / "job.sqlite")) as db:
            return dict(db.execute("SELECT name, blob FROM artefact GROUP BY name").fetchall())


def _video(path, photo):
    import av

    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=10)
        stream.width, stream.height, stream.pix_fmt = 160, 120, "yuv420p"
        for k in range(12):
            small = photo.resize((170, 130)).crop((k % 8, k % 6, 160 + k % 8, 120 + k % 6))
            for packet in stream.encode(av.VideoFrame.from_image(small)):
                out.mux(packet)
        for packet in stream.encode():
            out.mux(packet)
    return path.read_bytes()


# ---------------------------------------------------------------------- what reads them
def _photo(path):
    from umbrate.core.imaging import decode

    facts = decode.read_facts(path)
    decode.read_thumbnail(path)
    assert decode.read_picture(path).shape == (facts.height, facts.width, 3)


def _mask(path):
    from umbrate.core.imaging import decode

    decode.read_kinds(path)
    decode.read_alpha(path)


def _film(path):
    from umbrate.core.imaging.video import choose_frames

    list(choose_frames(path, 0.3))


def _lens_card(path):
    from umbrate.formats.lenscards import read_card

    read_card(path)


def _points(path):
    from umbrate.formats.coordinates import read_coordinates

    read_coordinates(path)


def _steps(path):
    from umbrate.actions.cleaning import CLEANING

    CLEANING.read(path)


def _open_job(path):
    """Open a job whose database was changed, look at all of it as the window does, change it, check and mend it."""
    import umbrate.stages  # noqa: F401
    from umbrate.core.errors import UmbrateError
    from umbrate.job.checking import check_job
    from umbrate.job.store import Job
    from umbrate.work.state import board

    try:
        with Job.open(path.parent) as job:
            board(job)
            for s in job.sittings():
                job.photos(s.id), job.marked_points(s.id), job.lengths(s.id), job.measurements(s.id), job.clouds(s.id)
                job.surfaces(s.id), job.level(s.id), job.keep_box(s.id), job.sections(s.id), job.picks(s.id)
            job.ledger(), job.desk_state(), job.undo_labels()
            try:
                job.rename_sitting(job.sittings()[0].id, "another") if job.sittings() else None
                job.undo()
            except UmbrateError:
                pass
    finally:
        check_job(path.parent)
        check_job(path.parent, repair=True)
        with Job.open(path.parent) as job:
            board(job)


READERS = {
    "photo.jpg": _photo, "photo.png": _photo, "photo.tif": _photo, "deep.tif": _photo, "photo.heic": _photo,
    "photo.dng": _photo, "alpha.png": _mask, "mask.png": _mask, "video.mp4": _film, "card.json": _lens_card,
    "points.csv": _points, "steps.json": _steps, "job.sqlite": _open_job,
}  # fmt: skip
KINDS = (*READERS, "blob")


def one(samples, home, kind, seed, whole=False):
    """Read one mutated file; whether it was read, rather than refused with a sentence. Raises what is no sentence."""
    from umbrate.core.errors import UmbrateError

    rng = random.Random(f"{kind} {seed}")
    change = mutated_text if kind.endswith((".json", ".csv")) else mutated
    try:
        if kind == "blob":
            _blob(samples, rng, whole)
            return True
        place = home / kind
        if kind == "job.sqlite":
            shutil.rmtree(home / "j.umbrate", ignore_errors=True)
            (home / "j.umbrate" / "blobs").mkdir(parents=True)
            place = home / "j.umbrate" / kind
        data = samples.files[kind] if whole else change(samples.files[kind], rng)
        place.write_bytes(with_sums(data) if kind.endswith(".png") and rng.random() < 0.7 else data)
        READERS[kind](place)
        return True
    except UmbrateError as e:
        assert str(e) and "Traceback" not in str(e)
        return False


def _blob(samples, rng, whole):
    """A data file that was changed and put under its own new name, as somebody would who means ill."""
    from umbrate.core.imaging.decode import stored_image
    from umbrate.job.blobs import BlobStore
    from umbrate.job.contents import PICTURE, kind_of

    name, key = rng.choice(sorted(samples.blobs().items()))
    store, kind = BlobStore(samples.job / "blobs"), kind_of(name)
    data = store.get_bytes(key)
    new = store.put_bytes(data if whole else mutated(data, rng))
    try:
        if kind == PICTURE:
            stored_image(store.get_bytes(new))
        elif kind is not None:
            store.get_arrays(new, kind)
    finally:
        if new != key:
            store.path(new).unlink(missing_ok=True)


def serve(home, job, photos):
    """Read lines (kind, seed) and say of each how it went; in a process of its own with little memory."""
    samples = Samples(home, job, photos)
    for kind in KINDS:  # what is loaded and compiled once is no part of a try; and a sample is one that can be read
        assert one(samples, home, kind, -1, whole=True), kind
    now = int(next(x for x in Path("/proc/self/status").read_text().splitlines() if x.startswith("VmSize")).split()[1])
    resource.setrlimit(resource.RLIMIT_AS, (now * 1024 + MORE_BYTES,) * 2)
    print("ready", flush=True)
    for line in sys.stdin:
        kind, seed = line.split()
        try:
            print("read" if one(samples, home, kind, int(seed)) else "refused", flush=True)
        except BaseException as e:
            print(f"{type(e).__name__}: {str(e)[:150]}".replace("\n", " "), flush=True)


class Reader:
    """A process that reads mutated files; one that hangs or dies is begun anew."""

    def __init__(self, home, job, photos):
        self.home, self.arguments, self.process = home, (str(job), str(photos)), None

    def _begin(self):
        self.home.mkdir(parents=True, exist_ok=True)
        code = "from pathlib import Path; from tests.mutating import serve; "
        code += f"serve(Path({str(self.home)!r}), *{self.arguments!r})"
        env = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
        with open(self.home / "stderr", "ab") as err:
            self.process = subprocess.Popen(
                [sys.executable, "-X", "faulthandler", "-c", code], env=env, stdin=subprocess.PIPE,
                stdout=subprocess.PIPE, stderr=err, text=True,
            )  # fmt: skip
        assert self.process.stdout.readline().strip() == "ready", (self.home / "stderr").read_text()[-2000:]

    def told(self, kind, seed):
        """How reading went: "read" or "refused", or what is wrong."""
        if self.process is None or self.process.poll() is not None:
            self._begin()
        p = self.process
        p.stdin.write(f"{kind} {seed}\n")
        p.stdin.flush()
        ready, _, _ = select.select([p.stdout], [], [], LIMIT_S)
        if not ready:
            p.send_signal(signal.SIGKILL)
            p.wait()
            return f"no answer in {LIMIT_S:.0f} s"
        line = p.stdout.readline().strip()
        if line:
            return line
        p.wait()
        return f"ended by {p.returncode}"

    def close(self):
        """End the process."""
        if self.process is not None:
            self.process.stdin.close()
            self.process.wait(20)
            self.process.stdout.close()


def campaign(home, job, photos, tries, seed, say=print):
    """Tallies by kind of so many tries."""
    from tests.forcing import Tally

    out, reader = {k: Tally() for k in KINDS}, Reader(home / "reader", job, photos)
    for k in range(tries):
        kind = KINDS[k % len(KINDS)]
        start = time.monotonic()
        told = reader.told(kind, seed + k)
        wrong = [] if told in ("read", "refused") else [f"{kind} {seed + k}: {told}"]
        out[kind].add(wrong, refused=told == "refused")
        if wrong:
            say(f"  {wrong[0]} ({time.monotonic() - start:.1f} s)")
    reader.close()
    return out
