"""What is drawn beside the chosen one of what stands side by side: clouds beside a cloud, surfaces beside a surface."""


class Beside:
    """Part of a work of the session, a QObject with `changed`: which others are shown, read beside the window.

    A subclass says what there is (`list_now`) and where one is read from (`source_of`).
    """

    def begin_beside(self):
        """Nothing is shown beside."""
        self.shown = frozenset()  #: ids of those that are drawn beside the chosen one
        self._others = {}

    def list_now(self):
        """All of the chosen sitting, as they are in the job now."""
        raise NotImplementedError

    def source_of(self, kept):
        """What reads the arrays of one in the job's frame, in any thread."""
        raise NotImplementedError

    def show(self, one, on):
        """Show another one beside the chosen one, or hide it."""
        self.shown = self.shown | {one} if on else self.shown - {one}
        self.changed.emit()

    def is_shown(self, kept):
        """Whether the scene draws one: the chosen one always."""
        return kept.chosen or kept.id in self.shown

    def beside(self):
        """Keys of those drawn beside the chosen one that are there, by their numbers in the list.

        One that is not is read beside the window; `changed` tells when it is there.
        """
        s, out = self.session, {}
        if s.job is None or s.sitting_id is None:
            return out
        for k, c in enumerate(self.list_now()):
            if c.chosen or c.id not in self.shown:
                continue
            key = (c.id, tuple(x.id for x in c.steps), *s.frame_key)
            if key not in self._others:
                self._read_other(key, self.source_of(c))
            if self._others[key] is not None:
                out[k] = key
        return out

    def _read_other(self, key, source):
        self._others = {x: a for x, a in self._others.items() if x[0] in self.shown}
        self._others[key] = None

        def show(arrays):
            if key in self._others:
                self._others[key] = arrays
                self.changed.emit()

        self.session.in_background(source.read, show)

    def others(self):
        """Those of `beside`: (number in the list, arrays in the job's frame) each."""
        return [(k, self._others[key]) for k, key in self.beside().items()]
