"""Folders dropped onto a dialog."""


class TakesFolders:
    """Mixed into a dialog with `take_folder`, which is called with each folder or file that is dropped on it."""

    def dragEnterEvent(self, e):
        if any(u.isLocalFile() for u in e.mimeData().urls()):
            e.acceptProposedAction()

    def dropEvent(self, e):
        for u in e.mimeData().urls():
            self.take_folder(u.toLocalFile())
