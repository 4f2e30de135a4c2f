"""Following a recipe: what it asks of a job next, seen in the job itself.

What was done is looked for in the job before each act, so a run that was killed goes on where it was, and what was done
already is not done twice.
"""

from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import partial

from ...actions.cleaning import CLEAN
from ...actions.leveling import change_level, level_by_mat, mat_numbers
from ...actions.mending import MEND
from ...core.errors import NothingHere, UmbrateError
from ...core.targets.sheets import MAT
from ...job.store import Job
from ...sitting.frames import level_of, load_block
from ...stages import BY_NAME, STAGES
from ...stages.base import own_fields
from ...stages.join.methods import GOOD
from ..state import is_current, is_invited, plan
from .applying import Applying, stand_text
from .recipe import BOOKS, delivery_of

ORDER = [s.name for s in STAGES]
WAYS = {"clean": CLEAN, "mend": MEND}
AGAIN = 3  #: so often the same is asked for before it is given up: what runs in between may make it stale


@dataclass(frozen=True)
class Cells:
    """Stages to run: (sitting, names) each."""

    cells: list


@dataclass(frozen=True)
class Change:
    """Something short that changes the job, done where it is open."""

    title: str
    do: Callable


@dataclass(frozen=True)
class Call:
    """Something long for a worker, ``function(*arguments, report)``, and what is done with what it brings back."""

    title: str
    function: Callable
    arguments: tuple
    then: Callable


def steps_elsewhere(folder, sitting_id, part, steps, report):
    """Work for another process: a sitting's chosen cloud or surface with some steps more.

    A step that finds nothing to do here, such as a support where there is none, is left out.

    Returns
    -------
    Changed or None, list of str
        None where no step does anything; a sentence for each that was left out.
    """
    report.progress(0.1, "cleaning the cloud" if part == "clean" else "mending the surface")
    with Job.open(folder, writable=False) as job:
        sitting = next(s for s in job.sittings() if s.id == sitting_id)
        kept = job.cloud(sitting_id) if part == "clean" else job.surface(sitting_id)
        done, changed, left = [], None, []
        with suppress(NothingHere):
            return WAYS[part].with_steps(job, sitting, kept, list(steps)), left
        for step in steps:
            report.check()
            try:
                changed = WAYS[part].with_steps(job, sitting, kept, [*done, step])
                done.append(step)
            except NothingHere as e:
                left.append(f"A step was left out. {e}")
        return changed, left


def _some_of(book, have, steps):
    """Whether steps that something has are those of a recipe, in their order; some may have been left out."""

    def plain(step):
        return book.check({k: v for k, v in step.items() if k not in ("frame", "box", "did")})

    rest = iter([plain(s) for s in steps])
    return all(any(plain(s) == r for r in rest) for s in have)


class Following:
    """What a recipe asks of a job.

    sittings : those that it is about; all where not given
    place : values of the Deliver stage's settings that say where files go
    notes : what was left as it is, and why; sentences
    """

    def __init__(self, job, recipe, sittings=None, place=None):
        self.job, self.recipe, self.place = job, recipe, place or {}
        self.ids = None if sittings is None else {s.id for s in sittings}
        self.notes = []
        self._last, self._asked, self._idle = None, Counter(), set()

    def _chosen(self):
        return [s for s in self.job.sittings() if self.ids is None or s.id in self.ids]

    def _note(self, sentence):
        if sentence not in self.notes:
            self.notes.append(sentence)

    def _reaches(self, stage):
        return ORDER.index(self.recipe.until) >= ORDER.index(stage)

    def next(self):
        """What is to be done now: Cells, a Change or a Call; None when the recipe is done.

        Raises
        ------
        UmbrateError
            Where it cannot go on, such as after a doubtful join.
        """
        act = self._next()
        if isinstance(act, Cells):
            mark = ", ".join(f"{BY_NAME[n].title} of “{s.name}”" for s, names in act.cells for n in names)
        else:
            mark = act and act.title
        self._asked[mark] += 1
        if act and (mark == self._last or self._asked[mark] > AGAIN + len(self.recipe.deliver)):
            raise UmbrateError(f"{mark}: that was done, and still is not as it should be. Do it by itself to see why.")
        self._last = mark
        return act

    def _next(self):
        applying = Applying(self.job, self.recipe, self._chosen())
        if not any(self.job.photos(s.id) for s in applying.sittings):
            raise UmbrateError("There are no photos to run a recipe on. Bring some in first.")
        if applying.differences():
            return Change(f"settings of “{self.recipe.name}”", applying.apply)
        some, final = self._ends(applying.sittings)
        if isinstance(some, Change | Cells):
            return some
        for s in final:
            act = self._of_final(s)
            if act is not None:
                return act
        return None

    def _cells(self, sittings, stage):
        """What is missing or stale of a stage in some sittings, as Cells; None where there is nothing."""
        cells = [(s, plan(self.job, s, stage)) for s in sittings]
        return Cells([c for c in cells if c[1]]) if any(names for _, names in cells) else None

    def _scaled(self, sittings):
        return Cells(some) if (some := [(s, ["scale"]) for s in sittings if self._wants_scale(s)]) else None

    def _wants_scale(self, sitting):
        return is_invited(self.job, sitting, "scale") and not is_current(self.job, sitting, BY_NAME["scale"])

    def _ends(self, base):
        """An act that comes before the cloud, or None and the sittings that clouds are made of."""
        first = self.recipe.until if not self._reaches("poses") else "poses"
        act = self._cells(base, first)
        if act or not self._reaches("scale"):
            return act, []
        # photos of calibration sheets are there for their lens alone
        base = [s for s in base if not self._only_calibrates(s)]
        act = self._scaled(base) or next((a for s in base if (a := self._stood(s))), None)
        if act or not self._reaches("join"):
            return act, []
        rows = [r for r in self.job.joined_rows() if self.ids is None or {*r.members} <= {s.id for s in base}]
        if self.recipe.together is False or (len(base) < 2 and not rows):
            return None, base
        if not rows:
            if not self.recipe.together:
                return None, base
            ids = [s.id for s in base]
            return Change("join the sittings", lambda: self._join(ids)), []
        row = rows[0]
        if act := self._cells([row], "join"):
            return act, []
        found = self.job.join_found(row.id)
        if found.verdict != GOOD:
            why = " ".join(r for x in found.joins for r in x.reasons) or "Too little is shared."
            raise UmbrateError(f"The join of “{row.name}” is {found.verdict if found.moves else 'none'}: {why}")
        if not self._reaches("cloud"):
            return None, []
        act = self._cells([row], "poses") or self._scaled([row])
        return act, [row, *(s for s in base if s.id not in row.members)]

    def _only_calibrates(self, sitting):
        done = self.job.result(sitting.id, "lens")
        return bool(done and BY_NAME["lens"].ends_here(done.figures))

    def _join(self, ids):
        row = self.job.add_joined(ids)
        if self.ids is not None:
            self.ids.add(row.id)

    def _stood(self, sitting):
        """The Change that stands a sitting up by a rule, or None where it stands so or cannot."""
        stand = self.recipe.stand or {}
        if not isinstance(stand.get("up"), str):
            return None
        up, level = stand["up"], level_of(self.job, sitting) or {}
        have = level.get("up") or {}
        block = load_block(self.job, sitting)
        if up == "mat":
            if "ends" in have and all(int(e) in MAT for e in have["ends"] if str(e).isdigit()):
                return None
            if block is None or len(mat_numbers(block)) < 3:
                self._note(f"“{sitting.name}” stands as solved: fewer than three targets of the mat are in its block.")
                return None
            return Change(f"stand “{sitting.name}” on the mat", lambda: self._level(sitting, by_mat=True))
        if (up == "turntable" and "axis" in have) or (up == "box" and have.get("box")):
            return None
        if up == "turntable" and not self.job.result(sitting.id, "poses").figures.turntable:
            self._note(f"“{sitting.name}” stands as solved: its photos show no turntable.")
            return None
        return Change(f"stand “{sitting.name}” {stand_text({'up': up})}", lambda: self._level(sitting))

    def _level(self, sitting, by_mat=False):
        stand = self.recipe.stand
        parts = {k: list(v) if isinstance(v, tuple) else v for k, v in stand.items() if k != "up"}
        with self.job.action(f"level by the recipe “{self.recipe.name}”"):
            if by_mat:
                level_by_mat(self.job, sitting)
            else:
                parts["up"] = {"axis": "turntable"} if stand["up"] == "turntable" else {"box": True}
            if parts:
                change_level(self.job, sitting, **parts)

    def _of_final(self, sitting):
        """What is missing of a sitting from the cloud on."""
        named = {*self.recipe.stages, *self.recipe.joined, self.recipe.until}
        for stage, part in (("cloud", "clean"), ("surface", "mend"), ("texture", None)):
            if not self._reaches(stage):
                return None
            if stage != "cloud" and stage not in named and not (part and getattr(self.recipe, part)):
                continue  # a delivery of a cloud alone needs none
            act = self._cells([sitting], stage) or (part and self._steps(sitting, part))
            if act:
                return act
        return self._delivery(sitting) if self._reaches("deliver") else None

    def _steps(self, sitting, part):
        steps, way, book = getattr(self.recipe, part), WAYS[part], BOOKS[part]
        kept = self.job.cloud(sitting.id) if part == "clean" else self.job.surface(sitting.id)
        if not steps or kept is None:
            return None
        have = [s.step for s in kept.steps]
        if have and _some_of(book, have[: len(steps)], steps):
            return None
        if (kept.id, part) in self._idle:
            return None  # nothing of it does anything here
        if have:
            self._note(f"“{kept.name}” of “{sitting.name}” was changed by other steps already; it is left as it is.")
            return None
        title = f"{'clean' if part == 'clean' else 'mend'} “{kept.name}” of “{sitting.name}”"
        return Call(
            title, steps_elsewhere, (str(self.job.folder), sitting.id, part, steps),
            lambda answer: self._keep(way, kept, part, *answer),
        )  # fmt: skip

    def _keep(self, way, kept, part, changed, left):
        for sentence in left:
            self._note(sentence)
        if changed is None:
            self._idle.add((kept.id, part))
        else:
            way.keep(self.job, kept, changed)

    def _delivery(self, sitting):
        stage = BY_NAME["deliver"]
        done = self.job.result(sitting.id, "deliver")
        for k, values in enumerate(self.recipe.deliver):
            made = [
                m for m in (done.figures.made if done else ())
                if delivery_of({**m.settings, "purpose": m.purpose}) == values
                and not stage.stale(self.job, sitting, m)
            ]  # fmt: skip
            if not made:
                wanted = {**values, **self.place}
                kept = self.job.settings(sitting.id, "deliver")
                own = {k: v for k, v in kept.items() if k in own_fields(stage) and k not in ("surface", "cloud")}
                wanted = {**own, "file": "", "replace": False, **wanted}
                if wanted["replace"] and len(self.recipe.deliver) > 1:  # none is written over by the next
                    wanted["file"] = self._file_of(sitting, k)
                if kept != wanted:
                    title = f"deliver {values['purpose']} of “{sitting.name}”"
                    return Change(title, partial(self.job.set_settings, sitting.id, "deliver", wanted, title))
                return Cells([(sitting, ["deliver"])])
        return None

    def _file_of(self, sitting, k):
        """What the files of the recipe's delivery number `k` are called: each of its own name."""
        purpose = self.recipe.deliver[k]["purpose"]
        alike = [i for i, d in enumerate(self.recipe.deliver) if d["purpose"] == purpose]
        words = [self.job.folder.stem, *([sitting.name] if len(self.job.sittings()) > 1 else ()), purpose]
        return " ".join([*words, *([str(alike.index(k) + 1)] if len(alike) > 1 else ())])
