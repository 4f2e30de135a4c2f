"""What points of a cloud may be colored by: the same in the window, in pictures, and on the command line."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from .ramps import RAMP, SIGNED, directions, ramp_colors, relief

PLAIN = (205, 203, 198)


@dataclass(frozen=True)
class Coloring:
    """A way to color points: name, what it is called, the array it goes by, and its unit ("length": the job's)."""

    name: str
    title: str
    array: str = ""
    unit: str = ""
    signed: bool = False
    asked: bool = False  #: it is computed when it is asked for, not kept with the cloud


COLORINGS = {
    x.name: x
    for x in (
        Coloring("color", "Color", "colors"),
        Coloring("relief", "Relief", "normals"),
        Coloring("directions", "Directions", "normals"),
        Coloring("plain", "Plain"),
        Coloring("photos", "Photos", "photos"),
        Coloring("score", "Likeness", "score"),
        Coloring("precision", "Precision", "precision", "length"),
        Coloring("angle", "Ray angle", "angle", "°"),
        Coloring("seen", "Coverage: photos", "seen", asked=True),
        Coloring("resolution", "Coverage: pixel size", "resolution", "length", asked=True),
        Coloring("spread", "Coverage: directions", "spread", "°", asked=True),
        Coloring("expected", "Coverage: precision", "precision", "length", asked=True),
        Coloring("compared", "Distance to another", "compared", "length", signed=True, asked=True),
    )
}
#: those of a surface's vertices
SURFACE_COLORINGS = {
    x.name: x
    for x in (
        Coloring("relief", "Plain"),
        Coloring("color", "Color", "colors"),
        Coloring("filled", "Filled parts", "filled"),
        Coloring("support", "Support", "support", "length"),
        Coloring("deviation", "Off the cloud", "deviation", "length", signed=True),
        Coloring("photos", "Photos", "photos"),
        Coloring("curvature", "Curvature", "curvature", "1/length", signed=True, asked=True),
        Coloring("slope", "Slope", "slope", "°", asked=True),
        Coloring("thickness", "Thickness", "thickness", "length", asked=True),
        Coloring("seen", "Coverage: photos", "seen", asked=True),
        Coloring("resolution", "Coverage: pixel size", "resolution", "length", asked=True),
        Coloring("spread", "Coverage: directions", "spread", "°", asked=True),
        Coloring("compared", "Distance to another", "compared", "length", signed=True, asked=True),
    )
}
FILLED = (224, 138, 46)  #: of parts that no points hold
WAYS = 8  #: counts that are kept side by side, a power of two
SAMPLE = 100_000  #: values of a cloud that percentiles are taken of
OF_SURFACES = ("seen", "resolution", "spread")  #: of coverage, what is known of places that are no points
COVERAGE = ("seen", "resolution", "spread", "expected")
MEASURED = tuple(n for n, x in COLORINGS.items() if x.array not in ("", "colors", "normals"))  #: those with a ramp


@njit(cache=True, nogil=True)
def _count(values, low, high, clip, out):
    n = out.shape[1]
    scale = n / (high - low)
    for i in range(values.shape[0]):
        v = values[i]
        if not np.isfinite(v):
            continue
        if v < low or v > high:
            if not clip:
                continue
            v = min(max(v, low), high)
        # in turns: adding to the bin that was just added to would wait for it
        out[i & (WAYS - 1), min(int((v - low) * scale), n - 1)] += 1


def counts_of(values, low, high, bins, clip=False):
    """How many values (n,) lie in each of so many bins of one width from `low` to `high`; not finite ones nowhere.

    clip : whether those beyond the ends count in the outermost bins
    """
    out = np.zeros((WAYS, bins), np.int64)
    _count(np.ascontiguousarray(values), float(low), float(high), clip, out)
    return out.sum(0)


def sample_of(values):
    """An even sample of a cloud's values, for what asks for percentiles: its points are stored in a random order."""
    return values[:: max(1, len(values) // SAMPLE)]


def usual_range(look, values, colorings=COLORINGS):
    """Lowest and highest value that a ramp shows, where nobody says otherwise; None without any."""
    values = sample_of(values)
    some = values[np.isfinite(values)]
    if not len(some):
        return None
    if colorings[look].signed:
        high = float(np.percentile(np.abs(some), 98)) or 1e-9
        return -high, high
    low, high = (float(x) for x in np.percentile(some, (1, 99)))
    return low, max(high, low + 1e-9)


def cloud_colors(cloud, look, values=None, span=None):
    """Colors (n, 3) uint8 of a cloud's points.

    Parameters
    ----------
    cloud : dict of arrays
    look : str
        Of COLORINGS.
    values : (n,), optional
        Of a look with a ramp; taken from the cloud where not given. Without any, the cloud's colors are given.
    span : (low, high), optional
        What the ramp shows; `usual_range` where not given.
    """
    n = len(cloud["points"])
    if look in ("relief", "directions") and "normals" in cloud:
        return relief(cloud["normals"]) if look == "relief" else directions(cloud["normals"])
    if look == "plain":
        return np.tile(np.array(PLAIN, np.uint8), (n, 1))
    x = COLORINGS[look]
    if look in MEASURED and values is None and not x.asked:
        values = cloud.get(x.array)
    if look not in MEASURED or values is None:
        return cloud["colors"]
    values = np.asarray(values, np.float32)
    span = span or usual_range(look, values)
    return ramp_colors(values, *span, SIGNED if x.signed else RAMP) if span else cloud["colors"]


def surface_colors(mesh, look, values=None, span=None):
    """Colors (n, 3) uint8 of a surface's vertices, before light falls on them; as `cloud_colors`."""
    n = len(mesh["points"])
    if look == "color":
        return mesh["colors"]
    plain = np.tile(np.array(PLAIN, np.uint8), (n, 1))
    if look == "filled":
        return np.where(mesh["filled"][:, None], np.array(FILLED, np.uint8), plain)
    if look == "relief" or values is None:
        return plain
    values = np.asarray(values, np.float32)
    span = span or usual_range(look, values, SURFACE_COLORINGS)
    return ramp_colors(values, *span, SIGNED if SURFACE_COLORINGS[look].signed else RAMP) if span else plain
