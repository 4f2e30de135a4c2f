"""Scenes: what is photographed, from where, with which lens. `SCENES` lists those that have a name."""

from dataclasses import dataclass, field, replace

import numpy as np

from ..core.geometry.lens import Lens
from ..core.geometry.pose import look_at, pose
from ..core.geometry.rotation import rotation_matrix
from ..core.targets.code import REACH
from ..core.targets.sheets import OBJECT as OBJECT_NUMBERS
from ..core.targets.sheets import PrintedTarget, bars, mat
from .lamps import MATTE, Gloss
from .prints import OBJECT, Printed
from .shapes import BOWL, OWN, PEBBLE, WHISTLE, onto_surface
from .surroundings import Surroundings


@dataclass
class Shot:
    """One release of the shutter."""

    studio_to_camera: np.ndarray
    turn_deg: float = 0.0
    orientation: int = 1  #: EXIF orientation: the camera may have been turned upright
    blur_px: float = 0.0
    empty: bool = False  #: the object is not there
    lens: Lens | None = None  #: instead of the scene's
    capsules: tuple = ()  #: arms and the like that are there just then
    move: tuple = ()  #: turn (3, radians) and way (3, mm) of the camera in its frame, from the first row to the last
    exposure: float = 0.0  #: of a row, as a share of the time from the first row to the last


@dataclass
class SimulatedSitting:
    """One placement of the object and the shots taken of it."""

    name: str
    folder: str
    object_to_turning: np.ndarray
    shots: list
    surroundings: Surroundings = field(default_factory=Surroundings)
    first_number: int = 1
    plates: bool = False  #: also take the bare table from every place the camera stood at


@dataclass
class Scene:
    """Everything the studio needs for a photo set with truth."""

    name: str
    shape: int
    lens: Lens
    sittings: list
    nominal_focal_mm: float
    focal_35mm: int
    make: str = "Umbrate Studio"
    model: str = "Simulated 2M"
    aperture_mm: float = 0.9
    focus_mm: float = 340.0
    samples: int = 4
    truth_step_mm: float = 0.8
    seed: int = 1
    finish: int = OWN
    gloss: Gloss = MATTE
    exif: bool = True


def turntable_shots(rings, n, distance_mm, target, rng):
    """Rings on a turntable: the camera stands still, the table turns.

    rings: (height angle in degrees, first turn in degrees, camera upright) for each; n: shots a ring.
    A ring shot with the camera turned upright tells the principal point from a tilt.
    """
    shots = []
    for elevation, first, portrait in rings:
        e = np.radians(elevation)
        eye = np.array(target) + distance_mm * np.array([0.03, -np.cos(e), np.sin(e)])
        E = look_at(eye, np.array(target) + rng.normal(size=3))
        if portrait:
            E = pose(rotation_matrix(np.array([0, 0, np.pi / 2])), np.zeros(3)) @ E
        for k in range(n):
            shots.append(Shot(E, first + 360.0 * k / n + rng.normal() * 0.5, 8 if portrait else 1))
    return shots


def hand_shots(n, distance_mm, target, rng, heights=(25.0, 50.0)):
    """By hand: round the object at rough heights, with changing distance, aim and roll."""
    shots = []
    for k in range(n):
        e = np.radians(heights[k % len(heights)] + rng.normal() * 4)
        a = 2 * np.pi * k / n + rng.normal() * 0.05
        d = distance_mm * (1 + 0.08 * rng.normal())
        eye = np.array(target) + d * np.array([np.cos(e) * np.sin(a), -np.cos(e) * np.cos(a), np.sin(e)])
        E = look_at(eye, np.array(target) + rng.normal(size=3) * 3)
        roll = rotation_matrix(np.array([0, 0, np.radians(rng.normal() * 8)]))
        shots.append(Shot(pose(roll, np.zeros(3)) @ E))
    return shots


def lying(sheet, at, turn_deg, height_mm, targets=None, size=None, cut=None):
    """A sheet that lies on the turntable face up: its place `at` (x, y of the paper) over the table's axis.

    targets, size : instead of the whole sheet a strip of it
    """
    a = np.radians(turn_deg)
    R = np.array([[np.cos(a), np.sin(a), 0], [np.sin(a), -np.cos(a), 0], [0, 0, -1.0]])
    width, height = size or (sheet.width, sheet.height)
    move = -R @ [at[0], at[1], 0.0] + [0.0, 0.0, height_mm]
    return Printed(targets or sheet.targets, width, height, pose(R, move), cut=cut)


def turntable_mat():
    """The printed mat with a hole of 100 mm, cut out, and two scale bars of 100 mm lying on it.

    Returns
    -------
    list of Printed, list of Bar
    """
    paper = mat("A4", 100.0)
    middle = (0.5 * paper.width, 0.5 * paper.width)
    out = [lying(paper, middle, 12.0, 0.1, cut=(*middle, 0.5 * paper.width - 10.0, 50.0))]
    strips = bars("A4", 5.0, 100.0)
    used = []
    for k, turn in enumerate((3.0, 95.0)):
        row = strips.targets[3 * k : 3 * k + 3]
        width, height = 3.5 * 5.0 + 6.0, 100.0 + 3.5 * 5.0
        left, top = row[0].x - 0.5 * width, row[0].y - 0.5 * 3.5 * 5.0
        targets = [replace(m, x=m.x - left, y=m.y - top) for m in row]
        # beside the object: its middle lies 71 mm from the axis
        out.append(lying(strips, (0.5 * width + 71.0, 0.5 * height), turn, 1.2, targets, (width, height)))
        used += [b for b in strips.bars if b.first in {m.number for m in row}]
    return out, used


#: where small targets are stuck on the whistle, and the diameter of their dots, mm
STICKERS = (
    ((10.3, -15.6, 45.4), 3.0), ((-0.8, -18.0, 15.1), 3.0), ((3.2, 18.8, 16.6), 3.0), ((22.4, 15.0, 33.4), 2.0),
    ((-25.4, -14.8, 31.0), 3.0), ((-12.0, 15.2, 44.6), 3.0), ((26.5, -10.8, 32.6), 2.0), ((-26.4, 13.5, 27.8), 3.0),
    ((3.2, 4.4, 53.4), 2.0), ((-21.5, -7.6, 12.6), 2.0),
)  # fmt: skip


def stickers(shape, places, first=OBJECT_NUMBERS.start):
    """Small round targets stuck on an object: a list of Printed, numbered from `first` on."""
    out = []
    for k, (place, diameter) in enumerate(places):
        middle, normal = onto_surface(shape, place)
        x = np.cross([0.0, 0.0, 1.0], normal)
        x /= np.linalg.norm(x)
        R = np.stack([x, np.cross(-normal, x), -normal], 1)
        side = REACH * diameter
        M = pose(R, middle - R @ [0.5 * side, 0.5 * side, 0.0])
        mark = PrintedTarget(first + k, 0.5 * side, 0.5 * side, diameter)
        out.append(Printed([mark], side, side, M, cut=(0.5 * side, 0.5 * side, 0.5 * side, 0.0), fixed_to=OBJECT))
    return out


def whistle():
    """The demo: a terracotta bird whistle, upright and on its back on a foam block, 24 photos each.

    It stands on a printed mat with two scale bars and wears ten small targets.
    """
    rng = np.random.default_rng(24)
    lens = Lens(1600, 1200, 3396.0, 806.3, 593.1, (-0.115, 0.09, 0.0), (0.0006, -0.0004))
    upright = pose(rotation_matrix(np.array([0, 0, 0.4])), [-2.0, 1.0, 0.0])
    # on its back: half a turn about the long axis, tipped a little, sunk into the foam
    tip = rotation_matrix(np.array([0, np.radians(14.0), 0])) @ rotation_matrix(np.array([np.pi - 0.06, 0, 0]))
    back = pose(rotation_matrix(np.array([0, 0, -0.7])) @ tip, [0.0, 0.0, 88.0])
    rings = ((22.0, 0.0, False), (48.0, 15.0, True))
    printed, lengths = turntable_mat()
    printed = printed + stickers(WHISTLE, STICKERS)
    return Scene(
        "whistle",
        WHISTLE,
        lens,
        [
            SimulatedSitting(
                "Upright",
                "upright",
                upright,
                turntable_shots(rings, 12, 355.0, (0, 0, 33.0), rng),
                Surroundings(sheets=printed, bars=lengths),
                101,
                plates=True,
            ),
            SimulatedSitting(
                "On its back",
                "on-its-back",
                back,
                turntable_shots(rings, 12, 355.0, (0, 0, 53.0), rng),
                Surroundings(boxes=np.array([[0.0, 0.0, 12.0, 32.0, 25.0, 12.0]]), sheets=printed, bars=lengths),
                131,
                plates=True,
            ),
        ],
        nominal_focal_mm=50.0,
        focal_35mm=75,
        focus_mm=335.0,
    )


def whistle_on_green():
    """The upright sitting of the demo on a green cloth, for masking by backdrop color."""
    scene = whistle()
    upright = replace(scene.sittings[0], surroundings=Surroundings(green=True), plates=False)
    return replace(scene, name="whistle-on-green", sittings=[upright])


def pebble():
    """A small quick set for tests: a painted pebble by hand, 12 photos of 640x480."""
    rng = np.random.default_rng(7)
    lens = Lens(640, 480, 905.0, 322.4, 236.8, (-0.06, 0.02, 0.0), (0.0004, -0.0003))
    return Scene(
        "pebble",
        PEBBLE,
        lens,
        [
            SimulatedSitting(
                "By hand",
                "by-hand",
                np.eye(4),
                hand_shots(12, 165.0, (2.0, 0, 16.0), rng),
                Surroundings(disc_radius=0.0, table_z=0.0),
                1,
            )
        ],
        nominal_focal_mm=31.0,
        focal_35mm=50,
        aperture_mm=0.0,
        focus_mm=165.0,
        truth_step_mm=1.0,
    )


def bowl():
    """A bowl that looks alike from four sides, on a bare turntable: what folds a block onto itself."""
    rng = np.random.default_rng(4)
    lens = Lens(1200, 900, 2000.0, 604.0, 446.0, (-0.1, 0.05, 0.0), (0.0003, -0.0003))
    rings = ((28.0, 0.0, False), (50.0, 7.5, True))
    return Scene(
        "bowl",
        BOWL,
        lens,
        [SimulatedSitting("Bowl", "bowl", np.eye(4), turntable_shots(rings, 24, 330.0, (0, 0, 22.0), rng))],
        nominal_focal_mm=40.0,
        focal_35mm=60,
        focus_mm=310.0,
        truth_step_mm=1.2,
    )


def smaller(scene, factor, photos=None):
    """The same scene with pictures `factor` times smaller and at most `photos` shots a sitting."""
    w, h = round(scene.lens.width / factor), round(scene.lens.height / factor)
    sittings = []
    for s in scene.sittings:
        step = 1 if photos is None else max(1, len(s.shots) // photos)
        sittings.append(replace(s, shots=s.shots[::step][:photos]))
    return replace(scene, lens=scene.lens.scaled(w, h), sittings=sittings)


SCENES = {"whistle": whistle, "whistle-on-green": whistle_on_green, "pebble": pebble, "bowl": bowl}
