"""Figures of a result: a model with names, units and meanings.

A stage describes its figures once. The Board, the bench, the ledger, the report and the command line's ``--json`` are
made from that description, and nobody looks up a figure by a text that may be misspelled.
"""

import logging
from typing import ClassVar

from pydantic import BaseModel, ConfigDict, Field

log = logging.getLogger(__name__)


def figure(default=..., *, title, meaning, unit="", form=""):
    """A figure that people read.

    Parameters
    ----------
    default : optional
        For results of versions that did not have it yet.
    title, unit, meaning : str
    form : str
        How the number is written, as `format` takes it: ``,`` or ``.2f``.
    """
    return Field(default, title=title, description=meaning, json_schema_extra={"unit": unit, "form": form})


class Part(BaseModel):
    """A group of figures, such as those of one photo."""

    model_config = ConfigDict(extra="ignore")


class Figures(Part):
    """Base of the figures of a stage."""

    LINES: ClassVar[tuple] = ()  #: what is listed for people: figures, and methods that give a line or None

    def rows(self):
        """Lines for people: (title, text with its unit, meaning)."""
        lines = (self._line(n) if n in type(self).model_fields else getattr(self, n)() for n in self.LINES)
        return [x for x in lines if x is not None]

    def _line(self, name):
        f, value = type(self).model_fields[name], getattr(self, name)
        how = f.json_schema_extra
        return None if value is None else (f.title, f"{value:{how['form']}} {how['unit']}".rstrip(), f.description)

    @classmethod
    def described(cls):
        """What each figure is that people read: {name: {"title", "unit", "meaning"}}."""
        return {
            name: {"title": f.title, "unit": f.json_schema_extra["unit"], "meaning": f.description}
            for name, f in cls.model_fields.items()
            if f.title
        }


#: the models of the stages' figures by the names of the stages, which the stages put here
MODELS = {}


def read_figures(stage, values):
    """Figures of a stage from plain values, or None where they are something else; as they are of an unknown stage."""
    if not MODELS:
        raise RuntimeError("umbrate.stages describes the figures: import it before results are read")
    model = MODELS.get(stage)
    if model is None:
        return values
    try:
        return model.model_validate(values)
    except ValueError as e:
        log.warning("figures of %s cannot be read: %s", stage, e)
        return None


def plain_figures(figures):
    """Figures as plain values, as they are stored."""
    return figures.model_dump(mode="json", by_alias=True) if isinstance(figures, BaseModel) else figures
