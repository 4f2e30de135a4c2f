"""Take the screenshots of recipes, queue, ledger, shooting and batches anew, from the demo job and the demo's photos.

``PYTHONPATH=src .venv/bin/python docs/screenshots_unattended.py [NAME...]``, with a display or without one;
`batch.png` needs Chromium, which shows the page.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))

from PyQt6.QtCore import QEvent, QItemSelectionModel, QSettings
from PyQt6.QtGui import QPainter
from screenshots import OUT, settle, until

from umbrate.desk.__main__ import make_app
from umbrate.desk.dialogs.ledger import LedgerDialog
from umbrate.desk.dialogs.queue import QueueDialog
from umbrate.desk.dialogs.recipes import RecipesDialog
from umbrate.desk.dialogs.shooting import ShootingDialog
from umbrate.desk.window import Window
from umbrate.job.store import Job
from umbrate.work.demo import demo_data, demo_folder


def take(window, dialog, name, at=None):
    """The window with a dialog over it, as one picture."""
    settle()
    until(lambda: window.photo_view.shown is None or window.photo_view.image is not None)
    picture, over = window.grab(), dialog.grab()
    x, y = at or ((picture.width() - over.width()) // 2, (picture.height() - over.height()) // 2)
    p = QPainter(picture)
    p.fillRect(x - 1, y - 1, over.width() + 2, over.height() + 2, dialog.palette().mid())
    p.drawPixmap(x, y, over)
    p.end()
    picture.save(str(OUT / f"{name}.png"))


def recipes(window):
    """What a recipe would change in the demo's job."""
    dialog = RecipesDialog(window.session, window)
    dialog.resize(980, 600)
    dialog.show()
    dialog.list.setCurrentRow(next(k for k in range(dialog.list.count()) if dialog.list.item(k).text() == "For print"))
    take(window, dialog, "recipes")
    dialog.close()


def ledger(window):
    """Cloud of one sitting is run once more, with other settings; both runs stand side by side."""
    s = window.session
    s.choose(s.job.sittings()[0].id, "cloud")
    before = s.result("cloud")
    s.edits.set_setting("cloud", "min_photos", 4)
    s.edits.set_setting("cloud", "rounds", 3)
    s.run()
    until(lambda: s.queue.idle and s.result("cloud").id != before.id, 300)
    dialog = LedgerDialog(s, window)
    dialog.resize(1080, 640)
    dialog.show()
    until(lambda: dialog.rows)
    dialog.stage.setCurrentText("Cloud")
    runs = [k for k, r in enumerate(dialog.shown()) if r[2].sitting_id == s.sitting_id][:2]
    dialog.table.selectRow(runs[0])
    more = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
    dialog.table.selectionModel().select(dialog.table.model().index(runs[1], 0), more)
    take(window, dialog, "ledger")
    dialog.close()


def queue(window, home):
    """Cells of the demo's job and two more jobs wait."""
    s = window.session
    s.later.waiting.pause(True)
    first, row = s.job.sittings()[0], s.job.joined_rows()[0]
    s.later.add_cells([(first.id, "surface"), (row.id, "texture")])
    for name in ("owl", "blue jug"):
        Job.create(home / name).close()
    s.later.add_job(home / "owl.umbrate")
    dialog = QueueDialog(s, window)
    dialog.what.setCurrentIndex(dialog.what.findText("by the recipe “For print”"))
    s.later.add_job(home / "blue jug.umbrate", dialog.what.currentData())
    dialog.show()
    dialog.refresh()
    take(window, dialog, "queue")
    dialog.close()
    s.later.waiting.remove({e.id for e in s.later.waiting.read()[0]})


def shooting(window, home):
    """Nine of the demo's photos come in from a camera on a cable."""
    s, place = window.session, home / "tether"
    (place / "masks").mkdir(parents=True)
    with Job.create(home / "whistle") as job:
        folder = job.folder
    window.open_path(folder)
    dialog = ShootingDialog(s, window)
    dialog.resize(430, 560)
    dialog.show()
    dialog.sound.setChecked(False)
    dialog.place.setText(str(place))
    dialog.name.setText("Upright")
    dialog.start.click()
    photos = sorted((demo_data() / "upright").glob("*.jpg"))[:9]
    for f in photos:
        shutil.copy(f.parent / "masks" / f"{f.stem}.png", place / "masks")
        shutil.copy(f, place)
        settle(2.0)
    until(
        lambda: len(s.photos()) == 9 and s.queue.idle and s.tasks.idle and any(k == "next" for k, _ in s.shooting.lines)
    )
    until(lambda: s.points.covered is not None, 30)
    for f in sorted((demo_data() / "upright").glob("*.jpg"))[9:10]:  # one more, which has a first place by now
        shutil.copy(f.parent / "masks" / f"{f.stem}.png", place / "masks")
        shutil.copy(f, place)
    until(lambda: s.shooting.first, 30)
    window.scene.look_from("Fit", ring=True)
    dialog.place.setText("~/Pictures/tether")  # not where whoever runs this has it
    window.job_place.setText("~/jobs")
    take(window, dialog, "shooting", (window.width() - dialog.width() - 16, 120))
    s.shooting.stop()


def batch(home):
    """Three folders, one of them empty, by the quick recipe; the page in Chromium."""
    shelf = home / "shelf 3"
    for name, parts in (("whistle", ("upright", "on-its-back")), ("whistle, first look", ("upright",)), ("cup", ())):
        (shelf / name).mkdir(parents=True)
        for part in parts:
            shutil.copytree(demo_data() / part, shelf / name / part, ignore=shutil.ignore_patterns("plates"))
    out = home / "results"
    line = [
        sys.executable,
        "-m",
        "umbrate",
        "batch",
        *sorted(map(str, shelf.iterdir())),
        "--recipe",
        "quick",
        "--out",
        out,
    ]
    subprocess.run(line, check=False)
    browser = shutil.which("chromium")
    if not browser:
        print("There is no Chromium: batch.png stays as it is.")
        return
    page = out / "batch.html"
    page.write_text(page.read_text().replace(str(home), "~"))
    flags = ("--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking")
    place = (f"--user-data-dir={home / 'browser'}", "--hide-scrollbars", "--window-size=1280,800")
    subprocess.run([browser, *flags, *place, f"--screenshot={OUT / 'batch.png'}", page.as_uri()], check=False)


def main():
    """Take them all."""
    if not (demo_folder() / "job.sqlite").exists():
        sys.exit("There is no demo job yet. Run ./umbrate demo --no-window first.")
    folder = demo_folder()
    with tempfile.TemporaryDirectory() as t:
        home = Path(t)
        # recipes, settings and the queue of whoever runs this are nobody else's business
        os.environ.update(XDG_DATA_HOME=t, XDG_STATE_HOME=t)
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, t)
        app = make_app([])
        database = folder / "job.sqlite"
        before = database.read_bytes()
        window = Window()
        window.resize(1280, 800)
        window.show()
        if wants("recipes", "queue", "ledger"):
            window.open_path(folder)
            recipes(window)
            queue(window, home)
            ledger(window)
            window.close_job()
            database.write_bytes(before)
        if wants("shooting"):
            shooting(window, home)
        window.close()
        window.deleteLater()  # before the application: it draws on it
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        if wants("batch"):
            batch(home)


def wants(*names):
    """Whether some of these pictures are named on the command line, or none is: then all are taken."""
    return len(sys.argv) == 1 or bool({*names} & {*sys.argv[1:]})


if __name__ == "__main__":
    main()
