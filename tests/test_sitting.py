"""What is read of a sitting, and what several become together, on blocks made here: no stage runs."""

import tempfile
import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.distance import cdist

from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at, transform
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.join.unite import unite
from umbrate.core.poses.block import FEATURE, MARK, TARGET, Block
from umbrate.job.blobs import BlobStore
from umbrate.sitting.marks import seen_in, with_marks, without_marks
from umbrate.sitting.masks import PackedMask, encode_mask
from umbrate.sitting.removal import removal, removed_rows
from umbrate.stages import BY_NAME
from umbrate.stages.join.members import Member
from umbrate.stages.join.surfaces import compare_surfaces
from umbrate.stages.poses.merging import join_blocks

LENS = Lens(400, 300, 500.0, 201.0, 148.0, (-0.05, 0.01, 0.0), (1e-3, -5e-4))


def ring(photos=6, points=40, seed=0, first_id=1, targets=(), turn=0.0):
    """A block of photos in a ring round points near the origin, exact, all points seen in all photos."""
    rng = np.random.default_rng(seed)
    angles = turn + 2 * np.pi * np.arange(photos) / photos
    poses = np.array([look_at([4 * np.sin(a), -4 * np.cos(a), 1.5], np.zeros(3)) for a in angles])
    X = rng.uniform(-0.5, 0.5, (points, 3))
    photo, point = np.tile(np.arange(photos), points), np.repeat(np.arange(points), photos)
    Y = np.einsum("kij,kj->ki", poses[photo, :3, :3], X[point]) + poses[photo, :3, 3]
    xy = LENS.project(Y[:, :2] / Y[:, 2:])
    kind = np.where(np.arange(points) < len(targets), TARGET, FEATURE)
    label = np.zeros(points, int)
    label[: len(targets)] = targets
    k = len(photo)
    return Block(
        poses, LENS.vector[None], np.zeros(photos, int), X, photo, point, point, xy, np.zeros((k, 2)), np.full(k, 0.4),
        photo_ids=first_id + np.arange(photos), sizes=np.tile([400, 300], (photos, 1)),
        colors=np.full((points, 3), 90, np.uint8), kind=kind, label=label, point_sigma=np.full(points, 1e-3),
    )  # fmt: skip


class Removed(unittest.TestCase):
    def test_what_was_taken_out_is_known_again_by_feature_and_by_the_targets_number(self):
        b = ring(targets=(7, 9))
        rows = np.array([b.start[0] + 2, b.start[1] + 2, b.start[5] + 2, b.start[6] + 3])
        arrays = removal(b, rows, {3: "found so", 4: "otherwise"})
        # photo 3 is row 2: targets 7 and 9 and feature 5; features are rows of the photo, targets follow behind them
        self.assertEqual(sorted(removed_rows(arrays, 3, "found so", np.array([9, 8, 7]), 100)), [5, 100, 102])
        self.assertEqual(sorted(removed_rows(arrays, 4, "otherwise", np.array([9, 7]), 100)), [6])
        # its features were found anew: their rows mean others now, a target's number does not
        self.assertEqual(sorted(removed_rows(arrays, 3, "found anew", np.array([9, 8, 7]), 100)), [100, 102])
        self.assertEqual(removed_rows(arrays, 5, "found so", np.array([7]), 100).tolist(), [])


class Marks(unittest.TestCase):
    def seen(self, b, X, photos):
        """Where a place is seen, as marks have it."""
        return tuple((int(b.photo_ids[i]), *LENS.project(self.flat(b, i, X))[0], 0.3) for i in photos)

    def flat(self, b, i, X):
        Y = transform(b.poses[i], np.asarray(X)[None])
        return Y[:, :2] / Y[:, 2:]

    def test_marks_are_placed_where_their_rays_meet_and_replace_those_that_were_there(self):
        b = ring()
        X = np.array([0.1, -0.2, 0.3])
        marks = ((31, "Beak", self.seen(b, X, (4, 0, 2))), (32, "Tail", self.seen(b, -X, (1, 3))))
        placed, lost = with_marks(b, marks)
        self.assertEqual(lost, {})
        self.assertEqual(placed.marks, {31: 40, 32: 41})
        np.testing.assert_allclose(placed.points[40:], [X, -X], atol=1e-6)
        # sightings stay sorted by point, within a point by photo
        self.assertTrue((np.diff(placed.point) >= 0).all())
        self.assertEqual(placed.photo[placed.of_point(40)].tolist(), [0, 2, 4])
        self.assertEqual(placed.kind[40:].tolist(), [MARK, MARK])
        again, _ = with_marks(placed, marks[:1])
        self.assertEqual(again.marks, {31: 40})
        bare = without_marks(again)
        self.assertEqual(bare.marks, {})
        for name in ("points", "photo", "point", "xy", "label", "colors"):
            np.testing.assert_array_equal(getattr(bare, name), getattr(b, name), name)
        self.assertIs(without_marks(b), b)

    def test_why_a_mark_has_no_place(self):
        b = ring()
        poses = b.poses.copy()
        poses[5] = np.nan
        b = replace(b, poses=poses)
        X = np.array([0.1, -0.2, 0.3])
        one, none = self.seen(ring(), X, (0, 5)), self.seen(ring(), X, (5,))
        behind = self.seen(ring(), [0.0, -60.0, 20.0], (0, 1))
        placed, lost = with_marks(b, ((1, "a", one), (2, "b", none), (3, "c", behind)))
        self.assertEqual(placed.marks, {})
        self.assertIn("one solved photo only", lost[1])
        self.assertIn("not marked in any", lost[2])
        self.assertIn("behind", lost[3])
        self.assertEqual(seen_in(b, one).photo.tolist(), [0])
        self.assertEqual(seen_in(b, ((99, 1.0, 1.0, 0.5),)).xy.shape, (0, 2))


class Joined(unittest.TestCase):
    def test_blocks_become_one_with_shared_points_once(self):
        a, b = ring(4, 10, 1, 1, targets=(5, 6)), ring(3, 12, 2, 50, targets=(6, 5, 8))
        ties = np.array([[0, 1, 4, 7], [0, 1, 5, 8]])
        one = join_blocks([a, b], ties, {5})
        self.assertEqual(one.photo_ids.tolist(), [1, 2, 3, 4, 50, 51, 52])
        self.assertEqual(one.lens_of.tolist(), [0] * 4 + [1] * 3)
        # two ties and target 6 are one place; target 5 stands on the support: another place in each sitting
        self.assertEqual(len(one.points), 10 + 12 - 3)
        self.assertEqual(len(one.photo), 4 * 10 + 3 * 12)
        self.assertTrue((np.diff(one.point) >= 0).all())
        shared = [p for p in range(len(one.points)) if len(set(one.photo[one.of_point(p)])) == 7]
        self.assertEqual(len(shared), 3)
        self.assertEqual(set(one.targets), {5, 6, 8})
        self.assertEqual(len(set(one.photo[one.of_point(one.targets[5])])), 4)
        # no photo sees a point twice, and every sighting is still the feature that it was
        self.assertEqual(len(set(zip(one.photo.tolist(), one.point.tolist(), strict=True))), len(one.photo))
        before = np.vstack([np.c_[a.photo, a.feature], np.c_[b.photo + 4, b.feature]]).tolist()
        self.assertEqual(sorted(np.c_[one.photo, one.feature].tolist()), sorted(before))

    def test_clouds_become_one_and_of_two_sheets_the_better_points_stay(self):
        rng = np.random.default_rng(0)
        g = np.stack(np.meshgrid(np.arange(40), np.arange(40)), -1).reshape(-1, 2) * 0.1

        def sheet(low, high, precision, gain):
            use = g[(g[:, 0] >= low) & (g[:, 0] < high)] + rng.normal(0, 0.005, (1, 2))
            n = len(use)
            return {
                "points": np.c_[use, np.zeros(n)].astype(np.float32),
                "normals": np.tile(np.float32([0, 0, 1]), (n, 1)),
                "colors": np.tile(np.uint8([100 * gain] * 3), (n, 1)), "precision": np.full(n, precision, np.float32),
                "own": np.zeros(n),
            }  # fmt: skip

        a, b = sheet(0, 2.5, 0.02, 1.0), sheet(1.0, 4.0, 0.01, 0.8)
        del b["own"]
        out, doubled, gains = unite([a, b])
        self.assertEqual(set(out), {"points", "normals", "colors", "precision", "sitting"})
        both = (cdist(a["points"], b["points"]).min(1) < 1.5 * 0.1).sum()
        self.assertAlmostEqual(doubled[0] / both, 1.0, delta=0.02)
        self.assertEqual(doubled[1], 0)
        overlap = (out["points"][:, 0] > 1.15) & (out["points"][:, 0] < 2.3)
        self.assertTrue((out["sitting"][overlap] == 1).all())
        np.testing.assert_allclose(gains[1], 1.25, atol=0.02)  # brought to the first one's brightness
        self.assertLess(np.ptp(out["colors"].astype(int)), 4)
        # a sheet that faces the other way is another surface
        back = {**b, "normals": -b["normals"]}
        self.assertEqual(unite([a, back])[1], [0, 0])


class Members(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)
        self.blobs = BlobStore(self.folder.name + "/blobs")

    def member(self, block, masks=None, **more):
        """A Member with masks (h, w) by photo id."""
        keys = {i: self.blobs.put_bytes(encode_mask(m)) for i, m in (masks or {}).items()}
        return Member(
            str(self.blobs.folder), 1, "Upright", block, True, 1.5, np.eye(4), keys, {}, more.pop("cloud", None), **more
        )

    def test_a_packed_mask_answers_as_the_mask(self):
        rng = np.random.default_rng(1)
        mask = rng.random((37, 53)) < 0.4
        packed = PackedMask.of(mask)
        x, y = rng.integers(-5, 60, 500), rng.integers(-5, 45, 500)
        there, inside = packed.at(x, y)
        want = (x >= 0) & (y >= 0) & (x < 53) & (y < 37)
        np.testing.assert_array_equal(there, want)
        np.testing.assert_array_equal(inside[want], mask[y[want], x[want]])
        self.assertFalse(inside[~want].any())

    def test_shares_inside_and_outside_the_masks_are_those_counted_one_by_one(self):
        b = ring(6, 60, 3)
        poses = b.poses.copy()
        poses[4] = np.nan  # not solved: its mask says nothing
        b = replace(b, poses=poses)
        rng = np.random.default_rng(2)
        masks = {i: rng.random((300, 400)) < 0.5 for i in (1, 2, 5)}
        m = self.member(b, masks)
        M = np.eye(4)
        M[:3, :3] = rotation_matrix(np.array([0.1, 0.2, -0.3]))
        M[:3, 3] = 0.05, -0.02, 0.1
        places = rng.uniform(-3, 6, (80, 3))
        seen, out = m.outside_share(places, M)
        inside, count = np.zeros(60), np.zeros(60)
        want_seen, want_out = np.zeros(80, int), np.zeros(80, int)
        for i in (1, 2):
            row = b.row_of(i)
            for k in b.in_photo(row):
                u, v = np.round(b.xy[k]).astype(int)
                count[b.point[k]] += 1
                inside[b.point[k]] += 0 <= u < 400 and 0 <= v < 300 and masks[i][v, u]
            for j, X in enumerate(transform(M, places)):
                Y = transform(b.poses[row], X[None])[0]
                if Y[2] <= 0:
                    continue
                u, v = np.round(LENS.project(Y[None, :2] / Y[2])[0])
                if 0 <= u < 400 and 0 <= v < 300:
                    want_seen[j] += 1
                    want_out[j] += not masks[i][int(v), int(u)]
        np.testing.assert_allclose(m.inside_share, inside / count)
        np.testing.assert_array_equal(seen, want_seen)
        np.testing.assert_array_equal(out, want_out)
        self.assertTrue(0 < want_out.sum() < want_seen.sum() < 160)
        # without masks nothing is known, and everything can be the object's
        bare = self.member(b)
        self.assertTrue(np.isnan(bare.inside_share).all())
        self.assertTrue(bare.on_object.all())
        self.assertEqual(bare.outside_share(places, M)[0].max(), 0)

    def test_surfaces_apart_are_told_with_the_worst_places(self):
        g = np.stack(np.meshgrid(np.arange(60), np.arange(60)), -1).reshape(-1, 2) * 0.01
        n = len(g)

        def cloud(height):
            arrays = {
                "points": np.c_[g, height].astype(np.float32), "normals": np.tile(np.float32([0, 0, 1]), (n, 1)),
                "colors": np.zeros((n, 3), np.uint8), "photos": np.full(n, 3, np.uint8),
                "score": np.ones(n, np.float32),
            }  # fmt: skip
            return self.blobs.put_arrays(**arrays), [], np.eye(4)

        b = ring()
        bump = np.where(np.hypot(g[:, 0] - 0.15, g[:, 1] - 0.4) < 0.12, 0.006, 0.0)
        first, second = self.member(b, cloud=cloud(0.002 + bump)), self.member(b, cloud=cloud(np.zeros(n)))
        M = np.eye(4)
        M[:3, 3] = 0.0, 0.0, -0.001
        f = compare_surfaces(first, second, M)
        self.assertEqual(f.overlap, 1.0)
        self.assertAlmostEqual(f.median, 0.001, delta=2e-4)
        self.assertEqual(len(f.worst), 5)
        middle, apart = np.array(f.worst[0][:3]), f.worst[0][-1]
        self.assertLess(np.hypot(*(middle[:2] - [0.15, 0.4])), 0.12)
        self.assertAlmostEqual(apart, 0.007, delta=1.5e-3)
        M[:3, 3] = 5.0, 0.0, 0.0
        self.assertEqual(compare_surfaces(first, second, M).overlap, 0.0)
        self.assertIsNone(compare_surfaces(first, self.member(b), M))


class Merged(unittest.TestCase):
    """Figures of a joined row are those of its members together."""

    def test_photos_count_together_and_places_apart(self):
        stage = BY_NAME["photos"]
        F = stage.Figures
        a = F(photos=3, readable=2, unreadable=[3], megapixels=6.0, camera="A", place={1: 0, 2: 1, 3: -1}, soft=[2],
              sharpness={1: 0.5, 2: 0.3})  # fmt: skip
        b = F(photos=2, readable=2, megapixels=4.0, camera="B", place={7: 0, 8: 0}, bare=[8], sizes=2,
              sharpness={7: 0.4})  # fmt: skip
        f = stage.merged([a, b])
        self.assertEqual((f.photos, f.readable, f.megapixels, f.cameras, f.sizes), (5, 4, 10.0, 2, 2))
        self.assertEqual(f.place, {1: 0, 2: 1, 3: -1, 7: 2, 8: 2})  # the first's second place is not the second's first
        self.assertEqual((f.unreadable, f.soft, f.bare), ([3], [2], [8]))
        self.assertEqual(f.sharpness, {1: 0.5, 2: 0.3, 7: 0.4})

    def test_masks_fill_what_they_fill_on_the_whole(self):
        stage = BY_NAME["masks"]
        F = stage.Figures
        a = F(photos=4, masks=3, share=0.2, method="files", sharpness={1: 0.5}, soft=[1])
        b = F(photos=2, masks=1, share=0.6, method="plate")
        f = stage.merged([a, b])
        self.assertEqual((f.photos, f.masks, f.method), (6, 4, "several"))
        self.assertAlmostEqual(f.share, 0.3)
        self.assertEqual((f.soft, f.sharpness), ([1], {1: 0.5}))
        none = stage.merged([F(photos=2), F(photos=3)])
        self.assertEqual((none.masks, none.share), (0, None))

    def test_lenses_of_the_same_name_and_values_are_one_group(self):
        stage = BY_NAME["lens"]
        F = stage.Figures
        group = {"name": "Body, 50 mm", "photos": [1, 2], "size": [400, 300], "card": "Mine", "use": "trusted",
                 "lens": LENS.as_dict()}  # fmt: skip
        other = {**group, "photos": [8], "use": "start"}
        a = F(photos=2, groups=[group], targets={1: (3, 0, 1)}, seen_numbers=[1, 2], numbers=2)
        b = F(
            photos=2, groups=[{**group, "photos": [7]}, other], targets={7: (2, 0, 0)}, seen_numbers=[2, 5], numbers=2
        )
        f = stage.merged([a, b])
        self.assertEqual([g.photos for g in f.groups], [[1, 2, 7], [8]])
        self.assertEqual((f.photos, f.numbers, f.seen_numbers), (4, 3, [1, 2, 5]))
        self.assertEqual(f.targets, {1: (3, 0, 1), 7: (2, 0, 0)})
        # of a version that did not keep the numbers, the larger count is what is known
        self.assertEqual(stage.merged([a, F(photos=1, numbers=9)]).numbers, 9)


if __name__ == "__main__":
    unittest.main()
