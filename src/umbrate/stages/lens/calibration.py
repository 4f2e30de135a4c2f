"""Calibration: what the Lens stage does where the photos show printed sheets or a checkerboard."""

from collections import Counter
from datetime import date
from functools import partial

import numpy as np

from ...core.errors import Cancelled, UmbrateError
from ...core.geometry.lens import PARAMETER_NAMES
from ...core.geometry.similarity import fit_similarity
from ...core.imaging.sharpness import gray_of
from ...core.lens.calibrate import calibrate
from ...core.lens.checks import checks_before
from ...core.lens.start import SheetSightings
from ...core.targets.board import find_board
from ...core.targets.dots import SXX, SYY
from ...core.targets.sheets import CALIBRATION_SHEETS, PAPERS, calibration
from ...sitting.photos import photo_picture
from ..base import problem
from .figures import Calibration, Check, Gathering, left_out_of

LEAST_SIGMA_PX = 0.005  #: no reading is better than this, whatever its own noise says
MISFIT = 2.0  #: a photo with so many times the usual residual does not fit the others
CELLS = (8, 6)  #: the frame is divided so finely to see where targets fell


def board_in_photo(columns, rows, photo):
    """Work item: the Board of a photo, or None."""
    return find_board(gray_of(photo_picture(photo)), columns, rows)


def sheet_marks(paper):
    """Place on its sheet (160, 2), sheet (160,) and dot radius (160,) of all calibration targets, by number."""
    sheets = [calibration(paper, k + 1) for k in range(CALIBRATION_SHEETS)]
    printed = [(m, k) for k, s in enumerate(sheets) for m in s.targets]
    plane = np.array([[m.x, m.y] for m, _ in printed])
    return plane, np.array([k for _, k in printed]), np.array([0.5 * m.diameter for m, _ in printed])


def which_paper(points):
    """The paper whose sheets have their targets where solved points (p, 3) lie, by number; NaN where unknown.

    A picture alone cannot tell: the sheets of all papers have the same rows and columns, a little narrower or wider.
    """
    misfit = {}
    for paper in PAPERS:
        plane, sheet, _ = sheet_marks(paper)
        off = []
        for g in range(CALIBRATION_SHEETS):
            rows = np.flatnonzero((sheet == g) & np.isfinite(points[:, 0]))
            if len(rows) >= 8:
                flat = np.hstack([plane[rows], np.zeros((len(rows), 1))])
                M = fit_similarity(points[rows], flat)
                off.append(np.median(np.linalg.norm(points[rows] @ M[:3, :3].T + M[:3, 3] - flat, axis=1)))
        misfit[paper] = max(off) if off else np.inf
    return min(misfit, key=misfit.get)


def sightings_of_sheets(numbers, dots, paper="A4"):
    """The Sightings of calibration sheets that are printed on a paper."""
    plane, sheet, radius = sheet_marks(paper)
    rows = [
        (n, i, *d[:2], max(float(np.sqrt(0.5 * (d[SXX] + d[SYY]))), LEAST_SIGMA_PX))
        for i, (ns, ds) in enumerate(zip(numbers, dots, strict=True))
        for n, d in zip(ns, ds, strict=True)
        if n < len(plane)
    ]
    if not rows:
        raise UmbrateError(
            "No calibration target was found in these photos. Print the calibration sheets (Job, Print target "
            "sheets), lay them out, and take eight photos in which they fill the picture.",
            ("set", "source", "solve"),
        )
    r = np.array(sorted(rows))
    return SheetSightings(r[:, 1].astype(int), r[:, 0].astype(int), r[:, 2:4], r[:, 4], plane, sheet, radius)


def sightings_of_board(boards, columns, rows, square):
    """The Sightings of a checkerboard's corners."""
    seen = [
        (n, i, *xy, max(b.sigma, LEAST_SIGMA_PX))
        for i, b in enumerate(boards)
        if b is not None
        for n, xy in enumerate(b.xy.reshape(-1, 2))
        if np.isfinite(xy[0])
    ]
    if not seen:
        raise UmbrateError(
            f"No photo shows a checkerboard of {columns} x {rows} inner corners whole. Count the corners where four "
            "squares meet, and keep the whole board in the picture.",
        )
    r = np.array(sorted(seen))
    v, u = np.mgrid[0:rows, 0:columns]
    plane = np.stack([u.ravel(), v.ravel()], 1) * float(square)
    zero = np.zeros(len(plane))
    return SheetSightings(r[:, 1].astype(int), r[:, 0].astype(int), r[:, 2:4], r[:, 4], plane, zero.astype(int), zero)


def coverage(xy, width, height):
    """How many sightings fell into each cell of the frame: (rows, columns) int."""
    columns, rows = CELLS
    u = np.clip((xy[:, 0] / width * columns).astype(int), 0, columns - 1)
    v = np.clip((xy[:, 1] / height * rows).astype(int), 0, rows - 1)
    return np.bincount(v * columns + u, minlength=columns * rows).reshape(rows, columns)


def printed_scales(c, s):
    """How large each sheet is beside the first that was seen, by number of the sheet: 1 where they agree."""
    size = {}
    for g in np.unique(s.sheet):
        rows = np.flatnonzero((s.sheet == g) & np.isfinite(c.points[:, 0]))
        if len(rows) >= 8:
            a, b = c.points[rows] - c.points[rows].mean(0), s.plane[rows] - s.plane[rows].mean(0)
            size[int(g)] = float(np.sqrt((a**2).sum() / (b**2).sum()))
    first = next(iter(size.values()), 1.0)
    return {g: v / first for g, v in size.items()}


def correlations(c):
    """(name, name, correlation) of all pairs of solved lens parameters, those that depend most on each other first."""
    rows = [PARAMETER_NAMES.index(n) for n in c.free]
    pairs = [(PARAMETER_NAMES[i], PARAMETER_NAMES[j], float(c.correlation[i, j])) for i in rows for j in rows if i < j]
    return sorted(pairs, key=lambda p: -abs(p[2]))


def calibration_problems(c, s, photos, per_photo):
    """What a calibration is worth saying of: warnings, photos that stick out, sheets of another size, gaps."""
    out = [problem(None, f"{x.text[0].upper()}{x.text[1:]}.", x.advice) for x in c.checks if not x.good]
    usual = float(np.nanmedian(list(per_photo.values()))) if per_photo else 0.0
    for k, p in enumerate(photos):
        rows = (s.photo == k) & np.isfinite(c.residuals[:, 0])
        kept = int((c.used & rows).sum())
        off = float(np.median(np.linalg.norm(c.residuals[rows], axis=1))) if rows.any() else 0.0
        told = ""
        if rows.any() and kept < 0.5 * rows.sum():
            told = f"{int(rows.sum()) - kept} of its {int(rows.sum())} sightings lie {off:.1f} px off or so"
        elif per_photo.get(p.id, 0.0) > max(MISFIT * usual, 0.05):
            told = f"its residual is {per_photo[p.id]:.3f} px, theirs {usual:.3f}"
        if told:
            out.append(
                problem(
                    p,
                    f"{p.name} does not fit the others: {told}.",
                    "Was the zoom or the focus changed, or something moved? Set it aside and run again.",
                )
            )
    for g, v in printed_scales(c, s).items():
        if abs(v - 1) > 0.004 and s.radius.any():
            out.append(
                problem(
                    None,
                    f"Calibration sheet {g + 1} is {abs(100 * (v - 1)):.1f} % {'larger' if v > 1 else 'smaller'} than "
                    "the others.",
                    "They were printed at different scales: print all at 100 % and check the ruler.",
                )
            )
    return out


def left_out(s, photos, chosen):
    """Which sightings (k,) bool somebody has left out by hand; see `left_out_of`."""
    numbers = [left_out_of(chosen, p) for p in photos]
    return np.array([n in numbers[i] for i, n in zip(s.photo, s.point, strict=True)], bool)


def one_lens(photos):
    """Raise UmbrateError where photos were not taken with one lens at one zoom, as far as their files tell."""
    kinds = Counter((p.camera, p.width, p.height, p.focal_mm) for p in photos)
    if len(kinds) > 1:
        told = "; ".join(f"{n} of {w} x {h}, {f or 'unknown'} mm" for (_, w, h, f), n in kinds.most_common())
        raise UmbrateError(
            f"These photos were not taken with one lens at one zoom ({told}). A calibration is of one: set the "
            "others aside, or move them to another sitting. Photos that a program has turned have changed their "
            "size: bring in those from the camera."
        )


def sightings_in(photos, settings, report, numbers, dots):
    """The Sightings of what photos show, and how well the points are known in mm, or None."""
    if settings.source == "targets":
        return sightings_of_sheets(numbers, dots), None
    columns, rows = settings.columns, settings.rows
    say = "looking for the board in photo"
    if not columns or not rows:
        # its size is what most photos show whole
        found = report.map(partial(board_in_photo, None, None), photos, say, 0.0, 0.4)
        sizes = Counter((max(b.columns, b.rows), min(b.columns, b.rows)) for b in found if b is not None)
        if not sizes:
            raise UmbrateError(
                "No photo shows a checkerboard. Keep the whole board in the picture, sharp and evenly lit, or say how "
                "many inner corners it has."
            )
        columns, rows = max(sizes, key=lambda size: (sizes[size], size))
    boards = report.map(partial(board_in_photo, columns, rows), photos, say, 0.4, 0.9)
    return sightings_of_board(boards, columns, rows, settings.square_mm), 0.002 * settings.square_mm


def calibrate_from(photos, settings, report, numbers, dots):
    """Calibrate the lens of photos, or say what they still lack.

    Parameters
    ----------
    photos : list of PhotoRef
    settings : the Lens stage's
    numbers, dots : lists of what was found in each photo, or None where a board is looked for

    Returns
    -------
    figures : Calibration, or Gathering where the lens could not be solved yet
    arrays : dict of arrays
        The sightings, and what the solution makes of them.
    problems : list of dict

    Raises
    ------
    UmbrateError
        Where there is nothing to begin with, or photos of several lenses.
    """
    one_lens(photos)
    s, known = sightings_in(photos, settings, report, numbers, dots)
    paper = next(iter(PAPERS)) if settings.source == "targets" else None
    report.progress(0.92, "solving the lens")
    first = photos[0]
    size = first.width, first.height
    without = left_out(s, photos, settings.leave_out)
    solve = partial(
        calibrate, size=size, photos=len(photos), modes=settings.modes(), known_sigma=known, without=without,
        held=settings.held, stop=report.check,
    )  # fmt: skip
    try:
        c = solve(s)
        if paper and which_paper(c.points) != paper:
            paper = which_paper(c.points)
            s = sightings_of_sheets(numbers, dots, paper)
            c = solve(s)
    except Cancelled:
        raise
    except UmbrateError as e:
        return _still_lacking(s, photos, without, size, e)
    length2 = (c.residuals**2).sum(1)
    per_photo = {
        p.id: float(np.sqrt(length2[c.used & (s.photo == k)].mean() / 2))
        for k, p in enumerate(photos)
        if (c.used & (s.photo == k)).any()
    }
    arrays = {
        "photo_ids": np.array([p.id for p in photos]), "photo": s.photo, "point": s.point, "xy": s.xy,
        "residual": c.residuals, "used": c.used, "by_hand": without, "poses": c.poses, "points": c.points,
        "correlation": c.correlation,
    }  # fmt: skip
    figures = Calibration(
        lens=c.lens.as_dict(), sigma={n: float(c.sigma[PARAMETER_NAMES.index(n)]) for n in c.free},
        free=c.free, rms_px=c.rms_px, unit=c.unit, photos=len(per_photo),
        sightings=int(c.used.sum()), left_out=int((~c.used).sum()), by_hand=int(without.sum()),
        paper=paper, targets=len(np.unique(s.point[c.used])), correlations=correlations(c),
        per_photo={k: round(v, 4) for k, v in per_photo.items()},
        coverage=coverage(s.xy[c.used], first.width, first.height).tolist(), date=date.today().isoformat(),
        checks=[Check(good=bool(x.good), text=x.text) for x in c.checks],
    )  # fmt: skip
    problems = calibration_problems(c, s, photos, per_photo)
    unused = [p for p in photos if p.id not in per_photo]
    problems += [
        problem(p, f"{p.name} shows too few targets to serve.", "Come nearer or set it aside.") for p in unused
    ]
    return figures, arrays, problems


def _still_lacking(s, photos, without, size, error):
    """What `calibrate_from` returns where photos are not enough to calibrate from."""
    checks = checks_before(s.kept(~without), *size, len(photos))
    arrays = {
        "photo_ids": np.array([p.id for p in photos]), "photo": s.photo, "point": s.point, "xy": s.xy,
        "residual": np.full(s.xy.shape, np.nan), "used": ~without, "by_hand": without,
    }  # fmt: skip
    figures = Gathering(
        photos=len(np.unique(s.photo)), sightings=len(s.xy),
        coverage=coverage(s.xy, *size).tolist(),
        checks=[Check(good=bool(x.good), text=x.text, advice=x.advice) for x in checks],
    )  # fmt: skip
    return figures, arrays, [problem(None, str(error))]
