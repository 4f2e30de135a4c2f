"""Triangles of one size: long edges are divided, short ones drawn together, edges flipped, vertices evened out.

The four steps of Botsch and Kobbelt 2004 (a remeshing approach to multiresolution modeling), a few times over: edges
longer than 4/3 of what is wanted are divided in the middle, those shorter than 4/5 become one vertex where the surface
stays what it is (their ends have no other neighbors in common, no triangle turns over), an edge is flipped where the
other diagonal has the smaller angles against it (Delaunay), and vertices go toward the middle of their neighbors, along
the surface. Where there is an original, they are put back onto it each time.
"""

import numpy as np
from numba import njit

from .distance import places_on
from .mesh import areas, begins, half_edges, opposite, used_only

TOO_MANY = 2.0  #: times as many triangles as there will be
LONGEST, SHORTEST = 4 / 3, 4 / 5  #: of the length wanted: what is divided, and what is drawn together
ROUNDS, HALVINGS, COLLAPSES, SWEEPS = 5, 12, 6, 12
ROUGHLY = 2  #: sweeps of flipping between two divisions, after which it is done again anyway
NOWHERE = np.empty((0, 3))
FREE, RIM, HELD = 0, 1, 2  #: vertices that move, those at a rim, and those that stay
FOLD = 0.3  #: cosine: a triangle that turns by more has turned over
THIN = 0.05  #: twice the area over the square of the longest side: thinner triangles are not made
SHARP = 0.6  #: cosine: an edge between triangles that meet so sharply is shape and stays


def kinds_of(faces, count, held=None):
    """What each vertex (n,) is: FREE, RIM or HELD."""
    beside = opposite(faces, count)
    start, end = half_edges(faces)
    out = np.full(count, FREE, np.int8)
    out[start[beside < 0]] = out[end[beside < 0]] = RIM
    if held is not None:
        out[held] = HELD
    return out


def divided(points, faces, kinds, longest):
    """Edges longer than a length divided in the middle.

    Returns points, faces, kinds; edges at a rim whose ends are held stay whole.
    """
    start, end = half_edges(faces)
    long = ((points[start] - points[end]) ** 2).sum(1) > longest**2
    lone = opposite(faces, len(points)) < 0
    long &= ~(lone & (kinds[start] == HELD) & (kinds[end] == HELD))
    if not long.any():
        return points, faces, kinds
    points, faces, number = halved(points, faces, long)
    kind = np.full(int(number.max()) + 1, FREE, np.int8)
    kind[number[lone[long]]] = RIM
    return points, faces, np.concatenate([kinds, kind])


def halved(points, faces, some):
    """Edges divided in the middle.

    some : (3 t,) bool, of half-edges; both of an edge

    Returns
    -------
    points, with the new ones behind, faces, and which of the new ones (k,) stands on each of the half-edges
    """
    n = len(points)
    start, end = half_edges(faces)
    key = np.minimum(start, end) * n + np.maximum(start, end)
    halves, number = np.unique(key[some], return_inverse=True)
    mid = np.full(len(key), -1, np.int64)
    mid[some] = n + number
    mid = mid.reshape(-1, 3)
    how_many = (mid >= 0).sum(1)
    f = faces.astype(np.int64)
    parts = [f[how_many == 0]]
    for count in (1, 2, 3):
        rows = np.flatnonzero(how_many == count)
        # turned so that the first side is divided, and the last one is not unless all are
        m = mid[rows]
        k = (
            np.zeros(len(rows), int)
            if count == 3
            else (m >= 0).argmax(1)
            if count == 1
            else ((m < 0).argmax(1) + 1) % 3
        )
        a, b, c = (np.take_along_axis(f[rows], ((k + j) % 3)[:, None], 1)[:, 0] for j in range(3))
        ab, bc, ca = (np.take_along_axis(m, ((k + j) % 3)[:, None], 1)[:, 0] for j in range(3))
        if count == 1:
            some = ((a, ab, c), (ab, b, c))
        elif count == 2:
            some = ((ab, b, bc), (a, ab, bc), (a, bc, c))
        else:
            some = ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))
        parts += [np.stack(x, 1) for x in some]
    middles = (points[halves // n] + points[halves % n]) / 2
    return np.concatenate([points, middles]), np.concatenate(parts), number


@njit(cache=True, nogil=True)
def _normal(p, q, r, out):
    x0, x1, x2 = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    y0, y1, y2 = r[0] - p[0], r[1] - p[1], r[2] - p[2]
    out[0], out[1], out[2] = x1 * y2 - x2 * y1, x2 * y0 - x0 * y2, x0 * y1 - x1 * y0
    return np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2)


@njit(cache=True, nogil=True)
def sum_of(n, a, b):
    """n (a - b)."""
    return n[0] * (a[0] - b[0]) + n[1] * (a[1] - b[1]) + n[2] * (a[2] - b[2])


@njit(cache=True, nogil=True)
def _stays(points, faces, begin, own, out, v, other, place, longest):
    """How far a place is from the planes of the triangles round v, but those with `other`; -1 where they turn over."""
    n, m, most = np.empty(3), np.empty(3), 0.0
    for j in range(begin[v], begin[v + 1]):
        t, k = own[j] // 3, own[j] % 3
        p, q = faces[t, (k + 1) % 3], faces[t, (k + 2) % 3]
        if out[t] or p == other or q == other:
            continue
        far = 0.0
        for w in (p, q):
            d = (points[w, 0] - place[0]) ** 2 + (points[w, 1] - place[1]) ** 2 + (points[w, 2] - place[2]) ** 2
            if d > longest * longest:
                return -1.0
            far = max(far, d)
        one = _normal(points[v], points[p], points[q], n)
        two = _normal(place, points[p], points[q], m)
        dot = n[0] * m[0] + n[1] * m[1] + n[2] * m[2]
        if two <= THIN * far or (one > 0 and dot < FOLD * one * two):
            return -1.0
        if one > 0:
            most = max(most, abs(sum_of(n, place, points[p])) / one)
    return most


@njit(cache=True, nogil=True)
def collapse(points, faces, begin, own, beside, kinds, longest, order, places, most, out, into, off, farthest):
    """Edges made one vertex each, in place, in an order; how many were. Of a vertex one edge alone goes.

    Parameters
    ----------
    points (n, 3), faces (t, 3), changed
    begin, own, beside : of `mesh.begins` and `mesh.opposite`
    kinds : (n,) of `kinds_of`; held vertices stay, those at a rim go along it alone
    longest : no edge longer than this comes of it
    order : half-edges
    places : (len(order), 3)
        Where the vertex goes; empty: to the middle. That of a rim or held stays.
    most : how many at most
    out : (t,) bool, set where a triangle is gone
    into : (n,) int64, -1; set to the vertex that one became
    off : (n,), how far what a vertex stands for is from the planes it had, about; that is nowhere more than `farthest`
    """
    n = points.shape[0]
    touched, stamp = np.zeros(n, np.bool_), np.full(n, -1, np.int64)
    size = begin[1:] - begin[:-1]
    place = np.empty(3)
    count = 0
    for e in range(order.shape[0]):
        if count >= most:
            break
        h = order[e]
        o = np.int64(beside[h])
        if out[h // 3] or (o >= 0 and out[o // 3]):
            continue
        a, b = faces[h // 3, h % 3], faces[h // 3, (h % 3 + 1) % 3]
        if kinds[b] > kinds[a]:
            a, b = b, a
        # b goes, a stays
        if kinds[b] == HELD or (kinds[b] == RIM and o >= 0) or touched[a] or touched[b]:
            continue
        for k in range(3):
            middle = places[e, k] if places.shape[0] else (points[a, k] + points[b, k]) / 2
            place[k] = middle if kinds[a] == FREE else points[a, k]
        fine, common = True, 0
        for j in range(begin[a], begin[a + 1]):
            t, k = own[j] // 3, own[j] % 3
            if not out[t]:
                stamp[faces[t, (k + 1) % 3]] = stamp[faces[t, (k + 2) % 3]] = h
        for j in range(begin[b], begin[b + 1]):
            t, k = own[j] // 3, own[j] % 3
            if out[t]:
                continue
            for s in (1, 2):
                w = faces[t, (k + s) % 3]
                if stamp[w] == h and w != a:
                    common += 1
                    stamp[w] = -1
                    # a vertex with three triangles would be left with two, folded onto each other
                    fine = fine and size[w] > (3 if kinds[w] == FREE else 1)
        if not fine or common != (1 if o < 0 else 2):
            continue
        one = _stays(points, faces, begin, own, out, b, a, place, longest)
        two = _stays(points, faces, begin, own, out, a, b, place, longest) if one >= 0 else -1.0
        away = max(one, two) + max(off[a], off[b])
        if two < 0 or away > farthest:
            continue
        off[a] = away
        for k in range(3):
            points[a, k] = place[k]
        touched[a] = touched[b] = True
        for x in (h, o):
            if x >= 0:
                out[x // 3] = True
                size[faces[x // 3, (x % 3 + 2) % 3]] -= 1
                size[a], size[b] = size[a] - 1, size[b] - 1
        size[a] += size[b]
        for j in range(begin[b], begin[b + 1]):
            if not out[own[j] // 3]:
                faces[own[j] // 3, own[j] % 3] = a
        into[b] = a
        count += 1
    return count


def drawn_together(points, faces, kinds, shorter, longest, *values, rounds=COLLAPSES):
    """Edges shorter than a length made one vertex, unless one longer than `longest` comes of it.

    values : (n, ...) of vertices; of two that become one, those of the one that stays

    Returns points, faces, kinds, and the values.
    """
    points = np.array(points, np.float64)
    for _ in range(rounds):
        faces = np.array(faces, np.int64)
        begin, own = begins(faces, len(points))
        beside = opposite(faces, len(points))
        start, end = half_edges(faces)
        d = ((points[start] - points[end]) ** 2).sum(1)
        once = np.flatnonzero(((beside < 0) | (np.arange(len(beside)) < beside)) & (d < shorter**2))
        order = once[np.argsort(d[once], kind="stable")]
        gone = np.zeros(len(faces), np.bool_)
        into = np.full(len(points), -1, np.int64)
        arguments = points, faces, begin, own, beside, kinds, longest, order, NOWHERE, len(order), gone, into
        if not len(order) or not collapse(*arguments, np.zeros(len(points)), np.inf):
            break
        faces, points, kinds, *values = used_only(faces[~gone], points, kinds, *values)
    return points, faces, kinds, *values


@njit(cache=True, nogil=True)
def _beside_each_other(faces, beside, first, d):
    """Whether the vertex a half-edge begins at has an edge to d."""
    g = first
    for _ in range(300):
        t, k = g // 3, g % 3
        if faces[t, (k + 1) % 3] == d or faces[t, (k + 2) % 3] == d:
            return True
        g = beside[3 * t + (k + 2) % 3]
        if g == first:
            return False
        if g < 0:
            break
    g = beside[first]
    for _ in range(300):
        if g < 0:
            return False
        g = 3 * (g // 3) + (g % 3 + 1) % 3
        if faces[g // 3, (g % 3 + 1) % 3] == d:
            return True
        g = beside[g]
    return True


@njit(cache=True, nogil=True)
def _flip(points, faces, beside, sharp, sweeps):
    n = np.empty((4, 3))
    size = np.empty(4)
    total = 0
    for _ in range(sweeps):
        count = 0
        for h in range(beside.shape[0]):
            o = np.int64(beside[h])
            if o < h:
                continue
            t, k, s, j = h // 3, h % 3, o // 3, o % 3
            a, b, c, d = faces[t, k], faces[t, (k + 1) % 3], faces[t, (k + 2) % 3], faces[s, (j + 2) % 3]
            if c == d:
                continue
            # angles at c and d together more than half a turn: cot c + cot d < 0
            size[0], size[1] = (
                _normal(points[a], points[b], points[c], n[0]),
                _normal(points[b], points[a], points[d], n[1]),
            )
            at_c = at_d = 0.0
            for m in range(3):
                at_c += (points[a, m] - points[c, m]) * (points[b, m] - points[c, m])
                at_d += (points[a, m] - points[d, m]) * (points[b, m] - points[d, m])
            if at_c * size[1] + at_d * size[0] >= -1e-9 * (size[0] + size[1]) ** 2:
                continue
            size[2], size[3] = (
                _normal(points[c], points[a], points[d], n[2]),
                _normal(points[d], points[b], points[c], n[3]),
            )
            if min(size[2], size[3]) <= 0:
                continue
            dot = n[0, 0] * n[1, 0] + n[0, 1] * n[1, 1] + n[0, 2] * n[1, 2]
            if size[0] > 0 and size[1] > 0 and dot < sharp * size[0] * size[1]:
                continue
            fine = True
            for p in (2, 3):
                for q in (0, 1):
                    dot = n[p, 0] * n[q, 0] + n[p, 1] * n[q, 1] + n[p, 2] * n[q, 2]
                    fine = fine and dot > FOLD * size[p] * size[q]
            if not fine or _beside_each_other(faces, beside, 3 * t + (k + 2) % 3, d):
                continue
            bc, ca = beside[3 * t + (k + 1) % 3], beside[3 * t + (k + 2) % 3]
            ad, db = beside[3 * s + (j + 1) % 3], beside[3 * s + (j + 2) % 3]
            faces[t, 0], faces[t, 1], faces[t, 2] = c, a, d
            faces[s, 0], faces[s, 1], faces[s, 2] = d, b, c
            for at, other in ((3 * t, ca), (3 * t + 1, ad), (3 * s, db), (3 * s + 1, bc)):
                beside[at] = other
                if other >= 0:
                    beside[other] = at
            beside[3 * t + 2], beside[3 * s + 2] = 3 * s + 2, 3 * t + 2
            count += 1
        total += count
        if count == 0:
            break
    return total


def flipped(points, faces, sharp=SHARP, sweeps=SWEEPS):
    """Faces with their edges flipped to the shorter-angled diagonal, but edges that are sharp."""
    faces = np.array(faces, np.int64)
    _flip(np.ascontiguousarray(points, np.float64), faces, opposite(faces, len(points)), float(sharp), sweeps)
    return faces


def moved_along(points, faces, kinds, share=0.6):
    """Free vertices moved toward the middle of their neighbors, along the surface."""
    n = len(points)
    a, b = half_edges(faces)
    count = np.maximum(np.bincount(a, minlength=n), 1)  # of a free vertex each neighbor is met once
    mean = np.stack([np.bincount(a, points[b, k], n) for k in range(3)], 1) / count[:, None]
    T = points[faces]
    normal = np.cross(T[:, 1] - T[:, 0], T[:, 2] - T[:, 0])
    N = np.stack([np.bincount(faces.ravel(), np.repeat(normal[:, k], 3), n) for k in range(3)], 1)
    N /= np.maximum(np.linalg.norm(N, axis=1, keepdims=True), 1e-30)
    d = mean - points
    d -= (d * N).sum(1, keepdims=True) * N
    return np.where((kinds == FREE)[:, None], points + share * d, points)


def remeshed(points, faces, length, held=None, onto=True, rounds=ROUNDS, check=lambda: None):
    """A mesh with edges of about one length.

    Parameters
    ----------
    points (n, 3), faces (t, 3)
    length : float
        Wanted.
    held : (n,) bool, optional
        Vertices that stay where they are.
    onto : bool
        Whether vertices are put back onto the given surface.

    Returns
    -------
    points (m, 3) float64, faces (u, 3) int64
    """
    given = np.array(points, np.float64), np.array(faces, np.int64)
    points, faces = given
    kinds = kinds_of(faces, len(points), held)
    enough = TOO_MANY * (float(areas(*given).sum()) / (0.433 * length**2) + len(faces))
    for _ in range(rounds):
        check()
        for _ in range(HALVINGS):
            before = len(points)
            points, faces, kinds = divided(points, faces, kinds, LONGEST * length)
            if len(points) == before or len(faces) > enough:
                break  # slivers make many of these: they go first
            faces = flipped(points, faces, sweeps=ROUGHLY)
        points, faces, kinds = drawn_together(points, faces, kinds, SHORTEST * length, LONGEST * length)
        faces = flipped(points, faces)
        points = moved_along(points, faces, kinds)
        if onto:
            free = np.flatnonzero(kinds == FREE)
            points[free] = places_on(points[free], *given, 4 * length)[0]
    return points, faces
