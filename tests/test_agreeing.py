"""How two sets of places are brought together: by pairs, by the shape of surfaces, by picks, in a network."""

import unittest

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from umbrate.core.geometry.pose import pose
from umbrate.core.geometry.similarity import difference, scale_of
from umbrate.core.join import agree as joins
from umbrate.core.join import picks
from umbrate.core.join.candidates import alike, likely_support, mean_descriptors, shared_targets
from umbrate.core.join.network import corners_round, solve_network
from umbrate.core.join.shape import fit_shapes
from umbrate.core.join.surfacedistance import surface_distances
from umbrate.core.join.unite import unite

APP = None


def some_move(rng, scale=1.0):
    """A random similarity."""
    return pose(scale * Rotation.random(random_state=int(rng.integers(1e6))).as_matrix(), rng.normal(size=3) * 50)


def moved(points, M):
    """Points (n, 3) after a similarity."""
    return points @ M[:3, :3].T + M[:3, 3]


def lumpy(rng, n):
    """Points and normals of a closed surface without any symmetry."""
    d = rng.normal(size=(n, 3))
    d /= np.linalg.norm(d, axis=1, keepdims=True)

    def radius(d):
        x, y, z = d.T
        return 20 + 3 * np.sin(3 * x + 1) * np.cos(2 * y) + 4 * z * x + 2 * np.sin(4 * z + y)

    e = 1e-5
    grad = np.stack([(radius(d + e * v) - radius(d - e * v)) / (2 * e) for v in np.eye(3)], 1)
    grad -= (grad * d).sum(1, keepdims=True) * d
    normal = d * radius(d)[:, None] - grad
    return d * radius(d)[:, None], normal / np.linalg.norm(normal, axis=1, keepdims=True)


class Agreeing(unittest.TestCase):
    def test_the_right_similarity_is_found_among_many_wrong_pairs_and_knows_how_sure_it_is(self):
        rng = np.random.default_rng(1)
        turned = []
        for case in range(12):
            with_scale = bool(case % 2)
            M = some_move(rng, 1.7 if with_scale else 1.0)
            k, right = 400, 60
            a = rng.normal(size=(k, 3)) * [30, 20, 10]
            b = moved(a, M) + rng.normal(size=(k, 3)) * 0.05
            b[right:] = moved(rng.permutation(a[right:]), M) + rng.normal(size=(k - right, 3)) * 5
            found = joins.agree(a, b, np.full(k, 0.1), 0.3, with_scale=with_scale, seed=case)
            turn, shift, scale = difference(M, found.M, a.mean(0))
            self.assertLess(turn, 0.1)
            self.assertLess(shift, 0.1)
            self.assertLess(abs(scale), 0.002)
            self.assertGreater(found.inside[:right].mean(), 0.95)
            self.assertLess(found.inside[right:].sum(), 4)
            turned.append(turn / found.sigma[0])
        self.assertTrue(0.4 < np.sqrt(np.mean(np.square(turned))) < 1.8, turned)
        nothing = joins.agree(rng.normal(size=(30, 3)) * 30, rng.normal(size=(30, 3)) * 30, np.full(30, 0.02), 0.05)
        self.assertTrue(nothing is None or nothing.count <= 4)
        self.assertIsNone(joins.agree(np.eye(3)[:2], np.eye(3)[:2], np.ones(2), 1.0))

    def test_targets_of_the_mat_and_of_the_object_are_told_apart(self):
        rng = np.random.default_rng(2)
        for _ in range(6):
            on, mat = rng.normal(size=(5, 3)) * 20, np.c_[rng.uniform(-100, 100, (12, 2)), np.zeros(12)]
            M, T = some_move(rng), some_move(rng)
            a = np.concatenate([on, mat])
            b = np.concatenate([moved(on, M), moved(mat, T)]) + rng.normal(size=(17, 3)) * 0.01
            found = joins.groups(a, b, np.full(17, 0.02), 0.1)
            self.assertEqual([set(np.flatnonzero(g.inside)) for g in found], [set(range(5, 17)), set(range(5))])
            unknown = np.full(17, np.nan)
            self.assertEqual(
                [likely_support(g, [x for x in found if x is not g], unknown) for g in found], [True, False]
            )
            masked = np.r_[np.ones(5), np.zeros(12)]
            self.assertEqual([likely_support(g, [], masked) for g in found], [True, False])

    def test_shared_places_are_those_of_one_number_or_one_look(self):
        rng = np.random.default_rng(4)
        rows = shared_targets({9: 2, 5: 1, 7: 3}, {9: 0, 5: 2, 3: 3})
        self.assertEqual(rows.tolist(), [[1, 2], [2, 0]])
        d = rng.random((50, 128)).astype(np.float32)
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        point, feature = np.repeat(np.arange(25), 2), np.arange(50)
        d[1::2] = d[::2]
        feature[-1] = -1
        mean = mean_descriptors(26, point, feature, d)
        np.testing.assert_allclose(mean[:25], d[::2], atol=1e-5)
        order = rng.permutation(25)
        self.assertEqual({tuple(r) for r in alike(mean, mean[order])}, {(int(order[k]), k) for k in range(25)})


class Shapes(unittest.TestCase):
    def test_two_halves_are_fitted_though_only_a_band_is_shared(self):
        rng = np.random.default_rng(5)
        for case in range(4):
            P, N = lumpy(rng, 40_000)
            Q, QN = lumpy(rng, 40_000)
            top, low = P[:, 2] > -6, Q[:, 2] < 6
            M = some_move(rng)
            start = M @ pose(Rotation.from_rotvec(rng.normal(size=3) * 0.02).as_matrix(), rng.normal(size=3) * 0.3)
            fit = fit_shapes(
                (P[top] + rng.normal(size=(top.sum(), 3)) * 0.02, N[top]), (moved(Q[low], M), QN[low] @ M[:3, :3].T),
                start, 3.0, finest=0.8, seed=case,
            )  # fmt: skip
            turn, shift, _ = difference(M, fit.M, np.zeros(3))
            self.assertLess(turn, 0.03)
            self.assertLess(shift, 0.02)
            self.assertTrue(0.1 < fit.overlap < 0.6)
        d = rng.normal(size=(20_000, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        self.assertLess(fit_shapes((d * 10, d), (d * 10, d), np.eye(4), 1.0, finest=0.5).held, 0.01)  # a ball can turn
        self.assertIsNone(fit_shapes((d * 10, d), (d * 10 + 100, d), np.eye(4), 1.0, finest=0.5))

    def test_surfaces_lie_apart_only_where_both_are(self):
        rng = np.random.default_rng(13)
        up = np.tile([0.0, 0, 1], (8000, 1))
        flat = np.c_[rng.uniform(0, 10, (8000, 2)), np.zeros(8000)]
        other = np.c_[rng.uniform(5, 15, 8000), rng.uniform(0, 10, 8000), np.full(8000, 0.3)]
        d = surface_distances(flat, up, other, up, 2.0)
        self.assertTrue(np.isinf(d[flat[:, 0] < 4.6]).all())  # past the rim the nearest point lies to the side
        there = flat[:, 0] > 5.2
        self.assertGreater(np.isfinite(d[there]).mean(), 0.95)
        np.testing.assert_allclose(d[np.isfinite(d)], -0.3, atol=1e-6)
        self.assertTrue(np.isinf(surface_distances(flat, -up, other, up, 2.0)).all())  # the other side of a thin wall
        self.assertTrue(np.isinf(surface_distances(flat, up, other + [0, 0, 5], up, 2.0)).all())

    def test_of_two_sheets_the_more_precise_points_stay_in_one_brightness(self):
        rng = np.random.default_rng(6)
        clouds = []
        for k, (low, high, bright) in enumerate(((0, 6, 100), (4, 10, 150))):
            P = np.c_[rng.uniform(low, high, 9000), rng.uniform(0, 5, 9000), rng.normal(0, 0.005, 9000) + 0.02 * k]
            clouds.append({
                "points": P.astype(np.float32), "normals": np.tile(np.float32([0, 0, 1]), (9000, 1)),
                "colors": np.full((9000, 3), bright, np.uint8),
                "precision": np.where(P[:, 0] < 5, 0.1 + 0.1 * k, 0.2 - 0.05 * k).astype(np.float32),
            })  # fmt: skip
        out, lost, gains = unite(clouds)
        self.assertEqual(len(out["points"]), 18000 - sum(lost))
        np.testing.assert_allclose(gains[1], 100 / 150, atol=0.02)
        self.assertLess(np.ptp(out["colors"]), 4)
        both = (out["points"][:, 0] > 4.1) & (out["points"][:, 0] < 5.9)
        better = np.where(out["points"][both, 0] < 5, 0, 1)
        self.assertGreater((out["sitting"][both] == better).mean(), 0.97)
        # nowhere a hole
        self.assertLess(cKDTree(out["points"]).query(np.concatenate([c["points"] for c in clouds]))[0].max(), 0.25)

    def test_a_scale_that_differs_is_found(self):
        rng = np.random.default_rng(7)
        P, N = lumpy(rng, 30_000)
        Q, QN = lumpy(rng, 30_000)
        fit = fit_shapes((P, N), (Q * 1.01, QN), np.eye(4), 1.0, finest=0.8, with_scale=True)
        self.assertAlmostEqual(scale_of(fit.M), 1.01, delta=2e-4)


class Picking(unittest.TestCase):
    def test_picks_that_lie_in_a_line_or_are_paired_crosswise_or_mirrored_are_told_apart_from_good_ones(self):
        rng = np.random.default_rng(8)
        for case in range(20):
            k = int(rng.integers(3, 8))
            M = some_move(rng, 1.3 if case % 2 else 1.0)
            a = rng.normal(size=(k, 3)) * [30, 25, 20]
            b = moved(a, M) + rng.normal(size=(k, 3)) * 0.1
            with_scale = bool(case % 2)
            self.assertIsNone(picks.crosswise(a, b, with_scale))
            self.assertFalse(picks.mirrored(a, b, with_scale))
            self.assertIsNone(picks.mistake(a, b, with_scale))
            self.assertFalse(picks.nearly_a_line(a))
            order = np.arange(k)
            i, j = sorted(rng.choice(k, 2, replace=False))
            order[[i, j]] = j, i
            if k > 3:
                self.assertEqual(picks.crosswise(a, b[order], with_scale), (i, j))
                self.assertEqual(picks.mistake(a, b[order], with_scale), (i, j))
            s = np.linalg.svd(a - a.mean(0), compute_uv=False)
            if k > 3 and s[2] > 0.2 * s[0]:  # flat ones have no left and right
                self.assertTrue(picks.mirrored(a * [1, 1, -1], b, with_scale))
                self.assertEqual(picks.mistake(a * [1, 1, -1], b, with_scale), picks.MIRRORED)
            self.assertTrue(
                picks.nearly_a_line(a[:1] + np.outer(np.arange(k), [3, 1, 2]) + rng.normal(size=(k, 3)) * 0.05)
            )

    def test_a_loop_of_joins_is_solved_together(self):
        rng = np.random.default_rng(9)
        better = []
        for case in range(8):
            true = [np.eye(4), *(some_move(rng) for _ in range(4))]
            edges, chain = [], [np.eye(4)]
            for i, k in ((0, 1), (1, 2), (2, 3), (3, 4), (4, 0), (1, 3)):
                noise = pose(Rotation.from_rotvec(rng.normal(size=3) * 0.003).as_matrix(), rng.normal(size=3) * 0.1)
                M = noise @ np.linalg.inv(true[k]) @ true[i]
                edges.append((i, k, M, corners_round(np.zeros(3), 100.0), 0.3))
                if k == len(chain):
                    chain.append(chain[i] @ np.linalg.inv(M))
            solved = solve_network(chain, edges, with_scale=bool(case % 2))
            off = [
                [np.linalg.norm(m[k] @ np.linalg.inv(true[k]) - np.eye(4)) for k in range(1, 5)]
                for m in (chain, solved)
            ]
            better.append(np.mean(off[1]) / np.mean(off[0]))
        self.assertLess(np.median(better), 0.8)
        exact = [(i, k, np.linalg.inv(true[k]) @ true[i], x, s) for i, k, _, x, s in edges]
        for M, N in zip(solve_network(chain, exact), true, strict=True):
            np.testing.assert_allclose(M, N, atol=1e-8)


if __name__ == "__main__":
    unittest.main()
