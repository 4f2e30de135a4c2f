"""Clouds side by side, cleaned step by step, compared and written: against slow references and closed forms."""

import unittest
from itertools import pairwise
from unittest import mock

import laspy
import numpy as np
import pye57
from click.testing import CliRunner
from plyfile import PlyData
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions.cleaning import apply_step, apply_steps, take_back
from umbrate.actions.steps import FILTERS, check_step, read_steps, step_text, try_step, write_steps
from umbrate.actions.steps import Context as CleaningContext
from umbrate.cli.main import cli
from umbrate.core.cloud import coverage, filters
from umbrate.core.cloud.clean import inside_outlines
from umbrate.core.cloud.grid import sort_into_grid, spacing_of
from umbrate.core.cloud.keepbox import KeepBox
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at
from umbrate.core.poses.block import Block
from umbrate.core.raster.pick import inside_polygon, seen_inside, seen_under
from umbrate.formats.clouds import KINDS, write_cloud
from umbrate.sitting.clouds import compare_clouds, load_cloud, raw_cloud
from umbrate.sitting.frames import keep_box_of, set_keep_box
from umbrate.stages.cloud import forecast as forecasting
from umbrate.stages.cloud.scratch import kept, zeros
from umbrate.stages.cloud.stage import CloudStage


def scattered(seed=0, n=3000):
    """A sheet, a ball beside it and some specks."""
    rng = np.random.default_rng(seed)
    sheet = np.c_[rng.uniform(0, 10, (n, 2)), rng.normal(0, 0.02, n)]
    d = rng.normal(size=(n // 4, 3))
    ball = 1.5 * d / np.linalg.norm(d, axis=1, keepdims=True) + [5, 5, 4]
    specks = rng.uniform(-3, 13, (30, 3))
    return np.concatenate([sheet, ball, specks]).astype(np.float32)


class Filters(unittest.TestCase):
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
        # pixels held four at a time: what 1/1 takes more than 1/2
        self.assertGreater(found[1].movable - found[2].movable, 4 * 0.7 * 1600 * 1200 * 19)
        settings, place = CloudStage.Settings(photo_scale=1), forecasting.place_for
        self.assertIsNone(place(found, settings, "/job", 1e12, 1e12))
        tight = (found[1].bytes + 1e6) / forecasting.SPARE
        self.assertEqual(place(found, settings, "/job", tight, 1e12), "/job")
        with self.assertRaisesRegex(UmbrateError, "1/2 fits") as e:
            place(found, settings, "/job", (found[1].bytes - 1e6) / forecasting.SPARE, 1e12)
        self.assertEqual(e.exception.remedy, ("set", "photo_scale", 2))
        with self.assertRaisesRegex(UmbrateError, "No photo scale fits"):
            place(found, settings, "/job", 1e6, 1e12)
        with self.assertRaisesRegex(UmbrateError, "No photo scale fits"):
            place(found, settings, "/job", found[8].bytes / forecasting.SPARE, 1e3)

    def test_arrays_on_disk_are_as_those_in_memory_and_leave_nothing(self):
        folder = scratch()
        a = np.random.default_rng(0).random((30, 40)).astype(np.float32)
        b = kept(a, str(folder))
        np.testing.assert_array_equal(a, b)
        b[3] = 7
        self.assertTrue((b[3] == 7).all() and (zeros((3, 4), np.uint8, str(folder)) == 0).all())
        self.assertEqual(list(folder.iterdir()), [])
        with self.assertRaisesRegex(UmbrateError, "could not be kept"):
            zeros((10**7, 10**7), np.float64, str(folder))


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
        write_cloud(folder / "p.ply", c, "mm", normals=False, colors=False, extras=False)
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


class SideBySide(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "clouds", "photos", "masks", "lens", "poses", "cloud")
        cls.addClassCleanup(cls.job.close)

    def test_trying_overwrites_nothing_and_steps_are_taken_back_in_any_order(self):
        job, s = self.job, self.sitting
        first = job.cloud(s.id)
        self.assertEqual((first.name, first.chosen, first.left), ("Cloud 1", True, len(load_cloud(job, s)["points"])))
        before = {p: b for (n, p), b in job.result(s.id, "cloud").artefacts.items() if n == "depth"}
        file = job.blobs.path(next(iter(before.values())))
        file.write_bytes(file.read_bytes()[:-100])
        job.set_settings(s.id, "cloud", {**job.settings(s.id, "cloud"), "min_photos": 2})
        run(job, s, "cloud")
        again = job.result(s.id, "cloud")  # all maps but the damaged one served, and that one was made again
        self.assertEqual(again.figures.reused, len(before) - 1)
        self.assertEqual({p: b for (n, p), b in again.artefacts.items() if n == "depth"}, before)
        job.blobs.get_arrays(file.name)
        self.assertEqual([c.name for c in job.clouds(s.id)], ["Cloud 1", "Cloud 2"])
        self.assertEqual(job.cloud(s.id).name, "Cloud 2")
        d, f = compare_clouds(load_cloud(job, s), load_cloud(job, s, first))
        self.assertEqual(f["points"], len(d))
        self.assertLess(f["median_abs"], 0.002)
        kept = job.cloud(s.id)
        whole = len(raw_cloud(job, kept)["points"])
        for step in ({"filter": "photos", "least": 4}, {"filter": "lonely"}, {"filter": "components", "share": 5.0},
                     {"filter": "smooth"}, {"filter": "share", "percent": 50.0}):  # fmt: skip
            apply_step(job, s, job.cloud(s.id), step)
        kept = job.cloud(s.id)
        left = raw_cloud(job, kept)
        self.assertEqual(len(left["points"]), kept.left)
        self.assertGreaterEqual(left["photos"].min(), 4)
        self.assertLess(kept.left, 0.55 * whole)
        take_back(job, s, kept, 0)
        again = job.cloud(s.id)
        self.assertEqual([x.step["filter"] for x in again.steps], ["lonely", "components", "smooth", "share"])
        self.assertEqual(raw_cloud(job, again)["photos"].min(), raw_cloud(job, first)["photos"].min().clip(max=2))
        job.undo()
        np.testing.assert_array_equal(raw_cloud(job, job.cloud(s.id))["points"], left["points"])
        # the same steps, from a file, on the same cloud without any: the same cloud
        file = scratch() / "steps.json"
        write_steps(file, [x.step for x in job.cloud(s.id).steps])
        job.set_cleaning(kept.id, [], "nothing")
        removed = apply_steps(job, s, job.cloud(s.id), read_steps(file))
        self.assertEqual(removed, whole - len(left["points"]))
        np.testing.assert_array_equal(raw_cloud(job, job.cloud(s.id))["points"], left["points"])
        before = job.cloud(s.id).steps
        with self.assertRaisesRegex(UmbrateError, "Below a height: .*all points"):
            apply_steps(job, s, job.cloud(s.id), [{"filter": "lonely"}, {"filter": "plane", "height": 1e4}])
        self.assertEqual(job.cloud(s.id).steps, before)
        for bad in (
            "",
            "[]",
            '{"umbrate": "cleaning", "steps": [3]}',
            '{"umbrate": "cleaning", "steps": [{"filter": "x"}]}',
        ):
            file.write_text(bad)
            with self.assertRaises(UmbrateError):
                read_steps(file)
        for _ in range(2):
            job.undo()
        for _ in range(5):
            job.undo()
        self.assertEqual(job.cloud(s.id).left, whole)
        job.remove_cloud(kept.id)
        self.assertEqual(job.cloud(s.id).name, "Cloud 1")
        job.undo()
        job.collect_garbage()
        self.assertEqual(len(load_cloud(job, s)["points"]), whole)  # nothing that undo can bring back was thrown away
        job.rename_cloud(kept.id, "loose")
        with self.assertRaisesRegex(UmbrateError, "already"):
            job.rename_cloud(kept.id, "Cloud 1")
        job.choose_cloud(first.id)
        self.assertTrue(job.cloud(s.id).chosen and job.cloud(s.id).id == first.id)

    def test_what_was_cut_stays_cut_whatever_level_and_scale_come_later(self):
        job, s = self.job, self.sitting
        kept = job.cloud(s.id)
        job.set_cleaning(kept.id, [], "as it was")
        kept = job.cloud(s.id)
        apply_step(job, s, kept, {"filter": "photos", "least": 4})
        P = load_cloud(job, s)["points"].astype(float)
        size = np.ptp(P, axis=0).max()
        eye = look_at(P.mean(0) + [0, -3 * size, 0.4 * size], P.mean(0), (0, 0, 1))
        c = eye[:3, :3] @ P.mean(0) + eye[:3, 3]
        corner = [400 + 300 * c[0] / c[2], 300 + 300 * c[1] / c[2]]
        drawn = {"view": eye.tolist(), "f": 300.0, "middle": [400, 300]}
        poly = [corner, [corner[0] + 900, corner[1]], [corner[0] + 900, corner[1] - 900], [corner[0], corner[1] - 900]]
        front = np.append(eye[2, :3], eye[2, 3]).tolist()
        steps = (
            {"filter": "lasso", **drawn, "polygon": poly},
            {"filter": "brush", **drawn, "front": front, "strokes": [[[380, 320], [400, 325]]], "radius": 20.0},
            {"filter": "slab", "normal": [0, 0, 1], "low": float(np.percentile(P[:, 2], 90)), "high": 1e9},
            {"filter": "plane", "height": float(np.percentile(P[:, 2], 5))},
            {"filter": "precision", "most": float(np.percentile(load_cloud(job, s)["precision"], 97))},
            {"filter": "box"},
        )  # fmt: skip
        tilt = {"up": {"turn": [[1, 0, 0], [0, 0.6, -0.8], [0, 0.8, 0.6]]}, "origin": [1.0, 2.0, 3.0]}
        elsewhere = {"center": [9, 9, 9], "half": [0.1] * 3, "axes": np.eye(3).tolist()}
        first = [(x.step, x.blob, x.removed) for x in job.cloud(s.id).steps]

        def rows(points):
            return np.ascontiguousarray(points).view("V12").ravel()

        def left(upto=None):
            return raw_cloud(job, job.cloud(s.id), upto)

        for step in steps:
            with self.subTest(step["filter"]):
                job.set_level(s.id, None)
                job.set_keep_box(s.id, None)
                job.set_cleaning(kept.id, first, "as it was")
                if step["filter"] == "box":
                    box = keep_box_of(job, s)
                    set_keep_box(job, s, {**box, "half": (0.3 * np.array(box["half"])).tolist()})
                there = left()["points"]
                apply_step(job, s, job.cloud(s.id), step)
                apply_step(job, s, job.cloud(s.id), {"filter": "share", "percent": 99.0})
                want = left(2)["points"]
                self.assertLess(len(want), len(there))
                # another level, another keep box; the last step is taken back, then the first: this one is done again
                job.set_level(s.id, tilt)
                job.set_keep_box(s.id, elsewhere)
                take_back(job, s, job.cloud(s.id), 2)
                np.testing.assert_array_equal(left(2)["points"], want)
                take_back(job, s, job.cloud(s.id), 0)
                again = left()["points"]
                self.assertEqual([x.step["filter"] for x in job.cloud(s.id).steps], [step["filter"]])
                # of the points that were there, those stay that stayed, and no other
                was = np.isin(rows(again), rows(there))
                np.testing.assert_array_equal(np.sort(rows(again[was])), np.sort(rows(want)))
        # a step of an older version, that does not say in which frame it was made, keeps its very points
        for step in (steps[0], steps[3]):
            job.set_level(s.id, None)
            job.set_cleaning(kept.id, first, "as it was")
            apply_step(job, s, job.cloud(s.id), step)
            want, k = left()["points"], job.cloud(s.id)
            there = left(1)["points"]
            old = {n: v for n, v in k.steps[-1].step.items() if n != "frame"}
            job.set_cleaning(k.id, [*first, (old, k.steps[-1].blob, 1)], "old")
            job.set_level(s.id, tilt)
            take_back(job, s, job.cloud(s.id), 0)
            again = left()["points"]
            was = np.isin(rows(again), rows(there))
            np.testing.assert_array_equal(np.sort(rows(again[was])), np.sort(rows(want)))
        with self.assertRaisesRegex(UmbrateError, "older version"):
            apply_steps(job, s, job.cloud(s.id), [{n: v for n, v in steps[0].items() if n != "frame"}])
        job.set_level(s.id, None)
        job.set_keep_box(s.id, None)
        job.set_cleaning(kept.id, [], "as it was")

    def test_values_that_are_none_are_refused_with_a_sentence(self):
        inf, nan = float("inf"), float("nan")
        for step in (
            {"filter": "plane", "height": "ten"}, {"filter": "plane", "height": inf}, {"filter": "score", "least": nan},
            {"filter": "count", "count": inf}, {"filter": "count", "count": [3]}, {"filter": "color", "color": "#12"},
            {"filter": "slab", "normal": "up", "low": 0, "high": 1}, {"filter": "slab", "normal": [0, 0, 0], "low": 0,
             "high": 1}, {"filter": "slab", "normal": "0,0,1", "low": "a", "high": 1}, {"filter": "slab", "low": 1},
            {"filter": "slab", "normal": [0, 0, nan], "low": 0, "high": 1}, {"filter": "lasso"}, {"filter": "brush"},
            {"filter": "lasso", "view": 3, "f": 1, "middle": [0, 0], "polygon": []}, {"filter": "box", "box": {}},
            {"filter": "box", "frame": [[0] * 4] * 4}, {"filter": "photos", "frame": "x"}, {"filter": ["x"]},
        ):  # fmt: skip
            with self.assertRaises(UmbrateError, msg=str(step)):
                try_step({"points": np.zeros((3, 3), np.float32)}, step, None)
        out = CliRunner().invoke(
            cli,
            ["clean", str(self.job.folder), "--by", "slab", "--set", "normal=up", "--set", "low=0", "--set", "high=1"],
        )
        self.assertEqual(out.exit_code, 1)

    def test_a_box_beside_the_object_and_masks_that_leave_nothing_are_said(self):
        from umbrate.sitting.frames import keep_box_of, set_keep_box
        from umbrate.stages.cloud import computing

        job, s = self.job, self.sitting
        box = keep_box_of(job, s)
        before = [c.name for c in job.clouds(s.id)]
        set_keep_box(job, s, {**box, "center": [x + 1e3 for x in box["center"]]})
        with self.assertRaisesRegex(UmbrateError, "beside the object"):
            run(job, s, "cloud")
        job.undo()
        whole = computing.decode_mask
        with (
            mock.patch.object(computing, "decode_mask", lambda data: whole(data) & False),
            mock.patch.object(computing, "DEPTH_VERSION", -1),  # depth maps that are there were made with the masks
            self.assertRaisesRegex(UmbrateError, "masks leave nothing"),
        ):
            run(job, s, "cloud")
        self.assertEqual([c.name for c in job.clouds(s.id)], before)

    def test_every_filter_answers_and_says_what_it_does_not_take(self):
        job, s = self.job, self.sitting
        kept = job.clouds(s.id)[0]
        cloud, context = raw_cloud(job, kept), CleaningContext(job, s, kept)
        for f in FILTERS:
            step = {"filter": f.name}
            if f.name == "lasso":
                step |= {
                    "view": np.eye(4).tolist(),
                    "f": 100.0,
                    "middle": [50, 50],
                    "polygon": [[0, 0], [100, 0], [50, 99]],
                }
            if f.name == "brush":
                step |= {"view": np.eye(4).tolist(), "f": 100.0, "middle": [50, 50], "radius": 9}
                step |= {"front": [0, 0, 1, 0], "strokes": [[[50, 50], [70, 80]]]}
            if f.name == "slab":
                step |= {"normal": "0,0,2", "low": 0, "high": float(np.median(cloud["points"][:, 2]))}
            if f.name == "support":
                continue
            answer = try_step(cloud, step, context)
            self.assertEqual(len(answer), len(cloud["points"]), f.name)
            self.assertIn(f.title, step_text(check_step(step)))
            if answer.ndim == 1:
                np.testing.assert_array_equal(try_step(cloud, {**step, "keep": True}, context), ~answer)
        middle = np.median(cloud["points"][:, 2])
        low = try_step(cloud, {"filter": "plane", "height": float(middle)}, context)
        np.testing.assert_array_equal(low, cloud["points"][:, 2] < np.float32(middle))
        flat = {"filter": "slab", "normal": [0, 0, 1], "low": -1e5, "high": float(middle)}
        np.testing.assert_array_equal(try_step(cloud, flat, context), cloud["points"][:, 2] <= np.float32(middle))
        self.assertTrue(0 < try_step(cloud, {"filter": "fringe", "deep": 6}, context).mean() < 0.5)
        for bad in ({"filter": "magic"}, {"filter": "photos", "most": 3}, {"filter": "photos", "least": 1000},
                    {"filter": "color", "color": "green"}, {"filter": "photos", "least": "many"},
                    {"filter": "slab", "low": 1}):  # fmt: skip
            with self.assertRaises(UmbrateError):
                try_step(cloud, bad, context)
        with self.assertRaisesRegex(UmbrateError, "all points"):
            apply_step(job, s, kept, {"filter": "plane", "height": 1e4})
        self.assertEqual(job.clouds(s.id)[0].steps, ())

    def test_from_the_terminal(self):
        job, _ = job_with(scratch() / "cli", "photos", "masks", "lens", "poses", "cloud")
        folder = str(job.folder)
        job.close()
        place = scratch()

        def call(*arguments):
            return CliRunner().invoke(cli, list(arguments))

        for command in (
            ("clean", folder, "--by", "photos", "--set", "least=4", "--dry-run"),
            ("clean", folder, "--by", "photos", "--set", "least=4"),
            ("clean", folder, "--by", "lonely"), ("clean", folder, "--save-steps", str(place / "s.json")),
            ("clean", folder, "--back", "1"), ("clean", folder, "--steps", str(place / "s.json")),
            ("clouds", folder, "--rename", "Cloud 1", "fine"),
            ("clouds", folder, "--compare", "fine", "fine"), ("export", folder, "cloud", str(place / "c.laz")),
            ("export", folder, "cloud", str(place / "c.ply"), "--plain", "--text", "--cloud", "fine"),
            ("clouds", folder),
        ):  # fmt: skip
            out = call(*command)
            self.assertEqual(out.exit_code, 0, (command, out.output))
        for command in (
            ("clean", folder), ("clean", folder, "--back", "9"), ("clean", folder, "--by", "magic"),
            ("clean", folder, "--steps", str(place / "none.json")), ("clean", folder, "--like", "x", "--back", "1"),
            ("clean", folder, "--by", "photos", "--set", "least"), ("clouds", folder, "--choose", "none"),
            ("export", folder, "cloud", str(place / "c.doc")), ("clouds", folder, "--remove", "Cloud 1"),
        ):  # fmt: skip
            self.assertEqual(call(*command).exit_code, 1, command)


if __name__ == "__main__":
    unittest.main()
