"""Upkeep: checking and tidying jobs, the desktop's menu, compiling the kernels, running the tests."""

import json
import subprocess
import sys
from pathlib import Path

import click

from ..core.errors import UmbrateError
from ..core.later import Later
from ..formats.files import Gate
from ..sitting.guarding import gate_of
from .changing import open_job
from .console import progress_line, replace_option, say

archive = Later("umbrate.stages.deliver.archive")
checking = Later("umbrate.job.checking")


def _mb(size):
    return f"{size / 1e6:,.1f} MB"


@click.command()
@click.argument("place", metavar="JOB", type=click.Path(path_type=Path))
@click.option("--repair", is_flag=True, help="Mend it: take out what is damaged, so that it is computed again.")
@click.option("--json", "as_json", is_flag=True, help="What was found, as JSON.")
def check(place, repair, as_json):
    """Verify that JOB is whole, every row and data file, and mend it; or an archive that was delivered.

    Says what is damaged, what of it can be computed again, and what is lost. An archive (a folder or zip) is compared
    with its own list of files.
    """
    from ..stages import BY_NAME  # noqa: F401  (describes the figures of results)

    if not _is_job(place):
        _check_archive(place)
        return
    with progress_line() as line:
        found = checking.check_job(place, repair, line)
    if as_json:
        say(json.dumps({
            "job": found.name, "files": found.files, "bytes": found.bytes, "mended": found.mended,
            "faults": [{"what": f.what, "then": f.then} for f in found.faults],
            "unused_files": found.unused.count, "unused_bytes": found.unused.bytes,
        }, ensure_ascii=False))  # fmt: skip
    else:
        for f in found.faults:
            say(f"{f}.")
        say(f"{found.name}: {found.files:,} data files ({_mb(found.bytes)}) read.")
        if found.unused.count:
            gone = "removed" if found.mended else "can go: umbrate tidy"
            say(f"{found.unused.count:,} files that nothing needs ({_mb(found.unused.bytes)}) {gone}.")
    if not found.faults:
        if not as_json:
            say("Everything is whole.")
        return
    many = f"{len(found.faults)} thing{'s' if len(found.faults) > 1 else ''}"
    if found.mended:
        say(f"Mended: {many} taken out. Run what is missing: umbrate run {place}") if not as_json else None
        return
    raise UmbrateError(f"{found.name}: {many} damaged. “umbrate check {place} --repair” takes out what is damaged.")


def _is_job(place):
    try:
        return (
            place.name == "job.sqlite"
            or (place / "job.sqlite").exists()
            or place.suffix == ".umbrate"
            or (place.with_name(f"{place.name}.umbrate") / "job.sqlite").exists()
        )
    except (OSError, ValueError):
        return False


def _check_archive(place):
    if place.is_dir() and not (place / "SHA256SUMS").exists():
        raise UmbrateError(
            f"{place} is neither a job (it holds no job.sqlite) nor an archive that was delivered (it holds no "
            "SHA256SUMS)."
        )
    bad = archive.verify(place)
    for line in bad:
        say(line)
    if bad:
        raise UmbrateError(f"{place.name} is not as it was delivered: {len(bad)} file{'s' if len(bad) > 1 else ''}.")
    say(f"{place.name}: all files are there and as they were delivered.")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--undo", "steps", type=click.IntRange(0), help="Keep so many steps of undo; forget those before.")
@click.option(
    "--thorough", is_flag=True, help="Also what is only kept so that runs with other settings are faster (depth maps)."
)
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
def tidy(job, steps, thorough, dry_run):
    """Remove from JOB what nobody needs any more, and say what that frees.

    That is what a killed process left half written, data files that no result and no step of undo needs, results of
    sittings that were removed, and frames of videos that no photo is. Closing a job does it too; steps of undo are
    forgotten here alone, or when there are more than 300.
    """
    with open_job(job, writable=not dry_run) as j:
        done = j.would_tidy(steps, thorough) if dry_run else j.tidy(steps, thorough)
        left = j.undo_steps() - (done.steps if dry_run else 0)
        name = j.name
    parts = [
        f"{done.steps} step{'s' if done.steps != 1 else ''} of undo" if steps is not None else "",
        f"{done.results} result{'s' if done.results != 1 else ''} of removed sittings" if done.results else "",
        f"{done.blobs.count:,} data files ({_mb(done.blobs.bytes)})" if done.blobs.count else "",
        f"{done.frames.count:,} frames of videos ({_mb(done.frames.bytes)})" if done.frames.count else "",
    ]
    told = ", ".join(x for x in parts if x) or "nothing"
    say(f"{name}: {'would remove' if dry_run else 'removed'} {told}. {left} steps of undo are kept.")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--redo", is_flag=True, help="Do again what was undone last.")
@click.option("--list", "only_say", is_flag=True, help="Only say what would be undone, and done again.")
def undo(job, redo, only_say):
    """Take back what was done last in JOB, in the window or here."""
    with open_job(job, writable=not only_say) as j:
        back, again = j.undo_labels()
        if only_say:
            say(f"undo: {back or 'nothing'}\nredo: {again or 'nothing'}")
            return
        if not (again if redo else back):
            raise UmbrateError(f"There is nothing to {'do again' if redo else 'undo'} in {j.name}.")
        done = j.redo() if redo else j.undo()
        say(f"{'Done again' if redo else 'Undone'}: {done}.")


@click.command()
@click.argument("out", metavar="OUT.zip", type=click.Path(path_type=Path))
@click.option("--job", type=click.Path(path_type=Path), help="With the settings and states of this job.")
@replace_option
def problem(out, job, replace):
    """Collect the log, versions and settings into a zip to read and send when something goes wrong; no photos."""
    from ..work.problemreport import collect, write_report

    if job is None:
        texts, gate = collect(), Gate(replace)
    else:
        with open_job(job, writable=False) as j:
            texts, gate = collect(j), gate_of(j, replace)
    made = write_report(texts, out, gate)
    say(f"Wrote {made}: {', '.join(texts)}. Read it before you send it to anybody.")


@click.command()
@click.option("--remove", is_flag=True, help="Take it out of the menu again.")
def install(remove):
    """Put Umbrate into the desktop's menu, and offer it for .umbrate folders in the file manager."""
    from ..work import menuentry

    if remove:
        gone = menuentry.remove()
        for f in gone:
            say(f"Removed {f}")
        if not gone:
            say("Umbrate is not in the menu of this user; there was nothing to remove.")
        return
    for f in menuentry.install().values():
        say(f"Wrote {f}")
    say(
        "Umbrate is in the menu. In the file manager, open a folder whose name ends in .umbrate with Open With; "
        "the file job.sqlite in it opens with a double-click."
    )


@click.command()
def warm():
    """Compile all kernels once, so that no first click waits for it (the launcher does this)."""
    from ..work.warming import warm_up

    warm_up(say)


@click.command(context_settings={"ignore_unknown_options": True})
@click.argument("arguments", nargs=-1)
def test(arguments):
    """Run all tests (or those named: ./umbrate test tests.test_geometry)."""
    root = Path(__file__).resolve().parents[3]
    if not (root / "tests" / "run.py").is_file():
        raise UmbrateError("The tests are not there: they belong in tests/ beside src/ in the checkout.")
    sys.exit(subprocess.call([sys.executable, str(root / "tests" / "run.py"), *arguments], cwd=root))
