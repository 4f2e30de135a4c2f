"""Masks: from files, or made from the photos themselves."""

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import Field, field_validator

from ...core.errors import UmbrateError
from ...core.imaging.sharpness import soft_ones
from ...core.masking.clean import doubts
from ...formats.files import files_below
from ...sitting.photos import check_content, located, photo_key, photo_refs
from ..base import Forecast, Outcome, Share, Shown, Stage, StageSettings, only, problem
from ..sharpness import sharpness_histogram, soft_problems
from .figures import METHODS, MasksFigures
from .files import mask_from_alpha, mask_from_file, match_files, propose_pattern
from .making import add_turning, make_masks, parse_color

MADE = ("plate", "still", "color")  #: methods that make masks from the photos
#: of settings that count for masks that are cleaned: those that are made, and files where that is wanted
CLEANED = only("method", *MADE) | {"or": {"method": ("files", "alpha"), "clean_files": (True,)}}


class Settings(StageSettings):
    """How masks come about."""

    method: Literal["files", "alpha", "plate", "still", "color"] = Field(
        "files",
        title="Masks from",
        description="Files beside the photos; the photos' own alpha channel; a plate: photos of the bare backdrop from "
        "the same places; what stands still while the object turns; or the color of a backdrop cloth.",
        json_schema_extra={"short": True, "labels": METHODS},
    )
    folder: str = Field(
        "",
        title="Folder",
        description="Folder with the mask files; empty: work without masks.",
        json_schema_extra=only("method", "files", kind="folder", short=True),
    )
    pattern: str = Field(
        "{name}.png",
        title="File name",
        description="How a mask's file is named; {name} stands for the photo's name without its ending, "
        "* for anything.",
        json_schema_extra=only("method", "files", short=True),
    )
    white_is_object: bool = Field(
        True,
        title="White is the object",
        description="Off: black is the object and white is what to leave out.",
        json_schema_extra=only("method", "files", "alpha", short=True),
    )
    plates: str = Field(
        "",
        title="Plates",
        description="Folder with photos of the bare backdrop, one from each place the camera stood at; the sitting's "
        "own plates are used besides.",
        json_schema_extra=only("method", "plate", kind="folder", short=True),
    )
    backdrop_color: str = Field(
        "#46AF5A",
        title="Backdrop color",
        description="The color of the backdrop cloth, as #RRGGBB.",
        json_schema_extra=only("method", "color", kind="color", short=True),
    )
    key_share: float = Field(
        0.72,
        ge=0.3,
        le=0.98,
        title="Backdrop share",
        description="A pixel is backdrop where its color is that of the backdrop to more than this share.",
        json_schema_extra=only("method", "color"),
    )
    tolerance: float = Field(
        0.10,
        ge=0.02,
        le=0.5,
        title="Tolerance",
        description="How unlike the backdrop a color must be to count as the object: more leaves out more.",
        json_schema_extra=only("method", "plate", "still"),
    )
    shadow: float = Field(
        0.3,
        ge=0.05,
        le=1.0,
        title="Darkest shadow",
        description="Shadows on the backdrop down to this share of its brightness are not taken for the object.",
        json_schema_extra=only("method", "plate", "still"),
    )
    leave_out: str = Field(
        "",
        title="Leave out colors",
        description="Colors of what turns with the object and is not part of it, such as a foam block: #RRGGBB, "
        "several with commas between.",
        json_schema_extra=only("method", *MADE, kind="colors", short=True),
    )
    leave_out_tolerance: float = Field(
        0.06,
        ge=0.01,
        le=0.5,
        title="Leave-out tolerance",
        description="How unlike a left-out color may be and still be left out.",
        json_schema_extra=only("method", *MADE),
    )
    clean_files: bool = Field(
        False,
        title="Clean the files",
        description="Mask files are cleaned as made masks are: pieces, holes, outline. The files stay as they are.",
        json_schema_extra=only("method", "files", "alpha", later=True),
    )
    main_pieces: bool = Field(
        True,
        title="Main pieces only",
        description="Drop pieces smaller than a tenth of the largest.",
        json_schema_extra=CLEANED,
    )
    holes: float = Field(
        2.0,
        ge=0.0,
        le=50.0,
        title="Fill holes",
        description="Holes up to this share of the object are filled.",
        json_schema_extra=CLEANED | {"unit": "%"},
    )
    around: Literal["found", "left out"] = Field(
        "found",
        title="What turns with it",
        description="Found: where the camera stood still, what turns with the object (disc, mat, foam) is marked in "
        "the masks. It helps to solve photos that stay out otherwise, and is never part of the object.",
        json_schema_extra={"labels": {"found": "is found", "left out": "is left out"}, "later": True},
    )
    grow_px: int = Field(
        0,
        ge=-50,
        le=50,
        title="Widen by",
        description="Widen the outline by so many pixels, or narrow it where negative.",
        json_schema_extra=CLEANED | {"unit": "px"},
    )
    soft_px: int = Field(
        0,
        ge=0,
        le=200,
        title="Soft edge",
        description="So near to the outline a photo counts the less the nearer: in textures, and where outlines rule "
        "out points. For outlines that are not sure to the pixel.",
        json_schema_extra={"unit": "px", "later": True},
    )

    @field_validator("backdrop_color")
    @classmethod
    def _one_color(cls, value):
        parse_color(value)
        return value

    @field_validator("leave_out")
    @classmethod
    def _colors(cls, value):
        for c in value.split(","):
            if c.strip():
                parse_color(c)
        return value


@dataclass(frozen=True)
class Inputs:
    """The photos to mask."""

    blobs: str
    photos: list
    plates: list  #: files of the sitting's own plates


class MasksStage(Stage):
    """Read masks or make them."""

    name, title = "masks", "Masks"
    about = "Takes or makes a mask for every photo. Without masks the whole picture is used."
    needs = ("photos",)
    reads = "photos or mask files"
    Settings = Settings
    Figures = MasksFigures
    of_members = True
    shows = frozenset({Shown.MASKS})
    needs_preview = MADE

    def applies(self, sitting):
        return not sitting.members

    def gather(self, job, sitting, settings, mode=""):
        photos = photo_refs(job, sitting)
        if not photos:
            raise UmbrateError(f"“{sitting.name}” has no photos in use. Bring in photos first.", ("bring in photos",))
        return Inputs(str(job.blobs.folder), photos, self._plate_files(job, sitting, settings))

    def _plate_files(self, job, sitting, settings):
        plates = [located(job, p) for p in self._plates(job, sitting)]
        if settings.method == "plate":
            for p in plates:
                check_content(p)
        return [p.path for p in plates]

    @staticmethod
    def _plates(job, sitting):
        return [p for p in job.photos(sitting.id) if p.plate]

    def key(self, job, sitting, settings):
        folder = {"files": settings.folder, "plate": settings.plates}.get(settings.method, "")
        stamp = []
        if folder and Path(folder).is_dir():
            stamp = [[str(p.relative_to(folder)), p.stat().st_mtime_ns, p.stat().st_size] for p in files_below(folder)]
        if settings.method == "plate":
            stamp.append([p.hash for p in self._plates(job, sitting)])
        return [photo_key(job, sitting), stamp]

    def run(self, inputs, settings, report):
        n, spare, shared = len(inputs.photos), [], []
        whole, around = report, settings.around == "found"
        report = Share(whole, 0.0, 0.8) if around else whole
        if settings.method == "files":
            if not settings.folder:
                return Outcome(MasksFigures(photos=n, masks=0, method="none"))
            self._check_files(settings)
        if settings.method in MADE:
            made = list(make_masks(inputs, settings, report).values())
        else:
            read, items = mask_from_alpha, inputs.photos
            if settings.method == "files":
                matches = match_files(settings.folder, settings.pattern, inputs.photos)
                read, items = mask_from_file, [(p, matches.file.get(p.id)) for p in inputs.photos]
                spare, shared = matches.spare, matches.shared()
            made = report.map(partial(read, inputs.blobs, settings), items, "reading mask")
        if around:
            made = add_turning(inputs.blobs, inputs.photos, made, whole)
        found = [m for m in made if m.mask]
        found_in = [p for p, m in zip(inputs.photos, made, strict=True) if m.mask]
        if not found:
            where = f" in {settings.folder}" if settings.method == "files" else ""
            raise UmbrateError(
                f"None of the {n} photos has a usable mask{where}. First of all: {made[0].trouble['text']}",
                ("set", "folder", "") if settings.method == "files" else ("set", "method", "files"),
            )
        artefacts = {}
        for p, m in zip(inputs.photos, made, strict=True):
            if m.mask:
                artefacts["mask", p.id], artefacts["silhouette", p.id] = m.mask, m.silhouette
        return Outcome(
            MasksFigures(
                photos=n,
                masks=len(found),
                share=round(float(np.median([m.area / (p.width * p.height) for p, m in self._pairs(inputs, made)])), 4),
                turning=round(float(np.median([m.turning for m in found])), 4),
                method=settings.method,
                soft_edge=settings.soft_px,
                things={p.id: m.thing for p, m in self._pairs(inputs, made) if m.thing},
                sharpness={p.id: round(m.sharpness, 4) for p, m in self._pairs(inputs, made)},
                soft=[found_in[k].id for k in soft_ones([m.sharpness for m in found])],
            ),
            artefacts,
            [
                *(m.trouble for m in made if m.trouble),
                *self._spare(spare),
                *self._shared(shared),
                *self._doubts(inputs, made),
                *self._soft(inputs, made),
            ],
        )

    def forecast(self, job, sitting, settings):
        """Which mask files go with the photos, before any is read."""
        if settings.method != "files" or not settings.folder or not Path(settings.folder).is_dir():
            return None
        photos = photo_refs(job, sitting)
        found = match_files(settings.folder, settings.pattern, photos)
        if not found.missing:
            first = found.file[photos[0].id] if photos else ""
            n = len(found.spare)
            spare = f" {n} more {'file goes' if n == 1 else 'files go'} with no photo." if n else ""
            return Forecast(f"All {len(photos)} photos have a mask file, the first {Path(first).name}.{spare}")
        names = ", ".join(p.name for p in found.missing[:3])
        more = f" and {len(found.missing) - 3} more" if len(found.missing) > 3 else ""
        text = f"{len(found.file)} of {len(photos)} photos have a mask file. Without one: {names}{more}."
        better = propose_pattern(settings.folder, photos)
        if better and better != settings.pattern:
            count = len(match_files(settings.folder, better, photos).file)
            if count > len(found.file):
                text += f" Files named {better} would go with {count}."
                return Forecast(text, False, ("set", "pattern", better))
        return Forecast(text, False)

    def preview(self, inputs, settings, photo_ids, report):
        return make_masks(inputs, settings, report, photo_ids)

    @staticmethod
    def _pairs(inputs, made):
        return [(p, m) for p, m in zip(inputs.photos, made, strict=True) if m.mask]

    @staticmethod
    def _check_files(settings):
        folder = Path(settings.folder)
        if not folder.is_dir():
            raise UmbrateError(
                f"The mask folder {folder} does not exist. Choose the folder again, or clear it to work without masks.",
                ("set", "folder", ""),
            )
        if "{name}" not in settings.pattern:
            raise UmbrateError(
                "The mask file name needs {name} in it, for the photo's name: for example {name}_mask.png"
            )

    @staticmethod
    def _spare(names):
        """The problem that names mask files of no photo, if there are any."""
        if not names:
            return []
        told = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
        return [problem(None, f"No photo of this sitting goes with {told}.", "They are left alone.")]

    @staticmethod
    def _shared(groups):
        """Problems of mask files that several photos of one name take."""
        return [
            problem(
                None,
                f"{len(photos)} photos named {photos[0].name} take the same mask, {file.name}.",
                "Put their masks into folders named as theirs are.",
            )
            for file, photos in groups
        ]

    def _doubts(self, inputs, made):
        """Problems of masks that look wrong beside the others."""
        pairs = self._pairs(inputs, made)
        odd = doubts([m.area for _, m in pairs], [m.edge for _, m in pairs], [p.width * p.height for p, _ in pairs])
        return [
            problem(pairs[i][0], f"The mask of {pairs[i][0].name} {text}.", "Look at it.", "mask")
            for i, text in odd.items()
        ]

    def _soft(self, inputs, made):
        pairs = self._pairs(inputs, made)
        return soft_problems([p for p, _ in pairs], [m.sharpness for _, m in pairs])

    def merged(self, figures):
        shares = [(f.share, f.masks) for f in figures if f.share is not None]
        count = sum(n for _, n in shares)
        methods = {f.method for f in figures}
        return MasksFigures(
            photos=sum(f.photos for f in figures),
            masks=sum(f.masks for f in figures),
            share=round(sum(s * n for s, n in shares) / count, 4) if count else None,
            turning=round(float(np.median([f.turning for f in figures])), 4),
            method=methods.pop() if len(methods) == 1 else "several",
            sharpness={i: v for f in figures for i, v in f.sharpness.items()},
            soft=[i for f in figures for i in f.soft],
            soft_edge=max(f.soft_edge for f in figures),
            things={i: k for f in figures for i, k in f.things.items()},
        )

    def histogram(self, figures):
        return sharpness_histogram(figures.sharpness, "Sharpness inside the masks")

    def headline(self, figures):
        if not figures.masks:
            return "none", "whole pictures are used"
        missing = figures.photos - figures.masks
        return (
            f"{figures.masks}/{figures.photos}",
            f"{missing} without" if missing else f"object fills {100 * figures.share:.0f} %",
        )

    def headline_of(self, job, sitting, done):
        hand = job.hand_masks(sitting.id)
        if not hand:
            return self.headline(done.figures)
        photos = job.photos(sitting.id, aside=False)
        have = {p.id for p in photos} & {*hand, *(i for n, i in done.artefacts if n == "mask")}
        return f"{len(have)}/{len(photos)}", f"{len(hand)} by hand or shape"
