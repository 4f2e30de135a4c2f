"""Deliveries: what every purpose makes is read back, and what must not happen does not."""

import base64
import io
import json
import re
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import plyfile
import trimesh
from click.testing import CliRunner
from PIL import Image

from tests.scenes import scratch
from tests.test_stages import job_with, run
from umbrate.actions import papers
from umbrate.actions.mending import MEND
from umbrate.cli.main import cli
from umbrate.core.errors import Cancelled, UmbrateError
from umbrate.core.surface.build import vertex_normals
from umbrate.core.surface.shell import hollowed
from umbrate.core.texture import detail
from umbrate.core.texture.transfer import carried_over, laid_down
from umbrate.formats.objs import ascii_name
from umbrate.formats.page import page_text
from umbrate.formats.threemf import write_3mf
from umbrate.sitting.clouds import load_cloud
from umbrate.sitting.surfaces import load_surface
from umbrate.sitting.textures import load_texture
from umbrate.stages import BY_NAME
from umbrate.stages.base import Report, parse_settings
from umbrate.stages.deliver import making
from umbrate.stages.deliver.archive import SUMS, verify
from umbrate.work.state import cell

STAGES = ("photos", "masks", "lens", "poses", "cloud", "surface")


def corners(points, faces):
    """Corners of triangles (t, 3, 3), in an order that no file changes."""
    T = np.asarray(points)[np.asarray(faces)]
    return T[np.lexsort(T.reshape(len(T), 9).round(5).T)]


class Hollows(unittest.TestCase):
    def test_a_hollow_ball_has_the_volumes_it_must_have_and_holes_go_through(self):
        ball = trimesh.creation.icosphere(4, 20.0)
        points, faces = np.array(ball.vertices), np.array(ball.faces)
        for drains, genus in ((0, 4), (1, 2), (2, 0)):
            made = hollowed(points, faces, 2.5, drains, 5.0)
            solid = trimesh.Trimesh(made.points, made.faces, process=False)
            self.assertTrue(solid.is_watertight and solid.is_winding_consistent)
            self.assertEqual(solid.euler_number, genus)
            self.assertAlmostEqual(made.hollow / (4 / 3 * np.pi * 17.5**3), 1, delta=0.01)
            bored = drains * np.pi * 2.5**2 * 2.5
            self.assertAlmostEqual(
                solid.volume, ball.volume - made.hollow - bored, delta=0.4 * bored + 1e-6 * ball.volume
            )
            self.assertEqual(len(made.drains), drains)
            self.assertTrue((made.drains[:, 2] < -10).all())
        with self.assertRaisesRegex(UmbrateError, "nothing hollow"):
            hollowed(points, faces, 25.0)
        with self.assertRaisesRegex(UmbrateError, "no room for 9 holes"):
            hollowed(points, faces, 2.5, 9, 12.0)

    def test_a_wall_that_all_but_meets_the_corners_of_the_grid_stays_closed_in_a_file_of_six_digits(self):
        box = trimesh.creation.box((26.0, 26.0, 26.0))
        for wall in (2.0, 2.000001, 2.0003):  # cells of half a millimeter
            made = hollowed(np.array(box.vertices), np.array(box.faces), wall)
            written = np.char.mod("%.6g", made.points).astype(float)
            self.assertEqual(len(np.unique(written, axis=0)), len(made.points))
            self.assertAlmostEqual(made.hollow / (26.0 - 2 * wall) ** 3, 1, delta=0.01)


class CarriedOver(unittest.TestCase):
    def test_a_thinned_ball_has_the_colors_of_the_fine_one_where_they_were(self):
        def color(X):
            return 128 + 80 * np.stack([np.sin(0.5 * X[:, 0]), np.sin(0.4 * X[:, 1]), np.cos(0.5 * X[:, 2])], 1)

        fine, rng = trimesh.creation.icosphere(4, 10.0), np.random.default_rng(0)
        arrays = laid_down(np.array(fine.vertices), np.array(fine.faces), 512)
        # its page, filled by hand: the color of the place of each texel
        page = np.zeros((512, 512, 3), np.uint8)
        for t in range(len(fine.faces)):
            uv = arrays["uv"][arrays["corner"][t]] * [512, -512] + [0, 512]
            lo, hi = np.floor(uv.min(0)).astype(int) - 1, np.ceil(uv.max(0)).astype(int) + 1
            x, y = (v.ravel() for v in np.meshgrid(np.arange(lo[0], hi[0]), np.arange(lo[1], hi[1])))
            share = np.linalg.solve(np.vstack([uv.T, np.ones(3)]), np.stack([x + 0.5, y + 0.5, np.ones(len(x))])).T
            X = share @ arrays["points"][arrays["faces"][t]]
            page[y, x] = color(X).clip(0, 255).round()
        few = trimesh.creation.icosphere(3, 10.0)
        thin = laid_down(np.array(few.vertices), np.array(few.faces), 256)
        made = carried_over(thin, 256, arrays, [page], 1.0)
        t = rng.integers(0, len(few.faces), 500)
        share = rng.dirichlet((1, 1, 1), 500)
        X = np.einsum("nk,nkd->nd", share, few.vertices[few.faces[t]])
        uv = np.einsum("nk,nkd->nd", share, thin["uv"][thin["corner"][t]])
        got = made[(256 - 256 * uv[:, 1]).astype(int), (256 * uv[:, 0]).astype(int)].astype(float)
        off = np.abs(got - color(10 * X / np.linalg.norm(X, axis=1, keepdims=True))).max(1)
        self.assertLess(np.median(off), 4)
        self.assertLess(np.percentile(off, 98), 14)


class Deliveries(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.job, cls.sitting = job_with(scratch() / "deliver", *STAGES)
        cls.addClassCleanup(lambda: cls.job.close())
        with mock.patch.object(detail, "SKY_PX", 128):
            cls.job.set_settings(cls.sitting.id, "texture", {"side": 1024, "triangles": 6000})
            run(cls.job, cls.sitting, "texture")
        cls.mesh, _ = load_texture(cls.job, cls.sitting)
        cls.count = 0

    def setUp(self):
        type(self).count += 1
        self.folder = scratch() / f"delivered-{self.count}"

    def deliver(self, purpose, report=None, **values):
        """The newest Made, and the paths of its files by their endings."""
        values = {"purpose": purpose, "folder": str(self.folder), "file": "pebble", **values}
        self.job.set_settings(self.sitting.id, "deliver", values)
        run(self.job, self.sitting, "deliver", report)
        made = self.job.result(self.sitting.id, "deliver").figures.made[-1]
        for name, size, _ in made.files:
            self.assertEqual((self.folder / name).stat().st_size, size)
        self.assertEqual([p.name for p in self.folder.iterdir() if p.name.startswith(".")], [])
        return made, {Path(f).suffix: self.folder / f for f, _, _ in made.files}

    def told(self, made):
        return "\n".join(c.text for c in made.checks)

    # ------------------------------------------------------------------ print
    def test_a_print_is_closed_of_its_size_and_stands_on_the_bed(self):
        surface = load_surface(self.job, self.sitting)
        own = np.ptp(surface["points"], axis=0)
        with self.assertRaisesRegex(UmbrateError, "no scale") as e:
            self.deliver("print", size_by="factor")
        self.assertEqual(e.exception.remedy, ("set", "size_by", "target"))
        self.assertFalse(self.folder.exists() and any(self.folder.iterdir()))
        for kind in ("stl", "3mf"):
            made, files = self.deliver("print", print_format=kind, size_by="target", target=50, triangles=5000)
            read = trimesh.load(files[f".{kind}"], process=False)
            read = read.to_mesh() if isinstance(read, trimesh.Scene) else read
            read.merge_vertices()
            self.assertTrue(read.is_watertight)
            self.assertGreater(read.volume, 0)
            self.assertEqual(len(read.faces), 5000)
            self.assertAlmostEqual(np.ptp(read.vertices, axis=0).max(), 50, delta=0.01)
            np.testing.assert_allclose(np.ptp(read.vertices, axis=0) / own, 50 / own.max(), rtol=0.02)
            np.testing.assert_allclose(read.vertices.min(0)[2], 0, atol=1e-4)
            np.testing.assert_allclose((read.vertices.min(0) + read.vertices.max(0))[:2], 0, atol=1e-3)
            self.assertIn("closed, facing outward", self.told(made))
            self.assertTrue(made.good, self.told(made))
        # half of the limit's pebble is thinner than a limit as large as it is
        made, _ = self.deliver("print", size_by="target", target=50, triangles=5000, thin_wall=45)
        (bad,) = (c for c in made.checks if not c.good)
        self.assertIn("thinner than 45 mm", bad.text)
        self.assertEqual(bad.remedy[0], "thin walls")
        self.assertAlmostEqual(bad.remedy[1], 45 * own.max() / 50, delta=0.02 * own.max())
        self.assertEqual(cell(self.job, self.sitting, BY_NAME["deliver"]).state, "look")
        hollow = {"size_by": "target", "target": 50, "triangles": 5000, "hollow": True, "wall": 3}
        for drains, closed in ((1, False), (0, True)):
            made, files = self.deliver("print", **hollow, drains=drains)
            read = trimesh.load(files[".3mf"], process=False).to_mesh()
            self.assertTrue(read.is_watertight)
            self.assertIn("Hollow", self.told(made))
            self.assertEqual("nothing can leave 1 closed hollow" in self.told(made), closed)
            self.assertNotIn("pieces", self.told(made))
        made, _ = self.deliver("print", **hollow, thin_wall=4)
        self.assertIn("The wall of 3 mm is thinner than 4 mm", self.told(made))

    def test_an_open_surface_is_no_print_and_the_button_that_mends_it_does(self):
        job, s = self.job, self.sitting
        points = load_surface(job, s)["points"]
        steps = len(job.surface(s.id).steps)
        high = float(np.percentile(points[:, 2], 80))
        cut = {"filter": "plane", "normal": "0,0,1", "offset": high, "cut": "open"}
        MEND.apply_step(job, s, job.surface(s.id), cut)
        with self.assertRaisesRegex(UmbrateError, "One hole is open, the widest") as e:
            self.deliver("print", size_by="target", target=50, triangles=5000)
        kind, step = e.exception.remedy
        self.assertEqual(kind, "mend")
        MEND.apply_step(job, s, job.surface(s.id), step)
        _, files = self.deliver("print", print_format="stl", size_by="target", target=50, triangles=5000)
        read = trimesh.load(files[".stl"], process=False)
        read.merge_vertices()
        self.assertTrue(read.is_watertight)
        while len(job.surface(s.id).steps) > steps:
            job.undo()

    # ------------------------------------------------------------------ web, page, exchange
    def test_glb_has_levels_a_preview_and_the_size_that_was_asked_for(self):
        made, files = self.deliver("web", levels=2)
        names = sorted(f for f, _, _ in made.files)
        self.assertEqual(names, ["pebble-detail-2.glb", "pebble.glb", "pebble.png"])
        first, second = (
            trimesh.load(self.folder / n, process=False).to_mesh() for n in ("pebble.glb", "pebble-detail-2.glb")
        )
        self.assertEqual((len(first.faces), len(second.faces)), (6000, 1500))
        lo, hi = np.array(first.bounds)
        np.testing.assert_allclose([(lo + hi)[0], lo[1], (lo + hi)[2]], 0, atol=1e-4)  # y up, zero at the base
        np.testing.assert_allclose(second.bounds, first.bounds, atol=0.02 * np.ptp(first.bounds, axis=0).max())
        # the textures of both have the object's colors where the other's has them
        ends = []
        for m in (first, second):
            image = np.asarray(m.visual.material.baseColorTexture.convert("RGB")).astype(float)
            uv = m.visual.uv[m.faces].mean(1)
            y, x = (
                np.clip(v, 0, len(image) - 1).astype(int) for v in ((1 - uv[:, 1]) * len(image), uv[:, 0] * len(image))
            )
            ends.append((m.triangles_center, image[y, x]))
        near = np.linalg.norm(ends[1][0][::7, None] - ends[0][0][None], axis=2).argmin(1)
        self.assertLess(np.median(np.abs(ends[0][1][near] - ends[1][1][::7])), 14)
        with Image.open(files[".png"]) as image:
            self.assertEqual(image.size, (1024, 768))
            self.assertGreater(len(np.unique(np.asarray(image).reshape(-1, 3), axis=0)), 500)
        size = (self.folder / "pebble.glb").stat().st_size
        made, _ = self.deliver("web", web_mb=0.55 * size / 1e6, file="small")
        self.assertLess(made.files[0][1], 0.55 * size)
        self.assertIn("to stay within", self.told(made))
        made, files = self.deliver("web", color_by="vertices", triangles=2000, file="plain")
        plain = trimesh.load(self.folder / "plain.glb", process=False).to_mesh()
        self.assertEqual(len(plain.faces), 2000)
        data = (self.folder / "plain.glb").read_bytes()
        size = int.from_bytes(data[12:16], "little")
        content = json.loads(data[20 : 20 + size])
        (primitive,) = content["meshes"][0]["primitives"]
        at = content["bufferViews"][content["accessors"][primitive["attributes"]["COLOR_0"]]["bufferView"]]
        begin = 28 + size + at["byteOffset"]
        light = np.frombuffer(data[begin : begin + at["byteLength"]], "<u2").reshape(-1, 4)[:, :3] / 65535
        shown = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055) * 255
        np.testing.assert_allclose(shown, shown.round(), atol=0.02)  # whole levels of the surface's colors
        self.assertAlmostEqual(shown.mean(), load_surface(self.job, self.sitting)["colors"].mean(), delta=6)
        self.assertNotIn("texture", made.sources)
        with self.assertRaisesRegex(UmbrateError, "No model of this surface fits"):
            self.deliver("web", web_mb=0.001, file="none")
        self.assertFalse((self.folder / "none.glb").exists())

    def test_what_a_page_holds_is_the_surface_and_its_title_is_plain_text(self):
        title = 'A <script>alert(1)</script> & "Größe" @DATA@'
        _, files = self.deliver("page")
        text = files[".html"].read_text("utf-8")
        self.assertNotRegex(text.replace("http://www.w3.org", ""), r"https?://")
        data = json.loads(re.search(r'<script id="data" type="application/json">(.*?)</script>', text, re.S)[1])

        def array(name, kind):
            return np.frombuffer(base64.b64decode(data[name]), kind)

        places = array("places", "<u2").reshape(-1, 3) * data["step"] + data["low"]
        got = places[array("index", "<u4").reshape(-1, 3)]
        np.testing.assert_allclose(got, self.mesh["points"][self.mesh["faces"]], atol=2e-5 * np.ptp(places))
        page = np.asarray(Image.open(io.BytesIO(base64.b64decode(data["page"].split(",")[1]))))
        self.assertEqual(page.shape, (1024, 1024, 3))
        mesh = {"points": np.eye(3), "normals": np.eye(3), "faces": np.array([[0, 1, 2]])}
        text = page_text(mesh, title=title, rows=[("<b>", "</table>")])
        self.assertNotIn("<script>alert", text)
        self.assertIn("&lt;script&gt;alert(1)&lt;/script&gt; &amp; &quot;Größe&quot; @DATA@", text)
        self.assertIn("<td>&lt;b&gt;</td><td>&lt;/table&gt;</td>", text)

    def test_obj_finds_its_materials_whatever_it_is_called_and_axes_are_as_asked_for(self):
        name = "Größe 1, Übung"
        _, _ = self.deliver("exchange", file=name, up="y", origin="base", image_format="png")
        plain = ascii_name(name)
        self.assertRegex(plain, r"^[\w.-]+$")
        files = sorted(p.name for p in self.folder.iterdir())
        self.assertEqual(files, sorted([f"{name}.obj", f"{plain}.mtl", f"{plain}.png", f"{plain}-normal.png"]))
        read = trimesh.load(self.folder / f"{name}.obj", process=False, maintain_order=True)
        read = read.to_mesh() if isinstance(read, trimesh.Scene) else read
        self.assertEqual(read.visual.material.image.size, (1024, 1024))
        p = self.mesh["points"].astype(float)
        base = [(p.min(0) + p.max(0))[0] / 2, (p.min(0) + p.max(0))[1] / 2, p.min(0)[2]]
        want = np.stack([(p - base)[:, 0], (p - base)[:, 2], -(p - base)[:, 1]], 1)
        np.testing.assert_allclose(corners(read.vertices, read.faces), corners(want, self.mesh["faces"]), atol=2e-4)
        made, files = self.deliver("exchange", exchange_format="ply")
        v = plyfile.PlyData.read(str(files[".ply"]))["vertex"]
        np.testing.assert_allclose(np.stack([v["x"], v["y"], v["z"]], 1), p, atol=1e-6)
        self.assertGreater(len(np.unique(v["red"])), 20)
        self.assertFalse(made.good)  # the job has no scale

    def test_several_pages_arrive_in_every_purpose_and_a_smaller_model_keeps_the_detail_of_the_fine_one(self):
        job, s = self.job, self.sitting
        before = job.settings(s.id, "texture")
        job.set_settings(s.id, "texture", {**before, "pages": 2, "side": 1024, "size_by": "texels", "texels": 1.0})
        stage = BY_NAME["texture"]
        one = float(stage.forecast(job, s, parse_settings(stage, before)).text.split(": ")[1].split()[0])
        job.set_settings(s.id, "texture", {**before, "pages": 4, "size_by": "texels", "texels": 1.15 * one})
        with mock.patch.object(detail, "SKY_PX", 128):
            run(job, s, "texture")
        pages = job.result(s.id, "texture").figures.pages
        self.assertGreater(pages, 1)
        model, _ = load_texture(job, s)
        _, files = self.deliver("web")
        scene = trimesh.load(files[".glb"], process=False)
        self.assertEqual(len(scene.geometry), pages)
        read = scene.to_mesh()
        want = np.stack([model["points"][:, 0], model["points"][:, 2], -model["points"][:, 1]], 1)
        base = [(want.min(0) + want.max(0))[0] / 2, want.min(0)[1], (want.min(0) + want.max(0))[2] / 2]
        np.testing.assert_allclose(corners(read.vertices, read.faces), corners(want - base, model["faces"]), atol=1e-4)
        _, files = self.deliver("exchange")
        text = files[".mtl"].read_text("ascii")
        self.assertEqual(text.count("newmtl"), pages)
        self.assertEqual(len([p for p in self.folder.iterdir() if re.fullmatch(r"pebble-\d.jpg", p.name)]), pages)
        made, files = self.deliver("page")
        self.assertIn(f"{len(model['faces']):,} triangles, a page of 2,048² texels", self.told(made))
        # normals of a thinner one are those of the surface itself, not of the model it was thinned from
        _, files = self.deliver("web", triangles=800, file="thin", image_format="png")
        thin = trimesh.load(files[".glb"], process=False).to_mesh()
        normal = np.asarray(thin.visual.material.normalTexture.convert("RGB")).astype(float) / 127.5 - 1
        self.assertGreater(np.abs(normal[..., :2]).mean(), 0.015)  # a map that says nothing has 0
        np.testing.assert_allclose(np.linalg.norm(normal, axis=2).mean(), 1, atol=0.02)
        job.set_settings(s.id, "texture", before)
        with mock.patch.object(detail, "SKY_PX", 128):
            run(job, s, "texture")

    # ------------------------------------------------------------------ cloud, pictures
    def test_clouds_come_back_in_every_format_thinned(self):
        cloud = load_cloud(self.job, self.sitting)
        step = 3 * float(np.median(np.ptp(cloud["points"], axis=0))) / 100
        for kind in ("ply", "las", "laz", "e57", "xyz", "csv"):
            made, files = self.deliver("cloud", cloud_format=kind, spacing=step)
            self.assertIn("read back", self.told(made))
            self.assertIn("Thinned from", self.told(made))
        points = np.loadtxt(files[".csv"], delimiter=",", skiprows=1, usecols=(0, 1, 2))
        d = np.linalg.norm(points[:, None] - points[None], axis=2) + np.eye(len(points))
        self.assertGreater(d.min(), 0.99 * step)

    def test_films_turn_and_an_orthophoto_lies_where_its_world_file_says(self):
        made, files = self.deliver("pictures", picture="spin", film="gif", film_seconds=0.5, width=160)
        with Image.open(files[".gif"]) as film:
            self.assertEqual((film.n_frames, film.size), (10, (160, 90)))
            shown = []
            for k in (0, 5):
                film.seek(k)
                shown.append(np.asarray(film.convert("RGB")).astype(int))
        self.assertGreater((np.abs(shown[0] - shown[1]).max(2) > 20).mean(), 0.02)
        made, files = self.deliver("pictures", picture="spin", film="mp4", film_seconds=0.4, width=160)
        self.assertIn("12 pictures of 160 x 90", self.told(made))
        p = self.mesh["points"].astype(float)
        pixel = float(np.ptp(p, axis=0).max()) / 200
        views = {
            "front": (0, 1, 2, 1),
            "right": (1, 1, 2, 1),
            "back": (0, -1, 2, 1),
            "top": (0, 1, 1, 1),
            "bottom": (0, -1, 1, 1),
        }
        for side, (a, sa, b, sb) in views.items():
            _, files = self.deliver("pictures", picture="orthophoto", side=side, pixel=pixel, file=side)
            image = np.asarray(Image.open(files[".png"]))
            A, _, _, E, x0, y0 = (float(v) for v in files[".pgw"].read_text().split())
            np.testing.assert_allclose((A, E), (pixel, -pixel), rtol=1e-6)
            v, u = np.nonzero(image[..., 3])
            x, y = x0 + A * u, y0 + E * v
            for got, k, sign in ((x, a, sa), (y, b, sb)):
                self.assertAlmostEqual(got.min(), (sign * p[:, k]).min(), delta=2 * pixel)
                self.assertAlmostEqual(got.max(), (sign * p[:, k]).max(), delta=2 * pixel)
        with self.assertRaisesRegex(UmbrateError, "are the most"):
            self.deliver("pictures", picture="orthophoto", pixel=pixel / 1000)
        for kind in ("png", "pdf"):
            made, files = self.deliver("pictures", picture="sides", sheet_format=kind, width=400)
            self.assertIn("six sides", self.told(made))

    # ------------------------------------------------------------------ archive
    def test_an_archive_is_verified_and_tells_what_was_changed_lost_or_added(self):
        self.deliver("archive", with_photos=True)
        folder = self.folder / "pebble"
        self.assertEqual(verify(folder), [])
        photos = self.job.photos(self.sitting.id)
        listed = (folder / "photos.csv").read_text("utf-8").splitlines()
        self.assertEqual(len(listed), len(photos) + 1)
        self.assertEqual(len(list((folder / "photos").iterdir())), len(photos))
        for p in photos[:3]:
            self.assertEqual((folder / "photos" / p.name).read_bytes(), self.job.photo_path(p).read_bytes())
        for name in ("cloud.ply", "surface.ply", "textured/model.obj", "cameras.json", "settings.json", "ledger.csv",
                     "README.txt", "report.pdf"):  # fmt: skip
            self.assertTrue((folder / name).is_file(), name)
        (folder / "extra.txt").write_text("x")
        (folder / "cameras.json").unlink()
        data = bytearray((folder / "cloud.ply").read_bytes())
        data[-5] ^= 1
        (folder / "cloud.ply").write_bytes(data)
        found = verify(folder)
        self.assertEqual(
            found, ["cameras.json is missing", "cloud.ply was changed or is damaged", "extra.txt was added"]
        )
        (folder / SUMS).write_text("x" * 70)
        with self.assertRaisesRegex(UmbrateError, "damaged in line 1"):
            verify(folder)
        _, files = self.deliver("archive", as_zip=True)
        self.assertEqual(verify(files[".zip"]), [])
        with zipfile.ZipFile(files[".zip"]) as z:
            self.assertIsNone(z.testzip())
        with self.assertRaisesRegex(UmbrateError, "no archive"):
            verify(scratch())

    # ------------------------------------------------------------------ what must not happen
    def test_nothing_is_written_over_and_what_was_refused_or_stopped_leaves_nothing(self):
        self.folder.mkdir()
        (self.folder / ".umbrate-delivery-4999999-killed").mkdir()  # of a process that is no more
        there = self.folder / "pebble.html"
        there.write_text("mine")
        made, _ = self.deliver("page")
        self.assertEqual((made.files[0][0], there.read_text()), ("pebble (2).html", "mine"))
        made, _ = self.deliver("page", replace=True)
        self.assertEqual(made.files[0][0], "pebble.html")
        self.assertNotEqual(there.read_text("utf-8"), "mine")
        # a photo of the job is never replaced, whatever is said
        photo = self.job.photo_path(self.job.photos(self.sitting.id)[0])
        before = photo.read_bytes()
        self.folder = photo.parent
        values = {"purpose": "pictures", "picture": "orthophoto", "pixel": 0.1} if photo.suffix == ".png" else {
            "purpose": "exchange", "image_format": "jpeg",
        }  # fmt: skip
        self.assertEqual(ascii_name(photo.stem), photo.stem)
        self.assertIn(photo.suffix, (".png", ".jpg"))
        around = sorted(p.name for p in photo.parent.iterdir())
        with self.assertRaisesRegex(UmbrateError, "never\\s+written over"):
            self.deliver(values.pop("purpose"), **values, file=photo.stem, replace=True)
        self.assertEqual(sorted(p.name for p in photo.parent.iterdir()), around)
        self.assertEqual(photo.read_bytes(), before)
        self.folder = self.job.folder / "blobs"
        with self.assertRaisesRegex(UmbrateError, "job's own folder"):
            self.deliver("page")
        self.folder = scratch() / "stopped"

        class Stopping(Report):
            def check(self):
                raise Cancelled

        full = UmbrateError("It could not be written.")
        full.__cause__ = OSError(28, "No space left on device")
        with mock.patch.object(papers, "export_cameras", side_effect=full):  # what is missing is not left out quietly
            with self.assertRaisesRegex(UmbrateError, "could not be written"):
                self.deliver("archive")
        self.assertEqual(list(self.folder.iterdir()), [])
        have = self.job.result(self.sitting.id, "deliver").figures.made
        with self.assertRaises(Cancelled):
            self.deliver("page", Stopping())
        self.assertEqual(list(self.folder.iterdir()), [])
        with mock.patch.object(making, "_on_disk", side_effect=OSError(28, "No space left on device")):
            with self.assertRaisesRegex(UmbrateError, "No space left on device"):
                self.deliver("page")
        self.assertEqual(list(self.folder.iterdir()), [])
        self.assertEqual(self.job.result(self.sitting.id, "deliver").figures.made, have)

    def test_deliveries_are_listed_and_stale_when_what_they_were_made_from_changed(self):
        job, s, stage = self.job, self.sitting, BY_NAME["deliver"]
        self.deliver("page")
        self.deliver("print", size_by="target", target=20, triangles=3000)
        page, print_ = job.result(s.id, "deliver").figures.made[-2:]
        self.assertEqual([stage.stale(job, s, m) for m in (page, print_)], ["", ""])
        self.assertEqual(stage.headline(job.result(s.id, "deliver").figures)[1], "Print")
        MEND.apply_step(job, s, job.surface(s.id), {"filter": "smooth"})
        self.assertEqual([stage.stale(job, s, m) for m in (page, print_)], ["", "surface changed"])
        self.assertIn("stale", cell(job, s, stage).first + cell(job, s, stage).second + cell(job, s, stage).state)
        job.undo()
        self.assertEqual(stage.stale(job, s, print_), "")
        # another name changes nothing, nor does another choice; and it can be made once more under the new name
        (kept,) = job.surfaces(s.id)
        self.deliver("print", size_by="target", target=20, triangles=3000, surface=kept.name, file="Näme 1.2")
        named = job.result(s.id, "deliver").figures.made[-1]
        job.surface_list.rename(kept.id, "Pebble")
        self.assertEqual([stage.stale(job, s, m) for m in (page, print_, named)], ["", "", ""])
        again = stage.settings_again(job, s, named)
        self.assertEqual((again["surface"], again["file"], again["target"]), ("Pebble", "Näme 1.2", 20))
        job.undo()
        job.surface_list.remove(kept.id)
        self.assertEqual(stage.stale(job, s, print_), "surface is gone")
        job.undo()
        self.assertEqual(stage.stale(job, s, print_), "")
        job_made = job.result(s.id, "deliver").figures.made
        self.job.close()
        try:
            listed = CliRunner().invoke(cli, ["deliver", str(job.folder), "--list"])
            wrong = CliRunner().invoke(cli, ["deliver", str(job.folder), "poster", "x"])
            where = CliRunner().invoke(cli, ["deliver", str(job.folder), "page"])
            other = CliRunner().invoke(cli, ["deliver", str(job.folder), "print", "x.stl", "--set", "film=gif"])
            kind = CliRunner().invoke(cli, ["deliver", str(job.folder), "print", "x.doc"])
            options = CliRunner().invoke(cli, ["deliver", str(job.folder), "print", "--settings"])
            count = len(job_made)
            gone = CliRunner().invoke(cli, ["deliver", str(job.folder), "--forget", str(count)])
            none = CliRunner().invoke(cli, ["deliver", str(job.folder), "--forget", str(count)])
            out = str(self.folder / "by command.stl")
            more = ["--set", "size_by=target", "--set", "target=30", "--set", "triangles=3000"]
            made = CliRunner().invoke(cli, ["deliver", str(job.folder), "print", out, *more])
        finally:
            type(self).job = type(job).open(job.folder)
        self.assertEqual(listed.exit_code, 0, listed.output)
        self.assertIn("Print", listed.output)
        self.assertIn("no purpose “poster”", wrong.output)
        self.assertIn("Say where to", where.output)
        self.assertIn("print makes .stl, .3mf files", kind.output)
        self.assertIn("“film” matters for pictures, not for print", other.output)
        self.assertIn("thin_wall", options.output)
        self.assertIn("Off the list", gone.output)
        self.assertIn(f"no delivery {count}", none.output)
        now = [m.when for m in type(self).job.result(s.id, "deliver").figures.made][:-1]
        self.assertEqual(now, [m.when for m in job_made[:-1]])
        self.assertEqual(made.exit_code, 0, made.output)
        self.assertTrue((self.folder / "by command.stl").is_file())

    def test_settings_that_make_no_sense_are_refused_and_other_purposes_ask_for_what_they_need(self):
        stage = BY_NAME["deliver"]
        for values in ({"purpose": "poster"}, {"factor": 0}, {"page_side": 1000}, {"levels": 9}):
            with self.assertRaises(UmbrateError):
                parse_settings(stage, values)
        job, s = job_with(scratch() / "bare", "photos", "masks", "lens", "poses")
        self.addCleanup(job.close)
        for purpose, needed in (("print", "no surface"), ("page", "no surface"), ("cloud", "no dense cloud")):
            with self.assertRaisesRegex(UmbrateError, needed):
                stage.gather(job, s, parse_settings(stage, {"purpose": purpose}))
        job.set_settings(s.id, "deliver", {"purpose": "archive", "folder": str(self.folder)})
        run(job, s, "deliver")
        (made,) = job.result(s.id, "deliver").figures.made
        self.assertIn("cameras.json", " ".join(f for f, _, _ in made.files))


class Formats(unittest.TestCase):
    def test_3mf_keeps_every_triangle_in_millimeters_and_any_name(self):
        box = trimesh.creation.box((10, 20, 30))
        out = scratch() / "box.3mf"
        write_3mf(out, {"points": box.vertices, "faces": box.faces}, 'A <"box"> & \x07 more')
        read = trimesh.load(out, process=False).to_mesh()
        np.testing.assert_allclose(corners(read.vertices, read.faces), corners(box.vertices, box.faces), atol=1e-5)
        with zipfile.ZipFile(out) as z:
            text = z.read("3D/3dmodel.model").decode("utf-8")
        self.assertIn('unit="millimeter"', text)
        self.assertNotIn("\x07", text)
        self.assertEqual(len(vertex_normals(box.vertices, box.faces)), 8)


if __name__ == "__main__":
    unittest.main()
