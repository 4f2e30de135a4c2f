"""Marks, lengths, level and measurements in a job, on the simulated pebble with its truth."""

import functools
import json
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from click.testing import CliRunner

from tests.scenes import pebble_truth, scratch
from tests.test_cli import umbrate
from tests.test_stages import job_with, new_job, run, state
from umbrate.actions.delivering import camera_rows
from umbrate.actions.leveling import change_level, level_by_patch, level_by_turn, origin_at
from umbrate.actions.marking import Marking, drawn, pair_figures, shape_size, take_coordinates
from umbrate.actions.measuring import Measurer, export_measurements, measure_all, plain_spot, refresh, with_interval
from umbrate.actions.reporting import report_content, write_accuracy_report
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import center
from umbrate.core.geometry.rotation import rotation_angle, rotation_matrix
from umbrate.core.geometry.similarity import compare_poses, fit_similarity, scale_of
from umbrate.core.raster.triangles import mesh_depth
from umbrate.job.store import Job
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import frame_of, keep_box_of, load_block, set_keep_box
from umbrate.stages import BY_NAME
from umbrate.stages.base import settings_of
from umbrate.stages.poses import looks
from umbrate.stages.poses.figures import SLANTED
from umbrate.work.queue import Queue
from umbrate.work.state import is_current, plan


@functools.cache
def true_marks(count=8):
    """Places of the true surface (count, 3) far from each other, and for each what sees it: (photo, x, y)."""
    truth = pebble_truth()
    lens, names = truth.lens, sorted(truth.poses)
    K = np.array([lens.f, lens.cx, lens.cy])
    V = truth.vertices
    T = truth.vertices[truth.faces]
    normal = np.zeros_like(V)
    for k in range(3):
        np.add.at(normal, truth.faces[:, k], np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]))
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    seen = np.zeros((len(names), len(V)), bool)
    pixel = np.zeros((len(names), len(V), 2))
    for i, n in enumerate(names):
        E = truth.poses[n]
        Y = V @ E[:3, :3].T + E[:3, 3]
        pin = np.round(Y[:, :2] / Y[:, 2:] * K[0] + K[1:]).astype(int)
        pixel[i] = lens.project(Y[:, :2] / Y[:, 2:])
        inside = ((pin > 4) & (pin < [lens.width - 5, lens.height - 5])).all(1)
        d = center(E) - V
        facing = (normal * d).sum(1) / np.linalg.norm(d, axis=1) > 0.4
        ok = inside & facing
        depth = mesh_depth(V, truth.faces, K, E, lens.width, lens.height)
        ok[ok] = Y[ok, 2] < depth[pin[ok, 1], pin[ok, 0]] + 0.2
        seen[i] = ok
    able = np.flatnonzero(seen.sum(0) >= 4)
    chosen = [able[0]]
    while len(chosen) < count:
        away = np.min([np.linalg.norm(V[able] - V[c], axis=1) for c in chosen], axis=0)
        chosen.append(able[int(np.argmax(away))])
    marks = [[(names[i].split("/")[1], *pixel[i, c]) for i in np.flatnonzero(seen[:, c])] for c in chosen]
    return V[chosen], marks


def put_marks(job, sitting, noise_px=0.2, seed=0, most=6, count=8):
    """Mark those places in the job's photos, as T0, T1, ...; returns their true places."""
    X, marks = true_marks(count)
    rng = np.random.default_rng(seed)
    ids = {Path(p.name).stem: p.id for p in job.photos(sitting.id)}
    for k, seen in enumerate(marks):
        i = job.add_marked_point(sitting.id, f"T{k}")
        for name, x, y in seen[:most]:
            e = rng.normal(0, noise_px, 2)
            job.set_sighting(i, ids[Path(name).stem], x + e[0], y + e[1], max(noise_px, 0.05))
    return X


class Scaled(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "scaled", "photos", "masks", "lens", "poses")
        cls.addClassCleanup(cls.job.close)
        cls.job.set_settings(cls.sitting.id, "cloud", {"photo_scale": 2})
        run(cls.job, cls.sitting, "cloud")
        cls.X = put_marks(cls.job, cls.sitting)
        cls.clear = cls.job.undo_labels()

    def setUp(self):
        for k in self.job.lengths(self.sitting.id):
            self.job.remove_length(k.id)
        self.job.set_level(self.sitting.id, None)
        self.job.remove_measurements([m.id for m in self.job.measurements(self.sitting.id)])

    def true(self, a, b):
        return float(np.linalg.norm(self.X[a] - self.X[b]))

    def state_lengths(self, *pairs, wrong=None, sigma=0.02, role="scale"):
        for k, (a, b) in enumerate(pairs):
            value = self.true(a, b) * (wrong[1] if wrong and wrong[0] == k else 1.0)
            self.job.add_length(self.sitting.id, f"T{a}", f"T{b}", value, sigma, role)

    def test_lengths_set_the_scale_checks_find_the_error_and_all_moves_together(self):
        job, s = self.job, self.sitting
        plain_box, cloud = keep_box_of(job, s), load_cloud(job, s)["points"]
        self.assertEqual(frame_of(job, s).unit, "")
        self.state_lengths((0, 1), (2, 3))
        self.state_lengths((1, 4), (0, 5), (3, 6), role="check")
        out = run(job, s, "scale")
        f = out.figures
        self.assertTrue(f.scaled)
        checks = [r for r in f.lengths if r.role == "check"]
        self.assertEqual(len(checks), 3)
        for r in checks:
            self.assertLess(abs(r.error), max(0.15, 1.6 * r.half95))
        # the whole block is as large as the truth
        rows, *_ = camera_rows(job)
        true = pebble_truth().poses
        M, _, _ = compare_poses([r["pose"] for r in rows], [true[f"by-hand/{r['name']}"] for r in rows])
        self.assertAlmostEqual(scale_of(M), 1.0, delta=3 * f.scale_sigma + 2e-3)
        # and so is what is known of its photos: the share of their distance that Poses stated, now in mm
        b = load_block(job, s)
        share = b.pose_sigma[b.solved, 1] / np.linalg.norm(b.eyes[b.solved] - b.points.mean(0), axis=1)
        stated = job.result(s.id, "poses").figures.center_sigma_percent
        self.assertLess(abs(np.log(100 * np.median(share) / stated)), np.log(1.5))
        # the cloud was not computed again: it moved, and so did the box
        grown = load_cloud(job, s)["points"]
        k = scale_of(np.array(f.from_plain))
        self.assertAlmostEqual(np.ptp(grown[:, 0]) / np.ptp(cloud[:, 0]), k, delta=0.02 * k)
        np.testing.assert_allclose(keep_box_of(job, s)["half"], np.array(plain_box["half"]) * k, rtol=1e-6)
        self.assertLess(pebble_truth().judge_cloud("By hand", grown, M)["distance_mm_median"], 0.5)
        box = keep_box_of(job, s)
        set_keep_box(job, s, {**box, "half": [x * 1.1 for x in box["half"]]})
        np.testing.assert_allclose(keep_box_of(job, s)["half"], np.array(box["half"]) * 1.1, rtol=1e-9)
        job.undo()

    def test_wrong_lengths_are_pointed_out_and_one_length_is_no_check(self):
        job, s = self.job, self.sitting
        self.state_lengths((0, 1), (2, 3), (4, 5), (1, 6), wrong=(2, 1.03))
        out = run(job, s, "scale")
        self.assertEqual([r.left_out for r in out.figures.lengths], [False, False, True, False])
        self.assertIn("contradicts", " ".join(p["text"] for p in out.problems))
        job.set_length(job.lengths(s.id)[2].id, value_mm=self.true(4, 5) / 25.4)
        out = run(job, s, "scale")
        self.assertIn("inches", " ".join(p["text"] for p in out.problems))
        for k in job.lengths(s.id)[1:]:
            job.remove_length(k.id)
        out = run(job, s, "scale")
        self.assertIn("nothing checks it", out.problems[0]["text"])
        job.add_marked_point(s.id, "T99")
        job.set_length(job.lengths(s.id)[0].id, second="T99")
        out = run(job, s, "scale")
        self.assertFalse(out.figures.scaled)
        self.assertIn("not in the block", " ".join(p["text"] for p in out.problems))
        for bad in ({"value_mm": 0}, {"value_mm": -5}, {"sigma_mm": 0}, {"second": "T0"}, {"role": "who knows"}):
            with self.assertRaises(UmbrateError):
                job.set_length(job.lengths(s.id)[0].id, **bad)
        with self.assertRaisesRegex(UmbrateError, "already"):
            job.add_length(s.id, "T99", "T0", 5.0)

    def test_known_coordinates_put_the_block_where_they_say(self):
        job, s = self.job, self.sitting
        file = scratch() / "known.csv"
        R, t = rotation_matrix(np.array([0.3, 0.2, -1.0])), np.array([500.0, 200, -80])
        there = self.X @ R.T + t
        lines = ["Name;X;Y;Z;Sigma"] + [
            ";".join([f"T{k}", *(f"{x:.4f}".replace(".", ",") for x in there[k]), "0,05"]) for k in range(5)
        ]
        file.write_text("\n".join(lines))
        self.assertEqual(take_coordinates(job, s, file), 5)
        out = run(job, s, "scale")
        self.assertTrue(out.figures.framed)
        m = Marking(job, s)
        for p in job.marked_points(s.id)[5:]:
            self.assertLess(np.linalg.norm(m.place(p) - there[int(p.name[1:])]), 0.6)
        job.undo()
        # nearly on a line: said, and not used
        line = ["P,x,y,z"] + [f"T{k},{10 * k},{0.01 * k * k},0" for k in range(4)]
        file.write_text("\n".join(line).replace("P,x", "name,x"))
        take_coordinates(job, s, file)
        out = run(job, s, "scale")
        self.assertFalse(out.figures.framed)
        self.assertIn("line", " ".join(p["text"] for p in out.problems))
        job.undo()

    def test_levels_stand_it_up_and_undo_lays_it_back(self):
        job, s = self.job, self.sitting
        self.state_lengths((0, 1), (2, 3))
        run(job, s, "scale")
        before = load_cloud(job, s)["points"].copy()
        change_level(job, s, up={"ends": ["T0", "T1", "T2"]}, along=["T0", "T1"], origin="T0")
        m = Marking(job, s)
        at = {p.name: m.place(p) for p in job.marked_points(s.id)}
        for k in ("T0", "T1", "T2"):
            self.assertAlmostEqual(at[k][2], 0, delta=0.02)
        np.testing.assert_allclose(at["T0"], 0, atol=0.02)
        self.assertAlmostEqual(at["T1"][1], 0, delta=0.02)
        self.assertAlmostEqual(Measurer(job, s).measure("height", ["T1"])["value"], 0, delta=1e-6)
        spot = load_cloud(job, s)["points"][100].astype(float)
        origin_at(job, s, spot)
        moved = load_cloud(job, s)["points"]
        np.testing.assert_allclose(moved[100], 0, atol=1e-3)
        level_by_patch(job, s, moved[5].astype(float))
        turn = rotation_matrix(np.array([0, 0.5, 0]))
        was = load_block(job, s).points
        level_by_turn(job, s, turn)
        now = load_block(job, s).points
        T = fit_similarity(was, now, with_scale=False)
        self.assertLess(np.degrees(rotation_angle(T[:3, :3] @ turn.T)), 1e-4)
        with self.assertRaises(UmbrateError):
            change_level(job, s, up={"ends": ["T0", "T1"]})
        with self.assertRaisesRegex(UmbrateError, "nobody"):
            change_level(job, s, origin="nobody")
        while job.level(s.id):
            job.undo()
        np.testing.assert_array_equal(load_cloud(job, s)["points"], before)

    def test_measurements_hold_the_truth_and_follow_the_scale(self):
        job, s = self.job, self.sitting
        self.state_lengths((0, 1), (2, 3))
        run(job, s, "scale")
        m = Measurer(job, s)
        for a, b in ((4, 5), (1, 6), (2, 7)):
            v = m.measure("distance", [f"T{a}", f"T{b}"])
            self.assertLess(abs(v["value"] - self.true(a, b)), 2 * v["half95"])
            self.assertEqual(v["unit"], "mm")
        with self.assertRaisesRegex(UmbrateError, "twice"):
            m.measure("distance", ["T4", "T4"])
        cloud = load_cloud(job, s)["points"]
        ends = [plain_spot(job, s, cloud[k]) for k in (10, 5000)]
        v = m.measure("distance", ends)
        self.assertLess(abs(v["value"] - np.linalg.norm(cloud[10] - cloud[5000])), 1.0)
        self.assertGreater(v["half95"], 0)
        i = job.add_measurement(s.id, "distance", ["T4", "T5"], "length")
        job.add_measurement(s.id, "polyline", ["T0", "T1", ends[0]])
        with self.assertRaisesRegex(UmbrateError, "no point “nobody”"):
            job.add_measurement(s.id, "angle", ["T0", "T1", "nobody"])
        lost = job.add_marked_point(s.id, "lost")
        job.add_measurement(s.id, "angle", ["T0", "T1", "lost"])
        job.remove_marked_points([lost])
        refresh(job, s)
        self.assertEqual(refresh(job, s), [])
        first = job.measured(s.id)[i]["value"]
        for k in job.lengths(s.id):
            job.set_length(k.id, value_mm=2 * k.value_mm)
        queue = Queue(job)
        self.addCleanup(queue.close)
        queue.add(s, ["scale"])
        while not queue.idle:
            events = queue.poll(0.2)
        self.assertIn("length", [c[0] for c in events[-1].data["measured"]])
        # with something stale below that is not run now, Cloud does not have it computed again and again
        with job.action("another way"):
            job.set_settings(s.id, "poses", {**job.settings(s.id, "poses"), "features": 900})
        self.assertFalse(is_current(job, s, BY_NAME["scale"]))
        self.assertFalse(queue._wanted(s, "scale"))
        job.undo()
        self.assertAlmostEqual(job.measured(s.id)[i]["value"], 2 * first, delta=1e-3 * first)
        entry = job.ledger()[-1]
        self.assertEqual(entry.stage, "measure")
        self.assertIn("length", entry.figures)
        values = measure_all(job, s)
        self.assertEqual(sum("problem" in v for v in values.values()), 1)
        folder = scratch()
        self.assertEqual(export_measurements(job, folder / "m.csv"), 3)
        export_measurements(job, folder / "m.json")
        rows = json.loads((folder / "m.json").read_text())["measurements"]
        self.assertEqual(rows[0]["name"], "length")
        self.assertIn("± ", with_interval(rows[0]["value"], rows[0]["half95"], "mm"))
        write_accuracy_report(job, s, folder / "r.pdf")
        self.assertTrue((folder / "r.pdf").read_bytes().startswith(b"%PDF"))
        content = report_content(job, s)
        self.assertEqual(len(content["measurements"]), 3)
        self.assertTrue(any(step == "Scale" for _, step, *_ in content["ledger"]))

    def test_guides_residuals_lines_and_pairs(self):
        job, s = self.job, self.sitting
        run(job, s, "scale")
        X, marks = true_marks()
        m = Marking(job, s)
        photos = {p.name: p for p in job.photos(s.id)}
        p = job.marked_point(s.id, "T1")
        self.assertLess(m.rms(p), 1.0)
        marked = {q.photo_id for q in p.sightings}
        others = [x for x in marks[1] if photos[x[0]].id not in marked]
        name, x, y = others[0] if others else marks[1][-1]
        photo = photos[name]
        g = m.guide(p, photo.id, (photo.width, photo.height))
        off = g.spot - [x, y]
        self.assertLess(float(off @ np.linalg.solve(g.covariance, off)), 30)
        self.assertNotIn(photo.id, marked & set(m.photos_to_mark(p)))
        self.assertTrue(set(m.photos_to_mark(p)).isdisjoint(marked))
        # a sighting in a wrong place is the worst
        bad = p.sightings[0]
        job.set_sighting(p.id, bad.photo_id, bad.x + 25, bad.y)
        worst = m.seen(job.marked_point(s.id, "T1"))[0]
        self.assertEqual(worst.photo_id, bad.photo_id)
        job.undo()
        ids = [q.id for q in job.marked_points(s.id)]
        job.add_shape(s.id, "line", ids[:3])
        job.add_shape(s.id, "face", ids[:3])
        _, lines, faces = drawn(job, s)
        unit = scale_of(frame_of(job, s).matrix)
        scale = fit_similarity(np.array([m.place(q) for q in job.marked_points(s.id)]), X)
        self.assertAlmostEqual(
            shape_size("line", lines[0][1]) * scale_of(scale), self.true(0, 1) + self.true(1, 2), delta=0.5
        )
        area = 0.5 * np.linalg.norm(np.cross(X[1] - X[0], X[2] - X[0]))
        self.assertAlmostEqual(shape_size("face", faces[0][1]) * scale_of(scale) ** 2, area, delta=0.02 * area)
        self.assertGreater(unit, 0)
        job.undo()
        job.undo()
        a, b = job.photos(s.id)[:2]
        q = pair_figures(job, s, a.id, b.id)
        true = pebble_truth()
        ca, cb = (center(true.poses[f"by-hand/{x.name}"]) for x in (a, b))
        base = float(np.linalg.norm(ca - cb))
        self.assertAlmostEqual(q.base * scale_of(scale), base, delta=0.02 * base)

    def test_names_ends_and_undo_of_points(self):
        job, s = self.job, self.sitting
        p = job.marked_point(s.id, "T7")
        job.add_length(s.id, "T7", "T0", 5.0)
        job.add_measurement(s.id, "distance", ["T7", "T0"])
        job.set_level(s.id, {"up": {"ends": ["T7", "T0", "T1"]}, "origin": "T7"})
        job.rename_marked_point(p.id, "Beak tip")
        names = job.end_names(s.id)
        self.assertEqual(names[job.lengths(s.id)[0].first], "Beak tip")
        self.assertEqual([names[e] for e in job.measurements(s.id)[0].ends], ["Beak tip", "T0"])
        self.assertEqual(names[job.level(s.id)["origin"]], "Beak tip")
        job.undo()
        self.assertEqual(job.end_names(s.id)[job.level(s.id)["up"]["ends"][0]], "T7")
        for bad in ("T1", "208", "  "):
            with self.assertRaises(UmbrateError):
                job.rename_marked_point(p.id, bad)
        job.remove_marked_points([p.id])
        self.assertNotIn("T7", [q.name for q in job.marked_points(s.id)])
        job.undo()
        self.assertEqual(job.marked_point(s.id, "T7").sightings, p.sightings)
        i = job.add_marked_point(s.id, "once")
        job.set_sighting(i, job.photos(s.id)[0].id, 300, 200)
        out = run(job, s, "scale")
        self.assertIn("one solved photo only", " ".join(x["text"] for x in out.problems))
        with self.assertRaises(UmbrateError):
            job.set_sighting(i, job.photos(s.id)[0].id, 300, 200, -1)
        twin = job.add_marked_point(s.id, "twin")
        for q in p.sightings[:3]:
            job.set_sighting(twin, q.photo_id, q.x + 0.5, q.y)
        out = run(job, s, "scale")
        self.assertIn("“T7” and “twin” are marked at the same place", " ".join(x["text"] for x in out.problems))
        job.remove_marked_points([i, twin])

    def test_cloud_follows_only_a_block_that_was_bent(self):
        job, s = self.job, self.sitting
        self.assertNotIn("scale", plan(job, s, "cloud"))
        self.assertTrue(BY_NAME["scale"].invited(job, s, settings_of(job, s, BY_NAME["scale"])))
        self.state_lengths((0, 1))
        out = run(job, s, "scale")
        key = BY_NAME["cloud"].key(job, s, settings_of(job, s, BY_NAME["cloud"]))
        self.assertEqual(out.artefacts[("block", None)] in key, out.figures.bent)


class FromMarks(unittest.TestCase):
    def test_a_whole_job_from_marked_points_alone(self):
        job, s = new_job(scratch() / "marks")
        self.addCleanup(job.close)
        X, marks = true_marks(30)
        run(job, s, "photos")
        job.set_settings(s.id, "poses", {"ties": "marked points"})
        stage = BY_NAME["poses"]
        self.assertFalse(stage.forecast(job, s, stage.Settings(ties="marked points")).good)
        for name in ("masks", "lens"):
            run(job, s, name)
        with self.assertRaisesRegex(UmbrateError, "share"):
            run(job, s, "poses")
        put_marks(job, s, 0.2, most=99, count=30)
        told = stage.forecast(job, s, stage.Settings(ties="marked points"))
        shared = max(
            sum(all(n in {m[0] for m in seen} for n in pair) for seen in marks)
            for pair in ((a.name, b.name) for a in job.photos(s.id) for b in job.photos(s.id) if a.id < b.id)
        )
        self.assertEqual(told.good, shared >= 6)
        self.assertGreaterEqual(shared, 6)
        out = run(job, s, "poses")
        self.assertGreaterEqual(out.figures.solved, 2)
        block = load_block(job, s)
        have = list(block.marks.values())
        names = {p.id: p.name for p in job.marked_points(s.id)}
        true = np.array([X[int(names[m][1:])] for m in block.marks])
        M = fit_similarity(block.points[have], true)
        off = np.linalg.norm(block.points[have] @ M[:3, :3].T + M[:3, 3] - true, axis=1)
        self.assertLess(np.median(off), 0.03 * np.ptp(true))
        self.assertEqual(state(job, "poses") in ("done", "look"), True)

    def test_marked_points_tie_a_fragment_to_the_block(self):
        job, s = new_job(scratch() / "tied")
        self.addCleanup(job.close)
        ids = [p.id for p in job.photos(s.id)]
        job.set_aside([ids[k] for k in (2, 3, 8, 9)], True)
        for name in ("photos", "masks", "lens"):
            run(job, s, name)
        # one look from the side connects them by itself
        with mock.patch.object(looks, "_promises_more", return_value=False):
            out = run(job, s, "poses")
            self.assertEqual((out.figures.solved, out.figures.first_solved, out.figures.look), (8, 4, 1 + SLANTED))
            self.assertIn(("Slanted look", "4 before it, 8 after"), [r[:2] for r in out.figures.rows()])
            rows, *_ = camera_rows(job)
            figures, _ = pebble_truth().judge_poses(
                "By hand", {r["name"]: r["pose"] for r in rows if r["pose"] is not None}
            )
            self.assertLess(figures["rotation_deg_max"], 1.0)
            again = run(job, s, "poses", mode="adjust")
            self.assertEqual((again.figures.solved, again.figures.look), (8, 1 + SLANTED))
            with mock.patch.object(looks, "_seen_from_the_side", return_value=False):
                out = run(job, s, "poses")
        self.assertEqual((out.figures.solved, out.figures.fragments), (4, [4]))
        self.assertIn("three points marked", " ".join(p["hint"] for p in out.problems))
        put_marks(job, s, 0.3, most=99, count=30)
        for way in ("go on", "start over"):
            out = run(job, s, "poses", mode=way)
            self.assertEqual((out.figures.solved, out.figures.fragments), (8, []), way)
            rows, *_ = camera_rows(job)
            solved = {r["name"]: r["pose"] for r in rows if r["pose"] is not None}
            f, _ = pebble_truth().judge_poses("By hand", solved)
            self.assertLess(f["rotation_deg_max"], 1.0)
            self.assertTrue(load_block(job, s).marks)
        out = run(job, s, "poses", mode="adjust")
        self.assertEqual(out.figures.solved, 8)
        self.assertTrue(load_block(job, s).marks)


class Commands(unittest.TestCase):
    def test_marking_scaling_and_measuring_from_the_terminal(self):
        job, s = job_with(scratch() / "cli", "photos", "masks", "lens", "poses")
        X, marks = true_marks()
        folder = str(job.folder)
        job.close()
        args = []
        for k in range(4):
            for name, x, y in marks[k][:4]:
                args += ["--mark", f"T{k}", name, f"{x:.2f}", f"{y:.2f}"]
        out = umbrate("points", folder, *args, "--sigma", "0.2", "--line", "T0,T1,T2")
        self.assertEqual(out.returncode, 0, out.stderr)
        self.assertIn("T3", out.stdout)

        def call(*command):
            return CliRunner().invoke(cli, list(command))

        d = [float(np.linalg.norm(X[a] - X[b])) for a, b in ((0, 1), (2, 3), (0, 3))]
        call(
            "lengths", folder, "--set", "T0", "T1", f"{d[0]:.3f}", "--set", "T2", "T3", f"{d[1]:.3f}".replace(".", ",")
        )
        call("lengths", folder, "--set", "T0", "T3", f"{d[2]:.3f}", "--check")
        self.assertEqual(umbrate("run", folder, "--to", "scale").returncode, 0)
        done = json.loads(umbrate("status", folder, "--json").stdout)["sittings"][0]["stages"]["scale"]["figures"]
        self.assertEqual([r["role"] for r in done["lengths"]], ["scale", "scale", "check"])
        self.assertEqual(call("level", folder, "--by", "T0", "--by", "T1", "--by", "T2", "--origin", "T0").exit_code, 0)
        out = call("measure", folder, "--add", "distance", "--end", "T1", "--end", "T2", "--name", "side")
        self.assertEqual(out.exit_code, 0)
        place = scratch()
        for command in (
            ("measure", folder, "--export", str(place / "m.csv")), ("points", folder, "--export", str(place / "p.csv")),
            ("points", folder, "--export", str(place / "p.dxf")), ("report", folder, str(place / "r.pdf")),
            ("pair", folder, *(m[0] for m in marks[0][:2])),
        ):  # fmt: skip
            out = call(*command)
            self.assertEqual(out.exit_code, 0, out.output)
        self.assertIn("side", (place / "m.csv").read_text())
        wrong = (
            ("points", folder, "--mark", "T9", "nothing.jpg", "1", "2"),
            ("points", folder, "--mark", "T9", marks[0][0][0], "-50", "2"),
            ("points", folder, "--mark", "208", marks[0][0][0], "5", "2"),
            ("points", folder, "--rename", "T0", "T1"), ("points", folder, "--import", "/nowhere.csv"),
            ("lengths", folder, "--set", "T0", "T2", "zero"), ("lengths", folder, "--set", "T0", "T2", "-4"),
            ("level", folder, "--by", "T0", "--by", "T1"), ("level", folder, "--mat"),
            ("measure", folder, "--add", "circle", "--end", "T0"), ("measure", folder, "--remove", "no such"),
            ("section", folder, str(place / "s.svg")), ("pair", folder, "a", "b"),
        )  # fmt: skip
        for command in wrong:
            self.assertEqual(call(*command).exit_code, 1, command)
        with Job.open(folder) as j:
            self.assertEqual([p.name for p in j.marked_points(s.id)], ["T0", "T1", "T2", "T3"])


if __name__ == "__main__":
    unittest.main()
