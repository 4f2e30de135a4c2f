"""Choices and explanations that come from the program's own tables, read when they are needed."""

import click


class ChoiceOf(click.Choice):
    """One of some names, which `make()` gives when a value is to be checked or help is shown."""

    def __init__(self, make):
        self._make, self.case_sensitive = make, True

    @property
    def choices(self):
        """The names."""
        return tuple(self._make())


class Explained(click.Command):
    """A command whose help ends with what `explain()` gives."""

    def __init__(self, *arguments, explain, **more):
        super().__init__(*arguments, **more)
        self._explain = explain

    def format_epilog(self, ctx, formatter):
        formatter.write_paragraph()
        formatter.write_text(self._explain())
