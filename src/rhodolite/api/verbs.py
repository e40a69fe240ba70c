"""Every verb as a method of a dataset, made of its declaration when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial
from inspect import Parameter as Argument
from inspect import Signature
from typing import Any

from rhodolite import drawing, operations
from rhodolite.api.signatures import annotation_of, default_of, docstring_of
from rhodolite.errors import UsageError
from rhodolite.operations.declaration import Step, parameters


class _Method:
    """A method that knows its signature and its documentation.

    Parameters
    ----------
    name : str
    find : callable
        Imports the step.
    """

    def __init__(self, name: str, find: Callable[[], type[Step]]) -> None:
        self._name, self._find = name, find

    def __get__(self, dataset: Any, owner: type | None = None) -> Any:
        return (
            self._function
            if dataset is None
            else self._function.__get__(dataset, owner)
        )

    @cached_property
    def _function(self) -> Callable[..., Any]:
        step = self._find()

        signature = _signature(step)

        def method(self: Any, **settings: Any) -> Any:
            given = signature.bind(self, **settings).kwargs
            axes = {name: given.pop(name) for name in ("axes",) if name in given}
            try:
                result = step(**given)
            except UsageError as error:
                raise UsageError(_spelt_as_in_python(str(error))) from None
            return self.apply(result, **axes)

        method.__name__ = self._name
        method.__qualname__ = f"Dataset.{self._name}"
        method.__doc__ = docstring_of(step)
        method.__signature__ = signature  # type: ignore[attr-defined]
        return method


def _spelt_as_in_python(message: str) -> str:
    """Return a message about an argument with the name that it has in Python."""
    option, colon, rest = message.partition(":")
    if not colon or not option.startswith("--") or " " in option:
        return message
    return f"{option.removeprefix('--').replace('-', '_')}:{rest}"


def _signature(step: type[Step]) -> Signature:
    arguments = [Argument("self", Argument.POSITIONAL_ONLY)]
    arguments += [
        Argument(
            declared.field,
            Argument.KEYWORD_ONLY,
            default=default_of(declared),
            annotation=annotation_of(declared),
        )
        for declared in parameters(step)
    ]
    if step.draws:
        arguments.append(Argument("axes", Argument.KEYWORD_ONLY, default=None))
    return Signature(arguments)


def find_method(name: str) -> _Method | None:
    """Return the method of a verb or picture that another package offers; None where none does."""
    kind = name.removeprefix("draw_")
    if kind != name and drawing.is_drawing(kind):
        return _Method(name, partial(drawing.drawing, kind))
    if operations.is_operation(name):
        return _Method(name, partial(operations.operation, name))
    return None


class Verbs:
    """The verbs, as methods that return a new dataset or a figure."""


for _verb in operations.SUMMARIES:
    setattr(Verbs, _verb, _Method(_verb, partial(operations.operation, _verb)))
for _kind in drawing.SUMMARIES:
    _name = f"draw_{_kind}"
    setattr(Verbs, _name, _Method(_name, partial(drawing.drawing, _kind)))
