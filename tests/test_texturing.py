"""Textures: charts, packing, choice of photos and leveling against slow references, the whole against a known color."""

import io
import itertools
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
import scipy
import trimesh
from PIL import Image

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions.delivering import export_texture
from umbrate.actions.mending import MEND
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.lens import project_one
from umbrate.core.geometry.pose import look_at
from umbrate.core.geometry.similarity import scale_of
from umbrate.core.surface.build import vertex_normals
from umbrate.core.texture import detail
from umbrate.core.texture.bake import owners
from umbrate.core.texture.build import Here, Wanted, make_texture
from umbrate.core.texture.charts import charts_of
from umbrate.core.texture.choose import PAIR, chosen_photos, costs_of, exposures, total_cost
from umbrate.core.texture.detail import detail_pages, openness
from umbrate.core.texture.level import COMMON, SMALL, SMOOTH, corrections, sides_of
from umbrate.core.texture.pack import packed
from umbrate.core.texture.views import Camera, seen_in
from umbrate.sitting.frames import frame_of
from umbrate.sitting.surfaces import load_surface
from umbrate.sitting.textures import load_texture
from umbrate.stages import BY_NAME
from umbrate.stages.base import Report, parse_settings
from umbrate.work.state import is_current

STAGES = ("photos", "masks", "lens", "poses", "cloud", "surface")

RADIUS = 10.0


def ball(level=4):
    """A ball: points (n, 3), faces (t, 3)."""
    mesh = trimesh.creation.icosphere(level, RADIUS)
    return np.array(mesh.vertices), np.array(mesh.faces, np.int32)


def ring():
    """A torus: parts of it lie over others from every side."""
    mesh = trimesh.creation.torus(8.0, 3.0, major_sections=60, minor_sections=30)
    return np.array(mesh.vertices), np.array(mesh.faces, np.int32)


def color_at(X):
    """The color (n, 3) of places on the ball, 40 to 220: waves, and spots as fine as a few pixels."""
    u = X / RADIUS
    wide = 130 + 60 * np.stack([np.sin(4 * u[:, 0]), np.sin(5 * u[:, 1] + 1), np.cos(4 * u[:, 2])], 1)
    fine = 25 * np.sin(1.6 * X[:, :1]) * np.sin(1.5 * X[:, 1:2]) * np.cos(1.7 * X[:, 2:])
    return wide + fine


LENS = np.array([520.0, 159.5, 119.5, -0.08, 0.02, 0, 0, 0, 0, 0])


def photo_of_ball(pose):
    """A photo (h, w, 3) float64 of the ball, as its lens bends it, and its mask."""
    from umbrate.core.geometry.lens import unproject_one

    h, w = 240, 320
    eye = -pose[:3, :3].T @ pose[:3, 3]
    d = np.array([[(*unproject_one(float(u), float(v), LENS), 1.0) for u in range(w)] for v in range(h)])
    d = d @ pose[:3, :3]
    d /= np.linalg.norm(d, axis=2, keepdims=True)
    b = d @ eye
    root = b**2 - (eye @ eye - RADIUS**2)
    hit = root > 0
    X = eye + (-b - np.sqrt(np.maximum(root, 0)))[:, :, None] * d
    out = np.full((h, w, 3), 15.0)
    out[hit] = color_at(X[hit])
    return out, hit


def cameras_round(count=10, lowest=-0.2):
    """Poses round the ball, none from below."""
    out = []
    for k in range(count):
        t, z = 2 * np.pi * k / count, 12.0 + 14.0 * (k % 3) + 40 * lowest
        out.append(look_at(np.array([42 * np.cos(t), 42 * np.sin(t), z]), np.zeros(3)))
    return out


class Laid(unittest.TestCase):
    def test_every_triangle_is_laid_down_once_face_up_and_none_covers_another(self):
        for points, faces in (ball(), ring()):
            c = charts_of(points, faces)
            np.testing.assert_array_equal(c.vertex[c.corner], faces)
            np.testing.assert_array_equal(c.of[c.corner], np.repeat(c.part[:, None], 3, 1))
            T = c.place[c.corner]
            u, v = T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]
            flat = (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2
            X = points[faces]
            true = np.linalg.norm(np.cross(X[:, 1] - X[:, 0], X[:, 2] - X[:, 0]), axis=1) / 2
            self.assertGreater(flat.min(), 0)
            self.assertGreater((flat / true).min(), 0.1)
            self.assertGreater(flat.sum() / true.sum(), 0.85)
            self.assertLess(len(c.size), 80)
            self.assertTrue((c.place > -1e-9).all() and (c.place <= c.size[c.of] + 1e-9).all())
            middle = T.mean(1)
            for k in range(len(c.size)):
                rows = np.flatnonzero(c.part == k)
                for r in rows:
                    a, b, d = T[rows, 0], T[rows, 1], T[rows, 2]
                    side = [
                        (q[:, 0] - p[:, 0]) * (middle[r, 1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (middle[r, 0] - p[:, 0])
                        for p, q in ((a, b), (b, d), (d, a))
                    ]
                    self.assertEqual(int((np.min(side, 0) > 0).sum()), 1)

    def test_up_on_the_object_is_up_on_the_page(self):
        points, faces = ball()
        c = charts_of(points, faces)
        z = points[c.vertex, 2]
        for k in range(len(c.size)):
            rows = c.of == k
            if np.ptp(z[rows]) > 3:
                self.assertGreater(np.corrcoef(c.place[rows, 1], z[rows])[0, 1], 0.3)

    def test_charts_on_pages_keep_their_distance_and_fill_them(self):
        c = charts_of(*ring())
        for side, pages, padding in ((512, 1, 4), (256, 3, 3)):
            p = packed(c, side, pages, padding)
            self.assertLess(p.page.max(), pages)
            self.assertGreater(p.covered, 0.25)
            texel = p.scale * c.place + p.shift[c.of]
            self.assertTrue((texel >= padding - 1e-6).all() and (texel <= side - padding + 1e-6).all())
            uv = texel[c.corner]
            near = [np.zeros((side, side), int) for _ in range(pages)]
            for k in range(len(c.size)):
                mine = np.flatnonzero(c.part == k)
                on = owners(uv, mine, side) >= 0
                ys, xs = np.nonzero(on)
                grown = np.zeros_like(on)
                for dy, dx in itertools.product((-padding, 0, padding), repeat=2):
                    grown[np.clip(ys + dy, 0, side - 1), np.clip(xs + dx, 0, side - 1)] = True
                self.assertFalse((near[p.page[k]][grown & on] > 0).any() or (grown & (near[p.page[k]] == 1)).any())
                near[p.page[k]][on] = 1
        self.assertAlmostEqual(packed(c, 512, 1, 4, scale=5.0).scale, 5.0)
        with self.assertRaisesRegex(UmbrateError, "do not fit"):
            packed(c, 128, 1, 4, scale=20.0)


class Chosen(unittest.TestCase):
    def test_of_two_photos_the_cheapest_choice_that_there_is_and_of_more_no_worse_than_twice(self):
        rng = np.random.default_rng(0)
        for case in range(12):
            t, p = 9, 2 if case < 6 else 3
            good = rng.uniform(0, 30, (p, t)).astype(np.float32) * (rng.random((p, t)) < 0.85)
            edges = np.array([(i, i + 1) for i in range(t - 1)] + [(0, 4), (2, 7), (3, 8)])
            length = rng.uniform(0.2, 2, len(edges))
            label = chosen_photos(good, good > 0, edges, length)
            D = costs_of(good, good > 0)
            seen = np.isfinite(D).any(0)
            np.testing.assert_array_equal(label < 0, ~seen)
            part = seen[edges].all(1)
            weight = np.zeros(len(edges))
            weight[part] = PAIR * length[part] / length[part].mean()
            best = min(
                total_cost(np.where(seen, x, -1), D, edges, weight)
                for x in map(np.array, itertools.product(range(p), repeat=t))
                if np.isfinite(D[x[seen], np.flatnonzero(seen)]).all()
            )
            mine = total_cost(label, D, edges, weight)
            self.assertLess(mine, best * (1 if p == 2 else 2) + 0.02)  # whole numbers stand for costs
            self.assertGreater(mine, best - 0.02)

    def test_exposures_come_back_whatever_single_photos_show(self):
        rng = np.random.default_rng(1)
        true = rng.uniform(50, 120, (400, 3))
        gain = rng.uniform(0.7, 1.4, (8, 3))
        good = (rng.random((8, 400)) < 0.5).astype(np.float32)
        color = np.clip(true[None] / gain[:, None] + rng.normal(0, 1, (8, 400, 3)), 0, 255)
        color[rng.random((8, 400)) < 0.15] = 255  # shine
        found = exposures(color.astype(np.uint8), good)
        ratio = found / gain
        self.assertLess(np.abs(ratio / np.median(ratio, axis=0) - 1).max(), 0.02)

    def test_corrections_are_those_of_least_squares_written_out(self):
        rng = np.random.default_rng(2)
        _, faces = ball(1)
        label = rng.integers(-1, 3, len(faces))
        s = sides_of(faces, label)
        for t in range(len(faces)):
            for k in range(3):
                row = s.corner[t, k]
                self.assertEqual(row < 0, label[t] < 0)
                if row >= 0:
                    self.assertEqual((s.vertex[row], s.photo[row]), (faces[t, k], label[t]))
        m = len(s.vertex)
        color, common = rng.uniform(0, 200, (m, 3)), rng.uniform(0, 200, (m, 3))
        common[::5] = np.nan
        rows, right = [], []
        for i in range(m - 1):
            if s.vertex[i] == s.vertex[i + 1]:
                rows.append(np.eye(m)[i] - np.eye(m)[i + 1])
                right.append(color[i + 1] - color[i])
        pairs = {tuple(sorted((c[i], c[(i + 1) % 3]))) for c in s.corner if c[0] >= 0 for i in range(3)}
        for a, b in sorted(pairs):
            rows.append(SMOOTH * (np.eye(m)[a] - np.eye(m)[b]))
            right.append(np.zeros(3))
        for i in range(m):
            if np.isfinite(common[i]).all():
                rows.append(COMMON * np.eye(m)[i])
                right.append(COMMON * (common[i] - color[i]))
            else:
                rows.append(np.sqrt(SMALL) * np.eye(m)[i])
                right.append(np.zeros(3))
        slow = np.linalg.lstsq(np.array(rows), np.array(right), rcond=None)[0]
        np.testing.assert_allclose(corrections(s, color, None, common), slow, atol=1e-6)


class Whole(unittest.TestCase):
    """A ball whose color is known everywhere, photographed from above and round it."""

    @classmethod
    def setUpClass(cls):
        cls.points, cls.faces = ball()
        cls.poses = cameras_round()
        made = [photo_of_ball(E) for E in cls.poses]
        cls.photos, cls.masks = [x for x, _ in made], [m for _, m in made]
        cls.cameras = [Camera(E, LENS, (320, 240), m) for E, m in zip(cls.poses, cls.masks, strict=True)]

    def make(self, photos=None, cameras=None, **wanted):
        photos = [np.clip(np.round(x), 0, 255).astype(np.uint8) for x in photos or self.photos]
        wanted = Wanted(**{"side": 512, **wanted})
        return make_texture(self.points, self.faces, Here(cameras or self.cameras, lambda k: photos[k]), wanted)

    def test_near_a_soft_edge_a_photo_counts_the_less_the_nearer(self):
        camera, photo = self.cameras[0], np.clip(np.round(self.photos[0]), 0, 255).astype(np.uint8)
        normals = vertex_normals(self.points, self.faces).astype(np.float64)
        hard, *_ = seen_in(self.points, normals, self.faces, camera, photo)
        soft, *_ = seen_in(self.points, normals, self.faces, replace(camera, soft=20), photo)
        seen = hard > 0
        X = self.points[self.faces[seen]].mean(1) @ camera.pose[:3, :3].T + camera.pose[:3, 3]
        uv = np.array([project_one(x / z, y / z, camera.lens) for x, y, z in X])
        away = scipy.ndimage.distance_transform_edt(camera.mask)[tuple(np.round(uv).astype(int).T[::-1])]
        np.testing.assert_allclose(soft[seen] / hard[seen], np.minimum(away / 20, 1), atol=0.2)
        self.assertTrue((away < 10).any() and (away > 25).any())

    def errors(self, texture, seen=True):
        """Levels (k, 3) that texels are off the true color, of triangles that photos show."""
        found, true = self.colors(texture, seen)
        return found - true

    def colors(self, texture, seen=True):
        """Colors (k, 3) of texels, and the true ones, of triangles that photos show."""
        uv = texture.uv[texture.corner] * 512
        uv[:, :, 1] = 512 - uv[:, :, 1]
        owner = owners(uv, np.flatnonzero((texture.photo >= 0) == seen), 512)
        y, x = np.nonzero(owner >= 0)
        t = owner[y, x]
        T = uv[t]
        A = np.concatenate([T.transpose(0, 2, 1), np.ones((len(t), 1, 3))], 1)
        share = np.linalg.solve(A, np.stack([x + 0.5, y + 0.5, np.ones(len(t))], 1)[:, :, None])[:, :, 0]
        X = np.einsum("tk,tkj->tj", share, self.points[self.faces[t]])
        X *= RADIUS / np.linalg.norm(X, axis=1, keepdims=True)
        return texture.pages[0][y, x].astype(float), color_at(X)

    def test_what_a_photo_shows_is_what_is_turned_to_it(self):
        normals = vertex_normals(self.points, self.faces).astype(float)
        photo = np.clip(self.photos[0], 0, 255).astype(np.uint8)
        good, color, _ = seen_in(self.points, normals, self.faces, self.cameras[0], photo)
        eye = -self.poses[0][:3, :3].T @ self.poses[0][:3, 3]
        X = self.points[self.faces].mean(1)
        facing = ((eye - X) * X).sum(1) / (np.linalg.norm(eye - X, axis=1) * RADIUS)
        self.assertFalse((good[facing < 0] > 0).any())
        self.assertTrue((good[facing > 0.5] > 0).all())
        seen = facing > 0.5
        self.assertLess(np.abs(color[seen] - color_at(X[seen])).max(), 14)
        # something that stands before it hides it: a plate between
        plate = trimesh.creation.box((6, 6, 0.2))
        d = eye / np.linalg.norm(eye)
        P = np.array(plate.vertices)
        R = np.linalg.svd(d[None])[2]
        P = P @ np.array([R[1], R[2], R[0]]) + d * 14
        both = np.concatenate([self.points, P])
        faces = np.concatenate([self.faces, np.array(plate.faces, np.int32) + len(self.points)])
        n = vertex_normals(both, faces).astype(float)
        hidden, _, _ = seen_in(both, n, faces, self.cameras[0], photo)
        behind = np.linalg.norm(np.cross(X - eye, d), axis=1) < 2.4 * np.linalg.norm(X - eye, axis=1) / 28
        self.assertTrue((hidden[: len(X)][behind & seen] == 0).all())
        self.assertGreater((behind & seen).sum(), 20)

    def test_texels_have_the_true_color_and_the_shape_is_untouched(self):
        before = self.points.tobytes(), self.faces.tobytes()
        made = self.make()
        self.assertEqual((self.points.tobytes(), self.faces.tobytes()), before)
        np.testing.assert_array_equal(made.vertex[made.corner], self.faces)
        off = self.errors(made)
        self.assertLess(np.abs(off).mean(), 2.0)
        self.assertLess(np.percentile(np.abs(off), 99), 9)
        self.assertLess(abs(off.mean()), 0.5)
        # nobody looked from below: made up from round it
        unseen = made.photo < 0
        self.assertGreater(unseen.mean(), 0.02)
        self.assertLess(self.points[self.faces[unseen]][:, :, 2].mean(1).max(), -5)
        self.assertLess(np.abs(self.errors(made, seen=False)).mean(), 60)

    def test_what_is_out_of_focus_is_left_to_other_photos_there_alone(self):
        rng = np.random.default_rng(6)
        photos = []
        for k, x in enumerate(self.photos):
            grain = 5 * scipy.ndimage.gaussian_filter(rng.normal(size=x.shape[:2]), 1.0) / 0.28
            x = x + grain[:, :, None]
            soft = scipy.ndimage.gaussian_filter(x, (2.5, 2.5, 0))
            left = np.arange(320)[None, :, None] < 160
            photos.append(np.where(left == (k % 2 == 0), soft, x))
        made = self.make(photos)
        seen = np.flatnonzero(made.photo >= 0)
        X, E = self.points[self.faces[seen]].mean(1), np.array(self.poses)[made.photo[seen]]
        X = np.einsum("nij,nj->ni", E[:, :3, :3], X) + E[:, :3, 3]
        left = X[:, 0] < 0
        away = np.abs(X[:, 0] / X[:, 2]) * LENS[0] > 48  # focus is told of three cells at once
        self.assertGreater(away.sum(), 0.2 * len(seen))
        self.assertLess((left == (made.photo[seen] % 2 == 0))[away].mean(), 0.2)

    def test_exposure_and_a_hand_in_a_photo_leave_no_trace(self):
        rng = np.random.default_rng(3)
        photos, covered = [], np.zeros(len(self.photos), int)
        for k, x in enumerate(self.photos):
            x = 0.75 * x * rng.uniform(0.8, 1.2) * np.ones(3)
            if k % 5 == 2:
                x[70:150, 120:200] = (40, 200, 60)
                covered[k] = 1
            photos.append(x)
        made = self.make(photos)
        found, true = self.colors(made)
        off = found - np.median(found / true, axis=0) * true  # one factor on all of it is left open
        self.assertLess(np.median(np.abs(off)), 3)
        self.assertLess((np.abs(off).max(1) > 25).mean(), 0.02)
        page = made.pages[0].astype(float)
        green = (page[:, :, 1] > page[:, :, 0] + 90) & (page[:, :, 1] > page[:, :, 2] + 90)
        self.assertLess(green.mean(), 0.002)
        self.assertGreater(made.left_out, 0.01)
        careless = self.make(photos, leave_out=False).pages[0].astype(float)
        green = (careless[:, :, 1] > careless[:, :, 0] + 90) & (careless[:, :, 1] > careless[:, :, 2] + 90)
        self.assertGreater(green.mean(), 0.002)

    def test_a_surface_that_no_photo_shows_is_refused(self):
        far = [Camera(look_at(np.array([0, 0, 500.0]), np.array([0, 0, 900.0])), LENS, (320, 240))]
        with self.assertRaisesRegex(UmbrateError, "No photo shows"):
            self.make(self.photos[:1], far)


class Detail(unittest.TestCase):
    def test_normals_on_the_page_are_those_of_the_fine_surface_nearest_to_it(self):
        """Turned back with the frame that programs build from what the file has, they are its normals."""
        rng = np.random.default_rng(4)
        X, fine_faces = ball(5)
        fine_points = X * (1 + 0.01 * np.sin(X[:, :1] * 2) * np.cos(X[:, 1:2] * 2.5))
        fine = fine_points, fine_faces, vertex_normals(fine_points, fine_faces)
        points, faces = ball(3)
        charts = charts_of(points, faces)
        laid = packed(charts, 512, 1, 4)
        texel = laid.scale * charts.place + laid.shift[charts.of]
        normals = vertex_normals(points, faces).astype(float)
        model = {
            "points": points, "faces": faces, "normals": normals, "corner": charts.corner, "uv": texel / 512,
            "vertex": charts.vertex, "page": laid.page[charts.part],
        }  # fmt: skip
        (page,), none, tangent = detail_pages(model, fine, 512, 1.0)
        self.assertEqual(none, [])
        np.testing.assert_allclose(np.linalg.norm(tangent, axis=1), 1, atol=1e-5)
        np.testing.assert_allclose((tangent * normals[charts.vertex]).sum(1), 0, atol=1e-5)
        share = rng.dirichlet((1, 1, 1), 150)
        t = rng.integers(0, len(faces), 150)
        # the middles of texels
        at = np.floor((share[:, :, None] * texel[charts.corner[t]]).sum(1)) + 0.5
        flat = np.concatenate([texel[charts.corner[t]], np.zeros((150, 3, 1))], 2)
        share = trimesh.triangles.points_to_barycentric(flat, np.column_stack([at, np.zeros(150)]))
        inside = (share > 0).all(1)
        self.assertGreater(inside.sum(), 80)
        share, t, at = share[inside], t[inside], at[inside]
        place = (share[:, :, None] * points[faces[t]]).sum(1)
        N = (share[:, :, None] * normals[faces[t]]).sum(1)
        T = (share[:, :, None] * tangent[charts.corner[t]]).sum(1)
        N /= np.linalg.norm(N, axis=1, keepdims=True)
        T /= np.linalg.norm(T, axis=1, keepdims=True)
        local = page[(512 - at[:, 1]).astype(int), at[:, 0].astype(int)] / 127.5 - 1
        got = local[:, :1] * T + local[:, 1:2] * np.cross(N, T) + local[:, 2:] * N
        mesh = trimesh.Trimesh(fine_points, fine_faces, process=False)
        nearest, _, which = trimesh.proximity.closest_point_naive(mesh, place)
        s = trimesh.triangles.points_to_barycentric(mesh.triangles[which], nearest)
        want = (s[:, :, None] * fine[2][fine_faces[which]]).sum(1)
        want /= np.linalg.norm(want, axis=1, keepdims=True)
        angle = np.degrees(np.arccos(((got * want).sum(1) / np.linalg.norm(got, axis=1)).clip(-1, 1)))
        plain = np.degrees(np.arccos((N * want).sum(1).clip(-1, 1)))
        self.assertLess(np.median(angle), 1.2)
        self.assertLess(np.percentile(angle, 95), 4)
        self.assertGreater(np.median(plain), 4 * np.median(angle))
        # right and up are those of the page
        step = points[faces[t, 1]] - points[faces[t, 0]]
        moved = texel[charts.corner[t, 1]] - texel[charts.corner[t, 0]]
        along = np.stack([(step * T).sum(1), (step * np.cross(N, T)).sum(1)], 1) * laid.scale
        self.assertLess(np.median(np.linalg.norm(along - moved, axis=1) / np.linalg.norm(moved, axis=1)), 0.1)
        # far from the fine surface there is nothing to keep
        far = fine[0] + 100.0, *fine[1:]
        self.assertEqual(
            np.unique(detail_pages(model, far, 64, 1.0)[0][0].reshape(-1, 3), axis=0).tolist(), [[128, 128, 255]]
        )

    def test_the_floor_of_a_well_sees_as_much_of_the_sky_as_geometry_says(self):
        depth = 3.0
        profile = [(r, 0.0) for r in np.linspace(0, 2, 21)] + [(2.0, z) for z in np.linspace(0, depth, 21)[1:]]
        profile += [(r, depth) for r in np.linspace(2, 5, 20)[1:]] + [(5.0, -1.0), (0.0, -1.0)]
        made = trimesh.creation.revolve(np.array(profile)[::-1], sections=96)
        if made.volume < 0:
            made.invert()
        points, faces = np.array(made.vertices, np.float32), np.array(made.faces, np.int32)
        light = openness(points, faces, vertex_normals(points, faces))
        r = np.hypot(points[:, 0], points[:, 1])
        floor = (np.abs(points[:, 2]) < 1e-6) & (r < 0.3)
        self.assertGreater(floor.sum(), 50)
        self.assertAlmostEqual(light[floor].mean(), 4 / (4 + depth**2), delta=0.03)
        top = (np.abs(points[:, 2] - depth) < 1e-6) & (r > 3) & (r < 4.5)
        self.assertGreater(light[top].min(), 0.97)


class Stage(unittest.TestCase):
    """The stage on the pebble, from a job."""

    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "texture", *STAGES)
        cls.addClassCleanup(cls.job.close)
        small = mock.patch.object(detail, "SKY_PX", 128)  # which would take most of the time
        small.start()
        cls.addClassCleanup(small.stop)
        cls.job.set_settings(cls.sitting.id, "texture", {"side": 1024, "triangles": 0})
        run(cls.job, cls.sitting, "texture")

    def pages(self):
        _, pages = load_texture(self.job, self.sitting)
        return [np.asarray(Image.open(io.BytesIO(p))) for p in pages]

    def test_the_shape_is_that_of_the_surface_and_texels_have_the_colors_of_its_vertices(self):
        job, s = self.job, self.sitting
        surface, (mesh, _) = load_surface(job, s), load_texture(job, s)
        np.testing.assert_array_equal(mesh["points"], surface["points"])
        np.testing.assert_array_equal(mesh["faces"], surface["faces"])
        (page,) = self.pages()
        f = job.result(s.id, "texture").figures
        self.assertEqual((page.shape, f.pages, f.triangles), ((1024, 1024, 3), 1, len(mesh["faces"])))
        seen = mesh["photo"] >= 0
        self.assertAlmostEqual(seen.mean(), 1 - f.unseen, delta=0.15)
        self.assertLessEqual(set(mesh["photo"][seen]), {p.id for p in job.photos(s.id)})
        uv = mesh["uv"][mesh["corner"]].mean(1)
        texel = page[(1024 - 1024 * uv[:, 1]).astype(int), (1024 * uv[:, 0]).astype(int)].astype(float)
        vertex = surface["colors"][mesh["faces"]].mean(1)
        held = seen & ~surface["filled"][mesh["faces"]].any(1)
        self.assertLess(np.median(np.abs(texel - vertex)[held]), 12)
        self.assertGreater(np.corrcoef(texel[held].mean(1), vertex[held].mean(1))[0, 1], 0.7)

    def test_a_photo_that_is_left_out_or_gone_gives_nothing(self):
        job, s = self.job, self.sitting
        stage, before = BY_NAME["texture"], job.settings(s.id, "texture")
        self.assertTrue(is_current(job, s, stage))
        mesh, _ = load_texture(job, s)
        ids, counts = np.unique(mesh["photo"][mesh["photo"] >= 0], return_counts=True)
        best = next(p for p in job.photos(s.id) if p.id == ids[counts.argmax()])
        job.set_settings(s.id, "texture", {**before, "leave_out": best.name})
        self.assertFalse(is_current(job, s, stage))
        run(job, s, "texture")
        self.assertFalse((load_texture(job, s)[0]["photo"] == best.id).any())
        with self.assertRaisesRegex(UmbrateError, "no photo “nobody.jpg” to leave out"):
            job.set_settings(s.id, "texture", {**before, "leave_out": "nobody.jpg"})
            run(job, s, "texture")
        inputs = stage.gather(job, s, parse_settings(stage, before))
        gone = [replace(p, path=p.path + "x") if p.id == best.id else p for p in inputs.photos]
        made = stage.run(replace(inputs, photos=gone), parse_settings(stage, before), Report())
        self.assertEqual(made.figures.missing, [best.name])
        self.assertTrue(any("not there" in p["text"] for p in made.problems))
        with self.assertRaisesRegex(UmbrateError, "No solved photo is left"):
            nothing = [replace(p, path=p.path + "x") for p in inputs.photos]
            stage.run(replace(inputs, photos=nothing), parse_settings(stage, before), Report())
        job.set_settings(s.id, "texture", before)
        run(job, s, "texture")

    def test_texels_are_asked_for_by_length_and_another_mending_makes_it_stale(self):
        job, s = self.job, self.sitting
        stage, before = BY_NAME["texture"], job.settings(s.id, "texture")
        told = stage.forecast(job, s, parse_settings(stage, before)).text
        fits = float(told.split(": ")[1].split()[0])
        made = job.result(s.id, "texture").figures
        self.assertAlmostEqual(fits * scale_of(frame_of(job, s).matrix) / made.texels, 1, delta=0.4)
        many = parse_settings(stage, {"size_by": "texels", "texels": 4 * fits, "side": 1024})
        said = stage.forecast(job, s, many)
        self.assertFalse(said.good)
        self.assertEqual(said.remedy[:2], ("set", "pages"))
        with self.assertRaisesRegex(UmbrateError, "do not fit"):
            stage.run(stage.gather(job, s, many), many, Report())
        MEND.apply_step(job, s, job.surface(s.id), {"filter": "smooth"})
        self.assertFalse(is_current(job, s, stage))
        job.undo()
        self.assertTrue(is_current(job, s, stage))

    def test_it_is_written_as_the_open_standard_has_it_and_read_back(self):
        job, s = self.job, self.sitting
        out = scratch() / "textured.glb"
        self.assertEqual(export_texture(job, out, s), job.result(s.id, "texture").figures.triangles)
        mesh, _ = load_texture(job, s)
        (read,) = trimesh.load(out, process=False).geometry.values()
        self.assertEqual(len(read.faces), len(mesh["faces"]))
        factor = 1e-3 if frame_of(job, s).scaled else 1.0
        wanted = mesh["points"][mesh["faces"]][:, :, [0, 2, 1]] * [1, 1, -1] * factor
        np.testing.assert_allclose(np.asarray(read.vertices)[read.faces], wanted, rtol=1e-5, atol=1e-7)
        np.testing.assert_allclose(read.visual.uv[read.faces], mesh["uv"][mesh["corner"]], atol=1e-6)
        page = np.asarray(read.visual.material.baseColorTexture.convert("RGB"))
        np.testing.assert_array_equal(page, self.pages()[0])
        with self.assertRaisesRegex(UmbrateError, "there already"):
            export_texture(job, out, s)
        job.set_settings(s.id, "texture", {"side": 1024, "triangles": 3000})
        run(job, s, "texture")
        f = job.result(s.id, "texture").figures
        self.assertEqual((f.normals, f.openness, f.triangles), (True, True, 3000))
        out = scratch() / "thinned.glb"
        export_texture(job, out, s)
        (read,) = trimesh.load(out, process=False).geometry.values()
        material = read.visual.material
        self.assertEqual(material.normalTexture.size, (f.detail_side, f.detail_side))
        self.assertEqual(material.occlusionTexture.size, (f.detail_side, f.detail_side))
        middle = np.median(np.asarray(material.normalTexture.convert("RGB")).reshape(-1, 3), axis=0)
        np.testing.assert_allclose(middle, (128, 128, 255), atol=4)
        light = np.asarray(material.occlusionTexture.convert("L"))
        self.assertGreater(light.mean(), 200)
        job.set_settings(s.id, "texture", {"side": 1024, "triangles": 0})
        run(job, s, "texture")
        with self.assertRaisesRegex(UmbrateError, "written as .glb"):
            export_texture(job, out.with_suffix(".obj"), s)


if __name__ == "__main__":
    unittest.main()
