"""What a recipe is: settings by stage, steps, how sittings are joined, what is delivered; checked part by part."""

from dataclasses import dataclass, field, replace
from typing import get_args

from ...actions.mends import MENDING
from ...actions.steps import CLEANING
from ...core.errors import UmbrateError
from ...core.names import plain_name
from ...job.joins import ON_OBJECT, ON_SUPPORT
from ...job.lengths import ROLES
from ...job.marks import good_number
from ...stages import BY_NAME, STAGES
from ...stages.base import WrongSetting, own_fields, parse_settings, value_of_text
from ...stages.deliver.stage import values_of

VERSION = 1
UPS = ("mat", "turntable", "box")  #: rules that stand an object up; else numbers of targets
BOOKS = {"clean": CLEANING, "mend": MENDING}
TEXTS = ("name", "about", "assumes", "costs")
PARTS = (*TEXTS, "until", "together", "stand", "length", "targets", *BOOKS)  #: besides stages
OF_JOINED = ("poses", "scale", "join", "cloud", "surface", "texture")  #: stages that a joined row has settings of
MOST_ROWS = 500  #: of a list in a recipe: none that people wrote has more


@dataclass(frozen=True)
class Recipe:
    """A recipe. Stages that it does not name are left as they are; settings that a stage's part leaves out, by default.

    Attributes
    ----------
    name, about, assumes, costs : str
        What it is called, is for, takes for granted, and what it takes in time and memory.
    until : str
        The last stage that is run by it.
    together : bool or None
        Whether the sittings are joined, and what follows is made of the whole; None leaves that as it is.
    stages, joined : dict of str to dict
        Settings that differ from the default, by stage; of joined rows where they have others.
    stand : dict or None
        ``up``: one of `UPS` or numbers of targets as texts, ``along``: two of those, ``origin``: one, or "box".
    lengths : tuple of dict
        Known lengths between targets: first, second, mm, sigma_mm, role.
    targets : dict of str to tuple
        Numbers of targets on the object, and on what supports it.
    clean, mend : tuple of dict
        Steps, as `actions.stepbook` has them.
    deliver : tuple of dict
        Settings of the Deliver stage, one for each delivery.
    """

    name: str
    about: str = ""
    assumes: str = ""
    costs: str = ""
    until: str = "cloud"
    together: bool | None = None
    stages: dict = field(default_factory=dict)
    joined: dict = field(default_factory=dict)
    stand: dict | None = None
    lengths: tuple = ()
    targets: dict = field(default_factory=dict)
    clean: tuple = ()
    mend: tuple = ()
    deliver: tuple = ()

    def of(self, stage_name, joined):
        """Settings of a stage, of a joined row or of another sitting; None where the recipe leaves them alone."""
        return self.joined.get(stage_name, self.stages.get(stage_name)) if joined else self.stages.get(stage_name)

    def only(self, names):
        """The part of it that these stages take."""
        kept = {n: v for n, v in self.stages.items() if n in names}
        last = [s.name for s in STAGES if s.name in names]
        changes = {
            "stages": kept, "joined": {n: v for n, v in self.joined.items() if n in names},
            "until": last[-1] if last else self.until, "together": self.together if "join" in names else None,
        }  # fmt: skip
        if "scale" not in names:
            changes |= {"lengths": (), "stand": None}
        if "join" not in names:
            changes["targets"] = {}
        for stage, part in (("cloud", "clean"), ("surface", "mend"), ("deliver", "deliver")):
            if stage not in names:
                changes[part] = ()
        return replace(self, **changes)


def changed_settings(stage, values):
    """Settings of a stage as a recipe keeps them: plain, those that differ from the default and go for any object."""
    own, plain = own_fields(stage), parse_settings(stage, values).model_dump(mode="json")
    default = stage.Settings().model_dump(mode="json")
    return {n: v for n, v in plain.items() if n not in own and v != default[n]}


def delivery_of(values):
    """Settings of one delivery as a recipe keeps them: what counts for its purpose and differs from the default."""
    stage = BY_NAME["deliver"]
    settings = parse_settings(stage, values)
    counts = values_of(settings)
    kept = {k: v for k, v in changed_settings(stage, values).items() if k in counts}
    return {"purpose": settings.purpose, **kept}


class Checking:
    """Checks what a recipe's file holds, part by part.

    told : callable(path, sentence) -> UmbrateError
        The error of a sentence about a place, such as ``("cloud", "photo_scale")`` or ``("clean", 0, "least")``.
    """

    def __init__(self, told):
        self.told = told

    def recipe(self, data):
        """The Recipe of plain data.

        Raises
        ------
        UmbrateError
            Where anything in it is unknown or not what it takes.
        """
        self._head(data)
        stages = {s.name for s in STAGES}
        for key in data:
            if key not in stages and key not in (*PARTS, "umbrate", "version", "joined"):
                known = ", ".join([*PARTS, "joined", *(s.name for s in STAGES)])
                raise self.told((key,), f"a recipe has no part “{key}”. It has: {known}.")
        texts = {k: self._text((k,), data[k]) for k in TEXTS if k in data}
        try:
            texts["name"] = plain_name(texts.get("name", ""), "A recipe")
        except UmbrateError as e:
            raise self.told(("name",), str(e)) from None
        deliver = tuple(self._settings(("deliver", k), "deliver", row) for k, row in self._rows(data, "deliver"))
        steps = {
            name: tuple(self._step((name, k), book, row) for k, row in self._rows(data, name))
            for name, book in BOOKS.items()
        }
        joined = self._table(("joined",), data.get("joined", {}), OF_JOINED)
        return Recipe(
            **texts,
            until=self._until(data),
            together=self._flag(("together",), data["together"]) if "together" in data else None,
            stages={n: self._settings((n,), n, data[n]) for n in stages - {"deliver"} if n in data},
            joined={n: self._settings(("joined", n), n, v) for n, v in joined.items()},
            stand=self._stand(data["stand"]) if "stand" in data else None,
            lengths=tuple(self._length(("length", k), row) for k, row in self._rows(data, "length")),
            targets=self._targets(data.get("targets", {})),
            deliver=deliver,
            **steps,
        )

    def _head(self, data):
        if data.get("umbrate") != "recipe":
            raise self.told((), 'it is no recipe: one begins with umbrate = "recipe".')
        version = data.get("version")
        if not isinstance(version, int) or isinstance(version, bool) or version < 1:
            raise self.told(("version",), f"version = {VERSION} says how it is written; “{version}” is none.")
        if version > VERSION:
            raise self.told(
                ("version",),
                f"it is of version {version}, and this Umbrate reads {VERSION}. Use a newer Umbrate, or save the "
                "recipe anew from a job here.",
            )

    def _until(self, data):
        names = [s.name for s in STAGES]
        until = data.get("until")
        if until is None:
            last = [n for n in names if n in data]
            return last[-1] if last else "cloud"
        if until not in names:
            raise self.told(("until",), f"there is no stage “{until}”. There is: {', '.join(names)}.")
        return until

    def _text(self, path, value):
        if not isinstance(value, str):
            raise self.told(path, f"“{path[-1]}” takes a text in quotes, not {value!r}.")
        return value.strip()

    def _flag(self, path, value):
        if not isinstance(value, bool):
            raise self.told(path, f"“{path[-1]}” takes true or false, not {value!r}.")
        return value

    def _table(self, path, value, known):
        if not isinstance(value, dict):
            raise self.told(path, f"“{path[-1]}” is a part with lines of its own: write [{'.'.join(map(str, path))}].")
        for k in value:
            if k not in known:
                raise self.told((*path, k), f"“{k}” is not known here. Known: {', '.join(known)}.")
        return value

    def _rows(self, data, name):
        rows = data.get(name, [])
        if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
            raise self.told((name,), f"“{name}” is a list: each of its parts begins with [[{name}]].")
        if len(rows) > MOST_ROWS:
            raise self.told((name,), f"“{name}” has {len(rows)} parts; at most {MOST_ROWS} are read.")
        return list(enumerate(rows))

    def _settings(self, path, name, values):
        stage = BY_NAME[name]
        if not isinstance(values, dict):
            raise self.told(path, f"“{name}” is a stage: its settings follow a line [{name}].")
        for k in values:
            if k in own_fields(stage):
                raise self.told((*path, k), f"“{k}” means something with one object only; a recipe cannot have it.")
        choice = {k for k, f in stage.Settings.model_fields.items() if get_args(f.annotation)}
        plain = {k: value_of_text(stage, k, v) if k in choice and isinstance(v, str) else v for k, v in values.items()}
        try:
            kept = changed_settings(stage, plain)
        except WrongSetting as e:
            raise self.told((*path, e.field), str(e)) from None
        return delivery_of(plain) if name == "deliver" else kept

    def _step(self, path, book, row):
        row = dict(row)
        name = row.pop("by", None)
        f = book.by_name.get(name) if isinstance(name, str) else None
        if f is None or f.hidden:
            known = ", ".join(f.name for f in book.filters if not f.hidden)
            why = "is drawn by hand, on one object" if f else "is none"
            raise self.told((*path, "by"), f"by = “{name}” {why}. There are: {known}.")
        try:
            return book.check({"filter": name, **row})
        except UmbrateError as e:
            bad = next((k for k in row if k != "keep" and k not in {v.name for v in f.values}), None)
            if bad is None:
                bad = next((v.name for v in f.values if v.name in row and v.title in str(e)), "by")
            raise self.told((*path, bad), str(e)) from None

    def _number(self, path, value):
        """The number of a target, as the text it is kept as."""
        if isinstance(value, bool) or not str(value).isdigit():
            raise self.told(path, f"“{value}” is no number of a target.")
        return str(int(value))

    def _stand(self, value):
        table = self._table(("stand",), value, ("up", "along", "origin"))
        out = {}
        if "up" in table:
            up = table["up"]
            if isinstance(up, list) and len(up) >= 3:
                up = tuple(self._number(("stand", "up"), n) for n in up)
            elif up not in UPS:
                known = ", ".join(f"“{u}”" for u in UPS)
                raise self.told(("stand", "up"), f"up is {known}, or a list of three or more numbers of targets.")
            out["up"] = up
        if "along" in table:
            along = table["along"]
            if not isinstance(along, list) or len(along) != 2:
                raise self.told(("stand", "along"), "along takes the numbers of two targets, such as [161, 163].")
            out["along"] = tuple(self._number(("stand", "along"), n) for n in along)
        if "origin" in table:
            o = table["origin"]
            out["origin"] = o if o == "box" else self._number(("stand", "origin"), o)
        return out

    def _length(self, path, row):
        table = self._table(path, row, ("first", "second", "mm", "sigma_mm", "role"))
        out = {k: self._number((*path, k), table.get(k, "")) for k in ("first", "second")}
        if out["first"] == out["second"]:
            raise self.told((*path, "second"), "a length needs two different targets.")
        for k, default in (("mm", None), ("sigma_mm", 0.05)):
            try:
                out[k] = good_number(table.get(k, default), k)
                if not 0 < out[k] < 1e7:
                    raise UmbrateError("")
            except (UmbrateError, TypeError, ValueError):
                told = f"{k} = {table.get(k)!r} is no length: a number over 0, in mm."
                raise self.told((*path, k), told) from None
        out["role"] = table.get("role", ROLES[0])
        if out["role"] not in ROLES:
            raise self.told((*path, "role"), f"a length is for: {', '.join(ROLES)}; not “{out['role']}”.")
        return out

    def _targets(self, value):
        names = {"on_object": ON_OBJECT, "on_support": ON_SUPPORT}
        table = self._table(("targets",), value, tuple(names))
        out = {}
        for k, numbers in table.items():
            if not isinstance(numbers, list):
                raise self.told(("targets", k), f"{k} takes a list of numbers, such as [12, 13].")
            out[names[k]] = tuple(int(self._number(("targets", k), n)) for n in numbers)
        return out
