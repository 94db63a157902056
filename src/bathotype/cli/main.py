"""The entry point: arguments, dispatch, errors and exit codes.

Only the module of the command that was named is loaded, so that help and completion answer at once.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import TYPE_CHECKING

import bathotype
from bathotype.cli.descriptions import describe
from bathotype.core.errors import BathotypeError, Invalid

if TYPE_CHECKING:
    from stamina.instrumentation import RetryDetails

    from bathotype.client import Client

_INTERRUPTED = 130
#: The module of each command in `bathotype.cli.commands`, and what its help says of it.
COMMANDS: dict[str, tuple[str, str]] = {
    "today": ("overview", "show what needs you, what goes on, and which dates come near"),
    "offers": ("overview", "show what can be done with a line or a version now, and why not"),
    "storage": ("overview", "show the bytes that each line needs of each region's store"),
    "machines": ("machines", "machines at the sites"),
    "lines": ("lines", "named sequences of versions"),
    "marks": ("lines", "movable names on a line"),
    "capture": ("capture", "capture a machine's disks into a new version of a line; the machine keeps running"),
    "import": ("images", "bring an image file in as a new version of a line"),
    "edit": ("images", "make a new version from an old one by steps on its disk, which is not booted"),
    "sheets": ("builds", "files that say how a version is made from a base"),
    "build": ("builds", "make a version by the steps of a sheet, in a temporary machine"),
    "builds": ("builds", "runs of build sheets"),
    "secrets": ("secrets", "values for build runs that nobody can read back"),
    "prove": ("checks", "judge a version by checks on a throwaway instance of it"),
    "checks": ("checks", "runs of checks"),
    "versions": ("versions", "versions of a line"),
    "residue": ("versions", "show what the residue scan of a version found"),
    "resolve": ("versions", "show what another tool needs to launch a version"),
    "packages": ("versions", "list a version's packages, or the versions that hold a package"),
    "compare": ("versions", "show how the contents of two versions differ"),
    "regions": ("places", "regions, their sites and what these offer"),
    "profiles": ("places", "built-in generalization profiles"),
    "formats": ("places", "list the image formats that can be written and read"),
    "fits": ("targets", "judge a version or an image file by what another place demands"),
    "replicate": ("regions", "copy a version to other regions, or change the number of its copies there"),
    "replicas": ("regions", "show where a version is, or every version of a line"),
    "drain": ("regions", "remove a version from a region that does not need it"),
    "placement": ("regions", "the regions where a line's released versions are kept"),
    "share": ("sharing", "propose a line, or one version of it, to another account, which accepts or declines"),
    "shares": ("sharing", "lines and versions shared with other accounts, and by them"),
    "adopt": ("sharing", "take a shared version over into a line of your own; no chunk is copied"),
    "calendar": ("sharing", "list versions in sunset or retired that this account runs, with dates"),
    "launch": ("launch", "launch instances of a version, each with an identity of its own"),
    "instances": ("instances", "machines launched from versions"),
    "first-boot": ("launch", "saved first-boot settings"),
    "rules": ("rules", "launch rules: who may launch what"),
    "allowances": ("rules", "how many instances may run"),
    "sunset": ("retirement", "warn at every launch of a version, until it is retired on a date"),
    "retire": ("retirement", "refuse new launches of a version; its instances keep running"),
    "purge": ("retirement", "delete the bytes of a retired version that nothing else needs, and keep its record"),
    "export": ("export", "write a version's disk to a file: verified, and resumed if cut short"),
    "operations": ("operations", "durable pieces of work"),
    "events": ("operations", "the audit trail"),
    "alerts": ("operations", "conditions that need attention"),
    "repositories": ("repositories", "git repositories that build sheets come from"),
    "messages": ("messages", "who is notified of events, by webhook or mail"),
    "auth": ("access", "sign in, and the tokens that programs use"),
    "members": ("access", "who may act for the account"),
    "keys": ("access", "keys that sign versions"),
    "help": ("help", "what the words mean"),
    "serve": ("processes", "serve the HTTP API"),
    "worker": ("processes", "run operations and upkeep"),
    "schema": ("processes", "the database's tables"),
    "standin": ("processes", "serve the stand-in cloud"),
    "lab": ("processes", "prepare a real guest and register it at the stand-in"),
    "demo": ("processes", "start everything with demo data and run until stopped"),
}
_EPILOG = """\
environment: BATHOTYPE_URL, BATHOTYPE_TOKEN and BATHOTYPE_ACCOUNT take precedence over what `auth login` keeps; the demo
  writes them to DIR/demo.env.
exit codes: 0 done, 1 failed, 2 usage, 3 not found, 4 refused by a rule or state (a plan: it has obstacles),
  5 not signed in. With --json an error is one problem document (RFC 9457) on standard error.
completion: eval "$(register-python-argcomplete bathotype)"
"""


def build_parser(named: str | None) -> argparse.ArgumentParser:
    """The parser; of the commands only the one that is named has its own arguments."""
    parser = argparse.ArgumentParser(
        prog="bathotype",
        description="Capture machines into versioned images, launch from them, track every instance.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"bathotype {bathotype.__version__}")
    parser.add_argument(
        "--account",
        metavar="ACCOUNT",
        dest="account_first",
        help="act for this account of yours; also after the command",
    )
    parsers = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    wanted = COMMANDS[named][0] if named in COMMANDS else None
    loaded = False
    for name, (module, about) in COMMANDS.items():
        if module != wanted:
            parsers.add_parser(name, help=about, add_help=False)
        elif not loaded:  # one module registers all of its commands
            import_module(f"bathotype.cli.commands.{module}").register(parsers)
            loaded = True
    describe(parser)
    return parser


def _named(argv: Sequence[str]) -> str | None:
    """The command on a command line, or on the one that a shell asks to complete."""
    words = list(os.environ["COMP_LINE"].split()[1:] if "_ARGCOMPLETE" in os.environ else argv)
    if words and words[0] == "--account":
        del words[:2]
    return next((word for word in words if not word.startswith("-")), None)


def main(argv: list[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    parser = build_parser(_named(sys.argv[1:] if argv is None else argv))
    if "_ARGCOMPLETE" in os.environ:
        import argcomplete

        from bathotype.cli.completion import attach

        attach(parser)
        argcomplete.autocomplete(parser)
    given, rest = parser.parse_known_args(argv)
    if rest and not getattr(given, "hands_on", False):
        given.usage_error(f"unrecognized arguments: {' '.join(rest)}")
    given.rest = rest
    if getattr(given, "ndjson", False):
        given.json = True
    try:
        if given.needs_client or getattr(given, "json", False):
            from bathotype.cli.output import configure

            configure(given)
        with contextlib.ExitStack() as stack:
            client = stack.enter_context(connect(given)) if given.needs_client else None
            return given.handler(client, given) or 0
    except BathotypeError as error:
        return _fail(error, given)
    except KeyboardInterrupt:
        return _INTERRUPTED
    except BrokenPipeError:
        # The reader of our output has gone: not an error of ours.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return _fail(BathotypeError(f"{error.filename or ''}: {error.strerror or error}".lstrip(": ")), given)
    except UnicodeError:
        return _fail(
            Invalid("A text that was given holds what is no UTF-8.", advice="Give it in that encoding."), given
        )
    except ValueError as error:
        from pydantic import ValidationError

        from bathotype.core.faults import faults_of

        if not isinstance(error, ValidationError):
            raise
        return _fail(Invalid(f"The arguments are not valid: {faults_of(error)}."), given)


def connect(given: argparse.Namespace) -> Client:
    """The client that a command works with."""
    from stamina.instrumentation import set_on_retry_hooks

    from bathotype.client import Client

    set_on_retry_hooks([_tell_first])
    return Client.from_environment(account=given.acting_as or given.account_first or "")


def _tell_first(details: RetryDetails) -> None:
    """Say once that the command waits for the service, instead of the retry library's own log."""
    if details.retry_num == 1:
        from bathotype.cli.output import say

        message = details.caused_by.message if isinstance(details.caused_by, BathotypeError) else str(details.caused_by)
        say(f"bathotype: {message} Trying again.", style="yellow" if sys.stderr.isatty() else "")


def _fail(error: BathotypeError, given: argparse.Namespace) -> int:
    from bathotype.cli.output import say, say_problem

    if getattr(given, "json", False):
        say_problem(error)
    else:
        say(f"bathotype: {error}", style="red" if sys.stderr.isatty() else "")
    return error.exit_code


if __name__ == "__main__":
    sys.exit(main())
