"""Blocks as a job keeps them: arrays in a blob."""

from ..core.errors import UmbrateError
from ..core.poses.block import Block


def stored_block(blobs, key):
    """The Block that a blob holds, in the frame it was computed in.

    Raises
    ------
    UmbrateError
        Where the blob is missing or holds something else.
    """
    try:
        return Block.from_arrays(blobs.get_arrays(key))
    except (KeyError, ValueError, TypeError, IndexError) as e:
        raise UmbrateError(
            f"The solved block of this job is damaged ({e}). Run Poses again.", ("go to", "poses")
        ) from e
