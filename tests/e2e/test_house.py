"""A house: encrypted, with accounts, two people on one reel; directly and behind nginx."""

from __future__ import annotations

import datetime
import ipaddress
import os
import re
import shutil
import socket
import ssl
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from playwright.sync_api import Browser, BrowserContext, Page, expect

from tests.conftest import interruptible, small, write_movie
from tests.e2e.conftest import accessible

WORD = "four unlike words here"
DAY = datetime.timedelta(days=1)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def certificate(folder: Path, left: datetime.timedelta = 90 * DAY, name: str = "sweep") -> tuple[Path, Path]:
    """A certificate for this machine, signed by itself, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    now = datetime.datetime.now(datetime.UTC)
    title = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "sweep.house.example")])
    made = (
        x509.CertificateBuilder()
        .subject_name(title)
        .issuer_name(title)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - 100 * DAY)
        .not_valid_after(now + left)
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), critical=False)
        .sign(key, hashes.SHA256())
    )
    paths = folder / f"{name}.pem", folder / f"{name}.key"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    paths[1].write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))
    return paths


class House:
    """The application as a house starts it."""

    def __init__(self, data: Path, port: int, address: str, *more: str) -> None:
        self.address = address
        command = [sys.executable, "-m", "nimbus_sweep", "serve", "--data", str(data), "--port", str(port), *more]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True, preexec_fn=interruptible)
        assert self.process.stdout is not None
        assert "is ready" in self.process.stdout.readline()

    def stop(self) -> None:
        """Stop it."""
        self.process.terminate()
        self.process.wait(60)


def user(data: Path, name: str) -> None:
    command = [sys.executable, "-m", "nimbus_sweep", "user", "add", name, "--data", str(data)]
    subprocess.run(command, input=f"{WORD}\n", text=True, check=True, capture_output=True)


def started(*words: str) -> subprocess.CompletedProcess[str]:
    """A start that is refused."""
    command = [sys.executable, "-m", "nimbus_sweep", "serve", *words]
    return subprocess.run(command, capture_output=True, text=True, timeout=240)


@pytest.fixture(scope="module", params=["certificate", "nginx"])
def house(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[House]:
    """It runs with its own certificate, and behind Debian's nginx as docs/nginx.conf says."""
    folder = tmp_path_factory.mktemp("house")
    cert, key = certificate(folder)
    reels = folder / "reels"
    reels.mkdir()
    write_movie(reels / "mast.mkv", small(24))
    data, port = folder / "data", free_port()
    for name in ("Maren Holt", "Ivo Brandt"):
        user(data, name)
    if request.param == "certificate":
        running = House(
            *(data, port, f"https://127.0.0.1:{port}", "--host", "127.0.0.1"),
            *("--certificate", str(cert), "--key", str(key), "--allow", str(reels)),
        )
        yield running
        running.stop()
        return
    inner = free_port()
    said = (Path(__file__).parents[2] / "docs" / "nginx.conf").read_text()
    said = said.replace("listen 443", f"listen 127.0.0.1:{port}").replace("127.0.0.1:8017", f"127.0.0.1:{inner}")
    said = said.replace("/etc/ssl/sweep/certificate.pem", str(cert)).replace("/etc/ssl/sweep/key.pem", str(key))
    aside = folder / "nginx"
    aside.mkdir()
    paths = " ".join(f"{name}_temp_path {aside / name};" for name in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
    whole = f"pid {aside}/pid; error_log {aside}/error.log; daemon off; events {{}} http {{ access_log off; {paths}\n{said} }}"
    (aside / "nginx.conf").write_text(("user root;\n" if os.geteuid() == 0 else "") + whole)
    nginx = shutil.which("nginx") or "/usr/sbin/nginx"
    proxy = subprocess.Popen([nginx, "-p", str(aside), "-c", str(aside / "nginx.conf")], stderr=subprocess.DEVNULL)
    running = House(data, inner, f"https://127.0.0.1:{port}", "--proxy", "127.0.0.1", "--allow", str(reels))
    yield running
    running.stop()
    proxy.terminate()
    proxy.wait(10)


@pytest.fixture
def two(browser: Browser, house: House) -> Iterator[tuple[Page, Page]]:
    """Two people, each in a browser of his own, signed in."""
    contexts: list[BrowserContext] = []
    pages = []
    for name in ("Maren Holt", "Ivo Brandt"):
        context = browser.new_context(ignore_https_errors=True, viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto(house.address)
        expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
        accessible(page)
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill("not the one it is")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("is not right")
        page.get_by_label("Password").fill(WORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="The rack")).to_be_visible()
        expect(page.get_by_text(name)).to_be_visible()
        contexts.append(context)
        pages.append(page)
    yield pages[0], pages[1]
    for context in contexts:
        context.close()


def within(seconds: float, page: Page, condition: str, arg: object = None) -> None:
    page.wait_for_function(condition, arg=arg, timeout=1000 * seconds)


def test_two_people_work_on_one_reel_and_neither_loses_a_change(house: House, two: tuple[Page, Page]) -> None:
    maren, ivo = two
    allowed = maren.get_by_label("Path of a movie file").get_attribute("placeholder")
    assert allowed is not None
    maren.get_by_label("Path of a movie file").fill(str(Path(allowed).parent / "mast.mkv"))
    maren.get_by_role("button", name="Open by path").click()
    maren.wait_for_url("**/intake", timeout=30_000)
    # The other one's rack shows it without being asked.
    expect(ivo.get_by_role("link", name="mast").first).to_be_visible(timeout=5000)
    within(30, maren, "() => window.nimbusBench?.reel.state === 'ready'")
    for page in two:
        page.goto(f"{house.address}/reels/1/treatment")
        within(20, page, "() => window.nimbusBench?.revision")
    # A change of one is on the other's page by itself (measured: 0.04 to 0.07 s after the answer).
    for author, reader in ((maren, ivo), (ivo, maren)):
        before = reader.evaluate("() => window.nimbusBench.revision")
        author.evaluate(
            "() => import('/static/js/api.js').then((api) => api.post(`/reels/1/steps?shot=${window.nimbusBench.shot.id}`, { kind: 'pixel-mend' }))"
        )
        within(10, reader, "(before) => window.nimbusBench.revision !== before", before)
    expect(maren.locator("#undo")).to_have_attribute("title", re.compile(r"by Ivo Brandt"))
    # Both at once: what was answered is there, what was not is said.
    for page in two:
        page.evaluate(
            """() => { window.done = import('/static/js/api.js').then(async (api) => {
                let made = 0;
                for (let n = 0; n < 10; n += 1) await api
                    .post(`/reels/1/steps?shot=${window.nimbusBench.shot.id}`, { kind: 'frame-blend' })
                    .then(() => { made += 1; }, (error) => { window.refused = error.message; });
                return made; }); }"""
        )
    made = [page.evaluate("() => window.done") for page in two]
    steps = maren.evaluate("() => fetch('/reels/1/sheet/treatment').then((r) => r.text())").count('class="step ')
    assert steps == 2 + sum(made)
    for page, count in zip(two, made, strict=True):
        assert count >= 1
        assert count == 10 or page.evaluate("() => window.refused").startswith("Meanwhile this was changed by ")
    # Who signs out is out, and goes on where he was when he comes back.
    ivo.get_by_role("button", name="Sign out").click()
    expect(ivo.get_by_role("heading", name="Sign in")).to_be_visible()
    ivo.goto(f"{house.address}/reels/1/treatment")
    expect(ivo.get_by_role("heading", name="Sign in")).to_be_visible()
    ivo.get_by_label("Name").fill("Ivo Brandt")
    ivo.get_by_label("Password").fill(WORD)
    ivo.keyboard.press("Enter")
    ivo.wait_for_url("**/reels/1/treatment")


def test_others_reach_it_encrypted_and_signed_in_only(tmp_path: Path) -> None:
    data = str(tmp_path / "data")
    refused = started("--data", data, "--host", "0.0.0.0", "--port", str(free_port()))
    assert refused.returncode == 1
    assert "unencrypted" in refused.stderr and "--certificate" in refused.stderr
    cert, key = certificate(tmp_path)
    with_key = ("--data", data, "--host", "0.0.0.0", "--port", str(free_port()), "--certificate", str(cert), "--key", str(key))
    refused = started(*with_key)
    assert refused.returncode == 1
    assert "nimbus-sweep user add NAME" in refused.stderr
    user(Path(data), "Maren Holt")
    over, its_key = certificate(tmp_path, -DAY, "over")
    refused = started("--data", data, "--certificate", str(over), "--key", str(its_key))
    assert refused.returncode == 1
    assert "ran out on" in refused.stderr and "Traceback" not in refused.stderr
    refused = started("--data", data, "--certificate", str(cert), "--key", str(its_key))
    assert refused.returncode == 1
    assert "cannot be used with the certificate" in refused.stderr
    refused = started("--data", data, "--certificate", str(tmp_path / "none.pem"))
    assert "cannot be read" in refused.stderr


def test_a_certificate_that_is_renewed_is_taken_up_and_slow_ends_hold_nothing_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from nimbus_sweep.web import tls

    monkeypatch.setattr(tls, "_LOOK", 0.3)
    cert, key = certificate(tmp_path)
    inner, outer = free_port(), free_port()
    answering = subprocess.Popen(
        [sys.executable, "-m", "http.server", str(inner), "--bind", "127.0.0.1"], cwd=tmp_path, stderr=subprocess.DEVNULL
    )
    encrypted = tls.Encrypted("127.0.0.1", outer, inner, cert, key)
    encrypted.start()
    try:
        lax = ssl._create_unverified_context()

        def fetched() -> bytes:
            with urllib.request.urlopen(f"https://127.0.0.1:{outer}/sweep.pem", context=lax, timeout=10) as answer:
                body: bytes = answer.read()
                return body

        for _ in range(50):
            try:
                first = fetched()
                break
            except OSError:
                time.sleep(0.1)
        assert first == cert.read_bytes()
        idle = [socket.create_connection(("127.0.0.1", outer)) for _ in range(40)]
        assert fetched() == first, "ends that say nothing hold nobody up"
        served = ssl.get_server_certificate(("127.0.0.1", outer))
        time.sleep(1.1)
        certificate(tmp_path)
        for _ in range(40):
            time.sleep(0.2)
            if ssl.get_server_certificate(("127.0.0.1", outer)) != served:
                break
        assert ssl.get_server_certificate(("127.0.0.1", outer)) != served
        for end in idle:
            end.close()
        with pytest.raises(Exception, match="cannot be used"):
            tls.Encrypted("127.0.0.1", outer, inner, cert, key).start()
    finally:
        encrypted.stop()
        answering.kill()
