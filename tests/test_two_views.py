"""Relative pose and resection from minimal sets and from polluted ones."""

import unittest

import numpy as np

from umbrate.core.features.match import match
from umbrate.core.features.still import still_features
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at, transform
from umbrate.core.geometry.rotation import rotation_angle
from umbrate.core.poses.essential import decompose, essential_ransac, five_point, sampson_squared
from umbrate.core.poses.pairs import relate
from umbrate.core.poses.resect import refine_pose, resect_ransac, three_point
from umbrate.core.poses.roots import real_eigenvalues


def two_photos(rng, n):
    """Points (n, 3), two poses with unit base and the directions (n, 2) of the points in both."""
    X = rng.uniform(-1, 1, size=(n, 3))
    a, b = (look_at(rng.normal(size=3) * 0.4 + [s, -5, 1.0], rng.normal(size=3) * 0.2) for s in (-0.8, 0.8))
    pa, pb = transform(a, X), transform(b, X)
    relative = b @ np.linalg.inv(a)
    return X, (a, b), relative, pa[:, :2] / pa[:, 2:], pb[:, :2] / pb[:, 2:]


def essential_of(relative):
    """The essential matrix of a relative pose, of unit norm."""
    t = relative[:3, 3]
    E = np.array([[0, -t[2], t[1]], [t[2], 0, -t[0]], [-t[1], t[0], 0]]) @ relative[:3, :3]
    return E / np.linalg.norm(E)


class Eigenvalues(unittest.TestCase):
    def test_real_ones_are_those_that_lapack_finds(self):
        rng = np.random.default_rng(8)
        for n in [1, 2, 3, 5, 10] * 60:
            A = rng.normal(size=(n, n)) * 10 ** rng.uniform(-2, 2, (n, 1))
            if rng.random() < 0.3:
                A[rng.integers(n)] = 0.0
            if rng.random() < 0.3:
                A = A + A.T  # all are real
            every, out = np.linalg.eigvals(A), np.empty(n)
            want = np.sort(every[np.abs(every.imag) <= 1e-12 * np.abs(every).max()].real)
            got = np.sort(out[: real_eigenvalues(A.copy(), out)])
            np.testing.assert_allclose(got, want, atol=1e-9 * np.abs(every).max())

    def test_a_companion_matrix_gives_the_roots_and_a_turn_has_none(self):
        out = np.empty(6)
        roots = np.array([-3.0, -1.0, 0.5, 2.0, 2.5, 7.0])
        companion = np.diag(np.ones(5), -1)
        companion[0] = -np.poly(roots)[1:]
        self.assertEqual(real_eigenvalues(companion, out), 6)
        np.testing.assert_allclose(np.sort(out), roots, atol=1e-9)
        # this one has shifts that go in circles
        self.assertEqual(real_eigenvalues(np.roll(np.eye(6), 1, axis=0), out), 2)
        np.testing.assert_allclose(np.sort(out[:2]), [-1, 1], atol=1e-12)


class FivePoints(unittest.TestCase):
    def test_one_of_the_solutions_is_the_truth_and_all_fit_the_five(self):
        rng = np.random.default_rng(1)
        misses = 0
        for _ in range(200):
            _, _, relative, x1, x2 = two_photos(rng, 5)
            out = np.empty((10, 3, 3))
            n = five_point(x1, x2, out)
            truth = essential_of(relative)
            best = min((min(np.linalg.norm(E - truth), np.linalg.norm(E + truth)) for E in out[:n]), default=9)
            misses += best > 1e-5
            d = np.empty(5)
            for E in out[:n]:
                sampson_squared(E, x1, x2, d)
                self.assertLess(d.max(), 1e-12)
                s = np.linalg.svd(E)[1]
                np.testing.assert_allclose([s[0] - s[1], s[2]], 0, atol=1e-5)
        self.assertLessEqual(misses, 2)

    def test_ransac_finds_the_pose_among_false_matches(self):
        rng = np.random.default_rng(2)
        for seed in range(5):
            _, _, relative, x1, x2 = two_photos(rng, 300)
            x2 = x2 + rng.normal(size=x2.shape) * 2e-4
            false = rng.random(300) < 0.4
            x2[false] = rng.uniform(x2.min(0), x2.max(0), size=(false.sum(), 2))
            E, inliers = essential_ransac(x1, x2, 1e-3, 1000, seed)
            self.assertGreater(inliers[~false].mean(), 0.95)
            self.assertLess(inliers[false].mean(), 0.15)
            found, front = decompose(E, x1[inliers], x2[inliers])
            self.assertGreater(front, 0.95 * inliers.sum())
            self.assertLess(np.degrees(rotation_angle(found[:3, :3] @ relative[:3, :3].T)), 0.5)
            t = relative[:3, 3] / np.linalg.norm(relative[:3, 3])
            self.assertGreater(found[:3, 3] @ t, np.cos(np.radians(2)))
            again = essential_ransac(x1, x2, 1e-3, 1000, seed)
            np.testing.assert_array_equal(again[0], E)


class Resection(unittest.TestCase):
    def test_three_points_give_the_true_pose_among_the_solutions(self):
        rng = np.random.default_rng(3)
        misses = 0
        for _ in range(300):
            X, (E, _), _, x, _ = two_photos(rng, 3)
            R, t = np.empty((4, 3, 3)), np.empty((4, 3))
            n = three_point(X, x, R, t)
            error = min(
                (np.linalg.norm(R[k] - E[:3, :3]) + np.linalg.norm(t[k] - E[:3, 3]) for k in range(n)), default=9
            )
            misses += error > 1e-5
            for k in range(n):
                Y = X @ R[k].T + t[k]
                np.testing.assert_allclose(Y[:, :2] / Y[:, 2:], x, atol=1e-4)
        self.assertLessEqual(misses, 3)

    def test_points_on_a_line_give_no_pose(self):
        X = np.array([[0.0, 0, 0], [1, 1, 1], [2, 2, 2]])
        self.assertEqual(three_point(X, np.zeros((3, 2)), np.empty((4, 3, 3)), np.empty((4, 3))), 0)

    def test_ransac_and_refinement_reach_the_noise_in_spite_of_false_points(self):
        rng = np.random.default_rng(4)
        X, (E, _), _, x, _ = two_photos(rng, 400)
        x = x + rng.normal(size=x.shape) * 2e-4
        false = rng.random(400) < 0.5
        x[false] = rng.uniform(x.min(0), x.max(0), size=(false.sum(), 2))
        R, t, inliers = resect_ransac(X, x, 2e-3, 2000, 0)
        self.assertGreater(inliers[~false].mean(), 0.97)
        R, t = refine_pose(R, t, X[inliers], x[inliers], 5e-4, 30)
        self.assertLess(np.degrees(rotation_angle(R @ E[:3, :3].T)), 0.02)
        self.assertLess(np.linalg.norm(R.T @ t - E[:3, :3].T @ E[:3, 3]), 2e-3)


class Relating(unittest.TestCase):
    """From descriptors and pixels to a verified pair, or to none."""

    LENS = Lens(1600, 1200, 1900.0, 805.0, 596.0, (-0.1, 0.04, 0.0))

    def photos(self, rng, n=400, shared=1.0):
        """Descriptors and pixels of two photos of which a share of the key points shows the same places."""
        _, _, relative, x1, x2 = two_photos(rng, n)
        d = rng.random((n, 128))
        other = np.where(rng.random((n, 1)) < shared, d + rng.normal(size=d.shape) * 0.03, rng.random((n, 128)))
        unit = [(a / np.linalg.norm(a, axis=1, keepdims=True)).astype(np.float32) for a in (d, other)]
        order = rng.permutation(n)
        xy = [self.LENS.project(x) + rng.normal(size=x.shape) * 0.3 for x in (x1, x2)]
        return relative, order, (unit[0], xy[0].astype(np.float32)), (unit[1][order], xy[1][order].astype(np.float32))

    def relate(self, a, b, seed=0):
        return relate(match(a[0], b[0]), a[1], self.LENS.vector, b[1], self.LENS.vector, seed=seed)

    def test_finds_the_matches_the_pose_and_the_angle(self):
        rng = np.random.default_rng(6)
        relative, order, a, b = self.photos(rng, shared=0.6)
        g = self.relate(a, b)
        right = order[g.matches[:, 1]] == g.matches[:, 0]
        self.assertGreater(right.sum(), 150)
        self.assertGreater(right.mean(), 0.97)
        self.assertLess(np.degrees(rotation_angle(g.relative[:3, :3] @ relative[:3, :3].T)), 1.5)
        self.assertAlmostEqual(np.linalg.norm(g.relative[:3, 3]), 1.0, places=6)
        self.assertTrue(8 < g.angle_deg < 30)
        # one key point with two directions makes no match twice
        double = tuple(np.vstack([x, x[:50]]) for x in a)
        again = self.relate(double, b)
        used = a[1][again.matches[:, 0] % 400]
        self.assertEqual(len(np.unique(used, axis=0)), len(used))

    def test_unrelated_photos_and_chance_matches_give_none(self):
        rng = np.random.default_rng(7)
        _, _, a, _ = self.photos(rng)
        _, _, _, b = self.photos(rng)
        self.assertIsNone(self.relate(a, b))  # other descriptors: hardly any match
        # descriptors agree, places do not: no geometry explains the matches
        _, _, a, b = self.photos(rng)
        scrambled = (b[0], rng.uniform([0, 0], [1600, 1200], size=b[1].shape).astype(np.float32))
        self.assertIsNone(self.relate(a, scrambled))
        self.assertIsNone(self.relate((a[0][:1], a[1][:1]), b))


class Still(unittest.TestCase):
    def test_what_stays_while_other_things_move_is_still_and_nothing_else_is(self):
        rng = np.random.default_rng(8)
        photos, backdrop, moving = 6, 200, 120
        there = rng.uniform([0, 0], [1600, 1200], size=(backdrop, 2))
        xy, matches = [], {}
        for k in range(photos):
            turned = rng.uniform([500, 300], [1100, 900], size=(moving, 2)) + 40 * k
            xy.append(np.vstack([there + rng.normal(size=there.shape) * 0.3, turned]))
        both = np.stack([np.arange(backdrop + moving)] * 2, 1)
        for i in range(photos):
            for j in range(i + 1, photos):
                matches[i, j] = both
        counts, widths = [backdrop + moving] * photos, [1600] * photos
        still, share = still_features(counts, xy, matches, widths)
        for s in still:
            self.assertGreater(s[:backdrop].mean(), 0.98)
            self.assertLess(s[backdrop:].mean(), 0.02)
        self.assertAlmostEqual(share, backdrop / (backdrop + moving), delta=0.02)
        # photos taken from one place, of which nothing moves: nothing is called still
        only = {k: m[:backdrop] for k, m in matches.items()}
        still, share = still_features(counts, xy, only, widths)
        self.assertEqual(sum(s.sum() for s in still), 0)
        self.assertGreater(share, 0.99)
