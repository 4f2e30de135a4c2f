"""Where to stand next, in words, seen from where the last photo was taken."""

import numpy as np

from ..core.geometry.pose import center

SAME_DEG, SAME_SHARE = 4.0, 0.12  #: differences that nobody can hold to
BELOW_DEG = -5.0  #: nobody stands below the table


def _round(degrees):
    """Degrees as people can turn: in steps of five."""
    return f"{5 * round(degrees / 5):.0f}°"


def _share(ratio):
    """How much nearer or farther, in words."""
    nearer = ratio < 1
    part = 1 - ratio if nearer else ratio - 1
    words = {0.25: "a quarter", 1 / 3: "a third", 0.5: "half", 1.0: "as much again"}
    near = min(words, key=lambda w: abs(w - part))
    told = words[near] if abs(near - part) < 0.08 else f"{10 * round(10 * part):.0f} %"
    return f"{'closer' if nearer else 'farther'} by {told}"


def angles_of(eye, middle):
    """Azimuth and height of a place over an object's middle, degrees, and its distance; z is up."""
    d = np.asarray(eye, float) - np.asarray(middle, float)
    r = float(np.linalg.norm(d))
    return float(np.degrees(np.arctan2(d[1], d[0]))), float(np.degrees(np.arcsin(np.clip(d[2] / r, -1, 1)))), r


def move_text(last, wanted, middle, turntable=False):
    """How to get from the last photo's place to a wanted one.

    Parameters
    ----------
    last, wanted : (4, 4)
        Poses, world to camera; z of the world is up.
    middle : (3,)
        Of the object.
    turntable : bool
        Whether the object turns and the camera stands: then it is turned the other way.

    Returns
    -------
    str
        Such as "40° to the right, 20° lower, closer by a third"; seen by who holds the camera.
    """
    a0, h0, r0 = angles_of(center(last), middle)
    a1, h1, r1 = angles_of(center(wanted), middle)
    round_ = (a1 - a0 + 180) % 360 - 180
    steep = max(abs(h0), abs(h1)) > 75  # from above there is no side
    words = []
    if abs(round_) > SAME_DEG and not steep:
        if turntable:
            words.append(f"turn it {_round(abs(round_))} {'clockwise' if round_ > 0 else 'counterclockwise'}")
        elif abs(round_) > 150:
            words.append("from the opposite side")
        else:
            words.append(f"{_round(abs(round_))} to the {'right' if round_ > 0 else 'left'}")
    if h1 > 75:
        words.append("from straight above")
    elif h1 < BELOW_DEG:
        words.append("as low as you can")
    elif abs(h1 - h0) > SAME_DEG:
        words.append(f"{_round(abs(h1 - h0))} {'higher' if h1 > h0 else 'lower'}")
    if abs(r1 / r0 - 1) > SAME_SHARE:
        words.append(_share(r1 / r0))
    return ", ".join(words) or "from the same place"


def next_turn(poses, axis, foot):
    """How far to turn next on a turntable: the middle of the widest gap that the photos of a round leave.

    Parameters
    ----------
    poses : list of (4, 4)
        Of the photos, in the order they were taken, in the frame of what turns.
    axis, foot : (3,)
        Direction of the turntable's axis, and a place on it.

    Returns
    -------
    degrees, left : float, int
        How far from the last photo, positive where the disc turns clockwise seen from above; and how many such steps
        are left until the round is closed. 0, 0 when it is.
    """
    if len(poses) < 2:
        return 0.0, 0
    axis = np.asarray(axis, float) / np.linalg.norm(axis)
    x = np.cross(axis, [1.0, 0.0, 0.0] if abs(axis[0]) < 0.9 else [0.0, 1.0, 0.0])
    x /= np.linalg.norm(x)
    y = np.cross(axis, x)
    d = np.array([center(E) for E in poses]) - foot
    at = np.degrees(np.arctan2(d @ y, d @ x))
    height = np.degrees(np.arcsin(np.clip(d @ axis / np.linalg.norm(d, axis=1), -1, 1)))
    ring = np.abs(height - height[-1]) < 8.0  # photos of the round that is under way
    return turn_to_close(at[ring])


def turn_to_close(at):
    """How far to turn next, and how many such steps are left, as `next_turn` gives it.

    at : (n,) degrees
        How far the disc had been turned clockwise at each photo of a round, in the order they were taken.
    """
    at = np.asarray(at, float)
    if not len(at):
        return 0.0, 0
    steps = np.abs((np.diff(at) + 180) % 360 - 180) if len(at) > 1 else np.array([30.0])
    steps = steps[steps > 1.0]
    step = float(np.median(steps)) if len(steps) else 30.0
    order = np.sort(at % 360)
    gaps = np.diff([*order, order[0] + 360])
    k = int(np.argmax(gaps))
    if gaps[k] < 1.5 * step:
        return 0.0, 0
    left = round(gaps[k] / step) - 1
    toward = (order[k] + step - at[-1] + 180) % 360 - 180
    back = (order[(k + 1) % len(order)] - step - at[-1] + 180) % 360 - 180
    return (toward if abs(toward) <= abs(back) else back), left
