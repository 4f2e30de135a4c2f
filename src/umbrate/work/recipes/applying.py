"""What a recipe changes in a job: shown before it is done, done as one change, and taken back by one undo."""

from dataclasses import dataclass, replace

from ...job.joins import ON_OBJECT
from ...stages import BY_NAME, STAGES
from ...stages.base import own_fields, parse_settings, value_text
from .recipe import BOOKS, Recipe, changed_settings


@dataclass(frozen=True)
class Difference:
    """One thing that differs between two recipes, or between a job and a recipe.

    Attributes
    ----------
    where : str
        The sitting, or "" where it goes for all.
    part : str
        The stage's title, or what else it is.
    title, now, then : str
        What differs, as it is and as it would be.
    field : str
        Name of the setting; "" for what is none.
    """

    where: str
    part: str
    title: str
    now: str
    then: str
    field: str = ""


def _of_settings(where, stage, now, then, part=""):
    default = stage.Settings().model_dump(mode="json")
    for field, f in stage.Settings.model_fields.items():
        a, b = now.get(field, default[field]), then.get(field, default[field])
        if a != b:
            told = value_text(stage, field, a), value_text(stage, field, b)
            yield Difference(where, part or stage.title, f.title or field, *told, field)


def _words(recipe, part):
    """The parts of a recipe that are lists, as texts."""
    if part in BOOKS:
        return [BOOKS[part].text(s) for s in getattr(recipe, part)]
    if part == "lengths":
        roles = {"scale": "sets the scale", "check": "checks it", "off": "not used"}
        return [f"{r['first']} to {r['second']}: {r['mm']:g} mm, {roles[r['role']]}" for r in recipe.lengths]
    if part == "targets":
        where = {r: "on the object" if r == ON_OBJECT else "on the support" for r in recipe.targets}
        return [f"{where[r]}: {', '.join(map(str, n))}" for r, n in sorted(recipe.targets.items())]
    stage, out = BY_NAME["deliver"], []
    for d in recipe.deliver:
        rest = [f"{x.title.lower()} {x.then}" for x in _of_settings("", stage, {"purpose": d["purpose"]}, d)]
        out.append(value_text(stage, "purpose", d["purpose"]) + (f": {', '.join(rest)}" if rest else ""))
    return out


LISTS = {
    "lengths": ("Scale", "known lengths"), "targets": ("Join", "targets"), "clean": ("Cloud", "cleaning"),
    "mend": ("Surface", "mending"), "deliver": ("Deliver", "deliveries"),
}  # fmt: skip


def stand_text(stand):
    """How an object is stood up, in words."""
    if not stand:
        return "as solved"
    ups = {"mat": "by the mat", "turntable": "by the turntable's axis", "box": "by the keep box"}
    words, up = [], stand.get("up")
    if up:
        words.append(ups[up] if isinstance(up, str) else f"by {len(up)} targets")
    if "along" in stand:
        words.append(f"x from {stand['along'][0]} to {stand['along'][1]}")
    if "origin" in stand:
        words.append("zero in the keep box" if stand["origin"] == "box" else f"zero at {stand['origin']}")
    return ", ".join(words)


def _together(value):
    return {None: "as it is", True: "joined", False: "each by itself"}[value]


def between(first, second):
    """What differs from one recipe to another: a list of Difference."""
    out = []
    for stage in STAGES:
        for where, a, b in (
            ("", first.stages.get(stage.name), second.stages.get(stage.name)),
            ("joined", first.of(stage.name, True), second.of(stage.name, True)),
        ):
            if where and stage.name not in first.joined and stage.name not in second.joined:
                continue
            if (a is None) != (b is None):
                told = ["not in it" if x is None else "in it" for x in (a, b)]
                out.append(Difference(where, stage.title, "the stage", *told))
            elif a is not None:
                out += _of_settings(where, stage, a, b)
    if first.stand != second.stand:
        out.append(Difference("", "Scale", "stands", stand_text(first.stand), stand_text(second.stand)))
    for part, (stage, title) in LISTS.items():
        a, b = _words(first, part), _words(second, part)
        if a != b:
            out.append(Difference("", stage, title, "; ".join(a) or "none", "; ".join(b) or "none"))
    if first.together != second.together:
        out.append(Difference("", "Join", "sittings", _together(first.together), _together(second.together)))
    if first.until != second.until:
        titles = [BY_NAME[r.until].title for r in (first, second)]
        out.append(Difference("", "", "run until", *titles))
    return out


class Applying:
    """What a recipe changes in a job at once; what needs results first is done by `following`."""

    def __init__(self, job, recipe: Recipe, sittings=None):
        self.job, self.recipe = job, recipe
        chosen = sittings if sittings is not None else job.sittings()
        self.sittings = [s for s in chosen if not s.members]
        self.rows = [s for s in chosen if s.members]
        for s in self.rows:
            self.sittings += [x for x in job.photo_sittings() if x.id in s.members and x not in self.sittings]

    def _wanted(self):
        """(sitting, stage, settings as they are, as they would be) of all that the recipe names."""
        for s in (*self.sittings, *self.rows):
            for stage in STAGES:
                then = self.recipe.of(stage.name, bool(s.members))
                if stage.name == "deliver" or then is None or (s.members and stage.name in ("photos", "masks", "lens")):
                    continue
                kept = self.job.settings(s.id, stage.name)
                own = {k: v for k, v in kept.items() if k in own_fields(stage)}
                yield s, stage, kept, {**own, **then}

    def differences(self):
        """What applying it would change: a list of Difference."""
        out = []
        for s, stage, now, then in self._wanted():
            if stage.applies(s):
                out += _of_settings(s.name, stage, changed_settings(stage, now), changed_settings(stage, then))
        for s in self.sittings:
            new = [f"{r['first']} to {r['second']}" for r in self._missing_lengths(s)]
            if new:
                out.append(Difference(s.name, "Scale", "known lengths", "not stated", ", ".join(new)))
            level = self._level(s)
            if level is not None and level != (self.job.level(s.id) or {}):
                out.append(Difference(s.name, "Scale", "stands", "otherwise", stand_text(self.recipe.stand)))
        roles = self.job.target_roles()
        new = [n for role, numbers in self.recipe.targets.items() for n in numbers if roles.get(n) != role]
        if new:
            out.append(Difference("", "Join", "targets", "not said where", ", ".join(map(str, new))))
        return self._together(out)

    def _together(self, rows):
        """Rows that say the same of several sittings as one."""
        every = [s.name for s in (*self.sittings, *self.rows)]
        where = {}
        for d in rows:
            where.setdefault(replace(d, where=""), []).append(d.where)
        return [
            replace(d, where="" if "" in names or set(names) == set(every) else ", ".join(names))
            for d, names in where.items()
        ]

    def _missing_lengths(self, sitting):
        have = {frozenset((k.first, k.second)): k for k in self.job.lengths(sitting.id)}
        for r in self.recipe.lengths:
            k = have.get(frozenset((r["first"], r["second"])))
            if k is None or (k.value_mm, k.sigma_mm, k.role) != (r["mm"], r["sigma_mm"], r["role"]):
                yield {**r, "id": k.id if k else None}

    def _level(self, sitting):
        """The level by the recipe where it is known before there are results, or None."""
        stand = self.recipe.stand
        if not stand or isinstance(stand.get("up"), str):
            return None
        level = {"up": {"ends": list(stand["up"])}} if "up" in stand else {}
        if "along" in stand:
            level["along"] = list(stand["along"])
        if "origin" in stand:
            level["origin"] = stand["origin"]
        return level

    def apply(self):
        """Do it, as one change; returns whether anything changed.

        Raises
        ------
        UmbrateError
            Where a part of it cannot be; nothing is changed then.
        """
        if not self.differences():
            return False
        with self.job.action(f"apply the recipe “{self.recipe.name}”"):
            for s, stage, now, then in self._wanted():
                parse_settings(stage, then)
                if changed_settings(stage, now) != changed_settings(stage, then):
                    self.job.set_settings(s.id, stage.name, then)
            for s in self.sittings:
                for r in self._missing_lengths(s):
                    values = {"value_mm": r["mm"], "sigma_mm": r["sigma_mm"], "role": r["role"]}
                    if r["id"] is None:
                        self.job.add_length(s.id, r["first"], r["second"], *values.values())
                    else:
                        self.job.set_length(r["id"], **values)
                level = self._level(s)
                if level is not None and level != (self.job.level(s.id) or {}):
                    self.job.set_level(s.id, level)
            for role, numbers in self.recipe.targets.items():
                roles = self.job.target_roles()
                new = [n for n in numbers if roles.get(n) != role]
                if new:
                    self.job.set_target_roles(new, role)
        return True

    def later(self):
        """What it does when there are results, a sentence each."""
        r, out = self.recipe, []
        if r.together and len(self.sittings) > 1 and not self.job.joined_rows():
            out.append("The sittings are joined.")
        if r.stand and isinstance(r.stand.get("up"), str):
            out.append(f"The object stands {stand_text(r.stand)}.")
        if r.clean:
            out.append(f"The cloud is cleaned: {'; '.join(_words(r, 'clean'))}.")
        if r.mend:
            out.append(f"The surface is mended: {'; '.join(_words(r, 'mend'))}.")
        if r.deliver:
            out.append(f"Files are delivered: {'; '.join(_words(r, 'deliver'))}.")
        return out
