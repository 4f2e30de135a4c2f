"""Measuring on the surface of clouds, coordinates in files, and levels."""

import unittest

import ezdxf
import numpy as np
from scipy.spatial import ConvexHull
from scipy.spatial.distance import cdist

from tests.scenes import scratch
from umbrate.core.errors import UmbrateError
from umbrate.core.geometry.rotation import rotation_matrix
from umbrate.core.measure.level import frame, up_of_points
from umbrate.core.measure.section import is_closed, section
from umbrate.core.measure.surface import spot_on_ray, surface_at
from umbrate.core.targets import sheets
from umbrate.core.targets.printed import printed_lengths
from umbrate.formats.coordinates import read_coordinates, write_coordinates
from umbrate.formats.drawings import section_texts, triangles, write_section, write_shapes_dxf, write_shapes_obj

FREE = (0, 1, 2, 3)


class Clouds(unittest.TestCase):
    @staticmethod
    def ball(n=40000, noise=0.02, seed=0):
        rng = np.random.default_rng(seed)
        d = rng.normal(size=(n, 3))
        d /= np.linalg.norm(d, axis=1, keepdims=True)
        return (d * (10 + noise * rng.normal(size=(n, 1)))).astype(np.float32), d.astype(np.float32)

    def test_a_section_of_a_ball_is_the_circle_it_must_be(self):
        points, normals = self.ball()
        for h in (0.0, 6.0):
            s = section(points, normals, [0, 0, h], [0, 0, 1])
            r = np.sqrt(100 - h * h)
            self.assertEqual(len(s.lines), 1)
            self.assertTrue(is_closed(s.lines[0]))
            radii = np.linalg.norm(s.places(s.lines[0])[:, :2], axis=1)
            self.assertLess(np.abs(radii - r).max(), 0.05)
            self.assertAlmostEqual(s.area, np.pi * r * r, delta=0.01 * np.pi * r * r)
            self.assertAlmostEqual(s.length, 2 * np.pi * r, delta=0.03 * r)
        half = points[:, 0] > 0
        s = section(points[half], normals[half], [0, 0, 0], [0, 0, 1])
        self.assertIsNone(s.area)  # a gap stays a gap
        self.assertAlmostEqual(s.length, np.pi * 10, delta=0.8)
        with self.assertRaises(UmbrateError):
            section(points, normals, [0, 0, 30], [0, 0, 1])
        with self.assertRaises(UmbrateError):
            section(points, normals, [0, 0, 0], [0, 0, 0])
        folder = scratch()
        for end in ("svg", "dxf", "csv"):
            write_section(folder / f"s.{end}", s, "mm", "a & b")
        outline = ezdxf.readfile(folder / "s.dxf").modelspace().query("LWPOLYLINE")
        self.assertGreater(len(outline[0]), 50)
        self.assertIn("a &amp; b", (folder / "s.svg").read_text())
        self.assertGreater(len((folder / "s.csv").read_text().splitlines()), 50)
        with self.assertRaises(UmbrateError):
            write_section(folder / "s.xyz", s, "mm", "")

    def test_small_gaps_are_closed_and_told_and_what_is_open_has_no_area(self):
        points, normals = self.ball(120_000)
        angle = np.degrees(np.arctan2(points[:, 1], points[:, 0]))
        speck, of_speck = self.ball(450, 0.0, 1)
        speck = 0.06 * speck + np.float32([3, 0, 0])
        full = np.pi * 100
        for gaps in ([], [(10, 13)], [(10, 13), (80, 84), (-120, -117)]):
            keep = np.ones(len(points), bool)
            for a, b in gaps:
                keep &= ~((angle > a) & (angle < b))
            P = np.concatenate([points[keep], speck]).astype(np.float32)
            N = np.concatenate([normals[keep], of_speck])
            s = section(P, N, [0, 0, 0], [0, 0, 1])
            self.assertEqual(len(s.bridges), len(gaps))
            # the speck inside is a closed piece of its own: its little area is what it is, the ball's is whole
            self.assertAlmostEqual(s.area, full, delta=0.02 * full)
            for width, (a, b) in zip(s.gaps, sorted(gaps, key=lambda g: g[0] - g[1]), strict=True):
                self.assertAlmostEqual(width, 20 * np.sin(np.radians(b - a) / 2), delta=0.5)
            file = scratch() / "s.dxf"
            write_section(file, s, "mm", "")
            drawn = ezdxf.readfile(file).modelspace().query('LINE[layer=="closed gaps"]')
            self.assertEqual(
                sorted((round(x.dxf.start.distance(x.dxf.end), 6) for x in drawn), reverse=True),
                [round(w, 6) for w in s.gaps],
            )
        # a wide one stays open: before, the area of the speck was stated as that of the object
        keep = ~((angle > 0) & (angle < 60))
        P, N = np.concatenate([points[keep], speck]), np.concatenate([normals[keep], of_speck])
        s = section(P.astype(np.float32), N, [0, 0, 0], [0, 0, 1])
        self.assertTrue(s.is_open)
        self.assertIsNone(s.area)
        self.assertIn("open", section_texts(s, "mm")["area of"])
        s = section(P.astype(np.float32), N, [0, 0, 0], [0, 0, 1], gap=12.0)
        self.assertAlmostEqual(s.area, full - (np.pi / 3 - np.sin(np.pi / 3)) * 50, delta=0.03 * full)
        self.assertEqual(section(P.astype(np.float32), N, [0, 0, 0], [0, 0, 1], gap=0).bridges, [])

    def test_any_plane_cuts_a_box_as_geometry_says(self):
        rng = np.random.default_rng(5)
        sides = []
        for k in range(3):
            for sign in (-1, 1):
                p = rng.uniform(-1, 1, (25_000, 3))
                p[:, k] = sign
                n = np.zeros((25_000, 3))
                n[:, k] = sign
                sides.append((p * [10, 6, 4], n))
        P = np.concatenate([p for p, _ in sides]).astype(np.float32)
        N = np.concatenate([n for _, n in sides]).astype(np.float32)
        for _ in range(6):
            n = rng.normal(size=3)
            n /= np.linalg.norm(n)
            place = rng.uniform(-1, 1, 3)
            s = section(P, N, place, n)
            # the cut of a box by a plane, from the points where its edges meet the plane
            cut = []
            for k in range(3):
                for a in (-1, 1):
                    for b in (-1, 1):
                        ends = np.zeros((2, 3))
                        ends[:, k], ends[:, (k + 1) % 3], ends[:, (k + 2) % 3] = (-1, 1), a, b
                        e = ends * [10, 6, 4]
                        h = (e - place) @ n
                        if h[0] * h[1] < 0:
                            cut.append(e[0] + (e[1] - e[0]) * h[0] / (h[0] - h[1]))
            Q = np.stack([(np.array(cut) - place) @ s.u, (np.array(cut) - place) @ s.v], 1)
            hull = ConvexHull(Q)
            self.assertAlmostEqual(s.area, hull.volume, delta=0.02 * hull.volume)
            self.assertAlmostEqual(s.length, hull.area, delta=0.03 * hull.area)

    def test_a_spot_lies_on_the_surface_and_knows_its_noise(self):
        errors, stated = [], []
        for seed in range(6):
            points, normals = self.ball(seed=seed)
            for k in range(20):
                place, n, sigma, _ = surface_at(points, normals, points[k].astype(float))
                errors.append(np.linalg.norm(place) - 10)
                stated.append(sigma)
                self.assertGreater(n @ place / 10, 0.98)
        # the noise of this ball is independent, that of a dense cloud is not: the stated one is the larger
        self.assertLess(np.std(errors), np.mean(stated))
        self.assertLess(np.mean(stated), 0.02)
        hit = spot_on_ray(points, np.array([0, -50.0, 0]), np.array([0, 1.0, 0]), 0.004)
        self.assertLess(np.linalg.norm(hit - [0, -10, 0]), 0.5)
        self.assertIsNone(spot_on_ray(points, np.array([0, -50.0, 0]), np.array([1.0, 0, 0]), 0.004))


class Files(unittest.TestCase):
    def test_coordinates_are_read_however_people_write_them(self):
        folder = scratch()
        good = {
            "plain": "P1,1,2,3\nP2,4,5,6.5\n",
            "german": "Name;X [cm];Y [cm];Z [cm];Sigma\nP1;0,1;0,2;0,3;0,01\nP2;0,4;0,5;0,65;0,01\n",
            "tabs": "# a note\nid\tx\ty\tz\nP1\t1\t2\t3\nP2\t4\t5\t6.5\n",
            "order": "z,y,x,name,sx,sy,sz\n3,2,1,P1,.1,.2,.3\n6.5,5,4,P2,.1,.2,.3\n",
        }
        for name, text in good.items():
            (folder / name).write_text(text, encoding="utf-8-sig")
            points = read_coordinates(folder / name, sigma_mm=0.2)
            self.assertEqual([p.name for p in points], ["P1", "P2"], name)
            np.testing.assert_allclose([p.xyz for p in points], [[1, 2, 3], [4, 5, 6.5]], err_msg=name)
        self.assertEqual(points[0].sigma, (0.1, 0.2, 0.3))
        (folder / "inch").write_text("A 1,1,0,0\nB,0,2,0\n")
        self.assertEqual(read_coordinates(folder / "inch", "in")[1].xyz, (0.0, 50.8, 0.0))
        bad = {
            "P1,1,2,3\nP1,4,5,6\n": "lines 1 and 2", "P1,1,2\n": "columns", "P1,1,two,3\n": "two",
            "name;x;y\nA;1;2;3\n": "z", "": "no points", "name;x [yd];y;z\nA;1;2;3\n": "yd", "A,1,2,nan\n": "nan",
            "A;1;2;3;0\nB;1;2;3;0\n": "more than 0", ",1,2,3\n": "no name",
        }  # fmt: skip
        for text, words in bad.items():
            (folder / "bad").write_text(text)
            with self.assertRaises(UmbrateError, msg=text) as e:
                read_coordinates(folder / "bad")
            self.assertIn(words, str(e.exception))
        far = (12_345_678.01, -9_876_543.21, 0.01)
        write_coordinates(folder / "out.csv", [("A", (1, 2, 3), (0.1, 0.1, 0.2)), ("208", far, (0.0, 0.01, 0.01))])
        self.assertIn("x [mm],y [mm],z [mm],sx [mm]", (folder / "out.csv").read_text())
        back = read_coordinates(folder / "out.csv")
        self.assertEqual(back[0].sigma, (0.1, 0.1, 0.2))
        np.testing.assert_allclose(back[1].xyz, far, rtol=0, atol=1e-5)

    def test_each_column_has_its_unit_and_decimal_commas_between_commas_are_refused(self):
        folder = scratch()
        file = folder / "c.csv"
        file.write_text("name,x [m],y [m],z [cm],sx [mm],sy [mm],sz [mm]\nA,1,2,3,0.5,0.6,0.7\n")
        (p,) = read_coordinates(file)
        np.testing.assert_allclose((*p.xyz, *p.sigma), (1000, 2000, 30, 0.5, 0.6, 0.7))
        file.write_text("name;x [m];y;z;sx\nA;1;2;3;0,5\n")  # a column without a unit has that of the others
        np.testing.assert_allclose(read_coordinates(file)[0].xyz, (1000, 2000, 3000))
        self.assertEqual(read_coordinates(file)[0].sigma, (500.0, 0.1, 0.1))
        file.write_text("name;x;y;z;sigma;sz\nA;1;2;3;0,5;0,9\nB;1;2;4;0,5;\n")
        self.assertEqual([p.sigma for p in read_coordinates(file)], [(0.5, 0.5, 0.9), (0.5, 0.5, 0.5)])
        for text, words in (
            ("P1,1,5,2,5,3,5\nP2,4,25,5,5,6,5\n", "decimal point"), ("P1,1,5,2,3\nP2,4,5,6\n", "columns"),
            ('name,x,y,z\nP1,"1,5","2,5","3,5"\n', "decimal comma"),
            ("name,x,y,z\nP1,1,5,2,5,3,5\n", "columns"),
        ):  # fmt: skip
            file.write_text(text)
            with self.assertRaisesRegex(UmbrateError, words, msg=text):
                read_coordinates(file)
        with self.assertRaises(UmbrateError):
            read_coordinates(file, sigma_mm=float("nan"))
        for data in (b"\xff\xfe\0\0", b"\0\0\0", b"a" * 10**6):
            file.write_bytes(data)
            with self.assertRaises(UmbrateError):
                read_coordinates(file)

    def test_lines_and_faces_come_back_from_their_files(self):
        folder = scratch()
        L = np.array([[0, 0, 0], [4, 0, 0], [4, 1, 0], [1, 1, 0], [1, 4, 0], [0, 4, 0.0]])  # not convex
        cut = triangles(L)
        area = sum(0.5 * np.linalg.norm(np.cross(L[b] - L[a], L[c] - L[a])) for a, b, c in cut)
        self.assertAlmostEqual(area, 7.0)
        points = {"A": L[0], "B b": L[1]}
        write_shapes_dxf(folder / "x.dxf", points, [("edge", L[:2])], [("floor", L)])
        space = ezdxf.readfile(folder / "x.dxf").modelspace()
        self.assertEqual([len(space.query(k)) for k in ("POINT", "POLYLINE", "3DFACE", "TEXT")], [2, 2, 4, 4])
        told = {x.dxf.text for x in space.query("TEXT")}
        self.assertEqual(told, {"A", "B b", "edge  4.000 mm", "floor  7.000 mm²"})
        write_shapes_obj(folder / "x.obj", points, [("edge", L[:2])], [("floor", L)])
        text = (folder / "x.obj").read_text().splitlines()
        self.assertEqual(sum(x.startswith("v ") for x in text), 2 + 2 + 6)
        self.assertIn("f 5 6 7 8 9 10", text)

    def test_printed_bars_and_mats_are_told_by_their_shape(self):
        rng = np.random.default_rng(3)
        R, s = rotation_matrix(rng.normal(size=3)), 0.37
        for length in (100.0, 150.0, 200.0):
            marks = sheets.bars("A3", 6.0, length).targets[:3]
            P = np.array([[m.x, m.y, 0] for m in marks]) @ R.T * s + rng.normal(0, 0.01, (3, 3))
            found = printed_lengths([m.number for m in marks], P)
            self.assertEqual([(f.first, f.second, f.length) for f in found], [(192, 194, length)])
        for paper in ("A4", "A3"):
            sheet = sheets.mat(paper)
            P = np.array([[m.x, m.y, 0] for m in sheet.targets]) @ R.T * s
            found = printed_lengths([m.number for m in sheet.targets], P)
            self.assertEqual([(f.length, f.sheet) for f in found], [(sheet.bars[0].length, f"mat {paper}")])
        P[0] += 0.1 * s * np.ptp(P)
        self.assertEqual(printed_lengths([m.number for m in sheet.targets], P), [])


class Levels(unittest.TestCase):
    """Standing the object up, against turns that are known."""

    def test_a_plane_turned_anywhere_is_brought_level_with_its_edge_along_x_and_its_corner_at_zero(self):
        rng = np.random.default_rng(31)
        for _ in range(20):
            R = rotation_matrix(rng.normal(size=3))
            shift = rng.uniform(-50, 50, 3)
            flat = np.c_[rng.uniform(-20, 20, (6, 2)), np.zeros(6)]
            X = flat @ R.T + shift
            above = R @ [1.0, 2.0, 30.0] + shift
            up, middle = up_of_points(X, above)
            np.testing.assert_allclose(up, R[:, 2], atol=1e-9)
            np.testing.assert_allclose(middle, X.mean(0))
            np.testing.assert_allclose(up_of_points(X, 2 * shift - above)[0], -R[:, 2], atol=1e-9)
            M = frame(up, X[1] - X[0], X[0])
            moved = X @ M[:3, :3].T + M[:3, 3]
            np.testing.assert_allclose(moved[0], 0, atol=1e-9)
            np.testing.assert_allclose(moved[:, 2], 0, atol=1e-9)
            self.assertGreater(moved[1, 0], 0)
            self.assertAlmostEqual(moved[1, 1], 0, places=9)
            self.assertAlmostEqual(np.linalg.det(M[:3, :3]), 1.0)
            np.testing.assert_allclose(cdist(moved, moved), cdist(X, X), atol=1e-9)  # nothing is stretched

    def test_what_holds_no_level_is_refused(self):
        line = np.outer(np.arange(5.0), [1, 2, 3]) + np.random.default_rng(0).normal(0, 0.01, (5, 3))
        with self.assertRaisesRegex(UmbrateError, "nearly on one line"):
            up_of_points(line, [0, 0, 1])
        with self.assertRaisesRegex(UmbrateError, "three points"):
            up_of_points(line[:2], [0, 0, 1])
        for along in ([0, 0, 0], [0, 0, 5.0]):
            with self.assertRaisesRegex(UmbrateError, "no direction"):
                frame(np.array([0, 0, 1.0]), along)
        np.testing.assert_allclose(frame(np.array([0, 0, 1.0])), np.eye(4), atol=1e-12)
        upside_down = frame(np.array([0, 0, -1.0]))  # the one turn that has no axis of its own
        np.testing.assert_allclose(upside_down[:3, :3] @ [0, 0, -1], [0, 0, 1], atol=1e-12)
        self.assertAlmostEqual(np.linalg.det(upside_down[:3, :3]), 1.0)


if __name__ == "__main__":
    unittest.main()
