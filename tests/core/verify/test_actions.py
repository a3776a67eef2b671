"""Actions: commands and requests that work, and those that fail in every way they can."""

from __future__ import annotations

import http.server
import json
import socket
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from jondel.core.verify.action_run import ActionRunner
from jondel.core.verify.actions import Action, ByHand, Command, Outcome, Request
from jondel.demo.launch import harbour_desk

_ENVIRONMENT = {"TOKEN": "secret-of-mine", "PATH": "/usr/bin:/bin"}


class _Handler(http.server.BaseHTTPRequestHandler):
    """Answers in ways that are asked for by the path."""

    def do_POST(self) -> None:
        size = int(self.headers.get("Content-Length", 0))
        body = self.rfile.read(size).decode()
        match self.path.split("?")[0]:
            case "/echo":
                said = {"path": self.path, "body": body, "token": self.headers.get("X-Token")}
                said["cookie"] = self.headers.get("Cookie")
                self._answer(200, json.dumps(said), [("Set-Cookie", "session=abcdef123")])
            case "/redirect":
                self._answer(303, "", [("Location", "/elsewhere")])
            case "/large":
                self._answer(200, "x" * (3 << 20))
            case "/slow":
                time.sleep(3)
                self._answer(200, "late")
            case "/drip":
                self.send_response(200)
                self.send_header("Content-Length", "100")
                self.end_headers()
                for _ in range(60):
                    self.wfile.write(b".")
                    self.wfile.flush()
                    time.sleep(0.1)
            case "/dies":
                self.send_response(200)
                self.send_header("Content-Length", "100")
                self.end_headers()
                self.wfile.write(b"half")
                self.wfile.flush()
                self.connection.shutdown(socket.SHUT_RDWR)
            case "/garbage":
                self.wfile.write(b"this is no HTTP\r\n\r\n")
            case _:
                self._answer(418, '{"detail": "a teapot"}')

    do_GET = do_POST

    def _answer(self, status: int, text: str, headers: list[tuple[str, str]] | None = None) -> None:
        self.send_response(status)
        for name, value in headers or ():
            self.send_header(name, value)
        body = text.encode()
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture(scope="module")
def address() -> Iterator[str]:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


@pytest.fixture
def runner(tmp_path: Path) -> Iterator[ActionRunner]:
    with closing(ActionRunner(tmp_path, _ENVIRONMENT)) as runner:
        yield runner


def _post(runner: ActionRunner, url: str, **more: object) -> Outcome:
    timeout = float(str(more.pop("timeout", 5)))
    status = more.pop("status", None)
    request = Request("POST", url, **more)  # type: ignore[arg-type]
    action = Action("post", request, timeout=timeout, status=status)  # type: ignore[arg-type]
    return runner.run(action, "app.db", {"id": 7, "name": "Grey Seal & co"})


def test_values_are_filled_in_and_come_back(runner: ActionRunner, address: str) -> None:
    outcome = _post(
        runner,
        address + "/echo?boat=${record:name}",
        headers=(("X-Token", "${env:TOKEN}"),),
        json={"id": "${record:id}", "words": "boat ${record:id}", "db": "${database}"},
    )
    assert outcome.ok, outcome.failure
    said = outcome.answer
    assert isinstance(said, dict)
    assert said["path"] == "/echo?boat=Grey%20Seal%20%26%20co"
    assert json.loads(said["body"]) == {"id": 7, "words": "boat 7", "db": "app.db"}
    assert said["token"] == "secret-of-mine"
    assert "secret-of-mine" not in outcome.output + outcome.said, "it is never kept"
    again = _post(runner, address + "/echo", body="${answer:post:/path} ${cookie:session}")
    assert isinstance(again.answer, dict)
    assert again.answer["body"].endswith(" abcdef123")
    assert again.answer["cookie"] == "session=abcdef123"
    assert "abcdef123" not in again.output


@pytest.mark.parametrize(
    ("template", "problem"),
    [
        pytest.param("${env:NOWHERE}", "the environment has no NOWHERE", id="environment"),
        pytest.param("${record:nme}", "no cell 'nme'; known are id, name", id="cell"),
        pytest.param("${answer:other:/x}", "no answer of 'other'", id="answer"),
        pytest.param("${cookie:x}", "no answer has set a cookie 'x'", id="cookie"),
    ],
)
def test_what_is_not_known_is_said(
    runner: ActionRunner, address: str, template: str, problem: str
) -> None:
    assert problem in _post(runner, address + "/echo", body=template).failure


@pytest.mark.parametrize(
    ("path", "problem"),
    [
        pytest.param("/nowhere", "the app answered 418: a teapot", id="status"),
        pytest.param("/dies", "closed the connection without a whole answer", id="dies"),
        pytest.param("/garbage", "without a whole answer", id="garbage"),
    ],
)
def test_what_goes_wrong_is_told(
    runner: ActionRunner, address: str, path: str, problem: str
) -> None:
    outcome = _post(runner, address + path)
    assert problem in outcome.failure, outcome


@pytest.mark.parametrize("path", ["/slow", "/drip"])
def test_an_answer_that_takes_too_long_is_not_waited_for(
    runner: ActionRunner, address: str, path: str
) -> None:
    began = time.monotonic()
    outcome = _post(runner, address + path, timeout=0.5)
    assert "within 0.5 seconds" in outcome.failure
    assert time.monotonic() - began < 2.5


def test_a_redirect_is_an_answer_and_a_large_one_is_cut(runner: ActionRunner, address: str) -> None:
    outcome = _post(runner, address + "/redirect")
    assert (outcome.ok, outcome.status) == (True, 303)
    assert "redirected to /elsewhere" in outcome.said
    large = _post(runner, address + "/large")
    assert large.ok
    assert len(large.output) <= 1 << 20
    assert "expected 200" in _post(runner, address + "/redirect", status=200).failure


def test_nobody_there_and_no_address_are_told(runner: ActionRunner) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    assert "is the app running?" in _post(runner, f"http://127.0.0.1:{port}/x").failure
    assert _post(runner, "http://[nonsense/").failure
    assert _post(runner, "http://127.0.0.1:99999/").failure


def test_harbour_desk_refuses_what_it_does_not_know(harbour: Path, runner: ActionRunner) -> None:
    import os

    with harbour_desk(harbour) as actions:
        address = os.environ["HARBOUR_DESK"]
        assert len(actions) == 6
        outcome = _post(runner, f"{address}/actions/sink")
        assert "404" in outcome.failure
        assert _post(runner, f"{address}/actions/sell-fuel").said.startswith("42.5 litres sold")
        assert "501" in runner.run(Action("g", Request("PATCH", address)), "", {}).failure
    assert "is the app running?" in _post(runner, f"{address}/actions/sell-fuel").failure


def _command(runner: ActionRunner, program: str, *words: str, **more: object) -> Outcome:
    command = Command((sys.executable, "-c", program, *words))
    return runner.run(Action("c", command, **more), "app.db", {"name": "; rm -rf x"})  # type: ignore[arg-type]


def test_a_command_gets_its_words_as_they_are(runner: ActionRunner) -> None:
    outcome = _command(
        runner,
        "import sys, os; print(sys.argv[1:], os.environ['DB'], os.getcwd())",
        "${record:name}",
        "$HOME",
        environment=(("DB", "${database}"),),
    )
    assert outcome.ok, outcome.failure
    assert outcome.output.startswith("['; rm -rf x', '$HOME'] app.db ")


def test_a_command_that_fails_says_so_and_keeps_what_it_printed(runner: ActionRunner) -> None:
    outcome = _command(
        runner, "import sys; print('first', flush=True); sys.exit('no berth is free')"
    )
    assert outcome.failure == "the app exited with 1: no berth is free"
    assert outcome.output == "first\nno berth is free\n"
    assert _command(runner, "import sys; sys.exit(3)", status=3).ok
    assert "exited with 0, expected 3" in _command(runner, "", status=3).failure
    assert "exited with 139" in _command(runner, "import os; os.kill(os.getpid(), 11)").failure


def test_secrets_are_not_in_what_is_kept(runner: ActionRunner) -> None:
    outcome = _command(runner, "import sys; sys.exit(' '.join(sys.argv))", "${env:TOKEN}")
    assert "***" in outcome.output
    assert "secret-of-mine" not in outcome.output + outcome.said + outcome.failure


def test_one_that_does_not_end_is_stopped_with_all_it_started(
    runner: ActionRunner, tmp_path: Path
) -> None:
    late = f"import time; time.sleep(2); open({str(tmp_path / 'late')!r}, 'w')"
    program = (
        "import subprocess, sys, time\n"
        f"subprocess.Popen([sys.executable, '-c', {late!r}])\n"
        "print('begun', flush=True); time.sleep(60)"
    )
    began = time.monotonic()
    outcome = _command(runner, program, timeout=0.7)
    assert "did not end within 0.7 seconds" in outcome.failure
    assert outcome.output == "begun\n"
    assert time.monotonic() - began < 5
    time.sleep(2.2)
    assert not (tmp_path / "late").exists()


def test_one_that_prints_without_end_keeps_its_ends(runner: ActionRunner) -> None:
    outcome = _command(runner, "print('a' * 50); print('b' * 3000000); print('the end')")
    assert outcome.ok
    assert outcome.output.startswith("a" * 50)
    assert outcome.output.endswith("the end\n")
    assert "bytes left out" in outcome.output
    assert len(outcome.output) < 1 << 18


def test_what_cannot_be_run_is_told(runner: ActionRunner) -> None:
    def failure(*words: str, folder: str = "") -> str:
        return runner.run(Action("c", Command(words, folder)), "", {}).failure

    assert "not-there: cannot be run" in failure("not-there")
    assert "there is no such folder" in failure("true", folder="nowhere")
    assert "cannot be run" in failure("/")


def test_what_is_done_by_hand_waits_for_the_person(tmp_path: Path) -> None:
    action = Action("h", ByHand("Book berth ${record:id}"))
    asked: list[str] = []
    with closing(ActionRunner(tmp_path, {}, asked.append)) as with_person:
        assert with_person.run(action, "", {"id": 7}).ok
    assert asked == ["Book berth 7"]
    with closing(ActionRunner(tmp_path, {})) as alone:
        assert "nobody to do it" in alone.run(action, "", {"id": 7}).failure
