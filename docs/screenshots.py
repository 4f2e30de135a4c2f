"""Take the screenshots of docs/screenshots/ anew, from the demo job (run ``./umbrate demo`` first).

``PYTHONPATH=src .venv/bin/python docs/screenshots.py``, with a display or without one.
"""

import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen" if not os.environ.get("DISPLAY") else "xcb")

import numpy as np
from PIL import Image, ImageFilter
from PyQt6.QtCore import QPointF, QSettings
from PyQt6.QtWidgets import QApplication, QScrollArea

from umbrate.core.poses.block import FEATURE
from umbrate.desk.__main__ import make_app
from umbrate.desk.bench.cleaning import CleanPart
from umbrate.desk.bench.delivery import DeliveryPanel
from umbrate.desk.dialogs.finder import Finder
from umbrate.desk.dialogs.section import SectionDialog
from umbrate.desk.window import Window
from umbrate.work.demo import demo_data, demo_folder

OUT = Path(__file__).resolve().parent / "screenshots"


def settle(seconds=1.0):
    """Let the window read and draw what it shows."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.02)


def memory_card(folder):
    """Both sittings of the demo and their plates in one folder, one photo of it blurred."""
    folder.mkdir()
    for place in ("upright", "on-its-back"):
        for file in (*(demo_data() / place).glob("*.jpg"), *(demo_data() / place / "plates").glob("*.jpg")):
            shutil.copy(file, folder)
    file = folder / "U_0105.jpg"
    with Image.open(file) as image:
        image.filter(ImageFilter.GaussianBlur(1.8)).save(file, quality=93, exif=image.getexif())


def sorting(window, home, take):
    """A folder of everything is brought in."""
    session = window.session
    memory_card(home / "Memory card")
    session.create(home / "whistle")
    session.arrivals.add_folders([home / "Memory card"])
    until(lambda: session.result("masks"))
    session.choose(stage="photos", photo_id=session.photos()[4].id)
    settle(5)  # the crops of the soft one are matched with a sharp one
    take("sorting")


def lens(window, home, take):
    """A lens is calibrated from the demo's sheets."""
    session = window.session
    session.create(home / "lens")
    session.arrivals.add_folders([(demo_data() / "calibration", "Calibration")])
    until(lambda: session.result("masks"))
    session.edits.set_setting("lens", "source", "targets")
    session.choose(stage="lens", photo_id=session.photos()[1].id)
    session.run()
    until(lambda: session.result("lens"))
    take("calibration")


def poses(window, take):
    """The dome with its links."""
    scene = window.scene
    scene.side.switches["links"].setChecked(True)
    take("poses")
    scene.side.switches["links"].setChecked(False)


def finding(window, take):
    """What the finder finds, over lengths with their residuals, in the light theme."""
    window.choose_theme("light")
    window.session.choose(stage="scale")
    window.bench.open("Lengths", "scale")
    settle()
    finder = Finder(window)
    finder.line.setText("level")
    take("finder")
    finder.leave()
    window.choose_theme("dark")


def measuring(window, take):
    """A point is marked and predicted, a distance on the cloud."""
    session, view = window.session, window.photo_view
    sitting = session.sitting
    session.choose(stage="scale")
    window.bench.open("Lengths", "scale")
    # the tie point that most photos see
    block = session.block
    count = np.where(block.kind == FEATURE, block.photos_of, 0)
    best = int(np.argmax(count))
    seen = [(int(block.photo_ids[block.photo[r]]), *block.xy[r]) for r in np.flatnonzero(block.point == best)]
    session.choose(photo_id=seen[0][0])
    session.marking.set_on(True)
    for photo, x, y in seen[:2]:
        session.choose(photo_id=photo)
        settle(0.3)
        session.marking.place(float(x), float(y))
    window.bench.open("Points", "scale")
    session.marking.step(1)
    settle()
    view.marks.pointer = QPointF(view.width() * 0.62, view.height() * 0.55)
    take("marking")
    view.marks.pointer = None
    session.marking.set_on(False)
    session.measuring.begin("distance")
    window.bench.open("Measure", "scale")
    if not window.scene.is_cloud:
        window.scene.toggles["Cloud"].click()
    window.scene.look_from("Fit")
    for end in ("214", "215"):
        session.measuring.pick(end)
    # each is measured beside the window
    until(lambda: len(session.job.measurements(sitting.id)) == 1)
    session.measuring.begin("height")
    until(lambda: session.cloud is not None)
    cloud = session.cloud["points"]
    session.measuring.pick(cloud[int(np.argmax(cloud[:, 2]))].astype(float))
    until(lambda: len(session.job.measurements(sitting.id)) == 2)
    session.measuring.begin("circle")
    for end in ("161", "163", "173", "177"):
        session.measuring.pick(end)
    session.measuring.finish()
    until(lambda: len(session.job.measurements(sitting.id)) == 3)
    session.measuring.begin(None)
    session.measuring.chosen_id = session.job.measurements(sitting.id)[0].id
    session.measuring.changed.emit()
    view.fit()
    take("measured")
    while session.job.marked_points(sitting.id) or session.job.measurements(sitting.id):
        session.undo()
    session.choose(stage="poses")


def clouds(window, take):
    """A filter on trial, and coverage."""
    session = window.session
    session.choose(stage="cloud", photo_id=session.photos()[6].id)
    window.scene.look_from("Fit")
    settle()
    session.cleaning.set_look("relief")
    session.cleaning.set_look("color")
    window.bench.open("Clean", "cloud")
    panel = window.bench.findChildren(CleanPart)[-1]
    panel.which.setCurrentIndex(panel.which.findData("precision"))
    panel._filter_chosen()
    panel.editors["most"].setValue(0.06)
    panel._try()
    until(lambda: session.cleaning.drop is not None)
    take("cleaning")
    session.cleaning.try_on(None)
    whole = session.sitting_id
    session.choose(session.job.photo_sittings()[0].id)  # of the whole, nothing is missing
    settle()
    session.cleaning.cover("seen")
    until(lambda: session.cleaning.covered is not None)
    session.cleaning.choose_place(0)
    window.bench.open("Coverage")
    take("coverage")
    session.cleaning.set_look("color")
    window.scene.look_from("Fit")
    session.choose(whole)


def comparing(window, take):
    """One sitting's cloud is made once more, from finer photos, and shown by its distance to the first."""
    session = window.session
    session.choose(session.job.photo_sittings()[0].id, "cloud")
    before = session.cleaning.kept
    session.edits.set_setting("cloud", "photo_scale", 2)
    session.run()
    until(lambda: session.cleaning.kept is not None and session.cleaning.kept.id != before.id, 300)
    until(lambda: session.cloud_at_hand() is not None)
    window.bench.open("Clouds", "cloud")
    session.cleaning.compare(before.id)
    until(lambda: session.cleaning.compared is not None)
    window.scene.look_from("Fit")
    take("compared")
    session.cleaning.set_look("color")


def joining(window, take):
    """Sittings over each other, how far they lie apart, a section of the whole."""
    session, scene = window.session, window.scene
    session.choose(stage="join")
    take("joined")
    session.choose(stage="surface")
    until(lambda: session.surfacing.mesh is not None)
    settle()
    scene.toggles["Photos"].setChecked(False)
    scene.look_from("Fit")
    scene.redraw()
    dialog = SectionDialog(session, window, surface=True)
    dialog.way.setCurrentIndex(1)
    dialog.resize(900, 620)
    dialog.show()
    settle(2.0)
    dialog.grab().save(str(OUT / "section.png"))
    dialog.close()
    scene.toggles["Photos"].setChecked(True)


def texture(window, take):
    """The model with its texture, a place of it ringed in its photo; which photo gives what; what was delivered."""
    session, scene = window.session, window.scene
    session.choose(stage="texture")
    until(lambda: scene.drawn.textured is not None)
    scene.toggles["Photos"].setChecked(False)
    scene.look_from("Fit")
    scene.redraw()
    settle()
    hit = next(
        h for x in range(scene.width() // 2, scene.width(), 7)
        if (h := scene.canvas.triangle_at(QPointF(x, scene.height() * 0.45))) is not None
    )  # fmt: skip
    session.texturing.ask(*hit)
    settle(2.0)
    session.texturing.set_look("sources")
    take("texture")
    session.texturing.set_look("photos")
    session.choose(stage="deliver")
    session.job.set_settings(session.sitting_id, "deliver", {
        "purpose": "print", "size_by": "target", "target": 20.0, "thin_wall": 1.5, "triangles": 50_000,
    })  # fmt: skip
    session.changed()
    session.run()
    until(lambda: session.queue.idle)
    settle()
    panel = window.bench.findChildren(DeliveryPanel)[-1]
    area = panel
    while not isinstance(area, QScrollArea):
        area = area.parentWidget()
    area.ensureWidgetVisible(panel.found, 0, 40)
    take("deliver")
    scene.toggles["Photos"].setChecked(True)


def until(condition, limit_s=120):
    """Let the window live until something holds."""
    end = time.monotonic() + limit_s
    while not condition() and time.monotonic() < end:
        settle(0.05)


def main():
    """Take them all."""
    if not (demo_folder() / "job.sqlite").exists():
        sys.exit("There is no demo job yet. Run ./umbrate demo --no-window first.")
    app = make_app([])
    # the recent jobs of whoever runs this are nobody else's business
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, tempfile.mkdtemp())
    OUT.mkdir(exist_ok=True)
    # what is done here to the demo's job is taken back at the end
    database = demo_folder() / "job.sqlite"
    before = database.read_bytes()
    window = Window()
    window.resize(1280, 800)
    window.show()

    def take(name):
        settle()
        until(lambda: window.photo_view.shown is None or window.photo_view.image is not None)
        window.grab().save(str(OUT / f"{name}.png"))

    window.open_path(demo_folder())
    session = window.session
    first, row = session.job.sittings()[0], session.job.joined_rows()[0]
    session.choose(first.id, "poses", session.job.photos(first.id)[2].id)
    poses(window, take)
    session.choose(row.id, "scale", session.job.photos(first.id)[2].id)
    finding(window, take)
    measuring(window, take)
    clouds(window, take)
    session.choose(row.id, "cloud", session.job.photos(row.id)[30].id)
    joining(window, take)
    texture(window, take)
    comparing(window, take)
    session.choose(first.id, "masks", session.job.photos(first.id)[4].id)
    window.photo_view.mask_look.setCurrentIndex(1)
    window.photo_view.reload_overlays()
    window.strip.silhouettes.setChecked(True)
    take("masks")
    window.photo_view.mask_look.setCurrentIndex(0)
    window.strip.silhouettes.setChecked(False)
    with tempfile.TemporaryDirectory() as home:
        sorting(window, Path(home), take)
        os.environ["XDG_DATA_HOME"] = home  # a shelf of made-up cards, not that of whoever runs this
        lens(window, Path(home), take)
        window.close()
    database.write_bytes(before)
    app.quit()


if __name__ == "__main__":
    main()
