"""Tracks and the growing block, on made-up sightings with known truth."""

import unittest
from unittest import mock

import numpy as np

from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at, transform
from umbrate.core.geometry.rotation import rotation_angle, rotation_matrix
from umbrate.core.geometry.similarity import compare_poses
from umbrate.core.poses import grow as grow_module
from umbrate.core.poses.frame import move_block, upright_frame
from umbrate.core.poses.grow import Grower
from umbrate.core.poses.mend import check_loops, readmit
from umbrate.core.poses.solution import LOOP, GrowSettings, PairGeometry, PhotoSet
from umbrate.core.poses.tracks import build_tracks

LENS = Lens(1600, 1200, 2000.0, 806.0, 593.0, (-0.09, 0.03, 0.0), (3e-4, -2e-4))


def made_up_block(rng, photos=14, points=900, noise_px=0.3, false=0.05, loner=True, with_points=False):
    """Photos in a ring that see a ball's near side: features, pairs with false matches, true poses.

    with_points : also the points, and for each photo whose each feature is
    """
    angles = np.linspace(0, 2 * np.pi, photos, endpoint=False)
    poses = [look_at([5 * np.sin(a), -5 * np.cos(a), 1.5 + 0.8 * (i % 2)], np.zeros(3)) for i, a in enumerate(angles)]
    for E in poses[::3]:  # the camera turned upright now and then tells the principal point from a tilt
        E[:3] = rotation_matrix(np.array([0, 0, np.pi / 2])) @ E[:3]
    X = rng.normal(size=(points, 3))
    X /= np.linalg.norm(X, axis=1, keepdims=True)
    xy, ids = [], []
    for E in poses:
        seen = np.flatnonzero((X * (center(E) / np.linalg.norm(center(E)))).sum(1) > 0.35)
        seen = rng.permutation(seen)
        Y = transform(E, X[seen])
        xy.append(LENS.project(Y[:, :2] / Y[:, 2:]) + rng.normal(size=(len(seen), 2)) * noise_px)
        ids.append(seen)
    if loner:  # a photo that shares nothing
        xy.append(rng.uniform(0, 1200, size=(200, 2)))
        ids.append(np.full(200, -1))
    pairs = {}
    for i in range(photos):
        for j in range(i + 1, photos):
            _, a, b = np.intersect1d(ids[i], ids[j], return_indices=True)
            if len(a) < 30:
                continue
            wrong = rng.random(len(b)) < false
            b = np.where(wrong, rng.integers(0, len(ids[j]), len(b)), b)
            d = [X[ids[i][a]] - center(poses[k]) for k in (i, j)]
            cos = (d[0] * d[1]).sum(1) / np.linalg.norm(d[0], axis=1) / np.linalg.norm(d[1], axis=1)
            relative = poses[j] @ np.linalg.inv(poses[i])
            relative[:3, 3] /= np.linalg.norm(relative[:3, 3])
            pairs[i, j] = PairGeometry(np.stack([a, b], 1), relative, float(np.degrees(np.median(np.arccos(cos)))))
    return (xy, pairs, poses, X, ids) if with_points else (xy, pairs, poses)


def photo_set(xy, lens=None, **more):
    """Photos 1600 pixels wide through one lens, by default an EXIF-like guess."""
    lens = Lens.guess(1600, 1200, 2050.0) if lens is None else lens
    return PhotoSet(xy, [lens.vector], np.zeros(len(xy), int), [1600] * len(xy), **more)


def grow(xy, pairs, lens_sigma=None, **settings):
    """What is Grown from an EXIF-like guess of the lens."""
    return Grower(photo_set(xy, lens_sigma=lens_sigma), pairs, settings=GrowSettings(**settings)).run()


class Tracks(unittest.TestCase):
    def test_joins_chains_and_leaves_only_the_contradicting_match_out(self):
        matches = {
            (0, 1): np.array([[0, 1], [2, 3], [4, 4]]),
            (1, 2): np.array([[1, 2], [3, 0], [4, 5]]),
            (0, 2): np.array([[0, 2], [1, 5]]),  # 4 -> 4 -> 5 <- 1: photo 0 would be twice in one track
        }
        t = build_tracks([6, 6, 6], matches)
        got = {
            tuple(zip(t.photo[a:b].tolist(), t.feature[a:b].tolist(), strict=True))
            for a, b in zip(t.start[:-1], t.start[1:], strict=True)
        }
        self.assertEqual(got, {((0, 0), (1, 1), (2, 2)), ((0, 2), (1, 3), (2, 0)), ((0, 4), (1, 4), (2, 5))})
        self.assertEqual(len(build_tracks([5, 5], {})), 0)


class Growing(unittest.TestCase):
    def test_solves_the_ring_and_the_lens_in_spite_of_false_matches(self):
        # without noise, and with nothing known of the lens, what is left is what false matches do
        xy, pairs, truth = made_up_block(np.random.default_rng(1), noise_px=0.0)
        block = grow(xy, pairs, lens_sigma=np.array([[1e4, 1e3, 1e3, 1, 10, 10, 1, 1, 10, 10]])).block
        _, rotation, shift = compare_poses(block.poses[:14], truth)
        self.assertLess(rotation.max(), 0.03)
        self.assertLess(shift.max(), 1e-3)
        self.assertAlmostEqual(block.lenses[0, 0], LENS.f, delta=1)
        self.assertGreater(len(block.points), 650)
        xy, pairs, truth = made_up_block(np.random.default_rng(1))
        told = []
        grown = grow(xy, pairs, report=lambda solved, total, sentence, grower: told.append(solved))
        block = grown.block
        self.assertEqual(block.solved.sum(), 14)
        _, _, shift = compare_poses(block.poses[:14], truth)
        self.assertLess(shift.max(), 0.01)
        self.assertAlmostEqual(block.lenses[0, 0], LENS.f, delta=20)
        # two noisy coordinates of 0.3 px each, less what the unknowns take up
        self.assertTrue(0.3 < block.rms_px < 0.43)
        # the loner is not forced in, and the reason is told
        self.assertIn("no matches", grown.reasons[14].text)
        self.assertEqual(told[0], 2)
        self.assertEqual(told[-1], 14)
        self.assertEqual(told, sorted(told))
        # residuals are seen minus predicted
        k = 100
        Y = transform(block.poses[block.photo[k]], block.points[block.point[k]][None])
        predicted = Lens.from_vector(1600, 1200, block.lenses[0]).project(Y[:, :2] / Y[:, 2:])[0]
        np.testing.assert_allclose(block.xy[k] - predicted, block.residual[k], atol=1e-9)
        self.assertTrue((np.diff(block.point) >= 0).all())

    def test_tracks_that_false_matches_kept_apart_are_joined_when_all_stand(self):
        xy, pairs, _, _, ids = made_up_block(np.random.default_rng(12), 14, 700, 0.3, 0.25, False, with_points=True)

        def doubles(block):
            """True points that the block has more than once."""
            who = np.array([ids[i][f] for i, f in zip(block.photo, block.feature, strict=True)])
            first = np.unique(block.point, return_index=True)[1]
            return len(first) - len(np.unique(who[first]))

        with mock.patch.object(grow_module, "merge", lambda _: 0):
            before = grow(xy, pairs).block
        after = grow(xy, pairs).block
        self.assertGreater(doubles(before), 20)
        self.assertLess(doubles(after), 0.6 * doubles(before))
        self.assertEqual(after.solved.sum(), 14)

    def test_a_doubted_pair_comes_back_where_its_matches_fit_the_block_and_only_there(self):
        xy, pairs, _ = made_up_block(np.random.default_rng(21), 14, 700, 0.3, 0.0, False)
        turned, chance = (0, 1), (7, 8)
        turn = np.eye(4)
        turn[:3, :3] = rotation_matrix(np.radians([0, 25.0, 0]))
        pairs[turned].relative = turn @ pairs[turned].relative  # the turn is told badly, the matches are right
        rows = np.random.default_rng(0).permutation(len(pairs[chance].matches))
        pairs[chance].matches = np.stack([pairs[chance].matches[:, 0], pairs[chance].matches[rows, 1]], 1)
        pairs[chance].relative = turn @ pairs[chance].relative
        grower = Grower(photo_set(xy), pairs)
        self.assertEqual(set(grower.doubted), {turned, chance})
        with mock.patch.object(grow_module, "readmit", lambda _: 0):
            block = grower.run().block
        self.assertEqual(block.solved.sum(), 14)
        self.assertEqual(readmit(grower), 1)
        self.assertEqual((set(grower.doubted), turned in grower.pairs), ({chance}, True))
        self.assertEqual(list(grower.pairs), sorted(grower.pairs))
        self.assertFalse(grower.placed.any())  # tracks are built anew, with its matches: no place is taken over
        self.assertEqual(readmit(grower), 0)
        # a pair with a photo that does not stand is not judged
        grower.doubted[turned] = grower.pairs.pop(turned)
        grower.solved[0] = False
        self.assertEqual(readmit(grower), 0)

    def test_a_photo_that_contradicts_most_of_its_pairs_leaves(self):
        xy, pairs, _ = made_up_block(np.random.default_rng(22), 12, 600, 0.3, 0.0, False)
        grower = Grower(photo_set(xy), pairs)
        grower.run()
        self.assertFalse(check_loops(grower))
        wrong = np.eye(4)
        wrong[:3, :3] = rotation_matrix(np.radians([0, 60.0, 0]))
        grower.poses[5] = wrong @ grower.poses[5]
        self.assertTrue(check_loops(grower))
        self.assertEqual(np.flatnonzero(~grower.solved).tolist(), [5])
        self.assertEqual(grower.reasons[5].kind, LOOP)
        self.assertFalse(grower.on[grower.tracks.photo == 5].any())
        self.assertIn(4, grower.reasons[5].partners)

    def test_the_same_seed_gives_the_same_bits(self):
        xy, pairs, _ = made_up_block(np.random.default_rng(2), 8, 500)
        a, b = (grow(xy, pairs, seed=3).block for _ in range(2))
        np.testing.assert_array_equal(a.poses, b.poses)
        np.testing.assert_array_equal(a.points, b.points)

    def test_without_a_start_every_photo_has_a_reason(self):
        xy, pairs, _ = made_up_block(np.random.default_rng(3), 6, 300)
        for g in pairs.values():
            g.angle_deg = 0.2  # turned on the spot
        grown = grow(xy, pairs)
        self.assertFalse(grown.block.solved.any())
        self.assertEqual(set(grown.reasons), set(range(7)))


class Frame(unittest.TestCase):
    def test_photos_stand_upright_at_distance_one_portrait_ones_too(self):
        rng = np.random.default_rng(4)
        poses = [look_at([3 * np.sin(a), -3 * np.cos(a), 2.0], np.zeros(3)) for a in np.linspace(0, 6, 9)]
        quarter = np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]])
        orientations = np.ones(9, int)
        for i in (2, 5):  # the camera was turned; EXIF 6: to be shown turned by 90 degrees clockwise
            poses[i] = poses[i].copy()
            poses[i][:3] = quarter.T @ poses[i][:3]
            orientations[i] = 6
        points = rng.normal(size=(500, 3)) * 0.3
        tilt = np.eye(4)
        tilt[:3, :3] = look_at([1, 2, 3], [0, 0, 0])[:3, :3]
        tilted = [E @ np.linalg.inv(tilt) for E in poses]
        turned = transform(tilt, points)
        M = upright_frame(np.array(tilted), turned, orientations)
        moved, p = move_block(np.array([*tilted, np.full((4, 4), np.nan)]), turned, M)
        self.assertTrue(np.isnan(moved[-1]).all())
        up = np.array([-E[1, :3] for k, E in enumerate(moved[:9]) if orientations[k] == 1]).mean(0)
        self.assertGreater(up[2] / np.linalg.norm(up), 0.99)
        self.assertAlmostEqual(np.median([np.linalg.norm(center(E)) for E in moved[:9]]), 1.0, delta=0.02)
        np.testing.assert_allclose(np.median(p, 0), 0, atol=0.01)
        self.assertLess(rotation_angle(moved[0, :3, :3] @ moved[0, :3, :3].T), 1e-9)
        # what a photo sees has not changed
        for E, F in zip(tilted, moved[:9], strict=True):
            a, b = transform(E, turned[:20]), transform(F, p[:20])
            np.testing.assert_allclose(a[:, :2] / a[:, 2:], b[:, :2] / b[:, 2:], atol=1e-9)
