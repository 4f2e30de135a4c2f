"""Lamps, gloss, arms, motifs and moving cameras of the studio against what optics and geometry say."""

import json
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from tests.scenes import scratch
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at, pose, transform
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.imaging.decode import read_facts, read_mask
from umbrate.core.targets.sheets import PrintedTarget
from umbrate.studio.hard import HARD, faded
from umbrate.studio.judge import Truth
from umbrate.studio.lamps import (
    AMBIENT,
    PENUMBRA,
    ROOM,
    Capsule,
    Gloss,
    Lamp,
    apart,
    capsules_in,
    light_on,
    meet_capsule,
)
from umbrate.studio.prints import Printed
from umbrate.studio.render import Focus, Place, render
from umbrate.studio.scene import smaller
from umbrate.studio.shapes import (
    BOWL,
    JUG,
    MARK,
    MARK_RADIUS,
    MARKED,
    MOTIF,
    PEBBLE,
    WHITE,
    distance,
    gradient,
    onto_surface,
    paint,
)
from umbrate.studio.shoot import drift_of, shoot
from umbrate.studio.surroundings import Surroundings


class Light(unittest.TestCase):
    def test_matte_light_and_the_lobe_are_their_formulas(self):
        rng, none = np.random.default_rng(1), np.zeros((0, 8))
        for _ in range(50):
            p, lamp = rng.normal(0, 30, 3), rng.normal(0, 300, 3)
            n, d = (v / np.linalg.norm(v) for v in rng.normal(size=(2, 3)))
            if n @ d > 0:
                d = -d
            share, exponent, wrap = rng.uniform(0.02, 0.2), rng.uniform(5, 60), rng.uniform(0, 0.4)
            to_lamp = (lamp - p) / np.linalg.norm(lamp - p)
            half = (to_lamp - d) / np.linalg.norm(to_lamp - d)
            cos = n @ to_lamp
            mirrored = share + (1 - share) * (1 - to_lamp @ half) ** 5
            lobe = 0.7 * mirrored * (exponent + 8) / 8 * max(n @ half, 0) ** exponent * cos if cos > 0 else 0.0
            got = light_on(np.array([[*lamp, 0.7, wrap]]), none, share, exponent, *p, *n, *d)
            np.testing.assert_allclose(got, [AMBIENT + 0.7 * max(0, (cos + wrap) / (1 + wrap)), lobe], atol=1e-12)

    def test_capsules_are_met_and_passed_where_walking_along_the_ray_says(self):
        rng, met = np.random.default_rng(2), 0
        for _ in range(600):
            c = capsules_in([Capsule(tuple(rng.normal(0, 20, 3)), tuple(rng.normal(0, 20, 3)), rng.uniform(2, 9))])
            o = rng.normal(0, 20, 3) + [0, 0, 90]
            d = rng.normal(0, 14, 3) - o
            d /= np.linalg.norm(d)
            a, b, r = c[0, :3], c[0, 3:6], c[0, 6]

            def off(x, a=a, b=b):
                s = np.clip((x - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
                return np.linalg.norm(x - a - np.asarray(s)[..., None] * (b - a), axis=-1)

            walk = np.linspace(0, 220, 22001)
            away = off(o + walk[:, None] * d)
            self.assertAlmostEqual(apart(c, 0, *o, *(o + 220 * d)), away.min(), delta=0.01)
            t, *n = meet_capsule(c, 0, *o, *d)
            if away.min() > r + 0.01:
                self.assertEqual(t, -1)
            elif away.min() < r - 0.01:
                met += 1
                self.assertAlmostEqual(t, walk[np.argmax(away < r)], delta=0.02)
                self.assertAlmostEqual(float(off(o + t * d)), r, 9)
                out = off(o + t * d + 0.01 * np.array(n)) - r
                self.assertAlmostEqual(float(out), 0.01, 4)
        self.assertGreater(met, 50)
        # along the rod the nearer end is met
        c = capsules_in([Capsule((0, 0, 0), (0, 0, 10), 2.0)])
        for z, way, t in ((30, -1, 18), (-30, 1, 28)):
            np.testing.assert_allclose(meet_capsule(c, 0, 0.5, 0, z, 0, 0, way)[0], t, atol=0.1)

    def test_a_shadow_takes_one_lamp_away_and_ends_softly(self):
        lamps = np.array([[0, 0, 400.0, 0.5, 0.0], [300.0, 0, 300.0, 0.25, 0.0]])
        rod = capsules_in([Capsule((-50, 0, 200.0), (50, 0, 200.0), 10.0, seen=False)])
        for y, share in ((0.0, 0.0), (19.9, 0.0), (2 * (10 + PENUMBRA / 2), 0.5), (60.0, 1.0)):
            lit, _ = light_on(lamps, rod, 0.0, 1.0, 0.0, y, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, -1.0)
            bare, _ = light_on(lamps[1:], np.zeros((0, 8)), 0.0, 1.0, 0.0, y, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0)
            up = np.array([[0, -y, 400.0], [300.0, -y, 300.0]])
            cos = up[:, 2] / np.linalg.norm(up, axis=1)
            self.assertAlmostEqual(lit, AMBIENT + 0.5 * share * cos[0] + 0.25 * cos[1], delta=0.02)
            self.assertGreaterEqual(bare, AMBIENT)


class Drawn(unittest.TestCase):
    """The same in whole pictures."""

    LENS = Lens(320, 240, 560.0, 160.0, 119.0)

    def test_a_highlight_stands_where_the_normal_is_half_way_to_the_lamp(self):
        lamp = (-200.0, -260.0, 200.0)
        E = look_at(np.array([0.0, -300.0, 110.0]), np.array([0.0, 0, 40.0]))
        around = Surroundings(lamps=(Lamp(lamp, 0.6, ROOM),))
        lights = [
            render(self.LENS, Place(JUG, E, np.eye(4), np.eye(4), WHITE, Gloss(share, 400.0)), around)
            for share in (0.0, 0.05)
        ]
        shine = (lights[1][0] - lights[0][0])[..., 1] * (lights[0][1] == 1)
        self.assertEqual(float(np.abs(lights[1][0] - lights[0][0])[lights[0][1] == 0].max()), 0.0)
        v, u = np.unravel_index(shine.argmax(), shine.shape)
        eye = -E[:3, :3].T @ E[:3, 3]
        ray = E[:3, :3].T @ [*self.LENS.unproject(np.array([[u, v]], float))[0], 1.0]
        ray /= np.linalg.norm(ray)
        place = eye + 250.0 * ray
        for _ in range(60):  # onto the jug along the ray
            place = place + 0.7 * distance(JUG, *place) * ray
        n = gradient(JUG, *place)
        to_lamp = (lamp - place) / np.linalg.norm(lamp - place)
        half = (to_lamp - ray) / np.linalg.norm(to_lamp - ray)
        self.assertGreater(n @ half / np.linalg.norm(n), np.cos(np.radians(3.0)))

    def test_rows_that_are_read_later_see_what_the_camera_sees_then(self):
        # a white sheet with dots: each is seen where the pose of its row puts it
        to_table = np.eye(4)
        to_table[:3, :3] = [[1, 0, 0], [0, -1, 0], [0, 0, -1]]
        to_table[:3, 3] = [-40, 40, 0.2]
        places = [(x, y) for x in (15, 40, 65) for y in (15, 40, 65)]
        sheet = Printed([PrintedTarget(-1, x, y, 4.0) for x, y in places], 80, 80, to_table)
        around = Surroundings(disc_radius=0, table_z=0.0, sheets=[sheet])
        E = look_at(np.array([10.0, -90.0, 150.0]), np.array([0.0, 0, 0]))
        move = (0.01, -0.02, 0.015, 2.0, -1.0, 3.0)
        shot = HARD["phone"]().sittings[0].shots[0]
        shot = replace(shot, studio_to_camera=E, move=move)
        place = Place(PEBBLE, E, np.eye(4), np.eye(4))
        light, _ = render(self.LENS, place, around, Focus(9, drift=drift_of(shot)), show_object=False)
        still, _ = render(self.LENS, place, around, Focus(9), show_object=False)
        for x, y in places:
            X = (to_table @ [x, y, 0.0, 1.0])[:3]
            v, before = 120.0, None
            for _ in range(20):
                when = (v + 0.5) / 240 - 0.5
                there = pose(rotation_matrix(when * np.array(move[:3])), when * np.array(move[3:]))
                Y = transform(np.linalg.inv(there) @ E, X[None])
                u, v = self.LENS.project(Y[:, :2] / Y[:, 2:])[0]
                before = transform(E, X[None])
            for picture, at in ((light, (u, v)), (still, self.LENS.project(before[:, :2] / before[:, 2:])[0])):
                c, r = np.round(at).astype(int)
                dark = picture.max() - picture[r - 9 : r + 10, c - 9 : c + 10].mean(2)
                dark[dark < 0.5 * dark.max()] = 0
                i, j = np.mgrid[r - 9 : r + 10, c - 9 : c + 10]
                seen = np.array([(dark * j).sum(), (dark * i).sum()]) / dark.sum()
                np.testing.assert_allclose(seen, at, atol=0.2)

    def test_a_row_that_is_exposed_for_long_is_blurred_along_the_way(self):
        E = look_at(np.array([0.0, -90.0, 150.0]), np.array([0.0, 0, 0]))
        to_table = np.diag([1.0, -1, -1, 1])
        to_table[:3, 3] = [-40, 40, 0.2]
        sheet = Printed([PrintedTarget(-1, 40, 40, 3.0)], 80, 80, to_table)
        around = Surroundings(disc_radius=0, table_z=0.0, sheets=[sheet])
        shot = replace(HARD["phone"]().sittings[0].shots[0], studio_to_camera=E, move=(0, 0, 0, 6.0, 0, 0))
        place, wide = Place(PEBBLE, E, np.eye(4), np.eye(4)), []
        for exposure in (0.0, 1.0):
            light, _ = render(self.LENS, place, around, Focus(25, drift=drift_of(shot), exposure=exposure), False)
            dark = light[100:140, 120:200].max() - light[100:140, 120:200].mean(2)
            dark[dark < 0.05 * dark.max()] = 0
            p = dark.sum(0) / dark.sum()
            x = np.arange(len(p))
            wide.append((p * (x - p @ x) ** 2).sum())
        way = 6.0 / np.linalg.norm([90.0, 150.0]) * 560.0  # evenly over so many pixels: a twelfth of the square
        self.assertAlmostEqual(wide[1] - wide[0], way**2 / 12, delta=0.1 * way**2 / 12)


class Painted(unittest.TestCase):
    def test_the_motif_is_the_same_on_four_sides_and_the_mark_on_one(self):
        rng, marked = np.random.default_rng(3), 0
        for _ in range(400):
            x, y, z = rng.uniform(-45, 45, 3) + [0, 0, 23]
            colors = {paint(BOWL, MOTIF, *q, z) for q in ((x, y), (y, -x), (-x, -y), (-y, x))}
            self.assertEqual(len(colors), 1)
        for _ in range(200):
            at = np.array(MARK) + rng.normal(0, 3, 3)
            inside = np.linalg.norm(at - MARK) < MARK_RADIUS
            self.assertEqual(paint(BOWL, MARKED, *at) != paint(BOWL, MOTIF, *at), inside)
            marked += inside
        self.assertGreater(marked, 20)
        on, _ = onto_surface(BOWL, MARK)
        self.assertLess(np.linalg.norm(on - MARK), 2.0)  # so that it shows

    def test_detail_is_cut_to_its_share_inside_the_mask_only(self):
        rng = np.random.default_rng(4)
        picture = np.clip(120 + 25 * rng.normal(size=(200, 240, 1)).repeat(3, 2), 0, 255).astype(np.uint8)
        mask = np.zeros((200, 240), bool)
        mask[40:160, 60:200] = True
        out = faded(picture, mask, 0.2, 14.0, 0.0).astype(float)
        np.testing.assert_array_equal(out[~mask], picture[~mask])
        inner = np.s_[60:140, 80:180]
        self.assertAlmostEqual(out[inner].std() / picture[inner].astype(float).std(), 0.2, delta=0.02)
        noisy = faded(picture, mask, 0.2, 14.0, 2.0, seed=1).astype(float)
        self.assertAlmostEqual((noisy - out).std(), 2.0, delta=0.1)

    def test_each_photo_has_the_lens_it_was_taken_with_and_no_exif_where_there_is_none(self):
        folder = Path(scratch()) / "zooms"
        scene = smaller(HARD["zooms"](), 6)
        shots = [replace(s, lens=s.lens.scaled(s.lens.width // 6, s.lens.height // 6)) for s in scene.sittings[0].shots]
        scene = replace(scene, samples=1, sittings=[replace(scene.sittings[0], shots=shots[3:6])])
        shoot(replace(scene, truth_step_mm=6.0), folder)
        truth, data = Truth(folder), json.loads((folder / "truth.json").read_text())
        self.assertEqual(len({truth.lens_of[n].f for n in truth.poses}), 3)
        for p in data["photos"]:
            lens = truth.lens_of[p["name"]]
            with Image.open(folder / p["name"]) as photo:
                self.assertEqual(photo.size, (lens.width, lens.height))
            facts = read_facts(folder / p["name"])
            self.assertEqual((facts.camera, facts.focal_mm), ("", None))
            # the middle of the object is in the middle of the mask, through that lens
            name = Path(p["name"]).stem + ".png"
            v, u = np.nonzero(read_mask(folder / "photos" / "masks" / name))
            Y = transform(truth.poses[p["name"]], truth.vertices)
            x, y = lens.project(Y[:, :2] / Y[:, 2:]).T
            box = [x.min(), x.max(), y.min(), y.max()]
            np.testing.assert_allclose([u.min(), u.max(), v.min(), v.max()], box, atol=2.0)
