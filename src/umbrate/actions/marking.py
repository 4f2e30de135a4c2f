"""Points marked by hand, seen from the block that is there: where each lies, how well its sightings agree, where to
look for it in the other photos. Nothing is adjusted here, so all of it follows a mark while it is dragged.
"""

from dataclasses import dataclass

import numpy as np

from ..core.errors import UmbrateError
from ..core.geometry.sightings import line_in, locate, pixels
from ..core.measure.network import SeenPoint
from ..core.measure.pairs import stereo_pair
from ..formats.coordinates import read_coordinates, write_coordinates
from ..formats.drawings import shape_size, write_shapes_dxf, write_shapes_obj
from ..formats.files import CLOSED
from ..job.marks import mark_of
from ..sitting.endpoints import network_of
from ..sitting.frames import frame_of, move_points, raw_block, scale_result
from ..sitting.marks import seen_in

NEAR_POINTS = 12  #: tie points round a place that tell which photos see it
LOOSE_PX = 300.0  #: a predicted spot less sure than this is no help


@dataclass(frozen=True)
class Guide:
    """Where to look for a point in a photo.

    Attributes
    ----------
    line : (n, 2) or None
        The line it must lie on, after one sighting elsewhere.
    spot : (2,) or None
        Where it is predicted, after two or more elsewhere; `covariance` (2, 2) in pixels says how surely.
    """

    line: np.ndarray | None = None
    spot: np.ndarray | None = None
    covariance: np.ndarray | None = None


@dataclass(frozen=True)
class Seen:
    """One sighting and what the others say of it: pixels, residual (2,) seen less predicted, or None."""

    photo_id: int
    xy: tuple
    sigma_px: float
    used: bool
    residual: tuple | None

    @property
    def length(self):
        """Of the residual in pixels, or None."""
        return None if self.residual is None else float(np.hypot(*self.residual))


class Marking:
    """A sitting's marked points against its block.

    Raises no error where there is no block: then nothing is predicted.
    """

    def __init__(self, job, sitting):
        self.job, self.sitting = job, sitting
        block, self.from_plain = raw_block(job, sitting)
        self.block = self.network = None
        if block is not None:
            self.block = block.of_solved()
            try:
                self.network = network_of(job, scale_result(job, sitting) or job.result(sitting.id, "poses"), block)
            except UmbrateError:
                self.network = None
            self.to_job = frame_of(job, sitting).matrix @ np.linalg.inv(self.from_plain)

    def _sightings(self, point, leave=None):
        """The Sightings of a point in solved photos that count, or None where there are none."""
        if self.block is None:
            return None
        seen = seen_in(
            self.block, [(s.photo_id, s.x, s.y, s.sigma_px) for s in point.sightings if s.used and s.photo_id != leave]
        )
        return seen if len(seen.photo) else None

    def _locate(self, seen):
        b = self.block
        return locate(b.poses, b.lenses, b.lens_of, seen)

    def place(self, point):
        """Where a point lies in the job's frame (3,), or None."""
        seen = self._sightings(point)
        X = self._locate(seen)[0] if seen is not None else None
        return None if X is None else move_points(X[None], self.to_job)[0]

    def seen(self, point):
        """All sightings of a point as Seen, the worst residual first."""
        found = {}
        seen = self._sightings(point)
        X, residual = self._locate(seen) if seen is not None else (None, None)
        if X is not None:
            found = dict(zip(seen.photo.tolist(), residual, strict=True))
        out = []
        for s in point.sightings:
            k = None if self.block is None else self.block.row_of(s.photo_id)
            r = found.get(k) if s.used else None
            if r is None and X is not None and k is not None:
                b = self.block
                r = np.array([s.x, s.y]) - pixels(b.poses, b.lenses, b.lens_of, [k], X)[0]
            ok = r is not None and np.isfinite(r).all()
            out.append(Seen(s.photo_id, (s.x, s.y), s.sigma_px, s.used, tuple(r.tolist()) if ok else None))
        return sorted(out, key=lambda s: -(s.length or 0.0))

    def rms(self, point):
        """Root mean square residual of a point's used sightings in pixels, or None."""
        lengths = [s.length for s in self.seen(point) if s.used and s.length is not None]
        return float(np.sqrt(np.mean(np.square(lengths)))) if len(lengths) >= 2 else None

    def guide(self, point, photo_id, size):
        """The Guide to a point in a photo, from its sightings in the others.

        size : (width, height) of the photo
        """
        k = None if self.block is None else self.block.row_of(photo_id)
        if k is None or not point.used:
            return Guide()
        seen = self._sightings(point, leave=photo_id)
        if seen is None:
            return Guide()
        b = self.block
        if len(seen.photo) == 1:
            away = np.linalg.norm(b.points - b.eyes[seen.photo[0]], axis=1)
            near, far = np.percentile(away, 2), np.percentile(away, 98)
            line = line_in(b.poses, b.lenses, b.lens_of, seen, k, size, (max(0.5 * near, 1e-6), 1.5 * far))
            return Guide(line=line if len(line) >= 2 else None)
        X, _ = self._locate(seen)
        if X is None:
            return Guide()
        spot = pixels(b.poses, b.lenses, b.lens_of, [k], X)[0]
        if not np.isfinite(spot).all():
            return Guide()
        cov = np.eye(2)
        if self.network is not None:
            cov = self.network.spot(SeenPoint(X, seen.photo, seen.xy, seen.sigma), k)
        if np.sqrt(np.trace(cov)) > LOOSE_PX:
            return Guide()
        return Guide(spot=spot, covariance=cov)

    def photos_to_mark(self, point):
        """Photos (ids) in which a point should be seen and is not marked yet, the surest first."""
        marked = {s.photo_id for s in point.sightings}
        seen = self._sightings(point)
        if seen is None:
            return [p.id for p in self.job.photos(self.sitting.id, aside=False) if p.id not in marked]
        b = self.block
        X = self._locate(seen)[0] if len(seen.photo) >= 2 else None
        if X is None:
            # after one sighting: photos that share most points with that photo
            near = np.unique(b.point[b.in_photo(seen.photo[0])])
            share = np.bincount(b.photo[np.isin(b.point, near)], minlength=len(b.poses))
        else:
            near = np.argsort(((b.points - X) ** 2).sum(1), kind="stable")[:NEAR_POINTS]
            share = np.bincount(b.photo[np.isin(b.point, near)], minlength=len(b.poses))
            at = pixels(b.poses, b.lenses, b.lens_of, range(len(b.poses)), X)
            with np.errstate(invalid="ignore"):
                share = share * ((at > 0) & (at < b.sizes)).all(1)
        order = np.argsort(-share, kind="stable")
        return [int(b.photo_ids[k]) for k in order if share[k] > 0 and int(b.photo_ids[k]) not in marked]


# ---------------------------------------------------------------------- files
def take_coordinates(job, sitting, path, unit=None, sigma_mm=None, held=True):
    """Take known coordinates from a CSV file; returns how many. Nothing is taken where a line is wrong."""
    points = read_coordinates(path, unit, sigma_mm)
    job.take_known_points(sitting.id, [(p.name, p.xyz, p.sigma) for p in points], held)
    return len(points)


def know(job, sitting, end, known, sigma=None, held=True):
    """Say which coordinates an end (a target or a marked point) is known to have, in mm; None: none."""
    mark = mark_of(end)
    if mark is None:
        job.set_known_target(sitting.id, int(end), known, sigma, held)
    else:
        job.set_marked_point(mark, known=known, known_sigma=sigma, held=held and known is not None)


def export_points(job, sitting, path, gate=CLOSED):
    """Write marked points and targets with their coordinates in the job's frame as CSV; returns how many."""
    from .measuring import Measurer

    m = Measurer(job, sitting)
    names = [p.name for p in job.marked_points(sitting.id) if p.used]
    rows = []
    for end in [*names, *map(str, m.block.targets)]:
        try:
            v = m.measure("point", [end])
        except UmbrateError:
            continue
        rows.append((end, v["value"], [h / 1.96 for h in v["half95"]]))
    if not rows:
        raise UmbrateError(f"“{sitting.name}” has no marked points or targets in its block yet.")
    write_coordinates(path, rows, m.frame.unit, gate)
    return len(rows)


def drawn(job, sitting):
    """Marked points, lines and faces in the job's frame: dict of name to (3,), lists of (name, (n, 3))."""
    marking = Marking(job, sitting)
    places = {p.id: (p.name, marking.place(p)) for p in job.marked_points(sitting.id) if p.used}
    places = {i: x for i, x in places.items() if x[1] is not None}
    lines, faces = [], []
    for s in job.drawn_shapes(sitting.id):
        if all(i in places for i in s.points):
            (faces if s.kind == "face" else lines).append((s.name, np.array([places[i][1] for i in s.points])))
    return {name: X for name, X in places.values()}, lines, faces


def shape_sizes(job, sitting):
    """Lines and faces whose points lie in the block: (name, "line" or "face", length or area as text) of each."""
    _, lines, faces = drawn(job, sitting)
    unit = frame_of(job, sitting).unit
    out = [(n, "line", f"{shape_size('line', X):.3f} {unit}".strip()) for n, X in lines]
    return out + [(n, "face", f"{shape_size('face', X):.3f} {unit}{'²' * bool(unit)}".strip()) for n, X in faces]


def export_shapes(job, sitting, path, gate=CLOSED):
    """Write marked points, lines and faces as DXF or OBJ, by the file's ending; returns how many."""
    points, lines, faces = drawn(job, sitting)
    if not points:
        raise UmbrateError(f"“{sitting.name}” has no marked points in its block yet.")
    unit = frame_of(job, sitting).unit
    end = str(path).lower().rpartition(".")[2]
    if end not in ("dxf", "obj"):
        raise UmbrateError(f"{path}: lines and faces go out as .dxf or .obj.")
    (write_shapes_dxf if end == "dxf" else write_shapes_obj)(path, points, lines, faces, unit, gate)
    return len(points) + len(lines) + len(faces)


def pair_figures(job, sitting, first, second):
    """The StereoPair of two photos (ids), in the job's unit.

    Raises
    ------
    UmbrateError
        Where one is not solved or they see nothing together.
    """
    if first == second:
        raise UmbrateError("A photo makes no pair with itself. Name two photos.")
    block, _ = raw_block(job, sitting)
    if block is None:
        raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
    a, b = block.solved_row(first), block.solved_row(second)
    if a is None or b is None:
        raise UmbrateError("One of the two photos is not solved.")
    sees = [np.unique(block.point[block.in_photo(k)]) for k in (a, b)]
    both = np.intersect1d(*sees)
    points = block.points[both] if len(both) >= 3 else block.points[np.union1d(*sees)]
    return stereo_pair(block.poses[a], block.poses[b], block.lens_vector(a)[0], points)
