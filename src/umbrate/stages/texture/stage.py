"""Texture: the photos' colors on a surface."""

from functools import lru_cache
from typing import Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.geometry.similarity import scale_of
from ...core.later import Later
from ...job.blobs import BlobStore
from ...sitting.blocks import stored_block
from ...sitting.frames import frame_of
from ...sitting.masks import mask_blobs, soft_edges
from ...sitting.photos import photo_refs
from ..base import Shown, Stage, StageSettings, only
from ..dense.inputs import block_for_depth
from .figures import TextureFigures
from .inputs import Inputs

making = Later("umbrate.stages.texture.making")  # imported where it runs: in the worker
forecasts = Later("umbrate.stages.texture.forecast")


class Settings(StageSettings):
    """On what, how fine, from which photos."""

    surface: str = Field(
        "",
        title="Surface",
        description="Name of the surface it is put on, as it is mended now. Empty: the chosen one.",
        json_schema_extra={"short": True, "empty": "the chosen one", "named": True},
    )
    triangles: int = Field(
        100_000,
        ge=0,
        le=10_000_000,
        title="Thinned to",
        description="The surface is thinned to so many triangles for the texture; 0 takes it as it is.",
        json_schema_extra={"short": True, "unit": "triangles"},
    )
    side: Literal[1024, 2048, 4096, 8192, 16384] = Field(
        4096,
        title="Page",
        description="Texels along a side of a page.",
        json_schema_extra={
            "short": True,
            "labels": {1024: "1,024", 2048: "2,048", 4096: "4,096", 8192: "8,192", 16384: "16,384"},
        },
    )
    pages: int = Field(
        1,
        ge=1,
        le=64,
        title="Pages",
        description="How many pages there are at most.",
        json_schema_extra={"short": True},
    )
    size_by: Literal["pages", "texels"] = Field(
        "pages",
        title="Fineness by",
        description="Pages: as fine as fits onto them. Texels: so many for a mm, on as many pages as that takes.",
        json_schema_extra={"labels": {"pages": "pages", "texels": "texels for a mm"}},
    )
    texels: float = Field(
        10.0,
        gt=0,
        le=1e6,
        title="Texels",
        description="For a mm where the job has a scale, else for its own unit.",
        json_schema_extra=only("size_by", "texels"),
    )
    padding: int = Field(4, ge=1, le=64, title="Padding", description="Texels round each chart that no other one has.")
    normal_map: bool = Field(
        True,
        title="Normal map",
        description="Keep the detail of the fine surface on the thinned one, as pages of normals.",
    )
    occlusion_map: bool = Field(
        True,
        title="Occlusion map",
        description="How much of the light of an even sky reaches each place, as pages: it darkens hollows.",
    )
    leave_out: str = Field(
        "",
        title="Leave out",
        description="Names of photos that nothing is taken from, with commas between.",
        json_schema_extra={"empty": "no photo", "own": True},
    )
    even: bool = Field(
        True, title="Even exposures", description="Bring exposure and white balance of the photos to the same."
    )
    differing: bool = Field(
        True,
        title="Leave out what differs",
        description="Take nothing from a photo where it differs from what most show there: highlights, a hand.",
    )


@lru_cache(8)
def pixel_size(folder, key):
    """Width of a photo's pixel on the object, in the median over the photos of a block, in its frame."""
    b = stored_block(BlobStore(folder), key)
    rows = list(b.solved_rows.values())
    away = np.linalg.norm(b.eyes[rows] - np.median(b.points, axis=0), axis=1)
    return float(np.median(away / b.lenses[b.lens_of[rows], 0]))


class TextureStage(Stage):
    """Charts, a photo for every triangle, texels."""

    name, title = "texture", "Texture"
    about = "Puts the photos' colors onto the surface: pages of texels, as sharp as the photos."
    needs = ("surface",)
    reads = "the surface"
    shows = frozenset({Shown.SURFACES, Shown.TEXTURE})
    Settings = Settings
    Figures = TextureFigures

    def names_for(self, job, sitting, setting):
        return [s.name for s in job.surfaces(sitting.id)] if setting == "surface" else None

    @staticmethod
    def _surface(job, sitting, settings):
        kept = job.surface(sitting.id, settings.surface or None)
        if kept is None:
            raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
        return kept

    def gather(self, job, sitting, settings, mode=""):
        kept = self._surface(job, sitting, settings)
        if job.result(sitting.id, "poses") is None:
            raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
        block, M = block_for_depth(job, sitting)
        forecasts.check_memory(self._scene(job, sitting, settings, kept))
        to_block = M @ np.linalg.inv(np.array(kept.from_plain, float))
        return Inputs(
            str(job.blobs.folder), kept.steps[-1].blob if kept.steps else kept.blob, kept.name, kept.from_plain, block,
            to_block, scale_of(M) / scale_of(frame_of(job, sitting).matrix), photo_refs(job, sitting),
            mask_blobs(job, sitting), soft_edges(job, sitting),
        )  # fmt: skip

    @staticmethod
    def _scene(job, sitting, settings, kept):
        """The Scene that a run costs by; pages as the setting allows."""
        photos = photo_refs(job, sitting)
        fine = kept.left
        triangles = min(settings.triangles or fine, fine)
        pixels = float(np.mean([p.width * p.height for p in photos])) if photos else 0.0
        detail = settings.occlusion_map or (settings.normal_map and triangles < fine)
        return forecasts.Scene(
            fine, triangles, len(photos), pixels, settings.side, settings.pages, settings.side // 2 if detail else 0
        )  # fmt: skip

    def forecast(self, job, sitting, settings):
        """Texels for a length, on how many pages, time and memory."""
        try:
            kept = self._surface(job, sitting, settings)
        except UmbrateError:
            return None
        f, frame = kept.figures, frame_of(job, sitting)
        # of the surface's frame, in the job's
        unit = scale_of(frame.matrix) / scale_of(np.array(kept.from_plain, float))
        area = f["triangles"] / forecasts.CELL_AREA * (f["cell"] * f["spacing"] * unit) ** 2
        done, depth = (job.result(sitting.id, n) for n in ("texture", "cloud"))
        speed = (done.figures.speed if done else None) or forecasts.speed_of(depth.figures.speed if depth else None)
        pixel = 0.0
        if job.result(sitting.id, "poses") is not None:
            block, M = block_for_depth(job, sitting)
            pixel = pixel_size(str(job.blobs.folder), block) * scale_of(frame.matrix) / scale_of(M)
        return forecasts.forecast_of(
            settings, self._scene(job, sitting, settings, kept), area, pixel, speed, frame.unit
        )

    def key(self, job, sitting, settings):
        try:
            kept = self._surface(job, sitting, settings)
        except UmbrateError:
            return []
        measured = [scale_of(frame_of(job, sitting).matrix)] if settings.size_by == "texels" else []
        return [kept.blob, [s.blob for s in kept.steps], *measured]

    def run(self, inputs, settings, report):
        return making.run(inputs, settings, report)

    def headline(self, figures):
        return f"{figures.pages} x {figures.side:,}²", f"{100 * figures.unseen:.0f} % made up"
