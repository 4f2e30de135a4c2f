"""Which parts of the bench belong to which stage.

A part is made by a function of the bench, which gives a widget, or None where there is nothing to show. Most stages
need none: settings, figures, plot and advice are made from the stage itself. What a part shows besides the stage's
result is named in `MARKS`, so that the bench is built anew when it changes, and only then.
"""

import numpy as np

from ...stages.lens.figures import CALIBRATED
from ..text import counted
from .advice import OfPhoto, bare_frames, buttons, column, lost_files, remedy_button, wrapped
from .cleaning import CleanPart
from .cloud import CloudsPart, CoveragePart
from .delivery import DeliveryPanel
from .gauge import GaugePart
from .join import JoinChoice, JoinPanel
from .keepbox import BoxPanel
from .lens import CalibrationGuide, CalibrationPanel, LensGroups
from .lenslist import LensList
from .markedpoints import PointsPanel
from .measurements import MeasurePanel
from .mend import MendPart
from .pairs import MatchesDialog, pairs_of
from .scale import LengthsPanel, LevelPanel
from .shapemasks import ShapePanel
from .shapes import ShapesPanel
from .sift import SiftPanel
from .surface import SurfacesPart
from .texture import TexturePanel


def _solved(bench):
    return bench.session.result("poses") is not None


def _of_clouds(part):
    return lambda bench: part(bench.session) if bench.session.job.clouds(bench.session.sitting_id) else None


def _of_surfaces(part):
    return lambda bench: part(bench.session) if bench.session.job.surfaces(bench.session.sitting_id) else None


def _of_poses(part):
    return lambda bench: part(bench.session) if _solved(bench) else None


def texture(bench):
    return TexturePanel(bench.session) if bench.result else None


def deliveries(bench):
    if bench.result is None:
        return None
    return DeliveryPanel(bench.session, lambda remedy: remedy_button(bench, bench.stage, remedy, run=False))


def join(bench):
    return JoinPanel(bench.session) if bench.session.job.join_found(bench.session.sitting_id) else None


def bare(bench):
    return bare_frames(bench, bench.result) if bench.result else None


def lens(bench):
    """What a calibration found, or which group of photos has which card."""
    r = bench.result
    if r is None:
        return None
    if r.figures.calibration or r.figures.gathering:
        return CalibrationPanel(bench.session, r, bench.keep_wanted.emit)
    return LensGroups(bench.session, r) if r.figures.source == "card" and len(r.figures.groups) > 1 else None


def of_photo(bench):
    """What Poses says of the chosen photo."""
    return OfPhoto(bench, _of_photo) if bench.result else None


def _of_photo(bench):
    s, photo = bench.session, bench.session.photo
    per = bench.result.figures.per_photo.get(photo.id) if photo else None
    if per is None or photo.aside:
        return None
    body, box = column()
    box.addWidget(wrapped(photo.name, "plain"))
    if per.sightings:
        covered = f", {100 * per.covered:.0f} % of the picture covered" if per.covered is not None else ""
        box.addWidget(wrapped(f"{per.sightings:,} sightings, residual {per.rms_px:.2f} px{covered}"))
        if known := pose_known(s, photo.id):
            box.addWidget(wrapped(known))
        box.addLayout(
            buttons(
                ("Its points", "Choose the tie points this photo sees", lambda: s.points.trace_to_points({photo.id})),
                ("Look through", "Look from its place, blended over the points  (Shift+E)", bench.through_wanted.emit),
            )
        )
    return body


def pose_known(session, photo_id):
    """How well a photo's pose is known, in words; empty where nothing says it."""
    block = session.block
    k = block.solved_row(photo_id) if block is not None else None
    if k is None or block.pose_sigma is None or not np.isfinite(block.pose_sigma[k]).all():
        return ""
    turn, place = block.pose_sigma[k]
    unit = session.frame.unit if session.frame else ""
    return f"Standard deviations: turned {np.degrees(turn):.3f}°, stands {place:.3g} {unit or 'of the unit'}."


def matched(bench):
    """Which pairs were matched, and why these."""
    f = bench.result.figures if bench.result else None
    told = f.told_of_pairs() if f is not None else ""
    return wrapped(told) if told else None


def of_tie_points(bench):
    """Where photos are missing, told from tie points."""
    s = bench.session
    return CoveragePart(s, s.points) if bench.result is not None and s.fragment == 0 else None


def sift(bench):
    s = bench.session
    if bench.result is None or s.fragment != 0 or s.points.left is None:
        return None
    body, box = column()
    box.addWidget(wrapped("Sift tie points", "plain"))
    box.addWidget(SiftPanel(s))
    return body


def pairs(bench):
    """Which photos share matches."""
    grid = pairs_of(bench.session, bench.result) if bench.result else None
    if grid is None:
        return None
    body, box = column()
    box.addWidget(wrapped("Which photos share matches", "plain"))
    box.addWidget(grid)
    box.addWidget(wrapped("In shooting order; lighter is more. A click shows two photos with their matches."))
    grid.asked.connect(lambda i, j: MatchesDialog(bench.session, i, j, bench).exec())
    return body


def marked_points(bench):
    if not bench.session.photos():
        return None
    body, box = column()
    box.addWidget(wrapped("Points marked by hand", "plain"))
    box.addWidget(PointsPanel(bench.session))
    return body


def calibration_guide(bench):
    """How to calibrate, where that is chosen and not done."""
    s = bench.session
    source = s.setting("lens", "source")
    if source not in CALIBRATED or (bench.result and bench.result.figures.calibration):
        return None
    return CalibrationGuide(source, bench.sheets_wanted.emit, bench.photos_wanted.emit)


def keep_box(bench):
    """The keep box by numbers, where the stage uses it."""
    return BoxPanel(bench.session) if bench.stage.uses_keep_box and bench.session.keep_box else None


#: beside the settings: before what a run would give, and before what it gave
BEFORE_RUN = {"lens": (calibration_guide,)}
TOP = {"photos": (lost_files, bare), "lens": (lens,), "join": (join,), "texture": (texture,), "deliver": (deliveries,)}
#: the further parts of a bench: their titles, and what they have
PARTS = {
    "lens": (("Lenses", (lambda bench: LensList(bench.session),)),),
    "masks": (("From shape", (_of_poses(ShapePanel),)),),
    "poses": (
        ("Photo", (of_photo, pairs, matched)),
        ("Points", (sift,)),
        ("Marks", (marked_points,)),
        ("Coverage", (of_tie_points,)),
        ("Box", (keep_box,)),
    ),
    "scale": (
        ("Lengths", (_of_poses(LengthsPanel),)),
        ("Level", (_of_poses(LevelPanel),)),
        ("Points", (_of_poses(PointsPanel),)),
        ("Lines", (_of_poses(ShapesPanel),)),
        ("Measure", (_of_poses(MeasurePanel),)),
    ),
    "cloud": (
        ("Clouds", (_of_clouds(CloudsPart),)),
        ("Clean", (_of_clouds(CleanPart),)),
        ("Coverage", (_of_clouds(CoveragePart),)),
        ("Box", (keep_box,)),
    ),
    "surface": (
        ("Surfaces", (_of_surfaces(SurfacesPart),)),
        ("Walls", (_of_surfaces(GaugePart),)),
        ("Mend", (_of_surfaces(MendPart),)),
        ("Box", (keep_box,)),
    ),
}


def elsewhere(bench):
    """Of a stage that is not computed with this row: where it is."""
    s = bench.session
    if not s.sitting.members:
        return JoinChoice(s)
    body, box = column()
    box.addWidget(wrapped("It is made with the sittings that this one is joined from:"))
    for m in s.joining.members():
        box.addLayout(buttons((f"Go to “{m.name}”", "", lambda i=m.id: s.choose(i))))
    return body


def tried(count, without):
    """What came of a preview, in words."""
    some = f", of which {without} got no mask" if without else ""
    return (
        f"Tried on {counted(count, 'photo')}{some}: click one. A changed setting is tried at once; nothing is kept "
        "until you run it."
    )


# ---------------------------------------------------------------------- when it is built anew
def _of_poses(s):
    return s.job.removed(s.sitting_id), s.fragment


def _of_join(s):
    solved = [bool(s.job.result(x.id, "poses")) for x in s.job.photo_sittings()]
    clouds = [bool(s.job.cloud(x.id)) for x in s.job.photo_sittings()]
    rows = [(r.id, r.name, r.members) for r in s.job.joined_rows()]
    found = s.job.join_found(s.sitting_id)
    return str((rows, solved, clouds, s.job.target_roles(), len(s.job.picks(s.sitting_id)), str(found)))


#: what the parts of a stage show besides its result: functions of the session
MARKS = {
    "photos": lambda s: sum(s.arrivals.file_state(p) != "here" for p in s.photos()),
    "masks": lambda s: s.result("poses") is None,
    "poses": _of_poses,
    "scale": lambda s: s.result("poses") is None,
    "join": _of_join,
    "cloud": lambda s: (bool(s.job.clouds(s.sitting_id)), s.cloud_at_hand() is None),
    "surface": lambda s: bool(s.job.surfaces(s.sitting_id)),
}
