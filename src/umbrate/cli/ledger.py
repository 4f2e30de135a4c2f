"""The ledger in the terminal: what ran, two runs side by side, back to an earlier result."""

import dataclasses
import json
from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import out, say
from .measure import the_sitting

files = Later("umbrate.formats.files")
guarding = Later("umbrate.sitting.guarding")
rows = Later("umbrate.stages.ledger")
stages = Later("umbrate.stages")
state = Later("umbrate.work.state")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--stage", type=ChoiceOf(lambda: [s.name for s in stages.STAGES]), help="Only runs of this stage.")
@click.option("--sitting", help="Only runs of this sitting.")
@click.option("--last", type=click.IntRange(1), default=40, show_default=True, help="At most so many, the newest.")
@click.option("--compare", nargs=2, type=int, metavar="RUN RUN", help="Settings and figures of two runs side by side.")
@click.option("--back", type=int, metavar="RUN", help="Let the result of this run be the present one again.")
@click.option("--csv", "file", type=click.Path(path_type=Path), help="Write all of them into a CSV file.")
@click.option("--json", "as_json", is_flag=True, help="Print as JSON.")
@click.option("--replace", is_flag=True, help="Write over a file of that name.")
def ledger(job, stage, sitting, last, compare, back, file, as_json, replace):
    """List what ran in JOB, compare two runs, or go back to the result of one."""
    if sum(bool(x) for x in (compare, back is not None, file, as_json)) > 1:
        raise UmbrateError("Only one of --compare, --back, --csv and --json at a time.")
    with open_job(job, writable=back is not None) as j:
        entries = j.ledger()
        one = the_sitting(j, sitting) if sitting else None
        chosen = [
            e for e in entries
            if (not stage or e.stage == stage) and (one is None or e.sitting_id == one.id)
        ]  # fmt: skip
        if compare:
            _compare(*(_run(entries, n) for n in compare))
        elif back is not None:
            _back(j, _run(entries, back))
        elif file:
            with files.written_aside(file, guarding.gate_of(j, replace)) as part:
                with open(part, "w", newline="", encoding="utf-8") as f:
                    rows.write_rows(f, chosen, [("run", lambda e: e.id)])
            say(f"Wrote {len(chosen)} runs to {file}")
        elif as_json:
            print(json.dumps([dataclasses.asdict(e) for e in chosen], indent=1, ensure_ascii=False))
        else:
            _list(j, chosen[-last:], len(chosen))


def _run(entries, number):
    found = next((e for e in entries if e.id == number), None)
    if found is None:
        raise UmbrateError(f"There is no run {number} in the ledger. Without options, the command lists them.")
    return found


def _list(job, entries, count):
    can = job.can_go_back([e.id for e in entries if rows.can_be_gone_back_to(e)])
    table = Table(
        title=f"Ledger of {job.name}" + (f", the last {len(entries)} of {count}" if count > len(entries) else "")
    )
    for column in ("run", "when", "sitting", "stage", "time", "outcome", "figures", "kept"):
        table.add_column(column, justify="right" if column in ("run", "time") else "left")
    for e in entries:
        told = stages.figures_of(e)[0] or e.message
        table.add_row(str(e.id), e.when.replace("T", " "), e.sitting, e.stage, f"{e.seconds:.1f} s", e.outcome, told,
                      "yes" if e.id in can else "")  # fmt: skip
    out.print(table)
    if can:
        say("What is kept can be gone back to: --back RUN.")


def _compare(first, second):
    if first.stage != second.stage:
        raise UmbrateError(f"Run {first.id} is of {first.stage}, {second.id} of {second.stage}: name two of one stage.")
    heads = [f"run {e.id}, {e.sitting}, {e.when.replace('T', ' ')}" for e in (first, second)]
    settings, figures = rows.differing_settings(first, second), rows.figures_beside(first, second)
    table = Table(title=f"{stages.BY_NAME[first.stage].title}: two runs")
    for column in ("", *heads):
        table.add_column(column)
    table.add_row("time", *(f"{e.seconds:.1f} s" for e in (first, second)))
    for title, *texts in settings or [("settings", "the same", "the same")]:
        table.add_row(title, *texts)
    table.add_section()
    for title, a, b, _ in figures:
        table.add_row(title, a, b)
    out.print(table)


def _back(job, entry):
    if not rows.can_be_gone_back_to(entry):
        raise UmbrateError(f"Run {entry.id} left no result to go back to ({entry.outcome}).")
    job.go_back(entry.id, rows.keeps_of(entry), rows.settings_of(entry))
    sitting = next(s for s in job.sittings() if s.id == entry.sitting_id)
    stage = stages.BY_NAME[entry.stage]
    say(f"{stage.title} of “{sitting.name}” is as run {entry.id} left it: {stages.figures_of(entry)[0]}")
    if not state.is_current(job, sitting, stage):
        say(f"  It is stale: {state.why_stale(job, sitting, stage)}.")
