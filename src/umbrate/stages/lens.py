"""Lens: targets in the photos, and which lens took them: from a card, from targets, or not yet known."""

from collections import Counter
from dataclasses import dataclass
from datetime import date
from functools import partial
from typing import Literal

import numpy as np
from pydantic import Field

from ..core.errors import UmbrateError
from ..core.geometry.lens import PARAMETER_NAMES, Lens
from ..core.geometry.similarity import fit_similarity
from ..core.imaging.decode import read_picture
from ..core.imaging.sharpness import gray_of
from ..core.lens.calibrate import FIXED, SIGNIFICANT, SOLVED, Sightings, calibrate
from ..core.targets.board import find_board
from ..core.targets.detect import CODED, DOUBTFUL, PLAIN, find_targets, quality
from ..core.targets.dots import SXX, SYY
from ..core.targets.sheets import CALIBRATION_SHEETS, PAPERS, calibration
from ..formats.lenscards import LensCard, card_from_dict, shelf
from ..job.blobs import BlobStore
from .base import Histogram, Outcome, Stage, StageSettings, problem
from .photos import photo_key, photo_refs

SOURCES = {
    "card": "a lens card that fits",
    "targets": "calibration sheets",
    "board": "a checkerboard",
    "solve": "solved with the poses",
}
USES = {"trusted": "as it is", "refined": "refined with the poses"}
MODES = {SOLVED: "solved", SIGNIFICANT: "if significant", FIXED: "fixed at 0"}
NO_EXIF_35MM = 50.0  #: focal length that is assumed where the file is silent
LEAST_SIGMA_PX = 0.005  #: no reading is better than this, whatever its own noise says
CELLS = (8, 6)  #: the frame is divided so finely to see where targets fell


def _only(*sources, **extra):
    return {"when": {"source": sources}, **extra}


def _mode(title, default):
    return Field(
        default,
        title=title,
        description="Solved, fixed at 0, or solved and dropped again where it does not differ from 0 by more than "
        "2.6 of its standard deviations.",
        json_schema_extra=_only("targets", "board", labels=MODES),
    )


Mode = Literal["solved", "if significant", "fixed"]


class Settings(StageSettings):
    """Where the lens comes from."""

    source: Literal["card", "targets", "board", "solve"] = Field(
        "card",
        title="Lens from",
        description="A stored lens card that fits the photos' camera, lens, size and focal length (where none does, "
        "the lens is solved with the poses); calibration sheets or a checkerboard that these photos show; or "
        "nothing: it is solved with the poses.",
        json_schema_extra={"short": True, "labels": SOURCES},
    )
    card: str = Field(
        "",
        title="Card",
        description="Name of the lens card; empty: the newest that fits.",
        json_schema_extra=_only("card", kind="card", short=True),
    )
    use: Literal["trusted", "refined"] = Field(
        "trusted",
        title="Use it",
        description="As it is, or as a start that the poses refine within its standard deviations.",
        json_schema_extra=_only("card", "targets", "board", labels=USES, short=True),
    )
    find_targets: bool = Field(
        True,
        title="Look for targets",
        description="Find coded targets in all photos.",
        json_schema_extra=_only("card", "solve", short=True),
    )
    columns: int = Field(
        9,
        ge=3,
        le=100,
        title="Board columns",
        description="Inner corners along the longer side.",
        json_schema_extra=_only("board", short=True),
    )
    rows: int = Field(
        6,
        ge=3,
        le=100,
        title="Board rows",
        description="Inner corners along the shorter side.",
        json_schema_extra=_only("board", short=True),
    )
    square_mm: float = Field(
        25.0,
        ge=0.5,
        le=1000,
        title="Square",
        description="Length of one side of a square.",
        json_schema_extra=_only("board", unit="mm", short=True),
    )
    principal_point: Mode = _mode("Principal point", SOLVED)
    k1: Mode = _mode("k1", SOLVED)
    k2: Mode = _mode("k2", SOLVED)
    k3: Literal["automatic", "solved", "if significant", "fixed"] = Field(
        "automatic",
        title="k3",
        description="As the others; by itself it is solved from calibration sheets, and kept only if significant "
        "from a board, which rarely reaches the picture's corners.",
        json_schema_extra=_only("targets", "board", labels={"automatic": "by itself", **MODES}),
    )
    decentering: Mode = _mode("p1, p2", SOLVED)
    affinity: Mode = _mode("Affinity, skew", SIGNIFICANT)

    def modes(self):
        """The mode of each lens parameter by name."""
        k3 = self.k3 if self.k3 != "automatic" else SIGNIFICANT if self.source == "board" else SOLVED
        return {
            "f": SOLVED, "cx": self.principal_point, "cy": self.principal_point, "k1": self.k1, "k2": self.k2,
            "k3": k3, "p1": self.decentering, "p2": self.decentering, "b1": self.affinity, "b2": self.affinity,
        }  # fmt: skip


@dataclass(frozen=True)
class Inputs:
    """Photos, and the cards that may fit them as documents."""

    blobs: str
    photos: list
    cards: list


def lens_groups(photos):
    """Photos that share a lens: same camera, size and focal length.

    Returns
    -------
    lenses : list of Lens
        A first guess for each group.
    lens_of : list of int
        The group of each photo.
    guessed : int
        How many groups have no focal length in their files.
    """
    keys = [(p.camera, p.width, p.height, None if p.focal_px is None else round(p.focal_px, 1)) for p in photos]
    groups = sorted(set(keys), key=keys.index)
    lenses, guessed = [], 0
    for _, w, h, focal in groups:
        if focal is None:
            guessed += 1
            focal = NO_EXIF_35MM * float(np.hypot(w, h)) / float(np.hypot(36.0, 24.0))
        lenses.append(Lens.guess(w, h, focal))
    return lenses, [groups.index(k) for k in keys], guessed


def targets_in_photo(blobs, photo):
    """Work item: the blob of a photo's Targets, and how many are coded, plain and doubtful."""
    t = find_targets(gray_of(read_picture(photo.path)))
    key = BlobStore(blobs).put_arrays(
        dots=t.dots, kind=t.kind, number=t.number, errors=t.errors, unlike=t.unlike, quality=quality(t)
    )
    coded = t.rows(CODED)
    return key, tuple(int((t.kind == k).sum()) for k in (CODED, PLAIN, DOUBTFUL)), coded.number, coded.dots


def board_in_photo(columns, rows, photo):
    """Work item: the Board of a photo, or None."""
    return find_board(gray_of(read_picture(photo.path)), columns, rows)


def sheet_marks(paper):
    """Place on its sheet (160, 2), sheet (160,) and dot radius (160,) of all calibration targets, by number."""
    sheets = [calibration(paper, k + 1) for k in range(CALIBRATION_SHEETS)]
    marks = [(m, k) for k, s in enumerate(sheets) for m in s.marks]
    plane = np.array([[m.x, m.y] for m, _ in marks])
    return plane, np.array([k for _, k in marks]), np.array([0.5 * m.diameter for m, _ in marks])


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
    return Sightings(r[:, 1].astype(int), r[:, 0].astype(int), r[:, 2:4], r[:, 4], plane, sheet, radius)


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
    return Sightings(r[:, 1].astype(int), r[:, 0].astype(int), r[:, 2:4], r[:, 4], plane, zero.astype(int), zero)


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


def strongest_correlations(c, count=4):
    """(name, name, correlation) of the pairs of lens parameters that depend most on each other."""
    rows = [PARAMETER_NAMES.index(n) for n in c.free]
    pairs = [(PARAMETER_NAMES[i], PARAMETER_NAMES[j], float(c.correlation[i, j])) for i in rows for j in rows if i < j]
    return sorted(pairs, key=lambda p: -abs(p[2]))[:count]


def calibration_problems(c, s, photos, per_photo):
    """What a calibration is worth saying of: warnings, photos that stick out, sheets of another size, gaps."""
    out = [problem(None, f"{x.text[0].upper()}{x.text[1:]}.", x.advice) for x in c.checks if not x.good]
    usual = float(np.nanmedian(list(per_photo.values()))) if per_photo else 0.0
    for p in photos:
        v = per_photo.get(p.id)
        if v is not None and v > 3 * usual and v > 0.1:
            out.append(
                problem(
                    p,
                    f"{p.name} does not fit the others: its residual is {v:.2f} px, theirs {usual:.2f}.",
                    "Was the zoom or the focus changed, or the photo moved? Set it aside and run again.",
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


class LensStage(Stage):
    """Targets, cards, calibration."""

    name, title = "lens", "Lens"
    about = (
        "Finds coded targets, and says which lens took the photos: from a lens card, or calibrated from these photos."
    )
    needs = ("photos",)
    reads = "photos or lens cards"
    Settings = Settings

    def gather(self, job, sitting):
        photos = photo_refs(job, sitting)
        if not photos:
            raise UmbrateError(f"“{sitting.name}” has no photos in use. Bring in photos first.", ("bring in photos",))
        return Inputs(str(job.blobs.folder), photos, [c.as_dict() for _, c in shelf()])

    def key(self, job, sitting):
        chosen = job.settings(sitting.id, self.name)
        fitting = []
        if chosen.get("source", "card") == "card":
            photos = job.photos(sitting.id, aside=False)
            fitting = [[c.name, c.date, c.lens.as_dict()] for _, c in shelf() if any(c.fits(p) for p in photos)]
        return [photo_key(job, sitting), fitting]

    def run(self, inputs, settings, report):
        photos, artefacts, counts = inputs.photos, {}, {}
        numbers = dots = None
        if settings.source == "targets" or (settings.find_targets and settings.source != "board"):
            found = report.map(
                partial(targets_in_photo, inputs.blobs), photos, "looking for targets in photo", 0.0, 0.9
            )
            for p, (key, count, _, _) in zip(photos, found, strict=True):
                artefacts["targets", p.id], counts[str(p.id)] = key, count
            numbers, dots = [f[2] for f in found], [f[3] for f in found]
        figures = {
            "photos": len(photos),
            "source": settings.source,
            "targets": counts,
            "numbers": len({int(n) for f in numbers or () for n in f}),
        }
        if settings.source in ("targets", "board"):
            groups, more, problems = self._calibrated(inputs, settings, report, numbers, dots, artefacts)
            figures["calibration"] = more
        else:
            groups, problems = self._from_cards(inputs, settings)
        return Outcome({**figures, "groups": groups}, artefacts, problems)

    # ------------------------------------------------------------------ cards
    def _from_cards(self, inputs, settings):
        """Groups of photos with one lens, each with its card where one fits; and what is to be said of that."""
        cards = [card_from_dict(d) for d in inputs.cards]
        lenses, lens_of, _ = lens_groups(inputs.photos)
        groups, problems = [], []
        for k, lens in enumerate(lenses):
            members = [p for p, m in zip(inputs.photos, lens_of, strict=True) if m == k]
            group = {
                "photos": [p.id for p in members], "camera": members[0].camera, "focal_mm": members[0].focal_mm,
                "size": [lens.width, lens.height], "lens": None, "sigma": {}, "card": None, "use": "solve",
            }  # fmt: skip
            if settings.source == "card":
                card, said = self._choose(cards, settings.card, members)
                problems += said
                if card:
                    group.update(lens=card.lens.as_dict(), sigma=card.sigma, card=card.name, use=settings.use)
            groups.append(group)
        return groups, problems

    @staticmethod
    def _choose(cards, name, members):
        """The card for some photos of one lens, or None, and problems."""
        first = members[0]
        fitting = [c for c in cards if c.fits(first)]
        if name:
            chosen = next((c for c in cards if c.name == name), None)
            if chosen is None:
                return None, [problem(None, f"There is no lens card “{name}” on the shelf.", "Choose another one.")]
            if chosen not in fitting:
                text = f"The lens card “{name}” is not of {first.name}: {'; '.join(chosen.differs(first))}."
                return None, [problem(None, text, "It is not used; the lens is solved with the poses.")]
            return chosen, []
        if len(fitting) > 1:
            names = ", ".join(f"“{c.name}” ({c.date})" for c in fitting[:4])
            text = f"{len(fitting)} lens cards fit: {names}. The newest is used."
            return fitting[0], [problem(None, text, "Was it the same focus distance? Else choose another card.")]
        near = [c for c in cards if c.camera == first.camera and not fitting]
        if near:
            text = f"No lens card fits {first.name}: of “{near[0].name}” {'; '.join(near[0].differs(first))}."
            return None, [problem(None, text, "The lens is solved with the poses.")]
        return (fitting[0] if fitting else None), []

    # ------------------------------------------------------------------ calibrating
    def _calibrated(self, inputs, settings, report, numbers, dots, artefacts):
        photos = inputs.photos
        kinds = Counter((p.camera, p.width, p.height, p.focal_mm) for p in photos)
        if len(kinds) > 1:
            told = "; ".join(f"{n} of {w} x {h}, {f or 'unknown'} mm" for (_, w, h, f), n in kinds.most_common())
            raise UmbrateError(
                f"These photos were not taken with one lens at one zoom ({told}). A calibration is of one: set the "
                "others aside, or move them to another sitting. Photos that a program has turned have changed their "
                "size: bring in those from the camera."
            )
        paper = None
        if settings.source == "targets":
            paper, known = next(iter(PAPERS)), None
            s = sightings_of_sheets(numbers, dots, paper)
        else:
            boards = report.map(
                partial(board_in_photo, settings.columns, settings.rows),
                photos,
                "looking for the board in photo",
                0.0,
                0.9,
            )
            s = sightings_of_board(boards, settings.columns, settings.rows, settings.square_mm)
            known = 0.002 * settings.square_mm
        report.progress(0.92, "solving the lens")
        first = photos[0]
        solve = partial(
            calibrate, width=first.width, height=first.height, photos=len(photos), modes=settings.modes(),
            known_sigma=known, stop=report.check,
        )  # fmt: skip
        c = solve(s)
        if paper and which_paper(c.points) != paper:
            paper = which_paper(c.points)
            s = sightings_of_sheets(numbers, dots, paper)
            c = solve(s)
        length2 = (c.residuals**2).sum(1)
        per_photo = {
            p.id: float(np.sqrt(length2[c.used & (s.photo == k)].mean() / 2))
            for k, p in enumerate(photos)
            if (c.used & (s.photo == k)).any()
        }
        artefacts["calibration", None] = BlobStore(inputs.blobs).put_arrays(
            photo_ids=np.array([p.id for p in photos]), photo=s.photo, point=s.point, xy=s.xy, residual=c.residuals,
            used=c.used, poses=c.poses, points=c.points, correlation=c.correlation,
        )  # fmt: skip
        sigma = {n: float(c.sigma[PARAMETER_NAMES.index(n)]) for n in c.free}
        more = {
            "lens": c.lens.as_dict(), "sigma": sigma, "free": c.free, "rms_px": c.rms_px, "unit": c.unit,
            "photos": len(per_photo), "sightings": int(c.used.sum()), "left_out": int((~c.used).sum()), "paper": paper,
            "targets": len(np.unique(s.point[c.used])), "correlations": strongest_correlations(c),
            "per_photo": {str(k): round(v, 4) for k, v in per_photo.items()},
            "coverage": coverage(s.xy[c.used], first.width, first.height).tolist(), "date": date.today().isoformat(),
            "checks": [{"good": bool(x.good), "text": x.text} for x in c.checks],
        }  # fmt: skip
        group = {
            "photos": [p.id for p in photos], "camera": first.camera, "focal_mm": first.focal_mm,
            "size": [first.width, first.height], "lens": c.lens.as_dict(), "sigma": sigma, "card": None,
            "use": settings.use,
        }  # fmt: skip
        problems = calibration_problems(c, s, photos, per_photo)
        unused = [p for p in photos if p.id not in per_photo]
        problems += [
            problem(p, f"{p.name} shows too few targets to serve.", "Come nearer or set it aside.") for p in unused
        ]
        return [group], more, problems

    # ------------------------------------------------------------------ for people
    def rows(self, f):
        out = []
        c = f.get("calibration")
        if c:
            names = {"f": "Focal length", "cx": "Principal point x", "cy": "Principal point y"}
            values = dict(zip(PARAMETER_NAMES, Lens.from_dict(c["lens"]).vector, strict=True))
            for n in c["free"]:
                v, sd = values[n], c["sigma"][n]
                text = f"{v:.2f} ± {sd:.2f} px" if n in ("f", "cx", "cy", "b1", "b2") else f"{v:.5f} ± {sd:.5f}"
                out.append((names.get(n, n), text, "Solved value and its standard deviation"))
            out += [
                ("Residual", f"{c['rms_px']:.3f} px", "Root mean square of a coordinate, of all sightings used"),
                (
                    "Sightings",
                    f"{c['sightings']:,}, {c['left_out']} left out",
                    "Readings of targets or corners in photos",
                ),
                ("Photos", f"{c['photos']} of {f['photos']}", "Photos that took part"),
            ]
            a, b, r = c["correlations"][0] if c["correlations"] else ("", "", 0)
            if a:
                out.append(
                    ("Strongest correlation", f"{a}, {b}: {r:+.2f}", "Near 1: the two cannot be told apart well")
                )
        else:
            for g in f["groups"]:
                out.append(
                    (
                        f"{g['camera'] or 'Camera unknown'}",
                        g["card"] or "no card",
                        f"{len(g['photos'])} photos of {g['size'][0]} x {g['size'][1]}, "
                        f"{g['focal_mm'] or 'unknown'} mm",
                    )
                )
        if f["targets"]:
            coded = sum(x[0] for x in f["targets"].values())
            doubt = sum(x[2] for x in f["targets"].values())
            out.append(("Targets", f"{f['numbers']} in {coded:,} sightings", "Different coded targets, and how often"))
            if doubt:
                out.append(("Doubtful readings", f"{doubt}", "Rings that could not be read for sure: not used"))
        return out

    def histogram(self, figures):
        c = figures.get("calibration")
        if not c or len(c["per_photo"]) < 2:
            return None
        values = list(c["per_photo"].values())
        counts, edges = np.histogram(values, bins=min(12, max(4, len(values))), range=(0, max(values) * 1.05))
        return Histogram("Residual of the photos", "px", edges.tolist(), counts.tolist())

    def headline(self, figures):
        targets = f"{figures['numbers']} targets" if figures["numbers"] else ""
        c = figures.get("calibration")
        if c:
            return f"{c['rms_px']:.3f} px", f"calibrated, {c['photos']} photos"
        cards = {g["card"] for g in figures["groups"]}
        if cards == {None}:
            return "solved later", targets or "no card fits"
        return ", ".join(sorted(x for x in cards if x)), targets or USES[figures["groups"][0]["use"]]


def card_of(job, sitting, name):
    """The LensCard of a sitting's calibration, to keep under a name.

    Raises
    ------
    UmbrateError
        When the sitting has none.
    """
    done = job.result(sitting.id, "lens")
    c = done.figures.get("calibration") if done else None
    if not c:
        raise UmbrateError(f"“{sitting.name}” has no calibration yet. Run Lens from calibration sheets first.")
    first = next(p for p in job.photos(sitting.id) if p.id in done.figures["groups"][0]["photos"])
    if not name.strip():
        raise UmbrateError("A lens card needs a name.")
    notes = [p["text"] for p in done.problems if p["photo"] is None]
    return LensCard(
        name.strip(), first.camera, first.lens, first.focal_mm, Lens.from_dict(c["lens"]), c["sigma"], c["date"],
        c["photos"], c["sightings"], c["rms_px"], notes,
    )  # fmt: skip
