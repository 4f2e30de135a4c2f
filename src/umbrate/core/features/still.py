"""Still features: those that stay at one pixel while the object turns.

On a turntable the backdrop, the table, dust on the sensor and the reflection of a lamp do not move from photo to
photo. A still match is as good a match as any, and with enough of them two photos seem to have been taken from one
place. Seen over the sitting it is plain: the same pixel shows the same thing in photo after photo, while other
matches between these very photos move. Where nothing else moves, the photos really were taken from one place, and
nothing is called still.
"""

import numpy as np

REACH_PX = 1.5  #: a still match moves less than this, in photos 1600 pixels wide
MOVES_PX = 6.0  #: and a match moves for sure from here on
LEAST_MOVING = 15  #: so many matches must move before others of the same photos can be called still
SEEN = 3  #: in so many pairs of photos a still feature has a still match


def still_features(counts, xy, matches, widths):
    """Which features stay where they are.

    Parameters
    ----------
    counts : list of int
        Features of each photo.
    xy : list of (n_i, 2)
        Their pixels, `n_i` at least the count.
    matches : dict of (i, j) to (k, 2) int
        Rows of features that look alike in two photos.
    widths : sequence of int
        Longer side of each photo, pixels.

    Returns
    -------
    still : list of (counts[i],) bool
    share : float
        Of all matches, how many do not move.
    """
    seen = [np.zeros(n, int) for n in counts]
    stays = total = 0
    for (i, j), m in matches.items():
        if widths[i] != widths[j] or not len(m):
            continue
        unit = widths[i] / 1600.0
        away = np.linalg.norm(xy[i][m[:, 0]] - xy[j][m[:, 1]], axis=1)
        still = away < REACH_PX * unit
        stays, total = stays + int(still.sum()), total + len(m)
        if (away > MOVES_PX * unit).sum() < LEAST_MOVING:
            continue
        np.add.at(seen[i], m[still, 0], 1)
        np.add.at(seen[j], m[still, 1], 1)
    return [s >= SEEN for s in seen], stays / max(total, 1)
