"""Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns."""

import importlib.util
import json
import sys
import time

from argon2 import low_level

_, file, value, many = sys.argv
spec = importlib.util.spec_from_file_location("written", file)
if spec is None or spec.loader is None:
    raise SystemExit(f"{file} is no module")
written = importlib.util.module_from_spec(spec)
sys.modules["written"] = written
spec.loader.exec_module(written)
check, row = written.KioskLogin(), written.Row(stored=value)
own = bare = 0.0
for _number in range(int(many)):
    start = time.perf_counter()
    check.check(row, "Gull 4711")
    own += time.perf_counter() - start
    start = time.perf_counter()
    low_level.verify_secret(value.encode(), b"Gull 4711", low_level.Type.ID)
    bare += time.perf_counter() - start
print(json.dumps([own, bare]))
