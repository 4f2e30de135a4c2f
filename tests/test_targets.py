"""Coded targets: the code, the print, and finding and reading them against the truth of the studio."""

import re
import unittest
import zlib

import numpy as np
from scipy.ndimage import gaussian_filter

from tests.scenes import scratch
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import look_at
from umbrate.core.targets import sheets as S
from umbrate.core.targets.circle import center_shift, circle_normals, slant_shifts
from umbrate.core.targets.code import BITS, COUNT, DISTANCE, bits_of, dark_sectors, find_words, is_dark, nearest_word
from umbrate.core.targets.detect import CODED, DOUBTFUL, PLAIN, find_targets, quality
from umbrate.core.targets.dots import SXX, SYY, find_dots
from umbrate.core.targets.words import WORDS
from umbrate.formats.sheets import write_sheets
from umbrate.studio.flat import develop_gray, photograph, true_pixels
from umbrate.studio.prints import Printed


class Code(unittest.TestCase):
    def test_the_words_are_those_the_search_finds(self):
        self.assertEqual(tuple(find_words(DISTANCE, 8, 16, 7).tolist()), WORDS)
        self.assertGreaterEqual(COUNT, 200)

    def test_words_keep_their_distance_whatever_their_turns(self):
        bits = np.array([bits_of(k) for k in range(COUNT)])
        turned = np.concatenate([np.roll(bits, k, 1) for k in range(BITS)])
        differ = (bits[:, None] != turned[None]).sum(2)
        differ[np.arange(COUNT), np.arange(COUNT)] = BITS  # each to itself, unturned
        self.assertEqual(differ.min(), DISTANCE)

    def test_two_wrong_sectors_are_mended_and_three_are_noticed(self):
        rng = np.random.default_rng(0)
        for _ in range(400):
            number, turn, wrong = int(rng.integers(COUNT)), int(rng.integers(BITS)), int(rng.integers(4))
            read = np.roll(bits_of(number), -turn)
            read[rng.choice(BITS, wrong, replace=False)] ^= True
            found = nearest_word(read)
            if wrong <= 2:
                self.assertEqual(found, (number, turn, wrong))
            else:
                self.assertEqual(found[2], 3)

    def test_the_shapes_that_are_printed_are_the_formula(self):
        rng = np.random.default_rng(1)
        for number in (0, 17, 254):
            r, a = rng.uniform(1.01, 3.4, 4000), rng.uniform(0, 2 * np.pi, 4000)
            printed = np.zeros(4000, bool)
            for r0, r1, a0, a1 in dark_sectors(number):
                printed |= (r >= r0) & (r < r1) & (np.mod(a - a0, 2 * np.pi) < a1 - a0)
            np.testing.assert_array_equal(printed, is_dark(number, r * np.cos(a), r * np.sin(a)))
        with self.assertRaises(ValueError):
            bits_of(COUNT)


class Paper(unittest.TestCase):
    def every(self, paper):
        return [
            *(S.calibration(paper, k) for k in (1, 2, 3, 4)),
            S.loose(paper),
            S.small(paper),
            S.mat(paper),
            S.bars(paper),
        ]

    def test_marks_lie_on_the_paper_and_clear_of_each_other_and_of_the_ruler(self):
        for paper in S.PAPERS:
            for s in self.every(paper):
                xy = np.array([[m.x, m.y] for m in s.targets])
                reach = np.array([0.5 * m.diameter * 3.3 for m in s.targets])
                self.assertTrue((xy - reach[:, None] > 3).all(), s.name)
                self.assertTrue((xy[:, 0] + reach < s.width - 3).all(), s.name)
                self.assertTrue((xy[:, 1] + reach < s.height - S.MARGIN - 0.35 * S.FOOT - 4.2).all(), (paper, s.name))
                apart = np.linalg.norm(xy[:, None] - xy[None], axis=2) - reach[:, None] - reach[None]
                self.assertGreater(apart[~np.eye(len(xy), dtype=bool)].min(), 0, (paper, s.name))
                for b in s.bars:
                    a, c = (next(m for m in s.targets if m.number == n) for n in (b.first, b.second))
                    self.assertAlmostEqual(np.hypot(a.x - c.x, a.y - c.y), b.length, places=6)

    def test_sheets_that_lie_together_share_no_number(self):
        kinds = [S.calibration("A4", k) for k in (1, 2, 3, 4)] + [S.mat("A3"), S.bars("A3"), S.small("A4")]
        numbers = [m.number for s in kinds for m in s.targets]
        self.assertEqual(len(numbers), len(set(numbers)))

    def test_the_pdf_is_in_true_millimeters(self):
        file, sheet = scratch() / "t.pdf", S.bars("Letter")
        write_sheets(file, [sheet, S.mat("A3")])
        data = file.read_bytes()
        boxes = re.findall(rb"/MediaBox \[ 0 0 ([\d.]+) ([\d.]+) \]", data)
        self.assertEqual(len(boxes), 2)
        np.testing.assert_allclose(np.array(boxes[0], float) * 25.4 / 72, [sheet.width, sheet.height], atol=0.01)
        first = next(
            zlib.decompress(_ascii85(m)) for m in re.findall(rb"stream\r?\n(.*?)endstream", data, re.S) if m.strip()
        ).decode()
        # a circle begins at its right end
        starts = np.array(re.findall(r"([\d.]+) ([\d.]+) m\n?(?=[^\n]*c)", first), float) * 25.4 / 72
        for m in sheet.targets:
            right = np.array([m.x + 0.5 * m.diameter, sheet.height - m.y])
            self.assertLess(np.abs(starts - right).sum(1).min(), 0.01)

    def test_what_does_not_fit_is_said(self):
        for make, said in (
            (lambda: S.calibration("A5"), "no paper"),
            (lambda: S.calibration("A4", 5), "1 to 4"),
            (lambda: S.loose("A4", 0.2), "1 to 40"),
            (lambda: S.mat("A4", 170), "no room"),
            (lambda: S.small("A4", (10.0, 9.0, 8.0)), "do not fit"),
        ):
            with self.assertRaisesRegex(UmbrateError, said):
                make()


def _ascii85(data):
    import base64

    data = data.strip()
    return base64.a85decode(data.removesuffix(b"~>"), adobe=False) if data.endswith(b"~>") else data


class Circles(unittest.TestCase):
    def test_the_center_of_the_ellipse_is_where_the_formula_says(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            center = np.array([*rng.uniform(-0.3, 0.3, 2), 1.0]) * 500
            normal, radius = rng.normal(size=3), rng.uniform(2, 40)
            u = np.cross(normal, [0.3, 0.8, -0.5])
            u /= np.linalg.norm(u)
            v = np.cross(normal / np.linalg.norm(normal), u)
            a = np.linspace(0, 2 * np.pi, 720, endpoint=False)[:, None]
            p = center + radius * (np.cos(a) * u + np.sin(a) * v)
            q = p[:, :2] / p[:, 2:]
            middle, size = q.mean(0), np.abs(q - q.mean(0)).max()
            x, y = ((q - middle) / size).T
            A, B, C, D, E = np.linalg.lstsq(np.stack([x * x, x * y, y * y, x, y], 1), np.ones(len(x)), rcond=None)[0]
            ellipse = np.linalg.solve([[2 * A, B], [B, 2 * C]], [-D, -E]) * size + middle
            shift = center_shift(center[None], normal[None], np.array([radius]))[0]
            np.testing.assert_allclose(ellipse - center[:2] / center[2], shift, atol=1e-9)

    def test_the_ellipse_alone_tells_the_plane_and_the_shift(self):
        rng = np.random.default_rng(4)
        lens = Lens(1600, 1200, 3300.0, 806.0, 593.0, (-0.11, 0.09, 0.0), (0.0006, -0.0004))
        for _ in range(40):
            center = np.array([*rng.uniform(-0.2, 0.2, 2), 1.0]) * rng.uniform(300, 500)
            normal = rng.normal(size=3)
            normal *= -np.sign(normal @ center) / np.linalg.norm(normal)
            if abs(normal @ center) < 0.35 * np.linalg.norm(center):
                continue
            u = np.cross(normal, [1.0, 0, 0])
            u /= np.linalg.norm(u)
            v, a, radius = np.cross(normal, u), np.linspace(0, 2 * np.pi, 90, endpoint=False), rng.uniform(1, 4)
            edge = center + radius * (np.cos(a)[:, None] * u + np.sin(a)[:, None] * v)
            both = circle_normals((edge[:, :2] / edge[:, 2:])[None])[0]
            self.assertLess(np.abs(np.abs(both @ normal) - 1).min(), 1e-7)
            self.assertTrue((both @ center < 0).all())
            # an ellipse fitted to what the lens makes of it, and a rough normal
            seen = lens.project(edge[:, :2] / edge[:, 2:])
            mid = seen.mean(0)
            x, y = (seen - mid).T
            A, B, C, D, E = np.linalg.lstsq(np.stack([x * x, x * y, y * y, x, y], 1), np.ones(90), rcond=None)[0]
            Q = np.array([[A, B / 2], [B / 2, C]])
            at = np.linalg.solve(2 * Q, [-D, -E])
            Q /= 1 + at @ Q @ at
            w, V = np.linalg.eigh(Q)
            S = V @ np.diag(np.sqrt(w)) @ V.T
            dot = np.zeros(12)
            dot[:5] = *(mid + at), S[0, 0], S[0, 1], S[1, 1]
            rough = normal + 0.04 * rng.normal(size=3)
            got = dot[:2] - slant_shifts(dot[None], lens, rough[None])[0]
            np.testing.assert_allclose(got, lens.project(center[None, :2] / center[2])[0], atol=0.02)


class Detection(unittest.TestCase):
    """One calibration sheet, photographed at several slants and sizes."""

    lens = Lens(900, 680, 1150.0, 452.0, 336.0, (-0.08, 0.05, 0.0), (0.0003, -0.0002))

    def shoot(self, slant_deg, distance_mm, side=0.7, seed=0, light=(0.3, -0.3, 1.0, 0.4, -0.8, 0.45)):
        sheet = S.calibration("A4", 1 + seed % 4)
        printed = Printed(sheet.targets, sheet.width, sheet.height, np.eye(4))
        a, mid = np.radians(slant_deg), np.array([105.0, 140.0, 0.0])
        eye = mid + distance_mm * np.array([np.sin(a) * np.cos(side), np.sin(a) * np.sin(side), -np.cos(a)])
        E = look_at(eye, mid, up=(0.0, 0.0, -1.0) if slant_deg > 5 else (1.0, 0.0, 0.0))
        picture = develop_gray(photograph([printed], self.lens, E, 4, light), seed)
        uv, inside = true_pixels(printed, self.lens, E)
        M = E @ printed.to_world
        centers = np.array([[m.x, m.y, 0, 1.0] for m in sheet.targets]) @ M.T
        off = center_shift(
            centers[:, :3], np.tile(M[:3, 2], (40, 1)), np.array([0.5 * m.diameter for m in sheet.targets])
        )
        at = centers[:, :2] / centers[:, 2:3]
        uv = self.lens.project(at + off)  # of the ellipses
        return picture.astype(np.float32).mean(2), sheet, uv, inside

    def test_all_are_read_rightly_and_their_centers_are_as_good_as_stated(self):
        for slant, distance, limit in ((0, 560, 0.02), (40, 560, 0.025), (60, 620, 0.03)):
            gray, sheet, uv, inside = self.shoot(slant, distance, seed=slant)
            found = find_targets(gray)
            coded = found.rows(CODED)
            clear = inside & ((uv > 40) & (uv < np.array(gray.shape[::-1]) - 41)).all(1)
            numbers = np.array([m.number for m in sheet.targets])
            self.assertGreater(clear.sum(), 15)
            self.assertTrue(set(coded.number) <= set(numbers.tolist()), slant)
            self.assertEqual(set(numbers[clear]) - set(coded.number), set(), slant)
            error = coded.xy - uv[coded.number - numbers[0]]
            self.assertLess(np.sqrt((error**2).mean()), limit)
            normed = error / np.sqrt(coded.dots[:, [SXX, SYY]])
            # the stated ones hold the noise; the 8 bits, the tone curve and the packed ring add a little
            self.assertTrue(0.6 < np.sqrt((normed**2).mean()) < 4.0, (slant, np.sqrt((normed**2).mean())))
            self.assertGreater(quality(coded).min(), 0.3)

    def test_a_number_seen_twice_is_doubtful(self):
        gray, _, _, _ = self.shoot(0, 560)
        both = np.hstack([gray, gray])
        found = find_targets(both)
        self.assertEqual((found.kind == CODED).sum(), 0)
        self.assertGreater((found.kind == DOUBTFUL).sum(), 30)

    def test_a_covered_ring_is_a_plain_dot_or_doubtful_but_never_another_number(self):
        gray, sheet, uv, inside = self.shoot(30, 520)
        rng = np.random.default_rng(4)
        first = sheet.targets[0].number
        for k in np.flatnonzero(inside):
            x, y = uv[k] + rng.normal(0, 12, 2)
            v, u = np.mgrid[0 : gray.shape[0], 0 : gray.shape[1]]
            gray[(u - x) ** 2 + (v - y) ** 2 < rng.uniform(4, 12) ** 2] = rng.uniform(40, 200)
        found = find_targets(gray).rows(CODED)
        for number, xy in zip(found.number, found.xy, strict=True):
            self.assertTrue(first <= number < first + 40)
            self.assertLess(np.linalg.norm(uv[number - first] - xy), 2.0)

    def test_nothing_is_read_into_texture(self):
        rng = np.random.default_rng(5)
        for k in range(6):
            sizes = rng.uniform(0.6, 8, 3)
            t = sum(gaussian_filter(rng.normal(size=(500, 700)), s) * s for s in sizes)
            t = t / t.std()
            gray = 128 + 90 * (np.sign(t) if k % 2 else np.tanh(t))
            self.assertEqual((find_targets(gaussian_filter(gray, 0.7).astype(np.float32)).kind == CODED).sum(), 0)
        self.assertEqual(len(find_dots(np.zeros((10, 10), np.float32))), 0)
        self.assertEqual(len(find_targets(np.full((300, 300), 200, np.float32)).dots), 0)

    def test_a_plain_dot_is_one(self):
        v, u = np.mgrid[0:120, 0:160].astype(np.float32)
        at = np.array([80.3, 59.6])
        d = np.hypot(u - at[0], v - at[1]) - 11.0
        gray = (200 - 150 / (1 + np.exp(d / 0.5))).astype(np.float32)
        found = find_targets(gray)
        self.assertEqual(found.kind.tolist(), [PLAIN])
        np.testing.assert_allclose(found.xy[0], at, atol=0.01)
