"""What an open job holds of the chosen sitting, each thing read once for as long as it does not change."""

from PyQt6.QtCore import QObject, pyqtSignal

from ...core.errors import UmbrateError
from ...job.store import Job
from ...sitting.clouds import cloud_source, load_cloud
from ...sitting.frames import frame_of, keep_box_of, load_block, turntable_of
from ...stages import BY_NAME
from ...work.state import board
from .background import Background

READ_AT_ONCE = 150_000  #: points of a cloud that is read while one waits; it takes 20 ms


class Contents(QObject):
    """An open job, what is chosen of it, and what there is.

    Attributes
    ----------
    job : Job or None
    queue : Queue or None
    sitting_id, photo_id : int or None
    stage : str
    fragment : int
        The part of the block that is shown; 0 is the block itself.
    cloud_coming : tuple or None
        What identifies the cloud that is being read.
    """

    document_changed = pyqtSignal()  #: sittings, photos, settings or results
    cloud_read = pyqtSignal()  #: the cloud that was asked for by `cloud_at_hand` is there
    said = pyqtSignal(str, str)  #: a sentence and "good", "bad" or "note"

    def __init__(self):
        super().__init__()
        self.job = self.queue = None
        self.sitting_id = self.photo_id = None
        self.stage, self.fragment = "photos", 0
        self.cloud_coming = None
        self._cache, self._board, self._outside = {}, None, 0
        self._wanting_cloud = []  #: (what identifies a cloud, what is done with it once it is there)
        self.background = Background(lambda sentence: self.said.emit(sentence, "bad"))

    def forget(self):
        """Forget what was read: the job is closed."""
        self._cache.clear()
        self._wanting_cloud.clear()
        self._board = self.cloud_coming = None

    @property
    def sitting(self):
        """The chosen Sitting, or None."""
        return next((s for s in self.job.sittings() if s.id == self.sitting_id), None) if self.job else None

    def photos(self):
        """Photos of the chosen sitting."""
        return self.job.photos(self.sitting_id) if self.job and self.sitting_id else []

    @property
    def photo(self):
        """The chosen Photo, or None."""
        return next((p for p in self.photos() if p.id == self.photo_id), None)

    def result(self, stage):
        """The chosen sitting's Result of a stage, or None."""
        return self.job.result(self.sitting_id, stage) if self.job and self.sitting_id else None

    def _cached(self, kind, stage, load):
        done = self.result(stage)
        if done is None:
            return None
        key = (kind, self.sitting_id, done.id, self.fragment if kind == "block" else 0, *self.frame_key)
        return self._kept(key, lambda: load(self.job, self.sitting))

    def _kept(self, key, load):
        """What `load()` gives, kept until another of its kind (the first of the key) is wanted."""
        if key not in self._cache:
            for old in [k for k in self._cache if k[0] == key[0]]:
                del self._cache[old]
            try:
                self._cache[key] = load()
            except UmbrateError as e:
                self.said.emit(str(e), "bad")
                self._cache[key] = None
        return self._cache[key]

    @property
    def frame_key(self):
        """What the frame of the chosen sitting depends on."""
        scale, level = self.result("scale"), self.job.level(self.sitting_id)
        first = self.job.members(self.sitting_id)[0]
        if first != self.sitting_id:
            # a joined row has the frame of its first member until it has its own
            level = level or self.job.level(first)
            scale = scale if self.result("poses") else self.job.result(first, "scale")
        return scale.id if scale else 0, str(level), str(self.job.keep_box(self.sitting_id)) if level else ""

    @property
    def frame(self):
        """The Frame of the chosen sitting, or None."""
        if self.sitting and self.sitting.members:
            key = ("frame", self.sitting_id, *self.frame_key, r.id if (r := self.result("poses")) else 0)
            return self._kept(key, lambda: frame_of(self.job, self.sitting))
        return self._cached("frame", "poses", frame_of) if self.job else None

    @property
    def turntable(self):
        """The turntable that the chosen sitting's poses show, in the job's frame, or None."""
        return self._cached("turntable", "poses", turntable_of) if self.job else None

    def shapes(self):
        """Lines and faces of the chosen sitting."""
        return self.job.drawn_shapes(self.sitting_id) if self.job and self.sitting_id else []

    @property
    def block(self):
        """Arrays of the solved block, or of the fragment that is shown, or None."""
        if self.fragment >= len(self.fragment_names()):
            self.fragment = 0
        part = self.fragment
        return self._cached("block", "poses", lambda job, sitting: load_block(job, sitting, part))

    def fragment_names(self):
        """The block and its fragments, for people."""
        done = self.result("poses")
        if done is None:
            return []
        parts = [done.figures.solved, *done.figures.fragments]
        return [f"Block, {parts[0]} photos", *(f"Fragment {k}, {n} photos" for k, n in enumerate(parts[1:], 2))]

    def show_fragment(self, index):
        """Show the block (0) or one of its fragments in the scene."""
        if index != self.fragment:
            self.fragment = index
            self.document_changed.emit()

    @property
    def cloud(self):
        """Arrays of the dense cloud, or None."""
        kept = self.job.cloud(self.sitting_id) if self.job and self.sitting_id else None
        if kept is None:
            return None
        return self._kept(self._cloud_key(kept), lambda: load_cloud(self.job, self.sitting, kept))

    def _cloud_key(self, kept):
        return ("cloud", self.sitting_id, kept.id, len(kept.steps), str(kept.steps[-1:]), *self.frame_key)

    def cloud_at_hand(self):
        """What `cloud` is, where that does not keep the window waiting; else None, and it is read in the background.

        `cloud_read` tells when it is there.
        """
        kept = self.job.cloud(self.sitting_id) if self.job and self.sitting_id else None
        if kept is None:
            return None
        key = self._cloud_key(kept)
        if key in self._cache or kept.left <= READ_AT_ONCE:
            return self.cloud
        if self.cloud_coming != key:
            self.cloud_coming = key
            source = cloud_source(self.job, self.sitting, kept)
            self.in_background(source.read, lambda c: self._cloud_came(key, c), lambda e: self._cloud_came(key, e))
        return None

    def with_cloud(self, then):
        """Call ``then(arrays)`` with the chosen cloud: at once where it is at hand, else when it has been read.

        Without a cloud, or where another one is chosen meanwhile, nothing is called.
        """
        cloud = self.cloud_at_hand()
        if cloud is not None:
            then(cloud)
        elif self.cloud_coming is not None:
            self._wanting_cloud.append((self.cloud_coming, then))

    def _cloud_came(self, key, answer):
        if self.cloud_coming != key:
            return  # another one is wanted by now
        self.cloud_coming = None
        if isinstance(answer, str):
            self.said.emit(answer, "bad")
            answer = None
        self._kept(key, lambda: answer)
        wanting, self._wanting_cloud = self._wanting_cloud, []
        self.cloud_read.emit()
        for of, then in wanting:
            if of == key and answer is not None:
                then(answer)

    @property
    def keep_box(self):
        """The keep box in force as a dictionary, or None."""
        return keep_box_of(self.job, self.sitting) if self.sitting else None

    def setting(self, stage, name, sitting_id=None):
        """The value of a stage's setting as chosen for a sitting, this one where none is given; else its default."""
        values = self.job.settings(sitting_id or self.sitting_id, stage)
        field = BY_NAME[stage].Settings.model_fields[name]
        return values[name] if name in values else field.get_default(call_default_factory=True)

    def shows(self, what):
        """Whether the chosen stage is about something that the window can show, one of `stages.base.Shown`."""
        return what in BY_NAME[self.stage].shows

    def board(self):
        """All cells as they are since the job changed, or since one looked outside it (see `look_outside`)."""
        if not self.job:
            return []
        key = (self.job.revision, self._outside, tuple(self.queue.failures.items()))
        if self._board is None or self._board[0] != key:
            self._board = key, board(self.job, self.queue.failures)
        return self._board[1]

    def look_outside(self):
        """Files outside the job may have changed: look at them again where cells depend on them."""
        self._outside += 1
        if self.job:
            self.document_changed.emit()

    def in_background(self, function, then, otherwise=None, series=None):
        """Call `function()` in a thread and `then(value)` in the window's thread; for what takes a moment.

        otherwise : callable(sentence), called where it fails; without one, the session emits `said`
        series : see `Background`: of one series, the latest wins

        What comes back after the job was closed is dropped.
        """
        self.background.run(function, then, otherwise, series)

    def in_saved_job(self, function, then, otherwise=None, series=None):
        """As `in_background`, with ``function(job)`` called on the job as it is saved now, opened for reading."""
        folder = self.job.folder

        def work():
            with Job.open(folder, writable=False) as job:
                return function(job)

        self.in_background(work, then, otherwise, series)
