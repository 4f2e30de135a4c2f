"""A function in space that is zero on the surface, negative inside: known near points, even where there are none.

Where points hold it, it is their signed distance (see `fit`), untouched: what is measured is not smoothed by what is
not. Elsewhere it is as even as can be, each value the mean of those beside it (as the diffusion of Davis, Marschner,
Garr and Levoy 2002): a mean never leaves the range of what it is taken of, so nothing rings at the rim of a hole, and
between the two the share of the points goes down as they thin out. It is made on a lattice of a few cells first, round
all points, and at half the width of cells each time then, where points are and where it changes its sign; the coarser
one gives what it starts from, its values where the finer one is cut off, and what points that are too sparse for the
finer one hold. On coarser levels points stand together by cell, and are not asked where a surface is finer than the
level can tell.

Where photos saw through (see `dense.through`), and no points hold it, it is positive: that is known on every level, and
cells where it begins are halved as those with points are.

The finest level is made in slabs across x. A value depends on what is within as many cells as there are rounds of
taking means, and slabs overlap by that: so it does not matter where they begin. Points are fitted to by slabs as well,
in the cells that they have among all points, so sums are the same; memory depends on a slab but for a row of each
point.
"""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numba import njit

from ..cloud.grid import in_threads
from .cubes import triangles_of
from .fit import Fit, How
from .lattice import BITS, Lattice, among, children, halved, keys_of, neighbors_of, numbers_of, rows_of, unique, widened

ROOT, PAD = 16, 4  #: cells across all points on the coarsest level, and beyond them on each side
ROOT_ROUNDS, ROUNDS = 800, 12  #: of taking means: on the coarsest level, and on every other
DAMP = 0.8  #: share of the mean in a round
CUT = 1.5  #: cells: farther from the surface than this no value is needed
SLAB = 1_200_000  #: cells of a slab, without its overlap
PART = 1_000_000  #: points that are placed at once
NEAREST = 1.9  #: cells: farther from all points there is no fit; the diagonal of one is 1.73
INHERIT = 0.5  #: of what a coarser level is sure of, where the finer one has no points
EMPTY = 0.5  #: cells: value of what photos saw through: more would push the surface away from it


@njit(cache=True, nogil=True)
def _means(values, target, hold, beside, out, first, last):
    """One round: values that are not held move to the mean of the six beside them; where one is missing they stay."""
    for i in range(first, last):
        total = np.float32(0)
        whole = True
        for k in range(6):
            j = beside[i, k]
            if j < 0:
                whole = False
                break
            total += values[j]
        if not whole:
            out[i] = values[i]
            continue
        mean = hold[i] * target[i] + (np.float32(1) - hold[i]) * total * np.float32(1 / 6)
        out[i] = values[i] + np.float32(DAMP) * (mean - values[i])


def relaxed(values, target, hold, beside, rounds):
    """Values (n,) after rounds of means; `hold` (n,) from 0, free, to 1, `target` itself; beside (n, 6) rows or -1."""
    other = np.empty_like(values)
    for _ in range(rounds):
        in_threads(_means, len(values), values, target, hold, beside, other)
        values, other = other, values
    return values


class Points(NamedTuple):
    """Oriented points in cells of the finest level: places (n, 3) float32, unit normals (n, 3), weights (n,)."""

    places: np.ndarray
    normals: np.ndarray
    weights: np.ndarray


def gathered_by_cell(points):
    """Points that stand for those in each cell of width 1 whose normals point to the same side, an axis' or against."""
    n = points.normals
    main = np.abs(n).argmax(1)
    side = 2 * main + (np.take_along_axis(n, main[:, None], 1)[:, 0] < 0)
    keys = keys_of(points.places) * 8 + side  # 63 bits
    order = np.argsort(keys, kind="stable")
    keys = keys[order]
    first = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
    w = points.weights[order].astype(float)
    total = np.add.reduceat(w, first)

    def mean(x):
        return np.stack([np.add.reduceat(x[order, k] * w, first) for k in range(3)], 1) / total[:, None]

    m = mean(points.normals)
    size = np.linalg.norm(m, axis=1, keepdims=True)
    return Points(mean(points.places).astype(np.float32), (m / np.maximum(size, 1e-9)).astype(np.float32), total)


@dataclass
class Level:
    """A level: its lattice, and of the corners (n,) the values, in its cells, and how surely each is held, 0 to 1."""

    lattice: Lattice
    values: np.ndarray
    sure: np.ndarray


@dataclass
class Field:
    """The function, ready to be read out on its finest level.

    Attributes
    ----------
    low : (3,), cell : float
        Where number 0 of the finest level is, and how wide its cells are, in the points' unit.
    own : Slabs
        The points, for fits on the finest level.
    above : Level
        The level before the finest.
    cells : (m,) int64
        Of the finest level, in order.
    outside, free : as `make_field` takes them, in cells
    check : as `make_field` takes it
    """

    low: np.ndarray
    cell: float
    own: "Slabs"
    above: Level
    cells: np.ndarray
    outside: object = field(default=None, repr=False)
    free: object = field(default=None, repr=False)
    check: object = field(default=lambda share: None, repr=False)

    def slabs(self, most=SLAB):
        """Numbers along x, from and up to which each slab goes."""
        x = self.cells >> 2 * BITS
        edges, rows = np.unique(x, return_index=True)
        out, begin = [], 0
        rows = np.append(rows, len(x))
        for k in range(len(edges)):
            if k + 1 == len(edges) or rows[k + 2] - rows[begin] > most:
                out.append((int(edges[begin]), int(edges[k]) + 1))
                begin = k + 1
        return out

    def on(self, first, last):
        """The Level of the cells from and up to numbers along x, rows (n, 6) of what is beside each corner, the Fit."""
        a, b = np.searchsorted(self.cells >> 2 * BITS, (first, last))
        fit = self.own.fit(first, last)
        return *made_level(Lattice.of(self.cells[a:b]), self.above, fit, 1.0, self.free), fit

    def surface(self, most=SLAB):
        """Where the function is zero.

        Returns
        -------
        vertices (v, 3) float64, normals (v, 3) float32 (zero where no points hold it), faces (t, 3) int32
        """
        V, N, F, K, total = [], [], [], [], 0
        edge_keys, edge_rows = np.zeros(0, np.int64), np.zeros(0, np.int32)
        slabs = self.slabs(most)
        for k, (first, last) in enumerate(slabs):
            self.check(k / len(slabs))
            level, beside, fit = self.on(first - ROUNDS - 1, last + ROUNDS + 1)
            lattice, values = level.lattice, level.values
            if self.outside is not None:
                values = np.maximum(values, self.outside(numbers_of(lattice.corners)))
            a, b = np.searchsorted(lattice.cells >> 2 * BITS, (first, last))
            own = Lattice(lattice.cells[a:b], lattice.corners, lattice.rows[a:b])
            places, keys, faces = triangles_of(own, values.astype(np.float32), beside)
            if not len(places):
                continue
            # vertices on the side that it has in common with the slab before are there already
            have = rows_of(keys, edge_keys)
            new = have < 0
            rows = np.empty(len(keys), np.int32)
            rows[~new] = edge_rows[have[~new]]
            rows[new] = total + np.arange(int(new.sum()), dtype=np.int32)
            total += int(new.sum())
            places, normals = _moved(places[new], fit)
            V.append(self.low + self.cell * places)
            N.append(normals)
            F.append(rows[faces])
            K.append(keys[new])
            at_end = (keys >> 2 * BITS + 2 == last) & (keys & 3 != 0)
            edge_keys, edge_rows = keys[at_end], rows[at_end]
        if not V:
            return np.zeros((0, 3)), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32)
        # in the order of their edges, wherever slabs ended
        order = np.argsort(np.concatenate(K))
        place = np.empty(len(order), np.int32)
        place[order] = np.arange(len(order), dtype=np.int32)
        return np.concatenate(V)[order], np.concatenate(N)[order], place[np.concatenate(F)]


def _moved(places, fit):
    """Vertices (n, 3) put onto the surface where points hold it, and its normals there.

    Between corners the function is not straight, and no vertex stands at the very end of an edge.
    """
    d, normals, sure = fit.at(places)
    d = np.where((np.abs(d) < 0.3) & (sure > 0.5), d, np.float32(0))
    return places - d[:, None] * normals, np.where(sure[:, None] > 0.5, normals, np.float32(0))


@dataclass
class Slabs:
    """Oriented points as they were given, and fits to those of them that matter between two places along x.

    Attributes
    ----------
    points, normals (n, 3), weights (n,)
    low, cell : where number 0 is, and the width of a cell
    how : How
        In cells.
    """

    points: np.ndarray
    normals: np.ndarray
    weights: np.ndarray
    low: np.ndarray
    cell: float
    how: How

    def __post_init__(self):
        x, corners = np.empty(len(self.points), np.float32), []
        for k in range(0, len(x), PART):
            part = self._placed(slice(k, k + PART))
            x[k : k + PART] = part[:, 0]
            corners += [part.min(0), part.max(0)]
        self.frame = Fit.frame_for(np.array(corners), self.how)
        self._order = np.argsort(x, kind="stable").astype(np.int32)
        self._x = x[self._order]

    def _placed(self, rows):
        return ((self.points[rows] - self.low) / self.cell).astype(np.float32)

    def fit(self, first, last):
        """The Fit for places between two numbers along x: feet move by twice the reach, and look a cell farther."""
        beyond = 2 * self.how.reach + 2 * self.frame.width + 1
        a, b = np.searchsorted(self._x, (first - beyond, last + beyond))
        rows = np.sort(self._order[a:b])
        if not len(rows):
            rows = self._order[:1]
        return Fit.to(self._placed(rows), self.normals[rows], self.weights[rows], self.how, self.frame)


def _with_free(free, places, width, distance, sure):
    """Distance (n,) and how surely it is held (n,) with what photos saw through at places (n, 3) that points do not
    hold."""
    if free is None:
        return distance, sure
    empty = np.zeros(len(places), np.float32)
    loose = np.flatnonzero(sure < 1)
    room, through = free(places[loose], width)
    empty[loose] = (1 - sure[loose]) * through
    far = distance.copy()
    far[loose] = np.minimum(room, EMPTY * width)
    hold = sure + empty
    return (sure * distance + empty * far) / np.maximum(hold, 1e-9), hold


def made_level(lattice, above, fit, width, free=None):
    """A Level below another one, and what is beside its corners.

    fit : in cells of the finest level; width : of this level's cells in those; free : see `Field`
    """
    corners = lattice.corners
    before, inherited = above.lattice.at_finer(2 * above.values, corners), above.lattice.at_finer(above.sure, corners)
    places = width * numbers_of(corners).astype(np.float32)
    distance, _, sure = fit.at(places)
    distance, sure = _with_free(free, places, width, distance, sure)
    rest = (1 - sure) * INHERIT * inherited
    hold = sure + rest
    target = (sure * np.clip(distance / np.float32(width), -2 * CUT, 2 * CUT) + rest * before) / np.maximum(hold, 1e-9)
    beside = neighbors_of(corners)
    values = np.clip(np.where(sure > 0, sure * target + (1 - sure) * before, before), -2 * CUT, 2 * CUT)
    values = relaxed(values.astype(np.float32), target.astype(np.float32), hold, beside, ROUNDS)
    return Level(lattice, values, hold), beside


def _root(shape, fit, width, free):
    """The coarsest Level: all cells (of `width`) of a block, the outermost corners outside."""
    cells = np.sort(
        keys_of(np.stack(np.meshgrid(*[np.arange(1, 1 + n) for n in shape], indexing="ij"), -1).reshape(-1, 3))
    )
    lattice = Lattice.of(cells)
    places = width * numbers_of(lattice.corners).astype(np.float32)
    distance, _, sure = fit.at(places)
    distance, sure = _with_free(free, places, width, distance, sure)
    target = np.clip(distance / np.float32(width), -CUT, CUT)
    beside = neighbors_of(lattice.corners)
    start = np.where((beside < 0).any(1), np.float32(1), sure * target)
    return Level(lattice, relaxed(start, target, sure, beside, ROOT_ROUNDS), sure)


def make_field(
    points, normals, weights, cell, radius, spacing, edges=False, outside=None, free=None, check=lambda share: None
):  # fmt: skip
    """The Field of oriented points.

    Parameters
    ----------
    points (n, 3), normals (n, 3) unit, weights (n,), n > 0
    cell : width of the finest cells
    radius : how far points count in a fit
    spacing : how far points are from each other
    edges : whether edges are kept
    outside : callable(places (n, 3) in the points' unit) -> (n,) of lengths, optional
        Positive where nothing shall be, as the distance from the keep box: what is left is cut there, and closed.
    free : callable(places (n, 3), margin) -> (n,), (n,), optional
        How far it is from places to what photos show behind them, and how surely they are empty, 0 to 1, where `margin`
        before what is seen is enough: see `umbrate.core.dense.through.FreeSpace.at`.
    check : called with the share of the surface that is there; may raise

    Notes
    -----
    Memory goes with the number of points and with the area of the surface in cells, not with the extent.
    """
    low, high = points.min(0).astype(float), points.max(0).astype(float)
    depth = max(1, int(np.ceil(np.log2(max((high - low).max() / (cell * ROOT), 1.0)))))
    wide = 2**depth
    shape = np.maximum(np.ceil((high - low) / (cell * wide)), 1).astype(int) + 2 * PAD
    low = (low + high) / 2 - (shape / 2 + 1) * cell * wide
    own = Points(((points - low) / cell).astype(np.float32), np.asarray(normals, np.float32), np.asarray(weights))
    seeds = [unique(keys_of(own.places))]
    for _ in range(depth):
        seeds.append(unique(halved(seeds[-1])))
    # points by level, the finest first; on a coarser level in halves of its cells
    pyramid, some = [own], own
    for k in range(1, depth + 1):
        scaled = some._replace(places=some.places / np.float32(2 ** (k - 1)))
        some = gathered_by_cell(scaled)
        some = some._replace(places=some.places * np.float32(2 ** (k - 1)))
        pyramid.append(some)

    del own, some
    pyramid[0] = None  # the finest level places them as it goes

    def fit_of(k):
        r = 2.0**k
        return Fit.to(*pyramid[k], How(max(1.5 * r, radius / cell), NEAREST * r, r / 2, r, False, True))

    def beyond(numbers):
        """`outside` in cells, of numbers of the finest level."""
        return outside(low + cell * numbers) / cell

    def empty(numbers, width):
        """`free` in cells, of numbers of the finest level."""
        room, sure = free(low + cell * numbers, cell * width)
        return room / np.float32(cell), sure

    beyond, empty = beyond if outside else None, empty if free else None
    level = _root(shape, fit_of(depth), float(wide), empty)
    for k in range(depth - 1, -1, -1):
        cells = _refined(level, seeds[k], 2 ** (k + 1), beyond, empty)
        if k == 0:
            reach = max(NEAREST, NEAREST * spacing / cell)
            how = How(radius / cell, reach, spacing / cell, 1.0, edges)
            own = Slabs(points, np.asarray(normals, np.float32), np.asarray(weights), low, cell, how)
            return Field(low, cell, own, level, cells, beyond, empty, check)
        level, _ = made_level(Lattice.of(cells), level, fit_of(k), 2.0**k, empty)
    raise AssertionError


def _refined(level, seeds, width, beyond, empty):
    """Cells of the next finer level: those that hold points, those where the function changes sign, and all round.

    width : of the level's cells, in those of the finest; beyond : positive where nothing shall be, or None;
    empty : what photos saw through, or None
    """

    def changing(lattice, values, width):
        if beyond is not None:
            values = np.maximum(values, beyond(width * numbers_of(lattice.corners)))
        v = values[lattice.rows]
        return lattice.cells[(v.min(1) < 0) & (v.max(1) >= 0)]

    some = Lattice.of(children(changing(level.lattice, level.values, width)))
    values = level.lattice.at_finer(level.values, some.corners)
    if empty is not None:
        _, sure = empty(width // 2 * numbers_of(some.corners), width // 2)
        values = np.where(sure > 0.5, np.maximum(values, np.float32(0.1)), values)
    some = changing(some, values, width // 2)
    cells = widened(unique(np.concatenate([seeds, some])))
    return cells[among(halved(cells), level.lattice.cells)]
