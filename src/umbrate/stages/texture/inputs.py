"""What a texture is made from."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Inputs:
    """A surface as it is mended, the photos of a block, and how these lie to each other."""

    blobs: str
    surface: str  #: key of its arrays
    name: str
    from_plain: list  #: the similarity from the plain frame to that of the surface
    block: str  #: key of the solved block
    to_block: np.ndarray  #: the similarity from the surface's frame to that of the block
    length: float  #: of the job's unit in the frame of the block
    photos: list
    masks: dict
    soft: dict  #: pixels of the masks' soft edges by photo id
