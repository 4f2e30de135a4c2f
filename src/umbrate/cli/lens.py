"""Target sheets, calibration, lens cards and undistorted copies from the terminal."""

import json
import tempfile
from dataclasses import dataclass
from pathlib import Path

import click
from rich.table import Table
from rich.text import Text

from ..core.errors import UmbrateError
from ..core.later import Later
from .changing import open_job
from .choices import ChoiceOf
from .console import complain, out, replace_option, say

PIL_Image = Later("PIL.Image")
np = Later("numpy")
delivering = Later("umbrate.actions.delivering")
decode = Later("umbrate.core.imaging.decode")
core_undistort = Later("umbrate.core.imaging.undistort")
sheets = Later("umbrate.core.targets.sheets")
formats_files = Later("umbrate.formats.files")
lenscards = Later("umbrate.formats.lenscards")
store = Later("umbrate.job.store")
guarding = Later("umbrate.sitting.guarding")
knownlenses = Later("umbrate.sitting.knownlenses")
sitting_photos = Later("umbrate.sitting.photos")
stages = Later("umbrate.stages")
base = Later("umbrate.stages.base")
stages_cards = Later("umbrate.stages.lens.cards")
adding = Later("umbrate.work.adding")
now = Later("umbrate.work.now")
printed = Later("umbrate.work.printed")


@click.command()
@click.argument("sheet", type=ChoiceOf(lambda: sheets.KINDS))
@click.argument("pdf", type=click.Path(path_type=Path))
@click.option("--paper", type=ChoiceOf(lambda: sheets.PAPERS), default="A4")
@click.option("--dot", "diameters", multiple=True, type=float, help="Diameter of the dots, mm (small: several).")
@click.option("--hole", type=float, default=40.0, help="Of a mat: diameter of the hole for the pedestal, mm.")
@click.option("--length", type=float, default=None, help="Of scale bars: their longest length, mm.")
@click.option("--first", type=int, default=None, help="Of loose targets: number of the first; else the "
              "first that you have not printed yet.")  # fmt: skip
@replace_option
def targets(sheet, pdf, paper, diameters, hole, length, first, replace):
    """Write a SHEET of targets as PDF, in true millimeters."""
    if first is None and sheet == "loose":
        first = printed.next_number()
    made = sheets.make(sheet, paper, diameters, hole, first, length)
    from ..formats.sheets import write_sheets  # which takes a library that nothing else needs

    write_sheets(pdf, made, formats_files.Gate(replace))
    count = sum(len(s.targets) for s in made)
    pages = f"{len(made)} pages" if len(made) > 1 else "1 page"
    numbers = printed.remember_printed(made)
    told = ""
    if numbers:
        last = numbers[1] + 1 not in sheets.OBJECT
        after = "the last there are: a sheet after this one repeats them" if last else "the next sheet has others"
        told = f", numbers {numbers[0]} to {numbers[1]}, {after}"
    say(f"Wrote {pages} with {count} targets to {pdf}{told}. Print at 100 % and check the ruler.")


def _photos_of(places):
    files = []
    for p in places:
        files += sitting_photos.photo_files(p) if p.is_dir() else [p]
    if not files:
        raise UmbrateError("There are no photos to calibrate from.")
    return files


@click.command()
@click.argument("photos", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--board", metavar="COLSxROWS", help="They show a checkerboard with so many inner corners, such as 9x6, or “found”."
)
@click.option("--square", type=float, default=25.0, help="Side of its squares, mm.")
@click.option("--card", type=click.Path(path_type=Path), help="Write the lens card to this JSON file.")
@click.option("--keep", metavar="NAME", help="Keep it on the shelf under this name.")
@click.option("--set", "assignments", multiple=True, metavar="lens.SETTING=VALUE", help="Such as lens.k3=fixed.")
@click.option("--json", "as_json", is_flag=True, help="Print the figures as JSON.")
@replace_option
def calibrate(photos, board, square, card, keep, assignments, as_json, replace):
    """Calibrate a lens from PHOTOS (files or folders) of calibration sheets or of a checkerboard."""
    from .runs import Shown, parse_assignments

    values = {"source": "board" if board else "targets", **parse_assignments(assignments).get("lens", {})}
    if board == "found":
        values |= {"square_mm": square}
    elif board:
        columns, x, rows = board.lower().partition("x")
        if not x or not columns.isdigit() or not rows.isdigit():
            raise UmbrateError(f"“{board}” is no size of a checkerboard: write it like 9x6, inner corners, or “found”.")
        values |= {"columns": int(columns), "rows": int(rows), "square_mm": square}
    settings = base.parse_settings(stages.BY_NAME["lens"], values)
    files = _photos_of(photos)
    gate = formats_files.Gate(replace, files)
    if card:
        gate.check(card)
    if keep:
        lenscards.check_shelf(keep, replace)
    with tempfile.TemporaryDirectory() as scratch, store.Job.create(Path(scratch) / "calibration") as job:
        with out.status("Calibrating") as status:
            report = Shown(status)
            incoming = adding.read_files(files, report=report)
            for sentence in incoming.refused:
                complain("Left out", sentence)
            sitting, _, _ = adding.take_in(job, "calibration", incoming)
            result = now.run_now(job, sitting, "lens", settings, report)
        if result.figures.gathering:
            raise UmbrateError(" ".join(p["text"] for p in result.problems))
        made = stages_cards.card_of(job, sitting, keep or (card.stem if card else "calibration"))
    if as_json:
        figures = result.figures.calibration.model_dump(mode="json", exclude={"coverage"})
        problems = [p["text"] for p in result.problems]
        print(json.dumps({**figures, "problems": problems}, indent=1, ensure_ascii=False))
    else:
        for name, value, _ in result.figures.rows():
            say(f"  {name:24s} {value}")
        for p in result.problems:
            say(f"  {p['text']} {p['hint']}")
    if card:
        lenscards.write_card(card, made, gate)
        say("" if as_json else f"Wrote {card}")
    if keep:
        lenscards.put_on_shelf(made, replace)
        say("" if as_json else f"“{made.name}” is on the shelf.")


@click.command()
@click.option("--import", "incoming", type=click.Path(path_type=Path), help="Put a card from a JSON file on the shelf.")
@click.option("--export", "name", help="Write the card of this name to FILE.")
@click.option("--to", "file", type=click.Path(path_type=Path), help="FILE of --export.")
@click.option("--remove", help="Take the card of this name off the shelf.")
@click.option("--json", "as_json", is_flag=True)
@replace_option
def cards(incoming, name, file, remove, as_json, replace):
    """Show the shelf of lens cards, or put one on it, write one out, take one off."""
    if incoming:
        lenscards.put_on_shelf(lenscards.read_card(incoming), replace)
    have, wrong = lenscards.shelf(), lenscards.damaged_cards()

    def named(wanted):
        found = next((x for x in have if x[1].name == wanted), None)
        if found is None:
            known = ", ".join(f"“{c.name}”" for _, c in have) or "none"
            raise UmbrateError(f"There is no lens card “{wanted}” on the shelf (there is: {known}).")
        return found

    if name:
        if not file:
            raise UmbrateError("Say where it goes: --export NAME --to FILE.json")
        lenscards.write_card(file, named(name)[1], formats_files.Gate(replace))
        say(f"Wrote {file}")
        return
    if remove:
        of_file = next((f for f, _ in wrong if remove in (f.name, f.stem)), None)
        lenscards.take_off_shelf(of_file or named(remove)[0])
        have, wrong = lenscards.shelf(), lenscards.damaged_cards()
    if as_json:
        print(json.dumps([c.as_dict() for _, c in have], indent=1, ensure_ascii=False))
        return
    for f, why in wrong:
        complain(f.name, f"{why} It is passed over. Take it off: umbrate cards --remove {f.name!r}")
    if not have:
        say("The shelf is empty. Calibrate a lens: umbrate calibrate PHOTOS --keep NAME")
        return
    table = Table()
    for head in ("card", "camera and lens", "picture", "focal length", "date", "photos", "residual"):
        table.add_column(head)
    for _, c in have:
        focal = f"{c.focal_mm:g} mm, {c.lens.f:.1f} px" if c.focal_mm else f"{c.lens.f:.1f} px"
        camera = ", ".join(x for x in (c.camera, c.lens_name) if x) or "unknown"
        size = f"{c.lens.width} x {c.lens.height}"
        row = (c.name, camera, size, focal, c.date, str(c.photos), f"{c.rms_px:.3f} px")
        table.add_row(*map(Text, row))
    out.print(table)


@click.command()
@click.argument("job", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True)
def lenses(job, as_json):
    """Show all lenses of JOB, each with its standard deviations and how far it is from the others."""
    with open_job(job, writable=False) as j:
        rows = knownlenses.lenses_known(j)
    if as_json:
        told = [{**vars(x), "lens": x.lens.as_dict()} for x in rows]
        print(json.dumps(told, indent=1, ensure_ascii=False))
        return
    if not rows:
        say("No lens is known yet. It is solved with the poses, calibrated, or of a lens card.")
        return
    table = Table()
    for head in ("sitting", "photos", "lens", "parameters", "apart"):
        table.add_column(head, no_wrap=head == "parameters")
    for x in rows:
        values = "\n".join(f"{n} {text}" for n, text in x.lines())
        apart = f"{x.apart_px:.2f} px from {x.apart_from}" if x.apart_px is not None else ""
        table.add_row(*map(Text, (x.sitting, str(x.photos), f"{x.group}\n{x.source}", values, apart)))
    out.print(table)


@click.command("undistort")
@click.argument("place", type=click.Path(path_type=Path))
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--sitting", help="Of a job: only this sitting.")
@click.option("--card", type=click.Path(path_type=Path), help="Of a folder of photos: the lens card, a JSON file.")
@replace_option
def undistort_photos(place, folder, sitting, card, replace):
    """Write undistorted copies of photos and masks to FOLDER, with the ideal camera that goes with them.

    PLACE is a job with solved poses or lens cards, or a folder of photos together with --card.
    """
    if card is None:
        with open_job(place, writable=False) as j:
            files = delivering.export_undistorted(
                j, folder, j.sitting(sitting) if sitting else None, guarding.gate_of(j, replace)
            )
        told = f"Wrote {len(files)} undistorted photos and cameras.json to {folder}. {formats_files.as_written(files)}"
        say(told.strip())
        return
    c = lenscards.read_card(card)
    photos = [_File(k, f.name, str(f)) for k, f in enumerate(_photos_of([place]))]
    names = guarding.export_names(photos)
    masks = _masks_of(place, photos)
    gate = formats_files.Gate(replace, [*(p.path for p in photos), *masks.values(), card])
    gate.check(
        *(folder / f"{n}.png" for n in names.values()), *(folder / "masks" / f"{names[i]}.png" for i in masks),
        folder / "cameras.json",
    )  # fmt: skip
    for p in photos:
        facts = decode.read_facts(p.path)
        if (facts.width, facts.height) != (c.lens.width, c.lens.height):
            raise UmbrateError(f"The lens card “{c.name}” is not of {p.name}: {'; '.join(c.differs(facts))}.")
    for p in photos:
        mask = decode.read_mask(masks[p.id]) if p.id in masks else None
        if mask is not None and mask.shape != (c.lens.height, c.lens.width):
            raise UmbrateError(f"The mask {masks[p.id].name} has not the size of its photo {p.name}.")
        picture, inside, pinhole = core_undistort.undistort(decode.read_picture(p.path), mask, c.lens, 1)
        sheet = np.clip(np.round(picture), 0, 255).astype(np.uint8)
        for file, data in ((folder / f"{names[p.id]}.png", sheet), *(
            [(folder / "masks" / f"{names[p.id]}.png", inside)] if mask is not None else []
        )):  # fmt: skip
            formats_files.make_folder(file.parent)
            with formats_files.written_aside(file, gate) as part:
                PIL_Image.fromarray(data).save(part)
    document = {"format": "umbrate-cameras", "version": 1, "lenses": [{"id": "1", **pinhole.as_dict()}]}
    with formats_files.written_aside(folder / "cameras.json", gate) as part:
        part.write_text(json.dumps(document, indent=1))
    files = [(p.name, f"{names[p.id]}.png") for p in photos]
    say(
        f"Wrote {len(photos)} undistorted photos, {len(masks)} masks and cameras.json to {folder}. "
        f"{formats_files.as_written(files)}".strip()
    )


def _masks_of(place, photos):
    """The mask files NAME.png beside photos of a folder, by the photos' ids."""
    folder = adding.mask_folder_of(place) if place.is_dir() else None
    found = {p.id: folder / f"{Path(p.name).stem}.png" for p in photos} if folder else {}
    return {i: f for i, f in found.items() if f.is_file()}


@dataclass(frozen=True)
class _File:
    """A photo that is in no job."""

    id: int
    name: str
    path: str
