"""Masks as files and as blobs: reading what people made elsewhere, storing what the job uses."""

import hashlib
import json
import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.errors import UmbrateError
from ...core.imaging.decode import display_orientation, read_alpha, read_kinds
from ...core.imaging.filters import halve_mask
from ...core.imaging.sharpness import LONGEST, gray_of, sharpness
from ...core.masking.clean import tidy
from ...formats.files import files_below
from ...job.blobs import SMALL, BlobStore
from ...job.contents import KEY_MADE, MASK_MADE
from ...job.sittings import content_hash
from ...sitting.masks import THING, TURNS, encode_mask, with_turning
from ...sitting.photos import check_content, photo_image
from ..base import problem

KEPT_VERSION = 1  #: raised when masks are read, made or measured in another way
SILHOUETTE_PX = 192  #: longer side of the small picture of a mask
WHOLE = "Its whole picture is used."
#: settings that a file's mask depends on
READING = {"white_is_object", "clean_files", "main_pieces", "holes", "grow_px"}


@dataclass(frozen=True)
class NewMask:
    """What comes of one photo's mask.

    Attributes
    ----------
    mask, silhouette : str or None
        Blob keys of the mask and of a small upright picture of it; None where the photo has no mask.
    sharpness : float or None
        How sharp the photo is inside its mask.
    area, edge : int
        Pixels inside it, and how many of them lie on the picture's edge.
    trouble : dict or None
        The problem (see `base.problem`).
    turning : float
        Share of the picture that turns with the object.
    thing : str or None
        Key of the mask before what turns along was marked in it, where that was done.
    """

    mask: str | None = None
    silhouette: str | None = None
    sharpness: float | None = None
    area: int = 0
    edge: int = 0
    trouble: dict | None = None
    turning: float = 0.0
    thing: str | None = None


def measured(photo, mask):
    """Sharpness of a photo inside a mask (h, w) bool, pixels inside it, and how many lie on the picture's edge."""
    image, halvings = photo_image(photo, LONGEST)
    value = sharpness(gray_of(image), halve_mask(mask, halvings))
    edge = mask[0].sum() + mask[-1].sum() + mask[:, 0].sum() + mask[:, -1].sum()
    return value, int(mask.sum()), int(edge)


def store_mask(blobs, photo, mask):
    """Store a photo's mask (h, w), bool or kinds of place, and its silhouette; returns a NewMask."""
    kept, mask = mask, mask if mask.dtype == bool else mask == THING
    small = halve_mask(mask, max(0, int(np.log2(max(mask.shape) / SILHOUETTE_PX))))
    small = display_orientation(small, photo.orientation)
    value, area, edge = measured(photo, mask)
    store = BlobStore(blobs)
    return NewMask(
        mask=store.put_bytes(encode_mask(kept)),
        silhouette=store.put_bytes(encode_mask(small)),
        sharpness=value,
        area=area,
        edge=edge,
        turning=round(float((kept == TURNS).mean()), 4) if kept.dtype != bool else 0.0,
    )


def kept_arrays(blobs, what, kind, make):
    """Arrays that come of some plain values: those that were made of the same before, else new ones.

    kind : Kind of the arrays, which are small; where there are `keys` among them, their blobs have to be there still
    make : callable without arguments that gives the arrays by name; None where there is nothing to keep
    """
    text = json.dumps([KEPT_VERSION, what])
    fingerprint, store = SMALL + hashlib.sha256(text.encode()).hexdigest()[:40], BlobStore(blobs)
    _, a = store.recall(fingerprint, kind)
    if a is None or not store.has(*_keys_in(a.get("keys", ()))):
        a = make()
        if a is not None:
            store.remember(fingerprint, store.put_arrays(**a))
    return a


def _key_bytes(*keys):
    return np.array([list(bytes.fromhex(k)) for k in keys], np.uint8)


def kept_mask(blobs, photo, made_from, make):
    """The NewMask of a photo, taken from what came of the same content and settings before, else made.

    made_from : plain values that it depends on besides the photo's content
    make : callable without arguments that gives the NewMask
    """
    if not photo.hash:
        return make()
    check_content(photo)
    new = None

    def arrays():
        nonlocal new
        new = make()
        if not new.mask:
            return None
        figures = np.array([new.sharpness, new.area, new.edge, new.turning])
        return {"keys": _key_bytes(new.mask, new.silhouette), "figures": figures}

    what = photo.hash, photo.width, photo.height, photo.orientation, made_from
    a = kept_arrays(blobs, what, MASK_MADE, arrays)
    if new is not None or a is None:
        return new
    sharpness, area, edge, turning = a["figures"].tolist()
    return NewMask(*_keys_in(a["keys"]), sharpness, int(area), int(edge), turning=turning)


def _keys_in(a):
    return [bytes(k).hex() for k in a]


def kept_key(blobs, what, make):
    """The key of a blob that comes of some plain values: what was made of the same before, else a new one."""
    a = kept_arrays(blobs, what, KEY_MADE, lambda: {"keys": _key_bytes(make())})
    return _keys_in(a["keys"])[0]


def without(photo, text, hint):
    """A NewMask without a mask, and why."""
    return NewMask(trouble=problem(photo, text, hint, "mask"))


MASK_SUFFIXES = {".png", ".tif", ".tiff", ".bmp", ".jpg", ".jpeg"}


@dataclass(frozen=True)
class Matches:
    """Which mask files go with which photos.

    Attributes
    ----------
    file : dict of photo id to Path
    missing : list of photos
        Those that no file goes with.
    spare : list of str
        Names of mask files that go with no photo.
    """

    file: dict
    missing: list
    spare: list
    photos: list

    def shared(self):
        """(Path, photos) of each file that several photos take."""
        by_file = {}
        for p in self.photos:
            if p.id in self.file:
                by_file.setdefault(self.file[p.id], []).append(p)
        return [(f, ps) for f, ps in by_file.items() if len(ps) > 1]


def match_files(folder, pattern, photos):
    """The Matches of mask files, named by a pattern, with photos.

    Photos of one name that lie in two folders have their masks in folders of the same names, below the mask
    folder. In the pattern, ``{name}`` is the photo's name without its ending, ``*`` anything; where several
    files fit, the first by name is taken. Capital letters make no difference.

    photos : list with id, name and path
    """
    folder = Path(folder)
    files = [f for f in files_below(folder) if f.suffix.lower() in MASK_SUFFIXES]
    below = {}
    for f in files:
        below.setdefault(f.parent, {}).setdefault(f.name.lower(), f)
    file, missing = {}, []
    stems = Counter((Path(p.path).parent, Path(p.name).stem.lower()) for p in photos)
    for p in photos:
        stem = Path(p.name).stem.lower()
        # photos that differ in their ending only (a.jpg, a.png) have masks of their own where those say so: a.jpg.png
        names = [p.name.lower(), stem] if stems[Path(p.path).parent, stem] > 1 else [stem]
        found = next(
            (
                below[place][fitting[0]]
                for name in names
                for place in (folder / Path(p.path).parent.name, folder)
                if (fitting := _fitting(below.get(place, {}), pattern.lower().replace("{name}", name), "*" in pattern))
            ),
            None,
        )
        if found:
            file[p.id] = found
        else:
            missing.append(p)
    used = set(file.values())
    spare = [f.name for f in files if f not in used and (f.parent == folder or f.parent in {u.parent for u in used})]
    return Matches(file, missing, spare, list(photos))


def _fitting(names, wanted, any_part):
    """Which of some names are `wanted`, in which an asterisk stands for anything where `any_part` is true."""
    if not any_part:
        return [wanted] if wanted in names else []
    form = re.compile(".*".join(re.escape(x) for x in wanted.split("*")))
    return sorted(name for name in names if form.fullmatch(name))


def propose_pattern(folder, photos):
    """The file name pattern that fits most photos, or None where no file has a photo's name in it."""
    found = Counter()
    stems = sorted({Path(p.name).stem for p in photos}, key=len, reverse=True)
    for f in files_below(folder):
        if f.suffix.lower() in MASK_SUFFIXES:
            stem = next((s for s in stems if s.lower() in f.name.lower()), None)
            if stem:
                at = f.name.lower().index(stem.lower())
                found[f.name[:at] + "{name}" + f.name[at + len(stem) :]] += 1
    return found.most_common(1)[0][0] if found else None


def mask_from_file(blobs, settings, item):
    """Work item: the NewMask of the mask file that goes with a photo: (photo, path or None)."""
    photo, file = item
    folder = Path(settings.folder)
    if file is None:
        wanted = settings.pattern.replace("{name}", Path(photo.name).stem)
        return without(
            photo,
            f"{photo.name} has no mask: {wanted} is not in {folder.name}.",
            f"{WHOLE} Rename the mask or change the file name pattern.",
        )
    try:
        content = content_hash(file, (stat := file.stat()).st_mtime_ns, stat.st_size)
    except (OSError, UmbrateError) as e:
        return without(photo, f"The mask {file.name} cannot be read ({getattr(e, 'strerror', None) or e}).", WHOLE)
    made_from = content, settings.model_dump(mode="json", include=READING)
    return kept_mask(blobs, photo, made_from, lambda: _mask_from_file(blobs, settings, photo, file))


def _mask_from_file(blobs, settings, photo, file):
    try:
        mask = read_kinds(file)
    except UmbrateError as e:
        return without(photo, str(e), WHOLE)
    if mask.shape != (photo.height, photo.width):
        return without(
            photo,
            f"The mask {file.name} is {mask.shape[1]} x {mask.shape[0]} pixels, its photo {photo.width} x "
            f"{photo.height}.",
            f"{WHOLE} Export the mask at the photo's own size, unturned.",
        )
    if not settings.white_is_object:
        mask = THING - mask  # what turns with it is gray either way
    if not (mask == THING).any():
        return without(
            photo,
            f"The mask {file.name} is empty: it leaves nothing of {photo.name}.",
            f"{WHOLE} Is black the object? Then switch that setting.",
        )
    return store_mask(blobs, photo, _cleaned(mask, settings))


def _cleaned(mask, settings):
    """A mask (h, w), bool or kinds of place, as its settings want it cleaned; what turns with the object stays."""
    if not settings.clean_files:
        return mask
    thing = mask if mask.dtype == bool else mask == THING
    clean = tidy(thing, settings.main_pieces, settings.holes / 100)
    if settings.grow_px:
        clean = tidy(clean, False, 0, 0, settings.grow_px)
    if not clean.any():
        return mask  # nothing but whiskers: better as it was
    return clean if mask.dtype == bool else with_turning(clean, mask == TURNS)


def mask_from_alpha(blobs, settings, photo):
    """Work item: the NewMask of a photo's own alpha channel."""
    try:
        check_content(photo)
    except UmbrateError as e:
        return without(photo, str(e), WHOLE)
    made_from = "alpha", settings.model_dump(mode="json", include=READING)
    return kept_mask(blobs, photo, made_from, lambda: _mask_from_alpha(blobs, settings, photo))


def _mask_from_alpha(blobs, settings, photo):
    try:
        mask = read_alpha(photo.path)
    except UmbrateError as e:
        return without(photo, str(e), WHOLE)
    if mask is None:
        return without(photo, f"{photo.name} has no alpha channel.", f"{WHOLE} Choose another way to make its mask.")
    return store_mask(blobs, photo, _cleaned(mask if settings.white_is_object else ~mask, settings))
