"""Mending steps: what can be done to a surface, with values, and a step tried. `actions.mending` does them."""

from dataclasses import dataclass, field

import numpy as np

from ..core.cloud import filters
from ..core.errors import UmbrateError
from ..core.raster.pick import seen_inside, seen_under
from ..core.surface.carried import carried, mean_edge, unmoved
from ..core.surface.crossing import crossing, uncrossed
from ..core.surface.evening import evened
from ..core.surface.holes import filled, holes_of
from ..core.surface.mesh import areas, opposite, pieces, rims, volume
from ..core.surface.planes import closed_flat, cut_open, without
from ..core.surface.remesh import remeshed
from ..core.surface.spikes import without_spikes
from ..core.surface.thin import thinned, thinned_within
from .stepbook import Filter, Frames, StepBook, Value

ON_PLANE = 0.01  #: of a mean edge: a rim this near to a cut is the cut's
FEWEST = 4  #: triangles that a surface has at least
MOST = 20_000_000  #: triangles that evening out their size may lead to


class Context(Frames):
    """What mending may need besides the surface."""

    def __init__(self, job, sitting, kept, step=None):
        super().__init__(job, sitting, kept, step)
        self.check = lambda: None

    def place(self, value):
        """A place in the job's frame as one of its own (3,)."""
        return np.linalg.inv(self.to_job)[:3] @ np.append(np.asarray(value, float), 1.0)

    def plane(self, normal, offset):
        """A plane of the job's frame, ``normal x = offset``, as one of its own: unit (3,), offset."""
        n = np.asarray(normal, float) / np.linalg.norm(normal)
        R = self.to_job[:3, :3] / self.scale
        return R.T @ n, (float(offset) - float(n @ self.to_job[:3, 3])) / self.scale


@dataclass
class Mended:
    """What a step makes of a surface.

    Attributes
    ----------
    arrays : dict
        The surface after it.
    gone : (n,) bool or None
        Vertices of the one before that go, where nothing else changes.
    did : dict
        Figures for people; lengths, areas and volumes in the surface's own unit.
    before : int
        Triangles there were before.
    """

    arrays: dict
    gone: np.ndarray | None = None
    did: dict = field(default_factory=dict)
    before: int = 0


# ---------------------------------------------------------------------- choosing: what goes
def _chosen(chosen, drawn=False):
    """Work that takes away vertices which `chosen` (n,) bool, with all their triangles; drawn : by hand."""

    def work(mesh, v, context):
        gone = np.asarray(chosen(mesh, v, context))
        if drawn and not gone.any():
            raise UmbrateError("Nothing of the surface is there. Draw over it.")
        gone = ~gone if v["keep"] else gone
        return Mended(without(mesh, gone), gone)

    return work


def _small(mesh, v, context):
    which = pieces(mesh["faces"], len(mesh["points"]))
    area = np.bincount(which, areas(mesh["points"].astype(float), mesh["faces"]))
    small = area < v["share"] / 100 * area.sum()
    if v["across"] > 0:
        first = np.argsort(which, kind="stable")
        begin = np.searchsorted(which[first], np.arange(len(area)))
        P = mesh["points"][mesh["faces"][first]]
        low, high = np.minimum.reduceat(P.min(1), begin), np.maximum.reduceat(P.max(1), begin)
        small |= np.linalg.norm(high - low, axis=1) < context.length(v["across"])
    out = np.zeros(len(mesh["points"]), bool)
    out[mesh["faces"][small[which]]] = True
    return out


def _piece_at(mesh, v, context):
    """The vertices of the piece that a place lies on."""
    which = pieces(mesh["faces"], len(mesh["points"]))
    at = np.argmin(((mesh["points"] - context.place(v["place"])) ** 2).sum(1))
    out = np.zeros(len(mesh["points"]), bool)
    out[mesh["faces"][which == which[(mesh["faces"] == at).any(1)][0]]] = True
    return out


def _lasso(mesh, v, context):
    return seen_inside(mesh["points"], np.array(v["view"], float) @ context.to_job, v["f"], v["middle"], v["polygon"])


def _brush(mesh, v, context):
    M = context.to_job
    view, front = np.array(v["view"], float) @ M, np.array(v["front"], float) @ M / context.scale
    edge = mean_edge(mesh["points"], mesh["faces"])
    under = seen_under(mesh["points"], view, v["f"], v["middle"], v["strokes"], v["radius"], front, edge)
    return under & (mesh["normals"] @ front[:3].astype(np.float32) < 0.35)


# ---------------------------------------------------------------------- cutting: a plane, and what lies beyond it
def _cut(mesh, planes, close):
    """What is left below planes (unit normal, offset), each closed flat where that is wanted; and rims left open."""
    missing = 0
    for normal, offset in planes:
        h = mesh["points"] @ normal - offset
        if not (h >= 0).any():
            continue
        # a vertex on the plane belongs to what stays: triangles without area would come of it else
        h = np.where(np.abs(h) < 1e-6 * (1 + abs(offset)), -1e-6 * (1 + abs(offset)), h)
        mesh = cut_open(mesh, h)
        if not len(mesh["faces"]):
            break
        if close:
            near = ON_PLANE * mean_edge(mesh["points"], mesh["faces"])
            points, faces, new = closed_flat(mesh["points"], mesh["faces"], normal, offset, near)
            mesh = _renewed(mesh, points, faces, new) if len(faces) > len(mesh["faces"]) else mesh
            missing += _rims_on(mesh, normal, offset, near)
    return mesh, missing


def _rims_on(mesh, normal, offset, near):
    """How many rims of a surface run along a plane: where it was open before, a cut cannot be closed flat."""
    on = np.abs(mesh["points"] @ normal - offset) <= near
    return sum(bool(on[r].sum() > 1) for r in rims(mesh["faces"], opposite(mesh["faces"], len(mesh["points"]))))


def _rims(mesh):
    return len(rims(mesh["faces"], opposite(mesh["faces"], len(mesh["points"]))))


def _by_planes(planes):
    """Work that cuts by planes of its own frame, whose normals point to what goes."""

    def work(mesh, v, context):
        some = planes(mesh, v, context)
        if v["keep"]:
            if len(some) > 1:
                raise UmbrateError("What lies outside a box or a slab cannot be kept alone as one cut.")
            some = [(-n, -d) for n, d in some]
        out, missing = _cut(mesh, some, v["cut"] == "closed")
        return Mended(out, None, {"left_open": missing} if missing else {})

    return work


def _height(mesh, v, context):
    n, zero = context.up
    return [(-n, -(zero + context.length(v["height"])))]


def _plane(mesh, v, context):
    try:
        normal = np.array([float(x) for x in str(v["normal"]).split(",")])
    except ValueError:
        normal = np.zeros(0)
    if normal.shape != (3,) or not np.isfinite(normal).all() or not normal.any():
        raise UmbrateError(f"“{v['normal']}” is no direction. Write three numbers, such as 0,0,1.")
    return [context.plane(normal, v["offset"])]


def _support(mesh, v, context):
    n, _ = context.up
    m, offset = filters.support_plane(mesh["points"], n)
    return [(-m, -(offset + context.length(v["margin"])))]


def _box(mesh, v, context):
    box = context.keep_box()
    out = []
    for k in range(3):
        a = np.asarray(box.axes, float)[:, k]
        at = float(a @ np.asarray(box.center, float))
        out += [(a, at + float(box.half[k])), (-a, -(at - float(box.half[k])))]
    return out


def _slab(mesh, v, context):
    """What a slab holds goes: what lies below it and above it is cut each for itself."""
    if v["keep"]:
        n, low = context.plane(v["normal"], v["low"])
        _, high = context.plane(v["normal"], v["high"])
        out, missing = _cut(mesh, [(n, high), (-n, -low)], v["cut"] == "closed")
        return Mended(out, None, {"left_open": missing} if missing else {})
    n, low = context.plane(v["normal"], v["low"])
    _, high = context.plane(v["normal"], v["high"])
    parts, missing = [], 0
    for plane in ((n, low), (-n, -high)):
        part, open_ = _cut(mesh, [plane], v["cut"] == "closed")
        if len(part["faces"]):
            parts.append(part)
        missing += open_
    if not parts:
        raise UmbrateError("That would take the whole surface away. Choose other values.")
    counts = np.cumsum([0, *(len(p["points"]) for p in parts)])
    out = {k: np.concatenate([p[k] for p in parts]) for k in parts[0] if k != "faces"}
    out["faces"] = np.concatenate([p["faces"] + np.int32(c) for p, c in zip(parts, counts, strict=False)])
    return Mended(out, None, {"left_open": missing} if missing else {})


# ---------------------------------------------------------------------- holes
def _fill(mesh, holes, smooth, context):
    """A surface with holes filled; a vertex keeps its number, so holes are there still after others are filled."""
    points, faces = mesh["points"].astype(np.float64), mesh["faces"]
    new = np.zeros(len(points), bool)
    for h in holes:
        context.check()
        points, faces, some = filled(points, faces, h, smooth)
        new = some | np.append(new, np.zeros(len(some) - len(new), bool))
    return Mended(_renewed(mesh, points, faces, new), None, {"filled_holes": len(holes)})


def _renewed(mesh, points, faces, new=None):
    """The arrays of a surface made from another one, evened out where its triangles cross each other."""
    changed = ~unmoved(points, mesh)
    points, _ = uncrossed(points, faces, changed[faces].any(1))
    return carried(mesh, points, faces, new)


def _holes(mesh, v, context):
    most = context.length(v["across"])
    some = [h for h in holes_of(mesh["points"], mesh["faces"]) if h.across <= most]
    if not some:
        raise UmbrateError("There is no hole as small as that. The list of holes says how wide they are.")
    return _fill(mesh, some, v["how"] == "smooth", context)


def _hole_at(mesh, v, context):
    place = context.place(v["place"])
    have = holes_of(mesh["points"], mesh["faces"])
    if not have:
        raise UmbrateError("This surface has no hole.")
    # nearest as seen from its size: a place inside a large hole may be nearer to the rim of a small one
    nearest = min(have, key=lambda h: np.linalg.norm(h.middle - place) / max(h.across, 1e-30))
    return _fill(mesh, [nearest], v["how"] == "smooth", context)


# ---------------------------------------------------------------------- the triangles themselves
def _spikes(mesh, v, context):
    points, faces, spikes, slivers = without_spikes(mesh["points"], mesh["faces"], v["steep"], v["angle"])
    return Mended(_renewed(mesh, points, faces), None, {"spikes": int(spikes), "slivers": slivers})


def _smooth(mesh, v, context):
    points = evened(mesh["points"], mesh["faces"], int(v["rounds"]))
    d = np.abs(((points - mesh["points"]) * mesh["normals"]).sum(1))  # along it vertices may go as they like
    did = {"median": float(np.median(d)), "largest": float(d.max())}
    return Mended(carried(mesh, points, mesh["faces"]), None, did)


def _thinned(made, mesh):
    did = {"median": made.median, "largest": made.largest}
    return Mended(carried(mesh, made.points, made.faces), None, did)


def _count(mesh, v, context):
    return _thinned(thinned(mesh["points"], mesh["faces"], int(v["triangles"]), context.check), mesh)


def _share(mesh, v, context):
    count = round(len(mesh["faces"]) * v["percent"] / 100)
    return _thinned(thinned(mesh["points"], mesh["faces"], count, context.check), mesh)


def _tolerance(mesh, v, context):
    return _thinned(thinned_within(mesh["points"], mesh["faces"], context.length(v["most"]), context.check), mesh)


def _even(mesh, v, context):
    length = context.length(v["edge"]) if v["edge"] > 0 else mean_edge(mesh["points"], mesh["faces"])
    expected = float(areas(mesh["points"].astype(float), mesh["faces"]).sum()) / (0.433 * length**2)
    if expected > MOST:
        raise UmbrateError(f"That would be some {expected / 1e6:,.0f} million triangles. Choose longer edges.")
    points, faces = remeshed(mesh["points"], mesh["faces"], length, check=context.check)
    return Mended(_renewed(mesh, points, faces), None, {})


CUT = Value("cut", "The cut", "", "closed", choices=(("closed", "closed flat"), ("open", "left open")))
HOW = Value("how", "Filled", "", "smooth", choices=(("smooth", "as what is round it goes on"), ("flat", "flat")))
MENDS = (
    Filter("pieces", "Small pieces", "Pieces that do not touch the rest.",
           (Value("share", "Smaller than", "% of the area", 1.0, 0.0, 100.0),
            Value("across", "Or across, under", "length", 0.0, 0.0, 1e6)), _chosen(_small)),
    Filter("spikes", "Spikes and slivers", "Vertices that stand out are evened out, triangles without area go.",
           (Value("steep", "Higher than", "x edge", 0.8, 0.2, 10.0), Value("angle", "Angles under", "°", 3.0, 0.0, 20.0)
            ), _spikes),
    Filter("holes", "Fill holes", "All holes that are no wider than this.",
           (Value("across", "Across, up to", "length", 5.0, 0.0, 1e6), HOW), _holes),
    Filter("height", "Below a height", "What lies below a height over the level is cut off.",
           (Value("height", "Height", "length", 0.0, -1e5, 1e5), CUT), _by_planes(_height)),
    Filter("plane", "Beyond a plane", "What lies beyond a plane, on the side its direction points to, is cut off.",
           (Value("normal", "Direction", "", "0,0,1"), Value("offset", "Distance", "length", 0.0, -1e6, 1e6), CUT),
           _by_planes(_plane)),
    Filter("support", "Table and support", "What the object stands on: flat, below it, wider than it.",
           (Value("margin", "And above it by", "length", 0.5, 0.0, 1e5), CUT), _by_planes(_support)),
    Filter("box", "Outside the keep box", "What lies outside of the keep box as it stands now.", (CUT,),
           _by_planes(_box)),
    Filter("smooth", "Smooth", "Evened out; what is round keeps its size.",
           (Value("rounds", "Rounds", "", 5, 1, 200),), _smooth),
    Filter("count", "Thin to a number", "So many triangles, where they matter most.",
           (Value("triangles", "Triangles", "", 100_000, 4, 100_000_000),), _count),
    Filter("share", "Thin by share", "A share of the triangles, where they matter most.",
           (Value("percent", "Keep", "%", 25.0, 0.001, 100.0),), _share),
    Filter("tolerance", "Thin by tolerance", "As few triangles as stay within this of the surface as it is.",
           (Value("most", "At most off", "length", 0.05, 1e-9, 1e5),), _tolerance),
    Filter("even", "Triangles of one size", "For simulation and sculpting: edges of about one length (0: as now).",
           (Value("edge", "Edge", "length", 0.0, 0.0, 1e6),), _even),
    Filter("lasso", "Drawn in the scene", "What is inside a line drawn in the scene.", (), _chosen(_lasso, True), True,
           True),
    Filter("brush", "Painted in the scene", "What was painted over, without what is behind.", (),
           _chosen(_brush, True), True, True),
    Filter("piece", "The piece at a place", "All that is connected with the place that was clicked.", (),
           _chosen(_piece_at), True),
    Filter("hole", "Fill the hole at a place", "The hole nearest to a place.", (HOW,), _hole_at, True),
    Filter("slab", "Section slab", "What lies between two planes.", (CUT,), _slab, True),
)  # fmt: skip
DRAWN = {
    "slab": {"normal": (3,), "low": (), "high": ()},
    "lasso": {"view": (4, 4), "f": (), "middle": (2,), "polygon": (None, 2)},
    "brush": {"view": (4, 4), "f": (), "middle": (2,), "front": (4,), "radius": ()},
    "piece": {"place": (3,)},
    "hole": {"place": (3,)},
}
MENDING = StepBook(MENDS, DRAWN, "mending", "mending steps. Save them from a surface that was mended.")


def facts(mesh):
    """What is said of a surface as it is: triangles, holes, the share of its area that no points hold, its volume."""
    area = areas(mesh["points"].astype(float), mesh["faces"])
    holes = _rims(mesh)
    return {
        "triangles": len(mesh["faces"]),
        "holes": holes,
        "closed": not holes and bool((opposite(mesh["faces"], len(mesh["points"])) >= 0).all()),
        "filled": round(float((area * mesh["filled"][mesh["faces"]].mean(1)).sum() / max(area.sum(), 1e-30)), 5),
        "area": float(area.sum()),
    }


def try_mend(mesh, step, context, check=lambda: None):
    """What a step would make of a surface's arrays, a Mended.

    Raises
    ------
    UmbrateError
        Where nothing would be left or changed.
    """
    step = MENDING.check(step)
    if not len(mesh["faces"]):
        raise UmbrateError("This surface has no triangles left.")
    context.check = check
    made = MENDING.by_name[step["filter"]].work(mesh, step, context)
    if len(made.arrays["faces"]) < FEWEST:
        raise UmbrateError("That would take the whole surface away. Choose other values.")
    before, now = facts(mesh), facts(made.arrays)
    did = {**made.did, "now": now, "area": [before["area"], now["area"]], "filled_before": before["filled"]}
    if made.gone is None and (some := int(crossing(made.arrays["points"], made.arrays["faces"]).sum())):
        did["crossing"] = some
    if before["closed"] and now["closed"]:
        did["volume"] = [volume(m["points"], m["faces"]) for m in (mesh, made.arrays)]
    made.did, made.before = did, before["triangles"]
    return made


def did_text(did, scale, unit):
    """What a step did, in words; scale : of the job's unit to the surface's, to multiply lengths by."""
    if not did:
        return ""
    out, u = [], f" {unit}" if unit else ""
    if "filled_holes" in did:
        n = did["filled_holes"]
        out.append(f"{n} hole{'s' * (n != 1)} filled")
    if "spikes" in did:
        out.append(f"{did['spikes']:,} spikes, {did['slivers']:,} slivers")
    if "largest" in did:
        out.append(f"{did['median'] * scale:.3g}{u} off in the median, {did['largest'] * scale:.3g}{u} at most")
    if "volume" in did:
        a, b = (x * scale**3 for x in did["volume"])
        cube = f" {unit}³" if unit else ""
        out.append(f"volume {a:,.6g} to {b:,.6g}{cube} ({100 * (b / a - 1):+.3f} %)" if a else "")
    if did.get("crossing"):
        out.append(f"{did['crossing']:,} triangles cross others")
    if did.get("left_open"):
        out.append(f"the cut stays open at {did['left_open']} rims, as the surface was open there")
    return "; ".join(x for x in out if x)
