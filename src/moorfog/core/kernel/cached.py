"""Methods of frozen objects that are worked out once: the answer is remembered on the object itself."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar, cast

S = TypeVar("S")
P = ParamSpec("P")
T = TypeVar("T")


def cached(method: Callable[Concatenate[S, P], T]) -> Callable[Concatenate[S, P], T]:
    """Make a method remember its answer by its (hashable, positional) arguments.

    For objects that never change, without slots. The answer is shared, so it must be something nobody changes.
    """
    name = f"_once_{method.__name__}"

    @wraps(method)
    def remembered(self: S, /, *args: P.args, **kwargs: P.kwargs) -> T:
        answers: dict[Any, T] = self.__dict__.setdefault(name, {})
        key = args if not kwargs else (args, tuple(sorted(kwargs.items())))
        if key not in answers:
            answers[key] = method(self, *args, **kwargs)
        return answers[key]

    return cast("Callable[Concatenate[S, P], T]", remembered)
