"""What the HTML pages share: templates with autoescape, prose, and plots inside the page."""

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup, escape

ENVIRONMENT = Environment(
    loader=PackageLoader("lean_tumbler.reports"),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)


def _prose(text: str) -> Markup:
    """Write a sentence with its commands between backticks as code."""
    parts = text.split("`")
    marked = (escape(part) if n % 2 == 0 else Markup("<code>{}</code>").format(part)
              for n, part in enumerate(parts))  # fmt: skip
    return Markup("").join(marked)


ENVIRONMENT.filters["prose"] = _prose


def inline(svg: str | None) -> Markup | None:
    """Put a plot into the page as it is; Matplotlib has escaped the texts in it."""
    return None if svg is None else Markup(svg)  # noqa: S704 - made here, of escaped texts
