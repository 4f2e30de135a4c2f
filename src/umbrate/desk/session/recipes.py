"""Recipes in the window: a job set by one, and run by it to its end, while the window stays alive."""

from PyQt6.QtCore import QObject, pyqtSignal

from ...work.recipes.applying import Applying
from ...work.recipes.follower import Follower
from ...work.recipes.following import Following


class RecipeWork(QObject):
    """Does what the window asks of recipes.

    Attributes
    ----------
    follower : Follower or None
        Of the recipe that the job is run by now.
    """

    changed = pyqtSignal()

    def __init__(self, session):
        super().__init__(session)
        self.session, self.follower = session, None

    def differences(self, recipe):
        """What setting the job by a recipe would change, and sentences of what is done when there are results."""
        applying = Applying(self.session.job, recipe)
        return applying.differences(), applying.later()

    def apply(self, recipe):
        """Set the job by a recipe, as one change."""
        s = self.session
        if s.may_write():
            told = f"Set as “{recipe.name}” says. Undo takes it back."
            s.do(lambda: Applying(s.job, recipe).apply(), told)

    def run(self, recipe):
        """Set the job by a recipe, and run, join, clean, mend and deliver as it says, when nothing else runs."""
        s = self.session
        if not s.may_write():
            return
        self.follower = Follower(Following(s.job, recipe), s.queue, s.tasks)
        s.said.emit(f"Runs by the recipe “{recipe.name}”", "note")
        self.changed.emit()
        s.listening.wake()

    def step(self):
        """Go on where nothing runs; returns whether anything was begun or ended."""
        follower, s = self.follower, self.session
        if follower is None:
            return False
        notes = len(follower.following.notes)
        title = follower.step()
        for note in follower.following.notes[notes:]:
            s.log.write(note)
        if title:
            s.log.write(f"Recipe: {title}")
            s.changed()
        if follower.over:
            self._end()
        return bool(title) or follower.over

    def _end(self):
        follower, self.follower = self.follower, None
        recipe = follower.following.recipe
        if follower.problem:
            self.session.said.emit(f"The recipe “{recipe.name}” stopped. {follower.problem}", "bad")
        else:
            notes = " ".join(follower.following.notes)
            self.session.said.emit(f"“{recipe.name}” is done. {notes}".strip(), "good")
        self.session.changed()
        self.changed.emit()

    def stop(self):
        """Ask for nothing more; what runs is somebody else's to stop."""
        if self.follower is not None:
            self.follower = None
            self.changed.emit()
