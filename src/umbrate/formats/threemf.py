"""Triangles as 3MF, the open format of the 3MF consortium for printing: a zip with a model in XML, in millimeters."""

import zipfile
from xml.sax.saxutils import quoteattr

import numpy as np

from .files import CLOSED, written_aside

CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>'
)
RELATIONS = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    '<Relationship Target="/3D/3dmodel.model" Id="rel0" '
    'Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
)
BLOCK = 100_000


def write_3mf(path, mesh, name="surface", gate=CLOSED):
    """Write triangles in millimeters, z up.

    Parameters
    ----------
    path : path
    mesh : dict
        ``points`` (n, 3) in mm and ``faces`` (t, 3).
    name : str
    gate : Gate
    """
    points, faces = np.asarray(mesh["points"], np.float64), np.asarray(mesh["faces"])
    with written_aside(path, gate) as temporary, zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("[Content_Types].xml", TYPES)
        z.writestr("_rels/.rels", RELATIONS)
        with z.open("3D/3dmodel.model", "w", force_zip64=True) as f:
            f.write(
                f'<?xml version="1.0" encoding="UTF-8"?>\n<model unit="millimeter" xml:lang="en" xmlns="{CORE}">\n'
                f'<metadata name="Application">Umbrate</metadata>\n<metadata name="Title">{_text(name)}</metadata>\n'
                f'<resources><object id="1" type="model" name={quoteattr(_plain(name))}><mesh><vertices>\n'.encode()
            )
            line = '<vertex x="%.6g" y="%.6g" z="%.6g"/>\n'
            for a in range(0, len(points), BLOCK):
                f.write("".join([line % tuple(r) for r in points[a : a + BLOCK].tolist()]).encode())
            f.write(b"</vertices><triangles>\n")
            line = '<triangle v1="%d" v2="%d" v3="%d"/>\n'
            for a in range(0, len(faces), BLOCK):
                f.write("".join([line % tuple(r) for r in faces[a : a + BLOCK].tolist()]).encode())
            f.write(b'</triangles></mesh></object></resources>\n<build><item objectid="1"/></build></model>\n')


def _plain(name):
    """A name without what XML cannot hold."""
    return "".join(c for c in name if c >= " ")


def _text(name):
    return _plain(name).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
