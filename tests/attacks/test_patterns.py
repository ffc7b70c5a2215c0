"""Whoever writes the text that a pattern is held against: none takes longer than the text is long."""

import json
import subprocess
import sys

LENGTH = 20_000  # a pattern that goes back and forth takes seconds for it, others a millisecond

# Every pattern that the project's own code compiles on import, against texts of few characters.
SEARCH = """
import importlib, json, pkgutil, re, sys, time
found, compiled = {}, re.compile

def noting(pattern, flags=0):
    made = compiled(pattern, flags)
    if "lean_tumbler" in sys._getframe(1).f_code.co_filename:
        found[made.pattern, made.flags] = made
    return made

re.compile = noting
import lean_tumbler
for module in pkgutil.walk_packages(lean_tumbler.__path__, "lean_tumbler."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)

def texts(pattern, length):
    parts = "a 0 A $ . / = , : ' \\" ( { * - & é".split() + [" ", "\\\\", "\\n", "\\t"]
    parts += [one + other for one in "a0'" for other in " ,$.=:'\\\\\\n"]
    beginnings = ["", *compiled("[A-Za-z0-9$={}:,@/._-]{2,}").findall(pattern)[:6]]
    for beginning in beginnings:
        for part in parts:
            yield (beginning + part * (length // len(part)))[:length] + "\\x01"

slow = []
for (pattern, _), made in found.items():
    is_bytes = isinstance(pattern, bytes)
    for text in texts(pattern.decode("latin-1") if is_bytes else pattern, int(sys.argv[1])):
        started = time.process_time()
        made.fullmatch(text.encode("utf-8") if is_bytes else text)
        made.match(text.encode("utf-8") if is_bytes else text)
        if time.process_time() - started > 1:
            slow.append([str(pattern), text[:20]])
print(json.dumps({"patterns": len(found), "slow": slow}))
"""


def test_no_pattern_goes_back_and_forth() -> None:
    """Each pattern is held against long texts of few characters, and of its own beginnings."""
    done = subprocess.run(
        [sys.executable, "-c", SEARCH, str(LENGTH)], capture_output=True, check=True, timeout=300
    )
    said = json.loads(done.stdout)
    assert said["slow"] == []
    assert said["patterns"] > 50
