"""The adjustment against numeric derivatives and an independent solver."""

import unittest
from unittest import mock

import numpy as np
from scipy.optimize import least_squares

from umbrate.core.geometry.lens import N_PARAMETERS, Lens
from umbrate.core.geometry.pose import look_at
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.geometry.similarity import compare_poses, fit_similarity, scale_of
from umbrate.core.poses import normal
from umbrate.core.poses.adjust import Held, adjust
from umbrate.core.poses.lensprior import LensPrior
from umbrate.core.poses.reprojection import CAUCHY, HUBER, SQUARED, Loss, State, derivatives, linearize, observations

TRUE_LENS = Lens(1600, 1200, 1900.0, 811.0, 590.0, (-0.08, 0.03, 0.0), (4e-4, -3e-4))


def scene(rng, photos=6, points=40, noise_px=0.0, share=0.8):
    """A block with its truth: poses, points, and sightings (photo, point, xy) sorted by point."""
    angles = np.linspace(0, 2 * np.pi, photos, endpoint=False)
    poses = np.array([look_at([4 * np.sin(a), -4 * np.cos(a), 1 + 0.5 * np.sin(3 * a)], np.zeros(3)) for a in angles])
    X = rng.uniform(-0.7, 0.7, size=(points, 3))
    point, photo = np.nonzero(rng.random((points, photos)) < share)
    Y = np.einsum("kij,kj->ki", poses[photo][:, :3, :3], X[point]) + poses[photo][:, :3, 3]
    xy = TRUE_LENS.project(Y[:, :2] / Y[:, 2:]) + rng.normal(size=(len(point), 2)) * noise_px
    return poses, X, photo, point, xy


def shaken(rng, poses, X, turn=0.01, shift=0.03):
    """Poses and points some way off."""
    out = poses.copy()
    for E in out:
        E[:3, :3] = rotation_matrix(rng.normal(size=3) * turn) @ E[:3, :3]
        E[:3, 3] += rng.normal(size=3) * shift
    return out, X + rng.normal(size=X.shape) * shift


def given(poses, X, photo, point, xy, sigma=None, lenses=None):
    """State and Observations of a scene, all photos with the first lens."""
    lenses = TRUE_LENS.vector[None] if lenses is None else np.atleast_2d(lenses)
    return State(poses, lenses, X), observations(np.zeros(len(poses), int), photo, point, xy, sigma, len(X))


class Derivatives(unittest.TestCase):
    def test_jacobians_agree_with_differences_for_every_parameter_and_loss(self):
        rng = np.random.default_rng(1)
        poses, X, photo, point, xy = scene(rng, 3, 8, 0.0)
        poses, X = shaken(rng, poses, X)
        lens = TRUE_LENS.vector + np.array([20, 3, -2, 0.01, 0.01, 0.02, 1e-3, 1e-3, 2.0, 1.5])
        k = len(photo)
        weight = rng.uniform(0.5, 3.0, k)

        def residuals(loss, poses, lens, X):
            out = derivatives(k)
            linearize(*given(poses, X, photo, point, xy, 1 / weight, lens), Loss(loss, 1e9), out)
            return out

        _, Jc, Jl, Jx = residuals(SQUARED, poses, lens, X)
        for a in range(6):
            step = np.zeros(6)
            step[a] = 1e-6
            moved = []
            for sign in (1, -1):
                p = poses.copy()
                for E in p:
                    # as the solver steps: about the camera, then the shift
                    E[:3, :3] = rotation_matrix(sign * step[:3]) @ E[:3, :3]
                    E[:3, 3] += sign * step[3:]
                moved.append(residuals(SQUARED, p, lens, X)[0])
            np.testing.assert_allclose(Jc[:, :, a], (moved[0] - moved[1]) / 2e-6, rtol=1e-5, atol=1e-3)
        for a in range(N_PARAMETERS):
            h = 1e-4 if a in (0, 1, 2, 8, 9) else 1e-7
            d = np.eye(N_PARAMETERS)[a] * h
            numeric = (residuals(SQUARED, poses, lens + d, X)[0] - residuals(SQUARED, poses, lens - d, X)[0]) / (2 * h)
            np.testing.assert_allclose(Jl[:, :, a], numeric, rtol=1e-5, atol=1e-3)
        for a in range(3):
            d = np.eye(3)[a] * 1e-6
            numeric = (residuals(SQUARED, poses, lens, X + d)[0] - residuals(SQUARED, poses, lens, X - d)[0]) / 2e-6
            np.testing.assert_allclose(Jx[:, :, a], numeric, rtol=1e-5, atol=1e-3)


class Solving(unittest.TestCase):
    def test_reaches_the_cost_of_an_independent_solver(self):
        rng = np.random.default_rng(2)
        poses, X, photo, point, xy = scene(rng, 4, 20, 0.5)
        start, X0 = shaken(rng, poses, X)
        free = [0, 3]  # f and k1
        lens = TRUE_LENS.vector
        lens[0] *= 1.02
        result = adjust(
            *given(start, X0, photo, point, xy, lenses=lens), free, held=Held(poses=(0,)), loss=Loss(SQUARED),
            max_rounds=200, tolerance=1e-14,
        )  # fmt: skip

        def residuals(p):
            moved = start.copy()
            for i in range(1, 4):
                q = p[6 * (i - 1) : 6 * i]
                moved[i, :3, :3] = rotation_matrix(q[:3]) @ start[i, :3, :3]
                moved[i, :3, 3] = start[i, :3, 3] + q[3:]
            v = lens.copy()
            v[free] += p[18:20] * [100, 1]
            P = X0 + p[20:].reshape(-1, 3)
            Y = np.einsum("kij,kj->ki", moved[photo][:, :3, :3], P[point]) + moved[photo][:, :3, 3]
            return (Lens.from_vector(1600, 1200, v).project(Y[:, :2] / Y[:, 2:]) - xy).ravel()

        slow = least_squares(residuals, np.zeros(20 + X0.size), method="trf", xtol=1e-14, ftol=1e-14, gtol=1e-12)
        self.assertAlmostEqual(result.cost / slow.cost, 1.0, places=6)
        self.assertAlmostEqual(0.5 * (result.residuals**2).sum() / result.cost, 1.0, places=9)
        np.testing.assert_array_equal(result.poses[0], start[0])

    def test_recovers_truth_without_noise_the_lens_included(self):
        rng = np.random.default_rng(3)
        poses, X, photo, point, xy = scene(rng, 10, 150)
        start, X0 = shaken(rng, poses, X)
        guess = Lens.guess(1600, 1200, 1960.0)
        result = adjust(
            *given(start, X0, photo, point, xy, lenses=guess.vector), [0, 1, 2, 3, 4, 6, 7], loss=Loss(SQUARED),
            max_rounds=200, tolerance=1e-15,
        )  # fmt: skip
        self.assertLess(np.abs(result.residuals).max(), 1e-5)
        np.testing.assert_allclose(result.lenses[0], TRUE_LENS.vector, rtol=1e-4, atol=1e-5)
        _, rotation, shift = compare_poses(result.poses, poses)
        self.assertLess(rotation.max(), 1e-5)
        self.assertLess(shift.max(), 1e-6)

    def test_a_robust_loss_keeps_false_sightings_from_pulling(self):
        rng = np.random.default_rng(4)
        poses, X, photo, point, xy = scene(rng, 8, 120, 0.3)
        false = rng.random(len(xy)) < 0.06
        xy[false] += rng.uniform(-80, 80, size=(false.sum(), 2))
        start, X0 = shaken(rng, poses, X, 0.003, 0.01)
        errors = {}
        for loss in (SQUARED, HUBER, CAUCHY):
            r = adjust(*given(start, X0, photo, point, xy), loss=Loss(loss, 1.0), max_rounds=100)
            errors[loss] = np.median(compare_poses(r.poses, poses)[2])
        self.assertLess(errors[CAUCHY], 0.2 * errors[SQUARED])
        self.assertLess(errors[HUBER], 0.5 * errors[SQUARED])

    def test_a_prior_holds_what_the_photos_do_not_tell(self):
        rng = np.random.default_rng(5)
        poses, X, photo, point, xy = scene(rng, 2, 60, 0.3, share=1.0)
        start, X0 = shaken(rng, poses, X, 0.002, 0.01)
        lens = TRUE_LENS.vector[None]
        sigma = np.full(10, 1e-6)
        free = [0, 1, 2, 3, 4, 5]
        r = adjust(*given(start, X0, photo, point, xy), free, held=Held(lens_prior=LensPrior.of_sigmas(lens, sigma)))
        np.testing.assert_allclose(r.lenses, lens, atol=1e-4)

    def test_sightings_must_be_sorted_and_stop_is_asked(self):
        rng = np.random.default_rng(6)
        poses, X, photo, point, xy = scene(rng, 3, 10)
        with self.assertRaises(ValueError):
            given(poses, X, photo[::-1], point[::-1], xy[::-1])

        def stop():
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            adjust(*given(poses, X, photo, point, xy), stop=stop)


class Known(unittest.TestCase):
    def test_control_points_and_lengths_agree_with_an_independent_solver(self):
        rng = np.random.default_rng(7)
        poses, X, photo, point, xy = scene(rng, 4, 16, 0.4)
        start, X0 = shaken(rng, poses, X)
        rows = np.array([0, 3, 5, 9])
        places, sigma = X[rows] + rng.normal(0, 0.003, (4, 3)), np.array([0.003, 0.004, 0.003, 0.005])
        ends = np.array([1, 3]), np.array([2, 7])
        value = np.linalg.norm(X[ends[0]] - X[ends[1]], axis=1) * 1.002
        held = Held(points=(rows, places, sigma), lengths=(*ends, value, np.array([0.001, 0.002])))
        ours = adjust(
            *given(start, X0, photo, point, xy), held=held, loss=Loss(SQUARED), max_rounds=200, tolerance=1e-14
        )

        def residuals(v):
            E = start.copy()
            for i in range(4):
                E[i, :3, :3] = rotation_matrix(v[6 * i : 6 * i + 3]) @ start[i, :3, :3]
                E[i, :3, 3] += v[6 * i + 3 : 6 * i + 6]
            P = X0 + v[24:].reshape(-1, 3)
            Y = np.einsum("kij,kj->ki", E[photo, :3, :3], P[point]) + E[photo, :3, 3]
            long = (np.linalg.norm(P[ends[0]] - P[ends[1]], axis=1) - value) / [0.001, 0.002]
            near = (P[rows] - places) / sigma[:, None]
            return np.concatenate([(TRUE_LENS.project(Y[:, :2] / Y[:, 2:]) - xy).ravel(), long, near.ravel()])

        slow = least_squares(residuals, np.zeros(24 + X0.size), x_scale="jac", xtol=1e-15, ftol=1e-15, gtol=1e-15)
        self.assertAlmostEqual(ours.cost, slow.cost, delta=1e-6 * slow.cost)
        np.testing.assert_allclose(ours.points, X0 + slow.x[24:].reshape(-1, 3), atol=1e-5)

    def test_one_length_settles_the_scale_and_threads_change_no_bit(self):
        rng = np.random.default_rng(8)
        poses, X, photo, point, xy = scene(rng, 12, 900, 0.3)
        start, X0 = shaken(rng, poses, X, 0.002, 0.01)
        value = 2.0 * float(np.linalg.norm(X[0] - X[1]))
        args = given(start, X0, photo, point, xy)
        held = Held(lengths=([0], [1], np.array([value]), np.array([1e-4])))
        more = {"held": held, "max_rounds": 40, "tolerance": 1e-12}
        a = adjust(*args, **more)
        self.assertAlmostEqual(float(np.linalg.norm(a.points[0] - a.points[1])), value, delta=1e-3)
        self.assertAlmostEqual(scale_of(fit_similarity(X, a.points)), 2.0, delta=0.003)
        with mock.patch.object(normal, "THREADS", 1):
            b = adjust(*args, **more)
        np.testing.assert_array_equal(a.points, b.points)
        np.testing.assert_array_equal(a.poses, b.poses)
