"""What is shipped beside the code: the demo's photos and the manual, in a checkout or where the package put them."""

import importlib.metadata
from pathlib import Path


def shipped(folder, has):
    """A folder that is shipped, by a file that it has: in the checkout, or among the files of the installed package.

    Returns None where it is in neither.
    """
    checkout = Path(__file__).resolve().parents[3] / folder
    if (checkout / has).is_file():
        return checkout
    try:
        files = importlib.metadata.files("umbrate") or ()
    except importlib.metadata.PackageNotFoundError:
        return None
    found = next((f for f in files if f.parts[-2:] == (folder, has)), None)
    place = found and Path(found.locate()).resolve().parent
    return place if place and (place / has).is_file() else None
