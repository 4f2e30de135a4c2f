"""The sittings that a joined row is made of."""


def members_of(job, sitting):
    """The Sittings a joined row is made of, or one itself."""
    by_id = {s.id: s for s in job.sittings()}
    return [by_id[i] for i in job.members(sitting.id)]
