"""What a surface is made from."""

from dataclasses import dataclass

from ...sitting.clouds import CloudSource


@dataclass(frozen=True)
class Inputs:
    """A cloud in the frame it was computed in, and the keep box there."""

    cloud: CloudSource
    name: str
    from_plain: list  #: the similarity from the plain frame to that of the cloud
    keep_box: dict | None
    length: float  #: of the job's unit in that frame
