"""What is done to photos, sittings and settings from the window: each an action that can be undone."""

from ...core.names import first_free
from ...sitting.frames import set_keep_box
from ...stages import BY_NAME
from ...stages.base import parse_settings
from ...stages.lens.figures import left_out_of
from ...work.sorting import propose_split
from ...work.state import plan


class Edits:
    """Acts on the session's job and its chosen sitting."""

    def __init__(self, session):
        self.session = session

    def set_aside(self, photo_ids):
        """Set photos aside, or bring them back where all of them are aside."""
        chosen = [p for p in self.session.photos() if p.id in photo_ids]
        if chosen:
            aside = not all(p.aside for p in chosen)
            self.session.do(lambda: self.session.job.set_aside([p.id for p in chosen], aside))

    def turn_photos(self, photo_ids, quarters):
        """Turn how photos are shown by quarter turns to the right."""
        if photo_ids:
            self.session.do(lambda: self.session.job.turn_photos(sorted(photo_ids), quarters))

    def keep_as_plates(self, photo_ids):
        """Keep photos as backdrop plates of their sitting."""
        if photo_ids:
            self.session.do(lambda: self.session.job.keep_as_plates(sorted(photo_ids)))

    def move_photos(self, photo_ids, name):
        """Move photos to the sitting of that name, made where it is new."""
        order = [p.id for p in self.session.photos() if p.id in photo_ids]
        if order:
            self.session.do(
                lambda: self.session.job.move_photos(order, name), f"Moved to “{name}”. Undo brings them back."
            )

    def split(self, where, parts=None):
        """Split the chosen sitting at "bare" frames or at "gaps"; `parts`: as they were looked at and agreed to."""
        if parts is None:
            parts = propose_split(self.session.job, self.session.sitting, where)
        if len(parts) < 2 and not any(plates for _, plates in parts):
            missing = "frames of the bare backdrop" if where == "bare" else "pauses that stand out"
            self.session.said.emit(f"“{self.session.sitting.name}” has no {missing}.", "note")
            return
        names = self.session.do(lambda: self.session.job.split_sitting(self.session.sitting_id, parts))
        if names:
            for s in self.session.job.sittings():
                if s.name in names:
                    self.session.enqueue(s, plan(self.session.job, s, "photos"))
            told = f"Split into {', '.join(names)}" if len(names) > 1 else f"Plates kept in {names[0]}"
            self.session.said.emit(f"{told}. Undo takes it back.", "good")

    def merge_into(self, other_id):
        """Merge the chosen sitting into another."""
        gone, self.session.sitting_id = self.session.sitting_id, other_id
        self.session.do(lambda: self.session.job.merge_sittings(gone, other_id), "Merged. Undo takes it back.")

    def move(self, step):
        """Move the chosen sitting up (-1) or down (+1)."""
        self.session.do(lambda: self.session.job.move_sitting(self.session.sitting_id, step))

    def rename(self, name):
        """Rename the chosen sitting."""
        self.session.do(lambda: self.session.job.rename_sitting(self.session.sitting_id, name))

    def remove(self):
        """Take the chosen sitting out of the job."""
        self.session.do(
            lambda: self.session.job.remove_sitting(self.session.sitting_id),
            "The sitting was removed. Undo brings it back.",
        )

    def set_setting(self, stage, field, value):
        """Choose one setting of the chosen sitting."""
        if not self.session.sitting_id:
            return
        values = {**self.session.job.settings(self.session.sitting_id, stage), field: value}

        def act():
            parse_settings(BY_NAME[stage], values)
            self.session.job.set_settings(
                self.session.sitting_id, stage, values, f"change {BY_NAME[stage].Settings.model_fields[field].title}"
            )

        self.session.do(act)
        if BY_NAME[stage].needs_preview:
            self.session.masks.settings_changed(values)

    def leave_sighting_out(self, photo_id, number, out=True):
        """Leave the sighting of a target in a photo out of the calibration, or bring it back; takes effect when run."""
        before = self.session.setting("lens", "leave_out")
        chosen = {p.id: left_out_of(before, p) for p in self.session.photos()}  # photos can share a name
        chosen[photo_id] = chosen[photo_id] | {number} if out else chosen[photo_id] - {number}
        self.set_setting("lens", "leave_out", {f"#{i}": sorted(v) for i, v in chosen.items() if v})

    def begin_calibration(self):
        """Make a sitting for photos of calibration sheets and go to its Lens stage."""
        if not self.session.may_write():
            return
        names, name = {s.name for s in self.session.job.sittings()}, "Calibration"
        if name in names:
            name = first_free(f"{name} ", names, 2)
        made = self.session.do(lambda: self.session.job.add_sitting(name, [], {"lens": {"source": "targets"}}))
        if made:
            self.session.choose(made[0].id, "lens")

    def set_keep_box(self, box):
        """Set the keep box by hand, or None to fit it again."""
        self.session.do(lambda: set_keep_box(self.session.job, self.session.sitting, box))
