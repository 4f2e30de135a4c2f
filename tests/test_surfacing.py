"""Surfaces from oriented points: against closed forms, slow references, and what must never happen."""

import unittest
from unittest import mock

import numpy as np
import scipy

from umbrate.core.dense.through import CLEAR, FULLY_CLEAR, FreeSpace
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import look_at
from umbrate.core.surface import build as building
from umbrate.core.surface import crossing as crossings
from umbrate.core.surface import field as fields
from umbrate.core.surface.build import Wanted, cell_for, make_surface
from umbrate.core.surface.creases import with_creases
from umbrate.core.surface.crossing import crossing
from umbrate.core.surface.cubes import triangles_of
from umbrate.core.surface.cut import cut
from umbrate.core.surface.field import make_field
from umbrate.core.surface.fit import BACKWARD, Fit, How
from umbrate.core.surface.handles import short_rounds, without_handles
from umbrate.core.surface.lattice import Lattice, keys_of, neighbors_of, numbers_of
from umbrate.core.surface.mesh import areas, euler, opposite, pieces, used_only, volume
from umbrate.studio.judge import nearest_on_triangles

RADIUS = 10.0


def ball(count, noise=0.2, turn=0.1, seed=0, keep=None):
    """A cloud of a sphere (RADIUS), noise in spacings, and its spacing; of the part that `keep(directions)` says."""
    rng = np.random.default_rng(seed)
    v = rng.normal(size=(count, 3))
    v /= np.linalg.norm(v, axis=1, keepdims=True)
    spacing = np.sqrt(4 * np.pi * RADIUS**2 / count)
    points = (RADIUS + rng.normal(0, noise * spacing, count))[:, None] * v
    normals = v + rng.normal(0, turn, v.shape)
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    on = np.ones(count, bool) if keep is None else keep(v)
    colors = np.where(v[:, :1] > 0, [[200, 30, 30]], [[30, 30, 200]]).astype(np.uint8)
    photos = rng.integers(3, 9, count).astype(np.uint8)
    cloud = {"points": points.astype(np.float32), "normals": normals.astype(np.float32), "colors": colors}
    return {k: v[on] for k, v in {**cloud, "photos": photos}.items()}, spacing


def block(half, spacing, noise=0.1, turn=0.1, seed=0):
    """A cloud of a box of half sizes, turned, and the turn (3, 3)."""
    rng = np.random.default_rng(seed)
    P, N = [], []
    for a in range(3):
        b, c = (k for k in range(3) if k != a)
        for side in (-1, 1):
            n = int(4 * half[b] * half[c] / spacing**2)
            X, m = rng.uniform(-1, 1, (n, 3)) * half, rng.normal(0, turn, (n, 3))
            X[:, a] = side * half[a] + rng.normal(0, noise * spacing, n)
            m[:, a] += side
            P.append(X)
            N.append(m / np.linalg.norm(m, axis=1, keepdims=True))
    R = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    P, N = (np.concatenate(x) @ R.T for x in (P, N))
    return {"points": P.astype(np.float32), "normals": N.astype(np.float32)}, R


def box_distance(X, half):
    """Signed distance (n,) to a box."""
    q = np.abs(X) - half
    return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(1), 0)


def grid_of(n):
    """A Lattice of n cubed cells, the numbers of its corners (m, 3), and what is beside these."""
    numbers = np.stack(np.meshgrid(*[np.arange(1, n + 1)] * 3, indexing="ij"), -1).reshape(-1, 3)
    lattice = Lattice.of(np.sort(keys_of(numbers)))
    return lattice, numbers_of(lattice.corners).astype(float), neighbors_of(lattice.corners)


def topology(points, faces):
    """Half-edges without another, the Euler number, and the number of pieces."""
    beside = opposite(faces, len(points))
    return int((beside < 0).sum()), euler(faces, beside), int(pieces(faces, len(points)).max()) + 1


def slow_fit(points, normals, weights, radius, place):
    """Signed distance by the sphere that fits points round the place's foot, written out: two rounds, no edges."""
    k = np.argmin(((points - place) ** 2).sum(1))
    m, d = normals[k], (place - points[k]) @ normals[k]
    for _ in range(2):
        foot = place - d * m
        Y = points - foot
        t = 1 - (Y**2).sum(1) / radius**2
        same = normals @ m
        on = (t > 0) & (same >= BACKWARD)
        w = weights[on] * t[on] ** 3 * np.minimum((same[on] - BACKWARD) / (1 - BACKWARD), 1)
        Y, N = Y[on], normals[on]
        w = w / w.sum()
        # least squares of gradients against normals, then of values against zero (weights sum to one)
        mean_y, mean_n = w @ Y, w @ N
        quadratic = 0.5 * ((w @ (Y * N).sum(1)) - mean_y @ mean_n) / ((w @ (Y**2).sum(1)) - mean_y @ mean_y)
        linear = mean_n - 2 * quadratic * mean_y
        constant = -(linear @ mean_y + quadratic * (w @ (Y**2).sum(1)))
        center = -linear / (2 * quadratic)
        r = np.sqrt(center @ center - constant / quadratic)
        y = d * m
        away = np.linalg.norm(y - center)
        d, m = np.sign(quadratic) * (away - r), np.sign(quadratic) * (y - center) / away
    return d


class TheFit(unittest.TestCase):
    def test_it_is_that_of_the_formulas_written_out(self):
        cloud, s = ball(6000, 0.3, 0.2, seed=3)
        weights = np.random.default_rng(1).uniform(0.3, 3, 6000).astype(np.float32)
        fit = Fit.to(cloud["points"], cloud["normals"], weights, How(3 * s, 4 * s, s, 2 * s, False))
        rng = np.random.default_rng(2)
        places = rng.normal(size=(60, 3))
        places *= (RADIUS + rng.uniform(-2, 2, (60, 1)) * s) / np.linalg.norm(places, axis=1, keepdims=True)
        got = fit.at(places)[0]
        want = [
            slow_fit(cloud["points"].astype(float), cloud["normals"].astype(float), weights, 3 * s, x) for x in places
        ]
        np.testing.assert_allclose(got, want, atol=2e-3 * s)

    def test_no_sphere_nor_saddle_is_found_too_large_or_too_small(self):
        rng = np.random.default_rng(4)
        s, n = 0.05, 60_000
        x, y = rng.uniform(-3, 3, (2, n))
        for a, b in ((0.4, 0.4), (0.4, 0.0), (0.4, -0.4), (-0.4, -0.4)):  # curvatures
            N = np.stack([a * x, b * y, np.ones(n)], 1)
            P = np.stack([x, y, -(a * x * x + b * y * y) / 2], 1)
            N /= np.linalg.norm(N, axis=1, keepdims=True)
            fit = Fit.to(P.astype(np.float32), N, np.ones(n), How(8 * s, 4 * s, s, s, False))
            q = rng.uniform(-0.5, 0.5, (400, 2))
            places = np.column_stack([q, -(a * q[:, 0] ** 2 + b * q[:, 1] ** 2) / 2])
            d, _, sure = fit.at(places)
            # a plane through the same points lies 0.25 radius^2 times the mean curvature aside: up to 0.016
            self.assertLess(abs(np.median(d)), 0.0004, (a, b))
            self.assertGreater(sure.min(), 0.9)

    def test_beyond_the_rim_nothing_is_sure(self):
        rng = np.random.default_rng(5)
        P = np.column_stack([rng.uniform(0, 4, 8000), rng.uniform(0, 4, 8000), np.zeros(8000)])
        s = np.sqrt(16 / 8000)
        fit = Fit.to(
            P.astype(np.float32), np.tile([0.0, 0, 1], (8000, 1)), np.ones(8000), How(3 * s, 4 * s, s, s, False)
        )
        inside, beyond = (fit.at(np.column_stack([np.full(50, x), np.linspace(1, 3, 50), np.full(50, s)]))[2]
                          for x in (2.0, 4.0 + 2 * s))  # fmt: skip
        self.assertGreater(inside.min(), 0.7)
        self.assertLess(beyond.max(), 0.1)


class MarchingCubes(unittest.TestCase):
    def test_triangles_close_whatever_the_signs_and_no_edge_has_more_than_two(self):
        lattice, x, beside = grid_of(16)
        values = np.random.default_rng(0).normal(size=len(x))
        values[(x == 1).any(1) | (x == 17).any(1)] = 1.0
        places, keys, faces = triangles_of(lattice, values.astype(np.float32), beside)
        self.assertTrue((np.diff(keys) > 0).all())
        a, b = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
        self.assertEqual(len(np.unique(a.astype(np.int64) * len(places) + b)), len(a))
        self.assertEqual(topology(places, faces)[0], 0)
        self.assertGreater(volume(places, faces), 0)

    def test_a_ball_has_its_volume_and_its_normals_point_out(self):
        lattice, x, beside = grid_of(24)
        values = np.linalg.norm(x - 12.7, axis=1) - 9
        places, _, faces = triangles_of(lattice, values.astype(np.float32), beside)
        self.assertEqual(topology(places, faces), (0, 2, 1))
        self.assertAlmostEqual(volume(places, faces) / (4 / 3 * np.pi * 9**3), 1, delta=0.01)


class Closed(unittest.TestCase):
    def test_a_noisy_ball_is_one_piece_without_bias_and_the_same_however_it_is_divided(self):
        cloud, s = ball(40_000)
        field = make_field(cloud["points"], cloud["normals"], np.ones(40_000), 2 * s, 3 * s, s)
        vertices, normals, faces = field.surface()
        self.assertEqual(topology(vertices, faces), (0, 2, 1))
        off = np.linalg.norm(vertices, axis=1) - RADIUS
        self.assertLess(abs(np.median(off)), 0.01 * s)
        self.assertLess(off.std(), 0.09 * s)  # noise of 0.2, averaged
        self.assertAlmostEqual(volume(vertices, faces) / (4 / 3 * np.pi * RADIUS**3), 1, delta=0.001)
        self.assertGreater(len(field.slabs(3000)), 5)
        for one, other in zip((vertices, normals, faces), field.surface(3000), strict=True):
            np.testing.assert_array_equal(one, other)
        # what is worked on in parts as well: points that are placed, vertices that are measured, triangles that cross
        whole = make_surface(cloud, Wanted())
        with (
            mock.patch.object(fields, "PART", 900),
            mock.patch.object(building, "PART", 700),
            mock.patch.object(crossings, "MOST", 300),
        ):
            parts = make_surface(cloud, Wanted())
        for k, x in whole.arrays().items():
            if x.dtype == np.float32:
                np.testing.assert_allclose(parts.arrays()[k], x, atol=1e-6, err_msg=k)
            else:
                np.testing.assert_array_equal(parts.arrays()[k], x, k)

    def test_a_hole_is_closed_and_said_to_be_filled_and_open_leaves_it_out(self):
        cloud, s = ball(30_000, keep=lambda v: v[:, 2] > -0.6)
        tree = scipy.spatial.cKDTree(cloud["points"])
        closed = make_surface(cloud, Wanted())
        self.assertEqual(topology(closed.points, closed.faces), (0, 2, 1))
        away = tree.query(closed.points)[0]
        np.testing.assert_allclose(closed.support, away, atol=0.7 * s)
        near = away < 3.5 * s
        np.testing.assert_allclose(closed.support[near], away[near], rtol=1e-3, atol=1e-5)
        self.assertFalse(closed.filled[away < 2.8 * s].any())
        self.assertTrue(closed.filled[away > 3.2 * s].all())
        low = closed.points[:, 2] < -0.7 * RADIUS
        self.assertGreater(closed.filled[low].mean(), 0.8)
        self.assertTrue((closed.photos[~closed.filled & near] >= 3).all())
        self.assertEqual(closed.photos[closed.filled].max(), 0)
        # the lid is no bulge: it stays between the rim and the ball that is not there
        self.assertTrue((closed.points[:, 2] > -1.02 * RADIUS).all())
        open_ = make_surface(cloud, Wanted(closed=False, reach=3.0))
        rim, chi, count = topology(open_.points, open_.faces)
        self.assertGreater(rim, 100)
        self.assertEqual((chi, count), (1, 1))
        self.assertLess(tree.query(open_.points)[0].max(), 4 * s)
        red = closed.colors[~closed.filled & (closed.points[:, 0] > 5 * s)]
        self.assertGreater(red[:, 0].min(), 150)

    def test_beyond_the_keep_box_there_is_nothing_and_the_cut_is_closed_where_that_is_wanted(self):
        cloud, s = ball(20_000)

        def outside(places):
            return places[:, 0] - 4.0

        closed = make_surface(cloud, Wanted(), outside)
        self.assertEqual(topology(closed.points, closed.faces), (0, 2, 1))
        self.assertLess(closed.points[:, 0].max(), 4.0 + 0.5 * s)
        cap = np.pi * (RADIUS - 4) ** 2 * (3 * RADIUS - (RADIUS - 4)) / 3
        self.assertAlmostEqual(volume(closed.points, closed.faces) / (4 / 3 * np.pi * RADIUS**3 - cap), 1, delta=0.005)
        open_ = make_surface(cloud, Wanted(closed=False), outside)
        self.assertEqual(topology(open_.points, open_.faces)[1:], (1, 1))
        self.assertLess(open_.points[:, 0].max(), 4.0 + 1e-4)

    def test_a_far_stray_point_costs_nothing(self):
        cloud, s = ball(10_000)
        stray = {
            "points": np.append(cloud["points"], np.float32([[9000, 500, 0]]), axis=0),
            "normals": np.append(cloud["normals"], np.float32([[0, 0, 1]]), axis=0),
        }
        plain, other = (
            make_field(c["points"], c["normals"], np.ones(len(c["points"])), 2 * s, 3 * s, s) for c in (cloud, stray)
        )
        self.assertLess(len(other.cells), 1.05 * len(plain.cells) + 100)
        made = make_surface(stray, Wanted())
        self.assertEqual(topology(made.points, made.faces), (0, 2, 1))
        self.assertLess(np.linalg.norm(made.points, axis=1).max(), 1.1 * RADIUS)

    def test_an_unsure_sheet_over_a_sure_one_moves_it_little(self):
        cloud, s = ball(30_000, noise=0.05)
        high, _ = ball(30_000, noise=0.05, seed=9)
        high["points"] *= np.float32(1 + 0.8 * s / RADIUS)
        both = {k: np.concatenate([cloud[k], high[k]]) for k in cloud}
        offs = []
        for unsure in (1.0, 5.0):
            precision = np.repeat([0.05 * s, unsure * 0.05 * s], 30_000)
            made = make_surface({**both, "precision": precision}, Wanted())
            offs.append(np.median(np.linalg.norm(made.points, axis=1) - RADIUS) / s)
        self.assertAlmostEqual(offs[0], 0.4, delta=0.1)
        self.assertLess(offs[1], 0.15)

    def test_it_has_about_as_many_triangles_as_are_asked_for(self):
        cloud, _ = ball(30_000)
        made = make_surface(cloud, Wanted(cell=cell_for(30_000, 20_000)))
        self.assertAlmostEqual(len(made.faces) / 20_000, 1, delta=0.1)


class SeenThrough(unittest.TestCase):
    """What photos saw through stays empty."""

    def test_a_place_is_empty_by_how_far_it_lies_before_what_each_photo_shows(self):
        rng = np.random.default_rng(0)
        n, h, w = 3, 40, 60
        eyes = np.array([[0.0, 0, 0], [3, 1, 0], [-2, 0, 1]])
        poses = np.array([look_at(e, e + [0, 0, 5.0], up=(0, -1, 0)) for e in eyes])
        K = np.tile([50.0, 29.3, 19.6], (n, 1))
        depth = np.where(np.arange(w) < 30, 10.0, 14.0) * np.ones((n, h, 1)) * rng.choice([-1, 1], (n, h, w))
        confirmed = rng.random((n, h, w)) < 0.9
        places = np.stack([rng.uniform(-6, 6, 4000), rng.uniform(-4, 4, 4000), rng.uniform(-2, 16, 4000)], 1)
        margin = 1.3
        room, sure = FreeSpace(np.where(confirmed, np.abs(depth), 0).astype(np.float32), K, poses).at(places, margin)
        for p in range(0, 4000, 7):
            votes, least = 0.0, np.inf
            for j in range(n):
                X = poses[j] @ [*places[p], 1]
                if X[2] <= 0:
                    continue
                u, v = K[j, 0] * X[:2] / X[2] + K[j, 1:]
                around = {(int(np.floor(v)) + a, int(np.floor(u)) + b) for a in (0, 1) for b in (0, 1)}
                if not all(0 <= r < h and 0 <= c < w and confirmed[j, r, c] for r, c in around):
                    continue
                clear = min(abs(depth[j, r, c]) for r, c in around) - X[2]
                if clear > CLEAR * margin:
                    votes += min((clear / margin - CLEAR) / (FULLY_CLEAR - CLEAR), 1)
                    least = min(least, clear)
            self.assertAlmostEqual(sure[p], min(votes / 2, 1), places=5)
            np.testing.assert_allclose(room[p], least, rtol=1e-5)
        self.assertGreater((sure == 1).mean(), 0.05)
        self.assertGreater(((sure > 0) & (sure < 1)).mean(), 0.02)

    def test_a_well_whose_walls_no_points_hold_is_closed_without_and_open_with_what_was_seen_through(self):
        deep, wide = 4.0, 1.8

        def outside_well(v):
            return ~((np.hypot(v[:, 0], v[:, 1]) * RADIUS < wide) & (v[:, 2] > 0))

        cloud, _ = ball(40_000, keep=outside_well)
        rng = np.random.default_rng(1)
        a, r = rng.uniform(0, 2 * np.pi, 800), wide * np.sqrt(rng.random(800))
        floor = np.stack([r * np.cos(a), r * np.sin(a), np.full(800, RADIUS - deep)], 1)
        cloud = {
            "points": np.concatenate([cloud["points"], floor]).astype(np.float32),
            "normals": np.concatenate([cloud["normals"], np.tile([0.0, 0, 1], (800, 1))]).astype(np.float32),
        }

        def free(places, margin):
            before = np.where(np.hypot(places[:, 0], places[:, 1]) < wide, places[:, 2] - (RADIUS - deep), -1.0)
            return before.astype(np.float32), (before > margin).astype(np.float32)

        without = make_surface(cloud, Wanted(cell=1.5))
        carved = make_surface(cloud, Wanted(cell=1.5), free=free)
        self.assertEqual(topology(carved.points, carved.faces), (0, 2, 1))
        edge = np.sqrt(RADIUS**2 - wide**2)  # down to there it is a cap of the ball, then a cylinder
        cap = np.pi * (RADIUS - edge) ** 2 * (2 * RADIUS + edge) / 3
        taken = cap + np.pi * wide**2 * (edge - (RADIUS - deep))
        whole = 4 / 3 * np.pi * RADIUS**3
        self.assertLess(whole - volume(without.points, without.faces), 0.8 * taken)
        self.assertAlmostEqual((whole - volume(carved.points, carved.faces)) / taken, 1.0, delta=0.1)


class Edges(unittest.TestCase):
    def test_edges_stay_within_two_spacings_and_a_thin_plate_neither_tears_nor_closes_up(self):
        s = 0.2
        for half in (np.array([6.0, 6, 6]), np.array([8.0, 6, 0.5])):
            cloud, R = block(half, s)
            made = make_surface(cloud, Wanted(edges=True))
            X = made.points @ R
            self.assertEqual(topology(made.points, made.faces), (0, 2, 1))
            d = box_distance(X, half)
            self.assertLess(abs(np.median(d)), 0.01 * s)
            self.assertLess(np.abs(d).max(), 1.5 * s)
            edge = np.array([[x, half[1], half[2]] for x in np.linspace(-half[0], half[0], 200)])
            away = nearest_on_triangles(edge, X, made.faces)
            self.assertLess(away.max(), 1.5 * s)
            self.assertLess(np.median(away), 0.1 * s)
            # without, cells cut edges off
            smooth = make_surface(cloud, Wanted())
            self.assertGreater(np.median(nearest_on_triangles(edge, smooth.points @ R, smooth.faces)), 0.4 * s)
            self.assertFalse(crossing(made.points, made.faces).any())
            whole = 8 * half.prod()
            off, off_smooth = (abs(volume(x.points, x.faces) / whole - 1) for x in (made, smooth))
            self.assertLess(off, 0.5 * off_smooth)

    def test_concave_edges_come_back_as_well_and_what_is_round_stays(self):
        s = 0.2
        cloud, _ = ball(int(4 * np.pi * RADIUS**2 / s**2))
        smooth, edges = (make_surface(cloud, Wanted(edges=x)) for x in (False, True))
        d = np.linalg.norm(edges.points, axis=1) - RADIUS
        self.assertLess(np.abs(d).max(), 1.5 * np.abs(np.linalg.norm(smooth.points, axis=1) - RADIUS).max())
        # a hollow corner: vertices on three planes that meet at the origin
        V = np.array([[0.3, 0.2, 0], [0.3, 0, 0.3], [0, 0.25, 0.2]])
        N = np.array([[0.0, 0, 1], [0, 1, 0], [1, 0, 0]])
        P, M, F = with_creases(V, N, np.array([[0, 1, 2]], np.int32))
        self.assertEqual((len(F), len(P)), (6, 7))
        np.testing.assert_allclose(P[6], 0, atol=1e-6)
        for i, j in ((0, 1), (0, 2), (1, 2)):
            new = P[3:6][np.abs(P[3:6] @ (N[i] + N[j])).argmin()]
            np.testing.assert_allclose(new @ N[i], 0, atol=1e-6)
            np.testing.assert_allclose(new @ N[j], 0, atol=1e-6)
        self.assertFalse(M[3:].any())


class Crossing(unittest.TestCase):
    def test_triangles_that_cross_are_those_that_a_slow_look_at_every_two_finds(self):
        rng = np.random.default_rng(4)
        n = 130
        middles = rng.uniform(0, 7.5, (n, 1, 3))
        V = (middles + rng.normal(0, 0.8, (n, 3, 3))).reshape(-1, 3)
        F = np.arange(3 * n, dtype=np.int32).reshape(-1, 3)
        F[1:30, 0] = F[:29, 1]  # some share a vertex

        def pierces(p, q, a, b, c):
            n = np.cross(b - a, c - a)
            s, t = n @ (p - a), n @ (q - a)
            if s * t >= 0:
                return False
            x = p + s / (s - t) * (q - p)
            u = [n @ np.cross(e - s, x - s) for s, e in ((a, b), (b, c), (c, a))]
            return min(u) > 0

        slow = np.zeros(n, bool)
        for s in range(n):
            for t in range(s):
                if set(F[s]) & set(F[t]):
                    continue
                f, g = V[F[s]], V[F[t]]
                both = ((f, g), (g, f))
                if any(pierces(x[k], x[(k + 1) % 3], *y) for x, y in both for k in range(3)):
                    slow[[s, t]] = True
        self.assertGreater(slow.sum(), 20)
        self.assertLess(slow.sum(), 110)
        for most in (7, 50, 1000):
            np.testing.assert_array_equal(crossing(V, F, most), slow)
        # of every two, one at least is asked about
        asked = rng.random(n) < 0.1
        found = crossing(V, F, among=asked)
        self.assertFalse((found & ~slow).any())
        np.testing.assert_array_equal(found[asked], slow[asked])
        self.assertLess(crossing(V, F, among=np.arange(300) == 7).sum(), slow.sum())


class Handles(unittest.TestCase):
    def pierced(self):
        """A ball with a tunnel two cells wide, and a ring beside it."""
        lattice, x, beside = grid_of(40)
        hole = np.linalg.norm(x[:, 1:] - [14.2, 20.3], axis=1) - 1.2
        one = np.maximum(np.linalg.norm(x - [14.1, 14.2, 20.3], axis=1) - 6, -hole)
        q = np.linalg.norm(x[:, :2] - [29.4, 27.3], axis=1) - 7
        ring = np.hypot(q, x[:, 2] - 20.2) - 2.3
        places, _, faces = triangles_of(lattice, np.minimum(one, ring).astype(np.float32), beside)
        return places, faces

    def test_a_small_one_is_cut_and_closed_a_large_one_stays(self):
        places, faces = self.pierced()
        self.assertEqual(topology(places, faces), (0, 0, 2))
        rounds = short_rounds(places, faces, 100.0)
        self.assertEqual(len(rounds), 4)
        vertices, left, source, count = without_handles(places, faces, 12.0)
        self.assertEqual(count, 1)
        self.assertEqual(topology(vertices, left), (0, 2, 2))
        old = source >= 0
        np.testing.assert_array_equal(vertices[old], places[source[old]])
        # the ball is whole, the ring still a ring
        which = pieces(left, len(vertices))
        chi = sorted(euler(f, opposite(f, len(v))) for f, v in (used_only(left[which == k], vertices) for k in (0, 1)))
        self.assertEqual(chi, [0, 2])

    def test_one_that_may_not_be_cut_stays(self):
        places, faces = self.pierced()
        self.assertEqual(without_handles(places, faces, 12.0, lambda ring, length: False)[3], 0)

    def test_handles_between_contradicting_points_are_gone(self):
        cloud, s = ball(12_000, noise=0.1)
        rng = np.random.default_rng(8)
        bad = rng.choice(12_000, 1500, replace=False)
        bad = bad[cloud["points"][bad, 2] > 0.8 * RADIUS]
        cloud["points"][bad] *= 1 + np.float32(2.5 * s / RADIUS) * rng.uniform(-1, 1, (len(bad), 1)).astype(np.float32)
        made = make_surface(cloud, Wanted(cell=1.2, radius=2.0))
        self.assertEqual(topology(made.points, made.faces), (0, 2, 1))


class Cutting(unittest.TestCase):
    def test_a_ball_cut_by_planes_keeps_its_area_and_what_vertices_have_goes_along(self):
        lattice, x, beside = grid_of(24)
        places, _, faces = triangles_of(lattice, (np.linalg.norm(x - 12.7, axis=1) - 9).astype(np.float32), beside)
        rng = np.random.default_rng(1)
        for _ in range(5):
            n = rng.normal(size=3)
            h = (places - 12.7) @ n / np.linalg.norm(n) - rng.uniform(-5, 5)
            parts = [cut(faces, h), cut(faces, -h)]
            total = sum(areas(p.of(places), p.faces).sum() for p in parts)
            self.assertAlmostEqual(total / areas(places, faces).sum(), 1, places=9)
            for p, sign in zip(parts, (1, -1), strict=True):
                np.testing.assert_allclose(p.of(h[:, None])[:, 0], p.of(h), atol=1e-12)
                self.assertLess((sign * p.of(h)).max(), 1e-9)
                rims, chi, count = topology(p.of(places), p.faces)
                self.assertEqual((rims, chi, count), (len(p.rim), 1, 1))
                np.testing.assert_allclose(p.of(h)[p.rim], 0, atol=1e-9)
                self.assertTrue((p.faces[:, 0] != p.faces[:, 1]).all())


class BadInput(unittest.TestCase):
    def refused(self, cloud, sentence, wanted=None):
        with self.assertRaises(UmbrateError) as e:
            make_surface(cloud, wanted or Wanted())
        self.assertIn(sentence, str(e.exception))

    def test_points_that_tell_of_no_surface_are_refused_in_words(self):
        cloud, _ = ball(5000)
        self.refused({k: v[:50] for k, v in cloud.items()}, "50 points are too few")
        self.refused({**cloud, "normals": np.zeros((5000, 3), np.float32)}, "no normals")
        rng = np.random.default_rng(0)
        flat = {
            "points": np.column_stack([rng.uniform(0, 9, (5000, 2)), rng.normal(0, 0.01, 5000)]).astype(np.float32),
            "normals": np.tile(np.float32([0, 0, 1]), (5000, 1)),
        }
        self.refused(flat, "lie in a plane")
        made = make_surface(flat, Wanted(closed=False, reach=1.5))
        self.assertAlmostEqual(areas(made.points, made.faces).sum() / 81, 1, delta=0.1)
        self.assertLess(np.percentile(np.abs(made.points[:, 2]), 75), 0.02)

    def test_it_stops_where_it_is_told_to(self):
        cloud, _ = ball(5000)

        def stop(share):
            if share > 0.2:
                raise InterruptedError

        with self.assertRaises(InterruptedError):
            make_surface(cloud, Wanted(), check=stop)
