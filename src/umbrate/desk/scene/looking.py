"""Eyes that see something whole: the object, the photos round it, a place."""

import numpy as np

from ...actions.picturing import DIRECTIONS
from ...core.geometry.pose import center
from ...core.raster.camera import eye_round
from ...core.raster.coloring import sample_of

AROUND = 1.25  #: room round a cloud or surface, for the keep box and the rings that turn it
OBJECT_SHARE = 0.55  #: of the view that the object fills where photos are shown round it


def whole(scene, name, ring):
    """The Eye that sees the object whole from a named side, and the known lengths where these are shown.

    ring : all photos round it instead
    """
    p = sample_of(scene.points) if scene.points is not None and len(scene.points) else scene.block.points
    box = scene.keep_box()
    pivot = box.center if box else np.median(p, axis=0)
    away = np.linalg.norm(p - pivot, axis=1)
    inside = box.contains(p) if box else None
    if inside is not None and inside.any():
        away = away[inside]
    radius, middle = float(np.percentile(away, 98)), pivot
    if ring:
        # the dome of photos with the object in it, not round it
        centers = scene.block.eyes[scene.block.solved]
        lo, hi = np.minimum(centers.min(0), pivot - radius), np.maximum(centers.max(0), pivot + radius)
        middle = (lo + hi) / 2
        radius = float(np.linalg.norm(centers - middle, axis=1).max()) * 1.04
    else:
        if scene.toggles["Photos"].isChecked() and not (scene.is_cloud or scene.is_solid or scene.drawn.is_dense):
            radius /= OBJECT_SHARE  # photos may reach beyond the edge
        else:
            radius *= AROUND
        ends = [X for *_, X in scene.session.measuring.lengths()]
        if ends:
            radius = max(radius, 1.1 * float(np.linalg.norm(np.concatenate(ends) - pivot, axis=1).max()))
    side = DIRECTIONS.get(name.lower(), DIRECTIONS["corner"])
    eye = eye_round(middle, radius * 1.02, side, scene.width(), scene.height())
    eye.pivot = np.asarray(pivot, float)
    eye.parallel = scene.view.parallel.isChecked()
    return eye


def closely(scene, place, size, side):
    """The Eye that looks at a place from a side (3,), so near that something of this size fills the view."""
    eye = eye_round(np.asarray(place, float), size, side, scene.width(), scene.height())
    eye.pivot = np.asarray(place, float)
    return eye


def at_gap(scene, place):
    """The Eye that looks from the side at a CoverageGap and at the photos that would mend it."""
    stand = center(place.poses[1])
    away = np.linalg.norm(stand - place.center)
    side = np.cross(place.normal, (0, 0, 1.0))
    side = side + 0.35 * place.normal if np.linalg.norm(side) > 0.1 else np.array([0.3, -1.0, 0.2])
    eye = eye_round((stand + place.center) / 2, 0.62 * away, side, scene.width(), scene.height())
    eye.pivot = np.asarray(place.center, float)
    return eye
