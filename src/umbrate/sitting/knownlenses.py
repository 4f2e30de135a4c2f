"""All lenses of a job, with how well they are known and how far apart they are."""

from dataclasses import dataclass, field

import numpy as np

from ..core.geometry.lens import PARAMETER_NAMES, Lens
from ..core.lens.compare import field_difference
from .endpoints import spreads_of
from .frames import raw_block
from .lenses import group_name
from .photos import photo_refs

IN_PIXELS = ("f", "cx", "cy", "b1", "b2")


@dataclass(frozen=True)
class KnownLens:
    """A lens as a sitting has it.

    Attributes
    ----------
    sitting_id : int
    sitting, group : str
        Name of the sitting; camera, focal length and size of its photos.
    photos : int
    source : str
        Where it comes from, in words.
    lens : Lens
    sigma : dict of parameter name to float
        Standard deviations; what was held is not in it.
    held : dict of parameter name to float
        What is held at a value.
    apart_px, apart_from : float, str
        How far it is at most, over the picture, from the first lens of the job for such photos, and whose that is: None
        and "" for the first itself.
    """

    sitting_id: int
    sitting: str
    group: str
    photos: int
    source: str
    lens: Lens
    sigma: dict
    held: dict = field(default_factory=dict)
    apart_px: float | None = None
    apart_from: str = ""

    def lines(self):
        """Each parameter in words: name, value with its standard deviation; not those that stayed at 0."""
        out = []
        for name, value in zip(PARAMETER_NAMES, self.lens.vector, strict=True):
            digits, unit = (2, " px") if name in IN_PIXELS else (5, "")
            if name in self.sigma:
                out.append((name, f"{value:.{digits}f} ± {self.sigma[name]:.{digits}f}{unit}"))
            elif value:
                out.append((name, f"{value:.{digits}f}{unit}, not solved"))
        return out


def lenses_known(job):
    """All KnownLenses of a job, by sittings: solved with the poses, else calibrated or of a card."""
    out, first = [], {}
    for s in job.sittings():
        for x in _of_sitting(job, s):
            key = x.group, x.lens.width, x.lens.height
            if key in first:
                apart = float(field_difference(x.lens, first[key].lens).max())
                x = KnownLens(**{**vars(x), "apart_px": apart, "apart_from": first[key].sitting})
            else:
                first[key] = x
            out.append(x)
    return out


def _of_sitting(job, sitting):
    done = job.result(sitting.id, "lens")
    groups = done.figures.groups if done else []
    group_of = {i: g for g in groups for i in g.photos}
    photos = {p.id: p for p in photo_refs(job, sitting)}
    block, _ = raw_block(job, sitting)
    if block is None:
        for g in groups:
            if g.lens is not None and g.photos:
                source = f"card “{g.card}”" if g.card else "calibrated from these photos"
                yield KnownLens(
                    sitting.id, sitting.name, g.name, len(g.photos), source, Lens.from_dict(g.lens), dict(g.sigma)
                )
        return
    _, spreads = spreads_of(job, sitting)
    for m, vector in enumerate(block.lenses):
        mine = [int(i) for i, k, on in zip(block.photo_ids, block.lens_of, block.solved, strict=True) if k == m and on]
        some = next((photos[i] for i in mine if i in photos), None)
        if some is None:
            continue
        g = group_of.get(some.id)
        trusted = g is not None and g.lens is not None and g.use == "trusted"
        known = f"card “{g.card}”" if g is not None and g.card else "the calibration"
        start = f"{known}, {'as it is' if trusted else 'refined'}" if g is not None and g.lens else ""
        yield KnownLens(
            sitting.id, sitting.name, group_name(some), len(mine), start or "solved with the poses",
            Lens.from_vector(some.width, some.height, np.array(vector)),
            dict(g.sigma) if trusted else spreads[m] if m < len(spreads) else {},
            dict(g.held) if g is not None else {},
        )  # fmt: skip
