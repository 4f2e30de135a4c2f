"""A new photo's place at once, from the tie points that stand: before the whole block is adjusted with it.

What a photo sees of tie points that are placed tells where it was taken (resection). That takes a second or two, where
a run of Poses reads masks, finds every feature, matches every pair and moves everything. The place is a first one: the
run that follows may move it, or take it away.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ...core.errors import UmbrateError
from ...core.features.detect import detect
from ...core.features.match import match, unit_descriptors
from ...core.geometry.lens import Lens
from ...core.geometry.similarity import move_pose
from ...core.imaging.decode import read_reduced_image
from ...core.imaging.sharpness import gray_of
from ...core.poses.block import FEATURE
from ...core.poses.resect import resect
from ...job.blobs import BlobStore
from ...job.contents import FEATURES
from ...job.store import Job
from ...sitting.blocks import stored_block
from ...sitting.frames import block_blob, frame_of

LONGEST = 2000  #: pixels; finer detail of a larger photo is left to the run
SMALL = 1000  #: pixels: of so small a photo the doubled picture is looked at too, as it costs little
KEY_POINTS = 4000  #: of the whole picture: masks are not made yet, but only the object has tie points
LATELY, SPREAD = 4, 10  #: photos that it is held against first: the last, and some from all round
ENOUGH = 60  #: points that agree, with which no more photos are asked
LEAST = 18  #: points that have to agree
PIXELS = 4.0  #: how far off, in photos 1600 pixels wide


@dataclass(frozen=True)
class FirstPlace:
    """Where a photo was taken, as far as resection tells.

    Attributes
    ----------
    name, hash : str
        Of its file.
    pose : (4, 4)
        World to camera, in the job's frame.
    lens : Lens
    agree, matched : int
        Tie points that agree with it, and that were found in the photo.
    """

    name: str
    hash: str
    pose: np.ndarray
    lens: Lens
    agree: int
    matched: int


def first_place(folder, sitting_id, record, report):
    """Work for another process: the FirstPlace of a photo by what stands of a sitting, or None where it has none.

    record : dict
        Of its file, as `stages.photos.records.record_of` gives it.
    """
    report.progress(0.1, f"looking where {record['name']} was taken")
    with Job.open(folder, writable=False) as job:
        sitting = next((s for s in job.sittings() if s.id == sitting_id), None)
        done = job.result(sitting_id, "poses") if sitting else None
        key, M = block_blob(job, sitting) if done else (None, None)
        if not key:
            return None
        block = stored_block(job.blobs, key)
        row = _of_one_lens(job, sitting_id, record, block)
        if row is None:
            return None
        to_job = frame_of(job, sitting).matrix @ np.linalg.inv(M)
        features = tuple(done.blob("features", int(i)) or "" for i in block.photo_ids)
        home = str(job.blobs.home)
    lens = block.lens(row)
    image, halvings = read_reduced_image(record["path"], LONGEST)
    gray = gray_of(image) / np.float32(255)
    report.check()
    found = detect(gray, None, KEY_POINTS, upsample=max(gray.shape) <= SMALL).magnified(2**halvings)
    answer = resect_photo(home, key, features, found, lens, report.check)
    if answer is None:
        return None
    E, agree, matched = answer
    return FirstPlace(record["name"], record["hash"], move_pose(E, to_job), lens, agree, matched)


def _of_one_lens(job, sitting_id, record, block):
    """The row of the last solved photo with the same size and camera as a file, or None."""
    same = [
        block.solved_rows[p.id]
        for p in job.photos(sitting_id, aside=False)
        if p.id in block.solved_rows
        and (p.width, p.height, p.make, p.model, p.focal_mm)
        == tuple(record[k] for k in ("width", "height", "make", "model", "focal_mm"))
    ]
    return same[-1] if same else None


@lru_cache(64)
def _tie_descriptors(home, block_key, row, features_key):
    """Of the tie points that a photo sees: unit descriptors (n, 128) and which points they are (n,)."""
    block = stored_block(BlobStore(home), block_key)
    rows = block.in_photo(row)
    rows = rows[block.kind[block.point[rows]] == FEATURE]
    stored = BlobStore(home).get_arrays(features_key, FEATURES)["descriptors"]
    rows = rows[block.feature[rows] < len(stored)]
    return unit_descriptors(stored[block.feature[rows]]), block.point[rows]


def _asked(block, rows):
    """Rows of photos in the order they are asked in: the last, then some from all round, then the others."""
    first = list(rows[: -LATELY - 1 : -1])
    left = [k for k in rows if k not in first]
    eyes = block.eyes
    while left and len(first) < LATELY + SPREAD:  # each time the one farthest from all that were chosen
        d = np.linalg.norm(eyes[left][:, None] - eyes[first][None], axis=2).min(1)
        first.append(left.pop(int(np.argmax(d))))
    return first, left


def resect_photo(home, block_key, features, found, lens, check=lambda: None):
    """Where a photo was taken, in the block's frame: pose (4, 4), points that agree and points found; None where
    too few agree.

    Parameters
    ----------
    home : str
        Of the blobs.
    features : tuple of str
        Keys of the features of the block's photos, by row.
    found : Features
        Of the photo.
    check : callable
        Raises where somebody wants this to stop.
    """
    block = stored_block(BlobStore(home), block_key)
    rows = [k for k in np.flatnonzero(block.solved) if features[k]]
    unit = unit_descriptors(found.descriptors)
    directions = lens.unproject(found.xy)
    threshold = PIXELS * lens.width / 1600.0 / lens.f
    pairs, best = [], None
    for some in _asked(block, rows):
        for k in some:
            check()
            try:
                known, points = _tie_descriptors(home, block_key, int(k), features[k])
            except UmbrateError:
                continue  # its features are gone; the others' will do
            m = match(unit, known)
            pairs.append(np.c_[m[:, 0], points[m[:, 1]]])
        both = np.unique(np.vstack(pairs), axis=0) if pairs else np.zeros((0, 2), int)
        if len(both) < LEAST:
            continue
        X, x = block.points[both[:, 1]], directions[both[:, 0]]
        R, t, agree = resect(X, x, threshold, 0)
        count = len(np.unique(both[agree, 1]))
        if best is None or count > best[1]:
            E = np.eye(4)
            E[:3, :3], E[:3, 3] = R, t
            best = E, count, len(both)
        if count >= ENOUGH:
            break
    return best if best and best[1] >= LEAST else None
