"""Requests over the network: what a service, a proxy and a bad line make of them."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from email.message import Message
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Event, Thread
from typing import Any

import pytest

from inchworm.core.errors import TargetError
from inchworm.targets import http_client
from inchworm.targets.http_client import Answer, Client
from inchworm.targets.secret import Secret
from tests.certificates import certificate

Answering = Callable[["Handler"], None]


class Handler(BaseHTTPRequestHandler):
    """Answers as the server that it is of says, and keeps the requests."""

    protocol_version = "HTTP/1.1"
    server: Server

    def _take(self) -> None:
        body = self.rfile.read(int(self.headers.get("content-length", 0)))
        self.server.requests.append((f"{self.command} {self.path}", self.headers, body))
        self.server.answering(self)

    do_GET = do_POST = _take  # noqa: N815

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing: the tests' own output is read."""

    def say(self, content: bytes, status: int = 200, length: int | None = None) -> None:
        """Send an answer that says to be so many bytes long."""
        self.send_response(status)
        self.send_header("Content-Length", str(len(content) if length is None else length))
        self.send_header("X-Letter", "b")
        self.end_headers()
        self.wfile.write(content)


class Server(ThreadingHTTPServer):
    """A service on a port of its own."""

    daemon_threads = True
    answering: Answering
    requests: list[tuple[str, Message, bytes]]

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_port}"


@contextmanager
def served(answering: Answering, context: ssl.SSLContext | None = None) -> Iterator[Server]:
    server = Server(("127.0.0.1", 0), Handler)
    server.answering, server.requests = answering, []
    if context is not None:
        server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = Thread(target=server.serve_forever, kwargs={"poll_interval": 0.01})
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


@contextmanager
def client(url: str, timeout: float = 30) -> Iterator[Client]:
    with closing(
        http_client.http_client(url, Path(), Secret("abc", "env:T"), timeout=timeout)
    ) as made:
        yield made


def fine(handler: Handler) -> None:
    handler.say(b'{"a": 1}')


def test_a_request_has_what_it_was_given() -> None:
    """The path stands behind that of the address; the answer's headers are in lower case."""
    with served(fine) as server, client(f"{server.url}/base/") as service:
        body, query = {"n": "ü"}, {"q": "a b&c"}
        more = {"Idempotency-Key": "k", "River": "Ελβα"}
        answer = service.send("POST", "/x%2Fy/z", body, query, more)
        service.send("GET", "plain")
        (first, headers, sent), (second, _, nothing) = server.requests
    assert answer.json() == {"a": 1}
    assert answer.headers["x-letter"] == "b"
    assert first == "POST /base/x%2Fy/z?q=a+b%26c"
    assert sent == b'{"n": "\\u00fc"}'
    assert headers["authorization"] == "Bearer abc"
    assert headers["river"].encode("iso-8859-1").decode() == "Ελβα"
    assert (headers["content-type"], headers["idempotency-key"]) == ("application/json", "k")
    assert (second, nothing) == ("GET /base/plain", b"")


def test_a_redirect_is_not_followed() -> None:
    """Where it leads to, our token would go, too."""

    def elsewhere(handler: Handler) -> None:
        handler.send_response(302)
        handler.send_header("Location", "/other")
        handler.send_header("Content-Length", "0")
        handler.end_headers()

    with served(elsewhere) as server, client(server.url) as service:
        assert service.send("GET", "/here").status == 302
        assert len(server.requests) == 1


@pytest.mark.parametrize(
    ("answering", "reason"),
    [
        (lambda handler: handler.say(b"half", length=8), "IncompleteRead"),
        (lambda handler: handler.wfile.write(b"no answer\r\n\r\n"), "no answer"),
        (lambda _: None, "Remote end closed connection without response"),
    ],
)
def test_what_is_no_answer_is_an_error_and_the_next_one_is_read(
    answering: Answering, reason: str
) -> None:
    """Nothing of the former is taken for a part of the latter."""

    def at_first(handler: Handler) -> None:
        if len(handler.server.requests) > 1:
            return fine(handler)
        answering(handler)
        handler.close_connection = True
        return None

    with served(at_first) as server, client(server.url) as service:
        with pytest.raises(TargetError, match=reason):
            service.send("GET", "/")
        assert service.send("GET", "/").json() == {"a": 1}


def test_an_answer_is_read_up_to_a_size(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http_client, "_LARGEST_ANSWER", 100_000)

    def large(handler: Handler) -> None:
        fine(handler) if len(handler.server.requests) > 1 else handler.say(b"x" * 1_000_000)

    with served(large) as server, client(server.url) as service:
        with pytest.raises(TargetError, match="more than 100,000 bytes"):
            service.send("GET", "/")
        assert service.send("GET", "/").json() == {"a": 1}


def test_a_service_that_does_not_answer_is_not_waited_for() -> None:
    """Nor is one that nobody runs."""
    ended = Event()

    def never(_: Handler) -> None:
        ended.wait(60)

    with served(never) as server:
        late = pytest.raises(TargetError, match="takes too long")
        with client(server.url, timeout=0.05) as service, late:
            service.send("GET", "/")
        ended.set()
    refused = pytest.raises(TargetError, match=r"cannot be reached: Connection refused\.")
    with client(server.url) as service, refused:
        service.send("GET", "/")


def test_several_threads_may_ask_at_once() -> None:
    def echo(handler: Handler) -> None:
        handler.say(f'"{handler.path}"'.encode())

    with served(echo) as server, client(server.url) as service:

        def ask(n: int) -> bool:
            return bool(service.send("GET", f"/{n}").json() == f"/{n}")

        with ThreadPoolExecutor(4) as threads:
            assert all(threads.map(ask, range(100)))


def test_a_service_by_https_has_to_be_who_it_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By what the machine trusts; a certificate of one's own is told to it."""
    cert, key = certificate(tmp_path / "tls")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    with served(fine, context) as server:
        url = server.url.replace("http:", "https:")
        untrusted = pytest.raises(TargetError, match="certificate verify failed")
        with client(url) as service, untrusted:
            service.send("GET", "/")
        monkeypatch.setenv("SSL_CERT_FILE", str(cert))
        with client(url) as service:
            assert service.send("GET", "/").json() == {"a": 1}
        another = pytest.raises(TargetError, match="certificate")
        with client(url.replace("127.0.0.1", "localhost")) as service, another:
            service.send("GET", "/")


def test_the_way_leads_through_the_proxy_of_the_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    with served(fine) as proxy:
        for name in ("http_proxy", "https_proxy", "no_proxy", "all_proxy"):
            monkeypatch.delenv(name, raising=False)
            monkeypatch.delenv(name.upper(), raising=False)
        monkeypatch.setenv("http_proxy", proxy.url.replace("//", "//river:se%2Fcret@"))
        with client("http://board.example/v1") as service:
            answer: Answer = service.send("GET", "/x", query={"a": "b"})
        ((line, headers, _),) = proxy.requests
        assert answer.status == 200
        assert line == "GET http://board.example/v1/x?a=b"
        assert headers["Proxy-Authorization"] == "Basic cml2ZXI6c2UvY3JldA=="
        assert headers["Host"] == "board.example"
        monkeypatch.setenv("no_proxy", "127.0.0.1")
        with served(fine) as server, client(server.url) as service:
            service.send("GET", "/direct")
            assert len(server.requests) == 1
        assert len(proxy.requests) == 1
        monkeypatch.delenv("http_proxy")
        monkeypatch.setenv("all_proxy", proxy.url.removeprefix("http://"))
        with client("http://board.example") as service:
            assert service.send("GET", "/").status == 200
    monkeypatch.setenv("http_proxy", "socks5://127.0.0.1:1")
    refused = pytest.raises(TargetError, match=r"\(http_proxy .*, or name board\.example in no_p")
    with refused, client("http://board.example"):
        pass


@pytest.mark.parametrize("url", ["http://[::1", "http://a b:x", "ftp://board.example"])
def test_what_is_no_address_is_said(url: str) -> None:
    with pytest.raises(TargetError, match=r"is no address|there is no service at"), client(url):
        pass


def dripping(handler: Handler, head: bytes) -> None:
    """Send an answer, a byte every so often."""
    handler.close_connection = True
    for byte in head + b"." * 1000:
        try:
            handler.connection.sendall(bytes([byte]))
        except OSError:
            return
        PAUSE.wait(0.02)


PAUSE = Event()
"""Nobody sets it."""

HEADS = {
    "with a length": b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n",
    "until it closes": b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n",
    "in its head": b"HTTP/1.1 200 OK\r\nX-Long: " + b"a" * 1000,
}


@pytest.mark.parametrize("head", HEADS)
@pytest.mark.parametrize("is_encrypted", [False, True])
def test_an_answer_that_drips_ends_in_time(
    head: str, is_encrypted: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The limit is that of the whole exchange, not of each byte."""
    context = None
    if is_encrypted:
        cert, key = certificate(tmp_path / "tls")
        monkeypatch.setenv("SSL_CERT_FILE", str(cert))
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(cert, key)
    with served(lambda handler: dripping(handler, HEADS[head]), context) as server:
        url = server.url.replace("http:", "https:") if is_encrypted else server.url
        with client(url, timeout=0.5) as asked:
            for _ in range(2):  # and the next request is not that one's
                with pytest.raises(TargetError) as refused:
                    asked.send("GET", "/")
                assert refused.value.what.endswith("cannot be reached: it takes too long.")
            server.answering = lambda handler: handler.say(b"{}")
            assert asked.send("GET", "/").content == b"{}"
