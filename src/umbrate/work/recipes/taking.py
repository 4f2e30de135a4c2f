"""A recipe from a job: what goes for any object of its kind; the rest is left out, or turned into a rule, and named."""

from ...core.errors import UmbrateError
from ...core.names import plain_name
from ...sitting.frames import level_of
from ...stages import STAGES
from ...stages.base import parse_settings
from .recipe import BOOKS, OF_JOINED, Recipe, changed_settings, delivery_of


def is_number(end):
    """Whether an end is a target, by its number: it means the same with every object."""
    return isinstance(end, str) and end.isdigit()


class Taking:
    """Takes a recipe from a job; `left` says what did not go into it, a sentence each."""

    def __init__(self, job, sitting=None):
        self.job, self.left = job, []
        self.all = job.photo_sittings()
        self.row = sitting if sitting and sitting.members else next(iter(job.joined_rows()), None)
        if sitting and not sitting.members:
            self.row = self.row if self.row and sitting.id in self.row.members else None
        chosen = [s for s in self.all if self.row is None or s.id in self.row.members]
        self.first = sitting if sitting and not sitting.members else next(iter(chosen), None)
        self.others = [s for s in chosen if s != self.first] if self.row or sitting is None else []
        self.final = self.row or self.first  #: of what the cloud and all that follows is made

    def recipe(self, name):
        """The Recipe of the whole job."""
        stages, joined = self._settings()
        deliver = self._deliveries()
        done = [s.name for s in STAGES if self.final and self.job.result(self.final.id, s.name)]
        until = "deliver" if deliver else next((n for n in reversed(done) if n != "deliver"), "cloud")
        recipe = Recipe(
            plain_name(name, "A recipe"), until=until, together=bool(self.row) if len(self.all) > 1 else None,
            stages=stages, joined=joined,
            stand=self._stand(), lengths=self._lengths(), targets=self._targets(),
            clean=self._steps("cloud", "cleaning"), mend=self._steps("surface", "mending"), deliver=deliver,
        )  # fmt: skip
        self._say_rest()
        return recipe

    def _of(self, sitting, stage):
        return changed_settings(stage, self.job.settings(sitting.id, stage.name)) if sitting else {}

    def _settings(self):
        stages, joined = {}, {}
        for stage in STAGES:
            if stage.name == "deliver" or not stage.Settings.model_fields or (stage.name == "join" and not self.row):
                continue
            mine, whole = self._of(self.first, stage), self._of(self.row, stage)
            if stage.name in ("surface", "texture") and not (
                mine or whole or self.job.result(self.final.id, stage.name)
            ):
                continue  # it was not wanted here, and is not run by the recipe either
            if self.row and stage.name in OF_JOINED:
                if stage.applies(self.first) and (
                    self.job.settings(self.first.id, stage.name) or self.job.result(self.first.id, stage.name)
                ):
                    if whole != mine:
                        joined[stage.name] = whole
                else:
                    mine = whole
            stages[stage.name] = mine
            for other in self.others:
                differing = {
                    k for k in {*mine, *self._of(other, stage)} if mine.get(k) != self._of(other, stage).get(k)
                }
                if stage.applies(other) and differing and stages[stage.name] is not whole:
                    titles = ", ".join(stage.Settings.model_fields[k].title or k for k in sorted(differing))
                    self.left.append(
                        f"“{other.name}” has {stage.title} set otherwise ({titles}): the recipe has it as "
                        f"“{self.first.name}” does."
                    )
            self._say_own(stage)
        return stages, joined

    def _say_own(self, stage):
        for s in self.all:
            values = self.job.settings(s.id, stage.name)
            if stage.name == "masks":
                method = parse_settings(stage, values).method
                if (method == "files" and values.get("folder")) or (method == "plate" and values.get("plates")):
                    what = "masks" if method == "files" else "plates"
                    sentence = f"Where {what} lie is left out: the folder “{what}” beside the photos is taken."
                    if sentence not in self.left:
                        self.left.append(sentence)
            elif values.get("leave_out") and "leave_out" in stage.Settings.model_fields:
                self.left.append(f"{stage.title}: what is left out of the photos of “{s.name}” by name is not kept.")

    def _stand(self):
        s = next((x for x in (self.final, self.first) if x and level_of(self.job, x)), None)
        level = level_of(self.job, s) if s else None
        if not level:
            return None
        up, out, lost = level.get("up") or {}, {}, []
        if "ends" in up and all(map(is_number, up["ends"])):
            out["up"] = tuple(up["ends"])
        elif "axis" in up:
            out["up"] = "turntable"
        elif up.get("box"):
            out["up"] = "box"
        elif up:
            lost.append("which side is up")
        along, origin = level.get("along"), level.get("origin")
        if along and all(map(is_number, along)):
            out["along"] = tuple(along)
        elif along:
            lost.append("the direction of x")
        if origin == "box" or is_number(origin):
            out["origin"] = origin
        elif origin is not None:
            lost.append("the origin")
        if lost:
            told = " and ".join(lost)
            self.left.append(f"How “{s.name}” stands: {told} came from places on this object, and is left out.")
        return out or None

    def _lengths(self):
        out, marked = [], 0
        for k in self.job.lengths(self.final.id) if self.final else ():
            if is_number(k.first) and is_number(k.second):
                row = {"first": k.first, "second": k.second, "mm": k.value_mm, "sigma_mm": k.sigma_mm, "role": k.role}
                out.append(row)
            else:
                marked += 1
        if marked:
            self.left.append(f"{marked} known lengths between marked points are left out: they are of this object.")
        return tuple(out)

    def _targets(self):
        out = {}
        for number, role in sorted(self.job.target_roles().items()):
            out.setdefault(role, []).append(int(number))
        return {role: tuple(numbers) for role, numbers in out.items()}

    def _steps(self, kind, what):
        if self.final is None:
            return ()
        book = BOOKS["clean" if kind == "cloud" else "mend"]
        kept = self.job.cloud(self.final.id) if kind == "cloud" else self.job.surface(self.final.id)
        steps = [s.step for s in kept.steps] if kept else []
        out = [s for s in steps if not book.by_name[s["filter"]].hidden]
        if len(out) < len(steps):
            n = len(steps) - len(out)
            self.left.append(f"{n} steps of {what} that were drawn on “{kept.name}” are left out.")
        return tuple(book.check({k: v for k, v in s.items() if k not in ("frame", "box", "did")}) for s in out)

    def _deliveries(self):
        done = self.job.result(self.final.id, "deliver") if self.final else None
        out = []
        for made in done.figures.made if done else ():
            row = delivery_of({**made.settings, "purpose": made.purpose})
            if row not in out:
                out.append(row)
        return tuple(out)

    def _say_rest(self):
        job, kinds = self.job, []
        rows = [*self.all, *job.joined_rows()]
        if any(job.keep_box(s.id) for s in rows):
            self.left.append("A keep box that was set by hand is left out: one is fitted to each object.")
        for words, has in (
            ("masks drawn by hand", lambda s: job.hand_masks(s.id)),
            ("marked points", lambda s: job.marked_points(s.id)),
            ("tie points that were removed", lambda s: job.removed(s.id)),
            ("picks", lambda s: s.members and job.picks(s.id)),
            ("measurements", lambda s: job.measurements(s.id)),
            ("sections", lambda s: job.sections(s.id)),
            ("photos that were set aside", lambda s: any(p.aside and not p.plate for p in job.photos(s.id))),
        ):
            if any(has(s) for s in rows):
                kinds.append(words)
        if kinds:
            self.left.append(f"Of this object alone, and left out: {', '.join(kinds)}.")


def recipe_of_job(job, name, sitting=None, stages=None):
    """The Recipe of a job, and sentences about what is not in it.

    sitting : whose settings are taken; the first one's where not given, with those of its joined row
    stages : names of the stages to take alone

    Raises
    ------
    UmbrateError
        Where the job has no sittings.
    """
    if not job.photo_sittings():
        raise UmbrateError(f"{job.name} has no sittings yet: there is nothing to make a recipe of.")
    taking = Taking(job, sitting)
    recipe = taking.recipe(name)
    return (recipe.only(stages) if stages else recipe), taking.left
