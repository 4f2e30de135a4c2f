"""The stages of a job, in the order of work. To add a stage, write its folder and name it here."""

from ..job.figures import MODELS, read_figures
from ..job.results import MERGED
from .cloud.stage import CloudStage
from .deliver.stage import DeliverStage
from .join.stage import JoinStage
from .lens.stage import LensStage
from .masks.stage import MasksStage  # names: ok
from .photos.stage import PhotosStage
from .poses.stage import PosesStage
from .scale.stage import ScaleStage
from .surface.stage import SurfaceStage
from .texture.stage import TextureStage

STAGES = (
    PhotosStage(), MasksStage(), LensStage(), PosesStage(), ScaleStage(), JoinStage(), CloudStage(), SurfaceStage(),
    TextureStage(), DeliverStage(),
)  # fmt: skip
BY_NAME = {s.name: s for s in STAGES}
LAST = [s.name for s in STAGES if not s.only_asked][-1]  #: up to where a job is run that nobody says more of
MODELS.update({s.name: s.Figures for s in STAGES})
MERGED.update({s.name: s.merged for s in STAGES if s.of_members})


def figures_of(entry):
    """The key figures of a ledger's entry in a few words, and all lines that people read of it; "" and [] without."""
    stage = BY_NAME.get(entry.stage)
    figures = read_figures(entry.stage, entry.figures) if stage and entry.figures else None
    if figures is None:
        return "", []
    return ", ".join(x for x in stage.headline(figures) if x), figures.rows()


def stages_of(sitting):
    """The stages that are computed with a sitting, in the order of work: each after those that it reads."""
    out = []

    def add(stage):
        if stage not in out and stage.applies(sitting):
            for name in stage.needs_of(sitting):
                add(BY_NAME[name])
            out.append(stage)

    for s in STAGES:
        add(s)
    return tuple(out)
