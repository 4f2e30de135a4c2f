"""Archive: everything that is known of the object, in open formats, with sums by which it can be verified later."""

import hashlib
import json
import shutil
import zipfile
from pathlib import Path, PurePosixPath

import numpy as np

from ... import __version__
from ...core.errors import UmbrateError
from ...core.later import Later
from ...formats.clouds import write_cloud
from ...formats.meshes import write_mesh
from ...formats.objs import write_obj
from ...formats.tables import TableWriter
from ...sitting.clouds import load_cloud
from ...sitting.guarding import export_names
from ...sitting.masks import mask_blobs
from ...sitting.photos import located
from ...sitting.surfaces import load_surface
from ...sitting.textures import texture_source
from .figures import Check, size_told
from .reading import check_cloud, check_model, extent_of

ledger = Later("umbrate.stages.ledger")
trimesh = Later("trimesh")

SUMS = "SHA256SUMS"


def make(d):
    """Write the archive; see `making.Delivery`."""
    s, folder = d.settings, d.folder / d.name
    folder.mkdir()
    told = _models(d, folder)
    d.progress(0.5, "writing photos and masks")
    told += _photos(d, folder)
    d.progress(0.7, "writing figures, measurements and the report")
    if d.papers is not None:
        told += d.papers(d.job, d.sitting, folder)
    told += _settings(d, folder)
    (folder / "README.txt").write_text(_readme(d, told), "utf-8")
    told.append(("README.txt", "this text"))
    d.progress(0.85, "summing up")
    _write_sums(folder)
    count, size = _counted(folder)
    d.checks.append(Check(text=f"{count} files, {size_told(size)}"))
    if s.as_zip:
        out = d.folder / f"{d.name}.zip"
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=5) as z:
            for file in sorted(folder.rglob("*")):
                d.check()
                if file.is_file():
                    z.write(file, f"{d.name}/{file.relative_to(folder).as_posix()}")
        shutil.rmtree(folder)
        folder = out
    bad = verify(folder)
    if bad:
        raise UmbrateError(f"The archive did not come back as it was written: {bad[0]}. It was not delivered.")
    d.checks.append(Check(text=f"Read back: all {count} files are there and agree with {SUMS}"))


def _models(d, folder):
    """Cloud, surface and texture; what was written: (file, what it is)."""
    out, unit = [], d.unit
    cloud = load_cloud(d.job, d.sitting)
    if cloud is not None:
        d.progress(0.1, "writing the cloud")
        write_cloud(folder / "cloud.ply", cloud, unit, offset=d.frame.offset)
        d.checks.append(check_cloud(folder / "cloud.ply", len(cloud["points"]), extent_of(cloud["points"]), unit))
        out.append(("cloud.ply", f"the dense cloud, {len(cloud['points']):,} points with normals, colors and what was "
                    "measured of each"))  # fmt: skip
    mesh = load_surface(d.job, d.sitting)
    if mesh is not None:
        d.progress(0.25, "writing the surface")
        write_mesh(folder / "surface.ply", mesh, unit, offset=d.frame.offset)
        d.checks.append(check_model(folder / "surface.ply", len(mesh["faces"]), extent_of(mesh["points"]), unit))
        out.append(("surface.ply", f"the surface, {len(mesh['faces']):,} triangles with normals, colors and support"))
    source = texture_source(d.job, d.sitting)
    if source is not None:
        d.progress(0.4, "writing the texture")
        made, place = source.read(), folder / "textured"
        made["points"] = made["points"].astype(np.float64) + np.asarray(d.frame.offset, float)
        place.mkdir()
        frame = f"z up, zero is that of the job, unit {unit or 'unscaled'}"
        files = write_obj(
            place / "model.obj", made, source.files(), unit=unit, told=[frame], normals=source.files("normals")
        )
        for k, page in enumerate(source.files("openness")):
            (place / f"model-occlusion-{k + 1}.png").write_bytes(page)
        d.checks.append(check_model(files[0], len(made["faces"]), extent_of(made["points"]), unit))
        told = f"the textured surface as OBJ, {len(made['faces']):,} triangles, its materials (MTL) and pages (PNG)"
        out.append(("textured/", told))
    return out


def _photos(d, folder):
    """The list of photos, their masks, and where that is wanted the photos; what was written."""
    photos = d.job.photos(d.sitting.id)
    masks, names = mask_blobs(d.job, d.sitting), export_names(photos)
    sittings = {x.id: x.name for x in d.job.sittings()}
    rows, missing = [], []
    for p in photos:
        d.check()
        row = {
            "name": p.name, "sitting": sittings.get(p.sitting_id, ""), "width": p.width, "height": p.height,
            "camera": p.camera, "taken": p.taken or "", "content hash": p.hash, "set aside": "yes" if p.aside else "no",
            "mask": "", "copy": "",
        }  # fmt: skip
        if p.id in masks:
            file = folder / "masks" / f"{names[p.id]}.png"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(d.job.blobs.get_bytes(masks[p.id]))
            row["mask"] = file.relative_to(folder).as_posix()
        if d.settings.with_photos:
            path = Path(located(d.job, p).path)
            if path.is_file():
                file = folder / "photos" / f"{names[p.id]}{path.suffix}"
                file.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(path, file)
                row["copy"] = file.relative_to(folder).as_posix()
            else:
                missing.append(p.name)
        rows.append(row)
    with open(folder / "photos.csv", "w", newline="", encoding="utf-8") as f:
        w, head = TableWriter(f), list(rows[0]) if rows else ["name"]
        w.writerow(head)
        w.writerows([r[k] for k in head] for r in rows)
    if missing:
        some = ", ".join(missing[:5]) + (" and more" if len(missing) > 5 else "")
        told = f"{len(missing)} photos are not on the disk and are missing in the archive: {some}"
        d.checks.append(Check(text=told, good=False, remedy=("go to", "photos")))
    out = [("photos.csv", f"the {len(rows)} photos: names, sizes, hashes of their content, files of their masks")]
    if masks:
        out.append(("masks/", "masks of the photos (PNG): white is the object"))
    if d.settings.with_photos:
        out.append(("photos/", f"the photos themselves, {len(rows) - len(missing)} of {len(rows)}"))
    return out


def _settings(d, folder):
    """All settings of the sitting and of those it was joined from, and the ledger."""
    job = d.job
    sittings = [d.sitting, *(s for s in job.sittings() if s.id in (d.sitting.members or ()))]
    values = {}
    for s in sittings:
        values[s.name] = {
            stage: {"settings": r.settings, "made": r.made, "seconds": r.seconds}
            for stage in ("photos", "masks", "lens", "poses", "scale", "join", "cloud", "surface", "texture")
            if (r := job.result(s.id, stage)) is not None
        }
    text = json.dumps({"program": f"Umbrate {__version__}", "sittings": values}, indent=1, ensure_ascii=False)
    (folder / "settings.json").write_text(text + "\n", "utf-8")
    ids, names = {s.id for s in sittings}, {s.name for s in sittings}
    with open(folder / "ledger.csv", "w", newline="", encoding="utf-8") as f:
        entries = job.ledger()
        ledger.write_rows(
            f, (e for e in entries if e.sitting_id in ids or (e.sitting_id is None and e.sitting in names))
        )
    return [
        ("settings.json", "the settings of every stage, as they were for these results"),
        ("ledger.csv", "every run: when, how long, with which settings and outcome"),
    ]


def _readme(d, told):
    unit = "millimeters" if d.unit == "mm" else "no unit: the object was not scaled"
    wide = max(len(f) for f, _ in told)
    lines = [
        f"{d.job.folder.stem}: {d.sitting.name}",
        "",
        "This folder holds an object that was reconstructed from photos, in open formats.",
        "",
        f"Made with Umbrate {__version__}. Coordinates are in {unit}; z is up.",
        "Pixels begin at 0 in the middle of the first pixel; x runs right, y down.",
        "Poses in cameras.json turn coordinates of the object into those of the camera: x right, y down, z forward.",
        "",
        *(f"{f.ljust(wide)}  {what}" for f, what in told),
        "",
        f"{SUMS} lists the SHA-256 sum of every file. To verify them:",
        "",
        f"    sha256sum -c {SUMS}        or        umbrate check FOLDER",
        "",
    ]
    return "\n".join(lines)


def _counted(folder):
    files = [f for f in folder.rglob("*") if f.is_file()]
    return len(files), sum(f.stat().st_size for f in files)


def _write_sums(folder):
    lines = []
    for file in sorted(folder.rglob("*")):
        if file.is_file():
            with open(file, "rb") as f:
                digest = hashlib.file_digest(f, "sha256").hexdigest()
            lines.append(f"{digest}  {file.relative_to(folder).as_posix()}")
    (folder / SUMS).write_text("\n".join(lines) + "\n", "utf-8")


class _Folder:
    """The files of an archive that is a folder."""

    def __init__(self, path):
        self.path = Path(path)

    def names(self):
        return {f.relative_to(self.path).as_posix() for f in self.path.rglob("*") if f.is_file()}

    def open(self, name):
        return open(self.path / name, "rb")

    def close(self):
        pass


class _Zip:
    """The files of an archive that is a zip, below its one folder."""

    def __init__(self, path):
        self.zip = zipfile.ZipFile(path)
        tops = {n.split("/")[0] for n in self.zip.namelist()}
        self.top = f"{tops.pop()}/" if len(tops) == 1 else ""

    def names(self):
        return {n[len(self.top) :] for n in self.zip.namelist() if not n.endswith("/")}

    def open(self, name):
        return self.zip.open(self.top + name)

    def close(self):
        self.zip.close()


def verify(path):
    """What is wrong with an archive, a folder or zip, in sentences; none where all files are as they were.

    Raises
    ------
    UmbrateError
        Where it is no archive, or its list of sums is damaged.
    """
    path = Path(path)
    if not path.exists():
        raise UmbrateError(f"{path} does not exist.")
    try:
        files = _Zip(path) if path.is_file() else _Folder(path)
    except (zipfile.BadZipFile, OSError):
        raise UmbrateError(f"{path.name} is no zip, or a damaged one.") from None
    try:
        there = files.names()
        if SUMS not in there:
            raise UmbrateError(
                f"{path} holds no {SUMS}: it is no archive that Umbrate delivered, or the list was lost."
            )
        with files.open(SUMS) as f:
            lines = f.read().decode("utf-8", "replace").splitlines()
        wanted = {}
        for k, line in enumerate(lines, 1):
            digest, _, name = line.partition("  ")
            parts = PurePosixPath(name).parts
            if len(digest) != 64 or not name or ".." in parts or name.startswith("/"):
                raise UmbrateError(f"{SUMS} is damaged in line {k}.")
            wanted[name] = digest
        out = [f"{name} is missing" for name in sorted(set(wanted) - there)]
        for name in sorted(set(wanted) & there):
            try:
                with files.open(name) as f:
                    if hashlib.file_digest(f, "sha256").hexdigest() != wanted[name]:
                        out.append(f"{name} was changed or is damaged")
            except (OSError, zipfile.BadZipFile, zipfile.zlib.error) as e:
                out.append(f"{name} cannot be read ({e})")
        return out + [f"{name} was added" for name in sorted(there - set(wanted) - {SUMS})]
    finally:
        files.close()
