"""What is known of lenses: by what photos' files say, by a card, by what the sightings of other blocks tell.

Knowledge of a lens is a mean and an information matrix, the inverse of a covariance: what nobody knows has no
information, and what several sources know is added. Photos that were all held level leave a tilt of the whole block
open, which a shifted principal point and decentering undo: no single parameter is badly known then, but one direction
among all of them is. So what one block hands on to another is the full matrix.
"""

from typing import NamedTuple

import numpy as np

from ..geometry.lens import N_PARAMETERS

#: lens parameters are compared in such steps, so that matrices are not dominated by their units: f cx cy, k1 k2 k3,
#: p1 p2, b1 b2
STEPS = np.array([1.0, 1.0, 1.0, 0.01, 0.1, 1.0, 1e-4, 1e-4, 1.0, 1.0])
LITTLE = 1e-4  #: information of a direction, in those steps, that says nothing: known to a hundred steps
NOTHING = 1e-10  #: information of a direction, as a share of the largest one, that is rounding


class LensPrior(NamedTuple):
    """What is known of m lenses: `mean` (m, 10), and `information` (m, 10, 10), zero where nothing is known."""

    mean: np.ndarray
    information: np.ndarray

    @classmethod
    def of_sigmas(cls, mean, sigma):
        """Of standard deviations (m, 10) or (10,), independent of each other; infinite where nothing is known."""
        mean = np.asarray(mean, float)
        weight = 1.0 / np.broadcast_to(np.asarray(sigma, float), mean.shape) ** 2
        return cls(mean, weight[:, :, None] * np.eye(N_PARAMETERS))

    def plus(self, others):
        """With what other LensPriors of the same lenses know; the means where nobody knows anything stay."""
        information = self.information + sum(o.information for o in others)
        push = sum(np.einsum("mij,mj->mi", o.information, o.mean - self.mean) for o in others)
        if not len(others):
            return self
        return LensPrior(self.mean + _solved(information, push), information)

    def of(self, lenses):
        """That of some of the lenses."""
        return LensPrior(self.mean[lenses], self.information[lenses])


def _scaled(information):
    return information * STEPS[:, None] * STEPS


def _solved(information, right):
    """The least x (m, 10), in steps, with `information` x = `right`."""
    out = np.zeros_like(right)
    for m, (A, b) in enumerate(zip(_scaled(information), right * STEPS, strict=True)):
        values, axes = np.linalg.eigh(A)
        known = values > NOTHING * max(values[-1], 1e-300)
        along = axes[:, known]
        out[m] = STEPS * (along @ ((along.T @ b) / values[known]))
    return out


def disagreement(a, b):
    """How far two LensPriors of one lens each contradict each other: chi square, and in how many directions it counts.

    At the lens that suits both best, what either misses it by. Directions that one of them does not know do not count.
    """
    both = a.plus([b])
    chi = 0.0
    for x in (a, b):
        d = both.mean[0] - x.mean[0]
        chi += float(d @ x.information[0] @ d)
    rank = [(np.linalg.eigvalsh(_scaled(x.information[0])) > LITTLE).sum() for x in (a, b)]
    return chi, int(min(rank))


def spreads(prior):
    """Standard deviations (m, 10) of the parameters; infinite where a parameter is not known by itself."""
    out = np.full(prior.mean.shape, np.inf)
    for m, A in enumerate(_scaled(prior.information)):
        values, axes = np.linalg.eigh(A)
        known = values > NOTHING * max(values[-1], 1e-300)
        open_ = (axes[:, ~known] ** 2).sum(1) > 1e-9
        out[m] = np.where(open_, np.inf, STEPS * np.sqrt((axes[:, known] ** 2 / values[known]).sum(1)))
    return out


def gain(before, after):
    """How many times better the worst known direction of a lens is known `after` than `before`, (1, 10, 10) each.

    Directions that neither knows do not count.
    """
    a, b = _scaled(before.information[0]), _scaled(after.information[0])
    values, axes = np.linalg.eigh(b)
    known = values > NOTHING * max(values[-1], 1e-300)
    root = axes[:, known] / np.sqrt(values[known])
    least = np.linalg.eigvalsh(root.T @ a @ root)[0] if known.any() else 1.0
    return float(1.0 / np.sqrt(max(least, 1e-12)))
