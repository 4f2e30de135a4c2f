"""A texture from photos: what each step does is in the modules beside this one; here they follow each other.

Photos are looked at one after another, twice: first for how good they show each triangle and in which color, then for
the colors of texels. So memory holds one photo at a time. The surface itself is not touched.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy

from ..errors import UmbrateError
from ..imaging.sharpness import focus_worth
from ..surface.build import vertex_normals
from ..surface.mesh import areas, half_edges, opposite
from .bake import Page, Taking, fill_between, owners, padded, texels_of
from .charts import charts_of
from .choose import chosen_photos, exposures, strange
from .level import corrections, sides_of
from .pack import packed
from .views import look_at


@dataclass(frozen=True)
class Wanted:
    """How a texture is to be.

    Attributes
    ----------
    side : int
        Texels along a page.
    pages : int
        How many pages there are at most.
    scale : float or None
        Texels for a unit of the surface; as many as fit where not given.
    padding : int
        Texels round each chart.
    even, level, leave_out : bool
        Whether exposures are evened out, seams leveled, and what differs from most photos left out.
    """

    side: int = 4096
    pages: int = 1
    scale: float | None = None
    padding: int = 4
    even: bool = True
    level: bool = True
    leave_out: bool = True


@dataclass
class Texture:
    """Pages of texels and where each triangle finds its own.

    Attributes
    ----------
    pages : list of (side, side, 3) uint8
        Rows from above.
    corner : (t, 3) int32
        Rows of `uv` of each triangle's corners.
    uv : (m, 2) float64
        Places on the page, right and up, 0 to 1.
    vertex : (m,) int32
        The vertex of the surface that each belongs to.
    page, photo : (t,) int64
        Of each triangle; photo -1 where none shows it: its color is made up from round it.
    gain : (p, 3)
        Factors on the colors of the photos.
    left_out : float
        Share of what photos show that differs from most of them.
    scale, pixels : float
        Texels for a unit of length, and pixels of the photos that it is taken from, in the median.
    charts : int
    covered : float
        Share of the pages that charts cover.
    """

    pages: list
    corner: np.ndarray
    uv: np.ndarray
    vertex: np.ndarray
    page: np.ndarray
    photo: np.ndarray
    gain: np.ndarray
    left_out: float
    scale: float
    pixels: float
    charts: int
    covered: float


def colors_of(sides, faces, color, good, gain):
    """The color (m, 3) of each side's vertex in its photo, the mean of the triangles round it; whether it is known."""
    m, n = len(sides.vertex), int(faces.max()) + 1
    out, known = np.zeros((m, 3)), np.zeros(m, bool)
    for k in np.unique(sides.photo):
        rows = np.flatnonzero(sides.photo == k)
        seen = good[k] > 0
        f = faces[seen]
        count = np.bincount(f.ravel(), minlength=n)
        v = sides.vertex[rows]
        for c in range(3):
            total = np.bincount(f.ravel(), np.repeat(color[k, seen, c].astype(float) * gain[k, c], 3), n)
            out[rows, c] = total[v] / np.maximum(count[v], 1)
        known[rows] = count[v] > 0
    return out, known


def common_colors(faces, color, good, gain):
    """The mean color (n, 3) of vertices over all photos that show triangles round them; not a number without any."""
    n = int(faces.max()) + 1
    total, weight = np.zeros((len(faces), 3)), np.zeros(len(faces))
    for k in range(len(good)):
        seen = good[k] > 0
        total[seen] += color[k, seen] * gain[k]
        weight += seen
    flat = faces.ravel()
    count = np.bincount(flat, np.repeat(weight, 3), n)
    with np.errstate(invalid="ignore"):
        return np.stack([np.bincount(flat, np.repeat(total[:, c], 3), n) for c in range(3)], 1) / count[:, None]


def spread_colors(faces, value, known):
    """Values (n, c) of vertices, those not known as even as can be between the others; 128 where none is near."""
    n = len(value)
    out = np.where(known[:, None], value, 128.0)
    if known.all() or not known.any():
        return out
    a, b = half_edges(faces)
    W = scipy.sparse.coo_matrix((np.ones(2 * len(a)), (np.r_[a, b], np.r_[b, a])), (n, n)).tocsr()
    free = ~known & (np.asarray(W.sum(1)).ravel() > 0)
    # pieces without any known vertex have nothing to be even with: held weakly at gray
    L = scipy.sparse.diags(np.asarray(W.sum(1)).ravel() + 1e-6) - W
    right = W[free][:, known] @ value[known] + 1e-6 * 128.0
    solve = scipy.sparse.linalg.splu(L[free][:, free].tocsc())
    out[free] = np.stack([solve.solve(right[:, k]) for k in range(value.shape[1])], 1)
    return out


class Here:
    """Looks at photos in this process, one after another.

    cameras : list of Camera; picture : callable(k) -> (h, w, 3) uint8
    """

    def __init__(self, cameras, picture):
        self.cameras, self.picture = cameras, picture

    def looked_at(self, points, normals, faces):
        """Yield what `look_at` says of each photo."""
        for k, c in enumerate(self.cameras):
            yield look_at(points, normals, faces, c, self.picture(k))

    def taken(self, page, takings):
        """Yield what `texels_of` says of a Page and each Taking."""
        for x in takings:
            yield texels_of(page, x, self.picture(x.k))


def make_texture(points, faces, photos, wanted, check=lambda share: None):
    """The Texture of a surface from photos.

    Parameters
    ----------
    points (n, 3), faces (t, 3)
    photos : Here, or what does the same elsewhere
    wanted : Wanted
    check : callable(share done); may raise

    Raises
    ------
    UmbrateError
        Where no photo shows the surface, or charts do not fit.
    """
    points, faces = np.ascontiguousarray(points, np.float64), np.ascontiguousarray(faces, np.int32)
    normals = vertex_normals(points, faces).astype(np.float64)
    check(0.0)
    charts = charts_of(points, faces)
    check(0.1)
    laid = packed(charts, wanted.side, wanted.pages, wanted.padding, wanted.scale)
    check(0.2)
    n = len(photos.cameras)
    good, color = np.zeros((n, len(faces)), np.float32), np.zeros((n, len(faces), 3), np.uint8)
    local = np.zeros((n, len(faces)), np.uint8)
    for k, (good[k], color[k], local[k]) in enumerate(photos.looked_at(points, normals, faces)):
        check(0.2 + 0.3 * (k + 1) / n)
    pixels = good.copy()
    worth = focus_worth(local[good > 0])
    for k in range(n):  # what is out of focus counts less, there alone
        good[k] *= worth[local[k]]
    del local
    if not (good > 0).any():
        raise UmbrateError("No photo shows this surface. Look whether it lies where the photos were taken.")
    gain = exposures(color, good) if wanted.even else np.ones((n, 3))
    bad = strange(color, good, gain) if wanted.leave_out else np.zeros(good.shape, bool)
    beside = opposite(faces, len(points))
    half = np.flatnonzero(np.arange(len(beside)) < beside)
    start, end = (x[half] for x in half_edges(faces))
    length = np.linalg.norm(points[start] - points[end], axis=1)
    photo = chosen_photos(good, ~bad, np.stack([half // 3, beside[half] // 3], 1), length)
    check(0.6)
    sides = sides_of(faces, photo)
    shade, known = colors_of(sides, faces, color, good, gain)
    common = common_colors(faces, color, np.where(bad, 0, good), gain)[sides.vertex]
    added = corrections(sides, shade, known, common) if wanted.level else np.zeros_like(shade)
    check(0.65)
    of = charts.of
    texel = laid.scale * charts.place + laid.shift[of]
    texel[:, 1] = wanted.side - texel[:, 1]  # rows run from above
    uv, page = np.ascontiguousarray(texel[charts.corner]), laid.page[charts.part]
    # pixels for a texel, along a side: where texels are larger, several places of each are averaged
    best = np.sqrt(np.where(photo >= 0, pixels[np.maximum(photo, 0), np.arange(len(faces))], 0))
    size = np.sqrt(np.maximum(areas(points, faces), 1e-300)) * laid.scale
    vertex_color = _vertex_colors(sides, shade + added, faces, len(points))
    pages = []
    for g in range(int(page.max()) + 1):
        owner = owners(uv, np.flatnonzero(page == g), wanted.side)
        out = np.zeros((wanted.side, wanted.side, 3), np.uint8)
        used = np.unique(photo[(page == g) & (photo >= 0)])
        takings = []
        for k in used:
            places = int(np.ceil(np.median((best / size)[photo == k])))
            takings.append(Taking(int(k), replace(photos.cameras[k], mask=None), gain[k], places))
        flat = out.reshape(-1, 3)
        by = Page(points, faces, owner, uv, photo, sides.corner, added)
        for i, (at, texels) in enumerate(photos.taken(by, takings)):
            flat[at] = texels
            check(0.65 + 0.3 * (g + (i + 1) / len(used)) / (int(page.max()) + 1))
        fill_between(owner, photo < 0, uv, faces, vertex_color, out)
        pages.append(padded(out, owner))
    check(0.98)
    place = texel / wanted.side
    place[:, 1] = 1 - place[:, 1]
    left = float((bad & (good > 0)).sum() / max((good > 0).sum(), 1))
    dense = float(np.median((best / size)[photo >= 0])) * laid.scale
    return Texture(
        pages, charts.corner, place, charts.vertex, page, photo, gain, left, laid.scale, dense, len(charts.size),
        laid.covered,
    )  # fmt: skip


def _vertex_colors(sides, shade, faces, n):
    """The color (n, 3) of each vertex, the mean of its sides; of those without any, from round them."""
    count = np.bincount(sides.vertex, minlength=n)
    value = np.stack([np.bincount(sides.vertex, shade[:, k], n) for k in range(3)], 1) / np.maximum(count, 1)[:, None]
    return np.ascontiguousarray(spread_colors(faces, value, count > 0))
