"""The studio's truth: what it writes must be what it drew."""

import json
import unittest
from dataclasses import replace

import numpy as np
from PIL import Image

from tests.scenes import pebble_set, pebble_truth, scratch
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import inverse, transform
from umbrate.core.imaging.decode import read_facts, read_mask, read_picture
from umbrate.core.raster.triangles import mesh_depth
from umbrate.core.targets.detect import CODED, find_targets
from umbrate.core.targets.sheets import PrintedTarget
from umbrate.studio import judge
from umbrate.studio.judge import nearest_on_triangles, sample_mesh
from umbrate.studio.prints import Printed
from umbrate.studio.render import Focus, Place, develop, render
from umbrate.studio.scene import pebble, smaller, whistle
from umbrate.studio.shapes import PEBBLE, distance
from umbrate.studio.shoot import shoot, shot_frames, targets_of, true_pose
from umbrate.studio.surroundings import Surroundings


class Truth(unittest.TestCase):
    def test_the_mesh_is_the_surface(self):
        t = pebble_truth()
        d = [distance(PEBBLE, *v) for v in t.vertices[::20]]
        self.assertLess(np.abs(d).max(), 0.02)
        outwards = np.cross(*(t.vertices[t.faces[:, k]] - t.vertices[t.faces[:, 0]] for k in (1, 2)))
        middle = t.vertices[t.faces].mean(1)
        n = outwards[::50] / np.linalg.norm(outwards[::50], axis=1, keepdims=True)
        self.assertTrue(all(distance(PEBBLE, *(m + 0.5 * k)) > 0 for m, k in zip(middle[::50], n, strict=True)))

    def test_masks_and_poses_and_mesh_agree_to_a_pixel(self):
        t = pebble_truth()
        for name in sorted(t.poses)[::4]:
            file = t.folder / name
            mask = read_mask(file.parent / "masks" / (file.stem + ".png"))
            # the mesh drawn through a pinhole, looked up where the exact lens sees each pixel
            h, w = mask.shape
            K = np.array([t.lens.f, t.lens.cx + 20, t.lens.cy + 20])
            drawn = np.isfinite(mesh_depth(t.vertices, t.faces, K, t.poses[name], w + 40, h + 40))
            v, u = np.mgrid[0:h, 0:w].astype(float)
            at = t.lens.unproject(np.stack([u.ravel(), v.ravel()], 1)) * K[0] + K[1:]
            x, y = np.clip(np.round(at).astype(int), 0, [w + 39, h + 39]).T
            silhouette = drawn[y, x].reshape(h, w)
            self.assertGreater((mask & silhouette).sum() / (mask | silhouette).sum(), 0.99)

    def test_a_sheet_is_where_the_numbers_say_through_the_whole_lens(self):
        # a white sheet with one black dot; its center must be seen where pose and lens put it
        scene = pebble()
        lens = Lens(640, 480, 700.0, 322.0, 236.0, (-0.2, 0.05, 0.0), (1e-3, -5e-4))
        to_table = np.eye(4)
        to_table[:3, :3] = [[1, 0, 0], [0, -1, 0], [0, 0, -1]]
        to_table[:3, 3] = [-40, 40, 0.2]
        surroundings = Surroundings(
            disc_radius=0, table_z=0.0, sheets=[Printed([PrintedTarget(-1, 40, 40, 2.4)], 80, 80, to_table)]
        )
        for shot in scene.sittings[0].shots[:3]:
            E = true_pose(scene.sittings[0], shot)
            place = Place(PEBBLE, shot.studio_to_camera, np.eye(4), np.eye(4))
            light, cover = render(lens, place, surroundings, show_object=False)
            self.assertEqual(cover.max(), 0)
            corners = np.array([[x, y, 0, 1.0] for x in (38.8, 41.2) for y in (38.8, 41.2)]) @ to_table.T
            uv = lens.project((P := transform(E, corners[:, :3]))[:, :2] / P[:, 2:])
            lo, hi = np.floor(uv.min(0)).astype(int) - 3, np.ceil(uv.max(0)).astype(int) + 4
            patch = light[lo[1] : hi[1], lo[0] : hi[0]].mean(2)
            dark = patch.max() - patch
            dark[dark < 0.4 * dark.max()] = 0
            y, x = np.mgrid[lo[1] : hi[1], lo[0] : hi[0]]
            seen = np.array([(dark * x).sum(), (dark * y).sum()]) / dark.sum()
            center = np.array([40.0, 40, 0, 1]) @ to_table.T
            Y = transform(E, center[None, :3])
            np.testing.assert_allclose(seen, lens.project(Y[:, :2] / Y[:, 2:])[0], atol=0.15)

    def test_photos_carry_exif_and_truth_carries_everything(self):
        folder = pebble_set()
        facts = read_facts(folder / "by-hand" / "U_0001.jpg")
        self.assertEqual((facts.width, facts.height, facts.focal_35mm), (640, 480, 50))
        self.assertIn("Simulated", facts.model)
        self.assertTrue(facts.taken.startswith("2026-05-04"))
        with Image.open(folder / "by-hand" / "U_0001.jpg") as image:
            self.assertIn("simulated", image.getexif()[0x0131])
        truth = json.loads((folder / "truth.json").read_text())
        self.assertTrue(truth["simulated"])
        self.assertEqual(len(truth["photos"]), 12)

    def test_the_same_seed_takes_the_same_photos_whatever_the_threads(self):
        scene = smaller(pebble(), 4, 3)
        a, b = scratch() / "a", scratch() / "b"
        shoot(replace(scene, truth_step_mm=4.0), a, threads=1)
        shoot(replace(scene, truth_step_mm=4.0), b, threads=3)
        for file in sorted((a / "by-hand").glob("*.jpg")):
            np.testing.assert_array_equal(read_picture(file), read_picture(b / "by-hand" / file.name))


class Whistle(unittest.TestCase):
    def test_the_backdrop_stands_still_while_the_object_turns(self):
        scene = smaller(whistle(), 5)
        sitting = scene.sittings[0]
        pictures, covers = [], []
        for shot in sitting.shots[:2]:
            place = Place(scene.shape, shot.studio_to_camera, *shot_frames(sitting, shot))
            light, cover = render(scene.lens, place, sitting.surroundings, Focus(scene.samples))
            pictures.append(light)
            covers.append(cover)
        away = (covers[0] == 0) & (covers[1] == 0)
        wall = np.zeros_like(away)
        wall[: int(away.shape[0] * 0.15)] = True  # above the turntable's far edge
        change = np.abs(pictures[0] - pictures[1]).max(2)
        self.assertLess(change[wall & away].max(), 1e-6)
        both = (covers[0] > 0.99) & (covers[1] > 0.99)
        self.assertGreater(np.median(change[both]), 0.02)

    def test_targets_on_the_mat_and_on_the_object_are_where_the_truth_says(self):
        scene = smaller(whistle(), 1.6)
        sitting = scene.sittings[0]
        truth = {t["number"]: t for t in targets_of(sitting.surroundings.sheets)}
        shot = sitting.shots[15]
        turning, obj = shot_frames(sitting, shot)
        light, _ = render(scene.lens, Place(scene.shape, shot.studio_to_camera, turning, obj), sitting.surroundings)
        found = find_targets(develop(light, np.random.default_rng(3)).astype(np.float32).mean(2))
        coded = found.rows(CODED)
        from_studio = {"table": turning, "object": obj}
        frames = set()
        for number, dot in zip(coded.number, coded.dots, strict=True):
            t = truth[int(number)]
            frames.add(t["frame"])
            E = shot.studio_to_camera @ inverse(from_studio[t["frame"]])
            Y = transform(E, np.array([t["center"]]))
            # without the correction for slant, and stickers follow a rounded surface
            np.testing.assert_allclose(dot[:2], scene.lens.project(Y[:, :2] / Y[:, 2:])[0], atol=0.35)
        self.assertEqual(frames, {"table", "object"})
        self.assertGreater(len(coded.number), 6)
        # the two bars are as long as they say, between centers on the table
        for b in sitting.surroundings.bars:
            apart = np.subtract(truth[b.first]["center"], truth[b.second]["center"])
            self.assertAlmostEqual(float(np.linalg.norm(apart)), b.length, 9)

    def test_both_sittings_show_one_object_in_one_frame(self):
        scene = whistle()
        for sitting in scene.sittings:
            self.assertEqual(len(sitting.shots), 24)
        # the same place on the object, through both sittings' poses, is where the object is
        lens = scene.lens
        for sitting in scene.sittings:
            E = true_pose(sitting, sitting.shots[0])
            Y = transform(E, np.array([[0.0, 0, 30]]))
            uv = lens.project(Y[:, :2] / Y[:, 2:])[0]
            self.assertTrue((np.abs(uv - [800, 600]) < 250).all())


class Judging(unittest.TestCase):
    def test_distance_to_triangles_is_exact(self):
        rng = np.random.default_rng(5)
        t = pebble_truth()
        P, n = sample_mesh(t.vertices, t.faces, 400, 2)
        offset = rng.uniform(0.05, 0.6, 400)
        d = nearest_on_triangles(P + offset[:, None] * n, t.vertices, t.faces)
        # off the surface along the normal: at most that far, and nearly that far on a smooth body
        self.assertTrue((d <= offset + 1e-9).all())
        self.assertGreater(np.median(d / offset), 0.97)
        # one triangle in the plane z = 0: face, edge and corner
        V, F = np.array([[0.0, 0, 0], [4, 0, 0], [0, 4, 0]]), np.array([[0, 1, 2]])
        Q = np.array([[1.0, 1, 2], [2, -3, 0], [-3, -4, 0], [3, 3, 1]])
        np.testing.assert_allclose(nearest_on_triangles(Q, V, F, 1), [2, 3, 5, np.sqrt(1 + 2)], atol=1e-12)

    def test_a_perfect_cloud_is_judged_perfect_and_a_shifted_one_by_its_shift(self):
        t = pebble_truth()
        X, n = sample_mesh(t.vertices, t.faces, 40_000, 3)
        good = t.judge_cloud("By hand", X, np.eye(4))
        self.assertLess(good["distance_mm_median"], 1e-6)
        self.assertEqual(good["covered_1mm_percent"], 100)
        bad = t.judge_cloud("By hand", X + 3.0 * n, np.eye(4))
        self.assertGreater(bad["off_2mm_percent"], 95)
        self.assertLess(bad["covered_1mm_percent"], 5)
        # a hole is missed
        half = t.judge_cloud("By hand", X[X[:, 0] > 0], np.eye(4))
        self.assertLess(half["covered_1mm_percent"], 75)
        seen = t.seen_surface("By hand", 20_000)
        self.assertGreater(seen[:, 2].min(), 0.0)
        depth = mesh_depth(t.vertices, t.faces, np.array([905.0, 322, 237]), t.poses[sorted(t.poses)[0]], 640, 480)
        self.assertTrue(np.isfinite(depth).any())


def ring(radius, tube, across=160, around=90):
    """A torus about z: vertices, faces, and the mean curvature of each vertex."""
    u, v = np.meshgrid(2 * np.pi * np.arange(across) / across, 2 * np.pi * np.arange(around) / around, indexing="ij")
    r = radius + tube * np.cos(v)
    vertices = np.stack([r * np.cos(u), r * np.sin(u), tube * np.sin(v)], -1).reshape(-1, 3)
    a = np.arange(across * around).reshape(across, around)
    b, c, d = np.roll(a, -1, 0), np.roll(a, -1, 1), np.roll(np.roll(a, -1, 0), -1, 1)
    faces = np.concatenate([np.stack(x, -1).reshape(-1, 3) for x in ((a, b, d), (a, d, c))])
    mean = (radius + 2 * tube * np.cos(v)) / (2 * tube * r)
    return vertices, faces, mean.ravel()


class Signed(unittest.TestCase):
    def test_curvature_is_that_of_a_torus_convex_outside_and_less_inside(self):
        vertices, faces, true = ring(30.0, 10.0)
        found = judge.curvature(vertices, faces)
        # its edges run in three directions, not in all alike
        self.assertLess(np.abs(found - true).max(), 0.15 * true.max())
        self.assertGreater(np.corrcoef(found, true)[0, 1], 0.99)
        np.testing.assert_allclose(judge.curvature(vertices, faces[:, ::-1]), -found, atol=1e-12)
        np.testing.assert_allclose(judge.vertex_normals(vertices, faces)[0], [1, 0, 0], atol=1e-6)

    def test_distances_are_negative_inside_and_exact_on_both_sides(self):
        vertices, faces, _ = ring(30.0, 10.0)
        rng = np.random.default_rng(0)
        u, v = rng.uniform(0, 2 * np.pi, (2, 3000))
        off = rng.uniform(-1.5, 1.5, 3000)
        r = 30.0 + (10.0 + off) * np.cos(v)
        found, _ = judge.signed_distance(
            np.stack([r * np.cos(u), r * np.sin(u), (10.0 + off) * np.sin(v)], 1), vertices, faces
        )
        np.testing.assert_allclose(found, off, atol=0.03)  # the facets lie that much inside the torus
        far = np.abs(off) > 0.05
        np.testing.assert_array_equal(np.sign(found[far]), np.sign(off[far]))

    def test_a_cloud_that_lies_inside_is_told_apart_from_one_that_is_noisy(self):
        truth = pebble_truth()
        points, normals = judge.sample_mesh(truth.vertices, truth.faces, 20_000)
        rng = np.random.default_rng(1)
        for shift, noise in ((-0.05, 0.0), (0.0, 0.1), (0.03, 0.1)):
            cloud = points + normals * (shift + rng.normal(0, noise, (len(points), 1)))
            f = truth.judge_cloud("By hand", cloud, np.eye(4))
            self.assertAlmostEqual(f["signed_mm"], shift, delta=0.006)
            self.assertAlmostEqual(f["signed_mm_convex"], shift, delta=0.01)
            told = [v for k, v in f.items() if k.startswith("signed_mm_slant") and v is not None]
            self.assertTrue(told and max(abs(x - shift) for x in told) < 0.02, told)
            self.assertGreater(f["distance_mm_median"], abs(shift) - 0.01)
