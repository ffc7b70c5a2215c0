"""The solver: formulas a second, beside a bare loop."""

import hashlib
import time

from lean_tumbler.core.formulas.evaluation import Inputs
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


BENCHMARKS = (
    Benchmark(
        name="solve",
        run=lambda: (solver_rate(digest) for digest in ("md5", "sha1", "sha256", "sha512")),
    ),
)
