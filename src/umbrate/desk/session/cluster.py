"""Which cluster helps with long steps, as this user chose it."""

from PyQt6.QtCore import QSettings


def chosen_cluster():
    """The address of the scheduler that is used, or nothing."""
    return str(QSettings("umbrate", "umbrate").value("cluster", "") or "")


def choose_cluster(session, address):
    """Compute with the workers of the scheduler at an address from now on; with none where that is empty."""
    QSettings("umbrate", "umbrate").setValue("cluster", address)
    if session.queue is not None:
        session.queue.cluster = address
