"""Surface: triangles from a cloud, closed or open."""

from typing import Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.later import Later
from ...sitting.clouds import CloudSource, spacing_known, to_job
from ...sitting.frames import frame_of, move_box, plain_keep_box
from ..base import Forecast, Shown, Stage, StageSettings, only
from ..dense.inputs import gather_dense
from ..dense.settings import DenseSettings
from .figures import SurfaceFigures
from .inputs import Inputs

making = Later("umbrate.stages.surface.making")  # imported where it runs: in the worker
forecasts = Later("umbrate.stages.surface.forecast")
build = Later("umbrate.core.surface.build")


class Settings(StageSettings):
    """From what, how fine, closed or open."""

    source: Literal["cloud", "depth"] = Field(
        "cloud",
        title="Made from",
        description="A cloud: any of those of the sitting, as it is cleaned now. The depth maps: those of the last run "
        "of Cloud, fused anew; what photos saw through stays empty. Cleaning by hand does not count then.",
        json_schema_extra={
            "short": True,
            "later": True,
            "labels": {"cloud": "a cloud", "depth": "the depth maps"},
        },
    )
    agreeing: int = Field(
        2,
        ge=2,
        le=10,
        title="Agreeing photos",
        description="So many photos must show the same place. Two reach deeper into holes than three, and take what is "
        "unsure for sure more often.",
        json_schema_extra=only("source", "depth", later=True),
    )
    cloud: str = Field(
        "",
        title="Cloud",
        description="Name of the cloud it is made from, as it is cleaned now. Empty: the chosen one.",
        json_schema_extra=only("source", "cloud", short=True, empty="the chosen one", named=True),
    )
    mode: Literal["closed", "open"] = Field(
        "closed",
        title="Holes",
        description="Closed: the surface has an inside, for prints and volumes; parts without points are marked. Open: "
        "there is surface only where there are points.",
        json_schema_extra={"short": True, "labels": {"closed": "close them", "open": "leave them open"}},
    )
    style: Literal["smooth", "edges"] = Field(
        "smooth",
        title="Style",
        description="Smooth: for what was grown or worn. Keep edges: for what was made with edges.",
        json_schema_extra={"short": True, "labels": {"smooth": "smooth", "edges": "keep edges"}},
    )
    size_by: Literal["spacings", "length", "triangles"] = Field(
        "spacings",
        title="Fineness by",
        description="What says how fine it is.",
        json_schema_extra={
            "short": True,
            "labels": {"spacings": "spacings of the cloud", "length": "length", "triangles": "number of triangles"},
        },
    )
    cell: float = Field(
        2.0,
        ge=0.5,
        le=100,
        title="Cell",
        description="Width of the cells it is cut out of, in distances of the cloud's points. Triangles are about as "
        "large. Under 1.5 shows noise.",
        json_schema_extra=only("size_by", "spacings", unit="spacings", short=True),
    )
    length: float = Field(
        0.5,
        gt=0,
        le=1e6,
        title="Cell",
        description="Width of the cells, in mm where the job has a scale, else in its own unit.",
        json_schema_extra=only("size_by", "length", short=True),
    )
    triangles: int = Field(
        500_000,
        ge=1000,
        le=100_000_000,
        title="Triangles",
        description="About so many triangles.",
        json_schema_extra=only("size_by", "triangles", short=True),
    )
    radius: float = Field(
        3.0,
        ge=1.5,
        le=20,
        title="Averaged over",
        description="Points within this distance count for a place of the surface: more is smoother.",
        json_schema_extra={"unit": "spacings"},
    )
    reach: float = Field(
        3.0,
        ge=1,
        le=100,
        title="Reach",
        description="Farther from all points than this there is no support: an open surface ends there, a closed one "
        "is marked as filled.",
        json_schema_extra={"unit": "spacings"},
    )
    least_piece: float = Field(
        0.5,
        ge=0,
        le=50,
        title="Least piece",
        description="Pieces with less than this share of the area are left out.",
        json_schema_extra={"unit": "%"},
    )


class SurfaceStage(Stage):
    """An implicit function through the cloud's points, cut out as triangles."""

    name, title = "surface", "Surface"
    when_stopped = (
        "Results of the steps before are saved, and depth maps that are finished. The surface itself starts anew."
    )
    about = "Makes triangles from the cloud: a surface that is closed, or open where nothing was seen."
    needs = ("cloud",)
    reads = "the cloud or the keep box"
    uses_keep_box = True
    keeps = "surface"
    shows = frozenset({Shown.SURFACES})
    Settings = Settings
    Figures = SurfaceFigures

    def needs_in(self, job, sitting):
        # a cloud that was put together from those of its sittings has no run behind it
        put_together = job.result(sitting.id, "cloud") is None and job.cloud(sitting.id) is not None
        return () if put_together else self.needs

    def names_for(self, job, sitting, setting):
        return [c.name for c in job.clouds(sitting.id)] if setting == "cloud" else None

    @staticmethod
    def _cloud(job, sitting, settings):
        kept = job.cloud(sitting.id, settings.cloud or None)
        if kept is None:
            raise UmbrateError(f"“{sitting.name}” has no cloud yet. Run Cloud first.", ("go to", "cloud"))
        return kept

    @staticmethod
    def cell_of(settings, points, spacing, length):
        """The width of cells in spacings.

        spacing : of the points, length : of the job's unit, both in the cloud's frame
        """
        if settings.size_by == "length":
            return settings.length * length / max(spacing, 1e-30)
        if settings.size_by == "triangles":
            return build.cell_for(points, settings.triangles)
        return settings.cell

    @staticmethod
    def _dense(job, sitting, settings):
        """The last run of Cloud, and the settings its depth maps are fused with here."""
        done = job.result(sitting.id, "cloud")
        if done is None:
            text = f"“{sitting.name}” has no depth maps yet."
            if job.cloud(sitting.id) is None:
                raise UmbrateError(f"{text} Run Cloud first.", ("go to", "cloud"))
            raise UmbrateError(
                f"{text} Its cloud was put together from those of the sittings: run Cloud on the whole, or make the "
                "surface from a cloud.",
                ("set", "source", "cloud"),
            )
        known = {k: v for k, v in done.settings.items() if k in DenseSettings.model_fields}
        return done, DenseSettings(**{**known, "min_photos": settings.agreeing})

    def _size(self, job, sitting, settings):
        """Points, their distance from each other and a length of the job's unit in their frame, without computing;
        nothing where an older job does not tell."""
        if settings.source == "depth":
            done, _ = self._dense(job, sitting, settings)
            M, count, spacing = np.array(done.figures.from_plain), done.figures.points, done.figures.spacing or None
            length = scale_of(M) / scale_of(frame_of(job, sitting).matrix)
        else:
            kept = self._cloud(job, sitting, settings)
            length = 1.0 / scale_of(to_job(job, sitting, kept))
            count, spacing = kept.left, spacing_known(kept)
        return (count, spacing, length) if spacing is not None else None

    def gather(self, job, sitting, settings, mode=""):
        known = self._size(job, sitting, settings)
        if known:
            count, spacing, length = known
            cell = self.cell_of(settings, count, spacing, length)
            forecasts.check_memory(count, cell, spacing / length)
        blobs = str(job.blobs.folder)
        if settings.source == "depth":
            _, dense = self._dense(job, sitting, settings)
            source = gather_dense(job, sitting, dense)
            return Inputs(
                blobs, (source, dense), "the depth maps", source.from_plain, source.keep_box, source.length
            )  # fmt: skip
        kept = self._cloud(job, sitting, settings)
        box = plain_keep_box(job, sitting)
        box = move_box(box, np.array(kept.from_plain, float)) if box else None
        source = CloudSource(blobs, kept.blob, tuple(s.blob for s in kept.steps), np.eye(4))
        return Inputs(blobs, source, kept.name, kept.from_plain, box, 1.0 / scale_of(to_job(job, sitting, kept)))

    def forecast(self, job, sitting, settings):
        """Triangles, time and memory."""
        try:
            known = self._size(job, sitting, settings)
        except UmbrateError as e:
            return Forecast(str(e), False, e.remedy) if settings.source == "depth" else None
        if known is None:
            return None  # of an older job; reading the cloud would keep people waiting
        count, spacing, length = known
        done, depth = (job.result(sitting.id, n) for n in ("surface", "cloud"))
        speed = (done.figures.speed if done else None) or forecasts.speed_of(depth.figures.speed if depth else None)
        before = depth.figures.prepare_s + depth.figures.fuse_s if settings.source == "depth" else 0.0
        cell = self.cell_of(settings, count, spacing, length)
        return forecasts.forecast_of(count, cell, speed, spacing / length, frame_of(job, sitting).unit, before)

    def key(self, job, sitting, settings):
        box = job.keep_box(sitting.id)
        if settings.source == "depth":
            # by what Cloud read they are known already; what a mm is matters where the cells are told in it
            return [box, *([scale_of(frame_of(job, sitting).matrix)] if settings.size_by == "length" else [])]
        try:
            kept = self._cloud(job, sitting, settings)
        except UmbrateError:
            return [box]  # it was removed: gathering says so
        measured = [scale_of(to_job(job, sitting, kept))] if settings.size_by == "length" else []
        return [box, kept.blob, [s.blob for s in kept.steps], *measured]

    def run(self, inputs, settings, report):
        return making.run(inputs, settings, report, self.cell_of)

    def headline(self, figures):
        n = figures.triangles
        what = f"{100 * figures.filled:.0f} % filled" if figures.closed else "open"
        return f"{n / 1e6:.2f} M triangles" if n >= 1e6 else f"{n / 1e3:.0f} k triangles", what
