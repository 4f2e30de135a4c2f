"""Hard objects and careless photos: the sets of the gauntlet. `HARD` lists them by name.

Each is made to fail in one way that technicians meet, and nothing else is wrong with it.
"""

from dataclasses import replace

import numpy as np
import scipy

from ..core.geometry.lens import Lens
from .lamps import ROOM, TABLE, Capsule, Gloss, Lamp
from .scene import Scene, SimulatedSitting, bowl, hand_shots, turntable_mat, turntable_shots, whistle
from .shapes import HANDLED, JUG, MARKED, MOTIF, PEBBLE, WHITE
from .surroundings import Surroundings

LENS = Lens(1200, 900, 2000.0, 604.0, 446.0, (-0.1, 0.05, 0.0), (0.0003, -0.0003))
RINGS = ((22.0, 0.0, False), (46.0, 10.0, True))
GLAZE = Gloss(0.045, 260.0)
#: two lamps that stand in the room beside the table
ROOM_LAMPS = (Lamp((-300.0, -260.0, 290.0), 0.62, ROOM), Lamp((320.0, -180.0, 240.0), 0.46, ROOM))
TABLE_LAMPS = tuple(replace(x, fixed_to=TABLE) for x in ROOM_LAMPS)


def _turned(name, shape, rings, n, target_z, seed, surroundings, lens=LENS, **more):
    """A scene of one sitting on the turntable, 330 mm away."""
    shots = turntable_shots(rings, n, 330.0, (0, 0, target_z), np.random.default_rng(seed))
    sitting = SimulatedSitting("On the table", "photos", np.eye(4), shots, surroundings)
    return Scene(
        name, shape, lens, [sitting], nominal_focal_mm=40.0, focal_35mm=60, focus_mm=310.0, truth_step_mm=1.2, **more
    )


def jug(lamps=ROOM_LAMPS, name="jug"):
    """A glazed jug with a faint mottling on a wooden disc, 36 photos at two heights; highlights stand still."""
    around = Surroundings(disc_radius=85.0, wood=True, lamps=lamps)
    scene = _turned(name, JUG, ((18.0, 0.0, False), (42.0, 10.0, True)), 18, 44.0, 36, around, gloss=GLAZE)
    return replace(scene, sittings=[replace(scene.sittings[0], plates=True)])


def jug_turning():
    """The same under lamps that turn with it: highlights stay at one place of the jug, as from a lamp on the table."""
    return jug(TABLE_LAMPS, "jug-turning")


def motif(mark=False, disc=0.0, name="motif"):
    """A bowl with one strong motif painted four times on a table without grain: nothing tells its sides apart."""
    scene = bowl()
    sitting = scene.sittings[0]
    around = replace(sitting.surroundings, disc_radius=disc)
    sitting = replace(sitting, name="On the table", folder="photos", shots=sitting.shots[::2], surroundings=around)
    return replace(scene, name=name, sittings=[sitting], finish=MARKED if mark else MOTIF)


def motif_marked():
    """The same with one small spot on one side."""
    return motif(True, name="motif-marked")


def motif_disc():
    """The bowl without a spot, on a disc of felt that turns with it and tells the sides apart."""
    return motif(disc=95.0, name="motif-disc")


def steps_45():
    """The demo's whistle in steps of 45 degrees, 16 photos at two heights."""
    around = Surroundings()
    scene = _turned("steps-45", whistle().shape, ((22.0, 0.0, False), (46.0, 22.5, False)), 8, 33.0, 45, around)
    return replace(scene, truth_step_mm=0.8)


def shallow():
    """The whistle with a wide open lens: a few millimeters are sharp, at another depth in each photo."""
    scene = _turned("shallow", whistle().shape, RINGS, 12, 33.0, 28, Surroundings())
    return replace(scene, aperture_mm=14.0, focus_mm=312.0, samples=9, truth_step_mm=0.8)


def zooms():
    """The whistle with a zoom that was moved twice, four photos made smaller by somebody, and no EXIF at all."""
    scene = _turned("zooms", whistle().shape, RINGS, 12, 33.0, 75, Surroundings(), exif=False)
    shots = []
    for k, s in enumerate(scene.sittings[0].shots):
        lens = replace(LENS, f=LENS.f * (1.0, 0.78, 1.22)[k // 4 % 3])
        shots.append(replace(s, lens=lens.scaled(900, 675) if k % 6 == 5 else lens))
    return replace(scene, sittings=[replace(scene.sittings[0], shots=shots)], truth_step_mm=0.8)


def shadow():
    """The pebble by hand on a table without masks, while somebody walks by and takes the light of one lamp."""
    rng = np.random.default_rng(17)
    shots = hand_shots(24, 300.0, (0, 0, 16.0), rng)
    around = Surroundings(disc_radius=0.0, table_z=0.0, lamps=ROOM_LAMPS)
    for k, s in enumerate(shots):
        a = rng.uniform(-0.5, 0.5)  # round the line to one of the lamps
        x, y, z = ROOM_LAMPS[k % 2].place
        at = 0.5 * np.array([np.cos(a) * x - np.sin(a) * y, np.sin(a) * x + np.cos(a) * y, z])
        who = Capsule(tuple(at + [0, 0, -60.0]), tuple(at + [0, 0, 60.0]), 30.0, seen=False)
        shots[k] = replace(s, capsules=(who,))
    return Scene(
        "shadow", PEBBLE, replace(LENS, f=2300.0), [SimulatedSitting("By hand", "photos", np.eye(4), shots, around)],
        nominal_focal_mm=46.0, focal_35mm=69, aperture_mm=0.0, focus_mm=300.0, truth_step_mm=1.0,
    )  # fmt: skip


def hand():
    """The whistle on the turntable; in five of 24 photos a hand holds it."""
    scene = _turned("hand", whistle().shape, RINGS, 12, 33.0, 5, Surroundings())
    shots, rng = list(scene.sittings[0].shots), np.random.default_rng(55)
    for k in (2, 7, 11, 15, 21):
        turn = rng.normal(0, 6.0, 3)
        fingers = [
            ((150.0, -60.0 + turn[0], 90.0), (34.0 + turn[1], -12.0 + 14.0 * i, 58.0 - 6.0 * i), 7.0) for i in range(3)
        ]
        arm = ((220.0, -80.0, 130.0), (120.0, -50.0 + turn[2], 84.0), 24.0)
        shots[k] = replace(shots[k], capsules=tuple(Capsule(*c) for c in (*fingers, arm)))
    return replace(scene, sittings=[replace(scene.sittings[0], shots=shots)], truth_step_mm=0.8)


def white():
    """A white pebble without any texture on the printed mat: only what lies round it tells where photos stood."""
    sheets, lengths = turntable_mat()
    around = Surroundings(sheets=sheets, bars=lengths)
    scene = _turned("white", PEBBLE, ((28.0, 0.0, False), (48.0, 10.0, True)), 12, 18.0, 77, around, finish=WHITE)
    return replace(scene, truth_step_mm=1.0)


def handle():
    """A pebble with a handle of 2 mm over it."""
    return replace(_turned("handle", HANDLED, RINGS, 12, 26.0, 9, Surroundings()), truth_step_mm=0.7)


def phone():
    """20 frames of a phone's video of the pebble: the camera moves while each is read and exposed."""
    rng = np.random.default_rng(20)
    shots = hand_shots(20, 190.0, (0, 0, 18.0), rng, (30.0, 42.0))
    for k, s in enumerate(shots):
        way = rng.normal(0, 0.4, 3) + [1.6, 0, 0]  # walking round it, the hand turns to keep it in the picture
        turn = np.radians(rng.normal(0, 0.12, 3)) + [0, -0.8 * way[0] / 190.0, 0]
        shots[k] = replace(s, move=(*turn, *way), exposure=0.4)
    lens = Lens(1280, 720, 1240.0, 641.0, 357.0, (0.04, -0.03, 0.0), (0.0, 0.0))
    around = Surroundings(disc_radius=0.0, table_z=0.0)
    return Scene(
        "phone", PEBBLE, lens, [SimulatedSitting("By hand", "photos", np.eye(4), shots, around)],
        nominal_focal_mm=4.3, focal_35mm=35, aperture_mm=0.0, focus_mm=190.0, samples=9, truth_step_mm=1.0, exif=False,
    )  # fmt: skip


HARD = {
    "jug": jug, "jug-turning": jug_turning, "motif": motif, "motif-marked": motif_marked, "motif-disc": motif_disc,
    "steps-45": steps_45,
    "shallow": shallow, "zooms": zooms, "shadow": shadow, "hand": hand, "white": white, "handle": handle,
    "phone": phone,
}  # fmt: skip


def faded(picture, mask, share=0.2, sigma=14.0, noise=2.0, seed=0):
    """A photo (h, w, 3) uint8 whose detail inside its mask (h, w) is cut to a share, with noise on top.

    Detail is what differs from a Gaussian mean over `sigma` pixels that stays inside the mask; `noise` is a standard
    deviation in gray levels, all over the picture.
    """
    inside = mask.astype(np.float32)
    weight = np.maximum(scipy.ndimage.gaussian_filter(inside, sigma), 1e-6)[..., None]
    light = picture.astype(np.float32)
    mean = np.stack([scipy.ndimage.gaussian_filter(light[..., k] * inside, sigma) for k in range(3)], -1) / weight
    out = np.where(mask[..., None], mean + share * (light - mean), light)
    out += np.random.default_rng(seed).normal(0, noise, out.shape)
    return np.clip(np.round(out), 0, 255).astype(np.uint8)
