"""Pictures as files: empty ones of the usual size, and how they are written."""

from __future__ import annotations

import html
import io
from typing import TYPE_CHECKING

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def new_axes() -> tuple[Figure, Axes]:
    """Make an empty picture."""
    figure = Figure(figsize=(10, 6.25), dpi=128)
    FigureCanvasAgg(figure)
    return figure, figure.add_subplot()


def saved(figure: Figure, kind: str) -> bytes:
    """Give a figure as `png` or `svg`, the same at every run."""
    buffer = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else {"Software": None}
    figure.savefig(buffer, format=kind, bbox_inches="tight", metadata=metadata)
    return buffer.getvalue()


def embedded(svg: bytes, label: str) -> str:
    """Give a picture as text that stands inside a page.

    Args:
        svg: the picture.
        label: what it shows, for those who hear the page.
    """
    text = svg.decode("utf-8")
    start = text.index("<svg") + len("<svg")
    return f'<svg role="img" aria-label="{html.escape(label)}"{text[start:]}'
