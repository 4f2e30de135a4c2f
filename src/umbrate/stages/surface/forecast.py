"""What a surface will cost before it is made: time, memory and triangles, by this machine's own speed."""

from dataclasses import dataclass, replace

import numpy as np

from ...core.dense.speed import machine_speed
from ...core.errors import UmbrateError
from ...core.memory import free_memory
from ...core.surface.build import TRIANGLES
from ..base import Forecast

DEPTH_SPEED = 7.1e6  #: hypotheses a second of one thread of the machine this was measured on
PHOTOGRAPHS = 1.4  #: their depth goes so much faster than that of the probe of `machine_speed`
#: what a point and a triangle take, in parts of a second of the machine this was measured on
POINT, TRIANGLE = 5e-6, 2.4e-5
BASE = 250e6  #: bytes: the program and its libraries
POINT_BYTES, TRIANGLE_BYTES = 150, 260  #: at the peak of a run, measured at 1 and 5 million points
SPARE = 0.9
SHORTEST = 2.0  #: seconds: runs that are shorter tell little of the machine's speed


@dataclass(frozen=True)
class Cost:
    """Triangles, seconds and bytes of a run."""

    triangles: float
    seconds: float
    bytes: float


def work(points, triangles):
    """How much there is to do, in seconds of the machine this was measured on."""
    return POINT * points + TRIANGLE * triangles


def cost(points, cell, speed):
    """The Cost of a surface of so many points in cells of so many spacings; speed : of `speed_of`."""
    triangles = TRIANGLES * points / cell**2
    return Cost(triangles, work(points, triangles) / speed, BASE + POINT_BYTES * points + TRIANGLE_BYTES * triangles)


def speed_of(depth_speed):
    """How fast this machine is against the one that `work` was measured on.

    depth_speed : hypotheses a second of one thread that it tried when it computed depth, or None
    """
    return (depth_speed or PHOTOGRAPHS * machine_speed()) / DEPTH_SPEED


def finest(points, free):
    """The finest cells, in spacings, that memory holds."""
    room = (free - BASE - POINT_BYTES * points) / TRIANGLE_BYTES
    return float(np.sqrt(TRIANGLES * points / room)) if room > 1000 else np.inf


def check_memory(points, cell, length, free=None):
    """Raise UmbrateError where memory does not hold a surface of such cells, with the finest that it holds.

    length : of a spacing in the job's unit
    """
    free = SPARE * (free_memory() if free is None else free)
    c = cost(points, cell, 1.0)
    if c.bytes <= free:
        return
    best = 1.02 * finest(points, free)
    text = (
        f"This would make {c.triangles / 1e6:.1f} million triangles and needs some {c.bytes / 1e9:.1f} GB of memory; "
    )
    text += f"{max(free, 0) / 1e9:.1f} GB are free."
    if not np.isfinite(best):
        raise UmbrateError(f"{text} No surface of this cloud fits: close other programs, or thin the cloud.")
    raise UmbrateError(
        f"{text} Cells of {best:.2f} spacings ({best * length:.2g} of the unit) fit.", ("set", "cell", round(best, 2))
    )


def told(c):
    """A Cost in words."""
    t = c.seconds
    many = f"{c.triangles / 1e6:.1f} million" if c.triangles >= 1e6 else f"{c.triangles / 1e3:,.0f} thousand"
    return f"some {many} triangles, {f'{max(t, 1):.0f} s' if t < 90 else f'{t / 60:.0f} min'}, {c.bytes / 1e9:.1f} GB"


def forecast_of(points, cell, speed, length, unit, before=0.0):
    """The Forecast of a run.

    speed : of `speed_of`; length : of a spacing in the job's unit; before : seconds until there are points
    """
    c = cost(points, cell, speed)
    c = replace(c, seconds=c.seconds + before)
    wide = f"{cell * length:#.2g} {unit}" if unit else f"{cell:.2g} spacings"
    text = f"Estimate for this machine: cells of {wide}, {told(c)}"
    try:
        check_memory(points, cell, length)
    except UmbrateError as e:
        return Forecast(f"{text}\n{e}", False, e.remedy)
    return Forecast(text)
