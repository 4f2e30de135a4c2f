"""All lenses of the job, with how well they are known."""

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ...sitting.knownlenses import lenses_known
from ..plain import Label
from .markedpoints import cell, table


class LensList(QWidget):
    """Part of the bench of Lens: a line for each lens of each sitting, and all parameters of the chosen one."""

    def __init__(self, session):
        super().__init__()
        self.session, self.rows = session, None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.table = table(("Sitting", "Focal length, px", "Apart, px"), stretch=0)
        self.table.setAccessibleName("Lenses of the job")
        self.table.itemSelectionChanged.connect(self._tell)
        column.addWidget(self.table, 1)
        self.told = Label(objectName="quiet")
        self.told.setWordWrap(True)
        column.addWidget(self.told)

    def showEvent(self, e):
        """The lenses are read when somebody looks at them."""
        if self.rows is None:
            self._fill(lenses_known(self.session.job))
        super().showEvent(e)

    def _fill(self, rows):
        self.rows = rows
        self.table.setRowCount(len(rows))
        for k, x in enumerate(rows):
            sd = f" ± {x.sigma['f']:.2f}" if "f" in x.sigma else ""
            apart = f"{x.apart_px:.2f}" if x.apart_px is not None else "-"
            tip = f"{x.group}: {x.photos} photos, {x.source}"
            if x.apart_px is not None:
                tip += f". At most {apart} px from the lens of {x.apart_from}, over the picture"
            for c, text in enumerate((x.sitting, f"{x.lens.f:.2f}{sd}", apart)):
                self.table.setItem(k, c, cell(text, k, right=c > 0, tip=tip))
        mine = next((k for k, x in enumerate(rows) if x.sitting_id == self.session.sitting_id), 0)
        if rows:
            self.table.selectRow(mine)
        else:
            self.told.setText("No lens is known yet. It is solved with the poses, calibrated, or of a lens card.")

    def _tell(self):
        chosen = self.table.selectionModel().selectedRows()
        if not chosen:
            return
        x = self.rows[chosen[0].row()]
        held = f" Held: {', '.join(f'{n} {v:g}' for n, v in x.held.items())}." if x.held else ""
        values = "\n".join(f"{n}  {text}" for n, text in x.lines())
        self.told.setText(f"{x.group}\n{x.photos} photos, {x.source}.{held}\n{values}")
