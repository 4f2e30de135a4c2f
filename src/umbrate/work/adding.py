"""Adding a folder of photos to a job: the same for the window, the command line and the demo."""

from pathlib import Path

from ..core.errors import UmbrateError
from ..stages import BY_NAME
from ..stages.base import parse_settings
from ..stages.photos import find_photos, read_records


def add_folder(job, folder, sitting_name, masks=None, pattern=None):
    """Add the photos of a folder as a sitting, with the folder of their masks where there is one.

    Returns
    -------
    sitting : Sitting
    added, there : int
        How many came in, and how many were in the sitting already.
    refused : list of str
        A sentence for each file that cannot be read; the others come in without it.
    """
    settings = {}
    if masks is not None:
        if not Path(masks).is_dir():
            raise UmbrateError(f"The mask folder {masks} does not exist. Check the name, or add the photos without masks.")
        settings["folder"] = str(Path(masks).resolve())
    if pattern is not None:
        settings["pattern"] = pattern
    parse_settings(BY_NAME["masks"], settings)
    records, refused = read_records(find_photos(folder))
    sentences = [text for _, text in refused]
    if not records:
        raise UmbrateError(f"None of the photos in {folder} can be read. First of all: {sentences[0]}")
    sitting, added = job.add_sitting(sitting_name, records)
    if settings:
        job.set_settings(sitting.id, "masks", {**job.settings(sitting.id, "masks"), **settings})
    return sitting, added, len(records) - added, sentences


def mask_folder_of(folder):
    """The folder ``masks`` (or ``mask``) inside a photo folder, or None: most people put them there."""
    for name in ("masks", "mask", "Masks", "Mask"):
        if (Path(folder) / name).is_dir():
            return Path(folder) / name
    return None
