"""Ends of lengths and measurements: what a text or a spot stands for in a block, and how sure it is there.

An end is a target's number (``208``), a marked point by its identity (``@12``, see `job.marks`), or a spot on the
cloud, ``{"cloud": [x, y, z]}`` in the plain frame of the poses.
"""

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.lens import PARAMETER_NAMES
from ..core.geometry.similarity import scale_of
from ..core.measure.network import Network, seen_point
from ..core.poses.block import TARGET
from ..core.poses.covariance import of_centers
from ..job.contents import COVARIANCE
from ..job.marks import token
from .frames import end_text, frame_of, raw_block, row_of_end, scale_result


def control_points(job, sitting):
    """Known coordinates of a sitting's marked points and targets that hold the block: (xyz, sigmas) by end."""
    out = {str(n): (k.known, k.known_sigma) for n, k in job.known_targets(sitting.id).items() if k.held}
    for p in job.marked_points(sitting.id):
        if p.known and p.held and p.used:
            out[token(p.id)] = p.known, p.known_sigma
    return out


def end_of_row(block, row):
    """The end that a point of a block is, a target or a marked point."""
    label = int(block.label[row])
    return str(label) if block.kind[row] == TARGET else token(label)


def seen_from(block, rows, eye, least_cos=0.3):
    """Which points of a block (n,) bool can be seen from a place: some photo that saw it stands on that side of it.

    rows : (n,) of the block's points
    eye : (3,)
    """
    rows = np.asarray(rows, int)
    out = np.zeros(len(rows), bool)
    for k, p in enumerate(rows):
        photos = block.photo[block.of_point(p)]
        X = block.points[p]
        d = block.eyes[photos[block.solved[photos]]] - X
        to = np.asarray(eye, float) - X
        with np.errstate(invalid="ignore", divide="ignore"):
            cos = (d @ to) / (np.linalg.norm(d, axis=1) * np.linalg.norm(to))
        out[k] = not len(cos) or bool(np.nanmax(cos) > least_cos)
    return out


def network_of(job, result, block):
    """The Network of a block's solved photos, from the covariance kept with a result.

    Raises
    ------
    UmbrateError
        Where the result was made before covariances were kept.
    """
    key = result.blob("covariance")
    if key is None:
        raise UmbrateError("These poses were solved by an older version. Run Poses again to measure.", ("run again",))
    a = job.blobs.get_arrays(key, COVARIANCE)
    b = block.of_solved()
    return Network(b.poses, b.lenses, b.lens_of, a["cameras"], a["free"], float(a["unit"]))


def spreads_of(job, sitting):
    """How well a sitting's photos and lenses are known, in the frame that the photos hold together themselves.

    Returns
    -------
    photos : dict of photo id to (turn in degrees, place in the job's unit)
        Standard deviations, of one axis.
    lenses : list of dict of parameter name to float
        Of each lens of the block; parameters that were held are not in it.

    Both are empty where the poses are older than covariances.
    """
    block, from_plain = raw_block(job, sitting)
    result = scale_result(job, sitting) or job.result(sitting.id, "poses")
    if block is None:
        return {}, []
    try:
        network = network_of(job, result, block)
    except UmbrateError:
        return {}, []
    n, L = len(network.poses), len(network.free)
    size = scale_of(frame_of(job, sitting).matrix) / scale_of(from_plain)
    own = np.array([network.cameras[6 * i : 6 * i + 6, 6 * i : 6 * i + 6] for i in range(n)])
    turns = np.degrees(np.sqrt(np.einsum("nii->n", own[:, :3, :3]) / 3)) * network.unit
    places = np.sqrt(np.einsum("nii->n", of_centers(network.poses, own)) / 3) * network.unit * size
    photos = {i: (float(turns[k]), float(places[k])) for k, i in enumerate(block.solved_rows)}
    lenses = []
    for m in range(len(network.lenses)):
        at = 6 * n + L * m + np.arange(L)
        sd = np.sqrt(np.maximum(network.cameras[at, at], 0.0)) * network.unit
        lenses.append({PARAMETER_NAMES[p]: float(x) for p, x in zip(network.free, sd, strict=True) if x > 0})
    return photos, lenses


def seen_point_of(block, names, end):
    """The SeenPoint of a target or a marked point.

    block : of solved photos (`Block.of_solved`)
    names : of marked points by end (`Job.end_names`)

    Raises
    ------
    UmbrateError
        Where the block does not have it.
    """
    p = row_of_end(block, end)
    if p is None:
        if str(end).isdigit():
            raise UmbrateError(f"Target {end} is not in the block: it was found in fewer than two solved photos.")
        if end in names:
            raise UmbrateError(f"“{names[end]}” is not in the block yet: mark it in two solved photos and run Scale.")
        raise UmbrateError(f"This needs {end_text(end, names)}. Choose another end.")
    return seen_point(block, p)
