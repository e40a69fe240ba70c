"""Which part of a dataset a drawing shows, and the values of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import is_member_dimension
from rhodolite.model.space.cell_lists import as_one_row
from rhodolite.model.space.range_text import LatitudeRange, Levels
from rhodolite.model.time.period_text import Period
from rhodolite.model.variable import Variable
from rhodolite.operations.subset import Subset


def variables_along(
    dataset: Dataset, roles: tuple[Role, ...], names: tuple[str, ...] | None
) -> list[Variable]:
    """Return the variables to draw: those named, else all quantities that have the axes, or on maps
    the classes.

    Parameters
    ----------
    dataset : Dataset
    roles : tuple of Role
        Roles of axes.
    names : tuple of str, optional
        Names asked for.
    """
    dimensions = {role: _dimension(dataset, role) for role in roles}
    if not names:
        return _all_along(dataset, dimensions)
    chosen = [dataset[name] for name in names]
    for variable in chosen:
        lacking = [r for r, d in dimensions.items() if d not in variable.dimensions]
        if lacking:
            raise DataError(
                f"{variable.name} has no {' or '.join(lacking)} axis; its dimensions are "
                f"{', '.join(variable.dimensions) or 'nothing'}"
            )
    return chosen


def _all_along(
    dataset: Dataset, dimensions: Mapping[Role, str | None]
) -> list[Variable]:
    """Return all quantities that have some axes, or of maps the classes where there is nothing
    else."""
    along = set(dimensions.values())
    fields = [v for v in dataset.fields if along <= set(v.dimensions)]
    shown = [v for v in fields if v.numeric]
    if not shown and Role.LATITUDE in dimensions:
        shown = [v for v in fields if v.classes]
    if not shown:
        words = " and ".join(dimensions)
        raise DataError(f"{dataset.label}: no variable runs along {words}")
    return shown


def _dimension(dataset: Dataset, role: Role) -> str | None:
    """Return the dimension of a role, of a two-dimensional grid that of its rows or columns."""
    if dataset.axes.curvilinear and role in (Role.LATITUDE, Role.LONGITUDE):
        return dataset.variables[dataset.axes.curvilinear[0]].dimensions[
            role is Role.LONGITUDE
        ]
    return dataset.need(role).dimension


def only_one(variables: list[Variable], dataset: Dataset) -> Variable:
    """Return the single variable, or say how to choose one of several."""
    if not variables:
        raise DataError(
            f"{dataset.label}: no variable of numbers runs along the axes of this picture"
        )
    if len(variables) > 1:
        names = ", ".join(v.name for v in variables)
        raise DataError(
            f"{dataset.label}: several variables could be drawn: {names}. Add --variable "
            f"{variables[0].name}"
        )
    return variables[0]


def variable_of_map(dataset: Dataset, names: tuple[str, ...] | None) -> Variable:
    """Return the one variable that maps show."""
    return only_one(
        variables_along(dataset, (Role.LATITUDE, Role.LONGITUDE), names), dataset
    )


def cut_to_map(
    dataset: Dataset,
    names: tuple[str, ...] | None,
    latitudes: LatitudeRange | None = None,
) -> Dataset:
    """Return the part of a dataset that a map reaches, all of it where it has no limit; cells in a
    list as those of a grid.

    Parameters
    ----------
    dataset : Dataset
    names : tuple of str, optional
        The variables asked for, which may lie on another grid than the others.
    latitudes : LatitudeRange, optional
    """
    if names is not None:
        part = Subset(variable=names)(dataset)
        # Of what lies on no grid more is said where that is looked for.
        dataset = part if _has_grid(part) else dataset
    return as_one_row(dataset if latitudes is None else Subset(lat=latitudes)(dataset))


def _has_grid(dataset: Dataset) -> bool:
    roles = dataset.axes.by_role.keys()
    return dataset.axes.curvilinear is not None or roles >= {
        Role.LATITUDE,
        Role.LONGITUDE,
    }


def choose_part(
    dataset: Dataset, variable: Variable, time: Period | None, level: Levels | None
) -> Dataset:
    """Return a dataset of one variable at the times and the one level asked for.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    time : Period, optional
        Times to keep.
    level : Levels, optional
        Levels to keep.
    """
    part = Subset(variable=(variable.name,), time=time, level=level)(dataset)
    need_one_level(part, variable.name)
    return part


def has_several(part: Dataset, name: str, role: Role) -> bool:
    """Return whether a variable runs along more than one place of an axis."""
    coordinate = part.coordinate(role)
    return (
        coordinate is not None
        and coordinate.dimension in part[name].dimensions
        and coordinate.values.size > 1
    )


def need_one_level(part: Dataset, name: str) -> None:
    """Refuse several levels where a picture shows one.

    Parameters
    ----------
    part : Dataset
    name : str
        Of the variable that is drawn.

    Raises
    ------
    DataError
        Which lists the levels and says how to choose one.
    """
    if has_several(part, name, Role.LEVEL):
        vertical = part.need(Role.LEVEL)
        units = vertical.variable.units or ""
        levels = ", ".join(f"{value:g}" for value in vertical.values)
        raise DataError(
            f"{name} has {vertical.values.size} levels ({levels} {units}); choose one, "
            f"such as --level {vertical.values[0]:g}{units}"
        )


def values_in_order(
    variable: Variable, order: Sequence[str | None], engine: Engine
) -> Array:
    """Return values along some dimensions alone, in their order, without others of length 1.

    Parameters
    ----------
    variable : Variable
    order : sequence of str or None
        Dimensions that stay, as far as the variable has them.
    engine : Engine
        What computes the values.

    Raises
    ------
    DataError
        If another dimension is longer than 1.
    """
    left, extra = [], []
    for at, (name, size) in enumerate(
        zip(variable.dimensions, variable.shape, strict=True)
    ):
        if name in order:
            left.append(name)
            continue
        _need_single(variable, name, size)
        extra.append(at)
    values = variable.values(engine).squeeze(axis=tuple(extra))
    return values.transpose([left.index(name) for name in order if name in left])


def _need_single(variable: Variable, name: str, size: int) -> None:
    if size == 1:
        return
    if is_member_dimension(name):
        raise DataError(
            f"{variable.name} has {size} members; put summarise --over ensemble before it for "
            "their mean"
        )
    raise DataError(
        f"{variable.name} has {size} values along {name}; choose one of them first, such as with "
        f"subset --choose {name}=1"
    )
