"""Files out of the window: each asks for a place, then a worker writes while the window stays alive."""

from functools import partial

from PyQt6.QtWidgets import QInputDialog

from ..actions.delivering import (
    export_cameras,
    export_cloud,
    export_masks,
    export_surface,
    export_undistorted,
)
from ..formats.files import as_written
from ..formats.lenscards import put_on_shelf
from ..stages.lens.cards import card_of
from .dialogs.asking import FILES, ask_folder
from .dialogs.exporting import ExportDialog
from .dialogs.lens import SheetsDialog
from .dialogs.writing import ask_and_write, ask_file, write_now, write_out


class Deliver:
    """Writes what the session's chosen sitting has. `window` is the parent of the dialogs."""

    def __init__(self, window):
        self.window, self.session = window, window.session

    def _ask(self, title, suffix, write):
        s = self.session
        ask_and_write(s, self.window, title, suffix, write, lambda value, place: f"Wrote {value:,} to {place}")

    def _ask_with(self, what, title, write):
        """Ask what goes in, then where it goes."""
        s = self.session
        far = bool(s.frame) and any(s.frame.offset)
        dialog = ExportDialog(what, bool(s.frame and s.frame.scaled), far, self.window)
        if dialog.exec():
            title, write = f"{title}: .{dialog.ending}", partial(write, laying=dialog.laying())
            self._ask(title, f".{dialog.ending}", write)

    def cloud(self):
        """Write the clouds of the chosen sitting that the scene draws, into one file."""
        s = self.session
        names = [c.name for c in s.job.clouds(s.sitting_id) if s.cleaning.is_shown(c)]
        write = partial(export_cloud, sitting=s.sitting, name=names)
        self._ask_with("cloud", " and ".join(names) or "Cloud", write)

    def surface(self):
        """Write the chosen surface of the chosen sitting."""
        s = self.session
        kept = s.job.surface(s.sitting_id)
        write = partial(export_surface, sitting=s.sitting, name=kept.name if kept else None)
        self._ask_with("surface", kept.name if kept else "Surface", write)

    def cameras(self):
        """Write lenses and poses of the whole job."""
        self._ask("Cameras as JSON", "-cameras.json", export_cameras)

    def _into(self, title, write, what):
        """Ask for a folder and have files of the chosen sitting written into it.

        ``write(job, folder=folder, sitting=sitting, gate=gate)`` gives (photo name, file) of each.
        """
        folder = ask_folder(self.window, title, FILES)
        if folder:
            write_out(
                self.session, self.window, partial(write, folder=folder, sitting=self.session.sitting),
                lambda files: f"Wrote {len(files)} {what} to {folder}. {as_written(files)}".strip(),
            )  # fmt: skip

    def masks(self):
        """Write the chosen sitting's masks into a folder."""
        self._into("Folder for the masks: NAME.png, white is the object", export_masks, "masks")

    def undistorted(self):
        """Write the chosen sitting's photos and masks as an ideal camera would have seen them."""
        title = "Folder for undistorted photos, masks and the ideal camera"
        self._into(title, export_undistorted, "undistorted photos")

    def sheets(self):
        """Ask which target sheets, and write them as PDF."""
        dialog = SheetsDialog(self.window)
        if not dialog.exec():
            return
        name = f"{dialog.kind.currentData()}-{dialog.paper.currentText()}.pdf"
        place = ask_file(self.window, "Target sheets as PDF", name, "PDF (*.pdf)")
        if place:
            write_now(
                self.session, self.window, lambda gate: dialog.write(place, gate),
                lambda n: f"Wrote {n} pages to {place}. Print at 100 % and check the ruler.",
            )  # fmt: skip

    def card(self):
        """Ask for a name and keep the chosen sitting's calibration as a lens card."""
        s = self.session
        photo = s.photos()[0]
        name, ok = QInputDialog.getText(
            self.window, "Keep as a lens card", "Name", text=" ".join(x for x in (photo.camera, photo.lens) if x)
        )
        if ok:
            write_now(
                s, self.window, lambda gate: put_on_shelf(card_of(s.job, s.sitting, name), gate.replace),
                lambda file: f"“{name}” is on the shelf of lens cards",
            )  # fmt: skip
            s.changed()
