"""What a surface is made from."""

from dataclasses import dataclass

from ...sitting.clouds import CloudSource
from ..dense.inputs import Inputs as DenseInputs
from ..dense.settings import DenseSettings


@dataclass(frozen=True)
class Inputs:
    """A cloud in the frame it was computed in, or what depth maps were computed from, and the keep box there."""

    blobs: str
    source: CloudSource | tuple[DenseInputs, DenseSettings]
    name: str
    from_plain: list  #: the similarity from the plain frame to that of the source
    keep_box: dict | None
    length: float  #: of the job's unit in that frame
