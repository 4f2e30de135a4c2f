"""Sorting photos from the terminal: what there is, what is set aside, moved and turned, and masks on trial."""

import dataclasses
import fnmatch
import json
from pathlib import Path

import click
from rich.table import Table
from rich.text import Text

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .console import out, replace_option, say

PIL_Image = Later("PIL.Image")
np = Later("numpy")
decode = Later("umbrate.core.imaging.decode")
facts = Later("umbrate.core.imaging.facts")
formats_files = Later("umbrate.formats.files")
guarding = Later("umbrate.sitting.guarding")
masks = Later("umbrate.sitting.masks")
sitting_photos = Later("umbrate.sitting.photos")
stages = Later("umbrate.stages")
base = Later("umbrate.stages.base")

OUTSIDE = 0.25  #: how much light is left of what a mask on trial leaves out


def choose_photos(job, sitting_name, patterns):
    """Photos of a sitting by names or patterns like ``IMG_1*``, as (sitting, photos).

    Raises
    ------
    UmbrateError
        When one of them fits no photo.
    """
    sitting = job.sitting(sitting_name)
    photos, chosen = job.photos(sitting.id), []
    for pattern in patterns:
        found = [p for p in photos if p.name == pattern or fnmatch.fnmatchcase(p.name, pattern)]
        if not found:
            example = f" It has {photos[0].name}, for example." if photos else ""
            raise UmbrateError(f"“{sitting.name}” has no photo {pattern}.{example}")
        chosen += [p for p in found if p not in chosen]
    return sitting, chosen


job_argument = click.argument("job", type=click.Path(path_type=Path))
sitting_option = click.option("--sitting", required=True, help="The sitting the photos are in.")
photos_argument = click.argument("photos", nargs=-1, required=True)


@click.command("photos")
@job_argument
@click.option("--sitting", help="Only this sitting.")
@click.option("--json", "as_json", is_flag=True, help="Print as JSON.")
def list_photos(job, sitting, as_json):
    """List the photos of JOB: what their files say of them, how sharp they are, what became of them."""
    with open_job(job, writable=False) as j:
        rows = []
        for s in [j.sitting(sitting)] if sitting else j.sittings():
            sharp = {}
            for name in ("photos", "masks"):
                done = j.result(s.id, name)
                sharp.update(done.figures.sharpness if done else {})
            for p in j.photos(s.id):
                use = "plate" if p.plate else "aside" if p.aside else "in use"
                rows.append((s, p, sharp.get(p.id), use, j.file_state(p)))
    if as_json:
        print(
            json.dumps(
                [
                    {**dataclasses.asdict(p), "sitting": s.name, "sharpness": v, "use": use, "file": file}
                    for s, p, v, use, file in rows
                ],
                indent=1,
                ensure_ascii=False,
            )
        )
        return
    for name in dict.fromkeys(s.name for s, *_ in rows):
        _print_photos(name, [r[1:] for r in rows if r[0].name == name])


def _kind(photo):
    focal = f"{photo.focal_mm:g} mm" if photo.focal_mm else ""
    return ", ".join(x for x in (photo.camera or "camera unknown", photo.lens, focal) if x)


def _print_photos(name, rows):
    """A table of a sitting's photos; the camera stands there once where all have the same."""
    kinds = {_kind(p) for p, *_ in rows}
    table = Table(title=f"{name}: {kinds.pop()}" if len(kinds) == 1 else name, title_justify="left")
    for head in ("photo", "exposure", "taken", "sharpness", "state", *(["camera"] if kinds else [])):
        table.add_column(head, justify="right" if head == "sharpness" else "left", no_wrap=head in ("photo", "taken"))
    for p, v, use, file in rows:
        state = ", ".join(x for x in (use if use != "in use" else "", f"file {file}" if file != "here" else "") if x)
        exposure = facts.exposure_text(p.exposure_s, p.f_number, p.iso)
        cells = (p.name, exposure, (p.taken or "").replace("T", " "), "" if v is None else f"{v:.2f}", state)
        table.add_row(*map(Text, (*cells, *([_kind(p)] if kinds else []))))
    out.print(table)


@click.command()
@job_argument
@photos_argument
@sitting_option
@click.option("--back", is_flag=True, help="Bring them back.")
@click.option("--plates", is_flag=True, help="Keep them as the sitting's backdrop plates.")
def aside(job, photos, sitting, back, plates):
    """Set PHOTOS (names, or patterns like 'IMG_1*') of JOB aside: kept, not used."""
    with open_job(job) as j:
        _, chosen = choose_photos(j, sitting, photos)
        ids = [p.id for p in chosen]
        if plates:
            j.keep_as_plates(ids)
        else:
            j.set_aside(ids, not back)
        say(f"{len(ids)} photos {'kept as plates' if plates else 'brought back' if back else 'set aside'}.")


@click.command()
@job_argument
@photos_argument
@sitting_option
@click.option("--to", required=True, help="The sitting they go to; made where it is new.")
def move(job, photos, sitting, to):
    """Move PHOTOS of JOB to another sitting."""
    with open_job(job) as j:
        _, chosen = choose_photos(j, sitting, photos)
        j.move_photos([p.id for p in chosen], to)
        say(f"Moved {len(chosen)} photos to “{to}”.")


@click.command()
@job_argument
@photos_argument
@sitting_option
@click.option("--by", type=click.Choice(["90", "180", "270"]), default="90", help="Degrees to the right.")
def turn(job, photos, sitting, by):
    """Turn how PHOTOS of JOB are shown; their files stay as they are."""
    with open_job(job) as j:
        _, chosen = choose_photos(j, sitting, photos)
        j.turn_photos([p.id for p in chosen], int(by) // 90)
        say(f"Turned {len(chosen)} photos.")


@click.command("sitting")
@job_argument
@click.argument("name")
@click.option("--rename", metavar="NEW", help="Give it another name.")
@click.option("--merge-into", metavar="OTHER", help="Move its photos to another one and remove it.")
@click.option("--up", is_flag=True, help="Move it up on the Board.")
@click.option("--down", is_flag=True, help="Move it down.")
@click.option("--remove", is_flag=True, help="Take it out of the job; no file is touched.")
def change_sitting(job, name, rename, merge_into, up, down, remove):
    """Rename, merge, reorder or remove the sitting NAME of JOB."""
    if sum(map(bool, (rename, merge_into, up, down, remove))) != 1:
        raise UmbrateError("Say one thing to do: --rename, --merge-into, --up, --down or --remove.")
    with open_job(job) as j:
        s = j.sitting(name)
        if rename:
            j.rename_sitting(s.id, rename)
        elif merge_into:
            j.merge_sittings(s.id, j.sitting(merge_into).id)
        elif remove:
            j.remove_sitting(s.id)
        else:
            j.move_sitting(s.id, -1 if up else 1)
        say(f"Sittings now: {', '.join(f'“{x.name}”' for x in j.sittings())}")


@click.command()
@job_argument
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--sitting", required=True, help="The sitting whose masks are tried.")
@click.option("--photos", "names", multiple=True, help="On these photos (names or patterns); else on four.")
@click.option("--set", "assignments", multiple=True, metavar="masks.SETTING=VALUE", help="Try it with other settings.")
@replace_option
def preview(job, folder, sitting, names, assignments, replace):
    """Try masks on a few photos of JOB and write the pictures to FOLDER: what is left out is dark.

    The job keeps neither the masks nor the settings.
    """
    from .runs import parse_assignments

    stage = stages.BY_NAME["masks"]
    with open_job(job) as j:
        s = j.sitting(sitting)
        values = parse_assignments(assignments).get("masks", {})
        settings = base.parse_settings(stage, {**j.settings(s.id, "masks"), **values})
        seen = stage.forecast(j, s, settings)
        if seen:
            say(seen.text)
        if settings.method not in stage.needs_preview:
            return
        usable = [p for p in j.photos(s.id) if not p.aside]
        chosen = choose_photos(j, sitting, names)[1] if names else usable[:: max(1, -(-len(usable) // 4))]
        files = {i: folder / f"{n}.jpg" for i, n in guarding.export_names(chosen).items()}
        gate = guarding.gate_of(j, replace)
        gate.check(*files.values())
        made = stage.preview(stage.gather(j, s, settings), settings, {p.id for p in chosen}, base.Report())
        for p in chosen:
            m = made.get(p.id)
            if m is None or m.mask is None:
                say(f"{p.name}: {m.trouble['text'] if m else 'it is set aside'}")
                continue
            mask = masks.decode_mask(j.blobs.get_bytes(m.mask))
            picture = (
                sitting_photos.photo_picture(sitting_photos.located(j, p)) * np.where(mask, 1.0, OUTSIDE)[..., None]
            )
            shown = np.rot90(decode.display_orientation(picture.astype(np.uint8), p.orientation), -p.turn)
            formats_files.make_folder(files[p.id].parent)
            with formats_files.written_aside(files[p.id], gate) as part:
                PIL_Image.fromarray(np.ascontiguousarray(shown)).save(part, "JPEG", quality=90)
            told = f"{p.name}: the object fills {100 * mask.mean():.1f} % of the picture"
            say(told + ("" if files[p.id].stem == Path(p.name).stem else f", {files[p.id].name}"))
