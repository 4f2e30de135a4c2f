"""Sorting a card full of photos into sittings: proposals, for somebody to look at before they are carried out."""

from datetime import datetime

import numpy as np

SHORTEST_GAP_S = 90.0  #: no pause shorter than this separates sittings
GAP_FACTOR = 5.0  #: nor one shorter than this many usual ones


def shooting_order(photos):
    """Photos by the time they were taken, then by name; those without a time stay where their names put them."""
    if all(p.taken for p in photos):
        return sorted(photos, key=lambda p: (p.taken, p.name, p.id))
    return sorted(photos, key=lambda p: (p.name, p.id))


def usual_pause(photos):
    """Seconds from which on a pause of the photographer stands out from the others."""
    order = shooting_order(photos)
    if len(order) < 2 or not all(p.taken for p in order):
        return SHORTEST_GAP_S
    pauses = np.diff([datetime.fromisoformat(p.taken).timestamp() for p in order])
    return max(SHORTEST_GAP_S, GAP_FACTOR * float(np.median(pauses)))


def split_at_gaps(photos, shortest_s=None):
    """Parts of a sitting between which the photographer paused.

    Parameters
    ----------
    photos : list of Photo
    shortest_s : float, optional
        Pauses from this long separate; by default those that stand out from the usual ones.

    Returns
    -------
    list of (list of photo ids, list of plate ids)
        As `Job.split_sitting` takes them; one part where nothing separates.
    """
    order = shooting_order(photos)
    if len(order) < 2 or not all(p.taken for p in order):
        return [([p.id for p in order], [])]
    times = [datetime.fromisoformat(p.taken).timestamp() for p in order]
    pauses = np.diff(times)
    limit = shortest_s if shortest_s is not None else usual_pause(photos)
    parts, start = [], 0
    for k, pause in enumerate(pauses):
        if pause >= limit:
            parts.append(([p.id for p in order[start : k + 1]], []))
            start = k + 1
    return [*parts, ([p.id for p in order[start:]], [])]


def split_at_bare_frames(photos, bare, place):
    """Parts of a sitting between frames of the bare backdrop, each with the frames that are its plates.

    Technicians shoot the empty table between two placements of the object. Such a frame belongs to the
    part beside it that was taken from its place: the one before it where both were.

    Parameters
    ----------
    photos : list of Photo
    bare : set of int
        Ids of the frames that show the bare backdrop.
    place : dict of int to int
        The place each photo was taken from.

    Returns
    -------
    list of (list of photo ids, list of plate ids)
    """
    parts, pending, between = [], [], False
    for p in shooting_order(photos):
        if p.id in bare:
            before = parts and any(place.get(i) == place.get(p.id) for i in parts[-1][0])
            (parts[-1][1] if before else pending).append(p.id)
            between = bool(parts)
        else:
            if not parts or between:
                parts.append(([], []))
                between = False
            parts[-1][0].append(p.id)
            parts[-1][1].extend(pending)
            pending = []
    if pending and parts:
        parts[-1][1].extend(pending)
    return parts


def propose_split(job, sitting, where, shortest_s=None):
    """How a sitting would be split at "bare" frames or at "gaps": parts as `Job.split_sitting` takes them."""
    photos = [p for p in job.photos(sitting.id) if p.plate or not p.aside]
    if where == "gaps":
        return split_at_gaps([p for p in photos if not p.plate], shortest_s)
    done = job.result(sitting.id, "photos")
    place, bare = (done.figures.place, done.figures.bare) if done else ({}, [])
    return split_at_bare_frames(photos, {*bare, *(p.id for p in photos if p.plate)}, place)
