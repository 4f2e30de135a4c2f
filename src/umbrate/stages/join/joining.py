"""How two sittings of an object lie to each other: by targets, surface, picks and shape; and how sure that is."""

import numpy as np

from ...core.cloud.grid import spacing_of
from ...core.errors import UmbrateError
from ...core.geometry.similarity import difference, scale_of
from ...core.join.agree import agree, groups
from ...core.join.candidates import alike, likely_support, shared_targets
from ...core.join.picks import LINE, MIRRORED, mistake, nearly_a_line, residuals
from ...core.join.shape import fit_shapes
from ...core.poses.block import TARGET
from ...job.joins import ON_OBJECT, ON_SUPPORT
from .figures import Between, Evidence, MethodFigures, ShapeFigures
from .members import member_of
from .methods import DOUBTFUL, GOOD, NONE, PICKS, SHAPE, SURFACE, TARGETS, Join, Pairs, check_methods, together
from .surfaces import compare_surfaces

TOO_FEW_TARGETS = tuple(
    f"there {n} on the object that both sittings see; three are needed"
    for n in ("are no targets", "is one target", "are two targets")
)
LEAST = {TARGETS: 4, SURFACE: 20, PICKS: 4}  #: pairs that a good join has: three fit without any check
TOLERANCE = {TARGETS: 0.003, SURFACE: 0.003, PICKS: 0.02}  #: of the extent: pairs farther apart do not belong together
PICKED = 0.004  #: of the extent: how far off a pick may be
CONFIRMED = 10  #: tie points that look alike and lie where picks say, before a join by picks alone is good
RIVAL = 0.4  #: another answer with such a share of the pairs of the best makes it doubtful
UNSURE_DEG = 0.5
OUTSIDE = 0.25  #: share of one sitting's places that the other's masks rule out, from which a join is doubtful
REACH = 0.03  #: of the extent: how far off a start may be for the fit of shapes
MOVED = {True: (1.0, 0.02), False: (15.0, 0.06)}  #: degrees and share of the extent that the shape may move a start by
SCALES = 0.003  #: two scales that differ by more make a join doubtful
APART = 0.01  #: of the extent: surfaces that lie farther apart in the median do not belong together


def join_sittings(job, first, second, methods=(TARGETS, SURFACE), *, with_scale=None, picks=()):
    """The Join of two sittings of a job; see `join_pair`."""
    a, b = member_of(job, first), member_of(job, second)
    return join_pair(a, b, methods, with_scale=with_scale, roles=job.target_roles(), picks=picks)


def join_pair(a, b, methods=(TARGETS, SURFACE), *, with_scale=None, roles=None, picks=()):
    """The Join of two members.

    Parameters
    ----------
    methods : of "targets", "surface", "picks" and "shape"
        All pairs found are fitted together; shape refines what the others found.
    with_scale : bool, optional
        Whether their scales may differ; where not said, only if one of them is not scaled.
    roles : dict of target number to role
        What the user says of targets.
    picks : list of (name, place (3,), place (3,))
        In the job's frames of the two.
    """
    return _Joining(a, b, methods, with_scale, roles or {}, picks).join()


class _Joining:
    """One join, and what is found out on the method."""

    def __init__(self, a, b, methods, with_scale, roles, picks):
        check_methods(methods)
        self.a, self.b, self.methods, self.roles, self.picks = a, b, methods, roles, list(picks)
        self.reasons, self.notes, self.evidence = [], [], Evidence()
        self.absent = []  #: why a method found nothing: no doubt where another one is sure
        self.support, self.on_object = [], []
        both = a.scaled and b.scaled
        self.with_scale = not both if with_scale is None else with_scale
        if not self.with_scale and not both:
            bare = a.name if not a.scaled else b.name
            raise UmbrateError(
                f"“{bare}” has no scale: the scale must be free, or Scale run first.", ("go to", "scale")
            )
        if a.scaled != b.scaled:
            bare, known = (a, b) if b.scaled else (b, a)
            self.notes.append(f"“{bare.name}” has no scale: it takes that of “{known.name}”")

    def join(self):
        parts, firm = [], 0
        for method in (m for m in self.methods if m != SHAPE):
            found = self._by(method)
            if found is not None:
                parts.append(found)
                firm += found[1].count >= LEAST[method]
        if not parts:
            return self._none("nothing that both sittings share was found")
        b = self.b
        pairs = together([p for p, _ in parts])
        joint = self._agree(pairs, self.with_scale)
        if joint is None:
            return self._none("no three shared places agree")
        (self.notes if firm else self.reasons).extend(self.absent)
        if joint.spread[1] < LINE * joint.spread[0]:
            self.reasons.append("the shared places lie nearly in a line, about which the object could turn")
        self._compare_methods([f for _, f in parts])
        M, sigma, by_shape = joint.M, joint.sigma, False
        sure = any(self.evidence.agreeing(w) >= LEAST[w] for w in (TARGETS, SURFACE))
        if SHAPE in self.methods:
            M, by_shape = self._by_shape(M, sure)
        checked = None if sure else self._looks_agree(M)
        if checked is not None and by_shape:
            sigma = checked.sigma  # the shape led there, and the surface's looks say how well
        if not firm and (checked is None or checked.count < LEAST[SURFACE]):
            told = " and ".join(self._count(w) for w in self.methods if w in self.evidence.methods)
            self.reasons.append(f"only {told} agree: nothing checks them")
        contradiction = self._scales(pairs, joint)
        self._judge(sigma, M)
        pixel = b.pixel
        self.evidence.together = MethodFigures(
            pairs=len(pairs.a), agreeing=joint.count, rms=joint.rms, rms_px=joint.rms / pixel, sigma=list(sigma)
        )
        rows = pairs.rows[joint.inside]
        return Join(
            M, DOUBTFUL if self.reasons else GOOD, self.reasons, self.evidence, sorted(set(self.support)),
            contradiction, sorted(set(self.on_object)), rows[(rows >= 0).all(1)], self.notes, self._picks_off(M),
        )  # fmt: skip

    def _none(self, reason):
        why = [*self.absent, *self.reasons] or [reason]
        return Join(
            None, NONE, why, self.evidence, sorted(set(self.support)), notes=self.notes,
            picks=self._picks_off(None),
        )  # fmt: skip

    def _count(self, method):
        n = self.evidence.agreeing(method)
        return f"{n} {'pair' if n == 1 else 'pairs'} by surface" if method == SURFACE else f"{n} {method}"

    def _picks_off(self, M):
        if M is None:
            return [(name, None) for name, _, _ in self.picks]
        return [(n, float(np.linalg.norm(M[:3, :3] @ p + M[:3, 3] - q))) for n, p, q in self.picks]

    def _agree(self, pairs, with_scale):
        reach = np.maximum(4 * pairs.sigma, TOLERANCE[SURFACE] * self.b.extent)
        return agree(pairs.a, pairs.b, pairs.sigma, reach, with_scale=with_scale)

    # ------------------------------------------------------------------ pairs by each method
    def _pairs(self, rows):
        a, b = self.a, self.b
        A, B = a.block.points[rows[:, 0]], b.block.points[rows[:, 1]]
        both = np.hypot(a.block.point_sigma[rows[:, 0]] * b.extent / a.extent, b.block.point_sigma[rows[:, 1]])
        sigma = np.clip(np.nan_to_num(both, nan=1e-3 * b.extent), 1e-4 * b.extent, TOLERANCE[SURFACE] * b.extent / 2)
        return Pairs(A, B, sigma, rows)

    def _by(self, method):
        """The pairs of a method that are the object's and their Agreement, or None."""
        if method == PICKS:
            return self._of_picks()
        share = None
        if method == TARGETS:
            rows, share = self._target_pairs()
        else:
            rows = alike(self.a.descriptors, self.b.descriptors)
        self.evidence.methods[method] = MethodFigures(pairs=len(rows))
        if len(rows) < 3:
            self.absent.append(
                TOO_FEW_TARGETS[len(rows)] if method == TARGETS
                else "hardly any tie point of one sitting looks like one of the other"
            )  # fmt: skip
            return None
        pairs = self._pairs(rows)
        found = groups(
            pairs.a, pairs.b, pairs.sigma, TOLERANCE[method] * self.b.extent, with_scale=self.with_scale,
            least=max(3, LEAST[method] // 3),
        )  # fmt: skip
        if method == TARGETS:
            found = self._without_support(found, rows, share)
        if not found:
            left = int((~np.isin(self.a.block.label[rows[:, 0]], self.support)).sum()) if method == TARGETS else 0
            if method == TARGETS and left < 3:
                self.absent.append(
                    TOO_FEW_TARGETS[left] + (": the others stand on the support" if self.support else "")
                )
            else:
                self.absent.append(f"no three {'targets' if method == TARGETS else 'places of the surface'} agree")
            return None
        best = found[0]
        for g in found[1:]:
            turn, shift, _ = difference(best.M, g.M, self.a.middle)
            if g.count >= RIVAL * best.count and (turn > 2.0 or shift > 0.02 * self.b.extent):
                self.reasons.append(
                    f"another answer, {turn:.0f} degrees from it, fits nearly as many pairs by {method}"
                )
                break
        if method == TARGETS:
            self.on_object += [int(n) for n in self.a.block.label[rows[best.inside, 0]]]
        self._keep_figures(method, len(rows), best)
        return pairs.some(best.inside), best

    def _keep_figures(self, method, count, found):
        self.evidence.methods[method] = MethodFigures(
            pairs=count, agreeing=found.count, rms=found.rms, sigma=list(found.sigma)
        )

    def _target_pairs(self):
        """Rows of shared targets that are not said to stand on the support, and how far inside the masks they are."""
        a, b = self.a.block, self.b.block
        rows = shared_targets(a.targets, b.targets)
        self.support += [int(n) for n in a.label[rows[:, 0]] if self.roles.get(int(n)) == ON_SUPPORT]
        rows = rows[[self.roles.get(int(n)) != ON_SUPPORT for n in a.label[rows[:, 0]]]]
        both = np.stack([self.a.inside_share[rows[:, 0]], self.b.inside_share[rows[:, 1]]])
        known = np.isfinite(both)
        return rows, np.where(known.any(0), np.where(known, both, 0.0).sum(0) / known.sum(0).clip(1), np.nan)

    def _without_support(self, found, rows, share):
        """The groups of targets that are the object's."""
        number = self.a.block.label[rows[:, 0]]
        on = []
        for g in found:
            others = [x for x in found if x is not g]
            said = any(self.roles.get(int(n)) == ON_OBJECT for n in number[g.inside])
            if said or not likely_support(g, others, share):
                on.append(g)
            else:
                self.support += [int(n) for n in number[g.inside]]
        return on

    def _of_picks(self):
        n = len(self.picks)
        self.evidence.methods[PICKS] = MethodFigures(pairs=n)
        if n < 3:
            told = "no pick" if not n else f"{n} pick{'s' * (n > 1)}"
            self.absent.append(f"{told} of three that are needed: pick the same places in both sittings")
            return None
        A, B = (np.array([p[k] for p in self.picks], float) for k in (1, 2))
        if nearly_a_line(A) or nearly_a_line(B):
            self.absent.append(
                "the picks lie nearly in a line, about which the object could turn: pick one aside of it"
            )
            return None
        sigma = np.full(n, PICKED * self.b.extent)
        off = residuals(A, B, self.with_scale)
        if np.sqrt((off**2).mean()) > 2 * PICKED * self.b.extent:
            wrong = mistake(A, B, self.with_scale)
            if wrong == MIRRORED:
                self.absent.append("the picks fit a mirror image: left and right were taken for each other")
                return None
            if wrong:
                names = " and ".join(self.picks[i][0] for i in wrong)
                self.absent.append(f"picks {names} are paired crosswise: they fit when exchanged")
                return None
        pairs = Pairs(A, B, sigma, np.full((n, 2), -1, np.int64))
        best = agree(A, B, sigma, TOLERANCE[PICKS] * self.b.extent, with_scale=self.with_scale)
        if best is None or best.count < max(3, 0.6 * n):
            self.absent.append("the picks do not fit together: look for the one that is off most")
            return None
        off = [self.picks[i][0] for i in np.flatnonzero(~best.inside)]
        if off:
            self.reasons.append(f"{'pick' if len(off) == 1 else 'picks'} {', '.join(off)} did not fit and was left out")
        self._keep_figures(PICKS, n, best)
        return pairs.some(best.inside), best

    def _looks_agree(self, M):
        """The Agreement of tie points that look alike and lie where picks say, or None where too few do.

        Picks can be wrong all together, as on an object that looks alike from several sides.
        """
        found, count = None, 0
        if self.a.features and self.b.features:
            pairs = self._pairs(alike(self.a.descriptors, self.b.descriptors))
            off = np.linalg.norm(pairs.a @ M[:3, :3].T + M[:3, 3] - pairs.b, axis=1)
            near = pairs.some(off < TOLERANCE[PICKS] * self.b.extent)
            if len(near.a) >= CONFIRMED:
                found = self._agree(near, self.with_scale)
            count = found.count if found else 0
        self.evidence.alike = count
        if count < CONFIRMED:
            told = "no place" if not count else "one place" if count == 1 else f"{count} places"
            self.reasons.append(f"{told} of the surface look alike where the picks say they are one")
            return None
        return found

    # ------------------------------------------------------------------ the shape
    def _by_shape(self, M, sure):
        """The join refined by the sittings' surfaces, and whether it was; `sure`: the start is no rough one."""
        a, b = self.a, self.b
        (P, N, dense_a), (Q, QN, dense_b) = a.surface, b.surface
        if min(len(P), len(Q)) < 100:
            self.reasons.append("there is too little surface to fit by shape: run Cloud")
            return M, False
        dense = dense_a and dense_b
        fit = fit_shapes((P, N), (Q, QN), M, REACH * b.extent, finest=4 * spacing_of(Q), with_scale=self.with_scale)
        if fit is None:
            self.reasons.append("the surfaces have nothing in common")
            return M, False
        self.evidence.shape = ShapeFigures(
            overlap=fit.overlap, rms=fit.rms, median=fit.median, held=fit.held, dense=dense
        )
        if fit.overlap < 0.1 and dense:
            self.reasons.append(f"only {100 * fit.overlap:.0f} % of the surface is shared")
        if fit.held < 0.02:
            self.notes.append("the shape could slide along itself, as a ball or a cylinder does: it was not fitted")
            return M, False
        turn, shift, _ = difference(M, fit.M, a.middle)
        if not dense and sure:
            return M, False  # tie points are coarser than what was matched
        most = MOVED[sure]
        if turn > most[0] or shift > most[1] * b.extent:
            self.reasons.append(f"the shapes would rather lie {turn:.1f} degrees and {shift:.3g} off")
            return M, False
        return fit.M, True

    # ------------------------------------------------------------------ doubts
    def _compare_methods(self, found):
        for g in found[1:]:
            turn, shift, _ = difference(found[0].M, g.M, self.a.middle)
            self.evidence.between = Between(turn_deg=turn, shift=shift)
            loose = 3 * (found[0].sigma[0] + g.sigma[0])
            if turn > max(1.0, loose) or shift > 0.02 * self.b.extent:
                self.reasons.append(f"the methods contradict each other by {turn:.1f} degrees")

    def _scales(self, pairs, joint):
        """By how much the two scales differ, where both are known."""
        if not (self.a.scaled and self.b.scaled):
            return 0.0
        free = joint if self.with_scale else self._agree(pairs, True)
        off = scale_of(free.M) - 1.0 if free is not None else 0.0
        if abs(off) > max(SCALES, 4 * free.sigma[2] if free is not None else 0.0):
            self.reasons.append(f"the two scales contradict each other by {100 * off:+.2f} %")
        return off

    def _judge(self, sigma, M):
        a, b = self.a, self.b
        if sigma[0] > UNSURE_DEG:
            self.reasons.append(
                f"the turn is known to {sigma[0]:.1f} degrees only: the shared places are few, rough or close together"
            )
        points = a.block.points[(a.block.kind != TARGET) & ~(a.inside_share < 0.5)]
        points = points[np.random.default_rng(0).permutation(len(points))[:2000]]
        seen, out = b.outside_share(points, M)
        if (seen > 0).any():
            # a mask may hide a part behind the support: a place is ruled out where most photos say so
            share = float((out > 0.5 * seen)[seen > 0].mean())
            self.evidence.outside = share
            if share > OUTSIDE:
                self.reasons.append(f"{100 * share:.0f} % of one sitting would lie outside the other's masks")
        surfaces = compare_surfaces(a, b, M)
        if surfaces is None:
            return
        self.evidence.surfaces = surfaces
        if surfaces.overlap < 0.02:
            self.reasons.append("the two surfaces hardly overlap")
        elif surfaces.median > APART * b.extent:
            self.reasons.append(f"the two surfaces lie {surfaces.median:.3g} apart where they overlap")
