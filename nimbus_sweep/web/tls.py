"""Encrypted connections: taken here and passed on to the server on this machine, which knows none.

The server reads whole requests before it works on them, so slow ends hold nothing up; here bytes only pass by.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import ssl
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509

from ..core.base.errors import SweepError

log = logging.getLogger(__name__)
# Bytes passed on at once; seconds to shake hands in, and between two looks whether the certificate was renewed.
_BLOCK, _HANDS, _LOOK = 1 << 16, 10.0, 30.0
# Before a certificate ends, this is said at the start.
_SOON = timedelta(days=21)


def checked(certificate: Path, key: Path) -> ssl.SSLContext:
    """What a certificate and its key encrypt with.

    Raises
    ------
    SweepError
        If they cannot be used, or the certificate has run out.
    """
    try:
        read = x509.load_pem_x509_certificates(certificate.read_bytes())[0]
    except (OSError, ValueError, IndexError) as error:
        raise SweepError(f"The certificate {certificate} cannot be read ({error}). Name a PEM file with --certificate.") from error
    left = read.not_valid_after_utc - datetime.now(UTC)
    if left < timedelta(0):
        raise SweepError(
            f"The certificate {certificate} ran out on {read.not_valid_after_utc:%d %B %Y}. Put a new one in its place and start again."
        )
    if read.not_valid_before_utc > datetime.now(UTC):
        raise SweepError(
            f"The certificate {certificate} begins on {read.not_valid_before_utc:%d %B %Y}. Check the clock of this machine, or wait until then."
        )
    if left < _SOON:
        log.warning("the certificate %s runs out in %d days", certificate, left.days)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    try:
        context.load_cert_chain(certificate, key)
    except (OSError, ssl.SSLError) as error:
        raise SweepError(f"The key {key} cannot be used with the certificate {certificate} ({error}). Name its own with --key.") from error
    return context


class Encrypted:
    """Takes encrypted connections and passes them on.

    Parameters
    ----------
    host, port : str, int
        Where they come in.
    inner : int
        Port on this machine that they are passed on to.
    certificate, key : Path
        PEM files; renewed ones are taken up within half a minute.
    """

    def __init__(self, host: str, port: int, inner: int, certificate: Path, key: Path) -> None:
        self._host, self._port, self._inner, self._files = host, port, inner, (certificate, key)
        self._context = checked(certificate, key)
        self._dated = self._stamps()
        self._from: dict[int, str] = {}
        self._loop = asyncio.new_event_loop()
        self._failed: OSError | None = None
        self._up = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        """Begin to take connections; raises SweepError if the port is taken."""
        self._thread.start()
        self._up.wait()
        if self._failed is not None:
            raise SweepError(
                f"Port {self._port} cannot be used ({self._failed.strerror}). Stop what uses it, or name another with --port."
            ) from self._failed

    def stop(self) -> None:
        """Take no more."""
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(3)

    def address_of(self, port: int) -> str | None:
        """Who is at the other end of the connection that is passed on from that port of this machine."""
        return self._from.get(port)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            self._loop.run_until_complete(
                asyncio.start_server(self._take, self._host, self._port, ssl=self._context, ssl_handshake_timeout=_HANDS)
            )
        except OSError as error:
            self._failed = error
            return
        finally:
            self._up.set()
        self._loop.create_task(self._watch())
        self._loop.run_forever()

    def _stamps(self) -> list[int]:
        return [path.stat().st_mtime_ns if path.exists() else 0 for path in self._files]

    async def _watch(self) -> None:
        """Take up a certificate that was renewed."""
        while True:
            await asyncio.sleep(_LOOK)
            if (stamps := self._stamps()) != self._dated:
                self._dated = stamps
                try:
                    checked(*self._files)
                    self._context.load_cert_chain(*self._files)
                    log.info("the certificate was renewed")
                except SweepError as error:
                    log.warning("%s The one before goes on", error)

    async def _take(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            to_server, from_server = await self._passed_on(writer)
        except OSError:
            writer.close()
            return
        port = from_server.get_extra_info("sockname")[1]
        try:
            await asyncio.gather(_pass(reader, from_server), _pass(to_server, writer))
        finally:
            self._from.pop(port, None)

    async def _passed_on(self, writer: asyncio.StreamWriter) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        inner = await asyncio.open_connection("127.0.0.1", self._inner)
        self._from[inner[1].get_extra_info("sockname")[1]] = str(writer.get_extra_info("peername")[0])
        return inner


async def _pass(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with contextlib.suppress(OSError, ssl.SSLError):
        while block := await reader.read(_BLOCK):
            writer.write(block)
            await writer.drain()
    with contextlib.suppress(OSError, ssl.SSLError):
        writer.close()
        await writer.wait_closed()
