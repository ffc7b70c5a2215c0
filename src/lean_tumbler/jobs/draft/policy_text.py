"""A drafted policy as the text of its file, with comments that say what each line rests on."""

import json
import re
import textwrap
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.drafting.class_cohorts import DraftedCohort, Unproven
from lean_tumbler.core.drafting.classes import ClassKind
from lean_tumbler.core.policy import RowSource
from lean_tumbler.core.policy.cohort_tables import split_then
from lean_tumbler.core.policy.model import StorePolicy, names_any
from lean_tumbler.core.printable import printable
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED, USUAL_TARGET
from lean_tumbler.core.stock_functions import usual_readers
from lean_tumbler.jobs.draft.drafting import DraftedStore
from lean_tumbler.reports.wording import count
from lean_tumbler.stores.policy_file import with_parts, with_salt

_LINE = 100
_READERS = 3
_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")


class PlacedStore(Struct, frozen=True, kw_only=True):
    """A drafted store under its name in the policy."""

    name: str
    locator: str  # as the policy has it
    needs_table: bool  # whether its table must be named
    drafted: DraftedStore
    tables: tuple[str, ...] = ()  # what names its equal tables; none for one table

    def covers(self, store: StorePolicy) -> bool:
        """Tell whether a store of a policy is this one, or one of its tables."""
        table = self.drafted.table
        if self.tables:
            same_table = "/" in store.name and names_any(self.tables, store.table)
        else:
            same_table = store.table in {"", table} or not self.needs_table
        stored = self.drafted.columns.stored
        return store.locator == self.locator and same_table and store.columns.stored == stored


def quoted(text: str) -> str:
    """Write a text as a TOML basic string (TOML 1.0, “String”)."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def key(name: str) -> str:
    """Write a key, bare where it can be."""
    return name if _BARE_KEY.fullmatch(name) else quoted(name)


def _comment(text: str, indent: str = "") -> Iterator[str]:
    text = printable(text)
    lead = f"{indent}# "
    yield from textwrap.wrap(
        text, _LINE, initial_indent=lead, subsequent_indent=lead, break_long_words=False,
        break_on_hyphens=False,
    )  # fmt: skip


def policy_text(stores: Sequence[PlacedStore], *, source: str, day: str) -> str:
    """Write a whole policy.

    Args:
        stores: under their names.
        source: what was looked at, as messages call it.
        day: of the draft, as the policy writes dates.
    """
    scheme = _scheme_of(stores)
    costs = [f"# {name} = {number}" for name, number in DERIVATIONS[scheme].defaults.items()]
    readers = [f"# verified_by = [{quoted(name)}]" for name in usual_readers(scheme, _READERS)]
    head = [
        *_comment(f"Drafted from {source} on {day}. Every line that rests on less than proof "
                  "says so."),
        "",
        *_comment("New values are written with the published floor until you choose: "
                  "“lean-tumbler tune --save” measures this machine and writes [target]."),
        "# [target]",
        f"# scheme = {quoted(scheme)}",
        *costs,
        *_comment("Does a package or a stock function check passwords elsewhere? Name each, and "
                  "what is written is what all of them read, like one of these; docs/LANGUAGES.md "
                  "has more:"),
        *readers,
    ]  # fmt: skip
    return "\n".join([*head, *(line for store in stores for line in store_text(store)), ""])


def _scheme_of(stores: Sequence[PlacedStore]) -> str:
    """Give the scheme to propose: of most values, where it is one that is written; else the usual.

    So a column that packages fill goes on being read by them.
    """
    said: Counter[str] = Counter()
    for store in stores:
        said.update(store.drafted.said)
    rows = sum(store.drafted.rows - store.drafted.without_value for store in stores)
    usual = next((name for name, number in said.most_common() if 2 * number > rows), "")
    return usual if usual in TUNED else USUAL_TARGET


def store_text(placed: PlacedStore) -> Iterator[str]:
    """Write one store."""
    drafted = placed.drafted
    name = key(placed.name)
    yield ""
    yield f"[store.{name}]"
    yield f"locator = {quoted(placed.locator)}"
    if placed.tables:
        yield from _equal_tables(placed)
    elif placed.needs_table:
        yield f"table = {quoted(drafted.table)}"
    yield from _row_source(drafted.source)
    yield from _comment(
        "Bulk steps write nothing without the next line: the day since which every program that "
        "checks passwords uses the new check."
    )
    yield "# readers_ready = 2026-01-31"
    yield ""
    yield f"[store.{name}.columns]"
    yield from _columns(drafted)
    if drafted.source.rows is not None:
        yield ""
        yield f"[store.{name}.rows]"
        yield f"when = {quoted(str(drafted.source.rows))}  # a login has further rows"
    if drafted.parts:
        yield ""
        yield f"[store.{name}.parts]"
        yield from (f"{key(part)} = {quoted(column)}" for part, column in drafted.parts.items())
    yield from _said(drafted)
    for cohort_name, cohort in drafted.cohorts.items():
        yield from cohort_text(placed, cohort_name, cohort)
    for unproven in drafted.unproven:
        yield from unproven_text(placed, unproven)


def _equal_tables(placed: PlacedStore) -> Iterator[str]:
    yield f"tables = {_text_or_list(placed.tables)}"
    yield from _comment(
        "Each table needs one known account of its own before a bulk step writes it; or the next "
        "line says that the same program wrote all of them."
    )
    yield "# alike = true"


def _text_or_list(texts: Sequence[str]) -> str:
    return quoted(texts[0]) if len(texts) == 1 else f"[{', '.join(map(quoted, texts))}]"


def _row_source(source: RowSource) -> Iterator[str]:
    if source.join is not None:
        join = source.join
        names = f"table = {quoted(join.table)}, key = {quoted(join.key)}, by = {quoted(join.by)}"
        yield f"join = {{ {names} }}  # the logins are there"


def _columns(drafted: DraftedStore) -> Iterator[str]:
    for role, own in drafted.columns.mapped.items():
        value = quoted(own)
        if role == "privileged" and drafted.columns.privileged_values:
            values = ", ".join(map(quoted, drafted.columns.privileged_values))
            value = f"{{ column = {value}, values = [{values}] }}"
        yield f"{role} = {value}  # {drafted.reasons.get(role, 'by its name')}"


def _said(drafted: DraftedStore) -> Iterator[str]:
    if drafted.said:
        rows = ", ".join(f"{count(n, 'row')} {name}" for name, n in drafted.said.items())
        yield ""
        yield from _comment(f"These values say how they were made, and need no cohort: {rows}.")


def cohort_text(placed: PlacedStore, name: str, cohort: DraftedCohort) -> Iterator[str]:
    """Write a cohort, with what proves it and what does not."""
    about = "about " if placed.drafted.sampled else ""
    yield ""
    yield from _proof(cohort, about)
    yield f"[[store.{key(placed.name)}.cohort]]"
    yield f"name = {quoted(name)}"
    for field, value in cohort.explanation.entries.items():
        yield f"{field} = {'true' if value is True else quoted(str(value))}"
    if cohort.untested:
        words = ", ".join(quoted(str(each)) for each in cohort.untested)
        yield f"untested = [{words}]  # a login tries each; such a known account settles it"
    if cohort.condition:
        yield f"when = {quoted(cohort.condition)}"


def _proof(cohort: DraftedCohort, about: str) -> Iterator[str]:
    """Say what proves a cohort, what was seen beside, and what is not sure."""
    yield from _comment(
        f"{about}{count(cohort.rows, 'row')} ({cohort.value_class.label}), proven by "
        f"{shown_by(cohort)}."
    )
    for note in cohort.notes:
        yield from _comment(f"Seen: {note}.")
    for doubt in cohort.unsure:
        yield from _comment(f"Not sure: {doubt}.")
    for other in cohort.also[:3]:
        yield from _comment(f"These accounts fit “{other}” as well.")


def shown_by(cohort: DraftedCohort) -> str:
    """Say who shows how a cohort was made."""
    if cohort.guessed:
        return count(cohort.guessed, "likely password")
    return count(cohort.known, "known account")


def unproven_text(placed: PlacedStore, unproven: Unproven) -> Iterator[str]:
    """Write what is not known of some rows, as comments."""
    about = "about " if placed.drafted.sampled else ""
    where = f" with {unproven.condition}" if unproven.condition else ""
    yield ""
    yield from _comment(
        f"Not understood: {about}{count(unproven.rows, 'row')}{where} "
        f"({unproven.value_class.label}). {_why(unproven)}"
    )
    yield from _comment(_remedy(placed, unproven))


def _why(unproven: Unproven) -> str:
    if unproven.failed:
        return f"{count(unproven.failed, 'known account')} among them, and nothing explains these."
    return "No known account is among them."


def _remedy(placed: PlacedStore, unproven: Unproven) -> str:
    if unproven.value_class.kind is ClassKind.WRITTEN:
        return (
            "This tool wrote these values, under another policy. If they are layered, copy its "
            "formulas; “lean-tumbler verify” says which are missing."
        )
    if unproven.value_class.kind is ClassKind.TEXT and not unproven.failed:
        return (
            "If the texts are the passwords themselves, a known account among them proves it: add "
            "one and draft again."
        )
    if unproven.failed:
        return (
            f"“lean-tumbler formula solve --store {placed.name} KNOWN” searches further: give "
            "constants of the old source with --literal."
        )
    return (
        "Set the password of two such accounts in the old system, add them to the known accounts, "
        "and draft again."
    )


def merged_text(
    text: str, existing: Mapping[str, StorePolicy], stores: Sequence[PlacedStore]
) -> tuple[str, list[str]]:
    """Add to a policy what it does not have; what stands there stays as it is.

    Args:
        text: the file's.
        existing: its stores.
        stores: as they were drafted.

    Returns:
        The new text, and what was added, as sentences.

    Raises:
        PolicyError: a part of a store has the name of another column's.
    """
    added: list[str] = []
    lines: list[str] = []
    for placed in stores:
        same = _same_store(placed, existing)
        if same is None:
            name = free_name(placed.name, {store.section for store in existing.values()})
            lines += store_text(replace(placed, name=name))
            added.append(f"the store {name}")
            continue
        text = with_parts(text, same.name, placed.drafted.parts)
        salt = placed.drafted.columns.salt
        if salt and not same.columns.salt and _uses_salt(placed.drafted):
            text = with_salt(text, same.name, salt)
            added.append(f"the salt column {salt} of {same.name}")
        lines += _new_cohorts(same, placed, added)
    return text.rstrip("\n") + "\n" + "\n".join([*lines, ""]) if lines else text, added


def _uses_salt(drafted: DraftedStore) -> bool:
    """Tell whether a formula or a condition names the salt."""
    texts = ((c.explanation.formula, c.condition or "") for c in drafted.cohorts.values())
    return any(re.search(r"\bsalt\b", text) for both in texts for text in both)


def _new_cohorts(same: StorePolicy, placed: PlacedStore, added: list[str]) -> Iterator[str]:
    here = replace(placed, name=same.name)
    known = {
        (
            c.formula.text if c.formula else "",
            c.then,
            c.scheme,
            c.layout.text if c.layout else "",
            str(c.condition or ""),
        )
        for c in same.cohorts
    }
    names = {cohort.name for cohort in same.cohorts}
    for name, cohort in placed.drafted.cohorts.items():
        explanation = cohort.explanation
        before, then = split_then(explanation.formula)
        own = (before, then, explanation.scheme, explanation.layout, cohort.condition)
        if own in known:
            continue
        chosen = free_name(name, names)
        names.add(chosen)
        added.append(f"the cohort {chosen} of {same.name}")
        yield from cohort_text(here, chosen, cohort)


def _same_store(placed: PlacedStore, existing: Mapping[str, StorePolicy]) -> StorePolicy | None:
    """Give the store that it is, under its name in the file; None where there is none."""
    found = next((store for store in existing.values() if placed.covers(store)), None)
    return found and replace(found, name=found.section)


def free_name(name: str, taken: Iterable[str]) -> str:
    """Give a name that is not taken: itself, or with a number behind it."""
    used = set(taken)
    number = 1
    chosen = name
    while chosen in used:
        number += 1
        chosen = f"{name}-{number}"
    return chosen
