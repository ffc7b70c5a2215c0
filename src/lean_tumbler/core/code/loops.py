"""Loops: as one step where a count is known, part by part where there are few, else a gap."""

from typing import TYPE_CHECKING

from lean_tumbler.core.code.program import Expression, LoopStatement, Name, Operation, Set
from lean_tumbler.core.code.sites import joined, number
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Fields,
    Gap,
    Handle,
    Term,
    TermStep,
    either,
    gap,
    inside,
)
from lean_tumbler.core.code.values import Ended, Variables

if TYPE_CHECKING:
    from lean_tumbler.core.code.evaluating import Evaluator

UNROLLED = 40  # rounds that are followed one by one
LARGEST_COUNT = 10_000_000


def looped(evaluator: "Evaluator", loop: LoopStatement, variables: "Variables") -> Ended:
    """Follow a loop, and leave in the variables what they hold behind it."""
    if loop.times is not None:
        return _counted(
            evaluator,
            loop,
            variables,
            loop.target,
            0,
            number(evaluator.value(loop.times, variables)),
        )
    if loop.over is not None:
        return _over(evaluator, loop, variables)
    counter = _counter(evaluator, loop, variables)
    if counter is not None:
        name, start, count = counter
        if count is None:
            over = _length_of(evaluator, loop.test, variables)
            if over is not None:
                return _bytewise(evaluator, loop, variables, Name(name, loop.line), over)
        return _counted(evaluator, loop, variables, Name(name, loop.line), start, count)
    if loop.test is not None:
        evaluator.value(loop.test, variables)
    return _unknown(evaluator, loop, variables)


def _counter(
    evaluator: "Evaluator", loop: LoopStatement, variables: "Variables"
) -> tuple[str, int, int | None] | None:
    """Give the variable that counts, where it begins, and how often the loop runs."""
    test = loop.test
    if isinstance(test, Set) and isinstance(test.target, Name):  # while (n--)
        count = number(variables.get(test.target.name, NOTHING))
        return (test.target.name, 0, count) if count is not None else None
    if not isinstance(test, Operation) or len(test.operands) != 2:
        return None
    left, right = test.operands
    if not isinstance(left, Name):
        return None
    start, step = number(variables.get(left.name, NOTHING)), _step(loop, left.name)
    if start is None or step is None:
        return None
    limit = number(evaluator.value(right, variables))
    if limit is None:
        return left.name, start, None
    if step < 0:
        start, limit, step = -start, -limit, -step
    extra = 1 if test.operator in {"<=", ">="} else 0
    return left.name, start, max(0, -(-(limit + extra - start) // step)) if step else None


def _step(loop: LoopStatement, name: str) -> int | None:
    """Tell by how much a variable grows in each round."""
    for statement in loop.body:
        value = getattr(statement, "value", None)
        if isinstance(value, Set) and isinstance(value.target, Name) and value.target.name == name:
            made = value.value
            if isinstance(made, Operation) and made.operator in {"+", "-"}:
                amount = getattr(made.operands[1], "value", None)
                if isinstance(amount, int):
                    return amount if made.operator == "+" else -amount
    return None


def _length_of(
    evaluator: "Evaluator", test: Expression | None, variables: "Variables"
) -> Term | None:
    """Give what a loop's test takes the length of."""
    if isinstance(test, Operation) and len(test.operands) == 2:
        found = evaluator.value(test.operands[1], variables)
        if isinstance(found, TermStep) and found.name == "length":
            return found.of[0]
    return None


def _counted(
    evaluator: "Evaluator", loop: LoopStatement, variables: "Variables", target: Expression | None,
    start: int, count: int | None,
) -> Ended:  # fmt: skip
    if count is None or not 0 <= count <= LARGEST_COUNT:
        return _unknown(evaluator, loop, variables)
    name = target.name if isinstance(target, Name) else ""
    if _as_one_step(evaluator, loop, variables, name, count):
        return Ended()
    if count > UNROLLED:
        return _unknown(evaluator, loop, variables)
    for turn in range(start, start + count):
        if name:
            variables[name] = Constant(turn)
        ended = evaluator.run(loop.body, variables)
        if ended.is_over:
            return ended
    return Ended()


def _as_one_step(
    evaluator: "Evaluator", loop: LoopStatement, variables: "Variables", counter: str, count: int
) -> bool:
    """Follow the body once from a placeholder for each variable that it changes.

    Gives False where a variable depends on the count or on another that changes beside it.
    """
    told = len(evaluator.events)
    trial = dict(variables)
    mark = TermStep("counter", ())
    if counter:
        trial[counter] = mark
    first = evaluator.run(loop.body, trial)
    changed = [
        name for name, term in trial.items() if variables.get(name) != term and name != counter
    ]
    del evaluator.events[told:]
    if first.is_over or first.results or not changed:
        return False
    holes: dict[str, Term] = {
        name: TermStep("hole", (), None, (), name) for name in changed if name in variables
    }
    if any(isinstance(variables.get(name), Handle) for name in changed):
        return False
    second = variables | holes
    if counter:
        second[counter] = mark
    evaluator.run(loop.body, second)
    made: dict[str, Term] = {}
    for name in changed:
        body = second[name]
        found = set(inside(body))
        if mark in found or any(hole in found for key, hole in holes.items() if key != name):
            if name not in variables:
                made[name] = Gap("what a loop holds in between")
                continue
            return False
        if name not in variables or holes[name] not in found:
            made[name] = body
        else:
            made[name] = TermStep(
                "loop", (variables[name], body), evaluator.place(loop.line), (count,), name
            )
    if count:
        variables.update(made)
    return True


def _over(evaluator: "Evaluator", loop: LoopStatement, variables: "Variables") -> Ended:
    if isinstance(loop.over, Operation) and loop.over.operator in {"range", "slice"}:
        bounds = [number(evaluator.value(each, variables)) for each in loop.over.operands]
        first, last = bounds
        if first is not None and last is not None:
            count = last - first + (loop.over.operator == "range")
            return _counted(evaluator, loop, variables, loop.target, first, count)
    over = evaluator.value(loop.over, variables) if loop.over is not None else NOTHING
    rounds = number(over)
    if rounds is not None:  # Go: a range over a number
        return _counted(evaluator, loop, variables, loop.target, 0, rounds)
    if isinstance(over, TermStep) and over.name == "range" and over.numbers:
        return _counted(evaluator, loop, variables, loop.target, over.numbers[0],
                        over.numbers[1] - over.numbers[0])  # fmt: skip
    if isinstance(over, Fields) and over.is_list and len(over.pairs) <= UNROLLED:
        for _, value in over.pairs:
            if loop.target is not None:
                evaluator.assign(loop.target, value, variables, loop.line)
            ended = evaluator.run(loop.body, variables)
            if ended.is_over:
                break
        return Ended()
    return _bytewise(evaluator, loop, variables, loop.target, over)


def _bytewise(
    evaluator: "Evaluator", loop: LoopStatement, variables: "Variables", target: Expression | None,
    over: Term,
) -> Ended:  # fmt: skip
    """Follow a loop over the bytes of a value: text that grows by each is their writing."""
    before = dict(variables)
    element = TermStep("element", (over,))
    if target is not None:
        evaluator.assign(target, element, variables, loop.line)
    if loop.test is not None and isinstance(target, Name):
        variables[target.name] = Gap("a count")
    ended = evaluator.run(loop.body, variables)
    for name, term in list(variables.items()):
        if name in before and before[name] != term:
            variables[name] = _grown(evaluator, before[name], term, over, loop.line)
    return type(ended)(ended.results)


def _grown(evaluator: "Evaluator", before: Term, after: Term, over: Term, line: int) -> Term:
    flat = after.of if isinstance(after, TermStep) and after.name == "join" else (after,)
    last = flat[-1]
    place = evaluator.place(line)
    is_upper = isinstance(last, TermStep) and last.name == "upper"
    written = last.of[0] if isinstance(last, TermStep) and is_upper else last
    if isinstance(written, TermStep) and written.name == "hex-byte":
        made: Term = TermStep("hex", (over,), place)
        if is_upper:
            made = TermStep("upper", (made,), place)
        return joined(evaluator.site(line), before, made)
    if isinstance(before, Fields) and isinstance(after, Fields):
        return after
    return either([before, gap("a loop that is not followed", place, (before, after))])


def _unknown(evaluator: "Evaluator", loop: LoopStatement, variables: "Variables") -> Ended:
    """Follow the body once; what it changed is not known."""
    before = dict(variables)
    if loop.target is not None:
        evaluator.assign(loop.target, Gap("a count"), variables, loop.line)
    ended = evaluator.run(loop.body, variables)
    place = evaluator.place(loop.line)
    for name, term in list(variables.items()):
        if name in before and before[name] != term:
            variables[name] = gap("a loop that is not followed", place, (before[name], term))
    return type(ended)(ended.results)
