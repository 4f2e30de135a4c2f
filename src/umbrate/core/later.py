"""Libraries that few calls need, imported when they are first used: nobody else waits for them."""

import importlib
import types


class Later(types.ModuleType):
    """A module by its name, imported when something of it is asked for; several threads may ask at once."""

    def __getattr__(self, name):
        if name.startswith("__"):
            raise AttributeError(name)
        return getattr(importlib.import_module(self.__name__), name)
