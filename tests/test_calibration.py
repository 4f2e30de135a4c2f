"""Calibrating a lens from simulated sightings with known truth."""

import unittest
from types import SimpleNamespace

import numpy as np

from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import PARAMETER_NAMES, Lens
from umbrate.core.lens.calibrate import FIXED, SIGNIFICANT, calibrate
from umbrate.core.lens.checks import checks_before
from umbrate.core.lens.compare import field_difference
from umbrate.core.lens.planes import guess_focal, homography, pose_of_plane
from umbrate.core.lens.start import SheetSightings
from umbrate.stages.lens.calibration import calibration_problems
from umbrate.studio.flat import calibration_poses, calibration_sheets, sight

LENS = Lens(4000, 3000, 4600.0, 2010.0, 1490.0, (-0.11, 0.09, -0.01), (0.0005, -0.0004))


def simulate(seed=0, sigma=0.03, lens=LENS, raised=100.0, count=8, sheets=4, bend=0.1, **more):
    """Sightings of the calibration sheets as `count` photos would show them."""
    true, ideal = calibration_sheets(raised, bend_mm=bend)[:sheets], calibration_sheets(raised)[:sheets]
    poses = calibration_poses(count, seed=seed, **{"distance_mm": 700.0, **more})
    return SheetSightings(**sight(true, ideal, lens, poses, sigma, np.random.default_rng(seed)))


class Calibrating(unittest.TestCase):
    def test_lens_and_standard_deviations_agree_with_the_truth(self):
        c = calibrate(simulate(), (4000, 3000), 8)
        self.assertLess(abs(c.lens.f / LENS.f - 1), 0.0002)
        self.assertLess(np.hypot(c.lens.cx - LENS.cx, c.lens.cy - LENS.cy), 0.5)
        self.assertLess(field_difference(c.lens, LENS).max(), 0.1)
        solved = [PARAMETER_NAMES.index(n) for n in c.free]
        normed = (c.lens.vector - LENS.vector)[solved] / c.sigma[solved]
        self.assertLess(np.abs(normed).max(), 4.0)
        self.assertTrue(0.95 < c.unit < 1.05)
        self.assertAlmostEqual(c.rms_px, 0.03 * np.sqrt(1 - (c.sigma > 0).sum() / 2456 - 520 / 2456), delta=0.002)
        self.assertEqual(c.warnings, [])
        self.assertNotIn("b1", c.free)  # there is none, and it was to be kept only if significant
        # focal length and principal point trade with nothing that much
        self.assertLess(np.abs(c.correlation[:3, :3] - np.eye(3)).max(), 0.9)

    def test_what_is_there_is_kept_and_what_is_fixed_stays(self):
        lens = Lens(4000, 3000, 4600.0, 2010.0, 1490.0, (-0.1, 0.0, 0.0), (0.0, 0.0), (2.5, -0.8))
        c = calibrate(simulate(3, lens=lens), (4000, 3000), 8, {"k2": FIXED, "k3": SIGNIFICANT, "p1": SIGNIFICANT})
        self.assertAlmostEqual(c.lens.b[0], 2.5, delta=0.3)
        self.assertAlmostEqual(c.lens.b[1], -0.8, delta=0.3)
        self.assertEqual((c.lens.k[1], c.sigma[4]), (0.0, 0.0))
        self.assertNotIn("k3", c.free)

    def test_what_is_held_stays_at_its_value_and_the_rest_finds_the_truth(self):
        held = {"f": LENS.f, "k1": LENS.k[0]}
        c = calibrate(simulate(), (4000, 3000), 8, held=held)
        self.assertEqual((c.lens.f, c.lens.k[0], c.sigma[0], c.sigma[3]), (LENS.f, LENS.k[0], 0.0, 0.0))
        self.assertFalse({"f", "k1"} & set(c.free))
        self.assertLess(field_difference(c.lens, LENS).max(), 0.1)
        wrong = calibrate(simulate(), (4000, 3000), 8, held={"f": 1.03 * LENS.f})
        self.assertEqual(wrong.lens.f, 1.03 * LENS.f)
        self.assertGreater(wrong.rms_px, 3 * c.rms_px)

    def test_false_sightings_are_left_out(self):
        s = simulate(5)
        rng = np.random.default_rng(1)
        bad = rng.choice(len(s.photo), 25, replace=False)
        s.xy[bad] += rng.uniform(2, 300, (25, 2)) * rng.choice([-1, 1], (25, 2))
        c = calibrate(s, (4000, 3000), 8)
        self.assertFalse(c.used[bad].any())
        self.assertGreater(c.used.sum(), len(s.photo) - 25 - 8)
        self.assertLess(field_difference(c.lens, LENS).max(), 0.12)
        self.assertGreater(np.linalg.norm(c.residuals[bad], axis=1).min(), 1.0)

    def test_the_slanted_circles_are_corrected(self):
        s = simulate(2, sigma=0.005)
        c = calibrate(s, (4000, 3000), 8)
        s.radius[:] = 0  # as if they were points
        worse = calibrate(s, (4000, 3000), 8)
        right, wrong = (field_difference(x.lens, LENS).max() for x in (c, worse))
        self.assertLess(right, 0.03)
        self.assertGreater(wrong, 2 * right)

    def test_a_flat_board_works_and_says_what_is_less_certain(self):
        s = simulate(7, raised=0.0, sheets=1, bend=0.0, distance_mm=420.0, middle=(105.0, 145.0, 0.0))
        c = calibrate(s, (4000, 3000), 8, known_sigma=0.05)
        self.assertLess(abs(c.lens.f / LENS.f - 1), 0.002)
        self.assertIn("one plane", " ".join(c.warnings))
        fine = calibrate(simulate(), (4000, 3000), 8)
        self.assertGreater(c.sigma[0], 1.3 * fine.sigma[0])

    def test_one_side_and_one_roll_are_told(self):
        s = simulate(4)
        one = s.kept(s.photo < 4)
        told = " ".join(calibrate(one, (4000, 3000), 8).warnings)
        self.assertIn("held the same way", told)
        # six photos, both ways up, but all from one side
        s = simulate(5, count=24)
        c = calibrate(s.kept(s.photo % 4 == 0), (4000, 3000), 24)
        self.assertIn("degrees apart. Focal length and distance can hardly be told apart", " ".join(c.warnings))
        self.assertGreater(c.sigma[0], 3 * calibrate(simulate(5), (4000, 3000), 8).sigma[0])

    def test_too_little_is_said(self):
        s = simulate()
        for part, said in (
            (s.kept(s.photo < 2), "2 of 8 photos"),
            (s.kept(s.point % 40 == 0), "0 of 8"),
        ):
            with self.assertRaisesRegex(UmbrateError, said):
                calibrate(part, (4000, 3000), 8)

    def test_what_is_missing_is_said_before_anything_can_be_solved(self):
        def missing(s):
            checks = checks_before(s, 4000, 3000, 8)
            return [c.text for c in checks if not c.good and c.advice]

        s = simulate(3)
        for n in (1, 2):  # from two sides, the camera upright in both
            self.assertIn("1 photo with" if n == 1 else "2 photos with", missing(s.kept(s.photo < n))[0])
            self.assertIn("held the same way", missing(s.kept(s.photo < n))[1])
        self.assertIn("0 degrees apart", missing(s.kept(s.photo < 1))[2])
        self.assertEqual(missing(s), [])
        flat = simulate(3, raised=0.0)
        self.assertIn("all targets in one plane", missing(flat))
        self.assertIn("no photo shows enough", checks_before(s.kept(s.point < 3), 4000, 3000, 8)[0].text)

    def test_what_is_left_out_by_hand_does_not_count(self):
        s = simulate(6)
        wrong = s.photo == 1
        s.xy[wrong] += 0.15  # too little to stick out
        c = calibrate(s, (4000, 3000), 8, without=wrong)
        self.assertFalse(c.used[wrong].any())
        self.assertTrue(np.isnan(c.residuals[wrong]).all())
        clean = s.kept(~wrong)
        np.testing.assert_allclose(c.lens.vector, calibrate(clean, (4000, 3000), 8).lens.vector, rtol=1e-9, atol=1e-12)

    def test_a_photo_with_another_zoom_or_focus_is_named(self):
        photos = [SimpleNamespace(id=k + 1, name=f"P{k}") for k in range(8)]
        for factor in (1.003, 1.1):
            s = simulate(3)
            zoomed = Lens(4000, 3000, factor * LENS.f, LENS.cx, LENS.cy, LENS.k, LENS.p)
            other = simulate(3, lens=zoomed)
            there = {(i, n): xy for i, n, xy in zip(other.photo, other.point, other.xy, strict=True)}
            keep = np.array([i != 2 or (i, n) in there for i, n in zip(s.photo, s.point, strict=True)])
            s = s.kept(keep)
            for k in np.flatnonzero(s.photo == 2):
                s.xy[k] = there[2, s.point[k]]
            c = calibrate(s, (4000, 3000), 8)
            rms = {
                k + 1: float(np.sqrt((c.residuals[(s.photo == k) & c.used] ** 2).mean()))
                for k in range(8)
                if ((s.photo == k) & c.used).any()
            }
            told = [p for p in calibration_problems(c, s, photos, rms) if "does not fit" in p["text"]]
            self.assertEqual([p["name"] for p in told], ["P2"], factor)
            self.assertIn("zoom", told[0]["hint"])


class Planes(unittest.TestCase):
    def test_homographies_give_focal_length_and_pose(self):
        lens = Lens(4000, 3000, 3300.0, 1999.5, 1499.5)
        poses = calibration_poses(6, seed=1, distance_mm=500.0, middle=(105.0, 140.0, 0.0))
        rng = np.random.default_rng(0)
        plane = rng.uniform(0, 200, (30, 2))
        found = []
        for E in poses:
            p = np.hstack([plane, np.zeros((30, 1))]) @ E[:3, :3].T + E[:3, 3]
            found.append(homography(plane, lens.project(p[:, :2] / p[:, 2:])))
        f, told = guess_focal(found, 4000, 3000)
        self.assertLess(abs(f / 3300 - 1), 0.03)
        self.assertGreater(told, 3)
        for H, E in zip(found, poses, strict=True):
            np.testing.assert_allclose(pose_of_plane(H, 3300.0, 1999.5, 1499.5), E, atol=1e-5)
