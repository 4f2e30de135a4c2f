"""Lens cards made from a sitting's calibration."""

from ...core.errors import UmbrateError
from ...core.geometry.lens import Lens
from ...formats.lenscards import LensCard


def card_of(job, sitting, name):
    """The LensCard of a sitting's calibration, to keep under a name.

    Raises
    ------
    UmbrateError
        When the sitting has none.
    """
    done = job.result(sitting.id, "lens")
    c = done.figures.calibration if done else None
    if not c:
        raise UmbrateError(f"“{sitting.name}” has no calibration yet. Run Lens from calibration sheets first.")
    first = next(p for p in job.photos(sitting.id) if p.id in done.figures.groups[0].photos)
    if not name.strip():
        raise UmbrateError("A lens card needs a name.")
    notes = [p["text"] for p in done.problems if p["photo"] is None]
    return LensCard(
        name.strip(), first.camera, first.lens, first.focal_mm, Lens.from_dict(c.lens), c.sigma, c.date,
        c.photos, c.sightings, c.rms_px, notes, first.focus_m,
    )  # fmt: skip
