"""Rotations, poses, the lens, similarities and triangulation against closed forms."""

import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, inverse, look_at, pose, transform
from umbrate.core.geometry.rotation import (
    nearest_rotation,
    rotation_angle,
    rotation_between,
    rotation_matrix,
    rotation_vector,
)
from umbrate.core.geometry.similarity import compare_poses, fit_similarity, move_pose, scale_of
from umbrate.core.geometry.triangulate import triangulate_tracks


def random_lens(rng, width=1600, height=1200):
    """A plausible lens with every parameter at work."""
    return Lens(
        width,
        height,
        rng.uniform(1200, 4000),
        width / 2 + rng.normal() * 20,
        height / 2 + rng.normal() * 20,
        tuple(rng.normal(size=3) * [0.1, 0.05, 0.01]),
        tuple(rng.normal(size=2) * 5e-4),
        tuple(rng.normal(size=2) * 2.0),
    )


class Rotations(unittest.TestCase):
    def test_vector_and_matrix_agree_with_an_independent_source_at_all_angles(self):
        rng = np.random.default_rng(1)
        for angle in (0.0, 1e-12, 1e-8, 1e-4, 0.3, 2.0, 3.1, np.pi - 1e-7, np.pi):
            for _ in range(20):
                axis = rng.normal(size=3)
                w = axis / np.linalg.norm(axis) * angle
                R = rotation_matrix(w)
                np.testing.assert_allclose(R, Rotation.from_rotvec(w).as_matrix(), atol=1e-12)
                np.testing.assert_allclose(rotation_matrix(rotation_vector(R)), R, atol=1e-8)
                self.assertAlmostEqual(rotation_angle(R), angle, delta=2e-7)

    def test_rotation_between_turns_one_direction_into_the_other(self):
        rng = np.random.default_rng(2)
        pairs = [rng.normal(size=(2, 3)) for _ in range(50)]
        pairs += [np.array([a, -a]) for a in np.eye(3)]
        for a, b in pairs:
            R = rotation_between(a, b)
            np.testing.assert_allclose(R @ R.T, np.eye(3), atol=1e-9)
            np.testing.assert_allclose(R @ a / np.linalg.norm(a), b / np.linalg.norm(b), atol=1e-9)

    def test_nearest_rotation_is_a_rotation_even_of_a_mirror(self):
        rng = np.random.default_rng(3)
        for _ in range(30):
            R = nearest_rotation(rng.normal(size=(3, 3)))
            np.testing.assert_allclose(R @ R.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(np.linalg.det(R), 1.0)


class Poses(unittest.TestCase):
    def test_look_at_puts_the_target_in_the_middle_and_up_upwards(self):
        rng = np.random.default_rng(4)
        for _ in range(30):
            eye, target = rng.normal(size=(2, 3)) * 5
            E = look_at(eye, target)
            np.testing.assert_allclose(center(E), eye, atol=1e-12)
            seen = transform(E, target[None])[0]
            np.testing.assert_allclose(seen[:2], 0, atol=1e-9)
            self.assertGreater(seen[2], 0)
            self.assertLess(transform(E, (target + [0, 0, 0.1])[None])[0, 1], 1e-9)  # y runs down
            np.testing.assert_allclose(inverse(E) @ E, np.eye(4), atol=1e-12)


class TheLens(unittest.TestCase):
    def test_unproject_is_the_exact_inverse_of_project(self):
        rng = np.random.default_rng(5)
        for _ in range(20):
            lens = random_lens(rng)
            uv = rng.uniform([0, 0], [lens.width, lens.height], size=(500, 2))
            np.testing.assert_allclose(lens.project(lens.unproject(uv)), uv, atol=1e-8)

    def test_project_follows_the_written_formula(self):
        rng = np.random.default_rng(6)
        lens = random_lens(rng)
        for x, y in rng.uniform(-0.3, 0.3, size=(50, 2)):
            r2 = x * x + y * y
            g = 1 + lens.k[0] * r2 + lens.k[1] * r2**2 + lens.k[2] * r2**3
            xd = x * g + 2 * lens.p[0] * x * y + lens.p[1] * (r2 + 2 * x * x)
            yd = y * g + lens.p[0] * (r2 + 2 * y * y) + 2 * lens.p[1] * x * y
            u = (lens.f + lens.b[0]) * xd + lens.b[1] * yd + lens.cx
            np.testing.assert_allclose(lens.project([[x, y]])[0], [u, lens.f * yd + lens.cy], rtol=1e-12)

    def test_a_scaled_lens_keeps_pixel_edges(self):
        lens = random_lens(np.random.default_rng(7))
        xy = np.random.default_rng(8).uniform(-0.3, 0.3, size=(100, 2))
        small = lens.scaled(lens.width // 4, lens.height // 2)
        edges = (lens.project(xy) + 0.5) * [0.25, 0.5]
        np.testing.assert_allclose(small.project(xy) + 0.5, edges, atol=1e-9)
        self.assertEqual(Lens.from_dict(lens.as_dict()), lens)


class Similarities(unittest.TestCase):
    def test_recovers_a_random_similarity_and_weights_count(self):
        rng = np.random.default_rng(9)
        for _ in range(20):
            s, R = rng.uniform(0.01, 100), Rotation.random(random_state=rng.integers(1e9)).as_matrix()
            M = pose(s * R, rng.normal(size=3) * 50)
            X = rng.normal(size=(12, 3))
            Y = transform(M, X)
            np.testing.assert_allclose(fit_similarity(X, Y), M, rtol=1e-8, atol=1e-8)
            self.assertAlmostEqual(scale_of(M) / s, 1.0)
            Y[0] += 5 * s  # a false pair without weight must not matter
            weights = np.r_[0.0, np.ones(11)]
            np.testing.assert_allclose(fit_similarity(X, Y, weights), M, rtol=1e-8, atol=1e-8)

    def test_a_moved_pose_sees_the_moved_world_alike(self):
        rng = np.random.default_rng(10)
        M = pose(3.7 * Rotation.random(random_state=1).as_matrix(), rng.normal(size=3))
        E = look_at(rng.normal(size=3) * 4, np.zeros(3))
        X = rng.normal(size=(30, 3))
        before, after = transform(E, X), transform(move_pose(E, M), transform(M, X))
        np.testing.assert_allclose(after, 3.7 * before, atol=1e-9)

    def test_compare_poses_measures_a_known_error(self):
        rng = np.random.default_rng(11)
        truth = [look_at(rng.normal(size=3) + [0, 0, 5], np.zeros(3)) for _ in range(8)]
        M = pose(0.01 * Rotation.random(random_state=2).as_matrix(), [1, 2, 3])
        estimated = [move_pose(E, M) for E in truth]
        turned = pose(rotation_matrix(np.array([0, 0, np.radians(0.5)])), np.zeros(3))
        estimated[3] = turned @ estimated[3]  # turned about its own center
        _, rotation, shift = compare_poses(estimated, truth)
        self.assertAlmostEqual(rotation[3], 0.5, places=6)
        self.assertLess(np.delete(rotation, 3).max(), 1e-6)
        self.assertLess(shift.max(), 1e-9)


class Triangulation(unittest.TestCase):
    def test_places_tracks_in_spite_of_false_sightings_and_refuses_narrow_ones(self):
        rng = np.random.default_rng(12)
        angles = np.linspace(0, 1.2, 6)
        poses = np.array([look_at([4 * np.sin(a), -4 * np.cos(a), 1.0], np.zeros(3)) for a in angles])
        X_true = rng.uniform(-0.5, 0.5, size=(60, 3))
        start, photo, xn = [0], [], []
        for t, X in enumerate(X_true):
            who = range(6) if t < 40 else (0, 1, 3, 5) if t < 50 else (0,)
            for i in who:
                Y = poses[i, :3, :3] @ X + poses[i, :3, 3]
                uv = Y[:2] / Y[2] + rng.normal(size=2) * 1e-4
                if t < 40 and i == t % 6:
                    uv = uv + [0.05, -0.03]  # one false sighting in six
                photo.append(i)
                xn.append(uv)
            if t >= 50:  # a second ray from nearly the same place
                photo.append(0)
                xn.append(xn[-1] + 1e-5)
            start.append(len(photo))
        X, ok = np.zeros((60, 3)), np.zeros(60, bool)
        triangulate_tracks(
            (np.array(start), np.array(photo), np.array(xn)), poses, np.ones(6, bool), np.ones(60, bool),
            np.full(6, 1e-3), np.radians(2.0), X, ok,
        )  # fmt: skip
        self.assertTrue(ok[:50].all())
        self.assertFalse(ok[50:].any())
        self.assertLess(np.linalg.norm(X[:50] - X_true[:50], axis=1).max(), 4e-3)
