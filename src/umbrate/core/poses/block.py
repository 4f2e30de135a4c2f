"""The block: photos solved together, their lenses, and the tie points that hold them together.

Everything that comes after the poses reads it, so its arrays are described here and nowhere else. It never changes:
whoever moves it, adds marked points or takes points out gets another block.

Photos, lenses, points and sightings are numbered by their rows: n photos, m lenses, p points, k sightings. A sighting
is one point in one photo; sightings are sorted by point, so that those of one point stand together.
"""

from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Annotated, get_type_hints

import numpy as np

from ..geometry.lens import Lens
from ..geometry.similarity import scale_of
from .adjust import Held
from .covariance import covariance
from .frame import move_block
from .lensprior import LensPrior
from .reprojection import State, observations

#: what a point is: found by its features, a coded target, or marked by hand
FEATURE, TARGET, MARK = 0, 1, 2


def _array(dtype, *axes):
    """The type of an array of a block: its dtype, and its axes, each a number or the letter of what is counted."""
    return Annotated[np.ndarray, dtype, axes]


@dataclass(frozen=True, eq=False)
class Block:
    """Photos solved together.

    What a block does not have is None. The solver leaves out what it does not know of: names of photos, their sizes,
    colors, what a point is, and standard deviations.

    Attributes
    ----------
    poses : world to camera; rows of photos that are not `solved` are NaN
    lenses, lens_of : lens vectors (see `geometry.lens`), and the lens of each photo
    points : places of the points
    photo, point : which photo sees which point
    feature : the row of the sighting among the photo's features; targets and then marked points follow behind them
    xy, residual, sigma : seen pixels, seen minus predicted, and the standard deviations they were adjusted with
    free_lens : the lens parameters that were solved; None in blocks of the first versions, which did not keep that
    trusted : the lenses that stayed as they were
    prior : what lenses were held by; None without any
    order : rows of the solved photos in the order they were solved in
    photo_ids : the photos' numbers in the job; their rows where nobody said
    sizes : widths and heights in pixels
    colors : of the points
    kind : what each point is, one of FEATURE, TARGET, MARK
    label : the number of a target, or the identity of a marked point; without meaning for others
    point_sigma, pose_sigma : standard deviations of a point, in the unit of the block; of a photo's turn (radians) and
        of its center
    first_lenses : what solving started from
    """

    poses: _array(np.float64, "n", 4, 4)
    lenses: _array(np.float64, "m", 10)
    lens_of: _array(np.int64, "n")
    points: _array(np.float64, "p", 3)
    photo: _array(np.int64, "k")
    feature: _array(np.int64, "k")
    point: _array(np.int64, "k")
    xy: _array(np.float64, "k", 2)
    residual: _array(np.float64, "k", 2)
    sigma: _array(np.float64, "k")
    free_lens: tuple | None = ()
    trusted: tuple = ()
    prior: LensPrior | None = None
    order: tuple = ()
    photo_ids: _array(np.int64, "n") = None
    sizes: _array(np.int64, "n", 2) = None
    colors: _array(np.uint8, "p", 3) = None
    kind: _array(np.uint8, "p") = None
    label: _array(np.int64, "p") = None
    point_sigma: _array(np.float64, "p") = None
    pose_sigma: _array(np.float64, "n", 2) = None
    first_lenses: _array(np.float64, "m", 10) = None

    def __post_init__(self):
        count = {}
        for name, (dtype, axes) in _ARRAYS.items():
            if getattr(self, name) is None:
                continue
            a = np.asarray(getattr(self, name), dtype)
            wanted = [x if isinstance(x, int) else count.setdefault(x, n) for x, n in zip(axes, a.shape, strict=False)]
            if a.ndim != len(axes) or list(a.shape) != wanted:
                raise ValueError(f"{name} of a block has the shape {a.shape}, not {axes}.")
            object.__setattr__(self, name, a)
        n, p = len(self.poses), len(self.points)
        for name, end in (("lens_of", len(self.lenses)), ("photo", n), ("point", p)):
            rows = getattr(self, name)
            if len(rows) and not 0 <= rows.min() <= rows.max() < end:
                raise ValueError(f"{name} of a block leads beyond its {end} rows.")
        for name, value in (("photo_ids", np.arange(n)), ("kind", np.zeros(p, np.uint8)), ("label", np.zeros(p, int))):
            if getattr(self, name) is None:
                object.__setattr__(self, name, value)

    def __getstate__(self):
        return {f.name: getattr(self, f.name) for f in fields(self)}  # not what can be computed again

    @classmethod
    def without_sightings(cls, poses, lenses, lens_of, points, **more):
        """A block of photos and points of which nobody says who sees what."""
        none = np.zeros(0, np.int64)
        return cls(
            poses, lenses, lens_of, points, photo=none, feature=none, point=none, xy=np.zeros((0, 2)),
            residual=np.zeros((0, 2)), sigma=np.zeros(0), **more,
        )  # fmt: skip

    # ------------------------------------------------------------------ photos
    @cached_property
    def solved(self):
        """Which photos are solved, (n,) bool."""
        return np.isfinite(self.poses[:, 0, 0])

    @cached_property
    def _rows(self):
        return {int(i): k for k, i in enumerate(self.photo_ids)}

    def row_of(self, photo_id):
        """The row of a photo, or None where the block does not have it."""
        return self._rows.get(photo_id)

    def solved_row(self, photo_id):
        """The row of a photo, or None where it is not solved."""
        k = self._rows.get(photo_id)
        return k if k is not None and self.solved[k] else None

    @cached_property
    def solved_rows(self):
        """The rows of the solved photos by their numbers in the job, in the order of the rows."""
        return {int(self.photo_ids[k]): int(k) for k in np.flatnonzero(self.solved)}

    @cached_property
    def eyes(self):
        """Where the photos were taken from, (n, 3); NaN where not solved."""
        return -np.einsum("nji,nj->ni", self.poses[:, :3, :3], self.poses[:, :3, 3])

    def lens_vector(self, row):
        """The lens vector (10,) of a photo."""
        return self.lenses[self.lens_of[row]]

    def lens(self, row):
        """The Lens of a photo."""
        return Lens.from_vector(*self.sizes[row], self.lens_vector(row))

    def in_photo(self, row):
        """The sightings (rows) in a photo."""
        return np.flatnonzero(self.photo == row)

    # ------------------------------------------------------------------ points
    @cached_property
    def start(self):
        """Where the sightings of each point begin, (p + 1,)."""
        return np.searchsorted(self.point, np.arange(len(self.points) + 1))

    def of_point(self, row):
        """The sightings of a point, as a slice."""
        return slice(self.start[row], self.start[row + 1])

    @cached_property
    def photos_of(self):
        """How many photos see each point, (p,)."""
        return np.bincount(self.point, minlength=len(self.points))

    @cached_property
    def targets(self):
        """The rows of the targets by their numbers, in the order of the numbers."""
        rows = np.flatnonzero(self.kind == TARGET)
        return {int(n): int(r) for n, r in sorted(zip(self.label[rows], rows, strict=True))}

    @cached_property
    def marks(self):
        """The rows of the marked points by their identities."""
        rows = np.flatnonzero(self.kind == MARK)
        return {int(self.label[r]): int(r) for r in rows}

    @property
    def rms_px(self):
        """Root mean square length of the residuals in pixels."""
        return float(np.sqrt((self.residual**2).sum(1).mean())) if len(self.residual) else 0.0

    def covariance(self, of_points=True):
        """The Covariance of the solved photos' poses, in the order of their rows, of the lenses and the points.

        of_points : whether those of the points are computed, which takes longest
        """
        b = self.of_solved()
        return covariance(b.state, b.observations, b.free_lens, held=b.held, of_points=of_points)

    # ------------------------------------------------------------------ for an adjustment
    @property
    def state(self):
        """What an adjustment of the block moves."""
        return State(self.poses, self.lenses, self.points)

    @property
    def observations(self):
        """What its photos saw, as an adjustment takes it."""
        return observations(self.lens_of, self.photo, self.point, self.xy, self.sigma, len(self.points))

    @property
    def held(self):
        """What held its lenses when it was solved."""
        return Held(lenses=self.trusted, lens_prior=self.prior)

    # ------------------------------------------------------------------ other blocks
    def moved(self, M):
        """The block after a similarity (4, 4)."""
        if np.allclose(M, np.eye(4), rtol=0, atol=1e-15):
            return self
        poses, points = move_block(self.poses, self.points, M)
        s = scale_of(M)
        return replace(
            self, poses=poses, points=points,
            point_sigma=None if self.point_sigma is None else s * self.point_sigma,
            pose_sigma=None if self.pose_sigma is None else self.pose_sigma * [1.0, s],
        )  # fmt: skip

    def of_solved(self):
        """The block of the solved photos alone."""
        if self.solved.all():
            return self
        row = np.cumsum(self.solved) - 1
        order = tuple(int(row[i]) for i in self.order)
        return replace(self, **self._some("n", self.solved), photo=row[self.photo], order=order)

    def keeping(self, points):
        """The block with some of its points (p,) bool only, and their sightings."""
        seen, row = points[self.point], np.cumsum(points) - 1
        sightings = {**self._some("k", seen), "point": row[self.point[seen]]}
        return replace(self, **self._some("p", points), **sightings)

    def _some(self, what, rows):
        """Those arrays whose rows are the photos, points or sightings, with some of their rows."""
        mine = {name: getattr(self, name) for name, (_, axes) in _ARRAYS.items() if axes[0] == what}
        return {name: a[rows] for name, a in mine.items() if a is not None}

    # ------------------------------------------------------------------ in the job
    def arrays(self):
        """The arrays that a job keeps, by the names docs/formats.md gives; the inverse of `from_arrays`."""
        n, p = len(self.poses), len(self.points)
        order = np.full(n, -1)
        order[list(self.order)] = np.arange(len(self.order))
        prior = self.prior or LensPrior.of_sigmas(self.lenses, np.inf)
        single = self.xy.astype(np.float32)
        return {
            "mark": np.where(self.kind == MARK, self.label, -1),
            "free": np.array(sorted(self.free_lens or ()), np.int64),
            "trusted": np.array(self.trusted, np.int64),
            "prior_mean": prior.mean,
            "prior_information": prior.information,
            "first_lenses": self.lenses if self.first_lenses is None else self.first_lenses,
            "photo_ids": self.photo_ids,
            "poses": self.poses,
            "lenses": self.lenses,
            "lens_of": self.lens_of,
            "sizes": np.zeros((n, 2), np.int64) if self.sizes is None else self.sizes,
            "points": self.points,
            "colors": np.full((p, 3), 128, np.uint8) if self.colors is None else self.colors,
            "photo": self.photo.astype(np.int32),
            "feature": self.feature.astype(np.int32),
            "point": self.point.astype(np.int32),
            "xy": single if np.array_equal(single, self.xy) else self.xy,
            "residual": self.residual.astype(np.float32),
            "sigma": self.sigma.astype(np.float32),
            "number": np.where(self.kind == TARGET, self.label, -1),
            "order": order,
            "point_sigma": np.zeros(p, np.float32) if self.point_sigma is None else self.point_sigma.astype(np.float32),
            "pose_sigma": np.full((n, 2), np.nan) if self.pose_sigma is None else self.pose_sigma,
        }

    @classmethod
    def from_arrays(cls, a):
        """The block of the arrays that a job keeps, those of older versions too.

        Raises
        ------
        KeyError, ValueError
            Where an array is missing or has another shape.
        """
        p, k = len(a["points"]), len(a["point"])
        number, mark = a["number"], a.get("mark", np.full(p, -1))
        order = a.get("order", np.zeros(0, int))
        return cls(
            a["poses"], a["lenses"], a["lens_of"], a["points"], a["photo"], a["feature"], a["point"],
            a.get("xy", np.zeros((k, 2))), a.get("residual", np.zeros((k, 2))), a.get("sigma", np.ones(k)),
            free_lens=tuple(a["free"].tolist()) if "free" in a else None,
            trusted=tuple(a["trusted"].tolist()) if "trusted" in a else (),
            prior=_prior_of(a),
            order=tuple(int(i) for i in np.argsort(order, kind="stable") if order[i] >= 0),
            photo_ids=a["photo_ids"], sizes=a.get("sizes"), colors=a.get("colors"),
            kind=np.where(mark >= 0, MARK, np.where(number >= 0, TARGET, FEATURE)),
            label=np.where(mark >= 0, mark, np.maximum(number, 0)),
            point_sigma=a.get("point_sigma"), pose_sigma=a.get("pose_sigma"), first_lenses=a.get("first_lenses"),
        )  # fmt: skip


def _prior_of(a):
    """The LensPrior among the arrays that a job keeps, or None; the first versions kept standard deviations."""
    if "prior_information" in a:
        prior = LensPrior(a["prior_mean"], a["prior_information"])
    elif "prior_sigma" in a:
        prior = LensPrior.of_sigmas(a["prior_mean"], a["prior_sigma"])
    else:
        return None
    return prior if prior.information.any() else None


_ARRAYS = {
    name: hint.__metadata__
    for name, hint in get_type_hints(Block, include_extras=True).items()
    if hasattr(hint, "__metadata__")
}
