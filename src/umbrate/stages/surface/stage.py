"""Surface: triangles from a cloud, closed or open."""

from typing import Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.later import Later
from ...sitting.clouds import CloudSource, spacing_known, to_job
from ...sitting.frames import frame_of, move_box, plain_keep_box
from ..base import Shown, Stage, StageSettings, only
from .figures import SurfaceFigures
from .inputs import Inputs

making = Later("umbrate.stages.surface.making")  # imported where it runs: in the worker
forecasts = Later("umbrate.stages.surface.forecast")
build = Later("umbrate.core.surface.build")


class Settings(StageSettings):
    """From what, how fine, closed or open."""

    cloud: str = Field(
        "",
        title="Cloud",
        description="Name of the cloud it is made from, as it is cleaned now. Empty: the chosen one.",
        json_schema_extra={"short": True, "empty": "the chosen one"},
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

    def gather(self, job, sitting, settings, mode=""):
        kept = self._cloud(job, sitting, settings)
        length = 1.0 / scale_of(to_job(job, sitting, kept))
        spacing = spacing_known(kept)
        if spacing is not None:
            forecasts.check_memory(
                kept.left, self.cell_of(settings, kept.left, spacing, length), spacing / length
            )  # fmt: skip
        box = plain_keep_box(job, sitting)
        source = CloudSource(str(job.blobs.folder), kept.blob, tuple(s.blob for s in kept.steps), np.eye(4))
        box = move_box(box, np.array(kept.from_plain, float)) if box else None
        return Inputs(source, kept.name, kept.from_plain, box, length)

    def forecast(self, job, sitting, settings):
        """Triangles, time and memory."""
        try:
            kept = self._cloud(job, sitting, settings)
        except UmbrateError:
            return None
        spacing = spacing_known(kept)
        if spacing is None:
            return None  # of an older job; reading the cloud would keep people waiting
        done, depth = (job.result(sitting.id, n) for n in ("surface", "cloud"))
        speed = (done.figures.speed if done else None) or forecasts.speed_of(depth.figures.speed if depth else None)
        length = 1.0 / scale_of(to_job(job, sitting, kept))
        cell = self.cell_of(settings, kept.left, spacing, length)
        return forecasts.forecast_of(kept.left, cell, speed, spacing / length, frame_of(job, sitting).unit)

    def key(self, job, sitting, settings):
        try:
            kept = self._cloud(job, sitting, settings)
        except UmbrateError:
            return [job.keep_box(sitting.id)]  # it was removed: gathering says so
        # what a mm is matters where the cells are told in it
        measured = [scale_of(to_job(job, sitting, kept))] if settings.size_by == "length" else []
        return [job.keep_box(sitting.id), kept.blob, [s.blob for s in kept.steps], *measured]

    def run(self, inputs, settings, report):
        return making.run(inputs, settings, report, self.cell_of)

    def headline(self, figures):
        n = figures.triangles
        what = f"{100 * figures.filled:.0f} % filled" if figures.closed else "open"
        return f"{n / 1e6:.2f} M triangles" if n >= 1e6 else f"{n / 1e3:.0f} k triangles", what
