"""Doing what a recipe asks, act by act, through a queue and tasks that the window, a command or a batch polls."""

from ...core.errors import UmbrateError
from .following import Call, Cells


class Follower:
    """Does what a Following asks next whenever the queue and the tasks have nothing more to do. Call `step` often.

    Attributes
    ----------
    over : bool
        Whether all is done, or cannot go on.
    problem : str
        Why it could not go on; else "".
    """

    def __init__(self, following, queue, tasks):
        self.following, self.queue, self.tasks = following, queue, tasks
        self.over, self.problem = False, ""
        self._before = dict(queue.failures)

    def step(self):
        """Start the next act where nothing runs; returns what it is called where it is no stage, else ""."""
        if self.over or not self.queue.idle or not self.tasks.idle:
            return ""
        failed = {k: f for k, f in self.queue.failures.items() if self._before.get(k) is not f}
        if failed:
            self.stop(" ".join(dict.fromkeys(f.message for f in failed.values())))
            return ""
        try:
            act = self.following.next()
            if act is None:
                self.over = True
                return ""
            if isinstance(act, Cells):
                self.queue.add_all(act.cells)
                return ""
            if isinstance(act, Call):
                self.tasks.send(act.title, act.function, act.arguments, lambda value: self._keep(act, value), self.stop)
            else:
                act.do()
            return act.title
        except UmbrateError as e:
            self.stop(str(e))
            return ""

    def _keep(self, act, value):
        try:
            act.then(value)
        except UmbrateError as e:
            self.stop(str(e))

    def stop(self, problem="It was stopped. What was finished before is saved.", kind=""):
        """Do nothing more; the problem is why."""
        self.over, self.problem = True, problem
