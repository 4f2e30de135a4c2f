"""Photos: every file decoded once, so that a damaged one is known before an hour is spent on it."""

import io
import os
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

import numpy as np
from PIL import Image

from ...core.errors import CannotKeep, UmbrateError
from ...core.imaging.decode import thumbnail_of
from ...core.imaging.sharpness import LONGEST, gray_of, sharpness, soft_ones
from ...core.masking.backdrop import FEWEST, differs, empty_frames, same_place, still_plate, strange_shares
from ...core.masking.clean import tidy
from ...core.masking.light import small_light
from ...job.blobs import BlobStore
from ...job.contents import LIGHT
from ...sitting.photos import check_content, photo_image, photo_key, photo_refs
from ..base import Outcome, Stage, StageSettings, problem
from ..sharpness import sharpness_histogram, soft_problems
from .figures import PhotosFigures

PLATE_PHOTOS = 60  #: at most so many photos of a place show what stands still there
LOOK_VERSION = 1  #: of what is kept for a file's content


class Settings(StageSettings):
    """Nothing to choose yet."""


@dataclass(frozen=True)
class Inputs:
    """Photos to look at, what was seen of their content before, and how often missing ones were found again."""

    blobs: str
    photos: list
    seen: dict
    finds: int = 0


def find_bare_frames(photos, lights):
    """Where photos were taken from, and which of them show the bare backdrop.

    Only places with several photos can tell: there, what stands still is known, and a frame in which
    next to nothing differs from it is bare.

    Parameters
    ----------
    photos : list of PhotoRef
    lights : list of (h, w, 3) float32, or None for a photo that cannot be read

    Returns
    -------
    place : (n,) int
    bare : list of int
        Rows of `photos`.
    """
    rows = [k for k, x in enumerate(lights) if x is not None]
    place = np.full(len(photos), -1)
    place[rows] = same_place([lights[k].sum(-1) for k in rows])
    areas, strange = np.full(len(photos), np.nan), np.zeros(len(photos))
    groups = [who for g in np.unique(place[rows]) if len(who := np.flatnonzero(place == g)) >= FEWEST]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        found = pool.map(lambda who: _against_own_plate([lights[k] for k in who]), groups)
        for who, (area, share) in zip(groups, found, strict=True):
            areas[who], strange[who] = area, share
    return place, np.flatnonzero(empty_frames(areas, place, strange)).tolist()


def _against_own_plate(lights):
    """How much of each photo of one place differs from what stands still there, and the share that is strange."""
    plate = still_plate(lights[:: -(-len(lights) // PLATE_PHOTOS)])
    masks = [tidy(differs(x, plate), open_px=1) for x in lights]
    return [m.sum() for m in masks], strange_shares(lights, masks)


def bare_problems(photos):
    """The problem that names photos of the bare backdrop, if there are any."""
    if not photos:
        return []
    names = ", ".join(p.name for p in photos)
    text = f"These show the bare backdrop: {names}."
    return [problem(None, text, "They are plates, and may separate two sittings.", "bare")]


def size_problems(sizes):
    """The problem that tells of different sizes, if there are several; sizes: a Counter of (width, height)."""
    if len(sizes) < 2:
        return []
    told = ", ".join(f"{n} of {w} x {h}" for (w, h), n in sizes.most_common())
    return [
        problem(
            None,
            f"The photos have different sizes: {told} pixels.",
            "Each size is solved with a lens of its own. If some come from another camera or were cropped, give them a "
            "sitting of their own or set them aside.",
        )
    ]


def odd_ones(photos):
    """Photos whose camera or focal length differs from that of most, and the problem that says so.

    Returns
    -------
    list of problems
        One for each.
    """
    kinds = [(p.camera, _focal(p)) for p in photos]
    if len(set(kinds)) < 2:
        return []
    usual = Counter(kinds).most_common(1)[0][0]
    first = next(p for p, k in zip(photos, kinds, strict=True) if k == usual)
    return [
        problem(
            p,
            f"{p.name} differs from the others in camera or focal length: {_lens_told(p)}; most have "
            f"{_lens_told(first)}.",
            "Each kind is solved with a lens of its own. Strays are best set aside.",
            "lens",
        )
        for p, k in zip(photos, kinds, strict=True)
        if k != usual
    ]


def _focal(photo):
    """What tells focal lengths apart: as a share of the picture's width, else in mm as the file says, else nothing."""
    if photo.focal_px is not None:
        return round(photo.focal_px / photo.width, 2)
    return None if not photo.focal_mm else f"{photo.focal_mm:.3g} mm"


def _lens_told(photo):
    focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else "focal length unknown"
    if photo.focal_px is not None:
        focal += f" ({photo.focal_px / photo.width:.2f} of the width)"
    return f"{photo.camera or 'camera unknown'}, {focal}"


MIRRORED = (2, 4, 5, 7)  #: orientations of EXIF data that say that the picture is stored mirrored


def mirrored_problems(photos):
    """The problem of photos whose files say that left and right are exchanged, if there are any."""
    names = [p.name for p in photos if p.orientation in MIRRORED]
    if not names:
        return []
    told = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
    return [
        problem(
            None,
            f"Left and right are exchanged in {told}: their EXIF data say that the pictures are stored mirrored.",
            "The object would come out mirrored. Bring in the photos as the camera wrote them.",
            remedy=("bring in photos",),
        )
    ]


@dataclass(frozen=True)
class Looked:
    """What was seen of a photo: blob keys of its thumbnail and of its small light, and how sharp it is; or why not.

    missing : its file, as it was brought in, is not there
    """

    thumbnail: str | None = None
    sharpness: float | None = None
    light: str | None = None
    trouble: dict | None = None
    missing: bool = False

    @property
    def kept(self):
        """The plain values that are kept for the file's content."""
        return {"version": LOOK_VERSION, "thumbnail": self.thumbnail, "sharpness": self.sharpness, "light": self.light}


def look_at_photo(blobs, seen, photo):
    """Work item: what there is to see of a photo, a Looked; what was seen of its content before is not read again."""
    store, before = BlobStore(blobs), seen.get(photo.hash)
    try:
        check_content(photo)
        if before and before.get("version") == LOOK_VERSION and store.has(before["thumbnail"], before["light"]):
            return Looked(before["thumbnail"], before["sharpness"], before["light"])
    except UmbrateError as e:
        return Looked(trouble=problem(photo, str(e), "The others come in without it.", "unreadable"), missing=True)
    try:
        picture = photo_image(photo, LONGEST)[0]
        small = io.BytesIO()
        Image.fromarray(thumbnail_of(picture, photo.orientation)).save(small, "JPEG", quality=88)
        # half precision is finer than the photo's own eight bits
        light = store.put_arrays(light=small_light(picture).astype(np.float16))
        return Looked(store.put_bytes(small.getvalue()), sharpness(gray_of(picture)), light)
    except CannotKeep:
        raise  # the disk is full, which is no photo's fault
    except UmbrateError as e:
        return Looked(trouble=problem(photo, str(e), "The others come in without it.", "unreadable"))
    except (ValueError, ArithmeticError, IndexError, MemoryError) as e:  # one odd picture must not end it for all
        text = f"{photo.name} cannot be used ({type(e).__name__}: {e})."
        return Looked(trouble=problem(photo, text, "The others come in without it.", "unreadable"))


class PhotosStage(Stage):
    """Decode, thumbnail, sharpness."""

    name, title = "photos", "Photos"
    about = "Reads every photo once: is it whole, how sharp is it, a small picture for the strip."
    Settings = Settings
    Figures = PhotosFigures
    of_members = True

    def applies(self, sitting):
        return not sitting.members

    def gather(self, job, sitting, settings, mode=""):
        photos = photo_refs(job, sitting, usable_only=False)
        if not photos:
            raise UmbrateError(
                f"“{sitting.name}” has no photos in use. Bring in photos, or bring back some that are set aside.",
                ("bring in photos",),
            )
        return Inputs(str(job.blobs.folder), photos, job.seen({p.hash for p in photos}), self._finds(job, sitting))

    def _finds(self, job, sitting):
        """How often files that a run had missed were found again."""
        done = job.result(sitting.id, self.name)
        if done is None:
            return 0
        missing = set(done.figures.missing)
        found = missing and any(
            p.id in missing and job.file_state(p) == "here" for p in job.photos(sitting.id, aside=False)
        )
        return done.figures.finds + bool(found)

    def key(self, job, sitting, settings):
        finds = self._finds(job, sitting)
        return [photo_key(job, sitting, usable_only=False), *([finds] if finds else [])]

    def run(self, inputs, settings, report):

        def show(photo, row):
            if row.thumbnail:
                report.live("thumbnail", (photo.id, row.thumbnail))

        look = partial(look_at_photo, inputs.blobs, inputs.seen)
        rows = report.map(look, inputs.photos, "reading photo", each=show)
        store = BlobStore(inputs.blobs)
        lights = [store.get_arrays(r.light, LIGHT)["light"].astype(np.float32) if r.light else None for r in rows]
        damaged = [r.trouble for r in rows if r.trouble]
        unreadable = [p["photo"] for p in damaged]
        artefacts = {("thumbnail", p.id): r.thumbnail for p, r in zip(inputs.photos, rows, strict=True) if r.thumbnail}
        place, bare = find_bare_frames(inputs.photos, lights)
        whole = [k for k, r in enumerate(rows) if r.sharpness is not None and k not in bare]
        sizes = Counter((p.width, p.height) for p in inputs.photos)
        problems = [
            *damaged,
            *bare_problems([inputs.photos[k] for k in bare]),
            *odd_ones([p for p in inputs.photos if p.id not in unreadable]),
            *soft_problems([inputs.photos[k] for k in whole], [rows[k].sharpness for k in whole]),
            *size_problems(sizes),
            *mirrored_problems([p for p in inputs.photos if p.id not in unreadable]),
        ]
        figures = PhotosFigures(
            photos=len(inputs.photos),
            readable=len(inputs.photos) - len(unreadable),
            unreadable=unreadable,
            missing=[p.id for p, r in zip(inputs.photos, rows, strict=True) if r.missing],
            finds=inputs.finds,
            megapixels=round(sum(p.width * p.height for p in inputs.photos) / 1e6, 1),
            sizes=len(sizes),
            cameras=len({p.camera for p in inputs.photos}),
            camera=Counter(p.camera for p in inputs.photos).most_common(1)[0][0],
            bare=[inputs.photos[k].id for k in bare],
            soft=[inputs.photos[whole[k]].id for k in soft_ones([rows[k].sharpness for k in whole])],
            place={p.id: int(g) for p, g in zip(inputs.photos, place, strict=True)},
            sharpness={
                p.id: round(r.sharpness, 4) for p, r in zip(inputs.photos, rows, strict=True) if r.sharpness is not None
            },
        )
        seen = {p.hash: r.kept for p, r in zip(inputs.photos, rows, strict=True) if r.thumbnail and p.hash}
        return Outcome(figures, artefacts, problems, seen)

    def merged(self, figures):
        cameras = {f.camera for f in figures if f.camera}
        place, top = {}, 0
        for f in figures:  # each sitting counts its places from zero
            place |= {i: g + top if g >= 0 else g for i, g in f.place.items()}
            top = max([top, *(g + 1 for g in place.values())])
        return PhotosFigures(
            **{k: sum(getattr(f, k) for f in figures) for k in ("photos", "readable")},
            **{k: [i for f in figures for i in getattr(f, k)] for k in ("unreadable", "missing", "bare", "soft")},
            megapixels=round(sum(f.megapixels for f in figures), 1),
            sizes=max(f.sizes for f in figures),
            cameras=max(len(cameras), *(f.cameras for f in figures)),
            camera=figures[0].camera,
            place=place,
            sharpness={i: v for f in figures for i, v in f.sharpness.items()},
        )

    def histogram(self, figures):
        return sharpness_histogram(figures.sharpness, "Sharpness of the photos")

    def headline(self, figures):
        second = f"{figures.megapixels:.0f} MP"
        if figures.unreadable:
            second = f"{len(figures.unreadable)} unreadable"
        elif figures.bare:
            second = f"{len(figures.bare)} of the bare backdrop"
        elif figures.sizes > 1:
            second = "sizes differ"
        return f"{figures.photos}", second
