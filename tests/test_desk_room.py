"""The room of the window, finding and help: what has the keyboard, what is seen, what can be read."""

import json
import re
import unittest
import zipfile
from itertools import combinations, product
from pathlib import Path
from unittest import mock

import numpy as np
from PyQt6.QtCore import QLocale, QPoint, QRectF, QSettings, Qt
from PyQt6.QtGui import QAction, QImage, QKeySequence, QPainter
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QApplication,
    QFileDialog,
    QScrollArea,
    QToolButton,
    QWidget,
)
from skimage.color import rgb2lab

from tests.desk import DeskTest, OneJob, setUpModule, tearDownModule, texts, wait_for  # noqa: F401
from tests.scenes import scratch
from tests.test_cli import umbrate
from tests.test_stages import new_job
from umbrate.actions.delivering import export_cloud
from umbrate.core.geometry.pose import center
from umbrate.desk import appearance, finding, tokens
from umbrate.desk.dialogs import manual as pages
from umbrate.desk.dialogs.problem import ProblemDialog
from umbrate.desk.nextstep import next_step
from umbrate.desk.text import local
from umbrate.desk.window import Window
from umbrate.stages import STAGES
from umbrate.work import manual

#: keys that every keyboard has without AltGr, and without Shift
PLAIN = {*"ABCDEFGHIJKLMNOPQRSTUVWXYZ", *(f"F{k}" for k in range(1, 13))} | {
    "Esc", "Del", "Ins", "Home", "End", "PgUp", "PgDown", "Left", "Right", "Up", "Down", "Backspace", "Return", "Space",
}  # fmt: skip


def luminance(color):
    """Relative luminance of a color (WCAG 2)."""
    x = np.array([int(color[k : k + 2], 16) for k in (1, 3, 5)]) / 255
    x = np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)
    return float(x @ (0.2126, 0.7152, 0.0722))


def contrast(a, b):
    """Contrast of two colors (WCAG 2), 1 to 21."""
    low, high = sorted((luminance(a), luminance(b)))
    return (high + 0.05) / (low + 0.05)


class Tokens(unittest.TestCase):
    def test_text_can_be_read_in_both_themes(self):
        self.assertAlmostEqual(contrast("#000000", "#FFFFFF"), 21)
        for name, t in tokens.THEMES.items():
            states = [t["STATE_COLORS"][x] for x in ("done", "stale", "look", "failed", "ready")]
            for text, ground in product(
                (t["TEXT"], t["QUIET"], t["ACCENT_TEXT"], *states), ("GROUND", "PANEL", "RAISED")
            ):
                self.assertGreaterEqual(contrast(text, t[ground]), 4.5, (name, text, ground))
            for text, ground in (
                ("TEXT", "ACCENT_DARK"), ("TEXT", "CHECKED"), ("ON_ACCENT", "ACCENT"), ("ON_ACCENT", "ACCENT_OVER"),
            ):  # fmt: skip
                self.assertGreaterEqual(contrast(t[text], t[ground]), 4.5, (name, text, ground))
        for text in ("TEXT", "QUIET", "ACCENT"):  # over photos and in the scene
            self.assertGreaterEqual(contrast(tokens.DARK[text], tokens.NEUTRAL), 4.5, text)

    def test_every_rule_of_the_style_uses_tokens_alone(self):
        self.addCleanup(tokens.use, "dark")
        styles = {}
        for name, t in tokens.THEMES.items():
            tokens.use(name)
            styles[name] = tokens.style()
            flat = [x for v in t.values() for x in (v.values() if isinstance(v, dict) else (v,))]
            self.assertLessEqual(set(re.findall("#[0-9A-Fa-f]{6}", styles[name])), {*flat, tokens.NEUTRAL}, name)
        self.assertNotEqual(styles["dark"], styles["light"])

    def test_sittings_and_states_are_told_apart_by_people_who_see_fewer_colors(self):
        seen = {  # Machado, Oliveira and Fernandes 2009, of linear RGB
            "protan": [[0.1522, 1.0525, -0.2048], [0.1145, 0.7862, 0.0992], [-0.0038, -0.0481, 1.0519]],
            "deutan": [[0.3673, 0.8606, -0.2279], [0.2800, 0.6725, 0.0474], [-0.0118, 0.0429, 0.9688]],
            "tritan": [[1.2555, -0.0767, -0.1787], [-0.0784, 0.9308, 0.1476], [0.0047, 0.6913, 0.3039]],
        }  # fmt: skip
        rgb = np.array([[int(c[k : k + 2], 16) for k in (1, 3, 5)] for c in tokens.CATEGORIES]) / 255
        linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
        for name, M in seen.items():
            x = np.clip(linear @ np.array(M).T, 0, 1)
            lab = rgb2lab(np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)[None])[0]
            apart = np.linalg.norm(lab[:, None] - lab[None], axis=2) + 1e3 * np.eye(len(lab))
            self.assertGreater(apart.min(), 9, name)
        # states differ by shape, in one gray
        app = QApplication.instance() or QApplication([])
        pictures = {}
        for state in tokens.STATE_COLORS:
            picture = QImage(32, 32, QImage.Format.Format_Grayscale8)
            picture.fill(0)
            with mock.patch.dict(tokens.STATE_COLORS, dict.fromkeys(tokens.STATE_COLORS, "#FFFFFF")):
                p = QPainter(picture)
                tokens.draw_state(p, state, QRectF(2, 2, 28, 28))
                p.end()
            pictures[state] = np.frombuffer(picture.constBits().asarray(32 * 32), np.uint8).astype(int).copy()
        for a, b in combinations(pictures, 2):
            self.assertGreater((np.abs(pictures[a] - pictures[b]) > 100).sum(), 12, (a, b))
        self.assertIsNotNone(app)


class Solved(OneJob):
    STAGES = ("photos", "masks", "lens", "poses", "cloud")

    def test_no_shortcut_needs_a_sign_and_none_means_two_things(self):
        seen = {}
        for thing in (*self.window.findChildren(QAction), *self.window.findChildren(QAbstractButton)):
            keys = thing.shortcut()
            if keys.isEmpty():
                continue
            text = keys.toString(QKeySequence.SequenceFormat.PortableText)
            self.assertIn(text.split("+")[-1], PLAIN, f"{text} of {thing.text() or thing.toolTip()}")
            if text in seen and isinstance(thing, QAction) and isinstance(seen[text], QAction):
                self.assertIs(thing, seen[text], text)
            self.assertTrue(text not in seen or isinstance(thing, QAction) != isinstance(seen[text], QAction), text)
            seen[text] = thing
        self.assertGreater(len(seen), 60)

    def test_a_key_gives_all_the_room_and_takes_it_back(self):
        w, room = self.window, self.window.room
        w.activateWindow()
        QApplication.processEvents()
        before = w.scene.size(), w.photo_view.size()
        for key, which, seen in (
            (Qt.Key.Key_F11, "scene", w.scene), (Qt.Key.Key_F12, "photo", w.photo_view), (Qt.Key.Key_F10, "both", None),
        ):  # fmt: skip
            QTest.keyClick(w, key)
            QApplication.processEvents()
            self.assertEqual(room.filled, which)
            shown = [x.isVisible() for x in (w.scene, w.photo_view, w.strip, w.bench, w.board)]
            want = [which != "photo", which != "scene", False, False, False]
            self.assertEqual(shown, want, which)
            if seen is not None:
                self.assertGreater(seen.width() * seen.height(), 0.8 * w.width() * w.height())
            QTest.keyClick(w, key)
            QApplication.processEvents()
            self.assertEqual((w.scene.size(), w.photo_view.size()), before)

    def test_what_is_folded_away_stays_so_in_the_next_window(self):
        w = self.window
        self.addCleanup(lambda: [w.room.fold(x, False) for x in ("bench", "strip", "board")])
        for part, widget in (("bench", w.bench), ("strip", w.strip), ("board", w.board)):
            w.room.fold(part)
            self.assertFalse(widget.isVisible())
            other = Window()
            self.addCleanup(other.deleteLater)
            self.assertIn(part, other.room.folded)
            w.room.fold(part)
            self.assertTrue(widget.isVisible())
        w.board.set_one_line(True)
        self.addCleanup(QSettings("umbrate", "umbrate").remove, "room/one_line")
        one = w.board.cell_rect(0, 0).height()
        w.board.set_one_line(False)
        self.assertLess(one, 0.7 * w.board.cell_rect(0, 0).height())
        w.board._one_line = None

    def test_a_view_in_a_window_of_its_own_works_and_comes_back(self):
        w, s = self.window, self.session
        w.room.set_alone("scene", True)
        alone = w.scene.window()
        self.assertIsNot(alone, w)
        self.assertTrue(w.scene.isVisible() and w.photo_view.isVisible())
        QTest.keyClick(alone, Qt.Key.Key_PageDown)  # commands of the main window hold there too
        QApplication.processEvents()
        s.choose(stage="cloud")
        self.assertTrue(w.scene.is_cloud)
        alone.close()
        QApplication.processEvents()
        self.assertIs(w.scene.window(), w)
        self.assertEqual([w.room.views.widget(k) for k in (0, 1)], [w.scene, w.photo_view])
        self.assertFalse(w.menus.of_room["alone", "scene"].isChecked())

    def test_the_object_fills_half_of_the_view_and_a_key_shows_all_photos(self):
        scene, s = self.scene, self.session
        self.window.activateWindow()
        QApplication.processEvents()
        s.choose(stage="poses")
        scene.toggles["Tie points"].setChecked(True)
        scene.reload()
        scene.look_from("Fit")
        uv = scene.on_screen(scene.points)
        extent = np.ptp(np.percentile(uv, (2, 98), axis=0), axis=0) / (scene.width(), scene.height())
        self.assertTrue(0.3 < extent.max() < 0.75, extent)
        scene.setFocus()
        QTest.keyClick(scene, Qt.Key.Key_End)
        eyes = scene.on_screen(np.array([center(E) for E in scene.block.poses[scene.block.solved]]))
        self.assertTrue((np.isfinite(eyes) & (eyes >= 0) & (eyes <= (scene.width(), scene.height()))).all(), eyes)
        QTest.keyClick(scene, Qt.Key.Key_End)
        np.testing.assert_allclose(scene.on_screen(scene.points), uv, atol=1)

    def test_what_filled_the_view_fills_it_in_another_room_until_somebody_turns_it(self):
        scene, s = self.scene, self.session
        s.choose(stage="poses")
        scene.toggles["Tie points"].setChecked(True)
        scene.look_from("Fit")
        share = lambda: (np.ptp(scene.on_screen(scene.points), axis=0) / (scene.width(), scene.height())).max()  # noqa: E731
        before, room = share(), self.window.size()
        try:
            self.window.resize(room.width() // 2 + 200, room.height())
            QApplication.processEvents()
            self.assertAlmostEqual(share(), before, delta=0.12)
            scene.look(scene.eye.zoomed(2.0, scene.eye.pivot))
            near = scene.eye
            s.choose(stage="lens")
            s.choose(stage="poses")
            self.assertIs(scene.eye, near)
        finally:
            self.window.resize(room)
            QApplication.processEvents()

    def test_known_lengths_are_drawn_and_fit_the_view_on_scale(self):
        scene, s = self.scene, self.session
        s.choose(stage="poses")
        scene.look_from("Fit")
        far = np.array([[3.0, 0, 0], [0, 3.0, 0]]) * float(np.abs(scene.block.points).max())
        with mock.patch.object(type(s.measuring), "lengths", lambda _: [("a", "b", 50.0, "scale", far)]):
            s.choose(stage="scale")
            QApplication.processEvents()
            uv = scene.on_screen(far)
            self.assertTrue((np.isfinite(uv) & (uv >= 0) & (uv <= (scene.width(), scene.height()))).all(), uv)
            with_it = scene.grab().toImage()
        without = scene.grab().toImage()
        middle = QPoint(*np.round(uv.mean(0)).astype(int).tolist())
        near = QPoint(2, 2)
        a, b = (x.copy(middle.x() - near.x(), middle.y() - near.y(), 5, 5) for x in (with_it, without))
        self.assertNotEqual(a, b)

    def test_every_part_of_the_bench_is_one_click_away_and_run_is_always_in_sight(self):
        w, s, bench = self.window, self.session, self.window.bench
        several = 0
        for stage in STAGES:
            if not stage.applies(s.sitting):
                continue
            s.choose(stage=stage.name)
            for k in range(max(len(bench.tabs), 1)):
                if bench.tabs:
                    QTest.mouseClick(bench.tabs[k], Qt.MouseButton.LeftButton)
                    several += 1
                QApplication.processEvents()
                shown = [t for t, body in bench.parts.items() if body.isVisible()]
                self.assertEqual(shown, [list(bench.parts)[k]])
                run = bench.run_button
                inside = run.mapTo(w, QPoint(0, 0)), run.mapTo(w, QPoint(run.width(), run.height()))
                self.assertTrue(run.isVisible() and all(w.rect().contains(x) for x in inside), (stage.name, shown))
        self.assertGreater(several, 12)

    def test_nothing_that_is_pressed_is_cut_off_at_1280_by_720_with_five_sittings(self):
        w, s = self.window, self.session
        self.addCleanup(w.resize, w.size())
        w.resize(1280, 720)
        board = s.board
        with mock.patch.object(s, "board", lambda: board() * 5):
            w.board.reload()
            w.board.names = w.board.names * 5
            w.board_scroll.setFixedHeight(w.board.wanted_height())
        self.addCleanup(lambda: (w.board.reload(), w.menus.refresh()))
        for stage in ("poses", "masks", "cloud"):
            s.choose(stage=stage)
            QTest.qWait(30)
            for view in (w.scene, w.photo_view, w.strip):
                buttons = [b for b in view.findChildren(QToolButton) if b.isVisible()]
                rects = [(b, b.rect().translated(b.mapTo(view, QPoint(0, 0)))) for b in buttons]
                for b, r in rects:
                    told = (stage, b.text() or b.toolTip())
                    self.assertTrue(view.rect().contains(r), told)
                    need = b.fontMetrics().horizontalAdvance(b.text()) if b.text() else 16
                    self.assertGreaterEqual(r.width(), need + 4, told)
                    for c, q in rects:
                        self.assertTrue(c is b or not q.intersects(r), (told, c.text() or c.toolTip()))
            self.assertGreater(w.scene.height(), 200)

    # ------------------------------------------------------------------ finding
    def find(self, text):
        self.window.activateWindow()
        QApplication.processEvents()
        self.window.menus.find_command()
        finder = self.window.menus.finder
        self.assertTrue(finder.line.hasFocus())
        QTest.keyClicks(finder.line, text)
        return finder, [finder.list.item(k).toolTip() for k in range(finder.list.count())]

    def test_the_finder_has_the_keyboard_and_finds_by_words_of_the_trade(self):
        QSettings("umbrate", "umbrate").remove("find/recent")
        for text, want in (
            ("level", "Scale: Level"), ("lasso", "Tool: .*line drawn round|Tool: Lasso"),
            ("photo scale", "Setting of Cloud: Photo scale"), ("diameter", "Command: Measure: circle"),
            ("decimate", "Clean the cloud: Thin"), ("bundle adjustment", "Stage: (Run )?Poses"),
            ("gcp", "Command: Mark points"),
            ("U_0003", "Photo: U_0003"), ("uncertainty", "Manual"), ("f-number nonsense", None),
        ):  # fmt: skip
            finder, hits = self.find(text)
            if want is None:
                self.assertFalse([h for h in hits if not h.startswith("Manual")], text)
            else:
                self.assertRegex(hits[0], want, text)
            QTest.keyClick(finder.line, Qt.Key.Key_Escape)
            self.assertFalse(finder.isVisible())
        with mock.patch.object(self.window, "show_ledger"):
            _, hits = self.find("ledger and log")
        self.assertRegex(hits[0], "Command: Ledger")

    def test_what_is_found_is_gone_to_and_done_and_comes_first_the_next_time(self):
        s, bench = self.session, self.window.bench
        QSettings("umbrate", "umbrate").remove("find/recent")
        s.choose(stage="photos")
        finder, _ = self.find("agreeing photos")
        QTest.keyClick(finder.line, Qt.Key.Key_Return)
        self.assertEqual((s.stage, bench.part), ("cloud", "Settings"))
        self.assertEqual(QApplication.focusWidget().property("setting"), "min_photos")
        finder, _ = self.find("thin by distance")
        QTest.keyClick(finder.line, Qt.Key.Key_Return)
        self.assertEqual(bench.part, "Clean")
        self.assertEqual(bench.widget_of("Clean").which.currentText(), "Thin by distance")
        finder, _ = self.find("precision look")
        QTest.keyClick(finder.line, Qt.Key.Key_Escape)
        finder, hits = self.find("")
        self.assertEqual(hits[:2], ["Clean the cloud: Thin by distance", "Setting of Cloud: Agreeing photos"])
        QTest.keyClick(finder.line, Qt.Key.Key_Down)
        QTest.keyClick(finder.line, Qt.Key.Key_Return)
        self.assertEqual(bench.part, "Settings")
        # a folded setting is unfolded, one that counts for another choice is said to
        bench.unfolded = False
        bench.show_setting("masks", "folder")
        self.assertEqual(QApplication.focusWidget().property("setting"), "folder")
        said = []
        s.said.connect(lambda text, _: said.append(text))
        bench.show_setting("masks", "tolerance")
        self.assertRegex(said[-1], "counts where “Masks from” is")
        finder, _ = self.find("run cloud")
        with mock.patch.object(s, "run") as ran:
            QTest.keyClick(finder.line, Qt.Key.Key_Return)
        ran.assert_called_once()

    # ------------------------------------------------------------------ help
    def test_the_manual_opens_at_what_the_pointer_is_at(self):
        w, s = self.window, self.session
        s.choose(stage="cloud")
        w.bench.open("Coverage")
        self.addCleanup(lambda: w.manual.close())
        for widget, want in (
            (w.board, "guide.md#The Board"), (w.bench, "cloud.md#Coverage"), (w.scene, "cloud.md"),
        ):  # fmt: skip
            with mock.patch.object(QApplication, "widgetAt", return_value=widget):
                w.show_manual_here()
            self.assertEqual(w.manual.shown, want)
            top = w.manual.page.cursorForPosition(QPoint(40, 30)).block().text()
            title = want.partition("#")[2] or "The dense cloud"
            self.assertEqual(w.manual.page.textCursor().block().text() or top, title)
        w.manual.back()
        self.assertEqual(w.manual.shown, "cloud.md#Coverage")
        w.manual.line.setText("lens cards")
        self.assertEqual(w.manual.list.item(0).data(pages.ADDRESS), "targets.md#Lens cards")
        w.manual.line.setText("no such words at all")
        self.assertIsNone(w.manual.list.item(0).data(pages.ADDRESS))
        self.assertIsNone(w.manual.page.loadResource(2, pages.QUrl("../pyproject.toml")))
        self.assertIsInstance(w.manual.page.loadResource(2, pages.QUrl("screenshots/masks.png")), QImage)

    def test_addresses_and_links_of_the_manual_lead_somewhere(self):
        known = {s.address for s in manual.sections()}
        for address in (*pages.OF_STAGE.values(), *pages.OF_PART.values()):
            self.assertIn(address, known)
        self.assertEqual(set(pages.OF_STAGE), {s.name for s in STAGES})
        for f in manual.folder().glob("*.md"):
            for link in re.findall(r"\]\(([^)#\s]+)", f.read_text()):
                if "://" not in link:
                    self.assertTrue((f.parent / link).exists(), f"{f.name}: {link}")

    def test_a_problem_is_collected_without_photos_and_read_before_it_is_sent(self):
        s = self.session
        dialog = ProblemDialog(s, self.window)
        self.addCleanup(dialog.deleteLater)
        self.assertEqual([dialog.list.item(k).text() for k in range(3)], ["machine.txt", "log.txt", "job.json"])
        self.assertIn("Umbrate", dialog.view.toPlainText())
        told = json.loads(dialog.texts["job.json"])
        self.assertEqual(told["sittings"][0]["stages"]["cloud"]["settings"]["photo_scale"], 2)
        self.assertNotIn(str(Path.home()) + "/", "".join(dialog.texts.values()))
        there = scratch() / "there.zip"
        there.write_text("mine")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(str(there), "")):
            with mock.patch("umbrate.desk.dialogs.writing.may_replace", return_value=False):
                dialog._save()
        self.assertEqual(there.read_text(), "mine")
        done = umbrate("problem", there.with_name("other.zip"), "--job", s.job.folder)
        self.assertIn("Read it", done.stdout)
        with zipfile.ZipFile(there.with_name("other.zip")) as z:
            self.assertEqual(set(z.namelist()), set(dialog.texts))
            self.assertLess(sum(i.file_size for i in z.infolist()), 2e6)

    def test_the_light_theme_holds_at_once_and_leaves_photos_on_neutral_ground(self):
        w = self.window
        self.addCleanup(w.choose_theme, "dark")

        def ground(widget, x, y):
            return widget.grab().toImage().pixelColor(x, y).name().upper()

        self.session.choose(stage="poses")
        self.assertEqual(ground(w.bench, 4, 300), tokens.DARK["PANEL"].upper())
        w.choose_theme("light")
        QApplication.processEvents()
        self.assertEqual(ground(w.bench, 4, 300), tokens.LIGHT["PANEL"].upper())
        self.assertEqual(ground(w.board, 2, 2), tokens.LIGHT["GROUND"].upper())
        for view in (w.scene, w.photo_view):
            self.assertEqual(ground(view, view.width() - 3, view.height() - 3), tokens.NEUTRAL)
        self.assertEqual(appearance.theme(), "light")
        self.assertEqual(
            QApplication.palette().color(QApplication.palette().ColorRole.Base).name().upper(), tokens.GROUND
        )

    def test_numbers_are_written_as_the_users_language_does_but_not_in_files_and_names(self):
        german = QLocale(QLocale.Language.German, QLocale.Country.Germany)
        self.addCleanup(QLocale.setDefault, QLocale())
        cases = {
            "74,715 points, 0.17 px": "74.715 points, 0,17 px", "± 0.02 mm": "± 0,02 mm", "-0.5": "-0,5",
            "U_0001.5.jpg": "U_0001.5.jpg", "/media/a/1.5/x": "/media/a/1.5/x", "v1.2": "v1.2",
            "It took 1.5.": "It took 1,5.", "1,234,567.25 mm²": "1.234.567,25 mm²", "12 photos": "12 photos",
            "1/2": "1/2",
        }  # fmt: skip
        for text in cases:
            self.assertEqual(local(text), text)
        QLocale.setDefault(german)
        for text, want in cases.items():
            self.assertEqual(local(text), want)
        s = self.session
        s.choose(stage="poses")
        self.window.bench.rebuild()
        self.assertTrue([x for x in texts(self.window.bench) if re.search(r"\b0,\d\d px", x)])
        out = scratch() / "c.csv"
        export_cloud(s.job, out, s.sitting)
        self.assertRegex(out.read_text().splitlines()[1], r"^-?\d+\.\d+,")

    def test_whatever_takes_the_keyboard_has_a_name(self):
        s, missing = self.session, set()
        for stage in STAGES:
            if not stage.applies(s.sitting):
                continue
            s.choose(stage=stage.name)
            for part in list(self.window.bench.parts) or [None]:
                if part:
                    self.window.bench.open(part)
                QApplication.processEvents()
                for w in self.window.findChildren(QWidget):
                    if not (w.isVisible() and w.focusPolicy() & Qt.FocusPolicy.TabFocus):
                        continue
                    viewport = type(w) is QWidget and isinstance(w.parent(), QAbstractScrollArea)
                    if viewport or isinstance(w.parent(), QAbstractSpinBox) or isinstance(w, QScrollArea):
                        continue
                    told = w.accessibleName() or w.toolTip() or (w.text() if isinstance(w, QAbstractButton) else "")
                    if not told and not getattr(w, "placeholderText", str)():
                        missing.add((stage.name, part, type(w).__name__, w.objectName()))
        self.assertEqual(missing, set())

    def test_another_size_holds_from_the_next_start(self):
        self.addCleanup(QSettings("umbrate", "umbrate").remove, "look/size")
        with mock.patch.dict("os.environ"):
            appearance.choose_size(150)
            appearance.before_start()
            self.assertEqual(appearance.shown(), 150)
            QSettings("umbrate", "umbrate").setValue("look/size", "9000")
            self.assertEqual(appearance.size(), 100)


class First(DeskTest):
    def test_a_sentence_that_is_too_long_for_the_foot_says_that_it_goes_on(self):
        foot = self.window.foot
        foot.say("Short.", "note")
        self.assertEqual(foot.line.shown(), "Short.")
        foot.say("a long way " * 60, "note")
        self.assertTrue(foot.line.shown().endswith("…"))
        self.assertEqual(foot.line.text(), "a long way " * 60)
        self.assertEqual(foot.line.toolTip(), foot.line.text())
        foot.clear()

    def test_the_next_thing_to_do_is_said_done_by_a_click_and_can_be_switched_off(self):
        w, s = self.window, self.session
        self.assertTrue(s.create(scratch() / "first.umbrate"))
        self.assertRegex(w.foot.next.text(), "bring in a folder")
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value="") as asked:
            QTest.mouseClick(w.foot.next, Qt.MouseButton.LeftButton)
        asked.assert_called_once()
        self.open("photos", "masks")
        self.assertRegex(w.foot.next.text(), "Next: run Lens")
        with mock.patch.object(s, "run") as ran:
            QTest.mouseClick(w.foot.next, Qt.MouseButton.LeftButton)
        ran.assert_called_once()
        self.assertEqual(s.stage, "lens")
        w.menus.next_told.trigger()
        self.addCleanup(QSettings("umbrate", "umbrate").remove, "help/next")
        self.assertFalse(w.foot.next.isVisible())
        other = Window()
        self.addCleanup(other.deleteLater)
        self.assertFalse(other.foot.tells_next)
        s.job.set_settings(s.sitting_id, "masks", {"folder": "elsewhere"})
        self.assertRegex(next_step(s)[1], "run Masks again")

    def test_keyboard_alone_goes_from_photos_to_a_delivery(self):
        job, sitting = new_job(scratch() / "keys")
        job.set_settings(sitting.id, "surface", {"triangles": 20_000})
        job.set_settings(sitting.id, "texture", {"side": 1024, "triangles": 5_000})
        job.set_settings(sitting.id, "deliver", {"purpose": "pictures"})
        job.close()
        w, s = self.window, self.session
        w.activateWindow()
        QApplication.processEvents()
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(job.folder)):
            QTest.keyClick(w, Qt.Key.Key_O, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(s.job.folder, job.folder)
        self.assertIs(QApplication.focusWidget(), w.board)

        def press(key, modifiers=Qt.KeyboardModifier.NoModifier):
            w.activateWindow()  # there is no window manager here
            QApplication.processEvents()
            QTest.keyClick(QApplication.focusWidget() or w, key, modifiers)
            QApplication.processEvents()

        # along the Board to Poses, and run what it needs
        for _ in range([x.name for x in STAGES].index("poses")):
            press(Qt.Key.Key_Right)
        self.assertEqual(s.stage, "poses")
        press(Qt.Key.Key_Return)
        wait_for(lambda: s.queue.idle and s.result("poses"), 120)
        # look at it, choose another photo
        press(Qt.Key.Key_F11)
        self.assertEqual(w.room.filled, "scene")
        self.assertTrue(w.isActiveWindow())
        self.assertIs(QApplication.focusWidget(), w.scene)
        eye = w.scene.eye.pose.copy()
        press(Qt.Key.Key_Left)
        self.assertFalse(np.allclose(eye, w.scene.eye.pose))
        press(Qt.Key.Key_F11)
        photo = s.photo_id
        press(Qt.Key.Key_PageDown)
        self.assertNotEqual(s.photo_id, photo)
        # all that is missing, then a filter, by the finder
        press(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        wait_for(lambda: s.queue.idle and s.result("texture"), 180)
        press(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(w.menus.finder.line, "few photos")
        press(Qt.Key.Key_Return)
        self.assertEqual((s.stage, w.bench.part), ("cloud", "Clean"))
        # from the filter along by Tab to its buttons, pressed by Space
        part = w.bench.widget_of("Clean")
        wait_for(lambda: s.cloud_at_hand() is not None)
        for _ in range(12):
            if part.see.hasFocus():
                break
            press(Qt.Key.Key_Tab)
        self.assertTrue(part.see.hasFocus())
        press(Qt.Key.Key_Space)
        wait_for(lambda: s.cleaning.drop is not None)
        # and out
        press(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(w.menus.finder.line, "run deliver")
        press(Qt.Key.Key_Return)
        wait_for(lambda: s.queue.idle and s.result("deliver"), 120)
        self.assertTrue(s.result("deliver").figures)

    def test_finding_without_a_job_offers_what_can_be_done(self):
        titles = {e.title for e in finding.every_entry(self.window)}
        self.assertTrue({"Open the demo job", "Lens cards…"} <= titles)
        self.assertFalse({"Export the cloud…", "Photo scale"} & titles)


if __name__ == "__main__":
    unittest.main()
