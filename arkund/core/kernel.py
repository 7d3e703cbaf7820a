"""Loops over samples, compiled by numba the first time one of them runs.

Importing numba costs half a second: more than most commands take. A module that holds kernels can be
imported without it; who never runs one never waits for it. Compiled code is kept on disk by numba.
"""

from collections.abc import Callable
from functools import update_wrapper
from threading import RLock
from types import FunctionType
from typing import Any

_LOCK = RLock()
"""Held while a kernel is made ready: numba compiles one at a time anyway."""


class Kernel:
    """A function whose compiled form is made when it is first called."""

    def __init__(self, function: FunctionType, options: dict[str, Any]) -> None:
        self._function = function
        self._options = options
        self._compiled: Callable[..., Any] | None = None
        update_wrapper(self, function)

    def __call__(self, *arguments: Any) -> Any:
        compiled = self._compiled
        return (compiled or self.compiled())(*arguments)

    def compiled(self) -> Callable[..., Any]:
        """numba's dispatcher for this function; the kernels that it calls are made ready with it."""
        with _LOCK:
            if self._compiled is None:
                from numba import njit

                self._compiled = njit(cache=True, nogil=True, **self._options)(self._with_kernels())
            return self._compiled

    def _with_kernels(self) -> FunctionType:
        """The function again; where its globals name kernels, it sees what numba knows how to call."""
        function = self._function
        seen = {
            name: value.compiled() if isinstance(value, Kernel) and value is not self else value
            for name in function.__code__.co_names
            if (value := function.__globals__.get(name)) is not None
        }
        again = FunctionType(
            function.__code__,
            {**function.__globals__, **seen},
            function.__name__,
            function.__defaults__,
            function.__closure__,
        )
        again.__module__, again.__qualname__ = function.__module__, function.__qualname__
        return again


def kernel(**options: Any) -> Callable[[Callable[..., Any]], Kernel]:
    """Decorator: compile a loop over samples by numba, without the interpreter's lock, when it is first called.

    ``options`` are numba's (``fastmath``, ``error_model``, ``inline``); caching and ``nogil`` are always on.
    Arguments go by position.
    """

    def made(function: Callable[..., Any]) -> Kernel:
        assert isinstance(function, FunctionType)
        return Kernel(function, options)

    return made
