"""The block: its rows, what it becomes when it is moved or cut, and how a job keeps it."""

import pickle
import unittest
from dataclasses import replace

import numpy as np

from umbrate.core.geometry.pose import center, look_at
from umbrate.core.geometry.similarity import move_pose
from umbrate.core.poses.block import FEATURE, MARK, TARGET, Block
from umbrate.core.poses.lensprior import LensPrior


def made_up(seed):
    """A Block of random poses, points and sightings, some photos without a pose, targets and marks among the points."""
    rng = np.random.default_rng(seed)
    n, m, p = rng.integers(3, 9), rng.integers(1, 3), rng.integers(4, 30)
    solved = rng.random(n) < 0.7
    solved[:2] = True
    poses = np.array([look_at(rng.normal(size=3) + [0, -5, 2], rng.normal(size=3)) for _ in range(n)])
    poses[~solved] = np.nan
    seen = (rng.random((p, n)) < 0.5) & solved
    seen[:, :2] = True
    point, photo = np.nonzero(seen)
    k = len(point)
    kind = rng.choice([FEATURE, TARGET, MARK], p)
    return Block(
        poses, rng.random((m, 10)), rng.integers(0, m, n), rng.normal(size=(p, 3)), photo, rng.integers(0, 999, k),
        point, rng.normal(size=(k, 2)).astype(np.float32), rng.normal(size=(k, 2)).astype(np.float32),
        rng.random(k).astype(np.float32), free_lens=(0, 3), trusted=(0,),
        prior=LensPrior.of_sigmas(rng.random((m, 10)), rng.random((m, 10))),
        order=tuple(rng.permutation(np.flatnonzero(solved)).tolist()), photo_ids=100 + rng.permutation(n),
        sizes=rng.integers(100, 900, (n, 2)), colors=rng.integers(0, 255, (p, 3)), kind=kind,
        label=np.where(kind == FEATURE, 0, rng.permutation(p)), point_sigma=rng.random(p).astype(np.float32),
        pose_sigma=np.where(solved[:, None], rng.random((n, 2)), np.nan), first_lenses=rng.random((m, 10)),
    )  # fmt: skip


def same(case, a, b, but=()):
    """That two blocks are the same, field by field."""
    for name in vars(Block)["__dataclass_fields__"]:
        if name not in but:
            x, y = getattr(a, name), getattr(b, name)
            if name == "prior" and x is not None:
                np.testing.assert_array_equal(x.mean, y.mean)
                np.testing.assert_array_equal(x.information, y.information)
            else:
                (case.assertEqual if isinstance(x, tuple | None) else np.testing.assert_array_equal)(x, y)


class Blocks(unittest.TestCase):
    def test_rows_are_found_by_photo_by_point_by_number_and_by_mark(self):
        for seed in range(20):
            b = made_up(seed)
            for k, pid in enumerate(b.photo_ids):
                self.assertEqual(b.row_of(pid), k)
                self.assertEqual(b.solved_row(pid), k if b.solved[k] else None)
                self.assertEqual(b.in_photo(k).tolist(), [r for r in range(len(b.photo)) if b.photo[r] == k])
                if b.solved[k]:
                    np.testing.assert_allclose(b.eyes[k], center(b.poses[k]), atol=1e-12)
            self.assertIsNone(b.row_of(5))
            for p in range(len(b.points)):
                some = np.arange(len(b.point))[b.of_point(p)]
                self.assertEqual(some.tolist(), [r for r in range(len(b.point)) if b.point[r] == p])
                self.assertEqual(b.photos_of[p], len(some))
            for kind, rows in ((TARGET, b.targets), (MARK, b.marks)):
                self.assertEqual(
                    {(int(b.label[p]), p) for p in range(len(b.points)) if b.kind[p] == kind}, {*rows.items()}
                )
            self.assertEqual(list(b.targets), sorted(b.targets))

    def test_a_job_keeps_all_of_it(self):
        for seed in range(20):
            b = made_up(seed)
            same(self, Block.from_arrays(b.arrays()), b)
            same(self, pickle.loads(pickle.dumps(b)), b)
            self.assertEqual({k: v.dtype for k, v in b.arrays().items() if k in ("xy", "residual", "sigma")},
                             dict.fromkeys(("xy", "residual", "sigma"), np.float32))  # fmt: skip
        # a click of the hand is finer than single precision holds of a large picture
        fine = replace(b, xy=b.xy + 4000 + 1e-6)
        np.testing.assert_array_equal(Block.from_arrays(fine.arrays()).xy, fine.xy)
        bare = Block(b.poses, b.lenses, b.lens_of, b.points, b.photo, b.feature, b.point, b.xy, b.residual, b.sigma)
        got = Block.from_arrays(bare.arrays())
        self.assertIsNone(got.prior)
        self.assertEqual(
            (got.marks, got.targets, got.order, got.photo_ids.tolist()), ({}, {}, (), [*range(len(b.poses))])
        )

    def test_blocks_of_the_first_versions_are_read(self):
        a = made_up(3).arrays()
        for name in (
            "mark",
            "free",
            "trusted",
            "prior_mean",
            "prior_information",
            "order",
            "pose_sigma",
            "first_lenses",
        ):
            del a[name]
        b = Block.from_arrays(a)
        self.assertEqual((b.free_lens, b.trusted, b.prior, b.marks, b.pose_sigma), (None, (), None, {}, None))

    def test_what_is_no_block_is_refused(self):
        good = made_up(1).arrays()
        for name, wrong in (
            ("poses", np.zeros((3, 4))), ("points", np.zeros((1, 3))), ("lens_of", np.zeros(1)),
            ("xy", np.zeros((2, 2))), ("photo", np.zeros((2, 2))), ("colors", np.zeros((1, 4))), ("sigma", np.zeros(0)),
        ):  # fmt: skip
            with self.assertRaises(ValueError, msg=name):
                Block.from_arrays({**good, name: wrong})
        for name, far in (("photo", len(good["poses"])), ("point", len(good["points"])), ("lens_of", -1)):
            with self.assertRaises(ValueError, msg=name):  # kernels look up by these without asking
                Block.from_arrays({**good, name: np.append(good[name][:-1], far)})
        with self.assertRaises(KeyError):
            Block.from_arrays({k: v for k, v in good.items() if k != "lenses"})

    def test_moving_moves_all_that_has_a_place_or_a_size(self):
        M = np.eye(4)
        M[:3, :3] = 2.5 * np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]])
        M[:3, 3] = 1.0, -2.0, 3.0
        b = made_up(7)
        c = b.moved(M)
        np.testing.assert_allclose(c.points, b.points @ M[:3, :3].T + M[:3, 3])
        for k in np.flatnonzero(b.solved):
            np.testing.assert_allclose(c.poses[k], move_pose(b.poses[k], M))
            np.testing.assert_allclose(c.eyes[k], M[:3, :3] @ b.eyes[k] + M[:3, 3], atol=1e-12)
        np.testing.assert_allclose(c.point_sigma, 2.5 * b.point_sigma)
        np.testing.assert_allclose(c.pose_sigma, b.pose_sigma * [1.0, 2.5])
        same(self, b, c, ("points", "poses", "point_sigma", "pose_sigma"))
        self.assertIs(b.moved(np.eye(4)), b)

    def test_parts_keep_what_belongs_together(self):
        for seed in range(20):
            b, rng = made_up(seed), np.random.default_rng(seed)
            keep = rng.random(len(b.points)) < 0.6
            c = b.keeping(keep)
            of = np.flatnonzero(keep)
            told = lambda x, name: [(name[i], *s) for i, s in zip(x.point, x.xy.tolist(), strict=True)]  # noqa: E731
            self.assertEqual(told(c, of), [s for s in told(b, range(len(keep))) if keep[s[0]]])
            np.testing.assert_array_equal(c.label, b.label[keep])
            s = b.of_solved()
            ids = lambda x: [(x.photo_ids[i], *q) for i, q in zip(x.photo, x.xy.tolist(), strict=True)]  # noqa: E731
            self.assertEqual(ids(s), ids(b))
            self.assertEqual(s.solved_rows.keys(), b.solved_rows.keys())
            self.assertEqual([s.photo_ids[i] for i in s.order], [b.photo_ids[i] for i in b.order])
            for i, k in s.solved_rows.items():
                self.assertEqual(s.lens(k), b.lens(b.row_of(i)))


if __name__ == "__main__":
    unittest.main()
