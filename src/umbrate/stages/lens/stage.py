"""Lens: targets in the photos, and which lens took them: from a card, from targets, or not yet known."""

import json
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from pydantic import Field, field_validator

from ...core.errors import UmbrateError
from ...core.geometry.lens import PARAMETER_NAMES
from ...core.imaging.sharpness import gray_of
from ...core.later import Later
from ...core.lens.calibrate import FIXED, SIGNIFICANT, SOLVED
from ...core.lens.checks import GOOD_PHOTOS
from ...core.targets.detect import CODED, DOUBTFUL, PLAIN, find_targets, quality
from ...formats.lenscards import card_from_dict, shelf
from ...job.blobs import BlobStore
from ...job.contents import TARGETS
from ...sitting.lenses import group_name, lens_groups
from ...sitting.photos import photo_key, photo_picture, photo_refs
from ..base import Histogram, Outcome, Shown, Stage, StageSettings, only, problem
from .figures import CALIBRATED, Calibration, LensFigures, LensGroup

# what computes is imported where it is run: in the worker
calibration = Later("umbrate.stages.lens.calibration")

SOURCES = {
    "card": "a lens card that fits",
    "targets": "calibration sheets",
    "board": "a checkerboard",
    "solve": "solved with the poses",
}
DOUBTS = 3  #: so many targets that cannot be read for sure, and more than can, are tried in a mirror
TRIED = 4  #: photos
USES = {"trusted": "as it is", "refined": "refined with the poses"}
MODES = {SOLVED: "solved", SIGNIFICANT: "if significant", FIXED: "fixed at 0"}
DETECTION = 1  #: raised when targets are found in another way, so that they are looked for anew


HELD_APART = 1.25  #: a focal length held at more times what the photos' files say is pointed out


def held_values(text):
    """Values by name of lens parameters in a text such as "f 2412.5, k3 0".

    Raises
    ------
    ValueError
        Where it says something else.
    """
    out = {}
    for part in filter(None, (x.strip() for x in text.replace(";", ",").split(","))):
        name, _, value = part.replace("=", " ").partition(" ")
        try:
            out[name.lower()] = float(value)
        except ValueError:
            raise ValueError(f"“{part}” is no parameter and its value. Write such as f 2412.5, k3 0.") from None
        if name.lower() not in PARAMETER_NAMES or not np.isfinite(out[name.lower()]):
            raise ValueError(f"There is no lens parameter “{name}”. There are {', '.join(PARAMETER_NAMES)}.")
    if out.get("f", 1.0) <= 0:
        raise ValueError("A focal length is held at a value above 0, in pixels.")
    return out


def _mode(title, default):
    return Field(
        default,
        title=title,
        description="Solved, fixed at 0, or solved and dropped again where it does not differ from 0 by more than "
        "2.6 of its standard deviations.",
        json_schema_extra=only("source", "targets", "board", labels=MODES),
    )


Mode = Literal["solved", "if significant", "fixed"]


class GroupChoice(StageSettings):
    """Where the lens of one group of photos comes from, where it is not as for the others."""

    card: str = ""  #: name of the lens card; empty: the newest that fits
    use: Literal["trusted", "refined", "solve"] = "trusted"


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
        json_schema_extra=only("source", "card", kind="card", short=True),
    )
    use: Literal["trusted", "refined"] = Field(
        "trusted",
        title="Use it",
        description="As it is, or as a start that the poses refine within its standard deviations.",
        json_schema_extra=only("source", "card", "targets", "board", labels=USES, short=True),
    )
    find_targets: bool = Field(
        True,
        title="Look for targets",
        description="Find coded targets in all photos.",
        json_schema_extra=only("source", "card", "solve", short=True),
    )
    columns: int = Field(
        0,
        ge=0,
        le=100,
        title="Board columns",
        description="Inner corners along the longer side; 0: as most photos show it.",
        json_schema_extra=only("source", "board", short=True),
    )
    rows: int = Field(
        0,
        ge=0,
        le=100,
        title="Board rows",
        description="Inner corners along the shorter side; 0: as most photos show it.",
        json_schema_extra=only("source", "board", short=True),
    )
    square_mm: float = Field(
        25.0,
        ge=0.5,
        le=1000,
        title="Square",
        description="Length of one side of a square.",
        json_schema_extra=only("source", "board", unit="mm", short=True),
    )
    groups: dict[str, GroupChoice] = Field(
        {},
        title="Groups of photos",
        description="For photos of one camera, focal length and size another card or use than for the others, such as "
        '{"A, 50 mm, 4000 x 3000": {"card": "A at 50", "use": "refined"}}.',
        json_schema_extra=only("source", "card", form=False),
    )
    leave_out: dict[str, list[int]] = Field(
        {},
        title="Left out",
        description="Numbers of targets (of a board: of corners, row by row) by photo whose sightings do not count: by "
        'its name, or surer by # and its number in the job, such as {"P1.jpg": [34], "#12": [7]}.',
        json_schema_extra=only("source", "targets", "board", form=False, own=True),
    )
    principal_point: Mode = _mode("Principal point", SOLVED)
    k1: Mode = _mode("k1", SOLVED)
    k2: Mode = _mode("k2", SOLVED)
    k3: Literal["automatic", "solved", "if significant", "fixed"] = Field(
        "automatic",
        title="k3",
        description="As the others; by itself it is solved from calibration sheets, and kept only if significant "
        "from a board, which rarely reaches the picture's corners.",
        json_schema_extra=only("source", "targets", "board", labels={"automatic": "by itself", **MODES}),
    )
    decentering: Mode = _mode("p1, p2", SOLVED)
    affinity: Mode = _mode("Affinity, skew", SIGNIFICANT)
    hold: str = Field(
        "",
        title="Held at",
        description="Lens parameters that are not solved, here or with the poses, but held at a value: such as "
        "f 2412.5, k3 0, in pixels as the figures state them (f, cx, cy, k1, k2, k3, p1, p2, b1, b2). A lens card that "
        "is used as it is holds all of them.",
        json_schema_extra={"empty": "nothing", "later": True},
    )

    @field_validator("hold")
    @classmethod
    def _values(cls, value):
        held_values(value)
        return value

    @property
    def held(self):
        """Values of the parameters that are held, by name."""
        return held_values(self.hold)

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
    found: dict  #: blob keys of targets found before, by photo id


def _focus_problems(card, photo):
    """What is to be said where a card was made at another focus distance than a photo."""
    if not card.focused_elsewhere(photo):
        return []
    text = (
        f"{photo.name} was focused at {photo.focus_m:g} m, the lens card “{card.name}” at {card.focus_m:g} m: focal "
        "length and distortion change with the focus."
    )
    return [problem(None, text, "Refine the card with the poses, or calibrate at this distance.")]


def targets_in_photo(blobs, photo):
    """Work item: the blob of a photo's Targets."""
    t = find_targets(gray_of(photo_picture(photo)))
    return BlobStore(blobs).put_arrays(
        dots=t.dots, kind=t.kind, number=t.number, errors=t.errors, unlike=t.unlike, quality=quality(t)
    )


def read_in_mirror(photo):
    """Work item: how many coded targets a photo shows when left and right are exchanged."""
    t = find_targets(np.ascontiguousarray(gray_of(photo_picture(photo))[:, ::-1]))
    return int((t.kind == CODED).sum())


def mirrored_problems(photos):
    """The problem that names mirrored photos, if there are any."""
    if not photos:
        return []
    names = ", ".join(p.name for p in photos[:4]) + (" and others" if len(photos) > 4 else "")
    text = f"Left and right are exchanged in {names}: their targets can be read in a mirror only."
    hint = "The object would come out mirrored. Bring in the photos as the camera wrote them."
    return [problem(photos[0] if len(photos) == 1 else None, text, hint, remedy=("bring in photos",))]


def found_from(photo):
    """What the targets found in a photo depend on."""
    return f"{photo.hash}:{DETECTION}"


class LensStage(Stage):
    """Targets, cards, calibration."""

    name, title = "lens", "Lens"
    about = (
        "Finds coded targets, and says which lens took the photos: from a lens card, or calibrated from these photos."
    )
    needs = ("photos",)
    reads = "photos or lens cards"
    Settings = Settings
    Figures = LensFigures
    of_members = True
    shows = frozenset({Shown.CALIBRATION})

    def applies(self, sitting):
        return not sitting.members

    def gather(self, job, sitting, settings, mode=""):
        photos = photo_refs(job, sitting)
        if not photos:
            raise UmbrateError(f"“{sitting.name}” has no photos in use. Bring in photos first.", ("bring in photos",))
        # photos come in one after the other: what was found in the others need not be looked for again
        before = job.result(sitting.id, self.name)
        searched = before.figures.found_in if before else {}
        found = {p.id: before.blob("targets", p.id) for p in photos if searched.get(p.id) == found_from(p)}
        return Inputs(str(job.blobs.folder), photos, [c.as_dict() for _, c in shelf()], found)

    def key(self, job, sitting, settings):
        fitting = []
        if settings.source == "card":
            photos = job.photos(sitting.id, aside=False)
            named = {settings.card, *(g.card for g in settings.groups.values())} - {""}
            fitting = [
                [c.name, c.date, c.lens.as_dict()]
                for _, c in shelf()
                if any(c.fits(p) or (c.name in named and not c.contradicts(p)) for p in photos)
            ]
        return [photo_key(job, sitting), fitting]

    def run(self, inputs, settings, report):
        photos, artefacts = inputs.photos, {}
        numbers = dots = None
        figures = LensFigures(photos=len(photos), source=settings.source, groups=[])
        if settings.source == "targets" or (settings.find_targets and settings.source != "board"):
            numbers, dots = self._targets(inputs, report, figures, artefacts)
        if settings.source in CALIBRATED:
            made, arrays, problems = calibration.calibrate_from(photos, settings, report, numbers, dots)
            artefacts["calibration", None] = BlobStore(inputs.blobs).put_arrays(**arrays)
            figures.groups = [self._group(photos)]
            if isinstance(made, Calibration):
                figures.calibration = made
                figures.groups[0] = figures.groups[0].model_copy(
                    update={"lens": made.lens, "sigma": made.sigma, "use": settings.use}
                )
            else:
                figures.gathering = made
        else:
            figures.groups, problems = self._from_cards(inputs, settings)
        problems = [*problems, *self._hold(inputs.photos, figures, settings)]
        mirrored = self._mirrored(photos, figures, report)
        figures.mirrored = [p.id for p in mirrored]
        return Outcome(figures, artefacts, [*problems, *mirrored_problems(mirrored)])

    @staticmethod
    def _hold(photos, figures, settings):
        """Tell the groups what is held of their lenses; what is to be said of that."""
        held, said, by_id = settings.held, [], {p.id: p for p in photos}
        for k, g in enumerate(figures.groups if held else ()):
            if g.lens is not None and g.use == "trusted":
                if g.card:
                    told = f"“{g.card}” is used as it is: what is to be held has no effect on it."
                    said.append(problem(None, told, "Choose another value of Use it, or empty Held at."))
                continue
            figures.groups[k] = g.model_copy(update={"held": held})
            guess = next((f for i in g.photos if (f := by_id[i].focal_px) is not None), None)
            if "f" in held and guess and max(held["f"] / guess, guess / held["f"]) > HELD_APART:
                told = f"The focal length is held at {held['f']:.1f} px; the files of {g.name} say {guess:.0f} px."
                said.append(problem(None, told, "Is it of this lens, and of photos of this size?"))
        return said

    @staticmethod
    def _targets(inputs, report, figures, artefacts):
        """Find the targets of all photos; returns numbers and dots of the coded ones for each."""
        new = [p for p in inputs.photos if p.id not in inputs.found]
        keys = dict(inputs.found)
        if new:
            found = report.map(partial(targets_in_photo, inputs.blobs), new, "looking for targets in photo", 0.0, 0.9)
            keys.update(zip([p.id for p in new], found, strict=True))
        numbers, dots, blobs = [], [], BlobStore(inputs.blobs)
        for p in inputs.photos:
            t = blobs.get_arrays(keys[p.id], TARGETS)
            coded = t["kind"] == CODED
            numbers.append(t["number"][coded])
            dots.append(t["dots"][coded])
            artefacts["targets", p.id] = keys[p.id]
            figures.targets[p.id] = tuple(int((t["kind"] == k).sum()) for k in (CODED, PLAIN, DOUBTFUL))
            figures.found_in[p.id] = found_from(p)
        figures.seen_numbers = sorted({int(n) for f in numbers for n in f})
        figures.numbers = len(figures.seen_numbers)
        return numbers, dots

    @staticmethod
    def _mirrored(photos, figures, report):
        """Photos whose targets can be read in a mirror only; a few of those in doubt are tried."""
        doubt = [p for p in photos if (n := figures.targets.get(p.id)) and n[2] >= DOUBTS and n[2] > n[0]]
        doubt.sort(key=lambda p: -figures.targets[p.id][2])
        tried = doubt[:TRIED]
        read = report.map(read_in_mirror, tried, "reading targets in a mirror, photo", 0.9, 1.0) if tried else []
        return [
            p for p, n in zip(tried, read, strict=True)
            if n >= DOUBTS and n > 2 * figures.targets[p.id][0]
        ]  # fmt: skip

    @staticmethod
    def _group(members):
        """Photos of one lens, of which nothing is known yet."""
        first = members[0]
        return LensGroup(
            name=group_name(first), photos=[p.id for p in members], camera=first.camera, focal_mm=first.focal_mm,
            size=(first.width, first.height),
        )  # fmt: skip

    # ------------------------------------------------------------------ cards
    def _from_cards(self, inputs, settings):
        """Groups of photos with one lens, each with its card where one fits; and what is to be said of that."""
        cards = [card_from_dict(d) for d in inputs.cards]
        lenses, lens_of, _ = lens_groups(inputs.photos)
        groups, problems = [], []
        for k in range(len(lenses)):
            group = self._group([p for p, m in zip(inputs.photos, lens_of, strict=True) if m == k])
            chosen = settings.groups.get(group.name) or GroupChoice(card=settings.card, use=settings.use)
            if settings.source == "card" and chosen.use != "solve":
                first = next(p for p in inputs.photos if p.id == group.photos[0])
                card, said = self._choose(cards, chosen.card, first)
                problems += said
                if card:
                    known = {"lens": card.lens.as_dict(), "sigma": card.sigma, "card": card.name, "use": chosen.use}
                    group = group.model_copy(update=known)
            groups.append(group)
        unknown = set(settings.groups) - {g.name for g in groups}
        if unknown and settings.source == "card":
            known = "; ".join(f"“{g.name}”" for g in groups)
            told = f"There are no photos of “{sorted(unknown)[0]}”. The groups here are: {known}."
            problems.append(problem(None, told, "The choice made for it has no effect."))
        return groups, problems

    @staticmethod
    def _choose(cards, name, first):
        """The card for photos like the `first`, or None, and problems."""
        fitting = [c for c in cards if c.fits(first)]
        if name:
            chosen = next((c for c in cards if c.name == name), None)
            if chosen is None:
                return None, [problem(None, f"There is no lens card “{name}” on the shelf.", "Choose another one.")]
            if not chosen.contradicts(first) and chosen not in fitting:
                text = f"The lens card “{name}” was chosen by hand: {first.name} does not say what it was taken with."
                told = "If it was another lens, zoom or focus, the poses will not fit well: look at their residual."
                return chosen, [problem(None, text, told)]
            if chosen not in fitting:
                text = f"The lens card “{name}” is not of {first.name}: {'; '.join(chosen.contradicts(first))}."
                return None, [problem(None, text, "It is not used; the lens is solved with the poses.")]
            return chosen, _focus_problems(chosen, first)
        # of the cards that fit, those at the same focus distance come first
        fitting.sort(key=lambda c: c.focused_elsewhere(first))
        same = [c for c in fitting if not c.focused_elsewhere(first)]
        if len(same) > 1:
            names = ", ".join(f"“{c.name}” ({c.date})" for c in same[:4])
            text = f"{len(same)} lens cards fit: {names}. The newest is used."
            return same[0], [problem(None, text, "Was it the same focus distance? Else choose another card.")]
        if fitting:
            return fitting[0], _focus_problems(fitting[0], first)
        near = [c for c in cards if c.camera == first.camera]
        if near:
            text = f"No lens card fits {first.name}: of “{near[0].name}” {'; '.join(near[0].differs(first))}."
            return None, [problem(None, text, "The lens is solved with the poses.")]
        return None, []

    def merged(self, figures):
        """Of several sittings: photos of one lens are one group where all say the same of it."""
        groups, at = [], {}
        for f in figures:
            for g in f.groups:
                same = json.dumps([g.name, g.lens, g.card, g.use, g.held], sort_keys=True)
                if same in at:
                    k = at[same]
                    groups[k] = groups[k].model_copy(update={"photos": groups[k].photos + g.photos})
                else:
                    at[same] = len(groups)
                    groups.append(g)
        sources = {f.source for f in figures}
        # targets that stick to the object are in several sittings: they are not counted twice
        seen = sorted({n for f in figures for n in f.seen_numbers or ()})
        known = all(f.seen_numbers is not None for f in figures)
        return LensFigures(
            photos=sum(f.photos for f in figures),
            source=sources.pop() if len(sources) == 1 else "card",
            targets={i: n for f in figures for i, n in f.targets.items()},
            found_in={i: m for f in figures for i, m in f.found_in.items()},
            seen_numbers=seen,
            numbers=len(seen) if known else max(f.numbers for f in figures),
            groups=groups,
            mirrored=[i for f in figures for i in f.mirrored],
        )

    # ------------------------------------------------------------------ for people
    def histogram(self, figures):
        c = figures.calibration
        if not c or len(c.per_photo) < 2:
            return None
        values = list(c.per_photo.values())
        counts, edges = np.histogram(values, bins=min(12, max(4, len(values))), range=(0, max(values) * 1.05))
        return Histogram("Residual of the photos", "px", edges.tolist(), counts.tolist())

    def ends_here(self, figures):
        return bool(figures.calibration or figures.gathering)  # the card is what such photos are for

    def headline(self, figures):
        targets = f"{figures.numbers} targets" if figures.numbers else ""
        if c := figures.calibration:
            return f"{c.rms_px:.3f} px", f"calibrated, {c.photos} photos"
        if figures.gathering:
            return f"{figures.gathering.photos} of {GOOD_PHOTOS} photos", "not enough to calibrate"
        cards = {g.card for g in figures.groups}
        if cards == {None}:
            return "solved later", targets or "no card fits"
        return ", ".join(sorted(x for x in cards if x)), targets or USES[figures.groups[0].use]
