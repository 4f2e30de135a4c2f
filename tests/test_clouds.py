"""Clouds side by side, cleaned step by step, compared and written: against slow references and closed forms."""

import pickle
import unittest
from dataclasses import replace
from itertools import pairwise
from unittest import mock

import laspy
import numpy as np
import pye57
from plyfile import PlyData
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from tests.scenes import scratch
from umbrate.actions.coverage import SPARSE_RIM, Work, compute_coverage
from umbrate.core.cloud import coverage, filters
from umbrate.core.cloud.clean import inside_outlines
from umbrate.core.cloud.grid import sort_into_grid, spacing_of
from umbrate.core.cloud.keepbox import KeepBox
from umbrate.core.cloud.sparse import sparse_normals
from umbrate.core.errors import CannotKeep, UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at
from umbrate.core.poses.block import Block
from umbrate.core.raster.pick import inside_polygon, seen_inside, seen_under
from umbrate.formats.clouds import KINDS, write_cloud
from umbrate.job.scratch import Scratch
from umbrate.stages.cloud.stage import CloudStage
from umbrate.stages.dense import forecast as forecasting


def scattered(seed=0, n=3000):
    """A sheet, a ball beside it and some specks."""
    rng = np.random.default_rng(seed)
    sheet = np.c_[rng.uniform(0, 10, (n, 2)), rng.normal(0, 0.02, n)]
    d = rng.normal(size=(n // 4, 3))
    ball = 1.5 * d / np.linalg.norm(d, axis=1, keepdims=True) + [5, 5, 4]
    specks = rng.uniform(-3, 13, (30, 3))
    return np.concatenate([sheet, ball, specks]).astype(np.float32)


class Filters(unittest.TestCase):
    def test_of_two_sheets_the_surer_one_stays(self):
        for seed in range(6):
            rng = np.random.default_rng(seed)
            n, h = 900, 0.06
            xy = rng.uniform(0, 1, (2 * n, 2))
            z = np.r_[np.zeros(n), np.full(n, h)] + rng.normal(0, 0.002, 2 * n)
            xy[n:] *= (1, 0.5)  # the second sheet overlaps one half of the first
            P = np.c_[xy, z].astype(np.float32)
            N = np.tile(np.float32([0, 0, 1]), (2 * n, 1))
            sure = np.r_[rng.uniform(1, 2, n), rng.uniform(2, 3, n)].astype(np.float32)
            s = 1 / np.sqrt(n)
            gone = filters.doubled(P, N, sure, 2 * h, s)
            self.assertFalse(gone[:n].any())  # the surer sheet
            self.assertGreater(gone[n:].mean(), 0.95)
            # the reference: every two points
            d = P[None].astype(float) - P[:, None]
            across, far = np.abs(d[..., 2]), (d**2).sum(2)
            beside = (1.5 * s) ** 2
            near = (far <= (2 * h) ** 2 + beside) & (across >= s) & (far - across**2 <= beside)
            np.testing.assert_array_equal(gone, (near & (sure[None] < sure[:, None])).any(1))
            alike = np.round(sure, 1)  # of points as sure as each other the first in the list is the surer one
            first = (alike[None] == alike[:, None]) & (np.arange(2 * n)[None] < np.arange(2 * n)[:, None])
            want = (near & ((alike[None] < alike[:, None]) | first)).any(1)
            np.testing.assert_array_equal(filters.doubled(P, N, alike, 2 * h, s), want)
            N[n:] = 0, 0, -1  # the other side of a wall
            self.assertFalse(filters.doubled(P, N, sure, 2 * h, s).any())

    def test_the_grid_holds_every_point_once_and_finds_the_neighbors_a_tree_finds(self):
        for seed in range(3):
            P = scattered(seed) * np.float32(10.0**seed)
            r = 0.5 * 10.0**seed
            g = sort_into_grid(P, r)
            np.testing.assert_array_equal(np.sort(g.order), np.arange(len(P)))
            np.testing.assert_array_equal(g.points, P[g.order])
            tree = cKDTree(P)
            count = np.array([len(x) for x in tree.query_ball_point(P, r)]) - 1
            for least in (1, 6, 40):
                wrong = filters.lonely(P, r, least) != (count < least)
                near = np.abs([len(x) - 1 for x in tree.query_ball_point(P[wrong], r * (1 + 1e-5))] - count[wrong])
                self.assertTrue((near > 0).all())  # nothing but rounding at the very radius
            d = tree.query(P, k=7)[0][:, 1:]
            got = filters.spacing(P, 6, r)
            ok = d[:, -1] < r
            np.testing.assert_allclose(got[ok], d[ok].mean(1), rtol=2e-4)
            # distances that are equal; then with two points at each place
            step = 10.0**seed
            lattice = np.stack(np.meshgrid(np.arange(12), np.arange(12), [0.0]), -1).reshape(-1, 3) * step
            inner = ((lattice > step) & (lattice < 10 * step))[:, :2].all(1)
            for times, want in ((1, (4 + 2 * np.sqrt(2)) / 6), (2, 5 / 6)):
                got = filters.spacing(np.repeat(lattice, times, axis=0), 6, 2 * step)[::times]
                np.testing.assert_allclose(got[inner], want * step, rtol=1e-5)
            some = P[::3] + np.float32(0.01 * r)
            near, which = tree.query(some)
            got = filters.distance_to(some, P, r)
            np.testing.assert_allclose(got[near < 0.99 * r], near[near < 0.99 * r], rtol=1e-3, atol=1e-6 * r)
            self.assertTrue(np.isinf(got[near > 1.01 * r]).all())
            n = np.random.default_rng(0).normal(size=P.shape).astype(np.float32)
            signed = filters.distance_to(some, P, r, n)
            want = ((some - P[which]) * n[which]).sum(1)
            on = (near < 0.99 * r) & (np.abs(want) < 0.99 * r)
            np.testing.assert_allclose(signed[on], want[on], rtol=1e-2, atol=1e-4 * r)

    def test_pieces_are_those_of_touching_cells_and_the_largest_is_first(self):
        P = scattered(1)
        which = filters.components(P, 0.6)
        counts = np.bincount(which)
        self.assertTrue((np.diff(counts) <= 0).all())
        # what a tree joins at less than the gap is one piece; what lies two cells apart is not
        pairs = cKDTree(P).query_pairs(0.55, output_type="ndarray")
        n, label = connected_components(coo_matrix((np.ones(len(pairs)), pairs.T), (len(P), len(P))), directed=False)
        for k in range(n):
            self.assertEqual(len(np.unique(which[label == k])), 1)
        self.assertGreater(len(counts), 3)
        self.assertNotEqual(which[0], which[3100])  # sheet and ball

    def test_thinning_leaves_no_two_too_near_and_no_hole(self):
        P = scattered(2)
        kept = filters.thin_by_spacing(P, 0.4)
        tree = cKDTree(P[kept])
        self.assertEqual(len(tree.query_pairs(0.4 * (1 - 1e-5))), 0)
        self.assertLess(tree.query(P)[0].max(), 0.4 * (1 + 1e-5))
        self.assertEqual(int(filters.thin_to(P, 500).sum()), 500)
        np.testing.assert_array_equal(filters.thin_to(P, 500, 3), filters.thin_to(P, 500, 3))

    def test_smoothing_takes_noise_off_and_leaves_the_edge_of_a_box(self):
        rng = np.random.default_rng(3)
        a = rng.uniform(0, 4, (6000, 2))
        top, side = np.c_[a, np.zeros(6000)], np.c_[np.zeros(6000), a[:, :1], -a[:, 1:]]
        P = np.concatenate([top, side])
        n = np.repeat([[0, 0, 1.0], [-1.0, 0, 0]], 6000, axis=0)
        noisy = (P + 0.03 * rng.normal(size=(12000, 1)) * n).astype(np.float32)
        out = filters.smooth(noisy, n.astype(np.float32), 0.4, 0.08)
        off = ((out - P) * n).sum(1)
        before = ((noisy - P) * n).sum(1)
        self.assertLess(off.std(), 0.45 * before.std())
        edge = (np.abs(P[:, 0]) < 0.15) & (np.abs(P[:, 2]) < 0.15)
        self.assertLess(np.abs(off[edge]).mean(), 1.2 * np.abs(before[edge]).mean())
        # the reference: one point after the other
        for i in rng.choice(12000, 200, replace=False):
            d = noisy.astype(float) - noisy[i]
            near = ((d**2).sum(1) <= 0.4**2) & (n @ n[i] >= np.cos(np.radians(40)))
            across = d[near] @ n[i]
            w = (1 - (d[near] ** 2).sum(1) / 0.4**2) / (1 + (across / 0.08) ** 2) ** 2
            np.testing.assert_allclose(out[i], noisy[i] + (w @ across) / w.sum() * n[i], atol=2e-5)

    def test_a_support_is_found_though_it_tilts_and_a_ball_has_none(self):
        rng = np.random.default_rng(4)
        d = rng.normal(size=(4000, 3))
        ball = d / np.linalg.norm(d, axis=1, keepdims=True) * 2 + [0, 0, 2.3]
        table = np.c_[rng.uniform(-4, 4, (4000, 2)), np.zeros(4000)]
        table[:, 2] = 0.1 * table[:, 0]
        P = np.concatenate([ball, table]).astype(np.float32)
        n, offset = filters.support_plane(P)
        np.testing.assert_allclose(n, np.array([-0.1, 0, 1]) / np.sqrt(1.01), atol=0.01)
        self.assertAlmostEqual(offset, 0, delta=0.03)
        with self.assertRaises(UmbrateError):
            filters.support_plane((rng.normal(size=(3000, 3)) * [1, 1, 3]).astype(np.float32), tolerance=0.01)

    def test_an_object_without_a_table_keeps_its_own_flat_sides(self):
        rng = np.random.default_rng(8)
        d = rng.normal(size=(20_000, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        box = rng.uniform(-1, 1, (20_000, 3))
        side = rng.integers(0, 6, 20_000)
        box[np.arange(20_000), side // 2] = np.where(side % 2, 1, -1)
        cone = np.c_[rng.uniform(0, 2 * np.pi, 20_000), np.sqrt(rng.uniform(0, 1, 20_000))]
        cone = np.c_[cone[:, 1] * np.cos(cone[:, 0]), cone[:, 1] * np.sin(cone[:, 0]), 1.5 * (1 - cone[:, 1])]
        vase = d * [1, 1, 2]
        vase[:, 2] = np.maximum(vase[:, 2], -1.9)  # a flat foot
        alone = {"ball": d, "box": box, "cone": cone, "vase": vase, "whistle": d * [2, 1, 0.7]}
        for name, shape in alone.items():
            P = (shape + rng.normal(0, 0.004, shape.shape)).astype(np.float32)
            with self.assertRaisesRegex(UmbrateError, "no support", msg=name):
                filters.support_plane(P)
            low = P[:, 2].min()
            # on a table that is seen all round, or from three sides only, or as a small foam block
            for what, half, some in (("table", 3.5, 1.0), ("sides", 3.5, 0.6), ("block", 2.6, 1.0)):
                t = np.c_[rng.uniform(-half, half, (30_000, 2)), np.full(30_000, low)]
                t = t[t[:, 1] > half - 2 * half * some]
                Q = np.concatenate([P, t + rng.normal(0, 0.004, t.shape)]).astype(np.float32)
                n, offset = filters.support_plane(Q)
                self.assertGreater(n[2], 0.999, (name, what))
                self.assertAlmostEqual(offset, low, delta=0.06, msg=f"{name}, {what}")

    def test_spacing_is_one_over_the_root_of_density_however_points_lie(self):
        rng = np.random.default_rng(5)
        random = np.c_[rng.uniform(0, 1, (20000, 2)), np.zeros(20000)].astype(np.float32)
        u = np.arange(140) / 140
        even = np.stack([*np.meshgrid(u, u), np.zeros((140, 140))], -1).reshape(-1, 3).astype(np.float32)
        for P, n in ((random, 20000), (even, 19600)):
            self.assertAlmostEqual(spacing_of(P), n**-0.5, delta=0.15 * n**-0.5)
        self.assertAlmostEqual(spacing_of(np.tile(random, (1, 1))[:, [2, 0, 1]]), spacing_of(random), places=6)

    def test_nothing_is_no_trouble(self):
        none = np.zeros((0, 3), np.float32)
        for out in (filters.lonely(none, 1, 2), filters.spacing(none), filters.components(none, 1),
                    filters.thin_by_spacing(none, 1), filters.smooth(none, none, 1, 1)):  # fmt: skip
            self.assertEqual(len(out), 0)
        one = np.zeros((1, 3), np.float32)
        self.assertTrue(filters.lonely(one, 1, 1)[0])
        self.assertTrue(np.isinf(filters.spacing(one, 6, 1.0))[0])


class Drawn(unittest.TestCase):
    def test_points_seen_inside_a_drawing_are_those_that_project_into_it(self):
        rng = np.random.default_rng(6)
        for _ in range(10):
            P = rng.normal(size=(4000, 3)).astype(np.float32)
            E = look_at(rng.normal(size=3) + [0, -6, 0], np.zeros(3))
            polygon = rng.uniform(0, 400, (int(rng.integers(3, 40)), 2))
            Y = P @ E[:3, :3].T + E[:3, 3]
            uv = Y[:, :2] / Y[:, 2:] * 500.0 + [200, 200]
            want = inside_polygon(uv, polygon) & (Y[:, 2] > 0)
            self.assertLess((seen_inside(P, E, 500.0, (200, 200), polygon) != want).sum(), 3)
            square = np.array([[120, 90], [260, 90], [260, 310.5], [120, 310.5]])  # edges along rows and columns
            want = (uv > square[0]).all(1) & (uv < square[2]).all(1) & (Y[:, 2] > 0)
            self.assertLess((seen_inside(P, E, 500.0, (200, 200), square) != want).sum(), 3)
        self.assertFalse(seen_inside(P, E, 500.0, (200, 200), polygon[:2]).any())

    def test_a_brush_takes_the_foremost_points_under_its_path_and_none_behind(self):
        rng = np.random.default_rng(7)
        for slant in (0.0, 0.6):
            front, back = np.c_[rng.uniform(-1, 1, (2, 20000, 2)), np.zeros((2, 20000, 1))]
            front[:, 2] = 5 + slant * front[:, 0]
            back[:, 2] = front[:, 2] + 1
            P = np.concatenate([front, back]).astype(np.float32)
            strokes = [rng.uniform(140, 260, (6, 2)), rng.uniform(140, 260, (1, 2))]
            got = seen_under(P, np.eye(4), 500.0, (200, 200), strokes, 15, (0, 0, 1, 0), spacing_of(front))
            uv = P[:, :2] / P[:, 2:] * 500.0 + [200, 200]
            away = np.linalg.norm(uv - strokes[1][0], axis=1)
            for a, b in pairwise(strokes[0]):
                t = np.clip((uv - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
                away = np.minimum(away, np.linalg.norm(uv - a - t[:, None] * (b - a), axis=1))
            self.assertFalse(got[away > 16].any())
            self.assertTrue(got[:20000][away[:20000] < 14].all())
            self.assertLess(got[20000:].mean(), 0.001)
            self.assertGreater((away[20000:] < 14).mean(), 0.05)  # there was something behind
        self.assertFalse(seen_under(P, np.eye(4), 500.0, (200, 200), [], 15, (0, 0, 1, 0), 0.01).any())

    def test_what_no_photo_sees_deep_inside_its_mask_is_near_the_outlines(self):
        rng = np.random.default_rng(8)
        P = np.c_[rng.uniform(-2, 2, (20000, 2)), np.zeros(20000)].astype(np.float32)
        N = np.tile(np.float32([0, 0, 1]), (len(P), 1))
        lens = Lens(400, 300, 300.0, 199.5, 149.5)
        cameras, away = [], np.zeros(len(P))
        for turn in (0.0, 1.0, 2.5):
            E = look_at((0, 0, 6), (0.1, 0.2, 0), (np.cos(turn), np.sin(turn), 0))
            left, right = np.sort(rng.uniform(60, 340, 2))
            mask = np.zeros((300, 400), bool)
            mask[:, round(left) : round(right) + 1] = True
            cameras.append(coverage.Camera(E, lens, mask))
            Y = P @ E[:3, :3].T + E[:3, 3]
            x, y = np.round(lens.project(Y[:, :2] / Y[:, 2:])).T
            edge = np.minimum.reduce([x - round(left), round(right) - x, y, 299 - y])
            away = np.maximum(away, edge + 1)
        for deep in (0.5, 3.0, 12.0):
            np.testing.assert_array_equal(inside_outlines(P, N, cameras, deep), away > deep)
        self.assertFalse(inside_outlines(P, -N, cameras, 3.0).any())  # what looks away from all of them


class Covered(unittest.TestCase):
    """A ball on whose right a second one stands, in a ring of cameras that all look from above."""

    @classmethod
    def setUpClass(cls):
        rng = np.random.default_rng(1)
        d = rng.normal(size=(12000, 3))
        cls.normals = d / np.linalg.norm(d, axis=1, keepdims=True)
        cls.points = cls.normals * 1.0
        cls.points[8000:] += [2.5, 0, 0]
        lens = Lens(640, 480, 600.0, 319.5, 239.5)
        cls.cameras = [
            coverage.Camera(look_at((12 * np.cos(a), 12 * np.sin(a), 6), (1.2, 0, 0)), lens)
            for a in np.linspace(0, 2 * np.pi, 9)[:-1]
        ]
        cls.found = coverage.coverage(cls.points, cls.normals, cls.cameras, spacing_of(cls.points))

    def test_what_each_photo_sees_is_what_rays_to_it_say(self):
        count, best = np.zeros(len(self.points), int), np.full(len(self.points), np.inf)
        for c in self.cameras:
            eye = center(c.pose)
            ray = eye - self.points
            away = np.linalg.norm(ray, axis=1)
            ray /= away[:, None]
            cos = (ray * self.normals).sum(1)
            free = cos > np.cos(np.radians(coverage.STEEPEST_DEG))
            for middle in ((0, 0, 0), (2.5, 0, 0)):  # the ball a point is not on must not lie between
                to = np.array(middle) - self.points
                along = (to * ray).sum(1)
                off = np.sqrt(np.maximum((to**2).sum(1) - along**2, 0))
                own = np.linalg.norm(to, axis=1) < 1.001
                free &= own | (along < 0) | (off > 1)
            count += free
            best = np.where(free, np.minimum(best, away / 600 / cos), best)
        same = self.found.seen == count
        self.assertGreater(same.mean(), 0.97)  # but at the very edge of what hides
        self.assertTrue((np.abs(self.found.seen.astype(int) - count) <= 2).all())
        both = same & np.isfinite(best)
        self.assertGreater((np.abs(self.found.resolution[both] / best[both] - 1) < 1e-4).mean(), 0.999)
        self.assertTrue((self.found.seen[self.normals[:, 2] < -0.95] == 0).all())
        self.assertTrue(np.isinf(self.found.precision[self.found.seen < 2]).all())

    def test_precision_is_that_of_rays_met_by_least_squares(self):
        k = int(np.argmax(self.found.seen))
        rows = []
        rng = np.random.default_rng(0)
        seen_by = [c for c in self.cameras if self._sees(c, k)]
        self.assertEqual(len(seen_by), self.found.seen[k])
        for c in seen_by:
            ray = self.points[k] - center(c.pose)
            away = np.linalg.norm(ray)
            a = np.linalg.svd((ray / away)[None])[2][1:]  # two directions across it
            rows.append(a / (coverage.MATCHED_PX * away / 600))
        A = np.concatenate(rows)
        noise = rng.normal(size=(20000, len(A)))
        off = (np.linalg.lstsq(A, noise.T, rcond=None)[0].T * self.normals[k]).sum(1)
        self.assertAlmostEqual(off.std() / self.found.precision[k], 1, delta=0.03)

    def _sees(self, c, k):
        one = coverage.coverage(self.points, self.normals, [c], spacing_of(self.points))
        return one.seen[k] == 1

    def test_what_is_missing_below_is_found_and_the_photos_for_it_look_up(self):
        weak = self.found.seen < 3
        lens = self.cameras[0].lens
        found = coverage.places(self.points, self.normals, self.normals, weak, 12.0, spacing_of(self.points), lens)
        self.assertTrue(found)
        self.assertLess(found[0].normal[2], -0.5)
        for p in found:
            self.assertTrue(weak[p.rows].all())
            eyes = np.array([center(E) for E in p.poses])
            np.testing.assert_allclose(np.linalg.norm(eyes - eyes[1], axis=1)[[0, 2]], 2 * 12 * np.sin(np.radians(6)))
            uv = p.poses[1][:3, :3] @ p.center + p.poses[1][:3, 3]
            self.assertLess(np.abs(uv[:2] / uv[2]).max(), 0.2)
        mended = np.unique(np.concatenate([p.rows for p in found]))
        self.assertGreater(len(mended), 0.8 * weak.sum())
        few = weak & (np.arange(len(weak)) < 15)
        self.assertEqual(coverage.places(self.points, self.normals, self.normals, few, 12.0, 0.05, lens), [])

    def test_few_points_know_their_normals_and_what_they_lack_is_found(self):
        rng = np.random.default_rng(2)
        d = rng.normal(size=(1500, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        d = d[d[:, 0] < 0.4]  # one side of a ball has none
        toward = d + 0.6 * rng.normal(size=d.shape)
        toward = toward[(toward * d).sum(1) > 0.3], d[(toward * d).sum(1) > 0.3]
        away, d = toward
        N = sparse_normals(d + rng.normal(0, 0.004, d.shape), away)
        off = np.degrees(np.arccos(np.clip((N * d).sum(1), -1, 1)))
        self.assertLess(np.median(off), 4)
        self.assertLess(np.percentile(off, 95), 20)
        np.testing.assert_array_less(0, (N * away).sum(1))
        # photos all round see what is there: the end of it alone is a place to go to, from the side that is bare
        lens = Lens.guess(800, 600, 600)
        cameras = [
            (look_at((12 * np.cos(a), 12 * np.sin(a), z), (0, 0, 0)), lens, None)
            for a in np.linspace(0, 2 * np.pi, 17)[:-1] for z in (-5.0, 0.1, 5.0)
        ]  # fmt: skip
        work = Work("", {"points": d, "normals": N}, cameras, "mm", "tie points", SPARSE_RIM)
        found = compute_coverage(work)
        self.assertEqual(found.weak.mean(), 0)
        self.assertTrue((d[found.edge, 0] > 0.1).all())
        self.assertGreater(found.places[0].normal[0], 0.5)
        self.assertIn("of the tie points", found.rows()[0][0])

    def test_a_surface_ends_at_its_rim_and_nowhere_else(self):
        rng = np.random.default_rng(2)
        P = np.c_[rng.uniform(0, 10, (20000, 2)), np.zeros(20000)]
        N = np.tile([0.0, 0, 1], (len(P), 1))
        s = spacing_of(P)
        out = filters.rim(P, N, 5 * s)
        on = (out != 0).any(1)
        edge = np.minimum(P[:, :2], 10 - P[:, :2]).min(1)
        self.assertGreater(on[edge < s].mean(), 0.95)
        self.assertLess(on[edge > 4 * s].mean(), 0.001)
        left = on & (P[:, 0] < s) & (np.abs(P[:, 1] - 5) < 4)
        self.assertTrue((out[left, 0] < -0.5).all())
        self.assertLess(out[left, 0].mean(), -0.95)


class Foreseen(unittest.TestCase):
    def test_what_a_cloud_will_cost_follows_from_cameras_box_and_mask(self):
        poses = np.array([look_at((20 * np.cos(a), 20 * np.sin(a), 0), (0, 0, 0)) for a in np.arange(6)])
        poses[5] = np.nan
        lens = np.array([[2000.0, 799.5, 599.5, 0, 0, 0, 0, 0, 0, 0]])
        block = Block.without_sightings(poses, lens, np.zeros(6), np.zeros((0, 3)), sizes=np.tile([1600, 1200], (6, 1)))
        box = KeepBox(np.zeros(3), np.eye(3), np.full(3, 1e-3))
        s = forecasting.scene_of(block, {0, 1, 2, 3, 5}, box, None)
        self.assertEqual(s.photos, 4)
        self.assertAlmostEqual(s.ground, 20 / 2000, places=9)
        self.assertLess(s.used_pixels, 0.4**2)  # a box of a fifth of a pixel
        large = KeepBox(np.zeros(3), np.eye(3), np.full(3, 8.0))
        self.assertEqual(forecasting.scene_of(block, {0, 1, 2}, large, 0.25).used_pixels, 0.25 * 1600 * 1200)
        self.assertIsNone(forecasting.scene_of(block, {1, 5}, box, None))
        s = forecasting.scene_of(block, {0, 1, 2, 3}, large, None)
        found = {k: forecasting.cost(s, k, 6, 2, 1e6, 2) for k in forecasting.SCALES}
        self.assertAlmostEqual(found[4].spacing, 4 * 20 / 2000)
        self.assertGreater(found[1].seconds, 3.5 * found[2].seconds)
        self.assertAlmostEqual(found[2].seconds, 2 * forecasting.cost(s, 2, 6, 2, 1e6, 4).seconds)
        # four photos on the disk: what 1/1 takes more than 1/2
        self.assertGreater(found[1].disk - found[2].disk, 4 * 0.7 * 1600 * 1200 * 17)
        # memory goes with a photo, not with how many there are, but for the points; and these are bounded
        many = [forecasting.cost(replace(s, photos=n), 1, 6, 2, 1e6, 2, 1e6) for n in (300, 600)]
        self.assertEqual(many[0].bytes, many[1].bytes)
        self.assertGreater(forecasting.cost(replace(s, photos=300), 1, 6, 2, 1e6, 2).bytes, 5 * many[0].bytes)
        settings, check = CloudStage.Settings(photo_scale=1), forecasting.check_room
        check(found, settings, "/job", (found[1].bytes + 1e6) / forecasting.SPARE, 1e12)
        for room in ((found[1].bytes - 1e6, 1e12), (1e12, found[1].disk - 1e6)):
            with self.assertRaisesRegex(UmbrateError, "1/2 fits") as e:
                check(found, settings, "/job", *(x / forecasting.SPARE for x in room))
            self.assertEqual(e.exception.remedy, ("set", "photo_scale", 2))
        for room in ((1e6, 1e12), (1e12, 1e3)):
            with self.assertRaisesRegex(UmbrateError, "No photo scale fits"):
                check(found, settings, "/job", *room)

    def test_arrays_of_a_run_are_read_from_files_that_go_with_it(self):
        job = scratch()
        rng, arrays = np.random.default_rng(0), None
        with Scratch.of_job(job / "blobs") as room:
            arrays = [rng.random((30, 40)).astype(np.float32), rng.random((7, 3)) > 0.5, np.zeros((0, 3)), np.arange(5)]
            self.assertIsNone(room.get("some"))
            room.put("some", *arrays)
            for a, b in zip(arrays, pickle.loads(pickle.dumps(room)).get("some"), strict=True):
                np.testing.assert_array_equal(a, b)
                self.assertEqual(a.dtype, b.dtype)
            room.get("some")[0][:] = 7  # what is read may be written into, and nobody else sees it
            np.testing.assert_array_equal(room.get("some")[0], arrays[0])
            self.assertTrue((room.zeros((3, 4), np.uint8) == 0).all())
            self.assertEqual(len(list((job / "scratch").rglob("*"))), 2)
            with mock.patch(
                "umbrate.job.scratch.os.posix_fallocate", side_effect=OSError(28, "No space left on device")
            ):
                with self.assertRaisesRegex(CannotKeep, "0.1 GB could not be kept .*No space left"):
                    room.zeros((100, 1000, 1000), np.uint8)
            with self.assertRaisesRegex(CannotKeep, "could not be kept"):
                room.zeros((10**7, 10**7), np.float64)
        self.assertEqual(list((job / "scratch").iterdir()), [])


class Written(unittest.TestCase):
    def test_every_format_gives_back_what_was_written(self):
        rng = np.random.default_rng(0)
        n = 500
        c = {
            "points": (rng.normal(size=(n, 3)) * 40).astype(np.float32),
            "normals": rng.normal(size=(n, 3)).astype(np.float32),
            "colors": rng.integers(0, 256, (n, 3)).astype(np.uint8), "photos": rng.integers(2, 9, n).astype(np.uint8),
            "score": rng.random(n).astype(np.float32),
        }  # fmt: skip
        folder = scratch()
        for end in KINDS:
            write_cloud(folder / f"c{end}", c, "mm")
        write_cloud(folder / "t.ply", c, None, text=True)
        write_cloud(folder / "p.ply", c, "mm", without=("normals", "colors", "extras"))
        v = PlyData.read(str(folder / "c.ply"))
        self.assertIn("unit mm", v.comments)
        np.testing.assert_array_equal(np.stack([v["vertex"][a] for a in ("nx", "ny", "nz")], 1), c["normals"])
        t = PlyData.read(str(folder / "t.ply"))["vertex"]
        np.testing.assert_allclose(np.stack([t[a] for a in "xyz"], 1), c["points"], rtol=1e-5)
        self.assertEqual([p.name for p in PlyData.read(str(folder / "p.ply"))["vertex"].properties], ["x", "y", "z"])
        for end in ("las", "laz"):
            las = laspy.read(folder / f"c.{end}")
            np.testing.assert_allclose(las.xyz * 1000, c["points"], atol=2e-4)
            np.testing.assert_array_equal(las.blue // 257, c["colors"][:, 2])
            np.testing.assert_array_equal(las["photos"], c["photos"])
        e = pye57.E57(str(folder / "c.e57")).read_scan(0, colors=True, intensity=True, ignore_missing_fields=True)
        np.testing.assert_allclose(e["cartesianY"] * 1000, c["points"][:, 1], rtol=1e-5)
        np.testing.assert_array_equal(e["colorGreen"], c["colors"][:, 1])
        rows = np.loadtxt(folder / "c.csv", delimiter=",", skiprows=1)
        np.testing.assert_allclose(rows[:, :3], c["points"], rtol=1e-5)
        self.assertEqual(np.loadtxt(folder / "c.xyz").shape, (n, 11))
        with self.assertRaises(UmbrateError):
            write_cloud(folder / "c.doc", c)
        with self.assertRaises(UmbrateError):
            write_cloud(folder / "nowhere" / "c.ply", c)


if __name__ == "__main__":
    unittest.main()
