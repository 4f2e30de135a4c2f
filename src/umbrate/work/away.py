"""A worker of a cluster: does work items of jobs that are on other machines.

Where the job's folder is one that this machine sees, too, it is read and written there. Else what an item asks for is
fetched by what is in it and kept in a cache, so that nothing is sent twice; what is made here is sent back.
"""

import hashlib
import logging
import os
import pickle
import shutil
import stat
import threading
import time
import traceback
from collections import Counter
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import platformdirs
import psutil

from ..core.errors import CannotKeep, UmbrateError
from ..core.memory import free_memory
from ..job import elsewhere
from ..job.blobs import BlobStore
from ..job.sittings import content_hash
from .identity import differences, identity

log = logging.getLogger(__name__)

SPARE = 0.8  #: share of the free memory that items may take
CACHE_GB = 50.0
SCRATCH = "scratch-"  #: before the number of the process whose folder it is


class Place(NamedTuple):
    """Where a run's job is, and who answers for it."""

    blobs: str
    token: str  #: a file of the job, in which
    secret: str  #: is what tells that a machine sees the same folder
    desk: str  #: address
    identity: dict

    @property
    def key(self):
        """A name of the run."""
        return self.secret[:16]


class Away:
    """What `elsewhere` asks for, in a worker: its cache, and the way to whoever answers.

    Parameters
    ----------
    cache : Path
    worker : distributed.Worker
    name : str
        Of this machine, for people.
    most : float
        Bytes that the cache may take.
    """

    def __init__(self, cache, worker, name, most):
        self.cache, self.worker, self.name, self.most = Path(cache), worker, name, most
        self.room = self.cache / f"{SCRATCH}{os.getpid()}"  # several workers may share a cache
        for folder in (self.cache / "blobs", self.cache / "photos", self.room):
            folder.mkdir(parents=True, exist_ok=True)
        self._now, self._shared, self._lock = threading.local(), {}, threading.Lock()
        self._scratches, self._fetching, self._sound = {}, {}, set()
        self._working, self._over = Counter(), set()  # by the key of a run
        for left in self.cache.glob(f"{SCRATCH}*"):  # of workers that died
            if not psutil.pid_exists(int(left.name.removeprefix(SCRATCH) or 0)):
                shutil.rmtree(left, ignore_errors=True)
        self.trim()

    # ------------------------------------------------------------------ runs
    def arrive(self, place):
        """From now on this thread works for a run: two runs may name their folders alike."""
        self._now.place = place

    @contextmanager
    def working(self, place):
        """Work for a run: what is still at work when it is over takes its scratch arrays along when it ends."""
        with self._lock:
            self._working[place.key] += 1
        try:
            self.arrive(place)
            yield
        finally:
            with self._lock:
                self._working[place.key] -= 1
                late = place.key in self._over
            if late:
                self._remove_scratch(place.key)

    def forget(self, key):
        """A run is over: its scratch arrays go, and the cache is brought back to its size."""
        with self._lock:
            self._over.add(key)
        self._remove_scratch(key)
        self.trim()

    def _remove_scratch(self, key):
        with self._lock:
            gone = self._scratches.pop(key, set()) if not self._working[key] else set()
        for folder in gone:
            shutil.rmtree(folder, ignore_errors=True)

    def close(self):
        """This worker ends."""
        shutil.rmtree(self.room, ignore_errors=True)

    def trim(self):
        """Remove what was not used for the longest time, until the cache is no larger than it may be."""
        files = []
        for top in ("blobs", "photos"):
            for f in (self.cache / top).rglob("*"):
                try:
                    s = f.stat()
                except OSError:
                    continue  # another worker with this cache was faster
                if stat.S_ISREG(s.st_mode):
                    files.append((max(s.st_atime, s.st_mtime), s.st_size, f))
        total = sum(size for _, size, _ in files)
        for _, size, f in sorted(files):
            if total <= self.most:
                return
            f.unlink(missing_ok=True)
            total -= size

    @property
    def _place(self):
        place = getattr(self._now, "place", None)
        if place is None:
            raise UmbrateError("A worker was asked for a job that it does not know of.")
        return place

    def sees(self, place):
        """Whether this machine sees the job's own folder."""
        if place.key not in self._shared:
            try:
                self._shared[place.key] = Path(place.token).read_text() == place.secret
            except OSError:
                self._shared[place.key] = False
        return self._shared[place.key]

    def _ask(self, place, what, **more):
        """An answer of whoever works beside the job."""
        from distributed.utils import sync

        async def asked():
            return await getattr(self.worker.rpc(place.desk), what)(**more)

        try:
            return sync(self.worker.loop, asked)
        except Exception as e:
            raise UmbrateError(
                f"The worker {self.name} cannot reach the machine that runs the job, at {place.desk} "
                f"({type(e).__name__}). Look whether a firewall stands between them."
            ) from e

    # ------------------------------------------------------------------ what `elsewhere` asks for
    def blobs(self, folder):
        place = self._place
        return Path(place.blobs) if self.sees(place) else self.cache / "blobs"

    def look_over(self, folder, key):
        if key in self._sound or self.sees(self._place):
            return
        mine = BlobStore.here(self.cache / "blobs").path(key)
        try:
            with open(mine, "rb") as f:
                damaged = hashlib.file_digest(f, "sha256").hexdigest() != key
        except FileNotFoundError:
            return
        except OSError:
            damaged = True  # a disk that cannot read it
        if damaged:
            mine.unlink(missing_ok=True)
        else:
            self._sound.add(key)

    def missing(self, folder, key):
        place = self._place
        if self.sees(place):
            return None
        with self._one(key):
            data = self._ask(place, "blob", key=key)
            if data is None or hashlib.sha256(data).hexdigest() != key:
                return None
            BlobStore.here(self.cache / "blobs").put_bytes(data)
            self._sound.add(key)
            return data

    def made(self, folder, key, data):
        place = self._place
        if not self.sees(place):
            kept, why = self._ask(place, "keep", data=data)
            if kept != key:
                raise CannotKeep(why)

    def remembered(self, folder, fingerprint, key):
        self._ask(self._place, "remember", fingerprint=fingerprint, key=key)

    def photo(self, photo):
        path = Path(photo.path)
        try:
            s = path.stat()
            if content_hash(path, s.st_mtime_ns, s.st_size) == photo.hash:
                return photo
        except OSError:
            pass
        mine = self.cache / "photos" / f"{photo.hash}{path.suffix.lower()}"
        with self._one(photo.hash):
            if not self._has_photo(photo, mine) and not self._fetch_photo(photo, mine):
                return photo  # who reads it says what is wrong
            os.utime(mine, ns=(time.time_ns(), mine.stat().st_mtime_ns))  # what was used last goes last
        return replace(photo, path=str(mine))

    @staticmethod
    def _has_photo(photo, mine):
        """Whether the cache has a photo, whole."""
        try:
            s = mine.stat()
            return content_hash(mine, s.st_mtime_ns, s.st_size) == photo.hash
        except OSError:
            return False

    def _fetch_photo(self, photo, mine):
        """Fetch the file of a photo from whoever has the job; returns whether it was there."""
        part, content = mine.with_name(f"{mine.name}.{os.getpid()}.part"), hashlib.sha256()
        try:
            with open(part, "wb") as f:
                while data := self._ask(self._place, "photo", content=photo.hash, start=f.tell()):
                    f.write(data)
                    content.update(data)
            if content.hexdigest() != photo.hash:
                return False
            part.replace(mine)
            return True
        except OSError as e:
            text = f"{photo.name} could not be kept in {self.cache} ({e.strerror}). Free some space."
            raise CannotKeep(text) from e
        finally:
            part.unlink(missing_ok=True)

    def scratch(self, folder):
        if self.sees(self._place):
            return Path(folder)  # what one worker made there serves the others
        key = self._place.key
        mine = self.room / hashlib.sha256(f"{key} {folder}".encode()).hexdigest()[:16]
        with self._lock:
            self._scratches.setdefault(key, set()).add(mine)
        mine.mkdir(parents=True, exist_ok=True)
        return mine

    def _one(self, key):
        """A lock for what is fetched: two threads do not fetch the same."""
        with self._lock:
            return self._fetching.setdefault(key, threading.Lock())


def who():
    """The name of this worker and what it computes with; an empty dictionary where it is none of Umbrate's."""
    here = elsewhere.here
    return {"name": here.name, "identity": identity()} if here else {}


def forget(key):
    """A run is over."""
    if elsewhere.here:
        elsewhere.here.forget(key)


def perform(place, packed):
    """Do some work items of a run one after another, a pickled pair of function and arguments.

    Returns what kind of end they came to, and their values with the seconds that they took, pickled, or a sentence and
    a remedy.
    """
    here = elsewhere.here
    if here is None:
        return "failed", ("A worker that is none of Umbrate's was asked to compute.", None)
    wrong = differences(place.identity, identity())
    if wrong:
        return "failed", (f"The worker {here.name} would not compute the same: {wrong}. Stop that worker.", None)
    try:
        with here.working(place):
            function, items = pickle.loads(packed)
            start = time.monotonic()
            values = [function(x) for x in items]
            return "done", pickle.dumps((values, time.monotonic() - start), pickle.HIGHEST_PROTOCOL)
    except CannotKeep as e:
        return "cannot keep", (f"On the worker {here.name}: {e}", e.remedy)
    except UmbrateError as e:
        return "failed", (str(e), e.remedy)
    except MemoryError:
        text = f"The memory of the worker {here.name} was not enough. Choose a smaller photo scale, or stop it."
        return "failed", (text, None)
    except Exception as e:
        log.error("%s", traceback.format_exc())
        return "failed", (f"Something unexpected went wrong on the worker {here.name} ({type(e).__name__}: {e}).", None)


def default_cache():
    """The folder that a worker keeps what it was sent in."""
    return Path(platformdirs.user_cache_dir("umbrate")) / "worker"


async def work(address, *, name, threads, memory=None, cache=None, cache_gb=CACHE_GB, ready=None):
    """Work for a cluster until it ends this.

    memory : bytes that items may take; a share of what is free where not given
    ready : callable(), called once the scheduler knows this worker
    """
    import dask
    from distributed import Worker
    from distributed.security import Security

    dask.config.set({"distributed.worker.profile.enabled": False})  # looks at all threads a hundred times a second
    identity()  # of the code that is loaded now, whatever becomes of its files
    memory = SPARE * free_memory() if memory is None else memory
    worker = Worker(
        address, nthreads=threads, name=name, resources={"memory": memory}, security=Security(), memory_limit=0,
        dashboard=False, local_directory=str(Path(cache or default_cache()) / "dask"), validate=False,
    )  # fmt: skip
    elsewhere.here = Away(cache or default_cache(), worker, name, cache_gb * 1e9)
    async with worker:
        if ready:
            ready()
        await worker.finished()
    elsewhere.here.close()
