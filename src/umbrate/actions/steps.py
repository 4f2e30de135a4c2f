"""Cleaning steps: the filters with their values, a step checked and tried, and steps as files and as words.

A step is plain values, ``{"filter": name, "keep": bool, ...}``: what a recipe can hold and a command can say.

A step that was applied also keeps ``frame``, the similarity from the plain frame to that of the job as it was then, and
where it needs it ``box``, the keep box in the plain frame. Lines drawn, heights and lengths mean the same points for
ever, whatever level and scale come later. `actions.cleaning` does steps to clouds.
"""

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.cloud import filters
from ..core.cloud.clean import inside_outlines
from ..core.cloud.grid import spacing_of
from ..core.cloud.keepbox import KeepBox
from ..core.errors import UmbrateError
from ..core.geometry.similarity import scale_of
from ..core.raster.pick import seen_inside, seen_under
from ..formats.files import CLOSED, written_aside
from ..sitting.clouds import to_job
from ..sitting.frames import frame_of, move_box, move_directions, move_points, plain_keep_box
from .coverage import camera_list, with_masks


@dataclass(frozen=True)
class Value:
    """One value of a filter: name, what it is called, unit, default, least and most; text where `low` is None."""

    name: str
    title: str
    unit: str
    default: object
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Filter:
    """A way to choose points to remove, or to move them.

    work : callable(cloud, values, context) -> (n,) bool of what is chosen, or (n, 3) moved points
    """

    name: str
    title: str
    about: str
    values: tuple
    work: object
    hidden: bool = False  #: drawn in the scene, not chosen from a list


class Context:
    """What filters may need besides the points: that of `step`, or all.

    Lengths of people are in the job's unit, those of the cloud in its own.
    """

    def __init__(self, job, sitting, kept, step=None):
        self.now = to_job(job, sitting, kept)  #: from the cloud's frame to that of the job as it is now
        self.to_job = self.now  #: and as it was when the step was made
        if step is not None and "frame" in step:
            self.to_job = np.array(step["frame"], float) @ np.linalg.inv(np.array(kept.from_plain, float))
        self.scale = scale_of(self.to_job)
        self._spacing = None
        needed = step is None or step.get("filter") == "fringe"
        self._cameras = camera_list(job, sitting) if needed else []
        self._blobs = str(job.blobs.folder)
        # looked up here: filters may run in another thread than the job's
        box = (step or {}).get("box") or plain_keep_box(job, sitting)
        self._box = KeepBox.from_dict(move_box(box, np.array(kept.from_plain, float))) if box else None

    def length(self, value):
        """A length in the job's unit as one of the cloud."""
        return float(value) / self.scale

    def spacing(self, cloud):
        """How far apart the cloud's points are."""
        if self._spacing is None or self._spacing[0] != len(cloud["points"]):
            self._spacing = len(cloud["points"]), max(spacing_of(cloud["points"]), 1e-12)
        return self._spacing[1]

    @property
    def up(self):
        """The level's upward direction and the height of zero, in the cloud's frame: unit (3,), offset."""
        R = self.to_job[:3, :3] / self.scale
        return R[2], -float(self.to_job[2, 3]) / self.scale

    def cameras(self):
        """Cameras with their masks, in the job's frame."""
        return with_masks(self._cameras, self._blobs)

    def keep_box(self):
        """The keep box in the cloud's frame."""
        if self._box is None:
            raise UmbrateError("There is no keep box yet: it is fitted when Poses has run.", ("go to", "poses"))
        return self._box


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
    return under & (cloud["normals"] @ front[:3].astype(np.float32) < 0.35)


def _slab(cloud, v, context):
    """Points between two parallel planes of the job's frame."""
    n = np.array(v["normal"], float)
    h = move_points(cloud["points"], context.to_job) @ (n / np.linalg.norm(n)).astype(np.float32)
    return (h >= v["low"]) & (h <= v["high"])


def _fringe(cloud, v, context):
    cameras = context.cameras()
    if not any(c.mask is not None for c in cameras):
        raise UmbrateError("No photo of this sitting has a mask, so there is no outline.", ("go to", "masks"))
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
    Filter("lasso", "Drawn in the scene", "Points inside a line drawn in the scene.", (), _lasso, True),
    Filter("brush", "Painted in the scene", "Points painted over, without those behind.", (), _brush, True),
    Filter("slab", "Section slab", "Points between two planes.", (), _slab, True),
)  # fmt: skip
BY_NAME = {f.name: f for f in FILTERS}


def check_step(step):
    """A step with all its values, those that are missing by default.

    Raises
    ------
    UmbrateError
        Where the filter or a value is unknown or out of range.
    """
    name = step.get("filter")
    if not isinstance(name, str) or name not in BY_NAME:
        raise UmbrateError(f"There is no filter “{name}”. There are: {', '.join(f.name for f in FILTERS)}.")
    f = BY_NAME[name]
    out = {"filter": name, "keep": bool(step.get("keep", False))}
    given = {k: v for k, v in step.items() if k not in ("filter", "keep", "frame", "box")}
    if "frame" in step:
        out["frame"] = _numbers(step["frame"], (4, 4), f.title)
        if abs(np.linalg.det(out["frame"])) < 1e-30:
            raise UmbrateError(f"{f.title}: the frame it was made in is none.")
    if isinstance(step.get("box"), dict):
        box = step["box"]
        out["box"] = {
            k: _numbers(box.get(k), shape, f.title) for k, shape in (("center", (3,)), ("half", (3,)), ("axes", (3, 3)))
        }
    if f.hidden:
        return {**out, **_drawn(name, f, given)}
    takes = {v.name: v for v in f.values}
    for k in given:
        if k not in takes:
            raise UmbrateError(f"{f.title} has no value “{k}”. It has: {', '.join(takes) or 'none'}.")
    for v in f.values:
        x = given.get(v.name, v.default)
        if v.low is not None:
            try:
                x = type(v.default)(float(x))
            except (TypeError, ValueError, OverflowError):
                raise UmbrateError(f"{f.title}, {v.title}: “{x}” is no number.") from None
            if not v.low <= x <= v.high:
                raise UmbrateError(f"{f.title}, {v.title}: {x:g} is not between {v.low:g} and {v.high:g}.")
        out[v.name] = x
    return out


BOX = {"center": (3,), "half": (3,), "axes": (3, 3)}
#: what a drawn step needs: names, and the shape of each as far as it is fixed
DRAWN = {
    "slab": {"normal": (3,), "low": (), "high": ()},
    "lasso": {"view": (4, 4), "f": (), "middle": (2,), "polygon": (None, 2)},
    "brush": {"view": (4, 4), "f": (), "middle": (2,), "front": (4,), "radius": ()},
}


def _numbers(value, shape, title):
    """Plain numbers of a shape (None: any length), all finite; raises UmbrateError."""
    if isinstance(value, str):
        value = value.split(",") if shape else value
    try:
        a = np.array(value, float)
    except (TypeError, ValueError):
        a = np.array(np.nan)
    fits = a.ndim == len(shape) and all(n in (None, m) for n, m in zip(shape, a.shape, strict=True))
    if not fits or not np.isfinite(a).all():
        raise UmbrateError(f"{title}: “{str(value)[:60]}” are not the numbers that it takes.")
    return a.tolist()


def _drawn(name, f, given):
    """The values of a step that is drawn in the scene, checked."""
    needed = DRAWN[name]
    missing = [k for k in needed if k not in given]
    if missing:
        if name == "slab":
            raise UmbrateError("A slab needs normal (x,y,z), low and high, in the job's frame and unit.")
        raise UmbrateError(f"“{f.title}” is drawn in the window; it cannot be said in numbers (no {missing[0]}).")
    out = {k: _numbers(given[k], shape, f.title) for k, shape in needed.items()}
    if name == "slab" and not any(out["normal"]):
        raise UmbrateError("A slab needs a direction across it, such as 0,0,1.")
    if name == "brush":
        if not isinstance(given.get("strokes"), list) or not given["strokes"]:
            raise UmbrateError(f"{f.title}: there is no stroke.")
        out["strokes"] = [_numbers(x, (None, 2), f.title) for x in given["strokes"]]
    return out


def frozen(job, sitting, step):
    """A step that means the same points for ever: with the frame it is made in, and the keep box if it needs that."""
    out = check_step(step)
    out.setdefault("frame", frame_of(job, sitting).matrix.tolist())
    if out["filter"] == "box" and "box" not in out:
        box = plain_keep_box(job, sitting)
        if box:
            out["box"] = {k: np.asarray(box[k], float).tolist() for k in BOX}
    return out


def try_step(cloud, step, context):
    """What a step would do to a cloud's arrays: (n,) bool of the points it takes away, or (n, 3) where they move to."""
    step = check_step(step)
    if not len(cloud["points"]):
        raise UmbrateError("This cloud has no points left.")
    try:
        answer = np.asarray(BY_NAME[step["filter"]].work(cloud, step, context))
    except KeyError as e:
        raise UmbrateError(
            f"This cloud does not have {e.args[0]} for its points: it was made by an older version. Run Cloud again.",
            ("run again",),
        ) from None
    if answer.ndim == 1 and step["keep"]:
        return ~answer
    return answer


def write_steps(file, steps, gate=CLOSED):
    """Keep cleaning steps as a JSON file, for other clouds and jobs.

    Lengths and heights are those of the job they are used in; what was drawn keeps the frame it was drawn in.
    """
    steps = [{k: v for k, v in s.items() if k not in ("frame", "box") or BY_NAME[s["filter"]].hidden} for s in steps]
    with written_aside(file, gate) as part:
        part.write_text(json.dumps({"umbrate": "cleaning", "steps": steps}, indent=1) + "\n")


def read_steps(file):
    """Steps of a file that `write_steps` made; raises UmbrateError."""
    try:
        data = json.loads(Path(file).read_text())
        steps = data["steps"] if data["umbrate"] == "cleaning" else None
        if not isinstance(steps, list) or not all(isinstance(s, dict) and "filter" in s for s in steps):
            raise TypeError
    except OSError as e:
        raise UmbrateError(f"{file} cannot be read ({e.strerror}).") from None
    except (ValueError, TypeError, KeyError):
        raise UmbrateError(f"{file} does not hold cleaning steps. Save them from a cloud that was cleaned.") from None
    return [check_step(s) for s in steps]


def step_text(step):
    """A step in words."""
    f = BY_NAME[step["filter"]]
    values = ", ".join(f"{v.title.lower()} {step[v.name]} {v.unit}".strip() for v in f.values if v.name in step)
    kept = ", kept alone" if step.get("keep") else ""
    return f"{f.title}{': ' + values if values else ''}{kept}"
