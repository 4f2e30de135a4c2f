"""All sittings of an object in one frame: every two joined, the surest joins first, then all solved together."""

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from ...core.errors import UmbrateError
from ...core.geometry.similarity import difference, scale_of
from ...core.join.network import corners_round, solve_network
from .figures import Evidence
from .joining import join_pair
from .members import member_of
from .methods import DOUBTFUL, GOOD, NONE, PICKS, SHAPE, SURFACE, TARGETS, Join, check_methods


@dataclass
class Whole:
    """All sittings in the frame of the first.

    Attributes
    ----------
    members : list of Member
    joins : dict of (int, int) to Join
        By positions of the sittings.
    moves : list of (4, 4) or None
        From each sitting's job frame to the first's; None where it hangs on nothing.
    loops : list of (int, int, float, float)
        Joins that were not needed: by how many degrees, and how far, they differ from what all say together.
    """

    members: list
    joins: dict
    moves: list
    loops: list

    @property
    def verdict(self):
        """The verdict on the whole: that of the worst join it hangs on."""
        if any(M is None for M in self.moves):
            return NONE
        return DOUBTFUL if self.hanging_on_doubtful else GOOD

    @property
    def hanging_on_doubtful(self):
        """Whether a sitting hangs on doubtful joins alone."""
        good = {0}
        for _ in self.members:
            for (i, k), x in self.joins.items():
                if x.verdict == GOOD and (i in good) != (k in good):
                    good |= {i, k}
        return len(good) < len(self.members)


def join_all(job, sittings, methods=(TARGETS, SURFACE), *, with_scale=None, picks=()):
    """The Whole of sittings of a job; see `join_whole`. picks: list of (name, places by sitting id)."""
    if len(sittings) < 2:
        raise UmbrateError("There is only one sitting: nothing to join. Bring in the photos of the turned-over object.")
    members = [member_of(job, s) for s in sittings]
    return join_whole(members, methods, with_scale=with_scale, roles=job.target_roles(), picks=picks)


def join_whole(members, methods=(TARGETS, SURFACE), *, with_scale=None, roles=None, picks=(), tell=None):
    """The Whole of two or more members: every two of them joined, the surest joins first, then all solved together.

    Good joins come before doubtful ones; a doubtful one counts only where nothing better holds a sitting.

    Parameters
    ----------
    picks : list of (name, dict of sitting id to place (3,))
        In the job's frames.
    tell : callable(done, total), optional
    """
    check_methods(methods)
    joins = {}
    two = list(combinations(range(len(members)), 2))
    for at, (i, k) in enumerate(two):
        if tell:
            tell(at, len(two))
        a, b = members[i], members[k]
        mine = [(name, x[a.id], x[b.id]) for name, x in picks if a.id in x and b.id in x]
        some = methods if mine or len(members) == 2 else tuple(m for m in methods if m != PICKS)
        if set(some) - {SHAPE}:
            joins[i, k] = join_pair(a, b, some, with_scale=with_scale, roles=roles, picks=mine)
        else:
            joins[i, k] = Join(None, NONE, ["no picks that both have"], Evidence(), [])
    # the surest first
    order = sorted(
        (ij for ij, x in joins.items() if x.M is not None),
        key=lambda ij: (joins[ij].verdict != GOOD, joins[ij].evidence.together.sigma[0]),
    )
    moves, used = _chain(len(members), joins, order)
    firm = [ij for ij in order if moves[ij[0]] is not None and (ij in used or joins[ij].verdict == GOOD)]
    loops = []
    if len(firm) > len(used):
        moves = _solved_together(members, joins, moves, firm, with_scale)
        if len(members) > 2:
            loops = _misfits(members, joins, moves, order)
    return Whole(list(members), joins, moves, loops)


def _chain(n, joins, order):
    """Moves of n sittings to the first by joins in their order, each where it brings one more; and those joins."""
    moves, used = [np.eye(4), *[None] * (n - 1)], set()
    while True:
        ij = next((ij for ij in order if (moves[ij[0]] is None) != (moves[ij[1]] is None)), None)
        if ij is None:
            return moves, used
        i, k = ij
        M = joins[ij].M  # from i to k
        if moves[i] is None:
            moves[i] = moves[k] @ M
        else:
            moves[k] = moves[i] @ np.linalg.inv(M)
        used.add(ij)


def _solved_together(members, joins, moves, firm, with_scale):
    """Moves that agree best with all firm joins, of which there are more than are needed."""
    held = [k for k, M in enumerate(moves) if M is not None]
    row = {k: r for r, k in enumerate(held)}
    edges = [(row[i], row[k], joins[i, k].M, *_pull(members[i], joins[i, k])) for i, k in firm]
    free = with_scale or not all(m.scaled for m in members)
    solved = solve_network([moves[k] for k in held], edges, with_scale=free)
    out = list(moves)
    for k, M in zip(held, solved, strict=True):
        out[k] = M
    return out


def _misfits(members, joins, moves, order):
    """By how much each join differs from what all say together: (i, k, degrees, distance)."""
    out = []
    for i, k in order:
        if moves[i] is not None and moves[k] is not None:
            turn, shift, _ = difference(joins[i, k].M, np.linalg.inv(moves[k]) @ moves[i], members[i].middle)
            out.append((i, k, turn, shift))
    return out


def _pull(member, join):
    """Corners round a member, and how sure a join is of them."""
    turn, shift, _ = join.evidence.together.sigma
    size = member.extent * scale_of(join.M)
    return corners_round(member.middle, member.extent), max(np.hypot(shift, 0.5 * np.radians(turn) * size), 1e-5 * size)
