"""What was read of a job before, kept until the job changes.

The window asks the same things at every click: which photos there are, what came of them, whether it still holds. A
job knows its *revision*, which grows with every change; what was read of one revision holds until the next.

Some answers also depend on files outside the job, such as a folder of masks. Those are kept during one *glance* only:
while somebody looks over the whole job, the same folder is not listed for every cell.
"""

from contextlib import contextmanager
from functools import wraps


class Memo:
    """The part of a Job that remembers what was read of it."""

    def __init__(self):
        self._kept, self._kept_of = {}, None
        self._glances, self._seen_outside = 0, {}

    @property
    def revision(self):
        """A value that is another one after every change of the job."""
        if self.writable:
            return self.db.total_changes  # nobody else writes it, see `job.place`
        return self.db.total_changes, self.db.execute("PRAGMA data_version").fetchone()[0]

    def remembered(self, key, make):
        """What `make()` gives, made once in a revision; it must depend on nothing but the job and the key."""
        if self.db.in_transaction:
            return make()  # what is read here may never come to be
        revision = self.revision
        if revision != self._kept_of:
            self._kept.clear()
            self._seen_outside.clear()
            self._kept_of = revision
        if key not in self._kept:
            self._kept[key] = make()
        return self._kept[key]

    @contextmanager
    def glance(self):
        """While this lasts, what lies outside the job is looked at once (see `once_a_glance`)."""
        if not self._glances:
            self._seen_outside.clear()
        self._glances += 1
        try:
            yield
        finally:
            self._glances -= 1

    def once_a_glance(self, key, make):
        """What `make()` gives, made once in a revision and a glance; without a glance, every time."""
        if not self._glances or self.db.in_transaction:
            return make()
        self.remembered(("revision",), lambda: None)  # forgets what was seen of another one
        if key not in self._seen_outside:
            self._seen_outside[key] = make()
        return self._seen_outside[key]


def remembered(method):
    """Decorate a reading method of a Job: its answer is kept in a revision. Lists and dictionaries come as copies."""

    @wraps(method)
    def reading(self, *arguments, **named):
        key = (method.__name__, arguments, tuple(sorted(named.items())))
        value = self.remembered(key, lambda: method(self, *arguments, **named))
        return value.copy() if isinstance(value, list | dict) else value

    return reading
