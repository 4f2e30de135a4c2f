"""The stages of a job, in the order of work. To add a stage, write its module and name it here."""

from ..job.results import MERGED
from .cloud.stage import CloudStage
from .join.stage import JoinStage
from .lens.stage import LensStage
from .masks.stage import MasksStage  # names: ok
from .photos.stage import PhotosStage
from .poses.stage import PosesStage
from .scale.stage import ScaleStage

STAGES = (PhotosStage(), MasksStage(), LensStage(), PosesStage(), ScaleStage(), JoinStage(), CloudStage())
BY_NAME = {s.name: s for s in STAGES}
#: what a joined row has of its members' photos
MERGED.update({n: BY_NAME[n].merged for n in ("photos", "masks", "lens")})


def stages_of(sitting):
    """The stages that are computed with a sitting, in the order of work: a joined row is joined first."""
    if not sitting.members:
        return tuple(s for s in STAGES if s.applies(sitting))
    return tuple(BY_NAME[n] for n in ("join", "poses", "scale", "cloud"))
