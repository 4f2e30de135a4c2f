"""What a stage is given of the actions, which no stage knows by itself."""

from ..core.later import Later
from ..stages.deliver.stage import DeliverStage

papers = Later("umbrate.actions.papers")

DeliverStage.papers = staticmethod(lambda job, sitting, folder: papers.write_papers(job, sitting, folder))
