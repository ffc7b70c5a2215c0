"""`report`: one page that needs nothing else, and the same as JSON."""

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from conftest import Portal, Program
from lean_tumbler.core.standards import POINTS, Facts, PointVerdict
from test_forecast import ago, dated_portal
from test_progress import HISTORY, entry


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


class _Page(HTMLParser):
    """Notes what a page would load or run, and its text."""

    def __init__(self) -> None:
        super().__init__()
        self.loads: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in {"script", "link", "img", "iframe", "object"}:
            self.loads.append(tag)
        self.loads += [name for name, value in attrs
                       if name in {"src", "onload"} or (name == "href" and not (value or "").startswith("#"))]  # fmt: skip

    def handle_data(self, data: str) -> None:
        self.text += f" {data}"


def test_the_page_of_a_migration(program: Program, tmp_path: Path) -> None:
    """Before and after, course, standards, what remains, what was done, backups and commands."""
    dated_portal(tmp_path, [ago(n) for n in range(100)])
    (tmp_path / HISTORY).write_text(entry(28, 200, 0, {"28": [90, 100, 130], "56": [1, 2, 3]}))
    assert program("keys", "new", "k").code == 0
    sealed = ("--backup", "layer-1.sealed", "--to", "k.public.pem")
    assert program("layer", *sealed).code == 0
    arguments = ("--history", HISTORY, "--backup", "layer-1.sealed")
    finished = program("report", *arguments, "--output", "report.html")
    assert (finished.code, finished.out) == (0, "")
    page = _Page()
    page.feed((tmp_path / "report.html").read_text())
    assert page.loads == []
    text = " ".join(page.text.split())
    assert text.count("No stored value is below the floor; 100 are layered") == 1
    assert "200 accounts waited then, 100 do now" in text
    assert "On course. Forecast for today: 100 (90 to 130) waiting; 100 wait." in text
    assert "lean-tumbler enforce constraint --store passengers" in text
    assert "layer-1.sealed layer passengers" in text
    assert (tmp_path / "report.html").stat().st_mode & 0o777 == 0o600
    document = program("report", *arguments, "--format", "json").document
    store = document["stores"][0]
    assert (store["verdict"], store["guarded"], store["below_floor"]) == ("on course", False, 0)
    verdicts = {(row["standard"], row["section"]): row["verdict"] for row in store["standards"]}
    assert verdicts["OWASP ASVS 5.0", "11.4.2"] == "met"
    assert document["backups"][0]["expired"] is False
    assert len(document["done"]) == 1
    assert all(line["command"].startswith("lean-tumbler ") for line in store["commands"])


def test_a_report_without_dates_or_history(program: Program, portal: Portal) -> None:
    """What is not known is said, and the rest stands."""
    assert portal.passengers
    finished = program("report")
    assert finished.code == 0, finished.err
    assert "stored values are still below the floor" in finished.out
    assert "This is the first count" in finished.out
    assert "No history was given" in finished.out


@pytest.mark.parametrize(
    ("arguments", "code"), [(("--backup", "tumbler.toml"), 2), (("--backup", "x"), 3)]
)
@pytest.mark.usefixtures("portal")
def test_backups_that_are_none(program: Program, arguments: tuple[str, ...], code: int) -> None:
    """One line says so."""
    finished = program("report", *arguments)
    assert (finished.code, finished.err.count("\n")) == (code, 1)


def judged(facts: Facts) -> dict[tuple[str, str], PointVerdict]:
    return {(point.section, point.asks): point.judge(facts)[0] for point in POINTS}


def test_points_of_the_standards() -> None:
    """Each turns with the fact that it rests on, and with no other."""
    good = Facts(values=10, weak=0, unsalted=0, unknown=0, min_length=15, guarded=True)  # fmt: skip
    base = judged(good)
    assert list(base.values()).count(PointVerdict.NOT_YET) == 1  # the secret apart
    changed = {
        "weak": (Facts(values=10, weak=3, unsalted=0, unknown=0, min_length=15, guarded=True), {"3.1.1.2", "11.4.2"}),
        "unknown": (Facts(values=10, weak=0, unsalted=0, unknown=1, min_length=15, guarded=True), {"3.1.1.2", "11.4.2"}),
        "length": (Facts(values=10, weak=0, unsalted=0, unknown=0, min_length=6, guarded=True), {"3.1.1.2"}),
        "guard": (Facts(values=10, weak=0, unsalted=0, unknown=0, min_length=15, guarded=False), {"[floor]"}),
    }  # fmt: skip
    for what, (facts, sections) in changed.items():
        now = judged(facts)
        turned = {section for (section, asks), verdict in now.items()
                  if verdict is PointVerdict.NOT_YET and base[section, asks] is not PointVerdict.NOT_YET}  # fmt: skip
        assert turned == sections, what
    assert re.fullmatch(r"[\d.]+|\[floor\]", POINTS[0].section)
