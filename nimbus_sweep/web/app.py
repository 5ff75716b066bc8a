"""The Flask application and what guards it."""

from __future__ import annotations

import logging
import re
from threading import BoundedSemaphore
from urllib.parse import urlsplit

from flask import Flask, Response, abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue
from jinja2 import ChoiceLoader
from peewee import DatabaseError
from werkzeug.exceptions import HTTPException

from .. import wording
from ..core.base.errors import ChangedReel, SweepError
from ..core.base.failures import mark_failure
from ..logs import log_path
from ..store import edits
from ..store.models import Edit, Reel, database, is_full, writing
from ..wording import lamps
from ..wording.reels import FILTERS as REEL_WORDS
from ..wording.tracks import GLOBALS as TRACK_WORDS
from . import people
from .server import AT_WORK
from .services import Services, services
from .stages import (
    condition,
    delivery,
    eyes,
    inspection,
    intake,
    light,
    pictures,
    plates,
    rack,
    recipes,
    reels,
    regions,
    retouch,
    tracks,
    treatment,
    trials,
    wear,
)
from .stages.common import named_by_number

log = logging.getLogger(__name__)


class Application(Flask):
    """A change to a reel is made in one turn: whole or not at all, on what is there, and never over what its page has not seen."""

    def dispatch_request(self) -> ResponseReturnValue:
        """Answer a request, a few at once; what it names by number is looked for where it is now."""
        with _at_work:
            return self._dispatched()

    def _dispatched(self) -> ResponseReturnValue:
        named = _NAMED.match(request.path)
        if request.view_args is None or "reel_id" not in request.view_args or request.routing_exception is not None:
            return super().dispatch_request()
        if request.method != "POST":
            _translate(named)
            return super().dispatch_request()
        with services().queue.held(), writing():
            reel = Reel.get_or_none(Reel.id == request.view_args["reel_id"])
            if reel is None:
                return super().dispatch_request()
            _translate(named)
            edits.author.set((people.who(), request.headers.get("X-Page", "")[:40]))
            seen = request.headers.get("X-Revision", "")
            others = edits.unseen(reel, seen) if seen else []
            if others and request.endpoint in ("reels.undo", "reels.redo"):
                abort(409, _meanwhile(others[-1]))
            answer = self.make_response(super().dispatch_request())
            over = edits.lost(reel, reel.revision, others) if others and answer.status_code < 400 else None
            if over is not None:
                abort(409, _meanwhile(over))
            return answer


# The server has a thread for every page that is told the news; only so many are to work at once.
_at_work = BoundedSemaphore(AT_WORK)
# What a request names by its number.
_NAMED = re.compile(r"/reels/\d+/(findings|steps|tracks)/\d+")


def _translate(named: re.Match[str] | None) -> None:
    """Put the place of a finding, a step or a track, as it is now, where the request has its number."""
    if named is None or request.view_args is None or "index" not in request.view_args:
        return
    reel = Reel.get_or_none(Reel.id == request.view_args["reel_id"])
    if reel is not None and reel.state == "ready":
        request.view_args["index"] = named_by_number(reel, named[1], request.view_args["index"])


def _meanwhile(edit: Edit) -> str:
    who = f" by {edit.who}" if edit.who else ""
    return f"Meanwhile this was changed{who}: {edit.what}. The page shows it now; do it again if it is still wanted."


def create_app(shared: Services, encrypted: bool = False) -> Flask:
    """Make the application; `encrypted` says whether what is told to browsers may be told over encrypted connections alone."""
    app = Application(__name__)
    app.extensions["services"] = shared
    app.json.sort_keys = False  # type: ignore[attr-defined]
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.filters.update(wording.FILTERS)
    app.jinja_env.filters.update(REEL_WORDS)
    app.jinja_env.globals.update(lamps.GLOBALS)
    app.jinja_env.globals.update(TRACK_WORDS)
    assert app.jinja_loader is not None
    app.jinja_loader = ChoiceLoader([app.jinja_loader, wording.TEMPLATES])
    for stage in (
        rack,
        eyes,
        reels,
        intake,
        condition,
        light,
        treatment,
        recipes,
        wear,
        retouch,
        regions,
        tracks,
        plates,
        trials,
        inspection,
        delivery,
        pictures,
    ):
        app.register_blueprint(stage.pages)
    app.before_request(_guard)
    app.before_request(_connect)
    if shared.shared:
        people.install(app, shared.data.secret(), encrypted)
    app.jinja_env.globals["person"] = _person
    app.teardown_request(_close)
    app.after_request(_headers)
    app.register_error_handler(DatabaseError, _unstored)
    for odd in (OverflowError, RecursionError, UnicodeEncodeError):
        app.register_error_handler(odd, _odd)
    app.register_error_handler(SweepError, _explained)
    app.register_error_handler(HTTPException, _refused)
    app.register_error_handler(Exception, _unforeseen)
    return app


def _person() -> str:
    """Who is signed in; empty where nobody has to."""
    return people.who() if services().shared else ""


def _guard() -> None:
    hosts = services().hosts
    if hosts and request.host not in hosts:
        abort(421, "This application answers only under its own address.")
    if request.method not in ("GET", "HEAD"):
        origin = request.headers.get("Origin")
        foreign = origin is not None and urlsplit(origin).netloc != request.host
        if foreign or request.headers.get("Sec-Fetch-Site", "same-origin") not in ("same-origin", "none"):
            abort(403, "A page of another site asked for this; it was refused.")
        if request.headers.get("X-Requested-By") != "nimbus-sweep":
            abort(403, "Changes are made from the application's own pages only.")


def _connect() -> None:
    database.connect(reuse_if_open=True)


def _close(_error: BaseException | None) -> None:
    if not database.is_closed():
        database.close()


def _headers(response: Response) -> Response:
    response.headers.setdefault(
        "Content-Security-Policy",
        "default-src 'self'; img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'",
    )
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
    return response


def _odd(error: Exception) -> tuple[Response | str, int]:
    """A number larger than any that is given out, text nested deeper than any is, characters that stand for none."""
    if isinstance(error, OverflowError):
        return _said("There is nothing under that number.", 404)
    return _said("The request cannot be read: its text is no text, or is nested too deeply.", 400)


def _unstored(error: DatabaseError) -> tuple[Response | str, int]:
    if is_full(error):
        root = services().data.root
        return _said(f"The disk is full: nothing can be stored in {root}. Nothing was lost; free some space and do it again.", 507)
    if "locked" in str(error):
        return _said("Something else is being stored just now. Nothing was changed; do it again in a moment.", 503)
    return _unforeseen(error)


def _explained(error: SweepError) -> tuple[Response | str, int]:
    return _said(str(error), 409 if isinstance(error, ChangedReel) else 422)


def _refused(error: HTTPException) -> tuple[Response | str, int]:
    text = {404: "There is nothing here. It may have been removed; go back to the rack."}.get(error.code or 500, error.description or "")
    return _said(text, error.code or 500)


def _unforeseen(error: Exception) -> tuple[Response | str, int]:
    code = mark_failure(log, f"{request.method} {request.path}")
    where = log_path(services().data.root, "server")
    return _said(f"Something unforeseen went wrong ({type(error).__name__}). Nothing was changed; {where} says more at {code}.", 500)


def _said(text: str, status: int) -> tuple[Response | str, int]:
    if request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html" and request.method == "GET":
        return render_template("error.html", text=text), status
    return jsonify(error=text), status
