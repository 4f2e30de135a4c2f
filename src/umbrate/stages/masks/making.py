"""Masks made from the photos themselves: by a plate, by what stands still, by the backdrop's color.

Work is done on photos halved until they are small enough: an outline is a matter of the whole
picture, and finer pixels would cost much and show little.
"""

import hashlib
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from pathlib import Path

import numpy as np

from ...core.errors import UmbrateError
from ...core.imaging.decode import read_reduced
from ...core.imaging.filters import halve_by_area, halve_mask
from ...core.masking.backdrop import FEWEST, differs, same_place, shot_plate, still_plate
from ...core.masking.clean import tidy
from ...core.masking.light import LINEAR, is_color, keyed, linear_light, small_light
from ...core.masking.turning import LEAST_SEEN, turning_place
from ...job.blobs import BlobStore
from ...job.contents import TURNING_PLACE
from ...sitting.masks import THING, TURNS, decode_kinds, encode_mask, with_turning
from ...sitting.photos import check_content, photo_files
from .files import kept_arrays, kept_key, kept_mask, store_mask, without

WORKING_SIDE = 1000  #: photos are halved until their longer side is no longer than this
SMALL_SIDE = 200  #: and so far for telling where they were taken from
MOST = 24  #: so many photos make a sitting's own plate
#: settings that a made mask depends on
MAKING = {
    "method", "backdrop_color", "key_share", "tolerance", "shadow", "leave_out", "leave_out_tolerance", "main_pieces",
    "holes", "grow_px",
}  # fmt: skip


def parse_color(text):
    """Linear light (3,) of a color written #RRGGBB.

    Raises
    ------
    ValueError
        With a sentence for people.
    """
    digits = text.strip().lstrip("#")
    if len(digits) != 6 or any(c not in "0123456789abcdefABCDEF" for c in digits):
        raise ValueError(f"“{text}” is no color; write it like #46AF5A")
    return LINEAR[[int(digits[k : k + 2], 16) for k in (0, 2, 4)]]


def working_light(path):
    """Linear light (h, w, 3) of a photo at the working size, and how often it was halved."""
    # a step above the working size what is decoded is halved as light, which is what outlines are made of
    picture, halvings = read_reduced(path, 2 * WORKING_SIDE)
    if max(picture.shape[:2]) <= WORKING_SIDE:
        return linear_light(picture), halvings
    return np.ascontiguousarray(halve_by_area(LINEAR[picture])), halvings + 1


def _stamped(path):
    """A file and what tells that it is still the same: what is kept of it is found by both."""
    stat = Path(path).stat() if Path(path).is_file() else None
    return str(path), stat and (stat.st_mtime_ns, stat.st_size)


# what comes of the photos alone is kept: masks are tried with one setting after the other
@lru_cache(maxsize=600)
def _small_picture(path, _):
    return small_light(read_reduced(path, 2 * WORKING_SIDE)[0], SMALL_SIDE).sum(-1)


def small_picture(path):
    """Work item: the photo in gray, some 200 pixels wide."""
    return _small_picture(*_stamped(path))


def plate_of(item):
    """Work item: the Plate from files: one of the bare backdrop, or several that turn."""
    method, files = item
    return _plate_of(method, tuple(_stamped(f) for f in files))


@lru_cache(maxsize=8)
def _plate_of(method, stamped):
    files = [f for f, _ in stamped]
    if method == "plate":
        return shot_plate(working_light(files[0])[0])
    chosen = files[:: -(-len(files) // MOST)]
    return still_plate([working_light(f)[0] for f in chosen])


def _full_size(mask, halvings, photo):
    """A mask at the working size back at the photo's: pixels repeated, never smoothed."""
    n = 2**halvings
    big = np.repeat(np.repeat(mask, n, 0), n, 1)
    rest = ((0, photo.height - big.shape[0]), (0, photo.width - big.shape[1]))
    return np.pad(big, rest, mode="edge") if big.shape != (photo.height, photo.width) else big


def make_mask(blobs, settings, plates, item):
    """Work item: the NewMask of a photo, against the Plate of its place or by the backdrop's color."""
    photo, place = item
    plate = plates.get(place)
    if settings.method != "color" and plate is None:
        hint = (
            "Photograph the bare backdrop from there too, or choose another method."
            if settings.method == "plate"
            else f"That needs {FEWEST} photos from one place, with the object turned between them."
        )
        return without(
            photo, f"{photo.name} has no plate that was taken from its place.", f"Its whole picture is used. {hint}"
        )
    made_from = settings.model_dump(mode="json", include=MAKING), plate.digest if plate else None
    return kept_mask(blobs, photo, made_from, lambda: _make_mask(blobs, settings, plate, photo))


def _make_mask(blobs, settings, plate, photo):
    light, halvings = working_light(photo.path)
    if settings.method == "color":
        mask = keyed(light, parse_color(settings.backdrop_color), settings.key_share)
    else:
        mask = differs(light, plate, settings.tolerance, settings.shadow)
    for color in settings.leave_out.split(","):
        if color.strip():
            mask &= ~is_color(light, parse_color(color), settings.leave_out_tolerance)
    mask = tidy(mask, settings.main_pieces, settings.holes / 100)
    mask = _full_size(mask, halvings, photo)
    if settings.grow_px:
        mask = tidy(mask, False, 0, 0, settings.grow_px)
    if not mask.any():
        return without(
            photo,
            f"Nothing of {photo.name} was told from the backdrop.",
            "Its whole picture is used. Is the object there?",
        )
    return store_mask(blobs, photo, mask)


@dataclass(frozen=True)
class PlateGroups:
    """Which photos were taken from where: a group number each, and the plates of the groups."""

    group: list
    plates: dict


def _plate_files(settings, own):
    """Files of the plates: the sitting's own, and those of the folder that the settings name."""
    if settings.plates and not Path(settings.plates).is_dir():
        raise UmbrateError(f"The folder of plates {settings.plates} does not exist. Choose it again.")
    found = photo_files(settings.plates) if settings.plates else []
    if settings.plates and not found:
        raise UmbrateError(f"There are no photos in {settings.plates}. Choose the folder that holds the plates.")
    if not own and not found:
        raise UmbrateError(
            "Masks by a backdrop plate need plates: photos of the bare backdrop. Keep some of the sitting's photos "
            "as plates, or choose a folder of them."
        )
    return [*own, *map(str, found)]


def find_plates(photos, own, settings, report):
    """The PlateGroups of a sitting: groups of photos from one place, each with its Plate where there is one."""
    plate_files = _plate_files(settings, own) if settings.method == "plate" else []
    files = [p.path for p in photos]
    small = report.map(small_picture, [*files, *plate_files], "comparing photo", 0.0, 0.25)
    group = same_place(small).tolist()
    todo = {}
    for g in sorted(set(group[: len(files)])):
        if settings.method == "plate":
            fitting = [str(f) for f, k in zip(plate_files, group[len(files) :], strict=True) if k == g]
            if fitting:
                todo[g] = fitting
        else:
            members = [f for f, k in zip(files, group, strict=False) if k == g]
            if len(members) >= FEWEST:
                todo[g] = members
    if not todo:
        raise UmbrateError(
            "None of the plates was taken from the place of any photo. The camera must not move between plate and "
            "photos."
            if settings.method == "plate"
            else f"No {FEWEST} photos were taken from one place. This method is for a turntable: the camera stands "
            "still and the object turns.",
            ("set", "method", "files"),
        )
    made = report.map(plate_of, [(settings.method, f) for f in todo.values()], "making plate", 0.25, 0.5)
    return PlateGroups(group[: len(files)], dict(zip(todo, made, strict=True)))


def make_masks(inputs, settings, report, only=None):
    """The NewMask of each photo of a sitting by photo id, by the method that the settings choose.

    only : set of int, optional
        Make those of these photos alone; all the others still show the backdrop.
    """
    groups = PlateGroups([None] * len(inputs.photos), {})
    if settings.method != "color":
        groups = find_plates(inputs.photos, inputs.plates, settings, report)
    pairs = zip(inputs.photos, groups.group, strict=True)
    items = [(p, place) for p, place in pairs if only is None or p.id in only]
    function = partial(make_mask, inputs.blobs, settings, groups.plates)
    made = report.map(function, items, "masking photo", 0.5, 1.0)
    return {p.id: m for (p, _), m in zip(items, made, strict=True)}


def _turning_of(blobs, item):
    """Work item: what turns with the object as one place of the camera sees it, (h, w) bool, and how often halved.

    None where the masks say it already.
    """

    def arrays():
        found = _look_for_turning(blobs, item)
        place, halvings = found if found else (np.zeros((0, 0), bool), 0)
        return {"bits": np.packbits(place), "shape": np.array(place.shape), "halvings": np.array([halvings])}

    a = kept_arrays(blobs, ["turning", [[p.hash, key] for p, key in item]], TURNING_PLACE, arrays)
    h, w = a["shape"].tolist()
    if not h * w:
        return None
    return np.unpackbits(a["bits"], count=h * w).view(bool).reshape(h, w), int(a["halvings"][0])


def _look_for_turning(blobs, item):
    store, lights, masks = BlobStore(blobs), [], []
    for photo, key in item:
        kinds = decode_kinds(store.get_bytes(key), photo)
        if (kinds == TURNS).any():
            return None
        check_content(photo)
        light, halvings = working_light(photo.path)
        lights.append(light)
        masks.append(halve_mask(kinds == THING, halvings))
    return turning_place(lights, masks), halvings


def _with_turning(blobs, item):
    """Work item: the key of a photo's mask with what turns along in it."""
    photo, key, place, halvings = item

    def make():
        store = BlobStore(blobs)
        thing = decode_kinds(store.get_bytes(key), photo) == THING
        return store.put_bytes(encode_mask(with_turning(thing, _full_size(place, halvings, photo))))

    where = hashlib.sha256(np.packbits(place).tobytes()).hexdigest()
    return kept_key(blobs, ["with turning", key, where, place.shape, halvings, photo.width, photo.height], make)


def add_turning(blobs, photos, made, report):
    """Masks with what turns with the object, where photos from one place show it.

    Parameters
    ----------
    made : list of NewMask, by photo

    Returns
    -------
    list of NewMask
    """
    able = [k for k, m in enumerate(made) if m.mask]
    if len(able) < LEAST_SEEN:
        return made
    small = report.map(small_picture, [photos[k].path for k in able], "comparing photo", 0.8, 0.85)
    groups = {}
    for k, g in zip(able, same_place(small).tolist(), strict=True):
        groups.setdefault(g, []).append(k)
    groups = [members for members in groups.values() if len(members) >= LEAST_SEEN]
    items = [[(photos[k], made[k].mask) for k in g[:: -(-len(g) // MOST)]] for g in groups]
    found = report.map(partial(_turning_of, blobs), items, "looking for what turns along, place", 0.85, 0.95)
    todo = [(k, *f) for g, f in zip(groups, found, strict=True) if f is not None and f[0].any() for k in g]
    items = [(photos[k], made[k].mask, place, halvings) for k, place, halvings in todo]
    keys = report.map(partial(_with_turning, blobs), items, "marking photo", 0.95, 1.0)
    out = list(made)
    for (k, place, _), key in zip(todo, keys, strict=True):
        thing = made[k].mask if key != made[k].mask else None
        out[k] = replace(made[k], mask=key, turning=round(float(place.mean()), 4), thing=thing)
    return out
