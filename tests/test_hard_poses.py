"""Poses of hard sets: folds, told by where photos stand, and zooms that were moved, told by their focal lengths."""

import unittest

import numpy as np

from tests.test_grow import LENS, grow, made_up_block
from umbrate.core.geometry.pose import look_at, pose
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.poses.fold import find_fold
from umbrate.core.poses.zoom import group_focals, own_focals


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


class Zooms(unittest.TestCase):
    """Photos of a made-up block, some of them taken with the zoom moved."""

    @staticmethod
    def found(seed, zoom, noise_px=0.4):
        """The Zooms found where photo i was taken with zoom[i] times the focal length; and the block."""
        xy, pairs, _ = made_up_block(np.random.default_rng(seed), 14, 400, noise_px, 0.02, loner=False)
        middle = np.array([LENS.cx, LENS.cy])
        block = grow([middle + z * (x - middle) for x, z in zip(xy, zoom, strict=True)], pairs).block
        return group_focals(own_focals(block), block.lens_of), block

    def test_photos_are_grouped_by_the_zoom_they_were_taken_with(self):
        zoom = np.ones(14)
        zoom[[1, 4, 5, 9]], zoom[12] = 0.8, 1.25
        zooms, block = self.found(1, zoom)
        self.assertEqual(block.solved.sum(), 14)
        self.assertEqual(len(zooms.focal), 3)
        for z in (0.8, 1.0, 1.25):
            (group,) = set(zooms.group[zoom == z].tolist())
            self.assertAlmostEqual(zooms.focal[group] / zooms.focal[0], z, delta=0.08)  # to start from
        self.assertEqual(zooms.group[0], 0)  # the largest group comes first

    def test_one_zoom_is_never_taken_for_several(self):
        for seed in range(5):
            for noise in (0.3, 1.0):
                self.assertIsNone(self.found(10 + seed, np.ones(14), noise)[0])


if __name__ == "__main__":
    unittest.main()
