"""The studio as a tethered camera: photos of a set that was made are written one after another, as a camera's program
writes them: half of a file first, the rest a moment later."""

import time
from pathlib import Path

HALF_S = 0.3  #: between the halves of a file


def photos_of(folder):
    """Photos of a set in the order they were taken: (file, mask or None) by sitting's folder, one after the other."""
    out = []
    for place in sorted({f.parent for f in Path(folder).rglob("*.jpg") if f.parent.name not in ("masks", "plates")}):
        for f in sorted(place.glob("*.jpg")):
            mask = place / "masks" / f"{f.stem}.png"
            out.append((f, mask if mask.is_file() else None))
    return out


def play(made, out, every_s, told=lambda number, count, file: None, sleep=time.sleep):
    """Write the photos of a set into another folder, one every so many seconds; returns how many.

    Parameters
    ----------
    made, out : path
        The set, and where its photos come in, in folders of the same names. Masks are there before their photo.
    told : callable(number, count, file)
        Called after each.
    """
    made, out = Path(made), Path(out)
    photos = photos_of(made)
    for k, (file, mask) in enumerate(photos, 1):
        start = time.monotonic()
        place = out / file.relative_to(made)
        place.parent.mkdir(parents=True, exist_ok=True)
        if mask is not None:
            (place.parent / "masks").mkdir(exist_ok=True)
            (place.parent / "masks" / mask.name).write_bytes(mask.read_bytes())
        data = file.read_bytes()
        with open(place, "xb") as f:
            f.write(data[: len(data) // 2])
            f.flush()
            sleep(min(HALF_S, every_s / 2))
            f.write(data[len(data) // 2 :])
        told(k, len(photos), place)
        if k < len(photos):
            sleep(max(0.0, every_s - (time.monotonic() - start)))
    return len(photos)
