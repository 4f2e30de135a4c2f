"""What came of a batch: a table (CSV), and one page (HTML) with pictures, figures, warnings and times."""

import base64
import html
import io
from pathlib import Path
from urllib.parse import quote

from PIL import Image

from ...actions.picturing import cloud_picture, surface_picture
from ...core.errors import UmbrateError
from ...formats.files import Gate, written_aside
from ...formats.tables import TableWriter
from ...job.store import Job
from ...stages import STAGES
from .state import DONE, FAILED

CSV, PAGE = "batch.csv", "batch.html"
PICTURE = (480, 360)  #: pixels of a picture on the page
WORDS = {"waiting": "waits", "runs": "runs", DONE: "done", FAILED: "failed"}

STYLE = """
body { font: 14px/1.45 sans-serif; background: #1e2124; color: #e8e4dc; margin: 24px auto; max-width: 1100px;
  padding: 0 16px; }
h1 { font-size: 20px; margin: 0 0 4px; } h2 { font-size: 16px; margin: 0 0 6px; }
p { margin: 4px 0; } .quiet { color: #a3a8ad; } a { color: #d08a3c; }
section { display: grid; grid-template-columns: 300px 1fr; gap: 16px; background: #262a2f; border: 1px solid #3b4148;
  padding: 12px; margin: 12px 0; } section.failed { border-left: 4px solid #d08a3c; }
section.bare { grid-template-columns: 1fr; }
img { width: 300px; height: 225px; object-fit: cover; display: block; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
td, th { text-align: left; padding: 2px 12px 2px 0; vertical-align: top; } th { color: #a3a8ad; font-weight: normal; }
td.n { text-align: right; white-space: nowrap; } ul { margin: 6px 0; padding-left: 18px; }
"""


def results_of(job):
    """Rows of what came of a job: dictionaries of sitting, stage, figures, seconds, problems."""
    out = []
    for s in job.sittings():
        for stage in STAGES:
            done = job.result(s.id, stage.name) if stage.applies(s) else None
            if done is None or (s.members and done.sitting_id != s.id):
                continue
            first, second = stage.headline_of(job, s, done)
            out.append({
                "sitting": s.name, "stage": stage.title, "figures": ", ".join(x for x in (first, second) if x),
                "seconds": round(done.seconds, 1),
                "problems": [" ".join(x for x in (p["text"], p["hint"]) if x) for p in done.problems],
            })  # fmt: skip
    return out


def _picture(job):
    """A JPEG of the best that there is of a job, as base64; "" where nothing can be shown."""
    row = next((s for s in job.sittings() if s.members and job.result(s.id, "join")), None)
    for sitting in [row] if row else job.photo_sittings():
        for draw, there in ((surface_picture, job.surface), (cloud_picture, lambda i: job.result(i, "poses"))):
            try:
                if there(sitting.id):
                    picture = draw(job, sitting, width=PICTURE[0], height=PICTURE[1])
                    out = io.BytesIO()
                    Image.fromarray(picture).save(out, "JPEG", quality=85)
                    return base64.b64encode(out.getvalue()).decode("ascii")
            except UmbrateError:
                continue
    return ""


def _duration(seconds):
    m, s = divmod(round(seconds), 60)
    h, m = divmod(m, 60)
    return f"{h} h {m:02d} min" if h else f"{m} min {s:02d} s" if m else f"{s} s"


def told(batch):
    """What is told of a batch that has ended: a title, and a text with a line for each that failed."""
    failed = [i for i in batch.items if i.state == FAILED]
    done = sum(i.state == DONE for i in batch.items)
    title = f"{batch.out.name}: {done} of {len(batch.items)} folders done"
    lines = [*(f"{i.name}: {i.why}" for i in failed), f"Summary: {batch.out / PAGE}"]
    return title, "\n".join(lines)


class _Looked:
    """What was seen of one item's job."""

    def __init__(self, batch, item, pictures):
        self.item, self.rows, self.picture, self.files = item, [], "", []
        try:
            if item.begun and (batch.job_folder(item) / "job.sqlite").exists():
                with Job.open(batch.job_folder(item), writable=False) as job:
                    self.rows = results_of(job)
                    self.picture = _picture(job) if pictures else ""
                    for s in job.sittings():
                        done = job.result(s.id, "deliver")
                        for m in done.figures.made if done else ():
                            self.files += [Path(m.folder) / f for f, _, _ in m.files]
        except UmbrateError as e:
            self.rows.append({"sitting": "", "stage": "", "figures": str(e), "seconds": 0.0, "problems": []})


class Summary:
    """The table and the page of a batch. A folder that is done is not looked at again when the next one is."""

    def __init__(self, batch):
        self.batch, self._looked = batch, {}

    def write(self):
        """Write both anew; raises UmbrateError where they cannot be written."""
        _write(self.batch, [self._of(item) for item in self.batch.items])

    def _of(self, item):
        ended, mark = item.state in (DONE, FAILED), (item.state, item.seconds)
        kept = self._looked.get(item.name)
        if kept is None or kept[0] != mark or not ended:
            kept = self._looked[item.name] = mark, _Looked(self.batch, item, ended)
        return kept[1]


def _write(batch, looked):
    with written_aside(batch.out / CSV, Gate(replace=True)) as part, open(part, "w", newline="", encoding="utf-8") as f:
        table = TableWriter(f)
        table.writerow(["name", "folder", "state", "reason", "seconds", "sitting", "stage", "figures", "stage seconds",
                        "problems"])  # fmt: skip
        for x in looked:
            i = x.item
            head = [i.name, i.folder, WORDS[i.state], i.why, i.seconds]
            for r in x.rows or [None]:
                rest = (
                    [r["sitting"], r["stage"], r["figures"], r["seconds"], " ".join(r["problems"])] if r else [""] * 5
                )
                table.writerow([*head, *rest])
    with written_aside(batch.out / PAGE, Gate(replace=True)) as part:
        part.write_text(_page(batch, looked), encoding="utf-8")


def _cells(row):
    """A row of results as cells of the table; empty ones where there are none."""
    cells = [row.get(k, "") for k in ("sitting", "stage", "figures", "seconds")]
    return [*cells, " ".join(row.get("problems", ()))]


def _page(batch, looked):
    e = html.escape
    count = {s: sum(i.state == s for i in batch.items) for s in WORDS}
    total = sum(i.seconds for i in batch.items)
    told = ", ".join(f"{n} {WORDS[s]}" for s, n in count.items() if n)
    parts = [
        f"<h1>{e(batch.out.name)}: {told}</h1>",
        f'<p class="quiet">{len(batch.items)} folders by the recipe “{e(batch.recipe.name)}”, {_duration(total)}</p>',
    ]
    order = {FAILED: 0, DONE: 1}
    for x in sorted(looked, key=lambda x: order.get(x.item.state, 2)):
        parts.append(_section(batch, x))
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>{e(batch.out.name)}</title>'
        f"<style>{STYLE}</style></head><body>\n" + "\n".join(parts) + "\n</body></html>\n"
    )


def _section(batch, x):
    e, i = html.escape, x.item
    picture = f'<div><img alt="{e(i.name)}" src="data:image/jpeg;base64,{x.picture}"></div>' if x.picture else ""
    lines = [f"<h2>{e(i.name)}: {WORDS[i.state]}</h2>"]
    if i.why:
        lines.append(f"<p>{e(i.why)}</p>")
    lines.append(f'<p class="quiet">{e(i.folder)}, {_duration(i.seconds)}</p>')
    if x.rows:
        rows = "".join(
            f"<tr><td>{e(r['sitting'])}</td><td>{e(r['stage'])}</td><td>{e(r['figures'])}</td>"
            f'<td class="n">{r["seconds"]:,.1f} s</td></tr>'
            for r in x.rows
        )
        lines.append(f"<table><tr><th>sitting</th><th>stage</th><th>figures</th><th></th></tr>{rows}</table>")
    look = [*i.notes, *(p for r in x.rows for p in r["problems"])]
    if look:
        lines.append("<ul>" + "".join(f"<li>{e(t)}</li>" for t in dict.fromkeys(look)) + "</ul>")
    if x.files:
        links = []
        for f in x.files:
            inside = f.is_relative_to(batch.out)
            place = quote(str(f.relative_to(batch.out))) if inside else f.as_uri()
            links.append(f'<a href="{e(place)}">{e(f.name)}</a>')
        lines.append(f"<p>{', '.join(links)}</p>")
    kind = " ".join(k for k, holds in (("failed", i.state == FAILED), ("bare", not picture)) if holds)
    return f'<section class="{kind}">{picture}<div>{"".join(lines)}</div></section>'
