"""Force: commands are killed at random moments, disks fill, files are mutated; what was promised is looked at.

The campaign is `bench/force.py`; the tests run a short form of each part. Only processes that were started here are
ended, by their numbers.
"""

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

import umbrate.stages
from umbrate.core.geometry.lens import Lens
from umbrate.formats.lenscards import LensCard
from umbrate.job.checking import check_job
from umbrate.job.store import Job

ROOT = Path(__file__).resolve().parents[1]
STAGES = ("photos", "masks", "lens", "poses", "scale", "cloud", "surface", "texture")
LEFT = (".part-", ".making-", ".umbrate-delivery-")  #: in names of what is being written
LEFT_S = 20.0  #: a worker that was just started may live so long after its parent was killed, beside other work
QUICK = {
    "poses": {"features": 2000}, "cloud": {"photo_scale": 2, "rounds": 1, "neighbors": 4},
    "surface": {"triangles": 20_000}, "texture": {"side": 1024, "triangles": 5_000},
}  # fmt: skip


def environment(home, **more):
    """What a command here is started with: its settings, logs and notes lie in `home`."""
    home = Path(home)
    return {
        **os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}", "QT_QPA_PLATFORM": "offscreen",
        "COLUMNS": "200", "XDG_STATE_HOME": str(home / "state"), "XDG_DATA_HOME": str(home / "data"),
        "XDG_CONFIG_HOME": str(home / "config"), **more,
    }  # fmt: skip


def python(code):
    """The command that runs Python code."""
    return [sys.executable, "-c", code]


def umbrate(*arguments):
    """The command of the command line."""
    return [sys.executable, "-m", "umbrate", *map(str, arguments)]


def digest(folder):
    """What a job holds, as far as it must not depend on who was killed when: plain values."""
    with Job.open(folder, writable=False) as job:
        names, out = {}, {}
        for s in job.sittings():
            photos = job.photos(s.id)
            names.update({p.id: p.name for p in photos})
            out[s.name] = [[p.name, p.hash, p.aside] for p in photos]
            for kind, things in (("cloud", job.clouds(s.id)), ("surface", job.surfaces(s.id))):
                out[f"{s.name}, {kind}s"] = [[k.name, k.blob, [x.blob for x in k.steps]] for k in things]
        for s in job.sittings():
            for stage in STAGES if not s.members else ():
                if (kept := job.result(s.id, stage)) is not None:
                    rows = kept.artefacts.items()
                    out[f"{s.name}, {stage}"] = sorted([n, names.get(p, ""), key] for (n, p), key in rows)
            if s.members and (found := job.join_found(s.id)):
                out[f"{s.name}, join"] = found.moves
        return out


@dataclass(frozen=True)
class Act:
    """Something that is done to a job and can be killed.

    Attributes
    ----------
    name : str
    before : Path
        A job as it is before; it is copied.
    command : callable(job, out) -> list of str
        Of a job's folder, and a folder beside it for what is written.
    makes : tuple of str
        Files in that folder.
    given : dict
        Contents of files that are in that folder before; each stays, or becomes what the act makes.
    """

    name: str
    before: Path
    command: object
    makes: tuple = ()
    given: dict = field(default_factory=dict)


@dataclass
class Known:
    """How an act goes when nobody kills it: what the job holds before and after, files, and how long it takes.

    Of a file that holds when it was written, and is another each time, its size is known.
    """

    before: dict
    after: dict
    files: dict
    seconds: float


@dataclass
class Tally:
    """What came of tries: how many there were, what did not hold, in words, and how many were refused with reason."""

    tries: int = 0
    wrong: list = field(default_factory=list)
    refused: int = 0
    figure: str = ""

    def add(self, told, refused=False):
        """One more try, and what is wrong of it; whether something was refused."""
        self.tries += 1
        self.wrong += told
        self.refused += refused

    @property
    def held(self):
        return self.tries - len({w.split(":")[0] for w in self.wrong})


def _copy(act, place):
    job = place / "job.umbrate"
    shutil.copytree(act.before, job)
    (place / "out").mkdir()
    for name, data in act.given.items():
        (place / "out" / name).parent.mkdir(parents=True, exist_ok=True)
        (place / "out" / name).write_bytes(data)
    return job


def _files(act, out):
    return {n: (out / n).read_bytes() if (out / n).is_file() else None for n in act.makes}


def known(act, place):
    """The Known of an act, run twice: the first time fills the caches of compiled code."""
    runs = []
    for k in range(2):
        here = place / f"{act.name} {k}"
        job = _copy(act, here)
        before = digest(job)
        start = time.monotonic()
        done = subprocess.run(
            act.command(job, here / "out"), env=environment(here), cwd=here, capture_output=True, text=True, timeout=300
        )
        seconds = time.monotonic() - start
        if done.returncode:
            raise RuntimeError(f"{act.name}: {done.stdout[-500:]} {done.stderr[-500:]}")
        runs.append(_files(act, here / "out"))
    files = {n: data if runs[0][n] == data else len(data) for n, data in runs[1].items()}
    return Known(before, digest(job), files, seconds)


def _is_whole(data, told):
    """Whether a file is as the Known says."""
    if isinstance(told, int):
        return data is not None and abs(len(data) - told) < 0.01 * told
    return data == told


def _are_whole(act, out, told):
    return all(_is_whole(data, told.files[n]) for n, data in _files(act, out).items())


def session_of(pid):
    """Processes of the session that a process began, by number."""
    out = []
    for p in Path("/proc").iterdir():
        if p.name.isdigit():
            try:
                if int(p.joinpath("stat").read_text().rpartition(")")[2].split()[3]) == pid:
                    out.append(int(p.name))
            except (OSError, ValueError, IndexError):
                continue
    return out


def kill_once(act, told, place, seed):
    """Kill an act at a random moment, look at what is left, do it again; what is wrong, in words."""
    rng, wrong = random.Random(f"{act.name} {seed}"), []
    name = f"{act.name} {seed}"
    job = _copy(act, place)
    out, env = place / "out", environment(place)

    def say(what):
        wrong.append(f"{name}: {what}")

    p = subprocess.Popen(
        act.command(job, out), env=env, cwd=place, start_new_session=True, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        p.wait(rng.uniform(0.0, 1.05 * told.seconds))
    except subprocess.TimeoutExpired:
        pass
    os.kill(p.pid, signal.SIGKILL) if p.poll() is None else None
    p.wait()
    end = time.monotonic() + LEFT_S
    while (left := session_of(p.pid)) and time.monotonic() < end:
        time.sleep(0.05)
    for pid in left:
        say(f"process {pid} stays behind")
        os.kill(pid, signal.SIGKILL)
    try:
        found = check_job(job)
        wrong += [f"{name}: {f}" for f in found.faults]
        now = digest(job)
        for key in set(now) | set(told.before):
            if now.get(key) not in (told.before.get(key), told.after.get(key)):
                say(f"“{key}” is neither as before nor as after")
        for file, data in _files(act, out).items():
            if data is not None and not _is_whole(data, told.files[file]):
                say(f"{file} is half")
        if now != told.after or not _are_whole(act, out, told):  # what is done once is not done twice
            done = subprocess.run(
                act.command(job, out), env=env, cwd=place, capture_output=True, text=True, timeout=300
            )
            if done.returncode or "Traceback" in done.stderr:
                say(f"again: {done.stderr[-300:]}")
        if digest(job) != told.after:
            say("again it comes to something else")
        for file, data in _files(act, out).items():
            if not _is_whole(data, told.files[file]):
                say(f"again {file} is another")
        subprocess.run(umbrate("status", job), env=env, cwd=place, capture_output=True, timeout=120)
        with Job.open(job):
            pass
        parts = [p for p in place.rglob("*") if any(x in p.name for x in LEFT) and p.exists()]
        parts += [p for p in (job / "frames").glob(".*")]
        wrong += [f"{name}: {p.relative_to(place)} stays behind" for p in parts]
    except Exception as e:
        say(f"{type(e).__name__}: {e}")
    shutil.rmtree(place, ignore_errors=True)
    return wrong


def open_window(code, then="QTimer.singleShot(300, self.close)"):
    """Code that opens the window on a job, does something, and then closes it, or what else `then` says."""
    told = "".join(f"        {line}\n" for line in code.strip().splitlines())
    return f"""
import sys
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from umbrate.desk import __main__ as desk


class Window(desk.Window):
    def open_path(self, path):
        s, said = self.session, []
        s.said.connect(lambda text, kind="", *more: said.append(text) if kind == "bad" else None)
        super().open_path(path)
        if s.job is None:  # what the window says then is looked at
            sys.exit(" ".join(said))
{told}        {then}


desk.Window = Window
sys.exit(desk.main(sys.argv[1:]))
"""


#: a window that stays until a file is there, and one that tries to write beside it
FIRST = open_window(
    's.edits.rename("First")\nprint("open", flush=True)',
    """t = self.timer = QTimer(interval=50)
        t.timeout.connect(lambda: __import__("os").path.exists("stop") and (t.stop(), self.close()))
        t.start()""",
)
SECOND = open_window("""
print("second", s.job.writable, s.sitting.name, flush=True)
s.edits.rename("Second")
s.run([(s.sitting_id, "cloud")])
print("second", s.sitting.name, s.queue.idle, flush=True)
""")
WINDOW = open_window("""
s.edits.rename("Renamed")
s.edits.set_aside({s.photos()[3].id})
s.edits.set_aside({s.photos()[3].id})
s.choose(stage="poses")
if said:
    print(*said, file=sys.stderr)
    QTimer.singleShot(400, lambda: QApplication.exit(1))
""")
UNDO = """
import sys
import umbrate.stages
from umbrate.core.errors import UmbrateError
from umbrate.job.store import Job
try:
    with Job.open(sys.argv[1]) as job:
        while job.undo():
            pass
        while job.redo():
            pass
        job.undo()
except UmbrateError as e:
    sys.exit(str(e))
"""


#: several commands one after the other; the program's own files lie beside the job
COMMANDS = """
import json, os, sys
for kind in ("DATA", "CONFIG", "STATE"):
    os.environ[f"XDG_{kind}_HOME"] = os.path.join(sys.argv[1], kind.lower())
import umbrate.__main__
from umbrate.cli.main import main
for arguments in json.loads(sys.argv[2]):
    sys.argv[1:] = arguments
    try:
        main()
    except SystemExit as e:
        if e.code:
            sys.exit(e.code)
"""
#: what the window remembers is written; one job is remembered already
SETTINGS = """
import os, sys
os.environ["XDG_CONFIG_HOME"] = os.path.join(sys.argv[1], "config")
import umbrate.__main__
from PyQt6.QtCore import QSettings
from umbrate.desk.welcome import recent_jobs, remember_job
remember_job(sys.argv[2])
QSettings("umbrate", "umbrate").sync()
"""
CONFIG = "config/umbrate/umbrate.conf"
CARDS = "data/umbrate/lens-cards"
#: the stage after which other acts can be done
AFTER = {
    "join": "poses", "clean": "cloud", "export": "cloud", "undo": "cloud", "window": "cloud", "migrate": "cloud",
    "mend": "surface", "deliver": "surface", "files": "surface", "cards": "photos", "settings": "photos",
}  # fmt: skip
#: acts that are tried on a disk that fills, and not killed: they change no job
ON_DISK = ("files", "cards", "settings")
ACTS = ("add", *STAGES, *(n for n in AFTER if n not in ON_DISK))
FILES = {
    "c.las": ("export", "cloud"), "c.csv": ("export", "cloud"), "c.e57": ("export", "cloud"),
    "s.obj": ("export", "surface"), "s.stl": ("export", "surface"), "cameras.json": ("export", "cameras"),
    "s.svg": ("section",), "p.png": ("picture",), "r.pdf": ("report",),
}  # fmt: skip


def files_command(job, out):
    """The command that writes files of many kinds."""
    rows = [[f[0], str(job), *f[1:], str(out / name), "--replace"] for name, f in FILES.items()]
    rows += [["targets", "mat", str(out / "t.pdf")], ["export", str(job), "masks", str(out / "masks")]]
    return [*python(COMMANDS), str(out), json.dumps(rows)]


def acts(place, photos, names=None):
    """Acts on small jobs, whose states before are made in `place`.

    photos : folder of a small set with masks
    names : those that are wanted; else all
    """
    from umbrate.work.adding import read_folder, take_in
    from umbrate.work.now import run_now

    place.mkdir(parents=True, exist_ok=True)
    out, wanted = [], lambda n: n in names if names is not None else n not in ON_DISK
    shutil.copytree(photos, place / "pictures")
    job = Job.create(place / "jobs" / "now")
    state = job.folder

    def keep(name, command, makes=(), given=None):
        if wanted(name):
            job.close()
            shutil.copytree(state, place / "jobs" / name)
            out.append(Act(name, place / "jobs" / name, command, makes, given or {}))
            return Job.open(state)
        return job

    job = keep("add", lambda j, o: umbrate("add", j, place / "pictures", "--sitting", "S"))
    s, _, _ = take_in(job, "S", read_folder(place / "pictures", place / "pictures" / "masks"))
    for stage, values in QUICK.items():
        job.set_settings(s.id, stage, values)
    needed = [n if n in STAGES else AFTER.get(n, "photos") for n in names or ACTS]
    to = max(map(STAGES.index, needed)) if names != ("add",) else -1
    for stage in STAGES[: to + 1]:
        job = keep(stage, lambda j, o, n=stage: umbrate("run", j, "--to", n))
        run_now(job, s, stage)
        if stage == "photos":
            job = keep(
                "settings", lambda j, o: [*python(SETTINGS), str(o), str(j)], given={CONFIG: b"[Other]\nkept=yes\n"}
            )
            (place / "new.json").write_bytes(card("new"))
            rows = json.dumps([["cards", "--import", str(place / "new.json")]])
            job = keep(
                "cards", lambda j, o, rows=rows: [*python(COMMANDS), str(o), rows], (f"{CARDS}/new.json",),
                {f"{CARDS}/old.json": card("old")},
            )  # fmt: skip
        if stage == "poses" and wanted("join"):
            job.close()
            with Job.open(shutil.copytree(state, place / "jobs" / "two.umbrate")) as two:
                shutil.copytree(place / "pictures", place / "again")
                b, _, _ = take_in(two, "T", read_folder(place / "again", place / "again" / "masks"))
                two.set_settings(b.id, "poses", QUICK["poses"])
                for n in ("photos", "masks", "lens", "poses"):
                    run_now(two, b, n)
            out.append(Act("join", place / "jobs" / "two.umbrate", lambda j, o: umbrate("join", j)))
            job = Job.open(state)
        if stage == "cloud":
            job = keep("clean", lambda j, o: umbrate("clean", j, "--by", "share"))
            job = keep("export", lambda j, o: umbrate("export", j, "cloud", o / "c.ply", "--replace"), ("c.ply",))
            job = keep("undo", lambda j, o: [*python(UNDO), str(j)])
            job = keep("window", lambda j, o: [*python(WINDOW), str(j)])
            if wanted("migrate"):
                job = keep("migrate", lambda j, o: umbrate("tidy", j))
                older(place / "jobs" / "migrate")
        if stage == "surface":
            job = keep("files", files_command, (*FILES, "t.pdf"))
            job = keep("mend", lambda j, o: umbrate("mend", j, "--by", "smooth"))
            job = keep("deliver", lambda j, o: umbrate("deliver", j, "archive", o / "d", "--replace"))
    job.close()
    return out


def card(name):
    """A lens card as a file's bytes."""
    lens = Lens.guess(600, 400, 800.0)
    made = LensCard(name, "Maker Model", "", 50.0, lens, {"f": 0.1}, "2026-01-01", 8, 400, 0.1)
    return json.dumps(made.as_dict()).encode()


def solved(place, photos):
    """A job in which everything was computed."""
    (last,) = acts(place, photos, ("texture",))
    return last.before


def fill_disk(act, told, place, free, mount):
    """Do an act where only so many bytes are free; what is wrong, in words.

    mount : callable(folder, bytes) that makes a small file system there, or None: files may not be larger then
    """
    name, wrong = f"{act.name} with {free:,} bytes", []
    place.mkdir(parents=True)
    small = place / "small"
    small.mkdir()
    need = sum(f.stat().st_size for f in act.before.rglob("*") if f.is_file())
    if mount:
        mount(small, need + (2 << 20) + free)
    job = _copy(act, small / "x")
    out, env = small / "x" / "out", environment(small / "x")  # log and settings lie on it, too
    limit = None
    if not mount:
        import resource

        limit = lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (free, free))  # noqa: E731
    else:
        ballast = small / "ballast"
        room = os.statvfs(small)
        with open(ballast, "wb") as f:
            f.write(bytes(max(0, room.f_bavail * room.f_frsize - free)))
    before = {f: f.read_bytes() for f in job.rglob("*") if f.is_file() and f.parent.parent.name == "blobs"}
    done = subprocess.run(
        act.command(job, out), env=env, cwd=place, capture_output=True, text=True, timeout=300, preexec_fn=limit
    )
    if done.returncode and not done.stderr.strip():
        wrong.append(f"{name}: it ends with {done.returncode} and no sentence")
    if "Traceback" in done.stderr or "unexpected" in done.stderr:
        wrong.append(f"{name}: {done.stderr[-400:]}")
    if mount:
        ballast.unlink()
        subprocess.run(["mount", "-o", f"remount,size={need * 4 + (200 << 20)}", str(small)], check=True)
    try:
        wrong += [f"{name}: {f}" for f in check_job(job).faults]
        for f, data in before.items():
            if not f.exists() or f.read_bytes() != data:
                wrong.append(f"{name}: {f.name[:12]} was lost")
        for file, data in _files(act, out).items():
            if data is not None and not _is_whole(data, told.files[file]):
                wrong.append(f"{name}: {file} is half")
        if done.returncode:
            again = subprocess.run(
                act.command(job, out), env=env, cwd=place, capture_output=True, text=True, timeout=300
            )
            if again.returncode:
                wrong.append(f"{name}, again: {again.stderr[-300:]}")
            if not _are_whole(act, out, told):
                wrong.append(f"{name}, again: the files are others")
        for file, data in act.given.items():
            now = (out / file).read_bytes() if (out / file).exists() else b""
            if now != data if file != CONFIG else b"kept=yes" not in now:
                wrong.append(f"{name}: {file} was lost")
        wrong += [f"{name}: {p.name} stays behind" for p in out.rglob("*") if ".part-" in p.name]
        if digest(job) != told.after:
            wrong.append(f"{name}: it comes to something else")
    except Exception as e:
        wrong.append(f"{name}: {type(e).__name__}: {e}")
    finally:
        if mount:
            subprocess.run(["umount", str(small)], check=False)
        shutil.rmtree(place, ignore_errors=True)
    return wrong


def around(home, act, told, mount):
    """Tallies of what happens round a job that is open, by what it is.

    told : Known of the act, which runs a stage
    mount : as of `fill_disk`; without it no file system goes away
    """
    from umbrate.core.errors import UmbrateError

    out = {}

    def tries(name, function):
        tally, wrong = Tally(), []
        place = home / name.replace(" ", "-")
        place.mkdir(parents=True)
        job = _copy(act, place)
        try:
            function(job, place, lambda what: wrong.append(f"{name}: {what}"))
        except Exception as e:
            wrong.append(f"{name}: {type(e).__name__}: {e}")
        tally.add(wrong)
        out[name] = tally

    def sentence(say, function, words):
        """A call must raise an UmbrateError with these words."""
        try:
            function()
            say(f"nothing was said of “{words}”")
        except UmbrateError as e:
            if words not in str(e):
                say(f"“{e}” does not say “{words}”")

    def run_of(job, place):
        return subprocess.run(
            act.command(job, place / "out"), env=environment(place), cwd=place, capture_output=True, text=True,
            timeout=300,
        )  # fmt: skip

    def two(job, place, say):
        with Job.open(job) as first:
            sentence(say, lambda: Job.open(job), "open in another")
            done = run_of(job, place)
            if not done.returncode or "open in another" not in done.stderr:
                say(f"a command wrote beside a window: {done.stderr}")
            with Job.open(job, writable=False) as second:
                first.rename_sitting(first.sittings()[0].id, "Elsewhere")
                if second.sittings()[0].name != "Elsewhere":
                    say("the reader does not see what the writer did")
                sentence(say, lambda: second.rename_sitting(second.sittings()[0].id, "x"), "reading only")

    def windows(job, place, say):
        """Two windows of their own processes, and a command."""
        env = environment(place)
        first = subprocess.Popen([*python(FIRST), str(job)], env=env, cwd=place, stdout=subprocess.PIPE, text=True)
        try:
            while (line := first.stdout.readline()).strip() != "open":
                if not line:
                    say("the first window did not open")
                    return
            second = subprocess.run(
                [*python(SECOND), str(job)], env=env, cwd=place, capture_output=True, text=True, timeout=120
            )
            lines = [x for x in second.stdout.splitlines() if x.startswith("second")]
            if lines != ["second False First", "second First True"] or second.returncode:
                say(f"the second window wrote, or did not see the first: {lines} {second.stderr[-300:]}")
            if not run_of(job, place).returncode:
                say("a command wrote beside a window")
        finally:
            (place / "stop").touch()
            first.wait(30)
        if first.returncode:
            say(f"the first window ended with {first.returncode}")
        (place / "stop").unlink()
        with Job.open(job) as j:
            if j.sittings()[0].name != "First":
                say("what the first window did is lost")
            j.undo()
        if digest(job) != told.before:
            say("something else was changed")

    def moved(job, place, say):
        with Job.open(job) as j:
            os.rename(job, place / "moved.umbrate")
            sentence(say, lambda: j.rename_sitting(j.sittings()[0].id, "x"), "was moved")
            sentence(say, lambda: j.blobs.put_bytes(b"x" * 99), "not where it was")
        if job.exists():
            say("a ghost came to be where it was")
        if digest(place / "moved.umbrate") != told.before:
            say("something was changed")

    def removed(job, place, say):
        with Job.open(job) as j:
            shutil.rmtree(job)
            sentence(say, lambda: j.rename_sitting(j.sittings()[0].id, "x"), "")
            sentence(say, lambda: j.blobs.put_bytes(b"x" * 99), "not where it was")
        if job.exists():
            say("a ghost came to be where it was")

    def replaced(job, place, say):
        with Job.open(job) as j:
            os.rename(job, place / "old.umbrate")
            shutil.copytree(act.before, job)
            sentence(say, lambda: j.rename_sitting(j.sittings()[0].id, "x"), "replaced")
        if digest(job) != told.before:
            say("the other job was changed")

    def gone(job, place, say):
        small = place / "net"
        small.mkdir()
        mount(small, 200 << 20)
        there = shutil.copytree(act.before, small / "job.umbrate")
        with Job.open(there) as j:
            subprocess.run(["umount", "-l", str(small)], check=True)
            sentence(say, lambda: j.rename_sitting(j.sittings()[0].id, "x"), "")
            sentence(say, lambda: j.blobs.put_bytes(b"x" * 99), "")

    def readonly(job, place, say):
        small = place / "ro"
        small.mkdir()
        mount(small, 200 << 20)
        there = shutil.copytree(act.before, small / "job.umbrate")
        subprocess.run(["mount", "-o", "remount,ro", str(small)], check=True)
        try:
            sentence(say, lambda: Job.open(there), "cannot be written")
            if digest(there) != told.before:
                say("it is read otherwise")
            done = run_of(there, place)
            if not done.returncode or "cannot be written" not in done.stderr:
                say(f"a command said {done.stderr[-200:]}")
        finally:
            subprocess.run(["umount", str(small)], check=False)

    def clock(job, place, say):
        """The clock stands years back: what is written then is older than what it was made from."""
        for f in job.rglob("*"):
            os.utime(f, (4e9, 4e9))
        done = run_of(job, place)
        if done.returncode or digest(job) != told.after:
            say(f"the run came to something else: {done.stderr[-200:]}")
        if check_job(job).faults:
            say("it is not whole")

    def newer(job, place, say):
        import sqlite3

        with closing(sqlite3.connect(job / "job.sqlite")) as db:
            db.execute("UPDATE meta SET value = '999' WHERE key = 'version'")
            db.commit()
        before = (job / "job.sqlite").read_bytes()
        for writable in (True, False):
            sentence(say, lambda w=writable: Job.open(job, w), "newer version")
        sentence(say, lambda: check_job(job, repair=True), "newer version")
        if (job / "job.sqlite").read_bytes() != before:
            say("it was changed")

    tries("two openings and a command", two)
    tries("two windows and a command", windows)
    tries("moved while open", moved)
    tries("removed while open", removed)
    tries("replaced while open", replaced)
    if mount:
        tries("a file system that goes away", gone)
        tries("a medium that is read only", readonly)
    tries("a clock set back", clock)
    tries("a newer version", newer)
    return out


LONG = """
import gc, json, os, sys
from PyQt6.QtCore import QTimer
from umbrate.desk.__main__ import make_app
from umbrate.desk.window import Window
from tests.forcing import usage


def week(w, jobs, runs):
    s = w.session
    for k in range(runs):
        # one worker for the first half; then jobs are opened and closed, each with a worker of its own
        if k == 0 or (k >= runs // 2 and k % 10 == 0):
            w.open_path(jobs[k // 10 % 2])
        s.choose(stage=("masks", "poses", "cloud")[k % 3])
        if k % 3 == 0:
            s.edits.set_setting("masks", "grow_px", k % 2)
        s.run([(s.sitting_id, ("masks", "lens", "scale")[k % 3])])
        while not (s.queue.idle and s.tasks.idle and s.background.idle):
            yield
        if k % 5 == 4:
            s.undo()
        yield
        if k % 3 == 2:
            gc.collect()
            worker = usage(s.queue.worker.pid) if k < runs // 2 else None
            print(json.dumps([usage(os.getpid()), worker]), flush=True)


def main():
    app = make_app([])
    w = Window()
    w.show()
    steps, timer = week(w, sys.argv[1:3], int(sys.argv[3])), QTimer()

    def step():  # in Qt's own loop, which takes away what is to be deleted later
        try:
            next(steps)
        except StopIteration:
            timer.stop()
            w.session.close()
            sys.stdout.flush()
            os._exit(0)

    timer.timeout.connect(step)
    timer.start(10)
    app.exec()


main()
"""
LEAST = (12e6, 1.0, 2.0)  #: bytes, threads and open files that are no growth


def long_week(home, before, runs):
    """Tallies of memory, threads and open files of a window and its worker over a long row of runs.

    before : a job in which photos stand
    """
    jobs = [shutil.copytree(before, before.parent / f"{n}.umbrate") for n in "ab"]
    done = subprocess.run(
        [*python(LONG), *map(str, jobs), str(runs)], env=environment(home), capture_output=True, text=True, timeout=3600
    )
    rows = [json.loads(x) for x in done.stdout.splitlines() if x.startswith("[[")]
    out = {}
    for who, name in enumerate(("the window's", "the worker's")):
        for what, label in enumerate(("memory", "threads", "open files")):
            tally = Tally()
            values = [r[who][what] for r in rows if r[who]]
            if len(values) < runs // (3 if who == 0 else 6):
                tally.add([f"{name} {label}: only {len(values)} looks ({done.stderr[-300:]})"])
            else:
                good, first, last = flat(values, least=LEAST[what])
                told = f"{name} {label}: {first:,.0f} in the first third, {last:,.0f} in the last"
                tally.add([] if good else [told])
                tally.figure = told
            out[f"{name} {label}"] = tally
    return out


def flat(values, share=0.05, least=0.0):
    """Whether the last third of a row of values is at most a share (or `least`) above the first third, in the mean."""
    n = len(values) // 3
    first, last = sum(values[:n]) / n, sum(values[-n:]) / n
    return last - first <= max(share * first, least), first, last


def usage(pid):
    """Memory (bytes that are its own), threads and open files of a process."""
    status = Path(f"/proc/{pid}/status").read_text()
    smaps = Path(f"/proc/{pid}/smaps_rollup").read_text()
    own = sum(int(x.split()[1]) for x in smaps.splitlines() if x.startswith(("Private_Dirty", "Private_Clean")))
    threads = int(next(x for x in status.splitlines() if x.startswith("Threads")).split()[1])
    return own * 1024, threads, len(os.listdir(f"/proc/{pid}/fd"))


def older(job):
    """Make a job one of the version before surfaces."""
    import sqlite3

    with closing(sqlite3.connect(job / "job.sqlite", isolation_level=None)) as db:
        for table in ("mending", "surface"):
            db.execute(f"DROP TABLE {table}")
        db.execute("UPDATE meta SET value = '9' WHERE key = 'version'")


def as_json(value):
    """A value as text that compares equal where it is."""
    return json.dumps(value, sort_keys=True)
