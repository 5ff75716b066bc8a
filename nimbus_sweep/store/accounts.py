"""Who may use the application from other machines, and who is signed in.

Passwords are kept as scrypt hashes by werkzeug (Percival and Josefsson, RFC 7914), what a browser is known by as a SHA-256.
"""

from __future__ import annotations

import hashlib
import secrets
import unicodedata
from datetime import UTC, datetime, timedelta
from typing import Any

import peewee as pw
from werkzeug.security import check_password_hash, generate_password_hash

from ..core.base.errors import SweepError
from .models import Account, SignedIn

SHORTEST = 10
# How long one stays signed in: without doing anything, and at all.
IDLE, LONGEST = timedelta(hours=12), timedelta(days=7)
# How often it is noted that somebody still is.
_NOTED = timedelta(minutes=1)
_LONGEST_NAME = 60


def add(name: str, password: str) -> Account:
    """Add a user.

    Raises
    ------
    SweepError
        If the name is taken or no name, or the password too short.
    """
    name = _name(name)
    if not name or len(name) > _LONGEST_NAME or not name.isprintable():
        raise SweepError(f"A user has a name of 1 to {_LONGEST_NAME} characters.")
    secret = _hashed(password)
    try:
        return Account.create(name=name, secret=secret)
    except pw.IntegrityError as error:
        raise SweepError(f"There is a user {name} already. Change the password with: nimbus-sweep user password {name}") from error


def change_password(name: str, password: str) -> None:
    """Give a user another password; whoever is signed in under the name has to sign in again."""
    account = named(name)
    Account.update(secret=_hashed(password)).where(Account.id == account.id).execute()
    _forget(SignedIn.account == account)


def remove(name: str) -> None:
    """Remove a user, who is signed out with it; what was done under the name stays."""
    named(name).delete_instance(recursive=True)


def any_there() -> bool:
    """Whether there is a user at all."""
    return bool(Account.select().exists())


def names() -> list[str]:
    """The names of all users."""
    return [account.name for account in Account.select().order_by(Account.name)]


def named(name: str) -> Account:
    """The user of that name; raises SweepError without one."""
    account = Account.get_or_none(Account.name == _name(name))
    if account is None:
        raise SweepError(f"There is no user {name}. See who there is with: nimbus-sweep user list")
    return account


def known(name: str, password: str) -> Account | None:
    """The user of that name and password; takes as long for a name that nobody has."""
    account = Account.get_or_none(Account.name == _name(name))
    right = check_password_hash(account.secret if account else _NOBODY, password)
    return account if right and account is not None else None


def sign_in(account: Account) -> str:
    """Note that a user is signed in; gives what the browser is known by from now on."""
    at = datetime.now(UTC)
    _forget(SignedIn.ends < _text(at))
    token = secrets.token_urlsafe(32)
    SignedIn.create(account=account, token=_digest(token), seen=_text(at), ends=_text(at + LONGEST))
    return token


def signed_in(token: str) -> Account | None:
    """Who a browser is signed in as; None when that has ended."""
    found = SignedIn.get_or_none(SignedIn.token == _digest(token))
    if found is None:
        return None
    at = datetime.now(UTC)
    seen = datetime.fromisoformat(found.seen)
    if _text(at) > found.ends or at - seen > IDLE:
        found.delete_instance()
        return None
    if at - seen > _NOTED:
        SignedIn.update(seen=_text(at)).where(SignedIn.id == found.id).execute()
    account: Account = found.account
    return account


def sign_out(token: str) -> None:
    """Forget a browser: what it was known by is worth nothing from now on."""
    _forget(SignedIn.token == _digest(token))


def _forget(where: Any) -> None:
    browsers: Any = SignedIn
    browsers.delete().where(where).execute()


def _name(name: str) -> str:
    # As it is typed differs between keyboards; spaces at its ends are slips.
    return unicodedata.normalize("NFC", name).strip()


def _hashed(password: str) -> str:
    if len(password) < SHORTEST:
        raise SweepError(f"The password is too short: take {SHORTEST} characters or more. Four words that do not belong together are good.")
    return generate_password_hash(password)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _text(at: datetime) -> str:
    return at.isoformat(timespec="milliseconds")


_NOBODY = generate_password_hash(secrets.token_urlsafe(16))
