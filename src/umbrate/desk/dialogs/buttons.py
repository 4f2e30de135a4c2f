"""The buttons at the foot of a dialog."""

from PyQt6.QtWidgets import (
    QDialogButtonBox,
)


def accept_or_cancel(dialog, accept):
    """The foot of a dialog: the button to go on, named for what it does, and Cancel."""
    buttons = QDialogButtonBox()
    buttons.addButton(accept, QDialogButtonBox.ButtonRole.AcceptRole).setObjectName("next")
    buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons
