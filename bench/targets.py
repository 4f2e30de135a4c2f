"""Targets and calibration against the truth of the simulated studio.

``python bench/targets.py [centers] [codes] [free] [calibration] [honest] [board] [demo] [speed]`` prints those, or all:

centers      root mean square error of the dots' centers (the circle's) by size and slant, with noise, blur and JPEG
codes        how many targets of 14 px and more are read, and how many wrongly (``--photos N``, 400 unless said)
free         codes found in 200 photos without targets: text, leaves, bricks, gravel
calibration  eight rendered photos of 12 MP: focal length, principal point, distortion
honest       50 repetitions with noise: the spread of the errors against the stated standard deviations
board        13 pictures of 640 x 480 of a 9x6 checkerboard
demo         targets on the mat, the scale bars and the object of the demo photos, against their truth
speed        detection in MP a second on two threads, and the time to solve eight photos with 150 targets
"""

import argparse
import io
import json
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont
from scipy.ndimage import gaussian_filter

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src")]

from umbrate.core.geometry.lens import Lens  # noqa: E402
from umbrate.core.geometry.pose import look_at  # noqa: E402
from umbrate.core.imaging.decode import read_picture  # noqa: E402
from umbrate.core.lens.calibrate import SIGNIFICANT, calibrate  # noqa: E402
from umbrate.core.lens.compare import field_difference  # noqa: E402
from umbrate.core.lens.start import SheetSightings  # noqa: E402
from umbrate.core.targets import sheets as S  # noqa: E402
from umbrate.core.targets.board import find_board  # noqa: E402
from umbrate.core.targets.circle import center_shift  # noqa: E402
from umbrate.core.targets.detect import CODED, find_targets  # noqa: E402
from umbrate.studio.flat import calibration_poses, calibration_sheets, develop_gray, photograph, sight, true_pixels  # noqa: E402
from umbrate.studio.prints import Printed  # noqa: E402

BIG = Lens(4000, 3000, 4600.0, 2010.0, 1490.0, (-0.11, 0.09, -0.01), (0.0005, -0.0004))


def told(text, good):
    """Print a figure; returns whether it is reached."""
    print(f"{text}  {'reached' if good else 'MISSED'}", flush=True)
    return good


def through_jpeg(picture, quality=92):
    """The gray values of a picture after it was a JPEG file."""
    data = io.BytesIO()
    Image.fromarray(picture).save(data, "JPEG", quality=quality)
    return np.asarray(Image.open(data)).astype(np.float32).mean(2)


def one_sheet(dot_px, slant_deg, seed, lens=None, samples=5):
    """A photo of a calibration sheet whose dots are about so many pixels across: gray, sheet, lens, pose."""
    rng = np.random.default_rng(seed)
    lens = lens or Lens(1100, 820, 1500.0, 552.0, 406.0, (-0.08, 0.05, 0.0), (0.0003, -0.0002))
    sheet = S.calibration("A4", 1 + seed % 4)
    printed = Printed(sheet.targets, sheet.width, sheet.height, np.eye(4))
    distance = lens.f * sheet.targets[0].diameter / dot_px
    a, side = np.radians(slant_deg), rng.uniform(0, 2 * np.pi)
    middle = np.array([105.0 + rng.uniform(-30, 30), 140.0 + rng.uniform(-40, 40), 0.0])
    eye = middle + distance * np.array([np.sin(a) * np.cos(side), np.sin(a) * np.sin(side), -np.cos(a)])
    up = (np.cos(rng.uniform(0, 6)), np.sin(rng.uniform(0, 6)), -0.3)
    E = look_at(eye, middle, up=up)
    light = (*rng.uniform(-0.4, 0.4, 2), *rng.normal(size=2), rng.uniform(-0.8, 0), rng.uniform(0, 0.5))
    picture = develop_gray(photograph([printed], lens, E, samples, light), seed, rng.uniform(0.4, 0.9))
    return through_jpeg(picture), sheet, printed, lens, E


def read(dot_px, slant_deg, seed, samples=5):
    """What is read of one such photo: numbers read rightly, wrongly, there in all, and errors of the centers."""
    gray, sheet, printed, lens, E = one_sheet(dot_px, slant_deg, seed, samples=samples)
    uv, inside = true_pixels(printed, lens, E)
    M = E @ printed.to_world
    centers = np.array([[m.x, m.y, 0, 1.0] for m in sheet.targets]) @ M.T
    radii = np.array([0.5 * m.diameter for m in sheet.targets])
    across = 2 * lens.f * radii / centers[:, 2]
    margin = 2.0 * across
    size = np.array([lens.width, lens.height])
    clear = inside & (uv > margin[:, None]).all(1) & (uv < size - 1 - margin[:, None]).all(1)
    off = center_shift(centers[:, :3], np.tile(M[:3, 2], (len(radii), 1)), radii)
    at = centers[:, :2] / centers[:, 2:3]
    shift = lens.project(at + off) - lens.project(at)
    found = find_targets(gray).rows(CODED)
    first = sheet.targets[0].number
    row = found.number - first
    wrong = (row < 0) | (row >= len(sheet.targets))
    good = ~wrong
    # the correction is applied as it is after a solve: with the known slant
    error = found.xy[good] - shift[row[good]] - uv[row[good]]
    wrong = int(wrong.sum() + (np.linalg.norm(error, axis=1) > 3).sum())
    large = clear & (across >= dot_px * 0.8)
    return (
        len(set(np.flatnonzero(large)) & set(row[good])),
        wrong,
        int(large.sum()),
        error[np.linalg.norm(error, axis=1) < 3],
    )


def in_threads(function, items):
    """Values of a function for many items, two at a time."""
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(lambda x: function(*x), items))


def bench_centers(_):
    """Errors of the centers."""
    good = True
    for dot, limit in ((12, 0.06), (20, 0.03), (30, 0.03), (50, 0.03)):
        for slant in (0, 30, 60):
            errors = np.vstack([r[3] for r in in_threads(read, [(dot, slant, k) for k in range(8)])])
            rms = float(np.sqrt((errors**2).mean()))
            good &= told(
                f"centers: {dot} px, {slant:2d} degrees: {rms:.4f} px of {len(errors)} (<= {limit})", rms <= limit
            )
    return good


def bench_codes(arguments):
    """How many are read, and how many wrongly."""
    rng = np.random.default_rng(1)
    # for reading a ring fewer samples a pixel will do
    items = [(float(rng.uniform(16, 40)), float(rng.uniform(0, 60)), k, 2) for k in range(arguments.photos)]
    results = []
    for k in range(0, len(items), 100):
        results += in_threads(read, items[k : k + 100])
        hit, wrong, there = (sum(r[q] for r in results) for q in range(3))
        print(f"codes: after {len(results)} photos {hit} of {there} read, {wrong} wrong", flush=True)
    good = told(
        f"codes: {hit} of {there} targets of 14 px and more read, {100 * hit / there:.2f} % (>= 99)",
        hit >= 0.99 * there,
    )
    return told(f"codes: {wrong} wrong in {len(items)} photos (0)", wrong == 0) and good


def texture(kind, rng, h=1200, w=1600):
    """A photo without targets, (h, w) float32."""
    if kind == "text":
        image = Image.new("L", (w, h), 235)
        draw = ImageDraw.Draw(image)
        for y in range(20, h, 34):
            size = int(rng.integers(14, 34))
            letters = "".join(rng.choice(list("abcdeghmoopqsBDOQR0689@&%.:, "), 120))
            draw.text((20, y), letters, fill=int(rng.integers(10, 90)), font=ImageFont.load_default(size=size))
        out = np.asarray(image).astype(np.float32)
    elif kind == "leaves":
        image = Image.new("L", (w, h), 90)
        draw = ImageDraw.Draw(image)
        for _ in range(2500):
            x, y, a = rng.uniform(0, w), rng.uniform(0, h), rng.uniform(0, 6.3)
            long, wide = rng.uniform(8, 60), rng.uniform(4, 22)
            t = np.linspace(0, 2 * np.pi, 16)
            p = np.stack([long * np.cos(t), wide * np.sin(t)], 1) @ [[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]]
            draw.polygon([(x + q[0], y + q[1]) for q in p], fill=int(rng.integers(20, 230)))
        out = np.asarray(image).astype(np.float32)
    elif kind == "bricks":
        v, u = np.mgrid[0:h, 0:w].astype(np.float32)
        tall, wide = rng.uniform(25, 70), rng.uniform(60, 160)
        row = np.floor(v / tall)
        inside = ((v % tall) > 5) & (((u + (row % 2) * wide / 2) % wide) > 5)
        out = np.where(inside, 110 + 25 * np.sin(12.9 * row + 7.3 * np.floor(u / wide)), 190).astype(np.float32)
        out += 14 * gaussian_filter(rng.normal(size=(h, w)), 1.5) * 3
    else:
        image = Image.new("L", (w, h), 70)
        draw = ImageDraw.Draw(image)
        for _ in range(9000):
            x, y, r = rng.uniform(0, w), rng.uniform(0, h), rng.gamma(3.0, 2.6) + 2
            draw.ellipse((x - r, y - r * rng.uniform(0.6, 1), x + r, y + r), fill=int(rng.integers(20, 235)))
        out = np.asarray(image).astype(np.float32)
    out = gaussian_filter(out, rng.uniform(0.5, 1.5)) + rng.normal(0, 2.5, out.shape)
    return np.clip(out, 0, 255).astype(np.float32)


def bench_free(_):
    """Codes in photos without any."""
    kinds = ("text", "leaves", "bricks", "gravel")

    def look(k):
        return int((find_targets(texture(kinds[k % 4], np.random.default_rng(k))).kind == CODED).sum())

    found = in_threads(look, [(k,) for k in range(200)])
    return told(f"free: {sum(found)} codes in 200 photos without targets (0)", sum(found) == 0)


def seen_sheets(photos, sheets):
    """Sightings of calibration sheets as they are found in photos."""
    ideal = calibration_sheets()[: len(sheets)]
    first = [s.targets[0].number for s in ideal]
    plane = np.array([[m.x, m.y] for s in ideal for m in s.targets])
    rows = []
    for i, t in enumerate(photos):
        coded = t.rows(CODED)
        for number, dot in zip(coded.number, coded.dots, strict=True):
            if first[0] <= number < first[0] + len(plane):
                sigma = max(float(np.sqrt(0.5 * (dot[9] + dot[11]))), 0.005)
                rows.append((number - first[0], i, dot[0], dot[1], sigma))
    rows = np.array(sorted(rows))
    sheet = np.repeat(np.arange(len(ideal)), [len(s.targets) for s in ideal])
    radius = np.array([0.5 * m.diameter for s in ideal for m in s.targets])
    return SheetSightings(
        rows[:, 1].astype(int), rows[:, 0].astype(int), rows[:, 2:4], rows[:, 4], plane, sheet, radius
    )


def bench_calibration(_):
    """Eight rendered photos of 12 MP."""
    sheets, poses = calibration_sheets(bend_mm=0.1), calibration_poses(distance_mm=700.0)
    photos, spent = [], 0.0
    for k, E in enumerate(poses):
        gray = through_jpeg(develop_gray(photograph(sheets, BIG, E, 3, (0.3, -0.2, 1, 0.3, -0.9, 0.4)), k), 95)
        start = time.monotonic()
        photos.append(find_targets(gray))
        spent += time.monotonic() - start
    s = seen_sheets(photos, sheets)
    start = time.monotonic()
    c = calibrate(s, (BIG.width, BIG.height), len(poses))
    seconds = time.monotonic() - start
    print(f"calibration: {len(s.photo)} sightings, rms {c.rms_px:.4f} px, unit {c.unit:.2f}, solved in {seconds:.1f} s")
    f = 100 * abs(c.lens.f / BIG.f - 1)
    pp = float(np.hypot(c.lens.cx - BIG.cx, c.lens.cy - BIG.cy))
    field = float(field_difference(c.lens, BIG).max())
    good = told(f"calibration: focal length {f:.4f} % off (<= 0.02), stated {100 * c.sigma[0] / BIG.f:.4f}", f <= 0.02)
    good &= told(
        f"calibration: principal point {pp:.3f} px off (<= 0.5), stated {np.hypot(*c.sigma[1:3]):.3f}", pp <= 0.5
    )
    return told(f"calibration: distortion at most {field:.3f} px off (<= 0.1)", field <= 0.1) and good


def bench_honest(_):
    """Whether stated standard deviations are those of the errors."""
    sheets, ideal = calibration_sheets(bend_mm=0.1), calibration_sheets()

    def once(k):
        poses = calibration_poses(seed=k, distance_mm=700.0)
        c = calibrate(
            SheetSightings(**sight(sheets, ideal, BIG, poses, 0.03, np.random.default_rng(k))), (4000, 3000), 8
        )
        return (c.lens.vector - BIG.vector)[:8] / np.maximum(c.sigma[:8], 1e-12), field_difference(c.lens, BIG).max()

    results = in_threads(once, [(k,) for k in range(50)])
    spread = np.sqrt((np.array([r[0] for r in results]) ** 2).mean(0))
    names = ("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2")
    words = ", ".join(f"{n} {v:.2f}" for n, v in zip(names, spread, strict=True))
    worst = max(r[1] for r in results)
    usual = np.median([r[1] for r in results])
    print(f"honest: distortion at most {worst:.3f} px off in 50 repetitions, median {usual:.3f}")
    return told(f"honest: errors over stated: {words} (0.7 to 1.3)", bool(((spread > 0.7) & (spread < 1.3)).all()))


def bench_board(_):
    """A printed checkerboard through a webcam."""
    lens, columns, rows, side = Lens(640, 480, 540.0, 322.0, 238.0, (-0.28, 0.10, 0.0), (0.0005, -0.0004)), 9, 6, 25.0
    width, height = (columns + 1) * side + 20, (rows + 1) * side + 20
    sheet = Printed([], width, height, np.eye(4), (columns + 1, rows + 1, side))
    rng, found, seen = np.random.default_rng(0), [], 0
    plane = np.array([[side * c, side * r] for r in range(rows) for c in range(columns)])
    for k in range(13):
        a, heading, middle = (
            np.radians(rng.uniform(0, 48)),
            rng.uniform(0, 2 * np.pi),
            np.array([width / 2, height / 2, 0]),
        )
        away = np.array([np.sin(a) * np.cos(heading), np.sin(a) * np.sin(heading), -np.cos(a)])
        E = look_at(
            middle + rng.uniform(330, 520) * away, middle + rng.normal(size=3) * 25, up=(0.3 * rng.normal(), -1, 0)
        )
        gray = through_jpeg(develop_gray(photograph([sheet], lens, E, 5, (0.2, 0.3, 0, 0, -5, 0)), k, 0.8), 90)
        b = find_board(gray, columns, rows)
        if b is not None:
            seen += 1
            found += [(n, k, *xy, b.sigma) for n, xy in enumerate(b.xy.reshape(-1, 2)) if np.isfinite(xy[0])]
    r = np.array(sorted(found))
    s = SheetSightings(
        r[:, 1].astype(int), r[:, 0].astype(int), r[:, 2:4], r[:, 4], plane, np.zeros(54, int), np.zeros(54)
    )  # fmt: skip
    c = calibrate(s, (640, 480), 13, {"k3": SIGNIFICANT}, known_sigma=0.05)
    print(f"board: rms {c.rms_px:.3f} px, focal length {100 * abs(c.lens.f / lens.f - 1):.3f} % off, "
          f"distortion {field_difference(c.lens, lens).max():.3f} px")  # fmt: skip
    return told(f"board: {seen} of 13 views found, all corners", seen == 13)


def bench_demo(_):
    """Targets on the mat, the scale bars and the object of the demo photos."""
    truth = json.loads((ROOT / "demo" / "truth.json").read_text())
    lens, good = Lens.from_dict(truth["lens"]), True
    errors, per_photo, wrong = {"mat": [], "bar": [], "object": []}, [], 0

    def look(photo):
        return find_targets(read_picture(ROOT / "demo" / photo["name"]).astype(np.float32).mean(2)).rows(CODED)

    for photo, found in zip(truth["photos"], in_threads(look, [(p,) for p in truth["photos"]]), strict=True):
        sitting = truth["sittings"][photo["sitting"]]
        there = {t["number"]: t for t in sitting["targets"]}
        E = np.array(photo["world_to_camera"])
        frames = {"object": E, "table": E @ np.linalg.inv(sitting["object_to_table"])}
        # poses are of the object; the table turns with it
        per_photo.append(len(found.number))
        for number, dot in zip(found.number, found.dots, strict=True):
            t = there.get(int(number))
            if t is None:
                wrong += 1
                continue
            M = frames[t["frame"]]
            center = (M @ [*t["center"], 1.0])[:3]
            normal = M[:3, 2] if t["frame"] == "table" else center / np.linalg.norm(center)
            off = center_shift(center[None], normal[None], np.array([0.5 * t["diameter"]]))[0]
            error = dot[:2] - lens.project((center[:2] / center[2] + off)[None])[0]
            kind = "object" if t["frame"] == "object" else "bar" if int(number) in S.BARS else "mat"
            wrong += np.linalg.norm(error) > 3
            errors[kind].append(error)
    print(f"demo: {min(per_photo)} to {max(per_photo)} targets a photo, {np.median(per_photo):.0f} in the middle one")
    for kind, e in errors.items():
        rms = float(np.sqrt((np.array(e) ** 2).mean()))
        print(f"demo: {kind}: {len(e)} sightings, {rms:.3f} px off (on the object: on a rounded surface)")
    good &= told(f"demo: {wrong} wrong codes (0)", wrong == 0)
    return good


def bench_speed(_):
    """MP a second, and seconds to solve."""
    sheets, poses = calibration_sheets(), calibration_poses(distance_mm=700.0)
    grays = [through_jpeg(develop_gray(photograph(sheets, BIG, E, 2), k)) for k, E in enumerate(poses[:4])]
    find_targets(grays[0])
    start = time.monotonic()
    in_threads(find_targets, [(g,) for g in grays])
    rate = 12.0 * len(grays) / (time.monotonic() - start)
    good = told(f"speed: {rate:.1f} MP a second on two threads (>= 5)", rate >= 5)
    s = SheetSightings(**sight(sheets, sheets, BIG, poses, 0.03, np.random.default_rng(0)))
    start = time.monotonic()
    calibrate(s, (4000, 3000), 8)
    seconds = time.monotonic() - start
    return (
        told(f"speed: eight photos with {len(s.plane)} targets solved in {seconds:.1f} s (<= 5)", seconds <= 5) and good
    )


def main():
    """Print the figures; the exit code is 0 only when all are reached."""
    benches = {
        "centers": bench_centers, "codes": bench_codes, "free": bench_free, "calibration": bench_calibration,
        "honest": bench_honest, "board": bench_board, "demo": bench_demo, "speed": bench_speed,
    }  # fmt: skip
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("which", nargs="*", help=", ".join(benches))
    parser.add_argument("--photos", type=int, default=400, help="photos for codes")
    arguments = parser.parse_args()
    good = True
    for name in arguments.which or benches:
        good &= benches[name](arguments)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
