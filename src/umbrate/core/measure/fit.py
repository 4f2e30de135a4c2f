"""A solved block adjusted to what is known of it: lengths between its points, and coordinates of some.

The sightings, the lengths and the coordinates are adjusted together, each with its sigma. Beforehand the known lengths
are held against the free block: one that contradicts the others beyond chance is left out, so that a typing error
does not bend the object. Then the block is of the right size, and the adjustment only spreads what is left.
"""

from dataclasses import dataclass, replace

import numpy as np

from ..geometry.similarity import fit_similarity, scale_of
from ..poses.adjust import adjust
from ..poses.block import Block
from ..poses.covariance import Covariance, shifted
from ..poses.reprojection import CAUCHY, Loss
from .datum import SURE, Judged, Lengths, directions, fit_scale, judge
from .network import Network, seen_point

ROBUST = Loss(CAUCHY, 2.5)  #: of sightings
BENT_PX = 0.05  #: where sightings are predicted so much elsewhere, in the root mean square, the block counts as bent
LEAVE_OUT = 5.0  #: a length off by so many of its own sigmas is no part of the adjustment


@dataclass
class Fitted:
    """What fitting a block to its known lengths and points gives.

    Attributes
    ----------
    block : Block
        Of the solved photos; in mm where anything is known, in its own frame where no points are.
    residual : (k, 2)
        Seen minus predicted.
    covariance : Covariance
        Without the known lengths and points.
    judged : Judged or None
        Of the lengths, those left out included, then three for each known point.
    left_out : (l,) bool
        Lengths that contradict the others beyond chance.
    contradict : bool
        Lengths contradict each other, but too few are known to tell which is wrong.
    scaled : bool
    bent_px : float
        Root mean square by which the known moved where sightings are predicted.
    """

    block: Block
    residual: np.ndarray
    covariance: Covariance
    judged: Judged | None
    left_out: np.ndarray
    contradict: bool
    scaled: bool
    bent_px: float

    @property
    def network(self):
        """The Network of its photos."""
        b = self.block
        return network_of(b, self.covariance)


def network_of(b, cov):
    """The Network of a block and its Covariance."""
    return Network(b.poses, b.lenses, b.lens_of, cov.cameras, np.array(sorted(b.free_lens), np.int64), cov.unit)


def screen(points, cov, lengths):
    """Which lengths (l,) bool are left out, one after the other, and whether some contradict without telling which."""
    out = np.zeros(len(lengths), bool)
    while True:
        left = np.flatnonzero(~out)
        if len(left) < 2:
            return out, False
        some = Lengths(*(np.asarray(x)[left] for x in (lengths.first, lengths.second, lengths.value, lengths.sigma)))
        if len(left) >= 3 and _far(points, some):
            # where one is grossly off, weights say little: the one that the median contradicts most
            ratio = np.log(some.value / directions(points, some)[0])
            out[left[int(np.argmax(np.abs(ratio - np.median(ratio))))]] = True
            continue
        _, judged = fit_scale(points, cov, some)
        worst = int(np.argmax(np.abs(judged.sigmas)))
        if abs(judged.sigmas[worst]) < LEAVE_OUT:
            return out, bool(abs(judged.sigmas[worst]) > SURE)
        if len(left) == 2:
            return out, True
        out[left[worst]] = True


def _far(points, lengths):
    """Whether lengths differ by more than 2 % from their median scale: then none of them is what it says."""
    ratio = lengths.value / directions(points, lengths)[0]
    return bool((np.abs(ratio / np.median(ratio) - 1) > 0.02).any())


def fit_known(block, lengths, known=None, stop=None):
    """Adjust a block together with known lengths and points.

    Parameters
    ----------
    block : Block
        Of solved photos only (`Block.of_solved`).
    lengths : Lengths
        Between points of the block; may be empty.
    known : (rows (q,), places (q, 3), sigmas (q, 3)), optional
        Points with known coordinates, three or more, not in line.

    Returns
    -------
    Fitted

    Known points are adjusted to in a frame of their own, with its origin between them and their spread as its unit:
    coordinates of a map are far from zero, where a photo's turn and its place can hardly be told apart.
    """
    if known is None:
        return _fit(block, lengths, None, stop)
    rows, places, sigma = known
    places, sigma = np.asarray(places, float), np.asarray(sigma, float)
    middle = places.mean(0)
    size = float(np.sqrt(((places - middle) ** 2).sum(1).mean())) or 1.0
    inner = _fit(
        block, Lengths(lengths.first, lengths.second, lengths.value / size, np.asarray(lengths.sigma) / size),
        (rows, (places - middle) / size, sigma / size), stop,
    )  # fmt: skip
    M, j = np.diag([size, size, size, 1.0]), inner.judged
    out = inner.block.moved(M)
    cov = shifted(out.covariance(), out.poses, middle)
    M = np.eye(4)
    M[:3, 3] = middle
    judged = Judged(j.residual * size, j.sigmas, j.part, j.scale_sigma)
    return replace(inner, block=out.moved(M), judged=judged, covariance=cov)


def _fit(block, lengths, known, stop):
    """`fit_known` in the frame that known points are given in."""
    b = block
    before = b
    first = adjust(b.state, b.observations, b.free_lens, held=b.held, loss=ROBUST, max_rounds=15, stop=stop)
    b = replace(b, poses=first.poses, lenses=first.lenses, points=first.points)
    scaled = bool(len(lengths)) or known is not None
    out, contradict, judged = np.zeros(len(lengths), bool), False, None
    if not scaled:
        # photos alone say nothing of place and size: the block stays where it was
        b = b.moved(fit_similarity(b.points, before.points))
        return Fitted(b, first.residuals, b.covariance(), None, out, False, False, _bend(before, b))
    free = b.covariance(of_points=False)
    unit = free.unit
    ends = np.unique(np.concatenate([lengths.first, lengths.second, known[0] if known else []]).astype(int))
    at = {p: k for k, p in enumerate(ends.tolist())}
    cov = network_of(b, free).joint([seen_point(b, p) for p in ends])
    few = Lengths(
        np.array([at[p] for p in lengths.first], int), np.array([at[p] for p in lengths.second], int),
        np.asarray(lengths.value, float), np.asarray(lengths.sigma, float),
    )  # fmt: skip
    if known is not None:
        M = fit_similarity(b.points[known[0]], known[1])
        if len(lengths):
            out, contradict = screen(scale_of(M) * b.points[ends], scale_of(M) ** 2 * cov, few)
    else:
        out, contradict = screen(b.points[ends], cov, few)
        s, _ = fit_scale(b.points[ends], cov, _some(few, ~out))
        # the plain frame and its origin stay: only the size changes
        M = np.diag([s, s, s, 1.0]) @ fit_similarity(b.points, before.points)
    T = np.kron(np.eye(len(ends)), M[:3, :3])
    turned = T @ cov @ T.T
    b = b.moved(M)
    use = ~out & ~np.full(len(out), contradict)
    held = replace(
        b.held,
        points=None if known is None else (known[0], known[1], np.asarray(known[2]) / unit),
        lengths=(lengths.first[use], lengths.second[use], lengths.value[use], np.asarray(lengths.sigma)[use] / unit)
        if use.any()
        else None,
    )
    result = adjust(b.state, b.observations, b.free_lens, held=held, loss=ROBUST, stop=stop)
    fitted = replace(b, poses=result.poses, lenses=result.lenses, points=result.points)
    if known is None:
        # lengths leave place and turn open
        fitted = fitted.moved(fit_similarity(fitted.points, b.points, with_scale=False))
    judged = _judged(turned, b.points[ends], few, out, known, at)
    return Fitted(fitted, result.residuals, fitted.covariance(), judged, out, contradict, True, _bend(before, fitted))


def _some(lengths, rows):
    return Lengths(*(np.asarray(x)[rows] for x in (lengths.first, lengths.second, lengths.value, lengths.sigma)))


def _judged(cov, points, lengths, out, known, at):
    """A Judged of all lengths, those left out against the others, and of the known points."""
    rows = None if known is None else (np.array([at[p] for p in known[0]]), known[1], known[2])
    count = len(lengths)
    used = _some(lengths, ~out)
    inner = judge(points, cov, used if len(used) else None, rows)
    residual, sigmas, part = (np.full(count + 3 * (0 if rows is None else len(rows[0])), np.nan) for _ in range(3))
    n = int((~out).sum())
    residual[:count][~out], sigmas[:count][~out], part[:count][~out] = (
        inner.residual[:n], inner.sigmas[:n], inner.part[:n],
    )  # fmt: skip
    residual[count:], sigmas[count:], part[count:] = inner.residual[n:], inner.sigmas[n:], inner.part[n:]
    if out.any():
        length, J = directions(points, _some(lengths, out))
        own = np.einsum("li,ij,lj->l", J, cov, J) + (length * inner.scale_sigma) ** 2
        left = lengths.value[out] - length
        residual[:count][out] = left
        sigmas[:count][out] = left / np.sqrt(own + lengths.sigma[out] ** 2)
        part[:count][out] = 1.0
    return Judged(residual, sigmas, part, inner.scale_sigma)


def _bend(before, after):
    """Root mean square shift in pixels of where sightings are predicted, beyond a similarity."""
    M = fit_similarity(before.points, after.points)
    b = before.moved(M)
    off = np.linalg.norm(b.points - after.points, axis=1)[after.point]
    E = after.poses[after.photo]
    z = np.einsum("ki,ki->k", E[:, 2, :3], after.points[after.point]) + E[:, 2, 3]
    return float(np.sqrt(np.mean((off / z * after.lenses[after.lens_of[after.photo], 0]) ** 2)))
