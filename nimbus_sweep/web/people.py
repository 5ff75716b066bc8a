"""Signing in and out, and who does what is done.

Nobody signs in where the application answers on its own machine alone.
"""

from __future__ import annotations

import math
import time
from urllib.parse import urlsplit

from flask import Blueprint, Flask, Response, abort, jsonify, redirect, render_template, request, session, url_for
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter
from werkzeug.wrappers import Response as Redirect

from ..store import accounts
from .services import services
from .stages.common import Body, read_body

pages = Blueprint("people", __name__)

# Failures a minute before one has to wait: under a name, and from an address.
_BY_NAME, _BY_ADDRESS = RateLimitItemPerMinute(5), RateLimitItemPerMinute(20)
_OPEN = {"people.sign_in", "people.enter", "static"}


class Person(UserMixin):
    """Who is signed in, by what the browser is known by."""

    def __init__(self, token: str, name: str) -> None:
        self.id, self.name = token, name


def who() -> str:
    """Who does what is asked for; empty where the system has no name for it."""
    return str(current_user.name) if services().shared and current_user.is_authenticated else services().user


def install(app: Flask, secret: bytes, encrypted: bool) -> None:
    """Have people sign in."""
    app.secret_key = secret
    app.config.update(
        SESSION_COOKIE_NAME="nimbus-sweep", SESSION_COOKIE_HTTPONLY=True, SESSION_COOKIE_SAMESITE="Lax", SESSION_COOKIE_SECURE=encrypted
    )
    app.extensions["failures"] = MovingWindowRateLimiter(MemoryStorage())
    manager = LoginManager(app)
    manager.user_loader(_person)
    app.before_request(_signed_in)
    app.register_blueprint(pages)


def _person(token: str) -> Person | None:
    account = accounts.signed_in(token)
    return None if account is None else Person(token, account.name)


def _signed_in() -> Redirect | None:
    if request.endpoint in _OPEN or current_user.is_authenticated:
        return None
    if request.method == "GET" and request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html":
        return redirect(url_for("people.sign_in", onward=request.full_path.rstrip("?")))
    return abort(401, "You are not signed in any more. Sign in again in another tab, then do it once more here; nothing was lost.")


class _Who(Body):
    name: str = ""
    password: str = ""
    onward: str = ""


@pages.get("/sign-in")
def sign_in() -> str | Redirect:
    """The page to sign in on."""
    if current_user.is_authenticated:
        return redirect(url_for("rack.show"))
    return render_template("sign_in.html", onward=_inside(request.args.get("onward", "")))


@pages.post("/sign-in")
def enter() -> Response:
    """Sign in; after some failures one has to wait."""
    sent = read_body(_Who)
    name, address = sent.name.strip()[:200].casefold(), _address()
    failures: MovingWindowRateLimiter = _failures()
    for limit, of in ((_BY_NAME, f"name {name}"), (_BY_ADDRESS, f"address {address}")):
        if not failures.test(limit, of):
            left = max(1, math.ceil(failures.get_window_stats(limit, of).reset_time - time.time()))
            answer = jsonify(error=f"Too many attempts. Wait {left} seconds, then try again.")
            answer.status_code, answer.headers["Retry-After"] = 429, str(left)
            return answer
    account = accounts.known(sent.name, sent.password[:1000])
    if account is None:
        failures.hit(_BY_NAME, f"name {name}")
        failures.hit(_BY_ADDRESS, f"address {address}")
        abort(403, "The name or the password is not right.")
    # Nothing that was known of the browser before is worth anything from now on.
    session.clear()
    login_user(Person(accounts.sign_in(account), account.name))
    return jsonify(open=_inside(sent.onward))


@pages.post("/sign-out")
def leave() -> Response:
    """Sign out; a copy of the cookie is worth nothing from now on."""
    accounts.sign_out(current_user.get_id())
    logout_user()
    session.clear()
    return jsonify(open=url_for("people.sign_in"))


def _failures() -> MovingWindowRateLimiter:
    from flask import current_app

    kept: MovingWindowRateLimiter = current_app.extensions["failures"]
    return kept


def _address() -> str:
    """Who is at the other end."""
    port = request.environ.get("REMOTE_PORT", "")
    return (services().address_of(int(port)) if str(port).isdigit() else None) or request.remote_addr or ""


def _inside(onward: str) -> str:
    """Where to go on, if that is a page of this application; the rack otherwise."""
    parts = urlsplit(onward)
    inside = onward.startswith("/") and not onward.startswith(("//", "/\\")) and not parts.netloc and not parts.scheme
    return onward if inside else url_for("rack.show")
