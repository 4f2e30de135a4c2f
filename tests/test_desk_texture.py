"""The texture in the window: drawn, asked where it is from, photos left out; and what is delivered from there."""

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from tests import desk
from tests.desk import OneJob, texts, wait_for
from tests.scenes import scratch
from tests.test_stages import run
from umbrate.core.raster.camera import eye_round
from umbrate.desk.bench.delivery import DeliveryPanel
from umbrate.desk.bench.texture import TexturePanel
from umbrate.desk.scene.points import Slab
from umbrate.desk.scene.tools import LOOK, RECTANGLE
from umbrate.desk.session.texturing import PHOTOS, SHAPE, SOURCES
from umbrate.sitting.frames import load_block
from umbrate.sitting.surfaces import load_surface
from umbrate.stages import BY_NAME
from umbrate.work.state import is_current


def setUpModule():
    desk.setUpModule()


def tearDownModule():
    desk.tearDownModule()


class Textures(OneJob):
    STAGES = ("photos", "masks", "lens", "poses", "cloud", "surface")

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        s = cls.session
        s.job.set_settings(s.sitting_id, "texture", {"side": 1024, "triangles": 4000})
        run(s.job, s.sitting, "texture")

    def setUp(self):
        super().setUp()
        self.work = self.session.texturing
        self.addCleanup(self.work.set_look, PHOTOS)
        self.session.choose(stage="texture")
        wait_for(lambda: self.scene.drawn.textured is not None)

    def picture(self):
        self.scene.canvas.draw()
        return self.scene.canvas._memory[..., 2::-1].astype(float)

    def test_it_is_drawn_in_the_photos_colors_by_its_sources_or_as_the_surface(self):
        scene, made = self.scene, self.scene.drawn.textured
        self.assertEqual(len(scene.drawn.faces), self.session.result("texture").figures.triangles)
        b = load_block(self.session.job, self.session.sitting)
        row = b.solved_rows[int(made.shares[0][0] if made.shares[0][0] >= 0 else made.shares[1][0])]
        scene.look_through(int(b.photo_ids[row]))
        scene.through.blend.setValue(0)
        as_photos = self.picture()
        on = scene.canvas.buffers.index >= 0
        self.assertGreater(on.sum(), 1500)
        # where the photo looks from, the model has the photo's colors
        wait_for(lambda: scene.through._image is not None)
        image = scene.through._image
        s = scene.eye.f / scene.through._pinhole.f
        h, w = on.shape
        v, u = np.nonzero(on)
        p = scene.through._pinhole
        x, y = ((u - (w - 1) / 2) / s + p.cx).astype(int), ((v - (h - 1) / 2) / s + p.cy).astype(int)
        inside = (x >= 0) & (y >= 0) & (x < image.width()) & (y < image.height())
        places = zip(x[inside].tolist(), y[inside].tolist(), strict=True)
        photo = np.array([image.pixelColor(*at).getRgb()[:3] for at in places])
        drawn = as_photos[v[inside], u[inside]]
        self.assertLess(np.median(np.abs(photo - drawn)), 14)
        self.assertGreater(np.corrcoef(photo.mean(1), drawn.mean(1))[0, 1], 0.7)
        scene.look_from("Fit")
        first = self.picture()
        self.work.set_look(SOURCES)
        tinted = self.picture()
        self.assertGreater(np.abs(tinted - first).max(2)[scene.canvas.buffers.index >= 0].mean(), 20)
        self.work.set_look(SHAPE)
        wait_for(lambda: scene.is_surface)
        np.testing.assert_array_equal(scene.drawn.faces, load_surface(self.session.job, self.session.sitting)["faces"])
        self.work.set_look(PHOTOS)
        wait_for(lambda: scene.drawn.textured is not None)
        scene.drawn.show_slab(Slab((0, 0, 1.0), float(np.median(made.arrays["points"][:, 2])), 1e9))
        self.assertLess(len(scene.drawn.faces), len(made.arrays["faces"]))
        scene.redraw(moving=True)
        self.assertTrue(0 < (self.picture() != first).any(2).mean() < 1)
        scene.drawn.show_slab(None)

    def test_it_comes_by_itself_whoever_asks_for_it_first(self):
        s, scene, work = self.session, self.scene, self.work
        for first in ("surface", "join", "cloud"):
            s.choose(stage=first)
            wait_for(lambda: scene.drawn.textured is None)
            work._key = work._made = None  # not read yet
            s.chosen_changed.disconnect(self.window.bench.reload)  # the scene is the first to ask
            s.choose(stage="texture")
            s.chosen_changed.connect(self.window.bench.reload)
            wait_for(lambda: scene.drawn.textured is not None)

    def test_a_click_says_which_photo_a_place_is_from_and_rings_it_there(self):
        scene, made, s = self.scene, self.scene.drawn.textured, self.session
        job, b = s.job, load_block(s.job, s.sitting)
        mesh, asked = made.arrays, set()
        for direction in ((0, -1, 0.3), (1, 0.3, 0.5), (-1, 0.5, 0.4)):
            middle = np.median(mesh["points"], 0).astype(float)
            size = np.percentile(np.linalg.norm(mesh["points"] - middle, axis=1), 98)
            scene.look(eye_round(middle, size, direction, scene.width(), scene.height()))
            scene.toggles["Photos"].setChecked(False)
            scene.canvas.draw()
            at = QPoint(scene.width() // 2, scene.height() // 2)
            triangle = int(scene.canvas.buffers.index[at.y(), at.x()])
            QTest.mouseClick(scene, Qt.MouseButton.LeftButton, pos=at)
            found = self.work.asked
            self.assertEqual((found.triangle, found.photo), (triangle, int(mesh["photo"][triangle])))
            if found.photo < 0:
                continue
            asked.add(found.photo)
            self.assertEqual(s.photo_id, found.photo)
            # the ring lies where the photo shows that triangle
            k = b.row_of(found.photo)
            Y = mesh["points"][mesh["faces"][triangle]].mean(0) @ b.poses[k][:3, :3].T + b.poses[k][:3, 3]
            uv = b.lens(k).project(Y[None, :2] / Y[2])[0]
            self.assertLess(np.linalg.norm(uv - found.pixel), 12)
        self.assertGreater(len(asked), 1)
        scene.toggles["Photos"].setChecked(True)
        # it is asked, not cut
        scene.set_mode(RECTANGLE)
        steps = len(job.surface(s.sitting_id).steps)
        QTest.mouseClick(scene, Qt.MouseButton.LeftButton, pos=QPoint(200, 200))
        self.assertFalse(s.mending.step)
        self.assertEqual(len(job.surface(s.sitting_id).steps), steps)
        scene.set_mode(LOOK)

    def test_a_photo_without_a_tick_gives_nothing_in_the_next_run_and_undo_ticks_it_again(self):
        s = self.session
        panel = self.window.bench.findChild(TexturePanel)
        shares = dict(self.scene.drawn.textured.shares)
        self.assertAlmostEqual(sum(shares.values()), 1, places=6)
        row = next(
            k for k in range(panel.table.rowCount()) if panel.table.item(k, 0).data(Qt.ItemDataRole.UserRole) >= 0
        )
        item = panel.table.item(row, 0)
        name = item.text()
        item.setCheckState(Qt.CheckState.Unchecked)
        self.assertEqual(self.work.left_out(), [name])
        self.assertFalse(is_current(s.job, s.sitting, BY_NAME["texture"]))
        self.assertEqual(panel.table.item(row, 0).checkState(), Qt.CheckState.Unchecked)
        s.undo()
        self.assertEqual(self.work.left_out(), [])
        self.assertTrue(is_current(s.job, s.sitting, BY_NAME["texture"]))
        self.assertEqual(panel.table.item(row, 0).checkState(), Qt.CheckState.Checked)
        self.assertTrue(any("A click on the model" in x for x in texts(self.window.bench)))


class Deliver(OneJob):
    STAGES = ("photos", "masks", "lens", "poses", "cloud", "surface")

    def setUp(self):
        super().setUp()
        self.folder = scratch() / "by-window"
        self.session.choose(stage="deliver")
        s = self.session
        s.job.set_settings(s.sitting_id, "deliver", {
            "purpose": "print", "folder": str(self.folder), "file": "pebble", "size_by": "target", "target": 40.0,
            "triangles": 4000, "thin_wall": 39.0,
        })  # fmt: skip
        s.changed()

    def test_it_makes_files_lists_them_and_its_buttons_lead_to_what_mends_them(self):
        s, bench = self.session, self.window.bench
        self.assertEqual(bench.run_button.text(), "Deliver")
        bench.run_button.click()
        wait_for(lambda: s.queue.idle and s.result("deliver") is not None, 120)
        self.assertTrue((self.folder / "pebble.3mf").is_file())
        panel = self.panel(DeliveryPanel)
        self.assertEqual([panel.table.item(0, k).text() for k in (0, 2)], ["Print", "look"])
        said = texts(panel)
        self.assertTrue(any("thinner than 39 mm" in x for x in said))
        show = next(b for b in panel.findChildren(QPushButton) if b.text() == "Show where")
        show.click()
        wait_for(lambda: s.surfacing.look == "thickness", 60)
        self.assertEqual(s.stage, "surface")
        low, high, *_ = s.surfacing.legend()
        self.assertEqual(low, 0.0)
        size = np.ptp(s.surfacing.mesh["points"], axis=0).max()
        self.assertAlmostEqual(high / (2 * 39 * size / 40), 1, delta=0.02)
        s.surfacing.set_look("relief")
        # again: beside the first, under another name; what is taken off the list stays on the disk
        s.choose(stage="deliver")
        panel = self.panel(DeliveryPanel)
        panel.again()
        wait_for(lambda: s.queue.idle and len(s.result("deliver").figures.made) == 2, 120)
        self.assertEqual(s.result("deliver").figures.made[-1].files[0][0], "pebble (2).3mf")
        panel = self.panel(DeliveryPanel)
        panel.table.selectRow(0)
        panel.forget()
        self.assertEqual([m.files[0][0] for m in s.result("deliver").figures.made], ["pebble.3mf"])
        self.assertTrue((self.folder / "pebble (2).3mf").is_file())
        (self.folder / "pebble.3mf").unlink()
        s.changed()
        panel = self.panel(DeliveryPanel)
        self.assertEqual(panel.table.item(0, 2).text(), "files are gone")
        # what fails says why, with the button that goes there
        s.job.set_settings(s.sitting_id, "deliver", {"purpose": "cloud", "cloud_format": "ply", "cloud": "Nothing"})
        s.changed()
        s.run()
        wait_for(lambda: s.queue.idle and any("no cloud “Nothing”" in x for x in texts(bench)))
