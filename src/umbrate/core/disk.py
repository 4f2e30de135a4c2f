"""What a file system is asked for, besides files."""

import os


def sync_folder(path):
    """Write a folder to the disk, so that a file that was renamed in it has its new name after a power cut, too.

    Some file systems cannot (of a network, or mounted by a user's program): nothing is raised then.
    """
    try:
        fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
    except OSError:
        return
    try:
        os.fsync(fd)
    except OSError:
        pass
    finally:
        os.close(fd)
