"""Where photos are missing: coverage of what the scene shows, computed beside the window."""

from ...actions.coverage import compute_coverage


class Covering:
    """Mixed into work that has `key`, `changed`, `session`, `look` and `set_look`: what coverage found of it.

    `gatherer` says what it is computed from: a function of a job.
    """

    def begin_covering(self):
        """Know nothing."""
        self.covering = False
        self.covered = None  #: (key of what was looked at, Covered)
        self.place = None  #: which of its places is chosen

    def forget_covered(self):
        """Drop what was found where it is of something else by now; whether that is so."""
        gone = self.covered is not None and self.covered[0] != self.key()
        if gone:
            self.covered = self.place = None
        return gone

    def cover(self, look="seen"):
        """Compute coverage where it is not there yet, and color by it."""
        s, key = self.session, self.key()
        if key is None:
            return
        if self.covered:
            self.set_look(look)
            return
        gather = self.gatherer()
        self.covering = True
        self.changed.emit()

        def show(found):
            self.covering = False
            if key != self.key():
                self.changed.emit()  # something else was chosen since
                return
            self.covered = key, found
            self.set_look(look)

        def fail(sentence):
            self.covering = False
            s.said.emit(sentence, "bad")
            self.changed.emit()

        s.in_saved_job(lambda job: compute_coverage(gather(job)), show, fail)

    def places(self):
        """The places with too little that coverage found: rows of sentences, and where to stand."""
        return (self.covered[1].rows(), self.covered[1].places) if self.covered else ([], [])

    def choose_place(self, index):
        """Point to one of them, None to none."""
        self.place = index
        self.changed.emit()
