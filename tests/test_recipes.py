"""Recipes: the same after writing and reading, wrong ones named by their line, taken, applied, followed to the end."""

import random
import shutil
import unittest
from dataclasses import replace
from types import SimpleNamespace
from typing import get_args
from unittest import mock

from click.testing import CliRunner
from PyQt6.QtCore import Qt

from tests.desk import DeskTest, setUpModule, tearDownModule, wait_for  # noqa: F401
from tests.scenes import pebble_set, scratch
from tests.test_stages import job_with, new_job
from umbrate.actions import cleaning
from umbrate.actions.cleaning import CLEAN
from umbrate.cli.main import cli
from umbrate.core.errors import CannotKeep, UmbrateError
from umbrate.desk.dialogs.newjob import NewJobDialog
from umbrate.desk.dialogs.recipes import KeepDialog, RecipesDialog
from umbrate.desk.finding import every_entry, found
from umbrate.job.joins import ON_OBJECT
from umbrate.job.store import Job
from umbrate.stages import BY_NAME, STAGES
from umbrate.stages.base import Report, own_fields
from umbrate.work.adding import read_folder, take_in
from umbrate.work.queue import Queue
from umbrate.work.recipes import shelf
from umbrate.work.recipes.applying import Applying, between
from umbrate.work.recipes.follower import Follower
from umbrate.work.recipes.following import Cells, Following, steps_elsewhere
from umbrate.work.recipes.recipe import BOOKS, OF_JOINED, Recipe, delivery_of
from umbrate.work.recipes.taking import recipe_of_job
from umbrate.work.recipes.text import line_of, recipe_of_text, text_of_recipe
from umbrate.work.tasks import Tasks
from umbrate.work.worker import Worker

GOOD = """\
# mine
umbrate = "recipe"
version = 1
name = "Test"
until = "surface"

[cloud]
photo_scale = "1/4"
min_photos = 4

[joined.cloud]
photo_scale = "full"

[stand]
up = "mat"

[[length]]
first = 192
second = 194
mm = 100

[[clean]]
by = "components"

[[clean]]
by = "lonely"
least = 5

[[deliver]]
purpose = "cloud"
"""


def random_settings(rng, stage):
    """Settings of a stage, some of them other than the default, as a recipe keeps them."""
    default, out = stage.Settings().model_dump(mode="json"), {}
    for name, field in stage.Settings.model_fields.items():
        choices = [c for c in get_args(field.annotation) if isinstance(c, str | int)]
        if name in own_fields(stage) or rng.random() < 0.5:
            continue
        if choices:
            value = rng.choice(choices)
        elif field.annotation is bool:
            value = not default[name]
        elif field.annotation in (int, float):
            low, high = (next((getattr(m, k) for m in field.metadata if hasattr(m, k)), d)
                         for k, d in (("ge", 0), ("le", 9)))  # fmt: skip
            value = field.annotation(low + (high - low) * rng.random())
        else:
            continue
        if value != default[name]:
            out[name] = value
    return out


def random_recipe(rng):
    def numbers(n):
        return tuple(str(k) for k in rng.sample(range(1, 400), n))

    stages = [s for s in STAGES if s.name != "deliver" and rng.random() < 0.7]
    joined = {s.name: random_settings(rng, s) for s in stages if s.name in OF_JOINED and rng.random() < 0.3}
    steps = {
        part: tuple(
            book.check({"filter": f.name, "keep": rng.random() < 0.3})
            for f in rng.sample([f for f in book.filters if not f.hidden], rng.randrange(4))
        )
        for part, book in BOOKS.items()
    }
    a, b = numbers(2)
    return Recipe(
        rng.choice(["A", "Vase “7”, blue = good", "Größe #2"]),
        about=rng.choice(["", "two\nlines", 'with "quotes" and \\ signs']),
        until=rng.choice(STAGES).name,
        together=rng.choice([None, True, False]),
        stages={s.name: random_settings(rng, s) for s in stages},
        joined=joined,
        stand=rng.choice([None, {"up": "box", "origin": "box"}, {"up": numbers(4), "along": numbers(2)}]),
        lengths=rng.choice([(), ({"first": a, "second": b, "mm": 12.5, "sigma_mm": 0.01, "role": "check"},)]),
        targets=rng.choice([{}, {ON_OBJECT: (4, 7)}]),
        deliver=tuple(
            delivery_of({**random_settings(rng, BY_NAME["deliver"]), "purpose": p})
            for p in rng.sample(["print", "web", "cloud", "archive"], rng.randrange(3))
        ),
        **steps,
    )


class Files(unittest.TestCase):
    def test_what_is_written_is_read_again(self):
        rng = random.Random(11)
        for _ in range(60):
            recipe = random_recipe(rng)
            again = recipe_of_text(text_of_recipe(recipe), "r.toml")
            self.assertEqual(again, recipe)
            self.assertEqual(between(recipe, again), [])

    def test_a_wrong_line_is_named_with_what_it_takes(self):
        recipe_of_text(GOOD, "r.toml")
        for old, new, line, words in (
            ("version = 1", "version = 2", 3, "newer Umbrate"),
            ("version = 1", "version = true", 3, "none"),
            ("[cloud]", "[polish]", 7, "surface, texture"),
            ('name = "Test"', "name = 3", 4, "a text in quotes"),
            ('"surface"', '"lacquer"', 5, "There is: photos"),
            ('"1/4"', '"1/3"', 8, "1, 2, 4 or 8"),
            ("min_photos = 4", "min_fotos = 4", 9, "min_photos"),
            ("min_photos = 4", "min_photos = 1", 9, "greater than or equal to 2"),
            ("[joined.cloud]", "[joined.masks]", 11, "Known: poses"),
            ('"full"', "3", 12, "1, 2, 4 or 8"),
            ('up = "mat"', 'up = "north"', 15, "“turntable”"),
            ('up = "mat"', "up = [1, 2]", 15, "three or more"),
            ("first = 192", "first = 'Nose'", 18, "no number of a target"),
            ("second = 194", "second = 192", 19, "two different"),
            ("mm = 100", "mm = inf", 20, "a number over 0"),
            ('by = "components"', 'by = "lasso"', 23, "drawn by hand"),
            ("least = 5", "least = 5000", 27, "between 1 and 100"),
            ("least = 5", "most = 5", 27, "It has: radius, least"),
            ('purpose = "cloud"', 'purpose = "cloud"\nfolder = "/tmp"', 31, "one object only"),
            ("[stand]", "[stand", 14, "no TOML"),
            ("min_photos = 4", "min_photos = 4\nmin_photos = 5", None, "no TOML"),
        ):
            self.assertEqual(GOOD.count(old), 1, old)
            with self.assertRaises(UmbrateError, msg=new) as caught:
                recipe_of_text(GOOD.replace(old, new), "r.toml")
            told = str(caught.exception)
            self.assertIn(words, told)
            if line:
                self.assertIn(f"r.toml, line {line}: ", told)
        for text in ("", "umbrate = 1", "\x00", "a" * 50, "[[cloud]]\n", "x = " + "[" * 5000):
            with self.assertRaises(UmbrateError):
                recipe_of_text(text, "r.toml")

    def test_lines_are_found_whatever_stands_between(self):
        text = 'a = 1\n# [x]\n[x]\n"b" = 2\n\n[[y]]\nc = 3\n[[y]]\n  c  = 4\n[x.z]\nd=1\n'
        for path, line in ((("x", "b"), 4), (("y", 0, "c"), 7), (("y", 1, "c"), 9), (("x", "z", "d"), 11),
                           (("y", 1, "e"), 8), (("w",), None)):  # fmt: skip
            self.assertEqual(line_of(text, path), line, path)

    def test_those_built_in_are_whole_and_say_what_they_assume_and_cost(self):
        for k in shelf.built_in():
            r = k.recipe
            self.assertTrue(r.about and r.assumes and r.costs, r.name)
            self.assertEqual(shelf.find_recipe(k.short).recipe, shelf.find_recipe(r.name.upper()).recipe)


class OnJobs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.worker = Worker()
        cls.addClassCleanup(cls.worker.close)

    def setUp(self):
        home = mock.patch.dict("os.environ", {"XDG_DATA_HOME": str(scratch())})
        home.start()
        self.addCleanup(home.stop)

    def call(self, *arguments, code=0):
        done = CliRunner().invoke(cli, ["recipe", *map(str, arguments)])
        self.assertEqual(done.exit_code, code, done.output)
        return " ".join(w for w in done.output.split() if w not in "│┃")

    def test_what_belongs_to_one_object_is_left_out_and_named(self):
        job, sitting = job_with(scratch() / "job", "photos", "masks", "lens", "poses", "cloud")
        with job:
            folder = job.folder
            job.set_settings(sitting.id, "texture", {"leave_out": "U_0001.jpg", "padding": 8})
            job.set_keep_box(
                sitting.id, {"center": [0, 0, 0], "half": [1, 1, 1], "axes": [[1, 0, 0], [0, 1, 0], [0, 0, 1]]}
            )
            job.add_marked_point(sitting.id, "Nose")
            job.add_length(sitting.id, "3", "4", 50.0)
            job.add_length(sitting.id, "3", "Nose", 20.0)
            job.set_level(sitting.id, {"up": {"plane": [[0, 0, 1], [0, 0, 0]]}, "origin": "box"})
            kept = job.cloud(sitting.id)
            slab = {"filter": "slab", "normal": [0, 0, 1], "low": 1e3, "high": 2e3}
            cleaning.apply_steps(job, sitting, kept, [{"filter": "lonely", "least": 3}, slab])
            recipe, left = recipe_of_job(job, "Pebble")
            own = [str(pebble_set()), "U_0001", "Nose", "slab", "plane"]
        text = text_of_recipe(recipe)
        for word in own:
            self.assertNotIn(word, text)
        told = " ".join(left)
        for words in ("folder “masks”", "Texture: what is left out", "keep box", "1 known length", "which side is up",
                      "drawn on “Cloud 1”", "marked points"):  # fmt: skip
            self.assertIn(words, told)
        self.assertEqual(recipe.stages["texture"], {"padding": 8})
        self.assertEqual([r["first"] for r in recipe.lengths], ["3"])
        self.assertEqual([s["filter"] for s in recipe.clean], ["lonely"])
        self.assertEqual((recipe.until, recipe.stand), ("cloud", {"origin": "box"}))
        only = recipe.only(["texture"])
        self.assertEqual((list(only.stages), only.clean, only.lengths, only.stand), (["texture"], (), (), None))
        self.assertIn("is on your shelf", self.call("save", folder, "Pebble"))
        self.assertIn("--replace", self.call("save", folder, "pebble", code=1))
        self.assertIn("built in", self.call("save", folder, "Quick", code=1))
        self.assertIn("padding = 8", self.call("show", "pebble"))
        self.assertIn("They are the same", self.call("diff", "pebble", "Pebble"))

    def test_what_is_shown_is_what_is_set_and_one_undo_takes_it_back(self):
        job, sitting = new_job(scratch() / "job")
        masks = job.settings(sitting.id, "masks")["folder"]
        before = job.settings(sitting.id, "cloud"), job.settings(sitting.id, "poses")
        folder = job.folder
        job.close()
        file = scratch() / "r.toml"
        file.write_text(GOOD + '\n[masks]\ngrow_px = 2\nmethod = "color"\n')
        shown = self.call("apply", folder, file, "--dry-run")
        with Job.open(folder) as job:
            self.assertEqual(job.settings(sitting.id, "cloud"), before[0])
            steps = job.db.execute("SELECT count(*) FROM step").fetchone()[0]
        self.assertEqual(self.call("apply", folder, file), shown)
        for words in (
            "Cloud Photo scale 1/2 1/4",
            "Agreeing photos 3 4",
            "Widen by 0 px 2 px",
            "192 to 194",
            "cleaned: Small pieces",
        ):
            self.assertIn(words.lower(), shown.lower())
        self.assertIn("is set as “Test” says", self.call("apply", folder, file))
        with Job.open(folder) as job:
            self.assertEqual(job.settings(sitting.id, "cloud"), {"photo_scale": 4, "min_photos": 4})
            self.assertEqual(job.settings(sitting.id, "poses"), before[1])
            self.assertEqual(job.settings(sitting.id, "masks")["folder"], masks)
            self.assertEqual(job.settings(sitting.id, "masks")["grow_px"], 2)
            self.assertEqual([k.value_mm for k in job.lengths(sitting.id)], [100.0])
            self.assertEqual(job.db.execute("SELECT count(*) FROM step").fetchone()[0], steps + 1)
            job.undo()
            self.assertEqual((job.settings(sitting.id, "cloud"), job.settings(sitting.id, "poses")), before)
            self.assertEqual(job.lengths(sitting.id), [])
            self.assertTrue(Applying(job, recipe_of_text(GOOD, "r")).differences())

    def follow(self, job, recipe, acts=None, place=None):
        """Follow a recipe for so many acts, or to its end; the Follower and the queue end then."""
        queue, tasks = Queue(job, self.worker), Tasks(self.worker)
        follower = Follower(Following(job, recipe, place=place), queue, tasks)
        done = 0
        while not follower.over and (acts is None or done < acts or not (queue.idle and tasks.idle)):
            queue.poll(0.1)
            tasks.poll(0.1)
            if queue.idle and tasks.idle and (acts is None or done < acts):
                follower.step()
                done += 1
        return follower

    def test_followed_in_pieces_or_at_once_and_from_a_saved_recipe_the_same_comes_out(self):
        recipe = recipe_of_text(
            GOOD.replace('"surface"', '"deliver"').replace("mm = 100", 'mm = 100\nrole = "off"')
            + "\n[poses]\nfeatures = 3000\n[surface]\nsize_by = 'triangles'\ntriangles = 1000\n[[mend]]\nby='spikes'\n",
            "r.toml",
        )
        made = []
        for pieces in (None, 1):
            job, sitting = new_job(scratch() / "job")
            place = {"folder": str(scratch())}
            with job:
                while True:
                    follower = self.follow(job, recipe, pieces, place)
                    self.assertEqual(follower.problem, "")
                    if follower.over:
                        break
                    self.assertIsNotNone(pieces)
                self.assertIn("fewer than three targets of the mat", " ".join(follower.following.notes))
                self.assertIsNone(Following(job, recipe).next())
                cloud, surface = job.cloud(sitting.id), job.surface(sitting.id)
                self.assertEqual([s.step["filter"] for s in cloud.steps], ["components", "lonely"])
                self.assertEqual([s.step["filter"] for s in surface.steps], ["spikes"])
                files = job.result(sitting.id, "deliver").figures.made
                self.assertEqual(len(files), 1)
                made.append((cloud.blob, [s.blob for s in cloud.steps], surface.blob, files[0].files[0][2]))
                if pieces is None:
                    saved = recipe_of_job(job, "Saved")[0]
        self.assertEqual(made[0], made[1])
        with new_job(scratch() / "job")[0] as job:
            # as it comes out of another job, without what was set here
            for s in job.sittings():
                for stage in ("poses", "cloud"):
                    job.set_settings(s.id, stage, {})
            follower = self.follow(job, recipe_of_text(text_of_recipe(saved), "s"), place={"folder": str(scratch())})
            self.assertEqual(follower.problem, "")
            cloud, surface = job.cloud(sitting.id), job.surface(sitting.id)
            files = job.result(sitting.id, "deliver").figures.made
            again = cloud.blob, [s.blob for s in cloud.steps], surface.blob, files[0].files[0][2]
        self.assertEqual(again, made[0])

    def test_what_cannot_go_on_says_why_and_leaves_what_was_cleaned_by_hand(self):
        job, sitting = job_with(scratch() / "job", "photos", "masks", "lens", "poses", "cloud")
        with job:
            recipe = replace(recipe_of_job(job, "R")[0], clean=(BOOKS["clean"].check({"filter": "lonely"}),))
            cleaning.apply_step(job, sitting, job.cloud(sitting.id), {"filter": "share", "percent": 50})
            following = Following(job, recipe)
            self.assertIsNone(following.next())
            self.assertIn("was changed by other steps already", following.notes[0])
            # a step that finds nothing to do here is left out, and said; the others are done, once
            steps = [{"filter": "support"}, {"filter": "lonely"}]
            more = replace(recipe, clean=tuple(map(BOOKS["clean"].check, steps)), stages={})
            for wanted, kinds in ((more, ["lonely"]), (replace(more, clean=more.clean[:1]), [])):
                kept = job.cloud(sitting.id)
                job.cloud_list.set_steps(kept.id, [], "none")
                follower = self.follow(job, wanted)
                self.assertEqual(follower.problem, "")
                self.assertIn("A step was left out. Table and support", " ".join(follower.following.notes))
                self.assertEqual([s.step["filter"] for s in job.cloud(sitting.id).steps], kinds)
            # a full disk is no step with nothing to do
            with mock.patch.object(type(CLEAN), "put", side_effect=CannotKeep("The disk is full.")):
                with self.assertRaises(CannotKeep):
                    steps_elsewhere(job.folder, sitting.id, "clean", more.clean, Report())
            # a stage that fails ends it with the stage's own reason
            queue = Queue(job, self.worker)
            follower = Follower(
                Following(job, replace(recipe, stages={"cloud": {"nearest": 9.0, "farthest": 8.0}})), queue, Tasks()
            )
            while not follower.over:
                queue.poll(0.1)
                follower.step()
            self.assertIn("farthest", follower.problem.lower())
            # what is asked for twice without coming true is not asked for a third time
            following = Following(job, recipe)
            with mock.patch.object(following, "_next", return_value=Cells([(sitting, ["cloud"])])):
                following.next()
                with self.assertRaises(UmbrateError):
                    following.next()
            photos = scratch()
            for f in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:3]:
                shutil.copy(f, photos / f"other-{f.name}")
            other = take_in(job, "Other", read_folder(photos))[0]
            row = job.add_joined([sitting.id, other.id])
            found = SimpleNamespace(verdict="doubtful", moves=[1], joins=[SimpleNamespace(reasons=["Too few."])])
            Applying(job, recipe).apply()
            following = Following(job, replace(recipe, until="join"))
            with (
                mock.patch.object(following, "_cells", return_value=None),
                mock.patch.object(following, "_stood", return_value=None),
                mock.patch.object(job, "join_found", return_value=found),
                self.assertRaises(UmbrateError) as caught,
            ):
                following.next()
            self.assertIn(f"The join of “{row.name}” is doubtful: Too few.", str(caught.exception))
        empty = Job.create(scratch() / "empty")
        with empty, self.assertRaises(UmbrateError):
            Following(empty, recipe).next()
        shutil.rmtree(empty.folder)


class InTheWindow(DeskTest):
    def setUp(self):
        home = mock.patch.dict("os.environ", {"XDG_DATA_HOME": str(scratch())})
        home.start()
        self.addCleanup(home.stop)
        super().setUp()

    def dialog(self):
        out = RecipesDialog(self.session, self.window)
        self.addCleanup(out.deleteLater)
        out.show()
        return out

    @staticmethod
    def only(menu, stages):
        """Choose stages in a menu; None: all."""
        for a in menu.actions():
            a.setChecked(stages is None or a.data() in stages)

    def choose(self, dialog, name):
        dialog.list.setCurrentItem(dialog.list.findItems(name, Qt.MatchFlag.MatchExactly)[0])
        return [[dialog.table.item(r, c).text() for c in range(4)] for r in range(dialog.table.rowCount())]

    def test_a_recipe_is_kept_compared_set_undone_and_run(self):
        self.open("photos", "masks")
        s = self.session
        s.edits.set_setting("cloud", "min_photos", 5)
        dialog = self.dialog()

        def keep(name, stages=None):
            """Keep the job's settings as a recipe, of some stages alone."""

            def answer(asked):
                asked.name.setText("")
                self.assertFalse(asked.keep.isEnabled())
                asked.name.setText(name)
                self.only(asked.menu, stages)
                self.assertTrue(asked.keep.isEnabled())
                return True

            with mock.patch.object(KeepDialog, "exec", answer):
                dialog.keep.click()

        s.edits.set_setting("poses", "features", 5000)
        keep("Mine")
        self.assertIn("Where masks lie is left out", dialog.said.text())
        keep("Mine, clouds", ["cloud"])
        mine = shelf.find_recipe("Mine, clouds").recipe
        self.assertEqual({n for n, v in mine.stages.items() if v}, {"cloud"})
        self.assertEqual((mine.stages["cloud"]["min_photos"], mine.until), (5, "cloud"))
        self.assertEqual(self.choose(dialog, "Mine, clouds"), [])
        self.assertEqual(self.choose(dialog, "Mine"), [])
        self.assertFalse(dialog.set.isEnabled())
        rows = self.choose(dialog, "Quick look")
        self.assertIn(["Cloud", "Agreeing photos", "5", "3"], rows)
        dialog.beside.setCurrentText("Mine")
        self.assertIn(["Cloud", "Agreeing photos", "5", "3"], self.choose(dialog, "Quick look"))
        dialog.beside.setCurrentText("this job")
        self.only(dialog.menu, ["cloud"])
        self.assertEqual(dialog.of.text(), "Cloud")
        self.assertEqual({r[0] for r in self.choose(dialog, "Quick look")}, {"Cloud"})
        self.assertEqual(dialog.wanted().until, "cloud")
        self.only(dialog.menu, [])
        self.assertFalse(dialog.run.isEnabled() or dialog.set.isEnabled())

        def set_so(dialog):
            self.assertEqual(dialog.current.recipe.name, "Quick look")
            dialog.set.click()
            return True

        with mock.patch.object(RecipesDialog, "exec", set_so):
            found(every_entry(self.window), "quick look recipe")[0].act()
        self.assertEqual(s.job.settings(s.sitting_id, "cloud")["photo_scale"], 4)
        s.undo()
        self.assertEqual(s.job.settings(s.sitting_id, "cloud")["min_photos"], 5)
        # set and run; stopped on the way nothing more is asked for, run again it comes to its end
        quick = shelf.find_recipe("quick").recipe
        recipe = replace(quick, clean=(BOOKS["clean"].check({"filter": "lonely"}),))
        s.recipes.run(recipe)
        wait_for(lambda: s.running() and s.running().stage == "poses")
        self.window.foot.stop()
        wait_for(lambda: s.queue.idle)
        self.assertIsNone(s.recipes.follower)
        self.assertIsNone(s.result("cloud"))
        s.recipes.run(recipe)
        wait_for(lambda: s.recipes.follower is None)
        self.assertEqual(self.window.foot.kind, "good")
        self.assertEqual([x.step["filter"] for x in s.job.cloud(s.sitting_id).steps], ["lonely"])
        # one that is under way when the job is left waits in the queue, as it was
        finer = replace(quick, name="Finer", stages={**quick.stages, "cloud": {**quick.stages["cloud"], "seed": 7}})
        folder = s.job.folder
        s.recipes.run(finer)
        wait_for(lambda: s.running() and s.running().stage == "cloud")
        with mock.patch.object(self.window, "_may_leave", return_value=True):
            self.window.close_job()
        (entry,), paused = s.later.waiting.read()
        self.assertEqual((entry.folder, paused), (str(folder), True))
        self.assertEqual(recipe_of_text(entry.recipe, "the queue").stages["cloud"]["seed"], 7)
        self.assertEqual(entry.recipe, text_of_recipe(finer))

    def test_a_new_job_is_run_by_a_recipe_when_its_photos_are_in(self):
        made = NewJobDialog([pebble_set() / "by-hand"], self.window)
        self.addCleanup(made.deleteLater)
        made.line.setText(str(scratch() / "new"))
        made.recipes.setCurrentText("Quick look")
        with mock.patch("umbrate.desk.window.NewJobDialog", return_value=made), mock.patch.object(made, "exec"):
            self.window.new_job()
        s = self.session
        wait_for(lambda: s.job and s.recipes.follower is None and s.result("cloud"))
        self.assertEqual(s.job.settings(s.sitting_id, "poses")["features"], 3000)
        self.assertEqual(self.state("cloud"), "done")


if __name__ == "__main__":
    unittest.main()
