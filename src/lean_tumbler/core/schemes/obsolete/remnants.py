"""What a failed write left: names of nothing, prints of objects, failure tokens, masks.

Whoever finds one knows that some code ignored an error, or did not await a result.
Nobody's password is in it, so it opens nothing and is compared with nothing.
"""

from lean_tumbler.core.schemes.base import Contents, Kind, Layout
from lean_tumbler.core.schemes.derivation import Family

REMNANT = "remnant"
_SOURCE = "what languages and programs print for nothing, for objects and for failures"


def _layout(name: str, structure: str, pattern: str) -> Layout:
    return Layout(
        scheme=REMNANT,
        name=name,
        structure=structure,
        source=_SOURCE,
        kind=Kind.UNKNOWN,
        pattern=pattern,
        lengths_count=False,
        longest=200,
        build=lambda _: Contents(
            notes=("A failed write left it: no password opens the account, which needs a reset.",)
        ),
    )


LAYOUTS = (
    _layout(
        "name of nothing",
        "undefined, null, None, nil, NaN, \\N and the like",
        r"undefined|null|NULL|Null|<null>|\(null\)|None|nil|Nil|NIL|NaN|nan|<nil>|\\N|#N/A|N/A"
        r"|DBNull|System\.DBNull|Optional\.empty|Nothing|\[\]|\{\}|''|\"\"|b''|b\"\"",
    ),
    _layout(
        "print of an object",
        "[object Promise], <… object at 0x…>, Array, System.Byte[], [B@1b6d3586",
        r"\[object [A-Za-z]+\]|Promise \{ ?<?[a-z]+>? ?\}|Array|Object|#<[A-Za-z:]+(?:[^>]*)>"
        r"|<[A-Za-z_.]+ (?:object|function|method|Task|Future|coroutine)[^>]*>"
        r"|<(?:bound |built-in )?(?:function|method|generator|lambda|class) [^>]+>"
        r"|System\.[A-Za-z.]+(?:\[\])?"
        r"|\[[BCI]@[0-9a-f]{5,8}|[a-z]+(?:\.[A-Za-z0-9_$]+)+@[0-9a-f]{5,8}|<coroutine [^>]+>"
        r"|Resource id #[0-9]+|java\.util\.[A-Za-z.]+|\(function\)|function ?\([^)]*\) ?\{.*",
    ),
    _layout("failure of crypt(3)", "*0 or *1", r"\*[01]"),
    _layout(
        "mask",
        "*****, •••••, [REDACTED] and the like",
        r"\*{4,}|•{3,}|●{3,}|[<\[(]?(?:REDACTED|redacted|FILTERED|filtered|MASKED|masked|HIDDEN"
        r"|hidden|PROTECTED|removed|REMOVED)[>\])]",
    ),
    _layout(
        "print of an error",
        "Error: …, Exception …, Traceback …",
        r"(?:[a-z]+\.)*(?:[A-Z][A-Za-z]*)?(?:Error|Exception): [^\n]*"
        r"|Traceback \(most recent call last\)[^\n]*|Warning: [a-z_]+\(\)[^\n]*|Fatal error[^\n]*",
    ),
)

FAMILY = Family(name="remnants of failed writes", layouts=LAYOUTS)
