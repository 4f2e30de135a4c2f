"""The stages of a job, in the order of work. To add a stage, write its module and name it here."""

from .cloud import CloudStage
from .masks import MasksStage  # names: ok
from .photos import PhotosStage
from .poses import PosesStage

STAGES = (PhotosStage(), MasksStage(), PosesStage(), CloudStage())
BY_NAME = {s.name: s for s in STAGES}
