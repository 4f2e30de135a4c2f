"""What was chosen for the sittings of a job: settings, keep boxes, masks drawn by hand, tie points removed."""

import json

import numpy as np

from ..core.errors import UmbrateError
from .memo import remembered
from .texts import parsed


class Choices:
    """The part of a Job that holds choices. Everything here can be undone."""

    @remembered
    def settings(self, sitting_id, stage):
        """The settings chosen for a stage, as a dictionary (empty: all defaults)."""
        row = self.db.execute(
            "SELECT settings FROM choice WHERE sitting_id = ? AND stage = ?", (sitting_id, stage)
        ).fetchone()
        return parsed(row[0], dict) if row else {}

    def set_settings(self, sitting_id, stage, values, label=None):
        """Choose settings for a stage."""
        if self.settings(sitting_id, stage) == values:
            return
        with self.action(label or f"change settings of {stage}"):
            self._choose(sitting_id, stage, values)

    def _choose(self, sitting_id, stage, values):
        self.db.execute(
            "INSERT INTO choice (sitting_id, stage, settings) VALUES (?, ?, ?) "
            "ON CONFLICT (sitting_id, stage) DO UPDATE SET settings = excluded.settings",
            (sitting_id, stage, json.dumps(values, sort_keys=True)),
        )

    @remembered
    def keep_box(self, sitting_id):
        """The keep box set by hand, as a dictionary, or None."""
        row = self.db.execute("SELECT box FROM keepbox WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return parsed(row[0], dict) if row else None

    def set_keep_box(self, sitting_id, box):
        """Set the keep box by hand; None goes back to the fitted one."""
        for part, numbers in (box or {}).items():
            a = np.asarray(numbers, float)
            if not np.isfinite(a).all() or (part == "half" and not (a > 0).all()):
                raise UmbrateError("A keep box takes numbers that are finite, and sizes of more than 0.")
        with self.action("change the keep box" if box else "fit the keep box again"):
            self._keep_one("keepbox", "sitting_id", sitting_id, "box", json.dumps(box) if box is not None else None)

    def _keep_one(self, table, key, which, column, value):
        """Keep the one value that a sitting or photo has in a table; None takes it out."""
        if value is None:
            self.db.execute(f"DELETE FROM {table} WHERE {key} = ?", (which,))
        else:
            self.db.execute(
                f"INSERT INTO {table} ({key}, {column}) VALUES (?, ?) "
                f"ON CONFLICT ({key}) DO UPDATE SET {column} = excluded.{column}",
                (which, value),
            )

    @remembered
    def removed(self, sitting_id):
        """Blob key of the sightings that were taken out of a sitting's block by hand, or None."""
        row = self.db.execute("SELECT blob FROM removed WHERE sitting_id = ?", (sitting_id,)).fetchone()
        return row[0] if row else None

    def set_removed(self, sitting_id, blob, label):
        """Say which sightings are taken out of a sitting's block (a blob key); None brings all of them back."""
        with self.action(label):
            self._keep_one("removed", "sitting_id", sitting_id, "blob", blob)

    @remembered
    def hand_masks(self, sitting_id):
        """Blob keys of the masks drawn by hand, by photo id."""
        rows = "SELECT photo_id, blob FROM handmask JOIN photo ON photo.id = photo_id WHERE sitting_id = ?"
        return dict(r for m in self.members(sitting_id) for r in self.db.execute(rows, (m,)))

    def set_hand_masks(self, blobs, label):
        """Set the masks of several photos: blob keys by photo id, None to go back to the made ones."""
        with self.action(label):
            for photo_id, blob in blobs.items():
                self._keep_one("handmask", "photo_id", photo_id, "blob", blob)

    def set_hand_mask(self, photo_id, blob, label="draw on the mask"):
        """Set a photo's mask by hand (a blob key), or go back to the made one with None."""
        with self.action(label):
            self._keep_one("handmask", "photo_id", photo_id, "blob", blob)
