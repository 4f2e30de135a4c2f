"""Why photos stay out, or a block is doubtful, and the one thing to try first: what people are told."""

import numpy as np

from ...core.poses.solution import DISAGREES, FRAGMENT, LOOP, NO_OVERLAP, NO_START, TOO_FEW
from ...sitting.lenses import NO_EXIF_35MM
from ..base import problem
from .figures import WhyLeftOut, is_deeper
from .inputs import ADJUST, MARKED
from .items import DEEPER_BELOW
from .lenses import center_held

STILL_SHARE = 0.6  #: a photo with so many still features shows the backdrop only
MANY_BRIDGES = 0.2  #: share of false bridges among the pairs from which the object itself is to blame
FEW_FEATURES = 200  #: a photo with fewer is blurred, plain or masked away
WIDEST_DEG = 110  #: that a lens sees across which nobody told, at the most


def why_left_out(block, made, inputs, settings):
    """Why photos are not solved: a WhyLeftOut by the row of each."""
    photos = inputs.photos
    if inputs.mode == ADJUST:
        known = inputs.before.figures.reasons
        lost = WhyLeftOut(kind=DISAGREES, text="too few of its tie points are left")
        new = WhyLeftOut(kind=TOO_FEW, text="it came after the others were solved; “Go on” adds it")
        out = {}
        for i in np.flatnonzero(~block.solved):
            pid = photos[i].id
            out[i] = known.get(pid, lost if pid in inputs.before.made_from else new)
        return out
    out = {}
    for i, r in made.solution.reasons.items():
        kind, text = r.kind, r.text
        still = float(made.still[i].mean()) if made.still and len(made.still[i]) else 0.0
        if still > STILL_SHARE and kind in (NO_OVERLAP, TOO_FEW, NO_START):
            kind, text = "backdrop", f"{100 * still:.0f} % of its features do not move: it shows the backdrop"
        elif kind == NO_OVERLAP and made.counts[i] < FEW_FEATURES and settings.ties != MARKED:
            kind = "blurred"
            text = f"only {made.counts[i]} features were found in it (blurred, plain, or hidden by its mask)"
        elif kind in (NO_OVERLAP, TOO_FEW) and photos[i].id in inputs.soft:
            sharp, usual = inputs.soft[photos[i].id]
            kind, text = "blurred", f"it is blurred (sharpness {sharp:.2f}, the others' {usual:.2f}): {text}"
        elif (
            kind in (NO_OVERLAP, TOO_FEW) and is_deeper(made.look) and made.counts[i] < DEEPER_BELOW * settings.features
        ):
            kind = "faint"
            text = f"most of its {made.counts[i]} features are faint, and too few of them match any other photo's"
        elif kind == NO_OVERLAP and is_deeper(made.look):
            text = "no matches with any other photo, at a deeper look either (too faint, no overlap, or another object)"
        out[i] = WhyLeftOut(kind=kind, text=text, partners=[photos[k].id for k in r.partners[:6]])
    return out


def _zooms(block, made, photos):
    """The problem that tells that the zoom was moved."""
    parts = []
    for k in np.unique(block.lens_of[block.solved]):
        names = [p.name for p, m, on in zip(photos, block.lens_of, block.solved, strict=True) if m == k and on]
        who = names[0] if len(names) == 1 else f"{len(names)} photos, the first {names[0]}"
        parts.append((len(names), f"{block.lenses[k, 0]:.0f} px ({who})"))
    told = ", ".join(text for _, text in sorted(parts, key=lambda x: -x[0]))
    text = f"The zoom was moved, which the files do not say. Focal lengths found: {told}."
    return problem(
        None, text, "Each has a lens of its own now. Fix the zoom while shooting: the fewer, the better known."
    )


def _cropped(block, made, photos):
    """The problem that tells which photos were cropped, and how far off their middle the lens looks."""
    rows = [k for k, p in enumerate(photos) if p.id in made.crops and block.solved[k]]
    if not rows:
        return problem(None, f"{len(made.crops)} photos were cropped.", "Bring in the photos as the camera made them.")
    middle = np.array([[(photos[k].width - 1) / 2, (photos[k].height - 1) / 2] for k in rows])
    off = np.linalg.norm(np.array([block.lens_vector(k)[1:3] for k in rows]) - middle, axis=1)
    who = photos[rows[0]].name if len(rows) == 1 else f"{len(rows)} photos, the first {photos[rows[0]].name},"
    text = f"{who} {'was' if len(rows) == 1 else 'were'} cropped: the lens looks up to {off.max():.0f} pixels off the "
    text += "middle. It was taken to be that of the other photos but for this center, which was found from the photos."
    return problem(None, text, "Bring in the photos as the camera made them: a center that is known is better.")


def _slipped(block, slip_px):
    """The problem that tells that the camera moved while its photos were read."""
    text = f"The rows of a photo slipped by {slip_px:.1f} pixels from top to bottom (median): the camera moved while "
    text += "it was read row by row, as in frames of a video. "
    if center_held(block):
        text += "The center of the lens was held for that."
    else:
        text += "The block is doubtful: that passes for a shifted center of the lens, which turns and bends everything."
    hint = "Turns are true to half a degree at best, and the cloud is less exact. Take stills, or hold still for each."
    return problem(None, text, hint)


def _too_wide(made):
    """The angle of view in degrees of a lens that nobody told and that cannot be, or 0."""
    b = made.solution.block
    if not made.guessed and not made.solution.wrong_focal:
        return 0.0
    used = np.unique(b.lens_of[b.solved])
    half = [max(made.lenses[k].width, made.lenses[k].height) / 2 / b.lenses[k, 0] for k in used]
    wide = 2 * np.degrees(np.arctan(max(half)))
    return wide if wide > WIDEST_DEG else 0.0


def doubt_of(made):
    """Why the block may be wrong although it fits: a clause, or ""."""
    if made.fold:
        return f"{made.fold.photos} photos stand on {made.fold.places} places"
    if made.slip_px is not None and not center_held(made.solution.block):
        return "the camera moved while its photos were read"
    wide = _too_wide(made)
    return f"its lens would see {wide:.0f}° wide" if wide else ""


def _alike(made):
    """What is told of an object that looks alike from several sides."""
    if made.fold:
        text = f"The block is doubtful: {made.fold.photos} photos stand on only {made.fold.places} places, again and "
        text += "again, as if the object had been folded up. It looks alike from several sides, and nothing in the "
        text += "photos tells these apart."
        hint = (
            "First of all stick one mark or a few targets to one side and take the photos anew; something with detail "
        )
        hint += "that turns with it (a printed mat) decides as well, where masks mark it."
        return [problem(None, text, hint, remedy=("print targets",))]
    if made.loose:
        text = "The object looks alike from several sides. Each round of photos stands by the order they were taken "
        text += "in, but nothing tells how they lie to each other."
        hint = "Mark three points that you know to be the same in two photos of either round, and go on. Next time "
        hint += "stick one mark to one side."
        return [problem(None, text, hint, remedy=("mark points",))]
    return []


def problems_of(reasons, block, made, inputs, settings):
    photos = inputs.photos
    hints = {
        NO_OVERLAP: ("Bring in photos that overlap with it, or set it aside.", ("bring in photos",)),
        TOO_FEW: ("Mark more points in it.", ("mark points",)) if settings.ties == MARKED else
                 ("More features, or photos between it and its neighbors, would help.",
                  ("set", "features", min(40000, 2 * settings.features))),
        DISAGREES: ("Set it aside, or bring in photos between it and its neighbors.", ("bring in photos",)),
        LOOP: ("The object looks alike from several sides: stick targets to it, or set the photo aside.", None),
        FRAGMENT: ("Photos between the two groups would connect them, or three points marked in two photos of either "
                   "group, and then to go on.", ("mark points",)),
        "backdrop": ("Mask the backdrop, or set the photo aside.", ("go to", "masks")),
        "faint": ("Let something with detail turn with the object, such as the printed mat; light from the side shows "
                  "the grain.", ("print targets",)),
        "blurred": ("Set it aside, or look at its mask.", ("go to", "masks")),
    }  # fmt: skip
    names = {p.id: p.name for p in photos}
    out = _alike(made)  # the cause before what comes of it
    for i, r in reasons.items():
        hint, remedy = hints.get(r.kind, ("Set it aside, or bring in photos round it.", ("bring in photos",)))
        near = ", ".join(names[k] for k in r.partners[:3] if k in names)
        text = f"{photos[i].name} could not be placed: {r.text}."
        if near and r.kind in (TOO_FEW, DISAGREES, LOOP):
            text += f" It matches best with {near}."
        out.append(problem(photos[i], text, hint, remedy=remedy))
    if len(made.solution.bridges) >= MANY_BRIDGES * max(len(made.solution.pairs), 1):
        text = f"{len(made.solution.bridges)} pairs of photos match well and contradict the others, so they were left "
        text += "out: the object looks alike from several sides."
        hint = "Look whether the photos stand where they were taken; targets stuck to the object make it sure."
        out.append(problem(None, text, hint))
    if made.zooms:
        out.append(_zooms(block, made, photos))
    if made.crops:
        out.append(_cropped(block, made, photos))
    if made.slip_px is not None:
        out.append(_slipped(block, made.slip_px))
    for m, f in made.solution.wrong_focal.items():
        ratio = block.lenses[m, 0] / f
        out.append(
            problem(
                None,
                f"The focal length in the files cannot be right: the photos say {ratio:.2f} times as much "
                f"({block.lenses[m, 0]:.0f} pixels, not {f:.0f}).",
                "The photos were followed. Look whether the dome of photos round the object is plausible.",
            )
        )
    for x in made.shared.parted:
        text = f"The files say that “{x.name}” was taken with the same lens, but the photos contradict that: {x.why}."
        hint = "Each keeps a lens of its own. The zoom or the focus was moved in between: fix both while shooting."
        out.append(problem(None, text, hint))
    if int(block.solved.sum()) == 2:
        text = "Only two photos stand: nothing checks them, and depth is less sure than from three."
        out.append(problem(None, text, "Bring in more photos from places between and beside them."))
    if wide := _too_wide(made):
        text = f"The block is doubtful: its lens would see {wide:.0f}° wide, and the files say nothing of the kind. "
        text += "What matches may be no solid object that stands still, but a mirror, glass, or two things that move."
        hint = "Mask everything but the object. What mirrors or is clear needs chalk spray."
        out.append(problem(None, text, hint, remedy=("go to", "masks")))
    elif made.guessed and not made.solution.wrong_focal and not made.zooms:
        out.append(
            problem(
                None,
                f"The files say no focal length, so {NO_EXIF_35MM:.0f} mm (35 mm equivalent) was "
                f"taken to start from; solved: {block.lenses[0, 0]:.0f} pixels.",
                "Look whether the dome of photos round the object is plausible.",
            )
        )
    return out
