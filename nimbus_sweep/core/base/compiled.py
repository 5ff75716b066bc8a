"""Loops compiled to machine code: made or read back when they are first called, so that what never calls them starts sooner."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, cached_property, update_wrapper
from typing import Any, Generic, ParamSpec, TypeVar, cast

Asked = ParamSpec("Asked")
Given = TypeVar("Given")
Fast = bool | set[str]

_every: list[Compiled[Any, Any]] = []


class Compiled(Generic[Asked, Given]):
    """A function that is compiled when it is first called, or by another that is compiled.

    Attributes
    ----------
    dispatcher : numba Dispatcher
        Compiled, or read back from where it is kept.
    """

    def __init__(self, function: Callable[Asked, Given], types: str | None, fast: Fast) -> None:
        update_wrapper(self, function)
        self._function, self._types, self._fast = function, types, fast
        _every.append(self)

    def __call__(self, *args: Asked.args, **kwargs: Asked.kwargs) -> Given:
        return cast(Given, self.dispatcher(*args, **kwargs))

    @cached_property
    def dispatcher(self) -> Any:
        # Brought in here: what calls nothing compiled does without it.
        from numba import njit

        _known_to_the_compiler()
        return njit(self._types, cache=True, nogil=True, error_model="numpy", fastmath=self._fast)(self._function)


@cache
def _known_to_the_compiler() -> None:
    """Compiled functions that call others by name find what was compiled of them."""
    from numba import typeof
    from numba.extending import typeof_impl

    typeof_impl.register(Compiled, lambda one, _: typeof(one.dispatcher))


def compiled(types: str | None = None, fast: Fast = False) -> Callable[[Callable[Asked, Given]], Compiled[Asked, Given]]:
    """Decorate a function that is compiled: without the interpreter's lock, kept on disk, divided by zero as NumPy does.

    Parameters
    ----------
    types : str
        Of its arguments, as Numba names them. Without them it is compiled for those it is first called with.
    fast : bool or set of str
        Which liberties with rounding are allowed.
    """
    return lambda function: Compiled(function, types, fast)


def compile_all() -> None:
    """Have all that was decorated, and names its types, ready."""
    for one in _every:
        _ = one.dispatcher
