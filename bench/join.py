"""Joined sittings against truth.

``python bench/join.py [NAME ...]`` prints those named, or all:

demo      both sittings by targets, by surface and by both: turn, shift, scale between them, time, and the whole cloud
bare      the demo without any masks, or targets on the object: masks from shape, then by surface
halves    a set that another renderer made, beside the project, as two sittings: joined, merged, by its own evaluator
wrong     sittings of near-symmetric and of different objects: none that is called good may be wrong
"""

import argparse
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "bench")]

from measure import BARS, run, true_centers  # noqa: E402
from poses import CREST, evaluated, run_to_poses, told  # noqa: E402
from umbrate.actions.delivering import camera_rows, export_cameras  # noqa: E402
from umbrate.actions.shapemasks import gather_shape, keep_shape_masks, make_shape_masks  # noqa: E402
from umbrate.actions.uniting import unite_clouds  # noqa: E402
from umbrate.core.cloud.keepbox import KeepBox  # noqa: E402
from umbrate.core.geometry.pose import pose  # noqa: E402
from umbrate.core.geometry.rotation import rotation_matrix  # noqa: E402
from umbrate.core.geometry.similarity import difference, fit_similarity, scale_of  # noqa: E402
from umbrate.core.masking.clean import overlap  # noqa: E402
from umbrate.job.store import Job  # noqa: E402
from umbrate.sitting.clouds import load_cloud  # noqa: E402
from umbrate.sitting.frames import load_block, set_keep_box  # noqa: E402
from umbrate.sitting.masks import decode_mask  # noqa: E402
from umbrate.stages.base import Report  # noqa: E402
from umbrate.stages.join.joining import join_pair, join_sittings  # noqa: E402
from umbrate.stages.join.members import member_of  # noqa: E402
from umbrate.stages.join.methods import GOOD  # noqa: E402
from umbrate.studio.judge import Truth  # noqa: E402
from umbrate.studio.scene import SimulatedSitting, bowl, pebble, smaller, turntable_mat, turntable_shots, whistle  # noqa: E402
from umbrate.studio.shoot import shoot  # noqa: E402
from umbrate.studio.surroundings import Surroundings  # noqa: E402
from umbrate.work.adding import read_folder, take_in  # noqa: E402
from umbrate.work.demo import SITTINGS, demo_data  # noqa: E402


def to_truth(truth, block, name):
    """The similarity of a block's targets on the object to their true places."""
    true = true_centers(truth, name)
    on = {t["number"] for t in truth.data["sittings"][name]["targets"] if t["frame"] == "object"}
    rows = {n: block.targets[n] for n in sorted(on) if n in block.targets and n in true}
    return fit_similarity(block.points[list(rows.values())], np.array([true[n] for n in rows]))


def bench_demo(_):
    """Both sittings of the demo, scaled by their bars."""
    truth, good = Truth(demo_data()), True
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        for name, sub in SITTINGS:
            photos = demo_data() / sub
            sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks"))
            for a, b in BARS:
                job.add_length(sitting.id, a, b, 100.0, 0.01)
            run_to_poses(job, sitting)
            run(job, sitting, "scale")
            run(job, sitting, "cloud")
        first, second = job.sittings()
        blocks = [load_block(job, s) for s in (first, second)]
        moves = [to_truth(truth, b, s.name) for b, s in zip(blocks, (first, second), strict=True)]
        G = np.linalg.inv(moves[1]) @ moves[0]
        middle = np.median(blocks[0].points, axis=0)
        for methods, limit in (
            (("targets",), 3), (("surface",), 60), (("targets", "surface"), 60), (("targets", "surface", "shape"), 60)
        ):  # fmt: skip
            start = time.perf_counter()
            found = join_sittings(job, first, second, methods)
            seconds = time.perf_counter() - start
            turn, shift, scale = difference(found.M, G, middle)
            good &= told(
                f"demo: by {' and '.join(methods)}: {found.verdict}, turn off by {turn:.3f} degrees (<= 0.1), shift "
                f"{shift:.3f} mm (<= 0.1), scale {100 * abs(scale):.3f} % (<= 0.05), in {seconds:.1f} s (<= {limit})",
                found.verdict == GOOD and turn <= 0.1 and shift <= 0.1 and abs(scale) <= 5e-4 and seconds <= limit,
            )
        row = job.add_joined([first.id, second.id])
        run(job, row, "join")
        start = time.perf_counter()
        run(job, row, "poses")
        run(job, row, "scale")
        seconds = time.perf_counter() - start
        rows = camera_rows(job, row)[0]
        solved = {s.name: {r["name"]: r["pose"] for r in rows if r["sitting"] == s.name} for s in (first, second)}
        f, M = truth.judge_join(solved)
        good &= told(
            f"demo: merged, one adjustment over 48 photos: turn between the sittings off by {f['join_turn_deg']:.3f} "
            f"degrees (<= 0.1), shift {f['join_shift_mm']:.3f} mm (<= 0.1), scale {f['join_scale_percent']:.3f} % "
            f"(<= 0.05), in {seconds:.1f} s (<= 30)",
            f["join_turn_deg"] <= 0.1 and f["join_shift_mm"] <= 0.1 and f["join_scale_percent"] <= 0.05
            and seconds <= 30,
        )  # fmt: skip
        run(job, row, "cloud")
        good &= judge_whole(truth, "from all photos", load_cloud(job, row)["points"], M)
        unite_clouds(job, row)
        good &= judge_whole(truth, "united", load_cloud(job, row)["points"], M)
        gap = found.evidence.shape.median / (truth.distance / truth.lens.f)
        good &= told(f"demo: the two sheets are {gap:.2f} px apart in the median (<= 0.5)", gap <= 0.5)
    return good


def judge_whole(truth, how, points, M):
    """Print how a whole cloud covers the true surface, and what of it is not the object."""
    f = truth.judge_cloud([name for name, _ in SITTINGS], points, M)
    return told(
        f"demo: cloud {how}, {f['points']:,} points: {f['covered_0p5mm_percent']:.1f} % of the surface that either "
        f"sitting sees within 0.5 mm (>= 98), median {f['distance_mm_median']:.3f} mm off, "
        f"{f['off_2mm_percent']:.4f} % more than 2 mm: nothing of table, mat or foam (<= 0.01)",
        f["covered_0p5mm_percent"] >= 98 and f["off_2mm_percent"] <= 0.01,
    )


def bench_bare(_):
    """The demo without any masks, or targets on the object: boxes as a user draws them, masks from shape, surface."""
    truth, good, moves = Truth(demo_data()), True, []
    support = {"Upright": 1.0, "On its back": 25.0}  # mm over the mat: the table, and the foam's upper side
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        for name, sub in SITTINGS:
            sitting, _, _ = take_in(job, name, read_folder(demo_data() / sub))
            for a, b in BARS:
                job.add_length(sitting.id, a, b, 100.0, 0.01)
            run_to_poses(job, sitting)
            run(job, sitting, "scale")
            job.set_level(sitting.id, {"up": {"ends": ["161", "163", "173", "175", "177", "179"]}})
            block = load_block(job, sitting)
            M = to_truth(truth, block, name)
            moves.append(M)
            back = np.linalg.inv(M)
            V = truth.vertices @ back[:3, :3].T + back[:3, 3]
            low, high = V.min(0) - 2.0, V.max(0) + 2.0
            low[2] = support[name]
            set_keep_box(job, sitting, KeepBox((low + high) / 2, np.eye(3), (high - low) / 2).as_dict())
            start = time.perf_counter()
            masks, _ = make_shape_masks(gather_shape(job, sitting), "depth", 4, "replace", 8, Report())
            keep_shape_masks(job, sitting, masks)
            seconds = time.perf_counter() - start
            same = []
            for p in job.photos(sitting.id):
                true = Image.open(demo_data() / sub / "masks" / f"{Path(p.name).stem}.png").convert("L")
                same.append(overlap(decode_mask(job.blobs.get_bytes(masks[p.id])), np.asarray(true) > 127))
            print(
                f"  {name}: {len(masks)} masks from shape in {seconds:.1f} s, the true ones and they have "
                f"{100 * np.median(same):.0f} % in common in the median, {100 * min(same):.0f} % at worst"
            )
        first, second = job.sittings()
        G = np.linalg.inv(moves[1]) @ moves[0]
        start = time.perf_counter()
        x = join_sittings(job, first, second, ("surface",))
        seconds = time.perf_counter() - start
        turn, shift, scale = (
            (9.0, 9.0, 9.0) if x.M is None else difference(x.M, G, load_block(job, first).points.mean(0))
        )
        good &= told(
            f"bare: without masks or targets on the object, by surface: {x.verdict}, turn off by {turn:.3f} degrees "
            f"(<= 0.2), shift {shift:.3f} mm (<= 0.2), scale {100 * abs(scale):.3f} % (<= 0.1), in {seconds:.1f} s",
            x.verdict == GOOD and turn <= 0.2 and shift <= 0.2 and abs(scale) <= 1e-3,
        )
    return good


def bench_halves(_):
    """Every second photo of a set that another renderer made as one sitting, the others as another; no masks."""
    if not CREST.exists():
        print("halves: the set is not here, skipped")
        return True
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        for k, name in enumerate("AB"):
            (Path(scratch) / name).mkdir()
            for file in sorted(CREST.glob("*.jpg"))[k::2]:
                (Path(scratch) / name / file.name).symlink_to(file)
            sitting, _, _ = take_in(job, name, read_folder(Path(scratch) / name))
            run_to_poses(job, sitting)
        row = job.add_joined([s.id for s in job.sittings()])
        run(job, row, "join")
        found = job.join_found(row.id)
        run(job, row, "poses")
        export_cameras(job, f"{scratch}/cameras.json", row)
        f = evaluated(CREST, f"{scratch}/cameras.json")
    return told(
        f"halves: two halves of 40 photos, joined by the surface ({found.verdict}) and merged: "
        f"{f['solved_right']} of {f['expected']} right, rotation {f['rotation_deg_median']:.4f} degrees (<= 0.03), "
        f"center {100 * f['centre_part_median']:.4f} % (<= 0.05)",
        found.verdict == GOOD and f["solved_right"] == f["expected"] and f["rotation_deg_median"] <= 0.03
        and f["centre_part_median"] <= 5e-4,
    )  # fmt: skip


def photo_sittings():
    """Scenes of three objects, each placed in several ways, for joins that must not be wrong."""
    rng = np.random.default_rng(11)
    printed, _ = turntable_mat()
    half = np.pi
    small = Surroundings(sheets=printed)
    rings = ((28.0, 0.0, False), (50.0, 11.0, True))

    def sitting(name, move, height):
        shots = turntable_shots(rings, 16, 330.0, (0, 0, height), rng)
        return SimulatedSitting(name, name.lower().replace(" ", "-"), move, shots, small, 1)

    def turned(about, angle, lift=0.0):
        return pose(rotation_matrix(np.array(about, float) * angle), [0.0, 0.0, lift])

    a_bowl = bowl()
    a_bowl.sittings = [
        sitting("Bowl", np.eye(4), 22.0),
        sitting("Bowl turned", turned((0, 0, 1), half / 2 + 0.3), 22.0),  # a quarter turn: it looks the same
        sitting("Bowl over", turned((1, 0, 0), half, 44.0), 22.0),
    ]
    bird, stone = whistle(), pebble()
    stone.sittings += [
        replace(stone.sittings[0], name="Over", folder="over", object_to_turning=turned((1, 0.2, 0), half / 1.02, 36.0))
    ]
    return [a_bowl, smaller(bird, 2.0, 14), stone]


def bench_wrong(_):
    """Every two sittings of three objects, by several methods: none that is called good may be wrong."""
    moves, methods = {}, (("targets", "surface"), ("surface",), ("surface", "shape"), ("picks",), ("picks", "shape"))
    count = {"good": 0, "doubtful": 0, "none": 0}
    wrong, right, attempts, same = [], 0, 0, 0
    rng = np.random.default_rng(3)
    with tempfile.TemporaryDirectory() as scratch, Job.create(Path(scratch) / "job") as job:
        for scene in photo_sittings():
            folder = Path(scratch) / scene.name
            shoot(scene, folder)
            truth = Truth(folder)
            for s in scene.sittings:
                sitting, _, _ = take_in(job, s.name, read_folder(folder / s.folder, folder / s.folder / "masks"))
                job.set_settings(sitting.id, "cloud", {"photo_scale": 4})
                run_to_poses(job, sitting)
                run(job, sitting, "cloud")
                block = load_block(job, sitting)
                names = {p.id: p.name for p in job.photos(sitting.id)}
                found = {
                    names[int(i)]: E for i, E in zip(block.photo_ids, block.poses, strict=True) if np.isfinite(E[0, 0])
                }
                f, M = truth.judge_poses(s.name, found)
                if M is None or f["solved"] < 0.5 * f["photos"] or f["rotation_deg_median"] > 1:
                    raise SystemExit(f"{s.name}: its poses are wrong, so no join of it can be judged")
                moves[sitting.id] = scene.name, M
                print(f"  {s.name}: {f['solved']} of {f['photos']} solved, {f['rotation_deg_median']:.3f} degrees off")
        members = [member_of(job, s) for s in job.sittings()]
        for i, a in enumerate(members):
            for b in members[i + 1 :]:
                (object_a, M), (object_b, N) = moves[a.id], moves[b.id]
                true = np.linalg.inv(N) @ M if object_a == object_b else None
                for by in methods:
                    x = join_pair(a, b, by, picks=some_picks(a, b, true, rng) if "picks" in by else ())
                    attempts += 1
                    same += true is not None
                    count[x.verdict] += 1
                    if x.verdict != "good":
                        continue
                    turn, shift = np.inf, np.inf
                    if true is not None:
                        turn, shift, _ = difference(x.M, true, a.middle)
                        shift *= scale_of(N)  # in mm
                    right += turn <= 1 and shift <= 1
                    if turn > 1 or shift > 1:
                        wrong.append(f"{a.name} - {b.name} by {' and '.join(by)}: {turn:.1f} degrees, {shift:.1f} mm")
    for w in wrong:
        print(f"  wrong and called good: {w}")
    print(f"  {same} attempts on one object, of which {right} are good and right")
    return told(
        f"wrong: of {attempts} joins (>= 40) {count['good']} were called good, {count['doubtful']} doubtful, "
        f"{count['none']} none; called good and wrong by more than 1 mm or 1 degree: {len(wrong)} (0)",
        attempts >= 40 and not wrong,
    )


def some_picks(a, b, true, rng, count=4):
    """Picks on two members: of one object half of the time right, of a symmetric mistake or random otherwise."""
    A = a.block.points[rng.choice(len(a.block.points), count, replace=False)]
    if true is None or rng.random() < 0.5:
        # places that go together, but not on this object: a turn about its own axis
        quarter = pose(rotation_matrix(np.array([0, 0, np.pi / 2])), np.zeros(3))
        true = quarter if true is None else true @ quarter
    B = A @ true[:3, :3].T + true[:3, 3]
    return [
        (chr(65 + k), p, q + 0.002 * b.extent * rng.normal(size=3)) for k, (p, q) in enumerate(zip(A, B, strict=True))
    ]


BENCHES = {k[6:]: v for k, v in list(globals().items()) if k.startswith("bench_")}


def main():
    """Run the benches named, or all; exit code 1 where a figure is missed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", choices=[*BENCHES, []], help="which; all where none is named")
    chosen = parser.parse_args().names or list(BENCHES)
    return 0 if all([BENCHES[n](None) for n in chosen]) else 1


if __name__ == "__main__":
    sys.exit(main())
