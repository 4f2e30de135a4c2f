"""Drawing triangles: the depth of a mesh from a pinhole camera, for visibility and silhouettes."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _draw(uvz, faces, depth):
    h, w = depth.shape
    for t in range(faces.shape[0]):
        a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
        za, zb, zc = uvz[a, 2], uvz[b, 2], uvz[c, 2]
        if za <= 1e-9 or zb <= 1e-9 or zc <= 1e-9:
            continue
        ax, ay, bx, by, cx, cy = uvz[a, 0], uvz[a, 1], uvz[b, 0], uvz[b, 1], uvz[c, 0], uvz[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-12:
            continue
        u0, u1 = max(0, int(np.ceil(min(ax, bx, cx)))), min(w - 1, int(np.floor(max(ax, bx, cx))))
        v0, v1 = max(0, int(np.ceil(min(ay, by, cy)))), min(h - 1, int(np.floor(max(ay, by, cy))))
        for v in range(v0, v1 + 1):
            for u in range(u0, u1 + 1):
                p = ((bx - u) * (cy - v) - (by - v) * (cx - u)) / area
                q = ((cx - u) * (ay - v) - (cy - v) * (ax - u)) / area
                r = 1.0 - p - q
                if p < 0 or q < 0 or r < 0:
                    continue
                # 1/z is linear in the picture
                z = 1.0 / (p / za + q / zb + r / zc)
                if z < depth[v, u]:
                    depth[v, u] = z


def mesh_depth(vertices, faces, K, pose, width, height):
    """Depth (h, w) float64 of a mesh, infinity where there is none.

    Parameters
    ----------
    vertices : (n, 3); faces : (m, 3) int
    K : (3,) f, cx, cy
    pose : (4, 4) world to camera
    """
    Y = vertices @ pose[:3, :3].T + pose[:3, 3]
    z = np.where(np.abs(Y[:, 2]) < 1e-12, 1e-12, Y[:, 2])
    uvz = np.stack([K[0] * Y[:, 0] / z + K[1], K[0] * Y[:, 1] / z + K[2], Y[:, 2]], 1)
    depth = np.full((height, width), np.inf)
    _draw(uvz, np.ascontiguousarray(faces, dtype=np.int64), depth)
    return depth
