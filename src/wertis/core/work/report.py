"""Reports of unattended work: one HTML page with its pictures inside, and one JSON."""

import base64
import html
import json
from collections.abc import Sequence
from importlib.metadata import version
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict

from wertis.core.files import write_text

State = Literal["done", "failed", "running"]
_STYLE = """
body{background:#1d1d1d;color:#ddd;font:14px/1.45 sans-serif;margin:2em auto;max-width:1180px;padding:0 1em}
h1{font-size:1.4em} h2{font-size:1.1em;margin:0} section{background:#262626;border:1px solid #3a3a3a;border-radius:4px;margin:1em 0;padding:1em}
table{border-collapse:collapse} td,th{padding:.15em 1em .15em 0;text-align:left;vertical-align:top}
.bad{color:#f0a35c} .good{color:#79c2a8} .quiet{color:#999}
img{max-width:100%;margin:.4em .4em 0 0} svg{background:#1d1d1d;margin-top:.5em}
"""


class ShotReport(BaseModel):
    """What came of one shot.

    Attributes
    ----------
    needs : what a person has to look at, in words; nothing where all is well.
    drift : frame to the worst corner's drift in pixels, where it was measured; level : over which a person is needed.
    lost : frames on which the surface was lost.
    repaired : frames with repair keys that were set by itself.
    files : what was written. seconds : how long it took.
    pictures : base64 of PNG files with their captions.
    """

    model_config = ConfigDict(extra="forbid")

    name: str
    state: State = "running"
    error: str = ""
    needs: list[str] = []
    drift: dict[int, float] = {}
    level: float = 1.0
    lost: dict[int, str] = {}
    repaired: list[int] = []
    notes: list[str] = []
    files: list[str] = []
    seconds: dict[str, float] = {}
    pictures: list[tuple[str, str]] = []

    @property
    def worst(self) -> float:
        """The most drift, pixels; 0 where none was measured."""
        return max(self.drift.values(), default=0.0)

    @property
    def urgency(self) -> tuple[int, float, int]:
        """By which reports are sorted: failed shots first, then by what is wrong."""
        return (2 if self.state == "failed" else 1 if self.needs else 0, self.worst, len(self.lost))


def picture(caption: str, pixels: np.ndarray) -> tuple[str, str]:
    """A picture (h, w, 3) uint8 for a report."""
    good, data = cv2.imencode(".png", np.ascontiguousarray(pixels[..., ::-1]))
    return caption, base64.b64encode(data.tobytes()).decode() if good else ""


def write_reports(folder: Path, reports: Sequence[ShotReport], title: str = "Work") -> tuple[Path, Path]:
    """Write report.html and report.json, the shots that need a person most first; where they are."""
    ordered = sorted(reports, key=lambda r: (tuple(-u for u in r.urgency), r.name))
    page, data = folder / "report.html", folder / "report.json"
    write_text(page, as_html(ordered, title))
    body = {"format": "wertis-report", "version": 1, "wertis": version("wertis"),
            "shots": [r.model_dump(mode="json", exclude={"pictures"}) for r in ordered]}
    write_text(data, json.dumps(body, indent=1))
    return page, data


def as_html(reports: Sequence[ShotReport], title: str) -> str:
    """The whole page."""
    done = sum(r.state == "done" for r in reports)
    need = sum(bool(r.needs) for r in reports if r.state == "done")
    failed = [r for r in reports if r.state == "failed"]
    words = f"{done} of {len(reports)} shots done, {need} of them to be looked at, {len(failed)} failed"
    body = "".join(_section(r) for r in reports)
    return (f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{html.escape(title)}</title><style>{_STYLE}</style></head><body>'
            f"<h1>{html.escape(title)}</h1><p>{words}</p>{body}</body></html>\n")


def _section(report: ShotReport) -> str:
    mark = "bad" if report.state == "failed" or report.needs else "good"
    state = report.error if report.state == "failed" else "; ".join(report.needs) or "nothing to look at"
    rows: list[tuple[str, Any]] = []
    if report.drift:
        rows.append(("Drift", f"mean {np.mean(list(report.drift.values())):.2f} px, worst {report.worst:.2f} px on frame "
                              f"{max(report.drift, key=lambda f: report.drift[f])}"))
    if report.lost:
        rows.append(("Lost", ", ".join(f"{f} ({why})" for f, why in list(report.lost.items())[:6])))
    if report.repaired:
        rows.append(("Repaired", f"keys set by itself on {', '.join(map(str, report.repaired[:12]))}"))
    rows += [("Note", n) for n in report.notes]
    if report.files:
        rows.append(("Files", ", ".join(report.files)))
    if report.seconds:
        rows.append(("Took", ", ".join(f"{k} {v:.1f} s" for k, v in report.seconds.items())))
    table = "".join(f'<tr><td class="quiet">{k}</td><td>{html.escape(str(v))}</td></tr>' for k, v in rows)
    pictures = "".join(f'<figure style="display:inline-block;margin:0"><figcaption class="quiet">{html.escape(c)}</figcaption>'
                       f'<img alt="{html.escape(c)}" src="data:image/png;base64,{p}"></figure>' for c, p in report.pictures if p)
    return (f'<section><h2>{html.escape(report.name)}</h2><p class="{mark}">{html.escape(state)}</p><table>{table}</table>{_plot(report)}'
            f"<div>{pictures}</div></section>")


def _plot(report: ShotReport) -> str:
    """The drift over frames as SVG, with the level at which a person is needed."""
    if len(report.drift) < 2:
        return ""
    frames = sorted(report.drift)
    w, h, top = 1100, 110, max(report.worst, report.level) * 1.15
    span = max(frames[-1] - frames[0], 1)
    points = " ".join(f"{(f - frames[0]) / span * w:.1f},{h - report.drift[f] / top * h:.1f}" for f in frames)
    level = h - report.level / top * h
    grey = 'fill="#999" font-size="11"'
    return (f'<svg viewBox="0 0 {w} {h + 16}" width="100%" role="img" aria-label="drift over frames">'
            f'<line x1="0" x2="{w}" y1="{level:.1f}" y2="{level:.1f}" stroke="#f0a35c" stroke-dasharray="4 4"/>'
            f'<polyline points="{points}" fill="none" stroke="#ddd" stroke-width="1.5"/><text x="0" y="{h + 13}" {grey}>{frames[0]}</text>'
            f'<text x="{w}" y="{h + 13}" {grey} text-anchor="end">{frames[-1]}</text>'
            f'<text x="4" y="{max(level - 4, 10):.1f}" fill="#f0a35c" font-size="11">{report.level:g} px</text></svg>')
