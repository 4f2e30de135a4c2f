"""A block that is carried on: photos come and go, tie points are removed, and nothing is computed twice."""

import unittest
from unittest import mock

import numpy as np
from scipy.spatial import cKDTree

from tests.scenes import pebble_truth, scratch
from tests.test_cli import umbrate
from tests.test_stages import job_with, run, state
from umbrate.actions.delivering import camera_rows
from umbrate.actions.sifting import points_left, remove_points, sift
from umbrate.core.cloud.grid import spacing_of
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import center
from umbrate.core.geometry.similarity import fit_similarity
from umbrate.core.poses.sift import measure
from umbrate.job.contents import BLOCK
from umbrate.job.store import Job
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import load_block, move_points
from umbrate.stages.poses import items


def centers(job, sitting):
    """Camera centers by photo id."""
    b = load_block(job, sitting)
    return {i: b.eyes[k] for i, k in b.solved_rows.items()}


class GoingOn(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "on", "photos", "masks", "lens", "poses")
        cls.addClassCleanup(cls.job.close)
        cls.first = cls.job.result(cls.sitting.id, "poses")

    def judged(self):
        rows, *_ = camera_rows(self.job)
        return pebble_truth().judge_poses("By hand", {r["name"]: r["pose"] for r in rows if r["pose"] is not None})[0]

    def test_starting_over_looks_at_no_photo_again_and_changes_no_bit(self):
        again = None
        with (
            mock.patch.object(items, "detect", side_effect=AssertionError("looked for features again")),
            mock.patch.object(items, "match", side_effect=AssertionError("matched again")),
        ):
            again = run(self.job, self.sitting, "poses")
        self.check_same(again.artefacts["block", None])
        key = again.artefacts["block", None]  # and where the last one is the same, so is every bit
        self.assertEqual(run(self.job, self.sitting, "poses").artefacts["block", None], key)
        # other settings do look again
        self.job.set_settings(self.sitting.id, "poses", {"features": 2500})
        with mock.patch.object(items, "detect", side_effect=UmbrateError("looked")):
            with self.assertRaisesRegex(UmbrateError, "looked"):
                run(self.job, self.sitting, "poses")
        self.job.undo()

    def test_photos_leave_and_come_back_and_the_frame_stays(self):
        before, ids = centers(self.job, self.sitting), [p.id for p in self.job.photos(self.sitting.id)]
        self.job.set_aside(ids[3:5], True)
        out = run(self.job, self.sitting, "poses", mode="go on")
        self.assertEqual((out.figures.photos, out.figures.solved, out.figures.mode), (10, 10, "go on"))
        now = centers(self.job, self.sitting)
        self.assertEqual(set(now), set(ids) - set(ids[3:5]))
        self.assertLess(max(np.linalg.norm(now[i] - before[i]) for i in now), 0.02)
        self.job.set_aside(ids[3:5], False)
        out = run(self.job, self.sitting, "poses", mode="adjust")
        self.assertEqual(out.figures.solved, 10)
        self.assertTrue(all("Go on" in p["text"] for p in out.problems))
        out = run(self.job, self.sitting, "poses", mode="go on")
        self.assertEqual(out.figures.solved, 12)
        f = self.judged()
        self.assertLess(f["center_percent_median"], 0.2)
        run(self.job, self.sitting, "poses")

    def check_same(self, key):
        """That a block is the first one bit by bit, but for where the last one lay."""
        a, b = (self.job.blobs.get_arrays(k, BLOCK) for k in (self.first.blob("block"), key))
        for name in ("photo_ids", "photo", "feature", "point", "xy", "lenses", "lens_of", "order", "colors", "sigma"):
            np.testing.assert_array_equal(a[name], b[name], name)
        eyes = [np.array([center(E) for E in x["poses"]]) for x in (a, b)]
        M = fit_similarity(*eyes)
        for x, y in ((eyes[0], eyes[1]), (a["points"], b["points"])):
            np.testing.assert_allclose(move_points(x, M), y, rtol=0, atol=1e-9)

    def test_removed_points_stay_out_until_undone(self):
        job, sitting = self.job, self.sitting
        run(job, sitting, "poses")
        block = load_block(job, sitting)
        value = measure("residual", block)
        limit = float(np.percentile(value, 90))
        chosen = sift(job, sitting, "residual", above=limit)
        np.testing.assert_array_equal(chosen, value > limit)
        count = remove_points(job, sitting, block, chosen)
        self.assertEqual(count, int(chosen.sum()))
        np.testing.assert_array_equal(points_left(job, sitting, block), ~chosen)
        self.assertEqual(state(job, "poses"), "stale")
        self.assertFalse(sift(job, sitting, "residual", above=limit).any())  # what is gone is not chosen again
        self.assertIn("tie points", job.undo())
        self.assertTrue(points_left(job, sitting, block).all())
        self.assertIn(state(job, "poses"), ("done", "look"))
        job.redo()
        gone = set(map(tuple, block.xy[chosen[block.point]].tolist()))
        for way in ("adjust", "go on", "start over"):
            out = run(job, sitting, "poses", mode=way)
            self.assertEqual(out.figures.solved, 12)
            self.assertIn(state(job, "poses"), ("done", "look"))
            left = load_block(job, sitting)
            self.assertFalse(gone & set(map(tuple, left.xy.tolist())), way)
            self.assertLess(self.judged()["center_percent_median"], 0.2)
        # a second cut adds to the first
        remove_points(job, sitting, left, sift(job, sitting, "sightings", below=3))
        self.assertTrue((measure("sightings", left)[points_left(job, sitting, left)] >= 3).all())
        with self.assertRaisesRegex(UmbrateError, "fewer than 20"):
            remove_points(job, sitting, left, np.ones(len(left.points), bool))
        while job.removed(sitting.id):
            job.undo()
        out = run(job, sitting, "poses")
        self.check_same(out.artefacts["block", None])

    def test_two_photos_are_a_block_that_says_it_is_weak(self):
        ids = [p.id for p in self.job.photos(self.sitting.id)]
        self.job.set_aside(ids[2:], True)
        out = run(self.job, self.sitting, "poses")
        self.assertEqual(out.figures.solved, 2)
        self.assertTrue(any("Only two photos" in p["text"] for p in out.problems))
        # depth from them, with its range and sampling in lengths
        self.job.set_settings(self.sitting.id, "cloud", {"sure_score": 1.01})
        out = run(self.job, self.sitting, "cloud")
        self.assertTrue(any("less safe" in p["text"] for p in out.problems))
        block = load_block(self.job, self.sitting)
        E = block.poses[block.solved][0]
        z = lambda P: P @ E[2, :3] + E[2, 3]  # noqa: E731
        whole = load_cloud(self.job, self.sitting)["points"]
        near, far = np.percentile(z(whole), (30, 70))
        gap = 3 * spacing_of(whole)
        limits = {"sure_score": 1.01, "nearest": float(near), "farthest": float(far), "sampling": float(gap)}
        self.job.set_settings(self.sitting.id, "cloud", limits)
        run(self.job, self.sitting, "cloud")
        part = load_cloud(self.job, self.sitting)["points"]
        self.assertGreater(len(part), 20)
        slack = 0.006 * far  # depths that agree to so much are averaged
        self.assertLess(slack, 0.2 * np.ptp(z(whole)))
        self.assertTrue(((z(part) > near - slack) & (z(part) < far + slack)).all())
        self.assertEqual(len(cKDTree(part).query_pairs(0.999 * gap)), 0)
        self.job.set_settings(self.sitting.id, "cloud", {"nearest": 2.0, "farthest": 1.0})
        with self.assertRaisesRegex(UmbrateError, "less than Farthest"):
            run(self.job, self.sitting, "cloud")
        self.job.set_settings(self.sitting.id, "cloud", {})
        self.job.set_aside(ids[2:], False)
        run(self.job, self.sitting, "poses")

    def test_what_cannot_be_done_is_said(self):
        job, sitting = job_with(scratch() / "empty", "photos", "masks", "lens")
        with self.assertRaisesRegex(UmbrateError, "Run Poses first"):
            run(job, sitting, "poses", mode="adjust")
        with self.assertRaisesRegex(UmbrateError, "Run Poses first"):
            sift(job, sitting, "residual", above=1.0)
        self.job.set_settings(self.sitting.id, "poses", {"features": 3000, "ratio": 0.8})
        with self.assertRaisesRegex(UmbrateError, "does not apply “Match ratio”"):
            run(self.job, self.sitting, "poses", mode="adjust")
        self.job.undo()
        for name, limits, words in (("color", {"above": 1.0}, "There are: residual"), ("residual", {}, "which end")):
            with self.assertRaisesRegex(UmbrateError, words):
                sift(self.job, self.sitting, name, **limits)
        job.close()


class OnTheCommandLine(unittest.TestCase):
    def test_sift_adjust_and_box(self):
        job, sitting = job_with(scratch() / "line", "photos", "masks", "lens", "poses")
        job.close()
        place = job.folder
        told = umbrate("sift", place, "--sitting", "By hand", "--by", "residual", "--above", "0.8", "--dry-run")
        self.assertIn("tie points by residual", told.stdout)
        umbrate("sift", place, "--sitting", "By hand", "--by", "residual", "--above", "0.8")
        told = umbrate("run", place, "--adjust")
        self.assertIn("12/12", told.stdout)
        told = umbrate("box", place, "--sitting", "By hand", "--size", "1", "2", "3", "--turn", "30")
        self.assertIn("set by hand", told.stdout)
        with Job.open(place, writable=False) as j:
            self.assertEqual(j.keep_box(sitting.id)["half"], [0.5, 1.0, 1.5])
            self.assertEqual(j.result(sitting.id, "poses").figures.mode, "adjust")
        told = umbrate("box", place, "--sitting", "By hand", "--size", "1", "-2", "3")
        self.assertIn("more than 0", told.stderr)
