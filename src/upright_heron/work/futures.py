"""Futures that end as others end."""

from __future__ import annotations

import contextlib
from concurrent.futures import CancelledError, Future, InvalidStateError
from typing import Any


def pass_on(future: Future[Any], to: Future[Any]) -> None:
    """End a future as another one ended."""
    error = _error(future)
    settle(to, None if error is not None else future.result(), error)


def end_with(future: Future[Any], done: Future[None]) -> None:
    """End a future of somebody who waits as what it waits for ended, without what that answered."""
    settle(done, error=_error(future))


def settle(future: Future[Any], answer: Any = None, error: BaseException | None = None) -> None:
    """End a future that whoever waited for it may have left."""
    with contextlib.suppress(InvalidStateError):
        if error is None:
            future.set_result(answer)
        else:
            future.set_exception(error)


def _error(future: Future[Any]) -> BaseException | None:
    return CancelledError() if future.cancelled() else future.exception()
