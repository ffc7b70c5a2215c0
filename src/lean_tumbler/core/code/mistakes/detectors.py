"""How each mistake is seen in the events of a program."""

import re
from collections.abc import Callable, Iterator

from lean_tumbler.core.code.mistakes.facts import (
    GENERATED,
    Facts,
    constants_beside,
    hashing_steps,
    is_record,
    typed_steps,
)
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.places import Event, Kind
from lean_tumbler.core.code.terms import (
    Constant,
    Input,
    Pending,
    Place,
    Role,
    Step,
    Term,
    inputs,
    inside,
    is_hashed,
    is_typed,
    options,
)
from lean_tumbler.core.grades import Floor

Seen = tuple[Event, Place, str]  # the event, the line, and what is seen there
Detector = Callable[[Facts], Iterator[Seen]]

_FAST = frozenset({"digest", "hmac"})
_UNKNOWN_USER = re.compile(
    r"(?i)\b(no such|unknown|not found|no|invalid|does ?n.t exist|not exist|not registered)\b.{0,20}"
    r"\b(user|account|login|e-?mail|member|customer)|"
    r"\b(user|account|login|e-?mail|member|customer)\b.{0,20}"
    r"\b(not found|unknown|does ?n.t exist|not exist|not registered)"
)
_LEAST_DIGEST_BYTES = 16


def _at(event: Event, step: Step) -> Place:
    return step.place or event.place


def fast_digest(facts: Facts) -> Iterator[Seen]:
    """A password that one fast digest, or a short loop of them, turns into what is stored."""
    for event, term, _ in facts.hashes:
        steps = list(hashing_steps(term))
        if steps and all(step.name in _FAST for step in steps):
            yield event, _at(event, steps[0]), f"{steps[0].detail} of a password"


def unsalted(facts: Facts) -> Iterator[Seen]:
    """A digest of a password and of nothing that differs between accounts."""
    for event, term, is_stored in facts.hashes:
        steps = list(hashing_steps(term))
        if not is_stored or not steps or steps[-1].name == "scheme":
            continue
        others = inputs(term, Role.SALT, Role.LOGIN, Role.OTHER, Role.STORED, Role.RECORD,
                        Role.KEY, *GENERATED)  # fmt: skip
        if not others and not any(True for step in steps for _ in constants_beside(step)):
            yield event, _at(event, steps[0]), "nothing but the password goes in"


def constant_salt(facts: Facts) -> Iterator[Seen]:
    """A digest whose only salt is the same for all."""
    for event, term, _ in facts.hashes:
        steps = list(hashing_steps(term))
        others = inputs(term, Role.SALT, Role.LOGIN, Role.STORED, Role.RECORD, Role.OTHER,
                        *GENERATED)  # fmt: skip
        if others or not steps or steps[0].name not in {"digest", "pbkdf2"}:
            continue
        for found in constants_beside(steps[-1]):
            yield event, _at(event, steps[-1]), _named_constant(found)
            break


def _named_constant(found: Constant) -> str:
    line = f" (line {found.place.line} of {found.place.path})" if found.place else ""
    return f"the constant {found.name}{line}" if found.name else f"a constant{line}"


def weak_salt(facts: Facts) -> Iterator[Seen]:
    """A salt that a clock, a counter or a generator for games makes."""
    for event, term, _ in facts.hashes:
        for step in hashing_steps(term):
            found = inputs(step, Role.WEAK, Role.CLOCK)
            if found:
                source = "a clock" if found[0].role is Role.CLOCK else "a generator for games"
                yield event, found[0].place or event.place, f"the salt is from {source}"
                break


def login_salt(facts: Facts) -> Iterator[Seen]:
    """A salt that is the login."""
    for event, term, _ in facts.hashes:
        for step in list(hashing_steps(term))[-1:]:
            others = inputs(step, Role.SALT, Role.STORED, Role.RECORD, *GENERATED)
            if inputs(step, Role.LOGIN) and not others:
                yield event, _at(event, step), "the login is the only salt"


def salt_not_stored(facts: Facts) -> Iterator[Seen]:
    """A salt that is drawn, used and forgotten."""
    for event in facts.of(Kind.WRITES):
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


def low_cost(facts: Facts) -> Iterator[Seen]:
    """A slow scheme whose cost is below the floor."""
    floor = Floor()
    for event in facts.of(Kind.MAKES):
        step = event.terms[0]
        if not isinstance(step, Step) or not inputs(step, Role.PASSWORD, Role.FIELD):
            continue
        if step.name == "pbkdf2":
            scheme, parameters = f"pbkdf2-{step.detail}", {"rounds": step.numbers[0]}
        elif step.name == "scheme" and step.detail == "bcrypt" and step.numbers:
            scheme, parameters = "bcrypt", {"cost_log2": step.numbers[0]}
        else:
            continue
        if not floor.reached_by(scheme, parameters):
            name, value = next(iter(parameters.items()))
            yield event, event.place, f"{scheme} with {name} {value:,}"


def loose_comparison(facts: Facts) -> Iterator[Seen]:
    """A stored value that is compared as text, not in constant time."""
    for event in facts.of(Kind.COMPARES):
        if len(event.terms) != 2 or event.how in {"in constant time", "folded"}:
            continue
        left, right = event.terms
        if (hashes(left) and _kept(right)) or (hashes(right) and _kept(left)):
            yield event, event.place, f"compared by {event.how}"


def hashes(term: Term) -> bool:
    """Tell whether a term is a hash of a password."""
    return any(True for option in options(term) for _ in hashing_steps(option))


def _kept(term: Term) -> bool:
    return any(
        not is_typed(option)
        and (inputs(option, Role.STORED, Role.FIELD, Role.RECORD, Role.OTHER) or hashes(option))
        for option in options(term)
    )


def folded_comparison(facts: Facts) -> Iterator[Seen]:
    """A stored value that is compared whatever its letter case."""
    for event in facts.of(Kind.COMPARES):
        if event.how == "folded" and any(hashes(term) or is_typed(term) for term in event.terms):
            yield event, event.place, "compared whatever the letter case"


def found_by_hash(facts: Facts) -> Iterator[Seen]:
    """A query that finds the row by what is stored."""
    for event in facts.of(Kind.FINDS):
        if event.terms and hashes(event.terms[0]):
            yield event, event.place, f"WHERE {event.how} = a hash"


def found_by_password(facts: Facts) -> Iterator[Seen]:
    """A query that finds the row by the password itself."""
    for event in facts.of(Kind.FINDS):
        if event.terms and any(is_typed(option) for option in options(event.terms[0])):
            yield event, event.place, f"WHERE {event.how} = the password"


def compared_hashes(facts: Facts) -> Iterator[Seen]:
    """A fresh salted hash that is compared with a stored one, or a hash that is checked."""
    for event in facts.of(Kind.COMPARES, Kind.CHECKS):
        if len(event.terms) != 2:
            continue
        first, second = event.terms
        if event.kind is Kind.CHECKS:
            if any(_is_scheme(each) for each in options(first)):
                yield event, event.place, "a hash is checked in place of the password"
            continue
        for made, other in ((first, second), (second, first)):
            if any(_is_scheme(each) and not _takes_setting(each) for each in options(made)):
                if _kept(other):
                    yield event, event.place, "a hash with a new salt never equals the old one"
                    break


def _is_scheme(term: Term) -> bool:
    return isinstance(term, Step) and term.name == "scheme" and hashes(term)


def _takes_setting(term: Term) -> bool:
    return isinstance(term, Step) and bool(
        [each for part in term.of[1:] for each in inputs(part, Role.STORED, Role.FIELD, Role.SALT,
                                                         Role.RECORD, Role.OTHER)]
    )  # fmt: skip


def swapped_arguments(facts: Facts) -> Iterator[Seen]:
    """A check that gets the stored text as password, and the password as stored text."""
    for event in facts.of(Kind.CHECKS):
        password, stored = event.terms[:2]
        is_swapped = any(map(is_typed, options(stored))) and not any(
            map(is_typed, options(password))
        )
        if is_swapped and _kept(password):
            yield event, event.place, "the stored text stands in the password's place"


def not_awaited(facts: Facts) -> Iterator[Seen]:
    """A result that is used before it is there."""
    for event in facts.of(Kind.WRITES, Kind.COMPARES):
        for term in event.terms:
            for found in inside(term):
                if isinstance(found, Pending) and any(
                    isinstance(each, Step) and each.name in {"scheme", "checked", "pbkdf2"}
                    for each in inside(found)
                ):
                    verb = "stored" if event.kind is Kind.WRITES else "tested"
                    yield event, event.place, f"a promise is {verb}"
                    break


def ignored_error(facts: Facts) -> Iterator[Seen]:
    """An error of hashing that nobody looks at."""
    for event in facts.of(Kind.IGNORES):
        yield event, event.place, "the error is thrown away"


def hashed_twice(facts: Facts) -> Iterator[Seen]:
    """A field that a hook hashes, and a handler had hashed before."""
    hooks = {
        (event.language, event.how): event
        for event in facts.of(Kind.WRITES)
        if event.terms and _hashes_itself(event)
    }
    for event in facts.of(Kind.WRITES):
        hook = hooks.get((event.language, event.how))
        if hook is None or hook.place == event.place or not event.terms:
            continue
        if any(is_hashed(option) and _is_typed_hash(option) for option in options(event.terms[0])):
            where = f"{hook.place.path} line {hook.place.line}"
            yield event, event.place, f"hashed here, and once more in {where}"


def _is_typed_hash(term: Term) -> bool:
    return any(inputs(step, Role.PASSWORD) for step in hashing_steps(term))


def _hashes_itself(event: Event) -> bool:
    """Tell whether a line hashes a field into the same field."""
    fields = [
        found for option in options(event.terms[0]) for step in hashing_steps(option)
        for found in inputs(step, Role.FIELD)
    ]  # fmt: skip
    return any(found.name.rpartition(".")[2] == event.how for found in fields)


def hashed_on_every_save(facts: Facts) -> Iterator[Seen]:
    """A hook that hashes the field again each time that the record is saved."""
    for event in facts.of(Kind.WRITES):
        if event.terms and _hashes_itself(event) and not event.branch:
            yield event, event.place, f"{event.how} is hashed whether it changed or not"


def changed_on_one_path(facts: Facts) -> Iterator[Seen]:
    """A password that is trimmed, folded, escaped or cut where it is set, or where it is checked."""
    ways: dict[tuple[str, tuple[str, ...]], list[tuple[Event, tuple[str, ...], Place]]] = {}
    for event in facts.of(Kind.WRITES, Kind.COMPARES, Kind.CHECKS, Kind.FINDS):
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


def _concerns_password(event: Event, term: Term) -> bool:
    if event.kind is Kind.WRITES and role_of(event.how) is Role.SALT:
        return False
    if event.kind is Kind.CHECKS:
        return is_typed(term)
    return any(inputs(step, Role.PASSWORD) for step in hashing_steps(term))


def cut_password(facts: Facts) -> Iterator[Seen]:
    """A password of which only a part counts."""
    for event in facts.of(Kind.MAKES, Kind.CHECKS):
        for step in typed_steps(event.terms[0]):
            if step.name == "slice":
                yield event, _at(event, step), "only a part of the password counts"
                break


def folded_password(facts: Facts) -> Iterator[Seen]:
    """A password whose letter case does not count."""
    for event in facts.of(Kind.MAKES, Kind.CHECKS):
        for step in typed_steps(event.terms[0]):
            if step.name in {"lower", "upper"}:
                yield event, _at(event, step), "the letter case does not count"
                break


def beyond_72_bytes(facts: Facts) -> Iterator[Seen]:
    """Bcrypt over text that is longer than the 72 bytes that it reads."""
    for event in facts.of(Kind.MAKES):
        step = event.terms[0]
        if not isinstance(step, Step) or step.name != "scheme" or step.detail != "bcrypt":
            continue
        for option in options(step.of[0]):
            if isinstance(option, Step) and option.name == "hex" and hashes(option):
                if (
                    option.of
                    and isinstance(option.of[0], Step)
                    and (option.of[0].detail in {"sha384", "sha512", "sha3-512"})
                ):
                    yield event, event.place, "hexadecimal text of more than 72 characters"
            elif isinstance(option, Step) and option.name == "join" and is_typed(option):
                first = option.of[0]
                if not is_typed(first) and inputs(first, Role.LOGIN, Role.SALT, Role.KEY):
                    yield event, event.place, "what stands before the password uses its bytes up"


def nul_after_digest(facts: Facts) -> Iterator[Seen]:
    """Bcrypt or crypt(3) over the bytes of a digest, in which a NUL ends the password."""
    for event in facts.of(Kind.MAKES, Kind.CHECKS):
        step = event.terms[0]
        if event.kind is Kind.MAKES:
            if not isinstance(step, Step) or step.detail not in {"bcrypt", "crypt"}:
                continue
            step = step.of[0]
        for option in options(step):
            if isinstance(option, Step) and option.name in {"digest", "hmac"} and hashes(option):
                yield event, event.place, f"the bytes of {option.detail} go in as they are"


def printed_bytes(facts: Facts) -> Iterator[Seen]:
    """Bytes that are stored as the language prints them."""
    for event, term, is_stored in facts.hashes:
        for found in inside(term):
            if not isinstance(found, Step) or not is_stored:
                continue
            if (
                found.name in {"printed", "as-text"}
                and isinstance(found.of[0], Step)
                and (found.of[0].name in {"digest", "hmac", "pbkdf2"})
            ):
                yield event, _at(event, found), "bytes become text without an encoding"
                break


def encrypted(facts: Facts) -> Iterator[Seen]:
    """A password that is encrypted, so that the key opens all."""
    for event in facts.of(Kind.ENCRYPTS):
        if any(is_typed(option) for term in event.terms for option in options(term)):
            yield event, event.place, "who has the key reads every password"


def key_in_source(facts: Facts) -> Iterator[Seen]:
    """A key that stands in the source."""
    for event in facts.of(Kind.MAKES):
        step = event.terms[0]
        if not isinstance(step, Step) or not inputs(step, Role.PASSWORD, Role.FIELD):
            continue
        if step.name == "hmac" and isinstance(step.of[1], Constant) and step.of[1].value:
            yield event, step.of[1].place or event.place, _key_name(step.of[1])
        if step.name == "digest":
            for found in constants_beside(step):
                if found.name and role_of(found.name) is Role.KEY:
                    yield event, found.place or event.place, _key_name(found)
    for event in facts.of(Kind.ENCRYPTS):
        for found in event.terms[1:]:
            if isinstance(found, Constant) and found.value and is_typed(event.terms[0]):
                yield event, found.place or event.place, _key_name(found)


def _key_name(found: Constant) -> str:
    return f"{found.name} is a constant" if found.name else "the key is a constant"


def _left(facts: Facts, *ways: str) -> Iterator[tuple[Event, Term]]:
    for event in facts.of(Kind.LEAVES):
        if event.how in ways:
            for term in event.terms:
                for option in options(term):
                    yield event, option


def password_logged(facts: Facts) -> Iterator[Seen]:
    """A password that goes into a log or a file."""
    for event, term in _left(facts, "log", "file"):
        if is_typed(term) and _told(term):
            yield event, event.place, f"the password goes to a {event.how}"


def _told(term: Term) -> bool:
    """Tell whether the password itself is told, not only whether it was given."""
    return not isinstance(term, Step) or term.name not in {"compared", "checked", "length"}


def hash_logged(facts: Facts) -> Iterator[Seen]:
    """A stored value that goes into a log or a file."""
    for event, term in _left(facts, "log", "file"):
        if not is_typed(term) and (_is_stored(term) or is_record(term)):
            yield event, event.place, f"a stored value goes to a {event.how}"


def _is_stored(term: Term) -> bool:
    return any(
        (isinstance(found, Input) and found.role in {Role.STORED, Role.FIELD}
         and not found.is_request)
        or (isinstance(found, Step) and found.name in {"digest", "hmac", "pbkdf2", "scheme"}
            and hashes(found))
        for found in inside(term, through_hashes=False)
    )  # fmt: skip


def answered(facts: Facts) -> Iterator[Seen]:
    """A password or stored value in what is sent back."""
    for event, term in _left(facts, "response"):
        if is_record(term):
            yield event, event.place, "the whole row is sent, with the stored value"
        elif is_typed(term) and _told(term):
            yield event, event.place, "the password is sent back"
        elif _is_stored(term):
            yield event, event.place, "a stored value is sent"


def in_token(facts: Facts) -> Iterator[Seen]:
    """A password or stored value in a URL, cookie or token."""
    for event, term in _left(facts, "URL", "cookie", "token"):
        if (is_typed(term) and _told(term)) or _is_stored(term) or is_record(term):
            yield event, event.place, f"it goes into a {event.how}"


def mailed(facts: Facts) -> Iterator[Seen]:
    """A password in a mail."""
    for event, term in _left(facts, "mail"):
        if (is_typed(term) and _told(term)) or _is_stored(term):
            yield event, event.place, "it goes into a mail"


def different_answers(facts: Facts) -> Iterator[Seen]:
    """Another answer for an unknown login than for a wrong password."""
    checking = {
        (event.place.path, event.function)
        for event in facts.of(Kind.CHECKS, Kind.COMPARES)
        if any(is_typed(term) or hashes(term) for term in event.terms)
    }
    for event, term in _left(facts, "response", "URL"):
        if (event.place.path, event.function) not in checking:
            continue
        for found in inside(term):
            if (
                isinstance(found, Constant)
                and isinstance(found.value, str)
                and (_UNKNOWN_USER.search(found.value))
            ):
                yield event, event.place, "the answer says that the login is unknown"
                break


def seeded(facts: Facts) -> Iterator[Seen]:
    """A constant that is written as a password: a seed, fixture or script."""
    for event in facts.of(Kind.WRITES):
        if role_of(event.how) not in {Role.PASSWORD, Role.STORED} or "field" in event.notes:
            continue
        for option in options(event.terms[0]) if event.terms else ():
            if isinstance(option, Constant) and isinstance(option.value, str) and option.value:
                yield event, event.place, f"a constant is written to {event.how}"
                break


def stored_readable(facts: Facts) -> Iterator[Seen]:
    """A password that is written as it was typed, or only encoded."""
    for event in facts.of(Kind.WRITES):
        if role_of(event.how) not in {Role.PASSWORD, Role.STORED} or "field" in event.notes:
            continue
        for option in options(event.terms[0]) if event.terms else ():
            if is_typed(option) and not _is_encrypted(option):
                how = "only encoded" if isinstance(option, Step) and option.name in {
                    "base64", "hex", "reverse",
                } else "as it was typed"  # fmt: skip
                yield event, event.place, f"{event.how} gets the password {how}"
                break


def _is_encrypted(term: Term) -> bool:
    return any(isinstance(found, Step) and found.name == "encrypted" for found in inside(term))


def no_rehash(facts: Facts) -> Iterator[Seen]:
    """A right login after which nothing asks whether the stored value is outdated."""
    for event in facts.of(Kind.CHECKS):
        if event.language not in facts.has_rehash and any(map(is_typed, event.terms)):
            yield event, event.place, "the stored value stays as it is"


def plain_fallback(facts: Facts) -> Iterator[Seen]:
    """A password that is compared with the stored text itself."""
    for event in facts.of(Kind.COMPARES):
        if len(event.terms) != 2:
            continue
        for typed, stored in (event.terms, event.terms[::-1]):
            is_plain = any(isinstance(each, Input) and each.role is Role.PASSWORD
                           for each in options(typed))  # fmt: skip
            if is_plain and any(_is_column(each) for each in options(stored)):
                yield event, event.place, "the stored text itself is accepted as password"
                break


def _is_column(term: Term) -> bool:
    return (
        isinstance(term, Input) and not term.is_request and (term.role in {Role.STORED, Role.FIELD})
    )


def mass_assignment(facts: Facts) -> Iterator[Seen]:
    """A record that takes whatever fields a request has."""
    for event in facts.of(Kind.WRITES):
        if event.how == "*":
            yield event, event.place, "every field of the request is written"


def cut_digest(facts: Facts) -> Iterator[Seen]:
    """A digest of which only a part is stored."""
    for event, term, _ in facts.hashes:
        for found in inside(term):
            if not isinstance(found, Step) or found.name != "slice" or not found.numbers[1]:
                continue
            inner = found.of[0]
            if isinstance(inner, Step) and (hashes(inner)) and inner.name in {"hex", "digest"}:
                kept = found.numbers[1] - found.numbers[0]
                if kept // (2 if inner.name == "hex" else 1) < _LEAST_DIGEST_BYTES:
                    yield event, _at(event, found), f"{kept} characters or bytes are kept"
                    break


def database_function(facts: Facts) -> Iterator[Seen]:
    """A database's own function for its own accounts, on passwords of an application."""
    for event in facts.of(Kind.MAKES):
        step = event.terms[0]
        if isinstance(step, Step) and step.detail.startswith("sql ") and step.detail != "sql crypt":
            yield event, event.place, f"{step.detail.removeprefix('sql ').upper()}()"
