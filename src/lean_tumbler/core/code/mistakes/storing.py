"""How mistakes in what is stored are seen."""

from collections.abc import Iterator

from lean_tumbler.core.code.mistakes.facts import (
    CodeFacts,
    Seen,
    constants_beside,
    typed_steps,
)
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.settings import is_settings
from lean_tumbler.core.code.terms import (
    GENERATED,
    Constant,
    Role,
    SourceLine,
    Term,
    TermStep,
    hashing_steps,
    inputs,
    inside,
    is_hashed,
    is_typed,
    options,
)


def salt_not_stored(facts: CodeFacts) -> Iterator[Seen]:
    """A salt that is drawn, used and forgotten."""
    for event in facts.of(EventKind.WRITES):
        if role_of(event.how) not in {Role.PASSWORD, Role.STORED} or not event.terms:
            continue
        for term in options(event.terms[0]):
            drawn = [
                found for step in hashing_steps(term) if step.name in {"digest", "hmac", "pbkdf2"}
                for found in inputs(step, *GENERATED)
            ]  # fmt: skip
            kept = inputs(term, *GENERATED, through_hashes=False)
            stored = [each for salt in facts.salts for each in inputs(salt, *GENERATED)]
            if drawn and not kept and not any(each in stored for each in drawn):
                yield event, drawn[0].place or event.place, "the salt is not kept anywhere"


def ignored_error(facts: CodeFacts) -> Iterator[Seen]:
    """An error of hashing that nobody looks at."""
    for event in facts.of(EventKind.IGNORES):
        yield event, event.place, "the error is thrown away"


def hashed_twice(facts: CodeFacts) -> Iterator[Seen]:
    """A field that a hook hashes, and a handler had hashed before."""
    hooks = {
        (event.language, event.how): event
        for event in facts.of(EventKind.WRITES)
        if event.terms and _hashes_itself(event)
    }
    for event in facts.of(EventKind.WRITES):
        hook = hooks.get((event.language, event.how))
        if hook is None or hook.place == event.place or not event.terms:
            continue
        if any(is_hashed(option) and _is_typed_hash(option) for option in options(event.terms[0])):
            where = f"{hook.place.path} line {hook.place.line}"
            yield event, event.place, f"hashed here, and once more in {where}"


def _is_typed_hash(term: Term) -> bool:
    return any(inputs(step, Role.PASSWORD) for step in hashing_steps(term))


def _hashes_itself(event: CodeEvent) -> bool:
    """Tell whether a line hashes a field into the same field."""
    fields = [
        found for option in options(event.terms[0]) for step in hashing_steps(option)
        for found in inputs(step, Role.FIELD)
    ]  # fmt: skip
    return any(found.name.rpartition(".")[2] == event.how for found in fields)


def hashed_on_every_save(facts: CodeFacts) -> Iterator[Seen]:
    """A hook that hashes the field again each time that the record is saved."""
    for event in facts.of(EventKind.WRITES):
        if event.terms and _hashes_itself(event) and not event.branch:
            yield event, event.place, f"{event.how} is hashed whether it changed or not"


def changed_on_one_path(facts: CodeFacts) -> Iterator[Seen]:
    """A password that is trimmed, folded, escaped or cut on one path alone."""
    ways: dict[
        tuple[str, tuple[str, ...]], list[tuple[CodeEvent, tuple[str, ...], SourceLine]]
    ] = {}
    for event in facts.of(EventKind.WRITES, EventKind.COMPARES, EventKind.CHECKS, EventKind.FINDS):
        for term in event.terms:
            for option in options(term):
                if not _concerns_password(event, option):
                    continue
                changes = tuple(sorted({step.name for step in typed_steps(option)}))
                first = next((step.place for step in typed_steps(option)), None)
                key = (event.language, ("hashed",))
                ways.setdefault(key, []).append((event, changes, first or event.place))
    for found in ways.values():
        sets = {changes for _, changes, _ in found}
        if len(sets) < 2:
            continue
        common = set.intersection(*[set(each) for each in sets])
        for event, changes, place in found:
            odd = [name for name in changes if name not in common]
            if odd:
                yield event, place, f"{odd[0]} on this path alone"


def _concerns_password(event: CodeEvent, term: Term) -> bool:
    if event.kind is EventKind.WRITES and role_of(event.how) is Role.SALT:
        return False
    if event.kind is EventKind.CHECKS:
        return is_typed(term)
    return any(inputs(step, Role.PASSWORD) for step in hashing_steps(term))


def encrypted(facts: CodeFacts) -> Iterator[Seen]:
    """A password that is encrypted, so that the key opens all."""
    for event in facts.of(EventKind.ENCRYPTS):
        if any(is_typed(option) for term in event.terms for option in options(term)):
            yield event, event.place, "who has the key reads every password"


def key_in_source(facts: CodeFacts) -> Iterator[Seen]:
    """A key that stands in the source; one in a file of configuration does not."""
    for event in facts.of(EventKind.MAKES, EventKind.ENCRYPTS):
        for key in _keys(event):
            place = key.place or event.place
            if not is_settings(place.path):
                yield event, place, _key_name(key)


def _keys(event: CodeEvent) -> Iterator[Constant]:
    """Give the constants that are keys of what a line makes of a password."""
    first, *others = event.terms
    if event.kind is EventKind.ENCRYPTS and is_typed(first):
        yield from (key for key in others if isinstance(key, Constant) and key.value)
    if not isinstance(first, TermStep) or not inputs(first, Role.PASSWORD, Role.FIELD):
        return
    if first.name == "hmac" and isinstance(first.of[1], Constant) and first.of[1].value:
        yield first.of[1]
    elif first.name == "digest":
        for found in constants_beside(first):
            if found.name and role_of(found.name) is Role.KEY:
                yield found


def _key_name(found: Constant) -> str:
    return f"{found.name} is a constant" if found.name else "the key is a constant"


def seeded(facts: CodeFacts) -> Iterator[Seen]:
    """A constant that is written as a password: a seed, fixture or script."""
    for event in facts.of(EventKind.WRITES):
        if role_of(event.how) not in {Role.PASSWORD, Role.STORED} or "field" in event.notes:
            continue
        for option in options(event.terms[0]) if event.terms else ():
            if isinstance(option, Constant) and isinstance(option.value, str) and option.value:
                yield event, event.place, f"a constant is written to {event.how}"
                break


def stored_readable(facts: CodeFacts) -> Iterator[Seen]:
    """A password that is written as it was typed, or only encoded."""
    for event in facts.of(EventKind.WRITES):
        if role_of(event.how) not in {Role.PASSWORD, Role.STORED} or "field" in event.notes:
            continue
        for option in options(event.terms[0]) if event.terms else ():
            if is_typed(option) and not _is_encrypted(option):
                how = "only encoded" if isinstance(option, TermStep) and option.name in {
                    "base64", "hex", "reverse",
                } else "as it was typed"  # fmt: skip
                yield event, event.place, f"{event.how} gets the password {how}"
                break


def _is_encrypted(term: Term) -> bool:
    return any(isinstance(found, TermStep) and found.name == "encrypted" for found in inside(term))


def mass_assignment(facts: CodeFacts) -> Iterator[Seen]:
    """A record that takes whatever fields a request has."""
    for event in facts.of(EventKind.WRITES):
        if event.how == "*":
            yield event, event.place, "every field of the request is written"


def database_function(facts: CodeFacts) -> Iterator[Seen]:
    """A database's own function for its own accounts, on passwords of an application."""
    for event in facts.of(EventKind.MAKES):
        step = event.terms[0]
        if (
            isinstance(step, TermStep)
            and step.detail.startswith("sql ")
            and step.detail != "sql crypt"
        ):
            yield event, event.place, f"{step.detail.removeprefix('sql ').upper()}()"
