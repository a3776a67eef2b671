"""Sends an action's HTTP request."""

from __future__ import annotations

import json
import threading
import time
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.errors import ActionFailed

if TYPE_CHECKING:
    import httpx

_KEPT_BYTES = 1 << 20
_MOST_BYTES = 64 << 20
"""An answer that does not end is left there."""
_LOOK_SECONDS = 0.02


class Answer(NamedTuple):
    """What a request was answered: its beginning, and as JSON where it is such."""

    status: int
    text: str
    content: object
    problem: str = ""


class HttpClient:
    """Sends requests one after the other; cookies that are set come back with the next."""

    def __init__(self) -> None:
        self._client: httpx.Client | None = None

    def close(self) -> None:
        if self._client is not None:
            self._client.close()
            self._client = None

    def cookie(self, name: str) -> str | None:
        """The value of a cookie that an answer set, if one did."""
        if self._client is None:
            return None
        return next((c.value for c in self._client.cookies.jar if c.name == name), None)

    def send(
        self,
        method: str,
        url: str,
        headers: list[tuple[str, str]],
        body: bytes,
        timeout: float,
        cancelled: threading.Event,
    ) -> Answer:
        """Send a request and read its answer; redirects are answers and are not followed.

        Raises:
            ActionFailed: there is no answer, or not within the time.
        """
        import httpx  # slow to import and needed only here

        if self._client is None:
            self._client = httpx.Client(trust_env=False, follow_redirects=False)
        client, done = self._client, threading.Event()
        answers: list[Answer | ActionFailed] = []

        def work() -> None:
            try:
                answers.append(_sent(client, method, url, headers, body, timeout))
            except ActionFailed as error:
                answers.append(error)
            except Exception as error:  # whatever it is, the action failed by it
                answers.append(ActionFailed(f"the request failed ({_words(error)})"))
            finally:
                done.set()

        # An app that says a byte now and then would be waited for without end.
        threading.Thread(target=work, daemon=True, name="request").start()
        ends = time.monotonic() + timeout
        while not done.wait(_LOOK_SECONDS):
            if cancelled.is_set() or time.monotonic() > ends:
                self.close()
                if cancelled.is_set():
                    raise ActionFailed("it was stopped before the answer had come whole")
                raise ActionFailed(f"the answer had not come whole within {timeout:g} seconds")
        (answer,) = answers
        if isinstance(answer, ActionFailed):
            raise answer
        return answer


def _sent(
    client: httpx.Client,
    method: str,
    url: str,
    headers: list[tuple[str, str]],
    body: bytes,
    timeout: float,
) -> Answer:
    """Send a request and read its answer, as far as that is kept. Raises ``ActionFailed``."""
    import httpx

    kept = bytearray()
    size = 0
    try:
        with client.stream(
            method, url, headers=headers, content=body or None, timeout=timeout
        ) as answer:
            for part in answer.iter_bytes():
                size += len(part)
                kept += part[: _KEPT_BYTES - len(kept)]
                if size > _MOST_BYTES:
                    break
            encoding = answer.encoding or "utf-8"
            status = answer.status_code
            location = answer.headers.get("location", "")
    except httpx.ConnectError as error:
        raise ActionFailed(f"nothing answers at {_origin(url)}; is the app running?") from error
    except httpx.TimeoutException as error:
        raise ActionFailed(f"no answer within {timeout:g} seconds") from error
    except httpx.RemoteProtocolError as error:
        raise ActionFailed("the app closed the connection without a whole answer") from error
    except httpx.HTTPError as error:
        raise ActionFailed(f"the request failed ({_words(error)})") from error
    except (httpx.InvalidURL, ValueError, TypeError, OverflowError) as error:
        raise ActionFailed(f"the request cannot be sent ({_words(error)})") from error
    except RuntimeError as error:  # the client was closed meanwhile
        raise ActionFailed("it was stopped") from error
    text = _decoded(bytes(kept), encoding)
    if location and not text.strip():
        text = f"redirected to {location}"
    return Answer(status, text, _as_json(text) if size <= _KEPT_BYTES else None)


def _origin(url: str) -> str:
    """An address without what may be secret in it."""
    from urllib.parse import urlsplit

    try:
        parts = urlsplit(url)
        port = f":{parts.port}" if parts.port else ""
    except ValueError:
        return "its address"
    return f"{parts.scheme}://{parts.hostname or ''}{port}"


def _decoded(raw: bytes, encoding: str) -> str:
    try:
        return raw.decode(encoding, "replace")
    except LookupError:
        return raw.decode("utf-8", "replace")


def _as_json(text: str) -> object:
    try:
        content: object = json.loads(text)
    except (ValueError, RecursionError):
        return None
    return content


def _words(error: Exception) -> str:
    return " ".join(str(error).split()) or type(error).__name__
