"""Cloud: depth for every photo, fused into a dense cloud, and cleaned."""

from typing import Literal

from pydantic import Field

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.later import Later
from ...sitting.frames import frame_of, move_box, plain_keep_box, scale_result
from ...sitting.masks import mask_blobs
from ...sitting.photos import photo_refs
from ..base import Histogram, Shown, Stage, StageSettings
from .figures import CloudFigures
from .forecast import costs, forecast_of, place_for
from .inputs import Inputs, block_for_depth

computing = Later("umbrate.stages.cloud.computing")  # imported where it runs: in the worker


class Settings(StageSettings):
    """How fine, how strict."""

    photo_scale: Literal[1, 2, 4, 8] = Field(
        2,
        title="Photo scale",
        description="Share of the photo's width that is used: 1 is the full "
        "width, 2 half of it (four times faster), 4 a quarter, 8 an eighth.",
        json_schema_extra={"unit": "1/", "short": True},
    )
    min_photos: int = Field(
        3,
        ge=2,
        le=10,
        title="Agreeing photos",
        description="A point must be confirmed by at least this many photos.",
        json_schema_extra={"short": True},
    )
    neighbors: int = Field(
        6, ge=1, le=12, title="Neighbors", description="How many other photos each photo is compared with."
    )
    rounds: int = Field(
        2, ge=1, le=8, title="Rounds", description="Sweeps over each photo: more is a little finer and slower."
    )
    min_score: float = Field(
        0.5,
        ge=0.0,
        le=0.99,
        title="Least likeness",
        description="Patches must look at least this much alike between photos (correlation, 1 is the same).",
    )
    sure_score: float = Field(
        0.7,
        ge=0.0,
        le=1.01,
        title="Sure likeness",
        description="One agreeing photo less is enough where patches look at least this much alike: folds and "
        "undersides that few photos see. Over 1: never.",
    )
    depth_tolerance: float = Field(
        0.6,
        ge=0.05,
        le=5,
        title="Depth agreement",
        description="Largest difference of depth between agreeing photos.",
        json_schema_extra={"unit": "% of the distance"},
    )
    color_tolerance: int = Field(
        80,
        ge=0,
        le=255,
        title="Color agreement",
        description="Largest difference of color between agreeing photos, exposure taken out; 0: any.",
        json_schema_extra={"unit": "of 255"},
    )
    nearest: float = Field(
        0.0,
        ge=0,
        title="Nearest",
        description="Depth begins so far from the camera: in mm where the job has a scale, else in its own unit. 0: "
        "where the keep box does.",
    )
    farthest: float = Field(
        0.0,
        ge=0,
        title="Farthest",
        description="Depth ends so far from the camera, in the same unit. 0: where the keep box does.",
    )
    sampling: float = Field(
        0.0,
        ge=0,
        title="Sampling",
        description="Least distance between two points of the cloud, in the same unit. 0: all points are kept.",
    )
    remove_isolated: bool = Field(
        True,
        title="Remove isolated points",
        description="Leave out points far from all others, and specks of a few.",
        json_schema_extra={"short": True},
    )
    outline_votes: int = Field(
        3,
        ge=0,
        le=50,
        title="Outline votes",
        description="Leave out points that fall outside the mask in at least this many photos; 0 switches this off.",
    )
    seed: int = Field(0, ge=0, le=999999, title="Random seed", description="The same seed gives the same cloud.")


class CloudStage(Stage):
    """Depth, fusion, cleaning."""

    name, title = "cloud", "Cloud"
    about = "Computes depth for every photo, fuses it into a dense colored cloud and cleans it."
    needs = ("poses",)
    takes = ("scale",)
    reads = "keep box"
    uses_keep_box = True
    keeps = "cloud"
    shows = frozenset({Shown.CLOUDS, Shown.DEPTH})
    Settings = Settings
    Figures = CloudFigures

    def takes_of(self, job, sitting):
        return [(sitting, "poses"), *super().takes_of(job, sitting)]

    def gather(self, job, sitting, settings, mode=""):
        poses = job.result(sitting.id, "poses")
        if poses is None:
            raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
        block, M = block_for_depth(job, sitting)
        box = move_box(plain_keep_box(job, sitting), M)
        found = costs(job, sitting, block, M, box, settings)
        folder = place_for(found, settings, str(job.blobs.folder)) if found else None
        photos, masks = photo_refs(job, sitting), mask_blobs(job, sitting)
        length = scale_of(M) / scale_of(frame_of(job, sitting).matrix)
        member = {p.id: k for k, i in enumerate(job.members(sitting.id)) for p in job.photos(i)}
        return Inputs(str(job.blobs.folder), photos, masks, block, box, M.tolist(), length, folder, member)

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
        return computing.CloudRun(inputs, settings, report).run()

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
