"""The entry point: arguments, dispatch, errors and exit codes."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys

import argcomplete
from pydantic import ValidationError
from stamina.instrumentation import RetryDetails, set_on_retry_hooks

import bathotype
from bathotype.cli.commands import (
    access,
    capture,
    export,
    images,
    launch,
    lines,
    machines,
    operations,
    processes,
    regions,
    retirement,
    rules,
    sharing,
    versions,
)
from bathotype.cli.output import say
from bathotype.client import Client
from bathotype.core.errors import BathotypeError, Invalid, NotFound, Refused

_FAILED, _USAGE, _NOT_FOUND, _REFUSED, _INTERRUPTED = 1, 2, 3, 4, 130
_EPILOG = """\
environment: BATHOTYPE_URL, BATHOTYPE_TOKEN and BATHOTYPE_ACCOUNT go before what `auth login` keeps; the demo writes
  them to DIR/demo.env.
exit codes: 0 done, 1 failed, 2 usage, 3 not found, 4 refused by a rule or state.
completion: eval "$(register-python-argcomplete bathotype)"
"""


def build_parser() -> argparse.ArgumentParser:
    """All commands."""
    parser = argparse.ArgumentParser(
        prog="bathotype",
        description="Capture machines into versioned images, launch from them, track every instance.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"bathotype {bathotype.__version__}")
    parsers = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    modules = (
        machines, lines, capture, images, versions, regions, sharing, launch, rules, retirement, export, operations, access, processes,
    )  # fmt: skip
    for module in modules:
        module.register(parsers)
    return parser


def main(argv: list[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    parser = build_parser()
    argcomplete.autocomplete(parser)
    given, rest = parser.parse_known_args(argv)
    if rest and not getattr(given, "hands_on", False):
        parser.error(f"unrecognized arguments: {' '.join(rest)}")
    given.rest = rest
    try:
        with contextlib.ExitStack() as stack:
            client = stack.enter_context(connect(given)) if given.needs_client else None
            return given.handler(client, given) or 0
    except ValidationError as error:
        faults = "; ".join(f"{'.'.join(str(p) for p in e['loc'])}: {e['msg']}" for e in error.errors()[:3])
        return _fail(Invalid(f"The arguments are not valid: {faults}."), _USAGE)
    except Invalid as error:
        return _fail(error, _USAGE)
    except NotFound as error:
        return _fail(error, _NOT_FOUND)
    except Refused as error:
        return _fail(error, _REFUSED)
    except BathotypeError as error:
        return _fail(error, _FAILED)
    except KeyboardInterrupt:
        return _INTERRUPTED
    except BrokenPipeError:
        # The reader of our output has gone: not an error of ours.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return _fail(BathotypeError(f"{error.filename or ''}: {error.strerror or error}".lstrip(": ")), _FAILED)


def connect(given: argparse.Namespace) -> Client:
    """The client that a command works with."""
    set_on_retry_hooks([_tell_first])
    return Client.from_environment(account=given.acting_as or "")


def _tell_first(details: RetryDetails) -> None:
    """Say once that the service is waited for; what its library would log is nobody's to read."""
    if details.retry_num == 1:
        message = details.caused_by.message if isinstance(details.caused_by, BathotypeError) else str(details.caused_by)
        say(f"bathotype: {message} Trying again.", style="yellow" if sys.stderr.isatty() else "")


def _fail(error: BathotypeError, code: int) -> int:
    say(f"bathotype: {error}", style="red" if sys.stderr.isatty() else "")
    return code


if __name__ == "__main__":
    sys.exit(main())
