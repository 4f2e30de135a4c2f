"""Lamps, gloss and what stands in their way: how a place of the studio is lit, in closed form.

Matte light falls off with the cosine, bent a little round the edge as a soft box's does. Gloss is one lobe about the
mirrored direction (Blinn 1977, normalized) with Schlick's share (1994), which grows where it is looked at from the
side. Nothing is mirrored but lamps: a real glaze shows the room as well.

A capsule (a rod with round ends) stands for an arm, a finger, a stand, or for somebody who walks by. It hides what is
behind it and takes light away; one that is out of the picture only takes light away.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

ROOM, CAMERA, TABLE = "room", "camera", "table"  #: what a lamp is fixed to
AMBIENT = 0.26  #: light from all over the room
PENUMBRA = 9.0  #: the edge of a shadow is so wide, mm


@dataclass(frozen=True)
class Lamp:
    """A lamp: its place (x, y, z) in mm in the frame of what it is fixed to, how strong it is, and how far its light
    reaches round an edge."""

    place: tuple
    strength: float
    fixed_to: str = CAMERA
    wrap: float = 0.25


#: two soft boxes beside the camera
SOFT_BOXES = (Lamp((-260.0, -230.0, 0.0), 0.62), Lamp((300.0, -140.0, 0.0), 0.42))


@dataclass(frozen=True)
class Gloss:
    """How an object shines: the share it mirrors of light straight from above, and the exponent of the lobe."""

    share: float = 0.0
    exponent: float = 300.0


MATTE = Gloss()


@dataclass(frozen=True)
class Capsule:
    """A rod with round ends in the studio, mm. One that is not `seen` is out of the picture."""

    first: tuple
    second: tuple
    radius: float
    seen: bool = True


def lamps_in(lamps, to_camera, to_turning):
    """Lamps (k, 5) in the studio: x, y, z, strength, wrap; from the similarities (4, 4) studio to camera and table."""
    back = {ROOM: np.eye(4), CAMERA: np.linalg.inv(to_camera), TABLE: np.linalg.inv(to_turning)}
    rows = [[*(back[x.fixed_to] @ [*x.place, 1.0])[:3], x.strength, x.wrap] for x in lamps]
    return np.array(rows, float).reshape(-1, 5)


def capsules_in(capsules):
    """Capsules (c, 8): both ends, radius, 1 where seen."""
    return np.array([[*c.first, *c.second, c.radius, c.seen] for c in capsules], float).reshape(-1, 8)


@njit(cache=True, nogil=True, error_model="numpy")
def meet_capsule(c, k, ox, oy, oz, dx, dy, dz):
    """How far along a ray (unit direction) capsule k of c is met, and the normal there; -1 where it is not."""
    ux, uy, uz = c[k, 3] - c[k, 0], c[k, 4] - c[k, 1], c[k, 5] - c[k, 2]
    wx, wy, wz = ox - c[k, 0], oy - c[k, 1], oz - c[k, 2]
    r = c[k, 6]
    uu, ud, uw = ux * ux + uy * uy + uz * uz, ux * dx + uy * dy + uz * dz, ux * wx + uy * wy + uz * wz
    A = uu - ud * ud
    B = uu * (dx * wx + dy * wy + dz * wz) - ud * uw
    C = uu * (wx * wx + wy * wy + wz * wz) - uw * uw - r * r * uu
    h, t, along = B * B - A * C, -1.0, 0.0
    if h < 0 and A > 1e-12 * uu:
        return -1.0, 0.0, 0.0, 0.0
    if A > 1e-12 * uu:
        t = (-B - np.sqrt(h)) / A
        along = (uw + t * ud) / uu
    else:
        along = -1.0 if ud > 0 else 2.0  # along the rod: the end that is nearer
    if along < 0.0 or along > 1.0:
        along = 0.0 if along < 0 else 1.0
        px, py, pz = wx - along * ux, wy - along * uy, wz - along * uz
        b = dx * px + dy * py + dz * pz
        h = b * b - (px * px + py * py + pz * pz - r * r)
        if h < 0:
            return -1.0, 0.0, 0.0, 0.0
        t = -b - np.sqrt(h)
    if t <= 0:
        return -1.0, 0.0, 0.0, 0.0
    nx = (wx + t * dx - along * ux) / r
    ny = (wy + t * dy - along * uy) / r
    nz = (wz + t * dz - along * uz) / r
    return t, nx, ny, nz


@njit(cache=True, nogil=True, error_model="numpy")
def apart(c, k, px, py, pz, qx, qy, qz):
    """The least distance of the stretch from p to q to the axis of capsule k (Ericson 2005, two segments)."""
    ux, uy, uz = c[k, 3] - c[k, 0], c[k, 4] - c[k, 1], c[k, 5] - c[k, 2]
    vx, vy, vz = qx - px, qy - py, qz - pz
    rx, ry, rz = c[k, 0] - px, c[k, 1] - py, c[k, 2] - pz
    a, e = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz
    b, f = ux * vx + uy * vy + uz * vz, vx * rx + vy * ry + vz * rz
    g = ux * rx + uy * ry + uz * rz
    denominator = a * e - b * b
    s = min(1.0, max(0.0, (b * f - g * e) / denominator)) if denominator > 1e-12 * a * e else 0.0
    t = (b * s + f) / e
    if t < 0 or t > 1:
        t = 0.0 if t < 0 else 1.0
        s = min(1.0, max(0.0, (b * t - g) / a)) if a > 0 else 0.0
    x, y, z = rx + s * ux - t * vx, ry + s * uy - t * vy, rz + s * uz - t * vz
    return np.sqrt(x * x + y * y + z * z)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def light_on(lamps, capsules, gloss, exponent, px, py, pz, nx, ny, nz, dx, dy, dz):
    """Matte light on a place with its normal, and what it mirrors into a ray that comes from direction d."""
    matte, shine = AMBIENT, 0.0
    for k in range(lamps.shape[0]):
        wx, wy, wz = lamps[k, 0] - px, lamps[k, 1] - py, lamps[k, 2] - pz
        q = 1.0 / np.sqrt(wx * wx + wy * wy + wz * wz)
        c = (nx * wx + ny * wy + nz * wz) * q
        strength = lamps[k, 3]
        for j in range(capsules.shape[0]):
            off = (apart(capsules, j, px, py, pz, lamps[k, 0], lamps[k, 1], lamps[k, 2]) - capsules[j, 6]) / PENUMBRA
            strength *= min(1.0, max(0.0, off))
        matte += strength * max(0.0, (c + lamps[k, 4]) / (1.0 + lamps[k, 4]))
        if gloss > 0 and c > 0:
            hx, hy, hz = wx * q - dx, wy * q - dy, wz * q - dz  # half way between lamp and eye
            g = 1.0 / np.sqrt(hx * hx + hy * hy + hz * hz)
            h = (nx * hx + ny * hy + nz * hz) * g
            f = 1.0 - (wx * hx + wy * hy + wz * hz) * q * g
            share = gloss + (1.0 - gloss) * f**5
            if h > 0:
                shine += strength * share * (exponent + 8.0) / 8.0 * h**exponent * c
    return matte, shine
