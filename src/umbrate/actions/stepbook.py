"""Books of steps: what can be done to clouds or surfaces, with values, checked, kept as files and said in words.

A step is plain values, ``{"filter": name, "keep": bool, ...}``: what a recipe can hold and a command can say.

A step that was applied also keeps ``frame``, the similarity from the plain frame to that of the job as it was then, and
where it needs it ``box``, the keep box in the plain frame. Lines drawn, heights and lengths mean the same places for
ever, whatever level and scale come later. ``did`` keeps figures of what it did, for people.
"""

import json
from dataclasses import dataclass, field

import numpy as np

from ..core.cloud.keepbox import KeepBox
from ..core.errors import UmbrateError
from ..core.geometry.similarity import scale_of
from ..formats.files import CLOSED, written_aside
from ..formats.reading import read_json
from ..sitting.clouds import to_job
from ..sitting.frames import frame_of, move_box, plain_keep_box


@dataclass(frozen=True)
class Value:
    """One value of a filter: name, what it is called, unit, default, least and most.

    Text where `low` is None; one of `choices`, (value, title) each, where there are any.
    """

    name: str
    title: str
    unit: str
    default: object
    low: float | None = None
    high: float | None = None
    choices: tuple = ()


@dataclass(frozen=True)
class Filter:
    """Something a step can do.

    work : callable(arrays, values, context)
        What it returns is the affair of those who do steps, see `actions.steps` and `actions.mends`.
    """

    name: str
    title: str
    about: str
    values: tuple
    work: object
    hidden: bool = False  #: drawn in the scene, not chosen from a list
    framed: bool = False  #: of no use without the frame it was drawn in


class Frames:
    """Where a step's lengths, heights and lines are meant: lengths of people are in the job's unit, others in its own.

    Attributes
    ----------
    now : (4, 4)
        From the frame of what is changed to that of the job as it is now.
    to_job : (4, 4)
        And as it was when the step was made.
    """

    def __init__(self, job, sitting, kept, step=None):
        self.now = self.to_job = to_job(job, sitting, kept)
        if step is not None and "frame" in step:
            self.to_job = np.array(step["frame"], float) @ np.linalg.inv(np.array(kept.from_plain, float))
        self.scale = scale_of(self.to_job)
        # looked up here: steps may be tried in another thread than the job's
        box = (step or {}).get("box") or plain_keep_box(job, sitting)
        self._box = KeepBox.from_dict(move_box(box, np.array(kept.from_plain, float))) if box else None

    def length(self, value):
        """A length in the job's unit as one of its own."""
        return float(value) / self.scale

    @property
    def up(self):
        """The level's upward direction and the height of zero, in its own frame: unit (3,), offset."""
        R = self.to_job[:3, :3] / self.scale
        return R[2], -float(self.to_job[2, 3]) / self.scale

    def keep_box(self):
        """The keep box in its own frame."""
        if self._box is None:
            raise UmbrateError("There is no keep box yet: it is fitted when Poses has run.", ("go to", "poses"))
        return self._box


BOX = {"center": (3,), "half": (3,), "axes": (3, 3)}


@dataclass(frozen=True)
class StepBook:
    """All that can be done to one kind of thing.

    Attributes
    ----------
    filters : tuple of Filter
    drawn : dict
        What a drawn one needs: names, and the shape of each as far as it is fixed (None: any length).
    mark : str
        What its files say they hold.
    unread : str
        What is said of a file that holds something else.
    """

    filters: tuple
    drawn: dict
    mark: str
    unread: str
    by_name: dict = field(default_factory=dict)

    def __post_init__(self):
        self.by_name.update({f.name: f for f in self.filters})

    def check(self, step):
        """A step with all its values, those that are missing by default.

        Raises
        ------
        UmbrateError
            Where the filter or a value is unknown or out of range.
        """
        name = step.get("filter")
        if not isinstance(name, str) or name not in self.by_name:
            raise UmbrateError(f"There is no filter “{name}”. There are: {', '.join(f.name for f in self.filters)}.")
        f = self.by_name[name]
        out = {"filter": name, "keep": bool(step.get("keep", False))}
        given = {k: v for k, v in step.items() if k not in ("filter", "keep", "frame", "box", "did")}
        if "frame" in step:
            out["frame"] = _numbers(step["frame"], (4, 4), f.title)
            if abs(np.linalg.det(out["frame"])) < 1e-30:
                raise UmbrateError(f"{f.title}: the frame it was made in is none.")
        if isinstance(step.get("box"), dict):
            box = step["box"]
            out["box"] = {k: _numbers(box.get(k), shape, f.title) for k, shape in BOX.items()}
        if f.hidden:
            out |= self._drawn_values(f, {k: x for k, x in given.items() if k not in {v.name for v in f.values}})
            given = {k: x for k, x in given.items() if k not in self.drawn[name] and k != "strokes"}
        takes = {v.name: v for v in f.values}
        for k in given:
            if k not in takes:
                raise UmbrateError(f"{f.title} has no value “{k}”. It has: {', '.join(takes) or 'none'}.")
        for v in f.values:
            x = given.get(v.name, v.default)
            if v.choices:
                if str(x) not in [c for c, _ in v.choices]:
                    known = ", ".join(c for c, _ in v.choices)
                    raise UmbrateError(f"{f.title}, {v.title}: “{x}” is none of {known}.")
                x = str(x)
            elif v.low is not None:
                try:
                    x = type(v.default)(float(x))
                except (TypeError, ValueError, OverflowError):
                    raise UmbrateError(f"{f.title}, {v.title}: “{x}” is no number.") from None
                if not v.low <= x <= v.high:
                    raise UmbrateError(f"{f.title}, {v.title}: {x:g} is not between {v.low:g} and {v.high:g}.")
            out[v.name] = x
        return out

    def _drawn_values(self, f, given):
        """The values of a step that is drawn in the scene, checked."""
        name, needed = f.name, self.drawn[f.name]
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

    def frozen(self, job, sitting, step):
        """A step that means the same for ever: with the frame it is made in, and the keep box if it needs that."""
        out = self.check(step)
        out.setdefault("frame", frame_of(job, sitting).matrix.tolist())
        if out["filter"] == "box" and "box" not in out:
            box = plain_keep_box(job, sitting)
            if box:
                out["box"] = {k: np.asarray(box[k], float).tolist() for k in BOX}
        return out

    def write(self, file, steps, gate=CLOSED):
        """Keep steps as a JSON file, for others of the kind and other jobs.

        Lengths and heights are those of the job they are used in; what was drawn keeps the frame it was drawn in.
        """

        def lasting(s):
            own = ("did",) if self.by_name[s["filter"]].hidden else ("did", "frame", "box")
            return {k: v for k, v in s.items() if k not in own}

        steps = [lasting(s) for s in steps]
        with written_aside(file, gate) as part:
            part.write_text(json.dumps({"umbrate": self.mark, "steps": steps}, indent=1) + "\n")

    def read(self, file):
        """Steps of a file that `write` made; raises UmbrateError."""
        data = read_json(file)
        try:
            steps = data["steps"] if data["umbrate"] == self.mark else None
            if not isinstance(steps, list) or not all(isinstance(s, dict) and "filter" in s for s in steps):
                raise TypeError
        except (ValueError, TypeError, KeyError):
            raise UmbrateError(f"{file} does not hold {self.unread}") from None
        return [self.check(s) for s in steps]

    def text(self, step, unit=""):
        """A step in words; unit : of lengths."""
        f = self.by_name[step["filter"]]
        some = [(v, dict(v.choices).get(step[v.name], step[v.name])) for v in f.values if v.name in step]
        units = {"length": unit, "x spacing": "× spacing", "x edge": "× edge"}
        values = ", ".join(f"{v.title.lower()} {x} {units.get(v.unit, v.unit)}".strip() for v, x in some)
        kept = ", kept alone" if step.get("keep") else ""
        return f"{f.title}{': ' + values if values else ''}{kept}"


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
