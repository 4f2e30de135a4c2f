"""Sorting photos into sittings, plates and the soft ones."""

import unittest
from dataclasses import replace

import numpy as np
from PIL import Image
from scipy.ndimage import gaussian_filter

from tests.scenes import card_set, scratch
from tests.test_job import document, record
from tests.test_stages import run, state
from umbrate.core.errors import UmbrateError
from umbrate.core.imaging.facts import exposure_text
from umbrate.core.imaging.sharpness import CODES, focus, focus_worth, sharpness, soft_ones
from umbrate.job.store import Job
from umbrate.work.adding import read_files, read_folder, take_in
from umbrate.work.sorting import propose_split, split_at_bare_frames, split_at_gaps


class Moving(unittest.TestCase):
    def setUp(self):
        self.job = Job.create(scratch() / "j")
        self.addCleanup(self.job.close)
        photos = [record(f"/p/{k}.jpg", taken=f"2026-05-04T09:{k:02d}:00") for k in range(8)]
        self.a, _ = self.job.add_sitting("A", photos, {"masks": {"method": "still"}})
        self.b, _ = self.job.add_sitting("B", [record("/q/0.jpg")])

    def names(self, sitting_id):
        return [p.name for p in self.job.photos(sitting_id)]

    def test_photos_move_to_old_and_new_sittings(self):
        ids = [p.id for p in self.job.photos(self.a.id)]
        self.job.move_photos(ids[6:], "B")
        self.assertEqual(self.names(self.b.id), ["0.jpg", "6.jpg", "7.jpg"])
        self.job.move_photos(ids[:2], "C")
        self.assertEqual([s.name for s in self.job.sittings()], ["A", "B", "C"])
        self.assertEqual(self.names(self.a.id), ["2.jpg", "3.jpg", "4.jpg", "5.jpg"])
        self.job.undo()
        self.assertEqual(self.names(self.a.id)[:2], ["0.jpg", "1.jpg"])
        with self.assertRaises(UmbrateError):
            self.job.move_photos(ids[:1], " ")

    def test_a_split_keeps_order_settings_and_plates_and_is_one_step(self):
        before = document(self.job)
        ids = [p.id for p in self.job.photos(self.a.id)]
        names = self.job.split_sitting(self.a.id, [(ids[:3], [ids[3]]), (ids[4:7], [ids[7]])])
        self.assertEqual(names, ["A", "A 2"])
        self.assertEqual([s.name for s in self.job.sittings()], ["A", "A 2", "B"])
        second = self.job.sitting("A 2")
        self.assertEqual(self.names(second.id), ["4.jpg", "5.jpg", "6.jpg", "7.jpg"])
        self.assertEqual([p.name for p in self.job.photos(second.id) if p.plate], ["7.jpg"])
        self.assertEqual([p.name for p in self.job.photos(self.a.id, aside=False)], ["0.jpg", "1.jpg", "2.jpg"])
        self.assertEqual(self.job.settings(second.id, "masks"), {"method": "still"})
        self.job.undo()
        self.assertEqual(document(self.job), before)

    def test_merging_and_reordering(self):
        self.job.move_sitting(self.b.id, -1)
        self.assertEqual([s.name for s in self.job.sittings()], ["B", "A"])
        self.job.move_sitting(self.b.id, -1)  # it is first already
        self.job.merge_sittings(self.a.id, self.b.id)
        self.assertEqual([s.name for s in self.job.sittings()], ["B"])
        self.assertEqual(len(self.names(self.b.id)), 9)
        self.job.undo()
        self.assertEqual(len(self.names(self.a.id)), 8)

    def test_pauses_separate(self):
        photos = self.job.photos(self.a.id)
        later = [replace(p, taken=p.taken.replace("T09:", "T10:")) if p.id > 4 else p for p in photos]
        parts = split_at_gaps(later)
        self.assertEqual([len(p) for p, _ in parts], [4, 4])
        self.assertEqual(len(split_at_gaps(photos)), 1)  # one photo a minute, evenly
        self.assertEqual(len(split_at_gaps(photos, 30)), 8)
        self.assertEqual(len(split_at_gaps([replace(p, taken=None) for p in photos])), 1)

    def test_bare_frames_separate_and_go_to_the_part_from_their_place(self):
        photos = self.job.photos(self.a.id)
        ids = [p.id for p in photos]
        place = dict(zip(ids, (0, 0, 0, 1, 1, 1, 1, 1), strict=True))
        # 2 was shot after the first part and from its place; 3 before the second, from that one's
        self.assertEqual(
            split_at_bare_frames(photos, {ids[2], ids[3]}, place), [(ids[:2], [ids[2]]), (ids[4:], [ids[3]])]
        )
        # a frame at the very beginning and one at the end separate nothing
        parts = split_at_bare_frames(photos, {ids[0], ids[7]}, dict.fromkeys(ids, 0))
        self.assertEqual(parts, [(ids[1:7], [ids[0], ids[7]])])
        self.assertEqual(split_at_bare_frames(photos, set(), {}), [(ids, [])])


class Missing(unittest.TestCase):
    def test_moved_photos_are_found_by_content_and_keep_their_results(self):
        rng = np.random.default_rng(6)
        here = scratch() / "here"
        here.mkdir()
        for k in range(4):
            Image.fromarray(rng.integers(0, 255, (80, 90, 3)).astype(np.uint8)).save(here / f"{k}.png")
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "A", read_folder(here))
            run(job, sitting, "photos")
            self.assertEqual(job.missing_photos(), [])
            there = scratch() / "disk" / "2026" / "moved"
            there.mkdir(parents=True)
            for k in range(3):
                (here / f"{k}.png").rename(there / f"{k}.png")
            (here / "3.png").unlink()
            # another picture under the lost one's name is not taken for it
            Image.fromarray(rng.integers(0, 255, (80, 90, 3)).astype(np.uint8)).save(there / "3.png")
            self.assertEqual(len(job.missing_photos()), 4)
            self.assertEqual(job.find_missing(there.parents[1]), 3)
            self.assertEqual([p.name for p in job.missing_photos()], ["3.png"])
            self.assertEqual(job.photo_path(job.photos(sitting.id)[0]), there / "0.png")
            self.assertEqual(state(job, "photos"), "done")
            job.undo()
            self.assertEqual(len(job.missing_photos()), 4)
            with self.assertRaises(UmbrateError):
                job.find_missing(there / "no")


class Changed(unittest.TestCase):
    def test_a_file_that_was_written_to_is_known_by_its_content(self):
        rng, here = np.random.default_rng(8), scratch() / "here"
        here.mkdir()
        picture = lambda: Image.fromarray(rng.integers(0, 255, (60, 70, 3)).astype(np.uint8))  # noqa: E731
        for k in range(5):
            picture().save(here / f"{k}.bmp.png", compress_level=0)
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "A", read_folder(here))
            run(job, sitting, "photos")
            states = lambda **k: [job.file_state(p, **k) for p in job.photos(sitting.id)]  # noqa: E731
            self.assertEqual(states(), ["here"] * 5)
            files = sorted(here.iterdir())
            files[0].touch()  # another time, the same content
            files[1].write_bytes(files[1].read_bytes() + b"more")
            picture().save(files[2], compress_level=0)  # the same size, another content
            self.assertEqual(files[2].stat().st_size, job.photos(sitting.id)[2].size)
            files[3].unlink()
            self.assertEqual(states(), ["here", "changed", "changed", "missing", "here"])
            self.assertEqual(states(look_inside=False), ["here", "changed", "here", "missing", "here"])
            out = run(job, sitting, "photos")
            told = " ".join(p["text"] for p in out.problems)
            for name in ("1.bmp.png has changed", "2.bmp.png has changed", "3.bmp.png is not in"):
                self.assertIn(name, told)
            self.assertEqual(out.figures.readable, 2)
            # bringing it in again takes it as it is now, in its place and with its id
            before = [p.id for p in job.photos(sitting.id)]
            self.assertEqual(take_in(job, "A", read_files(files[1:3]))[1], 2)
            self.assertEqual([p.id for p in job.photos(sitting.id)], before)
            self.assertEqual(states(), ["here", "here", "here", "missing", "here"])

    def test_exposure_and_names_of_any_kind_come_in(self):
        here = scratch() / "näme [1] (2)"
        (here / "a").mkdir(parents=True)
        exif = Image.Exif()
        ifd = exif.get_ifd(0x8769)
        ifd[0x829A], ifd[0x829D], ifd[0x8827] = 1 / 125, 8.0, 400
        names = ["x y.jpg", "[1].jpg", "ümläut%20.jpg", "n" * 240 + ".jpg", "a/x y.jpg", "-x.jpg"]
        for n in names:
            Image.new("RGB", (40, 30), (len(n) % 250, 9, 9)).save(here / n, exif=exif)
        (here / "half.jpg").write_bytes((here / names[0]).read_bytes()[:200])
        (here / "text.jpg").write_text("no picture")
        with Job.create(scratch() / "j") as job:
            incoming = read_files([*sorted(here.glob("*.jpg")), here / "a" / "x y.jpg"])
            sitting, added, _ = take_in(job, "A", incoming)
            self.assertEqual(added, 6 + (len(incoming.refused) == 1))
            self.assertIn("text.jpg cannot be read", " ".join(incoming.refused))
            photos = job.photos(sitting.id)
            self.assertEqual(sum(p.name == "x y.jpg" for p in photos), 2)
            whole = next(p for p in photos if p.name == "[1].jpg")
            self.assertEqual(exposure_text(whole.exposure_s, whole.f_number, whole.iso), "1/125 s f/8 ISO 400")


class Card(unittest.TestCase):
    """Both demo sittings with their plates in one folder, made small."""

    def test_bare_frames_are_found_and_split_and_serve_as_plates(self):
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "Card", read_folder(card_set() / "card"))
            out = run(job, sitting, "photos")
            names = {p.id: p.name for p in job.photos(sitting.id)}
            self.assertEqual([names[i] for i in out.figures.bare], ["U_0107.jpg", "U_0137.jpg"])
            self.assertIn("bare backdrop", out.problems[0]["text"])
            parts = propose_split(job, sitting, "bare")
            self.assertEqual([(len(a), len(b)) for a, b in parts], [(6, 1), (6, 1)])
            self.assertEqual(next(a for a, _ in propose_split(job, sitting, "gaps"))[0], parts[0][0][0])
            job.split_sitting(sitting.id, parts)
            for s in job.sittings():
                job.set_settings(s.id, "masks", {"method": "plate"})  # the sitting's own plates
                run(job, s, "photos")
                self.assertEqual(run(job, s, "masks").figures.masks, 6)


class Sharpness(unittest.TestCase):
    def pictures(self, n=20, blurred=(3, 11)):
        rng = np.random.default_rng(4)
        texture = sum(gaussian_filter(rng.normal(size=(400, 400)), s) * s for s in (0.7, 1.4, 3.0, 6.0))
        out = []
        for k in range(n):
            x, y = rng.integers(0, 160, 2)
            g = 128 + 30 * texture[y : y + 240, x : x + 240]
            g = gaussian_filter(g, 1.5) if k in blurred else g
            out.append((g + rng.normal(size=g.shape) * 1.5).astype(np.float32))
        return out

    def test_blurred_ones_rank_lowest_and_are_the_only_soft_ones(self):
        values = [sharpness(g) for g in self.pictures()]
        self.assertEqual(set(np.argsort(values)[:2].tolist()), {3, 11})
        self.assertEqual(set(soft_ones(values)), {3, 11})
        self.assertEqual(soft_ones(values[:3]), [])

    def test_a_sharp_backdrop_does_not_excuse_a_soft_object(self):
        sharp, soft = self.pictures(2, blurred=(1,))
        mask = np.zeros(sharp.shape, bool)
        mask[60:180, 60:180] = True
        mixed = np.where(mask, soft, sharp)
        self.assertAlmostEqual(sharpness(mixed, mask), sharpness(soft), delta=0.04)
        self.assertGreater(sharpness(mixed), sharpness(mixed, mask) * 1.1)

    def test_focus_is_told_from_place_to_place(self):
        sharp, soft = self.pictures(2, blurred=(1,))
        gray = np.tile(np.where(np.arange(240) < 120, sharp, soft), (1, 2))
        gray[:, 360:] = 128.0  # nothing to see there
        codes = focus(gray)
        self.assertEqual(codes.shape, (8, 15))
        np.testing.assert_allclose(codes[2:6, 1:3] / CODES, sharpness(sharp), rtol=0.15)
        np.testing.assert_allclose(codes[2:6, 5:7] / CODES, sharpness(soft), rtol=0.15)
        self.assertEqual(len(set(codes[1:7, 13:].ravel().tolist())), 1)  # as the usual place
        worth = focus_worth(codes)[codes]
        self.assertGreater(worth[2:6, 1:3].min(), 0.8)
        self.assertLess(worth[2:6, 5:7].max(), 0.7 * worth[2:6, 1:3].min())
        # only the object counts
        mask = np.zeros(gray.shape, bool)
        mask[:, :110] = True
        inside = focus(gray, mask)
        np.testing.assert_allclose(inside[2:6, 5:] / CODES, sharpness(sharp), rtol=0.15)
        self.assertEqual(focus(np.full((100, 100), 7, np.float32)).max(), 0)
        np.testing.assert_array_equal(focus_worth(np.zeros(4, np.uint8)), np.float32(1))

    def test_the_stage_points_them_out_by_name(self):
        folder = scratch() / "p"
        folder.mkdir()
        for k, g in enumerate(self.pictures(8, blurred=(5,))):
            Image.fromarray(np.clip(g, 0, 255).astype(np.uint8)).save(folder / f"p{k}.png")
        with Job.create(scratch() / "j") as job:
            sitting, _, _ = take_in(job, "A", read_folder(folder))
            out = run(job, sitting, "photos")
            self.assertEqual(len(out.problems), 1)
            self.assertIn("p5.png is soft", out.problems[0]["text"])
            self.assertEqual(out.figures.unreadable, [])  # soft, but in use until somebody sets it aside
