"""A stage: the unit of everything that is computed.

A stage states what it needs, what can be set, and how it runs. The bench's form, the command line's
options, the Board's columns and the ledger are all made from that, so nothing about a stage is
written twice.
"""

import hashlib
import json
from contextlib import closing
from dataclasses import dataclass, field
from enum import Enum
from typing import Any, ClassVar, get_args

from pydantic import BaseModel, ConfigDict, ValidationError

from ..core.errors import UmbrateError
from ..job.figures import Figures
from .executor import LocalExecutor


class StageSettings(BaseModel):
    """Base of all settings: unknown names are refused, so that a typing error does not pass silently."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


def only(setting, *values, **extra):
    """What a field's ``json_schema_extra`` says of a field that counts only where another has one of some values.

    extra : `kind` of editor, `unit`, `labels` of the choices, what `empty` stands for, `short` for fields that do not
        fold away; `later` for one that came after results were made without it, which hold as long as it is left as it
        is; `named` for the name of something whose content the stage's key has: another name changes no result; `own`
        for what means something with one object only, and goes into no recipe
    """
    return {"when": {setting: values}, **extra}


@dataclass
class Outcome:
    """What a run leaves behind.

    Attributes
    ----------
    figures : Figures
        For the Board, the bench, the ledger and the report.
    artefacts : dict of (name, photo id or None) to blob key
    problems : list of dict
        ``{"photo": id or None, "name": str, "text": sentence, "hint": sentence}``.
    """

    figures: Figures
    artefacts: dict = field(default_factory=dict)
    problems: list = field(default_factory=list)
    seen: dict = field(default_factory=dict)  #: what was seen of files, by the hash of their content (`Job.seen`)


PROBLEM_KINDS = {
    "soft": "Soft",
    "mask": "Odd mask",
    "unreadable": "Unreadable",
    "bare": "Bare backdrop",
    "lens": "Other lens",
    "slip": "Slipped",
}


def problem(photo, text, hint="", kind="", remedy=None):
    """One entry of `Outcome.problems`; `photo` is anything with id and name, or None.

    kind : "soft" where the photo's sharpness is the matter, which can be shown; "bare" for bare frames, which can be
    split at
    remedy : what the hint's button does, as that of an `UmbrateError`
    """
    name = photo.name if photo else ""
    return {
        "photo": photo.id if photo else None,
        "name": name,
        "text": text,
        "hint": hint,
        "kind": kind,
        "remedy": remedy,
    }


@dataclass(frozen=True)
class Forecast:
    """What is known of a run before it is made: a sentence, whether all is well, and what would mend it."""

    text: str
    good: bool = True
    remedy: tuple | None = None


@dataclass(frozen=True)
class Histogram:
    """Counts to draw as bars: `edges` has one value more than `counts`.

    Where what lies below a setting is left out, `setting` names it: a line stands there, and can be dragged.
    """

    title: str
    axis: str
    edges: list
    counts: list
    setting: str = ""


class Report:
    """How a running stage speaks: progress, live data, and the question whether to stop.

    This base runs in the caller's process and says nothing; the worker's says it through a pipe.
    """

    def __init__(self, executor=None):
        self.executor = executor or LocalExecutor()

    def check(self):
        """Raise Cancelled where the run shall stop."""

    def progress(self, fraction, sentence, **figures):
        """Say how far the run is, in words and with figures for people."""

    def live(self, name, data):
        """Hand out something to look at while the run goes on (picklable)."""

    def map(self, function, items, sentence, start=0.0, end=1.0, each=None, memory=0):
        """Apply a work item (see `executor`) to every item; results in the order of `items`.

        each : callable(item, value), optional
            Called as results come in.
        memory : bytes that an item takes
        """
        items = list(items)
        out = []
        self.check()
        with closing(self.executor.map(function, items, memory)) as results:
            for value in results:
                out.append(value)
                if each:
                    each(items[len(out) - 1], value)
                text = f"{sentence} {len(out)} of {len(items)}{self.executor.told}"
                self.progress(start + (end - start) * len(out) / len(items), text)
        return out


class Share(Report):
    """What a part of a run speaks through: its progress is that of the whole between two fractions.

    prefix : put before each of its sentences
    """

    def __init__(self, whole, start, end, prefix=""):
        super().__init__(whole.executor)
        self.whole, self.start, self.end, self.prefix = whole, start, end, prefix

    def check(self):
        self.whole.check()

    def progress(self, fraction, sentence, **figures):
        self.whole.progress(self.start + (self.end - self.start) * fraction, self.prefix + sentence, **figures)

    def live(self, name, data):
        self.whole.live(name, data)


class Shown(Enum):
    """What a stage can have the window show."""

    MASKS = "the masks, with the tools to draw them"
    CALIBRATION = "the sightings of a calibration, in the photo"
    DEPTH = "depth maps, over the photo"
    CLOUDS = "the clouds of the sitting"
    SURFACES = "the surfaces of the sitting"
    TEXTURE = "the texture of the surface"
    OVERLAY = "the sittings of a join, laid over each other"
    LENGTHS = "known lengths"
    POINTS = "points that are marked in photos"


class Stage:
    """Base of all stages. One subclass a module; `stages.STAGES` lists them in order."""

    name: ClassVar[str]  #: as the command line and the job write it
    title: ClassVar[str]  #: as people read it
    needs: ClassVar[tuple] = ()  #: stages whose results it reads
    takes: ClassVar[tuple] = ()  #: stages that run before it where they have something to do, see `invited`
    tells_others: ClassVar[bool] = False  #: whether other sittings profit from it: it is run in all before what follows
    reads: ClassVar[str] = "photos"  #: what `key` covers, for people
    Settings: ClassVar[type[StageSettings]]
    about: ClassVar[str]  #: what it does, in a sentence
    when_stopped: ClassVar[str] = (
        "Results of the steps before are saved. This one keeps nothing of what it did so far, and starts anew."
    )
    needs_preview: ClassVar[tuple] = ()  #: values of the setting `method` that can be tried on a few photos first
    modes: ClassVar[dict] = {}  #: other ways to run it than the usual one, and what each does; `gather` takes one
    only_asked: ClassVar[bool] = False  #: whether it runs only where somebody names it, not with all others
    uses_keep_box: ClassVar[bool] = False  #: whether the keep box is set beside it
    Figures: ClassVar[type[Figures]]
    of_members: ClassVar[bool] = False  #: whether a joined row has the results of its members, `merged`, for its own
    keeps: ClassVar[str] = ""  #: what stays besides a result: "cloud", "surface" or "join" (see `Job.commit_result`)
    shows: ClassVar[frozenset] = frozenset()  #: what the window shows while it is chosen, some of `Shown`
    version: ClassVar[int] = 1  #: of its algorithm: raised when it computes something else from the same things

    def applies(self, sitting):
        """Whether it is computed with a sitting: of a joined row, what needs its photos is its members' business."""
        return True

    def names_for(self, job, sitting, setting):
        """What a setting that takes a name can name, as things stand in the job; None where anything goes."""
        return None

    def counts(self, sitting, setting):
        """Whether a setting changes anything for a sitting."""
        return True

    def about_of(self, sitting):
        """What it does with a sitting, in a sentence."""
        return self.about

    def modes_of(self, sitting):
        """The `modes` that there are for a sitting."""
        return self.modes

    def as_next(self, sitting):
        """What running it is called where it is the next thing to do."""
        return f"run {self.title}"

    def then_of(self, sitting):
        """Stages that are run in one go with it, where they have something to do (see `invited`)."""
        return ()

    def takes_of(self, job, sitting):
        """What runs before it where it has something to do: (sitting, stage name)."""
        return [(sitting, name) for name in self.takes]

    def needs_of(self, sitting):
        """Stages whose results it reads of a sitting."""
        return self.needs

    def needs_in(self, job, sitting):
        """Those of `needs_of` that it reads as things stand in the job."""
        return self.needs_of(sitting)

    def gather(self, job, sitting, settings, mode="") -> Any:
        """Everything `run` needs, picklable. Raises UmbrateError where something is missing.

        mode : one of `modes`; the usual way where not given
        """
        raise NotImplementedError

    def key(self, job, sitting, settings) -> list:
        """What the result depends on besides settings and the results it reads: JSON values."""
        raise NotImplementedError

    def outdated(self, job, sitting, done, is_current) -> str:
        """Why a Result does not hold any more although its fingerprint agrees, in a few words; else "".

        is_current : callable(sitting, stage name)
            Whether another result holds.
        """
        return ""

    def run(self, inputs, settings, report) -> Outcome:
        """Do the work. Pure: the same inputs and settings give the same outcome."""
        raise NotImplementedError

    def invited(self, job, sitting, settings):
        """Whether there is something for the stage to do that others would profit from (see `takes`)."""
        return False

    def forecast(self, job, sitting, settings):
        """What can be said of a run at once, without computing: a Forecast, or None."""
        return None

    def preview(self, inputs, settings, photo_ids, report) -> dict:
        """What a run would make of a few photos, by photo id; nothing is kept. Only where `needs_preview`."""
        raise NotImplementedError

    def ends_here(self, figures) -> bool:
        """Whether nothing further is wanted of the photos, as of photos of calibration sheets."""
        return False

    def can_go_on(self, figures) -> bool:
        """Whether there is something that `modes` can start from."""
        return False

    def headline(self, figures) -> tuple:
        """Two short texts for the Board: the key figure, and what matters second."""
        raise NotImplementedError

    def headline_of(self, job, sitting, done) -> tuple:
        """The headline of a Result, with what people changed since."""
        return self.headline(done.figures)

    def without_result(self, job, sitting):
        """What the Board says where there is no result and still something, two short texts; else None."""
        return None

    def histogram(self, figures):
        """What is drawn beside the figures: a Histogram, or None."""
        return None

    def left_at(self, figures, value):
        """Where the histogram names a setting: what another value of it would leave, in words."""
        raise NotImplementedError

    def merged(self, figures) -> Figures:
        """Figures of several sittings as those of a row joined from them; only where `of_members`."""
        raise NotImplementedError


def choice_text(choice, extra):
    """What a choice of a field is called: its own label, or its number with the unit before it."""
    if "labels" in extra:
        return extra["labels"][choice]
    if "unit" in extra:
        return "full" if choice == 1 else f"{extra['unit']}{choice}"
    return str(choice)


def value_text(stage, field, value):
    """A value of a setting as the bench shows it."""
    f = stage.Settings.model_fields[field]
    extra = f.json_schema_extra or {}
    if isinstance(value, bool):
        return "on" if value else "off"
    if get_args(f.annotation) and not isinstance(value, dict) and value in get_args(f.annotation):
        return choice_text(value, extra)
    if value == "" or value == {}:
        return extra.get("empty", "nothing")
    unit = extra.get("unit", "")
    return f"{value:,} {unit}".strip() if isinstance(value, int | float) else str(value)


def value_of_text(stage, name, text):
    """The plain value of a setting from a text: a choice as the bench calls it (1/2), else JSON, else the text."""
    field = stage.Settings.model_fields.get(name)
    choices = get_args(field.annotation) if field else ()
    extra = (field.json_schema_extra or {}) if field else {}
    if choices and ("labels" in extra or "unit" in extra):
        for c in choices:
            if c is not type(None) and text.strip().lower() == choice_text(c, extra).lower():
                return c
    try:
        return json.loads(text)
    except ValueError:
        return text


class WrongSetting(UmbrateError):
    """A setting that is none, or a value that it does not take; `field` is its name."""

    def __init__(self, message, field):
        super().__init__(message)
        self.field = field


def parse_settings(stage, values):
    """Settings of a stage from plain values; raises WrongSetting with the field and what it takes."""
    try:
        return stage.Settings(**values)
    except ValidationError as e:
        first = e.errors()[0]
        where = ".".join(str(x) for x in first["loc"]) or "settings"
        known = ", ".join(stage.Settings.model_fields)
        field = str(first["loc"][0]) if first["loc"] else ""
        if first["type"] == "extra_forbidden":
            raise WrongSetting(f"{stage.title} has no setting “{where}”. It has: {known}.", field) from None
        told = f"{stage.name}.{where}: {first['msg']} (given: {first['input']!r})."
        raise WrongSetting(told, field) from None


def own_fields(stage):
    """Names of the settings of a stage that mean something with one object only: places of files, names in the job."""
    extras = {n: f.json_schema_extra or {} for n, f in stage.Settings.model_fields.items()}
    return {n for n, x in extras.items() if x.get("own") or x.get("named") or x.get("kind") == "folder"}


def settings_of(job, sitting, stage):
    """The settings chosen for a stage of a sitting; raises UmbrateError as `parse_settings` does."""
    return parse_settings(stage, job.settings(sitting.id, stage.name))


def chosen(settings, values=None):
    """Settings as plain values, or other `values` of the same stage: those that came later only where they are not left
    as they are, names of things as if none were given."""
    values = settings.model_dump(mode="json") if values is None else values
    fields = type(settings).model_fields
    extras = {n: f.json_schema_extra or {} for n, f in fields.items()}
    left = {n for n, x in extras.items() if x.get("later") and values.get(n) == fields[n].default}
    named = {n: fields[n].default for n, x in extras.items() if x.get("named") and n in values}
    return {n: v for n, v in {**values, **named}.items() if n not in left}


def fingerprint(stage, job, sitting, settings, lookup):
    """Hash of everything a result depends on. `lookup(name)` gives the fingerprint of a stage it reads."""
    text = json.dumps(
        [
            # results of a first version were kept without its number
            stage.name if stage.version == 1 else f"{stage.name} {stage.version}",
            chosen(settings),
            stage.key(job, sitting, settings),
            [lookup(n) for n in stage.needs_in(job, sitting)],
        ],
        sort_keys=True,
    )
    return hashlib.sha256(text.encode()).hexdigest()
