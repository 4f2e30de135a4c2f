"""Depth, fusion, the keep box and cleaning against slow references and rendered truth."""

import unittest
from collections import namedtuple
from dataclasses import replace

import numpy as np
import scipy
from scipy.spatial.transform import Rotation

from tests.scenes import pebble_truth, true_views
from umbrate.core.cloud.clean import isolated, outside_outlines
from umbrate.core.cloud.keepbox import KeepBox, fit_keep_box
from umbrate.core.dense import depth as dense
from umbrate.core.dense.bend import disc, fit_bends
from umbrate.core.dense.depth import NEIGHBOR_MARGIN, cropped
from umbrate.core.dense.exposure import brightness, gains
from umbrate.core.dense.fuse import (
    AGAINST,
    EXPECTED,
    FAR_APART,
    SHARED,
    SHINE,
    SHINE_LEVELS,
    SURE_SLACK,
    Agreement,
    fuse,
)
from umbrate.core.dense.held import maps_of, noise_codes
from umbrate.core.dense.neighbors import choose_neighbors
from umbrate.core.dense.pair import without_specks
from umbrate.core.dense.patch import (
    COUNT,
    ROWS,
    compare,
    detail,
    gradient_of,
    neighbor_row,
    places,
    prepare,
    slide,
    support,
    tangent,
)
from umbrate.core.dense.shine import highlights
from umbrate.core.dense.sweep import Planes
from umbrate.core.geometry.lens import Lens
from umbrate.core.geometry.pose import center, look_at, transform
from umbrate.core.imaging.undistort import undistort
from umbrate.core.lanes import cells
from umbrate.core.raster.triangles import mesh_depth
from umbrate.studio.solids import Solid


def matrix(K):
    """The calibration matrix of f, cx, cy."""
    return np.array([[K[0], 0, K[1]], [0, K[0], K[2]], [0, 0, 1.0]])


class Patches(unittest.TestCase):
    """What a patch says of a neighbor, against the same written out pixel by pixel."""

    def setUp(self):
        views = [v for v, _ in true_views()[:3]]
        self.a, self.b = views[0], views[2]
        self.E = self.b.pose @ np.linalg.inv(self.a.pose)
        A = matrix(self.b.K) @ self.E[:3, :3] @ np.linalg.inv(matrix(self.a.K))
        h, w = self.b.gray.shape
        self.row = neighbor_row(A, matrix(self.b.K) @ self.E[:3, 3], w, h)
        self.cells = np.zeros((h, w + 3, 4), np.int16)  # wider than the picture, as where another neighbor is
        cells(self.b.gray, self.cells)
        self.supports = np.stack([support(3.2, 1), support(6.0, 2)])

    def read(self, u, v):
        """The neighbor's brightness between its pixels, as its border is beyond."""
        h, w = self.b.gray.shape
        u, v = np.clip(u, 0, w - 1.01), np.clip(v, 0, h - 1.01)
        iu, iv = int(u), int(v)
        g = np.round(self.b.gray[iv : iv + 2, iu : iu + 2].astype(float) * 64) / 64
        fu, fv = u - iu, v - iv
        return (g[0, 0] * (1 - fu) + g[0, 1] * fu) * (1 - fv) + (g[1, 0] * (1 - fu) + g[1, 1] * fu) * fv

    def slow(self, x, y, which, plane, bend):
        """Weights, centered brightness here and brightness there, for each place of a patch; None where not seen."""
        h, w = self.a.gray.shape
        dx, dy, weight = self.supports[which].astype(float)
        here, there = [], []
        for k in range(len(dx)):
            X = np.array([x + dx[k], y + dy[k], 1.0])
            inverse = plane[0] + plane[1] * dx[k] + plane[2] * dy[k]
            inverse += bend @ [dx[k] ** 2, dx[k] * dy[k], dy[k] ** 2]
            Y = self.E[:3, :3] @ np.linalg.solve(matrix(self.a.K), X) / inverse + self.E[:3, 3]
            there.append(self.read(self.b.K[0] * Y[0] / Y[2] + self.b.K[1], self.b.K[0] * Y[1] / Y[2] + self.b.K[2]))
            u, v = int(X[0]), int(X[1])
            inside = 0 <= u < w and 0 <= v < h
            here.append(float(self.a.gray[v, u]) if inside else 1e6)
        here, there = np.array(here), np.array(there)
        weight = weight / (1 + ((here - float(self.a.gray[y, x])) / 12.0) ** 2) ** (1 + which)
        return weight / weight.sum(), here, there

    def cases(self, count):
        """Pixels with planes near the surface, and what is prepared of them."""
        rng = np.random.default_rng(1)
        ys, xs = np.nonzero(self.a.mask)
        f, made = self.a.K[0], np.zeros((ROWS, COUNT), np.float32)
        steps, gray = places(self.supports, self.a.gray.shape[1]), self.a.gray
        at = gray.ctypes.data, self.supports.ctypes.data, steps.ctypes.data, made.ctypes.data
        for k in rng.choice(len(ys), count, replace=False):
            x, y, which = int(xs[k]), int(ys[k]), int(k % 2)
            z = 1 / (165.0 * (1 + 0.03 * rng.normal()))
            plane = np.array([z, *(0.3 * z / f * rng.normal(size=2))])
            bend = 0.02 * z / f * rng.normal(size=3)
            var = prepare(gray, x, y, self.supports, which, made, at)
            if var < 4096:
                continue
            dx, dy = made[0].astype(float), made[1].astype(float)
            made[4] = bend[0] * dx**2 + bend[1] * dx * dy + bend[2] * dy**2
            yield x, y, which, plane, bend, made, var

    def test_the_kernels_agree_with_the_formula_written_out(self):
        compared = judged = 0
        for x, y, which, plane, bend, made, var in self.cases(300):
            args = (
                self.row.ctypes.data,
                self.cells.ctypes.data,
                self.cells.shape[1],
                x,
                y,
                *plane,
                made.ctypes.data,
                var,
            )
            t, p, q = self.slow(x, y, which, plane, bend)
            self.assertAlmostEqual(var / 4096, t @ (p - t @ p) ** 2, delta=1e-3 * var / 4096)
            p, q = p - t @ p, q - t @ q
            got, normal = compare(*args), np.zeros(10)
            if got >= 1.2 or t @ q**2 < 1.6:
                continue
            self.assertAlmostEqual(got, 1 - (t @ (p * q)) / np.sqrt((t @ p**2) * (t @ q**2)), delta=2e-3)
            self.assertAlmostEqual(tangent(*args, normal), got, delta=1e-5)
            # what an even gradient leaves, here and there, by a weighted fit
            dx, dy, _ = self.supports[which].astype(float)
            A = np.stack([np.ones_like(dx), dx, dy], 1) * np.sqrt(t)[:, None]
            p_left, q_left = (np.sqrt(t) * k - A @ np.linalg.lstsq(A, np.sqrt(t) * k)[0] for k in (p, q))
            if q_left @ q_left > 0.3:
                slow = (p_left @ q_left) / np.sqrt((p_left @ p_left) * (q_left @ q_left))
                self.assertAlmostEqual(detail(*args, gradient_of(made.ctypes.data)), slow, delta=0.02)
                judged += 1
            self.assertAlmostEqual(slide(*args, gradient_of(made.ctypes.data), np.zeros(2)), got, delta=1e-5)
            compared += 1
        self.assertGreater(min(compared, judged), 120)

    def slid(self, t, p, q, slope, which):
        """What stands before a change of z and its right side, with brightness, gradients and contrast free."""
        dx, dy, _ = self.supports[which].astype(float)
        even = np.stack([np.ones(COUNT), dx, dy], 1)
        out = np.eye(COUNT) - even @ np.linalg.solve(even.T @ (even * t[:, None]), even.T * t)
        p, q, slope = out @ p, out @ q, out @ slope
        gain = max(t @ (p * q), 0) / (t @ q**2)  # what is opposite there says nothing
        slope = gain * (slope - q * (t @ (q * slope)) / (t @ q**2))
        return 4096 * np.array([t @ slope**2, t @ (slope * p)])

    def test_a_step_of_least_squares_is_that_of_slopes_by_differences(self):
        compared = same = 0
        for x, y, which, plane, bend, made, var in self.cases(200):
            pixel = 1 / np.hypot(*(self.row[9:11] - self.b.K[1:] * self.row[11]))  # one pixel there
            t, p, q = self.slow(x, y, which, plane, bend)
            p = p - t @ p
            J = []
            for k in range(3):
                step = np.zeros(3)
                step[k] = 1e-3 * pixel / (1, 4, 4)[k]
                up, down = (self.slow(x, y, which, plane + s * step, bend)[2] for s in (1, -1))
                J.append((up - down) / (2 * step[k]))
            normal = np.zeros(10)
            args = (
                self.row.ctypes.data,
                self.cells.ctypes.data,
                self.cells.shape[1],
                x,
                y,
                *plane,
                made.ctypes.data,
                var,
            )
            if tangent(*args, normal) > 0.9:
                continue
            # brightness and contrast are free: what they explain is taken out of slopes and of what is left
            gain = t @ (p * (q - t @ q)) / (t @ (q - t @ q) ** 2)
            J = np.stack(J, 1)
            slid = self.slid(t, p, q, J[:, 0], which)
            free = np.stack([np.ones(COUNT), q], 1)
            out = np.eye(COUNT) - free @ np.linalg.solve(free.T @ (free * t[:, None]), free.T * t)
            J = gain * (out @ J)
            unit = np.array([1, 4, 4]) / pixel
            N = J.T @ (J * t[:, None]) / unit / unit[:, None] * 4096
            r = J.T @ (t * (out @ p)) / unit * 4096
            got = np.array([[normal[0], *normal[1:3]], [normal[1], *normal[3:5]], [normal[2], *normal[4:6]]])
            one = np.zeros(2)
            slide(*args, gradient_of(made.ctypes.data), one)
            compared += 1
            # a difference across the line between two pixels is not the slope beside it
            same += (
                np.abs(N - got / unit / unit[:, None]).max() < 0.02 * np.abs(N).max()
                and np.abs(normal[6:9] / unit - r).max() < 0.03 * np.abs(r).max()
                and (np.abs(one - slid) <= 0.05 * np.abs(slid)).all()
            )
        self.assertGreater(compared, 40)
        self.assertGreater(same, 0.85 * compared)


class Bends(unittest.TestCase):
    def test_slopes_and_second_order_are_those_of_a_quadric_through_what_is_known(self):
        rng = np.random.default_rng(4)
        h, w, pixel = 40, 50, 1e-3
        y, x = np.mgrid[:h, :w].astype(float)
        a = rng.normal(size=5) * pixel * np.array([0.3, 0.3, 0.02, 0.02, 0.02])
        z = 0.5 + a[0] * x + a[1] * y + a[2] * x * x + a[3] * x * y + a[4] * y * y
        plane = np.zeros((h, w, 3), np.float32)
        plane[..., 0] = z
        plane[..., 1], plane[..., 2] = a[0] + 2 * a[2] * x + a[3] * y, a[1] + a[3] * x + 2 * a[4] * y
        true = plane.copy()
        plane[..., 1:] += rng.normal(0, 0.05 * pixel, (h, w, 2))
        cost, high = np.zeros((h, w), np.float32), np.ones((h, w), np.float32)
        cost[rng.random((h, w)) < 0.1] = 0.9  # not known
        plane[cost > 0.5, 0] = 7.0
        high[:, :9] = 0
        off = rng.random((h, w)) < 0.03
        plane[off, 0] += 5 * pixel  # of another surface
        slopes, bends = np.empty((h, w, 2), np.float32), np.empty((h, w, 3), np.float32)
        smooth = np.empty((h, w), np.float32)
        fit_bends(plane, cost, high, disc(), pixel, slopes, bends, smooth)
        deep = np.s_[8:-8, 18:-8]
        asked = (cost[deep] < 0.5) & ~off[deep]
        self.assertGreater(asked.sum(), 400)
        self.assertLess(np.abs(slopes - true[..., 1:])[deep][asked].max(), 2e-3 * pixel)
        self.assertLess(np.abs(bends - a[2:])[deep][asked].max(), 5e-4 * pixel)
        self.assertLess(np.abs(smooth - z)[deep][asked].max(), 5e-3 * pixel)
        # the obvious way, at single pixels up to the rim
        table = disc()
        on = table[3] > 0
        dx, dy, weight = table[:3, on].astype(float)
        J = np.stack([np.ones_like(dx), dx, dy, dx * dx, dx * dy, dy * dy], 1)
        seen = 0
        for v, u in zip(*np.nonzero((cost < 0.5) & (high > 0) & ~off), strict=True):
            if (u + v) % 7:
                continue
            vv, uu = v + dy.astype(int), u + dx.astype(int)
            ok = (vv >= 0) & (uu >= 0) & (vv < h) & (uu < w)
            vv, uu = np.clip(vv, 0, h - 1), np.clip(uu, 0, w - 1)
            d = plane[vv, uu, 0] - plane[v, u] @ [1, 0, 0] - plane[v, u, 1] * dx - plane[v, u, 2] * dy
            ok &= (high[vv, uu] > 0) & (cost[vv, uu] < 0.5) & (np.abs(d) <= 2 * pixel)
            if ok.sum() < 0.6 * len(dx):
                np.testing.assert_array_equal(bends[v, u], 0)
                continue
            root = np.sqrt(weight[ok])
            fit = np.linalg.lstsq(J[ok] * root[:, None], d[ok] * root, rcond=None)[0]
            np.testing.assert_allclose(slopes[v, u] - plane[v, u, 1:], fit[1:3], atol=3e-3 * pixel)
            np.testing.assert_allclose(bends[v, u], fit[3:], atol=1e-3 * pixel)
            seen += 1
        self.assertGreater(seen, 100)


class DepthMaps(unittest.TestCase):
    def test_depth_and_normals_follow_the_true_surface(self):
        truth, views = pebble_truth(), [v for v, _ in true_views()]
        lo, hi = truth.vertices.min(0), truth.vertices.max(0)
        box = KeepBox((lo + hi) / 2, np.eye(3), (hi - lo) / 2 + 2)
        points = truth.vertices[np.random.default_rng(2).choice(len(truth.vertices), 200, replace=False)]
        points = points + np.random.default_rng(3).normal(size=points.shape) * 0.5
        i, neighbors = 3, (2, 4, 1, 5)
        view = views[i]
        m = dense.depth_map(view, [views[j] for j in neighbors], box, points, seed=1)
        h, w = view.gray.shape
        true = mesh_depth(truth.vertices, truth.faces, view.K, view.pose, w, h)
        on = view.mask & np.isfinite(true)
        good = on & (m.score > 0.7)
        self.assertGreater(good.sum(), 0.75 * on.sum())
        error = np.abs(m.depth - true)[good]
        self.assertLess(np.median(error), 0.15)  # 0.1 % of the distance of 165 mm: about half a pixel of parallax
        self.assertLess((error > 2.0).mean(), 0.03)
        # normals: against the slope of the true depth
        f, cx, cy = view.K
        v, u = np.mgrid[0:h, 0:w]
        X = np.stack([(u - cx) / f * true, (v - cy) / f * true, true], -1)
        with np.errstate(invalid="ignore"):
            n = np.cross(np.gradient(X, axis=0), np.gradient(X, axis=1))
            n /= np.linalg.norm(n, axis=-1, keepdims=True)
            n *= -np.sign((n * X).sum(-1, keepdims=True))
            angle = np.degrees(np.arccos(np.clip((n * m.normal).sum(-1), -1, 1)))
        self.assertLess(np.nanmedian(angle[good]), 12)
        self.assertEqual(m.depth[~view.mask].max(), 0)
        again = dense.depth_map(view, [views[j] for j in neighbors], box, points, seed=1)
        np.testing.assert_array_equal(again.depth, m.depth)

    def test_a_mirrored_lamp_is_left_out_and_a_painted_spot_is_not(self):
        truth, views = pebble_truth(), [v for v, _ in true_views()]
        views = [views[j] for j in (3, 2, 4, 1, 5)]
        h, w = views[0].gray.shape
        lit, painted, shaded = [], [], []
        for k, v in enumerate(views):
            d = mesh_depth(truth.vertices, truth.faces, v.K, v.pose, w, h)
            on = v.mask & np.isfinite(d)
            y, x = np.mgrid[0:h, 0:w]
            middle = np.argwhere(on).mean(0)
            Y = np.stack([(x - v.K[1]) / v.K[0] * d, (y - v.K[2]) / v.K[0] * d, d], -1)[on]
            place = np.zeros((h, w, 3))
            place[on] = (Y - v.pose[:3, 3]) @ v.pose[:3, :3]
            if k == 0:
                depth, at = np.where(on, d, 0), place[tuple(np.round(middle).astype(int))]
            gray = np.where(on, 100 + 0.3 * (v.gray - v.gray[on].mean()), v.gray) * (1.4 if k == 2 else 1.0)
            lamp = np.hypot(y - middle[0], x - middle[1]) < 6 + k  # stands still before the camera
            spot = on & (np.linalg.norm(place - at, axis=2) < 3.0)  # turns with the object
            lit.append(replace(v, gray=np.where(lamp, 250, gray).astype(np.float32)))
            painted.append(replace(v, gray=np.where(spot, 1.6 * gray, gray).astype(np.float32)))
            side = (x - middle[1]) / np.ptp(np.argwhere(on)[:, 1])  # from -0.5 to 0.5: one side is lit, then the other
            shaded.append(replace(v, gray=(gray * (1 + (0.6 if k == 0 else -0.6) * side)).astype(np.float32)))
            if k == 0:
                mirrored, marked = lamp, spot
        self.assertGreater(marked.sum(), 100)
        with np.errstate(divide="ignore"):
            inverse = np.where(depth > 0, 1 / depth, 0).astype(np.float32)
        gy, gx = np.gradient(inverse)
        plane = np.stack([inverse, gx, gy], -1).astype(np.float32)
        planes = Planes(plane, np.where(depth > 0, 0, 2).astype(np.float32), np.ones((h, w), np.uint16))
        found = [
            highlights(dense._task(replace(v[0], mask=depth > 0), v[1:], inverse, inverse), planes)
            for v in (lit, painted, shaded)
        ]
        self.assertGreater(found[0][mirrored].mean(), 0.95)
        round_it = scipy.ndimage.binary_dilation(mirrored, iterations=10)
        self.assertLess(found[0][(depth > 0) & ~round_it].mean(), 0.02)
        inner = scipy.ndimage.binary_erosion(marked, iterations=3)  # at its rim pixels lie on either side
        self.assertGreater(inner.sum(), 50)
        self.assertLess(found[1][inner].mean(), 0.05)
        self.assertLess(found[2][depth > 0].mean(), 0.003)
        # two others cannot tell
        few = dense._task(replace(lit[0], mask=depth > 0), lit[1:3], inverse, inverse)
        self.assertFalse(highlights(few, planes).any())

    def test_surface_beyond_the_keep_box_is_not_pressed_into_it(self):
        truth, views = pebble_truth(), [v for v, _ in true_views()]
        lo, hi = truth.vertices.min(0), truth.vertices.max(0)
        lo[2] = (lo[2] + hi[2]) / 2  # the lower half is outside
        box = KeepBox((lo + hi) / 2, np.eye(3), (hi - lo) / 2 + 2)
        view = views[3]
        points = truth.vertices[np.random.default_rng(2).choice(len(truth.vertices), 300, replace=False)]
        h, w = view.gray.shape
        true = mesh_depth(truth.vertices, truth.faces, view.K, view.pose, w, h)
        v, u = np.mgrid[0:h, 0:w]
        f, cx, cy = view.K
        on = view.mask & np.isfinite(true)
        Y = np.stack([(u - cx) / f * true, (v - cy) / f * true, true], -1)[on]
        outside = np.zeros((h, w), bool)
        outside[on] = ((Y - view.pose[:3, 3]) @ view.pose[:3, :3])[:, 2] < lo[2] - 3
        claimed = []
        for some in (points, points[:0]):
            m = dense.depth_map(view, [views[j] for j in (2, 4, 1, 5)], box, some, seed=1)
            claimed.append((outside & (m.depth > 0) & (m.score > 0.6)).sum() / outside.sum())
        self.assertGreater(claimed[1], 0.05)  # within the limits of the box alone some surface is made up
        self.assertLess(claimed[0], 0.2 * claimed[1])

    def test_limits_are_where_rays_enter_and_leave_the_box(self):
        rng = np.random.default_rng(4)
        view = true_views()[0][0]
        box = KeepBox(np.array([2.0, 1, 15]), Rotation.random(random_state=3).as_matrix(), np.array([20.0, 12, 8]))
        near, far = dense.box_limits(view, box, view.gray.shape)
        h, w = view.gray.shape
        R, c = view.pose[:3, :3], center(view.pose)
        for _ in range(300):
            x, y = rng.integers(0, w), rng.integers(0, h)
            ray = R.T @ np.array([(x - view.K[1]) / view.K[0], (y - view.K[2]) / view.K[0], 1.0])
            depths = np.linspace(50, 350, 6001)
            inside = box.contains(c + depths[:, None] * ray)
            if inside.any():
                self.assertAlmostEqual(near[y, x], depths[inside][0], delta=0.11)
                self.assertAlmostEqual(far[y, x], depths[inside][-1], delta=0.11)
            elif far[y, x] > 0:
                self.assertLess(far[y, x] - near[y, x], 0.2)


#: depth maps in arrays with a first axis of photos, as `slow_fuse` reads them
Arrays = namedtuple("Arrays", "depth normal score noise rgb K poses gain quality one_normal one_score")


def fused(maps, neighbors, limits, **more):
    """The Cloud of depth maps."""
    return fuse(maps, neighbors, limits, **more)[0]


def slow_fuse(maps, neighbors, limits):
    """What `fuse` makes, pixel by pixel with matrices: rows of place, normal, color, photos, score, precision, angle.

    Also how many places so many photos agree on, and of those the ones whose patches look alike.
    """
    n, h, w = maps.depth.shape
    used, rows, apart, agreed = np.zeros((n, h, w), bool), [], [], np.zeros((2, 64))

    def there(j, u, v):
        """Place, normal, ray, facing, weight, score and color of a pixel."""
        q = np.linalg.inv(matrix(maps.K[j])) @ [u, v, 1.0]
        R, t = maps.poses[j, :3, :3], maps.poses[j, :3, 3]
        e = abs(float(maps.depth[j, v, u]))
        normal = maps.normal[j, v, u] * maps.one_normal
        facing = max(-(normal @ q) / np.linalg.norm(q), 0.05)
        return (
            R.T @ (q * e - t), R.T @ normal, R.T @ q / np.linalg.norm(q), facing, facing / e**2,
            maps.score[j, v, u] * maps.one_score, maps.gain[j] * maps.rgb[j, v, u].astype(float),
            1e-6 * 2 ** (maps.noise[j, v, u] / 16) * e * np.linalg.norm(q) * facing, maps.quality[j, v // 32, u // 32],
        )  # fmt: skip

    def seen(j, X):
        Y = maps.poses[j, :3, :3] @ X + maps.poses[j, :3, 3]
        return (matrix(maps.K[j]) @ Y / Y[2])[:2] if Y[2] > 0 else None, Y[2]

    for i, y, x in np.ndindex(n, h, w):
        own_score = maps.score[i, y, x] * maps.one_score
        if maps.depth[i, y, x] <= 0 or used[i, y, x] or own_score < limits.min_score or not neighbors[i]:
            continue
        own = there(i, x, y)
        group, pixels, through = [own], [(i, y, x)], 0
        for j in neighbors[i]:
            at, z = seen(j, own[0])
            if at is None:
                continue
            u, v = np.round(at).astype(int)
            if not (0 <= u < w and 0 <= v < h):
                continue
            e, score = abs(float(maps.depth[j, v, u])), maps.score[j, v, u] * maps.one_score
            through += e > (1 + limits.depth_tolerance) * z and score >= max(limits.min_score, own_score - SURE_SLACK)
            if e == 0 or score < limits.min_score or abs(e - z) > limits.depth_tolerance * z:
                continue
            other = there(j, u, v)
            back, _ = seen(i, other[0])
            if (
                back is not None
                and np.linalg.norm(back - [x, y]) <= limits.back_px
                and other[1] @ own[1] >= limits.least_cos
                and np.abs(other[6] - own[6]).max() <= limits.color_tolerance
            ):
                group.append(other)
                pixels.append((j, v, u))
        if through > AGAINST * (len(group) - 1):
            continue
        place, normal, ray, facing, weight, score, color, across, quality = (
            np.array(g) for g in zip(*group, strict=True)
        )
        likeness = (score * weight).sum() / weight.sum()
        alike = len(group) > 1 and likeness >= limits.sure_score
        few = len(group) < limits.least - (1 if alike else 0)
        for row in range(1 + alike):
            agreed[row, len(group)] += 1 / len(group) if few else 1
        if few:
            continue
        for p in pixels:
            used[p] = True
        m = (normal * weight[:, None]).sum(0)
        m /= np.linalg.norm(m)
        cos = ray[1:] @ ray[0]
        by = (weight * facing * quality)[:, None]
        bright = color @ [0.3, 0.6, 0.1]
        if len(bright) >= 3:
            by *= (bright <= SHINE * np.sort(bright)[(len(bright) - 1) // 2] + SHINE_LEVELS)[:, None]
        # where each one's plane meets the ray of the first
        slope, sure = normal @ ray[0], 1 / across**2
        ahead = np.where(slope < -0.1, ((place - place[0]) * normal).sum(1) / slope, 0)
        t = (ahead * sure).sum() / sure.sum()
        apart.append(((ahead - t) ** 2 * sure).sum() * max(abs(ray[0] @ m), 0.1) ** 2)
        rows.append([
            *(place[0] + t * ray[0]), *m, *np.floor((color * by).sum(0) / by.sum() + 0.5),
            len(group), likeness, 1 / np.sqrt(sure.sum()), np.floor(np.degrees(np.arccos(cos.min()))),
        ])  # fmt: skip
    rows, apart = np.array(rows), np.array(apart)
    free = rows[:, 9] - 1
    usual = np.minimum(apart, FAR_APART * free).sum() / free.sum()
    rows[:, 11] *= SHARED * np.sqrt((EXPECTED * usual + apart) / (EXPECTED + free))
    return rows, agreed


class Solids(unittest.TestCase):
    """Surfaces in closed form, seen by seven cameras whose places are known."""

    def cloud(self, solid, change=None):
        grays, masks, K, poses = solid.photographs()
        if change is not None:
            grays = change(grays, K, poses)
        views = [dense.View(g, m, K, E) for g, m, E in zip(grays, masks, poses, strict=True)]
        box, n = KeepBox(np.zeros(3), np.eye(3), np.full(3, solid.reach + 5.0)), len(views)
        others, points = [[j for j in range(n) if j != i] for i in range(n)], solid.some_points()
        maps = [dense.depth_map(views[i], [views[j] for j in others[i]], box, points, seed=i) for i in range(n)]
        D, N, S = (np.stack([getattr(m, k) for m in maps]) for k in ("depth", "normal", "score"))
        noise = noise_codes(np.stack([m.noise for m in maps]))
        rgb = np.repeat(grays[..., None], 3, 3).astype(np.uint8)
        return fused(maps_of(D, N, S, rgb, np.tile(K, (n, 1)), poses, noise=noise), others, Agreement(3))

    def test_no_surface_is_found_too_deep_or_too_shallow_and_precision_is_what_points_have(self):
        # a plane through a patch lies 0.16 pixels inside the first, and as much outside the second
        for solid, limit in ((Solid(50), 0.03), (Solid(50, inside=True), 0.02), (Solid(60, sphere=False), 0.02)):
            cloud = self.cloud(solid)
            e = solid.error(cloud.points.astype(float))
            self.assertGreater(len(e), 3000)
            self.assertLess(abs(np.median(e)), limit)
            self.assertLess(np.median(np.abs(e)), 0.05)
            t = e / cloud.precision
            self.assertLess(abs(np.log(np.subtract(*np.percentile(t, (84.13, 15.87))) / 2)), np.log(1.6))

    def test_faint_texture_is_measured_less_surely_and_says_so(self):
        for contrast, least, most in ((75.0, 0.015, 0.05), (8.0, 0.08, 0.3)):
            solid = Solid(contrast=contrast)
            cloud = self.cloud(solid)
            e = solid.error(cloud.points.astype(float))
            self.assertGreater(len(e), 40_000)
            self.assertLess(abs(np.median(e)), 0.02)
            self.assertTrue(least < np.median(np.abs(e)) < most, np.median(np.abs(e)))
            t = e / cloud.precision
            self.assertLess(abs(np.log(np.subtract(*np.percentile(t, (84.13, 15.87))) / 2)), np.log(1.6))

    def test_one_photo_that_is_much_brighter_does_no_harm(self):
        def brighter(grays, K, poses):
            grays[2] = np.round(np.clip(1.45 * grays[2] + 10, 0, 255))
            return grays

        solid = Solid(60)
        plain, cloud = self.cloud(solid), self.cloud(solid, brighter)
        self.assertGreater(len(cloud), 0.95 * len(plain))
        for c in (plain, cloud):
            e = solid.error(c.points.astype(float))
            self.assertLess(abs(np.median(e)), 0.02)
            self.assertLess(np.median(np.abs(e)), 0.05)

    def test_a_ball_of_one_color_with_a_few_marks_has_surface_at_the_marks_alone(self):
        solid = Solid(80)
        marks = solid.some_points(9, 0.0)
        blank = replace(solid, contrast=0.0).photographs()[0]

        def marked(grays, K, poses):
            v, u = np.mgrid[: grays.shape[1], : grays.shape[2]]
            rays = np.stack([(u - K[1]) / K[0], (v - K[2]) / K[0], np.ones(u.shape)], 2)
            for gray, plain, E in zip(grays, blank, poses, strict=True):
                eye, d = center(E) + [0, 0, solid.radius], rays @ E[:3, :3]
                b, a = d @ eye, (d * d).sum(2)
                root = np.sqrt(np.maximum(b * b - a * (eye @ eye - solid.radius**2), 0.0))
                X = eye - [0, 0, solid.radius] + d * ((-b - root) / a)[..., None]
                away = np.linalg.norm(X[:, :, None] - marks, axis=3).min(2)
                gray[:] = np.where(away < 5.0, gray, plain)
            return grays

        cloud = self.cloud(solid, marked)
        X = cloud.points.astype(float)
        away, e = np.linalg.norm(X[:, None] - marks, axis=2).min(1), solid.error(X)
        self.assertLess((away > 5.0 + 6.0).mean(), 0.05)  # a mark, and what a patch reaches
        inside = e[away < 5.0]
        self.assertGreater(len(inside), 500)
        self.assertLess(abs(np.median(inside)), 0.03)
        self.assertLess(np.median(np.abs(inside)), 0.15)
        # beside a mark a patch is held by its rim alone: points there say that they are less sure
        self.assertGreater(np.median(cloud.precision[away > 8.0]), 2.5 * np.median(cloud.precision[away < 5.0]))

    def test_of_a_wall_without_texture_nothing_is_invented(self):
        self.assertLess(len(self.cloud(Solid(contrast=0.0))), 30)

    def test_shading_alone_is_no_texture(self):
        v, u = np.mgrid[0:300, 0:300]

        def shaded(grays, K, poses):  # light that stands with the camera, as smooth as on a white ball
            grays += (35 * np.sin(u / 55.0 + 1) + 25 * np.cos(v / 65.0)).astype(np.float32)
            return np.round(np.clip(grays, 0, 255))

        self.assertLess(len(self.cloud(Solid(contrast=0.0), shaded)), 30)
        textured = self.cloud(Solid(), shaded)
        self.assertGreater(len(textured), 40_000)
        self.assertLess(np.median(np.abs(Solid().error(textured.points.astype(float)))), 0.05)


class Fusion(unittest.TestCase):
    def test_the_kernel_makes_what_is_made_pixel_by_pixel(self):
        n, h, w, f = 5, 22, 38, 38.0
        made = 0
        for seed, least, sure in ((0, 3, 2.0), (1, 2, 2.0), (2, 4, 0.7)):
            rng = np.random.default_rng(seed)
            poses = np.array([look_at([4 * np.sin(a), -4 * np.cos(a), 1.0], np.zeros(3)) for a in 0.22 * np.arange(n)])
            K = np.tile([f, w / 2, h / 2], (n, 1)) + rng.normal(0, 0.5, (n, 3))
            depth, normal = np.zeros((n, h, w), np.float32), np.zeros((n, h, w, 3), np.int8)
            for k in range(n):
                # a ball of radius 1, seen with errors, some pixels left out and some seen through to behind it
                q = np.stack(np.meshgrid(np.arange(w), np.arange(h)), -1) @ np.diag([1, 1]) - K[k, 1:]
                q = np.concatenate([q / K[k, 0], np.ones((h, w, 1))], 2)
                c = poses[k, :3, 3]
                a, b = (q**2).sum(2), q @ c
                root = b**2 - a * (c @ c - 1)
                z = (b - np.sqrt(np.maximum(root, 0))) / a
                z *= 1 + 0.003 * rng.normal(size=z.shape) + 0.05 * (rng.random(z.shape) < 0.1)
                sign = np.where(rng.random(z.shape) < 0.05, -1, 1)  # just outside the keep box
                depth[k] = np.where((root > 0) & (rng.random(z.shape) > 0.05), z * sign, 0)
                normal[k] = np.clip(np.round((q * z[:, :, None] - c + rng.normal(0, 0.2, q.shape)) * 110), -127, 127)
            score = rng.integers(90, 256, (n, h, w)).astype(np.uint8)
            rgb = rng.integers(90, 150, (n, h, w, 3)).astype(np.uint8)
            gain, quality = rng.uniform(0.8, 1.25, n), rng.uniform(0.2, 1, (n, 1, 2))
            noise = noise_codes(rng.uniform(3e-4, 3e-3, (n, h, w)))
            maps = maps_of(depth, normal, score, rgb, K, poses, gain, quality, noise)
            arrays = Arrays(depth, normal, score, noise, rgb, K, poses, gain, quality, 1 / 127, 1 / 255)
            neighbors = [[j for j in range(n) if j != i] for i in range(n - 1)] + [[]]
            limits = Agreement(least, 0.4, sure, 0.01, 1.0, 0.6, 70.0)
            told = np.zeros((2, 64))
            cloud, (rows, agreed) = fused(maps, neighbors, limits, agreed=told), slow_fuse(arrays, neighbors, limits)
            self.assertEqual(len(cloud), len(rows))
            np.testing.assert_allclose(told, agreed, atol=1e-9)
            np.testing.assert_allclose(cloud.points, rows[:, :3], atol=1e-6)
            np.testing.assert_allclose(cloud.normals, rows[:, 3:6], atol=1e-6)
            np.testing.assert_array_equal(cloud.colors, rows[:, 6:9])
            np.testing.assert_array_equal(cloud.photos, rows[:, 9])
            np.testing.assert_allclose(cloud.score, rows[:, 10], atol=1e-6)
            np.testing.assert_allclose(cloud.precision, rows[:, 11], rtol=1e-5)
            np.testing.assert_array_equal(cloud.angle, rows[:, 12])
            made += len(rows)
        self.assertGreater(made, 300)

    def maps(self, n=4):
        """True depth maps of the pebble, with their normals and colors."""
        truth, views = pebble_truth(), true_views()[:n]
        h, w = views[0][0].gray.shape
        D = np.zeros((n, h, w), np.float32)
        N = np.zeros((n, h, w, 3), np.float32)
        for k, (v, _) in enumerate(views):
            d = mesh_depth(truth.vertices, truth.faces, v.K, v.pose, w, h)
            D[k] = np.where(np.isfinite(d) & v.mask, d, 0)
            N[k] = [0, 0, -1]
        K = np.array([v.K for v, _ in views])
        E = np.array([v.pose for v, _ in views])
        return truth, D, N, np.stack([c for _, c in views]), K, E

    def test_points_lie_on_the_surface_once_each_and_lone_errors_are_left_out(self):
        truth, D, N, C, K, E = self.maps()
        n = len(D)
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(n) if j != i] for i in range(n)]
        # one map claims a patch 12 mm too near: nobody agrees
        ys, xs = np.nonzero(D[0])
        mid = np.s_[
            int(np.median(ys)) - 15 : int(np.median(ys)) + 15, int(np.median(xs)) - 15 : int(np.median(xs)) + 15
        ]
        D[0][mid] -= 12
        cloud = fused(maps_of(D, N, S, C, K, E), neighbors, Agreement(2))
        off = np.abs(truth_distance(truth, cloud.points))
        self.assertLess(np.percentile(off, 99.5), 0.4)
        self.assertLess(off.max(), 6)
        self.assertGreaterEqual(cloud.photos.min(), 2)
        self.assertLess(len(cloud), (D > 0).sum() * 0.6)  # what photos share is merged
        # colors are those of the photos
        Y = transform(E[1], cloud.points[:500].astype(float))
        u = np.round(K[1, 0] * Y[:, :2] / Y[:, 2:] + K[1, 1:]).astype(int)
        seen = (np.abs(D[1][u[:, 1], u[:, 0]] - Y[:, 2]) < 0.5) & (cloud.photos[:500] >= 3)
        close = np.abs(C[1][u[seen, 1], u[seen, 0]].astype(int) - cloud.colors[:500][seen]).mean()
        self.assertLess(close, 20)

    def test_more_agreement_is_asked_for_and_given(self):
        _, D, N, C, K, E = self.maps()
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(4) if j != i] for i in range(4)]
        sizes = [len(fused(maps_of(D, N, S, C, K, E), neighbors, Agreement(k))) for k in (2, 3, 4)]
        self.assertGreater(sizes[0], sizes[1])
        self.assertGreater(sizes[1], sizes[2])
        self.assertEqual(len(fused(maps_of(D, N, S * 0.5, C, K, E), neighbors, Agreement(2, 0.6))), 0)

    def test_photos_of_another_color_do_not_agree_and_sharp_ones_give_theirs(self):
        _, D, N, C, K, E = self.maps()
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(4) if j != i] for i in range(4)]
        dark = C.copy()
        dark[1] = dark[1] // 2
        strict = Agreement(2, color_tolerance=30)
        other = fused(maps_of(D, N, S, dark, K, E), neighbors, strict)
        same = fused(maps_of(D, N, S, dark, K, E, gain=np.array([1, 2.0, 1, 1])), neighbors, strict)
        self.assertLess(other.photos.mean(), same.photos.mean() - 0.3)
        C[:], C[2] = 150, 170
        plain, sharp = (
            fused(maps_of(D, N, S, C, K, E, quality=q), neighbors, Agreement(4))
            for q in (None, np.array([0.05, 0.05, 1, 0.05]))
        )
        self.assertLess(plain.colors.mean(), 157)
        self.assertGreater(sharp.colors.mean(), 165)

    def test_a_highlight_that_moves_over_the_object_leaves_its_color_alone(self):
        _, D, N, C, K, E = self.maps()
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(4) if j != i] for i in range(4)]
        C[:] = 100
        shiny = C.copy()
        for k in range(4):  # in another place of each photo
            w = D.shape[2]
            shiny[k][:, k * w // 4 : (k + 1) * w // 4] = 230
        cloud = fused(maps_of(D, N, S, shiny, K, E), neighbors, Agreement(3))
        self.assertGreater(len(cloud), 1000)
        told = (cloud.colors[:, 1] > 102).mean()
        both = fused(maps_of(D, N, S, shiny, K, E), neighbors, Agreement(2))
        self.assertLess(told, 0.05)
        self.assertGreater((both.colors[both.photos == 2][:, 1] > 102).mean(), 0.2)  # of two nobody can say

    def test_it_is_told_what_another_number_of_agreeing_photos_would_leave(self):
        _, D, N, C, K, E = self.maps()
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(4) if j != i] for i in range(4)]
        told = np.zeros((2, 64))
        fused(maps_of(D, N, S, C, K, E), neighbors, Agreement(4), agreed=told)
        for least in (2, 3, 4):
            have = len(fused(maps_of(D, N, S, C, K, E), neighbors, Agreement(least)))
            self.assertLess(abs(told[0, least:].sum() / have - 1), 0.2)

    def test_too_many_points_are_thinned_evenly_and_the_same_however_few_maps_are_in_memory(self):
        _, D, N, C, K, E = self.maps()
        S = np.where(D > 0, 0.9, 0).astype(np.float32)
        neighbors = [[j for j in range(4) if abs(j - i) == 1] for i in range(4)]
        whole, told = fuse(maps_of(D, N, S, C, K, E), neighbors, Agreement(2))
        self.assertEqual(told, (len(whole), 0.0))
        few, _ = fuse(maps_of(D, N, S, C, K, E), neighbors, Agreement(2), room=0)
        for a, b in zip(whole.arrays().values(), few.arrays().values(), strict=True):
            np.testing.assert_array_equal(a, b)
        most = len(whole) // 4
        thin, told = fuse(maps_of(D, N, S, C, K, E), neighbors, Agreement(2), most=most)
        self.assertEqual(told.made, len(whole))
        self.assertTrue(most / 2 < len(thin) <= most)
        tree = scipy.spatial.cKDTree(thin.points)
        self.assertGreaterEqual(tree.query(thin.points, 2)[0][:, 1].min(), 0.999 * told.distance)
        self.assertLess(np.percentile(tree.query(whole.points)[0], 99.9), 1.5 * told.distance)  # no hole is torn
        self.assertTrue(np.isin(thin.points[:, 0], whole.points[:, 0]).all())
        half, _ = fuse(maps_of(D, N, S, C, K, E), neighbors, Agreement(2), wanted=lambda p: p[:, 0] > 0)
        np.testing.assert_array_equal(half.points, whole.points[whole.points[:, 0] > 0])
        np.testing.assert_array_equal(half.precision, whole.precision[whole.points[:, 0] > 0])


class Pairs(unittest.TestCase):
    def test_specks_are_pieces_that_a_slow_search_finds_small(self):
        rng = np.random.default_rng(3)
        for _ in range(3):
            depth = np.where(rng.random((30, 40)) < 0.75, rng.choice([2.0, 2.1, 4.0], (30, 40)), 0)
            got = without_specks(depth, 0.05, 8)
            piece = np.zeros(depth.shape, int)
            for start in zip(*np.nonzero(depth), strict=True):
                if piece[start]:
                    continue
                todo, members = [start], []
                piece[start] = -1
                while todo:
                    y, x = todo.pop()
                    members.append((y, x))
                    for q in ((y + 1, x), (y - 1, x), (y, x + 1), (y, x - 1)):
                        if not (0 <= q[0] < 30 and 0 <= q[1] < 40) or piece[q] or not depth[q]:
                            continue
                        if abs(1 / depth[q] - 1 / depth[y, x]) <= 0.05:
                            piece[q] = -1
                            todo.append(q)
                for q in members:
                    piece[q] = len(members)
            np.testing.assert_array_equal(got, np.where(piece >= 8, depth, 0))

    def test_exposures_come_back_though_some_places_shine(self):
        rng = np.random.default_rng(4)
        X = np.c_[rng.uniform(-1, 1, (400, 2)), np.zeros(400)]
        poses = np.tile(np.eye(4), (4, 1, 1))
        poses[:, :3, 3] = [[0, 0, 4], [0.3, 0, 4], [0, 0.2, 4.5], [-0.2, 0, 4]]
        K = np.tile([200.0, 100, 100], (4, 1))
        true = np.array([1, 1.5, 0.7, 1.1])
        true /= np.exp(np.log(true).mean())
        bright = rng.uniform(40, 120, 400)
        pictures = []
        for k in range(4):
            picture = np.zeros((200, 200, 3), np.uint8)
            Y = X + poses[k, :3, 3]
            x, y = np.round(Y[:, :2] / Y[:, 2:] * 200 + 100).astype(int).T
            value = bright * true[k] * np.where(rng.random(400) < 0.1, 1.6, 1)  # some shine
            for a in (-1, 0, 1):
                for b in (-1, 0, 1):
                    picture[y + b, x + a] = value[:, None]
            pictures.append(picture)
        photo, point = np.divmod(np.arange(1600), 400)
        value = np.concatenate([brightness(p, k, E, X) for p, k, E in zip(pictures, K, poses, strict=True)])
        found = gains(value, photo, point, 4, 400)
        np.testing.assert_allclose(found * true, 1, atol=0.03)


def truth_distance(truth, points):
    """Distance (n,) of points to the true mesh."""
    from umbrate.studio.judge import nearest_on_triangles

    return nearest_on_triangles(points.astype(float), truth.vertices, truth.faces)


class Neighbors(unittest.TestCase):
    def test_photos_beside_are_chosen_not_the_same_place_nor_the_far_side(self):
        angles = np.radians([0, 1, 15, 30, 180, 345])
        poses = np.array([look_at([5 * np.sin(a), -5 * np.cos(a), 0.5], np.zeros(3)) for a in angles])
        rng = np.random.default_rng(5)
        X = rng.normal(size=(400, 3))
        X /= np.linalg.norm(X, axis=1, keepdims=True)
        point, photo = np.nonzero(np.stack([X @ (center(E) / 5) > 0.2 for E in poses], 1))
        found = choose_neighbors(poses, np.ones(6, bool), X, photo, point, count=3)
        self.assertEqual(set(found[0][:2]), {2, 5})
        self.assertNotIn(4, found[0])
        soft = np.array([1, 1, 0.05, 1, 1, 1])
        self.assertEqual(choose_neighbors(poses, np.ones(6, bool), X, photo, point, count=1, quality=soft)[0], [5])
        self.assertEqual(
            choose_neighbors(poses, np.ones(6, bool), X, photo, point, count=1, quality=soft[::-1])[1], [2]
        )
        solved = np.array([True, True, False, True, True, True])
        self.assertNotIn(2, choose_neighbors(poses, solved, X, photo, point)[0])


class Boxes(unittest.TestCase):
    def test_fits_the_object_and_not_the_backdrop(self):
        rng = np.random.default_rng(6)
        ball = rng.normal(size=(800, 3))
        ball = ball / np.linalg.norm(ball, axis=1, keepdims=True) * [0.10, 0.12, 0.15]
        backdrop = rng.uniform([-3, 1.5, -0.5], [3, 1.6, 2], size=(600, 3))
        strays = rng.uniform(-0.25, 0.25, size=(12, 3))
        points = np.vstack([ball, backdrop, strays])
        poses = [look_at([np.sin(a), -np.cos(a), 0.4], np.zeros(3)) for a in np.linspace(0, 6, 16)]
        box = fit_keep_box(points, np.full(len(points), 5), poses, np.full(16, 0.18))
        self.assertGreater(box.contains(ball).mean(), 0.985)
        self.assertLess(box.half.max(), 0.24)
        self.assertFalse(box.contains(backdrop).any())
        self.assertEqual(KeepBox.from_dict(box.as_dict()).contains(points).sum(), box.contains(points).sum())

    def test_contains_agrees_with_its_corners(self):
        rng = np.random.default_rng(7)
        box = KeepBox(rng.normal(size=3), Rotation.random(random_state=5).as_matrix(), np.array([1.0, 2.0, 0.5]))
        corners = box.corners()
        self.assertTrue(box.contains(box.center + 0.999 * (corners - box.center)).all())
        self.assertFalse(box.contains(box.center + 1.001 * (corners - box.center)).any())


class Cleaning(unittest.TestCase):
    def test_isolated_agrees_with_the_obvious_way(self):
        rng = np.random.default_rng(8)
        p = np.vstack([rng.normal(size=(300, 3)) * 0.1, rng.uniform(-3, 3, size=(15, 3))])
        d = np.sort(np.linalg.norm(p[:, None] - p[None], axis=-1), axis=1)[:, 1:11].mean(1)
        np.testing.assert_array_equal(isolated(p), d > 3 * np.median(d))
        self.assertGreater(isolated(p)[300:].sum(), 12)
        self.assertFalse(isolated(p[:5]).any())
        for seed in range(15):
            rng, n = np.random.default_rng(seed), int(np.random.default_rng(seed).integers(12, 1500))
            p = rng.normal(size=(n, 3))
            if seed % 3 == 0:
                p *= np.exp(rng.normal(0, 2, (n, 1)))  # as uneven as can be
            elif seed % 3 == 1:
                p = np.repeat(p[: n // 4 + 1], 4, 0)  # several at one place
            else:
                p[:, 2] *= 1e-3
                p[:3] += 50
            p = p.astype(np.float32)
            d = scipy.spatial.cKDTree(p).query(p, k=11)[0][:, 1:].mean(1)
            np.testing.assert_array_equal(isolated(p), d > 3 * np.median(d))

    def test_points_outside_outlines_are_counted_per_photo(self):
        truth, views = pebble_truth(), [v for v, _ in true_views()]
        inside = truth.vertices[::50].mean(0)[None] * np.ones((3, 1))
        beside = np.array([[60.0, 0, 20], [0, 50.0, 20]])
        points = np.vstack([inside, beside])
        masks = [v.mask for v in views]
        count = outside_outlines(points, [*masks[:-1], None], [v.K for v in views], np.array([v.pose for v in views]))
        self.assertEqual(count[:3].max(), 0)
        self.assertGreater(count[3:].min(), 3)
        # one after the other, with places beside the picture and behind it
        X = np.random.default_rng(2).normal(0, 80, (200, 3))
        got, wide = outside_outlines(X, masks[:2], [v.K for v in views[:2]], [v.pose for v in views[:2]], 1), 0
        for v in views[:2]:
            Y = transform(v.pose, X)
            with np.errstate(invalid="ignore", divide="ignore"):
                at = np.round(v.K[0] * Y[:, :2] / Y[:, 2:] + v.K[1:])
            mask = scipy.ndimage.binary_dilation(v.mask)
            h, w = mask.shape
            ok = (Y[:, 2] > 0) & (at >= 0).all(1) & (at[:, 0] < w) & (at[:, 1] < h)
            wide += np.array([o and not mask[int(b), int(a)] for o, (a, b) in zip(ok, at, strict=True)])
        np.testing.assert_array_equal(got, wide)
        self.assertGreater(wide.max(), 1)
        # the part of each picture that its mask leaves, and the picture round it
        crops = [cropped(v, 16) for v in views[:2]]
        frames = [
            (-x, -y, v.mask.shape[1] - x, v.mask.shape[0] - y) for v, (_, y, x) in zip(views, crops, strict=False)
        ]
        masks, Ks = [c.mask for c, _, _ in crops], [c.K for c, _, _ in crops]
        self.assertLess(masks[0].size, 0.6 * views[0].mask.size)
        poses = [v.pose for v in views[:2]]
        np.testing.assert_array_equal(outside_outlines(X, masks, Ks, poses, 1, frames), wide)
        self.assertLess(outside_outlines(X, masks, Ks, poses, 1).sum(), wide.sum())


class Parts(unittest.TestCase):
    def test_depth_of_the_part_that_a_mask_leaves_is_that_of_the_whole_photo_bit_for_bit(self):
        truth, views = pebble_truth(), [v for v, _ in true_views(2)][:4]
        low, high = truth.vertices.min(0), truth.vertices.max(0)
        box = KeepBox((low + high) / 2, np.eye(3), (high - low) / 2 + 2)
        points = truth.vertices[::97]
        whole = dense.depth_map(views[0], views[1:], box, points, seed=3, rounds=1)
        parts = [cropped(v, NEIGHBOR_MARGIN, 32) for v in views]
        m = dense.depth_map(parts[0][0], [p for p, _, _ in parts[1:]], box, points, seed=3, rounds=1)
        _, y, x = parts[0]
        h, w = m.depth.shape
        self.assertLess(m.depth.size, 0.6 * whole.depth.size)
        for name in ("depth", "normal", "score", "noise"):
            a, b = getattr(m, name), getattr(whole, name)
            np.testing.assert_array_equal(a, b[y : y + h, x : x + w])
        self.assertEqual((whole.depth != 0).sum(), (m.depth != 0).sum())
        self.assertGreater((m.depth > 0).sum(), 2000)


class Straightening(unittest.TestCase):
    def test_a_grid_seen_through_the_lens_becomes_straight_at_every_scale(self):
        lens = Lens(640, 480, 800.0, 322.0, 236.0, (-0.2, 0.05, 0.0), (1e-3, -5e-4))
        v, u = np.mgrid[0:480, 0:640].astype(float)
        xy = lens.unproject(np.stack([u.ravel(), v.ravel()], 1)).reshape(480, 640, 2)
        # brightness says where each pixel looks
        picture = np.clip(np.stack([128 + 200 * xy[..., 0], 128 + 200 * xy[..., 1], 0 * u], -1), 0, 255)
        mask = xy[..., 0] > 0.05
        for scale in (1, 2, 4):
            straight, inside, pinhole = undistort(picture.round().astype(np.uint8), mask, lens, scale)
            h, w = inside.shape
            self.assertEqual((w, h), (640 // scale, 480 // scale))
            vv, uu = np.mgrid[0:h, 0:w].astype(float)
            there = pinhole.unproject(np.stack([uu.ravel(), vv.ravel()], 1)).reshape(h, w, 2)
            middle = np.s_[h // 6 : -h // 6, w // 6 : -w // 6]
            error = np.abs(straight[..., :2] - (128 + 200 * there))[middle].max(-1)
            self.assertLess(error.max(), 1.2)
            edge = np.abs(there[..., 0] - 0.05) > 1.5 * scale / 800
            np.testing.assert_array_equal(inside[middle][edge[middle]], (there[..., 0] > 0.05)[middle][edge[middle]])
