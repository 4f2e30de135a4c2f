"""What is laid over a photo, as arrays: mask, key points, targets, sightings, depth. Nothing here draws."""

from dataclasses import dataclass

import numpy as np

from ...core.errors import UmbrateError
from ...core.geometry.lens import unproject_one
from ...core.geometry.similarity import scale_of
from ...job.contents import CALIBRATION, DEPTH_MAP, FEATURES, TARGETS
from ...sitting.masks import THING
from ...stages.base import Shown
from ...stages.lens.figures import left_out_of
from ..bench.calibration import larger
from .depth import DEPTH_LAYERS, DepthLook


@dataclass(frozen=True)
class Wanted:
    """What the user switched on."""

    mask: bool
    targets: bool
    features: bool
    sightings: bool
    depth: str


class Overlays:
    """What is known of one photo.

    Attributes
    ----------
    mask : (h, w) bool or None
    show_mask : bool
    features : (n, 2)
        Pixels of key points.
    sightings : (n, 4)
        Pixels and residuals, seen minus predicted.
    larger : int
        So many times as long the residuals are drawn.
    targets : dict or None
        Arrays of the targets that were found.
    calibrated : dict or None
        What a calibration found of the photo's sightings.
    depth : DepthLook or None
    depth_layer : str
    """

    def __init__(self, session):
        self.session = session
        self._depth_look = self._hiding = None  # kept by what they are made from
        self.clear()

    def clear(self):
        """Nothing is known."""
        self.photo_id = self.kinds = self.targets = self.calibrated = self.depth = None
        self.show_mask, self.larger = False, 20
        self.depth_layer = DEPTH_LAYERS[0]
        self.features, self.sightings = np.zeros((0, 2)), np.zeros((0, 4))

    @property
    def mask(self):
        """Where the mask shows the object, (h, w) bool, or None."""
        return None if self.kinds is None else self.kinds == THING

    @property
    def row(self):
        """The block, and the row of the photo in it where it is solved; else None, None."""
        b = self.session.block if self.photo_id is not None and self.session.job else None
        k = b.solved_row(self.photo_id) if b is not None else None
        return (None, None) if k is None else (b, k)

    def take(self, photo, wanted):
        """Read what is wanted of a photo; what cannot be read is reported and left out."""
        s = self.session
        self.clear()
        self.photo_id = photo.id
        b = s.block
        try:
            self.kinds = s.masks.kinds()
            self.show_mask = self.kinds is not None and wanted.mask
            self._take_found(photo, wanted)
            self._take_depth(photo, wanted)
        except UmbrateError as e:
            s.said.emit(str(e), "bad")
        if b is not None and wanted.sightings:
            rows = b.in_photo(b.row_of(photo.id))
            self.sightings = np.hstack([b.xy[rows], b.residual[rows]])
            self.larger = larger(b.residual[rows], max(photo.width, photo.height))

    def _take_found(self, photo, wanted):
        """Targets, calibrated sightings and key points."""
        s = self.session
        poses, lens = s.result("poses"), s.result("lens")
        key = lens.blob("targets", photo.id) if lens else None
        if key and wanted.targets:
            self.targets = s.job.blobs.get_arrays(key, TARGETS)
        self.calibrated = self._calibrated(lens, photo)
        key = poses.blob("features", photo.id) if poses else None
        if key and wanted.features:
            self.features = s.job.blobs.get_arrays(key, FEATURES)["xy"]

    def _calibrated(self, lens, photo):
        """While the Lens stage is chosen: what a calibration found of the photo's sightings, or None."""
        s = self.session
        if not lens or not s.shows(Shown.CALIBRATION) or not lens.blob("calibration"):
            return None
        a = s.job.blobs.get_arrays(lens.blob("calibration"), CALIBRATION)
        rows = a["photo_ids"][a["photo"]] == photo.id
        factor = larger(a["residual"][a["used"]], photo.width) if lens.figures.calibration else 0
        chosen = left_out_of(s.setting("lens", "leave_out"), photo)
        out = np.isin(a["point"][rows], sorted(chosen))
        return {**{k: a[k][rows] for k in ("point", "xy", "residual", "used")}, "out": out, "larger": factor}

    def _take_depth(self, photo, wanted):
        s, (b, k) = self.session, self.row
        done = s.result("cloud")
        hidden = wanted.depth == DEPTH_LAYERS[0] or not s.shows(Shown.DEPTH)
        key = done.blob("depth", photo.id) if done and not hidden else None
        if key is None or b is None:
            return
        made_from = (key, *s.frame_key)
        if self._depth_look is None or self._depth_look[0] != made_from:
            unit = scale_of(s.frame.matrix) / scale_of(np.array(done.figures.from_plain))
            arrays = s.job.blobs.get_arrays(key, DEPTH_MAP)
            self._depth_look = made_from, DepthLook(arrays, b.lens_vector(k), (photo.width, photo.height), unit)
        self.depth, self.depth_layer = self._depth_look[1], wanted.depth

    def is_hidden(self, photo_id, x, y, depth):
        """Whether the surface that a photo sees at a pixel is clearly nearer than a point's depth."""
        s = self.session
        done, block = s.result("cloud"), s.block
        key = done.blob("depth", photo_id) if done else None
        if key is None or block is None:
            return False
        if self._hiding is None or self._hiding[0] != key:
            self._hiding = key, s.job.blobs.get_arrays(key, DEPTH_MAP)
        a = self._hiding[1]
        f, cx, cy = a["lens"]
        ray = unproject_one(x, y, block.lens_vector(block.row_of(photo_id)))
        u, v = round(ray[0] * f + cx), round(ray[1] * f + cy)
        h, w = a["depth"].shape
        seen = a["depth"][v, u] if 0 <= u < w and 0 <= v < h else 0
        # depth is kept in the frame it was computed in
        depth = depth * scale_of(np.array(done.figures.from_plain)) / scale_of(s.frame.matrix)
        return bool(seen > 0 and depth > 1.01 * seen)
