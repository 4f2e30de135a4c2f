"""The verdict on the join of two sittings, made up of places whose truth is known."""

import unittest
from dataclasses import replace

import numpy as np

from tests.test_agreeing import lumpy, moved
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import look_at, pose
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.geometry.similarity import difference, scale_of
from umbrate.core.poses.block import FEATURE, TARGET, Block
from umbrate.job.joins import ON_OBJECT, ON_SUPPORT
from umbrate.stages.join.joining import join_pair
from umbrate.stages.join.members import Member
from umbrate.stages.join.methods import DOUBTFUL, GOOD, NONE, PICKS, SHAPE, SURFACE, TARGETS

OBJECT, SUPPORT = np.arange(208, 220), np.arange(160, 168)
TRUE = pose(rotation_matrix(np.radians([130.0, 20.0, -10.0])), np.array([12.0, -7.0, 30.0]))


class MadeUp:
    """An object and what two sittings of it have: `a` as it stood, `b` turned over by `TRUE`."""

    def __init__(self, seed=0, features=400, scale=1.0, noise=0.01):
        rng = self.rng = np.random.default_rng(seed)
        self.scale, self.noise = scale, noise
        self.M = TRUE.copy()
        self.M[:3] *= scale
        self.places, _ = lumpy(rng, features + len(OBJECT))
        self.mat = np.column_stack([rng.uniform(-45, 45, (len(SUPPORT), 2)), np.full(len(SUPPORT), -25.0)])
        looks = rng.normal(size=(features, 128)).astype(np.float32)
        self.looks = [looks / np.linalg.norm(looks, axis=1, keepdims=True)] * 2
        self.dense = lumpy(rng, 6000)
        self.there = [self.places.copy(), moved(self.places, self.M)]
        self.mats = [self.mat, self.mat * scale]  # the support stays where it is

    def member(self, k, *, masks=True, scaled=True, cloud=False, targets=True):
        """One of the two as a Member; the features come first, then the object's targets, then the support's."""
        n, extra = len(self.looks[k]), len(OBJECT) + len(SUPPORT)
        points = np.concatenate([self.there[k], self.mats[k]])
        points = points + self.rng.normal(0, self.noise * (self.scale if k else 1.0), points.shape)
        kind = np.repeat([FEATURE, TARGET], [n, extra])
        label = np.concatenate([np.zeros(n, int), OBJECT, SUPPORT])
        keep = np.ones(len(points), bool)
        if not targets:
            keep[n:] = False
        eyes = [60 * np.array([np.cos(x), np.sin(x), 0.7]) * (self.scale if k else 1.0) for x in range(4)]
        block = Block.without_sightings(
            np.array([look_at(e, np.zeros(3)) for e in eyes]), np.array([[1500.0] + [0.0] * 9]), np.zeros(4, int),
            points[keep], kind=kind[keep], label=label[keep], point_sigma=np.full(keep.sum(), self.noise),
        )  # fmt: skip
        size = np.linalg.norm(np.ptp(self.there[k], axis=0))
        m = Member(
            "", k, "ab"[k], block, scaled, float(size), np.eye(4), features={0: "x"},
            cloud=("x", [], np.eye(4)) if cloud else None,
        )  # fmt: skip
        share = np.where(label >= OBJECT[0], 1.0, np.where(label >= SUPPORT[0], 0.0, np.nan))[keep]
        points, normals = self.dense
        if k:
            points, normals = moved(points, self.M), normals @ TRUE[:3, :3].T
        m.__dict__.update(
            inside_share=share if masks else np.full(keep.sum(), np.nan),
            descriptors=np.concatenate([self.looks[k], np.zeros((keep.sum() - n, 128), np.float32)]),
            surface=(points.astype(np.float32), normals.astype(np.float32), cloud),
        )
        return m

    def both(self, **more):
        return self.member(0, **more), self.member(1, **more)


class Judging(unittest.TestCase):
    def check(self, found, made, verdict=GOOD, turn_deg=0.15, shift=0.05):
        """That a join has a verdict, and is the true one."""
        self.assertEqual(found.verdict, verdict, found.reasons)
        turn, off, _ = difference(found.M, made.M, made.places.mean(0))
        self.assertLess(turn, turn_deg)
        self.assertLess(off, shift * made.scale)

    def says(self, found, words):
        self.assertTrue(any(words in x for x in found.reasons), found.reasons)


class Verdicts(Judging):
    def test_targets_of_the_object_join_and_those_of_the_support_are_found_out(self):
        for masks in (True, False):  # inside them, or by how flat and wide the support lies
            made = MadeUp(1)
            found = join_pair(*made.both(masks=masks), [TARGETS])
            self.check(found, made)
            self.assertEqual((found.support, found.on_object), (SUPPORT.tolist(), OBJECT.tolist()))
            self.assertEqual(found.evidence.agreeing(TARGETS), len(OBJECT))

    def test_what_is_said_of_targets_counts_more_than_what_the_masks_say(self):
        roles = {**dict.fromkeys(OBJECT.tolist(), ON_SUPPORT), **dict.fromkeys(SUPPORT.tolist(), ON_OBJECT)}
        found = join_pair(*MadeUp(2).both(), [TARGETS], roles=roles)
        np.testing.assert_allclose(found.M, np.eye(4), atol=0.05)
        self.assertEqual((found.support, found.on_object), (OBJECT.tolist(), SUPPORT.tolist()))

    def test_the_surface_joins_by_what_it_looks_like_and_few_pairs_are_doubtful(self):
        made = MadeUp(3)
        self.check(join_pair(*made.both(targets=False), [SURFACE]), made)
        few = MadeUp(3)
        few.looks = [x.copy() for x in few.looks]
        few.looks[1][12:] = np.roll(few.looks[1][12:], 77, axis=1)  # all the others look otherwise
        found = join_pair(*few.both(targets=False), [SURFACE])
        self.check(found, few, DOUBTFUL)
        self.says(found, "only 12 pairs by surface agree: nothing checks them")

    def test_where_nothing_is_shared_there_is_no_join_and_why(self):
        made = MadeUp(4)
        made.looks = [made.looks[0], np.roll(made.looks[1], 50, axis=1)]
        made.there[1][-len(OBJECT) :] = made.rng.normal(0, 30, (len(OBJECT), 3))
        found = join_pair(*made.both(), [TARGETS, SURFACE])
        self.assertEqual((found.verdict, found.M), (NONE, None))
        self.says(found, "tie point")
        self.says(found, "targets")

    def test_methods_that_contradict_each_other_make_it_doubtful(self):
        made = MadeUp(5)
        wrong = pose(rotation_matrix(np.radians([0, 0, 6.0])), np.zeros(3)) @ made.M
        made.there[1][-len(OBJECT) :] = moved(made.places[-len(OBJECT) :], wrong)
        found = join_pair(*made.both(), [TARGETS, SURFACE])
        self.assertEqual(found.verdict, DOUBTFUL)
        self.says(found, "the methods contradict each other by 6.0 degrees")
        self.assertAlmostEqual(found.evidence.between.turn_deg, 6.0, delta=0.2)

    def test_an_object_that_looks_alike_from_two_sides_is_doubtful(self):
        made = MadeUp(6)
        n = len(made.looks[0])
        quarter = pose(rotation_matrix(np.radians([0, 0, 90.0])), np.zeros(3))
        rows = made.rng.permutation(n)[: 9 * n // 20]
        made.there[1][rows] = moved(made.places[rows], made.M @ quarter)
        found = join_pair(*made.both(targets=False), [SURFACE])
        self.check(found, made, DOUBTFUL)
        self.says(found, "another answer, 90 degrees from it, fits nearly as many pairs by surface")

    def test_two_scales_that_contradict_each_other_are_told_with_the_sign(self):
        for scale, told in ((1.01, "+"), (0.99, "-"), (1.0, None)):
            made = MadeUp(7, scale=scale)
            found = join_pair(*made.both(), [TARGETS, SURFACE])
            if told is None:
                self.check(found, made)
                self.assertLess(abs(found.contradiction), 1e-3)
            else:
                self.assertEqual(found.verdict, DOUBTFUL)
                self.says(found, f"the two scales contradict each other by {told}")
                self.assertAlmostEqual(found.contradiction, scale - 1, delta=1e-3)

    def test_a_sitting_without_scale_takes_that_of_the_other(self):
        made = MadeUp(8, scale=0.02)
        a, b = made.both()
        found = join_pair(a, replace_scaled(b), [TARGETS, SURFACE])
        self.check(found, made)
        self.assertAlmostEqual(scale_of(found.M) / 0.02, 1.0, delta=1e-3)
        self.assertIn("“b” has no scale: it takes that of “a”", found.notes)
        with self.assertRaisesRegex(UmbrateError, "“b” has no scale"):
            join_pair(a, replace_scaled(b), [TARGETS], with_scale=False)


def replace_scaled(member):
    """A Member without a scale, with what was read for it."""
    out = replace(member, scaled=False)
    out.__dict__.update({k: member.__dict__[k] for k in ("inside_share", "descriptors", "surface")})
    return out


class Picks(Judging):
    def picks(self, made, count=6, off=0.0, seed=0):
        """Picks of places far apart, each off by so much."""
        rng = np.random.default_rng(seed)
        rows = [0]
        while len(rows) < count:
            away = np.min([np.linalg.norm(made.places - made.places[r], axis=1) for r in rows], axis=0)
            rows.append(int(np.argmax(away)))
        X = made.places[rows]
        return [
            ("ABCDEFGH"[k], x, moved(x[None], made.M)[0] + rng.normal(0, off, 3) if off else moved(x[None], made.M)[0])
            for k, x in enumerate(X)
        ]

    def test_picks_join_where_the_surface_agrees_and_the_shape_refines_them(self):
        made = MadeUp(9)
        picks = self.picks(made, off=0.15)
        rough = join_pair(*made.both(cloud=True), [PICKS], picks=picks)
        fine = join_pair(*made.both(cloud=True), [PICKS, SHAPE], picks=picks)
        self.assertEqual((rough.verdict, fine.verdict), (GOOD, GOOD), (rough.reasons, fine.reasons))
        middle = made.places.mean(0)
        off = [difference(x.M, made.M, middle)[0] for x in (rough, fine)]
        self.assertLess(off[1], 0.15)
        self.assertLess(off[1], off[0])
        self.assertGreater(fine.evidence.alike, 100)
        self.assertEqual([n for n, _ in fine.picks], [n for n, _, _ in picks])

    def test_picks_that_are_wrong_all_together_are_doubted(self):
        made = MadeUp(10)
        wrong = pose(rotation_matrix(np.radians([0, 0, 90.0])), np.zeros(3))
        picks = [(n, p, moved(moved(p[None], wrong), made.M)[0]) for n, p, _ in self.picks(made)]
        found = join_pair(*made.both(), [PICKS], picks=picks)
        self.assertEqual(found.verdict, DOUBTFUL)
        self.says(found, "of the surface look alike where the picks say they are one")

    def test_what_is_wrong_with_picks_is_told(self):
        made = MadeUp(11)
        p = self.picks(made)
        mirror = [(n, x, y * [1, 1, -1]) for n, x, y in p]
        swapped = [(p[0][0], p[0][1], p[1][2]), (p[1][0], p[1][1], p[0][2]), *p[2:]]
        line = [("ABCDEFGH"[k], np.array([k, 2.0 * k, 0]), np.array([k, 0, 2.0 * k])) for k in range(5)]
        for picks, words in (
            (mirror, "the picks fit a mirror image"), (swapped, "picks A and B are paired crosswise"),
            (line, "nearly in a line"), (p[:2], "2 picks of three"), (p[:1], "1 pick of three"),
            ([], "no pick of three"),
        ):  # fmt: skip
            found = join_pair(*made.both(), [PICKS], picks=picks)
            self.assertEqual(found.verdict, NONE)
            self.says(found, words)
            self.assertEqual(found.picks, [(n, None) for n, _, _ in picks])
        far = [*p[:3], (p[3][0], p[3][1], p[3][2] + [0, 0, 6.0]), *p[4:]]
        found = join_pair(*made.both(), [PICKS], picks=far)
        self.check(found, made, DOUBTFUL)
        self.says(found, "pick D did not fit and was left out")
        self.assertAlmostEqual(dict(found.picks)["D"], 6.0, delta=0.2)


class Shapes(Judging):
    def test_a_ball_could_slide_along_itself_and_is_not_fitted(self):
        made = MadeUp(12)
        d = made.rng.normal(size=(6000, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        made.dense = (20 * d, d)
        found = join_pair(*made.both(cloud=True), [TARGETS, SHAPE])
        self.check(found, made)
        self.assertTrue(any("could slide along itself" in x for x in found.notes), found.notes)

    def test_without_surface_the_shape_says_what_to_run(self):
        made = MadeUp(13)
        made.dense = tuple(x[:50] for x in made.dense)
        found = join_pair(*made.both(cloud=True), [TARGETS, SHAPE])
        self.check(found, made, DOUBTFUL)
        self.says(found, "too little surface to fit by shape: run Cloud")

    def test_clouds_that_lie_apart_where_they_overlap_make_it_doubtful(self):
        made = MadeUp(14)
        a, b = made.both(cloud=True)
        self.check(join_pair(a, b, [TARGETS]), made)
        P, N, dense = b.__dict__["surface"]
        b.__dict__["surface"] = (P + 0.015 * b.extent * N, N, dense)
        found = join_pair(a, b, [TARGETS])
        self.check(found, made, DOUBTFUL)
        self.says(found, "apart where they overlap")
        worst = found.evidence.surfaces.worst
        self.assertTrue(worst and all(0.01 < x[-1] / b.extent < 0.02 for x in worst), worst)


if __name__ == "__main__":
    unittest.main()
