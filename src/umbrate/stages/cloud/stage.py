"""Cloud: depth for every photo, fused into a dense cloud, and cleaned."""

from ...core.geometry.similarity import scale_of
from ...core.later import Later
from ...sitting.frames import frame_of, move_box, plain_keep_box, scale_result
from ..base import Histogram, Shown, Stage
from ..dense.forecast import costs, forecast_of
from ..dense.inputs import block_for_depth, gather_dense
from ..dense.settings import DenseSettings
from .figures import CloudFigures

computing = Later("umbrate.stages.cloud.computing")  # imported where it runs: in the worker


class CloudStage(Stage):
    """Depth, fusion, cleaning."""

    name, title = "cloud", "Cloud"
    when_stopped = (
        "Results of the steps before are saved, and so is every depth map that is finished: the next run goes on with "
        "the others."
    )
    about = "Computes depth for every photo, fuses it into a dense colored cloud and cleans it."
    needs = ("poses",)
    takes = ("scale",)
    reads = "keep box"
    uses_keep_box = True
    keeps = "cloud"
    shows = frozenset({Shown.CLOUDS, Shown.DEPTH})
    Settings = DenseSettings
    Figures = CloudFigures

    def takes_of(self, job, sitting):
        return [(sitting, "poses"), *super().takes_of(job, sitting)]

    def gather(self, job, sitting, settings, mode=""):
        return gather_dense(job, sitting, settings)

    def forecast(self, job, sitting, settings):
        """Time, point spacing and memory at each photo scale."""
        if job.result(sitting.id, "poses") is None:
            return None
        block, M = block_for_depth(job, sitting)
        found = costs(job, sitting, block, M, move_box(plain_keep_box(job, sitting), M), settings)
        return forecast_of(job, sitting, found, settings) if found else None

    def without_result(self, job, sitting):
        kept = job.cloud(sitting.id)  # put together from those of its sittings
        return (f"{kept.left / 1e3:,.0f} k points", "united, not computed") if kept else None

    def key(self, job, sitting, settings):
        scale = scale_result(job, sitting)
        lengths = settings.nearest or settings.farthest or settings.sampling
        measured = [scale_of(frame_of(job, sitting).matrix)] if lengths else []  # what a mm is matters then
        bent = [scale.blob("block")] if scale and scale.figures.bent else []
        poses = job.result(sitting.id, "poses")  # adjusted again, it is another block made from the same things
        return [job.keep_box(sitting.id), poses.blob("block") if poses else "", *bent, *measured]

    def run(self, inputs, settings, report):
        return computing.run(inputs, settings, report)

    def histogram(self, figures):
        counts = (figures.agreeing or figures.photos_histogram)[2:]
        edges = [k + 1.5 for k in range(len(counts) + 1)]
        return Histogram("Photos that agree on a point", "photos", edges, counts, "min_photos")

    def left_at(self, figures, least):
        counts, sure = figures.agreeing or figures.photos_histogram, figures.sure
        left = sum(counts[least:]) + (sure[least - 1] if 3 <= least <= len(sure) else 0)
        return f"{least} or more: some {left:,} points"

    def headline(self, figures):
        p = figures.points
        return (
            f"{p / 1e6:.2f} M points" if p >= 1e6 else f"{p / 1e3:.0f} k points",
            f"{figures.photos_per_point:.1f} photos a point",
        )
