"""Joining: similarities, shapes and unions against closed forms, and verdicts on made-up sittings."""

import json
import shutil
import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from click.testing import CliRunner
from PIL import Image
from PyQt6.QtCore import QPoint, QSettings, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton
from scipy import ndimage
from scipy.spatial.transform import Rotation

from tests.desk import wait_for
from tests.scenes import made_once, pebble_set, pebble_truth, scratch
from tests.test_scaling import put_marks
from tests.test_stages import QUICK, new_job, run
from umbrate.actions.delivering import camera_rows
from umbrate.actions.leveling import level_by_turn
from umbrate.actions.measuring import measure_all, refresh_all
from umbrate.actions.reporting import report_content, write_accuracy_report
from umbrate.actions.shapemasks import gather_shape, keep_shape_masks, make_shape_masks
from umbrate.actions.uniting import unite_clouds
from umbrate.cli.main import cli
from umbrate.core.cloud.keepbox import KeepBox
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at, pose
from umbrate.core.geometry.rotation import rotation_angle
from umbrate.core.geometry.similarity import difference, move_pose
from umbrate.core.masking.clean import overlap
from umbrate.core.masking.shape import carve, drawn, finished, pixel_grid, seen_elsewhere
from umbrate.desk import appearance
from umbrate.desk.dialogs.picks import PicksDialog
from umbrate.desk.window import Window
from umbrate.job.store import Job
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.frames import frame_of, load_block, move_box
from umbrate.sitting.masks import decode_mask
from umbrate.stages.base import Report
from umbrate.stages.join.members import member_of
from umbrate.stages.join.whole import join_all, join_whole
from umbrate.work.adding import read_folder, take_in
from umbrate.work.state import board

APP = None


def setUpModule():
    global APP
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(scratch()))
    APP = QApplication.instance() or QApplication(["umbrate"])
    APP.setStyle("Fusion")
    appearance.put_on(APP)


def some_move(rng, scale=1.0):
    """A random similarity."""
    return pose(scale * Rotation.random(random_state=int(rng.integers(1e6))).as_matrix(), rng.normal(size=3) * 50)


def moved(points, M):
    """Points (n, 3) after a similarity."""
    return points @ M[:3, :3].T + M[:3, 3]


@cache
def two_sittings():
    """A job folder with twelve photos of the pebble as one sitting, and nine of them once more as another; solved."""
    return made_once("two.umbrate", _solve_two)


def _copy_nine(folder):
    (folder / "masks").mkdir(parents=True)
    for file in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:9]:
        shutil.copy(file, folder)
        shutil.copy(file.parent / "masks" / f"{file.stem}.png", folder / "masks")


def _solve_two(folder):
    some = made_once("some", _copy_nine)
    job, first = new_job(folder)
    case = unittest.TestCase()
    with job:
        with case.assertRaisesRegex(UmbrateError, "only one sitting"):
            join_all(job, job.sittings())
        second, _, _ = take_in(job, "Again", read_folder(some, some / "masks"))
        for stage, values in QUICK.items():
            job.set_settings(second.id, stage, {**values, "seed": 5} if stage == "poses" else values)
        for name in ("photos", "masks", "lens", "poses"):
            run(job, first, name)
        with case.assertRaisesRegex(UmbrateError, "no poses yet"):
            join_all(job, job.sittings())
        for name in ("photos", "masks", "lens", "poses"):
            run(job, second, name)


def same_places(job, count):
    """Places far apart that both sittings see at the same pixels of the same photos: pairs in their job frames."""
    seen, blocks = [], []
    for s in job.photo_sittings():
        b = load_block(job, s)
        names = {p.id: p.name for p in job.photos(s.id)}
        of = {}
        for q, xy in enumerate(np.round(b.xy).astype(int)):
            of.setdefault(int(b.point[q]), {})[names[int(b.photo_ids[b.photo[q]])]] = tuple(xy)
        seen.append(of)
        blocks.append(b)
    at = {(n, xy): p for p, x in seen[1].items() for n, xy in x.items()}
    pairs = []
    for p, x in seen[0].items():
        twins = [at.get(key) for key in x.items()]
        best = max(set(twins), key=twins.count)
        if best is not None and twins.count(best) >= 3:
            pairs.append((p, best))
    A = np.array([blocks[0].points[p] for p, _ in pairs])
    far = [int(np.argmax(np.linalg.norm(A - A.mean(0), axis=1)))]
    while len(far) < count:
        far.append(int(np.argmax(np.min([np.linalg.norm(A - A[i], axis=1) for i in far], axis=0))))
    return [tuple(b.points[k] for b, k in zip(blocks, pairs[i], strict=True)) for i in far]


class Sittings(unittest.TestCase):
    def copy(self):
        """The job of two solved sittings, once more."""
        return Job.open(shutil.copytree(two_sittings(), scratch() / "copy.umbrate"))

    def off(self, job, blocks, M):
        """Turn (degrees) and shift (share of the distance) between the same photos of the two sittings."""
        poses = []
        for s, block in zip(job.photo_sittings(), blocks, strict=True):
            names = {p.id: p.name for p in job.photos(s.id)}
            poses.append(
                {names[int(i)]: E for i, E in zip(block.photo_ids, block.poses, strict=True) if int(i) in names}
            )
        middle = np.median(blocks[1].points, axis=0)
        out = []
        for name in set(poses[0]) & set(poses[1]):
            a, b = move_pose(poses[0][name], M), poses[1][name]
            turn = np.degrees(rotation_angle(a[:3, :3] @ b[:3, :3].T))
            out.append((turn, np.linalg.norm(center(a) - center(b)) / np.linalg.norm(center(b) - middle)))
        return np.array(out)

    def test_they_lie_to_each_other_as_photos_in_both_of_them_say(self):
        with self.copy() as job:
            first, second = job.sittings()
            whole = join_all(job, job.sittings(), ("surface",))
            found = whole.joins[0, 1]
            self.assertEqual((found.verdict, found.reasons, whole.loops, whole.verdict), ("good", [], [], "good"))
            off = self.off(job, [load_block(job, s) for s in (first, second)], found.M)
            # each sitting has poses and a lens of its own making
            self.assertTrue((np.median(off, axis=0) < (0.25, 0.006)).all(), off)
            self.assertTrue((off.max(0) < (0.8, 0.012)).all(), off)
            # back into the first one's frame
            np.testing.assert_allclose(whole.moves[1] @ found.M, np.eye(4), atol=1e-9)
            # a third sitting that is the second, laid elsewhere at another size: all three are solved together
            a, b = (member_of(job, s) for s in (first, second))
            M = some_move(np.random.default_rng(12), 1.4)
            c = replace(b, id=99, name="Once more", block=b.block.moved(M), frame=M @ b.frame, cloud=None,
                        box=move_box(b.box, M), extent=1.4 * b.extent)  # fmt: skip
            three = join_whole([a, b, c], ("surface",))
            self.assertEqual((three.verdict, len(three.loops), {x.verdict for x in three.joins.values()}),
                             ("good", 3, {"good"}))  # fmt: skip
            turn, _, scale = difference(three.moves[1], three.moves[2] @ M, b.middle)
            self.assertLess(turn, 0.3)
            self.assertLess(abs(scale), 0.005)
            self.assertLess(max(turn for _, _, turn, _ in three.loops), 0.5)
            none = join_all(job, job.sittings(), ("targets",))
            self.assertEqual((none.joins[0, 1].verdict, none.verdict), ("none", "none"))
            self.assertIsNone(none.moves[1])
            self.assertIn("no targets", none.joins[0, 1].reasons[0])
            with self.assertRaisesRegex(UmbrateError, "give it a start"):
                join_all(job, job.sittings(), ("shape",))
            with self.assertRaisesRegex(UmbrateError, "no scale"):
                join_all(job, job.sittings(), with_scale=False)

    def test_merged_the_same_photo_has_one_place_and_nothing_of_the_sittings_changes(self):
        with self.copy() as job:
            folder = str(job.folder)
            before = [job.result(s.id, "poses").made for s in job.sittings()]
        out = CliRunner().invoke(cli, ["join", folder, "--by", "surface", "--merge"])
        self.assertEqual(out.exit_code, 0, out.output)
        self.assertIn("good", out.output)
        with Job.open(folder) as job:
            row = job.joined_rows()[0]
            self.assertEqual(before, [job.result(s.id, "poses").made for s in job.photo_sittings()])
            block = load_block(job, row)
            self.assertEqual(int(block.solved.sum()), 21)
            off = self.off(job, [block, block], np.eye(4))
            self.assertTrue((np.median(off, axis=0) < (0.05, 0.001)).all(), off)
            self.assertEqual({c.stage: c.state for c in board(job)[2]}, {
                "photos": "elsewhere", "masks": "elsewhere", "lens": "elsewhere", "poses": "done", "scale": "ready",
                "join": "done", "cloud": "ready", "surface": "nothing", "texture": "nothing",
                "deliver": "nothing",
            })  # fmt: skip
            # joining again with other choices is one step, and undo takes it back
            found = job.join_found(row.id)
            job.set_members(row.id, row.members[::-1])
            other = next(s for s in job.sittings() if s.id == row.id)
            self.assertEqual(run(job, other, "join").figures.verdict, "good")
            self.assertNotEqual(found.moves, job.join_found(row.id).moves)
            job.undo()
            self.assertEqual(found, job.join_found(row.id))
            job.undo()
            self.assertEqual(job.sittings()[2], row)
            job.set_settings(row.id, "cloud", {"photo_scale": 8, "neighbors": 3})
            cloud = run(job, row, "cloud").figures
            self.assertEqual(cloud.photos, 21)
            for s in job.photo_sittings():
                job.set_settings(s.id, "cloud", {"photo_scale": 8, "neighbors": 3})
                run(job, s, "cloud")
            each = [job.cloud(s.id).left for s in job.photo_sittings()]
            united = unite_clouds(job, row)
            self.assertEqual(sum(each), united["points"] + sum(united["doubled"]) + sum(united["seen_through"]))
            self.assertGreater(sum(united["doubled"]), 0.3 * min(each))  # they show the same
            self.assertEqual(job.cloud(row.id).name, "United")
            job.remove_sitting(job.photo_sittings()[1].id)
            self.assertEqual([s.name for s in job.sittings()], [job.photo_sittings()[0].name])
            job.undo()
            self.assertEqual(len(job.sittings()), 3)
            self.assertEqual(len(load_cloud(job, row)["points"]), united["points"])
        for what in ("cloud", "cameras"):
            file = scratch() / f"{what}.{'ply' if what == 'cloud' else 'json'}"
            out = CliRunner().invoke(cli, ["export", folder, what, str(file), "--joined"])
            self.assertEqual(out.exit_code, 0, out.output)
            self.assertIn(f"{united['points']:,}" if what == "cloud" else "21", out.output)
        rows = json.loads(file.read_text())["photos"]
        self.assertEqual(len({(r["sitting"], r["name"]) for r in rows}), 21)  # nine names come twice
        self.assertEqual({r["sitting"] for r in rows}, {"By hand", "Again"})

    def test_measurements_of_a_joined_row_are_told_and_its_report_knows_its_members(self):
        with self.copy() as job:
            folder = job.folder
            first, _ = job.sittings()
            put_marks(job, first)
            job.add_length(first.id, "T0", "T1", 20.0)
            job.add_length(first.id, "T2", "T3", 20.0)
            run(job, first, "scale")
        out = CliRunner().invoke(cli, ["join", str(folder), "--by", "surface", "--merge", "--name", "Whole"])
        self.assertEqual(out.exit_code, 0, out.output)
        with Job.open(folder) as job:
            row = job.joined_rows()[0]
            m = job.add_measurement(row.id, "point", ["T0"], "spot")
            refresh_all(job)
            before = measure_all(job, row)[m]["text"]
            level_by_turn(job, job.sittings()[0], np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]))
            changes = refresh_all(job)
            after = measure_all(job, row)[m]["text"]
            self.assertNotEqual(before, after)
            self.assertEqual(changes[row.id], [("spot", before, after)])
            entry = next(e for e in reversed(job.ledger()) if e.stage == "measure")
            self.assertEqual(entry.sitting_id, row.id)
            job.rename_sitting(first.id, "Renamed")
            content = report_content(job, row)
            told = [r[1] for r in content["ledger"]]
            self.assertTrue(any(t.startswith("Renamed: ") for t in told), told)
            self.assertTrue(any(t.startswith("Again: ") for t in told), told)
            self.assertEqual({p[1] for p in content["photos"]}, {"Renamed", "Again"})
            rows, lenses, sigmas = camera_rows(job, row)
            self.assertEqual({r["sitting"] for r in rows}, {"Renamed", "Again"})
            self.assertTrue(lenses.keys() == sigmas.keys() and all("f" in v for v in sigmas.values()))
            write_accuracy_report(job, row, scratch() / "r.pdf")

    def test_picks_join_and_what_is_wrong_with_them_is_said(self):
        with self.copy() as job:
            row = job.add_joined([s.id for s in job.photo_sittings()])
            ids, pairs = list(row.members), same_places(job, 5)
            plain = [
                [(np.linalg.inv(frame_of(job, s).matrix) @ np.append(X, 1))[:3].tolist()
                 for s, X in zip(job.photo_sittings(), pair, strict=True)]
                for pair in pairs
            ]  # fmt: skip
            made = [job.add_pick(row.id, {i: {"cloud": x} for i, x in zip(ids, p, strict=True)}) for p in plain]
            job.set_settings(row.id, "join", {"targets": False, "surface": False})
            found = run(job, row, "join").figures
            self.assertEqual(found.verdict, "good", found.joins[0].reasons)
            size = np.linalg.norm(np.ptp([a for a, _ in pairs], axis=0))
            self.assertLess(max(d for _, d in found.joins[0].picks), 0.02 * size)
            before = found.moves

            def pair(i, a, b):
                job.set_pick(made[i], {ids[0]: {"cloud": plain[a][0]}, ids[1]: {"cloud": plain[b][1]}})

            pair(0, 0, 1)
            pair(1, 1, 0)
            with self.assertRaisesRegex(UmbrateError, "picks A and B are paired crosswise"):
                run(job, row, "join")
            self.assertEqual(job.join_found(row.id).moves, before)  # nothing changed
            pair(0, 0, 0)
            pair(1, 1, 1)
            for i in made[2:]:
                job.set_pick(i, used=False)
            with self.assertRaisesRegex(UmbrateError, "2 picks of three"):
                run(job, row, "join")
            job.set_settings(row.id, "join", {"surface": False, "picks": False})
            with self.assertRaisesRegex(UmbrateError, "there are no targets on the object that both sittings see"):
                run(job, row, "join")
            with self.assertRaisesRegex(UmbrateError, "nothing to join in it"):
                run(job, job.photo_sittings()[0], "join")

    def test_masks_are_drawn_from_a_rough_surface(self):
        with self.copy() as job:
            sitting = job.photo_sittings()[0]
            M = frame_of(job, sitting).matrix
            _, T = pebble_truth().judge_poses("By hand", {
                r["name"]: r["pose"] for r in camera_rows(job, sitting)[0] if r["pose"] is not None
            })  # fmt: skip
            V = moved(pebble_truth().vertices, np.linalg.inv(T))
            low, high = V.min(0), V.max(0)
            box = KeepBox((low + high) / 2, np.eye(3), 0.53 * (high - low))
            job.set_keep_box(sitting.id, move_box(box.as_dict(), np.linalg.inv(M)))
            true = {
                p.id: np.asarray(Image.open(pebble_set() / "by-hand" / "masks" / f"{p.name[:-4]}.png").convert("L"))
                > 127
                for p in job.photos(sitting.id)
            }

            def alike(masks):
                each = [overlap(decode_mask(job.blobs.get_bytes(key)), true[i]) for i, key in masks.items()]
                return float(np.median(each)) if min(each) > 0.7 else 0.0  # low photos see what few others do

            masks, f = make_shape_masks(gather_shape(job, sitting), "depth", 1, "replace", 2, Report())
            self.assertEqual((f["masks"], f["kept"], f["empty"]), (12, 0, []))
            self.assertGreater(alike(masks), 0.85)
            # three masks carve a shape that is drawn into the others; those that are there stay
            gathered = gather_shape(job, sitting)
            some = dict(list(gathered.masks.items())[::2])
            masks, f = make_shape_masks(replace(gathered, masks=some), "outlines", 0, "keep", 8, Report())
            self.assertEqual((f["masks"], f["kept"]), (6, 6))
            self.assertGreater(alike(masks), 0.85)
            with self.assertRaisesRegex(UmbrateError, "there are 0"):
                make_shape_masks(replace(gathered, masks={}), "outlines", 0, "keep", 8, Report())
            keep_shape_masks(job, sitting, masks)
            self.assertEqual(job.hand_masks(sitting.id), masks)
            self.assertIn("masks from shape", job.undo())
            self.assertEqual(job.hand_masks(sitting.id), {})


class Drawing(unittest.TestCase):
    """A ball, whose outline is known."""

    def test_a_surface_is_drawn_where_it_is_and_outlines_carve_it(self):
        rng = np.random.default_rng(10)
        lens = Lens(400, 300, 500.0, 201.0, 148.0, (-0.1, 0.05, 0.0), (0.0, 0.0))
        d = rng.normal(size=(6000, 3))
        ball = 10 * d / np.linalg.norm(d, axis=1, keepdims=True)
        outlines = []
        for k in range(12):
            eye = 60 * np.array([np.cos(k), np.sin(k), 0.5 * np.cos(1.7 * k)])
            E = look_at(eye, np.zeros(3))
            ray = np.concatenate([pixel_grid(lens, 1), np.ones((300, 400, 1))], 2)
            ray /= np.linalg.norm(ray, axis=2, keepdims=True)
            c = E[:3, 3]
            along = ray @ c
            true = c @ c - along**2 <= 100.0
            mask = finished(drawn(ball, 0.46, lens, E, 2), true.shape, 2, 0)
            self.assertGreater(overlap(mask, true), 0.93)
            wide = finished(drawn(ball, 0.46, lens, E, 2), true.shape, 2, 6)
            grown = ndimage.distance_transform_edt(~mask) <= 6
            self.assertEqual((wide ^ grown).sum(), 0)
            outlines.append((true, lens, E))
        # a map that sees something else in the left half takes that away
        depth = np.full((30, 40), 50.0)
        depth[:, :20] *= -1
        other = seen_elsewhere(depth, np.ones((30, 40)), (50.0, 19.5, 14.5), pixel_grid(lens.without_distortion(), 2))
        self.assertGreater(other[:, :90].mean(), 0.9)
        self.assertEqual(other[:, 110:].sum(), 0)
        shell, size = carve(KeepBox(np.zeros(3), np.eye(3), np.full(3, 14.0)), outlines, cells=56, missing=0)
        r = np.linalg.norm(shell, axis=1)
        self.assertGreater(r.min(), 10 - 1.5 * size)
        self.assertLess(np.percentile(r, 90), 10 * 1.15)  # a hull of twelve views is a little larger


class InTheWindow(unittest.TestCase):
    def setUp(self):
        self.window = Window()
        self.window.resize(1280, 800)
        self.window.show()
        self.addCleanup(self.window.close)
        self.session = self.window.session
        folder = shutil.copytree(two_sittings(), scratch() / "copy.umbrate")
        self.assertTrue(self.window.open_path(folder))
        APP.processEvents()

    def click(self, text, inside=None):
        """Press the button of that text."""
        b = next(b for b in (inside or self.window.bench).findChildren(QPushButton) if b.text() == text)
        QTest.mouseClick(b, Qt.MouseButton.LeftButton)

    def idle(self):
        wait_for(lambda: self.session.queue.idle and self.session.tasks.idle)

    def test_sittings_are_joined_looked_at_and_merged(self):
        s, scene = self.session, self.window.scene
        s.choose(stage="join")
        self.click("Join 2 sittings")
        self.idle()
        self.assertEqual((s.sitting.name, len(s.sitting.members)), ("Joined", 2))
        self.assertEqual([c.state for c in self.window.board.cells[2]][:4], ["elsewhere"] * 3 + ["ready"])
        wait_for(lambda: scene.points is not None)
        self.assertTrue(scene.is_overlay)
        counts = [len(load_block(s.job, x).points) for x in s.job.photo_sittings()]
        self.assertEqual(len(scene.points), sum(counts))
        self.assertEqual(len(np.unique(scene.colors, axis=0)), 2)  # tie points in two tints
        s.joining.hide(s.sitting.members[0], True)
        self.assertEqual(len(scene.points), counts[1])
        s.joining.hide(s.sitting.members[0], False)
        s.joining.set_look("colors")
        self.assertGreater(len(np.unique(scene.colors, axis=0)), 20)
        self.click("Next: merge all photos")
        self.idle()
        self.assertEqual((s.stage, s.result("poses").figures.solved), ("poses", 21))
        self.assertFalse(scene.is_overlay)
        s.choose(stage="masks")
        self.click("Go to “Again”")
        self.assertEqual((s.sitting.name, s.stage), ("Again", "masks"))
        shown = [x.text() for x in self.window.bench.findChildren(QLabel)]
        self.assertIn("Masks from shape", shown)

    def test_places_are_picked_side_by_side(self):
        s = self.session
        row = s.job.add_joined([x.id for x in s.job.photo_sittings()])
        s.changed()
        s.choose(row.id, "join")
        dialog = PicksDialog(s, self.window)
        dialog.show()
        self.addCleanup(dialog.close)
        wait_for(lambda: all(v.ready for v in dialog.views))
        for n, pair in enumerate(same_places(s.job, 4)):
            for k, (view, X) in enumerate(zip(dialog.views, pair, strict=True)):
                # what is picked must face the eye, and nothing may lie before it
                view.points = np.ascontiguousarray(X[None], np.float32)
                view.colors = np.full((1, 3), 200, np.uint8)
                view._image = None
                view.repaint()
                ((x, y),) = view.on_screen(X)
                QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
                self.assertEqual(len(s.job.picks(row.id)), n + k)
                if n == 3 and k == 0:
                    self.assertLess(
                        np.linalg.norm(dialog.views[1].guess - pair[1]), 0.05 * np.linalg.norm(pair[1]) + 0.1
                    )
        self.assertEqual(dialog.list.rowCount(), 4)
        self.assertTrue(dialog.changed)
        off = [float(dialog.list.item(r, 3).text().split()[0]) for r in range(4)]
        self.assertLess(max(off), 0.1)
        a, b = s.job.picks(row.id)[:2]
        left, right = row.members
        s.job.set_pick(a.id, {left: a.places[left], right: b.places[right]})
        s.job.set_pick(b.id, {left: b.places[left], right: a.places[right]})
        dialog._fill()
        self.assertIn("A and B are paired crosswise", dialog.hint.text())
        # in a photo the nearest point of the surface is taken
        dialog._show_member(0)
        dialog.which[0][1].setCurrentIndex(1)
        dialog._show_what(0)
        view = dialog.views[0]
        wait_for(lambda: view.photo is not None and view.ready)
        got = []
        view.picked.connect(lambda X, kept: got.append(X))
        X = view.points[np.flatnonzero(view._uv[:, 2] > 0)[0]]
        ((x, y),) = view.on_screen(X)
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
        off = np.hypot(*(view.on_screen(got[0]) - [round(x), round(y)])[0])
        self.assertLess(off, 8)


if __name__ == "__main__":
    unittest.main()
