"""Measuring against closed forms, dense algebra and drawn pictures."""

import unittest
from dataclasses import replace

import numpy as np
from PIL import Image, ImageDraw
from scipy import ndimage

from tests.test_adjust import TRUE_LENS, scene
from tests.test_grow import LENS, made_up_block, photo_set
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at
from umbrate.core.geometry.rotation import rotation_angle, rotation_matrix
from umbrate.core.geometry.sightings import PointSightings, ellipse, line_in, locate, pixels
from umbrate.core.geometry.similarity import compare_poses, fit_similarity, move_pose
from umbrate.core.measure.datum import Lengths, after, fit_scale, judge, of_shape
from umbrate.core.measure.fit import fit_known, network_of
from umbrate.core.measure.level import frame, up_of_points
from umbrate.core.measure.network import SeenPoint, seen_point
from umbrate.core.measure.pairs import stereo_pair
from umbrate.core.measure.quantities import KINDS, propagate, quantity
from umbrate.core.measure.snap import snap
from umbrate.core.poses.adjust import Held
from umbrate.core.poses.block import Block
from umbrate.core.poses.covariance import covariance
from umbrate.core.poses.grow import Grower
from umbrate.core.poses.lensprior import LensPrior
from umbrate.core.poses.marked import missing, solve_marked
from umbrate.core.poses.tie import split_by_marks, tie, why_not_tied

FREE = (0, 1, 2, 3)


def small_block(seed=3, photos=5, points=16):
    """A Block with noise, near its solution, and its true points."""
    rng = np.random.default_rng(seed)
    poses, X, photo, point, xy = scene(rng, photos, points)
    sigma = np.where(np.arange(points) % 3 == 0, 0.1, 0.4)[point]
    xy = xy + rng.normal(size=xy.shape) * sigma[:, None]
    prior = LensPrior.of_sigmas(TRUE_LENS.vector[None], 30.0)
    block = Block(
        poses, TRUE_LENS.vector[None], np.zeros(photos), X.copy(), photo, np.arange(len(xy)), point, xy,
        np.zeros((len(xy), 2)), sigma, free_lens=FREE, prior=prior,
    )  # fmt: skip
    return block, X


class Networks(unittest.TestCase):
    def test_a_length_is_as_sure_as_the_whole_normal_matrix_with_lengths_in_it_says(self):
        block, X = small_block()
        ends, sigma = np.array([[0, 5], [2, 9]]), np.array([0.01, 0.02])
        known = Lengths(ends[:, 0], ends[:, 1], np.linalg.norm(X[ends[:, 0]] - X[ends[:, 1]], axis=1), sigma)
        fitted = fit_known(block, known)
        b, n, P = fitted.block, len(block.poses), len(X)
        size = 6 * n + len(FREE) + 3 * P

        def predict(step):
            lens = b.lenses[0].copy()
            lens[list(FREE)] += step[6 * n : 6 * n + len(FREE)]
            Y = b.points + step[6 * n + len(FREE) :].reshape(-1, 3)
            E = b.poses.copy()
            for i in range(n):
                E[i, :3, :3] = rotation_matrix(step[6 * i : 6 * i + 3]) @ E[i, :3, :3]
                E[i, :3, 3] += step[6 * i + 3 : 6 * i + 6]
            Z = np.einsum("kij,kj->ki", E[b.photo, :3, :3], Y[b.point]) + E[b.photo, :3, 3]
            pixel = TRUE_LENS.from_vector(1, 1, lens).project(Z[:, :2] / Z[:, 2:]) / b.sigma[:, None]
            length = np.linalg.norm(Y[ends[:, 0]] - Y[ends[:, 1]], axis=1)
            held = step[6 * n : 6 * n + len(FREE)] / 30.0
            return np.concatenate([pixel.ravel(), fitted.covariance.unit * length / sigma, held])

        h = np.r_[np.full(6 * n, 1e-6), [1e-3, 1e-3, 1e-3, 1e-6], np.full(3 * P, 1e-6)]
        J = np.stack([(predict(e * s) - predict(-e * s)) / (2 * s) for e, s in zip(np.eye(size), h, strict=True)], 1)
        scale = np.linalg.norm(J, axis=0)
        whole = np.linalg.pinv((J / scale).T @ (J / scale), rcond=1e-11, hermitian=True) / np.outer(scale, scale)
        rows = [0, 5, 2, 9, 3, 11]
        places = [seen_point(b, p) for p in rows]
        Y = np.array([p.xyz for p in places])
        cov = after(fitted.network.joint(places), Y, Lengths(np.array([0, 2]), np.array([1, 3]), known.value, sigma))
        for a, c in ((4, 5), (0, 1), (1, 3)):
            _, got = propagate(lambda Z: quantity("distance", Z), Y[[a, c]], cov[np.ix_(*[_rows([a, c])] * 2)])
            j = np.zeros(size)
            d = Y[a] - Y[c]
            for p, sign in ((rows[a], 1), (rows[c], -1)):
                j[6 * n + len(FREE) + 3 * p :][:3] = sign * d / np.linalg.norm(d)
            want = fitted.covariance.unit**2 * float(j @ whole @ j)
            self.assertAlmostEqual(float(np.sqrt(got[0, 0])), np.sqrt(want), delta=0.01 * np.sqrt(want))

    def test_tie_points_have_the_same_joint_covariance_as_in_the_block_itself(self):
        block, _ = small_block()
        cov = covariance(block.state, block.observations, FREE, held=Held(lens_prior=block.prior))
        rows = [1, 4, 8]
        shape = lambda c: of_shape(c, block.points[rows])  # noqa: E731
        got = network_of(block, cov).joint([seen_point(block, p) for p in rows]) / cov.unit**2
        # both say the same of the shape, whatever frame they hold; the size they leave open alike
        X = block.points[rows] - block.points[rows].mean(0)
        G = (X / np.linalg.norm(X)).ravel()
        S = np.eye(9) - np.outer(G, G)
        np.testing.assert_allclose(S @ shape(got) @ S, S @ shape(cov.between(rows)) @ S, atol=1e-3 * np.abs(got).max())

    def test_a_place_given_twice_is_one_place_and_the_spot_predicted_covers_new_sightings(self):
        block, X = small_block(photos=8)
        fitted = fit_known(block, Lengths(np.array([0]), np.array([5]), np.array([1.0]), np.array([0.01])))
        net = fitted.network
        p = seen_point(fitted.block, 4)
        J = net.joint([p, p])
        np.testing.assert_allclose(J[:3, 3:], J[:3, :3], rtol=1e-9)
        # repeated blocks: the spot predicted in a photo that did not mark the point
        misses, rng = [], np.random.default_rng(0)
        poses, X, photo, point, xy = scene(np.random.default_rng(1), 8, 40)
        for _ in range(30):
            seen = xy + rng.normal(0, 0.3, xy.shape)
            b = Block(
                poses, TRUE_LENS.vector[None], np.zeros(8), X, photo, np.arange(len(xy)), point, seen,
                np.zeros((len(xy), 2)), np.full(len(xy), 0.3), trusted=(0,),
            )  # fmt: skip
            f = fit_known(b, Lengths(*[np.zeros(0, int)] * 2, *[np.zeros(0)] * 2))
            rows = np.flatnonzero((point == 7) & (photo < 3))
            mark = xy[rows] + rng.normal(0, 0.5, (len(rows), 2))
            s = PointSightings(photo[rows], mark, np.full(len(rows), 0.5))
            Y, _ = locate(f.block.poses, f.block.lenses, f.block.lens_of, s)
            cov = f.network.spot(SeenPoint(Y, s.photo, s.xy, s.sigma), 6)
            off = pixels(f.block.poses, f.block.lenses, f.block.lens_of, [6], Y)[0]
            off = off - pixels(poses, b.lenses, b.lens_of, [6], X[7])[0]
            misses.append(float(off @ np.linalg.solve(cov, off)))
        self.assertTrue(0.8 < np.mean(misses) < 3.6, np.mean(misses))  # 2 for two coordinates


def _rows(places):
    return [3 * a + k for a in places for k in range(3)]


class Datums(unittest.TestCase):
    def test_a_wrong_length_is_told_by_its_residual_and_two_only_contradict(self):
        block, X = small_block(points=24)
        rng = np.random.default_rng(2)
        a, b = np.array([0, 3, 6, 9, 12]), np.array([1, 4, 7, 10, 13])
        true = 50 * np.linalg.norm(X[a] - X[b], axis=1)
        for wrong in range(5):
            value = true + rng.normal(0, 0.01, 5)
            value[wrong] += 0.02 * true[wrong]
            f = fit_known(block, Lengths(a, b, value, np.full(5, 0.01)))
            self.assertEqual(np.flatnonzero(f.left_out).tolist(), [wrong])
            self.assertAlmostEqual(
                f.judged.residual[wrong], value[wrong] - true[wrong], delta=0.15 * 0.02 * true[wrong]
            )
            self.assertLess(f.bent_px, 0.8)  # less than the noise: the wrong length has not bent it
        inches = true.copy()
        inches[2] *= 25.4
        f = fit_known(block, Lengths(a, b, inches, np.full(5, 0.01)))
        self.assertEqual(np.flatnonzero(f.left_out).tolist(), [2])
        two = fit_known(block, Lengths(a[:2], b[:2], true[:2] * [1, 1.01], np.full(2, 0.01)))
        self.assertTrue(two.contradict)
        one = fit_known(block, Lengths(a[:1], b[:1], true[:1], np.full(1, 0.01)))
        self.assertLess(one.judged.part[0], 0.02)
        self.assertTrue(np.isnan(one.judged.error[0]))

    def test_known_points_put_the_block_into_their_frame(self):
        block, X = small_block(points=30, photos=8)
        R, t = rotation_matrix(np.array([0.4, -1.0, 0.7])), np.array([1000.0, -300, 50])
        there = 40 * X @ R.T + t
        rows = np.array([0, 3, 6, 9])
        f = fit_known(
            block, Lengths(*[np.zeros(0, int)] * 2, *[np.zeros(0)] * 2),
            (rows, there[rows], np.full((4, 3), 0.01)),
        )  # fmt: skip
        off = np.linalg.norm(f.block.points - there, axis=1)
        self.assertLess(np.median(off), 0.15)
        self.assertTrue(f.scaled)
        bad = there[rows].copy()
        bad[2, 1] += 2.0
        g = fit_known(block, Lengths(*[np.zeros(0, int)] * 2, *[np.zeros(0)] * 2), (rows, bad, np.full((4, 3), 0.01)))
        self.assertEqual(int(np.argmax(np.abs(g.judged.sigmas))) // 3, 2)

    def test_known_points_hold_at_any_distance_and_over_any_spread(self):
        block, X = small_block(points=30, photos=8)
        R = rotation_matrix(np.array([0.4, -1.0, 0.7]))
        rows, none = np.array([0, 3, 6, 9]), Lengths(*[np.zeros(0, int)] * 2, *[np.zeros(0)] * 2)
        near = None
        for size, t in ((40.0, 0.0), (40.0, 1e5), (40.0, 1e7), (40.0, 6e9), (3e4, 0.0), (3e4, 1e7)):
            there = size * X @ R.T + np.array([t, -0.7 * t, 0.01 * t])
            sigma = np.full((4, 3), 0.01 * size / 40)
            f = fit_known(block, none, (rows, there[rows], sigma))
            off = (f.block.points - there) / size
            # the same block comes out, as far as such numbers can say it
            near = off if near is None else near
            np.testing.assert_allclose(off, near, atol=1e-6 + 4e-15 * abs(t) / size)
            self.assertTrue(f.scaled)
            self.assertLess(np.abs(f.judged.sigmas).max(), 4.0)

    def test_scale_and_its_sigma_are_those_of_the_closed_form_where_points_are_sure(self):
        X = np.random.default_rng(0).normal(size=(6, 3))
        value = 7.0 * np.linalg.norm(X[[0, 2, 4]] - X[[1, 3, 5]], axis=1) + [0.01, -0.02, 0.0]
        sigma = np.array([0.02, 0.02, 0.04])
        s, judged = fit_scale(X, np.zeros((18, 18)), Lengths(np.array([0, 2, 4]), np.array([1, 3, 5]), value, sigma))
        d = np.linalg.norm(X[[0, 2, 4]] - X[[1, 3, 5]], axis=1)
        w = 1 / sigma**2
        self.assertAlmostEqual(s, (w * d * value).sum() / (w * d * d).sum(), places=9)
        self.assertAlmostEqual(judged.scale_sigma * s, (w * d * d).sum() ** -0.5, delta=1e-4)
        self.assertAlmostEqual(float(judged.part.sum()), 2.0, places=6)
        again = judge(s * X, np.zeros((18, 18)), Lengths(np.array([0, 2, 4]), np.array([1, 3, 5]), value, sigma))
        np.testing.assert_allclose(again.residual, value - s * d, atol=1e-9)


class Quantities(unittest.TestCase):
    def test_all_kinds_of_known_figures_in_any_frame(self):
        rng = np.random.default_rng(5)
        for _ in range(20):
            R, t = rotation_matrix(rng.normal(size=3)), rng.normal(size=3) * 10
            put = lambda X: np.asarray(X, float) @ R.T + t  # noqa: B023, E731
            a = rng.uniform(0, 2 * np.pi, 7)
            c, r = rng.normal(size=3), rng.uniform(1, 9)
            ring = c + r * np.stack([np.cos(a), np.sin(a), 0 * a], 1)
            self.assertAlmostEqual(quantity("circle", put(ring)), r, places=6)
            d = rng.normal(size=(9, 3))
            ball = c + r * d / np.linalg.norm(d, axis=1, keepdims=True)
            self.assertAlmostEqual(quantity("sphere", put(ball)), r, places=6)
            self.assertAlmostEqual(quantity("distance", put([[0, 0, 0], [3, 4, 12]])), 13.0, places=9)
            self.assertAlmostEqual(quantity("polyline", put([[0, 0, 0], [3, 0, 0], [3, 4, 0]])), 7.0, places=9)
            self.assertAlmostEqual(
                np.degrees(quantity("angle", put([[5, 0, 0], [0, 0, 0], [1, 1, 0]]))), 45.0, places=9
            )
            bent = [[0, 0, 0], [3, 0, 0], [3, 1, 0], [1, 1, 0], [1, 2, 0], [0, 2, 0]]
            self.assertAlmostEqual(quantity("area", put(bent)), 4.0)
            flat = np.c_[rng.normal(size=(5, 2)) * 4, np.zeros(5)]
            self.assertAlmostEqual(quantity("plane", put([*flat, [1, 2, -r]])), r, places=6)
        self.assertEqual(quantity("height", [[1, 2, 3.5]]), 3.5)

    def test_variance_of_a_radius_is_that_of_repeated_draws(self):
        rng = np.random.default_rng(6)
        a = np.array([0.1, 0.9, 1.7, 2.6])
        X = 20 * np.stack([np.cos(a), np.sin(a), 0.2 * a], 1)
        A = rng.normal(size=(12, 12)) * 0.01
        value, cov = propagate(lambda Y: quantity("circle", Y), X, A @ A.T)
        draws = [quantity("circle", X + (A @ rng.normal(size=12)).reshape(-1, 3)) for _ in range(4000)]
        self.assertAlmostEqual(float(np.sqrt(cov[0, 0])), np.std(draws), delta=0.06 * np.std(draws))
        self.assertAlmostEqual(float(value[0]), np.mean(draws), delta=0.02)

    def test_places_that_give_no_value_are_told(self):
        line = [[0, 0, 0], [1, 1, 1], [2, 2, 2.001]]
        for kind, X in (
            ("circle", line), ("plane", [*line, [0, 0, 1]]), ("sphere", [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]]),
            ("angle", [[0, 0, 0], [0, 0, 0], [1, 0, 0]]), ("distance", [[0, 0, 0]]), ("volume", line),
        ):  # fmt: skip
            with self.assertRaises(UmbrateError):
                quantity(kind, X)
        self.assertEqual(len({k.name for k in KINDS}), len(KINDS))

    def test_a_level_stands_up_what_is_tilted_and_refuses_what_is_in_line(self):
        rng = np.random.default_rng(1)
        for _ in range(10):
            R, t = rotation_matrix(rng.normal(size=3)), rng.normal(size=3)
            flat = np.c_[rng.normal(size=(6, 2)), np.zeros(6)] @ R.T + t
            up, _ = up_of_points(flat, flat.mean(0) + 5 * R[:, 2])
            M = frame(up, flat[1] - flat[0], flat[0])
            stood = flat @ M[:3, :3].T + M[:3, 3]
            np.testing.assert_allclose(stood[:, 2], 0, atol=1e-9)
            np.testing.assert_allclose(stood[0], 0, atol=1e-9)
            self.assertAlmostEqual(stood[1, 1], 0, places=9)
            self.assertGreater(stood[1, 0], 0)
        with self.assertRaises(UmbrateError) as e:
            up_of_points(np.outer(np.arange(5), [1, 2, 3]) + rng.normal(0, 0.01, (5, 3)), [0, 0, 9])
        self.assertIn("line", str(e.exception))
        for nowhere in ([0, 0, 2], [0, 0, 0]):
            with self.assertRaises(UmbrateError):
                frame([0, 0, 1], nowhere)


class Marked(unittest.TestCase):
    def test_photos_are_solved_from_points_alone_and_what_is_missing_is_counted(self):
        rng = np.random.default_rng(4)
        lens = Lens(4000, 3000, 4200.0, 2010.0, 1490.0, (-0.08, 0.02, 0.0))
        X = rng.uniform(-60, 60, (9, 3))
        poses = [
            look_at([260 * np.cos(a), 260 * np.sin(a), 130 + 60 * k], np.zeros(3)) for k, a in enumerate((0, 0.8, 1.6))
        ]
        xy, numbers = [], []
        for k, E in enumerate(poses):
            Y = X @ E[:3, :3].T + E[:3, 3]
            some = rng.permutation(9)[: 9 - k]
            xy.append(lens.project(Y[some, :2] / Y[some, 2:]) + rng.normal(0, 0.2, (len(some), 2)))
            numbers.append(10 + some)
        sigma = [np.full(len(x), 0.2) for x in xy]
        b = solve_marked(xy, numbers, [lens.vector], [0, 0, 0], sigma).block
        self.assertTrue(b.solved.all())
        M = fit_similarity(b.points, X)
        for E, T in zip(b.poses, poses, strict=True):
            self.assertLess(np.degrees(rotation_angle(move_pose(E, M)[:3, :3] @ T[:3, :3].T)), 0.3)
        self.assertLess(b.rms_px, 0.6)
        few = [n[:5] for n in numbers]
        told, able = missing(few, ["a", "b", "c"])
        self.assertFalse(able)
        self.assertIn("more needed", told[0])
        self.assertFalse(solve_marked([x[:5] for x in xy], few, [lens.vector], [0, 0, 0], sigma).block.solved.any())

    def test_a_part_that_floats_within_a_block_is_found_by_marks_and_brought_back(self):
        rng = np.random.default_rng(0)
        xy, pairs, poses, X, ids = made_up_block(rng, 16, 900, 0.3, 0.0, False, with_points=True)
        b = Grower(photo_set(xy, LENS, trusted=(0,)), pairs).run().block
        seen = [{int(n): f for f, n in enumerate(i)} for i in ids]
        halves = range(8), range(8, 16)
        able = [n for n in range(len(X)) if all(sum(n in seen[k] for k in h) >= 2 for h in halves)]
        far = max(
            (rng.choice(able, 3, replace=False) for _ in range(200)),
            key=lambda t: np.linalg.norm(np.cross(X[t[1]] - X[t[0]], X[t[2]] - X[t[0]])),
        )
        marks = {}
        for n in far:
            photos = [k for h in halves for k in [k for k in h if n in seen[k]][:2]]
            at = pixels(np.array(poses), LENS.vector[None], np.zeros(16, int), photos, X[n])
            marks[int(n)] = PointSightings(np.array(photos), at + rng.normal(0, 0.5, at.shape), np.full(len(at), 0.5))
        self.assertIsNone(split_by_marks(b, marks))
        M = np.eye(4)
        M[:3, :3], M[:3, 3] = rotation_matrix(np.array([0, 0.02, 0.05])), [0.02, 0.01, 0.05]
        half = np.arange(16) >= 8
        theirs = np.bincount(b.point[~half[b.photo]], minlength=len(b.points)) == 0
        b = replace(
            b, poses=np.array([move_pose(E, M) if h else E for E, h in zip(b.poses, half, strict=True)]),
            points=np.where(theirs[:, None], b.points @ M[:3, :3].T + M[:3, 3], b.points),
        )  # fmt: skip
        self.assertGreater(compare_poses(b.poses, poses)[1].max(), 2.0)
        parts = split_by_marks(b, marks)
        self.assertEqual({tuple(np.flatnonzero(p.solved)) for p in parts}, {tuple(range(8)), tuple(range(8, 16))})
        tied, _ = tie(*parts, marks)
        self.assertLess(compare_poses(tied, poses)[1].max(), 0.5)
        few = dict(list(marks.items())[:2])
        self.assertIsNone(split_by_marks(b, few))
        self.assertIn("2 of 3", why_not_tied(*parts, few))

    def test_guides_run_through_where_the_point_is(self):
        rng = np.random.default_rng(8)
        lens = Lens(1600, 1200, 1500.0, 790.0, 610.0, (-0.12, 0.05, 0.0), (5e-4, 0.0)).vector[None]
        for _ in range(10):
            poses = np.array([look_at(rng.normal(size=3) + [0, -5, 1], rng.normal(size=3) * 0.1) for _ in range(3)])
            X = rng.uniform(-0.5, 0.5, 3)
            of = np.zeros(3, int)
            at = pixels(poses, lens, of, [0, 1, 2], X)
            s = PointSightings(np.array([0]), at[:1], np.array([0.5]))
            line = line_in(poses, lens, of, s, 1, (1600, 1200), (2.0, 9.0))
            a, b = line[:-1], line[1:]
            t = np.clip(((at[1] - a) * (b - a)).sum(1) / ((b - a) ** 2).sum(1), 0, 1)[:, None]
            self.assertLess(np.linalg.norm(a + t * (b - a) - at[1], axis=1).min(), 0.5)
            Y, res = locate(poses, lens, of, PointSightings(np.arange(3), at, np.full(3, 0.5)))
            np.testing.assert_allclose(Y, X, atol=1e-6)
            self.assertLess(np.abs(res).max(), 1e-4)
        half, angle = ellipse(np.diag([4.0, 1.0]), 1.0)
        np.testing.assert_allclose(half, [2, 1])
        self.assertAlmostEqual(abs(np.cos(angle)), 1.0)
        far = np.array([look_at([0, -5, k * 1e-9], np.zeros(3)) for k in range(2)])
        same = pixels(far, lens, of, [0, 1], np.zeros(3))
        self.assertIsNone(locate(far, lens, of, PointSightings(np.arange(2), same, np.ones(2)))[0])

    def test_marks_snap_to_dots_and_corners_and_to_nothing_else(self):
        rng = np.random.default_rng(0)
        big = 8
        for k in range(12):
            at = rng.uniform(55, 65, 2)
            picture = Image.new("L", (120 * big, 120 * big), 200)
            draw = ImageDraw.Draw(picture)
            x, y = (at + 0.5) * big
            r = rng.uniform(5, 9) * big
            if k % 2:
                draw.ellipse([x - r, y - r, x + r, y + r], fill=40)
            else:
                draw.polygon([(x, y), (x + 400, y - 60), (x + 400, y + 420), (x - 40, y + 420)], fill=60)
            gray = np.asarray(picture.resize((120, 120), Image.Resampling.BOX), np.float32)
            gray = ndimage.gaussian_filter(gray, 0.7) + rng.normal(0, 1, gray.shape).astype(np.float32)
            found = snap(gray, *(at + rng.uniform(-4, 4, 2)))
            self.assertEqual(found.what, "dot" if k % 2 else "corner")
            self.assertLess(np.hypot(found.x - at[0], found.y - at[1]), 0.15 if k % 2 else 0.5)
        edge = np.full((120, 120), 60, np.float32)
        edge[:, 60:] = 200
        self.assertIsNone(snap(edge + rng.normal(0, 1, edge.shape).astype(np.float32), 60, 60))
        self.assertIsNone(snap(rng.normal(120, 2, (120, 120)).astype(np.float32), 60, 60))

    def test_base_and_ratio_of_two_photos(self):
        a, b = look_at([0, -100, 0], np.zeros(3)), look_at([30, -100, 0], np.zeros(3))
        p = stereo_pair(a, b, 2000.0, np.zeros((3, 3)), 0.5)
        self.assertAlmostEqual(p.base, 30)
        self.assertAlmostEqual(p.angle_deg, np.degrees(np.arctan(0.3)), places=6)
        self.assertEqual(p.word, "good")
        self.assertIn("close", stereo_pair(a, look_at([4, -100, 0], np.zeros(3)), 2000.0, np.zeros((3, 3))).word)
        self.assertIn(
            "good beside others", stereo_pair(a, look_at([7, -100, 0], np.zeros(3)), 2000.0, np.zeros((3, 3))).word
        )
        self.assertIn("wide", stereo_pair(a, look_at([90, -100, 0], np.zeros(3)), 2000.0, np.zeros((3, 3))).word)


if __name__ == "__main__":
    unittest.main()
