"""The stages of a job, in the order of work. To add a stage, write its module and name it here."""

from ..job.results import MERGED
from .cloud import CloudStage
from .join import JoinStage
from .lens import LensStage
from .masks import MasksStage  # names: ok
from .photos import PhotosStage
from .poses import PosesStage
from .scale import ScaleStage

STAGES = (PhotosStage(), MasksStage(), LensStage(), PosesStage(), ScaleStage(), JoinStage(), CloudStage())
BY_NAME = {s.name: s for s in STAGES}
#: what a joined row has of its members' photos
MERGED.update({n: BY_NAME[n].merged for n in ("photos", "masks", "lens")})


def stages_of(sitting):
    """The stages that are computed with a sitting, in the order of work: a joined row is joined first."""
    if not sitting.members:
        return tuple(s for s in STAGES if s.applies(sitting))
    return tuple(BY_NAME[n] for n in ("join", "poses", "scale", "cloud"))
