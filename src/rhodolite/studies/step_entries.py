"""The steps of a study file, and the order in which they are taken."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rhodolite.errors import UsageError, nearest_names
from rhodolite.operations import is_operation, operation, operation_names
from rhodolite.operations.declaration import Parameter, Step, parameters
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.pipeline.deep_calls import MOST_IN_A_ROW
from rhodolite.studies.description import NamedStep
from rhodolite.studies.study_file import Place, StudyFile


def read_step(
    file: StudyFile, name: str, content: Any, place: Place, names: Mapping[str, Any]
) -> NamedStep:
    """Return a step, by its name and what the file says of it."""
    file.check_name(name, place)
    table = file.as_table(content, place)
    verb = table.pop("do", None)
    if not isinstance(verb, str) or not is_operation(verb):
        said = f"no verb '{verb}'. {nearest_names(str(verb), operation_names())}"
        raise file.refuse(said if verb else 'a step needs do = "VERB"', *place, "do")
    return read_settings(file, name, operation(verb), verb, table, place, names)


def read_settings(
    file: StudyFile,
    name: str,
    kind: type[Step],
    verb: str,
    table: dict[str, Any],
    place: Place,
    names: Mapping[str, Any],
) -> NamedStep:
    """Return a step or a picture with the settings of its table."""
    of = read_of(file, table, place, names)
    declared = {parameter.name: parameter for parameter in parameters(kind)}
    settings: dict[str, Any] = {}
    others: dict[str, str] = {}
    variables: tuple[str, ...] = ()
    for key, value in table.items():
        setting = declared.get(key)
        if key == "of":
            continue
        if setting is None and key == "variable":
            variables = read_variables(file, value, place)
        elif setting is None:
            known = nearest_names(key, declared)
            raise file.refuse(f"{verb} has no parameter '{key}'. {known}", *place, key)
        elif _names_another(setting, value, names):
            others[setting.field] = value
        else:
            try:
                settings[setting.field] = setting.parse(value)
            except UsageError as error:
                raise file.refuse(f"{verb} {error}", *place, key) from None
    step = NamedStep(name, of, settings, kind, others, variables)
    _check_together(file, step, verb, place)
    return step


def _names_another(setting: Parameter, value: Any, names: Mapping[str, Any]) -> bool:
    """Return whether a value is the name of an input or a step of the study."""
    return setting.type is OtherDataset and isinstance(value, str) and value in names


def _check_together(file: StudyFile, step: NamedStep, verb: str, place: Place) -> None:
    """Refuse settings that do not go together, and files beside the outputs."""
    # With nothing in place of other data, which shows whether the rest goes together.
    named = {field: OtherDataset(value) for field, value in step.others.items()}
    try:
        beside = step.kind(**step.settings, **named).writes()
    except UsageError as error:
        raise file.refuse(f"{verb}: {error}", *place) from None
    if beside:
        raise file.refuse(
            f"{verb} would write {beside[0]} beside the outputs; a study writes what is under "
            "[outputs], so leave that out",
            *place,
        )


def read_variables(file: StudyFile, value: Any, place: Place) -> tuple[str, ...]:
    """Return the names under `variable`, which every step can have, as on the command line."""
    given = [value] if isinstance(value, str) else value
    if not isinstance(given, list) or not all(isinstance(item, str) for item in given):
        raise file.refuse("variable is a name or a list of names", *place, "variable")
    return tuple(name.strip() for text in given for name in text.split(","))


def read_of(
    file: StudyFile, table: Mapping[str, Any], place: Place, names: Mapping[str, Any]
) -> str:
    """Return the name of the input or step that a table works on."""
    of = table.get("of")
    if not isinstance(of, str) or of not in names:
        what = "of = the name of an input or a step"
        said = (
            f"no input or step '{of}'. {nearest_names(str(of), names)}" if of else what
        )
        raise file.refuse(said if of else f"this needs {what}", *place, "of")
    return of


def put_in_order(
    file: StudyFile, steps: Mapping[str, NamedStep], places: Mapping[str, Place]
) -> dict[str, NamedStep]:
    """Return the steps so that each follows all that it needs."""
    ordered: dict[str, NamedStep] = {}
    rounds = 0
    left = dict(steps)
    while left:
        ready = [
            n
            for n, step in left.items()
            if not any(need in left for need in step.needs)
        ]
        if not ready:
            name = next(iter(left))
            around = " needs ".join(f"'{step}'" for step in _circle(name, left))
            raise file.refuse(
                f"steps need each other in a circle: {around}", *places[name]
            )
        rounds += 1
        if rounds > MOST_IN_A_ROW:
            raise file.refuse(
                f"more than {MOST_IN_A_ROW} steps follow each other; write an output between "
                "them, and begin with it in another study",
                *places[ready[0]],
            )
        for name in ready:
            ordered[name] = left.pop(name)
    return ordered


def _circle(name: str, left: Mapping[str, NamedStep]) -> list[str]:
    way = [name]
    while way.count(way[-1]) == 1:
        way.append(next(need for need in left[way[-1]].needs if need in left))
    return way[way.index(way[-1]) :]
