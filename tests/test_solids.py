"""What surfaces measure: against closed forms, differences and slow references; models and forms beside them."""

import unittest
from unittest import mock

import numpy as np
import trimesh
from click.testing import CliRunner

from tests.scenes import scratch
from tests.test_mending import RADIUS, as_mesh, below, sphere, torus
from tests.test_stages import job_with
from umbrate.actions.mending import MEND
from umbrate.actions.models import compare_with_form, compare_with_model
from umbrate.actions.reporting import report_content, write_accuracy_report
from umbrate.actions.solids import SurfaceMeasurer, Value
from umbrate.cli.main import cli
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.measure.forms import fit_form
from umbrate.core.measure.solid import (
    area_derivative,
    area_of,
    hollows,
    patches,
    surface_section,
    thickness,
    under_curves,
    volume_derivative,
)
from umbrate.core.surface.build import vertex_normals
from umbrate.core.surface.mesh import volume
from umbrate.core.surface.rays import first_met
from umbrate.formats.meshes import read_mesh, write_mesh
from umbrate.sitting.surfaces import load_surface


def slow_first_met(starts, directions, vertices, faces):
    """How far rays go, each to each, by the plane of a triangle and the sides of its edges."""
    out = np.full(len(starts), np.inf)
    for a, b, c in vertices[faces]:
        n = np.cross(b - a, c - a)
        with np.errstate(divide="ignore", invalid="ignore"):
            t = ((a - starts) @ n) / (directions @ n)
        X = starts + t[:, None] * directions
        inside = np.isfinite(t) & (t > 0)
        for p, q in ((a, b), (b, c), (c, a)):
            inside &= (X - p) @ np.cross(n, q - p) >= 0
        out = np.where(inside, np.minimum(out, t), out)
    return out


class Derivatives(unittest.TestCase):
    def test_area_and_volume_change_as_their_derivatives_say(self):
        points, faces = torus()
        points = points + np.random.default_rng(0).normal(0, 0.05, points.shape)
        move = np.random.default_rng(1).normal(0, 1e-5, points.shape)
        for value, derivative in ((volume, volume_derivative), (area_of, area_derivative)):
            change = (value(points + move, faces) - value(points - move, faces)) / 2
            self.assertAlmostEqual(change, float((derivative(points, faces) * move).sum()), delta=1e-4 * abs(change))

    def test_what_flat_triangles_leave_off_a_curved_surface_is_known(self):
        for level in (3, 5):
            points, faces = sphere(level)
            missing = 4 / 3 * np.pi * RADIUS**3 - volume(points, faces)
            found = under_curves(points, faces, points / RADIUS)
            self.assertLess(abs(found / missing - 1), 0.02)
            self.assertLess(abs(under_curves(points, faces[:, ::-1], -points / RADIUS) / -missing - 1), 0.02)

    def test_patches_are_even_and_every_place_belongs_to_the_nearest(self):
        points, _ = sphere(5)
        rows, own = patches(points, 40)
        d = np.linalg.norm(points[:, None] - points[rows][None], axis=2)
        np.testing.assert_array_equal(own, d.argmin(1))
        size = np.bincount(own, minlength=40)
        self.assertGreater(size.min(), 0.3 * size.mean())
        self.assertLess(size.max(), 2.5 * size.mean())


class Rays(unittest.TestCase):
    def test_what_a_ray_meets_first_is_what_a_slow_look_at_all_triangles_finds(self):
        points, faces = torus()
        rng = np.random.default_rng(4)
        for shift in (0.0, 100.0):
            some = rng.integers(0, len(points), 300)
            starts = points[some] * 0.97 + rng.normal(0, 0.3, (300, 3)) + shift
            lo, hi = points.min(0) + shift, points.max(0) + shift
            starts = np.clip(starts, lo + 1e-6, hi - 1e-6)
            directions = rng.normal(size=(300, 3))
            directions[:30, rng.integers(0, 3)] = 0.0  # along a side of the cells
            directions /= np.linalg.norm(directions, axis=1, keepdims=True)
            far, which = first_met(starts, directions, points + shift, faces)
            slow = slow_first_met(starts, directions, points + shift, faces)
            np.testing.assert_allclose(far, slow, atol=1e-6)
            np.testing.assert_array_equal(which >= 0, np.isfinite(slow))

    def test_plates_balls_and_walls_are_as_thick_as_they_are(self):
        m = trimesh.creation.box((20, 20, 2)).subdivide().subdivide().subdivide().subdivide()
        m.merge_vertices()
        p, f = np.array(m.vertices), np.array(m.faces)
        thick, which = thickness(p, f, vertex_normals(p, f))
        flat = (np.abs(p[:, :2]).max(1) < 7) & (np.abs(np.abs(p[:, 2]) - 1) < 1e-9)
        self.assertGreater(flat.sum(), 50)
        np.testing.assert_allclose(thick[flat], 2.0, atol=2e-3)
        self.assertTrue((np.sign(p[f[which[flat]]][:, :, 2].mean(1)) == -np.sign(p[flat][:, 2])).all())
        points, faces = sphere(5)
        thick, _ = thickness(points, faces, vertex_normals(points, faces))
        self.assertLess(np.abs(thick - 2 * RADIUS).max(), 0.03)
        both = np.concatenate([points, 0.8 * points]), np.concatenate([faces, faces[:, ::-1] + len(points)])
        thick, _ = thickness(*both, vertex_normals(*both), np.arange(len(points)))
        self.assertLess(np.abs(thick - 0.2 * RADIUS).max(), 0.03)
        # of an open cap there is no other side
        cap = below(points, faces, -8.0)
        thick, which = thickness(*cap, vertex_normals(*cap))
        self.assertTrue(np.isnan(thick).all() and (which < 0).all())


class Sections(unittest.TestCase):
    def test_circles_rings_and_open_lines(self):
        points, faces = sphere(6)
        for height in (0.0, 6.0):
            made = surface_section(points, faces, (0, 0, height), (0, 0, 1))
            r = np.sqrt(RADIUS**2 - height**2)
            self.assertLess(abs(made.area / (np.pi * r**2) - 1), 2e-3)
            self.assertLess(abs(made.length / (2 * np.pi * r) - 1), 1e-3)
            self.assertFalse(made.is_open)
            np.testing.assert_allclose(made.places(made.lines[0])[:, 2], height, atol=1e-9)
        made = surface_section(*torus(), (0, 0, 0), (0, 0, 1))
        self.assertEqual(len(made.lines), 2)
        self.assertLess(abs(made.area / (np.pi * (13**2 - 7**2)) - 1), 5e-3)  # the hole is taken off
        made = surface_section(*below(points, faces, 3.0), (0, 0, 0), (1, 0, 0))
        self.assertTrue(made.is_open)
        self.assertIsNone(made.area)
        self.assertIsNone(surface_section(points, faces, (0, 0, 11.0), (0, 0, 1)))


class Forms(unittest.TestCase):
    def part(self, kind, seed=0, noise=0.01):
        """A noisy part of a form, turned and moved, with some places that do not belong to it."""
        rng = np.random.default_rng(seed)
        n = 2000
        u, v = rng.uniform(-1.2, 1.2, n), rng.uniform(-4, 4, n)
        if kind == "plane":
            X, N = np.c_[5 * u, v, np.zeros(n)], np.tile([0.0, 0, 1], (n, 1))
        elif kind == "cylinder":
            N = np.c_[np.sin(u), np.zeros(n), np.cos(u)]
            X = 6 * N + np.c_[np.zeros(n), v, np.zeros(n)]
        else:
            N = np.c_[np.sin(u) * np.cos(v / 4), np.sin(v / 4), np.cos(u) * np.cos(v / 4)]
            X = 6 * N
        X = X + rng.normal(0, noise, n)[:, None] * N
        X[:60] += 0.8 * N[:60]
        R, t = rotation_matrix(np.array([0.4, -0.7, 0.2])), np.array([30.0, -20, 5])
        return X @ R.T + t, N @ R.T, R, t

    def test_forms_are_found_through_noise_and_what_does_not_belong_to_them(self):
        for kind in ("plane", "sphere", "cylinder"):
            for outward in (1, -1):
                X, N, R, t = self.part(kind)
                form, of_radius = fit_form(kind, X, outward * N)
                d = form.distance(X)
                self.assertLess(np.abs(d[60:]).mean(), 0.012)
                self.assertLess(abs(np.median(outward * d[:60]) - 0.8), 0.05)
                if kind != "plane":
                    self.assertLess(abs(form.radius - 6), 0.01)
                if kind == "cylinder":
                    self.assertGreater(abs(form.axis @ R[:, 1]), 0.9999)
                if kind == "sphere":
                    self.assertLess(np.linalg.norm(form.place - t), 0.02)
                # how the radius changes as places move, by moving them
                move = np.random.default_rng(5).normal(0, 1e-4, X.shape)
                move[:60] = 0
                if kind != "plane":
                    a, b = (fit_form(kind, X + s * move, outward * N)[0].radius for s in (1, -1))
                    told = float((of_radius * move).sum())
                    self.assertLess(abs((a - b) / 2 - told), 0.3 * abs(told) + 1e-6)

    def test_parts_that_do_not_tell_are_refused(self):
        X, N, *_ = self.part("plane", noise=1e-4)
        for kind in ("sphere", "cylinder"):
            with self.assertRaisesRegex(UmbrateError, "does not tell|nearly in one plane"):
                fit_form(kind, X[60:], N[60:])
        with self.assertRaisesRegex(UmbrateError, "too few"):
            fit_form("plane", X[:5], N[:5])
        with self.assertRaisesRegex(UmbrateError, "no form “cone”"):
            fit_form("cone", X, N)
        line = np.c_[np.linspace(0, 9, 50), np.zeros((50, 2))]
        with self.assertRaisesRegex(UmbrateError, "one line"):
            fit_form("plane", line, N[:50])


def lump(seed=0):
    """A shape without symmetry: a ball with a nose and a dent."""
    points, faces = sphere(5)
    v = points / RADIUS
    nose, dent = np.array([0.8, 0.6, 0.0]), np.array([-0.3, 0.4, 0.866])
    r = RADIUS * (1 + 0.3 * np.exp(-6 * (1 - v @ nose)) - 0.15 * np.exp(-9 * (1 - v @ dent)))
    return v * r[:, None] * [1.0, 0.8, 0.65], faces


class Models(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.points, cls.faces = lump()
        cls.mesh = as_mesh(cls.points, cls.faces)

    def write(self, points, name="model.stl"):
        file = scratch() / name
        write_mesh(file, as_mesh(points, self.faces))
        return file

    def test_a_model_in_the_same_frame_is_compared_with_the_sign(self):
        n = self.mesh["normals"].astype(float)
        for name in ("model.stl", "model.ply", "model.obj"):
            found = compare_with_model(self.mesh, self.write(self.points - 0.2 * n, name))
            self.assertLess(abs(found.figures["median"] - 0.2), 0.01)
            self.assertEqual((found.within(0.15), found.within(0.3)), (0.0, 1.0))
            self.assertEqual(found.name, name)

    def test_a_model_is_laid_over_by_its_shape_or_by_picks(self):
        R, t = rotation_matrix(np.array([1.1, -1.9, 0.7])), np.array([300.0, -40, 77])
        file = self.write((self.points - t) @ R)  # so that R x + t brings it back
        found = compare_with_model(self.mesh, file, "shape")
        self.assertLess(found.figures["p95_abs"], 2e-3)
        np.testing.assert_allclose(found.M[:3, :3], R, atol=1e-3)
        rows = [0, 500, 3000, 9000]
        picks = [((self.points[k] - t) @ R, self.points[k] + 0.001) for k in rows]
        found = compare_with_model(self.mesh, file, "picks", picks)
        self.assertLess(found.figures["p95_abs"], 5e-3)
        with self.assertRaisesRegex(UmbrateError, "nowhere near"):
            compare_with_model(self.mesh, file)
        with self.assertRaisesRegex(UmbrateError, "three pairs"):
            compare_with_model(self.mesh, file, "picks", picks[:2])
        with self.assertRaisesRegex(UmbrateError, "nearly on one line"):
            compare_with_model(self.mesh, file, "picks", [(x * np.array([1.0, 0, 0]),) * 2 for x in (1, 2, 3)])
        with self.assertRaisesRegex(UmbrateError, "placed by one of"):
            compare_with_model(self.mesh, file, "luck")
        other = scratch() / "other.stl"
        m = trimesh.creation.box((80, 1, 1))
        other.write_bytes(trimesh.exchange.stl.export_stl(m))
        with self.assertRaisesRegex(UmbrateError, "Place it by picks"):
            compare_with_model(self.mesh, other, "shape")

    def test_files_of_strangers_are_read_or_refused_with_a_sentence(self):
        folder = scratch()
        good = self.write(self.points, "good.stl")
        points, faces = read_mesh(good)
        self.assertEqual((len(points), len(faces)), (len(self.points), len(self.faces)))  # corners are shared again
        data = good.read_bytes()
        for name, content, said in (
            ("cut.stl", data[: len(data) // 2], "damaged|no triangles"), ("empty.stl", b"", "damaged|no triangles"),
            ("text.ply", b"ply\nformat ascii 1.0\nelement vertex 1\nend_header\n", "damaged|no triangles"),
            ("points.ply", b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\n"
             b"property float z\nend_header\n0 0 0\n", "damaged|no triangles"),
            ("far.obj", b"v 0 0 0\nv 1 0 0\nf 1 2 9\n", "damaged|no triangles"),
            ("nan.obj", b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "damaged|no triangles"),
            ("photo.jpg", b"x", "read from .stl, .ply and .obj"),
        ):  # fmt: skip
            file = folder / name
            file.write_bytes(content)
            with self.subTest(name), self.assertRaisesRegex(UmbrateError, said):
                read_mesh(file)
        with self.assertRaisesRegex(UmbrateError, "cannot be read"):
            read_mesh(folder / "nowhere.stl")
        with mock.patch("umbrate.formats.meshes.MOST_BYTES", 10), self.assertRaisesRegex(UmbrateError, "larger than"):
            read_mesh(good)

    def test_hollows_are_told_by_their_width(self):
        points, faces = self.points, self.faces
        far = np.linalg.norm(points - points[100], axis=1) < 3
        (one,) = hollows(points, faces, far)
        self.assertLess(abs(one.across / 6 - 1), 0.2)
        self.assertEqual(hollows(points, faces, np.zeros(len(points), bool)), [])


class Measured(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(
            scratch() / "measured", "photos", "masks", "lens", "poses", "scale", "cloud", "surface"
        )
        cls.addClassCleanup(cls.job.close)
        cls.measurer = SurfaceMeasurer(cls.job, cls.sitting)

    def umbrate(self, *arguments):
        self.job.close()
        try:
            return CliRunner().invoke(cli, [str(a) for a in arguments])
        finally:
            type(self).job = type(self.job).open(self.job.folder)

    def test_values_are_those_of_the_triangles_in_the_jobs_unit_and_bad_ones_are_refused(self):
        m, mesh = self.measurer, load_surface(self.job, self.sitting)
        values = {v.name: v for v in m.all()}
        self.assertAlmostEqual(values["Area"].value / area_of(mesh["points"], mesh["faces"]), 1.0, places=4)
        self.assertAlmostEqual(values["Volume"].value / volume(mesh["points"], mesh["faces"]), 1.0, places=4)
        size = np.ptp(mesh["points"], axis=0)
        np.testing.assert_allclose([values[f"Size along {k}"].value for k in "xyz"], size, rtol=1e-4)
        for v in values.values():
            self.assertTrue(0 < v.above and 0 < v.below <= 1.5 * v.value, v)
        # nobody saw what it stands on: what may be hollow there makes the volume unsure downward
        self.assertGreater(values["Volume"].below, 2 * values["Volume"].above)
        self.assertIn("no photo sees into", values["Volume"].note)
        self.assertIn("(-", values["Volume"].text)
        place = mesh["points"][np.argmax(mesh["points"][:, 2])]
        thick = m.thickness_at(place)
        self.assertTrue(0.05 * size[2] < thick.value < 1.5 * size.max())
        made, (length, area) = m.section(np.median(mesh["points"], axis=0), (0, 0, 1))
        self.assertAlmostEqual(area.value, made.area)
        self.assertTrue(0 < area.below < 0.1 * area.value)
        self.assertTrue(0 < length.below < 0.1 * length.value)
        with self.assertRaisesRegex(UmbrateError, "does not meet the surface"):
            m.section((0, 0, 1e6), (0, 0, 1))

    def test_an_outline_moved_outward_grows_as_its_interval_reckons(self):
        m = self.measurer
        place = np.median(load_surface(self.job, self.sitting)["points"], axis=0)
        seen = {}
        with mock.patch.object(SurfaceMeasurer, "half", lambda self, d, places=0: seen.setdefault(len(seen), d) is d):
            made, _ = m.section(place, (0, 0, 1))
        n = m.mesh["normals"].astype(float)
        step = 1e-3 * np.ptp(m.points)
        grown = SurfaceMeasurer.__new__(SurfaceMeasurer)
        grown.__dict__.update(m.__dict__)
        grown.points = m.points + step * n
        with mock.patch.object(SurfaceMeasurer, "half", lambda self, d, places=0: 0.0):
            more, _ = grown.section(place, (0, 0, 1))
        for k, grew in ((0, more.length - made.length), (1, more.area - made.area)):
            told = float((seen[k] * step * n).sum())
            self.assertLess(abs(grew / told - 1), 0.1 if k else 0.5)  # a rough outline's length is rough

    def test_a_value_is_written_with_two_digits_of_its_interval(self):
        self.assertEqual(Value("a", 12.3456, 0.123, 0.123, "mm").text, "12.35 ± 0.12 mm")
        self.assertEqual(Value("a", 12.3456, 1.23, 0.123, "mm").text, "12.35 (-1.23 +0.12) mm")
        self.assertEqual(Value("a", 12.3456, np.nan, np.nan, "").text, "12.35")

    def test_forms_of_a_part_have_an_interval(self):
        m = self.measurer
        z = m.points @ m.of.to_job[2, :3]
        found = compare_with_form(m, "plane", z < np.percentile(z, 5))
        self.assertEqual([v.name for v in found.values], ["Off the form, root mean square", "Form error"])
        self.assertEqual(len(found.distance), len(m.points))
        diameter = compare_with_form(m, "sphere").values[0]
        self.assertEqual(diameter.name, "Diameter")
        self.assertTrue(0 < diameter.below < 0.5 * diameter.value, diameter)

    def test_the_command_and_the_report_say_the_same(self):
        job, s = self.job, self.sitting
        model = scratch() / "model.ply"
        write_mesh(model, load_surface(job, s))
        content = report_content(job, s, model)
        rows = dict(x[:2] for x in content["surface"]["values"])
        self.assertEqual(content["surface"]["model"]["within"][0][1], 1.0)
        file = scratch() / "report.pdf"
        write_accuracy_report(job, s, file, model=model)
        self.assertGreater(file.stat().st_size, 20_000)
        folder = job.folder
        out = self.umbrate("gauge", folder).output
        for name in ("Area", "Volume", "Size along x"):
            self.assertIn(rows[name].split(" ")[0], out)
        out = self.umbrate("gauge", folder, "--model", model, "--tolerance", "0.01").output
        self.assertIn("100.00 % within 0.01", out)
        x, y, z = np.median(load_surface(self.job, self.sitting)["points"], axis=0)
        out = self.umbrate("gauge", folder, "--cut", f"{x},{y},{z},0,0,1").output
        self.assertIn("Section area", out)
        for arguments, said in (
            (("--thickness", "1,2"), "takes 3 numbers"), (("--cut", "a,b,c,d,e,f"), "takes 6 numbers"),
            (("--form", "plane", "--near", "900,900,900,1"), "0 places are too few"),
            (("--model", scratch() / "none.stl"), "cannot be read"),
            (("--model", model, "--placed", "picks", "--pick", "1,2,3"), "X,Y,Z=X,Y,Z"),
            (("--surface", "No such"), "There is no surface “No such”"),
        ):  # fmt: skip
            out = self.umbrate("gauge", folder, *arguments)
            self.assertEqual(out.exit_code, 1, out.output)
            self.assertIn(said, out.output)
        picture = scratch() / "picture.png"
        for look in ("relief", "filled", "thickness", "deviation", "seen"):
            out = self.umbrate("picture", folder, picture, "--surface", "--look", look, "--width", 300, "--height", 200,
                               "--replace")  # fmt: skip
            self.assertEqual(out.exit_code, 0, out.output)
        out = self.umbrate("picture", folder, picture, "--look", "filled", "--replace")
        self.assertIn("A cloud is colored by one of", out.output)
        section = scratch() / "section.csv"
        z = float(np.median(load_surface(self.job, self.sitting)["points"][:, 2]))
        out = self.umbrate("section", folder, section, "--surface", "--at", 0, 0, z, "--normal", 0, 0, 1)
        self.assertIn("area", out.output)

    def test_an_open_surface_has_no_volume(self):
        job, s = self.job, self.sitting
        z = load_surface(job, s)["points"][:, 2]
        MEND.apply_step(job, s, job.surface(s.id), {"filter": "height", "height": float(np.median(z)), "cut": "open"})
        self.addCleanup(job.undo)
        m = SurfaceMeasurer(job, s)
        self.assertEqual([v.name for v in m.all()][:2], ["Area", "Size along x"])
        with self.assertRaisesRegex(UmbrateError, "open, so it has no inside"):
            m.volume()
