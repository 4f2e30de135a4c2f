"""Ramps of color for what was measured, and the shading of surfaces without color."""

import numpy as np
from numba import njit, prange

LIGHT = np.array([0.35, -0.5, 0.8]) / np.linalg.norm([0.35, -0.5, 0.8])
UNKNOWN = (70, 70, 74)  #: of points that have no value


def _ramp(*anchors):
    """256 colors (256, 3) uint8 through anchors, even steps between them."""
    a = np.array([[int(x[k : k + 2], 16) for k in (1, 3, 5)] for x in anchors], float)
    at = np.linspace(0, len(a) - 1, 256)
    return np.stack([np.interp(at, range(len(a)), a[:, k]) for k in range(3)], 1).astype(np.uint8)


RAMP = _ramp("#1B2440", "#28527A", "#3F8A8C", "#9DBB6B", "#F6EBA6")  #: of a measured property, light is more
SIGNED = _ramp("#3C8FD0", "#5F86A8", "#8A8A8A", "#B5875A", "#E08A2E")  #: of a difference, gray is none


def ramp_colors(values, low, high, ramp=RAMP):
    """Colors (n, 3) uint8 of values along a ramp from `low` to `high`; UNKNOWN where a value is not finite."""
    values = np.ascontiguousarray(values, np.float32)
    out = np.empty((len(values), 3), np.uint8)
    _along(values, np.float32(low), np.float32(max(high - low, 1e-30)), ramp, np.array(UNKNOWN, np.uint8), out)
    return out


@njit(cache=True, nogil=True, parallel=True)
def _along(values, low, width, ramp, unknown, out):
    for i in prange(len(values)):
        v = values[i]
        if np.isfinite(v):
            x = min(max((v - low) / width, np.float32(0)), np.float32(1))
            k = int(x * np.float32(255))
            for c in range(3):
                out[i, c] = ramp[k, c]
        else:
            for c in range(3):
                out[i, c] = unknown[c]


def relief(normals):
    """Gray (n, 3) uint8 of a matte surface with normals (n, 3), lit from the upper right of the front."""
    shade = 0.25 + 0.75 * np.clip(normals @ LIGHT.astype(np.float32), 0, 1)
    return np.repeat((225 * shade).astype(np.uint8)[:, None], 3, axis=1)


def directions(normals):
    """Colors (n, 3) uint8 that stand for the direction of normals (n, 3): x red, y green, z blue."""
    return np.clip(127.5 + 127.5 * np.asarray(normals, np.float32), 0, 255).astype(np.uint8)
