"""Which photo each triangle of a surface is taken from.

A photo counts by how much of a triangle it shows; next to each other triangles rather have one photo. What a photo
shows in another color than most do, a highlight that moves or a hand, is not taken from it. The whole is a sum of
costs that is made small by letting all triangles go over to one photo at a time, those that gain by it, each time the
best set of them that there is (Boykov, Veksler and Zabih 2001, by graph cuts).
"""

import warnings

import maxflow
import numpy as np

PAIR = 1.2  #: cost of two photos on either side of an edge of usual length, in logarithms of pixels
SWEEPS = 2
WORTH = 1.5  #: a photo that costs so much more than the best for a triangle is not looked at: a fifth of the pixels
STRANGE, ROUGH = 22.0, 3.0  #: levels a photo may be off the median of all: at least, and times their usual distance
ENOUGH = 3  #: photos from which on it can be said which of them is strange
SAMPLE = 6_000  #: triangles by which exposures are compared
UNIT = 1000  #: of whole numbers for one of cost


def exposures(color, good, rounds=8):
    """Factors (p, 3) on the colors of photos that make them alike where they show the same triangles.

    Parameters
    ----------
    color : (p, t, 3) uint8
    good : (p, t) float32
        0 where a photo does not show a triangle.
    """
    n = len(color)
    log = np.log(np.maximum(color, 4).astype(np.float32))
    log[(good <= 0) | (color.max(2) > 250) | (color.min(2) < 6)] = np.nan
    some = np.flatnonzero((np.isfinite(log[:, :, 0])).sum(0) >= 2)
    some = some[:: max(1, len(some) // SAMPLE)]
    log, gain = log[:, some], np.zeros((n, 3), np.float32)
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of triangles that no photo shows
        for _ in range(rounds):
            middle = np.nanmedian(log + gain[:, None], axis=0)
            gain = np.nan_to_num(np.nanmedian(middle[None] - log, axis=1))
            gain -= np.median(gain, axis=0)
    return np.exp(gain).astype(np.float64)


def strange(color, good, gain):
    """Where a photo shows a triangle in another color than most photos do, (p, t) bool; of two nobody can say.

    color, good, gain : see `exposures`
    """
    out = np.zeros(good.shape, bool)
    for k in range(0, good.shape[1], 20_000):
        part = slice(k, k + 20_000)
        seen = good[:, part] > 0
        c = np.where(seen[:, :, None], color[:, part] * gain[:, None].astype(np.float32), np.nan)
        with np.errstate(all="ignore"), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            middle = np.nanmedian(c, axis=0)
            off = np.abs(c - middle[None]).max(2)
            usual = np.nanmedian(off, axis=0)
        limit = np.maximum(STRANGE, ROUGH * np.nan_to_num(usual))
        out[:, part] = seen & (off > limit[None]) & (seen.sum(0) >= ENOUGH)
    return out


def _expanded(label, k, D, edges, weight):
    """Labels after the best set of triangles has gone over to photo k. D (p, t) costs, infinite where not allowed."""
    can = np.isfinite(D[k]) & (label != k)
    nodes = np.flatnonzero(can)
    if not len(nodes):
        return label
    number = np.full(len(label), -1)
    number[nodes] = np.arange(len(nodes))
    stay, go = D[label[nodes], nodes].astype(np.float64), D[k, nodes].astype(np.float64)
    a, b = number[edges[:, 0]], number[edges[:, 1]]
    la, lb = label[edges[:, 0]], label[edges[:, 1]]
    for x, lx, ly, y in ((a, la, lb, b), (b, lb, la, a)):
        one = (x >= 0) & (y < 0)  # the other one cannot move
        np.add.at(stay, x[one], weight[one] * (lx[one] != ly[one]))
        np.add.at(go, x[one], weight[one] * (ly[one] != k))
    both = (a >= 0) & (b >= 0)
    a, b, w, same = a[both], b[both], weight[both], la[both] == lb[both]
    # two photos there now: it costs w whatever one of them does alone, nothing where both go
    np.add.at(go, b[~same], -w[~same])
    forth = w
    back = np.where(same, w, 0.0)
    low = np.minimum(stay, go)
    stay, go = stay - low, go - low
    n = len(nodes)
    # a node on the sink's side goes: what it costs to go is cut from the source's side
    cuts = maxflow.GraphInt(n, len(a))
    cuts.add_nodes(n)
    go, stay, forth, back = (np.round(x * UNIT).astype(np.int64) for x in (go, stay, forth, back))
    cuts.add_grid_tedges(np.arange(n), go, stay)
    cuts.add_edges(a, b, forth, back)
    cuts.maxflow()
    goes = cuts.get_grid_segments(np.arange(n))
    out = label.copy()
    out[nodes[goes]] = k
    return out


def total_cost(label, D, edges, weight):
    """What a choice of photos costs."""
    seen = label >= 0
    rows = np.flatnonzero(seen)
    return float(D[label[rows], rows].sum() + weight[label[edges[:, 0]] != label[edges[:, 1]]].sum())


def costs_of(good, allowed):
    """Costs (p, t) of taking triangles from photos: the logarithm of how many fewer pixels than the best; infinite
    where it is not allowed."""
    q = np.where(allowed, good, 0)
    best = q.max(0)
    with np.errstate(divide="ignore", invalid="ignore"):
        out = np.where(q > 0, np.log(best[None] / q), np.inf).astype(np.float32)
    return np.where(out <= WORTH, out, np.float32(np.inf))


def chosen_photos(good, allowed, edges, length, sweeps=SWEEPS):
    """The photo (t,) int64 that each triangle is taken from, -1 where none shows it.

    Parameters
    ----------
    good : (p, t) float32
        See `views.seen_in`.
    allowed : (p, t) bool
        Which of those may be taken.
    edges : (m, 2)
        Triangles beside each other.
    length : (m,)
        Of what they have in common.
    """
    D = costs_of(good, allowed & (good > 0))
    some = np.isfinite(D).any(0)
    label = np.where(some, np.nan_to_num(D, posinf=1e9).argmin(0), -1)
    part = some[edges].all(1)
    edges, length = edges[part], length[part]
    weight = PAIR * length / max(float(length.mean()) if len(length) else 1.0, 1e-30)
    used, settled = np.flatnonzero(np.isfinite(D).any(1)), set()
    for _ in range(sweeps):
        for k in used:
            if k in settled:
                continue  # nothing that could go over to it has changed since it was tried
            after = _expanded(label, k, D, edges, weight)
            if (after != label).any():
                settled.clear()
            settled.add(k)
            label = after
    return label
