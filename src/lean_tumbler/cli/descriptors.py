"""Standard streams that are closed at the start: no file of ours takes their places."""

import os
import sys

_ACCESS = {"stdin": os.O_RDONLY, "stdout": os.O_RDONLY, "stderr": os.O_WRONLY}


def open_missing_descriptors() -> None:
    """Open the null device for each of the three that this process was started without.

    Otherwise the next file that is opened, a database for example, would get the number, and a
    message would be written into it. The one for results is opened for reading alone, so that
    writing to it is an error that is reported.
    """
    for number, (stream, access) in enumerate(_ACCESS.items()):
        try:
            os.fstat(number)
        except OSError:
            opened = os.open(os.devnull, access)
            os.dup2(opened, number)
            if opened != number:
                os.close(opened)
            mode = "r" if stream == "stdin" else "w"
            setattr(sys, stream, open(number, mode, encoding="utf-8"))  # noqa: PTH123, SIM115
