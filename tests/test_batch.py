"""Batches: each folder by itself, broken ones named, stopped anywhere and gone on with, without a display."""

import csv
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

from PyQt6.QtWidgets import QPushButton

from tests import desk
from tests.desk import DeskTest, wait_for
from tests.scenes import pebble_set, scratch
from umbrate.core.errors import UmbrateError
from umbrate.desk.dialogs.batch import BatchDialog
from umbrate.job.store import Job
from umbrate.work import ending
from umbrate.work.batch import running
from umbrate.work.batch.state import DONE, FAILED, FILE, WAITING, Batch
from umbrate.work.batch.summary import CSV, PAGE
from umbrate.work.recipes.text import recipe_of_text
from umbrate.work.worker import Worker

setUpModule, tearDownModule = desk.setUpModule, desk.tearDownModule
ROOT = Path(__file__).resolve().parents[1]
RECIPE = """
umbrate = "recipe"
version = 1
name = "Test <b>"
until = "deliver"
[poses]
features = 2000
[cloud]
rounds = 1
neighbors = 4
[[clean]]
by = "lonely"
[[deliver]]
purpose = "cloud"
[[deliver]]
purpose = "cloud"
cloud_format = "las"
[surface]
size_by = "triangles"
triangles = 2000
[[deliver]]
purpose = "exchange"
exchange_format = "ply"
color_by = "vertices"
"""


def folders(*names):
    """Folders of a batch: good ones, and ones that are broken in the way their name says."""
    top, photos = scratch(), pebble_set() / "by-hand"
    for name in names:
        f = top / name
        if name.startswith("good"):
            shutil.copytree(photos, f)
        elif name == "two sittings":
            for k, some in enumerate((slice(0, 6), slice(6, None))):
                (f / f"part {k}").mkdir(parents=True)
                for p in sorted(photos.glob("*.jpg"))[some]:
                    shutil.copy(p, f / f"part {k}")
        elif name != "missing":
            f.mkdir()
            if name == "one":
                shutil.copy(photos / "U_0001.jpg", f)
            elif name == "cut":
                for k in range(3):
                    (f / f"{k}.jpg").write_bytes((photos / "U_0001.jpg").read_bytes()[:3000])
            elif name == "blank":
                for p in sorted(photos.glob("*.jpg"))[:4]:
                    desk.QImage(640, 480, desk.QImage.Format.Format_RGB32).save(str(f / p.name))
    return [top / n for n in names]


def made_of(out):
    """By name: state, reason, and hashes of what was made."""
    got = {}
    for i in json.loads((out / FILE).read_text())["items"]:
        blobs = []
        if (out / f"{i['name']}.umbrate" / "job.sqlite").exists():
            with Job.open(out / f"{i['name']}.umbrate", writable=False) as job:
                blobs = [job.db.execute(f"SELECT blob FROM {t} ORDER BY id").fetchall() for t in ("cloud", "cleaning")]
                blobs += [m.files for s in job.sittings() if (d := job.result(s.id, "deliver")) for m in d.figures.made]
        got[i["name"]] = i["state"], i["why"], blobs
    return got


class Batches(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.worker = Worker()
        cls.addClassCleanup(cls.worker.close)
        cls.recipe = recipe_of_text(RECIPE, "r")

    def run_batch(self, out, some, recipe=..., **more):
        told = []
        batch = Batch.begin(out, self.recipe if recipe is ... else recipe, some)
        good = running.run_batch(batch, lambda *x: told.append((x[0], x[1] and x[1].name, x[2])), self.worker, **more)
        return good, batch, told

    def test_broken_folders_are_named_and_the_rest_is_made_and_delivered(self):
        names = ["missing", "empty", "good", "one", "cut", "blank", "good <i>"]
        out = scratch() / "out"
        good, batch, _ = self.run_batch(out, folders(*names))
        self.assertFalse(good)
        whys = {i.name: i.why for i in batch.items}
        for name, words in (
            ("missing", "does not exist"), ("empty", "no photos"), ("one", "at least 2"), ("cut", "0.jpg"),
            ("blank", "copies of one file"),
        ):  # fmt: skip
            self.assertEqual(batch.items[names.index(name)].state, FAILED)
            self.assertIn(words, whys[name].lower(), name)
        made = made_of(out)
        self.assertEqual({n for n, m in made.items() if m[0] == DONE}, {"good", "good -i-"})
        self.assertEqual(made["good"][2][:2], made["good -i-"][2][:2])
        # deliveries of one purpose, or of one kind of file, stand beside each other
        self.assertEqual(
            sorted(f.name for f in (out / "good").iterdir()),
            ["good cloud 1.ply", "good cloud 2.las", "good exchange.ply"],
        )
        page = (out / PAGE).read_text()
        self.assertEqual(page.count("data:image/jpeg"), 2)
        self.assertIn("2 done, 5 failed", page)
        self.assertNotRegex(page, "<i>|<b>|https?:")
        for link in re.findall(r'href="([^"]+)"', page):
            self.assertTrue((out / link.replace("%20", " ")).is_file(), link)
        with open(out / CSV, newline="") as f:
            rows = list(csv.DictReader(f))
        self.assertEqual({r["state"] for r in rows if r["name"] == "cut"}, {"failed"})
        self.assertIn("Cloud", {r["stage"] for r in rows if r["name"] == "good"})

    def test_what_is_there_already_is_not_touched_and_one_at_a_time_does_a_batch(self):
        out, (first,) = scratch() / "out", folders("good")
        other = scratch() / "good"
        shutil.copytree(first, other)
        with Job.create(out / "good"):
            pass
        (out / "good 2").mkdir()
        (out / "good 2" / "mine.txt").write_text("mine")
        batch = Batch.begin(out, self.recipe, [first, other, first])
        self.assertEqual([i.name for i in batch.items], ["good", "good (2)"])
        self.assertTrue(Batch.read(out).running)
        with self.assertRaisesRegex(UmbrateError, "runs in .* already"):
            Batch.begin(out, self.recipe, [first])
        running.run_batch(batch, worker=self.worker, stopped=lambda: batch.items[0].state == FAILED)
        self.assertIn("is there already", batch.items[0].why)
        self.assertEqual(batch.items[1].state, WAITING)
        self.assertFalse(Batch.read(out).running)
        with Job.open(out / "good", writable=False) as job:
            self.assertEqual(job.sittings(), [])
        with self.assertRaisesRegex(UmbrateError, "begun with other settings"):
            Batch.begin(out, recipe_of_text(RECIPE.replace("2000", "2500"), "r"), [])
        nowhere = scratch() / "new"
        with self.assertRaisesRegex(UmbrateError, "no batch in"):
            Batch.begin(nowhere, None, [first])
        self.assertFalse(nowhere.exists())
        shutil.rmtree(out / "good.umbrate")
        (out / FILE).write_text((out / FILE).read_text().replace('"version": 1', '"version": 2', 1))
        with self.assertRaisesRegex(UmbrateError, "newer"):
            Batch.read(out)
        for text in ("{}", "[]", "", '{"umbrate": "batch", "version": 1, "recipe": "", "items": []}'):
            (out / FILE).write_text(text)
            with self.assertRaises(UmbrateError):
                Batch.read(out)

    def test_the_end_is_told_by_what_was_asked_for_and_by_nothing_else(self):
        home = scratch()
        for name in ("sendmail", "notify-send"):
            (home / name).write_text(f'#!/bin/sh\n(echo "$@"; cat) > {home}/{name}.told\n')
            (home / name).chmod(0o755)
        surroundings = {"PATH": f"{home}:/usr/bin:/bin", "DBUS_SESSION_BUS_ADDRESS": "unix:path=/nowhere"}
        with mock.patch.dict(os.environ, surroundings):
            self.assertEqual(ending.tell(ending.Ending(False), "t", "x"), [])
            self.assertFalse(list(home.glob("*.told")))
            command = f'echo "$UMBRATE_TITLE; $UMBRATE_TEXT" > {home}/command.told'
            end = ending.Ending(True, command, "anna@example.org")
            end.check()
            self.assertEqual(ending.tell(end, "3 of 4 done", "cup: no photos"), [])
            desk.wait_for(lambda: (home / "command.told").exists() and (home / "command.told").read_text(), 10)
            self.assertEqual((home / "command.told").read_text(), "3 of 4 done; cup: no photos\n")
            self.assertIn("-- 3 of 4 done cup: no photos", (home / "notify-send.told").read_text())
            mail = (home / "sendmail.told").read_text()
            self.assertTrue(mail.startswith("-i -- anna@example.org\n"))
            self.assertIn("Subject: 3 of 4 done", mail)
            (home / "sendmail").write_text("#!/bin/sh\nexit 3\n")
            (told,) = ending.tell(end, "a", "b")
            self.assertIn("The mail did not work", told)
            for wrong in ("anna", "a@b c@d", "-oQ/tmp@x", "a@b\nBcc: c@d", "a@b, c@d"):
                with self.assertRaisesRegex(UmbrateError, "no mail address"):
                    ending.Ending(mail=wrong).check()
            (home / "sendmail").unlink()
            with mock.patch.object(ending, "SENDMAIL", ("sendmail",)), self.assertRaisesRegex(UmbrateError, "sendmail"):
                end.check()

    def test_a_full_disk_is_gone_on_from(self):
        out, some = scratch() / "out", folders("good")
        real = Job.commit_result

        def full(job, sitting_id, stage, *rest):
            if stage == "cloud":
                raise OSError(28, "No space left on device")
            return real(job, sitting_id, stage, *rest)

        with mock.patch.object(Job, "commit_result", full):
            good, batch, _ = self.run_batch(out, some)
        self.assertIn("No space left", batch.items[0].why)
        good, batch, told = self.run_batch(out, [], None)
        self.assertTrue(good)
        ran = [text.split(",")[1].split(":")[0].strip() for kind, _, text in told if kind == "figures"]
        self.assertEqual(ran, ["Cloud", "Surface", "Deliver", "Deliver", "Deliver"])

    def test_killed_at_random_moments_the_same_comes_out_and_no_display_is_needed(self):
        some = folders("good", "cut", "two sittings")
        home = scratch()
        (home / "r.toml").write_text(RECIPE)
        env = {k: v for k, v in os.environ.items() if "DISPLAY" not in k and k != "QT_QPA_PLATFORM"}
        env |= {"XDG_DATA_HOME": str(home), "XDG_STATE_HOME": str(home)}
        # what the window is made of cannot be imported
        block = "import sys; sys.modules['PyQt6'] = None; from umbrate.cli.main import main; main()"
        line = [sys.executable, "-c", block, "batch", *map(str, some), "--recipe", str(home / "r.toml"), "--out"]
        subprocess.run([*line, str(home / "whole")], env=env, capture_output=True)
        rng, kills = random.Random(5), 0
        for _ in range(5):
            p = subprocess.Popen([*line, str(home / "killed")], env=env, stdout=subprocess.DEVNULL,
                                 stderr=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
            try:
                p.wait(rng.uniform(1.5, 7.0))
                break
            except subprocess.TimeoutExpired:
                os.killpg(p.pid, signal.SIGKILL)
                p.wait()
                kills += 1
        done = subprocess.run([*line, str(home / "killed")], env=env, capture_output=True, text=True)
        self.assertEqual(done.returncode, 1, done.stdout + done.stderr)
        whole = made_of(home / "whole")
        self.assertEqual(whole["good"][0], DONE, whole)
        self.assertEqual(made_of(home / "killed"), whole)
        self.assertGreater(kills, 0)


class InTheWindow(DeskTest):
    def test_a_batch_is_begun_watched_and_stopped(self):
        out = scratch() / "out"
        some = folders("good", "one")
        dialog = BatchDialog(self.window)
        self.addCleanup(dialog.deleteLater)
        dialog.show()
        for f in some:
            dialog.take_folder(f)
        self.assertEqual([dialog.table.item(r, 1).text() for r in range(2)], ["12", "none"])
        dialog.place.setText(str(out))
        dialog.recipe.setCurrentIndex(dialog.recipe.findText("Quick look"))
        start = next(b for b in dialog.findChildren(QPushButton) if b.text() == "Start")
        started = []

        def detached(program, line):
            started.append(subprocess.Popen([program, *line], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
            return True, started[0].pid

        with mock.patch("PyQt6.QtCore.QProcess.startDetached", detached):
            start.click()
        self.addCleanup(started[0].kill)
        self.assertFalse(start.isEnabled())
        wait_for(lambda: dialog.halt.isEnabled() and "Poses" in dialog.said.text())
        self.assertEqual(dialog.table.item(0, 2).text(), "runs")
        dialog.halt.click()
        wait_for(lambda: not dialog.halt.isEnabled())
        self.assertEqual((started[0].wait(30), start.text()), (1, "Go on"))
        self.assertEqual(Batch.read(out).items[0].state, WAITING)
        with mock.patch("PyQt6.QtCore.QProcess.startDetached", detached):
            started.clear()
            start.click()
        wait_for(lambda: started[0].poll() is not None)
        time.sleep(0.1)
        dialog.look()
        self.assertEqual([dialog.table.item(r, 2).text() for r in range(2)], ["done", "failed"])
        self.assertIn("at least 2", dialog.table.item(1, 3).text())
        self.assertEqual((start.text(), dialog.summary.isEnabled()), ("Try again", True))


if __name__ == "__main__":
    unittest.main()
