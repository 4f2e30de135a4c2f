"""Poses: where each photo was taken, how the lens bends, and the sparse cloud of tie points."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.later import Later
from ...core.poses.choose import CHEAP
from ...core.poses.marked import missing
from ...sitting.marks import marks_of
from ...sitting.masks import mask_blobs, thing_blobs
from ...sitting.photos import photo_key, photo_refs
from ..base import Forecast, Histogram, Shown, Stage, StageSettings, fingerprint, only
from .figures import RESIDUAL_TOP_PX, PosesFigures
from .inputs import ADJUST, FEATURES, GO_ON, MARKED, START_OVER, Before, Inputs, Unchanged
from .merging import gather_merged
from .sharing import heard, knows_better, shares

# what computes is imported where it is run: in the worker
outcome = Later("umbrate.stages.poses.outcome")
looks = Later("umbrate.stages.poses.looks")

#: settings that count when the sittings of a joined row are adjusted together
OF_MERGING = ("solve_lens", "lens_parameters", "use_targets", "min_sightings", "min_angle_deg")


class Settings(StageSettings):
    """How features are found and matched, and what is solved."""

    ties: Literal["features", "marked points"] = Field(
        FEATURES,
        title="Ties",
        description="Features: what photos share is found in them, and points marked by hand help. Marked points "
        "alone: two or three photos without any features, six shared points each; the lens stays as it is.",
        json_schema_extra={"labels": {FEATURES: "features and marks", MARKED: "marked points alone"}, "short": True},
    )
    features: int = Field(
        6000,
        ge=500,
        le=40000,
        title="Features",
        description="At most this many key points a photo.",
        json_schema_extra={"unit": "per photo", "short": True},
    )
    fine: bool = Field(
        True,
        title="Fine features",
        description="Also look for key points in the doubled picture: more and "
        "more precise ones, about twice the time.",
        json_schema_extra={"short": True},
    )
    largest_side: int = Field(
        3200,
        ge=800,
        le=20000,
        title="Largest side",
        description="Photos larger than this are halved, once or more, before features are looked for: finer detail "
        "than that costs much time and adds little.",
        json_schema_extra={"unit": "px"},
    )
    pairs: Literal["by itself", "all", "likeness", "order", "near"] = Field(
        "by itself",
        title="Which pairs",
        description=f"Which photos are matched with each other. By itself: all up to {CHEAP} photos, else each with "
        "those likest to it, or those that stand near it when going on. In shooting order: for rings and videos, those "
        "taken before and after, and a few likest to close the loop.",
        json_schema_extra={
            "labels": {
                "by itself": "by itself",
                "all": "all",
                "likeness": "the likest",
                "order": "in shooting order",
                "near": "near each other",
            },
        },
    )
    neighbors: int = Field(
        20,
        ge=2,
        le=500,
        title="Partners",
        description="With about so many others each photo is matched, where not all pairs are.",
        json_schema_extra=only("pairs", "by itself", "likeness", "order", "near", unit="per photo"),
    )
    solve_lens: bool = Field(
        True,
        title="Solve the lens",
        description="Refine focal length, principal point and distortion from the guess that the photos' EXIF data "
        "give, or from a lens card that is not to be used as it is.",
        json_schema_extra={"short": True},
    )
    lens_parameters: Literal["solved", "if significant"] = Field(
        "solved",
        title="Distortion",
        description="Solved: every parameter the number of photos allows. If significant: those that do not differ "
        "from what they started from by 2.6 of their standard deviations go back to it.",
        json_schema_extra=only("solve_lens", True),
    )
    around: Literal["when needed", "always", "never"] = Field(
        "when needed",
        title="What turns with it",
        description="What the masks mark as turning with the object (disc, mat, foam) helps to place photos: when "
        "photos stay out without it, always, or never.",
        json_schema_extra={"later": True},
    )
    share_lens: bool = Field(
        True,
        title="Share the lens",
        description="What other sittings know of the lens counts too, where the files say that they were taken with "
        "the same camera, lens, focal length and focus, on the same day, and the photos do not contradict that.",
        json_schema_extra=only("solve_lens", True, short=True, later=True),
    )
    use_targets: bool = Field(
        True,
        title="Use targets",
        description="Coded targets that the Lens stage found are tie points too. They must not stand still while the "
        "object turns.",
        json_schema_extra={"short": True},
    )
    drop_still: bool = Field(
        True,
        title="Drop still features",
        description="Key points that stay at one pixel while others move (a backdrop behind a turntable, dust) are "
        "left out.",
    )
    ratio: float = Field(
        0.85,
        ge=0.5,
        le=0.95,
        title="Match ratio",
        description="A match must be this much better than the second best: lower is stricter.",
    )
    verify_px: float = Field(
        3.0,
        ge=0.5,
        le=20,
        title="Verify within",
        description="Largest distance of a match from its epipolar line, for photos 1600 pixels wide.",
        json_schema_extra={"unit": "px"},
    )
    min_sightings: int = Field(
        18,
        ge=8,
        le=200,
        title="Least sightings",
        description="A photo comes in when at least this many of its points agree on one place for it.",
    )
    min_angle_deg: float = Field(
        2.0,
        ge=0.2,
        le=20,
        title="Least ray angle",
        description="Tie points whose rays meet at a smaller angle are left out.",
        json_schema_extra={"unit": "°"},
    )
    seed: int = Field(
        0,
        ge=0,
        le=999999,
        title="Random seed",
        description="Another seed draws other samples; the same seed gives the same result.",
    )


def _soft(job, sitting):
    """Sharpness, and that of most others, of photos that are clearly softer, by id; inside masks where there are."""
    out = {}
    for name in ("photos", "masks"):
        done = job.result(sitting.id, name)
        if done and done.figures.sharpness:
            measured = done.figures.sharpness
            usual = float(np.median(list(measured.values())))
            out = {i: x for i, x in out.items() if i not in measured}
            out |= {i: (measured[i], usual) for i in done.figures.soft if i in measured}
    return out


class PosesStage(Stage):
    """Features, matching, growing, adjustment."""

    name, title = "poses", "Poses"
    about = "Finds and matches features, solves where each photo was taken and the lens, and makes the sparse cloud."
    needs = ("photos", "masks", "lens")
    reads = "photos, masks or tie points"
    uses_keep_box = True
    tells_others = True
    modes: ClassVar = {
        GO_ON: "Keep the photos where they stand, let those set aside leave, and bring in the new ones",
        ADJUST: "Move everything together once more with the lens and settings as they are now, in seconds",
    }
    shows = frozenset({Shown.POINTS})
    Settings = Settings
    Figures = PosesFigures

    def counts(self, sitting, setting):
        return not sitting.members or setting in OF_MERGING

    def about_of(self, sitting):
        if not sitting.members:
            return self.about
        return "Adjusts all photos of its sittings together, with shared lens, targets and tie points between them."

    def modes_of(self, sitting):
        return {ADJUST: self.modes[ADJUST]} if sitting.members else self.modes

    def as_next(self, sitting):
        return "merge all photos" if sitting.members else super().as_next(sitting)

    def then_of(self, sitting):
        return ("scale",) if sitting.members else ()

    def needs_of(self, sitting):
        return ("join",) if sitting.members else self.needs

    def gather(self, job, sitting, settings, mode=""):
        photos = photo_refs(job, sitting)
        if len(photos) < 2:
            count = "no usable photo" if not photos else "only one usable photo"
            raise UmbrateError(
                f"“{sitting.name}” has {count}. Poses need at least two photos of the object from different "
                "places, better 20 or more, with 60 % overlap. Bring in photos to the sitting.",
                ("bring in photos",),
            )
        if not mode and self._lens_alone_changed(job, sitting, settings):
            mode = ADJUST
        mode = mode or START_OVER
        done = job.result(sitting.id, "lens")
        groups = done.figures.groups if done else []
        targets = {p.id: done.blob("targets", p.id) for p in photos if done and done.blob("targets", p.id)}
        before = self._before(job, sitting)
        if sitting.members:
            again = before if mode == ADJUST else None
            return gather_merged(
                job, sitting, photos, ADJUST, again, {
                    "groups": groups, "targets": targets, "masks": mask_blobs(job, sitting),
                    "removed": job.removed(sitting.id), "marks": marks_of(job, sitting),
                }
            )  # fmt: skip
        if mode != START_OVER and before is None:
            raise UmbrateError(f"“{sitting.name}” has no solved block to {mode}. Run Poses first.", ("run again",))
        shares = settings.solve_lens and settings.share_lens and settings.ties != MARKED
        return Inputs(
            str(job.blobs.folder), photos, mask_blobs(job, sitting), groups, targets, mode, before,
            job.removed(sitting.id), marks_of(job, sitting),
            heard=tuple(heard(job, sitting, photos, groups)) if shares else (), soft=_soft(job, sitting),
            things=thing_blobs(job, sitting),
        )  # fmt: skip

    def _lens_news(self, job, sitting):
        """What other sittings say of the result's lens by now that they did not when it was made: a clause, or ""."""
        done = job.result(sitting.id, "poses")
        solves = job.settings(sitting.id, "poses").get("solve_lens", True)  # as it is kept: it may be no valid one
        if done is None or sitting.members or not solves or not shares(job, sitting):
            return ""

        def clause():
            taken = {t.sitting for t in done.figures.shared.taken}
            left = next((s.name for s in job.photo_sittings() if s.id in taken and not shares(job, s)), "")
            if left:
                return f"lens parted from {left}"
            lens = job.result(sitting.id, "lens")
            groups = lens.figures.groups if lens else []
            name = knows_better(done.figures, heard(job, sitting, photo_refs(job, sitting), groups))
            return f"lens better known by {name}" if name else ""

        return job.remembered(("news of the lens", sitting.id), clause)

    def _lens_alone_changed(self, job, sitting, settings):
        """Whether a result holds but for what other sittings know of its lens by now: seconds mend that."""
        if not self._lens_news(job, sitting):
            return False
        mark = fingerprint(
            self, job, sitting, settings, lambda n: r.fingerprint if (r := job.result(sitting.id, n)) else ""
        )
        done = job.result(sitting.id, "poses")
        return done.fingerprint == mark and done.figures.made_from is not None

    def outdated(self, job, sitting, done, is_current):
        return self._lens_news(job, sitting)

    def invited(self, job, sitting, settings):
        return bool(self._lens_news(job, sitting))

    @staticmethod
    def _before(job, sitting):
        """What the last result has for this run, or None."""
        done = job.result(sitting.id, "poses")
        if done is None or done.figures.made_from is None:
            return None
        carried = {
            k: v for k, v in done.artefacts.items() if k[0] in ("pairs", "matches") or k[0].startswith("fragment")
        }
        return Before(
            done.blob("block"),
            {p: key for (name, p), key in done.artefacts.items() if name == "features"},
            done.figures.made_from,
            done.blob("matches"),
            done.figures.match_key,
            carried,
            done.settings,
            Unchanged.of(done.figures),
            done.figures.look,
            done.figures.zooms,
            done.figures.slip_px,
            done.figures.crops,
        )

    def key(self, job, sitting, settings):
        removed = job.removed(sitting.id)
        more = [removed] if removed else []
        if sitting.members:
            found = job.join_found(sitting.id)
            return [found.moves, found.ties, *more] if found else []
        if settings.ties == MARKED:
            more.append(marks_of(job, sitting))  # else they help, but what was solved without them stays good
        return [photo_key(job, sitting), sorted(job.hand_masks(sitting.id).items()), *more]

    def run(self, inputs, settings, report):
        return outcome.outcome(looks.make_block(inputs, settings, report), inputs, settings, report)

    def forecast(self, job, sitting, settings):
        """Of marked points alone: what is still to be marked."""
        if settings.ties != MARKED:
            return None
        photos = job.photos(sitting.id, aside=False)
        marks = marks_of(job, sitting)
        numbers = [np.array([m for m, _, seen in marks if p.id in {s[0] for s in seen}], int) for p in photos]
        told, able = missing(numbers, [p.name for p in photos])
        if able:
            left = f" {' '.join(told[:2])}" if told else ""
            return Forecast(f"{sum(map(len, numbers))} marked places: enough to solve.{left}")
        return Forecast(" ".join(told[:3]) or "Mark at least six places in two photos.", False, ("mark points",))

    def histogram(self, figures):
        counts = figures.residual_histogram
        edges = np.linspace(0, RESIDUAL_TOP_PX, len(counts) + 1).tolist()
        return Histogram("Residuals of the sightings", "distance seen to predicted (px)", edges, counts)

    def can_go_on(self, figures):
        return figures.made_from is not None

    def headline(self, figures):
        left = figures.photos - figures.solved
        return (
            f"{figures.solved}/{figures.photos}  {figures.rms_px:.2f} px",
            "doubtful" if figures.doubt else f"{left} not placed" if left else f"{figures.points:,} points",
        )
