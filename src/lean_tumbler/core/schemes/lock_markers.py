"""Text that no password opens: how systems write "this account has no password login"."""

from lean_tumbler.core.schemes.base import Contents, Family, Kind, Layout

# shadow(5): a field that holds no valid crypt result, customarily starting with `!` or `*`,
# closes password login; `x` says that the value stands in another file.
_SOURCE = "shadow(5), passwd(5)"

LAYOUTS = (
    Layout(
        scheme="lock-marker",
        name="marker",
        structure="! !! * ** x *LK* *NP* !* *!",
        source=_SOURCE,
        kind=Kind.LOCKED,
        pattern=r"!|!!|\*|\*\*|x|\*LK\*|\*NP\*|!\*|\*!",
        build=lambda _: Contents(),
        longest=4,
    ),
    Layout(
        scheme="lock-marker",
        name="marker and old value",
        structure="! or * and an old value in dollar fields",
        source=_SOURCE,
        kind=Kind.LOCKED,
        starts=("!$", "*$", "!!$"),
        pattern=r"(?:!!?|\*)\$(?P<rest>[ -~]+)",
        lengths_count=False,
        build=lambda _: Contents(
            notes=("An old value stands behind the marker; removing it opens the account.",)
        ),
    ),
)

FAMILY = Family(name="lock markers", layouts=LAYOUTS)
