"""Photo sets with exact truth from the simulated studio."""

import os
import tempfile
from pathlib import Path

import click

from ..core.errors import UmbrateError
from .console import out, say


@click.command()
@click.argument("scene")
@click.argument("folder", metavar="OUT", type=click.Path(path_type=Path))
@click.option("--smaller", type=click.FloatRange(0.5, 20), default=1.0, help="Make pictures this many times smaller.")
@click.option("--photos", type=click.IntRange(1), default=None, help="At most this many photos a sitting.")
@click.option("--as-shot", is_flag=True, help="Write the photos one after another, as a camera on a cable does.")
@click.option("--every", type=click.FloatRange(0.1, 600), default=2.0, help="Seconds between them.")
def simulate(scene, folder, smaller, photos, as_shot, every):
    """Make the photo set SCENE with exact truth in the folder OUT (simulated studio).

    Scenes: whistle, whistle-on-green, pebble, bowl, and calibration: the calibration sheets, with the whistle's camera.
    Hard ones: jug, jug-turning, motif, motif-marked, steps-45, shallow, zooms, shadow, hand, white, handle, phone.
    """
    from rich.progress import Progress

    from ..studio.hard import HARD
    from ..studio.playing import play
    from ..studio.scene import SCENES, whistle
    from ..studio.scene import smaller as shrink
    from ..studio.shoot import shoot, shoot_calibration

    scenes = {**SCENES, **HARD}
    if scene not in scenes and scene != "calibration":
        raise UmbrateError(f"There is no scene “{scene}”. There is: {', '.join(scenes)}, calibration.")
    if folder.is_dir() and any(folder.iterdir()):
        raise UmbrateError(f"{folder} holds files already. Name a new folder, or an empty one.")
    sheets_only = scene == "calibration"
    made = whistle() if sheets_only else scenes[scene]()
    if smaller != 1.0 or photos:
        made = shrink(made, smaller, photos)
    try:
        with Progress(console=out, disable=not out.is_terminal) as bar:
            task = bar.add_task("simulated photos", total=1.0)

            def tell(fraction, sentence):
                bar.update(task, completed=fraction, description=sentence)

            if sheets_only:
                shoot_calibration(made, folder, progress=tell)
            else:
                with tempfile.TemporaryDirectory(prefix="umbrate-studio-") as aside:
                    place = Path(aside) / "set" if as_shot else folder
                    shoot(made, place, tell, os.cpu_count() or 1)
                    if as_shot:
                        bar.update(task, completed=0.0, description="taken photos")
                        count = play(place, folder, every, lambda k, n, f: tell(k / n, f"taken {f.name}"))
    except OSError as e:
        raise UmbrateError(f"{folder} cannot be written to ({e.strerror}). Choose another place.") from e
    if as_shot and not sheets_only:
        say(f"Took {count} simulated photos into {folder}")
        return
    more = "truth.json" if sheets_only else "true masks, truth.json and truth.ply"
    say(f"Made {folder}: simulated photos, {more}")
