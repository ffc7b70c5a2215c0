"""docs/FINDINGS.md: the grades and every finding, from the rules of the audit."""

from collections.abc import Iterator

from lean_tumbler.core.audit.kinds import RULES_OF_KINDS
from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.audit.rules import RULES
from lean_tumbler.core.grades import BELOW_FLOOR, MEANING
from reference.tables import GENERATED, table

_HEAD = f"""\
# Grades and findings

`lean-tumbler audit` gives every stored value a grade, and says what is wrong with a column as
findings. {GENERATED}

## Grades

Worst first. The first four are below the floor; the last two stand beside the order.

"""
_FINDINGS = """
## Findings

A finding has a code, a severity, the number of rows, evidence and a remedy. `--fail-on CODE` or
`--fail-on SEVERITY` makes `audit` end with exit code 1. JSON, CSV and SARIF name findings by these
codes.
"""
_KINDS = """
## Other credentials

Tokens, keys and codes open something too, and are no accounts: `audit` tells them by the names of
column and table, and by what they hold, and counts them apart. Readable ones are as bad as a
finding of the severity `high`. A column that `--column` or the policy names is judged as passwords
in any case. Digests of something else, like content hashes, are named and not judged.

"""


def findings_page() -> str:
    """Write the page."""
    grades = table(
        ("grade", "meaning", "below the floor"),
        (
            (f"`{grade}`", said, "yes" if grade in BELOW_FLOOR else "")
            for grade, said in MEANING.items()
        ),
    )
    return _HEAD + grades + _FINDINGS + "".join(_by_severity()) + _KINDS + _kinds()


def _kinds() -> str:
    """Write what opens something beside passwords, and how it is kept."""
    rules = (rule for kind, rule in RULES_OF_KINDS.items() if kind.opens_something)
    rows = ((rule.kind, rule.keeping, rule.remedy, rule.breaks) for rule in rules)
    return table(("kind", "is kept", "remedy", "rule that a readable one breaks"), rows)


def _by_severity() -> Iterator[str]:
    for severity in sorted(Severity, key=lambda each: -each.rank):
        rules = {code: rule for code, rule in RULES.items() if rule.severity is severity}
        rows = (
            (f"`{code}`", rule.summary, rule.remedy, rule.breaks or "")
            for code, rule in rules.items()
        )
        yield f"\n### {severity.capitalize()}\n\n"
        yield table(("code", "meaning", "remedy", "rule that it breaks"), rows)
