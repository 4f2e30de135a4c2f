"""Masks as the window works on them: the one in force, strokes by hand, and settings tried on a few photos."""

from dataclasses import dataclass, field

import numpy as np

from ...actions.handmasks import HandMasks, check_by_hand
from ...core.errors import UmbrateError
from ...job.store import Job
from ...sitting.masks import THING, TURNS, decode_kinds, encode_mask, only_thing, tells_turning, with_turning
from ...stages import BY_NAME
from ...stages.base import settings_of
from ...work.serve import run_preview
from ..text import counted

PREVIEWED = 4  #: photos on which masks are tried where nobody says which


@dataclass
class Preview:
    """Masks tried on a few photos of a sitting; they are shown and kept nowhere.

    Attributes
    ----------
    photo_ids : list of int
        The photos they are tried on.
    made : dict of photo id to NewMask
        What came of them; empty while they are made.
    """

    sitting_id: int
    photo_ids: list
    made: dict = field(default_factory=dict)


class MaskWork:
    """The masks of the session's chosen sitting."""

    def __init__(self, session):
        self.session = session
        self.preview = None  #: the Preview that is shown, or None
        self._last = (None, None)  #: the mask looked at last, by its key
        self._turns = False  #: whether it may tell what turns with the object
        self._checked, self._known = (None, HandMasks()), {}

    def key(self, photo_id=None):
        """Blob key of a photo's mask in force (the chosen photo where none is named), or None."""
        photo_id = photo_id or self.session.photo_id
        if not self.session.job or not self.session.sitting_id:
            return None
        by_hand = self.session.job.hand_masks(self.session.sitting_id).get(photo_id)
        if not by_hand and self.previewed(photo_id):
            return self.preview.made[photo_id].mask
        made = self.session.result("masks")
        return by_hand or (made.blob("mask", photo_id) if made else None)

    def by_hand(self):
        """The HandMasks of the chosen sitting; they are looked at in the background, and empty until then."""
        s = self.session
        if not s.job or s.sitting is None:
            return HandMasks()
        drawn = s.job.hand_masks(s.sitting_id)
        mark = (s.job.folder, s.sitting_id, str(sorted(drawn.items())), s.result("masks") and s.result("masks").id)
        if self._checked[0] != mark:
            kept = self._checked[1] if self._checked[0] and self._checked[0][:2] == mark[:2] else HandMasks()
            self._checked = mark, kept if drawn else HandMasks()
            if drawn:
                self._look(mark)
        return self._checked[1]

    def _look(self, mark):
        s, known, sitting = self.session, self._known, self.session.sitting

        def look():
            with Job.open(mark[0], writable=False) as job:
                return check_by_hand(job, sitting, known)

        def take(found):
            if self._checked[0] == mark:
                self._checked = mark, found
                s.document_changed.emit()

        s.in_background(look, take, series="hand masks")

    def shown_preview(self):
        """The Preview of the chosen sitting's masks, or None."""
        return self.preview if self.preview and self.preview.sitting_id == self.session.sitting_id else None

    def previewed(self, photo_id):
        """Whether a photo shows a mask that was only tried."""
        preview = self.shown_preview()
        return bool(preview and photo_id in preview.made)

    def try_on(self, photo_ids=()):
        """Try the settings of the chosen sitting's masks on these photos, else on a few from all around it."""
        sitting, stage = self.session.sitting, BY_NAME["masks"]
        if not sitting or not self.session.may_write():
            return
        by_hand = self.session.job.hand_masks(sitting.id)
        free = [p.id for p in self.session.photos() if not p.aside and p.id not in by_hand]
        chosen = [i for i in free if i in photo_ids] or free[:: max(1, -(-len(free) // PREVIEWED))]
        if not chosen:
            self.session.said.emit("There are no photos to try it on: all are set aside or masked by hand.", "note")
            return
        try:
            settings = settings_of(self.session.job, sitting, stage)
            inputs = stage.gather(self.session.job, sitting, settings)
        except UmbrateError as e:
            self.session.said.emit(str(e), "bad")
            return
        self.preview = preview = Preview(sitting.id, chosen)

        def show(made):
            if self.preview is not preview:
                return
            preview.made = made
            self.session.document_changed.emit()
            trouble = next((m.trouble["text"] for m in made.values() if m.trouble), "")
            if trouble:
                self.session.said.emit(trouble, "note")
            elif self.session.photo_id not in made:
                self.session.choose(photo_id=chosen[0])

        arguments = ("masks", inputs, settings.model_dump(), set(chosen))
        self.session.send(f"Trying masks on {counted(len(chosen), 'photo')}", run_preview, arguments, show)

    def settings_changed(self, values):
        """Try the new settings on the same photos, where a preview is shown and they can be tried."""
        if self.shown_preview():
            if values.get("method") in BY_NAME["masks"].needs_preview:
                self.try_on(self.preview.photo_ids)
            else:
                self.drop_preview()

    def made(self, sitting_id):
        """The masks of a sitting were made: what was tried on it is shown no longer."""
        if self.preview and self.preview.sitting_id == sitting_id:
            self.preview = None

    def drop_preview(self):
        """Show the masks in force again."""
        if self.preview:
            self.preview = None
            self.session.document_changed.emit()

    def kinds(self, photo_id=None):
        """The kinds of place (h, w) uint8 in the mask in force of a photo, or None; not to be written to."""
        key = self.key(photo_id)
        if key and key != self._last[0]:
            s = self.session
            photo = next((p for p in s.photos() if p.id == (photo_id or s.photo_id)), None)
            try:
                data = s.job.blobs.get_bytes(key)
                self._last, self._turns = (key, decode_kinds(data, photo)), tells_turning(data)
            except UmbrateError as e:  # told once; the photo is shown without it
                self._last = (key, None)
                s.said.emit(str(e), "bad")
        return self._last[1] if key else None

    def of(self, photo_id=None):
        """Where the mask in force of a photo shows the object, (h, w) bool, or None."""
        kinds = self.kinds(photo_id)
        return None if kinds is None else kinds == THING

    def edit(self, mask, label, kind=THING):
        """Set the chosen photo's mask (h, w) bool by hand, as one step of undo; None goes back to the made one.

        kind : what the mask shows, the object or what turns with it; the other stays as it is where it is not covered
        """

        def act():
            key, made = None, None
            if mask is not None:
                before = self.kinds()
                if kind == THING and (before is None or not self._turns):
                    made = only_thing(mask)
                    key = self.session.job.blobs.put_bytes(encode_mask(mask))
                else:
                    other = np.zeros(mask.shape, bool) if before is None else before == THING + TURNS - kind
                    made = with_turning(mask, other) if kind == THING else with_turning(other, mask)
                    self._turns = bool((made == TURNS).any())
                    key = self.session.job.blobs.put_bytes(encode_mask(made))
            self._last = (key, made)
            self.session.job.set_hand_mask(self.session.photo_id, key, label)

        if self.session.photo_id:
            self.session.do(act)

    def copy_on(self):
        """Copy the chosen photo's mask to the next photo of its size, and go there."""
        photos, key = self.session.photos(), self.key()
        at = next((k for k, p in enumerate(photos) if p.id == self.session.photo_id), None)
        if at is None or key is None or at + 1 == len(photos):
            self.session.said.emit("There is no mask to copy, or no next photo.", "note")
            return
        here, following = photos[at], photos[at + 1]
        if (here.width, here.height) != (following.width, following.height):
            self.session.said.emit(
                f"{following.name} has another size; its mask cannot be copied from {here.name}.", "bad"
            )
            return
        self.session.do(lambda: self.session.job.set_hand_mask(following.id, key, f"copy the mask to {following.name}"))
        self.session.choose(photo_id=following.id)
