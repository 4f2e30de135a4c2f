"""Solving whole sittings from made-up sightings with known truth: what must not fool it, and what it must say."""

import unittest
from dataclasses import replace

import numpy as np

from tests.test_grow import LENS, made_up_block, photo_set
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at, transform
from umbrate.core.geometry.rotation import rotation_angle, rotation_matrix
from umbrate.core.geometry.similarity import compare_poses
from umbrate.core.poses.choose import ALL, LIKENESS, NEAR, ORDER, choose_pairs, largest, likeness_to, nearness
from umbrate.core.poses.fragments import solve
from umbrate.core.poses.loops import false_bridges
from umbrate.core.poses.pairs import relate
from umbrate.core.poses.sift import measure, ray_angles, shared_points
from umbrate.core.poses.solution import FRAGMENT, PLANE, SCENE, TURN, TURNED, GrowSettings
from umbrate.core.poses.turntable import find_turntable


def seen_by(poses, X, rng, noise_px=0.3, faces=None):
    """Pixels of all points in all photos: list of (n, 2), and the points' rows in each; those in front and inside."""
    xy, ids = [], []
    for E in poses:
        Y = transform(E, X)
        uv = LENS.project(Y[:, :2] / Y[:, 2:]) + rng.normal(size=(len(X), 2)) * noise_px
        ok = (Y[:, 2] > 0) & (uv >= 0).all(1) & (uv < [LENS.width, LENS.height]).all(1)
        if faces is not None:
            to = center(E) - X
            ok &= (faces * to).sum(1) > 0.3 * np.linalg.norm(to, axis=1)
        rows = rng.permutation(np.flatnonzero(ok))
        xy.append(uv[rows])
        ids.append(rows)
    return xy, ids


def shared(ids, least=30):
    """Matches of all pairs of photos that see the same points."""
    out = {}
    for i in range(len(ids)):
        for j in range(i + 1, len(ids)):
            _, a, b = np.intersect1d(ids[i], ids[j], return_indices=True)
            if len(a) >= least:
                out[i, j] = np.stack([a, b], 1)
    return out


def solved(xy, matches, f=2050.0, resume=None, sigma=None, **settings):
    """A Solution from matches, related with whatever lens the solve believes in."""

    def with_lens(lenses):
        found = {(i, j): relate(m, xy[i], lenses[0], xy[j], lenses[0], seed=7 * i + j) for (i, j), m in matches.items()}
        return {p: g for p, g in found.items() if g is not None}

    lens = Lens.guess(LENS.width, LENS.height, f)
    return solve(photo_set(xy, lens, sigma=sigma), with_lens, settings=GrowSettings(**settings), resume=resume)


def ring(n, radius=5.0, height=2.0, turned=3):
    """Poses all round; every `turned`-th with the camera upright, which tells the principal point from a tilt."""
    poses = []
    for k, a in enumerate(np.linspace(0, 2 * np.pi, n, endpoint=False)):
        E = look_at([radius * np.sin(a), -radius * np.cos(a), height], np.zeros(3))
        if k % turned == 0:
            E[:3] = rotation_matrix(np.array([0, 0, np.pi / 2])) @ E[:3]
        poses.append(E)
    return np.array(poses)


def errors(block, truth):
    """Rotation errors in degrees and center errors as a share of the distance, of the solved photos."""
    on = block.solved
    _, rotation, shift = compare_poses(list(block.poses[on]), list(np.asarray(truth)[on]))
    return rotation, shift / 5.0


class BadInput(unittest.TestCase):
    def test_a_camera_that_only_turned_starts_no_block(self):
        rng = np.random.default_rng(1)
        X = rng.uniform(-2, 2, (900, 3)) + [0, 0, 6]
        poses = np.tile(np.eye(4), (7, 1, 1))
        for k in range(7):
            poses[k, :3, :3] = rotation_matrix(np.array([0.02 * k, 0.05 * (k - 3), 0.1 * k]))
        xy, ids = seen_by(poses, X, rng)
        out = solved(xy, shared(ids))
        self.assertTrue(all(g.kind == TURN for g in out.pairs.values()))
        self.assertFalse(out.block.solved.any())
        self.assertEqual({r.kind for r in out.reasons.values()}, {TURNED})

    def test_where_nothing_moves_nothing_is_solved(self):
        rng = np.random.default_rng(2)
        still = rng.uniform(0, 1200, (400, 2))
        xy = [still + rng.normal(size=still.shape) * 0.3 for _ in range(6)]
        out = solved(xy, shared([np.arange(400)] * 6))
        self.assertFalse(out.block.solved.any())

    def test_a_plane_is_solved_or_refused_but_never_bent(self):
        rng = np.random.default_rng(3)
        X = np.c_[rng.uniform(-1.5, 1.5, (700, 2)), np.zeros(700)]
        xy, ids = seen_by(ring(10, height=4.0), X, rng)
        out = solved(xy, shared(ids))
        self.assertTrue(any(g.kind == PLANE for g in out.pairs.values()))
        if out.block.solved.sum() >= 3:
            rotation, shift = errors(out.block, ring(10, height=4.0))
            self.assertLess(rotation.max(), 1.0)
            self.assertLess(shift.max(), 0.02)

    def test_two_objects_become_a_block_and_a_fragment(self):
        a = made_up_block(np.random.default_rng(1), loner=False)
        b = made_up_block(np.random.default_rng(2), 8, 600, loner=False)
        pairs = {**a[1], **{(i + 14, j + 14): g for (i, j), g in b[1].items()}}
        xy = a[0] + b[0]
        out = solve(photo_set(xy), lambda _: pairs)
        self.assertEqual(out.block.solved.tolist(), [True] * 14 + [False] * 8)
        (fragment,) = out.fragments
        self.assertEqual(fragment.solved.tolist(), [False] * 14 + [True] * 8)
        _, shift = errors(fragment, [*a[2], *b[2]])
        self.assertLess(shift.max(), 0.01)
        self.assertEqual({r.kind for r in out.reasons.values()}, {FRAGMENT})

    def test_mirrored_photos_stay_out_of_a_block_of_others(self):
        rng = np.random.default_rng(4)
        X = rng.normal(size=(800, 3))
        X /= np.linalg.norm(X, axis=1, keepdims=True)
        truth = ring(14)
        xy, ids = seen_by(truth, X, rng, faces=X)
        for k in (4, 9, 11):
            xy[k][:, 0] = LENS.width - 1 - xy[k][:, 0]
        out = solved(xy, shared(ids))
        self.assertEqual(np.flatnonzero(~out.block.solved).tolist(), [4, 9, 11])
        self.assertLess(errors(out.block, truth)[1].max(), 0.01)

    def test_half_and_double_the_focal_length_in_the_files_are_found_out(self):
        xy, pairs, truth = made_up_block(np.random.default_rng(1))
        matches = {p: g.matches for p, g in pairs.items()}
        for factor in (0.5, 2.0):
            out = solved(xy, matches, LENS.f * factor)
            self.assertEqual(out.block.solved.sum(), 14)
            self.assertAlmostEqual(out.block.lenses[0, 0] / LENS.f, 1.0, delta=0.01)
            self.assertAlmostEqual(out.wrong_focal[0], LENS.f * factor)
            self.assertLess(errors(out.block, truth + [np.eye(4)])[1].max(), 0.01)
        self.assertEqual(solved(xy, matches, LENS.f * 1.01).wrong_focal, {})

    def test_an_object_that_looks_alike_from_four_sides_does_not_fold(self):
        rng = np.random.default_rng(5)
        quarter = rotation_matrix(np.array([0, 0, np.pi / 2]))
        # a quarter of the handles and its three copies, and a grain of which nothing is alike
        one = rng.normal(size=(130, 3))
        one /= np.linalg.norm(one, axis=1, keepdims=True)
        handles = np.concatenate([one @ np.linalg.matrix_power(quarter, k).T for k in range(4)])
        grain = rng.normal(size=(900, 3))
        grain /= np.linalg.norm(grain, axis=1, keepdims=True)
        X = np.concatenate([handles, grain])
        truth = ring(24, turned=5)
        xy, ids = seen_by(truth, X, rng, faces=X)
        matches = {}
        for i in range(24):
            for j in range(i + 1, 24):
                # by looks alone, a handle is taken for the copy that stands where it stood
                best = max(range(4), key=lambda k: len(np.intersect1d(self._as(ids[i], k), ids[j])))
                near = len(np.intersect1d(ids[i], ids[j]))
                a = self._as(ids[i], best)
                if best:
                    a = np.where(a < 520, a, -1)  # the grain is not alike
                _, p, q = np.intersect1d(a, ids[j], return_indices=True)
                ok = a[p] >= 0
                if ok.sum() >= 30 and (best or near):
                    matches[i, j] = np.stack([p[ok], q[ok]], 1)
        out = solved(xy, matches)
        self.assertGreater(len(out.bridges), 60)
        rotation, shift = errors(out.block, truth)
        self.assertEqual(out.block.solved.sum(), 24)
        self.assertLess(rotation.max(), 0.5)
        self.assertLess(shift.max(), 0.01)

    @staticmethod
    def _as(rows, k):
        """Rows of points as those of handles turned by k quarters; the grain stays."""
        return np.where(rows < 520, (rows + 130 * k) % 520, rows)

    def test_going_on_keeps_what_stands_and_adds_what_is_new(self):
        xy, pairs, truth = made_up_block(np.random.default_rng(6), loner=False)
        matches = {p: g.matches for p, g in pairs.items()}
        some = {p: m for p, m in matches.items() if 13 not in p and 12 not in p}
        first = solved(xy, some).block
        self.assertEqual(first.solved.sum(), 12)
        told = []
        poses = first.poses.copy()
        poses[3] = np.nan  # set aside since
        on = {p: m for p, m in matches.items() if 3 not in p}
        out = solved(
            xy, on, resume=(poses, first.lenses), report=lambda solved, *_: told.append(solved)
        ).block  # fmt: skip
        self.assertEqual(np.flatnonzero(~out.solved).tolist(), [3])
        self.assertGreaterEqual(min(told), 12)  # never began anew
        self.assertLess(errors(out, truth)[1].max(), 0.01)

    def test_parameters_that_are_not_significant_go_back(self):
        xy, pairs, truth = made_up_block(np.random.default_rng(7), noise_px=0.8, loner=False)
        out = solved(xy, {p: g.matches for p, g in pairs.items()}, significant=True).block
        self.assertEqual(out.lenses[0, 5], 0.0)  # k3 is truly 0, and so it is again
        self.assertGreater(abs(out.lenses[0, 3]), 0.03)  # k1 is not
        self.assertLess(errors(out, truth)[1].max(), 0.02)


class Loops(unittest.TestCase):
    def test_planted_false_pairs_are_found_and_no_true_one(self):
        for seed in range(6):
            rng = np.random.default_rng(seed)
            n = 20
            R = np.array([rotation_matrix(rng.normal(size=3)) for _ in range(n)])
            pairs, relative, weight, false = [], [], [], []
            for i in range(n):
                for j in range(i + 1, n):
                    if rng.random() < 0.6:
                        wrong = rng.random() < 0.15
                        M = rotation_matrix(rng.normal(size=3) * 0.02) @ R[j] @ R[i].T
                        if wrong:
                            axis = rng.normal(size=3)
                            M = rotation_matrix(axis / np.linalg.norm(axis) * rng.uniform(1.0, 3.0)) @ M
                        pairs.append((i, j))
                        relative.append(M)
                        # a false pair may be among the strongest
                        weight.append(rng.uniform(50, 500))
                        false.append(wrong)
            wrong, turns = false_bridges(n, pairs, relative, weight)
            self.assertEqual(wrong.tolist(), false)
            # world to camera, up to one turn of the world
            off = [rotation_angle(T @ turns[0].T @ R[0] @ Q.T) for T, Q in zip(turns, R, strict=True)]
            self.assertLess(np.degrees(max(off)), 15)


class Choosing(unittest.TestCase):
    def test_every_way_keeps_a_ring_in_one_piece_and_closed(self):
        n = 90
        poses = ring(n)
        angle = np.abs(np.subtract.outer(np.arange(n), np.arange(n)))
        apart = np.minimum(angle, n - angle)
        like = np.maximum(0, 40 - 5 * apart) * (apart > 0)
        everything = choose_pairs(ALL, n, 0)
        self.assertEqual(len(everything), n * (n - 1) // 2)
        for how in (LIKENESS, ORDER, NEAR):
            pairs = choose_pairs(how, n, 8, like, nearness(poses))
            self.assertEqual(pairs, sorted(set(pairs)))
            self.assertTrue({(k, k + 1) for k in range(n - 1)} <= set(pairs))
            self.assertIn((0, n - 1), pairs)
            self.assertLess(len(pairs), 9 * n)
            self.assertLess(max(apart[i, j] for i, j in pairs), 12)
        # a photo without a pose finds partners by likeness
        unknown = poses.copy()
        unknown[40] = np.nan
        self.assertGreaterEqual(sum(40 in p for p in choose_pairs(NEAR, n, 8, like, nearness(unknown))), 8)

    def test_likeness_counts_what_moved_with_the_object(self):
        rng = np.random.default_rng(8)
        d = rng.integers(0, 255, (300, 128)).astype(np.uint8)
        xy = rng.uniform(0, 1600, (300, 2))
        tops = [largest(rng.uniform(1, 9, 300), d, xy + 40 * (k == 1), 300) for k in range(3)]
        counts = likeness_to(tops, [1600] * 3, 0)
        self.assertEqual(counts.tolist(), [0, 300, 0])  # the third shows all of it, at the same pixels


class Turning(unittest.TestCase):
    def test_axis_steps_and_a_bump_are_found_and_none_by_hand(self):
        rng = np.random.default_rng(9)
        tilt = rotation_matrix(np.array([0.3, -0.2, 0.1]))
        turns = np.degrees(np.cumsum(np.full(14, 2 * np.pi / 14)))
        turns[9:] += 12.0  # the table was pushed on
        poses = []
        for height, first in ((1.5, 0.0), (3.5, 12.0)):
            at = look_at([0, -5, height], np.zeros(3))
            for k, t in enumerate(turns):
                E = at.copy()
                E[:3, :3] = E[:3, :3] @ rotation_matrix(np.array([0, 0, np.radians(t + first)]))
                if height < 2 and k == 4:  # somebody touched the camera
                    E[:3, :3] = rotation_matrix(np.array([0.0, 0.02, 0.0])) @ E[:3, :3]
                E[:3, :3] = rotation_matrix(rng.normal(size=3) * 1e-4) @ E[:3, :3] @ tilt
                poses.append(E)
        poses.append(np.full((4, 4), np.nan))
        found = find_turntable(np.array(poses))
        np.testing.assert_allclose(np.abs(found.direction), np.abs(tilt.T @ [0, 0, 1]), atol=5e-3)
        self.assertEqual([len(r.photos) for r in found.rings], [14, 14])
        for r in found.rings:
            self.assertAlmostEqual(r.step_deg, 360 / 14, delta=0.2)
            self.assertAlmostEqual(r.radius, 5.0, delta=0.02)
        self.assertEqual({i for i, _ in found.slips}, {4, 9, 23})
        # a photo that is not placed is no slip of the table, whichever it is; a push behind it is one still
        for out in (2, 6, 8, 20):
            some = np.array(poses)
            some[out] = np.nan
            self.assertEqual({i for i, _ in find_turntable(some).slips}, {4, 9, 23}, out)
        walk = [look_at([5 * np.sin(a), -5 * np.cos(a), 2 + rng.normal() * 0.5], rng.normal(size=3) * 0.3)
                for a in np.linspace(0, 6, 20)]  # fmt: skip
        self.assertIsNone(find_turntable(np.array(walk)))


class Sifting(unittest.TestCase):
    def test_measures_agree_with_their_definitions(self):
        rng = np.random.default_rng(10)
        xy, pairs, _ = made_up_block(rng, 8, 300, loner=False)
        made = solved(xy, {p: g.matches for p, g in pairs.items()}).block
        block = replace(made, point_sigma=np.full(len(made.points), 0.01))
        centers = [center(E) for E in made.poses]
        p = 17
        rows = np.flatnonzero(made.point == p)
        d = np.array([centers[made.photo[r]] - made.points[p] for r in rows])
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        self.assertAlmostEqual(ray_angles(block)[p], np.degrees(np.arccos(np.min(d @ d.T))), places=5)
        self.assertEqual(measure("sightings", block)[p], len(rows))
        expected = np.sqrt((made.residual[rows] ** 2).sum(1).mean())
        self.assertAlmostEqual(measure("residual", block)[p], expected, places=6)
        away = np.sort(np.linalg.norm(made.points - made.points[p], axis=1))[1:7].mean()
        size = np.linalg.norm(np.ptp(np.clip(made.points, *np.percentile(made.points, [2, 98], axis=0)), axis=0))
        self.assertAlmostEqual(measure("distance", block)[p], 100 * away / size, places=6)
        box = {"center": [0, 0, 0], "axes": np.eye(3).tolist(), "half": [0.1, 0.1, 0.1]}
        outside = np.linalg.norm(np.maximum(np.abs(made.points[p]) - 0.1, 0))
        self.assertAlmostEqual(measure("outside", block, box)[p], 100 * outside / size, places=6)
        both = set(made.point[made.photo == 0]) & set(made.point[made.photo == 1])
        self.assertEqual(shared_points(made.photo, made.point, 8)[0, 1], len(both))

    def test_kinds_of_pairs(self):
        rng = np.random.default_rng(11)
        poses = ring(12)[:2]
        for X, kind in (
            (rng.uniform(-1, 1, (300, 3)), SCENE),
            (np.c_[rng.uniform(-1, 1, (300, 2)), np.zeros(300)], PLANE),
        ):
            xy, ids = seen_by(poses, X, rng, 0.3)
            m = shared(ids)[0, 1]
            self.assertEqual(relate(m, xy[0], LENS.vector, xy[1], LENS.vector).kind, kind)
