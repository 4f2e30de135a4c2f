"""Key points, descriptors and matching against slow references and known warps."""

import unittest

import numpy as np
from scipy.ndimage import gaussian_filter, map_coordinates

from umbrate.core.features.detect import (
    BASE_SIGMA,
    CAMERA_SIGMA,
    LEVELS,
    detect,
    joined,
    keep_spread,
    noise_left,
    noise_of,
)
from umbrate.core.features.match import SAME_PLACE, match, nearest_own, unit_descriptors
from umbrate.core.features.slanted import detect_slanted, slanted_views, squeezed
from umbrate.core.imaging.filters import gaussian_blur, halve_by_area, halve_mask, remap


def speckle(h, w, seed=0):
    """A picture (h, w), 0 to 1, with detail at several scales, as clay and stone have it."""
    rng = np.random.default_rng(seed)
    layers = [gaussian_filter(rng.normal(size=(h, w)), s) * s for s in (0.9, 1.8, 3.6, 7.2)]
    total = sum(x / x.std() for x in layers)
    return np.clip(0.5 + 0.12 * total, 0, 1).astype(np.float32)


def warped(image, A, center):
    """`image` seen through the affine map p -> A (p - center) + center, and that map for points (n, 2)."""
    h, w = image.shape
    v, u = np.mgrid[0:h, 0:w]
    p = np.stack([u.ravel(), v.ravel()], 1) - center
    q = p @ np.linalg.inv(A).T + center
    # pixels that shrink would alias: smooth along the short axis as a lens and sensor do
    smooth = gaussian_filter(image, 0.5 * max(0.0, 1 / np.linalg.svd(A)[1].min() - 1))
    out = map_coordinates(smooth, [q[:, 1], q[:, 0]], order=1, mode="reflect").reshape(h, w)
    return out.astype(np.float32), lambda x: (x - center) @ A.T + center


class Faint(unittest.TestCase):
    """What is faint counts where it stands out of the noise, and only where little is clear."""

    def test_noise_is_measured_whatever_else_a_picture_shows(self):
        rng = np.random.default_rng(2)
        v, u = np.mgrid[0:300, 0:400] / 100.0
        shade = 0.4 + 0.1 * np.sin(u) + 0.05 * v
        for sigma in (0.002, 0.01, 0.03):
            noise = rng.normal(0, sigma, (300, 400))
            self.assertAlmostEqual(noise_of(shade + noise) / sigma, 1, delta=0.1)
            half = shade + noise
            half[:, :200] += 0.3 * speckle(300, 200)
            self.assertAlmostEqual(noise_of(half) / sigma, 1, delta=0.3)
            mask = np.zeros((300, 400), bool)
            mask[40:, 220:] = True
            half[:40, 220:] = 0.5  # smooth where nobody looks
            self.assertAlmostEqual(noise_of(half, mask) / sigma, 1, delta=0.12)

    def test_what_is_left_of_noise_at_each_scale_is_what_blurring_leaves(self):
        noise = np.random.default_rng(3).normal(0, 1, (700, 700))
        for step, level in ((1, 0), (1, 2), (2, 1), (4, 3)):
            sigmas = [BASE_SIGMA * 2 ** (k / LEVELS) * step for k in (level, level + 1)]
            a, b = (gaussian_filter(noise, np.sqrt(s**2 - CAMERA_SIGMA**2)) for s in sigmas)
            self.assertAlmostEqual((b - a).std() / noise_left(level, step), 1, delta=0.06)

    def test_faint_places_are_found_again_and_noise_alone_shows_few(self):
        rng = np.random.default_rng(4)
        image = 0.5 + 0.06 * (speckle(420, 420, 5) - 0.5)
        first, second = (image + rng.normal(0, 2 / 255, image.shape).astype(np.float32) for _ in range(2))
        clear = detect(first.astype(np.float32), limit=1)  # nothing but what is clear is asked for
        self.assertLess(len(clear), 3)
        a, b = (detect(x.astype(np.float32), limit=2000, few=0.25) for x in (first, second))
        self.assertGreater(len(a), 200)
        near = np.linalg.norm(a.xy[:, None] - b.xy[None], axis=2).min(1) < 1.5
        self.assertGreater(near.mean(), 0.55)
        pairs = match(unit_descriptors(a.descriptors), unit_descriptors(b.descriptors))
        off = np.linalg.norm(a.xy[pairs[:, 0]] - b.xy[pairs[:, 1]], axis=1)
        self.assertGreater((off < 2).sum(), 80)
        self.assertGreater((off < 2).mean(), 0.9)
        none = 0.5 + rng.normal(0, 2 / 255, image.shape)
        self.assertLess(len(detect(none.astype(np.float32), limit=2000, few=0.25)), 0.2 * len(a))

    def test_where_enough_is_clear_nothing_faint_is_taken(self):
        image = speckle(300, 300, 6)
        image[:, 150:] = 0.5 + 0.05 * (image[:, 150:] - 0.5)
        for limit, same in ((300, True), (100_000, False)):
            found = detect(image, limit=limit)
            clear = detect(image, limit=limit, few=0.0)
            self.assertEqual(len(found) == len(clear), same)
            np.testing.assert_array_equal(found.xy[np.isin(found.xy, clear.xy).all(1)], clear.xy)


class Filters(unittest.TestCase):
    def test_blur_is_a_gaussian_with_repeated_edges(self):
        image = np.random.default_rng(1).random((70, 91)).astype(np.float32)
        for sigma in (0.7, 1.6, 3.1):
            r = int(np.ceil(3 * sigma))
            expected = gaussian_filter(image.astype(float), sigma, mode="nearest", radius=r)
            np.testing.assert_allclose(gaussian_blur(image, sigma), expected, atol=2e-6)

    def test_halving_and_resampling_keep_the_pixel_convention(self):
        v, u = np.mgrid[0:41, 0:60].astype(np.float32)
        half = halve_by_area(np.stack([u, v], -1))
        self.assertEqual(half.shape, (20, 30, 2))
        np.testing.assert_allclose(half[3, 5], [10.5, 6.5])  # pixel (5, 3) covers 10 to 11 and 6 to 7
        x, y = np.meshgrid(np.linspace(0, 59, 77), np.linspace(0, 40, 33))
        np.testing.assert_allclose(remap(np.stack([u, v], -1), x, y), np.stack([x, y], -1), atol=1e-4)
        self.assertEqual(remap(u + 5, np.array([[-0.1, 59.2]]), np.array([[3.0, 3.0]])).max(), 0)

    def test_what_is_outside_a_mask_mixes_into_no_pixel_of_a_smaller_photo(self):
        rng = np.random.default_rng(5)
        for times, shape in ((0, (9, 7)), (1, (41, 60)), (2, (43, 61)), (3, (64, 90))):
            mask = gaussian_filter(rng.random(shape), 3) > 0.49
            image = rng.random(shape).astype(np.float32)
            stained = np.where(mask, image, np.nan)
            for _ in range(times):
                image, stained = halve_by_area(image), halve_by_area(stained)
            small = halve_mask(mask, times)
            # exactly the pixels that know nothing of what is outside
            np.testing.assert_array_equal(small, np.isfinite(stained))
            np.testing.assert_array_equal(stained[small], image[small])


class Detection(unittest.TestCase):
    def check_warp(self, A, least, upsample=False):
        """Share of matches, through the whole chain, that lie where the warp puts them."""
        image = speckle(420, 520, 3)
        center = np.array([260.0, 210.0])
        other, move = warped(image, A, center)
        a, b = detect(image, upsample=upsample), detect(other, upsample=upsample)
        m = match(unit_descriptors(a.descriptors), unit_descriptors(b.descriptors))
        error = np.linalg.norm(move(a.xy[m[:, 0]]) - b.xy[m[:, 1]], axis=1)
        self.assertGreater(len(m), 150)
        self.assertGreater((error < 2.0).mean(), least)
        self.assertLess(np.median(error), 0.6)

    def test_matches_survive_rotation_and_scale(self):
        for degrees, scale in ((35, 1.0), (90, 0.8), (160, 1.25)):
            c, s = np.cos(np.radians(degrees)) * scale, np.sin(np.radians(degrees)) * scale
            with self.subTest(degrees=degrees, scale=scale):
                self.check_warp(np.array([[c, -s], [s, c]]), 0.9)

    def test_matches_survive_thirty_degrees_of_view_change(self):
        k = np.cos(np.radians(30))
        c, s = np.cos(0.6), np.sin(0.6)
        R = np.array([[c, -s], [s, c]])
        self.check_warp(R @ np.diag([k, 1.0]) @ R.T, 0.85)
        self.check_warp(R @ np.diag([k, 1.0]) @ R.T, 0.85, upsample=True)

    def test_slanted_views_match_where_upright_ones_fail(self):
        image, center = speckle(420, 520, 3), np.array([260.0, 210.0])
        for degrees, angle, least in ((65, 0.0, 200), (65, 0.6, 200), (70, 1.9, 50)):
            c, s = np.cos(angle), np.sin(angle)
            R = np.array([[c, -s], [s, c]])
            other, move = warped(image, R @ np.diag([np.cos(np.radians(degrees)), 1.0]) @ R.T, center)
            right = []
            for more in (False, True):
                a, b = (
                    joined([detect(x, limit=2000), *([detect_slanted(x, limit=4000)] if more else [])])
                    for x in (image, other)
                )
                m = match(unit_descriptors(a.descriptors), unit_descriptors(b.descriptors))
                error = np.linalg.norm(move(a.xy[m[:, 0]]) - b.xy[m[:, 1]], axis=1)
                right.append(int((error < 2.0).sum()))
            self.assertLess(right[0], 10)
            self.assertGreater(right[1], least)
            self.assertGreater(right[1], 0.6 * len(m))

    def test_a_slanted_view_shows_what_its_map_says_and_only_what_is_inside(self):
        v, u = np.mgrid[:200, :300]

        def light(x, y):
            return 0.5 + 0.3 * np.sin(x / 17) * np.cos(y / 23)

        mask = (u - 140) ** 2 + (v - 90) ** 2 < 80**2
        for factor, angle in slanted_views():
            view, inside, A = squeezed(light(u, v).astype(np.float32), mask, factor, angle)
            y, x = np.nonzero(inside)
            p = np.stack([x, y], 1) @ A[:, :2].T + A[:, 2]
            self.assertLess(np.abs(view[y, x] - light(*p.T)).max(), 0.004)
            self.assertLess(np.hypot(p[:, 0] - 140, p[:, 1] - 90).max(), 80 + factor)
            self.assertAlmostEqual(inside.sum() * factor / mask.sum(), 1, delta=0.02)
            self.assertAlmostEqual(abs(np.linalg.det(A[:, :2])), factor)

    def test_positions_have_no_bias(self):
        v, u = np.mgrid[0:160, 0:200]
        rng = np.random.default_rng(4)
        blobs = np.array([[x + rng.random(), y + rng.random()] for x in range(30, 180, 30) for y in range(30, 140, 30)])
        image = sum(np.exp(-((u - x) ** 2 + (v - y) ** 2) / (2 * 2.5**2)) for x, y in blobs).astype(np.float32) * 0.5
        for upsample in (False, True):
            found = detect(image, upsample=upsample).xy
            near = np.array([found[np.argmin(np.linalg.norm(found - b, axis=1))] - b for b in blobs])
            self.assertLess(np.abs(near).max(), 0.15)
            self.assertLess(np.abs(near.mean(0)).max(), 0.05)

    def test_features_of_a_halved_photo_are_where_they_are_in_the_whole_one(self):
        v, u = np.mgrid[0:320, 0:400]
        rng = np.random.default_rng(8)
        blobs = np.array([[x + rng.random(), y + rng.random()] for x in range(60, 360, 60) for y in range(60, 280, 60)])
        image = sum(np.exp(-((u - x) ** 2 + (v - y) ** 2) / (2 * 5.0**2)) for x, y in blobs).astype(np.float32) * 0.5
        whole = detect(image)
        halved = detect(halve_by_area(image)).magnified(2)
        for f in (whole, halved):
            near = np.array([f.xy[np.argmin(np.linalg.norm(f.xy - b, axis=1))] - b for b in blobs])
            self.assertLess(np.abs(near.mean(0)).max(), 0.06)  # half a pixel is what a wrong convention costs
            self.assertLess(np.abs(near).max(), 0.3)

    def test_nothing_outside_the_mask_and_nothing_at_its_edge(self):
        image = speckle(300, 300, 5)
        v, u = np.mgrid[0:300, 0:300]
        mask = (u - 150) ** 2 + (v - 140) ** 2 < 80**2
        f = detect(image, mask)
        self.assertGreater(len(f), 50)
        depth = 80 - np.linalg.norm(f.xy - [150, 140], axis=1)
        self.assertGreater(depth.min(), 1.0)
        self.assertEqual(len(detect(image, np.zeros_like(mask))), 0)
        self.assertEqual(len(detect(np.full((200, 200), 0.5, np.float32))), 0)

    def test_the_limit_takes_the_strongest_everywhere(self):
        rng = np.random.default_rng(6)
        xy = np.vstack([rng.uniform(0, 100, (5000, 2)), rng.uniform(0, 1200, (300, 2))])
        response = np.r_[rng.uniform(1, 2, 5000), rng.uniform(0, 0.5, 300)]
        kept = keep_spread(xy, response, 400, (1200, 1200))
        self.assertEqual(len(kept), 400)
        self.assertGreater((kept >= 5000).sum(), 250)  # the weak ones elsewhere are not crowded out
        strongest = np.argmax(response)
        self.assertIn(strongest, kept)


class Matching(unittest.TestCase):
    def test_agrees_with_the_obvious_way(self):
        rng = np.random.default_rng(7)
        base = rng.random((700, 128))
        a = unit_descriptors((base * 255).astype(np.uint8))
        b = unit_descriptors(np.clip(base[rng.permutation(700)[:600]] * 255 + rng.normal(size=(600, 128)) * 60, 0, 255))
        d = np.sqrt(np.maximum(2 - 2 * a.astype(float) @ b.astype(float).T, 0))
        expected = []
        for i in range(len(a)):
            order = np.argsort(d[i])
            j = order[0]
            if d[i, j] <= 0.85 * d[i, order[1]] and np.argmin(d[:, j]) == i:
                expected.append((i, j))
        got = match(a, b, 0.85)
        self.assertGreater(len(expected), 300)
        self.assertEqual({tuple(x) for x in got.tolist()}, set(expected))
        self.assertEqual(match(a[:1], b).shape, (0, 2))

    def test_what_looks_more_like_another_feature_of_its_own_photo_is_no_match(self):
        rng = np.random.default_rng(8)
        n = 900
        a = unit_descriptors(rng.integers(0, 255, (n, 128)).astype(np.uint8))
        xy, scale = rng.uniform(0, 400, (n, 2)).astype(np.float32), rng.uniform(1, 12, n).astype(np.float32)
        # pairs of features alike: half of them one place found twice, half of them elsewhere
        a[1::2] = unit_descriptors(a[::2] + rng.normal(size=(n // 2, 128)).astype(np.float32) * 0.01)
        xy[1:600:2] = xy[:600:2] + scale[:600:2, None]
        apart = np.linalg.norm(xy[:, None].astype(float) - xy, axis=2) > SAME_PLACE * scale[:, None]
        slow = np.where(apart, a.astype(float) @ a.T, -1).max(1)
        own = nearest_own(a, xy, scale)
        np.testing.assert_allclose(own, slow, atol=1e-5)
        self.assertGreater(np.median(own[600:]) - np.median(own[:600:2]), 0.1)
        # another photo shows every second feature, less like it than its twin is
        b = unit_descriptors(a[::2] + rng.normal(size=(n // 2, 128)).astype(np.float32) * 0.02)
        whole, kept = match(a, b, 1.0), match(a, b, 1.0, (own, np.full(len(b), -1, np.float32)))
        expected = [(i, j) for i, j in whole.tolist() if a[i] @ b[j] >= own[i]]
        self.assertEqual(kept.tolist(), [list(x) for x in expected])
        self.assertGreater((kept[:, 0] < 600).sum(), 250)
        self.assertLess((kept[:, 0] >= 600).sum(), 20)
        turned = match(b, a, 1.0, (np.full(len(b), -1, np.float32), own))
        self.assertEqual(sorted(turned[:, ::-1].tolist()), sorted(kept.tolist()))
