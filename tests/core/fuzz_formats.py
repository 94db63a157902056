"""Coverage-guided fuzzing of the image readers with atheris: ``python -m tests.core.fuzz_formats CORPUS -runs=N``.

Anything but our own errors, a read outside the file, or more than a bounded amount of reading is a crash.
"""

from __future__ import annotations

import sys

import atheris

with atheris.instrument_imports(include=["bathotype.core.formats"]):
    from bathotype.core.formats import catalogue  # noqa: F401
    from tests.core.test_formats import read_hostile


def main() -> None:
    """Fuzz until the runs or the time given on the command line are over."""
    atheris.Setup(sys.argv, read_hostile)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
