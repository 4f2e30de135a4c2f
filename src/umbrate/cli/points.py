"""Commands that work on tie points: sifting them by a measured property, tracing them to photos, the keep box."""

from pathlib import Path

import click

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import changing
from .choices import ChoiceOf, Explained
from .console import say

np = Later("numpy")
sifting = Later("umbrate.actions.sifting")
core_sift = Later("umbrate.core.poses.sift")
frames = Later("umbrate.sitting.frames")

job_argument = click.argument("job", type=click.Path(path_type=Path))


@click.command(
    cls=Explained,
    explain=lambda: "Measures: " + "; ".join(f"{m.name} ({m.unit or 'photos'})" for m in core_sift.MEASURES) + ".",
)
@job_argument
@click.option("--sitting", required=True, help="The sitting whose tie points are sifted.")
@click.option("--by", "name", required=True, type=ChoiceOf(lambda: core_sift.BY_NAME), help="The measured property.")
@click.option("--above", type=float, help="Choose what is more than this.")
@click.option("--below", type=float, help="Choose what is less than this.")
@click.option("--dry-run", is_flag=True, help="Only say how many, and which photos see them.")
@click.option("--restore", is_flag=True, help="Bring back all tie points that were removed before.")
def sift(job, sitting, name, above, below, dry_run, restore):
    """Remove doubtful tie points of a sitting of JOB. Then: umbrate run JOB --sitting NAME --adjust"""
    with changing(job, not dry_run, "sift tie points") as j:
        s = j.sitting(sitting)
        if restore and not dry_run:
            j.set_removed(s.id, None, "bring back removed tie points")
        chosen = sifting.sift(j, s, name, above, below)
        block, m = frames.load_block(j, s), core_sift.BY_NAME[name]
        say(f"{int(chosen.sum()):,} of {len(chosen):,} tie points by {m.title.lower()}")
        rows = chosen[block.point]
        count = np.bincount(block.photo[rows], minlength=len(block.photo_ids))
        names = {p.id: p.name for p in j.photos(s.id)}
        for k in np.argsort(-count, kind="stable")[:5]:
            if count[k]:
                say(f"  {names.get(int(block.photo_ids[k]), '?')} sees {int(count[k]):,} of them")
        if not dry_run and chosen.any():
            count = sifting.remove_points(j, s, block, chosen)
            say(f"Removed {count:,}. Adjust: umbrate run {job} --sitting {sitting!r} --adjust")


@click.command(name="box")
@job_argument
@click.option("--sitting", required=True, help="The sitting whose keep box it is.")
@click.option("--middle", nargs=3, type=float, help="Its middle: x y z.")
@click.option("--size", nargs=3, type=float, help="Its three sizes.")
@click.option("--turn", type=float, help="Turn it about its upright axis by so many degrees.")
@click.option("--tilt", nargs=2, type=float, metavar="X Y", help="Tilt it about its own x and y by so many degrees.")
@click.option("--fit", is_flag=True, help="Fit it to the tie points again.")
def keep_box(job, sitting, middle, size, turn, tilt, fit):
    """Show or set the keep box of a sitting of JOB."""
    from ..core.geometry.rotation import rotation_matrix

    change = fit or middle or size or turn is not None or tilt
    with changing(job, change, "change the keep box") as j:
        s = j.sitting(sitting)
        if fit:
            j.set_keep_box(s.id, None)
        box = frames.keep_box_of(j, s)
        if box is None:
            raise UmbrateError(f"“{s.name}” has no keep box yet: it is fitted when Poses has run.", ("go to", "poses"))
        if middle or size or turn is not None or tilt:
            if size and min(size) <= 0:
                raise UmbrateError("The sizes of the keep box must be more than 0.")
            axes, frame = np.array(box["axes"]), frames.frame_of(j, s)
            for k, angle in ((2, turn), *enumerate(tilt or ())):
                if angle is not None:
                    if not np.isfinite(angle):
                        raise UmbrateError("A turn is a number of degrees.")
                    axes = rotation_matrix(axes[:, k] * np.radians(angle)) @ axes
            box = {
                "center": frame.from_people(middle).tolist() if middle else list(box["center"]),
                "half": [x / 2 for x in size] if size else box["half"],
                "axes": axes.tolist(),
            }
            frames.set_keep_box(j, s, box)
        numbers = lambda v: " ".join(f"{x:.4f}" for x in v)  # noqa: E731
        how = "set by hand" if j.keep_box(s.id) else "fitted to the tie points"
        middle = frames.frame_of(j, s).for_people(box["center"])
        say(f"Keep box, {how}: middle {numbers(middle)}, size {numbers(2 * x for x in box['half'])}")
