"""Cleaning steps: the filters with their values, and a step tried. `actions.cleaning` does steps to clouds."""

import numpy as np

from ..core.cloud import filters
from ..core.cloud.clean import inside_outlines
from ..core.cloud.grid import spacing_of
from ..core.errors import NothingHere, UmbrateError
from ..core.raster.pick import seen_inside, seen_under
from ..sitting.frames import move_directions, move_points
from .coverage import WithMasks, camera_list
from .stepbook import Filter, Frames, StepBook, Value

MOST_APART = 40  #: spacings between two sheets: what is looked at grows with its square


class Context(Frames):
    """What filters may need besides the points: that of `step`, or all."""

    def __init__(self, job, sitting, kept, step=None):
        super().__init__(job, sitting, kept, step)
        self._spacing = None
        needed = step is None or step.get("filter") == "fringe"
        self._cameras = camera_list(job, sitting) if needed else []
        self._blobs = str(job.blobs.folder)

    def spacing(self, cloud):
        """How far apart the cloud's points are."""
        if self._spacing is None or self._spacing[0] != len(cloud["points"]):
            self._spacing = len(cloud["points"]), max(spacing_of(cloud["points"]), 1e-12)
        return self._spacing[1]

    def cameras(self):
        """Cameras with their masks, in the job's frame."""
        return WithMasks(self._cameras, self._blobs)


def _color(text):
    text = str(text).lstrip("#")
    try:
        return np.array([int(text[k : k + 2], 16) for k in (0, 2, 4)], float)
    except ValueError:
        raise UmbrateError(f"“{text}” is no color. Write #RRGGBB.") from None


def _by_color(cloud, v, context):
    """Distance in color where brightness counts half: a shaded backdrop is the same backdrop."""
    d = cloud["colors"].astype(np.float32) - _color(v["color"]).astype(np.float32)
    gray = d.mean(1, keepdims=True)
    return np.sqrt(((d - gray) ** 2).sum(1) + 0.25 * gray[:, 0] ** 2 * 3) < v["tolerance"]


def _by_plane(cloud, v, context):
    n, zero = context.up
    h = cloud["points"] @ n.astype(np.float32) - np.float32(zero + context.length(v["height"]))
    return h < 0


def _support(cloud, v, context):
    n, _ = context.up
    m, offset = filters.support_plane(cloud["points"], n)
    return cloud["points"] @ m.astype(np.float32) - np.float32(offset) < np.float32(context.length(v["margin"]))


def _components(cloud, v, context):
    which = filters.components(cloud["points"], v["gap"] * context.spacing(cloud))
    count = np.bincount(which)
    return count[which] < v["share"] / 100.0 * len(which)


def _lasso(cloud, v, context):
    """Points inside a polygon drawn in a view of the job's frame."""
    view = np.array(v["view"], float) @ context.to_job
    return seen_inside(cloud["points"], view, v["f"], v["middle"], v["polygon"])


def _brush(cloud, v, context):
    """Points painted over in a view of the job's frame."""
    M = context.to_job
    view, front = np.array(v["view"], float) @ M, np.array(v["front"], float) @ M / context.scale
    under = seen_under(
        cloud["points"], view, v["f"], v["middle"], v["strokes"], v["radius"], front, context.spacing(cloud)
    )
    # the other side of a thin wall looks away; a view has an angle of its own, so not every such point does
    rows = np.flatnonzero(under)
    under[rows] = cloud["normals"][rows] @ front[:3].astype(np.float32) < 0.35
    return under


def _slab(cloud, v, context):
    """Points between two parallel planes of the job's frame."""
    n = np.array(v["normal"], float)
    h = move_points(cloud["points"], context.to_job) @ (n / np.linalg.norm(n)).astype(np.float32)
    return (h >= v["low"]) & (h <= v["high"])


def _fringe(cloud, v, context):
    cameras = context.cameras()
    if not any(c.mask is not None for c in cameras):
        raise NothingHere("No photo of this sitting has a mask, so there is no outline.", ("go to", "masks"))
    points = move_points(cloud["points"], context.now)  # where the cameras are
    return ~inside_outlines(points, move_directions(cloud["normals"], context.now), cameras, v["deep"])


def _thin(cloud, v, context):
    return ~filters.thin_by_spacing(cloud["points"], context.length(v["distance"]))


def _share(cloud, v, context):
    n = len(cloud["points"])
    return ~filters.thin_to(cloud["points"], round(n * v["percent"] / 100.0), int(v["seed"]))


def _smooth(cloud, v, context):
    s = context.spacing(cloud)
    return filters.smooth(cloud["points"], cloud["normals"], v["radius"] * s, v["noise"] * s)


def _doubles(cloud, v, context):
    spacing, apart = context.spacing(cloud), context.length(v["apart"])
    if apart > MOST_APART * spacing:
        most = v["apart"] * MOST_APART * spacing / apart
        raise UmbrateError(
            f"Sheets up to {v['apart']:g} apart are more than {MOST_APART} times as far from each other as the points "
            f"of one are. Set {most:.2g} or less here; in a job without a scale, set the scale first."
        )
    return filters.doubled(cloud["points"], cloud["normals"], cloud["precision"], apart, spacing, v["least"])


def _least(name):
    return lambda cloud, v, context: cloud[name] < v["least"]


FILTERS = (
    Filter("photos", "Few photos", "Points that fewer photos agree on.",
           (Value("least", "At least", "photos", 3, 2, 50),), _least("photos")),
    Filter("score", "Unlike patches", "Points whose patches looked less alike.",
           (Value("least", "At least", "", 0.6, 0.0, 1.0),), _least("score")),
    Filter("precision", "Unsure points", "Points whose expected precision is worse.",
           (Value("most", "Worse than", "length", 0.2, 1e-9, 1e5),),
           lambda c, v, x: c["precision"] > x.length(v["most"])),
    Filter("angle", "Narrow rays", "Points whose rays meet at a small angle.",
           (Value("least", "At least", "°", 6, 1, 180),), _least("angle")),
    Filter("spacing", "Thin places", "Points whose neighbors are far away.",
           (Value("most", "More than", "x spacing", 2.0, 0.5, 50.0),),
           lambda c, v, x: filters.spacing(c["points"]) > v["most"] * x.spacing(c)),
    Filter("lonely", "Isolated points", "Points with few others round them.",
           (Value("radius", "Within", "x spacing", 3.0, 0.5, 50.0), Value("least", "Fewer than", "points", 6, 1, 100)),
           lambda c, v, x: filters.lonely(c["points"], v["radius"] * x.spacing(c), int(v["least"]))),
    Filter("components", "Small pieces", "Pieces that do not touch the rest.",
           (Value("gap", "Gap", "x spacing", 4.0, 1.0, 100.0),
            Value("share", "Smaller than", "% of all", 1.0, 0.001, 50.0)),
           _components),
    Filter("color", "By color", "Points of a color: pick the backdrop's, to take off its fringe.",
           (Value("color", "Color", "", "#00A040"), Value("tolerance", "Within", "of 255", 40.0, 1.0, 200.0)),
           _by_color),
    Filter("doubles", "Doubles where sittings overlap", "Of two sheets of one surface the less sure points.",
           (Value("apart", "Sheets up to", "length", 1.0, 1e-6, 1e5),
            Value("least", "Apart from", "x spacing", 1.0, 0.5, 20.0)),
           _doubles),
    Filter("fringe", "Near the outlines", "Points that no photo sees deep inside its mask: fringes the mask left.",
           (Value("deep", "Deeper than", "px", 3.0, 0.5, 200.0),), _fringe),
    Filter("plane", "Below a height", "Points below a height over the level.",
           (Value("height", "Height", "length", 0.0, -1e5, 1e5),), _by_plane),
    Filter("support", "Table and support", "What the object stands on: flat, below it, wider than it.",
           (Value("margin", "And above it by", "length", 0.5, 0.0, 1e5),), _support),
    Filter("box", "Outside the keep box", "Points outside of the keep box as it stands now.", (),
           lambda c, v, x: ~x.keep_box().contains(c["points"])),
    Filter("thin", "Thin by distance", "So that no two points are nearer than this.",
           (Value("distance", "Distance", "length", 0.2, 1e-6, 1e5),), _thin),
    Filter("share", "Thin by share", "A random share is kept.",
           (Value("percent", "Keep", "%", 50.0, 0.01, 100.0), Value("seed", "Random seed", "", 0, 0, 999999)), _share),
    Filter("count", "Thin to a number", "So many points are kept, chosen at random.",
           (Value("count", "Keep", "points", 1_000_000, 1, 1e9), Value("seed", "Random seed", "", 0, 0, 999999)),
           lambda c, v, x: ~filters.thin_to(c["points"], v["count"], int(v["seed"]))),
    Filter("smooth", "Smooth", "Noise across the surface is taken off; edges stay.",
           (Value("radius", "Within", "x spacing", 2.5, 0.5, 20.0),
            Value("noise", "Steps from", "x spacing", 0.7, 0.05, 20.0)),
           _smooth),
    Filter("lasso", "Drawn in the scene", "Points inside a line drawn in the scene.", (), _lasso, True, True),
    Filter("brush", "Painted in the scene", "Points painted over, without those behind.", (), _brush, True, True),
    Filter("slab", "Section slab", "Points between two planes.", (), _slab, True),
)  # fmt: skip


#: what a drawn step needs: names, and the shape of each as far as it is fixed
DRAWN = {
    "slab": {"normal": (3,), "low": (), "high": ()},
    "lasso": {"view": (4, 4), "f": (), "middle": (2,), "polygon": (None, 2)},
    "brush": {"view": (4, 4), "f": (), "middle": (2,), "front": (4,), "radius": ()},
}
CLEANING = StepBook(FILTERS, DRAWN, "cleaning", "cleaning steps. Save them from a cloud that was cleaned.")
check_step, frozen, step_text = CLEANING.check, CLEANING.frozen, CLEANING.text
write_steps, read_steps = CLEANING.write, CLEANING.read


def try_step(cloud, step, context):
    """What a step would do to a cloud's arrays: (n,) bool of the points it takes away, or (n, 3) where they move to."""
    step = check_step(step)
    if not len(cloud["points"]):
        raise UmbrateError("This cloud has no points left.")
    try:
        answer = np.asarray(CLEANING.by_name[step["filter"]].work(cloud, step, context))
    except KeyError as e:
        raise UmbrateError(
            f"This cloud does not have {e.args[0]} for its points: it was made by an older version. Run Cloud again.",
            ("run again",),
        ) from None
    if answer.ndim == 1 and step["keep"]:
        return ~answer
    return answer
