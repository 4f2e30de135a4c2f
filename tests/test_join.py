"""Joining: similarities, shapes and unions against closed forms, and verdicts on made-up sittings."""

import shutil
import unittest

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from tests.scenes import pebble_set, scratch
from tests.test_stages import QUICK, new_job, run
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.pose import center, pose
from umbrate.core.geometry.rotation import rotation_angle
from umbrate.core.geometry.similarity import move_pose, scale_of
from umbrate.core.join import agree as joins
from umbrate.core.join import picks
from umbrate.core.join.network import corners_round, solve_network
from umbrate.core.join.places import alike, likely_support, mean_descriptors, shared_targets
from umbrate.core.join.shape import fit_shapes
from umbrate.core.join.unite import unite
from umbrate.job.store import Job
from umbrate.stages.clouds import load_cloud
from umbrate.stages.frames import frame_of, load_block
from umbrate.stages.joining import join_all
from umbrate.stages.uniting import unite_clouds
from umbrate.work.adding import read_folder, take_in
from umbrate.work.state import board


def some_move(rng, scale=1.0):
    """A random similarity."""
    return pose(scale * Rotation.random(random_state=int(rng.integers(1e6))).as_matrix(), rng.normal(size=3) * 50)


def moved(points, M):
    """Points (n, 3) after a similarity."""
    return points @ M[:3, :3].T + M[:3, 3]


def lumpy(rng, n):
    """Points and normals of a closed surface without any symmetry."""
    d = rng.normal(size=(n, 3))
    d /= np.linalg.norm(d, axis=1, keepdims=True)

    def radius(d):
        x, y, z = d.T
        return 20 + 3 * np.sin(3 * x + 1) * np.cos(2 * y) + 4 * z * x + 2 * np.sin(4 * z + y)

    e = 1e-5
    grad = np.stack([(radius(d + e * v) - radius(d - e * v)) / (2 * e) for v in np.eye(3)], 1)
    grad -= (grad * d).sum(1, keepdims=True) * d
    normal = d * radius(d)[:, None] - grad
    return d * radius(d)[:, None], normal / np.linalg.norm(normal, axis=1, keepdims=True)


class Agreeing(unittest.TestCase):
    def test_the_right_similarity_is_found_among_many_wrong_pairs_and_knows_how_sure_it_is(self):
        rng = np.random.default_rng(1)
        turned = []
        for case in range(12):
            with_scale = bool(case % 2)
            M = some_move(rng, 1.7 if with_scale else 1.0)
            k, right = 400, 60
            a = rng.normal(size=(k, 3)) * [30, 20, 10]
            b = moved(a, M) + rng.normal(size=(k, 3)) * 0.05
            b[right:] = moved(rng.permutation(a[right:]), M) + rng.normal(size=(k - right, 3)) * 5
            found = joins.agree(a, b, np.full(k, 0.1), 0.3, with_scale=with_scale, seed=case)
            turn, shift, scale = joins.difference(M, found.M, a.mean(0))
            self.assertLess(turn, 0.1)
            self.assertLess(shift, 0.1)
            self.assertLess(abs(scale), 0.002)
            self.assertGreater(found.inside[:right].mean(), 0.95)
            self.assertLess(found.inside[right:].sum(), 4)
            turned.append(turn / found.sigma[0])
        self.assertTrue(0.4 < np.sqrt(np.mean(np.square(turned))) < 1.8, turned)
        nothing = joins.agree(rng.normal(size=(30, 3)) * 30, rng.normal(size=(30, 3)) * 30, np.full(30, 0.02), 0.05)
        self.assertTrue(nothing is None or nothing.count <= 4)
        self.assertIsNone(joins.agree(np.eye(3)[:2], np.eye(3)[:2], np.ones(2), 1.0))

    def test_targets_of_the_mat_and_of_the_object_are_told_apart(self):
        rng = np.random.default_rng(2)
        for _ in range(6):
            on, mat = rng.normal(size=(5, 3)) * 20, np.c_[rng.uniform(-100, 100, (12, 2)), np.zeros(12)]
            M, T = some_move(rng), some_move(rng)
            a = np.concatenate([on, mat])
            b = np.concatenate([moved(on, M), moved(mat, T)]) + rng.normal(size=(17, 3)) * 0.01
            found = joins.groups(a, b, np.full(17, 0.02), 0.1)
            self.assertEqual([set(np.flatnonzero(g.inside)) for g in found], [set(range(5, 17)), set(range(5))])
            unknown = np.full(17, np.nan)
            self.assertEqual(
                [likely_support(g, [x for x in found if x is not g], unknown) for g in found], [True, False]
            )
            masked = np.r_[np.ones(5), np.zeros(12)]
            self.assertEqual([likely_support(g, [], masked) for g in found], [True, False])

    def test_shared_places_are_those_of_one_number_or_one_look(self):
        rng = np.random.default_rng(4)
        points = rng.normal(size=(6, 3))
        points[4] = np.nan
        rows = shared_targets(np.array([-1, 5, 9, 7, 3, -1]), points, np.array([9, -1, 5, 3]), rng.normal(size=(4, 3)))
        self.assertEqual(rows.tolist(), [[1, 2], [2, 0]])
        d = rng.random((50, 128)).astype(np.float32)
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        point, feature = np.repeat(np.arange(25), 2), np.arange(50)
        d[1::2] = d[::2]
        feature[-1] = -1
        mean = mean_descriptors(26, point, feature, d)
        np.testing.assert_allclose(mean[:25], d[::2], atol=1e-5)
        order = rng.permutation(25)
        self.assertEqual({tuple(r) for r in alike(mean, mean[order])}, {(int(order[k]), k) for k in range(25)})


class Shapes(unittest.TestCase):
    def test_two_halves_are_fitted_though_only_a_band_is_shared(self):
        rng = np.random.default_rng(5)
        for case in range(4):
            P, N = lumpy(rng, 40_000)
            Q, QN = lumpy(rng, 40_000)
            top, low = P[:, 2] > -6, Q[:, 2] < 6
            M = some_move(rng)
            start = M @ pose(Rotation.from_rotvec(rng.normal(size=3) * 0.02).as_matrix(), rng.normal(size=3) * 0.3)
            fit = fit_shapes(
                P[top] + rng.normal(size=(top.sum(), 3)) * 0.02, N[top], moved(Q[low], M), QN[low] @ M[:3, :3].T,
                start, 3.0, finest=0.8, seed=case,
            )  # fmt: skip
            turn, shift, _ = joins.difference(M, fit.M, np.zeros(3))
            self.assertLess(turn, 0.03)
            self.assertLess(shift, 0.02)
            self.assertTrue(0.1 < fit.overlap < 0.6)
        d = rng.normal(size=(20_000, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        self.assertLess(fit_shapes(d * 10, d, d * 10, d, np.eye(4), 1.0, finest=0.5).held, 0.01)  # a ball can turn
        self.assertIsNone(fit_shapes(d * 10, d, d * 10 + 100, d, np.eye(4), 1.0, finest=0.5))

    def test_of_two_sheets_the_more_precise_points_stay_in_one_brightness(self):
        rng = np.random.default_rng(6)
        clouds = []
        for k, (low, high, bright) in enumerate(((0, 6, 100), (4, 10, 150))):
            P = np.c_[rng.uniform(low, high, 9000), rng.uniform(0, 5, 9000), rng.normal(0, 0.005, 9000) + 0.02 * k]
            clouds.append({
                "points": P.astype(np.float32), "normals": np.tile(np.float32([0, 0, 1]), (9000, 1)),
                "colors": np.full((9000, 3), bright, np.uint8),
                "precision": np.where(P[:, 0] < 5, 0.1 + 0.1 * k, 0.2 - 0.05 * k).astype(np.float32),
            })  # fmt: skip
        out, lost, gains = unite(clouds)
        self.assertEqual(len(out["points"]), 18000 - sum(lost))
        np.testing.assert_allclose(gains[1], 100 / 150, atol=0.02)
        self.assertLess(np.ptp(out["colors"]), 4)
        both = (out["points"][:, 0] > 4.1) & (out["points"][:, 0] < 5.9)
        better = np.where(out["points"][both, 0] < 5, 0, 1)
        self.assertGreater((out["sitting"][both] == better).mean(), 0.97)
        # nowhere a hole
        self.assertLess(cKDTree(out["points"]).query(np.concatenate([c["points"] for c in clouds]))[0].max(), 0.25)

    def test_a_scale_that_differs_is_found(self):
        rng = np.random.default_rng(7)
        P, N = lumpy(rng, 30_000)
        Q, QN = lumpy(rng, 30_000)
        fit = fit_shapes(P, N, Q * 1.01, QN, np.eye(4), 1.0, finest=0.8, with_scale=True)
        self.assertAlmostEqual(scale_of(fit.M), 1.01, delta=2e-4)


class Picking(unittest.TestCase):
    def test_picks_that_lie_in_a_line_or_are_paired_crosswise_or_mirrored_are_told_apart_from_good_ones(self):
        rng = np.random.default_rng(8)
        for case in range(20):
            k = int(rng.integers(3, 8))
            M = some_move(rng, 1.3 if case % 2 else 1.0)
            a = rng.normal(size=(k, 3)) * [30, 25, 20]
            b = moved(a, M) + rng.normal(size=(k, 3)) * 0.1
            with_scale = bool(case % 2)
            self.assertIsNone(picks.crosswise(a, b, with_scale))
            self.assertFalse(picks.mirrored(a, b, with_scale))
            self.assertFalse(picks.nearly_a_line(a))
            order = np.arange(k)
            i, j = sorted(rng.choice(k, 2, replace=False))
            order[[i, j]] = j, i
            if k > 3:
                self.assertEqual(picks.crosswise(a, b[order], with_scale), (i, j))
            s = np.linalg.svd(a - a.mean(0), compute_uv=False)
            if k > 3 and s[2] > 0.2 * s[0]:  # flat ones have no left and right
                self.assertTrue(picks.mirrored(a * [1, 1, -1], b, with_scale))
            self.assertTrue(
                picks.nearly_a_line(a[:1] + np.outer(np.arange(k), [3, 1, 2]) + rng.normal(size=(k, 3)) * 0.05)
            )

    def test_a_loop_of_joins_is_solved_together(self):
        rng = np.random.default_rng(9)
        better = []
        for case in range(8):
            true = [np.eye(4), *(some_move(rng) for _ in range(4))]
            edges, chain = [], [np.eye(4)]
            for i, k in ((0, 1), (1, 2), (2, 3), (3, 4), (4, 0), (1, 3)):
                noise = pose(Rotation.from_rotvec(rng.normal(size=3) * 0.003).as_matrix(), rng.normal(size=3) * 0.1)
                M = noise @ np.linalg.inv(true[k]) @ true[i]
                edges.append((i, k, M, corners_round(np.zeros(3), 100.0), 0.3))
                if k == len(chain):
                    chain.append(chain[i] @ np.linalg.inv(M))
            solved = solve_network(chain, edges, with_scale=bool(case % 2))
            off = [
                [np.linalg.norm(m[k] @ np.linalg.inv(true[k]) - np.eye(4)) for k in range(1, 5)]
                for m in (chain, solved)
            ]
            better.append(np.mean(off[1]) / np.mean(off[0]))
        self.assertLess(np.median(better), 0.8)
        exact = [(i, k, np.linalg.inv(true[k]) @ true[i], x, s) for i, k, _, x, s in edges]
        for M, N in zip(solve_network(chain, exact), true, strict=True):
            np.testing.assert_allclose(M, N, atol=1e-8)


class Sittings(unittest.TestCase):
    """Twelve photos of the pebble as one sitting, nine of them once more as another."""

    @classmethod
    def setUpClass(cls):
        cls.folder = scratch() / "joined"
        some = scratch() / "some"
        (some / "masks").mkdir(parents=True)
        for file in sorted((pebble_set() / "by-hand").glob("*.jpg"))[:9]:
            shutil.copy(file, some)
            shutil.copy(file.parent / "masks" / f"{file.stem}.png", some / "masks")
        job, first = new_job(cls.folder)
        with job:
            cls.folder = job.folder
            with cls.assertRaisesRegex(cls(), UmbrateError, "only one sitting"):
                join_all(job, job.sittings())
            second, _, _ = take_in(job, "Again", read_folder(some, some / "masks"))
            for stage, values in QUICK.items():
                job.set_settings(second.id, stage, {**values, "seed": 5} if stage == "poses" else values)
            for name in ("photos", "masks", "lens", "poses"):
                run(job, first, name)
            with cls.assertRaisesRegex(cls(), UmbrateError, "no poses yet"):
                join_all(job, job.sittings())
            for name in ("photos", "masks", "lens", "poses"):
                run(job, second, name)

    def copy(self):
        """The job of two solved sittings, once more."""
        return Job.open(shutil.copytree(self.folder, scratch() / "copy.umbrate"))

    def off(self, job, blocks, M):
        """Turn (degrees) and shift (share of the distance) between the same photos of the two sittings."""
        poses = []
        for s, block in zip(job.placements(), blocks, strict=True):
            names = {p.id: p.name for p in job.photos(s.id)}
            poses.append(
                {names[int(i)]: E for i, E in zip(block["photo_ids"], block["poses"], strict=True) if int(i) in names}
            )
        middle = np.median(blocks[1]["points"], axis=0)
        out = []
        for name in set(poses[0]) & set(poses[1]):
            a, b = move_pose(poses[0][name], M), poses[1][name]
            turn = np.degrees(rotation_angle(a[:3, :3] @ b[:3, :3].T))
            out.append((turn, np.linalg.norm(center(a) - center(b)) / np.linalg.norm(center(b) - middle)))
        return np.array(out)

    def test_they_lie_to_each_other_as_photos_in_both_of_them_say(self):
        with self.copy() as job:
            first, second = job.sittings()
            whole = join_all(job, job.sittings(), ("surface",))
            found = whole.joins[0, 1]
            self.assertEqual((found.verdict, found.reasons, whole.loops, whole.verdict), ("good", [], [], "good"))
            off = self.off(job, [load_block(job, s) for s in (first, second)], found.M)
            # each sitting has poses and a lens of its own making
            self.assertTrue((np.median(off, axis=0) < (0.3, 0.005)).all(), off)
            self.assertTrue((off.max(0) < (0.8, 0.012)).all(), off)
            # back into the first one's frame
            np.testing.assert_allclose(whole.moves[1] @ found.M, np.eye(4), atol=1e-9)
            none = join_all(job, job.sittings(), ("targets",))
            self.assertEqual((none.joins[0, 1].verdict, none.verdict), ("none", "none"))
            self.assertIsNone(none.moves[1])
            self.assertIn("no targets", none.joins[0, 1].reasons[0])
            with self.assertRaisesRegex(UmbrateError, "give it a start"):
                join_all(job, job.sittings(), ("shape",))
            with self.assertRaisesRegex(UmbrateError, "no scale"):
                join_all(job, job.sittings(), with_scale=False)

    def test_merged_the_same_photo_has_one_place_and_nothing_of_the_sittings_changes(self):
        with self.copy() as job:
            folder = str(job.folder)
            before = [job.result(s.id, "poses").made for s in job.sittings()]
        out = CliRunner().invoke(cli, ["join", folder, "--by", "surface", "--merge"])
        self.assertEqual(out.exit_code, 0, out.output)
        self.assertIn("good", out.output)
        with Job.open(folder) as job:
            row = job.joined_rows()[0]
            self.assertEqual(before, [job.result(s.id, "poses").made for s in job.placements()])
            block = load_block(job, row)
            self.assertEqual(int(np.isfinite(block["poses"][:, 0, 0]).sum()), 21)
            off = self.off(job, [block, block], np.eye(4))
            self.assertTrue((np.median(off, axis=0) < (0.05, 0.001)).all(), off)
            self.assertEqual({c.stage: c.state for c in board(job)[2]}, {
                "photos": "elsewhere", "masks": "elsewhere", "lens": "elsewhere", "poses": "done", "scale": "ready",
                "join": "done", "cloud": "ready",
            })  # fmt: skip
            # joining again with other choices is one step, and undo takes it back
            found = job.join_found(row.id)
            job.set_members(row.id, row.members[::-1])
            other = next(s for s in job.sittings() if s.id == row.id)
            self.assertEqual(run(job, other, "join").figures["verdict"], "good")
            self.assertNotEqual(found["moves"], job.join_found(row.id)["moves"])
            job.undo()
            self.assertEqual(found, job.join_found(row.id))
            job.undo()
            self.assertEqual(job.sittings()[2], row)
            job.set_settings(row.id, "cloud", {"photo_scale": 8, "neighbors": 3})
            cloud = run(job, row, "cloud").figures
            self.assertEqual(cloud["photos"], 21)
            for s in job.placements():
                job.set_settings(s.id, "cloud", {"photo_scale": 8, "neighbors": 3})
                run(job, s, "cloud")
            each = [job.cloud(s.id).left for s in job.placements()]
            united = unite_clouds(job, row)
            self.assertEqual(sum(each), united["points"] + sum(united["doubled"]) + sum(united["seen_through"]))
            self.assertGreater(sum(united["doubled"]), 0.3 * min(each))  # they show the same
            self.assertEqual(job.cloud(row.id).name, "United")
            job.remove_sitting(job.placements()[1].id)
            self.assertEqual([s.name for s in job.sittings()], [job.placements()[0].name])
            job.undo()
            self.assertEqual(len(job.sittings()), 3)
            self.assertEqual(len(load_cloud(job, row)["points"]), united["points"])
        for what in ("cloud", "cameras"):
            file = scratch() / f"{what}.{'ply' if what == 'cloud' else 'json'}"
            out = CliRunner().invoke(cli, ["export", folder, what, str(file), "--joined"])
            self.assertEqual(out.exit_code, 0, out.output)
            self.assertIn(f"{united['points']:,}" if what == "cloud" else "21", out.output)

    def test_picks_in_photos_join_and_crosswise_ones_are_told(self):
        with self.copy() as job:
            row = job.add_joined([s.id for s in job.placements()])
            names, places, common = [], [], []
            for s in job.placements():
                block = load_block(job, s)
                seen = {}
                of = {p.id: p.name for p in job.photos(s.id)}
                for q in range(len(block["photo"])):
                    key = of[int(block["photo_ids"][block["photo"][q]])]
                    seen.setdefault(int(block["point"][q]), {})[key] = tuple(np.round(block["xy"][q]).astype(int))
                common.append(seen)
            # places of the one that the other sees at the same pixels of the same photos
            at = {(n, xy): p for p, x in common[1].items() for n, xy in x.items()}
            pairs = []
            for p, x in common[0].items():
                twins = [at.get((n, xy)) for n, xy in x.items()]
                best = max(set(twins), key=twins.count)
                if best is not None and twins.count(best) >= 3:
                    pairs.append((p, best))
            blocks = [load_block(job, s) for s in job.placements()]
            A = np.array([blocks[0]["points"][p] for p, _ in pairs])
            far = [int(np.argmax(np.linalg.norm(A - A.mean(0), axis=1)))]
            while len(far) < 5:
                far.append(int(np.argmax(np.min([np.linalg.norm(A - A[i], axis=1) for i in far], axis=0))))
            picked = [pairs[i] for i in far]
            ids = list(row.members)
            for p, q in picked:
                plain = [
                    np.linalg.inv(frame_of(job, s).matrix) @ np.append(b["points"][k], 1)
                    for s, b, k in zip(job.placements(), blocks, (p, q), strict=True)
                ]
                places.append(plain)
                names.append(
                    job.add_pick(row.id, {i: {"cloud": x[:3].tolist()} for i, x in zip(ids, plain, strict=True)})
                )
            job.set_settings(row.id, "join", {"targets": False, "surface": False})
            found = run(job, row, "join").figures
            self.assertEqual(found["verdict"], "good", found["joins"][0]["reasons"])
            self.assertLess(max(d for _, d in found["joins"][0]["picks"]), 0.02 * np.ptp(A, axis=0).max())
            # crosswise
            a, b = places[0], places[1]
            job.set_pick(names[0], {ids[0]: {"cloud": a[0][:3].tolist()}, ids[1]: {"cloud": b[1][:3].tolist()}})
            job.set_pick(names[1], {ids[0]: {"cloud": b[0][:3].tolist()}, ids[1]: {"cloud": a[1][:3].tolist()}})
            found = run(job, row, "join").figures
            self.assertEqual(found["verdict"], "none")
            self.assertIn("A and B are paired crosswise", found["joins"][0]["reasons"][0])
            for n in names[2:]:
                job.set_pick(n, used=False)
            found = run(job, row, "join").figures
            self.assertIn("2 picks of three", found["joins"][0]["reasons"][0])


if __name__ == "__main__":
    unittest.main()
