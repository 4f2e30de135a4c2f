"""Fusion: depth maps into one cloud of points that several photos agree on.

A pixel's point is looked up in the neighbors' maps; where their depth says the same and leads back
to the same pixel, the points are one place and are averaged. What too few photos confirm is left
out, and what others see through, which removes most of what is wrong in single maps (after Merrell et al. 2007).
"""

from dataclasses import dataclass, fields

import numpy as np
from numba import njit

AGAINST = 0.5  #: photos that see through a place for each that confirms it, from which on it is left out
SURE_SLACK = 0.1  #: they count where their patches look alike up to this much less than those of the place
MATCHED_PX = 0.35  #: standard deviation of where a patch is found in another photo, in its pixels


@dataclass
class Cloud:
    """A dense cloud.

    Attributes
    ----------
    points, normals : (n, 3) float32
    colors : (n, 3) uint8
    photos : (n,) uint8
        How many photos agree on the point.
    score : (n,) float32
        Mean patch correlation, 0 to 1.
    precision : (n,) float32
        Expected standard deviation across the surface, in the unit of the points.
    angle : (n,) uint8
        Largest angle between the rays of the agreeing photos, degrees.
    """

    points: np.ndarray
    normals: np.ndarray
    colors: np.ndarray
    photos: np.ndarray
    score: np.ndarray
    precision: np.ndarray
    angle: np.ndarray

    def __len__(self):
        return len(self.points)

    def take(self, keep):
        """The points a mask or index array chooses."""
        return Cloud(**{k: v[keep] for k, v in self.arrays().items()})

    def arrays(self):
        """The arrays by name, as they are stored."""
        return {f.name: getattr(self, f.name) for f in fields(self)}


@njit(cache=True, nogil=True)
def _fuse_photo(
    i,
    others,
    depth,
    normal,
    score,
    rgb,
    K,
    E,
    used,
    least,
    min_score,
    sure_score,
    depth_tolerance,
    back_px,
    least_cos,
    gain,
    quality,
    color_tolerance,
    agreed,
    out_p,
    out_n,
    out_c,
    out_v,
    out_s,
    out_e,
    out_a,
    one_n,
    one_s,
):
    _, h, w = depth.shape
    R, t = E[i, :3, :3], E[i, :3, 3]
    count = 0
    hit_u = np.empty(others.shape[0], np.int64)
    hit_v = np.empty(others.shape[0], np.int64)
    hit_j = np.empty(others.shape[0], np.int64)
    for y in range(h):
        for x in range(w):
            d = depth[i, y, x]
            if d <= 0 or used[i, y, x] or score[i, y, x] * one_s < min_score:
                continue
            cx, cy = (x - K[i, 1]) / K[i, 0] * d - t[0], (y - K[i, 2]) / K[i, 0] * d - t[1]
            cz = d - t[2]
            X = R[0, 0] * cx + R[1, 0] * cy + R[2, 0] * cz
            Y = R[0, 1] * cx + R[1, 1] * cy + R[2, 1] * cz
            Z = R[0, 2] * cx + R[1, 2] * cy + R[2, 2] * cz
            a, b, c = normal[i, y, x, 0] * one_n, normal[i, y, x, 1] * one_n, normal[i, y, x, 2] * one_n
            nx = R[0, 0] * a + R[1, 0] * b + R[2, 0] * c
            ny = R[0, 1] * a + R[1, 1] * b + R[2, 1] * c
            nz = R[0, 2] * a + R[1, 2] * b + R[2, 2] * c
            ray = np.sqrt(((x - K[i, 1]) / K[i, 0]) ** 2 + ((y - K[i, 2]) / K[i, 0]) ** 2 + 1.0)
            facing = max(-(a * (x - K[i, 1]) / K[i, 0] + b * (y - K[i, 2]) / K[i, 0] + c) / ray, 0.05)
            wt = facing / (d * d)
            sx, sy, sz, sw = X * wt, Y * wt, Z * wt, wt
            mx, my, mz = nx * wt, ny * wt, nz * wt
            # colors: those of sharp photos that look from the front
            own_r, own_g, own_b = gain[i] * rgb[i, y, x, 0], gain[i] * rgb[i, y, x, 1], gain[i] * rgb[i, y, x, 2]
            cw = wt * facing * quality[i]
            r, g, bl, sc = own_r * cw, own_g * cw, own_b * cw, cw
            ss = score[i, y, x] * one_s * wt
            # the ray of this photo, in the world
            ox = (x - K[i, 1]) / K[i, 0]
            oy = (y - K[i, 2]) / K[i, 0]
            vx = (R[0, 0] * ox + R[1, 0] * oy + R[2, 0]) / ray
            vy = (R[0, 1] * ox + R[1, 1] * oy + R[2, 1]) / ray
            vz = (R[0, 2] * ox + R[1, 2] * oy + R[2, 2]) / ray
            known, narrow = 0.0, 1.0
            hits = against = 0
            for k in range(others.shape[0]):
                j = others[k]
                px = E[j, 0, 0] * X + E[j, 0, 1] * Y + E[j, 0, 2] * Z + E[j, 0, 3]
                py = E[j, 1, 0] * X + E[j, 1, 1] * Y + E[j, 1, 2] * Z + E[j, 1, 3]
                pz = E[j, 2, 0] * X + E[j, 2, 1] * Y + E[j, 2, 2] * Z + E[j, 2, 3]
                if pz <= 0:
                    continue
                u = int(np.round(K[j, 0] * px / pz + K[j, 1]))
                v = int(np.round(K[j, 0] * py / pz + K[j, 2]))
                if u < 0 or v < 0 or u >= w or v >= h:
                    continue
                # what lies just outside the keep box counts as well: the mean says on which side the place is
                e = abs(depth[j, v, u])
                # a photo that sees something behind this place sees through it
                sure = max(min_score, score[i, y, x] * one_s - SURE_SLACK)
                if e > (1.0 + depth_tolerance) * pz and score[j, v, u] * one_s >= sure:
                    against += 1
                if e <= 0 or score[j, v, u] * one_s < min_score or abs(e - pz) > depth_tolerance * pz:
                    continue
                # that pixel's own point, and where it falls in this photo
                qx = (u - K[j, 1]) / K[j, 0] * e - E[j, 0, 3]
                qy = (v - K[j, 2]) / K[j, 0] * e - E[j, 1, 3]
                qz = e - E[j, 2, 3]
                A = E[j, 0, 0] * qx + E[j, 1, 0] * qy + E[j, 2, 0] * qz
                B = E[j, 0, 1] * qx + E[j, 1, 1] * qy + E[j, 2, 1] * qz
                C = E[j, 0, 2] * qx + E[j, 1, 2] * qy + E[j, 2, 2] * qz
                bz = R[2, 0] * A + R[2, 1] * B + R[2, 2] * C + t[2]
                if bz <= 0:
                    continue
                bu = K[i, 0] * (R[0, 0] * A + R[0, 1] * B + R[0, 2] * C + t[0]) / bz + K[i, 1] - x
                bv = K[i, 0] * (R[1, 0] * A + R[1, 1] * B + R[1, 2] * C + t[1]) / bz + K[i, 2] - y
                if bu * bu + bv * bv > back_px * back_px:
                    continue
                a, b, c = normal[j, v, u, 0] * one_n, normal[j, v, u, 1] * one_n, normal[j, v, u, 2] * one_n
                ox = E[j, 0, 0] * a + E[j, 1, 0] * b + E[j, 2, 0] * c
                oy = E[j, 0, 1] * a + E[j, 1, 1] * b + E[j, 2, 1] * c
                oz = E[j, 0, 2] * a + E[j, 1, 2] * b + E[j, 2, 2] * c
                if ox * nx + oy * ny + oz * nz < least_cos:
                    continue
                jr, jg, jb = gain[j] * rgb[j, v, u, 0], gain[j] * rgb[j, v, u, 1], gain[j] * rgb[j, v, u, 2]
                if max(abs(jr - own_r), abs(jg - own_g), abs(jb - own_b)) > color_tolerance:
                    continue
                ray = np.sqrt(((u - K[j, 1]) / K[j, 0]) ** 2 + ((v - K[j, 2]) / K[j, 0]) ** 2 + 1.0)
                facing = max(-(a * (u - K[j, 1]) / K[j, 0] + b * (v - K[j, 2]) / K[j, 0] + c) / ray, 0.05)
                wt = facing / (e * e)
                sx, sy, sz, sw = sx + A * wt, sy + B * wt, sz + C * wt, sw + wt
                mx, my, mz = mx + ox * wt, my + oy * wt, mz + oz * wt
                cw = wt * facing * quality[j]
                r, g, bl, sc = r + jr * cw, g + jg * cw, bl + jb * cw, sc + cw
                ss += score[j, v, u] * one_s * wt
                # how sharply the other ray cuts this one, in pixels of the other photo for each unit along this one
                qu, qv = (u - K[j, 1]) / K[j, 0], (v - K[j, 2]) / K[j, 0]
                wx = (E[j, 0, 0] * qu + E[j, 1, 0] * qv + E[j, 2, 0]) / ray
                wy = (E[j, 0, 1] * qu + E[j, 1, 1] * qv + E[j, 2, 1]) / ray
                wz = (E[j, 0, 2] * qu + E[j, 1, 2] * qv + E[j, 2, 2]) / ray
                cos = vx * wx + vy * wy + vz * wz
                known += (K[j, 0] / (e * ray)) ** 2 * max(1.0 - cos * cos, 0.0)
                narrow = min(narrow, cos)
                hit_j[hits], hit_u[hits], hit_v[hits] = j, u, v
                hits += 1
            if against > AGAINST * hits:
                continue
            alike = hits > 0 and ss >= sure_score * sw
            # a place that is left out is met again from each of its photos, one that is kept is not
            few = hits + 1 < least and not (hits + 2 == least and alike)
            share = 1.0 / (hits + 1) if few else 1.0
            agreed[0, min(hits + 1, 63)] += share
            if alike:
                agreed[1, min(hits + 1, 63)] += share
            if few:
                continue
            for k in range(hits):
                used[hit_j[k], hit_v[k], hit_u[k]] = True
            used[i, y, x] = True
            q = 1.0 / max(np.sqrt(mx * mx + my * my + mz * mz), 1e-30)
            out_p[count, 0], out_p[count, 1], out_p[count, 2] = sx / sw, sy / sw, sz / sw
            out_n[count, 0], out_n[count, 1], out_n[count, 2] = mx * q, my * q, mz * q
            out_c[count, 0], out_c[count, 1], out_c[count, 2] = (
                np.uint8(min(r / sc + 0.5, 255.0)),
                np.uint8(min(g / sc + 0.5, 255.0)),
                np.uint8(min(bl / sc + 0.5, 255.0)),
            )
            out_v[count] = hits + 1
            out_s[count] = ss / sw
            # along the ray, then across the surface, which the ray meets at a slant
            along = MATCHED_PX / np.sqrt(max(known, 1e-30))
            q = abs(vx * out_n[count, 0] + vy * out_n[count, 1] + vz * out_n[count, 2])
            out_e[count] = along * max(q, 0.1)
            out_a[count] = np.uint8(min(np.degrees(np.arccos(min(max(narrow, -1.0), 1.0))), 255.0))
            count += 1
    return count


def fuse(
    depth,
    normal,
    score,
    rgb,
    K,
    poses,
    neighbors,
    *,
    least=3,
    min_score=0.5,
    sure_score=2.0,
    depth_tolerance=0.006,
    back_px=1.2,
    least_cos=0.5,
    gain=None,
    quality=None,
    color_tolerance=np.inf,
    agreed=None,
    used=None,
    progress=None,
):
    """Merge depth maps.

    Parameters
    ----------
    depth : (n, h, w) float32
        Negative outside the keep box: no point is begun there.
    rgb : (n, h, w, 3) uint8
    score : (n, h, w) float32, or uint8 that counts 255 as 1
    normal : (n, h, w, 3) float32, or int8 that counts 127 as 1; in the camera frame
    K : (n, 3); poses : (n, 4, 4)
    neighbors : list of lists of int
        Whose maps are asked about each photo's pixels.
    least : int
        Least number of photos that agree, this one included.
    sure_score : float
        One photo less is enough where patches look at least so much alike; over 1: never.
    depth_tolerance : float
        Largest relative difference of depth.
    back_px : float
        Largest distance of the way there and back.
    least_cos : float
        Least cosine between the normals of agreeing maps.
    gain : (n,), optional
        Factors on the brightness of the photos that make their colors comparable.
    quality : (n,), optional
        What a photo's colors count, 0 to 1.
    color_tolerance : float
        Largest difference of any of the three colors between agreeing photos, of 255.
    agreed : (2, 64) float64, optional
        Is filled with how many places so many photos agree on, also those left out; second, of those the ones whose
        patches look alike as `sure_score` asks.
    used : (n, h, w) bool, optional
        Zeros to mark pixels in whose points are made; made here where not given.

    Returns
    -------
    Cloud
    """
    n = len(depth)
    gain, quality = (np.ones(n) if x is None else np.ascontiguousarray(x, np.float64) for x in (gain, quality))
    agreed = np.zeros((2, 64)) if agreed is None else agreed
    used = np.zeros(depth.shape, np.bool_) if used is None else used
    parts = []
    for i in range(n):
        if progress:
            progress(i, n)
        m = int((depth[i] > 0).sum())
        if not m or not neighbors[i]:
            continue
        p, nn = np.empty((m, 3), np.float32), np.empty((m, 3), np.float32)
        c, v, s = np.empty((m, 3), np.uint8), np.empty(m, np.uint8), np.empty(m, np.float32)
        e, a = np.empty(m, np.float32), np.empty(m, np.uint8)
        k = _fuse_photo(
            i,
            np.array(neighbors[i], np.int64),
            depth,
            normal,
            score,
            rgb,
            np.ascontiguousarray(K, np.float64),
            np.ascontiguousarray(poses, np.float64),
            used,
            least,
            min_score,
            sure_score,
            depth_tolerance,
            back_px,
            least_cos,
            gain,
            quality,
            float(color_tolerance),
            agreed,
            p,
            nn,
            c,
            v,
            s,
            e,
            a,
            1.0 / 127 if normal.dtype == np.int8 else 1.0,
            1.0 / 255 if score.dtype == np.uint8 else 1.0,
        )
        parts.append(Cloud(p[:k], nn[:k], c[:k], v[:k], s[:k], e[:k], a[:k]))
    if not parts:
        z, none = np.zeros((0, 3), np.float32), np.zeros(0, np.float32)
        return Cloud(z, z, np.zeros((0, 3), np.uint8), np.zeros(0, np.uint8), none, none, np.zeros(0, np.uint8))
    return Cloud(**{f.name: np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(Cloud)})
