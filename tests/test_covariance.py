"""The covariance of a block against dense algebra and against the spread of repeated adjustments."""

import unittest

import numpy as np

from tests.test_adjust import TRUE_LENS, given, scene
from umbrate.core.geometry.pose import center
from umbrate.core.geometry.rotation import rotation_matrix, rotation_vector
from umbrate.core.geometry.similarity import fit_similarity, scale_of
from umbrate.core.poses.adjust import adjust
from umbrate.core.poses.covariance import covariance, of_centers
from umbrate.core.poses.reprojection import SQUARED, Loss

FREE = [0, 1, 2, 3]


def repeat(seed, rng_scene=7, photos=8, points=60):
    """A block solved from noisy sightings, moved onto the truth by its tie points; and the truth."""
    rng = np.random.default_rng(rng_scene)
    poses, X, photo, point, xy = scene(rng, photos, points)
    sigma = np.where(np.arange(points) % 3 == 0, 0.1, 0.4)[point]
    seen = xy + np.random.default_rng(seed).normal(size=xy.shape) * sigma[:, None]
    r = adjust(*given(poses, X, photo, point, seen, sigma), FREE, loss=Loss(SQUARED), tolerance=1e-12)
    M = fit_similarity(r.points, X)
    s = scale_of(M)
    moved = r.points @ M[:3, :3].T + M[:3, 3]
    out = r.poses.copy()
    for E in out:
        R = E[:3, :3] @ (M[:3, :3] / s).T
        E[:3, 3] = s * E[:3, 3] - R @ M[:3, 3]
        E[:3, :3] = R
    return r, out, moved, (poses, X, photo, point, seen, sigma)


class Honest(unittest.TestCase):
    def test_the_parts_agree_with_the_whole_inverse_under_inner_constraints(self):
        r, _, _, (_, _, photo, point, seen, sigma) = repeat(0, photos=4, points=15)
        n, P = 4, 15
        cov = covariance(*given(r.poses, r.points, photo, point, seen, sigma, r.lenses), FREE)
        # dense: numeric Jacobian of everything, bordered with the constraint that points do not move as a whole
        size = 6 * n + len(FREE) + 3 * P

        def predict(step):
            lens = r.lenses[0].copy()
            lens[FREE] += step[6 * n : 6 * n + len(FREE)]
            X = r.points + step[6 * n + len(FREE) :].reshape(-1, 3)
            E = r.poses.copy()
            for i in range(n):
                E[i, :3, :3] = rotation_matrix(step[6 * i : 6 * i + 3]) @ E[i, :3, :3]
                E[i, :3, 3] += step[6 * i + 3 : 6 * i + 6]
            Y = np.einsum("kij,kj->ki", E[photo, :3, :3], X[point]) + E[photo, :3, 3]
            return (TRUE_LENS.from_vector(1600, 1200, lens).project(Y[:, :2] / Y[:, 2:]) / sigma[:, None]).ravel()

        scales = np.r_[np.full(6 * n, 1e-6), [1e-3, 1e-3, 1e-3, 1e-6], np.full(3 * P, 1e-6)]
        J = np.stack(
            [(predict(e * h) - predict(-e * h)) / (2 * h) for e, h in zip(np.eye(size), scales, strict=True)], 1
        )
        Y = r.points - r.points.mean(0)
        B = np.zeros((size, 7))
        part = B[6 * n + len(FREE) :].reshape(P, 3, 7)
        part[:, range(3), range(3)] = 1
        for k, axis in enumerate(np.eye(3)):
            part[:, :, 3 + k] = np.cross(axis, Y)
        part[:, :, 6] = Y
        K = np.block([[J.T @ J, B], [B.T, np.zeros((7, 7))]])
        whole = np.linalg.inv(K)[:size, :size]
        sd = np.sqrt(np.diag(whole))
        got = np.r_[
            np.sqrt(np.einsum("nii->ni", cov.poses)).ravel(), np.sqrt(np.diag(cov.lenses[0]))[FREE],
            np.sqrt(np.einsum("nii->ni", cov.points)).ravel(),
        ]  # fmt: skip
        np.testing.assert_allclose(got, sd, rtol=2e-3)
        at = 6 * n + len(FREE) + 3 * np.array([2, 9])
        rows = np.r_[at[0] : at[0] + 3, at[1] : at[1] + 3]
        joint = cov.between([2, 9])
        np.testing.assert_allclose(joint, whole[np.ix_(rows, rows)], atol=2e-3 * np.abs(joint).max())

    def test_errors_of_repeated_blocks_have_the_spread_that_is_stated(self):
        points, centers, turns, lens, units = [], [], [], [], []
        for seed in range(40):
            r, poses, X, (true, true_X, photo, point, seen, sigma) = repeat(seed)
            # in the frame of the truth, so that errors and covariance are of the same frame and size
            cov = covariance(*given(poses, X, photo, point, seen, sigma, r.lenses), FREE)
            points.append((X - true_X) / np.sqrt(np.einsum("pii->pi", cov.points)))
            off = np.array([center(a) - center(b) for a, b in zip(poses, true, strict=True)])
            centers.append(off / np.sqrt(np.einsum("pii->pi", of_centers(poses, cov.poses))))
            turn = [rotation_vector(a[:3, :3] @ b[:3, :3].T) for a, b in zip(poses, true, strict=True)]
            turns.append(np.array(turn) / np.sqrt(np.einsum("nii->ni", cov.poses))[:, :3])
            lens.append((r.lenses[0] - TRUE_LENS.vector)[FREE] / np.sqrt(np.diag(cov.lenses[0]))[FREE])
            units.append(cov.unit)
        for name, values in (("points", points), ("centers", centers), ("turns", turns), ("lens", lens)):
            spread = float(np.sqrt((np.array(values) ** 2).mean()))
            self.assertTrue(0.85 < spread < 1.15, f"{name}: {spread:.3f}")
        self.assertAlmostEqual(np.mean(units), 1.0, delta=0.03)
