"""Join: how the sittings of an object lie to each other, and how sure that is."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.later import Later
from ...job.blobs import BlobStore
from ...sitting.frames import block_blob, frame_of, move_points
from ...sitting.masks import mask_blobs
from ...sitting.members import members_of
from ...sitting.picks import pick_places
from ..base import Outcome, Shown, Stage, StageSettings, problem
from .figures import JoinFigures, PairFigures
from .methods import GOOD, METHODS, NONE, PICKS, SHAPE, SURFACE, TARGETS

# what computes is imported where it is run: in the worker
joining = Later("umbrate.stages.join.whole")
members_read = Later("umbrate.stages.join.members")

AS_KNOWN, FREE = "as known", "free"


class Settings(StageSettings):
    """What shows how the sittings lie, and whether their scales may differ."""

    targets: bool = Field(
        True,
        title="By targets",
        description="Coded targets stuck on the object, found in both sittings. Those on the mat or the table are "
        "recognized and not used.",
        json_schema_extra={"short": True},
    )
    surface: bool = Field(
        True,
        title="By the surface",
        description="Tie points that look alike in both sittings: needs a band round the members that both see, and "
        "masks or a keep box that leave out what is not the object.",
        json_schema_extra={"short": True},
    )
    picks: bool = Field(
        True,
        title="By picks",
        description="Places that you picked in both sittings, three or more, where there are any.",
        json_schema_extra={"short": True},
    )
    shape: bool = Field(
        False,
        title="Then by shape",
        description="After a start from the others, the clouds are fitted surface to surface; without clouds, the "
        "sparse ones. It cannot hold what turns or slides along itself, such as a bowl without decoration.",
        json_schema_extra={"short": True},
    )
    scale: Literal["as known", "free"] = Field(
        AS_KNOWN,
        title="Scale",
        description="As known: scaled sittings keep their scale, and one without takes that of the others. Free: "
        "scales may differ, and the first sitting's counts.",
        json_schema_extra={"labels": {AS_KNOWN: "as known", FREE: "may differ"}},
    )

    def methods(self, picks):
        """The methods that are on, given how many picks there are."""
        on = {TARGETS: self.targets, SURFACE: self.surface, PICKS: self.picks and picks, SHAPE: self.shape}
        return tuple(w for w in METHODS if on[w])


@dataclass(frozen=True)
class Inputs:
    """The members, and what the user says."""

    blobs: str
    members: list
    roles: dict
    picks: list  #: (name, {sitting id: place (3,) in its job frame})


class JoinStage(Stage):
    """Targets, surface, picks, shape: one network of sittings."""

    name, title = "join", "Join"
    about = "Finds how the sittings of the object lie to each other, says how sure that is, and why where it is not."
    reads = "masks, roles or picks"
    Settings = Settings
    Figures = JoinFigures
    keeps = "join"
    shows = frozenset({Shown.OVERLAY})

    def applies(self, sitting):
        return bool(sitting.members)

    def takes_of(self, job, sitting):
        return [(s, "poses") for s in members_of(job, sitting)]

    def gather(self, job, sitting, settings, mode=""):
        if not sitting.members:
            raise UmbrateError(
                f"“{sitting.name}” is one sitting: there is nothing to join in it. Join it with others.",
                ("go to", "join"),
            )
        members = [members_read.member_of(job, s) for s in members_of(job, sitting)]
        return Inputs(str(job.blobs.folder), members, job.target_roles(), pick_places(job, sitting))

    def outdated(self, job, sitting, done, is_current):
        changed = next((s.name for s in members_of(job, sitting) if not is_current(s, "poses")), None)
        if changed:
            return f"{changed} changed"
        return "" if done.figures == job.join_found(sitting.id) else "it was undone"

    def key(self, job, sitting, settings):
        members = members_of(job, sitting)
        # clouds matter where they are fitted; else they only show how well it went
        clouds = [c.blob if (c := job.cloud(s.id)) else "" for s in members] if settings.shape else []
        return [
            [[s.id, block_blob(job, s)[0], frame_of(job, s).scaled] for s in members],
            [sorted(mask_blobs(job, s).items()) for s in members], sorted(job.target_roles().items()),
            [[p.name, p.used, sorted((k, str(v)) for k, v in p.places.items())] for p in job.picks(sitting.id)],
            clouds,
        ]  # fmt: skip

    def run(self, inputs, settings, report):
        members = inputs.members
        methods = settings.methods(len(inputs.picks))
        if settings.picks and not inputs.picks and not set(methods) - {SHAPE}:
            raise UmbrateError("There are no picks yet. Pick the same three or four places in both.", ("pick places",))

        def tell(done, total):
            report.check()
            report.progress(done / total, f"joining pair {done + 1} of {total}")

        whole = joining.join_whole(
            members,
            methods,
            with_scale=True if settings.scale == FREE else None,
            roles=inputs.roles,
            picks=inputs.picks,
            tell=tell,
        )
        if all(M is None for M in whole.moves[1:]):
            told = "; ".join(
                f"“{members[i].name}” and “{members[k].name}” could not be joined: {', and '.join(x.reasons)}"
                for (i, k), x in whole.joins.items()
            )
            raise UmbrateError(f"{told}. Pick the same three or four places in both.", ("pick places",))
        base = members[0]
        to_plain = np.linalg.inv(base.frame)
        ties = [
            np.column_stack([np.full(len(x.rows), i), np.full(len(x.rows), k), x.rows])
            for (i, k), x in whole.joins.items()
            if x.verdict == GOOD or len(members) == 2
        ]
        key = BlobStore(inputs.blobs).put_arrays(ties=np.concatenate([np.zeros((0, 4), np.int64), *ties]))
        on = sorted({n for x in whole.joins.values() for n in x.on_object})
        figures = JoinFigures(
            members=[s.id for s in members],
            names=[s.name for s in members],
            moves=[None if M is None else (to_plain @ M @ s.frame).tolist()
                      for s, M in zip(members, whole.moves, strict=True)],
            verdict=whole.verdict,
            joins=[_told(members, ik, x, to_plain, whole.moves) for ik, x in whole.joins.items()],
            loops=[(members[i].name, members[k].name, turn, shift) for i, k, turn, shift in whole.loops],
            support=sorted({n for x in whole.joins.values() for n in x.support} - set(on)),
            on_object=on,
            ties=key,
            unit="mm" if base.scaled else "",
        )  # fmt: skip
        return Outcome(figures, {("ties", None): key}, _problems(whole))

    def headline(self, f):
        joined = sum(M is not None for M in f.moves)
        if f.verdict == NONE:
            return "no join", f"{joined} of {len(f.moves)} sittings"
        worst = max((x.together.sigma[0] for x in f.joins if x.together), default=0.0)
        return f"{f.verdict}  ± {worst:.2g}°", f"{joined} in one frame"


def _told(members, ik, x, to_plain, moves):
    """A Join as figures; the worst places in the joined row's plain frame."""
    i, k = ik
    evidence = dict(x.evidence)
    if x.evidence.surfaces and moves[k] is not None:
        G = to_plain @ moves[k]
        worst = [[*move_points(np.array([p[:3]]), G)[0].tolist(), p[3]] for p in x.evidence.surfaces.worst]
        evidence["surfaces"] = x.evidence.surfaces.model_copy(update={"worst": worst})
    return PairFigures(
        **evidence,
        first=members[i].name, second=members[k].name, ids=[members[i].id, members[k].id], verdict=x.verdict,
        reasons=x.reasons, notes=x.notes,
        contradiction=x.contradiction, both_scaled=members[i].scaled and members[k].scaled,
        unit="mm" if members[k].scaled else "",  # lengths are the second's
        picks=x.picks,
    )  # fmt: skip


def _problems(whole):
    """What is doubtful, and what helps."""
    out = []
    for (i, k), x in whole.joins.items():
        if x.verdict == GOOD:
            continue
        needed = whole.verdict != GOOD or whole.moves[i] is None or whole.moves[k] is None
        if not needed:
            continue  # the others hold them
        a, b = whole.members[i].name, whole.members[k].name
        what = "could not be joined" if x.verdict == NONE else "are joined doubtfully"
        hint = (
            "Pick three or four places in both."
            if x.verdict == NONE
            else "Look at the overlay, let the shape follow, or pick more."
        )
        out.append(problem(None, f"“{a}” and “{b}” {what}: {'; '.join(x.reasons)}.", hint, remedy=("pick places",)))
    return out
