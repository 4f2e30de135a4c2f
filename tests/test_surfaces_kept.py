"""Surfaces side by side in a job: made from clouds as these are cleaned, compared, kept, written."""

import unittest
from unittest import mock

import numpy as np
import trimesh
from click.testing import CliRunner

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions.cleaning import apply_step
from umbrate.actions.uniting import keep_united
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.surface.distance import nearest_triangles, signed_distance
from umbrate.core.surface.mesh import euler, opposite, rims, volume
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import keep_box_of, set_keep_box
from umbrate.sitting.surfaces import load_surface
from umbrate.stages import BY_NAME
from umbrate.stages.base import parse_settings
from umbrate.stages.surface import forecast
from umbrate.studio.judge import nearest_on_triangles
from umbrate.work.state import cell, is_current, plan


class SideBySide(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "surfaces", "photos", "masks", "lens", "poses", "cloud", "surface")
        cls.addClassCleanup(cls.job.close)

    def umbrate(self, *arguments):
        # the command opens the job itself
        self.job.close()
        try:
            return CliRunner().invoke(cli, [str(a) for a in arguments])
        finally:
            type(self).job = type(self.job).open(self.job.folder)

    def test_it_lies_on_the_object_and_says_where_nothing_was_seen(self):
        job, s = self.job, self.sitting
        mesh, cloud = load_surface(job, s), load_cloud(job, s)
        self.assertEqual((opposite(mesh["faces"], len(mesh["points"])) < 0).sum(), 0)
        f = job.result(s.id, "surface").figures
        self.assertEqual((f.triangles, f.vertices), (len(mesh["faces"]), len(mesh["points"])))
        away = nearest_on_triangles(cloud["points"].astype(float), mesh["points"].astype(float), mesh["faces"])
        spacing = f.spacing
        self.assertLess(np.median(away), 0.25 * spacing)
        self.assertGreater(f.filled, 0.01)  # nobody saw what it stands on
        self.assertLess(f.filled, 0.6)
        self.assertTrue(mesh["filled"].any())
        self.assertGreater(volume(mesh["points"], mesh["faces"]), 0)

    def test_another_cloud_another_cleaning_and_another_box_make_it_stale_and_undo_does_not(self):
        job, s = self.job, self.sitting
        stage = BY_NAME["surface"]
        self.assertTrue(is_current(job, s, stage))
        apply_step(job, s, job.cloud(s.id), {"filter": "photos", "least": 4})
        self.assertFalse(is_current(job, s, stage))
        self.assertEqual(cell(job, s, stage).second, "the cloud or the keep box changed")
        self.assertEqual(plan(job, s, "surface"), ["surface"])
        job.undo()
        self.assertTrue(is_current(job, s, stage))
        box = keep_box_of(job, s)
        set_keep_box(job, s, {**box, "half": [x * 0.9 for x in box["half"]]})
        self.assertFalse(is_current(job, s, stage))
        job.undo()
        self.assertTrue(is_current(job, s, stage))

    def test_they_stand_side_by_side_are_compared_and_written(self):
        job, s = self.job, self.sitting
        first = job.surface(s.id)
        self.assertEqual(first.name, "Surface 1")
        before = job.settings(s.id, "surface")
        job.set_settings(s.id, "surface", {"mode": "open", "size_by": "triangles", "triangles": 3000})
        run(job, s, "surface")
        second = job.surface(s.id)
        self.assertEqual([(x.name, x.chosen) for x in job.surfaces(s.id)], [("Surface 1", False), ("Surface 2", True)])
        self.assertEqual(second.figures["filled"], 0)
        self.assertAlmostEqual(second.left / 3000, 1, delta=0.4)
        mesh = load_surface(job, s, second)
        rounds = rims(mesh["faces"], opposite(mesh["faces"], len(mesh["points"])))
        self.assertEqual(len(rounds), second.figures["holes"])
        self.assertEqual(sum(map(len, rounds)), (opposite(mesh["faces"], len(mesh["points"])) < 0).sum())
        told = self.umbrate("surfaces", job.folder, "--compare", "Surface 2", "Surface 1")
        self.assertEqual(told.exit_code, 0, told.output)
        self.assertIn("Surface 2 over Surface 1: median", told.output)
        job = self.job
        listed = self.umbrate("surfaces", job.folder).output
        self.assertIn("Surface 1", listed)
        self.assertIn("open", listed)
        self.assertIn("triangles", self.umbrate("surfaces", self.job.folder, "--forecast").output)
        for end in ("ply", "obj", "stl"):
            file = scratch() / f"out.{end}"
            told = self.umbrate("export", self.job.folder, "surface", file, "--surface", "Surface 1")
            self.assertEqual(told.exit_code, 0, told.output)
            read = trimesh.load(file, process=end == "stl")
            whole = load_surface(self.job, s, first)
            self.assertEqual(len(read.faces), len(whole["faces"]))
            self.assertAlmostEqual(read.volume / volume(whole["points"], whole["faces"]), 1, delta=1e-3)
            if end == "ply":
                np.testing.assert_array_equal(read.visual.vertex_colors[:, :3], whole["colors"])
                np.testing.assert_allclose(read.vertex_normals, whole["normals"], atol=1e-5)
                data = read.metadata["_ply_raw"]["vertex"]["data"]
                np.testing.assert_array_equal(data["filled"].ravel() > 0, whole["filled"])
                np.testing.assert_allclose(data["support"].ravel(), whole["support"])
            self.assertNotEqual(self.umbrate("export", self.job.folder, "surface", file).exit_code, 0)  # is there
        told = self.umbrate("surfaces", self.job.folder, "--rename", "Surface 2", "open one", "--choose", "Surface 1")
        self.assertEqual(told.exit_code, 0, told.output)
        job = self.job
        self.assertEqual(job.surface(s.id).name, "Surface 1")
        self.assertIn("no surface “none”", self.umbrate("surfaces", job.folder, "--remove", "none").output)
        job = self.job
        job.surface_list.remove(second.id)
        job.tidy()
        job.undo()
        self.assertEqual(len(load_surface(job, s, second)["faces"]), second.left)  # what undo brings back is there
        job.surface_list.remove(second.id)
        job.set_settings(s.id, "surface", before)
        run(job, s, "surface")  # the same again is the one that is there
        self.assertEqual([x.id for x in job.surfaces(s.id)], [first.id])

    def test_a_cloud_that_is_renamed_is_named_so_where_it_is_chosen_and_nothing_is_stale(self):
        job, s = self.job, self.sitting
        stage, cloud = BY_NAME["surface"], job.cloud(s.id)
        before = job.settings(s.id, "surface")
        job.set_settings(s.id, "surface", {"cloud": cloud.name})
        self.assertTrue(is_current(job, s, stage))  # it was the chosen one anyway
        job.cloud_list.rename(cloud.id, "Fine")
        self.assertEqual(job.settings(s.id, "surface")["cloud"], "Fine")
        self.assertEqual(stage.names_for(job, s, "cloud"), ["Fine"])
        self.assertTrue(is_current(job, s, stage))
        job.undo()
        self.assertEqual(job.settings(s.id, "surface")["cloud"], cloud.name)
        job.set_settings(s.id, "surface", before)

    def test_depth_maps_make_one_as_well_whatever_was_cleaned_by_hand(self):
        job, s = self.job, self.sitting
        of_cloud, before = load_surface(job, s), job.settings(s.id, "surface")
        job.set_settings(s.id, "surface", {"source": "depth", "agreeing": 3})
        self.assertFalse(is_current(job, s, BY_NAME["surface"]))
        run(job, s, "surface")
        first, made = job.result(s.id, "surface"), load_surface(job, s)
        self.assertEqual(first.figures.points, job.result(s.id, "cloud").figures.points)  # fused as Cloud does
        self.assertIn("the depth maps", first.figures.line_of_source()[1])
        d = signed_distance(made["points"], of_cloud["points"], of_cloud["faces"], 9 * first.figures.spacing)
        held = ~made["filled"] & np.isfinite(d)
        self.assertLess(abs(np.median(d[held])), 0.01 * first.figures.spacing)
        self.assertLess(np.percentile(np.abs(d[held]), 90), 0.1 * first.figures.spacing)
        self.assertGreater(held.sum(), 0.95 * (~made["filled"]).sum())
        apply_step(job, s, job.cloud(s.id), {"filter": "count", "count": 50})
        self.assertTrue(is_current(job, s, BY_NAME["surface"]))
        job.undo()
        job.surface_list.remove(job.surface(s.id).id)
        job.set_settings(s.id, "surface", before)
        run(job, s, "surface")

    def test_what_cannot_be_made_is_said_before_or_in_words_and_nothing_is_lost(self):
        job, s = self.job, self.sitting
        stage, have = BY_NAME["surface"], job.surfaces(s.id)

        def gather(**values):
            return stage.gather(job, s, parse_settings(stage, values))

        with self.assertRaisesRegex(UmbrateError, "no cloud “Cloud 9”"):
            gather(cloud="Cloud 9")
        with mock.patch.object(forecast, "free_memory", lambda: 4e8):
            with self.assertRaisesRegex(UmbrateError, r"GB are free. Cells of \d.* fit") as e:
                gather(cell=0.5)
            kind, name, value = e.exception.remedy
            self.assertEqual((kind, name), ("set", "cell"))
            gather(cell=value)
            self.assertFalse(stage.forecast(job, s, parse_settings(stage, {"cell": 0.5})).good)
        apply_step(job, s, job.cloud(s.id), {"filter": "count", "count": 50})
        with self.assertRaisesRegex(UmbrateError, "50 points are too few"):
            run(job, s, "surface")
        job.undo()
        box = keep_box_of(job, s)
        set_keep_box(job, s, {**box, "center": [x + 1e3 for x in box["center"]]})
        with self.assertRaisesRegex(UmbrateError, "keep box"):
            run(job, s, "surface")
        job.undo()
        self.assertEqual(job.surfaces(s.id), have)

    def test_a_cloud_put_together_from_others_will_do(self):
        job, s = self.job, self.sitting
        kept = job.cloud(s.id)
        row = job.add_joined([s.id, job.add_sitting("other", [])[0].id], "Row")
        keep_united(job, row, kept.blob, {"points": kept.figures["points"], "from_plain": np.eye(4).tolist()})
        self.assertEqual(BY_NAME["surface"].needs_in(job, row), ())
        self.assertEqual(BY_NAME["surface"].needs_in(job, s), ("cloud",))
        self.assertEqual(plan(job, row, "surface"), ["surface"])
        of_maps = parse_settings(BY_NAME["surface"], {"source": "depth"})
        with self.assertRaisesRegex(UmbrateError, "no depth maps yet. Its cloud was put together"):
            BY_NAME["surface"].gather(job, row, of_maps)
        self.assertFalse(BY_NAME["surface"].forecast(job, row, of_maps).good)
        while len(job.sittings()) > 1:
            job.undo()


class Distances(unittest.TestCase):
    def test_they_are_those_to_all_triangles_and_inside_is_negative(self):
        rng = np.random.default_rng(0)
        ball = trimesh.creation.icosphere(subdivisions=2, radius=3.0)
        box = trimesh.creation.box((9.0, 0.4, 5.0))  # triangles much longer than usual, and sharp edges
        for mesh in (ball, box):
            P = rng.uniform(-6, 6, (400, 3))
            best, which = nearest_triangles(P, mesh.vertices, mesh.faces, 20.0)
            T = mesh.triangles
            every = np.array([
                np.linalg.norm(trimesh.triangles.closest_point(T, np.tile(p, (len(T), 1))) - p, axis=1) for p in P
            ])  # fmt: skip
            np.testing.assert_allclose(best, every.min(1), atol=1e-9)
            np.testing.assert_allclose(every[np.arange(400), which], best, atol=1e-9)
            d = signed_distance(P, mesh.vertices, mesh.faces, 20.0)
            if mesh is box:
                inside = (np.abs(P) < [4.5, 0.2, 2.5]).all(1)
            else:
                inside = np.linalg.norm(P, axis=1) < 2.9
                far = np.abs(np.linalg.norm(P, axis=1) - 2.95) > 0.1
                P, d, inside = P[far], d[far], inside[far]
            np.testing.assert_array_equal(d < 0, inside)
            near = signed_distance(P, mesh.vertices, mesh.faces, 0.5)
            np.testing.assert_array_equal(np.isfinite(near), np.abs(d) <= 0.5)

    def test_rims_are_the_rounds_where_it_ends(self):
        ball = trimesh.creation.icosphere(subdivisions=3)
        middle = ball.triangles.mean(1)
        faces = ball.faces[(middle[:, 2] < 0.6) & (middle[:, 2] > -0.9)]
        rounds = rims(faces, opposite(faces, len(ball.vertices)))
        self.assertEqual(len(rounds), 2)
        self.assertGreater(len(rounds[0]), len(rounds[1]))
        self.assertGreater(ball.vertices[rounds[0]][:, 2].min(), 0.5)
        self.assertEqual(euler(faces, opposite(faces, len(ball.vertices))), 0)
