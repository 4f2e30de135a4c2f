"""Clouds side by side in a job: cleaned step by step, compared, kept and written."""

import unittest
from unittest import mock

import numpy as np
from click.testing import CliRunner

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions.cleaning import apply_step, apply_steps, take_back
from umbrate.actions.steps import FILTERS, check_step, read_steps, step_text, try_step, write_steps
from umbrate.actions.steps import Context as CleaningContext
from umbrate.cli.main import cli
from umbrate.core.cloud.grid import spacing_of
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import look_at
from umbrate.job.contents import DEPTH_MAP
from umbrate.sitting.clouds import compare_clouds, load_cloud, raw_cloud
from umbrate.sitting.frames import keep_box_of, set_keep_box


class SideBySide(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "clouds", "photos", "masks", "lens", "poses", "cloud")
        cls.addClassCleanup(cls.job.close)

    def test_trying_overwrites_nothing_and_steps_are_taken_back_in_any_order(self):
        job, s = self.job, self.sitting
        first = job.cloud(s.id)
        self.assertEqual((first.name, first.chosen, first.left), ("Cloud 1", True, len(load_cloud(job, s)["points"])))
        before = {p: b for (n, p), b in job.result(s.id, "cloud").artefacts.items() if n == "depth"}
        file = job.blobs.path(next(iter(before.values())))
        file.write_bytes(file.read_bytes()[:-100])
        job.set_settings(s.id, "cloud", {**job.settings(s.id, "cloud"), "min_photos": 2})
        run(job, s, "cloud")
        again = job.result(s.id, "cloud")  # all maps but the damaged one served, and that one was made again
        self.assertEqual(again.figures.reused, len(before) - 1)
        self.assertEqual({p: b for (n, p), b in again.artefacts.items() if n == "depth"}, before)
        job.blobs.get_arrays(file.name, DEPTH_MAP)
        self.assertEqual([c.name for c in job.clouds(s.id)], ["Cloud 1", "Cloud 2"])
        self.assertEqual(job.cloud(s.id).name, "Cloud 2")
        d, f = compare_clouds(load_cloud(job, s), load_cloud(job, s, first))
        self.assertEqual(f["points"], len(d))
        self.assertLess(f["median_abs"], 0.002)
        kept = job.cloud(s.id)
        whole = len(raw_cloud(job, kept)["points"])
        for step in ({"filter": "photos", "least": 4}, {"filter": "lonely"}, {"filter": "components", "share": 5.0},
                     {"filter": "smooth"}, {"filter": "share", "percent": 50.0}):  # fmt: skip
            apply_step(job, s, job.cloud(s.id), step)
        kept = job.cloud(s.id)
        left = raw_cloud(job, kept)
        self.assertEqual(len(left["points"]), kept.left)
        self.assertGreaterEqual(left["photos"].min(), 4)
        self.assertLess(kept.left, 0.55 * whole)
        take_back(job, s, kept, 0)
        again = job.cloud(s.id)
        self.assertEqual([x.step["filter"] for x in again.steps], ["lonely", "components", "smooth", "share"])
        self.assertEqual(raw_cloud(job, again)["photos"].min(), raw_cloud(job, first)["photos"].min().clip(max=2))
        job.undo()
        np.testing.assert_array_equal(raw_cloud(job, job.cloud(s.id))["points"], left["points"])
        # the same steps, from a file, on the same cloud without any: the same cloud
        file = scratch() / "steps.json"
        write_steps(file, [x.step for x in job.cloud(s.id).steps])
        job.cloud_list.set_steps(kept.id, [], "nothing")
        removed = apply_steps(job, s, job.cloud(s.id), read_steps(file))
        self.assertEqual(removed, whole - len(left["points"]))
        np.testing.assert_array_equal(raw_cloud(job, job.cloud(s.id))["points"], left["points"])
        before = job.cloud(s.id).steps
        with self.assertRaisesRegex(UmbrateError, "Below a height: .*all points"):
            apply_steps(job, s, job.cloud(s.id), [{"filter": "lonely"}, {"filter": "plane", "height": 1e4}])
        self.assertEqual(job.cloud(s.id).steps, before)
        for bad in (
            "",
            "[]",
            '{"umbrate": "cleaning", "steps": [3]}',
            '{"umbrate": "cleaning", "steps": [{"filter": "x"}]}',
        ):
            file.write_text(bad)
            with self.assertRaises(UmbrateError):
                read_steps(file)
        for _ in range(2):
            job.undo()
        for _ in range(5):
            job.undo()
        self.assertEqual(job.cloud(s.id).left, whole)
        job.cloud_list.remove(kept.id)
        self.assertEqual(job.cloud(s.id).name, "Cloud 1")
        job.undo()
        job.tidy()
        self.assertEqual(len(load_cloud(job, s)["points"]), whole)  # nothing that undo can bring back was thrown away
        job.cloud_list.rename(kept.id, "loose")
        with self.assertRaisesRegex(UmbrateError, "already"):
            job.cloud_list.rename(kept.id, "Cloud 1")
        job.cloud_list.choose(first.id)
        self.assertTrue(job.cloud(s.id).chosen and job.cloud(s.id).id == first.id)

    def test_what_was_cut_stays_cut_whatever_level_and_scale_come_later(self):
        job, s = self.job, self.sitting
        kept = job.cloud(s.id)
        job.cloud_list.set_steps(kept.id, [], "as it was")
        kept = job.cloud(s.id)
        apply_step(job, s, kept, {"filter": "photos", "least": 4})
        P = load_cloud(job, s)["points"].astype(float)
        size = np.ptp(P, axis=0).max()
        eye = look_at(P.mean(0) + [0, -3 * size, 0.4 * size], P.mean(0), (0, 0, 1))
        c = eye[:3, :3] @ P.mean(0) + eye[:3, 3]
        corner = [400 + 300 * c[0] / c[2], 300 + 300 * c[1] / c[2]]
        drawn = {"view": eye.tolist(), "f": 300.0, "middle": [400, 300]}
        poly = [corner, [corner[0] + 900, corner[1]], [corner[0] + 900, corner[1] - 900], [corner[0], corner[1] - 900]]
        front = np.append(eye[2, :3], eye[2, 3]).tolist()
        steps = (
            {"filter": "lasso", **drawn, "polygon": poly},
            {"filter": "brush", **drawn, "front": front, "strokes": [[[380, 320], [400, 325]]], "radius": 20.0},
            {"filter": "slab", "normal": [0, 0, 1], "low": float(np.percentile(P[:, 2], 90)), "high": 1e9},
            {"filter": "plane", "height": float(np.percentile(P[:, 2], 5))},
            {"filter": "precision", "most": float(np.percentile(load_cloud(job, s)["precision"], 97))},
            {"filter": "box"},
        )  # fmt: skip
        tilt = {"up": {"turn": [[1, 0, 0], [0, 0.6, -0.8], [0, 0.8, 0.6]]}, "origin": [1.0, 2.0, 3.0]}
        elsewhere = {"center": [9, 9, 9], "half": [0.1] * 3, "axes": np.eye(3).tolist()}
        first = [(x.step, x.blob, x.removed) for x in job.cloud(s.id).steps]

        def rows(points):
            return np.ascontiguousarray(points).view("V12").ravel()

        def left(upto=None):
            return raw_cloud(job, job.cloud(s.id), upto)

        for step in steps:
            with self.subTest(step["filter"]):
                job.set_level(s.id, None)
                job.set_keep_box(s.id, None)
                job.cloud_list.set_steps(kept.id, first, "as it was")
                if step["filter"] == "box":
                    box = keep_box_of(job, s)
                    set_keep_box(job, s, {**box, "half": (0.6 * np.array(box["half"])).tolist()})
                there = left()["points"]
                apply_step(job, s, job.cloud(s.id), step)
                apply_step(job, s, job.cloud(s.id), {"filter": "share", "percent": 99.0})
                want = left(2)["points"]
                self.assertLess(len(want), len(there))
                # another level, another keep box; the last step is taken back, then the first: this one is done again
                job.set_level(s.id, tilt)
                job.set_keep_box(s.id, elsewhere)
                take_back(job, s, job.cloud(s.id), 2)
                np.testing.assert_array_equal(left(2)["points"], want)
                take_back(job, s, job.cloud(s.id), 0)
                again = left()["points"]
                self.assertEqual([x.step["filter"] for x in job.cloud(s.id).steps], [step["filter"]])
                # of the points that were there, those stay that stayed, and no other
                was = np.isin(rows(again), rows(there))
                np.testing.assert_array_equal(np.sort(rows(again[was])), np.sort(rows(want)))
        # a step of an older version, that does not say in which frame it was made, keeps its very points
        for step in (steps[0], steps[3]):
            job.set_level(s.id, None)
            job.cloud_list.set_steps(kept.id, first, "as it was")
            apply_step(job, s, job.cloud(s.id), step)
            want, k = left()["points"], job.cloud(s.id)
            there = left(1)["points"]
            old = {n: v for n, v in k.steps[-1].step.items() if n != "frame"}
            job.cloud_list.set_steps(k.id, [*first, (old, k.steps[-1].blob, 1)], "old")
            job.set_level(s.id, tilt)
            take_back(job, s, job.cloud(s.id), 0)
            again = left()["points"]
            was = np.isin(rows(again), rows(there))
            np.testing.assert_array_equal(np.sort(rows(again[was])), np.sort(rows(want)))
        with self.assertRaisesRegex(UmbrateError, "older version"):
            apply_steps(job, s, job.cloud(s.id), [{n: v for n, v in steps[0].items() if n != "frame"}])
        job.set_level(s.id, None)
        job.set_keep_box(s.id, None)
        job.cloud_list.set_steps(kept.id, [], "as it was")

    def test_values_that_are_none_are_refused_with_a_sentence(self):
        inf, nan = float("inf"), float("nan")
        for step in (
            {"filter": "plane", "height": "ten"}, {"filter": "plane", "height": inf}, {"filter": "score", "least": nan},
            {"filter": "count", "count": inf}, {"filter": "count", "count": [3]}, {"filter": "color", "color": "#12"},
            {"filter": "slab", "normal": "up", "low": 0, "high": 1}, {"filter": "slab", "normal": [0, 0, 0], "low": 0,
             "high": 1}, {"filter": "slab", "normal": "0,0,1", "low": "a", "high": 1}, {"filter": "slab", "low": 1},
            {"filter": "slab", "normal": [0, 0, nan], "low": 0, "high": 1}, {"filter": "lasso"}, {"filter": "brush"},
            {"filter": "lasso", "view": 3, "f": 1, "middle": [0, 0], "polygon": []}, {"filter": "box", "box": {}},
            {"filter": "box", "frame": [[0] * 4] * 4}, {"filter": "photos", "frame": "x"}, {"filter": ["x"]},
        ):  # fmt: skip
            with self.assertRaises(UmbrateError, msg=str(step)):
                try_step({"points": np.zeros((3, 3), np.float32)}, step, None)
        out = CliRunner().invoke(
            cli,
            ["clean", str(self.job.folder), "--by", "slab", "--set", "normal=up", "--set", "low=0", "--set", "high=1"],
        )
        self.assertEqual(out.exit_code, 1)

    def test_a_box_beside_the_object_and_masks_that_leave_nothing_are_said(self):
        from umbrate.sitting.frames import keep_box_of, set_keep_box

        job, s = self.job, self.sitting
        box = keep_box_of(job, s)
        before = [c.name for c in job.clouds(s.id)]
        set_keep_box(job, s, {**box, "center": [x + 1e3 for x in box["center"]]})
        with self.assertRaisesRegex(UmbrateError, "beside the object"):
            run(job, s, "cloud")
        job.undo()
        from umbrate.stages.dense import maps, straight

        whole = straight.decode_mask
        with (
            mock.patch.object(straight, "decode_mask", lambda data, of=None: whole(data) & False),
            mock.patch.object(maps, "DEPTH_VERSION", -1),  # depth maps that are there were made with the masks
            self.assertRaisesRegex(UmbrateError, "masks leave nothing"),
        ):
            run(job, s, "cloud")
        self.assertEqual([c.name for c in job.clouds(s.id)], before)

    def test_every_filter_answers_and_says_what_it_does_not_take(self):
        job, s = self.job, self.sitting
        kept = job.clouds(s.id)[0]
        cloud, context = raw_cloud(job, kept), CleaningContext(job, s, kept)
        for f in FILTERS:
            step = {"filter": f.name}
            if f.name == "lasso":
                step |= {
                    "view": np.eye(4).tolist(),
                    "f": 100.0,
                    "middle": [50, 50],
                    "polygon": [[0, 0], [100, 0], [50, 99]],
                }
            if f.name == "brush":
                step |= {"view": np.eye(4).tolist(), "f": 100.0, "middle": [50, 50], "radius": 9}
                step |= {"front": [0, 0, 1, 0], "strokes": [[[50, 50], [70, 80]]]}
            if f.name == "slab":
                step |= {"normal": "0,0,2", "low": 0, "high": float(np.median(cloud["points"][:, 2]))}
            if f.name == "support":
                continue
            if f.name == "doubles":  # as wide as the object: everything would be asked of everything
                with self.assertRaisesRegex(UmbrateError, "times as far from each other.* Set 0.*set the scale"):
                    try_step(cloud, step, context)
                step["apart"] = 5 * spacing_of(cloud["points"])
            answer = try_step(cloud, step, context)
            self.assertEqual(len(answer), len(cloud["points"]), f.name)
            self.assertIn(f.title, step_text(check_step(step)))
            if answer.ndim == 1:
                np.testing.assert_array_equal(try_step(cloud, {**step, "keep": True}, context), ~answer)
        middle = np.median(cloud["points"][:, 2])
        low = try_step(cloud, {"filter": "plane", "height": float(middle)}, context)
        np.testing.assert_array_equal(low, cloud["points"][:, 2] < np.float32(middle))
        flat = {"filter": "slab", "normal": [0, 0, 1], "low": -1e5, "high": float(middle)}
        np.testing.assert_array_equal(try_step(cloud, flat, context), cloud["points"][:, 2] <= np.float32(middle))
        shares = [try_step(cloud, {"filter": "fringe", "deep": d}, context).mean() for d in (6, 20, 40, 80)]
        self.assertEqual(shares, sorted(shares))
        self.assertTrue(shares[0] < 0.01 and 0.1 < shares[-1] < 0.9)
        for bad in ({"filter": "magic"}, {"filter": "photos", "most": 3}, {"filter": "photos", "least": 1000},
                    {"filter": "color", "color": "green"}, {"filter": "photos", "least": "many"},
                    {"filter": "slab", "low": 1}):  # fmt: skip
            with self.assertRaises(UmbrateError):
                try_step(cloud, bad, context)
        with self.assertRaisesRegex(UmbrateError, "all points"):
            apply_step(job, s, kept, {"filter": "plane", "height": 1e4})
        self.assertEqual(job.clouds(s.id)[0].steps, ())

    def test_from_the_terminal(self):
        job, _ = job_with(scratch() / "cli", "photos", "masks", "lens", "poses", "cloud")
        folder = str(job.folder)
        job.close()
        place = scratch()

        def call(*arguments):
            return CliRunner().invoke(cli, list(arguments))

        for command in (
            ("clean", folder, "--by", "photos", "--set", "least=4", "--dry-run"),
            ("clean", folder, "--by", "photos", "--set", "least=4"),
            ("clean", folder, "--by", "lonely"), ("clean", folder, "--save-steps", str(place / "s.json")),
            ("clean", folder, "--back", "1"), ("clean", folder, "--steps", str(place / "s.json")),
            ("clouds", folder, "--rename", "Cloud 1", "fine"),
            ("clouds", folder, "--compare", "fine", "fine"), ("export", folder, "cloud", str(place / "c.laz")),
            ("export", folder, "cloud", str(place / "c.ply"), "--plain", "--text", "--cloud", "fine"),
            ("clouds", folder),
        ):  # fmt: skip
            out = call(*command)
            self.assertEqual(out.exit_code, 0, (command, out.output))
        for command in (
            ("clean", folder), ("clean", folder, "--back", "9"), ("clean", folder, "--by", "magic"),
            ("clean", folder, "--steps", str(place / "none.json")), ("clean", folder, "--like", "x", "--back", "1"),
            ("clean", folder, "--by", "photos", "--set", "least"), ("clouds", folder, "--choose", "none"),
            ("export", folder, "cloud", str(place / "c.doc")), ("clouds", folder, "--remove", "Cloud 1"),
        ):  # fmt: skip
            self.assertEqual(call(*command).exit_code, 1, command)


if __name__ == "__main__":
    unittest.main()
