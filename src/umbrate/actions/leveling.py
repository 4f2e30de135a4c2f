"""Ways to stand a sitting up, as people choose them; see `frames` for what a level is made from."""

import numpy as np

from ..core.errors import UmbrateError
from ..core.measure.surface import surface_at
from ..core.targets.sheets import MAT
from ..sitting.clouds import load_cloud
from ..sitting.frames import (
    end_text,
    frame_of,
    level_matrix,
    level_of,
    load_block,
    move_box,
    plain_keep_box,
    raw_block,
    row_of_end,
)
from .measuring import plain_spot


def check_free(job, sitting):
    """Raise where known coordinates say how a sitting stands."""
    if frame_of(job, sitting).framed:
        raise UmbrateError(
            f"“{sitting.name}” stands as its known coordinates say. To level it otherwise, switch “Use known points” "
            "off at Scale and run Scale.",
            ("go to", "scale"),
        )


def mat_numbers(block):
    """Numbers of the mat's targets that a block has, as ends."""
    return [str(n) for n in block.targets if n in MAT]


def change_level(job, sitting, label="set the level", **parts):
    """Change parts of a sitting's level: up, along, origin (None takes one out). Nothing is changed where it cannot be.

    Raises
    ------
    UmbrateError
        Where something it is made from is missing or does not do.
    """
    level = {**(level_of(job, sitting) or {}), **parts}
    check_free(job, sitting)
    level = job.level_by_identity(sitting.id, {k: v for k, v in level.items() if v is not None})
    block, M = raw_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to stand up.", ("go to", "poses"))
    names = job.end_names(sitting.id)

    def find(ends):
        rows = [row_of_end(block, e) for e in ends]
        missing = [end_text(e, names) for e, r in zip(ends, rows, strict=True) if r is None]
        if missing:
            raise UmbrateError(
                f"{', '.join(missing)}: not in the block. Ends are a target's number or a point marked in two solved "
                "photos (run Scale after marking)."
            )
        return block.points[rows]

    level_matrix(
        level or {}, find, block=block, from_plain=M, box=move_box(plain_keep_box(job, sitting), M),
        turntable=job.result(sitting.id, "poses").figures.turntable,
    )  # fmt: skip
    job.set_level(sitting.id, level or None, label)


def level_by_mat(job, sitting):
    """Stand a sitting on the targets of the printed mat."""
    block = load_block(job, sitting)
    numbers = mat_numbers(block) if block is not None else []
    if len(numbers) < 3:
        raise UmbrateError(f"The block has {len(numbers)} targets of the mat; a level needs three.")
    change_level(job, sitting, "level by the mat", up={"ends": numbers})


def level_by_patch(job, sitting, place, cloud=None):
    """Let the surface of the cloud round a place (job's frame) be level.

    cloud : its arrays in the job's frame, where they are at hand
    """
    cloud = load_cloud(job, sitting) if cloud is None else cloud
    if cloud is None:
        raise UmbrateError("There is no cloud to take a patch of. Run Cloud first.", ("go to", "cloud"))
    at, normal, _, _ = surface_at(cloud["points"], cloud["normals"], np.asarray(place, float), 400)
    M = np.linalg.inv(frame_of(job, sitting).matrix)
    plain = plain_spot(job, sitting, at)["cloud"]
    n = M[:3, :3] @ normal
    n = n / np.linalg.norm(n)
    change_level(job, sitting, "level by a patch", up={"plane": [n.tolist(), plain]})


def level_by_turn(job, sitting, turn):
    """Turn the object by hand: `turn` (3, 3) is applied on top of how it stands."""
    check_free(job, sitting)
    M = frame_of(job, sitting).matrix
    R = M[:3, :3] / np.cbrt(np.linalg.det(M[:3, :3]))
    level = level_of(job, sitting) or {}
    keep = {k: level[k] for k in ("origin",) if k in level}
    new = {"up": {"turn": (np.asarray(turn) @ R).tolist()}, **keep}
    block, _ = raw_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to turn.", ("go to", "poses"))
    job.set_level(sitting.id, new, "turn the object")


def origin_at(job, sitting, place):
    """Put the origin to a place given in the job's frame."""
    change_level(job, sitting, "set the origin", origin=plain_spot(job, sitting, place)["cloud"])


def level_text(level, names):
    """What a level is made from, in words; names : of marked points by end (`Job.end_names`)."""
    if not level:
        return "as solved: the photos' upward side is up"
    up = level.get("up") or {}
    words = []
    if "ends" in up:
        ends = [names.get(e, e) for e in up["ends"]]
        words.append("up by " + (", ".join(ends) if len(ends) <= 4 else f"{len(ends)} points"))
    elif "plane" in up:
        words.append("up by a patch of the cloud")
    elif "axis" in up:
        words.append("up by the turntable's axis")
    elif up.get("box"):
        words.append("up by the keep box")
    elif "turn" in up:
        words.append("turned by hand")
    if level.get("along"):
        a, b = (names.get(e, e) for e in level["along"])
        words.append(f"x from {a} to {b}")
    origin = level.get("origin")
    if origin is not None:
        words.append(
            "origin in the keep box"
            if origin == "box"
            else f"origin at {names.get(origin, origin)}"
            if isinstance(origin, str)
            else "origin set by hand"
        )
    return "; ".join(words)
