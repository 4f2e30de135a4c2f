"""What the blobs of a job hold: names, kinds and shapes of their arrays, and in which range indices lie.

A job may come from a stranger and a disk may lie: kernels read where an index points, so that one beyond its array
would read or write what is not theirs. So arrays are checked when they are read, once, before anything uses them.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

LARGEST = 1e9  #: of coordinates: farther off is no object


class Of(NamedTuple):
    """What an array is.

    Attributes
    ----------
    kind : str
        A dtype as numpy writes it, or f, i: any width of floats, of integers.
    shape : tuple
        Numbers, and letters for lengths that arrays have in common.
    below : str
        The length that its values lie below; they are `least` at the least.
    least : int
    optional : bool
        Older versions did not write it.
    open : bool
        Floats may be infinite or no numbers.
    """

    kind: str
    shape: tuple
    below: str = ""
    least: int = 0
    optional: bool = False
    open: bool = False


@dataclass(frozen=True, eq=False)
class Kind:
    """A kind of blob: its arrays by name, and what else must hold."""

    arrays: dict
    also: Callable = None

    def checked(self, arrays):
        """The arrays that this kind has, of those given.

        Raises
        ------
        ValueError
            Where one is missing, or is not what it should be.
        """
        out, lengths = {}, {}
        for name, of in self.arrays.items():
            if name not in arrays:
                if not of.optional:
                    raise ValueError(f"it holds no “{name}”")
                continue
            out[name] = a = arrays[name]
            _check_kind(name, a, of)
            _check_shape(name, a, of, lengths)
        for name, a in out.items():
            _check_values(name, a, self.arrays[name], lengths)
        if self.also is not None and not self.also(out):
            raise ValueError("its arrays do not fit together")
        return out


def _check_kind(name, a, of):
    good = a.dtype.kind in {"f": "f", "i": "iu"}[of.kind] if of.kind in "fi" else a.dtype == np.dtype(of.kind)
    if not good or not a.dtype.isnative:
        raise ValueError(f"“{name}” holds {a.dtype}")


def _check_shape(name, a, of, lengths):
    if a.ndim != len(of.shape):
        raise ValueError(f"“{name}” has {a.ndim} dimensions")
    for have, want in zip(a.shape, of.shape, strict=True):
        if have != (lengths.setdefault(want, have) if isinstance(want, str) else want):
            raise ValueError(f"“{name}” has the shape {a.shape}")


def _check_values(name, a, of, lengths):
    if of.below and a.size and not (a.min() >= of.least and a.max() < lengths.get(of.below, 0)):
        raise ValueError(f"“{name}” points beyond {of.below}")
    bounded = a.dtype.kind == "f" and not of.open and a.size
    if bounded and not (-LARGEST <= float(a.min()) and float(a.max()) <= LARGEST):
        raise ValueError(f"“{name}” holds values that are no numbers, or far too large")


def _starts(arrays, rows):
    """Whether `start` divides `rows` into one part for each pair."""
    s = arrays["start"]
    return len(s) == len(arrays["pair"]) + 1 and s[0] == 0 and s[-1] == len(arrays[rows]) and (np.diff(s) >= 0).all()


def _one(arrays):
    return len(arrays) == 1  # either what is kept, or points that were moved


def _of_block(arrays):
    free = arrays.get("free", np.zeros(0, int))
    return (np.diff(arrays["point"]) >= 0).all() and ((free >= 0) & (free < 10)).all()


def _on_pages(arrays):
    uv = arrays["uv"]
    return (arrays["page"] >= 0).all() and (not uv.size or (uv.min() > -1e-6 and uv.max() < 1 + 1e-6))


FEATURES = Kind({
    "xy": Of("f4", ("n", 2)), "scale": Of("f4", ("n",)), "angle": Of("f4", ("n",)), "descriptors": Of("u1", ("n", 128)),
})  # fmt: skip
MATCHES = Kind({
    "photo_ids": Of("i", ("n",)), "pair": Of("i", ("k", 2), "n"), "start": Of("i", ("s",)), "rows": Of("i", ("m", 2)),
}, lambda a: _starts(a, "rows") and (a["rows"] >= 0).all())  # fmt: skip
PAIRS = Kind({
    "photo_ids": Of("i", ("n",)), "pair": Of("i", ("k", 2), "n"), "start": Of("i", ("s",)), "match": Of("f", ("m", 4)),
}, lambda a: _starts(a, "match"))  # fmt: skip
BLOCK = Kind({
    "photo_ids": Of("i", ("n",)), "poses": Of("f8", ("n", 4, 4), open=True), "lenses": Of("f8", ("l", 10)),
    "lens_of": Of("i", ("n",), "l"), "points": Of("f8", ("p", 3)), "photo": Of("i", ("k",), "n"),
    "feature": Of("i", ("k",), least=-1), "point": Of("i", ("k",), "p"), "number": Of("i", ("p",)),
    "sizes": Of("i", ("n", 2), optional=True), "colors": Of("u1", ("p", 3), optional=True),
    "xy": Of("f", ("k", 2), optional=True), "residual": Of("f", ("k", 2), optional=True, open=True),
    "sigma": Of("f", ("k",), optional=True, open=True), "mark": Of("i", ("p",), optional=True),
    "free": Of("i", ("f",), optional=True), "trusted": Of("i", ("t",), optional=True),
    "prior_mean": Of("f8", ("l", 10), optional=True, open=True),
    "prior_information": Of("f8", ("l", 10, 10), optional=True, open=True),
    "first_lenses": Of("f8", ("l", 10), optional=True, open=True), "order": Of("i", ("n",), "n", -1, optional=True),
    "point_sigma": Of("f", ("p",), optional=True, open=True), "pose_sigma": Of("f", ("n", 2), optional=True, open=True),
}, _of_block)  # fmt: skip
COVARIANCE = Kind({"cameras": Of("f8", ("c", "c"), open=True), "free": Of("i", ("f",)), "unit": Of("f8", ())})
REMOVED = Kind({"photo_id": Of("i", ("n",)), "row": Of("i", ("n",)), "mark": Of("U16", ("n",))})
TARGETS = Kind({
    "dots": Of("f8", ("n", 12), open=True), "kind": Of("i", ("n",)), "number": Of("i", ("n",)),
    "errors": Of("i", ("n",), optional=True), "unlike": Of("f8", ("n",), optional=True, open=True),
    "quality": Of("f8", ("n",), optional=True, open=True),
})  # fmt: skip
CALIBRATION = Kind({
    "photo_ids": Of("i", ("n",)), "photo": Of("i", ("k",), "n"), "point": Of("i", ("k",)), "xy": Of("f", ("k", 2)),
    "residual": Of("f", ("k", 2), open=True), "used": Of("?", ("k",)), "by_hand": Of("?", ("k",), optional=True),
    "correlation": Of("f", ("c", "c"), optional=True, open=True),
})  # fmt: skip
LIGHT = Kind({"light": Of("f2", ("h", "w", 3))})
KEY_MADE = Kind({"keys": Of("u1", (1, 32))})
TURNING_PLACE = Kind({"bits": Of("u1", ("n",)), "shape": Of("i8", (2,)), "halvings": Of("i8", (1,))})
MASK_MADE = Kind({"keys": Of("u1", (2, 32)), "figures": Of("f8", (4,))})
DEPTH_MAP = Kind({
    "depth": Of("f4", ("h", "w")), "normal": Of("i1", ("h", "w", 3)), "score": Of("u1", ("h", "w")),
    "noise": Of("u1", ("h", "w"), optional=True), "lens": Of("f8", (3,)), "whole": Of("i", (2,), optional=True),
})  # fmt: skip
CLOUD = Kind({
    "points": Of("f4", ("n", 3)), "normals": Of("f4", ("n", 3)), "colors": Of("u1", ("n", 3)),
    "photos": Of("u1", ("n",)), "score": Of("f4", ("n",)), "precision": Of("f4", ("n",), optional=True, open=True),
    "angle": Of("u1", ("n",), optional=True),
})  # fmt: skip
CLEANED = Kind({"keep": Of("u1", ("b",), optional=True), "points": Of("f4", ("n", 3), optional=True)}, _one)
TIES = Kind({"ties": Of("i", ("n", 4))})
SURFACE = Kind({
    "points": Of("f4", ("v", 3)), "normals": Of("f4", ("v", 3)), "faces": Of("i4", ("t", 3), "v"),
    "colors": Of("u1", ("v", 3)), "support": Of("f4", ("v",), open=True), "deviation": Of("f4", ("v",), open=True),
    "photos": Of("u1", ("v",)), "filled": Of("?", ("v",)),
})  # fmt: skip
TEXTURE = Kind({
    "points": Of("f4", ("v", 3)), "faces": Of("i4", ("t", 3), "v"), "corner": Of("i4", ("t", 3), "m"),
    "uv": Of("f8", ("m", 2)), "vertex": Of("i4", ("m",), "v"), "page": Of("i4", ("t",)), "photo": Of("i", ("t",)),
    "tangent": Of("f4", ("m", 3), optional=True),
}, _on_pages)  # fmt: skip

#: a surface that photos are looked at with, while a texture is made
WORK_MESH = Kind({"points": Of("f8", ("v", 3)), "normals": Of("f8", ("v", 3)), "faces": Of("i4", ("t", 3), "v")})

#: a page whose texels are taken from photos, with that surface
WORK_PAGE = Kind({
    "points": Of("f8", ("v", 3)), "faces": Of("i4", ("t", 3), "v"), "owner": Of("i4", ("h", "w"), "t", -1),
    "uv": Of("f8", ("t", 3, 2)), "photo": Of("i8", ("t",)), "corner": Of("i4", ("t", 3), "s", -1),
    "added": Of("f8", ("s", 3)),
})  # fmt: skip

PICTURE = "picture"  #: a PNG or JPEG file
#: what the artefacts of results are, by their names without numbers
OF_ARTEFACT = {
    "features": FEATURES, "matches": MATCHES, "pairs": PAIRS, "block": BLOCK, "fragment": BLOCK,
    "covariance": COVARIANCE, "targets": TARGETS, "calibration": CALIBRATION, "depth": DEPTH_MAP, "cloud": CLOUD,
    "ties": TIES, "surface": SURFACE, "texture": TEXTURE, "thumbnail": PICTURE, "mask": PICTURE, "silhouette": PICTURE,
    "page": PICTURE, "normals": PICTURE, "openness": PICTURE,
}  # fmt: skip


def kind_of(name):
    """The Kind of an artefact, PICTURE, or None where it may be anything."""
    return OF_ARTEFACT.get(name.rstrip("0123456789 "))
