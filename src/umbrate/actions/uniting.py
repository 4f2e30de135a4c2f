"""The clouds of joined sittings as one: moved together, what others see through taken out, doubles left out."""

import numpy as np
import scipy

from ..core.cloud.grid import spacing_of
from ..core.errors import UmbrateError
from ..core.geometry.similarity import scale_of
from ..core.join.unite import unite
from ..job.contents import DEPTH_MAP
from ..job.results import now
from ..job.store import Job
from ..sitting.blocks import stored_block
from ..sitting.clouds import load_cloud
from ..sitting.frames import frame_of, move_directions, move_points
from ..sitting.members import members_of
from ..stages.dense.inputs import block_for_depth

THROUGH = 0.01  #: a photo sees through a point when its surface lies so much farther, as a share of the distance
VOTES = 2  #: photos of another sitting that must see through a point
AROUND = 5  #: pixels of a depth map, each way, that must all lie behind it


def united_cloud(job, sittings, moves):
    """The chosen clouds of sittings as one.

    Parameters
    ----------
    moves : list of (4, 4)
        From each sitting's plain frame to the common one.

    Returns
    -------
    arrays : dict
        In the common frame, with `sitting` (n,) as `unite` gives it.
    lost : list of int
        Doubled points of each.
    through : list of int
        Points of each that photos of the others see through: its support, mostly.
    """
    clouds, through = [], []
    for s, M in zip(sittings, moves, strict=True):
        cloud = load_cloud(job, s)
        if cloud is None:
            raise UmbrateError(f"“{s.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
        G = M @ np.linalg.inv(frame_of(job, s).matrix)
        cloud = {**cloud, "points": move_points(cloud["points"], G), "normals": move_directions(cloud["normals"], G)}
        if "precision" in cloud:
            cloud["precision"] = (cloud["precision"] * scale_of(G)).astype(np.float32)
        votes = np.zeros(len(cloud["points"]), np.int32)
        for other, N in zip(sittings, moves, strict=True):
            if other.id != s.id:
                votes = np.maximum(votes, seen_through(job, other, cloud["points"], N))
        keep = votes < VOTES
        through.append(int((~keep).sum()))
        clouds.append({k: v[keep] for k, v in cloud.items()})
    arrays, lost, _ = unite(clouds)
    # well mixed, so that any first part of it is an even sample
    order = np.random.default_rng(0).permutation(len(arrays["points"]))
    return {k: v[order] for k, v in arrays.items()}, lost, through


def seen_through(job, sitting, points, move):
    """How many photos of a sitting see a surface clearly behind each place (n,).

    points : (n, 3) in the common frame; move : (4, 4) from the sitting's plain frame to that
    """
    votes = np.zeros(len(points), np.int32)
    result = job.result(sitting.id, "cloud")
    if result is None or job.result(sitting.id, "poses") is None:
        return votes
    key, M = block_for_depth(job, sitting)
    block = stored_block(job.blobs, key)
    X = move_points(points, M @ np.linalg.inv(move))
    for pid, i in block.solved_rows.items():
        depth = result.blob("depth", pid)
        if depth is None:
            continue
        m = job.blobs.get_arrays(depth, DEPTH_MAP)
        f, cx, cy = m["lens"]
        E = block.poses[i]
        Y = X @ E[:3, :3].T.astype(X.dtype) + E[:3, 3].astype(X.dtype)
        z = np.where(Y[:, 2] > 0, Y[:, 2], 1.0)
        x, y = np.round(f * Y[:, 0] / z + cx), np.round(f * Y[:, 1] / z + cy)
        h, w = m["depth"].shape
        there = np.flatnonzero((Y[:, 2] > 0) & (x >= 0) & (y >= 0) & (x < w) & (y < h))
        # at an edge the next pixel is another surface: all round the place must lie behind it
        behind = scipy.ndimage.minimum_filter(m["depth"], AROUND)
        seen = behind[y[there].astype(int), x[there].astype(int)]
        votes[there] += seen > (1 + THROUGH) * z[there]
    return votes


def unite_clouds(job, sitting):
    """Put the clouds of a joined row's members together as a cloud of its own; returns its figures.

    Raises
    ------
    UmbrateError
        Where it is not joined, or a member has no cloud.
    """
    return keep_united(job, sitting, *_united(job, sitting))


def unite_elsewhere(folder, sitting_id, report):
    """Work for another process: the united cloud of a row of the job in `folder`, for `keep_united`."""
    report.progress(0.2, "putting clouds together")
    with Job.open(folder, writable=False) as job:
        return _united(job, next(s for s in job.sittings() if s.id == sitting_id))


def keep_united(job, sitting, key, figures):
    """Keep a united cloud (its blob's key, its figures) beside the others of a row; returns the figures."""
    taken = {c.name for c in job.clouds(sitting.id)}
    name = next(n for n in ("United", *(f"United {k}" for k in range(2, 1000))) if n not in taken)
    job.cloud_list.add(sitting.id, key, {}, figures, now(), name=name)
    return figures


def _united(job, sitting):
    found = job.join_found(sitting.id)
    if not found or None in found.moves:
        raise UmbrateError(f"“{sitting.name}” is not joined yet. Run Join first.", ("go to", "join"))
    members = members_of(job, sitting)
    arrays, doubled, through = united_cloud(job, members, [np.array(M) for M in found.moves])
    figures = {
        "points": len(arrays["points"]), "doubled": doubled, "seen_through": through, "from_plain": np.eye(4).tolist(),
        "united": [s.name for s in members], "spacing": spacing_of(arrays["points"]),
    }  # fmt: skip
    return job.blobs.put_arrays(**{k: v for k, v in arrays.items() if k != "sitting"}), figures
