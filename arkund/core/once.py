"""Values that an object works out once, without a lock.

The library's ``cached_property`` (Python 3.11) holds one lock for all objects of a class while it works a
value out. A node's key asks for the keys of what it hears: with one thread on its way from a chain to a sum
and another from a sum to a chain, each holds the lock that the other waits for, and both wait for ever.
Here two threads that ask at the same time both work the value out, which costs a little and hurts nothing,
since it is the same.
"""

from collections.abc import Callable
from typing import Any, Generic, TypeVar, overload

Value = TypeVar("Value")


class once(Generic[Value]):  # noqa: N801 -- it is used as a decorator
    """A property whose value is kept in the object's ``__dict__`` when it has first been asked for."""

    def __init__(self, work_out: Callable[[Any], Value]) -> None:
        self._work_out = work_out
        self.__doc__ = work_out.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    @overload
    def __get__(self, instance: None, owner: type) -> "once[Value]": ...
    @overload
    def __get__(self, instance: object, owner: type) -> Value: ...
    def __get__(self, instance: object | None, owner: type) -> "once[Value] | Value":
        if instance is None:
            return self
        # From now on the object's own entry is found before this.
        value = instance.__dict__[self._name] = self._work_out(instance)
        return value
