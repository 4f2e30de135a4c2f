"""What Umbrate says is so: of the content that was brought in, in the frame people see, told where it moved."""

import csv
import json
import os
import shutil
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from tests.scenes import card_set, pebble_set, scratch
from tests.test_cli import umbrate
from tests.test_job import document, record
from tests.test_outside import call, solved_job
from tests.test_stages import new_job, run, state
from umbrate.actions.delivering import export_cameras
from umbrate.actions.leveling import change_level, level_by_turn
from umbrate.actions.marking import export_points, know, take_coordinates
from umbrate.actions.measuring import Measurer, measure_all, refresh_all
from umbrate.actions.reporting import report_content, write_accuracy_report
from umbrate.core.errors import UmbrateError
from umbrate.core.imaging import decode
from umbrate.formats.coordinates import read_coordinates, write_coordinates
from umbrate.formats.fonts import in_fonts
from umbrate.job.contents import BLOCK
from umbrate.job.store import Job
from umbrate.sitting import photos
from umbrate.sitting.frames import FRAMED, frame_of
from umbrate.stages import BY_NAME
from umbrate.stages.base import parse_settings
from umbrate.stages.dense import maps as cloud
from umbrate.stages.poses import items
from umbrate.work.adding import read_folder
from umbrate.work.state import DONE, STALE


def some_photos(count=4):
    """A folder with the first photos of the pebble and their masks, of its own."""
    folder = scratch() / "photos"
    (folder / "masks").mkdir(parents=True)
    for file in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:count]:
        shutil.copy(file, folder)
        shutil.copy(file.parent / "masks" / f"{file.stem}.png", folder / "masks")
    return folder


def copy_of(folder):
    """A job's folder once more, opened."""
    return Job.open(shutil.copytree(folder, scratch() / "copy"))


class WhatWasBroughtIn(unittest.TestCase):
    def setUp(self):
        self.folder = some_photos()
        self.job, self.sitting = new_job(scratch() / "j", self.folder)
        self.addCleanup(self.job.close)
        self.files = sorted(self.folder.glob("*.jpg"))

    def settings(self, stage):
        return parse_settings(BY_NAME[stage], self.job.settings(self.sitting.id, stage))

    def test_a_photo_that_was_edited_is_told_and_nothing_is_kept_under_its_old_content(self):
        for name in ("photos", "masks", "lens"):
            run(self.job, self.sitting, name)
        whole = self.files[0].read_bytes()
        with Image.open(self.files[0]) as image:
            image.transpose(Image.Transpose.FLIP_LEFT_RIGHT).save(self.files[0], exif=image.getexif())
        before = {f for f in self.job.blobs.folder.rglob("*") if f.is_file()}
        for read in (
            lambda: run(self.job, self.sitting, "poses"),
            lambda: photos.photo_picture(photos.photo_refs(self.job, self.sitting)[0]),
            lambda: photos.photo_thumbnail(photos.photo_refs(self.job, self.sitting)[0], 100),
        ):
            with self.assertRaisesRegex(UmbrateError, "has changed on the disk"):
                read()
        # saved anew between the first look at its content and the end of reading it
        self.files[0].write_bytes(whole)
        real = decode.read_picture

        def edited(path):
            out = real(path)
            Path(path).write_bytes(whole + b"more")
            return out

        with mock.patch("umbrate.sitting.photos.read_picture", edited), self.assertRaisesRegex(UmbrateError, "changed"):
            photos.photo_picture(photos.photo_refs(self.job, self.sitting)[0])
        ref = photos.photo_refs(self.job, self.sitting)[0]
        marks = [f for f in self.job.folder.rglob("*") if f.is_file() and ref.hash[:12] in f.read_text("latin-1")]
        self.assertLessEqual({f.name for f in marks} - {f.name for f in before}, {"job.sqlite", "job.sqlite-wal"})
        self.files[0].write_bytes(whole)
        run(self.job, self.sitting, "poses")

    def test_a_folder_that_was_moved_and_found_is_in_use_at_once(self):
        elsewhere = self.folder.parent / "elsewhere"
        os.rename(self.folder, elsewhere)
        with self.assertRaises(UmbrateError) as caught:
            run(self.job, self.sitting, "lens")
        self.assertEqual(caught.exception.remedy, ("find photos",))
        out = run(self.job, self.sitting, "photos")
        self.assertEqual((out.figures.readable, len(out.figures.missing)), (0, 4))
        self.assertEqual(len(photos.photo_refs(self.job, self.sitting)), 0)
        self.assertEqual(self.job.find_missing(elsewhere), 4)
        self.assertEqual(len(photos.photo_refs(self.job, self.sitting)), 4)
        self.assertEqual(state(self.job, "photos"), STALE)
        self.assertEqual(run(self.job, self.sitting, "lens").figures.photos, 4)
        run(self.job, self.sitting, "photos")
        self.assertEqual(state(self.job, "photos"), DONE)
        # a damaged file that is there is not one that was found
        (elsewhere / self.files[0].name).write_bytes(b"\xff\xd8 no photo")
        run(self.job, self.sitting, "photos")
        self.assertNotEqual(state(self.job, "photos"), STALE)

    def test_what_was_seen_of_a_file_is_kept_by_its_content(self):
        run(self.job, self.sitting, "photos")
        first = self.job.result(self.sitting.id, "photos")
        self.job.set_aside([self.job.photos(self.sitting.id)[0].id])
        self.assertEqual(state(self.job, "photos"), STALE)
        with mock.patch("umbrate.sitting.photos.read_reduced_image", side_effect=AssertionError("read again")):
            out = run(self.job, self.sitting, "photos")
        self.assertEqual(out.figures.readable, 3)
        self.assertEqual(
            out.figures.sharpness, {i: v for i, v in first.figures.sharpness.items() if i in
                                       {p.id for p in self.job.photos(self.sitting.id, aside=False)}},
        )  # fmt: skip
        self.job.tidy()
        aside = self.job.photos(self.sitting.id)[0]
        kept = self.job.seen({aside.hash})[aside.hash]
        self.assertTrue(self.job.blobs.has(kept["thumbnail"], kept["light"]))
        self.job.set_aside([aside.id], False)
        with (
            mock.patch("umbrate.stages.photos.stage.LOOK_VERSION", 2),
            mock.patch("umbrate.sitting.photos.read_reduced_image", side_effect=photos.read_reduced_image) as read,
        ):
            run(self.job, self.sitting, "photos")
        self.assertEqual(read.call_count, 4)

    def test_what_an_older_version_computed_is_not_current(self):
        for name in ("photos", "masks", "lens"):
            run(self.job, self.sitting, name)
            stage = BY_NAME[name]
            self.assertEqual(state(self.job, name), DONE)
            with mock.patch.object(type(stage), "version", stage.version + 1):
                self.assertEqual(state(self.job, name), STALE, name)
        inputs, settings = (
            BY_NAME["poses"].gather(self.job, self.sitting, self.settings("poses")),
            self.settings("poses"),
        )
        ref = inputs.photos[0]
        old = items.feature_key(ref, "", settings), items.match_key(settings)
        for constant, k in (("FEATURE_VERSION", 0), ("MATCH_VERSION", 1)):
            with mock.patch.object(items, constant, 99):
                new = items.feature_key(ref, "", settings), items.match_key(settings)
            self.assertNotEqual(new[k], old[k])
            self.assertEqual(new[1 - k], old[1 - k])
        dense = mock.Mock(block="b", keep_box=None, masks={}, length=1.0)
        settings = self.settings("cloud")
        old = cloud.depth_key(dense, settings, [ref], 0, [[]])
        with mock.patch.object(cloud, "DEPTH_VERSION", cloud.DEPTH_VERSION + 1):
            self.assertNotEqual(cloud.depth_key(dense, settings, [ref], 0, [[]]), old)


class OddFiles(unittest.TestCase):
    def test_files_are_taken_one_by_one_and_bad_ones_are_listed(self):
        folder = some_photos(3)
        (folder / "broken.jpg").write_bytes(b"\xff\xd8\xff no more")
        odd = os.fsencode(folder) + b"/not-utf8-\xff.jpg"
        shutil.copy(sorted(folder.glob("*.jpg"))[1], odd)
        files = [f for f in sorted(folder.glob("*.jpg")) if f.name != "broken.jpg"][:3]
        job = scratch() / "j"
        self.assertEqual(umbrate("new", job).returncode, 0)
        (folder / "notes.txt").write_text("no photo")
        every = [files[0], folder / "broken.jpg", folder / "nowhere.jpg", os.fsdecode(odd), folder / "notes.txt"]
        out = umbrate("add", job, *every, files[1], "--sitting", "A", "--masks", folder / "masks")
        self.assertEqual(out.returncode, 1, out.stderr)  # scripts are told that not all came in
        self.assertIn("Added 2 photos", out.stdout)
        told = [line for line in out.stderr.splitlines() if line.startswith("Left out")]
        self.assertEqual(len(told), 4, out.stderr)
        for bad in ("broken.jpg", "nowhere.jpg does not exist", "not-utf8-", "notes.txt"):
            self.assertEqual(sum(bad in line for line in told), 1, (bad, told))
        with Job.open(job) as j:
            (s,) = j.sittings()
            self.assertEqual([p.name for p in j.photos(s.id)], [f.name for f in files[:2]])
            self.assertEqual(j.settings(s.id, "masks")["folder"], str((folder / "masks").resolve()))
        # and a whole folder that has such a name in it
        out = umbrate("add", job, folder, "--sitting", "B")
        self.assertIn("Added 3 photos", out.stdout)
        self.assertIn("not-utf8-", out.stderr)

    def test_long_and_flat_pictures_are_refused_and_do_not_end_a_job_that_has_them(self):
        folder = some_photos(2)
        sizes = ((5000, 1), (1, 5000), (1, 1), (20, 3))
        for k, size in enumerate(sizes):
            Image.new("RGB", size, (90, 90, 90)).save(folder / f"flat{k}.png")
        refused = read_folder(folder).refused
        self.assertEqual(len(refused), 4)
        self.assertTrue(all("too narrow for a photo" in r for r in refused))
        with mock.patch("umbrate.core.imaging.facts.LEAST_SIDE", 1):  # as it was
            job, sitting = new_job(scratch() / "j", folder, masks=False)
        with job:
            out = run(job, sitting, "photos")
            names = {p.id: p.name for p in job.photos(sitting.id)}
            self.assertEqual((out.figures.photos, out.figures.readable), (6, 2))
            self.assertEqual({names[i] for i in out.figures.unreadable}, {f"flat{k}.png" for k in range(len(sizes))})
            self.assertEqual({names[p["photo"]] for p in out.problems if "narrow" in p["text"]},
                             {f"flat{k}.png" for k in range(len(sizes))})  # fmt: skip

    def test_sixteen_bits_do_not_take_many_times_their_memory(self):
        import tracemalloc

        file = scratch() / "deep.png"
        Image.fromarray(np.random.default_rng(0).integers(0, 65536, (1500, 2000), np.uint16)).save(file)
        tracemalloc.start()
        try:
            picture = decode.read_picture(file)
            peak = tracemalloc.get_traced_memory()[1]
        finally:
            tracemalloc.stop()
        self.assertEqual(picture.dtype, np.uint8)
        self.assertLess(peak / (1500 * 2000), 9)  # bytes a pixel, three of which are the picture

    def test_left_and_right_exchanged_is_told_by_exif_data_and_by_targets(self):
        folder = scratch() / "mirrored"
        folder.mkdir()
        for k, file in enumerate(sorted((card_set() / "upright").glob("*.jpg"))[:3]):
            with Image.open(file) as image:
                exif = image.getexif()
                flipped = image.transpose(Image.Transpose.FLIP_LEFT_RIGHT) if k < 2 else image
                if k == 2:
                    exif[0x0112] = 2
                flipped.save(folder / file.name, exif=exif, quality=95)
        job, sitting = new_job(scratch() / "j", folder, masks=False)
        with job:
            names = [p.name for p in job.photos(sitting.id)]
            said = " ".join(p["text"] for p in run(job, sitting, "photos").problems)
            self.assertIn(names[2], said)
            self.assertNotIn(names[0], said)
            out = run(job, sitting, "lens")
            said = " ".join(p["text"] for p in out.problems if "mirror" in p["text"])
            self.assertTrue(names[0] in said and names[1] in said, said)
            self.assertNotIn(names[2], said)
            ids = {p.name: p.id for p in job.photos(sitting.id)}
            self.assertEqual(set(out.figures.mirrored), {ids[names[0]], ids[names[1]]})


class Told(unittest.TestCase):
    """A job with poses, scale, cloud and a measurement."""

    def setUp(self):
        self.job = copy_of(solved_job()[0])
        self.addCleanup(self.job.close)
        (self.sitting,) = self.job.sittings()
        refresh_all(self.job)

    def told(self):
        """What the ledger says of measurements, the last first."""
        return [e for e in reversed(self.job.ledger()) if e.stage == "measure"]

    def test_the_ledger_tells_old_and_new_values_whatever_moved_them(self):
        job, s = self.job, self.sitting
        m = job.add_measurement(s.id, "point", ["T0"], "spot")
        refresh_all(job)
        before = {i: v["text"] for i, v in measure_all(job, s).items()}
        count = len(self.told())

        def moved():
            changes = refresh_all(job)
            after = {i: v["text"] for i, v in measure_all(job, s).items()}
            return changes, after

        level_by_turn(job, s, np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]))
        changes, leveled = moved()
        self.assertEqual(changes[s.id], [("spot", before[m], leveled[m])])
        entry = self.told()[0]
        self.assertTrue(before[m] in entry.message and leveled[m] in entry.message, entry.message)
        job.undo()
        changes, _ = moved()
        self.assertEqual(changes[s.id], [("spot", leveled[m], before[m])])
        self.assertEqual(refresh_all(job), {})
        k = job.lengths(s.id)[0]
        for x in job.lengths(s.id):
            job.set_length(x.id, value_mm=2 * x.value_mm)
        run(job, s, "scale")
        changes, _ = moved()
        self.assertEqual({n for n, _, _ in changes[s.id]}, {"spot", job.measurements(s.id)[0].name})
        self.assertEqual(len(self.told()), count + 3)
        self.assertEqual(job.lengths(s.id)[0].value_mm, 2 * k.value_mm)

    def test_known_coordinates_and_a_level_have_one_rule_and_targets_carry_them_far_from_zero(self):
        job, s = self.job, self.sitting
        for k in job.lengths(s.id):
            job.remove_length(k.id)
        far = np.array([4_512_345_678.9, -5_432_109.87, 312_345.67]) * [1e-1, 1, 1]
        places = {n: np.array(Measurer(job, s).measure("point", [n])["value"]) for n in ("T0", "T1", "T2", "T3", "T4")}
        level_by_turn(job, s, np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]))
        self.assertEqual(frame_of(job, s).problem, "")
        for n, X in places.items():
            know(job, s, job.end_of(s.id, n), 10.0 * X + far, (0.02,) * 3)
        out = run(job, s, "scale")
        frame = frame_of(job, s)
        self.assertTrue(out.figures.framed and frame.framed)
        self.assertEqual(frame.problem, FRAMED)  # said, and the level is still there for when they are switched off
        self.assertGreater(abs(frame.offset[0]), 1e8)
        for n, X in places.items():
            np.testing.assert_allclose(Measurer(job, s).measure("point", [n])["value"], 10.0 * X + far, atol=0.1)
        for refused in (lambda: level_by_turn(job, s, np.eye(3)), lambda: change_level(job, s, origin="T0")):
            before = document(job)
            with self.assertRaisesRegex(UmbrateError, "stands as its known coordinates say"):
                refused()
            self.assertEqual(document(job), before)
        # one's own export comes back in, to the digit
        file = scratch() / "points.csv"
        count = export_points(job, s, file)
        told = {p.name: p for p in read_coordinates(file)}
        self.assertEqual(len(told), count)
        at = {n: Measurer(job, s).measure("point", [n]) for n in places}
        for n, v in at.items():
            np.testing.assert_allclose(told[n].xyz, v["value"], rtol=0, atol=1e-5)
            np.testing.assert_allclose(told[n].sigma, np.array(v["half95"]) / 1.96, rtol=0, atol=1e-5)
        self.assertEqual(take_coordinates(job, s, file), count)
        job.set_settings(s.id, "scale", {"use_known": False})
        run(job, s, "scale")
        self.assertEqual((frame_of(job, s).framed, frame_of(job, s).problem), (False, ""))

    def test_targets_with_known_coordinates_set_the_frame_too(self):
        job, s = self.job, self.sitting
        job.remove_marked_points([p.id for p in job.marked_points(s.id)])
        poses = job.result(s.id, "poses")
        block = dict(job.blobs.get_arrays(poses.blob("block"), BLOCK))
        often = np.argsort(-np.bincount(block["point"], minlength=len(block["points"])))[:40]
        rng = np.random.default_rng(2)
        block["number"] = block["number"].copy()
        block["number"][often] = np.arange(200, 240)
        artefacts = {**poses.artefacts, ("block", None): job.blobs.put_arrays(**block)}
        job.commit_result(s.id, "poses", poses.fingerprint, poses.settings, poses.figures, [], artefacts, 1.0)
        X = 25.0 * block["points"][often] + [250.0, -40.0, 7.0]
        file = scratch() / "known.csv"
        write_coordinates(file, [(str(200 + k), x + rng.normal(0, 1e-3, 3), (0.01,) * 3) for k, x in enumerate(X)])
        self.assertEqual(take_coordinates(job, s, file), 40)
        out = run(job, s, "scale")
        self.assertTrue(out.figures.framed and out.figures.scaled, [p["text"] for p in out.problems])
        self.assertEqual(set(out.figures.known), {str(n) for n in range(200, 240)})
        at = np.array([Measurer(job, s).measure("point", [str(n)])["value"] for n in range(200, 240)])
        self.assertLess(np.sqrt(((at - X) ** 2).mean()), 0.02)
        job.undo()
        self.assertEqual(job.known_targets(s.id), {})

    def test_the_report_says_all_of_it_in_any_script(self):
        job, s = self.job, self.sitting
        job.rename_sitting(s.id, "Верх Άνω 上面")
        job.rename_marked_point(job.marked_point(s.id, "T0").id, "Клюв")
        s = job.sittings()[0]
        for k in range(60):  # a long history, and another sitting of the same name in it by now
            job.record_failure(s.id, "poses", {"seed": k}, 0.1, "failed", f"number {k}")
        twin, _ = job.add_sitting("Other", [record("/p/x.jpg")])
        job.record_failure(twin.id, "cloud", {}, 0.1, "failed", "of another sitting")
        content = report_content(job, s)
        self.assertEqual(sum(r[1] == "Poses" for r in content["ledger"]), 61)
        self.assertNotIn(twin.id, {e.sitting_id for e in job.ledger() if e.sitting_id == s.id})
        self.assertEqual(len(content["ledger"]), sum(e.sitting_id == s.id for e in job.ledger()))
        self.assertEqual({m[0] for m in content["marks"]}, {p.name for p in job.marked_points(s.id)})
        self.assertTrue(all(r is not None and 0 < r < 3 for _, _, r in content["marks"]))
        self.assertEqual(len(content["photos"]), 12)
        self.assertTrue(all(p[-1] > 0 and p[-2] > 0 for p in content["photos"]))
        (lens,) = content["lenses"]
        self.assertTrue(lens["sigma"]["f"] > 0)
        for text in ("Верх Άνω 上面", "Клюв", "emoji 🙂 ≥"):
            self.assertNotIn("\u25a0", in_fonts(text, "Helvetica"))
        many = [*content["photos"]] * 20
        with mock.patch("umbrate.actions.reporting.report_content", return_value={**content, "photos": many,
                        "ledger": content["ledger"] * 2, "lenses": [lens, {**lens, "name": "Second"}]}):  # fmt: skip
            words = self.words(job, s)
        self.assertEqual(words.count(content["photos"][0][0]), 20)
        self.assertEqual(sum(w == "Poses" for w in words), 122)
        self.assertIn("Клюв", words)
        self.assertTrue(any(w.startswith("Second") for w in words))

    def words(self, job, sitting):
        """The texts that are set in the report, by what is drawn on its pages."""
        from reportlab.platypus import Paragraph

        words, real = [], Paragraph.draw

        def draw(paragraph):
            words.append(paragraph.getPlainText())
            return real(paragraph)

        with mock.patch.object(Paragraph, "draw", draw):
            write_accuracy_report(job, sitting, scratch() / "r.pdf")
        return words

    def test_cameras_carry_their_standard_deviations_in_json_and_csv(self):
        job, place = self.job, scratch()
        self.assertEqual(export_cameras(job, place / "c.json"), 12)
        self.assertEqual(export_cameras(job, place / "c.csv"), 12)
        d = json.loads((place / "c.json").read_text())
        with open(place / "c.csv", encoding="utf-8", newline="") as f:
            rows = list(csv.DictReader(f))
        self.assertTrue(all(p["sigma"]["turn_deg"] > 0 and p["sigma"]["place"] > 0 for p in d["photos"]))
        self.assertTrue({"f", "cx", "cy"} <= set(d["lenses"][0]["sigma"]))
        for p, r in zip(d["photos"], rows, strict=True):
            E = np.array(p["world_to_camera"])
            np.testing.assert_allclose([float(r[f"{a} [mm]"]) for a in "xyz"], -E[:3, :3].T @ E[:3, 3], atol=1e-6)
            R = [float(r[f"r{i}{k}"]) for i in "123" for k in "123"]
            np.testing.assert_allclose(R, E[:3, :3].ravel(), atol=1e-11)
            self.assertAlmostEqual(float(r["sigma of the turn [deg]"]), p["sigma"]["turn_deg"], delta=1e-6)
            self.assertAlmostEqual(float(r["sigma of the place [mm]"]), p["sigma"]["place"], delta=1e-5)

    def test_a_section_that_was_kept_stays_where_it_is_on_the_object(self):
        folder = self.job.folder
        place = scratch()
        at = np.array(Measurer(self.job, self.sitting).measure("point", ["T0"])["value"])
        x, y, z = (f"{v:.6f}" for v in at)
        self.job.close()
        out = call("section", folder, place / "a.svg", "--at", x, y, z, "--normal", "1", "2", "3", "--keep", "Waist")
        self.assertEqual(out.exit_code, 0, out.output)
        with Job.open(folder) as job:
            (s,) = job.sittings()
            for k in job.lengths(s.id):
                job.set_length(k.id, value_mm=2 * k.value_mm)
            run(job, s, "scale")
            level_by_turn(job, s, np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]))
        out = call("section", folder, place / "b.dxf", "--plane", "Waist")
        self.assertEqual(out.exit_code, 0, out.output)
        from umbrate.actions.sectioning import cut_cloud, plane_in_job

        with Job.open(folder) as job:
            where, across = plane_in_job(job, s, job.section(s.id, "Waist"))
            new = np.array(Measurer(job, s).measure("point", ["T0"])["value"])
            self.assertLess(abs((new - where) @ across), 0.05)
            made = cut_cloud(job, s, where, across)
            self.assertTrue(made.lines)
        out = call("section", folder, place / "c.svg", "--plane", "no such")
        self.assertEqual(out.exit_code, 1)
        self.assertIn("Waist", out.output)
        self.assertEqual(call("section", folder, "--forget", "Waist").exit_code, 0)
        with Job.open(folder) as job:
            self.assertEqual(job.sections(s.id), [])
            job.undo()
            self.assertEqual([x.name for x in job.sections(s.id)], ["Waist"])
        self.job = Job.open(folder)
        self.addCleanup(self.job.close)


if __name__ == "__main__":
    unittest.main()
