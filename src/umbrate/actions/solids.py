"""What a surface measures, each value with its interval: area, volume, sizes, thickness, sections.

A surface moves with the photos that it comes from. It is divided into patches; how well the place of each is known, and
how these go together, follows from the network of photos and from scale as for any other place (see `measuring`). A
value's derivative by the vertices, summed over each patch, gives its variance. Besides, a surface as a whole lies a
little outside or inside (what photos have in common, `COMMON_PX`), and the patches each a little more (`PATCH_PX`).

What no points hold is another matter: nobody knows how deep a hollow goes that photos cannot see into. Its share is
stated, and the interval of a volume reaches so far down as such hollows may be deep (`DEEP`).
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from ..core.errors import UmbrateError
from ..core.measure.quantities import K95
from ..core.measure.solid import (
    area_derivative,
    area_of,
    filled_share,
    hollows,
    patches,
    surface_section,
    thickness,
    under_curves,
    volume_derivative,
)
from ..core.surface.mesh import areas, opposite, volume
from ..sitting.frames import move_points
from ..sitting.surfaces import moved, raw_surface
from .measuring import COMMON_PX as PLACE_PX
from .measuring import Measurer, with_interval

PATCHES = 40
COMMON_PX = 0.04  #: of a photo's pixel: how far a surface as a whole lies off: on the demo 0.02 to 0.05
PATCH_PX = 0.18  #: and each patch for itself: on the demo the means of 40 spread by 0.2, of which 0.09 is the network's
DEEP = 3.0  #: widths: so deep a hollow may go on unseen; a bound that holds the bores of the demo, 2 did not
SLANT = 0.15  #: cosine: flatter on a section's plane a surface is not reckoned with
BEHIND = 300  #: places of a hollow behind which the thickness is taken
AXES = ("x", "y", "z")


def rounded(x):
    """A number with three digits that say something, without a power of ten."""
    return f"{float(f'{x:.3g}'):,g}"


@dataclass(frozen=True)
class Value:
    """A value with its interval of 95 %: it may be lower by `below` and higher by `above`."""

    name: str
    value: float
    below: float
    above: float
    unit: str
    note: str = ""

    @property
    def text(self):
        """For people: one number for both sides where they are alike, none where it has no interval."""
        if not np.isfinite(self.below):
            return f"{self.value:.4g} {self.unit}".strip()
        if abs(self.below - self.above) <= 0.05 * max(self.below, self.above):
            return with_interval(self.value, max(self.below, self.above), self.unit)
        digits = int(np.clip(1 - np.floor(np.log10(max(min(self.below, self.above), 1e-12))), 0, 6))
        low, high = f"{self.below:.{digits}f}", f"{self.above:.{digits}f}"
        return f"{self.value:.{digits}f} (-{low} +{high}) {self.unit}".strip()


class SurfaceMeasurer:
    """Measures one surface of a sitting as it is mended now.

    Raises
    ------
    UmbrateError
        Where there is no surface, or no poses that say how sure places are.
    """

    def __init__(self, job, sitting, kept=None):
        kept = kept or job.surface(sitting.id)
        if kept is None:
            raise UmbrateError(f"“{sitting.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
        of = Measurer(job, sitting)
        M = of.from_plain @ np.linalg.inv(np.array(kept.from_plain, float))
        self._take(of, moved(raw_surface(job, kept), M))

    @classmethod
    def of_mesh(cls, measurer, mesh):
        """That of a surface's arrays in the frame of a Measurer's block."""
        out = cls.__new__(cls)
        out._take(measurer, mesh)
        return out

    def _take(self, of, mesh):
        self.of, self.mesh = of, mesh
        self.points, self.faces = self.mesh["points"].astype(np.float64), self.mesh["faces"]
        self.unit = self.of.frame.unit
        self.closed = bool((opposite(self.faces, len(self.points)) >= 0).all())
        self.areas = areas(self.points, self.faces)
        self._patches()

    def _patches(self):
        """Divide what points hold into patches; the covariance of their places along x, y, z (3 m, 3 m)."""
        held = np.flatnonzero(~self.mesh["filled"])
        if len(held) < PATCHES:
            raise UmbrateError("Points hold too little of this surface to say how sure it is.")
        rows, own = patches(self.points[held], PATCHES)
        seen, number = [], np.full(len(rows), -1)
        for k, r in enumerate(held[rows]):
            try:
                place = self.of.seen_at(self.points[r], self.mesh["normals"][r].astype(float), 0.0, PATCH_PX)
            except UmbrateError:
                continue
            number[k] = len(seen)
            seen.append(place)
        if not seen:
            raise UmbrateError("Too few photos see this surface to say how sure it is.")
        for k in np.flatnonzero(number < 0):  # it moves as the nearest that is known
            d = np.linalg.norm(self.points[held[rows]] - self.points[held[rows[k]]], axis=1)
            number[k] = number[np.where(number >= 0, d, np.inf).argmin()]
        self.patch = np.full(len(self.points), -1)
        self.patch[held] = number[own]
        if len(held) < len(self.points):  # and so does what no points hold
            every = np.array([s.xyz for s in seen])
            rest = np.flatnonzero(self.patch < 0)
            self.patch[rest] = [int(((every - x) ** 2).sum(1).argmin()) for x in self.points[rest]]
        self.count = len(seen)
        cov = self.of.joint(seen)
        self.cov = (cov + cov.T) / 2
        normals = self.mesh["normals"].astype(float)
        self.common = COMMON_PX * float(np.median([self._pixel(s, normals[held[rows[k]]]) for k, s in enumerate(seen)]))

    def _pixel(self, seen, normal):
        """How far a place moves along its normal for a pixel that all its photos have in common."""
        variance = float(normal @ seen.own @ normal)
        return np.sqrt(max(variance, 0.0)) / PATCH_PX

    def half(self, derivative, places=0):
        """Half of the interval of 95 % of a value, from its derivative by the vertices (n, 3).

        places : how many places it hangs on alone, with the noise that a single one has
        """
        g = np.stack([np.bincount(self.patch, derivative[:, k], self.count) for k in range(3)], 1).ravel()
        outward = float((derivative * self.mesh["normals"]).sum())
        variance = float(g @ self.cov @ g) + (self.common * outward) ** 2
        variance += places * (PLACE_PX / COMMON_PX * self.common) ** 2
        return K95 * float(np.sqrt(max(variance, 0.0)))

    # ------------------------------------------------------------------ values
    def all(self):
        """Area, volume and sizes: Values."""
        out = [self.area()]
        if self.closed:
            out.append(self.volume())
        return [*out, *self.sizes()]

    def _square(self, power):
        return f"{self.unit}{power}" if self.unit else ""

    def area(self):
        """Of all triangles; what no points hold may be hollows, with walls that nobody saw."""
        _, share = filled_share(self.faces, self.mesh["filled"], self.areas)
        value = area_of(self.points, self.faces)
        half = self.half(area_derivative(self.points, self.faces))
        walls = sum(np.pi * h.across * deep for h, deep in self.unseen)
        note = f"{100 * share:.1f} % of it no points hold" if share > 0 else ""
        return Value("Area", value, half, half + walls, self._square("²"), note)

    def volume(self):
        """Inside a closed surface.

        Raises
        ------
        UmbrateError
            Where it is open.
        """
        if not self.closed:
            raise UmbrateError(
                "This surface is open, so it has no inside. Fill its holes, or make a closed one.",
                ("set", "mode", "closed"),
            )
        value = volume(self.points, self.faces)
        half = self.half(volume_derivative(self.points, self.faces))
        deep = min(sum(deep * h.area for h, deep in self.unseen), value)
        bulge = sum(h.across * h.area / 8 for h, _ in self.unseen)  # a cap over it, as high as photos would let pass
        note = ""
        if deep > 0:
            note = (
                f"of it up to {rounded(deep)} {self._square('³')}".rstrip() + " may be hollows that no photo sees into"
            )
        flat = under_curves(self.points, self.faces, self.mesh["normals"])  # triangles lie inside what bulges
        deep, bulge = deep + max(-flat, 0.0), bulge + max(flat, 0.0)
        below, above = half + deep, half + bulge  # bounds add up, as nothing says that they are chance
        return Value("Volume", value, below, above, self._square("³"), note)

    @cached_property
    def unseen(self):
        """Each Hollow, and how deep it may be: some widths, but not out of the other side."""
        have = hollows(self.points, self.faces, self.mesh["filled"])
        rows = [h.rows[:: max(1, len(h.rows) // BEHIND)] for h in have]
        if not have:
            return []
        behind, _ = thickness(self.points, self.faces, self.mesh["normals"], np.concatenate(rows))
        parts = np.split(behind, np.cumsum([len(r) for r in rows])[:-1])
        most = [float(np.nanmedian(b)) if np.isfinite(b).any() else np.inf for b in parts]
        return [(h, min(DEEP * h.across, m)) for h, m in zip(have, most, strict=True)]

    def sizes(self):
        """Along the job's axes, from the first to the last place: Values."""
        M = self.of.to_job
        X = move_points(self.points, M)
        held = ~self.mesh["filled"]
        out = []
        for k, name in enumerate(AXES):
            low, high = int(X[:, k].argmin()), int(X[:, k].argmax())
            d = np.zeros((len(X), 3))
            along = M[k, :3] / np.linalg.norm(M[k, :3])
            d[high], d[low] = along, -along
            half = self.half(d, 2)
            sure = held[low] and held[high]
            note = "" if sure else "it ends where no points hold the surface"
            out.append(Value(f"Size along {name}", float(X[high, k] - X[low, k]), half, half, self.unit, note))
        return out

    def thickness_at(self, place):
        """The thickness at the vertex nearest to a place of the job's frame: a Value.

        Raises
        ------
        UmbrateError
            Where the surface is open, or its other side is not met.
        """
        at = move_points(np.asarray(place, float)[None], np.linalg.inv(self.of.to_job))[0]
        row = int(((self.points - at) ** 2).sum(1).argmin())
        thick, which = thickness(self.points, self.faces, self.mesh["normals"], [row])
        if not np.isfinite(thick[0]):
            raise UmbrateError("The other side is not met straight through here. Choose a place beside it.")
        n = self.mesh["normals"][row].astype(float)
        d = np.zeros((len(self.points), 3))
        d[row] = n
        d[self.faces[which[0]]] -= n / 3
        half = self.half(d, 2)
        other = self.mesh["filled"][self.faces[which[0]]].any() or self.mesh["filled"][row]
        note = "one of its sides no points hold" if other else ""
        return Value("Thickness", float(thick[0]), half, half, self.unit, note)

    def section(self, place, normal):
        """The Section by a plane of the job's frame, and Values of its length and area (where it is closed).

        Raises
        ------
        UmbrateError
            Where the plane misses the surface.
        """
        X = move_points(self.points, self.of.to_job)
        made = surface_section(X, self.faces, place, normal)
        if made is None:
            raise UmbrateError("The section's plane does not meet the surface. Move it, or choose another direction.")
        made.offset = self.of.frame.offset
        # the surface moves along its normal; the more it slants against the plane, the farther the outline moves
        R = self.of.to_job[:3, :3] / np.cbrt(np.linalg.det(self.of.to_job[:3, :3]))
        of_area, of_length = np.zeros((len(X), 3)), np.zeros((len(X), 3))
        rows = _nearest_rows(X, [made.origin + x[:, :1] * made.u + x[:, 1:] * made.v for x in made.lines])
        for line, near in zip(made.lines, rows, strict=True):
            step = np.diff(line, axis=0)
            long = np.linalg.norm(step, axis=1, keepdims=True)
            along = step / np.maximum(long, 1e-300)
            e = np.stack([-along[:, 1], along[:, 0]], 1)
            N = self.mesh["normals"][near[:-1]].astype(float)
            out = (e[:, :1] * made.u + e[:, 1:] * made.v) @ R
            cos = (N * out).sum(1, keepdims=True)
            moves = N / np.where(np.abs(cos) < SLANT, np.copysign(SLANT, cos), cos)
            turn = -(np.diff(along, axis=0, append=along[:1]) * e).sum(1, keepdims=True)
            for k in range(3):
                of_area[:, k] += np.bincount(near[:-1], (long * moves)[:, k], len(X))
                of_length[:, k] += np.bincount(near[1:], (turn * moves)[:, k], len(X))
        half = self.half(of_length)
        values = [Value("Outline", made.length, half, half, self.unit)]
        if made.area is not None:
            half = self.half(of_area)
            values.append(Value("Section area", made.area, half, half, self._square("²")))
        return made, values


def _nearest_rows(points, lines):
    """The row of the point nearest to each place of some lines."""
    tree = scipy.spatial.cKDTree(points)
    return [tree.query(x, workers=-1)[1] for x in lines]


def thickness_map(mesh):
    """Thickness (n,) float32 at all vertices of a surface, not a number where its other side is not met."""
    return thickness(mesh["points"], mesh["faces"], mesh["normals"])[0].astype(np.float32)
