"""Changing what stands side by side step by step: steps are applied, each is taken back at will, those after it anew.

A step's answer is kept as a blob beside the thing, see `job.sidebyside`; what steps are: `stepbook`. A subclass says
what it is that steps change.
"""

from dataclasses import dataclass

from ..core.errors import Cancelled, CannotKeep, NothingHere, UmbrateError


@dataclass(frozen=True)
class Changed:
    """What the steps of a thing would be, computed but not kept yet: see `Stepwise.keep`.

    Attributes
    ----------
    steps : list
        Rows for `SideBySide.set_steps`; what they did lies in the job's blobs already.
    label : str
        What is done, for undo.
    gone : int
        How much the steps that were computed take away.
    """

    steps: list
    label: str
    gone: int


class Stepwise:
    """Steps on one kind of thing."""

    VERB = ""
    book = None

    # ------------------------------------------------------------------ what a subclass says
    def listing(self, job):
        """The job's SideBySide of the kind."""
        raise NotImplementedError

    def load(self, job, kept, upto=None):
        """The arrays of one after its steps (the first `upto` of them)."""
        raise NotImplementedError

    def after(self, job, arrays, blob):
        """The arrays after one more step, whose answer is in a blob."""
        raise NotImplementedError

    def attempt(self, job, sitting, kept, step, arrays):
        """The answer of a step."""
        raise NotImplementedError

    def put(self, job, step, answer):
        """Keep a step's answer: the step as it is kept, its blob, how much it takes away."""
        raise NotImplementedError

    def fates(self, job, kept, index):
        """What of a step's answer is to stay where it is done again, or None."""
        return None

    # ------------------------------------------------------------------ doing
    def apply_step(self, job, sitting, kept, step, answer=None):
        """Change one by a step; returns how much it took away.

        answer : what trying this step on it gave, where it was tried already

        Raises
        ------
        UmbrateError
            Where nothing would be left.
        """
        step = self.book.frozen(job, sitting, step)
        if answer is None:
            answer = self.attempt(job, sitting, kept, step, self.load(job, kept))
        return self.add(job, kept, *self.put(job, step, answer))

    def add(self, job, kept, step, blob, removed):
        """Have one changed by a step whose answer was `put`; returns how much it took away."""
        title = self.book.by_name[step["filter"]].title.lower()
        self.listing(job).add_step(kept.id, step, blob, removed, f"{self.VERB}: {title} ({removed:,})")
        return removed

    def keep(self, job, kept, changed):
        """Have one changed by the steps of a Changed, as one change; returns how much they took away."""
        self.listing(job).set_steps(kept.id, changed.steps, changed.label)
        return changed.gone

    def apply_steps(self, job, sitting, kept, steps):
        """Change one by several steps, one after the other, as one change; returns how much they took away.

        Raises
        ------
        UmbrateError
            Where one of them does not work here; nothing is changed then.
        """
        return self.keep(job, kept, self.with_steps(job, sitting, kept, steps))

    def with_steps(self, job, sitting, kept, steps):
        """The Changed of one with several steps more. Raises as `apply_steps`; a job open for reading will do."""
        if not steps:
            raise UmbrateError(f"There is no step to {self.VERB} by.")
        for step in steps:
            if self.book.by_name[self.book.check(step)["filter"]].framed and "frame" not in step:
                raise UmbrateError(
                    "One of these steps was drawn by an older version, in a frame that is not known any more. Draw it "
                    "anew."
                )
        done, gone = self._done_again(
            job, sitting, kept, len(kept.steps), [self.book.frozen(job, sitting, s) for s in steps]
        )
        return Changed(done, f"{self.VERB}: {len(steps)} steps ({gone:,})", gone)

    def _done_again(self, job, sitting, kept, first, steps, before=None):
        """The first steps of one as they are, then others computed on what those leave.

        before : of each of the steps what `fates` said, or None

        Returns rows for `SideBySide.set_steps`, and how much the others take away.
        """
        rows = [(s.step, s.blob, s.removed) for s in kept.steps[:first]]
        arrays, gone = self.load(job, kept, first), 0
        rest = self.begin(job, kept, first)
        for k, step in enumerate(steps):
            try:
                answer = self.answer_again(job, sitting, kept, step, arrays, before[k] if before else None, rest)
                step, blob, removed = self.put(job, step, answer)
            except (Cancelled, CannotKeep):
                raise  # no fault of the step
            except UmbrateError as e:
                kind = NothingHere if isinstance(e, NothingHere) else UmbrateError
                raise kind(f"{self.book.by_name[step['filter']].title}: {e}", e.remedy) from None
            rows.append((step, blob, removed))
            arrays, gone = self.after(job, arrays, blob), gone + removed
            rest = self.go_on(rest, answer)
        return rows, gone

    def begin(self, job, kept, first):
        """What doing steps again has to remember from step to step."""

    def go_on(self, rest, answer):
        """The same after one more step."""

    def answer_again(self, job, sitting, kept, step, arrays, fate, rest):
        """The answer of a step that is done again."""
        return self.attempt(job, sitting, kept, step, arrays)

    def without_step(self, job, sitting, kept, index):
        """The Changed of one with one step taken back, and those after it done again."""
        after = range(index + 1, len(kept.steps))
        steps, gone = self._done_again(
            job, sitting, kept, index, [kept.steps[k].step for k in after],
            [self.fates(job, kept, k) for k in after],
        )  # fmt: skip
        title = self.book.by_name[kept.steps[index].step["filter"]].title.lower()
        return Changed(steps, f"take back: {title}", gone)

    def take_back(self, job, sitting, kept, index):
        """Take one step back and do those after it again, as one change."""
        self.keep(job, kept, self.without_step(job, sitting, kept, index))
