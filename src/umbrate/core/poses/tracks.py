"""Tracks: the sightings of one place in many photos, joined from matches of two."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components


@dataclass(frozen=True)
class Tracks:
    """Sightings grouped by track.

    Attributes
    ----------
    start : (t + 1,) int64
        Sightings of track i are rows ``start[i]:start[i + 1]``.
    photo, feature : (k,) int64
        Photo of each sighting and the row of its key point there.
    """

    start: np.ndarray
    photo: np.ndarray
    feature: np.ndarray

    def __len__(self):
        return len(self.start) - 1


def build_tracks(counts, matches):
    """Join matches into tracks.

    Parameters
    ----------
    counts : sequence of int
        Number of key points of each photo.
    matches : dict of (i, j) to (k, 2) int arrays
        Verified matches of photo pairs.

    Returns
    -------
    Tracks
        With two or more photos each. A photo seen twice by one track is contradictory, and so is
        everything its false match joined: such tracks are left out.
    """
    base = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    pairs = sorted(matches)
    if not pairs:
        return Tracks(np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))
    a = np.concatenate([matches[p][:, 0].astype(np.int64) + base[p[0]] for p in pairs])
    b = np.concatenate([matches[p][:, 1].astype(np.int64) + base[p[1]] for p in pairs])
    n = int(base[-1])
    _, label = connected_components(coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(n, n)), directed=False)
    node = np.unique(np.concatenate([a, b]))
    photo = np.searchsorted(base, node, side="right") - 1
    lab = label[node]
    order = np.lexsort((photo, lab))
    node, photo, lab = node[order], photo[order], lab[order]
    double = np.zeros(label.max() + 1, bool)
    double[lab[1:][(lab[1:] == lab[:-1]) & (photo[1:] == photo[:-1])]] = True
    size = np.bincount(lab, minlength=len(double))
    keep = (~double & (size >= 2))[lab]
    node, photo, lab = node[keep], photo[keep], lab[keep]
    first = np.flatnonzero(np.r_[True, lab[1:] != lab[:-1]]) if len(lab) else np.zeros(0, np.int64)
    return Tracks(
        np.append(first, len(lab)).astype(np.int64), photo.astype(np.int64), (node - base[photo]).astype(np.int64)
    )
