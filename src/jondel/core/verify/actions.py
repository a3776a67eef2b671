"""Actions: what makes the app do something."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from jondel.core.errors import ActionFailed

if TYPE_CHECKING:
    from httpx import Response

_TIMEOUT_SECONDS = 30.0


@dataclass(frozen=True)
class Action:
    """An HTTP request that makes the app do something, and what to call it."""

    label: str
    url: str

    def run(self) -> str:
        """Send the request and return what the app says it did, in one line.

        Raises:
            ActionFailed: the app could not be reached, or it refused.
        """
        import httpx  # slow to import and needed only here

        try:
            answer = httpx.post(self.url, timeout=_TIMEOUT_SECONDS, trust_env=False)
        except httpx.HTTPError as error:
            raise ActionFailed(
                f"{self.label}: the app does not answer at {self.url} ({error}); is it running?"
            ) from error
        said = _message(answer)
        if answer.is_error:
            raise ActionFailed(f"{self.label}: the app refused ({answer.status_code}): {said}")
        return said


def _message(answer: Response) -> str:
    try:
        content = answer.json()
    except ValueError:
        content = answer.text
    if isinstance(content, dict) and "message" in content:
        content = content["message"]
    return " ".join(str(content).split())[:500]
