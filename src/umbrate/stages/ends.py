"""Ends of lengths and measurements: what a text or a spot stands for in a block, and how sure it is there.

An end is written as people do: a target's number (``208``), the name of a marked point (``P1``), or a spot on the
cloud, ``{"cloud": [x, y, z]}`` in the plain frame of the poses.
"""

import numpy as np

from ..core.errors import UmbrateError
from ..core.measure.network import Network, Place
from .frames import place_of_end


def end_text(end):
    """An end as people read it."""
    if isinstance(end, dict):
        return "cloud"
    return f"target {end}" if str(end).isdigit() else str(end)


def network_of(job, result, block):
    """The Network of a block's photos and the row of each photo there, from the covariance kept with a result.

    Raises
    ------
    UmbrateError
        Where the result was made before covariances were kept.
    """
    key = result.blob("covariance")
    if key is None:
        raise UmbrateError("These poses were solved by an older version. Run Poses again to measure.", ("run again",))
    a = job.blobs.get_arrays(key)
    on = np.isfinite(block["poses"][:, 0, 0])
    row = np.full(len(on), -1)
    row[on] = np.arange(int(on.sum()))
    network = Network(
        block["poses"][on], block["lenses"], block["lens_of"][on], a["cameras"], a["free"], float(a["unit"])
    )
    return network, row


def place_of_row(block, row, p):
    """The Place of a block's point."""
    rows = slice(*np.searchsorted(block["point"], [p, p + 1]))
    return Place(
        block["points"][p], row[block["photo"][rows]], block["xy"][rows].astype(float),
        block["sigma"][rows].astype(float),
    )  # fmt: skip


def place_of_text(block, row, marks, end):
    """The Place of a target or a marked point.

    Raises
    ------
    UmbrateError
        Where the block does not have it.
    """
    p = place_of_end(block, marks, end)
    if p is None:
        text = str(end)
        if text.isdigit():
            raise UmbrateError(f"Target {text} is not in the block: it was found in fewer than two solved photos.")
        if text in marks:
            raise UmbrateError(f"“{text}” is not in the block yet: mark it in two solved photos and run Scale.")
        raise UmbrateError(f"There is no point “{text}”. Ends are a target's number or the name of a marked point.")
    return place_of_row(block, row, p)
