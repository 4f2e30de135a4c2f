"""Measurements of a sitting: their values with 95 % intervals, and what changes when poses or scale do."""

import json

import numpy as np

from ..core.errors import UmbrateError
from ..core.measure.datum import Lengths, after
from ..core.measure.network import SeenPoint
from ..core.measure.quantities import (
    BY_NAME,
    K95,
    ROUND,
    check_count,
    fit_circle,
    fit_plane,
    fit_sphere,
    propagate,
    quantity,
)
from ..core.measure.surface import COMMON_PX, surface_at
from ..formats.files import CLOSED, written_aside
from ..formats.tables import TableWriter
from ..sitting.clouds import raw_cloud
from ..sitting.endpoints import control_points, network_of, seen_point_of
from ..sitting.frames import (
    block_blob,
    end_text,
    frame_of,
    level_ends,
    level_matrix,
    level_of,
    move_box,
    move_directions,
    move_points,
    plain_keep_box,
    raw_block,
    scale_result,
)

SEEN_BY = 8  #: tie points round a spot on the cloud that say which photos see it
FACING = 0.2  #: photos that see a surface flatter than this (cosine) do not count


def with_interval(value, half, unit, digits=None):
    """A value as people write it: "63.42 ± 0.05 mm", with two digits of the interval."""
    if half is None or not np.isfinite(half):
        return f"{value:.4g} {unit}".strip()
    if digits is None:
        digits = 2 if half <= 0 else int(np.clip(1 - np.floor(np.log10(half)), 0, 6))
    return f"{value:.{digits}f} ± {half:.{digits}f} {unit}".strip()


class Measurer:
    """Computes measurements of one sitting as it is now.

    Raises
    ------
    UmbrateError
        Where there are no poses, or they are too old to say how sure they are.
    """

    def __init__(self, job, sitting):
        self.job, self.sitting = job, sitting
        block, self.from_plain = raw_block(job, sitting)
        if block is None:
            raise UmbrateError(f"“{sitting.name}” has no poses yet: there is nothing to measure.", ("go to", "poses"))
        scale = scale_result(job, sitting)
        self.block = block.of_solved()
        self.network = network_of(job, scale or job.result(sitting.id, "poses"), block)
        self.frame = frame_of(job, sitting)
        self.to_job = self.frame.matrix @ np.linalg.inv(self.from_plain)
        self.names = job.end_names(sitting.id)
        self.level = level_of(job, sitting) if not self.frame.problem else None
        self._cloud, self._places = None, {}
        self._datum(scale)

    def _datum(self, scale):
        """What settled scale and frame: places, and what is known of them; scale : the stage's Result, or None."""
        rows = scale.figures.used if scale else []
        ends = sorted({e for r in rows for e in (r.first, r.second)})
        known = list(scale.figures.known) if scale else []
        ends += [n for n in known if n not in ends]
        try:
            self.datum = [self.place(e) for e in ends]
        except UmbrateError:
            raise UmbrateError(
                "Scale was computed with points that were removed or changed since. Run Scale again, then measure.",
                ("go to", "scale"),
            ) from None
        at = {e: k for k, e in enumerate(ends)}
        self.lengths = Lengths(
            np.array([at[r.first] for r in rows], int), np.array([at[r.second] for r in rows], int),
            np.array([r.value for r in rows], float), np.array([r.sigma for r in rows], float),
        )  # fmt: skip
        self.known = None
        if known:
            of = control_points(self.job, self.sitting)
            have = [n for n in known if n in of]
            if len(have) >= 3:
                self.known = (
                    np.array([at[n] for n in have]), np.array([of[n][0] for n in have], float),
                    np.array([of[n][1] for n in have], float),
                )  # fmt: skip

    # ------------------------------------------------------------------ ends
    def cloud(self):
        """Points and normals of the cloud in the block's frame, or None."""
        if self._cloud is None:
            kept = self.job.cloud(self.sitting.id)
            if kept is None:
                return None
            c = raw_cloud(self.job, kept)
            M = self.from_plain @ np.linalg.inv(np.array(kept.from_plain, float))
            self._cloud = move_points(c["points"], M), move_directions(c["normals"], M)
        return self._cloud

    def spot(self, plain):
        """The SeenPoint of a spot on the cloud, given in the plain frame."""
        cloud = self.cloud()
        if cloud is None or len(cloud[0]) < 6:
            raise UmbrateError("There is no cloud any more that this end lies on. Run Cloud, or choose another end.")
        at = self.from_plain[:3, :3] @ np.asarray(plain, float) + self.from_plain[:3, 3]
        place, normal, sigma, _ = surface_at(*cloud, at)
        return self.seen_at(place, normal, sigma, COMMON_PX)

    def seen_at(self, place, normal, sigma, common_px):
        """The SeenPoint of a place (3,) of a surface with its normal (3,), in the block's frame.

        sigma : of the surface's own noise there; common_px : what its photos have in common, in their pixels
        """
        b = self.block
        near = np.argsort(((b.points - place) ** 2).sum(1), kind="stable")[:SEEN_BY]
        rows = np.unique(b.photo[np.isin(b.point, near)])
        d = b.eyes[rows] - place
        facing = (d @ normal) / np.linalg.norm(d, axis=1) > FACING
        rows = rows[facing] if facing.sum() >= 2 else rows
        if len(rows) < 2:
            raise UmbrateError("Too few photos see this spot of the cloud to say how sure it is. Choose another one.")
        k = len(rows)
        seen = SeenPoint(place, rows, np.zeros((k, 2)), np.ones(k))
        try:
            one_px = float(normal @ self.network.moves([seen])[1][0] @ normal)  # variance along the normal
        except np.linalg.LinAlgError:
            raise UmbrateError("This spot lies too far from the object to say how sure it is.") from None
        seen.own = (sigma**2 + common_px**2 * one_px) * np.outer(normal, normal)
        return seen

    def place(self, end):
        """The SeenPoint of an end (as kept, or as people write it), in the block's frame."""
        key = tuple(end["cloud"]) if isinstance(end, dict) else str(end)
        if isinstance(key, str) and not key.isdigit() and key not in self.names:
            key = self.job.end_of(self.sitting.id, key)
        if key not in self._places:  # the same end is the same place, with the same error
            self._places[key] = self.spot(key) if isinstance(key, tuple) else seen_point_of(self.block, self.names, key)
        return self._places[key]

    def joint(self, places):
        """Joint covariance of places once scale and frame are settled."""
        every = [*self.datum, *places]
        X = np.array([p.xyz for p in every])
        cov = after(self.network.joint(every), X, self.lengths, self.known)
        n = 3 * len(self.datum)
        return cov[n:, n:]

    # ------------------------------------------------------------------ values
    def measure(self, kind, ends):
        """The value of a measurement.

        Returns
        -------
        dict
            ``value`` (or three for a point), ``half95`` alike, ``unit``, ``places`` (n, 3) in the job's frame,
            ``text``;
            ``form``, how far the places lie from the fitted circle, sphere or plane, in the root mean square.

        Raises
        ------
        UmbrateError
        """
        check_count(kind, len(ends))
        if kind not in ("polyline", "area") and len({str(e) for e in ends}) < len(ends):
            raise UmbrateError(f"{BY_NAME[kind].title} takes different places: one of them was chosen twice.")
        places = [self.place(e) for e in ends]
        X = np.array([p.xyz for p in places])
        levels = level_ends(self.level) if kind in ("point", "height") else []
        over = [self.place(e) for e in levels]
        cov = self.joint([*places, *over])
        n, unit = len(places), BY_NAME[kind].unit
        if kind in ("point", "height"):
            value, C = propagate(lambda Y: self._stood(Y, n, levels), np.vstack([X, *[p.xyz for p in over]]), cov)
            half = K95 * np.sqrt(np.maximum(np.diag(C), 0))
            value = np.asarray(value, float) + self.frame.offset
            if kind == "height":
                value, half = value[2:], half[2:]
        else:
            quantity(kind, X)  # says what is wrong with them, if anything is
            value, C = propagate(lambda Y: quantity(kind, Y), X, cov)
            half = K95 * np.sqrt(np.maximum(np.diag(C), 0))
        if unit == "angle":
            value, half = np.degrees(value), np.degrees(half)
        sign = "°" if unit == "angle" else self.frame.unit + "²" * (unit == "area" and bool(self.frame.unit))
        out = {
            "value": float(value[0]) if len(value) == 1 else value.tolist(),
            "half95": float(half[0]) if len(half) == 1 else half.tolist(),
            "unit": sign,
            "places": move_points(X, self.to_job).tolist(),
        }
        form = _form(kind, X)
        if form is not None:
            out["form"] = form
        end = sign if sign == "°" else f" {sign}" if sign else ""
        if kind in ROUND:  # nobody shall take the one for the other
            out["diameter"], out["diameter_half95"] = 2 * out["value"], 2 * out["half95"]
            out["text"] = ", ".join(
                f"{word} {with_interval(k * out['value'], k * out['half95'], '')}{end}"
                for k, word in ((2, "diameter"), (1, "radius"))
            )
        else:
            out["text"] = (
                ", ".join(
                    with_interval(v, h, "") for v, h in zip(np.atleast_1d(value), np.atleast_1d(half), strict=True)
                )
                + end
            )
        return out

    def _stood(self, Y, n, levels):
        """Places in the job's frame, as a function of the places measured and those of the level."""
        if not levels:
            return move_points(Y[:n], self.to_job).ravel()
        at = {str(e): Y[n + k] for k, e in enumerate(levels)}
        L = level_matrix(
            self.level, lambda ends: np.array([at[str(e)] for e in ends]), block=self.block,
            from_plain=self.from_plain, box=move_box(plain_keep_box(self.job, self.sitting), self.from_plain),
            turntable=self.job.result(self.sitting.id, "poses").figures.turntable,
        )  # fmt: skip
        return move_points(Y[:n], L).ravel()


def _form(kind, X):
    """How far places lie from what was fitted to them, where there are more than it takes."""
    if kind == "circle" and len(X) > 3:
        c, r, n = fit_circle(X)
        off = np.hypot(np.linalg.norm(X - c - np.outer((X - c) @ n, n), axis=1) - r, (X - c) @ n)
    elif kind == "sphere" and len(X) > 4:
        c, r = fit_sphere(X)
        off = np.linalg.norm(X - c, axis=1) - r
    elif kind == "plane" and len(X) > 4:
        middle, n = fit_plane(X[:-1])
        off = (X[:-1] - middle) @ n
    else:
        return None
    return float(np.sqrt((off**2).mean()))


def plain_spot(job, sitting, place):
    """A spot given in the job's frame as an end."""
    M = np.linalg.inv(frame_of(job, sitting).matrix)
    return {"cloud": [float(x) for x in M[:3, :3] @ np.asarray(place, float) + M[:3, 3]]}


def measure_all(job, sitting):
    """Values of all measurements of a sitting by id; one that cannot be made has ``problem`` instead of a value."""
    measurements = job.measurements(sitting.id)
    if not measurements:
        return {}
    try:
        m = Measurer(job, sitting)
    except UmbrateError as e:
        return {x.id: {"problem": str(e), "text": "-"} for x in measurements}
    out = {}
    for x in measurements:
        try:
            out[x.id] = m.measure(x.kind, x.ends)
        except (UmbrateError, np.linalg.LinAlgError) as e:
            out[x.id] = {"problem": str(e) if isinstance(e, UmbrateError) else "It cannot be computed.", "text": "-"}
    return out


def _changed(old, new):
    """Whether a value differs by what people would see."""
    if old is None or old.get("text") == new["text"]:
        return False
    return True


def measure_each(job, sittings):
    """Values of all measurements of several sittings: {sitting id: values by id}."""
    return {s.id: measure_all(job, s) for s in sittings}


def refresh(job, sitting):
    """Compute all measurements anew; what changed is written into the ledger. Returns the changes."""
    return keep_values(job, sitting, measure_all(job, sitting)) if job.writable else []


def keep_values(job, sitting, values):
    """Keep computed values by measurement id; what changed is written into the ledger. Returns the changes."""
    before = job.measured(sitting.id)
    names = {m.id: m.name for m in job.measurements(sitting.id)}
    new = {i: v for i, v in values.items() if before.get(i) != v}
    changes = [(names[i], before[i]["text"], v["text"]) for i, v in new.items() if _changed(before.get(i), v)]
    if new:
        job.keep_measured(sitting, new, changes)
    return changes


def measured_from(job, sitting):
    """What the values of a sitting's measurements depend on, as plain values that can be compared."""
    kept, frame = job.cloud(sitting.id), frame_of(job, sitting)
    return (
        block_blob(job, sitting)[0], frame.matrix.tolist(), frame.offset, frame.problem,
        kept and (kept.id, tuple(s.id for s in kept.steps)), job.measurements(sitting.id),
        sorted(control_points(job, sitting).items()),
    )  # fmt: skip


def refresh_all(job):
    """`refresh` of every sitting whose measurements may have moved since the last call; the changes by sitting id.

    A new scale or level of one sitting moves those of rows that are joined from it too, and undo moves them back.
    """
    out = {}
    if not job.writable:
        return out
    for s, now in due(job):
        changes = refresh(job, s)
        job.measured_from[s.id] = now
        if changes:
            out[s.id] = changes
    return out


def due(job):
    """Sittings whose measurements may have moved since they were computed, each with what they depend on now."""
    having = [(s, measured_from(job, s)) for s in job.sittings() if job.measurements(s.id)]
    return [(s, now) for s, now in having if job.measured_from.get(s.id) != now]


# ---------------------------------------------------------------------- files
def measurement_rows(job, sitting):
    """Measurements with their values as plain rows for files."""
    values, names, frame = measure_all(job, sitting), job.end_names(sitting.id), frame_of(job, sitting)
    out = []
    for m in job.measurements(sitting.id):
        v = values[m.id]
        out.append(
            {
                "sitting": sitting.name, "name": m.name, "kind": m.kind, "ends": [_end_plain(e, names) for e in m.ends],
                "value": v.get("value"), "half95": v.get("half95"), "unit": v.get("unit", ""),
                "places": _for_people(frame, v), **({"form": v["form"]} if "form" in v else {}),
                **({"problem": v["problem"]} if "problem" in v else {}),
            }
        )  # fmt: skip
    return out


def _for_people(frame, value):
    """Places of a value with the frame's offset, or None."""
    return frame.for_people(value["places"]).tolist() if value.get("places") else None


def _end_plain(end, names):
    """An end as it stands in a file: a number, a name, or the word cloud."""
    return end if str(end).isdigit() else end_text(end, names)


def export_measurements(job, path, sitting=None, gate=CLOSED):
    """Write measurements as CSV or JSON, by the file's ending; returns how many."""
    sittings = [sitting] if sitting else job.sittings()
    rows = [r for s in sittings for r in measurement_rows(job, s)]
    if not rows:
        raise UmbrateError("There are no measurements yet. Measure something first.")
    if str(path).lower().endswith(".json"):
        with written_aside(path, gate) as temporary:
            temporary.write_text(json.dumps({"job": job.name, "interval": "95 %", "measurements": rows}, indent=1))
        return len(rows)
    with written_aside(path, gate) as temporary, open(temporary, "w", newline="", encoding="utf-8") as f:
        w = TableWriter(f)
        w.writerow(["sitting", "name", "kind", "ends", "value", "half of the 95 % interval", "unit", "form"])
        for r in rows:
            v, h = (np.atleast_1d(r[k]).tolist() if r[k] is not None else [""] for k in ("value", "half95"))
            for k, (a, b) in enumerate(zip(v, h, strict=True)):
                name = r["name"] if len(v) == 1 else f"{r['name']} {'xyz'[k]}"
                w.writerow([r["sitting"], name, r["kind"], " ".join(r["ends"]), a, b, r["unit"], r.get("form", "")])
    return len(rows)
