"""What to do next with a job, in one line: for whoever has not done it ten times."""

import re

from ..stages import BY_NAME, stages_of


def next_step(session):
    """What comes next with the chosen sitting: ((stage or None, whether to run it), a sentence), or (None, None).

    A stage of None stands for bringing photos in.
    """
    s = session
    if s.sitting is None:
        return (None, False), "bring in a folder of photos, one for each way the object lies"
    cells = {c.stage: c for row in s.board() for c in row if c.sitting_id == s.sitting_id}
    skipped = {"scale": not s.job.lengths(s.sitting_id), "join": not s.sitting.members}
    for stage in stages_of(s.sitting):
        state = s.state_of(cells[stage.name])
        if state in ("running", "queued", "elsewhere") or skipped.get(stage.name, False):
            continue
        if state == "failed":
            return (stage.name, False), f"see at {stage.title} why it failed, and what to try"
        if state in ("nothing", "ready"):
            return (stage.name, not stage.only_asked), _first_time(stage)
        if state == "stale":
            return (stage.name, True), f"run {stage.title} again: what it was made from has changed"
    others = s.job.photo_sittings()
    if len(others) > 1 and not s.job.joined_rows() and all(s.job.result(x.id, "poses") for x in others):
        return ("join", False), "join the sittings"
    return None, None


def _first_time(stage):
    if stage.only_asked:
        return f"{BY_NAME[stage.name].title}: choose what the files are for"
    # its first clause: the line has to fit beside what the pointer does
    about = re.split("[,:.]", stage.about[:1].lower() + stage.about[1:])[0]
    return f"run {stage.title}: it {about}"
