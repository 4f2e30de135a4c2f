"""What a batch has done so far, as a file in its folder: read by whoever goes on with it, and by whoever looks on."""

import contextlib
import fcntl
import json
import os
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path

from ...core.errors import UmbrateError
from ...core.names import file_name
from ...formats.files import Gate, make_folder, written_aside
from ...formats.reading import read_json
from ...job.store import SUFFIX
from ..recipes.recipe import Recipe
from ..recipes.text import recipe_of_text, text_of_recipe

FILE, LOCK, VERSION = "batch.json", ".batch.lock", 1
WAITING, RUNS, DONE, FAILED = "waiting", "runs", "done", "failed"
STATES = (WAITING, RUNS, DONE, FAILED)
EVERY_S = 1.0  #: how often it is written how far a running one is


@dataclass
class Item:
    """One folder of photos on its way to a job.

    Attributes
    ----------
    folder, name : str
        The folder, and what its job and its folder of deliveries are called.
    state : str
        One of `STATES`.
    why : str
        Of one that failed: the reason.
    begun : bool
        Whether the batch has made something of its name: what is there of that name is its own then.
    seconds : float
        That it took, in all sessions.
    notes : list of str
        What is to be looked at.
    """

    folder: str
    name: str
    state: str = WAITING
    why: str = ""
    begun: bool = False
    seconds: float = 0.0
    notes: list = field(default_factory=list)


def _item(data):
    known = {k: v for k, v in data.items() if k in Item.__dataclass_fields__}
    item = Item(**known)
    texts = (item.folder, item.name, item.state, item.why)
    good = all(isinstance(x, str) for x in texts) and item.state in STATES and isinstance(item.seconds, int | float)
    if not good or not item.name or item.name != file_name(item.name):
        raise ValueError(item.name)
    return item


class Batch:
    """A batch in its folder. `read` looks at one; `begin` makes one or goes on with it, and keeps others out.

    Attributes
    ----------
    out : Path
    recipe : Recipe
    items : list of Item
    now : dict
        What the one that runs is at: name, sentence, fraction; empty while nothing runs.
    pid : int
        Of the process that does it, or 0.
    """

    def __init__(self, out, recipe, items, now=None, pid=0):
        self.out, self.recipe, self.items = Path(out).absolute(), recipe, items
        self.now, self.pid = now or {}, pid
        self._lock, self._written = None, 0.0

    # ------------------------------------------------------------------ reading and writing
    @classmethod
    def read(cls, out):
        """The Batch of a folder, as it was last written.

        Raises
        ------
        UmbrateError
            Where there is none, or what is there is none.
        """
        file = Path(out) / FILE
        data = read_json(file)
        try:
            if data["umbrate"] != "batch":
                raise ValueError
            if data["version"] > VERSION:
                raise UmbrateError(f"{file} was written by a newer Umbrate. Go on with it there.")
            recipe = recipe_of_text(data["recipe"], f"the recipe in {FILE}")
            now = data.get("now") if isinstance(data.get("now"), dict) else {}
            return cls(out, recipe, [_item(x) for x in data["items"]], now, int(data.get("pid") or 0))
        except (KeyError, TypeError, ValueError):
            raise UmbrateError(f"{file} is not what a batch writes. Choose another folder for the results.") from None

    def write(self):
        """Write it down; whole or not at all."""
        data = {
            "umbrate": "batch", "version": VERSION, "recipe": text_of_recipe(self.recipe), "pid": self.pid,
            "now": self.now, "items": [asdict(i) for i in self.items],
        }  # fmt: skip
        with written_aside(self.out / FILE, Gate(replace=True)) as part:
            part.write_text(json.dumps(data, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        self._written = time.monotonic()

    def tell(self, **now):
        """Say what the one that runs is at; written no oftener than once a second."""
        self.now = {**self.now, **now}
        if time.monotonic() - self._written >= EVERY_S:
            with contextlib.suppress(UmbrateError, OSError):  # nobody but who looks on misses it
                self.write()

    # ------------------------------------------------------------------ beginning
    @classmethod
    def begin(cls, out, recipe, folders):
        """Make a batch, or go on with one: folders that it has not yet come behind the others.

        recipe : Recipe or None
            None goes on with the one it was begun with.

        Raises
        ------
        UmbrateError
            Where another process does this batch now, it was begun with another recipe, or the folder will not do.
        """
        out = Path(out)
        if recipe is None and not (out / FILE).exists():
            raise UmbrateError(f"There is no batch in {out} to go on with. Say which recipe: --recipe NAME.")
        make_folder(out)
        lock = _locked(out)
        try:
            if (out / FILE).exists():
                batch = cls.read(out)
                if recipe is not None and recipe != batch.recipe:
                    raise UmbrateError(
                        f"The batch in {out} was begun with other settings (“{batch.recipe.name}”). Choose another "
                        "folder for the results, or go on with it without naming a recipe."
                    )
            else:
                batch = cls(out, recipe, [])
            batch._lock, batch.pid = lock, os.getpid()
            batch.add(folders)
            if not batch.items:
                raise UmbrateError("Say which folders of photos.")
            batch.write()
            return batch
        except BaseException:
            lock.close()
            raise

    def add(self, folders):
        """Take folders in that are not in yet; each gets a name of its own."""
        have = {i.folder for i in self.items}
        taken = {i.name.lower() for i in self.items}
        for folder in folders:
            path = os.path.abspath(folder)
            if path in have:
                continue
            name = file_name(Path(path).name, taken)
            name = file_name(name.removesuffix(SUFFIX) or "unnamed", taken)
            self.items.append(Item(path, name))
            have.add(path)
            taken.add(name.lower())

    def end(self):
        """Nobody does it any more."""
        self.pid, self.now = 0, {}
        try:
            self.write()
        finally:
            if self._lock is not None:
                self._lock.close()

    @property
    def running(self):
        """Whether a process does it now."""
        try:
            _locked(self.out).close()
        except UmbrateError:
            return True
        return False

    def job_folder(self, item):
        """Where the job of an item lies."""
        return self.out / f"{item.name}{SUFFIX}"

    def delivered(self, item):
        """Where its files are delivered to."""
        return self.out / item.name


def _locked(out):
    """The open lock file of a batch's folder; raises UmbrateError where another process has it."""
    try:
        # not appended to, not followed: it may lie in a folder that others write to
        handle = os.open(out / LOCK, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666)
        file = os.fdopen(handle, "r+")
    except OSError as e:
        raise UmbrateError(f"{out} cannot be written to ({e.strerror}). Choose another folder for the results.") from e
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        raise UmbrateError(f"A batch runs in {out} already. Look at its summary, or stop it first.") from None
    return file


__all__ = ["DONE", "FAILED", "RUNS", "WAITING", "Batch", "Item", "Recipe"]
