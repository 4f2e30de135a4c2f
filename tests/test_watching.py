"""Watching a folder: each photo once and whole, judged beside the others, placed, and the next place in words."""

import os
import shutil
import threading
import time
import unittest
import wave
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np
from PIL import Image, ImageEnhance, ImageFilter

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import pebble_set, pebble_truth, scratch
from umbrate.actions.standing import move_text, next_turn, turn_to_close
from umbrate.core.errors import CannotKeep, UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at
from umbrate.core.targets.turned import turned, turns
from umbrate.desk import sounds
from umbrate.desk.dialogs.shooting import ShootingDialog
from umbrate.job.store import Job
from umbrate.sitting.masks import mask_blobs
from umbrate.stages.photos.records import record_of
from umbrate.studio.playing import photos_of, play
from umbrate.work.queue import Queue
from umbrate.work.tasks import Tasks
from umbrate.work.watching import shooting
from umbrate.work.watching.arrivals import BACK, GONE, LEFT, PHOTO, REPLACED, Arrivals, Judge, News
from umbrate.work.watching.shooting import Shooting
from umbrate.work.worker import Worker


def photo(k):
    return pebble_set() / "by-hand" / f"U_{k:04d}.jpg"


class Folder(unittest.TestCase):
    def setUp(self):
        self.folder, self.now = scratch() / "in", 0.0
        self.folder.mkdir()
        self.arrivals = Arrivals(self.folder, clock=lambda: self.now)

    def look(self, seconds=0.5):
        self.now += seconds
        return [(n.kind, Path(n.file).name) for n in self.arrivals.look()]

    def settle(self, seconds=1.0):
        return self.look(0.1) + self.look(seconds)

    def put(self, name, data):
        (self.folder / name).write_bytes(data)

    def test_a_photo_comes_once_and_only_when_it_is_whole(self):
        data = photo(1).read_bytes()
        self.put("a.jpg", data[:9000])
        self.assertEqual(self.settle(), [])
        self.assertEqual(self.look(5.0), [])  # half a file that nobody writes to
        self.put("a.jpg", data)
        self.assertEqual(self.look(0.3), [])  # it has just changed
        self.assertEqual(self.look(), [(PHOTO, "a.jpg")])
        self.assertEqual(self.look(), [])
        self.put("a.jpg", photo(2).read_bytes())
        self.assertEqual(self.settle(), [(REPLACED, "a.jpg")])
        os.utime(self.folder / "a.jpg")  # touched, the same content
        self.assertEqual(self.settle(), [])
        self.put("b.jpg", b"")
        self.put(".c.jpg", data)
        self.put("c.txt", data)
        (self.folder / "d.jpg").mkdir()
        self.assertEqual(self.settle(20.0), [])
        self.put("e.jpg", data[:9000])
        self.assertEqual(self.settle(), [])
        self.assertEqual(self.look(20.0), [(LEFT, "e.jpg")])
        self.assertEqual(self.look(20.0), [])  # told once
        self.put("e.jpg", photo(3).read_bytes())
        self.assertEqual(self.settle(), [(PHOTO, "e.jpg")])

    def test_copies_and_the_raw_file_of_a_shot_are_left_out(self):
        data = photo(1).read_bytes()
        self.put("a.jpg", data)
        self.put("copy.jpg", data)
        self.assertEqual(self.settle(), [(PHOTO, "a.jpg"), (LEFT, "copy.jpg")])
        self.put("n1.DNG", photo(2).read_bytes())  # what is in a raw file does not matter here
        self.assertEqual(self.settle(), [])  # it waits for its JPEG
        self.put("N1.jpg", photo(2).read_bytes())
        self.assertEqual(self.settle(), [(LEFT, "n1.DNG"), (PHOTO, "N1.jpg")])
        known = Arrivals(self.folder, [(str(photo(3)), self.arrivals._in[str(self.folder / "a.jpg")])],
                         clock=lambda: self.now)  # fmt: skip
        self.arrivals = known
        self.assertIn((LEFT, "a.jpg"), self.settle())  # the job has it from another folder

    def test_a_folder_that_vanishes_and_comes_back_brings_only_what_is_new(self):
        self.put("a.jpg", photo(1).read_bytes())
        self.assertEqual(self.settle(), [(PHOTO, "a.jpg")])
        away = self.folder.with_name("away")
        self.folder.rename(away)
        self.assertEqual((self.look(), self.look()), ([(GONE, "in")], []))
        shutil.copy(photo(2), away / "b.jpg")
        away.rename(self.folder)
        self.assertEqual(self.look(), [(BACK, "in")])
        self.assertEqual(self.settle(), [(PHOTO, "b.jpg")])


class Judging(unittest.TestCase):
    def test_good_ones_pass_soft_and_wrongly_exposed_ones_are_told(self):
        judge, place = Judge(), scratch()
        for k in range(1, 8):
            self.assertEqual(judge.judge(photo(k)).complaints, (), k)
        image = Image.open(photo(8)).convert("RGB")
        for name, made, words in (
            ("soft", image.filter(ImageFilter.GaussianBlur(2.0)), "Soft"),
            ("dark", ImageEnhance.Brightness(image).enhance(0.4), "stops darker"),
            ("light", ImageEnhance.Brightness(image).enhance(1.9), ""),
            ("white", ImageEnhance.Brightness(image).enhance(6.0), "white"),
        ):
            made.save(place / f"{name}.jpg", quality=95)
            told = " ".join(Judge.judge(judge, place / f"{name}.jpg").complaints)
            self.assertIn(words, told, name)
            self.assertTrue(told, name)
        self.assertEqual(judge.judge(photo(8)).complaints, ())


class Words(unittest.TestCase):
    def at(self, azimuth, height, r):
        a, h = np.radians(azimuth), np.radians(height)
        return look_at(r * np.array([np.cos(a) * np.cos(h), np.sin(a) * np.cos(h), np.sin(h)]), np.zeros(3))

    def test_right_is_where_the_cameras_right_is(self):
        """Of random moves: the word agrees with the side on which the place lies in the last photo's own frame."""
        rng = np.random.default_rng(3)
        for _ in range(200):
            a, h, r = rng.uniform(0, 360), rng.uniform(0, 60), rng.uniform(100, 300)
            turn, up, far = rng.uniform(-140, 140), rng.uniform(0, 60), rng.uniform(0.5, 2)
            last, wanted = self.at(a, h, r), self.at(a + turn, up, far * r)
            told = move_text(last, wanted, np.zeros(3))
            x = (last[:3, :3] @ center(wanted) + last[:3, 3])[0]
            if abs(turn) > 5:
                self.assertIn("right" if x > 0 else "left", told)
            if abs(up - h) > 5:
                self.assertIn("higher" if up > h else "lower", told)
            if abs(far - 1) > 0.15:
                self.assertIn("closer" if far < 1 else "farther", told)
            mirrored = move_text(last, wanted, np.zeros(3), turntable=True)
            if abs(turn) > 5:
                self.assertIn("turn it", mirrored)
                self.assertIn(" clockwise" if x > 0 else " counterclockwise", mirrored)

    def test_sentences(self):
        for move, words in (
            ((0, 40, 200), "from the same place"),
            ((40, 20, 200 * 2 / 3), "40° to the right, 20° lower, closer by a third"),
            ((-90, 40, 300), "90° to the left, farther by half"),
            ((180, 40, 200), "from the opposite side"),
            ((70, 85, 200), "from straight above"),
            ((0, -30, 200), "as low as you can"),
        ):
            self.assertEqual(move_text(self.at(10, 40, 200), self.at(10 + move[0], *move[1:]), np.zeros(3)), words)

    def test_the_next_turn_closes_the_round_that_is_under_way(self):
        up, foot = np.array([0.0, 0.0, 1.0]), np.zeros(3)
        for step in (20.0, -30.0, 45.0):
            poses = [self.at(200 + step * k, 25, 300) for k in range(5)]
            degrees, left = next_turn(poses, up, foot)
            self.assertAlmostEqual(degrees, step, places=6)
            self.assertEqual(left, round(360 / abs(step)) - 5)
        whole = [self.at(15 * k, 25, 300) for k in range(24)]
        self.assertEqual(next_turn(whole, up, foot), (0.0, 0))
        # one is missing in the middle; another round at another height has only begun
        gap = [p for k, p in enumerate(whole) if k != 10]
        self.assertAlmostEqual(abs(next_turn(gap, up, foot)[0]), 165.0, delta=0.01)
        begun = [*whole, self.at(0, 50, 300), self.at(20, 50, 300)]
        self.assertAlmostEqual(next_turn(begun, up, foot)[0], 20, places=6)
        # in a frame that is tilted, nothing changes
        R = np.linalg.qr(np.random.default_rng(0).normal(size=(3, 3)))[0]
        R *= np.sign(np.linalg.det(R))
        T = np.eye(4)
        T[:3, :3] = R.T
        tilted = [p @ T for p in begun]
        self.assertAlmostEqual(next_turn(tilted, R @ up, foot)[0], 20, places=6)
        self.assertEqual(next_turn(begun[:1], up, foot), (0.0, 0))

    def test_a_mat_alone_tells_the_turn_by_its_targets(self):
        """Of random cameras and turns: the angle and its sign; none where the camera went up or came nearer."""
        rng, lens = np.random.default_rng(5), Lens.from_vector(1600, 1200, [1700, 805, 590, -0.05, 0, 0, 0, 0, 0, 0])
        mat = {n: np.array([*rng.uniform(-90, 90, 2), 0.0]) for n in range(14)}

        def photo(eye, degrees, places=mat):
            """Targets of a mat turned clockwise, and three on a wall."""
            a = -np.radians(degrees)
            R = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
            places = {n: R @ X + [12, -7, 0] for n, X in places.items()} | {
                90 + k: np.array([60.0 * k - 60, 120, 80 + 9 * k * k]) for k in range(3)
            }
            P = np.array(list(places.values())) @ (E := look_at(eye, np.zeros(3)))[:3, :3].T + E[:3, 3]
            xy = lens.project(P[:, :2] / P[:, 2:]) + rng.normal(scale=0.1, size=(len(P), 2))
            return {n: q for n, q in zip(places, xy, strict=True) if rng.random() < 0.85}

        for _ in range(12):
            eye = np.array([*rng.uniform(-300, 300, 2), rng.uniform(180, 500)])
            degrees = rng.uniform(5, 150) * rng.choice([-1, 1])
            found = turned(photo(eye, 20), photo(eye, 20 + degrees))
            self.assertAlmostEqual(found, degrees, delta=0.5)
            self.assertIsNone(turned(photo(eye, 20), photo(eye, 20)))  # it was not turned
            # round the mat with the camera is a turn as well; up, or nearer, is none
            self.assertIsNone(turned(photo(eye, 20), photo(eye + [0, 0, 120.0], 20)))
            self.assertIsNone(turned(photo(eye, 20), photo(0.8 * eye, 20)))
        eye = np.array([40.0, -300, 260])
        round_ = [photo(np.array([0.0, -250, 400]), 0), *(photo(eye, 30 * k) for k in range(5))]
        at = turns(round_)
        self.assertEqual(len(at), 5)  # the first was taken from elsewhere
        degrees, left = turn_to_close(at)
        self.assertAlmostEqual(degrees, 30, delta=0.3)
        self.assertEqual(left, 7)
        self.assertLess(turn_to_close(turns([photo(eye, -40 * k) for k in range(3)]))[0], -39)

    def test_which_way_the_disc_turns_does_not_hang_on_the_axis_sign(self):
        # the demo's disc is turned counterclockwise by 30 degrees: the camera goes round the object clockwise
        poses = [self.at(-111 - 30 * k, 25, 300) for k in range(9)]
        frame = SimpleNamespace(matrix=np.eye(4))
        for sign in (1.0, -1.0):
            axis = SimpleNamespace(direction=[0, 0, sign], point=[0, 0, 0])
            with mock.patch.object(shooting, "frame_of", return_value=frame):
                told = shooting._turn(None, None, SimpleNamespace(turntable=axis), poses)
            self.assertEqual(told, "Turn it 30° counterclockwise; 3 to go in this round.")


class Shoot(unittest.TestCase):
    def test_photos_of_the_playing_studio_are_taken_in_placed_and_the_next_are_named(self):
        out, told = scratch() / "in", []
        self.assertEqual(len(photos_of(pebble_set())), 12)
        with Job.create(scratch() / "job") as job:
            queue, tasks = Queue(job, Worker()), Tasks()
            self.addCleanup(queue.close)
            self.addCleanup(tasks.close)
            at_once = []

            def tell(kind, text):
                told.append((kind, text))
                if kind == "first":  # before any run knows of it
                    new = list(work.first.values())[-1]
                    at_once.append((new.name, {**_solved(job), new.name: new.pose}))

            work = Shooting(job, "By hand", out / "by-hand", queue, tasks, tell)
            first = threading.Event()

            def wait(seconds):  # the last four come when the others stand, one after the other
                many = len(list(out.rglob("*.jpg"))) >= 8
                first.wait(60) if many else None
                time.sleep(1.0 if many else min(seconds, 0.2))

            player = threading.Thread(target=play, args=(pebble_set(), out, 0.4), kwargs={"sleep": wait})
            player.start()
            nexts = 0
            while player.is_alive() or not (queue.idle and tasks.idle) or nexts < 3:
                work.take(work.look())
                queue.poll(0.05)
                tasks.poll(0.05)
                began = work.step()
                if any(k == "placed" for k, _ in told):
                    first.set()
                busy = player.is_alive() or began or not (queue.idle and tasks.idle)
                nexts = 0 if busy or len(job.photos(1)) < 12 else nexts + 1
            kinds = [k for k, _ in told]
            self.assertEqual(kinds.count("good") + kinds.count("bad"), 12, told)
            placed = [t for k, t in told if k == "placed"]
            self.assertIn("12 of 12 photos stand", placed[-1])
            self.assertGreater(len(placed), 1)  # they were placed while others still came
            self.assertEqual(told[-1][0], "next")
            self.assertEqual(len(mask_blobs(job, work.sitting)), 12)
            self.assertGreater(len(at_once), 1)
            for name, poses in at_once:
                self.assertIn(name, poses)
                figures, _ = pebble_truth().judge_poses("By hand", poses)
                self.assertLess(figures["rotation_deg_max"], 1.5)
            figures, _ = pebble_truth().judge_poses("By hand", _solved(job))
            self.assertEqual(figures["solved"], 12)
            self.assertLess(figures["rotation_deg_median"], 0.4)

    def test_a_sitting_that_takes_no_photos_and_a_job_that_cannot_be_written_to_lose_none(self):
        folder, told = scratch() / "in", []
        folder.mkdir()
        with Job.create(scratch() / "job") as job:
            queue, tasks = Queue(job, Worker()), Tasks()
            self.addCleanup(queue.close)
            self.addCleanup(tasks.close)
            work = Shooting(job, " Up\n", folder, queue, tasks, lambda *x: told.append(x))
            self.assertEqual(work.name, "Up")
            records = [record_of(str(photo(k))) for k in (1, 2)]
            work.take([(News(PHOTO, r["path"], "", r), None) for r in records])
            with mock.patch.object(Job, "add_sitting", side_effect=CannotKeep("The disk is full.")) as tried:
                self.assertFalse(work.step() or work.step())
            self.assertEqual(tried.call_count, 1)  # and not again and again
            self.assertIn(("trouble", "The disk is full. 2 photos wait until the next one comes."), told)
            work.take([(News(PHOTO, str(photo(3)), "", record_of(str(photo(3)))), None)])
            self.assertTrue(work.step())
            self.assertEqual([len(job.photos(s.id)) for s in job.sittings()], [3])
            job.rename_sitting(work.sitting.id, "Below")
            self.assertEqual(work.sitting.name, "Below")  # those that come now come there, too
            # what goes wrong before Poses is told as well, once
            queue.failures[work.sitting.id, "masks"] = SimpleNamespace(message="No mask fits.")
            work._after(work.sitting)
            work._after(work.sitting)
            self.assertEqual([x for k, x in told if k == "trouble"][1:],
                             ["No mask fits. Go on shooting: it is tried again with the next photo."])  # fmt: skip
            row = SimpleNamespace(id=9, name="Whole", members=(1, 2))
            with mock.patch.object(Job, "sittings", return_value=[row]):
                with self.assertRaisesRegex(UmbrateError, "joined from other sittings"):
                    Shooting(job, "Whole", folder, queue, tasks, told.append)


class InTheWindow(DeskTest):
    def test_photos_are_taken_in_heard_placed_and_where_to_stand_is_drawn(self):
        out, s = scratch() / "in", self.session
        with Job.create(scratch() / "job") as job:
            folder = job.folder
        self.assertTrue(self.window.open_path(folder))
        dialog = ShootingDialog(s, self.window)
        self.addCleanup(dialog.deleteLater)
        dialog.show()
        self.assertFalse(dialog.start.isEnabled())
        dialog.place.setText(str(out / "by-hand"))
        dialog.name.setText("Upright")
        played = []
        with mock.patch.object(dialog._sounds, "play", played.append):
            dialog.start.click()
            self.assertIn("cannot be read", self.wait_told("folder", "cannot"))
            for k, (file, mask) in enumerate(photos_of(pebble_set())):
                place = out / file.relative_to(pebble_set())
                (place.parent / "masks").mkdir(parents=True, exist_ok=True)
                shutil.copy(mask, place.parent / "masks")
                if k == 7:  # a soft one
                    Image.open(file).filter(ImageFilter.GaussianBlur(2.0)).save(place, quality=95)
                else:
                    shutil.copy(file, place)
                if k == 5:
                    self.wait_told("placed", "6 of 6")
                if k == 6:
                    dialog.sound.setChecked(False)
                    self.wait_told("good", file.name)
                    dialog.sound.setChecked(True)
            self.wait_told("next", "seen well", photos=12)
        self.assertIsNotNone(s.shooting.shell)
        self.assertGreater(len(s.shooting.shell.faces), 300)
        self.assertTrue(any(k == "first" for k, _ in s.shooting.lines))
        self.window.scene.grab()  # the quick surface is drawn
        dialog.shell.setChecked(False)
        self.assertIsNone(s.shooting.shell)
        self.assertEqual(len(played), 11)
        self.assertEqual(played.count(False), 1)
        self.assertTrue(any(k == "bad" and "Soft" in x for k, x in s.shooting.lines))
        self.assertEqual((s.sitting.name, s.stage), ("Upright", "poses"))
        self.assertEqual(dialog.next.count(), len(s.shooting.work.next.texts))
        wait_for(lambda: s.points.covered is not None)
        if s.shooting.work.next.rows:
            dialog.next.setCurrentRow(0)
            self.assertEqual(s.points.place, s.shooting.work.next.rows[0])
        dialog.start.click()
        self.assertIsNone(s.shooting.work)
        shutil.copy(pebble_set() / "by-hand" / "U_0001.jpg", out / "by-hand" / "late.jpg")
        dialog.start.click()
        self.wait_told("left", "copy of U_0001.jpg")  # those that are in are known after a restart
        wait_for(lambda: s.queue.idle and s.tasks.idle)
        self.window.close_job()
        self.assertIsNone(s.shooting.work)
        dialog.refresh()

    def wait_told(self, kind, words, photos=0):
        s = self.session

        def told():
            return next((x for k, x in reversed(s.shooting.lines) if k == kind and words in x), None)

        wait_for(lambda: told() and len(s.photos()) >= photos and (not photos or (s.queue.idle and s.tasks.idle)), 120)
        return told()

    def test_the_tones_are_sound(self):
        for notes in (sounds.GOOD, sounds.BAD):
            file = scratch() / "t.wav"
            sounds.write_tones(file, notes)
            with wave.open(str(file)) as w:
                data = np.frombuffer(w.readframes(w.getnframes()), "<i2")
                rate = w.getframerate()
            self.assertAlmostEqual(len(data) / rate, sum(s for _, s in notes), delta=0.01)
            n = int(rate * notes[0][1])
            loudest = np.argmax(np.abs(np.fft.rfft(data[:n]))) * rate / n
            self.assertAlmostEqual(loudest, notes[0][0], delta=rate / n)
            self.assertLess(abs(int(data[0])) + abs(int(data[-1])), 200)  # no click


def _solved(job):
    from umbrate.actions.delivering import camera_rows

    return {r["name"]: r["pose"] for r in camera_rows(job)[0] if r["pose"] is not None}


if __name__ == "__main__":
    unittest.main()
