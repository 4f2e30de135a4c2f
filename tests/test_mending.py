"""Mending surfaces: against closed forms and slow references, and what must never happen to a surface."""

import json
import unittest

import numpy as np
import trimesh
from click.testing import CliRunner

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions.mending import MEND
from umbrate.actions.mends import MENDING, MENDS, Context, did_text, facts, try_mend
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.surface.build import vertex_normals
from umbrate.core.surface.carried import carried
from umbrate.core.surface.crossing import crossing
from umbrate.core.surface.evening import beside_vertices
from umbrate.core.surface.holes import filled, holes_of
from umbrate.core.surface.mesh import euler, half_edges, opposite, pieces, rims, used_only, volume
from umbrate.core.surface.planes import closed_flat, cut_open
from umbrate.core.surface.remesh import remeshed
from umbrate.core.surface.spikes import least_angles, steepness, without_spikes
from umbrate.core.surface.thin import thinned, thinned_within
from umbrate.sitting.surfaces import load_surface, raw_surface
from umbrate.studio.judge import nearest_on_triangles

RADIUS = 10.0


def sphere(level=5, noise=0.0, seed=0):
    """A sphere of RADIUS: points, faces."""
    m = trimesh.creation.icosphere(level, RADIUS)
    rng = np.random.default_rng(seed)
    points = np.array(m.vertices) + rng.normal(0, noise, (len(m.vertices), 3))
    return points, np.array(m.faces, np.int32)


def torus(seed=0):
    """A torus of radii 10 and 3 with uneven triangles."""
    m = trimesh.creation.torus(RADIUS, 3.0, 96, 40)
    return np.array(m.vertices), np.array(m.faces, np.int32)


def below(points, faces, height):
    """The triangles below a height."""
    faces, points = used_only(faces[points[faces][:, :, 2].max(1) < height], points)
    return points, faces


def as_mesh(points, faces, **more):
    """The arrays of a surface as jobs keep them."""
    n = len(points)
    return {
        "points": points.astype(np.float32), "faces": faces.astype(np.int32),
        "normals": vertex_normals(points, faces), "colors": np.full((n, 3), 200, np.uint8),
        "support": np.full(n, 0.1, np.float32), "deviation": np.zeros(n, np.float32),
        "photos": np.full(n, 4, np.uint8), "filled": np.zeros(n, bool), **more,
    }  # fmt: skip


def slow_distance(points, vertices, faces):
    """Distance (n,) of points to triangles, each to each: inside over the plane, or to one of the sides."""
    best = np.full(len(points), np.inf)
    for a, b, c in vertices[faces].astype(float):
        n = np.cross(b - a, c - a)
        inside = np.ones(len(points), bool)
        for p, q in ((a, b), (b, c), (c, a)):
            inside &= (points - p) @ np.cross(n, q - p) >= 0
            t = np.clip((points - p) @ (q - p) / max((q - p) @ (q - p), 1e-300), 0, 1)
            best = np.minimum(best, np.linalg.norm(points - p - t[:, None] * (q - p), axis=1))
        if size := np.linalg.norm(n):
            best = np.where(inside, np.minimum(best, np.abs((points - a) @ n) / size), best)
    return best


def lengths(points, faces):
    """Of all edges."""
    a, b = half_edges(faces)
    return np.linalg.norm(points[a] - points[b], axis=1)


class Shapes(unittest.TestCase):
    def assertWhole(self, points, faces, characteristic, open_=0):
        """One surface: every edge has two triangles but at so many rims, none crosses, all vertices are used."""
        beside = opposite(faces, len(points))
        self.assertEqual(len(rims(faces, beside)), open_)
        self.assertEqual(open_ == 0, bool((beside >= 0).all()))
        self.assertEqual(euler(faces, beside), characteristic)
        self.assertEqual(int(crossing(points, faces).sum()), 0)
        self.assertEqual(len(np.unique(faces)), len(points))


class OneSize(Shapes):
    def test_edges_become_of_one_length_and_the_shape_stays(self):
        for name, (points, faces), characteristic in (("sphere", sphere(), 2), ("torus", torus(), 0)):
            for length in (0.35, 1.2):
                with self.subTest(name, length=length):
                    p, f = remeshed(points, faces, length)
                    self.assertWhole(p, f, characteristic)
                    some = lengths(p, f)
                    self.assertLess(abs(np.median(some) / length - 1), 0.15)
                    self.assertLess(some.max(), 1.6 * length)
                    self.assertGreater(np.percentile(some, 1), 0.5 * length)
                    self.assertGreater(np.percentile(least_angles(p, f), 1), 25)
                    # on the surface that was given, to what its own triangles are apart from the true shape
                    self.assertLess(nearest_on_triangles(p, points, faces).max(), 1e-6)
                    self.assertLess(abs(volume(p, f) / volume(points, faces) - 1), 0.25 * (length / 3) ** 2 + 2e-3)

    def test_rims_stay_where_they_are_and_edges_of_boxes_too(self):
        points, faces = below(*sphere(), 4.0)
        p, f = remeshed(points, faces, 0.5)
        self.assertWhole(p, f, 1, open_=1)
        ring = rims(f, opposite(f, len(p)))[0]
        old = rims(faces, opposite(faces, len(points)))[0]
        line = np.stack([points[old], np.roll(points[old], -1, axis=0)], 1)
        for x in p[ring]:
            d = np.linalg.norm(line[:, 1] - line[:, 0], axis=1)
            t = np.clip(((x - line[:, 0]) * (line[:, 1] - line[:, 0])).sum(1) / d**2, 0, 1)
            near = np.linalg.norm(line[:, 0] + t[:, None] * (line[:, 1] - line[:, 0]) - x, axis=1).min()
            self.assertLess(near, 0.06)
        m = trimesh.creation.box((20, 20, 20)).subdivide().subdivide().subdivide()
        m.merge_vertices()
        p, f = remeshed(np.array(m.vertices), np.array(m.faces), 1.0)
        self.assertWhole(p, f, 2)
        self.assertLess(abs(volume(p, f) / 8000 - 1), 0.01)


class Fewer(Shapes):
    def test_a_number_is_reached_nothing_tears_and_what_is_told_of_the_shape_is_true(self):
        for name, (points, faces), characteristic, count in (
            ("sphere", sphere(4, 0.01), 2, 300), ("torus", torus(), 0, 500), ("tiny", sphere(2), 2, 4),
        ):  # fmt: skip
            with self.subTest(name):
                made = thinned(points, faces, count)
                self.assertWhole(made.points, made.faces, characteristic)
                self.assertLessEqual(len(made.faces), count + (name == "tiny") * 10)
                d = np.concatenate([
                    slow_distance(points, made.points, made.faces),
                    slow_distance(made.points, points, faces),
                ])  # fmt: skip
                np.testing.assert_allclose([made.median, made.largest], [np.median(d), d.max()], rtol=1e-6)
        points, faces = sphere(6, 0.01)
        made = thinned(points, faces, 2000)
        spacing = lengths(points, faces).mean()
        self.assertLess(made.median, 0.15 * spacing)
        # as good as it gets: a sphere of so many equal triangles is off by about this in the middle of each
        self.assertLess(made.median, 4 * np.pi * RADIUS**2 / 2000 / RADIUS / 4)

    def test_a_tolerance_is_kept_and_uses_what_it_allows(self):
        points, faces = sphere(6, 0.003)
        many, few = (thinned_within(points, faces, x) for x in (0.02, 0.2))
        for made, most in ((many, 0.02), (few, 0.2)):
            self.assertWhole(made.points, made.faces, 2)
            self.assertLessEqual(made.largest, most)
        self.assertLess(len(few.faces), 0.25 * len(many.faces))
        self.assertLess(len(many.faces), 0.3 * len(faces))

    def test_a_flat_plate_needs_few_and_its_rim_stays(self):
        n = 40
        x, y = np.meshgrid(np.arange(n + 1.0), np.arange(n + 1.0))
        points = np.stack([x.ravel(), y.ravel(), 0 * x.ravel()], 1)
        k = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).ravel()
        faces = np.concatenate([np.stack([k, k + 1, k + n + 2], 1), np.stack([k, k + n + 2, k + n + 1], 1)])
        made = thinned(points, faces.astype(np.int32), 100)
        self.assertWhole(made.points, made.faces, 1, open_=1)
        self.assertLess(made.largest, 1e-6)
        a, b, c = (made.points[made.faces[:, k]] for k in range(3))
        self.assertAlmostEqual(float(np.cross(b - a, c - a)[:, 2].sum() / 2), n * n, places=6)


class Holes(Shapes):
    def test_a_hole_in_a_sphere_is_measured_and_filled_smooth_or_flat(self):
        points, faces = below(*sphere(), 9.0)
        holes = holes_of(points, faces)
        self.assertEqual(len(holes), 1)
        rim = points[holes[0].ring]
        z = rim[:, 2].mean()
        r = np.sqrt(RADIUS**2 - z**2)
        self.assertLess(abs(holes[0].across / (2 * r) - 1), 0.06)
        self.assertLess(abs(holes[0].area / (np.pi * r**2) - 1), 0.03)
        self.assertGreater(holes[0].normal[2], 0.99)
        for smooth in (True, False):
            p, f, new = filled(points, faces, holes[0], smooth)
            self.assertWhole(p, f, 2)
            np.testing.assert_array_equal(p[~new], points)
            self.assertTrue((f[: len(faces)] == faces).all())
            if smooth:
                self.assertLess(np.abs(np.linalg.norm(p[new], axis=1) - RADIUS).max(), 0.12)  # flat, it is 1 off
            else:
                self.assertLess(np.abs(p[new][:, 2] - z).max(), 0.15)

    def test_every_hole_of_many_is_filled_whatever_its_rim_is_like(self):
        rng = np.random.default_rng(3)
        for trial in range(12):
            points, faces = sphere(4, 0.03, seed=trial)
            # triangles are taken away round some places: ragged rims, with ears, now and then touching each other
            middle = points[faces].mean(1)
            gone = np.zeros(len(faces), bool)
            for c in points[rng.integers(0, len(points), 5)]:
                gone |= np.linalg.norm(middle - c, axis=1) < rng.uniform(0.5, 3.0)
            f, p = used_only(faces[~gone], points)
            which = pieces(f, len(p))
            f, p = used_only(f[which == np.bincount(which).argmax()], p)
            while holes := holes_of(p, f):
                count = len(holes)
                p, f, _ = filled(p, f, holes[-1], smooth=bool(trial % 2))
                self.assertLess(len(holes_of(p, f)), count)
            beside = opposite(f, len(p))
            self.assertTrue((beside >= 0).all(), trial)
            self.assertEqual(euler(f, beside), 2, trial)

    def test_a_wide_hole_is_filled_with_larger_triangles(self):
        points, faces = below(*sphere(7), 0.0)
        p, f, new = filled(points, faces, holes_of(points, faces)[0], smooth=False)
        self.assertTrue((opposite(f, len(p)) >= 0).all())
        self.assertLess(new.sum(), 20_000)
        self.assertLess(np.abs(p[new][:, 2]).max(), 0.2)


class Cuts(Shapes):
    def test_halves_have_the_volumes_they_must_have_and_their_caps_lie_in_the_plane(self):
        points, faces = sphere(6)
        mesh = as_mesh(points, faces)
        normal = np.array([0.3, -0.5, 0.8])
        normal /= np.linalg.norm(normal)
        for offset in (0.0, 4.0, -6.0):
            part = cut_open(mesh, mesh["points"].astype(float) @ normal - offset)
            p, f, new = closed_flat(part["points"], part["faces"], normal, offset, 0.01)
            self.assertWhole(p, f, 2)
            h = RADIUS + offset  # of the cap that is left
            true = np.pi * h**2 * (3 * RADIUS - h) / 3
            self.assertLess(abs(volume(p, f) / true - 1), 2e-3)
            self.assertLess(np.abs(p[new] @ normal - offset).max(), 1e-5)
            on = np.abs(part["points"] @ normal.astype(np.float32) - offset) < 1e-4
            self.assertTrue((part["points"] @ normal <= offset + 1e-4).all())
            # away from the cut nothing moved
            below_it = mesh["points"][mesh["points"] @ normal < offset - 0.6]
            left = {tuple(x) for x in part["points"].tolist()}
            self.assertTrue(all(tuple(x) in left for x in below_it.tolist()))
            self.assertGreater(on.sum(), 20)

    def test_a_hollow_ball_is_closed_with_a_ring(self):
        points, faces = sphere(5)
        inner = points * 0.6, faces[:, ::-1]
        both = np.concatenate([points, inner[0]]), np.concatenate([faces, inner[1] + len(points)])
        mesh = as_mesh(*both)
        part = cut_open(mesh, mesh["points"][:, 2] - 1.0)
        p, f, new = closed_flat(part["points"], part["faces"], (0, 0, 1), 1.0, 0.01)
        self.assertWhole(p, f, 2)  # cut open, the two spheres are one surface
        self.assertGreater(np.hypot(p[new][:, 0], p[new][:, 1]).min(), 5.8)
        caps = [np.pi * (r + 1) ** 2 * (3 * r - (r + 1)) / 3 for r in (RADIUS, 0.6 * RADIUS)]
        self.assertLess(abs(volume(p, f) / (caps[0] - caps[1]) - 1), 4e-3)


class Vertices(Shapes):
    def test_spikes_and_slivers_go_and_the_rest_stays(self):
        points, faces = sphere(5)
        rng = np.random.default_rng(1)
        some = rng.choice(len(points), 25, replace=False)
        bad = points.copy()
        bad[some] *= 1.15
        a = faces[rng.choice(len(faces), 15, replace=False)]
        bad[a[:, 0]] = bad[a[:, 1]] + 0.01 * (bad[a[:, 0]] - bad[a[:, 1]])  # nearly no edge between the two
        p, f, spikes, slivers = without_spikes(bad, faces, 0.8, 3.0)
        self.assertWhole(p, f, 2)
        self.assertGreaterEqual(spikes, 20)
        self.assertGreater(slivers, 10)
        self.assertLess((least_angles(p, f) < 3.0).sum(), 3)
        steep = steepness(p, beside_vertices(f, len(p)))
        self.assertFalse((steep > 0.8).any())
        for v in range(0, len(p), 997):
            beside = p[[x for x in set(f[(f == v).any(1)].ravel()) if x != v]]
            away = np.linalg.norm(beside - p[v], axis=1).mean()
            self.assertAlmostEqual(steep[v], np.linalg.norm(beside.mean(0) - p[v]) / away, places=9)
        self.assertLess(np.abs(np.linalg.norm(p, axis=1) - RADIUS).max(), 0.3 * 0.15 * RADIUS)
        far = nearest_on_triangles(p, points, faces)
        self.assertGreater((far < 1e-6).mean(), 0.8)

    def test_what_is_known_of_vertices_goes_along(self):
        points, faces = sphere(5)
        left = points[:, 0] < 0
        colors = np.where(left[:, None], [[250, 10, 10]], [[10, 10, 250]]).astype(np.uint8)
        deviation = np.where(points[:, 2] > 9.5, np.nan, 0.05).astype(np.float32)
        mesh = as_mesh(points, faces, colors=colors, deviation=deviation, filled=points[:, 1] > 8)
        same = carried(mesh, points, faces)
        for k, v in mesh.items():
            np.testing.assert_array_equal(same[k], v, k)
        # outward by 0.02: the cloud lies so much less over it
        grown = points * (1 + 0.02 / RADIUS)
        out = carried(mesh, grown, faces)
        known = np.isfinite(out["deviation"])
        self.assertLess(np.abs(out["deviation"][known] - 0.03).max(), 2e-3)
        np.testing.assert_array_equal(~known, ~np.isfinite(deviation))
        p, f = remeshed(points, faces, 0.9)
        out = carried(mesh, p, f)
        clear = np.abs(p[:, 0]) > 0.4
        self.assertTrue(((out["colors"][:, 0] > 128) == (p[:, 0] < 0))[clear].all())
        self.assertTrue((out["filled"] == (p[:, 1] > 8))[np.abs(p[:, 1] - 8) > 0.4].all())
        turned = (out["normals"] * p).sum(1) / np.linalg.norm(p, axis=1)
        self.assertGreater(turned.min(), 0.98)

    def test_new_vertices_are_marked_colored_from_round_them_and_say_how_far_points_are(self):
        points, faces = below(*sphere(), 8.0)
        mesh = as_mesh(points, faces)
        mesh["colors"][:] = np.where(points[:, :1] < 0, [[200, 0, 0]], [[0, 0, 200]])
        p, f, new = filled(points, faces, holes_of(points, faces)[0], smooth=True)
        out = carried(mesh, p, f, new)
        np.testing.assert_array_equal(out["filled"], new)
        self.assertFalse(np.isfinite(out["deviation"][new]).any())
        self.assertEqual(out["photos"][new].max(), 0)
        side = out["colors"][new].astype(int)
        far = np.abs(p[new][:, 0]) > 3
        self.assertTrue(((side[:, 0] > side[:, 2]) == (p[new][:, 0] < 0))[far].all())
        rim = points[holes_of(points, faces)[0].ring]
        d = np.linalg.norm(p[new][:, None] - rim[None], axis=2).min(1)
        np.testing.assert_allclose(out["support"][new], 0.1 + d, rtol=1e-3)


class Steps(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "mending", "photos", "masks", "lens", "poses", "cloud", "surface")
        cls.addClassCleanup(cls.job.close)

    def setUp(self):
        steps = self.job.db.execute("SELECT count(*) FROM step WHERE NOT undone").fetchone()[0]
        self.addCleanup(self.undo_to, steps)
        self.kept = self.job.surface(self.sitting.id)
        self.raw = raw_surface(self.job, self.kept)

    def undo_to(self, steps):
        while self.job.db.execute("SELECT count(*) FROM step WHERE NOT undone").fetchone()[0] > steps:
            self.job.undo()

    def now(self):
        return self.job.surface(self.sitting.id)

    def umbrate(self, *arguments):
        self.job.close()
        try:
            return CliRunner().invoke(cli, [str(a) for a in arguments])
        finally:
            type(self).job = type(self.job).open(self.job.folder)

    def height(self, share):
        """A height over the level between the lowest and the highest place."""
        z = load_surface(self.job, self.sitting)["points"][:, 2]
        return float(z.min() + share * np.ptp(z))

    def test_steps_are_kept_taken_back_and_replayed_and_undo_brings_everything_back(self):
        job, s = self.job, self.sitting
        gone = MEND.apply_step(job, s, self.kept, {"filter": "height", "height": self.height(0.3), "cut": "open"})
        cut = raw_surface(job, self.now())
        self.assertEqual(gone, len(self.raw["faces"]) - len(cut["faces"]))
        self.assertEqual((self.now().left, self.now().now["closed"]), (len(cut["faces"]), False))
        MEND.apply_step(job, s, self.now(), {"filter": "share", "percent": 40})
        few = raw_surface(job, self.now())
        MEND.apply_step(job, s, self.now(), {"filter": "holes", "across": 1e5})
        self.assertTrue(self.now().now["closed"])
        whole = raw_surface(job, self.now())
        self.assertTrue(whole["filled"].sum() > 10)
        # the thinning taken back: the cut stays, the hole is filled again
        MEND.take_back(job, s, self.now(), 1)
        self.assertEqual([x.step["filter"] for x in self.now().steps], ["height", "holes"])
        self.assertGreater(len(raw_surface(job, self.now())["faces"]), len(whole["faces"]))
        job.undo()
        np.testing.assert_array_equal(raw_surface(job, self.now())["points"], whole["points"])
        # where a later step does not work any more, nothing is changed
        with self.assertRaisesRegex(UmbrateError, "Fill holes: There is no hole"):
            MEND.take_back(job, s, self.now(), 0)
        self.assertEqual(len(self.now().steps), 3)
        file = scratch() / "steps.json"
        MENDING.write(file, [x.step for x in self.now().steps])
        self.assertEqual(len(json.loads(file.read_text())["steps"]), 3)
        job.undo()
        np.testing.assert_array_equal(raw_surface(job, self.now())["points"], few["points"])
        job.undo(), job.undo()
        self.assertEqual(self.now().steps, ())
        MEND.apply_steps(job, s, self.now(), MENDING.read(file))
        again = raw_surface(job, self.now())
        for k, v in whole.items():
            np.testing.assert_array_equal(again[k], v, k)

    def test_every_step_says_what_it_did_and_leaves_a_surface(self):
        job, s = self.job, self.sitting
        spans = {
            "holes": None, "support": None, "plane": {"normal": "1,0,0", "offset": self.middle()[0]},
            "height": {"height": self.height(0.5)}, "tolerance": {"most": 0.1 * np.ptp(self.raw["points"])},
            "count": {"triangles": 300},
        }  # fmt: skip
        for f in MENDS:
            if f.hidden or spans.get(f.name, {}) is None:
                continue
            with self.subTest(f.name):
                step = MENDING.frozen(job, s, {"filter": f.name, **spans.get(f.name, {})})
                context = Context(job, s, self.kept, step)
                made = try_mend(self.raw, step, context)
                self.assertTrue(facts(made.arrays)["closed"], f.name)
                self.assertEqual(set(made.arrays), set(self.raw))
                told = did_text(made.did, context.scale, "mm")
                if made.did["area"][0] != made.did["area"][1]:
                    self.assertIn("volume", told)
                json.dumps(made.did)  # it is kept as such
                self.assertTrue(MENDING.text(step))
        # where a cut meets an open rim it cannot be closed, and that is said
        step = MENDING.frozen(job, s, {"filter": "height", "height": self.height(0.5), "cut": "open"})
        half = try_mend(self.raw, step, Context(job, s, self.kept, step)).arrays
        step = MENDING.frozen(job, s, {"filter": "plane", "normal": "1,0,0", "offset": self.middle()[0]})
        context = Context(job, s, self.kept, step)
        made = try_mend(half, step, context)
        self.assertEqual(made.did["left_open"], 1)
        self.assertIn("stays open at 1 rims", did_text(made.did, context.scale, "mm"))
        with self.assertRaisesRegex(UmbrateError, "no support here"):
            try_mend(self.raw, {"filter": "support"}, Context(job, s, self.kept))
        with self.assertRaisesRegex(UmbrateError, "no hole as small"):
            try_mend(self.raw, {"filter": "holes"}, Context(job, s, self.kept))

    def middle(self):
        p = load_surface(self.job, self.sitting)["points"]
        return (p.min(0) + p.max(0)) / 2

    def test_bad_steps_are_refused_and_nothing_changes(self):
        job, s = self.job, self.sitting
        for step, said in (
            ({"filter": "melt"}, "There is no filter “melt”"),
            ({"filter": "holes", "how": "round"}, "none of smooth, flat"),
            ({"filter": "holes", "size": 3}, "has no value “size”"),
            ({"filter": "smooth", "rounds": "many"}, "is no number"),
            ({"filter": "count", "triangles": float("nan")}, "is no number|between"),
            ({"filter": "plane", "normal": "up"}, "is no direction"),
            ({"filter": "plane", "normal": "0,0,0"}, "is no direction"),
            ({"filter": "height", "height": 1e4}, "take the whole surface away"),
            ({"filter": "box", "keep": True}, "cannot be kept alone"),
            ({"filter": "lasso"}, "drawn in the window"),
            ({"filter": "hole", "place": [0, 0, 0]}, "has no hole"),
            ({"filter": "even", "edge": 1e-6}, "million triangles"),
        ):
            with self.subTest(step), self.assertRaisesRegex(UmbrateError, said):
                MEND.apply_step(job, s, self.kept, step)
            self.assertEqual(self.now().steps, ())
        file = scratch() / "cleaning.json"
        file.write_text(json.dumps({"umbrate": "cleaning", "steps": []}))
        with self.assertRaisesRegex(UmbrateError, "does not hold mending steps"):
            MENDING.read(file)

    def test_a_height_means_the_same_place_after_the_object_is_turned_and_scaled(self):
        job, s = self.job, self.sitting
        step = {"filter": "height", "height": self.height(0.4)}
        MEND.apply_step(job, s, self.kept, step)
        first = raw_surface(job, self.now())["points"]
        job.set_level(s.id, {"kind": "turn", "matrix": [[1, 0, 0], [0, 0, -1], [0, 1, 0]]})
        done = self.now().steps[0].step
        again = try_mend(self.raw, done, Context(job, s, self.now(), done))
        np.testing.assert_allclose(again.arrays["points"], first, atol=1e-6)

    def test_the_command_mends_lists_and_takes_back(self):
        folder = self.job.folder
        out = self.umbrate("mend", folder, "--by", "share", "--set", "percent=30", "--dry-run")
        self.assertIn("triangles would be", out.output)
        self.assertEqual(self.now().steps, ())
        out = self.umbrate("mend", folder, "--by", "share", "--set", "percent=30")
        self.assertEqual(out.exit_code, 0, out.output)
        self.assertIn("in the median", out.output)
        out = self.umbrate("mend", folder, "--by", "height", "--set", f"height={self.height(0.3)}", "--set", "cut=open")
        out = self.umbrate("surfaces", folder, "--holes")
        self.assertIn("1 ", out.output)
        out = self.umbrate("mend", folder, "--by", "hole", "--set", "place=0,0,0")
        self.assertIn("1 hole filled", out.output)
        self.assertIn("Added", out.output)
        out = self.umbrate("surfaces", folder)
        self.assertIn("step 3", out.output)
        out = self.umbrate("mend", folder, "--back", "3")
        self.assertEqual(len(self.now().steps), 2)
        for wrong, said in (
            (("--back", 9), "there is no step 9"), (("--by", "share", "--back", 1), "at a time"), ((), "Say by what"),
            (("--by", "share", "--set", "percent"), "NAME=VALUE"), (("--steps", "nowhere.json"), "cannot be read"),
        ):  # fmt: skip
            out = self.umbrate("mend", folder, *wrong)
            self.assertEqual(out.exit_code, 1)
            self.assertIn(said, out.output)
        self.assertEqual(len(self.now().steps), 2)

    def test_a_step_does_the_same_on_another_surface_made_from_the_same_cloud(self):
        job, s = self.job, self.sitting
        job.set_settings(s.id, "surface", {"cell": 3.0})
        run(job, s, "surface")
        height, low = self.height(0.5), self.height(0.0)
        MEND.apply_step(job, s, self.now(), {"filter": "height", "height": height})
        kept = self.now()
        z = load_surface(job, s)["points"][:, 2]
        self.assertLess(abs(z.min() - height), 1e-3 * (height - low))
        self.assertEqual([x.name for x in job.surfaces(s.id)], ["Surface 1", kept.name])
