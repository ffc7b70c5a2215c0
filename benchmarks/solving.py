"""The solver: formulas a second, beside a bare loop."""

import hashlib
import time
from collections import Counter
from collections.abc import Iterator

from invented.puzzles import puzzles
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.formulas.solutions import Narrowed, SolvedAccount
from lean_tumbler.core.formulas.solver import Solver
from measuring import Benchmark, Row


def solver_rate(digest: str, seconds: float = 10.0) -> Row:
    """Candidates a second of a search that finds nothing, beside the bare digest's rate."""
    unknown = hashlib.new(digest, b"nothing that the solver would try").hexdigest()
    accounts = [
        SolvedAccount(
            inputs=Inputs(password=password, salt=salt.encode("ascii"), login=login), stored=unknown
        )
        for login, password, salt in (
            ("w.kell@tidepost.example", "Dunlin 42", "q8Xr2Lp0"),
            ("m.arne@tidepost.example", "ebb and flow", "Zt5nK1vw"),
        )
    ]
    solver = Solver(
        accounts,
        narrowed=Narrowed(digests=(digest,)),
        budget_seconds=seconds,
        clock=time.monotonic,
        progress=lambda _: None,
    )
    solution = solver.solve()
    compute = getattr(hashlib, digest)
    data, calls = b"q8Xr2Lp0Dunlin 42", 300_000
    started = time.perf_counter()
    for _ in range(calls):
        compute(data).digest()
    bare = calls / (time.perf_counter() - started)
    ours = solution.tried / solution.seconds
    return {
        "benchmark": f"formula solve, {digest} alone",
        "candidates_per_second": round(ours),
        "bare_digests_per_second": round(bare),
        "ratio": round(ours / bare, 2),
    }


FRESH = [
    Inputs(password=password, salt=b"a1b2c3d4", login="x.y@tidepost.example")
    for password in ("Puffin Nest 3", "kittiwake", "Zz9!storm")
]


def solved_puzzles(number: int = 110, seed: int = 1, budget_seconds: float = 60.0) -> Iterator[Row]:
    """How many formulas of old code's habits are found, by kind, and how many wrongly."""
    counts: dict[str, Counter[str]] = {}
    for puzzle in puzzles(number, seed=seed):
        solution = Solver(
            puzzle.accounts,
            budget_seconds=budget_seconds,
            clock=time.monotonic,
            progress=lambda _: None,
        ).solve()
        right = any(_are_alike(found, puzzle.formula) for found in solution.formulas)
        counts.setdefault(puzzle.kind, Counter()).update(
            puzzles=1, found=right, wrong=bool(solution.formulas) and not right
        )
    for kind, each in counts.items():
        yield {"benchmark": f"formula solve, {kind}", **each}
    yield {"benchmark": "formula solve, all of them", **sum(counts.values(), Counter())}


def _are_alike(found: str, meant: str) -> bool:
    """Tell whether two formulas give the same for accounts that neither was found from."""
    one, other = notation.parse(found), notation.parse(meant)
    return all(evaluate(one, inputs) == evaluate(other, inputs) for inputs in FRESH)


BENCHMARKS = (
    Benchmark(name="puzzles", run=solved_puzzles),
    Benchmark(
        name="solve",
        run=lambda: (solver_rate(digest) for digest in ("md5", "sha1", "sha256", "sha512")),
    ),
)
