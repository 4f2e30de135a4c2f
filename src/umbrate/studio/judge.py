"""Judging a result against the studio's truth: how far off poses and clouds really are."""

import json
from pathlib import Path

import numpy as np
import scipy
from PIL import Image
from plyfile import PlyData

from ..core.geometry.lens import Lens
from ..core.geometry.pose import center, pose
from ..core.geometry.similarity import compare_poses, difference
from ..core.raster.triangles import mesh_depth

BENT, FLAT = 3.0, 1.0  #: curvature, times the object's extent, from which a part is bent, and below which it is flat
BESIDE = 3.0  #: mm: so near to the joint of two sittings both are judged
SEEN_NEAR = 0.8  #: mm: a place is seen by a sitting where a sample of what it sees is as near
FEWEST = 200  #: points of a part of which a median is told


def nearest_on_triangles(points, vertices, faces, candidates=10):
    """Distance (n,) from points to a mesh of evenly small triangles."""
    return _nearest(points, vertices, faces, candidates)[0]


def _nearest(points, vertices, faces, candidates=10):
    """Distance (n,) from points to a mesh, the nearest triangle (n,) and the nearest place on it (n, 3).

    The nearest triangles by their centers are measured exactly (Ericson 2005, closest point on triangle).
    """
    T = vertices[faces]
    tree = scipy.spatial.cKDTree(T.mean(1))
    best, which, place = np.full(len(points), np.inf), np.zeros(len(points), np.int64), np.zeros((len(points), 3))
    count = min(candidates, len(faces))
    _, near = tree.query(points, k=range(1, count + 1), workers=-1)
    for k in range(count):
        a, b, c = (T[near[:, k], m] for m in range(3))
        ab, ac, ap = b - a, c - a, points - a
        d1, d2 = (ab * ap).sum(1), (ac * ap).sum(1)
        bp, cp = points - b, points - c
        d3, d4, d5, d6 = (ab * bp).sum(1), (ac * bp).sum(1), (ab * cp).sum(1), (ac * cp).sum(1)
        va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
        with np.errstate(divide="ignore", invalid="ignore"):
            inside = a + ab * (vb / (va + vb + vc))[:, None] + ac * (vc / (va + vb + vc))[:, None]
            on_ab = a + ab * np.clip(d1 / (d1 - d3), 0, 1)[:, None]
            on_ac = a + ac * np.clip(d2 / (d2 - d6), 0, 1)[:, None]
            on_bc = b + (c - b) * np.clip((d4 - d3) / ((d4 - d3) + (d5 - d6)), 0, 1)[:, None]
        q = np.where(((va > 0) & (vb > 0) & (vc > 0))[:, None], inside, np.nan)
        for x in (q, on_ab, on_ac, on_bc):
            d = np.linalg.norm(points - x, axis=1)
            nearer = d < best
            best[nearer], which[nearer], place[nearer] = d[nearer], near[nearer, k], x[nearer]
    return best, which, place


def vertex_normals(vertices, faces):
    """Unit normals (v, 3) of a mesh's vertices, the mean of their triangles' by area."""
    T = vertices[faces]
    normal, out = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0]), np.zeros_like(vertices)
    for k in range(3):
        np.add.at(out, faces[:, k], normal)
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)


def curvature(vertices, faces, rounds=6):
    """Mean curvature (v,) of a mesh's vertices, 1 over its unit; convex parts are positive.

    From how fast the normals turn along the edges, evened out over some rounds of neighbors: a mesh that was cut out of
    a grid is rough where its surface is smooth.
    """
    n = vertex_normals(vertices, faces)
    edges = np.unique(np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1), axis=0)
    a, b = edges.T
    d = vertices[b] - vertices[a]
    turn = ((n[b] - n[a]) * d).sum(1) / np.maximum((d * d).sum(1), 1e-12)
    count = np.bincount(edges.ravel(), minlength=len(vertices))
    out = np.bincount(a, turn, len(vertices)) + np.bincount(b, turn, len(vertices))
    out /= np.maximum(count, 1)
    for _ in range(rounds):
        around = np.bincount(a, out[b], len(vertices)) + np.bincount(b, out[a], len(vertices))
        out = (out + around) / (1 + count)
    return out


def signed_distance(points, vertices, faces):
    """Distance (n,) from points to a mesh, negative inside it, and the nearest triangle (n,).

    The side is told by the normals of the triangle's corners: next to an edge no triangle's own does.
    """
    d, which, place = _nearest(points, vertices, faces)
    n = vertex_normals(vertices, faces)[faces[which]].sum(1)
    return np.where(((points - place) * n).sum(1) < 0, -d, d), which


def sample_mesh(vertices, faces, n, seed=0):
    """`n` points spread evenly over a mesh, and the normal of each: two (n, 3) arrays."""
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    area = np.linalg.norm(normal, axis=1)
    rng = np.random.default_rng(seed)
    t = rng.choice(len(faces), n, p=area / area.sum())
    u, v = rng.random((2, n))
    flip = u + v > 1
    u[flip], v[flip] = 1 - u[flip], 1 - v[flip]
    points = a[t] + u[:, None] * (b - a)[t] + v[:, None] * (c - a)[t]
    return points, normal[t] / np.maximum(area[t], 1e-12)[:, None]


def _volume(vertices, faces):
    v = vertices - vertices.mean(0)
    a, b, c = (v[faces[:, k]] for k in range(3))
    return float((a * np.cross(b, c)).sum() / 6)


def _euler(faces):
    """Vertices minus edges plus triangles: 2 for a closed piece, 2 less for each handle."""
    edges = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    edges = np.unique(edges[:, 0] * (int(faces.max()) + 1) + edges[:, 1])
    return len(np.unique(faces)) - len(edges) + len(faces)


def _by_poses(poses, true):
    """The similarity of a frame to the true one by photos: turned by their turns, scaled and shifted by their places.

    Places of a ring alone would leave its tilt to the noise of a few heights.
    """
    turns = sum(T[:3, :3].T @ E[:3, :3] for E, T in zip(poses, true, strict=True))
    U, _, V = np.linalg.svd(turns)
    R = U @ np.diag([1.0, 1.0, np.linalg.det(U @ V)]) @ V
    A, B = (np.array([center(E) for E in x]) for x in (poses, true))
    X, Y = (A - A.mean(0)) @ R.T, B - B.mean(0)
    s = (X * Y).sum() / (X * X).sum()
    return pose(s * R, B.mean(0) - s * R @ A.mean(0))


class Truth:
    """The truth beside a simulated photo set (see `shoot`)."""

    def __init__(self, folder):
        self.folder = Path(folder)
        self.data = json.loads((self.folder / "truth.json").read_text())
        self.lens = Lens.from_dict(self.data["lens"])
        ply = PlyData.read(str(self.folder / "truth.ply"))
        self.vertices = np.stack([np.asarray(ply["vertex"][a], np.float64) for a in "xyz"], 1)
        self.faces = np.vstack(ply["face"]["vertex_indices"]).astype(np.int64)
        self.poses = {p["name"]: np.array(p["world_to_camera"]) for p in self.data["photos"]}
        self.lens_of = {p["name"]: Lens.from_dict(p["lens"]) if "lens" in p else self.lens for p in self.data["photos"]}
        self.sitting_of = {p["name"]: p["sitting"] for p in self.data["photos"]}
        self.distance = self.data["working_distance_mm"]
        self._seen, self._bent = {}, None

    def names(self, sitting):
        """Photos of a sitting, as ``FOLDER/NAME``."""
        return [n for n, s in self.sitting_of.items() if s == sitting]

    def seen_surface(self, sitting, samples=60_000, at_least=3, max_slant_deg=75.0):
        """Samples of the surface (n, 3) that at least so many photos of a sitting see, by depth and true mask."""
        points, normals = sample_mesh(self.vertices, self.faces, samples)
        count = np.zeros(len(points), int)
        for name in self.names(sitting):
            E, lens = self.poses[name], self.lens_of[name]
            K = np.array([lens.f, lens.cx, lens.cy])
            depth = mesh_depth(self.vertices, self.faces, K, E, lens.width, lens.height)
            folder, file = name.split("/")
            mask = (
                np.asarray(Image.open(self.folder / folder / "masks" / (Path(file).stem + ".png")).convert("L")) > 127
            )
            Y = points @ E[:3, :3].T + E[:3, 3]
            pinhole = np.round(Y[:, :2] / Y[:, 2:] * K[0] + K[1:]).astype(int)
            real = np.round(lens.project(Y[:, :2] / Y[:, 2:])).astype(int)
            d = center(E) - points
            slant = (normals * d).sum(1) / np.linalg.norm(d, axis=1)
            size = [lens.width, lens.height]
            ok = ((pinhole >= 0) & (pinhole < size) & (real >= 0) & (real < size)).all(1) & (
                slant > np.cos(np.radians(max_slant_deg))
            )
            i = np.flatnonzero(ok)
            ok[i] = (Y[i, 2] < depth[pinhole[i, 1], pinhole[i, 0]] + 0.5) & mask[real[i, 1], real[i, 0]]
            count += ok
        return points[count >= at_least]

    def judge_poses(self, sitting, solved):
        """Errors of a sitting's poses after a similarity fit.

        solved : dict of file name to (4, 4). Returns figures and the similarity to the true frame (None
        with fewer than three poses).
        """
        true = {n.split("/")[1]: self.poses[n] for n in self.names(sitting)}
        both = [n for n in true if n in solved]
        figures = {"photos": len(true), "solved": len(both)}
        if len(both) < 3:
            return figures, None
        M, rotation, shift = compare_poses([solved[n] for n in both], [true[n] for n in both])
        figures.update(
            rotation_deg_median=float(np.median(rotation)),
            rotation_deg_max=float(rotation.max()),
            center_mm_median=float(np.median(shift)),
            center_mm_max=float(shift.max()),
            center_percent_median=float(100 * np.median(shift) / self.distance),
        )
        return figures, M

    def judge_join(self, solved):
        """How far off the sittings of one frame lie to each other, by their photos' places and turns.

        solved : dict of sitting name to dict of file name to pose (4, 4), all in one frame
        Returns the worst turn (degrees), shift of the object's middle (mm) and scale (%) between two sittings, and the
        similarity of all to the true frame.
        """
        moves, every, true = [], [], []
        for sitting, poses in solved.items():
            of = {n.split("/")[1]: self.poses[n] for n in self.names(sitting)}
            both = [n for n in of if n in poses]
            every += [poses[n] for n in both]
            true += [of[n] for n in both]
            moves.append(_by_poses([poses[n] for n in both], [of[n] for n in both]))
        M = _by_poses(every, true)
        middle = np.linalg.inv(M) @ np.append(np.median(self.vertices, axis=0), 1.0)
        off = [difference(a, b, middle[:3]) for k, a in enumerate(moves) for b in moves[:k]]
        worst = np.abs(np.array(off)).max(0)
        names = ("join_turn_deg", "join_shift_mm", "join_scale_percent")
        return dict(zip(names, (worst * [1.0, 1.0, 100.0]).tolist(), strict=True)), M

    def judge_cloud(self, sitting, points, M, limit=300_000):
        """Errors of a cloud brought into the true frame by `M`, the similarity of the poses.

        sitting : name of one, or several names: what any of them sees is to be covered
        """
        X = points @ M[:3, :3].T + M[:3, 3]
        some = X if len(X) <= limit else X[np.random.default_rng(0).choice(len(X), limit, replace=False)]
        signed, which = signed_distance(some, self.vertices, self.faces)
        d = np.abs(signed)
        names = [sitting] if isinstance(sitting, str) else sitting
        for s in names:
            if s not in self._seen:
                self._seen[s] = self.seen_surface(s)
        seen = np.concatenate([self._seen[s] for s in names])
        near, _ = scipy.spatial.cKDTree(X).query(seen, workers=-1)
        return {
            "points": len(X),
            "distance_mm_median": float(np.median(d)),
            **self._signed(signed, which, names),
            "distance_mm_p90": float(np.percentile(d, 90)),
            "off_2mm_percent": float(100 * (d > 2).mean()),
            "covered_1mm_percent": float(100 * (near < 1.0).mean()),
            "covered_0p5mm_percent": float(100 * (near < 0.5).mean()),
        }

    def judge_surface(self, names, mesh, M, samples=300_000):
        """Errors of a surface brought into the true frame by `M`, the similarity of the poses.

        names : of sittings
        mesh : dict with ``points`` (n, 3) and ``faces`` (t, 3)
        """
        V, F = mesh["points"] @ M[:3, :3].T + M[:3, 3], mesh["faces"].astype(np.int64)
        X, normals = sample_mesh(V, F, samples)
        signed, which = signed_distance(X, self.vertices, self.faces)
        n = vertex_normals(self.vertices, self.faces)[self.faces[which]].sum(1)
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)
        seen = [self.seen_surface(s) for s in names]
        back = nearest_on_triangles(sample_mesh(self.vertices, self.faces, samples // 2)[0], V, F)
        covered = nearest_on_triangles(np.concatenate(seen), V, F)
        out = {
            "surface_mm_median": float(np.median(np.abs(signed))),
            "truth_to_surface_mm_median": float(np.median(back)),
            "surface_covered_0p3mm_percent": float(100 * (covered < 0.3).mean()),
            "surface_normals_deg": float(np.degrees(np.median(np.arccos(np.clip((normals * n).sum(1), -1, 1))))),
            **{f"surface_{k}": v for k, v in self._signed(signed, which, names).items()},
            "volume_percent": 100 * (_volume(V, F) / _volume(self.vertices, self.faces) - 1),
            "surface_euler": _euler(F),
            "true_euler": _euler(self.faces),
        }
        if len(seen) == 2:
            # left and right of where one sitting's photos end: places that it alone shows, near what the other shows
            away = [scipy.spatial.cKDTree(s).query(X, distance_upper_bound=BESIDE)[0] for s in seen]
            on = [d < SEEN_NEAR for d in away]
            parts = [signed[on[k] & ~on[1 - k] & (away[1 - k] < BESIDE)] for k in (0, 1)]
            out["joint_step_mm"] = abs(float(np.median(parts[0]) - np.median(parts[1])))
        return out

    def _signed(self, signed, which, names):
        """Medians of signed distances: of all, of convex, concave and flat parts, and by the best slant of a photo."""
        if self._bent is None:
            self._bent = curvature(self.vertices, self.faces)[self.faces].mean(1) * np.ptp(self.vertices, axis=0).max()
        bent, T = self._bent[which], self.vertices[self.faces[which]]
        n = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)
        middle, cos = T.mean(1), np.full(len(which), -1.0)
        for name in (x for s in names for x in self.names(s)):
            ray = center(self.poses[name]) - middle
            cos = np.maximum(cos, (ray * n).sum(1) / np.linalg.norm(ray, axis=1))
        slant = np.degrees(np.arccos(np.clip(cos, -1, 1)))
        parts = {
            "": np.ones(len(which), bool), "_convex": bent > BENT, "_concave": bent < -BENT,
            "_flat": np.abs(bent) < FLAT,
            **{f"_slant_{a}": (slant >= a) & (slant < b) for a, b in ((0, 20), (20, 40), (40, 90))},
        }  # fmt: skip
        return {
            f"signed_mm{k}": float(np.median(signed[on])) if on.sum() >= FEWEST else None for k, on in parts.items()
        }
