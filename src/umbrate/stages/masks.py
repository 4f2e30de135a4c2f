"""Masks: from files beside the photos, matched by name."""

import io
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image
from pydantic import Field

from ..core.errors import UmbrateError
from ..core.imaging.decode import read_mask
from ..job.blobs import BlobStore
from .base import Outcome, Stage, StageSettings, problem
from .photos import photo_key, photo_refs


class Settings(StageSettings):
    """Where the masks are and how they are named."""

    folder: str = Field(
        "",
        title="Folder",
        description="Folder with the mask files; empty: work without masks.",
        json_schema_extra={"kind": "folder"},
    )
    pattern: str = Field(
        "{name}.png",
        title="File name",
        description="How a mask's file is named; {name} stands for the photo's name without its ending.",
    )
    white_is_object: bool = Field(
        True, title="White is the object", description="Off: black is the object and white is what to leave out."
    )


@dataclass(frozen=True)
class Inputs:
    """Photos and where to look for their masks."""

    blobs: str
    photos: list


def encode_mask(mask):
    """A mask (h, w) bool as 1-bit PNG bytes."""
    out = io.BytesIO()
    Image.fromarray(mask.astype(np.uint8) * 255).convert("1").save(out, "PNG")
    return out.getvalue()


def decode_mask(data):
    """The inverse of `encode_mask`."""
    with Image.open(io.BytesIO(data)) as image:
        return np.asarray(image.convert("L")) >= 128


def mask_blobs(job, sitting):
    """Blob keys of the masks, by photo id."""
    done = job.result(sitting.id, "masks")
    return {p: b for (n, p), b in done.artefacts.items() if n == "mask"} if done else {}


def read_mask_of(blobs, settings, photo):
    """Work item: the mask's blob key, the share of the picture it keeps, and the problem where there is one."""
    folder = Path(settings.folder)
    file = folder / settings.pattern.replace("{name}", Path(photo.name).stem)
    if not file.is_file():
        return (
            None,
            0.0,
            problem(
                photo,
                f"{photo.name} has no mask: {file.name} is not in {folder.name}.",
                "Its whole picture is used. Rename the mask or change the file name pattern.",
            ),
        )
    try:
        mask = read_mask(file)
    except UmbrateError as e:
        return None, 0.0, problem(photo, str(e), "The photo's whole picture is used.")
    if mask.shape != (photo.height, photo.width):
        return (
            None,
            0.0,
            problem(
                photo,
                f"The mask {file.name} is {mask.shape[1]} x {mask.shape[0]} pixels, its photo {photo.width} x "
                f"{photo.height}.",
                "The photo's whole picture is used. Export the mask at the photo's own size, unturned.",
            ),
        )
    if not settings.white_is_object:
        mask = ~mask
    if not mask.any():
        return (
            None,
            0.0,
            problem(
                photo,
                f"The mask {file.name} is empty: it leaves nothing of {photo.name}.",
                "The photo's whole picture is used. Is black the object? Then switch that setting.",
            ),
        )
    return BlobStore(blobs).put_bytes(encode_mask(mask)), float(mask.mean()), None


class MasksStage(Stage):
    """Read mask files."""

    name, title = "masks", "Masks"
    about = "Finds the mask file of every photo. Without masks the whole picture is used."
    needs = ("photos",)
    reads = "photos or mask files"
    Settings = Settings

    def gather(self, job, sitting):
        photos = photo_refs(job, sitting)
        if not photos:
            raise UmbrateError(f"“{sitting.name}” has no photos in use. Bring in photos first.")
        return Inputs(str(job.blobs.folder), photos)

    def key(self, job, sitting):
        folder = job.settings(sitting.id, self.name).get("folder") or ""
        stamp = []
        if folder and Path(folder).is_dir():
            stamp = sorted(
                [p.name, p.stat().st_mtime_ns, p.stat().st_size] for p in Path(folder).iterdir() if p.is_file()
            )
        return [photo_key(job, sitting), stamp]

    def run(self, inputs, settings, report):
        n = len(inputs.photos)
        if not settings.folder:
            return Outcome({"photos": n, "masks": 0, "share": None})
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

        rows = report.map(partial(read_mask_of, inputs.blobs, settings), inputs.photos, "reading mask")
        found = [r for r in rows if r[0]]
        if not found:
            raise UmbrateError(
                f"None of the {n} photos has a usable mask in {folder}. First of all: {rows[0][2]['text']}",
                ("set", "folder", ""),
            )
        return Outcome(
            {"photos": n, "masks": len(found), "share": round(float(np.median([r[1] for r in found])), 4)},
            {("mask", p.id): r[0] for p, r in zip(inputs.photos, rows, strict=True) if r[0]},
            [r[2] for r in rows if r[2]],
        )

    def rows(self, f):
        share = "-" if f["share"] is None else f"{100 * f['share']:.1f} %"
        return [
            ("Photos with a mask", f"{f['masks']} of {f['photos']}", "The others are used whole"),
            ("Object fills", share, "Share of the picture inside the mask, median of the photos"),
        ]

    def headline(self, figures):
        if not figures["masks"]:
            return "none", "whole pictures are used"
        missing = figures["photos"] - figures["masks"]
        return (
            f"{figures['masks']}/{figures['photos']}",
            f"{missing} without" if missing else f"object fills {100 * figures['share']:.0f} %",
        )
