"""Folds: blocks of objects that look alike from several sides, told by where their photos stand."""

import unittest

import numpy as np

from umbrate.core.geometry.pose import look_at, pose
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.poses.fold import find_fold


def ring(angles_deg, height_deg=30.0, rng=None, noise_deg=0.3):
    """Poses (n, 4, 4) of a turntable's ring at these angles, not quite exact."""
    rng = rng or np.random.default_rng(0)
    out = []
    for a in np.radians(angles_deg + noise_deg * rng.normal(size=len(angles_deg))):
        e = np.radians(height_deg)
        eye = 10 * np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])
        out.append(look_at(eye, np.zeros(3)))
    return np.array(out)


def hand(n, rng):
    """Poses of photos by hand, no two from one place."""
    eyes = rng.normal(size=(n, 3)) * [10, 10, 2] + [0, 0, 6]
    roll = [pose(rotation_matrix(np.array([0, 0, a])), np.zeros(3)) for a in rng.normal(0, 0.2, n)]
    return np.array([r @ look_at(e, rng.normal(0, 0.5, 3)) for e, r in zip(eyes, roll, strict=True)])


class Folds(unittest.TestCase):
    def test_a_folded_ring_is_found_at_any_symmetry_and_step(self):
        for sides in (2, 3, 4, 6):
            for n in (12, 18, 24, 36):
                step = 360.0 / n
                if 360 / sides / step < 2:
                    continue
                angles = (step * np.arange(n)) % (360.0 / sides)
                found = find_fold(np.concatenate([ring(angles), ring(angles, 50.0)]))
                self.assertIsNotNone(found, (sides, n))
                self.assertEqual(found.photos, 2 * n)
                if step > 8:
                    self.assertEqual(found.places, 2 * len(set(np.round(angles, 6))))

    def test_rings_rounds_bursts_and_walks_are_none(self):
        rng = np.random.default_rng(1)
        steps = 15.0 * np.arange(24)
        self.assertIsNone(find_fold(ring(steps)))
        self.assertIsNone(find_fold(np.concatenate([ring(steps), ring(steps + 7, 50.0)])))
        self.assertIsNone(find_fold(ring(15.0 * np.arange(48))))  # turned round twice
        self.assertIsNone(find_fold(ring(np.repeat(steps, 3))))  # three shots each
        self.assertIsNone(find_fold(ring(1.0 * np.arange(300))))  # a video
        for seed in range(20):
            self.assertIsNone(find_fold(hand(40, np.random.default_rng(seed))))
        self.assertIsNone(find_fold(ring(steps[:4])))
        # photos that do not stand do not count
        some = ring(steps)
        some[rng.random(24) < 0.3] = np.nan
        self.assertIsNone(find_fold(some))
        folded = ring(steps % 90)
        folded[[3, 9]] = np.nan
        self.assertEqual(find_fold(folded).photos, 22)


if __name__ == "__main__":
    unittest.main()
