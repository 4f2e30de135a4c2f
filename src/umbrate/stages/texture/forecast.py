"""What a texture will give and cost before it is made: texels, pages, time and memory, by this machine's own speed."""

from dataclasses import dataclass

import numpy as np

from ...core.dense.speed import machine_speed
from ...core.errors import UmbrateError
from ...core.memory import free_memory
from ..base import Forecast

COVERED = 0.55  #: share of pages that charts cover, usually
CELL_AREA = 3.05  #: triangles for each square as wide as a cell of the surface
DEPTH_SPEED = 7.1e6  #: hypotheses a second of one thread of the machine this was measured on
PHOTOGRAPHS = 1.4  #: their depth goes so much faster than that of the probe of `machine_speed`
#: what each takes, in seconds of that machine: a triangle that is thinned away, one that is textured, one of them in
#: one photo, a pixel of a photo, a texel, a texel and a triangle of the fine surface for normals and openness
AWAY, TRIANGLE, SHOWN, PIXEL, TEXEL, DETAIL, SKY = 1.1e-5, 1.2e-4, 1e-6, 4e-8, 7e-7, 2.1e-6, 1.5e-5
BASE = 300e6  #: bytes: the program and its libraries
#: bytes at the peak: a triangle of the fine surface, a textured one, one of them in one photo, a pixel of one photo, a
#: texel of one page (26 here, 5 in each of two processes that take colors)
FINE_BYTES, TRIANGLE_BYTES, SHOWN_BYTES, PIXEL_BYTES, TEXEL_BYTES = 180, 900, 20, 26, 36
SPARE = 0.9
SHORTEST = 2.0  #: seconds: runs that are shorter tell little of the machine's speed


@dataclass(frozen=True)
class Scene:
    """What the cost depends on.

    Attributes
    ----------
    fine, triangles : int
        Of the surface as it is, and as it is textured.
    photos : int
    pixels : float
        Of one photo.
    side, pages : int
    detail : int
        Texels along a page of normals and openness, 0 where none are made.
    """

    fine: int
    triangles: int
    photos: int
    pixels: float
    side: int
    pages: int
    detail: int = 0


def work(c):
    """How much there is to do, in seconds of the machine this was measured on."""
    texels = c.pages * c.side**2
    detail = (DETAIL * c.pages * c.detail**2 + SKY * c.fine) if c.detail else 0.0
    return (
        AWAY * max(c.fine - c.triangles, 0) + TRIANGLE * c.triangles + SHOWN * c.triangles * c.photos
        + 2 * PIXEL * c.pixels * c.photos + TEXEL * texels + detail
    )  # fmt: skip


def memory(c):
    """Bytes at the peak of a run: one photo and one page at a time."""
    return (
        BASE + max(FINE_BYTES * c.fine, TRIANGLE_BYTES * c.triangles)
        + SHOWN_BYTES * c.triangles * c.photos + PIXEL_BYTES * c.pixels + TEXEL_BYTES * c.side**2
        + 3 * c.pages * c.side**2
    )  # fmt: skip


def speed_of(depth_speed):
    """How fast this machine is against the one that `work` was measured on.

    depth_speed : hypotheses a second of one thread that it tried when it computed depth, or None
    """
    return (depth_speed or PHOTOGRAPHS * machine_speed()) / DEPTH_SPEED


def detail_side(side, texels, edge):
    """Texels along a page of normals: as many as show triangles with edges of such a length, a power of two.

    texels : of the texture for a unit; edge : of the fine surface, in that unit
    """
    wanted = side * 2.0 / max(texels * edge, 1e-30)
    return int(min(max(2 ** np.ceil(np.log2(max(wanted, 1.0))), min(256, side)), side))


def check_memory(scene, free=None):
    """Raise UmbrateError where memory does not hold a run, with the largest page that it holds."""
    free = SPARE * (free_memory() if free is None else free)
    needs = memory(scene)
    if needs <= free:
        return
    text = f"This needs some {needs / 1e9:.1f} GB of memory; {max(free, 0) / 1e9:.1f} GB are free."
    sides = [s for s in (8192, 4096, 2048, 1024) if s < scene.side]
    fits = [s for s in sides if memory(Scene(**{**vars(scene), "side": s, "detail": 0})) <= free]
    if fits:
        raise UmbrateError(f"{text} Pages of {fits[0]:,} texels fit.", ("set", "side", fits[0]))
    raise UmbrateError(f"{text} Thin the surface further, or close other programs.")


def time_told(seconds):
    """Seconds in words."""
    return f"{max(seconds, 1):.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"


def forecast_of(settings, scene, area, pixel, speed, unit):
    """The Forecast of a run.

    Parameters
    ----------
    settings : Settings
    scene : Scene
        Its `pages` are found here where texels are asked for by length.
    area : float
        Of the surface, in the job's unit.
    pixel : float
        Width of a photo's pixel on the object, likewise.
    speed : float
        Of `speed_of`.
    unit : str
    """
    name, side = unit or "unit", settings.side
    if settings.size_by == "texels":
        texels = settings.texels
        pages = max(int(np.ceil(area * texels**2 / COVERED / side**2)), 1)
    else:
        texels, pages = np.sqrt(COVERED * settings.pages * side**2 / max(area, 1e-300)), settings.pages
    photos = f"{1 / pixel:.3g} pixels" if pixel else "some pixels"
    text = f"Estimate for this machine: {texels:.3g} texels for a {name}, where photos have {photos}"
    text += f"; {pages} page{'s' if pages > 1 else ''} of {side:,}²"
    if pages > settings.pages:
        return Forecast(f"{text}. Pages allows {settings.pages}.", False, ("set", "pages", min(pages, 64)))
    scene = Scene(**{**vars(scene), "pages": pages})
    text += f", {time_told(work(scene) / speed)}, {memory(scene) / 1e9:.1f} GB"
    try:
        check_memory(scene)
    except UmbrateError as e:
        return Forecast(f"{text}\n{e}", False, e.remedy)
    return Forecast(text)
