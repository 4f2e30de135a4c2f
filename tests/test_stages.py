"""The stages on a small simulated set: right, repeatable, honest about bad input."""

import functools
import pickle
import shutil
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from tests.scenes import made_once, pebble_set, pebble_truth, scratch
from tests.test_job import record
from umbrate.actions.delivering import camera_rows
from umbrate.core.cloud.keepbox import KeepBox
from umbrate.core.dense.fuse import ROOM, fuse
from umbrate.core.errors import Cancelled, CannotKeep, UmbrateError
from umbrate.job.blobs import BlobStore
from umbrate.job.figures import plain_figures
from umbrate.job.store import Job
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import load_block
from umbrate.sitting.lenses import lens_groups
from umbrate.sitting.photos import PhotoRef
from umbrate.stages import BY_NAME, STAGES, stages_of
from umbrate.stages.base import Report, StageSettings, parse_settings
from umbrate.stages.dense.maps import LEAST_ALIKE, _nothing
from umbrate.stages.executor import LocalExecutor
from umbrate.stages.photos.stage import odd_ones
from umbrate.studio.scene import pebble
from umbrate.studio.shoot import shoot
from umbrate.work.adding import photo_folders, read_folder, take_in
from umbrate.work.now import run_now
from umbrate.work.state import DONE, LOOK, NOTHING, READY, STALE, board, current_fingerprint, plan

QUICK = {"poses": {"features": 3000}, "cloud": {"photo_scale": 2, "rounds": 1, "neighbors": 4}}


class PicklingExecutor:
    """Sends every work item and its result through pickle, as other processes would get them."""

    threads, told = 1, ""

    def __init__(self):
        self.sizes = {}  #: bytes of the largest item of each function

    def map(self, function, items, memory=0):
        for x in items:
            sent = pickle.dumps((function, x))
            name = getattr(function, "func", function).__name__
            self.sizes[name] = max(len(sent), self.sizes.get(name, 0))
            f, item = pickle.loads(sent)
            yield pickle.loads(pickle.dumps(f(item)))


def new_job(folder, photos=None, masks=True, name="By hand"):
    """A job with the pebble set (or another folder of photos) as its one sitting."""
    photos = photos or pebble_set() / "by-hand"
    job = Job.create(folder)
    sitting, _, _ = take_in(job, name, read_folder(photos, photos / "masks" if masks else None))
    for stage, values in QUICK.items():
        job.set_settings(sitting.id, stage, values)
    return job, sitting


def run(job, sitting, stage, report=None, mode=""):
    """Run one stage here and keep its result, as the queue does."""
    return run_now(job, sitting, stage, None, report, mode)


@functools.cache
def _folder_with(*stages):
    """Folder of a pebble job in which stages have run. Not to be written to."""
    before = _folder_with(*stages[:-1]) if stages else pebble_set()

    def make(folder):
        job = Job.open(shutil.copytree(before, folder)) if stages else new_job(folder)[0]
        with job:
            if stages:
                run(job, job.sittings()[0], stages[-1])

    return made_once("-".join(("job", *stages)) + ".umbrate", make)


def job_with(folder, *stages):
    """A pebble job of one's own in which stages have run, and its sitting."""
    job = Job.open(shutil.copytree(_folder_with(*stages), folder.with_suffix(".umbrate")))
    return job, job.sittings()[0]


def state(job, stage, sitting=0):
    """State of a cell."""
    return next(c.state for c in board(job)[sitting] if c.stage == stage)


class WholeJob(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = new_job(scratch() / "pebble")
        cls.addClassCleanup(cls.job.close)
        cls.small(cls.job, cls.sitting)
        cls.outcomes = {s.name: run(cls.job, cls.sitting, s.name) for s in stages_of(cls.sitting) if not s.only_asked}

    @staticmethod
    def small(job, sitting):
        """Settings that make surface and texture small."""
        job.set_settings(sitting.id, "surface", {"triangles": 20_000})
        job.set_settings(sitting.id, "texture", {"side": 1024, "triangles": 5_000})

    def test_poses_and_cloud_agree_with_the_truth(self):
        truth = pebble_truth()
        rows, lenses, _ = camera_rows(self.job)
        figures, M = truth.judge_poses("By hand", {r["name"]: r["pose"] for r in rows})
        self.assertEqual(figures["solved"], 12)
        self.assertLess(figures["rotation_deg_median"], 0.4)
        self.assertLess(figures["center_percent_median"], 0.4)
        (lens,) = lenses.values()
        self.assertAlmostEqual(lens.f / truth.lens.f, 1.0, delta=0.02)
        cloud = truth.judge_cloud("By hand", load_cloud(self.job, self.sitting)["points"], M)
        # twelve small photos by hand tell the lens to 1 %, and say so
        stated = self.job.result(self.sitting.id, "poses").figures.lens_sigma
        for name, true in (("f", truth.lens.f), ("cx", truth.lens.cx), ("cy", truth.lens.cy)):
            self.assertLess(abs(getattr(lens, name) - true), 3 * stated[name])
        self.assertLess(stated["f"], 0.01 * lens.f)
        self.assertLess(cloud["distance_mm_median"], 0.35)
        self.assertGreater(cloud["covered_1mm_percent"], 85)
        self.assertLess(cloud["off_2mm_percent"], 1)

    def test_other_executors_and_thread_counts_give_the_same_bits(self):
        for executor in (PicklingExecutor(), LocalExecutor(5)):
            job, sitting = new_job(scratch() / "again")
            with job:
                self.small(job, sitting)
                for s in (BY_NAME[n] for n in self.outcomes):
                    # nor does it matter how many depth maps are in memory, and whether straight photos are still there
                    room = 0.0 if isinstance(executor, LocalExecutor) else ROOM
                    with mock.patch.object(fuse, "__kwdefaults__", fuse.__kwdefaults__ | {"room": room}):
                        out = run(job, sitting, s.name, Report(executor))
                    # blobs are named by their content
                    self.assertEqual(out.artefacts, self.outcomes[s.name].artefacts, s.name)
            if isinstance(executor, PicklingExecutor):  # keys and numbers travel, no pictures and no maps
                self.assertIn("depth_of", executor.sizes)
                self.assertLess(max(executor.sizes.values()), 8000, executor.sizes)

    def test_every_artefact_is_there_and_every_figure_is_plain(self):
        import json

        for name, out in self.outcomes.items():
            json.dumps(plain_figures(out.figures))
            for key in out.artefacts.values():
                self.assertTrue(self.job.blobs.path(key).is_file())
            self.assertTrue(all(BY_NAME[name].headline(out.figures)))

    def test_nothing_outside_the_masks_is_used(self):
        from umbrate.core.imaging.decode import read_mask

        block = load_block(self.job, self.sitting)
        photos = {p.id: p for p in self.job.photos(self.sitting.id)}
        for k, pid in enumerate(block.photo_ids):
            mask = read_mask(pebble_set() / "by-hand" / "masks" / (Path(photos[int(pid)].name).stem + ".png"))
            xy = np.round(block.xy[block.photo == k]).astype(int)
            self.assertTrue(mask[xy[:, 1], xy[:, 0]].all())

    def test_live_blocks_grow_in_a_frame_like_the_final_one(self):
        seen = []

        class Watching(Report):
            def live(self, name, data):
                seen.append((name, pickle.loads(pickle.dumps(data))))

        run(self.job, self.sitting, "poses", Watching())
        counts = [len(d.poses) for n, d in seen if n == "block"]
        self.assertEqual((counts[0], counts[-1]), (2, 12))
        distance = [np.linalg.norm(np.linalg.inv(E)[:3, 3]) for E in seen[-1][1].poses]
        self.assertAlmostEqual(np.median(distance), 1.0, delta=0.1)


class Staleness(unittest.TestCase):
    def setUp(self):
        self.job, self.sitting = new_job(scratch() / "j")
        self.addCleanup(self.job.close)

    def fake(self, *names):
        """Results without work: what is compared are fingerprints."""
        for n in names:
            s = BY_NAME[n]
            settings = parse_settings(s, self.job.settings(self.sitting.id, n))
            figures = {
                "photos": {
                    "photos": 12,
                    "readable": 12,
                    "unreadable": [],
                    "bare": [],
                    "sizes": 1,
                    "megapixels": 3.7,
                    "cameras": 1,
                    "sharpness": {},
                    "place": {},
                },
                "masks": {"photos": 12, "masks": 12, "share": 0.2, "method": "files"},
                "lens": {
                    "photos": 12,
                    "targets": {},
                    "numbers": 0,
                    "source": "card",
                    "groups": [{"card": None, "use": "solve", "name": "A", "lens": None, "photos": [1]}],
                },
                "poses": {"photos": 12, "solved": 12, "rms_px": 0.4, "points": 9},
                "scale": {"lengths": [], "scaled": False, "marks": {}, "bent": False},
                "cloud": {"points": 1000, "photos_per_point": 4.0},
                "surface": {"triangles": 1000},
                "texture": {"triangles": 1000},
            }[n]
            self.job.commit_result(
                self.sitting.id, n, current_fingerprint(self.job, self.sitting, s), settings.model_dump(mode="json"),
                figures, [], {}, 1.0,
            )  # fmt: skip

    def states(self):
        return [c.state for c in board(self.job)[0] if c.stage not in ("join", "deliver")]

    def seconds(self):
        return [c.second for c in board(self.job)[0] if c.stage not in ("join", "deliver")]

    def test_what_depends_on_a_change_is_stale_and_an_undo_makes_it_current_again(self):
        self.assertEqual(self.states(), [READY, *[NOTHING] * 7])
        self.fake("photos", "masks", "lens", "poses", "scale", "cloud", "surface", "texture")
        self.assertEqual(self.states(), [DONE] * 8)
        sid = self.sitting.id
        self.job.set_settings(sid, "poses", {"features": 900})
        self.assertEqual(self.states(), [DONE, DONE, DONE, *[STALE] * 5])
        told = ["settings changed", "Poses changed", "Poses changed", "Cloud changed", "Surface changed"]
        self.assertEqual(self.seconds()[3:], told)
        self.job.undo()
        self.assertEqual(self.states(), [DONE] * 8)
        self.job.set_keep_box(sid, {"center": [0, 0, 0], "axes": np.eye(3).tolist(), "half": [1, 1, 1]})
        self.assertEqual(self.states(), [*[DONE] * 5, *[STALE] * 3])
        self.assertEqual(self.seconds()[5], "keep box changed")
        self.job.undo()
        self.job.set_aside([self.job.photos(sid)[0].id])
        self.assertEqual(self.states(), [STALE] * 8)
        self.job.undo()
        self.assertEqual(self.states(), [DONE] * 8)

    def test_a_joined_row_is_stale_when_its_sittings_are_and_when_it_was_undone(self):
        self.fake("photos", "masks", "lens", "poses")
        first = self.sitting
        self.sitting, _ = self.job.add_sitting("Other", [{**record("/p/b.jpg"), "hash": "b"}])
        self.fake("photos", "masks", "lens", "poses")
        row = self.job.add_joined([first.id, self.sitting.id])
        self.assertEqual(plan(self.job, row, "cloud"), ["join", "poses", "cloud"])
        figures = {"moves": [np.eye(4).tolist()] * 2, "verdict": "good", "joins": [], "members": [1, 2], "names": [],
                   "ties": ""}  # fmt: skip

        def cell():
            return next(c for c in board(self.job)[2] if c.stage == "join")

        def join():
            mark = current_fingerprint(self.job, row, BY_NAME["join"])
            settings = parse_settings(BY_NAME["join"], {}).model_dump(mode="json")
            self.job.commit_result(row.id, "join", mark, settings, figures, [], {}, 1.0, keeps="join")

        self.assertEqual(cell().state, READY)
        join()
        self.assertEqual(cell().state, DONE)
        self.job.set_settings(first.id, "poses", {"features": 900})
        self.assertEqual((cell().state, cell().second), (STALE, f"{first.name} changed"))
        self.assertEqual(plan(self.job, row, "poses"), ["join", "poses"])
        self.job.undo()
        self.assertEqual(cell().state, DONE)
        self.job.set_target_roles([7], "on the support")
        self.assertEqual((cell().state, cell().second), (STALE, "masks, roles or picks changed"))
        self.job.undo()
        self.assertEqual(self.job.undo(), "join “Joined”")
        self.assertEqual((cell().state, cell().second), (STALE, "it was undone"))
        self.job.redo()
        self.assertEqual(cell().state, DONE)
        with self.assertRaisesRegex(UmbrateError, "is joined from other sittings"):
            self.job.move_photos([self.job.photos(first.id)[0].id], row.name)
        with self.assertRaisesRegex(UmbrateError, "is joined already"):
            self.job.add_joined([first.id, row.id])
        with self.assertRaisesRegex(UmbrateError, "takes two sittings"):
            self.job.add_joined([first.id, first.id])

    def test_a_plan_is_what_is_missing_or_stale_below_and_then_the_stage(self):
        self.assertEqual(plan(self.job, self.sitting, "cloud"), ["photos", "masks", "lens", "poses", "cloud"])
        self.fake("photos", "masks", "lens", "poses", "cloud")
        self.assertEqual(plan(self.job, self.sitting, "cloud"), [])
        self.assertEqual(plan(self.job, self.sitting, "cloud", redo=True), ["cloud"])
        self.job.set_settings(self.sitting.id, "masks", {})
        self.assertEqual(plan(self.job, self.sitting, "cloud"), ["masks", "poses", "cloud"])
        self.job.set_settings(self.sitting.id, "cloud", {"seed": 1})
        self.assertEqual(plan(self.job, self.sitting, "poses", redo=True), ["masks", "poses"])


class OddOnes(unittest.TestCase):
    def test_photos_of_another_camera_or_zoom_are_named(self):
        def photo(name, **change):
            facts = {"id": 1, "name": name, "path": "", "width": 1600, "height": 1200, "orientation": 1}
            return PhotoRef(**{**facts, "camera": "C 1", "focal_px": 3000.0, **change})

        same = [photo(f"{k}.jpg") for k in range(5)]
        self.assertEqual(odd_ones(same), [])
        told = odd_ones([*same, photo("zoomed.jpg", focal_px=4000.0), photo("phone.jpg", camera="Phone")])
        self.assertEqual([(x["name"], x["kind"]) for x in told], [("zoomed.jpg", "lens"), ("phone.jpg", "lens")])
        self.assertIn("Phone", told[1]["text"])
        (told,) = odd_ones([*same, photo("bare.jpg", focal_px=None)])
        self.assertIn("focal length unknown", told["text"])
        # without a 35 mm equivalent the focal length in mm tells them apart
        mm = [photo(f"{k}.jpg", focal_px=None, focal_mm=50.0) for k in range(4)]
        self.assertEqual(odd_ones(mm), [])
        (told,) = odd_ones([*mm, photo("far.jpg", focal_px=None, focal_mm=85.0)])
        self.assertIn("far.jpg differs from the others in camera or focal length: C 1, 85 mm", told["text"])


class LensGroups(unittest.TestCase):
    def photo(self, **change):
        facts = {"id": 1, "name": "a.jpg", "path": "/a.jpg", "width": 1600, "height": 1200, "orientation": 1}
        return PhotoRef(**{**facts, "camera": "C 1", "focal_px": 3000.0, **change})

    def test_camera_size_and_focal_length_make_a_lens_orientation_does_not(self):
        photos = [
            self.photo(),
            self.photo(orientation=6),
            self.photo(focal_px=3000.02),
            self.photo(focal_px=4200.0),
            self.photo(width=1200, height=1600),
            self.photo(camera="C 2", focal_px=None),
        ]
        lenses, group, guessed = lens_groups(photos)
        self.assertEqual(group, [0, 0, 0, 1, 2, 3])
        self.assertEqual(guessed, 1)
        self.assertEqual((lenses[0].f, lenses[0].cx, lenses[0].cy), (3000.0, 799.5, 599.5))
        # 50 mm on 36 x 24 mm, by the diagonal
        self.assertAlmostEqual(lenses[3].f, 50 * 2000 / np.hypot(36, 24))

    def test_a_job_without_any_exif_solves_and_says_what_was_taken(self):
        folder = scratch() / "bare"
        folder.mkdir()
        for file in sorted((pebble_set() / "by-hand").glob("*.jpg")):
            with Image.open(file) as image:
                image.save(folder / f"{file.stem}.png")  # no EXIF
        shutil.copytree(pebble_set() / "by-hand" / "masks", folder / "masks")
        job, sitting = new_job(scratch() / "j", folder)
        with job:
            for stage in ("photos", "masks", "poses"):
                out = run(job, sitting, stage)
            self.assertEqual(out.figures.solved, 12)
            self.assertIn("say no focal length", out.problems[-1]["text"])
            self.assertAlmostEqual(out.figures.lens.f / pebble_truth().lens.f, 1.0, delta=0.04)


class KeepBoxes(unittest.TestCase):
    def test_a_box_set_by_hand_limits_the_cloud(self):
        job, sitting = new_job(scratch() / "j")
        with job:
            for stage in ("photos", "masks", "poses"):
                out = run(job, sitting, stage)
            fitted = out.figures.keep_box
            whole = run(job, sitting, "cloud").figures.points
            half = dict(fitted, half=[fitted["half"][0], fitted["half"][1], fitted["half"][2] / 2])
            job.set_keep_box(sitting.id, half)
            run(job, sitting, "cloud")
            points = load_cloud(job, sitting)["points"]
            self.assertTrue(KeepBox.from_dict(half).contains(points).all())
            self.assertTrue(0.2 * whole < len(points) < 0.9 * whole)
            # a box beside the object: a sentence, and the old cloud stays
            away = dict(fitted, center=[c + 1 for c in fitted["center"]])
            job.set_keep_box(sitting.id, away)
            with self.assertRaises(UmbrateError) as caught:
                run(job, sitting, "cloud")
            self.assertIn("keep box", str(caught.exception))
            self.assertIsNotNone(caught.exception.remedy)
            self.assertEqual(len(load_cloud(job, sitting)["points"]), len(points))


class SettingsModels(unittest.TestCase):
    def test_every_setting_explains_itself_and_its_default_is_within_its_range(self):
        for stage in STAGES:
            self.assertTrue(issubclass(stage.Settings, StageSettings))
            stage.Settings.model_validate(stage.Settings().model_dump())
            for name, field in stage.Settings.model_fields.items():
                self.assertTrue(field.title, f"{stage.name}.{name}")
                self.assertGreater(len(field.description), 20, f"{stage.name}.{name}")

    def test_wrong_settings_say_which_and_what(self):
        for values, said in (({"featurs": 5}, "featurs"), ({"features": 3}, "500"), ({"ratio": "x"}, "ratio")):
            with self.assertRaises(UmbrateError) as caught:
                parse_settings(BY_NAME["poses"], values)
            self.assertIn(said, str(caught.exception))
        with self.assertRaises(UmbrateError):
            parse_settings(BY_NAME["cloud"], {"photo_scale": 3})


class CloudsOfNothing(unittest.TestCase):
    def test_each_cause_has_its_own_words_and_its_own_remedy(self):
        box, inside, beside = KeepBox(np.zeros(3), np.eye(3), np.ones(3)), np.zeros((1, 3)), np.full((1, 3), 9.0)
        some, none, settings = 4, 0, BY_NAME["cloud"].Settings()
        two = BY_NAME["cloud"].Settings(min_photos=2)
        cases = (
            (inside, [none, none], 1.0, settings, "masks leave nothing", ("go to", "masks")),
            (beside, [some, none], 1.0, settings, "stands beside the object", ("fit the keep box",)),
            (inside, [some], LEAST_ALIKE / 2, settings, "next to no texture", ("go to", "photos")),
            (inside, [], 2 * LEAST_ALIKE, settings, "Lower Agreeing photos to 2", ("set", "min_photos", 2)),
            (inside, [], 2 * LEAST_ALIKE, two, "confirmed by enough photos", ("go to", "poses")),
        )
        for points, masks, alike, chosen, words, remedy in cases:
            error = _nothing(points, box, masks, alike, chosen)
            self.assertIn(words, str(error))
            self.assertEqual(error.remedy, remedy)


class BadInput(unittest.TestCase):
    """Each gives a sentence that says what is wrong; nothing is lost."""

    def photos(self, count=12, **change):
        """A folder with copies of the first pebble photos and masks."""
        folder = scratch() / "set (1) ü"
        (folder / "masks").mkdir(parents=True)
        for file in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:count]:
            shutil.copy(file, folder)
            shutil.copy(file.parent / "masks" / (file.stem + ".png"), folder / "masks")
        return folder

    def refused(self, said, function, *args):
        with self.assertRaises(UmbrateError) as caught:
            function(*args)
        self.assertIn(said, str(caught.exception))

    def test_folders(self):
        empty = scratch()
        self.refused("does not exist", read_folder, empty / "no")
        self.refused("no photos", read_folder, empty)
        (empty / "file.txt").write_text("x")
        self.refused("not a folder", read_folder, empty / "file.txt")
        (empty / "a.jpg").write_bytes(b"")
        self.refused("0 bytes", read_folder, empty)
        self.refused("mask folder", read_folder, pebble_set() / "by-hand", empty / "none")
        # a folder of such folders is understood
        self.assertEqual(photo_folders(pebble_set()), [pebble_set() / "by-hand"])
        self.assertEqual(photo_folders(pebble_set() / "by-hand"), [pebble_set() / "by-hand"])
        self.refused("no photos", photo_folders, scratch())

    def test_damaged_and_odd_photos_are_told_and_the_others_go_on(self):
        folder = self.photos()
        files = sorted(folder.glob("*.jpg"))
        files[0].write_bytes(files[0].read_bytes()[:9000])  # cut short: the head is whole
        (folder / "zero.jpg").write_bytes(b"")
        rng = np.random.default_rng(1)
        odd = rng.integers(0, 255, size=(300, 400, 3)).astype(np.uint8)
        Image.fromarray(np.dstack([odd, odd[..., 0]])).save(folder / "alpha.png")
        Image.fromarray(odd[..., 0].astype(np.uint16) * 257).save(folder / "deep.png")
        Image.fromarray(odd).convert("CMYK").save(folder / "press.tif")
        incoming = read_folder(folder, folder / "masks")
        self.assertEqual(len(incoming.refused), 1)
        self.assertIn("zero.jpg", incoming.refused[0])
        job, sitting = new_job(scratch() / "j", folder)
        with job:
            out = run(job, sitting, "photos")
            told = " ".join(p["text"] for p in out.problems)
            self.assertIn(files[0].name, told)
            self.assertIn("cut short", told)
            self.assertIn("different sizes", told)
            self.assertEqual(out.figures.readable, 14)
            self.assertEqual(state(job, "photos"), LOOK)
            masks = run(job, sitting, "masks")
            self.assertIn("alpha.png has no mask", " ".join(p["text"] for p in masks.problems))
            poses = run(job, sitting, "poses")
            self.assertEqual(poses.figures.solved, 11)
            reasons = " ".join(p["text"] for p in poses.problems)
            for name in ("alpha.png", "deep.png", "press.tif"):
                self.assertIn(f"{name} could not be placed", reasons)
            job.set_settings(sitting.id, "cloud", {"photo_scale": 2, "rounds": 1})
            self.assertGreater(run(job, sitting, "cloud").figures.points, 5000)

    def test_masks_of_wrong_size_name_or_content(self):
        folder = self.photos(4)
        masks = sorted((folder / "masks").glob("*.png"))
        Image.new("L", (100, 100), 255).save(masks[0])
        masks[1].rename(masks[1].with_name("other.png"))
        Image.new("L", (640, 480), 0).save(masks[2])
        job, sitting = new_job(scratch() / "j", folder)
        with job:
            run(job, sitting, "photos")
            out = run(job, sitting, "masks")
            told = [p["text"] for p in out.problems]
            self.assertEqual(out.figures.masks, 1)
            self.assertIn("100 x 100 pixels, its photo 640 x 480", told[0])
            self.assertIn("has no mask", told[1])
            self.assertIn("empty", told[2])
            job.set_settings(sitting.id, "masks", {"folder": str(folder / "masks"), "pattern": "{name}_m.png"})
            self.refused("None of the 4 photos", run, job, sitting, "masks")
            self.assertEqual(job.result(sitting.id, "masks").figures.masks, 1)  # the old result stays
            job.set_settings(sitting.id, "masks", {"folder": str(folder / "masks"), "pattern": "m.png"})
            self.refused("{name}", run, job, sitting, "masks")
            job.set_settings(sitting.id, "masks", {"folder": str(folder / "gone")})
            self.refused("does not exist", run, job, sitting, "masks")

    def test_one_photo_and_photos_without_overlap(self):
        job, sitting = new_job(scratch() / "one", self.photos(1))
        with job:
            for stage in ("photos", "masks"):
                run(job, sitting, stage)
            self.refused("only one usable photo", run, job, sitting, "poses")
            self.refused("no poses yet", run, job, sitting, "cloud")
        folder = scratch() / "five"
        folder.mkdir()
        rng = np.random.default_rng(2)
        for k in range(5):
            small = Image.fromarray(rng.integers(0, 255, size=(60, 80, 3)).astype(np.uint8))
            small.resize((640, 480), Image.Resampling.BICUBIC).save(folder / f"{k}.jpg")
        job, sitting = new_job(scratch() / "five", folder, masks=False)
        with job:
            for stage in ("photos", "masks"):
                run(job, sitting, stage)
            self.refused("overlap", run, job, sitting, "poses")
            self.assertIsNone(job.result(sitting.id, "poses"))

    def test_an_empty_table_among_the_photos_is_not_placed(self):
        from dataclasses import replace

        scene, one = pebble(), scratch() / "set"
        scene.sittings[0].shots = [replace(scene.sittings[0].shots[4], empty=True)]
        shoot(replace(scene, truth_step_mm=3.0), one)
        folder = self.photos()
        shutil.copy(one / "by-hand" / "U_0001.jpg", folder / "U_0005.jpg")
        shutil.copy(one / "by-hand" / "masks" / "U_0001.png", folder / "masks" / "U_0005.png")
        job, sitting = new_job(scratch() / "j", folder)
        with job:
            run(job, sitting, "photos")
            masks = run(job, sitting, "masks")
            self.assertIn("empty", masks.problems[0]["text"])
            # the table is plain wood: it matches nothing of the masked others
            out = run(job, sitting, "poses")
            self.assertEqual(out.figures.solved, 11)
            self.assertIn("U_0005.jpg", out.problems[0]["text"])

    def test_a_photo_that_vanished_or_changed_is_told(self):
        folder = self.photos(4)
        job, sitting = new_job(scratch() / "j", folder)
        with job:
            files = sorted(folder.glob("*.jpg"))
            whole = files[0].read_bytes()
            for stage in ("photos", "masks"):
                run(job, sitting, stage)
            files[0].write_bytes(whole)
            self.assertEqual(run(job, sitting, "photos").figures.readable, 4)
            self.assertEqual(state(job, "masks"), DONE)
            files[0].unlink()
            Image.new("RGB", (64, 48)).save(files[1])
            told = [p["text"] for p in run(job, sitting, "photos").problems]
            # what was made with those photos in it no longer agrees
            self.assertEqual(state(job, "masks"), STALE)
            self.assertIn("Was it moved or renamed?", told[0])
            self.assertIn("has changed on the disk", told[1])

    def test_a_full_disk_is_no_fault_of_the_photos(self):
        job, sitting = new_job(scratch() / "j", self.photos(4))
        full = mock.patch.object(BlobStore, "put_bytes", side_effect=CannotKeep("the disk is full"))
        with job, full, self.assertRaises(CannotKeep):
            run(job, sitting, "photos")

    def test_stopping_is_heard_between_items(self):
        class Impatient(Report):
            def progress(self, fraction, sentence, **figures):
                raise Cancelled()

        job, sitting = new_job(scratch() / "j")
        with job, self.assertRaises(Cancelled):
            run(job, sitting, "photos", Impatient())
