"""Work items on other machines: the executor that hands them to a cluster, and what answers the workers' questions.

The cluster is Dask's: a scheduler, workers (`away`), and this process as its client. An item travels with keys and
numbers. What it reads is on a folder that all see, or is asked for here by what is in it, once for each worker; what it
makes comes back the same way. So the job never is on more than one machine, and results have the same bits.
"""

import asyncio
import concurrent.futures
import contextlib
import itertools
import logging
import pickle
import secrets
import threading
import time
import uuid
from functools import partial
from pathlib import Path

import numpy as np

from ..core.errors import CannotKeep, UmbrateError
from ..job.blobs import BlobStore
from ..job.scratch import Scratch
from ..stages.executor import LocalExecutor
from . import away
from .identity import differences, identity

log = logging.getLogger(__name__)

CONNECT_S, ALONE_S = 5.0, 60.0  #: to find the scheduler, and without any worker until a run is given up
LOOK_S = 2.0  #: for so long what is known of the workers serves
PART = 1 << 26  #: bytes of a file that are sent at once
#: items at work or in line for each thread of the cluster: enough that none waits, few enough to be cancelled at once
AHEAD = 4
#: items that take less together travel as one: handing one out costs each of four processes some milliseconds
TOGETHER_S, MOST_TOGETHER = 0.2, 32


class Counted:
    """How many bytes went to workers and came from them."""

    def __init__(self):
        self.sent = self.received = 0
        self._lock = threading.Lock()

    def add(self, sent=0, received=0):
        with self._lock:
            self.sent, self.received = self.sent + sent, self.received + received


class Answers:
    """What workers may ask of this process: blobs of one job and photos of one run, by what is in them."""

    def __init__(self, blobs, photos, counted):
        self.blobs, self.photos, self.counted = BlobStore(blobs), {p.hash: p.path for p in photos if p.hash}, counted

    def blob(self, key):
        """The bytes of a blob, or None."""
        try:
            data = self.blobs.get_bytes(key)
        except UmbrateError:
            return None
        self.counted.add(sent=len(data))
        return data

    def photo(self, content, start):
        """Bytes of a photo's file from `start` on, at most PART; None where it is none of the run's, or not there."""
        try:
            with open(self.photos[content], "rb") as f:
                f.seek(start)
                data = f.read(PART)
        except (KeyError, OSError):
            return None
        self.counted.add(sent=len(data))
        return data

    def keep(self, data):
        """Keep a blob; returns its key, or what went wrong as a sentence."""
        self.counted.add(received=len(data))
        try:
            return self.blobs.put_bytes(bytes(data)), ""
        except CannotKeep as e:
            return "", str(e)

    def remember(self, fingerprint, key):
        """Keep that a blob is what comes of a fingerprint."""
        self.blobs.remember(fingerprint, key)


class Desk:
    """A server in this process that gives the Answers; it listens on a port of its own where the scheduler sees it."""

    def __init__(self, client, answers):
        self._client = client
        self.address = client.sync(self._open, answers)

    async def _open(self, answers):
        from distributed.core import Server

        async def blob(key):
            return await asyncio.to_thread(answers.blob, key)

        async def photo(content, start):
            return await asyncio.to_thread(answers.photo, content, start)

        async def keep(data):
            return await asyncio.to_thread(answers.keep, data)

        async def remember(fingerprint, key):
            await asyncio.to_thread(answers.remember, fingerprint, key)

        client = self._client
        security = client.security
        self._server = Server(
            {"blob": blob, "photo": photo, "keep": keep, "remember": remember},
            connection_args=security.get_connection_args("client") if security else {},
        )
        scheme, rest = client.scheduler.address.split("://")
        host, port = rest.rsplit(":", 1)
        from distributed.utils import get_ip

        listen = security.get_listen_args("worker") if security else {}
        await self._server.listen(f"{scheme}://{get_ip(host.strip('[]'), int(port))}:0", **listen)
        return self._server.address

    def close(self):
        """Answer no more."""
        self._client.sync(self._server.close)


_clients, _opening = {}, threading.Lock()


def _client(address):
    """The Client of a scheduler, kept as long as that is there.

    Raises
    ------
    UmbrateError
        Where nothing answers at the address.
    """
    from distributed import Client
    from distributed.security import Security

    with _opening:
        client = _clients.get(address)
        if client is not None and client.status == "running":
            return client
        for name in [n for n in logging.root.manager.loggerDict if n.split(".")[0] == "distributed"]:
            logging.getLogger(name).setLevel(logging.CRITICAL)  # it says in traces what is said in words below
        try:
            _clients[address] = Client(address, timeout=CONNECT_S, security=Security(), name="umbrate")
        except (OSError, TimeoutError, ValueError, TypeError, RuntimeError) as e:
            raise UmbrateError(
                f"No scheduler answers at {address}. Start it with “umbrate scheduler”, look whether the address is as "
                "it says it, such as tcp://HOST:8786 (with tls:// this machine's certificate must be of the same "
                "authority), or run without a cluster."
            ) from e
        return _clients[address]


def found_workers(client):
    """The workers of a cluster: what `away.who` says of each, with what is `wrong` with it, by address.

    Raises
    ------
    UmbrateError
        Where there are none, or they do not answer.
    """
    try:
        found = client.run(away.who, on_error="return")
    except Exception as e:
        raise UmbrateError(f"The workers do not answer ({type(e).__name__}). Look whether they run.") from e
    if not found:
        raise UmbrateError(
            "No worker is there yet. Start one on each machine with “umbrate worker --cluster ADDRESS”, or run without "
            "a cluster."
        )
    mine, out = identity(), {}
    for address, told in sorted(found.items()):
        if isinstance(told, dict) and told.get("name"):
            out[address] = {**told, "wrong": differences(mine, told["identity"])}
        else:
            out[address] = {"name": address, "wrong": "it is no worker of Umbrate's"}
    return out


def workers_of(client):
    """Names of the workers of a cluster by address, all of which compute as this process does.

    Raises
    ------
    UmbrateError
        Where there are none, or one of them computes with anything else.
    """
    found = found_workers(client)
    for w in found.values():
        if w["wrong"]:
            raise UmbrateError(
                f"The worker {w['name']} would not compute the same: {w['wrong']}. Bring both machines to the same "
                "version, or stop that worker."
            )
    return {a: w["name"] for a, w in found.items()}


def look_at_cluster(address, report):
    """Who works for a scheduler: a dict each, with name, threads, memory in bytes, and what is wrong or nothing."""
    client = _client(address)
    told = client.scheduler_info(n_workers=-1)["workers"]
    return [
        {
            "name": w["name"], "wrong": w["wrong"], "threads": told.get(a, {}).get("nthreads", 0),
            "memory": told.get(a, {}).get("resources", {}).get("memory", 0.0),
        }
        for a, w in sorted(found_workers(client).items(), key=lambda x: x[1]["name"])
    ]  # fmt: skip


class ClusterExecutor:
    """Runs what can run anywhere on the workers of a cluster, and the rest in threads of this process.

    Parameters
    ----------
    address : str
        Of the scheduler, as ``tcp://HOST:PORT`` or ``tls://HOST:PORT``.
    blobs : str
        Folder ``blobs/`` of the job.
    photos : list of PhotoRef
        That items may ask for.
    threads : int
        For what is done here.

    Raises
    ------
    UmbrateError
        Where the cluster is not there, or would compute something else.
    """

    def __init__(self, address, blobs, photos, threads=2):
        self.address, self.counted = address, Counted()
        self._local, self._client = LocalExecutor(threads), _client(address)
        self.workers = workers_of(self._client)
        self._look()
        self._scratch = Scratch.of_job(blobs)
        self._folder = self._scratch.__enter__().folder
        try:
            secret = secrets.token_hex(16)
            (self._folder / "here").write_text(secret)
            self._desk = Desk(self._client, Answers(blobs, photos, self.counted))
            where, token = (str(Path(p).resolve()) for p in (blobs, self._folder / "here"))
            self.place = away.Place(where, token, secret, self._desk.address, identity())
        except BaseException:
            self._scratch.__exit__(None, None, None)
            raise

    def close(self):
        """Let the workers forget this run."""
        try:
            if self._client.status == "running":
                self._client.run(away.forget, self.place.key, on_error="return")
            self._desk.close()
        except Exception as e:
            log.info("the cluster was gone at the end: %s", e)
        self._scratch.__exit__(None, None, None)

    @property
    def threads(self):
        """How many items run at once, as far as is known: workers come and go."""
        if time.monotonic() - self._looked > LOOK_S:
            self._look()
        return max(1, self._threads)

    @property
    def told(self):
        """What is said beside the progress."""
        n = len(self.workers)
        return f", {n} worker" + "s" * (n != 1)

    def map(self, function, items, memory=0):
        """As of LocalExecutor.

        Raises
        ------
        UmbrateError
            What an item raised, with the worker's name where it is that machine's fault; where the scheduler or all
            workers are gone; where no worker has the memory.
        """
        if not _can_go(function):
            yield from self._local.map(function, items)
            return
        self._check_memory(memory)
        work, waiting, line, together = partial(away.perform, self.place), iter(items), [], 1
        run = uuid.uuid4().hex[:8]
        resources = {"memory": memory} if memory else None
        numbers = itertools.count()
        try:
            while True:
                while len(line) < AHEAD * self.threads and (some := list(itertools.islice(waiting, together))):
                    key = f"umbrate-{run}-{next(numbers)}"
                    packed = pickle.dumps((function, some), pickle.HIGHEST_PROTOCOL)
                    self.counted.add(sent=len(packed))
                    with self._reaching():
                        line.append(self._client.submit(work, packed, key=key, pure=False, resources=resources))
                if not line:
                    return
                values, seconds = self._value(line.pop(0))
                if not memory:
                    together = int(np.clip(TOGETHER_S * len(values) / max(seconds, 1e-6), 1, MOST_TOGETHER))
                yield from values
        finally:
            if line:
                try:
                    self._client.cancel(line, force=True)
                except Exception as e:
                    log.info("the cluster was gone when a run was cancelled: %s", e)

    def _check_memory(self, memory):
        has = {
            a: w["resources"].get("memory", 0) for a, w in self._client.scheduler_info(n_workers=-1)["workers"].items()
        }
        if memory and has and max(has.values()) < memory:
            told = ", ".join(f"{self.workers.get(a, a)} {x / 1e9:.1f} GB" for a, x in has.items())
            raise UmbrateError(
                f"A photo needs {memory / 1e9:.1f} GB of memory, and no worker has that much ({told}). Choose a "
                "smaller photo scale, close other programs there, or run without a cluster."
            )

    def _value(self, future):
        """What some items came to, once it is there, and the seconds that they took."""
        from distributed import KilledWorker, TimeoutError

        alone = None
        while True:
            try:
                with self._reaching():
                    kind, value = future.result(timeout=2.0)
                break
            except (TimeoutError, concurrent.futures.TimeoutError):
                self._look()
                alone = None if self.workers else alone or time.monotonic()
                if alone and time.monotonic() - alone > ALONE_S:
                    raise UmbrateError(
                        "All workers are gone. What was finished is kept: start workers again and run the step again, "
                        "or run it without a cluster.",
                        ("run again",),
                    ) from None
            except KilledWorker as e:
                raise UmbrateError(
                    f"Several workers died one after another over the same piece of work ({str(e)[:100]}). Most likely "
                    "their memory was not enough: choose a smaller photo scale. What was finished is kept.",
                    ("run again",),
                ) from e
        if kind == "done":
            self.counted.add(received=len(value))
            return pickle.loads(value)
        if kind == "cannot keep":
            raise CannotKeep(value[0], value[1])
        raise UmbrateError(value[0], value[1])

    @contextlib.contextmanager
    def _reaching(self):
        """Say in words that the scheduler is gone."""
        from distributed import CancelledError, KilledWorker
        from distributed.comm.core import CommClosedError

        try:
            yield
        except (TimeoutError, concurrent.futures.TimeoutError, KilledWorker):
            raise
        except (CancelledError, concurrent.futures.CancelledError, CommClosedError, OSError, RuntimeError) as e:
            raise UmbrateError(
                f"The scheduler at {self.address} is gone. What was finished is kept: run the step again when it is "
                "back, or without a cluster.",
                ("run again",),
            ) from e

    def _look(self):
        """Note which workers are there now."""
        self._looked = time.monotonic()
        try:
            here = self._client.scheduler_info(n_workers=-1)["workers"]
        except Exception:
            return
        self._threads = sum(w.get("nthreads", 0) for w in here.values())
        self.workers = {a: self.workers.get(a) or w.get("name", a) for a, w in here.items()}


def photos_of(inputs):
    """The photos that a run may read."""
    found = getattr(inputs, "photos", None)
    if found is None and isinstance(getattr(inputs, "source", None), tuple):
        found = inputs.source[0].photos
    return [p for p in found or () if getattr(p, "hash", "")]


class WhenNeeded:
    """Goes to the cluster with the first items that can run there: a step without such items needs none.

    The parameters are those of ClusterExecutor, which it makes then.
    """

    def __init__(self, address, blobs, photos, threads):
        self._how, self._local, self._there = (address, blobs, photos, threads), LocalExecutor(threads), None

    @property
    def threads(self):
        """How many items run at once."""
        return (self._there or self._local).threads

    @property
    def told(self):
        """What is said beside the progress."""
        return self._there.told if self._there else ""

    @property
    def counted(self):
        """The bytes that travelled."""
        return self._there.counted if self._there else Counted()

    def map(self, function, items, memory=0):
        """As of ClusterExecutor; raises what that does when it is made."""
        if _can_go(function) and self._there is None:
            self._there = ClusterExecutor(*self._how)
        return (self._there or self._local).map(function, items, memory)

    def close(self):
        """Let the workers forget this run."""
        if self._there:
            self._there.close()


def _can_go(function):
    inner = function.func if isinstance(function, partial) else function
    return getattr(inner, "anywhere", False)


def executor_for(address, inputs, threads):
    """The executor of a run: that of a cluster where an address is given and the run's job has blobs."""
    blobs = getattr(inputs, "blobs", None)
    if not address or not blobs or not Path(blobs).exists():
        return LocalExecutor(threads)
    return WhenNeeded(address, blobs, photos_of(inputs), threads)
