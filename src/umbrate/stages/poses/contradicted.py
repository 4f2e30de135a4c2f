"""Photos that contradict what their files say.

The zoom was moved, they were cropped, or the camera moved while they were read row by row.
"""

import numpy as np

from ...core.poses.zoom import group_focals, own_lenses, regrouped
from .cropped import HELD, cropped, focals_of_cropped, with_open_centers
from .inputs import START_OVER
from .lenses import CENTER

LEAST_PHOTOS = 6  #: of a block that can tell
CROPPED_RMS = 1.02  #: times the residual that may be left where cropped photos have the others' lens
ZOOM_GAIN = 0.9  #: of the residual that is left where lenses by zoom are the truth
REGROUPED = 2  #: times that photos are sorted by zoom anew, by the block that the groups before gave
SLIP_LEFT = 0.9  #: of the squared residuals that is left where rows slipped
LEAST_SLIP = 0.0015  #: by which they did, as a share of how much lower a row is
SLIPPED_RMS = 1.1  #: times the residual that a lens without a center of its own may leave, where rows slipped


def as_photos_say(making, solution):
    """The Solution of a Making, solved anew where its photos contradict their files."""
    b = solution.block
    if making.inputs.mode != START_OVER or not making.settings.solve_lens or b.solved.sum() < LEAST_PHOTOS:
        return solution
    focal = np.where(b.solved, b.lenses[b.lens_of, 0], np.nan)
    crops = cropped(making.photos, focal, np.flatnonzero(np.isin(b.lens_of, making.trusted)))
    if crops and (again := _by_crop(making, solution, crops)):
        return again
    own = own_lenses(b)
    # a trusted lens is as it is
    shared = np.where(np.isin(b.lens_of, making.trusted), -1, b.lens_of)
    zooms = group_focals(np.where(shared < 0, np.nan, own.focal), shared)
    if zooms is not None:
        return _by_zoom(making, solution, zooms)
    slip = np.nan_to_num(np.hypot(*own.slip[b.solved].T))
    if own.left < SLIP_LEFT and np.median(slip) > LEAST_SLIP:
        heights = np.array([p.height for p in making.photos])[b.solved]
        return _by_rows(making, solution, float(np.median(slip * heights)))
    return solution


def _by_crop(making, solution, crops):
    """The Solution with a lens of its own for each cropped photo, that of the others but for its center, or None."""
    making.report.progress(0.9, "photos were cropped: solving with the center of the lens open")
    row, again = {p.id: k for k, p in enumerate(making.photos)}, solution
    making.crops = crops
    for _ in range(2):  # the others' lens was bent by photos whose centers were wrong: once more where it moved
        usual = {i: again.block.lens_vector(row[u]) for i, u in crops.items()}
        making.start_lenses()
        with_open_centers(making, usual)
        again = making.solve()
        if all(abs(again.block.lens_vector(row[crops[i]])[0] / v[0] - 1) < HELD["f"] for i, v in usual.items()):
            break
    if _as_many(again, solution) and again.block.rms_px < CROPPED_RMS * solution.block.rms_px:
        return again
    making.crops = {}
    making.start_lenses(focals_of_cropped(making.photos))
    return None


def _by_zoom(making, solution, zooms):
    """The Solution with a lens for each of the Zooms."""
    making.report.progress(0.9, "the zoom was moved: solving with a lens for each")

    def begin(zooms):
        usual = {m: k for k, m in reversed(list(enumerate(zooms.lens.tolist())))}
        known = [(p.id, int(g)) for p, g in zip(making.photos, zooms.group, strict=True) if g >= 0]
        making.zooms = {i: g for i, g in known if g not in usual.values()}
        making.start_lenses({i: float(zooms.focal[g]) for i, g in known})

    begin(zooms)
    again = making.solve()
    if not _as_many(again, solution) or again.block.rms_px >= ZOOM_GAIN * solution.block.rms_px:
        making.zooms = {}
        making.start_lenses()
        return solution
    for _ in range(REGROUPED):
        better = regrouped(zooms, own_lenses(again.block).focal, solution.block.lens_of)
        if better is None:
            break
        begin(better)
        once_more = making.solve()
        if not _as_many(once_more, again) or once_more.block.rms_px >= again.block.rms_px:
            begin(zooms)
            break
        zooms, again = better, once_more
    return again


def _by_rows(making, solution, slip_px):
    """The Solution with the lens's center where the files have it: what slipped would be taken for a shifted one.

    slip_px : by how many pixels the rows of a photo slipped from top to bottom
    """
    making.report.progress(0.9, "the camera moved while photos were read: solving with the center of the lens held")
    making.slip_px, making.held = slip_px, CENTER
    again = making.solve()
    if _as_many(again, solution) and again.block.rms_px < SLIPPED_RMS * solution.block.rms_px:
        return again
    making.held = ()
    return solution


def _as_many(again, solution):
    return again.block.solved.sum() >= solution.block.solved.sum()
