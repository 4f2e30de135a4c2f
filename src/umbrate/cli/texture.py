"""The command that says what a texture is taken from."""

from pathlib import Path

import click
from rich.table import Table

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .console import out, say
from .measure import the_sitting

textures = Later("umbrate.sitting.textures")
stages = Later("umbrate.stages")
base = Later("umbrate.stages.base")
frames = Later("umbrate.sitting.frames")


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--sitting", help="The sitting; may be left out where there is only one.")
@click.option("--at", type=float, nargs=3, metavar="X Y Z", help="Say which photo the surface is from there.")
@click.option("--forecast", is_flag=True, help="Say what a run would give, and how long it takes.")
def texture(job, sitting, at, forecast):
    """Say what a texture of JOB is taken from: how much each photo gives, or which shows a place."""
    with open_job(job, writable=False) as j:
        s = the_sitting(j, sitting)
        if forecast:
            stage = stages.BY_NAME["texture"]
            seen = stage.forecast(j, s, base.parse_settings(stage, j.settings(s.id, "texture")))
            if seen is None:
                raise UmbrateError(f"“{s.name}” has no surface yet. Run Surface first.", ("go to", "surface"))
            say(seen.text)
            return
        source = textures.texture_source(j, s)
        if source is None:
            raise UmbrateError(f"“{s.name}” has no texture yet: umbrate run {j.folder} --to texture")
        mesh, names = source.read(), {p.id: p.name for p in j.photos(s.id)}
        if at:
            _say_where(j, s, mesh, at, names)
            return
        table = Table(title=f"{s.name}: photos of its texture")
        table.add_column("photo")
        table.add_column("area", justify="right")
        for i, share in textures.shares_of(mesh):
            name = "no photo: made up" if i < 0 else names.get(i, "a photo that is gone")
            table.add_row(name, f"{100 * share:.1f} %")
        out.print(table)


def _say_where(job, sitting, mesh, at, names):
    frame = frames.frame_of(job, sitting)
    found = textures.taken_at(frames.load_block(job, sitting), mesh, frame.from_people(at))
    off = f" (the surface is {found.off:.3g} {frame.unit} from there)" if found.off > 0 else ""
    if found.photo < 0:
        say(f"No photo shows this place: its color is made up from round it{off}.")
        return
    x, y = found.pixel
    say(f"From {names.get(found.photo, 'a photo that is gone')}, pixel {x:.1f}, {y:.1f}{off}")
