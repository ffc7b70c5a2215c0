"""Asks a written check, a question a line, and prints its answers: driver.py FILE CLASS KEYS."""

import base64
import importlib.util
import json
import sys
from pathlib import Path
from typing import Any

_, file, name, given = sys.argv
spec = importlib.util.spec_from_file_location("written", file)
assert spec is not None
assert spec.loader is not None
module = importlib.util.module_from_spec(spec)
sys.modules["written"] = module
spec.loader.exec_module(module)
login = getattr(module, name)({key: bytes.fromhex(raw) for key, raw in json.loads(given).items()})


def raw(text: str | None) -> bytes | None:
    return None if text is None else base64.b64decode(text)


def answered(asked: dict[str, Any]) -> dict[str, object]:
    password = base64.b64decode(asked["password"]).decode("utf-8", "surrogateescape")
    try:
        if asked.get("new"):
            return {"value": login.new_value(password, asked["login"], asked["account"])}
        row = module.Row(
            stored=raw(asked["stored"]), salt=raw(asked["salt"]), login=asked["login"],
            account=asked["account"],
            columns={column: raw(text) for column, text in asked["columns"].items()},
        )  # fmt: skip
        answer = login.check(row, password)
        if "file" in asked:
            key, expected = asked["key"].encode(), asked["expected"]
            login.count(Path(asked["file"]), key, asked["login"], answer, expected=expected)
    except module.CheckImpossible as error:
        return {"error": str(error)}
    except module.PasswordRefused as error:
        return {"reasons": ",".join(error.reasons)}
    else:
        return {
            "admitted": answer.admitted, "new_value": answer.new_value, "refusal": answer.refusal,
            "kept": answer.kept, "cohort": answer.cohort, "identity": answer.identity,
        }  # fmt: skip


for line in sys.stdin:
    sys.stdout.write(json.dumps(answered(json.loads(line))) + "\n")
