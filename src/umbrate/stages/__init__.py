"""The stages of a job, in the order of work. To add a stage, write its module and name it here."""

from .cloud import CloudStage
from .lens import LensStage
from .masks import MasksStage  # names: ok
from .photos import PhotosStage
from .poses import PosesStage
from .scale import ScaleStage

STAGES = (PhotosStage(), MasksStage(), LensStage(), PosesStage(), ScaleStage(), CloudStage())
BY_NAME = {s.name: s for s in STAGES}
