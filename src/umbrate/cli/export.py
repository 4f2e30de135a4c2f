"""Writing clouds, cameras and masks of a job as files."""

from pathlib import Path

import click

from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import replace_option, say

delivering = Later("umbrate.actions.delivering")
files = Later("umbrate.formats.files")
laying = Later("umbrate.formats.laying")
guarding = Later("umbrate.sitting.guarding")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.argument("what", type=click.Choice(["cloud", "surface", "texture", "cameras", "masks"]))
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--sitting", help="Which sitting's cloud, cameras or masks.")
@click.option("--joined", is_flag=True, help="Those of the joined row: all photos in one frame.")
@click.option("--pattern", default="{name}.png", help="Mask file name, for example {name}_mask.png")
@click.option("--cloud", "cloud", multiple=True, help="Which cloud, or several for one file; else the chosen one.")
@click.option("--surface", help="Which surface; else the chosen one.")
@click.option(
    "--plain", is_flag=True, help="Of a cloud or surface: places alone, without normals, colors and measures."
)
@click.option(
    "--without", multiple=True, type=ChoiceOf(lambda: laying.CLOUD_PARTS), help="Leave that out; may be said again."
)
@click.option("--unit", type=ChoiceOf(lambda: laying.UNITS), default="mm", help="Of the coordinates, once scaled.")
@click.option("--origin", type=ChoiceOf(lambda: laying.ORIGINS), default="job", help="Where zero is.")
@click.option("--up", type=ChoiceOf(lambda: laying.UPS), default="z", help="Which axis points up.")
@click.option("--text", is_flag=True, help="PLY as text.")
@click.option(
    "--offset",
    "shift",
    is_flag=True,
    help="PLY far from zero: with its offset in the header, in single precision.",
)
@replace_option
def export(
    job, what, out, sitting, joined, pattern, cloud, surface, plain, without, unit, origin, up, text, shift, replace
):  # fmt: skip
    """Write a cloud (.ply, .las, .laz, .e57, .xyz, .csv), a surface (.ply, .obj, .stl), a textured surface (.glb), the
    cameras (JSON) or the masks (a folder of PNG) to OUT."""
    with open_job(job, writable=False) as j:
        chosen = delivering.the_joined(j, sitting) if joined else j.sitting(sitting) if sitting else None
        gate = guarding.gate_of(j, replace)
        left_out = tuple(laying.CLOUD_PARTS) if plain else tuple(without)
        lies = laying.Laying(left_out, text, shift, unit, origin, up)
        if what == "cloud":
            n = delivering.export_cloud(j, out, chosen, cloud, lies, gate)
            say(f"Wrote {n:,} points to {out}")
        elif what == "surface":
            n = delivering.export_surface(j, out, chosen, surface, lies, gate)
            say(f"Wrote {n:,} triangles to {out}")
        elif what == "texture":
            n = delivering.export_texture(j, out, chosen, gate)
            say(f"Wrote {n:,} textured triangles to {out}")
        elif what == "masks":
            written = delivering.export_masks(j, out, chosen, pattern, gate)
            say(f"Wrote {len(written)} masks to {out}. {files.as_written(written)}".strip())
        else:
            n = delivering.export_cameras(j, out, chosen, gate)
            say(f"Wrote {n} solved photos to {out}")
