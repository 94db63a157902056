"""``auth``, ``members`` and ``keys``: who signs in, who may do what, and what signs versions."""

from __future__ import annotations

import argparse
import getpass
import os
import sys

from bathotype.cli.options import Subparsers, command, group
from bathotype.cli.output import emit_json, facts, out, say, table
from bathotype.client import Client
from bathotype.client.credentials import default_path, forget, load, save
from bathotype.client.login import accept_invitation, log_in
from bathotype.core.access.roles import Role, Verb
from bathotype.core.errors import BathotypeError, Invalid
from bathotype.wire.access import Token


def register(parsers: Subparsers) -> None:
    """Add the commands."""
    inner = group(parsers, "auth", "sign in, and the tokens that programs use")
    parser = command(
        inner,
        "login",
        _login,
        "sign in with a password, asked for or read from standard input; the token is saved on this machine",
        needs_client=False,
        examples="  bathotype auth login --url http://127.0.0.1:8620 --user orla",
    )
    _where(parser)
    parser.add_argument("--user", required=True)
    parser.add_argument("--days", type=float, default=30, help="days until you have to sign in again (default: 30)")
    parser = command(
        inner,
        "join",
        _join,
        "choose a password with the code of an invitation; both are asked for",
        needs_client=False,
        examples="  bathotype auth join --url http://127.0.0.1:8620 --invitation INVITATION",
    )
    _where(parser)
    command(
        inner,
        "password",
        _password,
        "choose another password; the old one and the new one are asked for",
        examples="  bathotype auth password",
    )
    command(
        inner,
        "logout",
        _logout,
        "revoke this machine's token and forget it",
        needs_client=False,
        examples="  bathotype auth logout",
    )
    command(
        inner,
        "whoami",
        _whoami,
        "show who is signed in, and what this token may do",
        examples="  bathotype auth whoami",
    )
    parser = command(
        inner,
        "bootstrap",
        _bootstrap,
        "on a host with the service's settings: make an account with a robot as its first steward, and print its token once",
        needs_client=False,
        examples="  bathotype auth bootstrap tide-core",
    )
    parser.add_argument("name", metavar="ACCOUNT")
    parser.add_argument("--robot", default="first", help="the robot is named ACCOUNT-ROBOT (default: first)")
    parser.add_argument("--days", type=int, default=90, help="days until the token expires (default: 90)")
    tokens = group(inner, "tokens", "API tokens")
    parser = command(
        tokens,
        "list",
        _tokens,
        "list tokens, with their last use",
        examples="  bathotype auth tokens list\n  bathotype auth tokens list --valid --sort expires",
    )
    parser.add_argument("--of", metavar="USER", help="only those of this person or robot")
    parser.add_argument("--valid", action="store_true", help="leave out those that are revoked or expired")
    parser.add_argument("--sort", choices=("made", "name", "user", "used", "expires"), help="default: newest first")
    parser = command(
        tokens,
        "make",
        _make_token,
        "make a token, for yourself or for a robot; shown once",
        examples="  bathotype auth tokens make pipeline --robot tide-builder --verb read --verb operate --days 90\n"
        "  bathotype auth tokens make nightly --robot tide-builder --verb read --verb run --sheet gauge-logging",
    )
    parser.add_argument("name")
    parser.add_argument("--robot", help="a robot of the account (default: you)")
    parser.add_argument(
        "--for", action="append", dest="accounts", metavar="ACCOUNT", help="may be repeated (default: all)"
    )
    parser.add_argument(
        "--verb",
        action="append",
        choices=[str(verb) for verb in Verb],
        help="may be repeated (default: all that you may do)",
    )
    parser.add_argument(
        "--sheet",
        action="append",
        metavar="NAME",
        help="the only saved sheets that it may run; with the verbs read and run",
    )
    parser.add_argument("--days", type=float, default=90, help="days until the token expires (default: 90)")
    parser = command(
        tokens,
        "revoke",
        _revoke,
        "revoke a token; it stops working at once",
        examples="  bathotype auth tokens revoke to-01a21acd",
    )
    parser.add_argument("token", metavar="ID")
    own = group(inner, "memberships", "accounts whose stewards ask you to be a member")
    command(own, "list", _offered, "list what is offered to you", examples="  bathotype auth memberships list")
    parser = command(
        own, "accept", _accept, "accept a membership", examples="  bathotype auth memberships accept harbour-watch"
    )
    parser.add_argument("of", metavar="ACCOUNT")
    parser = command(
        own,
        "leave",
        _leave,
        "decline a membership, or give up one that you have",
        examples="  bathotype auth memberships leave harbour-watch",
    )
    parser.add_argument("of", metavar="ACCOUNT")

    inner = group(parsers, "members", "who may act for the account")
    command(inner, "list", _members, "list the account's members", examples="  bathotype members list")
    parser = command(
        inner,
        "add",
        _add,
        "add a person, with an invitation to choose a password, or a robot",
        examples="  bathotype members add orla --role operator\n  bathotype members add tide-builder --role operator --robot",
    )
    parser.add_argument("user")
    parser.add_argument("--role", required=True, choices=[str(role) for role in Role])
    parser.add_argument("--robot", action="store_true", help="a name for a program: it has tokens, no password")
    parser = command(inner, "role", _role, "change a member's role", examples="  bathotype members role orla operator")
    parser.add_argument("user")
    parser.add_argument("role", choices=[str(role) for role in Role])
    parser = command(inner, "remove", _remove, "end a membership", examples="  bathotype members remove orla")
    parser.add_argument("user")
    parser = command(
        inner,
        "invite",
        _invite,
        "a new invitation for a person who has not used the first one, or has forgotten the password",
        examples="  bathotype members invite orla",
    )
    parser.add_argument("user")

    inner = group(parsers, "keys", "keys that sign versions")
    parser = command(inner, "list", _keys, "list an account's public keys", examples="  bathotype keys list")
    parser.add_argument("--of", metavar="ACCOUNT", help="default: your own")
    command(
        inner,
        "rotate",
        _rotate,
        "sign new versions with a new key; old signatures stay valid",
        examples="  bathotype keys rotate",
    )
    parser = command(
        inner,
        "distrust",
        _distrust,
        "make the signatures of a lost key invalid",
        examples="  bathotype keys distrust 2ce85b0290062ad2",
    )
    parser.add_argument("key", metavar="ID")


def _where(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--url", default=os.environ.get("BATHOTYPE_URL", ""), help="the service (default: BATHOTYPE_URL)"
    )


def _url(given: argparse.Namespace) -> str:
    if not given.url:
        raise Invalid("Which service?", advice="Give --url, or set BATHOTYPE_URL.")
    return str(given.url)


def _secret(prompt: str) -> str:
    """A secret from a terminal without an echo, or one line of standard input; never from the command line."""
    if sys.stdin.isatty():
        return getpass.getpass(f"{prompt}: ")
    return sys.stdin.readline().rstrip("\n")


def _login(_: Client, given: argparse.Namespace) -> None:
    made = log_in(_url(given), given.user, _secret("Password"), account=given.acting_as or "", days=given.days)
    save(default_path(), made)
    say(f"You are signed in. The token is saved in {default_path()}.")
    with Client.from_environment(account=made.account) as client:
        _whoami(client, given)


def _join(_: Client, given: argparse.Namespace) -> None:
    code = _secret("Code of the invitation")
    who = accept_invitation(_url(given), code, _secret("New password (12 characters or more)"))
    emit_json(who) if given.json else out(f"Now: bathotype auth login --url {given.url} --user {who.user}")


def _password(client: Client, given: argparse.Namespace) -> None:
    old = _secret("Old password")
    client.change_password(old, _secret("New password (12 characters or more)"))
    say("Your password is changed. You are signed out in every browser; your tokens stay good.")


def _logout(_: Client, given: argparse.Namespace) -> None:
    kept = load(default_path())
    if kept is None:
        return say("You are not signed in here.")
    try:
        with Client(kept.url, kept.token) as client:
            account = next((a.account for a in client.who_am_i().accounts), "")
        with Client(kept.url, kept.token, account=account) as client:
            client.revoke_token(kept.token_id)
    except BathotypeError as error:
        say(f"The token could not be revoked: {error}", style="dark_orange3")
    forget(default_path())
    return say("Logged out.")


def _whoami(client: Client, given: argparse.Namespace) -> None:
    who = client.who_am_i()
    if given.json:
        return emit_json(who)
    facts([("user", who.user), ("kind", who.kind)])
    table(("account", "role", "may"), ((a.account, a.role, ", ".join(a.verbs)) for a in who.accounts))


def _offered(client: Client, given: argparse.Namespace) -> None:
    rows = client.offered_memberships()
    if given.json:
        return emit_json(rows)
    table(("account", "role", "since"), ((m.account, m.role, m.since) for m in rows))


def _accept(client: Client, given: argparse.Namespace) -> None:
    who = client.accept_membership(given.of)
    emit_json(who) if given.json else out(f"You are a member of {given.of} now.")


def _leave(client: Client, given: argparse.Namespace) -> None:
    client.leave(given.of)
    emit_json({"left": given.of}) if given.json else out(f"You are no member of {given.of}.")


def _bootstrap(_: Client, given: argparse.Namespace) -> None:
    from bathotype.service import schema
    from bathotype.service.access.principals import make_token
    from bathotype.service.database import Database
    from bathotype.service.settings import Settings

    database = Database(Settings.from_environment().database_url, pool_size=1)
    schema.prepare(database)
    with database.sessions.begin() as session:
        token = make_token(session, given.name, given.robot, days=given.days)
    out(token)


def _tokens(client: Client, given: argparse.Namespace) -> None:
    rows = client.tokens(user=given.of, valid=given.valid, sort=given.sort)
    if given.json:
        return emit_json(rows)
    table(
        ("id", "name", "of", "may", "in", "last used", "expires", "revoked"),
        (
            (
                t.id, t.name, t.user, _may(t),
                ", ".join(t.accounts) if t.accounts is not None else "its accounts",
                f"{t.last_used_at:%Y-%m-%d} {t.last_used_from}" if t.last_used_at else "never",
                f"{t.expires_at:%Y-%m-%d}", f"{t.revoked_at:%Y-%m-%d}" if t.revoked_at else None,
            )
            for t in rows
        ),
    )  # fmt: skip


def _may(token: Token) -> str:
    sheets = f" ({', '.join(token.sheets)})" if token.sheets is not None else ""
    return ", ".join(token.verbs) + sheets if token.verbs is not None else "its role"


def _make_token(client: Client, given: argparse.Namespace) -> None:
    made = client.make_token(
        name=given.name, robot=given.robot, accounts=given.accounts, verbs=given.verb, sheets=given.sheet,
        days=given.days,
    )  # fmt: skip
    if given.json:
        return emit_json(made)
    say(f"{made.id}, until {made.expires_at:%Y-%m-%d}. It is shown this once:")
    out(made.token)


def _revoke(client: Client, given: argparse.Namespace) -> None:
    client.revoke_token(given.token)
    emit_json({"revoked": given.token}) if given.json else out(f"{given.token} revoked")


def _members(client: Client, given: argparse.Namespace) -> None:
    rows = client.members()
    if given.json:
        return emit_json(rows)
    accepted = {True: "", False: "not yet accepted"}
    table(
        ("user", "kind", "role", "since", ""), ((m.user, m.kind, m.role, m.since, accepted[m.accepted]) for m in rows)
    )


def _add(client: Client, given: argparse.Namespace) -> None:
    _tell(client.add_member(given.user, given.role, robot=given.robot), given)


def _invite(client: Client, given: argparse.Namespace) -> None:
    _tell(client.invite(given.user), given)


def _tell(member: object, given: argparse.Namespace) -> None:
    from bathotype.wire.access import Member

    assert isinstance(member, Member)
    if given.json:
        return emit_json(member)
    out(f"{member.user} {member.role}")
    if not member.accepted:
        say(f"{member.user} was asked, and is a member after `bathotype auth memberships accept ACCOUNT`.")
    if member.invitation:
        say("Its invitation, good for 7 days and one use (`bathotype auth join`):")
        out(member.invitation)


def _role(client: Client, given: argparse.Namespace) -> None:
    _tell(client.set_role(given.user, given.role), given)


def _remove(client: Client, given: argparse.Namespace) -> None:
    client.remove_member(given.user)
    emit_json({"removed": given.user}) if given.json else out(f"{given.user} removed")


def _show_keys(rows: list[object], given: argparse.Namespace) -> None:
    from bathotype.wire.access import PublicKey

    if given.json:
        return emit_json(rows)
    keys = [k for k in rows if isinstance(k, PublicKey)]
    table(
        ("key", "account", "state", "public (Ed25519)", "since", "until"),
        ((k.id, k.account, k.state, k.public, k.created_at, k.ended_at) for k in keys),
    )


def _keys(client: Client, given: argparse.Namespace) -> None:
    own = next((a.account for a in client.who_am_i().accounts), "")
    _show_keys(list(client.keys(given.of or given.acting_as or own)), given)


def _rotate(client: Client, given: argparse.Namespace) -> None:
    _show_keys(list(client.rotate_key()), given)


def _distrust(client: Client, given: argparse.Namespace) -> None:
    _show_keys(list(client.distrust_key(given.key)), given)
