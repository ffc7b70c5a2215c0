"""How mistakes in making stored values are seen."""

from collections.abc import Iterator

from lean_tumbler.core.code.mistakes.facts import (
    CodeFacts,
    Seen,
    constants_beside,
    hashes,
    typed_steps,
)
from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.terms import (
    GENERATED,
    Constant,
    Role,
    SourceLine,
    TermStep,
    hashing_steps,
    inputs,
    inside,
    is_typed,
    options,
)
from lean_tumbler.core.grades import Floor

_FAST = frozenset({"digest", "hmac"})


_LEAST_DIGEST_BYTES = 16


def _at(event: CodeEvent, step: TermStep) -> SourceLine:
    return step.place or event.place


def fast_digest(facts: CodeFacts) -> Iterator[Seen]:
    """A password that one fast digest, or a short loop of them, turns into what is stored."""
    for event, term, _ in facts.hashes:
        steps = list(hashing_steps(term))
        if steps and all(step.name in _FAST for step in steps):
            yield event, _at(event, steps[0]), f"{steps[0].detail} of a password"


def unsalted(facts: CodeFacts) -> Iterator[Seen]:
    """A digest of a password and of nothing that differs between accounts."""
    for event, term, is_stored in facts.hashes:
        steps = list(hashing_steps(term))
        if not is_stored or not steps or steps[-1].name == "scheme":
            continue
        others = inputs(term, Role.SALT, Role.LOGIN, Role.OTHER, Role.STORED, Role.RECORD,
                        Role.KEY, *GENERATED)  # fmt: skip
        if not others and not any(True for step in steps for _ in constants_beside(step)):
            yield event, _at(event, steps[0]), "nothing but the password goes in"


def constant_salt(facts: CodeFacts) -> Iterator[Seen]:
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


def weak_salt(facts: CodeFacts) -> Iterator[Seen]:
    """A salt that a clock, a counter or a generator for games makes."""
    for event, term, _ in facts.hashes:
        for step in hashing_steps(term):
            found = inputs(step, Role.WEAK, Role.CLOCK)
            if found:
                source = "a clock" if found[0].role is Role.CLOCK else "a generator for games"
                yield event, found[0].place or event.place, f"the salt is from {source}"
                break


def login_salt(facts: CodeFacts) -> Iterator[Seen]:
    """A salt that is the login."""
    for event, term, _ in facts.hashes:
        for step in list(hashing_steps(term))[-1:]:
            others = inputs(step, Role.SALT, Role.STORED, Role.RECORD, *GENERATED)
            if inputs(step, Role.LOGIN) and not others:
                yield event, _at(event, step), "the login is the only salt"


def low_cost(facts: CodeFacts) -> Iterator[Seen]:
    """A slow scheme whose cost is below the floor."""
    floor = Floor()
    for event in facts.of(EventKind.MAKES):
        step = event.terms[0]
        if not isinstance(step, TermStep) or not inputs(step, Role.PASSWORD, Role.FIELD):
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


def cut_password(facts: CodeFacts) -> Iterator[Seen]:
    """A password of which only a part counts."""
    for event in facts.of(EventKind.MAKES, EventKind.CHECKS):
        for step in typed_steps(event.terms[0]):
            if step.name == "slice":
                yield event, _at(event, step), "only a part of the password counts"
                break


def folded_password(facts: CodeFacts) -> Iterator[Seen]:
    """A password whose letter case does not count."""
    for event in facts.of(EventKind.MAKES, EventKind.CHECKS):
        for step in typed_steps(event.terms[0]):
            if step.name in {"lower", "upper"}:
                yield event, _at(event, step), "the letter case does not count"
                break


def beyond_72_bytes(facts: CodeFacts) -> Iterator[Seen]:
    """Bcrypt over text that is longer than the 72 bytes that it reads."""
    for event in facts.of(EventKind.MAKES):
        step = event.terms[0]
        if not isinstance(step, TermStep) or step.name != "scheme" or step.detail != "bcrypt":
            continue
        for option in options(step.of[0]):
            if isinstance(option, TermStep) and option.name == "hex" and hashes(option):
                if (
                    option.of
                    and isinstance(option.of[0], TermStep)
                    and (option.of[0].detail in {"sha384", "sha512", "sha3-512"})
                ):
                    yield event, event.place, "hexadecimal text of more than 72 characters"
            elif isinstance(option, TermStep) and option.name == "join" and is_typed(option):
                first = option.of[0]
                if not is_typed(first) and inputs(first, Role.LOGIN, Role.SALT, Role.KEY):
                    yield event, event.place, "what stands before the password uses its bytes up"


def nul_after_digest(facts: CodeFacts) -> Iterator[Seen]:
    """Bcrypt or crypt(3) over the bytes of a digest, in which a NUL ends the password."""
    for event in facts.of(EventKind.MAKES, EventKind.CHECKS):
        step = event.terms[0]
        if event.kind is EventKind.MAKES:
            if not isinstance(step, TermStep) or step.detail not in {"bcrypt", "crypt"}:
                continue
            step = step.of[0]
        for option in options(step):
            if (
                isinstance(option, TermStep)
                and option.name in {"digest", "hmac"}
                and hashes(option)
            ):
                yield event, event.place, f"the bytes of {option.detail} go in as they are"


def printed_bytes(facts: CodeFacts) -> Iterator[Seen]:
    """Bytes that are stored as the language prints them."""
    for event, term, is_stored in facts.hashes:
        for found in inside(term):
            if not isinstance(found, TermStep) or not is_stored:
                continue
            if (
                found.name in {"printed", "as-text"}
                and isinstance(found.of[0], TermStep)
                and (found.of[0].name in {"digest", "hmac", "pbkdf2"})
            ):
                yield event, _at(event, found), "bytes become text without an encoding"
                break


def cut_digest(facts: CodeFacts) -> Iterator[Seen]:
    """A digest of which only a part is stored."""
    for event, term, _ in facts.hashes:
        for found in inside(term):
            if not isinstance(found, TermStep) or found.name != "slice" or not found.numbers[1]:
                continue
            inner = found.of[0]
            if isinstance(inner, TermStep) and (hashes(inner)) and inner.name in {"hex", "digest"}:
                kept = found.numbers[1] - found.numbers[0]
                if kept // (2 if inner.name == "hex" else 1) < _LEAST_DIGEST_BYTES:
                    yield event, _at(event, found), f"{kept} characters or bytes are kept"
                    break


def _named_constant(found: Constant) -> str:
    line = f" (line {found.place.line} of {found.place.path})" if found.place else ""
    return f"the constant {found.name}{line}" if found.name else f"a constant{line}"
