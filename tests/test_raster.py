"""Drawing points and triangles against slow references, and the eye's invariants."""

import unittest
from dataclasses import replace

import numpy as np
import trimesh

from umbrate.core.geometry.pose import look_at, transform
from umbrate.core.raster.camera import eye_round
from umbrate.core.raster.coloring import counts_of, sample_of, usual_range
from umbrate.core.raster.pick import drawn_at
from umbrate.core.raster.points import FAR, draw_points, paint
from umbrate.core.raster.ramps import LIGHT
from umbrate.core.raster.solid import HEAD, WIRES, Manner, draw_triangles, paint_quickly, paint_triangles
from umbrate.core.raster.textured import halved, pages_of, paint_textured, sampled
from umbrate.core.raster.triangles import mesh_depth
from umbrate.core.surface.coarse import coarse_copy


def slow_draw(points, eye, w, h, size, spacing=0.0):
    """Depth and index buffers, point by point."""
    depth, index = np.full((h, w), FAR, np.float32), np.full((h, w), -1)
    E, f = eye.pose.astype(np.float32), np.float32(eye.f)
    least, lo = size, -((size - 1) // 2)
    for i, p in enumerate(points):
        x, y, z = E[:3, :3] @ p + E[:3, 3]
        if z <= 1e-6 and not eye.parallel:
            continue
        over = np.float32(eye.depth) if eye.parallel else z
        if spacing:
            size = min(max(int(np.float32(spacing) * f / over + np.float32(0.999)), least), 48)
            lo = -((size - 1) // 2)
        u = int(x * f / over + np.float32((w - 1) / 2) + np.float32(0.5)) + lo
        v = int(y * f / over + np.float32((h - 1) / 2) + np.float32(0.5)) + lo
        if 0 <= u and u + size <= w and 0 <= v and v + size <= h:
            block = np.s_[v : v + size, u : u + size]
            nearer = z < depth[block]
            depth[block][nearer] = z
            index[block][nearer] = i
    return depth, index


class Points(unittest.TestCase):
    def test_agrees_with_the_slow_way(self):
        rng = np.random.default_rng(1)
        points = rng.normal(size=(3000, 3)).astype(np.float32)
        plain = eye_round(np.zeros(3), 2.0, (1, -2, 0.7), 120, 90)
        # a parallel view stands as near as one likes: what lies behind the eye is drawn as well
        flat = replace(plain, parallel=True)
        near = flat.zoomed(6.0, np.zeros(3))
        for size, eye, spacing in (
            (1, plain, 0), (2, plain, 0), (3, plain, 0), (1, flat, 0), (2, near, 0), (1, plain, 0.1), (2, flat, 0.07),
        ):  # fmt: skip
            depth, index = slow_draw(points, eye, 120, 90, size, spacing)
            got = draw_points(points, eye, 120, 90, size, spacing=spacing)
            same = got.index == index
            self.assertGreater(same.mean(), 0.998)  # float rounding may move a point by a pixel
            np.testing.assert_allclose(got.depth[same], depth[same], rtol=1e-5, atol=1e-5)
            self.assertGreater((index >= 0).sum(), 300)

    def test_two_threads_draw_what_one_does(self):
        rng = np.random.default_rng(2)
        points = rng.normal(size=(150_000, 3)).astype(np.float32)
        points[::7] = points[0]  # ties in depth
        eye = eye_round(np.zeros(3), 2.0, (1, -2, 0.7), 200, 150)
        both = draw_points(points, eye, 200, 150, 1)
        # below the limit for two threads, in parts that are merged by the nearest depth, then the lowest index
        parts = [draw_points(points[k : k + 50_000], eye, 200, 150, 1) for k in range(0, 150_000, 50_000)]
        depth = np.stack([p.depth for p in parts])
        index = np.stack([np.where(p.index >= 0, p.index + 50_000 * k, 2**30) for k, p in enumerate(parts)])
        nearest = depth.min(0)
        first = np.where(depth == nearest, index, 2**30).min(0)
        np.testing.assert_array_equal(both.depth, nearest)
        np.testing.assert_array_equal(both.index, np.where(first == 2**30, -1, first))

    def test_a_click_takes_the_point_that_is_drawn_there_on_a_surface_at_any_slant_and_none_behind_it(self):
        rng = np.random.default_rng(3)
        flat = np.column_stack([rng.uniform(-1, 1, (20_000, 2)), np.zeros(20_000)]).astype(np.float32)
        for tilt in (0, 40, 70):
            direction = (0.0, -np.sin(np.radians(tilt)), np.cos(np.radians(tilt)) + 1e-6)
            for parallel in (False, True):
                eye = replace(eye_round(np.zeros(3), 1.5, direction, 300, 200), parallel=parallel)
                b = draw_points(flat, eye, 300, 200, 1)
                uvz = eye.project(flat, 300, 200)
                self.assertGreater((b.index >= 0).mean(), 0.05)
                offs = []
                for x, y in rng.integers((100, 80), (200, 120), (200, 2)).tolist():
                    k = drawn_at(b.depth, b.index, (x, y), 4, eye.f, eye.flat)
                    if b.index[y, x] >= 0:
                        self.assertEqual(k, b.index[y, x])
                    offs.append(uvz[k, :2] - [x, y])
                self.assertLess(
                    np.abs(np.mean(offs, axis=0)).max(), 0.6
                )  # no side is preferred, the nearer one neither
        # through the gaps of a thin front a back is seen: it is not taken
        eye = eye_round(np.zeros(3), 1.5, (0, 0, 1), 300, 200)
        both = np.concatenate([flat[:1500] + [0, 0, 0.5], flat - [0, 0, 0.5]]).astype(np.float32)
        b = draw_points(both, eye, 300, 200, 1)
        back = 0
        for x, y in rng.integers((100, 80), (200, 120), (300, 2)).tolist():
            around = b.index[y - 4 : y + 5, x - 4 : x + 5]
            front = ((around >= 0) & (around < 1500)).any()
            back += b.index[y, x] >= 1500 and front
            k = drawn_at(b.depth, b.index, (x, y), 4, eye.f)
            self.assertEqual(k < 1500, front)
        self.assertGreater(back, 30)
        self.assertEqual(drawn_at(b.depth, np.full_like(b.index, -1), (5, 5), 4, eye.f), -1)
        self.assertEqual(drawn_at(b.depth, b.index, (-50, 900), 4, eye.f), -1)

    def test_a_part_of_the_points_and_their_colors(self):
        points = np.array([[0, 0, 0], [0.5, 0, 0], [0, 0.5, 0.2]], np.float32)
        colors = np.array([[250, 10, 20], [1, 2, 3], [4, 5, 6]], np.uint8)
        eye = eye_round(np.zeros(3), 1.0, (0, -1, 0), 51, 51)
        b = draw_points(points, eye, 51, 51, 1, count=1)
        self.assertEqual(set(np.unique(b.index)), {-1, 0})
        picture = paint(b, colors, (9, 8, 7))
        self.assertEqual(picture[25, 25].tolist(), [20, 10, 250, 255])
        self.assertEqual(picture[0, 0].tolist(), [7, 8, 9, 255])


class Eyes(unittest.TestCase):
    def setUp(self):
        self.eye = eye_round(np.array([1.0, 2, 3]), 2.0, (1, -1, 0.5), 300, 200)

    def test_a_place_projects_where_it_was_picked(self):
        rng = np.random.default_rng(3)
        for u, v, d in rng.uniform([0, 0, 1], [300, 200, 9], size=(30, 3)):
            X = self.eye.place_at(u, v, d, 300, 200)
            np.testing.assert_allclose(self.eye.project(X[None], 300, 200)[0], [u, v, d], atol=1e-9)

    def test_turning_keeps_the_pivot_zooming_the_place_and_moving_the_depth(self):
        e = self.eye
        e.pivot = np.array([1.4, 1.8, 3.1])
        before = e.project(e.pivot[None], 300, 200)[0]
        turned = e
        for _ in range(20):
            turned = turned.turned(0.3, 0.4)  # past the pole it stops, and nothing becomes undefined
        np.testing.assert_allclose(turned.project(e.pivot[None], 300, 200)[0], before, atol=1e-6)
        np.testing.assert_allclose(turned.pose[:3, :3] @ turned.pose[:3, :3].T, np.eye(3), atol=1e-9)
        place = e.place_at(40, 60, 4.0, 300, 200)
        np.testing.assert_allclose(e.zoomed(2.5, place).project(place[None], 300, 200)[0], [40, 60, 1.6], atol=1e-9)
        moved = e.moved(12, -7)
        np.testing.assert_allclose(moved.project(e.pivot[None], 300, 200)[0], before + [12, -7, 0], atol=1e-9)

    def test_a_parallel_view_keeps_sizes_places_and_what_it_turns_about(self):
        e = replace(self.eye, parallel=True)
        square = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0]]) @ e.pose[:3, :3] + e.pivot
        for deeper in (0.0, 3.0, -e.depth - 2):  # behind the eye too
            uv = e.project(square + deeper * e.pose[2, :3], 300, 200)[:, :2]
            np.testing.assert_allclose(uv[1] - uv[0], [e.f / e.depth, 0], atol=1e-9)
            np.testing.assert_allclose(uv[2] - uv[1], [0, e.f / e.depth], atol=1e-9)
        X = e.place_at(40, 60, 4.0, 300, 200)
        np.testing.assert_allclose(e.project(X[None], 300, 200)[0], [40, 60, 4], atol=1e-9)
        origin, way = e.ray(40, 60, 300, 200)
        np.testing.assert_allclose(np.cross(X - origin, way), 0, atol=1e-9)
        near = e.zoomed(2.5, X)
        np.testing.assert_allclose(near.project(X[None], 300, 200)[0, :2], [40, 60], atol=1e-9)
        self.assertAlmostEqual(near.depth, e.depth / 2.5)
        moved = e.moved(12, -7).project(e.pivot[None], 300, 200)[0] - e.project(e.pivot[None], 300, 200)[0]
        np.testing.assert_allclose(moved, [12, -7, 0], atol=1e-9)
        turned = e.turned(0.4, 0.3)
        self.assertAlmostEqual(turned.depth, e.depth)
        # both kinds agree at the depth of the pivot, and with the matrix that says it in one
        P = np.array([[0.3, -0.2, 0], [0, 0.5, 0]]) @ e.pose[:3, :3] + e.pivot
        np.testing.assert_allclose(e.project(P, 300, 200), self.eye.project(P, 300, 200), atol=1e-9)
        for eye in (e, self.eye):
            Y = P @ eye.matrix[:3, :3].T + eye.matrix[:3, 3]
            np.testing.assert_allclose(
                eye.f * Y[:, :2] / Y[:, 2:] + [149.5, 99.5], eye.project(P, 300, 200)[:, :2], atol=1e-9
            )

    def test_fits_a_ball_into_any_shape_of_window(self):
        rng = np.random.default_rng(4)
        ball = rng.normal(size=(500, 3))
        ball = ball / np.linalg.norm(ball, axis=1, keepdims=True) * 3.0 + [1, 2, 3]
        for w, h in ((300, 200), (150, 400), (200, 200)):
            uv = eye_round(np.array([1.0, 2, 3]), 3.0, (0.3, 1, 0.2), w, h).project(ball, w, h)
            self.assertGreaterEqual(uv[:, :2].min(), -1)
            self.assertTrue((uv[:, :2] <= [w, h]).all())
            self.assertGreater(np.ptp(uv[:, :2], axis=0).max(), 0.9 * min(w, h))


class Triangles(unittest.TestCase):
    def test_depth_agrees_with_ray_and_triangle(self):
        rng = np.random.default_rng(5)
        V = rng.normal(size=(30, 3))
        F = rng.integers(0, 30, size=(25, 3))
        F = F[(F[:, 0] != F[:, 1]) & (F[:, 1] != F[:, 2]) & (F[:, 0] != F[:, 2])]
        E = look_at([5.0, -4, 2], [0, 0, 0])
        K = np.array([60.0, 24.3, 18.7])
        got = mesh_depth(V, F, K, E, 48, 36)
        Y = transform(E, V)
        hits = 0
        for v in range(36):
            for u in range(48):
                r = np.array([(u - K[1]) / K[0], (v - K[2]) / K[0], 1.0])
                best = np.inf
                for a, b, c in Y[F]:
                    M = np.stack([b - a, c - a, -r], 1)
                    if abs(np.linalg.det(M)) < 1e-12:
                        continue
                    p, q, t = np.linalg.solve(M, -a)
                    if min(p, q, 1 - p - q) > 1e-9 and t > 0:
                        best = min(best, t)
                if np.isfinite(best) and np.isfinite(got[v, u]):
                    self.assertAlmostEqual(got[v, u], best, places=6)
                    hits += 1
                else:
                    self.assertEqual(np.isfinite(best), np.isfinite(got[v, u]))
        self.assertGreater(hits, 200)


class Counts(unittest.TestCase):
    def test_bars_are_counted_as_by_a_slow_histogram(self):
        rng = np.random.default_rng(8)
        for _ in range(5):
            values = rng.normal(3, 2, 3000).astype(np.float32)
            values[rng.random(3000) < 0.05] = np.nan
            values[:3] = np.inf, -np.inf, 3.0
            low, high = sorted(rng.uniform(-1, 7, 2))
            some = values[np.isfinite(values)].astype(float)
            edges = np.linspace(low, high, 31)
            near = (np.abs(some[:, None] - edges[1:-1]).min(1) < 1e-6).sum()  # on an edge either side is right
            for clip in (False, True):
                want = np.histogram(np.clip(some, low, high) if clip else some, edges)[0]
                got = counts_of(values, low, high, 30, clip)
                self.assertLessEqual(np.abs(got - want).sum(), 2 * near)
                self.assertEqual(got.sum(), want.sum())

    def test_a_sample_of_many_values_gives_nearly_their_range(self):
        values = np.random.default_rng(9).gamma(2.0, 1.0, 1_000_000).astype(np.float32)
        self.assertLessEqual(len(sample_of(values)), 120_000)
        self.assertEqual(len(sample_of(values[:50])), 50)
        low, high = usual_range("precision", values)
        np.testing.assert_allclose([low, high], np.percentile(values, (1, 99)), rtol=0.05)


def slow_solid(points, faces, eye, w, h):
    """Depth and the nearest triangle at every pixel, by where its ray meets each triangle."""
    depth, index = np.full((h, w), np.inf), np.full((h, w), -1)
    T = points[faces].astype(float)
    n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    for v in range(h):
        for u in range(w):
            start, d = eye.ray(u, v, w, h)
            with np.errstate(divide="ignore", invalid="ignore"):
                s = ((T[:, 0] - start) * n).sum(1) / (n @ d)
            X = start + s[:, None] * d
            inside = np.ones(len(T), bool)
            for k in range(3):
                side = np.cross(T[:, (k + 1) % 3] - T[:, k], X - T[:, k])
                inside &= (side * n).sum(1) > 0
            s = np.where(inside & (s > 0), s, np.inf)
            k = s.argmin()
            if np.isfinite(s[k]):
                index[v, u], depth[v, u] = k, (eye.pose[:3, :3] @ X[k] + eye.pose[:3, 3])[2]
    return depth, index


class Solids(unittest.TestCase):
    def test_triangles_are_seen_where_rays_meet_them_from_either_side(self):
        rng = np.random.default_rng(3)
        points = rng.normal(size=(90, 3)).astype(np.float32)
        faces = rng.integers(0, 90, (60, 3)).astype(np.int32)
        faces = faces[(faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])]
        plain = eye_round(np.zeros(3), 2.0, (1, -2, 0.7), 60, 44)
        for eye in (plain, replace(plain, parallel=True)):
            depth, index = slow_solid(points, faces, eye, 60, 44)
            solid = draw_triangles(points, faces, eye, 60, 44)
            same = solid.buffers.index == index
            self.assertGreater(same.mean(), 0.99)  # a pixel on an edge may go to either side
            on = same & (index >= 0)
            self.assertGreater(on.sum(), 800)
            np.testing.assert_allclose(solid.buffers.depth[on], depth[on], rtol=1e-4)

    def test_a_closed_surface_has_no_gaps_and_is_shaded_by_its_normals(self):
        ball = trimesh.creation.icosphere(subdivisions=5, radius=1.0)
        points, faces = ball.vertices.astype(np.float32), ball.faces.astype(np.int32)
        eye = eye_round(np.zeros(3), 1.2, (1, -2, 0.7), 160, 120)
        solid = draw_triangles(points, faces, eye, 160, 120)
        v, u = np.mgrid[:120, :160]
        rays = np.array([eye.ray(x, y, 160, 120)[1] for x, y in zip(u.ravel(), v.ravel(), strict=True)])
        c = eye.center
        b = rays @ c
        root = b * b - (c @ c - 1)
        seen = (root > 0).reshape(120, 160)
        got = solid.buffers.index >= 0
        self.assertLess((seen != got).mean(), 0.004)  # but for the outline
        inner = np.array([eye.ray(x, y, 160, 120)[1] for x, y in zip(u[got], v[got], strict=True)])
        X = c + (-(inner @ c) - np.sqrt(np.maximum((inner @ c) ** 2 - (c @ c - 1), 0)))[:, None] * inner
        mesh = {"points": points, "faces": faces, "normals": points}
        gray = np.full((len(points), 3), 200, np.uint8)
        picture = paint_triangles(solid, mesh, gray, eye, (1, 2, 3), (0, 0, 0))
        self.assertEqual(picture[0, 0].tolist(), [3, 2, 1, 255])
        toward = (c - X) / np.linalg.norm(c - X, axis=1, keepdims=True)
        N = X / np.linalg.norm(X, axis=1, keepdims=True)
        light = np.maximum(N @ LIGHT, 0)
        want = 200 * (0.22 + 0.78 * ((1 - HEAD) * light + HEAD * np.maximum((N * toward).sum(1), 0)))
        core = np.maximum((N * toward).sum(1), 0) > 0.3
        off = np.abs(picture[got][core, 0].astype(float) - want[core])
        self.assertLess(np.percentile(off, 99), 3)
        quick = paint_quickly(solid, mesh, gray, eye, (1, 2, 3))
        self.assertLess(np.percentile(np.abs(quick.astype(int) - picture), 99), 5)
        # turned inside out it shows its inner side
        inside = {**mesh, "faces": faces[:, ::-1].copy()}
        back = paint_triangles(
            draw_triangles(points, inside["faces"], eye, 160, 120), inside, gray, eye, (1, 2, 3), (0, 0, 0)
        )
        quick = paint_quickly(draw_triangles(points, inside["faces"], eye, 160, 120), inside, gray, eye, (1, 2, 3))
        self.assertGreater(quick[60, 80, 2], 1.1 * quick[60, 80, 0].astype(float))
        self.assertGreater(back[60, 80, 2], 1.1 * back[60, 80, 0].astype(float))
        # edges alone leave the ground between them
        near = eye_round(np.array([0, -0.9, 0.3]), 0.12, (0.2, -1, 0.3), 160, 120)
        wires = paint_triangles(
            draw_triangles(points, faces, near, 160, 120), mesh, gray, near, (1, 2, 3), (250, 250, 250), Manner(WIRES)
        )
        bright = (wires[..., 0] > 200).mean()
        self.assertTrue(0.01 < bright < 0.3, bright)
        self.assertGreater((wires[..., :3] == [3, 2, 1]).all(2).mean(), 0.4)

    def test_a_texture_is_seen_where_rays_meet_it_however_large_its_pages_are(self):
        """Colors that are linear over the page come back exactly, whatever copy of it is drawn."""
        rng = np.random.default_rng(5)
        points = rng.normal(size=(48, 3)).astype(np.float32)
        faces = rng.permutation(48).reshape(16, 3).astype(np.int32)
        corner, uv = np.arange(48, dtype=np.int32).reshape(16, 3), rng.uniform(0.1, 0.9, (48, 2))
        mesh = {"points": points, "faces": faces, "corner": corner, "uv": uv, "page": np.array([0, 1] * 8)}
        plain = eye_round(np.zeros(3), 2.5, (1, -2, 0.7), 80, 60)
        for side, eye in ((64, plain), (1024, plain), (256, replace(plain, parallel=True))):
            at = (np.arange(side) + 0.5) / side
            right, up = (np.broadcast_to(255 * x, (side, side)) for x in (at, at[::-1, None]))
            page = np.stack([right, up, np.full((side, side), 40.0)], 2)
            pages = pages_of([np.round(page).astype(np.uint8), np.round(255 - page).astype(np.uint8)])
            solid = draw_triangles(points, faces, eye, 80, 60)
            picture = paint_textured(solid, mesh, pages, (9, 9, 9))[..., 2::-1].astype(float)
            index, seen = solid.buffers.index, 0
            T = points[faces].astype(float)
            n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
            for v, u in zip(*np.nonzero(index >= 0), strict=True):
                k = index[v, u]
                start, d = eye.ray(u, v, 80, 60)
                if n[k] @ d > 0:
                    continue  # its inner side
                X = start + (T[k, 0] - start) @ n[k] / (n[k] @ d) * d
                share = np.linalg.solve(T[k].T, X) if abs(np.linalg.det(T[k])) > 1e-2 else None
                if share is None:
                    continue
                place = share @ uv[corner[k]]
                want = np.array([255 * place[0], 255 * place[1], 40.0])
                want = 255 - want if k % 2 else want
                seen += 1
                # a copy's texel may be as large as a pixel: at its rim the page is cut off
                np.testing.assert_allclose(picture[v, u], want, atol=4)
            self.assertGreater(seen, 150)
            self.assertTrue((picture[index < 0] == 9).all())
            first = paint_textured(solid, mesh, pages, (9, 9, 9), np.tile(np.uint8([200, 0, 0]), (16, 1)), share=1.0)
            outer = first[..., 2] == 200
            self.assertGreaterEqual(outer.sum(), seen)
        np.testing.assert_array_equal(halved(np.arange(48, dtype=np.uint8).reshape(4, 4, 3))[0, 0], [8, 9, 10])
        mesh["vertex"] = faces.ravel().astype(np.int32)
        of = np.empty((48, 2))
        of[mesh["vertex"]] = uv
        odd = np.zeros(48, bool)
        odd[faces[1::2]] = True
        red = sampled(mesh, pages)[:, 0].astype(float)
        np.testing.assert_allclose(np.where(odd, 255 - red, red), 255 * of[:, 0], atol=4)

    def test_a_coarse_copy_is_as_coarse_as_asked_and_stays_on_the_surface(self):
        ball = trimesh.creation.icosphere(subdivisions=6, radius=1.0)
        points, faces = ball.vertices.astype(np.float32), ball.faces.astype(np.int32)
        few, triangles, rows = coarse_copy(points, faces, 8000)
        np.testing.assert_array_equal(few, points[rows])
        self.assertAlmostEqual(len(triangles) / 8000, 1, delta=0.3)
        a, b, c = (few[triangles[:, k]] for k in range(3))
        area = np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2
        self.assertAlmostEqual(area / (4 * np.pi), 1, delta=0.03)
        self.assertEqual(len(coarse_copy(points, faces, 10**6)[1]), len(faces))
