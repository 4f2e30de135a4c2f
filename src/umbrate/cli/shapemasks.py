"""Masks drawn from a rough surface."""

import sys
from pathlib import Path

import click

from ..core.later import Later
from .changing import open_job
from .console import complain, out, say
from .runs import Shown

shapemasks = Later("umbrate.actions.shapemasks")


@click.command("shape-masks")
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", "names", multiple=True, help="Only this sitting (may be given several times).")
@click.option(
    "--from", "source", type=click.Choice(["depth", "outlines"]), default="depth",
    help="Quick depth in the keep box, or the outlines of masks that are there.",
)  # fmt: skip
@click.option("--margin", type=click.IntRange(-50, 200), default=4, help="Widen the masks by so many pixels.")
@click.option(
    "--there", type=click.Choice(["replace", "keep", "both"]), default="replace",
    help="Masks that are there: replace them, keep them, or leave what both have.",
)  # fmt: skip
@click.option("--photo-scale", type=click.Choice(["2", "4", "8"]), default="8", help="Of the quick depth.")
def shape_masks(job, names, source, margin, there, photo_scale):
    """Draw a rough surface of the sittings of JOB into their photos, as masks.

    The surface lies in the keep box: set that round the object, above its support, first.
    """
    with open_job(job) as j:
        for s in [j.sitting(n) for n in names] or j.photo_sittings():
            with out.status(f"{s.name}: masks from shape") as status:
                masks, f = shapemasks.make_shape_masks(
                    shapemasks.gather_shape(j, s), source, margin, there, int(photo_scale), Shown(status)
                )  # fmt: skip
            if masks:
                shapemasks.keep_shape_masks(j, s, masks)
            kept = f", {f['kept']} kept" if f["kept"] else ""
            say(f"“{s.name}”: {f['masks']} masks from {f['points']:,} points{kept}; they fill {100 * f['share']:.0f} % "
                "of a photo in the median")  # fmt: skip
            for n in f["empty"]:
                complain(n, "nothing of the surface lies in it; its mask stays as it was")
            if f["empty"]:
                sys.exit(1)
