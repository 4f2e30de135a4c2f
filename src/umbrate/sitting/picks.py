"""The places picked in several sittings, in the frame of each."""

import numpy as np

from ..core.geometry.sightings import locate
from ..job.marks import mark_of
from .blocks import stored_block
from .frames import block_blob, frame_of, move_points
from .marks import seen_in
from .members import members_of


def pick_places(job, sitting):
    """Picks of a joined row that are used: (name, {sitting id: place (3,) in its job frame})."""
    members = {s.id: s for s in members_of(job, sitting)}
    frames = {i: frame_of(job, s).matrix for i, s in members.items()}
    marked = {}
    out = []
    for pick in job.picks(sitting.id):
        places = {}
        for i, place in pick.places.items():
            if i not in members:
                continue
            if "cloud" in place:
                places[i] = move_points(np.array(place["cloud"], float)[None], frames[i])[0]
                continue
            if i not in marked:
                marked[i] = marked_places(job, members[i], frames[i])
            if mark_of(place.get("mark")) in marked[i]:
                places[i] = marked[i][mark_of(place["mark"])]
        if pick.used and len(places) >= 2:
            out.append((pick.name, places))
    return out


def marked_places(job, sitting, frame):
    """Places of a sitting's marked points in its job frame, by id, located in its photos."""
    key, M = block_blob(job, sitting)
    if key is None:
        return {}
    b = stored_block(job.blobs, key)
    out = {}
    for p in job.marked_points(sitting.id):
        seen = seen_in(b, [(s.photo_id, s.x, s.y, s.sigma_px) for s in p.sightings if s.used])
        if len(seen.photo) >= 2:
            X, _ = locate(b.poses, b.lenses, b.lens_of, seen)
            if X is not None:
                out[p.id] = move_points(X[None], frame @ np.linalg.inv(M))[0]
    return out
