"""Scale: the block adjusted to known lengths and known points, and to what was marked by hand."""

from dataclasses import dataclass, replace
from itertools import combinations
from typing import Literal

import numpy as np
from pydantic import Field

from ...core.errors import UmbrateError
from ...core.geometry.similarity import fit_similarity
from ...core.measure.datum import SURE, Lengths, after, of_shape
from ...core.measure.fit import BENT_PX, fit_known
from ...core.measure.level import FLAT
from ...core.measure.network import seen_point
from ...core.measure.quantities import K95
from ...core.poses.covariance import pose_spreads
from ...core.targets.detect import CODED
from ...core.targets.printed import printed_lengths
from ...core.targets.sheets import BARS, MAT
from ...job.blobs import BlobStore
from ...job.contents import TARGETS
from ...job.lengths import CHECK, SCALE
from ...job.marks import token
from ...sitting.blocks import stored_block
from ...sitting.endpoints import control_points
from ...sitting.frames import end_text, row_of_end
from ...sitting.marks import marks_of, with_marks, without_marks
from ..base import Forecast, Outcome, Shown, Stage, StageSettings, only, problem
from .figures import KnownPoint, LengthFigures, ScaleFigures

FROM_SHEET = "sheet"
INCH = 25.4
SAME_PX = 2.0  #: marks so near in all photos that have both are of one place
FAR_MM = 2000.0  #: known coordinates whose middle is farther from zero are computed with an offset
OFFSET_MM = 1000.0  #: of which it is a multiple


class Settings(StageSettings):
    """What is known of lengths without being stated."""

    sheet_lengths: Literal["scale", "check", "off"] = Field(
        "scale",
        title="Bars of the sheets",
        description="Scale bars printed from the sheets are recognized by their targets: they set the scale, check it, "
        "or are left alone. A length stated between the same targets comes before the printed one.",
        json_schema_extra={
            "labels": {"scale": "set the scale", "check": "check it", "off": "left alone"}, "short": True,
        },
    )  # fmt: skip
    sheet_sigma_mm: float = Field(
        0.1,
        ge=0.001,
        le=10,
        title="Printed to",
        description="Standard deviation of a printed length: printers stretch paper by a tenth of a millimeter or so. "
        "Measure the bar and state its length where it matters.",
        json_schema_extra=only("sheet_lengths", "scale", "check", unit="mm"),
    )
    use_known: bool = Field(
        True,
        title="Use known points",
        description="Marked points whose coordinates are known put the block into their frame. Off: they are compared "
        "with it only.",
    )


@dataclass(frozen=True)
class Inputs:
    """A block, what was marked, and what is known."""

    blobs: str
    block: str
    marks: tuple
    photos: dict  #: names by id
    lengths: tuple  #: (first, second, mm, sigma in mm, role)
    known: dict  #: end to (coordinates, sigmas)
    names: dict  #: of marked points by end


class ScaleStage(Stage):
    """Known lengths, known points, marked points: one adjustment."""

    name, title = "scale", "Scale"
    about = "Sets the scale by known lengths, ties the block to marked and known points, and checks other lengths."
    needs = ("poses",)
    reads = "lengths or points"
    shows = frozenset({Shown.POINTS, Shown.LENGTHS})
    Settings = Settings
    Figures = ScaleFigures

    def gather(self, job, sitting, settings, mode=""):
        poses = job.result(sitting.id, "poses")
        if poses is None:
            raise UmbrateError(f"“{sitting.name}” has no poses yet. Run Poses first.", ("go to", "poses"))
        if poses.blob("covariance") is None:
            raise UmbrateError(
                f"The poses of “{sitting.name}” were solved by an older version. Run Poses again.", ("go to", "poses")
            )
        return Inputs(
            str(job.blobs.folder),
            poses.blob("block"),
            marks_of(job, sitting),
            {p.id: p.name for p in job.photos(sitting.id)},
            tuple((k.first, k.second, k.value_mm, k.sigma_mm, k.role) for k in job.lengths(sitting.id)),
            control_points(job, sitting),
            job.end_names(sitting.id),
        )

    def invited(self, job, sitting, settings):
        """Lengths are stated, points are marked, or bars of the sheets were found."""
        if job.lengths(sitting.id) or job.marked_points(sitting.id) or job.known_targets(sitting.id):
            return True
        lens = job.result(sitting.id, "lens")
        keys = [k for (name, _), k in lens.artefacts.items() if name == "targets"] if lens else []
        if settings.sheet_lengths == "off" or not lens or not lens.figures.numbers:
            return False
        found = [job.blobs.get_arrays(k, TARGETS) for k in keys]
        return any(np.isin(a["number"][a["kind"] == CODED], [*BARS, *MAT]).any() for a in found)

    def key(self, job, sitting, settings):
        poses = job.result(sitting.id, "poses")
        i = self.gather(job, sitting, settings) if poses and poses.blob("covariance") else None
        if i is None:
            return []
        marks = [(m, seen) for m, _, seen in i.marks]  # what a point is called changes nothing
        return [i.block, marks, i.lengths, sorted(i.known.items())]

    def run(self, inputs, settings, report):
        blobs = BlobStore(inputs.blobs)
        poses_block = stored_block(blobs, inputs.block)
        if poses_block.free_lens is None:
            raise UmbrateError("These poses were solved by an older version. Run Poses again.", ("go to", "poses"))
        report.progress(0.1, "placing marked points")
        b, lost = with_marks(poses_block, inputs.marks)
        names = {i: n for i, n, _ in inputs.marks}
        problems = [
            problem(None, f"“{names[i]}” is {why}.", "Mark it in another photo.", remedy=("mark points",))
            for i, why in lost.items()
        ]
        problems += _same_places(b, names)
        rows, skipped = self._lengths(inputs, settings, b)
        problems += skipped
        known, offset, ends, said = self._known(inputs, settings, b)
        problems += said
        scale_rows = [r for r in rows if r["role"] == SCALE]
        lengths = Lengths(
            np.array([r["rows"][0] for r in scale_rows], int), np.array([r["rows"][1] for r in scale_rows], int),
            np.array([r["value"] for r in scale_rows], float), np.array([r["sigma"] for r in scale_rows], float),
        )  # fmt: skip
        report.progress(0.3, "adjusting")
        fitted = fit_known(b.of_solved(), lengths, known, report.check)
        report.progress(0.8, "checking lengths")
        figures = self._judge(fitted, rows, scale_rows, lengths, known, b, ends)
        problems += self._doubts(fitted, scale_rows, rows, figures, inputs.names)
        artefacts = self._put(blobs, b, fitted)
        plain = without_marks(poses_block).points
        M = fit_similarity(plain, fitted.block.points[: len(plain)])
        return Outcome(
            ScaleFigures(
                **figures,
                made_of=inputs.block,
                from_plain=M.tolist(),
                scaled=fitted.scaled,
                framed=known is not None,
                offset=offset,
                bent=fitted.bent_px > BENT_PX,
                bent_px=round(fitted.bent_px, 4),
                rms_px=round(float(np.sqrt((fitted.residual**2).sum(1).mean())), 4),
                marks={
                    token(m): _rms(np.linalg.norm(fitted.residual[b.of_point(p)], axis=1)) for m, p in b.marks.items()
                },
            ),
            artefacts,
            problems,
        )

    # ------------------------------------------------------------------ what is known
    @staticmethod
    def _lengths(inputs, settings, b):
        """Rows of lengths whose ends the block has, and problems with the others."""

        def row_of(end):
            return row_of_end(b, end)

        def told(end):
            return end_text(end, inputs.names)

        out, problems, stated = [], [], set()
        for first, second, value, sigma, role in inputs.lengths:
            stated.add(frozenset((first, second)))
            ends = row_of(first), row_of(second)
            if role not in (SCALE, CHECK):
                continue
            missing = [told(e) for e, r in zip((first, second), ends, strict=True) if r is None]
            if missing:
                text = f"The length of {value:g} mm from {told(first)} to {told(second)} cannot be used: "
                text += f"{' and '.join(missing)} {'is' if len(missing) == 1 else 'are'} not in the block."
                problems.append(problem(None, text, "Mark it in two solved photos, or choose another end."))
                continue
            out.append(
                {"first": first, "second": second, "rows": ends, "value": value, "sigma": sigma, "role": role,
                 "from": "stated"}
            )  # fmt: skip
        if settings.sheet_lengths != "off":
            on = sorted(b.targets.values())
            found = printed_lengths(b.label[on], b.points[on])
            bars = any(p.sheet == "bar" for p in found)
            for p in found:
                ends = str(p.first), str(p.second)
                if frozenset(ends) in stated:
                    continue
                # a mat is larger than its printer is true: where there are bars, it only checks them
                role = settings.sheet_lengths if p.sheet == "bar" or not bars else CHECK
                out.append(
                    {"first": ends[0], "second": ends[1], "rows": (row_of(ends[0]), row_of(ends[1])),
                     "value": p.length, "sigma": settings.sheet_sigma_mm, "role": role, "from": FROM_SHEET}
                )  # fmt: skip
        return out, problems

    @staticmethod
    def _known(inputs, settings, b):
        """Rows, places and sigmas of known points, or None; what was taken off the places; their ends; and problems.

        Coordinates of a map or a hall have many digits before those that matter: a round offset near the points is
        taken off, and put on again where people read coordinates. So everything is computed near zero.
        """
        at = {e: row for e in inputs.known if (row := row_of_end(b, e)) is not None}
        have = list(at)
        none = None, [0.0, 0.0, 0.0], []
        if not settings.use_known or not inputs.known:
            return *none, []
        if len(have) < 3:
            text = f"{len(have)} of {len(inputs.known)} known points are in the block: a frame needs three."
            return *none, [problem(None, text, "Mark more of them in two photos each.", remedy=("mark points",))]
        X = np.array([inputs.known[i][0] for i in have], float)
        s = np.linalg.svd(X - X.mean(0), compute_uv=False)
        if s[1] < FLAT * s[0]:
            text = f"The {len(have)} known points lie nearly on one line ({100 * s[1] / max(s[0], 1e-300):.1f} % aside "
            text += "of it): the block could turn about it, so they are not used."
            return *none, [problem(None, text, "Mark a known point that lies aside of it.", remedy=("mark points",))]
        sigma = np.array([inputs.known[i][1] for i in have], float)
        middle = X.mean(0)
        offset = np.round(middle / OFFSET_MM) * OFFSET_MM if np.abs(middle).max() > FAR_MM else np.zeros(3)
        return (np.array([at[i] for i in have]), X - offset, sigma), offset.tolist(), have, []

    # ------------------------------------------------------------------ what came of it
    @staticmethod
    def _judge(fitted, rows, scale_rows, lengths, known, b, ends):
        """Figures of lengths, known points and targets."""
        block, network = fitted.block, fitted.network
        used = ~fitted.left_out
        targets = sorted(b.targets.values())
        every = sorted({*targets, *(i for r in rows for i in r["rows"]), *(known[0].tolist() if known else [])})
        at = {p: k for k, p in enumerate(every)}
        cov = network.joint([seen_point(block, p) for p in every]) if every else np.zeros((0, 0))
        X = block.points[every]
        some = Lengths(
            np.array([at[p] for p in lengths.first[used]], int), np.array([at[p] for p in lengths.second[used]], int),
            lengths.value[used], lengths.sigma[used],
        )  # fmt: skip
        rows_known = None if known is None else (np.array([at[p] for p in known[0]], int), known[1], known[2])
        if every:
            cov = after(cov, X, some, rows_known)
        out = []
        j = fitted.judged
        for r in rows:
            a, c = at[r["rows"][0]], at[r["rows"][1]]
            d = X[a] - X[c]
            length = float(np.linalg.norm(d))
            J = np.zeros(cov.shape[0])
            J[3 * a : 3 * a + 3], J[3 * c : 3 * c + 3] = d / length, -d / length
            spread = float(np.sqrt(max(J @ cov @ J, 0.0)))
            row = LengthFigures(
                **{k: r[k] for k in ("first", "second", "value", "sigma", "role", "from")}, length=length,
                sigma_length=spread,
            )  # fmt: skip
            if r["role"] == SCALE:
                k = next(i for i, s in enumerate(scale_rows) if s is r)
                row.residual, row.sigmas = _plain(j.residual[k]), _plain(j.sigmas[k])
                row.part, row.error = _plain(j.part[k]), _plain(j.error[k])
                row.left_out = bool(fitted.left_out[k])
            else:
                error = length - r["value"]
                both = float(np.hypot(spread, r["sigma"]))
                row.error, row.half95, row.sigmas = error, K95 * both, error / both
            out.append(row)
        figures = {"lengths": out, "contradict": fitted.contradict, "unit": round(fitted.covariance.unit, 3)}
        if fitted.scaled:
            figures["scale_sigma"] = j.scale_sigma
        if len(targets) >= 3:
            sub = np.array([at[p] for p in targets])
            T = X[sub]
            pick = (3 * sub[:, None] + np.arange(3)).ravel()
            sigma = np.sqrt(np.diag(of_shape(cov[np.ix_(pick, pick)], T)).reshape(-1, 3).mean(1))
            extent = float(max(np.linalg.norm(T - p, axis=1).max() for p in T))
            figures.update(
                targets=len(sub), target_sigma=float(np.sqrt((sigma**2).mean())), extent=extent,
                target_precision=extent / float(np.sqrt((sigma**2).mean())),
            )  # fmt: skip
        if known is not None:
            res = j.residual[len(lengths) :].reshape(-1, 3)
            sig = j.sigmas[len(lengths) :].reshape(-1, 3)
            figures["known"] = {
                e: KnownPoint(residual=r.tolist(), sigmas=s.tolist()) for e, r, s in zip(ends, res, sig, strict=True)
            }
        return figures

    @staticmethod
    def _doubts(fitted, scale_rows, rows, figures, names):
        """What the lengths say of each other; names : of marked points by end."""

        def told(row):
            return f"{end_text(row.first, names)} to {end_text(row.second, names)}"

        out = []
        if not fitted.scaled:
            hint = "State a length between two targets or marked points, or lay a printed bar beside the object."
            return [problem(None, "No length is known: the block stays unscaled.", hint, remedy=("state a length",))]
        judged = [r for r in figures["lengths"] if r.role == SCALE]
        checks = [r for r in figures["lengths"] if r.role == CHECK]
        for r in judged:
            if not (r.left_out or (r.sigmas is not None and abs(r.sigmas) > SURE and not fitted.contradict)):
                continue
            text = f"The length of {r.value:g} mm from {told(r)} contradicts "
            text += f"the others: they make it {r.length:.2f} mm ({abs(r.sigmas):.0f} sigmas)."
            out.append(problem(None, f"{text}{_guess(r)}", "It is left out." if r.left_out else "Look at it."))
        if fitted.contradict:
            pair = [r for r in judged if not r.left_out]
            both = " and ".join(f"{r.value:g} mm ({told(r)})" for r in pair)
            text = f"The lengths {both} contradict each other by {abs(pair[0].sigmas):.0f} sigmas; with "
            text += "so few nothing tells which is wrong."
            out.append(problem(None, text, "Look at them, or state one more.", remedy=("state a length",)))
        if len(judged) == 1 and not checks and not figures.get("known"):
            hint = "State another length, if only as a check."
            out.append(
                problem(
                    None, "The scale comes from one length only: nothing checks it.", hint, remedy=("state a length",)
                )
            )
        for r in checks:
            if abs(r.sigmas) > SURE:
                text = f"The check length of {r.value:g} mm from {told(r)} "
                text += f"measures {r.length:.3f} mm: {r.error:+.3f} mm off, {abs(r.sigmas):.0f} sigmas."
                out.append(problem(None, f"{text}{_guess(r)}", "Look at it and at the lengths that set the scale."))
        for end, k in figures.get("known", {}).items():
            name = names.get(end, end)
            worst = max(abs(x) for x in k.sigmas)
            if worst > SURE:
                off = ", ".join(f"{x:+.2f}" for x in k.residual)
                text = f"The known point “{name}” does not fit the others: {off} mm, {worst:.0f} sigmas."
                out.append(problem(None, text, "Look at its coordinates and where it is marked."))
        return out

    @staticmethod
    def _put(blobs, b, fitted):
        """Keep the adjusted block and its covariance."""
        poses = b.poses.copy()
        poses[b.solved] = fitted.block.poses
        c = fitted.covariance
        sigma = np.sqrt(np.einsum("pii->p", c.points) / 3) * c.unit
        known = np.full((len(poses), 2), np.nan)
        known[b.solved] = np.stack(pose_spreads(fitted.block, c), 1)
        return {
            ("block", None): blobs.put_arrays(
                **replace(
                    b, poses=poses, lenses=fitted.block.lenses, points=fitted.block.points, residual=fitted.residual,
                    point_sigma=sigma, pose_sigma=known,
                ).arrays()
            ),
            ("covariance", None): blobs.put_arrays(
                cameras=c.cameras, free=np.array(sorted(fitted.block.free_lens), np.int64), unit=np.array(c.unit)
            ),
        }  # fmt: skip

    # ------------------------------------------------------------------ for people
    def forecast(self, job, sitting, settings):
        """What the scale will be made from."""
        count = sum(k.role == SCALE for k in job.lengths(sitting.id))
        if count or job.result(sitting.id, "scale"):
            return None
        lens = job.result(sitting.id, "lens")
        if settings.sheet_lengths == "scale" and lens and lens.figures.numbers:
            return Forecast("Bars printed from the sheets are looked for among the targets.")
        return Forecast("No length is stated yet: the block would stay unscaled.", False, ("state a length",))

    def headline(self, figures):
        if not figures.scaled:
            return "unscaled", f"{len(figures.marks)} marked points" if figures.marks else "no length known"
        first = f"± {100 * K95 * figures.scale_sigma:.3f} %"
        if figures.checks:
            return first, f"check {max((r.error for r in figures.checks), key=abs):+.3f} mm"
        count = len(figures.used)
        return first, f"{count} length{'s' * (count != 1)}, no check"


def _same_places(b, names):
    """Problems with marked points that are one place under two names."""
    out = []
    for (m, p), (n, q) in combinations(b.marks.items(), 2):
        here, there = b.of_point(p), b.of_point(q)
        _, i, j = np.intersect1d(b.photo[here], b.photo[there], return_indices=True)
        near = np.linalg.norm(b.xy[here][i] - b.xy[there][j], axis=1) < SAME_PX
        if len(near) and near.all():
            pair = f"“{names[m]}” and “{names[n]}”"
            out.append(
                    problem(
                        None, f"{pair} are marked at the same place: two names for one point.", "Remove one of them.",
                        remedy=("mark points",),
                    )
                )  # fmt: skip
    return out


def _plain(x):
    return float(x) if np.isfinite(x) else None


def _rms(length):
    return round(float(np.sqrt((length**2).mean())), 4) if len(length) else None


def _guess(row):
    """What a wrong length may really be, in a sentence, or nothing."""
    ratio = row.length / row.value
    for factor, told in (
        (INCH, "inches taken for millimeters"), (1 / INCH, "millimeters taken for inches"),
        (10.0, "centimeters taken for millimeters"), (0.1, "millimeters taken for centimeters"),
        (1000.0, "meters taken for millimeters"), (0.5, "twice the length"), (2.0, "half the length"),
    ):  # fmt: skip
        if abs(ratio / factor - 1) < 0.01:
            return f" It looks like {told}."
    if abs(ratio - 1) > 0.05:
        return " Are its ends the right ones?"
    whole = round(row.length)
    if whole != row.value and abs(row.length - whole) < 0.1:
        return f" Is it {whole} mm?"
    return ""
