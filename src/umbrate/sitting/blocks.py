"""Blocks as a job keeps them: arrays in a blob, read once.

A blob is named by its content and a block never changes, so the last few that were read are kept, and as they were
last moved.
"""

from functools import lru_cache

import numpy as np

from ..core.errors import UmbrateError
from ..core.poses.block import Block
from ..job.blobs import BlobStore
from ..job.contents import BLOCK

KEPT = 8  #: blocks: those of a few sittings, as computed and as shown


def stored_block(blobs, key):
    """The Block that a blob holds, in the frame it was computed in.

    Raises
    ------
    UmbrateError
        Where the blob is missing or holds something else.
    """
    return _read(str(blobs.home), key)


def moved_block(blobs, key, M):
    """A stored block after a similarity (4, 4)."""
    return _moved(str(blobs.home), key, np.ascontiguousarray(M, float).tobytes())


@lru_cache(KEPT)
def _read(folder, key):
    try:
        return Block.from_arrays(BlobStore(folder).get_arrays(key, BLOCK))
    except (KeyError, ValueError, TypeError, IndexError) as e:
        raise UmbrateError(
            f"The solved block of this job is damaged ({e}). Run Poses again.", ("go to", "poses")
        ) from e


@lru_cache(KEPT)
def _moved(folder, key, M):
    return _read(folder, key).moved(np.frombuffer(M).reshape(4, 4))
