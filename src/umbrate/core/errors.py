"""Errors that people can meet. Each carries one sentence that says what is wrong and what to do."""


class UmbrateError(Exception):
    """The base of every error a person can meet: its text is meant to be shown as it is."""


class Cancelled(UmbrateError):
    """The work was stopped on request; finished results stay."""

    def __init__(self, text="Stopped on request. What was finished before is kept."):
        super().__init__(text)
