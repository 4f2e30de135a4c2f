"""Edges of an object that cells cut off, put back: where neighboring vertices lie on different sides of one.

Vertices lie on the sides of an edge, and the triangles between them cut it off at a slant. Each side of such a triangle
that leads from one side of the edge to the other is divided where the planes of its ends meet; where three sides meet,
the middle of a triangle goes to the corner. Divided alike from both triangles, the surface stays whole (after Attene,
Falcidieno, Rossignac and Spagnuolo 2005, sharpen and bend).
"""

import numpy as np

TURN = 35.0  #: degrees between the normals of two vertices, from which on an edge lies between them
FARTHEST = 0.8  #: of its length: the edge of the object lies no farther from the middle of a side than this
NEAR = 0.25  #: of a side: a vertex this near to where it is divided, or beyond, is put onto the edge itself


def _met(places, normals, middle):
    """The place nearest to `middle` (n, 3) on planes through places (n, k, 3) with normals (n, k, 3)."""
    h = ((places - middle[:, None]) * normals).sum(2)
    G = np.einsum("nik,njk->nij", normals, normals) + 1e-9 * np.eye(normals.shape[1])
    return middle + np.einsum("nik,ni->nk", normals, np.linalg.solve(G, h[..., None])[..., 0])


def with_creases(vertices, normals, faces):
    """A surface with its edges put back.

    Parameters
    ----------
    vertices (n, 3), normals (n, 3), faces (t, 3)
        Normals of the side that each vertex lies on, zero where that is not known.

    Returns
    -------
    vertices (m, 3), normals (m, 3), faces
        New vertices have no normals.
    """
    a, b = faces.ravel().astype(np.int64), np.roll(faces, -1, 1).ravel().astype(np.int64)
    first, second = np.minimum(a, b), np.maximum(a, b)
    P, N = vertices.astype(float), normals.astype(float)

    def sides():
        """Which half-edges lead over an edge; the ends of each such side, where it is divided, its place among them."""
        known = (N != 0).any(1)
        apart = np.einsum("ij,ij->i", N[first], N[second]) < np.cos(np.radians(TURN))
        apart &= known[first] & known[second]
        pairs, of = np.unique(first[apart] * len(P) + second[apart], return_inverse=True)
        i, j = pairs // len(P), pairs % len(P)
        middle = (P[i] + P[j]) / 2
        place = _met(np.stack([P[i], P[j]], 1), np.stack([N[i], N[j]], 1), middle)
        far = np.linalg.norm(place - middle, axis=1) > FARTHEST * np.linalg.norm(P[i] - P[j], axis=1)
        place[far] = middle[far]  # divided all the same: the triangles beside it are
        return apart, i, j, place, of.ravel()

    _, i, j, place, _ = sides()
    along = P[j] - P[i]
    share = ((place - P[i]) * along).sum(1) / np.maximum((along**2).sum(1), 1e-30)
    at_i, at_j = share < NEAR, share > 1 - NEAR
    onto, places = np.concatenate([i[at_i], j[at_j]]), np.concatenate([place[at_i], place[at_j]])
    count = np.bincount(onto, minlength=len(P))
    moved = np.flatnonzero(count)
    for k in range(3):
        P[moved, k] = np.bincount(onto, places[:, k], len(P))[moved] / count[moved]
    N[moved] = 0
    apart, i, j, place, of = sides()
    cut = np.full(3 * len(faces), -1, np.int64)
    cut[apart] = len(vertices) + of
    cut = cut.reshape(-1, 3)
    how_many = (cut >= 0).sum(1)
    out = [faces[how_many == 0].astype(np.int64)]
    for count in (1, 2):
        rows = np.flatnonzero(how_many == count)
        # turned so that side 0 is the one that is divided, or of two the one that is not
        k = ((cut[rows] >= 0) == (count == 1)).argmax(1)
        turn = (k[:, None] + np.arange(3)) % 3
        (p, q, r), (x, y, z) = np.take_along_axis(faces[rows], turn, 1).T, np.take_along_axis(cut[rows], turn, 1).T
        out += [[p, x, r], [x, q, r]] if count == 1 else [[y, r, z], [p, q, y], [p, y, z]]
    rows = np.flatnonzero(how_many == 3)
    new = len(vertices) + len(place) + np.arange(len(rows))
    corners = faces[rows]
    middle = P[corners].mean(1)
    top = _met(P[corners], N[corners], middle) if len(rows) else middle
    size = np.linalg.norm(P[corners] - middle[:, None], axis=2).max(1, initial=0)
    far = np.linalg.norm(top - middle, axis=1) > 2 * FARTHEST * size
    top[far] = place[cut[rows[far]] - len(vertices)].mean(1)
    for k in range(3):
        out += [[corners[:, k], cut[rows, k], new], [cut[rows, k], corners[:, (k + 1) % 3], new]]
    out = [x if isinstance(x, np.ndarray) else np.stack(x, 1) for x in out]
    added = np.concatenate([place, top])
    none = np.zeros((len(added), 3), normals.dtype)
    return (
        np.concatenate([P, added]),
        np.concatenate([N.astype(normals.dtype), none]),
        np.ascontiguousarray(np.concatenate(out), np.int32),
    )
