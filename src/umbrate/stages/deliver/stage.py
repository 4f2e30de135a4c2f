"""Deliver: files for a purpose, checked before they leave."""

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import Field

from ...core.errors import UmbrateError
from ...core.later import Later
from ...sitting.frames import frame_of
from ...sitting.guarding import folder_names
from ..base import Shown, Stage, StageSettings
from .figures import DeliverFigures

making = Later("umbrate.stages.deliver.making")  # imported where it runs: in the worker

PURPOSES = {
    "print": "Print", "web": "Web and games", "page": "Page", "exchange": "Exchange", "cloud": "Cloud",
    "pictures": "Pictures", "archive": "Archive",
}  # fmt: skip
SOLID = ("print", "web", "page", "exchange", "pictures")  #: purposes that need a surface
TEXTURED = ("web", "page", "exchange", "pictures")  #: those that take its texture where it has one


def _of(purpose, short=True, unit=None, labels=None, empty=None, zero=None, **when):
    """What a field of one purpose (or several) says of itself; `when`: values that other settings must have."""
    purposes = (purpose,) if isinstance(purpose, str) else purpose
    extra = {"when": {"purpose": purposes, **{k: v if isinstance(v, tuple) else (v,) for k, v in when.items()}}}
    more = {"short": short, "unit": unit, "labels": labels, "empty": empty, "zero": zero}
    return extra | {k: v for k, v in more.items() if v}


class Settings(StageSettings):
    """For which purpose, where to, and what matters for it."""

    purpose: Literal["print", "web", "page", "exchange", "cloud", "pictures", "archive"] = Field(
        "print",
        title="Purpose",
        description="What the files are for: it decides what is made and checked.",
        json_schema_extra={"short": True, "labels": PURPOSES},
    )
    folder: str = Field(
        "",
        title="Folder",
        description="Where the files go. Empty: a folder beside the job, of its name with “delivered” behind it.",
        json_schema_extra={"kind": "folder", "short": True, "empty": "beside the job"},
    )
    file: str = Field(
        "",
        title="File name",
        description="What the files are called, without ending. Empty: as the job and the sitting are. Where a file of "
        "that name is there, a number is put behind it.",
        json_schema_extra={"empty": "the job's name", "own": True},
    )
    replace: bool = Field(
        False,
        title="Replace",
        description="Write over a file of that name. Photos, masks and other files that the job reads never are.",
        json_schema_extra={"own": True},
    )
    surface: str = Field(
        "",
        title="Surface",
        description="Name of the surface, as it is mended now. Empty: the chosen one.",
        json_schema_extra={**_of("print", empty="the chosen one"), "named": True},
    )
    triangles: int = Field(
        0,
        ge=0,
        le=100_000_000,
        title="At most",
        description="The surface is thinned to so many triangles; 0 takes it as it is.",
        json_schema_extra=_of(("print", "web", "page", "exchange"), unit="triangles", zero="as it is"),
    )
    # ------------------------------------------------------------------ print
    print_format: Literal["stl", "3mf"] = Field(
        "3mf",
        title="Format",
        description="3MF says that it is in millimeters; STL leaves that to whoever opens it.",
        json_schema_extra=_of("print", labels={"stl": "STL", "3mf": "3MF"}),
    )
    size_by: Literal["factor", "target"] = Field(
        "factor",
        title="Size by",
        description="A factor on the object's own size, or how long its longest side is to be.",
        json_schema_extra=_of("print", labels={"factor": "a factor", "target": "its longest side"}),
    )
    factor: float = Field(
        1.0, gt=0, le=1000, title="Factor", description="1 is the object's own size.",
        json_schema_extra=_of("print", size_by="factor"),
    )  # fmt: skip
    target: float = Field(
        100.0, gt=0, le=100_000, title="Longest side", description="Length of the longest side of the print.",
        json_schema_extra=_of("print", size_by="target", unit="mm"),
    )  # fmt: skip
    thin_wall: float = Field(
        1.0, ge=0, le=1000, title="Thinnest wall",
        description="Where the print is thinner than this it is said, and shown in the scene.",
        json_schema_extra=_of("print", unit="mm"),
    )  # fmt: skip
    hollow: bool = Field(
        False, title="Hollow", description="Leave the inside free: less material.", json_schema_extra=_of("print"),
    )  # fmt: skip
    wall: float = Field(
        2.0, gt=0, le=1000, title="Wall", description="Thickness of the wall of a hollow print.",
        json_schema_extra=_of("print", hollow=True, unit="mm"),
    )  # fmt: skip
    drains: int = Field(
        0, ge=0, le=12, title="Drain holes", description="Holes through the bottom, for resin or powder to leave by.",
        json_schema_extra=_of("print", hollow=True),
    )  # fmt: skip
    drain_width: float = Field(
        4.0, gt=0, le=100, title="Their width", description="Diameter of each drain hole.",
        json_schema_extra=_of("print", hollow=True, unit="mm"),
    )  # fmt: skip
    # ------------------------------------------------------------------ web, page, exchange
    color_by: Literal["texture", "vertices"] = Field(
        "texture",
        title="Colors",
        description="The texture where there is one, or the colors of the surface's vertices, which need no pages.",
        json_schema_extra=_of(
            ("web", "page", "exchange"), labels={"texture": "texture", "vertices": "of the vertices"}
        ),
    )
    page_side: Literal[512, 1024, 2048, 4096, 8192, 16384] = Field(
        4096,
        title="Pages of",
        description="Texels along a page of the texture, at most.",
        json_schema_extra=_of(
            ("web", "page", "exchange"),
            color_by="texture",
            labels={n: f"{n:,}" for n in (512, 1024, 2048, 4096, 8192, 16384)},
        ),
    )
    image_format: Literal["jpeg", "png"] = Field(
        "jpeg",
        title="Pages as",
        description="JPEG is small; PNG keeps every texel.",
        json_schema_extra=_of(("web", "exchange"), color_by="texture", labels={"jpeg": "JPEG", "png": "PNG"}),
    )
    web_mb: float = Field(
        20.0, ge=0, le=4000, title="File at most",
        description="Reached by stronger compression, then smaller pages, then fewer triangles; 0: as large as it is.",
        json_schema_extra=_of("web", unit="MB", zero="no limit"),
    )  # fmt: skip
    levels: int = Field(
        1, ge=1, le=5, title="Levels of detail",
        description="So many files, each with a quarter of the triangles and half the texels of the one before.",
        json_schema_extra=_of("web"),
    )  # fmt: skip
    page_mb: float = Field(
        15.0, ge=0, le=500, title="File at most",
        description="Reached by stronger compression, then smaller pages, then fewer triangles; 0: as large as it is.",
        json_schema_extra=_of("page", unit="MB", zero="no limit"),
    )  # fmt: skip
    exchange_format: Literal["obj", "ply"] = Field(
        "obj",
        title="Format",
        description="OBJ with its texture beside it, or PLY with colors of its vertices.",
        json_schema_extra=_of("exchange", labels={"obj": "OBJ, MTL, texture", "ply": "PLY"}),
    )
    up: Literal["z", "y"] = Field(
        "z", title="Up is", description="Which axis is up in the file.",
        json_schema_extra=_of("exchange", labels={"z": "z", "y": "y"}),
    )  # fmt: skip
    length_unit: Literal["mm", "cm", "m"] = Field(
        "mm", title="Unit", description="Of the coordinates in the file, where the job has a scale.",
        json_schema_extra=_of("exchange", labels={"mm": "mm", "cm": "cm", "m": "m"}),
    )  # fmt: skip
    origin: Literal["frame", "base", "middle"] = Field(
        "frame", title="Zero is", description="Where the coordinates begin.",
        json_schema_extra=_of(
            "exchange", labels={"frame": "that of the job", "base": "below its middle", "middle": "its middle"}
        ),
    )  # fmt: skip
    # ------------------------------------------------------------------ cloud
    cloud: str = Field(
        "", title="Cloud", description="Name of the cloud, as it is cleaned now. Empty: the chosen one.",
        json_schema_extra={**_of("cloud", empty="the chosen one"), "named": True},
    )  # fmt: skip
    cloud_format: Literal["ply", "las", "laz", "e57", "xyz", "csv"] = Field(
        "ply", title="Format", description="Kind of file the cloud is written as.",
        json_schema_extra=_of("cloud", labels={k: k.upper() for k in ("ply", "las", "laz", "e57", "xyz", "csv")}),
    )  # fmt: skip
    spacing: float = Field(
        0.0, ge=0, le=1e6, title="Thinned to",
        description="One point is left within so much, in the job's unit; 0 leaves all of them.",
        json_schema_extra=_of("cloud", unit="mm", zero="all points"),
    )  # fmt: skip
    # ------------------------------------------------------------------ pictures
    picture: Literal["spin", "sides", "orthophoto"] = Field(
        "spin",
        title="Picture",
        description="The object turning; a sheet of its six sides at one scale; one side at a stated size of pixels.",
        json_schema_extra=_of("pictures", labels={"spin": "turning", "sides": "six sides", "orthophoto": "orthophoto"}),
    )
    film: Literal["mp4", "gif"] = Field(
        "mp4", title="Format", description="MP4 for programs and pages; GIF for what shows pictures alone.",
        json_schema_extra=_of("pictures", picture="spin", labels={"mp4": "MP4", "gif": "GIF"}),
    )  # fmt: skip
    turns: float = Field(
        1.0, gt=0, le=100, title="Turns", description="How often the object turns in the film.",
        json_schema_extra=_of("pictures", picture="spin"),
    )  # fmt: skip
    film_seconds: float = Field(
        8.0, gt=0, le=600, title="Takes", description="How long the film is.",
        json_schema_extra=_of("pictures", picture="spin", unit="s"),
    )  # fmt: skip
    sheet_format: Literal["png", "pdf"] = Field(
        "png", title="Format", description="PDF is of A4, with the scale of the print stated.",
        json_schema_extra=_of("pictures", picture="sides", labels={"png": "PNG", "pdf": "PDF"}),
    )  # fmt: skip
    side: Literal["front", "right", "back", "left", "top", "bottom"] = Field(
        "front", title="Side", description="From where one looks.",
        json_schema_extra=_of("pictures", picture="orthophoto", labels={
            k: k for k in ("front", "right", "back", "left", "top", "bottom")
        }),
    )  # fmt: skip
    pixel: float = Field(
        0.1, gt=0, le=1e6, title="A pixel is", description="Of the orthophoto, on the object.",
        json_schema_extra=_of("pictures", picture="orthophoto", unit="mm"),
    )  # fmt: skip
    width: int = Field(
        1280, ge=64, le=20_000, title="Width", description="Pixels of the picture.",
        json_schema_extra=_of("pictures", picture=("spin", "sides"), unit="pixels"),
    )  # fmt: skip
    look: Literal["texture", "plain"] = Field(
        "texture", title="Look", description="In the colors of the photos, or the shape alone.",
        json_schema_extra=_of("pictures", labels={"texture": "as photographed", "plain": "shape alone"}),
    )  # fmt: skip
    ground: Literal["dark", "gray", "white"] = Field(
        "dark", title="Ground", description="What is behind the object.",
        json_schema_extra=_of("pictures", picture=("spin", "sides"), labels={k: k for k in ("dark", "gray", "white")}),
    )  # fmt: skip
    # ------------------------------------------------------------------ archive
    as_zip: bool = Field(
        False, title="One file", description="A zip in the place of a folder.", json_schema_extra=_of("archive"),
    )  # fmt: skip
    with_photos: bool = Field(
        False, title="With photos", description="Copies of the photos themselves; else their names and hashes.",
        json_schema_extra=_of("archive"),
    )  # fmt: skip


@dataclass(frozen=True)
class Inputs:
    """Where the job is, and what is known of earlier deliveries."""

    job: str
    sitting: int
    folder: str
    name: str
    made: list
    sources: dict


def values_of(settings):
    """The settings that count for the purpose, as plain values."""
    values = settings.model_dump(mode="json")
    fields = type(settings).model_fields
    out = {}
    for n, f in fields.items():
        when = (f.json_schema_extra or {}).get("when", {})
        if n not in ("folder", "file", "replace", "purpose") and all(values[k] in v for k, v in when.items()):
            out[n] = values[n]
    return out


def _refuse(kind, name, sitting, have):
    """Raise where a sitting has no surface or cloud, or none of a name."""
    if name and have:
        names = ", ".join(f"“{x.name}”" for x in have)
        raise UmbrateError(f"There is no {kind} “{name}” (there is: {names}).", ("set", kind, ""))
    what = "dense cloud" if kind == "cloud" else kind
    raise UmbrateError(f"“{sitting.name}” has no {what} yet. Run {kind.title()} first.", ("go to", kind))


def _mark_of(job, sitting, name, number):
    """See `DeliverStage._mark`."""
    if name == "frame":
        frame = frame_of(job, sitting)
        things = [frame.matrix.tolist(), frame.unit, [float(x) for x in frame.offset]]
    elif name in ("texture", "poses"):
        done = job.result(sitting.id, name)
        if done is None:
            return None
        things = sorted((what, key) for (what, photo), key in done.artefacts.items() if photo is None)
    else:
        have = job.surfaces(sitting.id) if name == "surface" else job.clouds(sitting.id)
        kept = next((x for x in have if x.id == number), None)
        if kept is None:
            return None
        things = [kept.blob, [s.blob for s in kept.steps]]
    return hashlib.sha256(json.dumps(things).encode()).hexdigest()[:16]


def folder_of(job, settings):
    """The folder that deliveries go to; one that does not begin at the root lies beside the job."""
    if settings.folder.strip():
        return job.folder.parent / Path(settings.folder.strip()).expanduser()
    return job.folder.with_name(f"{job.folder.stem}-delivered")


class DeliverStage(Stage):
    """Files for a purpose, written aside, read back and checked, then named."""

    name, title = "deliver", "Deliver"
    about = "Makes files for a purpose from what is there, reads them back and checks them."
    reads = "what is delivered"
    shows = frozenset({Shown.SURFACES, Shown.TEXTURE})
    only_asked = True
    Settings = Settings
    Figures = DeliverFigures
    papers = None  #: callable(job, sitting, folder): writes what people found out, for archives; see `actions.papers`

    def names_for(self, job, sitting, setting):
        if setting == "surface":
            return [s.name for s in job.surfaces(sitting.id)]
        return [c.name for c in job.clouds(sitting.id)] if setting == "cloud" else None

    def as_next(self, sitting):
        return "deliver files"

    def needs_in(self, job, sitting):
        values = job.settings(sitting.id, self.name)
        purpose = values.get("purpose", "print")
        if self._is_textured(job, sitting, purpose, values.get("color_by", "texture")):
            return ("texture",)
        if purpose in SOLID:
            return ("surface",)
        return ("cloud",) if purpose == "cloud" and not self._united(job, sitting) else ("poses",)

    @staticmethod
    def _is_textured(job, sitting, purpose, color_by):
        """Whether a delivery is made from the texture of the surface."""
        colored = purpose == "pictures" or (purpose in TEXTURED and color_by == "texture")
        return colored and job.result(sitting.id, "texture") is not None

    @staticmethod
    def _united(job, sitting):
        """Whether the sitting has clouds without a result of Cloud: put together from others."""
        return job.result(sitting.id, "cloud") is None and bool(job.clouds(sitting.id))

    def _mark(self, job, sitting, name, number):
        """A mark of what a source is now, by its name and, of several side by side, its number; None: it is gone."""
        return job.once_a_glance(
            ("delivered from", sitting.id, name, number), lambda: _mark_of(job, sitting, name, number)
        )

    def sources_of(self, job, sitting, settings):
        """What a delivery with some settings is made from, by name: (number or None, mark of its content).

        A surface or cloud has a number, which stays whatever it is called and whichever is chosen later.

        Raises
        ------
        UmbrateError
            Where it is not there.
        """
        purpose, of = settings.purpose, {"frame": None}
        if purpose == "archive":
            if job.result(sitting.id, "poses") is None:
                raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
            kept = {"cloud": job.cloud(sitting.id), "surface": job.surface(sitting.id)}
            of |= {"poses": None} | {kind: x.id for kind, x in kept.items() if x is not None}
            of |= {"texture": None} if job.result(sitting.id, "texture") is not None else {}
        elif self._is_textured(job, sitting, purpose, settings.color_by):
            of["texture"] = None
        else:
            kind = "cloud" if purpose == "cloud" else "surface"
            name = settings.cloud if kind == "cloud" else settings.surface if purpose == "print" else ""
            get, every = (job.cloud, job.clouds) if kind == "cloud" else (job.surface, job.surfaces)
            kept = get(sitting.id, name or None)
            if kept is None:
                _refuse(kind, name, sitting, every(sitting.id))
            of[kind] = kept.id
        return {name: (number, self._mark(job, sitting, name, number)) for name, number in of.items()}

    def stale(self, job, sitting, made):
        """Why a Made does not hold any more, in a few words; "" where it does."""
        for name, (number, mark) in made.sources.items():
            now = self._mark(job, sitting, name, number)
            if now != mark:
                return f"{name} {'changed' if now else 'is gone'}"
        return ""

    def settings_again(self, job, sitting, made):
        """The settings that make a Made once more, as plain values; what it names may have another name by now."""
        values = {**made.settings, "purpose": made.purpose, "folder": made.folder, "file": made.name}
        for kind, every in (("surface", job.surfaces), ("cloud", job.clouds)):
            if values.get(kind) and kind in made.sources:
                names = {x.id: x.name for x in every(sitting.id)}
                values[kind] = names.get(made.sources[kind][0], values[kind])
        return values

    def gather(self, job, sitting, settings, mode=""):
        sources = self.sources_of(job, sitting, settings)
        done = job.result(sitting.id, self.name)
        several = len(job.sittings()) > 1
        name = settings.file.strip() or (
            f"{job.folder.stem} {folder_names(job.sittings())[sitting.id]}" if several else job.folder.stem
        )
        made = list(done.figures.made) if done else []
        return Inputs(str(job.folder), sitting.id, str(folder_of(job, settings)), name, made, sources)

    def key(self, job, sitting, settings):
        try:
            return [self.sources_of(job, sitting, settings)]
        except UmbrateError:
            return []

    def run(self, inputs, settings, report):
        return making.run(inputs, settings, report, type(self).papers)

    def headline(self, figures):
        n = len(figures.made)
        last = figures.made[-1] if figures.made else None
        return f"{n} deliver{'y' if n == 1 else 'ies'}", PURPOSES[last.purpose] if last else ""

    def headline_of(self, job, sitting, done):
        first, second = self.headline(done.figures)
        stale = sum(bool(self.stale(job, sitting, m)) for m in done.figures.made)
        return first, f"{stale} stale" if stale else second
