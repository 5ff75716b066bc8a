"""Who may come in from other machines: signing in and out, attacked; OWASP Application Security Verification Standard 5.0, 6 and 7."""

from __future__ import annotations

import re
import stat
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from click.testing import CliRunner
from flask import Flask
from flask.testing import FlaskClient
from werkzeug.test import TestResponse

from nimbus_sweep.cli.group import main
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.store import accounts, edits
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Account, Reel, SignedIn, database, open_database
from nimbus_sweep.web.app import create_app
from nimbus_sweep.web.services import Services
from nimbus_sweep.web.viewing import Viewing
from tests.conftest import small, write_movie
from tests.web.conftest import ASKED, ByPlace, Desk

WORD = "four unlike words here"


@pytest.fixture
def house(desk: Desk) -> Iterator[Flask]:
    """The application as other machines reach it, with two users."""
    data = desk.services.data
    with database.connection_context():
        for name in ("Maren Holt", "Ivo"):
            accounts.add(name, WORD)
    app = create_app(Services(data, Queue(data), Viewing(data), desk.services.allowed, shared=True, user="whoever runs it"), encrypted=True)
    app.testing = True
    app.test_client_class = ByPlace
    yield app


def come(app: Flask) -> FlaskClient:
    return app.test_client()


def sign_in(client: FlaskClient, name: str = "Maren Holt", word: str = WORD, **more: str) -> TestResponse:
    return client.post("/sign-in", json={"name": name, "password": word, **more}, headers=ASKED, base_url="https://localhost")


def ask(client: FlaskClient, url: str, **headers: str) -> TestResponse:
    return client.get(url, headers={"Accept": "text/html", **headers}, base_url="https://localhost")


def cookie(answer: TestResponse) -> str:
    return re.search(r"nimbus-sweep=([^;]+)", answer.headers["Set-Cookie"])[1]  # type: ignore[index]


def test_nobody_sees_anything_before_signing_in(house: Flask) -> None:
    client = come(house)
    for rule in house.url_map.iter_rules():
        if rule.endpoint in ("static", "people.sign_in", "people.enter") or "GET" not in (rule.methods or ()):
            continue
        found = re.sub(r"<any\(([^,)]+)[^>]*>|<[^>]+>", lambda m: m[1] or "1", rule.rule)
        answer = client.get(found, headers={"Accept": "application/json"}, base_url="https://localhost")
        assert answer.status_code in (401, 404), found
        assert answer.status_code == 401 or "not signed in" not in answer.text
    answer = ask(client, "/reels/1/treatment?shot=4")
    assert answer.status_code == 302
    assert answer.location == "/sign-in?onward=/reels/1/treatment?shot%3D4"
    assert client.post("/settings", json={"room": "dim"}, headers=ASKED, base_url="https://localhost").status_code == 401


def test_one_signs_in_goes_on_where_one_was_and_out_again(house: Flask) -> None:
    client = come(house)
    assert "Password" in ask(client, "/sign-in").text
    answer = sign_in(client, onward="/reels/1/treatment?shot=4")
    assert answer.get_json() == {"open": "/reels/1/treatment?shot=4"}
    told = answer.headers["Set-Cookie"]
    assert all(word in told for word in ("Secure", "HttpOnly", "SameSite=Lax"))
    rack = ask(client, "/")
    assert "Maren Holt" in rack.text and "Sign out" in rack.text
    assert ask(client, "/sign-in").location == "/"
    assert client.post("/sign-out", headers=ASKED, base_url="https://localhost").get_json()["open"] == "/sign-in"
    assert ask(client, "/").status_code == 302


@pytest.mark.parametrize("away", ["//evil.example/", "https://evil.example/", "/\\evil.example", "javascript:alert(1)", "evil"])
def test_signing_in_leads_nowhere_else(house: Flask, away: str) -> None:
    assert sign_in(come(house), onward=away).get_json() == {"open": "/"}


def test_a_cookie_that_was_stolen_is_worth_nothing_after_signing_out(house: Flask) -> None:
    client = come(house)
    stolen = cookie(sign_in(client))
    thief = come(house)
    thief.set_cookie("nimbus-sweep", stolen, secure=True, domain="localhost")
    assert ask(thief, "/").status_code == 200, "while it lasts it is the same browser to the server"
    client.post("/sign-out", headers=ASKED, base_url="https://localhost")
    assert ask(thief, "/").status_code == 302
    assert SignedIn.select().count() == 0


def test_a_cookie_that_was_there_before_signing_in_is_not_the_one_that_is_signed_in(house: Flask) -> None:
    """Session fixation: whoever plants a cookie knows nothing of the one that is given out at signing in."""
    attacker = come(house)
    with attacker.session_transaction(base_url="https://localhost") as planted:
        planted["_user_id"] = "planted"
    before = attacker.get_cookie("nimbus-sweep")
    assert before is not None
    victim = come(house)
    victim.set_cookie("nimbus-sweep", before.value, secure=True, domain="localhost")
    after = cookie(sign_in(victim))
    assert after != before.value
    assert ask(attacker, "/").status_code == 302
    again = cookie(sign_in(victim))
    assert again != after, "another one each time"


def test_cookies_cannot_be_made_up(house: Flask, desk: Desk) -> None:
    client = come(house)
    stolen = cookie(sign_in(client))
    for made in ("", "x" * 80, stolen[:-2] + ("aa" if stolen[-2:] != "aa" else "bb")):
        other = come(house)
        other.set_cookie("nimbus-sweep", made, secure=True, domain="localhost")
        assert ask(other, "/").status_code == 302
    secret = desk.services.data.root / "secret"
    assert stat.S_IMODE(secret.stat().st_mode) == 0o600
    kept = SignedIn.get()
    assert kept.token not in stolen, "the database alone lets nobody in"


def test_guessing_is_slowed_down_for_a_name_and_for_an_address(house: Flask) -> None:
    client = come(house)
    for _ in range(5):
        answer = sign_in(client, word="wrong")
        assert answer.status_code == 403
        assert "name or the password" in answer.get_json()["error"], "it does not tell which"
    answer = sign_in(client)
    assert answer.status_code == 429, "nor with the right one, once it was guessed at too often"
    assert re.fullmatch(r"Too many attempts\. Wait \d+ seconds, then try again\.", answer.get_json()["error"])
    assert 0 < int(answer.headers["Retry-After"]) <= 60
    assert sign_in(client, name="Ivo").status_code == 200, "others come in"
    for n in range(16):
        sign_in(come(house), name=f"nobody {n}", word="wrong")
    assert sign_in(come(house), name="Ivo").status_code == 429, "not from where names are tried one after another"


def test_other_sites_sign_nobody_in_or_out(house: Flask) -> None:
    client = come(house)
    sign_in(client)
    for headers in ({"Origin": "https://evil.example"}, {"Sec-Fetch-Site": "cross-site"}):
        answer = client.post("/sign-out", headers={**ASKED, **headers}, base_url="https://localhost")
        assert answer.status_code == 403
    assert client.post("/sign-out", base_url="https://localhost").status_code == 403, "a form of another site cannot say this"
    assert client.post("/sign-in", data={"name": "Ivo", "password": WORD}, base_url="https://localhost").status_code == 403
    assert ask(client, "/").status_code == 200


def test_one_who_is_removed_is_out_at_once_and_what_he_did_stays(house: Flask, desk: Desk) -> None:
    client = come(house)
    sign_in(client, "Ivo")
    path = write_movie(desk.services.allowed[0] / "reel.mkv", small(12))
    desk.post("/reels/open", {"path": str(path)})
    desk.work()
    client.post("/reels/1/steps?shot=0", json={"kind": "pixel-mend"}, headers=ASKED, base_url="https://localhost")
    database.connect(reuse_if_open=True)
    accounts.remove("Ivo")
    answer = client.get("/reels/1/pulse", headers=ASKED, base_url="https://localhost")
    assert answer.status_code == 401
    assert "Sign in again" in answer.get_json()["error"]
    assert sign_in(client, "Ivo").status_code == 403
    assert edits.current(Reel.get_by_id(1)).who == "Ivo"


def test_signing_in_ends_by_itself(house: Flask, monkeypatch: pytest.MonkeyPatch) -> None:
    client = come(house)
    sign_in(client)
    monkeypatch.setattr(accounts, "IDLE", timedelta(seconds=-1))
    assert ask(client, "/").status_code == 302
    monkeypatch.undo()
    monkeypatch.setattr(accounts, "LONGEST", timedelta(seconds=-1))
    sign_in(client)
    assert ask(client, "/").status_code == 302


def test_another_password_signs_every_browser_out(house: Flask) -> None:
    client = come(house)
    sign_in(client)
    with database.connection_context():
        accounts.change_password("Maren Holt", "some other words now")
    assert ask(client, "/").status_code == 302
    assert sign_in(client).status_code == 403
    assert sign_in(client, word="some other words now").status_code == 200


def test_passwords_are_hashed_each_for_itself(house: Flask) -> None:
    with database.connection_context():
        one, other = Account.select().order_by(Account.id)
        assert one.secret.startswith("scrypt:") and WORD not in one.secret
        assert one.secret != other.secret


@pytest.mark.parametrize(
    ("name", "word", "said"),
    [("", WORD, "has a name"), ("Maren Holt", WORD, "There is a user"), ("Eda", "short", "too short"), ("a\nb", WORD, "has a name")],
)
def test_users_that_cannot_be(house: Flask, name: str, word: str, said: str) -> None:
    with database.connection_context(), pytest.raises(SweepError, match=said):
        accounts.add(name, word)


def test_on_this_machine_alone_nobody_signs_in(desk: Desk) -> None:
    assert desk.client.get("/").status_code == 200
    assert "Sign out" not in desk.client.get("/").text
    assert desk.client.get("/sign-in").status_code == 404


def test_changes_and_judgements_carry_the_name(house: Flask, desk: Desk) -> None:
    path = write_movie(desk.services.allowed[0] / "reel.mkv", small(12))
    reel = desk.take_in(path)
    client = come(house)
    sign_in(client)

    def post(url: str, body: dict[str, object]) -> TestResponse:
        answer = client.post(f"/reels/{reel}/{url}", json=body, headers=ASKED, base_url="https://localhost")
        assert answer.status_code == 200, answer.text
        return answer

    post("steps?shot=0", {"kind": "pixel-mend"})
    post("verdict?shot=0", {"verdict": "accepted"})
    sheet = ask(client, f"/reels/{reel}/sheet/inspection").text
    assert "Accepted by Maren Holt" in sheet
    other = come(house)
    sign_in(other, "Ivo")
    state = other.get(f"/reels/{reel}/state", base_url="https://localhost").get_json()
    assert re.fullmatch(r"Judged: accepted, \d\d:\d\d, by Maren Holt", state["undo"])
    mine = client.get(f"/reels/{reel}/state", base_url="https://localhost").get_json()
    assert "Maren" not in mine["undo"], "one's own are not named"
    assert post("papers", {})
    desk.work()
    page = ask(client, f"/papers/{desk.task('papers').id}/treatment.html").text
    assert "accepted by Maren Holt" in page


def test_two_who_press_render_at_once_get_one_and_are_told_whose(house: Flask, desk: Desk) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "reel.mkv", small(12)))
    one, other = come(house), come(house)
    sign_in(one)
    sign_in(other, "Ivo")
    first = one.post(f"/reels/{reel}/render", json={}, headers=ASKED, base_url="https://localhost").get_json()
    second = other.post(f"/reels/{reel}/render", json={}, headers=ASKED, base_url="https://localhost").get_json()
    assert second["task"] == first["task"]
    assert second["said"] == "This reel is being rendered already, begun by Maren Holt."
    other.post(f"/reels/{reel}/delivery", json={"kind": "v210"}, headers=ASKED, base_url="https://localhost")
    third = other.post(f"/reels/{reel}/render", json={}, headers=ASKED, base_url="https://localhost").get_json()
    assert "render again when it is done" in third["said"]


def test_the_commands_keep_the_list(tmp_path: Path) -> None:
    run = CliRunner()
    data = ["--data", str(tmp_path / "data")]

    def say(*words: str, typed: str = "") -> tuple[int, str]:
        done = run.invoke(main, ["user", *words, *data], input=typed)
        return done.exit_code, done.output

    assert say("list") == (1, f"nimbus-sweep: There is no database in {tmp_path / 'data'}. Name the data folder with --data.\n")
    assert say("add", "Maren Holt", typed=f"{WORD}\n") == (0, "Maren Holt can sign in now.\n")
    assert say("list") == (0, "Maren Holt\n")
    assert say("password", "Maren Holt", typed="quite another set\n")[0] == 0
    with_database = DataFolder(tmp_path / "data")
    opened = open_database(with_database.database)
    assert accounts.known("maren holt", "quite another set") is None, "names are as they were given"
    assert accounts.known("Maren Holt", "quite another set") is not None
    opened.close()
    assert say("remove", "Maren Holt")[0] == 0
    assert say("remove", "Maren Holt")[0] == 1
    assert "nobody yet" in say("list")[1]


def test_news_are_told_as_they_happen_and_end_with_the_signing_in(house: Flask, desk: Desk) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "reel.mkv", small(12)))
    client = come(house)
    sign_in(client)
    answer = client.get(f"/reels/{reel}/events", base_url="https://localhost", buffered=False)
    assert answer.mimetype == "text/event-stream"
    lines = iter(answer.response)
    assert next(lines) == b"retry: 1000\n\n"
    first = next(lines)
    assert first.startswith(b'data: {"reel": "ready"')
    client.post(f"/reels/{reel}/steps?shot=0", json={"kind": "pixel-mend"}, headers=ASKED, base_url="https://localhost")
    assert next(lines) != first
    client.post("/sign-out", headers=ASKED, base_url="https://localhost")
    assert b"event: over" in next(lines)
    answer.close()
