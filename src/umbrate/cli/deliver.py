"""Delivering: files for a purpose, the list of what was delivered, and verifying an archive."""

import sys
from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .console import out, say
from .measure import the_sitting

stages = Later("umbrate.stages")
deliver_stage = Later("umbrate.stages.deliver.stage")
deliver_figures = Later("umbrate.stages.deliver.figures")
archive = Later("umbrate.stages.deliver.archive")
runs = Later("umbrate.cli.runs")
jobs = Later("umbrate.cli.jobs")

#: endings of a file that say a format: the setting and its value, for the purposes that have them
ENDINGS = {
    "print": {".stl": ("print_format", "stl"), ".3mf": ("print_format", "3mf")},
    "web": {".glb": None},
    "page": {".html": None},
    "exchange": {".obj": ("exchange_format", "obj"), ".ply": ("exchange_format", "ply")},
    "cloud": {f".{k}": ("cloud_format", k) for k in ("ply", "las", "laz", "e57", "xyz", "csv")},
    "pictures": {
        ".mp4": ("film", "mp4"), ".gif": ("film", "gif"), ".pdf": ("sheet_format", "pdf"),
        ".png": ("sheet_format", "png"),
    },
    "archive": {".zip": ("as_zip", True)},
}  # fmt: skip


def _place(purpose, place):
    """Folder, file name and settings that a place on the command line means."""
    place = Path(place)
    if place.is_dir() or str(place).endswith("/"):
        return {"folder": str(place.absolute())}
    known = ENDINGS[purpose]
    end = place.suffix.lower()
    values = {"folder": str(place.absolute().parent), "file": place.stem if end in known else place.name}
    if end and end not in known and purpose != "archive":
        raise UmbrateError(f"{place.name}: {purpose} makes {', '.join(known)} files.")
    if known.get(end):
        values[known[end][0]] = known[end][1]
    return values


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("purpose", required=False)
@click.argument("place", metavar="OUT", required=False)
@click.option("--sitting", help="The sitting; may be left out where there is only one.")
@click.option("--set", "assignments", multiple=True, metavar="NAME=VALUE", help="What matters for the purpose.")
@click.option("--replace", is_flag=True, help="Write over a file of that name; else a number is put behind it.")
@click.option("--list", "list_all", is_flag=True, help="List what was delivered, with its checks.")
@click.option("--forget", type=int, metavar="NUMBER", help="Take one off the list; its files stay.")
@click.option("--settings", "explain", is_flag=True, help="List what can be set for the purpose.")
def deliver(job, purpose, place, sitting, assignments, replace, list_all, forget, explain):
    """Make files of JOB for a PURPOSE, checked, and list what was delivered."""
    purposes = deliver_stage.PURPOSES
    if purpose and purpose not in purposes:
        raise UmbrateError(f"There is no purpose “{purpose}”. There is: {', '.join(purposes)}.")
    if forget is not None:
        with open_job(job) as j:
            _forget(j, the_sitting(j, sitting), forget)
        return
    if list_all or not purpose:
        with open_job(job, writable=False) as j:
            _list(j, the_sitting(j, sitting) if sitting else None)
        return
    if explain:
        _explain(purpose)
        return
    if not place:
        raise UmbrateError(f"Say where to: umbrate deliver {job} {purpose} OUT, a file or a folder.")
    _check_names(purpose, assignments)
    with jobs.started() as background, open_job(job) as j:
        s = the_sitting(j, sitting)
        values = {"purpose": purpose, "replace": replace, "file": "", **_place(purpose, place)}
        if purpose == "pictures" and "film" in values:
            values["picture"] = "spin"
        if purpose == "pictures" and values.get("sheet_format") == "pdf":
            values["picture"] = "sides"
        with j.action(f"deliver {purpose}"):
            j.set_settings(s.id, "deliver", values)  # what earlier ones were made with does not count
            runs.apply_assignments(j, [s], [f"deliver.{a}" for a in assignments])
        good = runs.run_cells(j, [s], "deliver", redo=True, worker=background)
        if good:
            made = j.result(s.id, "deliver").figures.made[-1]
            for name, size, _ in made.files[:12]:
                say(f"Wrote {Path(made.folder) / name}, {deliver_figures.size_told(size)}")
            if len(made.files) > 12:
                say(f"and {len(made.files) - 12} more")
            for c in made.checks:
                say(f"  {'' if c.good else 'Look: '}{c.text}")
    sys.exit(0 if good else 1)


def _check_names(purpose, assignments):
    """Raise where a setting is stated that does nothing for a purpose."""
    fields = deliver_stage.Settings.model_fields
    for text in assignments:
        name = text.partition("=")[0]
        of = ((fields[name].json_schema_extra or {}).get("when", {}) if name in fields else {}).get(
            "purpose", (purpose,)
        )
        if purpose not in of:
            raise UmbrateError(f"“{name}” matters for {' and '.join(of)}, not for {purpose}.")


def _list(job, sitting):
    stage = stages.BY_NAME["deliver"]
    table = Table(title="Deliveries")
    for column in ("", "sitting", "purpose", "when", "files", "size", "checks", ""):
        table.add_column(column)
    count = 0
    for s in [sitting] if sitting else job.sittings():
        done = job.result(s.id, "deliver")
        for k, m in enumerate(done.figures.made if done else (), 1):
            why = stage.stale(job, s, m)
            there = all((Path(m.folder) / f).exists() for f, _, _ in m.files)
            state = f"stale: {why}" if why else "" if there else "files are gone"
            names = m.files[0][0] + (f" and {len(m.files) - 1} more" if len(m.files) > 1 else "")
            bad = [c.text for c in m.checks if not c.good]
            size = deliver_figures.size_told(m.bytes)
            told = "; ".join(bad) if bad else "good"
            table.add_row(
                str(k), s.name, deliver_stage.PURPOSES[m.purpose], m.when.replace("T", " "), names, size, told, state
            )
            count += 1
    if count:
        out.print(table)
    else:
        say("Nothing was delivered yet: umbrate deliver JOB PURPOSE OUT")


def _forget(job, sitting, number):
    done = job.result(sitting.id, "deliver")
    made = list(done.figures.made) if done else []
    if not 1 <= number <= len(made):
        raise UmbrateError(f"There is no delivery {number} of “{sitting.name}”. --list numbers them.")
    gone = made.pop(number - 1)
    job.change_figures(sitting.id, "deliver", done.figures.model_copy(update={"made": made}))
    say(f"Off the list. Its files stay in {gone.folder}.")


def _explain(purpose):
    fields = deliver_stage.Settings.model_fields
    table = Table(title=f"{deliver_stage.PURPOSES[purpose]}: what can be set")
    for column in ("name", "default", ""):
        table.add_column(column)
    for n, f in fields.items():
        when = (f.json_schema_extra or {}).get("when", {})
        if purpose in when.get("purpose", ()):
            others = "".join(f" Where {k} is {' or '.join(map(str, v))}." for k, v in when.items() if k != "purpose")
            table.add_row(n, str(f.default), f.description + others)
    out.print(table)
