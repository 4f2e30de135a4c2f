"""Frames of a sitting: where results were computed, and where people see them.

Three frames follow each other. Poses are solved in a *plain* frame: unscaled, standing by the cameras' upward side.
The Scale stage adjusts the block to known lengths and points: the *scaled* frame, in mm. The level stands it up: the
frame of the *job*, which people see, measure in and export. Where known coordinates set the frame, it is theirs and no
level is applied; far from zero, it is theirs less an offset (see `Frame`). What was computed stays where it was
computed; it is moved when it is read. So a new scale or level moves poses, points, clouds and boxes together at once,
and undo moves them back.

A level is kept as what it was made from, a dictionary with any of

``up``
    {"ends": [...]} targets and marked points that lie level; {"plane": [normal, place]} in the plain frame, from a
    patch of the cloud; {"axis": "turntable"}; {"box": true} the keep box's own upright; {"turn": (3, 3)} by hand
``along``
    [end, end] from the first to the second is x
``origin``
    an end; [x, y, z] in the plain frame; or "box": the middle of the keep box's lower side
"""

from dataclasses import dataclass

import numpy as np

from ..core.cloud.keepbox import KeepBox
from ..core.errors import UmbrateError
from ..core.geometry.similarity import scale_of
from ..core.measure.level import frame, up_of_points
from ..job.marks import mark_of
from .blocks import moved_block, stored_block

#: known coordinates say where everything is: a level on top of them would make them wrong
FRAMED = "Known coordinates set the frame, so the level is not used. Switch “Use known points” off to use it."


@dataclass(frozen=True)
class Frame:
    """Where people see a sitting.

    Attributes
    ----------
    matrix : (4, 4)
        The similarity from the plain frame to that of the job.
    scaled : bool
        Whether lengths are mm.
    problem : str
        What went wrong, or why a level does not count.
    offset : (3,) float64
        What coordinates are more for people than in the frame of the job: known coordinates far from zero are computed
        without it, as single precision could not hold them.
    framed : bool
        Whether known coordinates say where everything is.
    """

    matrix: np.ndarray
    scaled: bool
    problem: str = ""
    offset: tuple = (0.0, 0.0, 0.0)
    framed: bool = False

    def for_people(self, places):
        """Places (..., 3) of the job's frame as people read them, float64."""
        return np.asarray(places, float) + self.offset

    def from_people(self, places):
        """The inverse of `for_people`."""
        return np.asarray(places, float) - self.offset

    @property
    def unit(self):
        """What follows a length."""
        return "mm" if self.scaled else ""


def move_points(points, M):
    """Points (n, 3) after a similarity (4, 4), of the same type."""
    return (points @ M[:3, :3].T + M[:3, 3]).astype(points.dtype, copy=False)


def move_directions(directions, M):
    """Directions (n, 3) after a similarity (4, 4): turned only, of the same type."""
    return (directions @ (M[:3, :3] / scale_of(M)).T).astype(directions.dtype, copy=False)


def move_box(box, M):
    """A keep box, as a dictionary, after a similarity."""
    s = scale_of(M)
    b = KeepBox.from_dict(box)
    R = M[:3, :3] / s
    return KeepBox(M[:3, :3] @ b.center + M[:3, 3], R @ b.axes, s * b.half).as_dict()


def scale_result(job, sitting):
    """The Result of the Scale stage where it was made from the poses that are there, else None."""
    scale, poses = job.result(sitting.id, "scale"), job.result(sitting.id, "poses")
    if scale is None or poses is None or scale.figures.made_of != poses.blob("block"):
        return None
    return scale


def block_blob(job, sitting, part=0):
    """What a sitting's block is: its blob's key, and the similarity (4, 4) from the plain frame to that it is in."""
    done = job.result(sitting.id, "poses")
    if done is None:
        return None, np.eye(4)
    if part:
        return done.blob(f"fragment {part + 1}"), np.eye(4)
    scale = scale_result(job, sitting)
    if scale:
        return scale.blob("block"), np.array(scale.figures.from_plain)
    return done.blob("block"), np.eye(4)


def raw_block(job, sitting, part=0):
    """The Block in the frame it was computed in, and the similarity from the plain frame to that."""
    key, M = block_blob(job, sitting, part)
    if not key:
        return None, M
    return stored_block(job.blobs, key), M


def row_of_end(block, end):
    """Row of the point that a kept end (see `job.marks`) stands for in a block, or None."""
    mark = mark_of(end)
    if mark is not None:
        return block.marks.get(mark)
    return block.targets.get(int(end)) if str(end).isdigit() else None


def end_text(end, names):
    """An end as people read it; names : those of marked points by end (`Job.end_names`)."""
    if isinstance(end, dict):
        return "cloud"
    if str(end).isdigit():
        return f"target {end}"
    return names.get(end, "a removed point")


def _end_places(block, ends, names):
    rows = [row_of_end(block, e) for e in ends]
    missing = [end_text(e, names) for e, r in zip(ends, rows, strict=True) if r is None]
    if missing:
        raise UmbrateError(f"The level needs {', '.join(missing)}, which the block does not have (any more).")
    return block.points[rows]


def level_ends(level):
    """All ends that a level is made from."""
    if not level:
        return []
    up, origin = level.get("up") or {}, level.get("origin")
    return [
        *up.get("ends", []),
        *level.get("along", []),
        *([origin] if isinstance(origin, str) and origin != "box" else []),
    ]


def level_matrix(level, find, *, block, from_plain, box, turntable):
    """The rigid motion (4, 4) of a level on top of a block's own frame.

    Parameters
    ----------
    level : dict
    find : callable(list of ends) -> (n, 3)
        Places of ends in the block's frame.
    block : Block
    from_plain : (4, 4)
        Similarity from the plain frame to the block's.
    box : dict
        The keep box in the block's frame.
    turntable : Turntable or None
        As the Poses stage found it, in the plain frame.

    Raises
    ------
    UmbrateError
        Where something the level is made from is missing or does not do.
    """
    up_of, s = level.get("up") or {}, scale_of(from_plain)
    R = from_plain[:3, :3] / s
    eyes = block.eyes[block.solved].mean(0)
    ground = None
    turn = np.eye(3)
    if "ends" in up_of:
        up, ground = up_of_points(find(up_of["ends"]), eyes)
    elif "plane" in up_of:
        normal, place = (np.array(x, float) for x in up_of["plane"])
        up, ground = R @ normal, from_plain[:3, :3] @ place + from_plain[:3, 3]
        up = up if up @ (eyes - ground) >= 0 else -up
    elif up_of.get("axis") == "turntable":
        if turntable is None:
            raise UmbrateError("The photos show no turntable, so there is no axis to stand the object by.")
        up = R @ np.array(turntable.direction)
        up = up if up @ (eyes - block.points.mean(0)) >= 0 else -up
    elif up_of.get("box"):
        up = np.array(box["axes"])[:, 2]
    elif "turn" in up_of:
        turn = np.array(up_of["turn"]) @ R.T
        up = np.array([0.0, 0, 1])
    else:
        up = np.array([0.0, 0, 1])
    along = None
    if level.get("along"):
        a, b = find(level["along"])
        along = turn @ (b - a)
    elif up_of.get("box"):
        along = np.array(box["axes"])[:, 0]
    M = frame(up, along)
    M[:3, :3] = M[:3, :3] @ turn
    origin = level.get("origin")
    zero = None
    if origin == "box":
        b = KeepBox.from_dict(box)
        corners = b.corners() @ M[:3, :3].T
        zero = M[:3, :3] @ b.center
        zero[2] = corners[:, 2].min()
    elif isinstance(origin, str):
        zero = M[:3, :3] @ find([origin])[0]
    elif origin is not None:
        zero = M[:3, :3] @ (from_plain[:3, :3] @ np.array(origin, float) + from_plain[:3, 3])
    elif ground is not None:
        zero = M[:3, :3] @ ground
        zero[:2] = 0.0  # the level says where height zero is, and nothing else
    if zero is not None:
        M[:3, 3] = -zero
    return M


def level_of(job, sitting):
    """What a sitting's level is made from, or None; a joined row has that of its first member until it has its own."""
    return job.level(sitting.id) or (job.level(sitting.members[0]) if sitting.members else None)


def frame_of(job, sitting):
    """The Frame of a sitting. A level that cannot be made is left out and told in `problem`."""
    return job.remembered(("frame", sitting.id), lambda: _frame_of(job, sitting))


def _frame_of(job, sitting):
    _, M = block_blob(job, sitting)
    scale = scale_result(job, sitting)
    scaled = bool(scale and scale.figures.scaled)
    offset = scale.figures.offset if scale else (0.0, 0.0, 0.0)
    level = level_of(job, sitting)
    done = job.result(sitting.id, "poses")
    if sitting.members and done is None:
        # its plain frame is that of its first member; until it has poses of its own it is seen as that one is
        return frame_of(job, next(s for s in job.sittings() if s.id == sitting.members[0]))
    if scale and scale.figures.framed:
        return Frame(M, scaled, FRAMED if level else "", offset, True)
    if not level or done is None:
        return Frame(M, scaled)
    block, M = raw_block(job, sitting)
    names = job.end_names(sitting.id)
    try:
        L = level_matrix(
            level, lambda ends: _end_places(block, ends, names), block=block, from_plain=M,
            box=move_box(plain_keep_box(job, sitting), M), turntable=done.figures.turntable,
        )  # fmt: skip
    except (UmbrateError, np.linalg.LinAlgError, KeyError, ValueError) as e:
        return Frame(M, scaled, str(e) if isinstance(e, UmbrateError) else "The level cannot be made.")
    return Frame(L @ M, scaled)


def load_block(job, sitting, part=0):
    """The Block of a sitting in the job's frame, or None.

    part : 0 for the block, 1 and on for its fragments, which have frames of their own
    """
    key, M = block_blob(job, sitting, part)
    if not key:
        return None
    if part:
        return stored_block(job.blobs, key)
    return moved_block(job.blobs, key, frame_of(job, sitting).matrix @ np.linalg.inv(M))


# ---------------------------------------------------------------------- the keep box
def plain_keep_box(job, sitting):
    """The keep box in force in the plain frame: set by hand, else fitted with the poses. None before there are any."""
    by_hand = job.keep_box(sitting.id)
    if by_hand:
        return by_hand
    done = job.result(sitting.id, "poses")
    return done.figures.keep_box if done else None


def keep_box_of(job, sitting):
    """The keep box in force in the job's frame, or None."""
    box = plain_keep_box(job, sitting)
    return move_box(box, frame_of(job, sitting).matrix) if box else None


def set_keep_box(job, sitting, box):
    """Set the keep box by hand, given in the job's frame; None goes back to the fitted one."""
    if box is not None:
        box = move_box(box, np.linalg.inv(frame_of(job, sitting).matrix))
    job.set_keep_box(sitting.id, box)


def turntable_of(job, sitting):
    """The turntable that the poses show, in the job's frame, or None."""
    done = job.result(sitting.id, "poses")
    found = done.figures.turntable if done else None
    if not found:
        return None
    M = frame_of(job, sitting).matrix
    s = scale_of(M)
    return found.model_copy(
        update={
            "point": (M[:3, :3] @ np.array(found.point) + M[:3, 3]).tolist(),
            "direction": (M[:3, :3] / s @ np.array(found.direction)).tolist(),
            "rings": [r.model_copy(update={"radius": s * r.radius, "height": s * r.height}) for r in found.rings],
        }
    )
