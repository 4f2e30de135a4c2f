"""Errors that people can meet. Each carries a sentence that says what is wrong and what to do."""


class UmbrateError(Exception):
    """The base of every error a person can meet: its text is meant to be shown as it is.

    Parameters
    ----------
    text : str
    remedy : tuple of str, optional
        What would mend it, for a button: ``("bring in photos",)``, ``("find photos",)``, ``("go to", STAGE)``,
        ``("fit the keep box",)``, ``("mend", STEP)``, ``("thin walls", LIMIT)``,
        ``("run again",)`` or ``("set", SETTING, VALUE)`` for a setting of the stage that failed.
    """

    def __init__(self, text, remedy=None):
        super().__init__(text)
        self.remedy = remedy

    def __reduce__(self):
        return type(self), (str(self), self.remedy)


class Cancelled(UmbrateError):
    """The work was stopped on request; finished results stay."""

    def __init__(self, text="Stopped on request. What was finished before is kept.", remedy=None):
        super().__init__(text, remedy)


class CannotKeep(UmbrateError):
    """What was made cannot be kept: the disk is full, or may not be written to. No fault of what is worked on."""


class NothingHere(UmbrateError):
    """What was asked for is not here, such as a support to take away: nothing is wrong, and there is nothing to do."""


class WouldReplace(UmbrateError):
    """Files are there already; nothing was written. The same again with a gate that replaces goes on.

    Attributes
    ----------
    paths : list of Path
    """

    def __init__(self, text, remedy=None, paths=()):
        super().__init__(text, remedy)
        self.paths = list(paths)

    def __reduce__(self):
        return type(self), (str(self), self.remedy, self.paths)
