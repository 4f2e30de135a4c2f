"""Joining the sittings of an object that was turned over."""

import sys
from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import out, say
from .runs import run_cells

uniting = Later("umbrate.actions.uniting")
joins = Later("umbrate.job.joins")
methods_of_join = Later("umbrate.stages.join.methods")
stage = Later("umbrate.stages.join.stage")
state = Later("umbrate.work.state")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", "names", multiple=True, help="Only these sittings, the one whose frame counts first.")
@click.option("--name", help="Name of the joined row; made where it is new.")
@click.option(
    "--by", "methods", multiple=True, type=ChoiceOf(lambda: methods_of_join.METHODS),
    help="What shows how they lie to each other; may be given several times. All but shape where not said.",
)  # fmt: skip
@click.option("--free-scale/--known-scale", "free", default=None, help="Let the scales of scaled sittings differ.")
@click.option("--on-object", type=int, multiple=True, metavar="NUMBER", help="This target is stuck on the object.")
@click.option("--on-support", type=int, multiple=True, metavar="NUMBER", help="This target stands on the support.")
@click.option(
    "--pick", "picks", multiple=True, metavar="POINT[=POINT...]",
    help="A marked point of that name in all sittings; with = the names it has in each, in their order.",
)  # fmt: skip
@click.option("--no-picks", is_flag=True, help="Forget all picks first.")
@click.option(
    "--merge", is_flag=True, help="Then adjust all photos together; a cloud can be computed from all of them."
)
@click.option(
    "--unite", is_flag=True, help="Then put their clouds together as one, without doubles and one brightness."
)
@click.option("--doubtful", is_flag=True, help="Merge or unite even where a join is doubtful.")
def join(job, names, name, methods, free, on_object, on_support, picks, no_picks, merge, unite, doubtful):
    """Join the sittings of JOB: find how they lie to each other, say how sure that is, and merge them."""
    with open_job(job) as j:
        # a join that cannot be made changes nothing: no row, no roles, no picks, no choice of methods
        with j.action("join sittings"):
            row = _row(j, names, name)
            _say_roles(j, on_object, on_support)
            if no_picks and j.picks(row.id):
                j.remove_picks([p.id for p in j.picks(row.id)])
            _take_picks(j, row, picks)
            values = dict(j.settings(row.id, "join"))
            if methods:
                values |= {w: w in methods for w in methods_of_join.METHODS}
            if free is not None:
                values["scale"] = stage.FREE if free else stage.AS_KNOWN
            j.set_settings(row.id, "join", values)
            if not run_cells(j, [row], "join", redo=True, quiet=True):
                raise UmbrateError("The sittings were not joined, for the reason above. Nothing was changed.")
            found = j.join_found(row.id)
            _tell(found)
            if found.verdict == methods_of_join.NONE:
                raise UmbrateError(
                    f"“{row.name}” has no join for all of its sittings, for the reasons above. Nothing was changed."
                )
            doubts = found.verdict != methods_of_join.GOOD and not doubtful
            if doubts and (merge or unite):
                raise UmbrateError(
                    "The join is doubtful, for the reasons above. Nothing was changed; --doubtful goes on all the same."
                )
        if doubts:
            sys.exit(1)
        if merge:
            if not run_cells(j, [row], "poses", redo=True):
                sys.exit(1)
            if state.is_invited(j, row, "scale") and not run_cells(j, [row], "scale"):
                sys.exit(1)
        if unite:
            figures = uniting.unite_clouds(j, row)
            say(
                f"“{row.name}” has a united cloud: {figures['points']:,} points, {sum(figures['doubled']):,} doubled "
                f"ones and {sum(figures['seen_through']):,} of supports left out"
            )


def _row(job, names, name):
    """The joined row that is meant; made where there is none of these sittings."""
    chosen = [job.sitting(n) for n in names] or job.photo_sittings()
    ids = tuple(s.id for s in chosen)
    rows = job.joined_rows()
    if name:
        row = next((r for r in rows if r.name == name), None)
    else:
        row = next((r for r in rows if set(r.members) == set(ids)), None)
    if row is None:
        return job.add_joined(ids, name)
    if names and row.members != ids:
        job.set_members(row.id, ids)
        return next(s for s in job.sittings() if s.id == row.id)
    return row


def _say_roles(job, on_object, on_support):
    for numbers, role in ((on_object, joins.ON_OBJECT), (on_support, joins.ON_SUPPORT)):
        if numbers:
            job.set_target_roles(list(numbers), role)


def _take_picks(job, row, picks):
    members = {s.id: s for s in job.sittings() if s.id in row.members}
    for text in picks:
        names = [n.strip() for n in text.split("=")]
        if len(names) not in (1, len(row.members)):
            raise UmbrateError(f"“{text}” names {len(names)} points: give one, or one for each of the sittings.")
        places = {}
        for i, n in zip(row.members, names * len(row.members) if len(names) == 1 else names, strict=False):
            if any(p.name == n for p in job.marked_points(i)):
                places[i] = {"mark": n}
            elif len(names) > 1 and n:
                job.marked_point(i, n)  # says which there are
        if len(places) < 2:
            told = ", ".join(f"“{members[i].name}”" for i in row.members if i not in places)
            raise UmbrateError(f"“{text}” is not a marked point in {told}: mark it there first.")
        if not any(p.places == places for p in job.picks(row.id)):
            job.add_pick(row.id, places)


def _tell(found):
    unit = found.unit or "units"
    table = Table(title="Joins")
    for column in ("sittings", "", "shared", "rms", "turn ±", "shift ±", "scales"):
        table.add_column(column)
    for x in found.joins:
        pair = f"{x.first} - {x.second}"
        if x.verdict == methods_of_join.NONE:
            table.add_row(pair, "no join")
            continue
        f, u = x.together, x.unit or "units"
        table.add_row(
            pair, x.verdict, f"{f.agreeing}", f"{f.rms:.3g} {u}, {f.rms_px:.2f} px",
            f"{f.sigma[0]:.2g}°", f"{f.sigma[1]:.2g} {u}",
            f"{100 * x.contradiction:+.3f} %" if x.both_scaled else "free",
        )  # fmt: skip
    out.print(table)
    for x in found.joins:
        pair, u = f"{x.first} - {x.second}", x.unit or "units"
        for w in (methods_of_join.TARGETS, methods_of_join.SURFACE, methods_of_join.PICKS):
            if w in x.methods:
                say(f"{pair}: by {w}, {x.methods[w].agreeing} of {x.methods[w].pairs} pairs agree")
        for reason in [*x.reasons, *x.notes]:
            say(f"{pair}: {reason}")
        for n, d in x.picks:
            say(f"{pair}: pick {n} is {'not used' if d is None else f'{d:.3g} {u} off'}")
        if x.shape:
            say(f"{pair}: by shape, {100 * x.shape.overlap:.0f} % of the surface has a partner")
        s = x.surfaces
        if s:
            say(f"{pair}: {100 * s.overlap:.0f} % of the surface overlaps, {s.median:.3g} {u} apart in the "
                f"median, 95 % within {s.p95:.3g} {u}")  # fmt: skip
    for a, b, turn, shift in found.loops:
        say(f"Round the loop over {a} - {b}: {turn:.3f}° and {shift:.3g} {unit} off")
    if found.support:
        say(f"Targets on the support, not used: {', '.join(map(str, found.support))}")
    if found.on_object:
        say(f"Targets on the object: {', '.join(map(str, found.on_object))}")
