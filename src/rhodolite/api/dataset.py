"""A dataset as Python meets it: made of arrays and tables, worked on by verbs, shown, written."""

from __future__ import annotations

import dataclasses
import html
from collections.abc import Mapping, Sequence
from functools import cached_property
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Self

from rhodolite.api.fields import add_field
from rhodolite.api.notebook import attributes_html
from rhodolite.api.variable import Variable
from rhodolite.api.verbs import Verbs, find_method
from rhodolite.api.watching import make_engine
from rhodolite.arrays import Engine
from rhodolite.drawing.base import Drawing
from rhodolite.model.dataset import Dataset as PlainDataset
from rhodolite.operations.declaration import Operation
from rhodolite.pipeline.side_inputs import SideInputs

if TYPE_CHECKING:
    import pandas
    from numpy.typing import ArrayLike, NDArray


class Dataset(PlainDataset, Verbs):
    """A gridded dataset. Never changed in place: every verb returns a new one.

    Read it with `rhodolite.read`, or make it with `from_arrays` or `from_pandas`.
    """

    @classmethod
    def of(cls, dataset: PlainDataset) -> Self:
        """Return the same dataset with these methods.

        Parameters
        ----------
        dataset : rhodolite.model.dataset.Dataset
        """
        parts = {
            part.name: getattr(dataset, part.name)
            for part in dataclasses.fields(dataset)
        }
        wrapped = cls(**parts)
        # The same object, so that what it knows of its axes is not found out again.
        wrapped.__dict__["plain"] = dataset.plain
        return wrapped

    if not TYPE_CHECKING:  # which would take every name for a method

        def __getattr__(self, name: str) -> Any:
            """Return the method of a verb or picture that another package offers."""
            method = None if name.startswith("_") else find_method(name)
            if method is None:
                raise AttributeError(f"a dataset has no attribute or method '{name}'")
            return method.__get__(self)

    def __post_init__(self) -> None:
        # Variables that people calculate with know a dataset; those that it holds know none.
        plain = {
            name: variable.plain if isinstance(variable, Variable) else variable
            for name, variable in self.variables.items()
        }
        object.__setattr__(self, "variables", plain)
        super().__post_init__()

    @cached_property
    def plain(self) -> PlainDataset:
        """The dataset as steps work on it, whose variables are plain ones."""
        fields = dataclasses.fields(PlainDataset)
        return PlainDataset(**{part.name: getattr(self, part.name) for part in fields})

    def wrap(self, result: PlainDataset) -> Self:
        return self.of(result)

    def __getitem__(self, name: str) -> Variable:
        """Return the variable of a name, or of a standard name, to be calculated with."""
        return Variable.of(super().__getitem__(name), self)

    @property
    def dates(self) -> NDArray[Any]:
        """The dates of the time axis, shape (n,): datetime64 in calendars that have the days of the
        usual one, and dates of cftime in others.

        Examples
        --------
        >>> import numpy as np
        >>> data = rhodolite.from_arrays(
        ...     {"tas": [280.0, 284.0]},
        ...     {"time": np.array(["2000-01-01", "2000-01-02"], "M8[D]")},
        ...     units={"tas": "K"},
        ... )
        >>> str(data.dates[0])[:10]
        '2000-01-01'
        """
        from rhodolite.exchange.dates import dates_along

        return dates_along(self.need_time())

    def with_fields(self, **values: Variable) -> Self:
        """Return a dataset with more variables, such as ``data.with_fields(warm=tas > 280)``.

        Parameters
        ----------
        **values : Variable
            What was calculated, by the name that it gets. Of other datasets it has to lie on the
            same cells and times.

        Raises
        ------
        UsageError
            If a name is taken or is none.
        DataError
            If cells or times are others.

        Examples
        --------
        >>> warm = data.with_fields(warm=data["tas"] > 282)
        >>> warm["warm"].values().tolist()
        [0.0, 1.0]
        """
        dataset = self
        for name, value in values.items():
            dataset = add_field(dataset, name, value)
        return dataset

    def apply(self, step: Operation | Drawing, **settings: Any) -> Any:
        """Return what a step makes of the dataset, with the files read that the step names.

        Parameters
        ----------
        step : Operation or Drawing
            Such as ``rhodolite.Summarise(region="fjords.geojson")``.
        **settings
            Of drawings: the `axes` to draw into.

        Returns
        -------
        Dataset, or matplotlib.figure.Figure of drawings

        Examples
        --------
        >>> part = data.apply(rhodolite.Subset(variable="tas"))
        >>> list(part.variables)
        ['lat', 'tas']
        """
        loaded = step.loaded(SideInputs())
        if isinstance(loaded, Drawing):
            return loaded(self, make_engine(), **settings)
        return loaded(self, **settings)

    @classmethod
    def from_arrays(
        cls,
        fields: Mapping[str, ArrayLike],
        coordinates: Mapping[str, ArrayLike],
        *,
        dimensions: Sequence[str] | Mapping[str, Sequence[str]] | None = None,
        units: Mapping[str, str] | None = None,
        attributes: Mapping[str, Mapping[str, Any]] | None = None,
        title: str | None = None,
        calendar: str = "standard",
    ) -> Self:
        """Return a dataset of NumPy arrays.

        Parameters
        ----------
        fields : mapping of str to array_like
            The data by name. Masked values and NaN are missing; truth values become classes.
        coordinates : mapping of str to array_like, shape (n,)
            Values along each dimension, in the order of the dimensions. Times are datetime64,
            dates of cftime, or numbers with units such as ``days since 2000-01-01``.
        dimensions : sequence of str, or mapping of str to sequence of str, optional
            Names of the dimensions of all fields, or of each; those of `coordinates` by default.
        units : mapping of str to str, optional
            UDUNITS units by name; ``"1"`` for a plain number.
        attributes : mapping of str to mapping, optional
            More attributes by name; those of the dataset by ``""``.
        title : str, optional
        calendar : str
            CF calendar of times that are given as numbers.

        Raises
        ------
        DataError
            If lengths, names or units do not fit together; the message says what would.

        Examples
        --------
        >>> data = rhodolite.from_arrays(
        ...     {"tas": [280.0, 284.0]}, {"lat": [0.0, 60.0]}, units={"tas": "K"}
        ... )
        >>> data["tas"].values().tolist()
        [280.0, 284.0]
        """
        from rhodolite.exchange.arrays import from_arrays

        return cls.of(
            from_arrays(
                fields,
                coordinates,
                dimensions=dimensions,
                units=units,
                attributes=attributes,
                title=title,
                calendar=calendar,
            )
        )

    @classmethod
    def from_pandas(
        cls,
        frame: pandas.DataFrame,
        *,
        units: Mapping[str, str] | None = None,
        attributes: Mapping[str, Mapping[str, Any]] | None = None,
        title: str | None = None,
    ) -> Self:
        """Return a dataset of a table with one row for each cell and time.

        Parameters
        ----------
        frame : pandas.DataFrame
            With columns of time, level, lat, lon or site, and a column for each field.
        units, attributes, title
            As for `from_arrays`.

        Examples
        --------
        >>> import pandas, rhodolite
        >>> table = pandas.DataFrame({"lat": [0.0, 60.0], "lon": [5.0, 5.0], "tas": [280.0, 284.0]})
        >>> data = rhodolite.from_pandas(table, units={"tas": "K"})
        >>> data["tas"].shape
        (2, 1)
        """
        from rhodolite.exchange.frames import from_pandas

        return cls.of(
            from_pandas(frame, units=units, attributes=attributes, title=title)
        )

    def to_pandas(
        self, layout: Literal["long", "wide"] = "long", *, variable: str | None = None
    ) -> pandas.DataFrame:
        """Return the fields as a table.

        Parameters
        ----------
        layout : {"long", "wide"}
            One row for each cell and time with a column for each field; or, of a single field,
            one row for each time and a column for each cell.
        variable : str, optional
            The one field to take.

        Examples
        --------
        >>> data.to_pandas()["tas"].tolist()
        [280.0, 284.0]
        """
        from rhodolite.exchange.frames import to_pandas

        return to_pandas(self.plain, layout, variable=variable)

    def __dataframe__(self, **settings: Any) -> Any:
        """Return what other libraries take a table from (the interchange of data frames)."""
        return self.to_pandas().__dataframe__(**settings)

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        """Return what other libraries take a table from (the stream of Arrow); needs pyarrow."""
        return self.to_pandas().__arrow_c_stream__(requested_schema)

    def write(
        self,
        path: str | PathLike[str],
        *,
        overwrite: bool = False,
        workers: int | None = None,
        memory: int | str | None = None,
        format: str | None = None,
        chunks: Literal["map", "series", "balanced"] | None = None,
        compression: Literal["none", "fast", "small"] | None = None,
        unlimited: bool = False,
        checksums: bool = True,
        all_rows: bool = False,
        decimal: Literal["point", "comma"] = "point",
        sort: str | None = None,
        first: int | None = None,
        across: str | None = None,
    ) -> None:
        """Compute the dataset block by block and write it in the format that the suffix names.

        Parameters
        ----------
        path : str or path
            Such as ``result.nc``. Appears only when it is complete. With fields in the name, such
            as ``rain_{year}.nc``, a file for each year, decade, month, member, variable or region.
        overwrite : bool
            Whether an existing file may be replaced.
        workers : int, optional
            Blocks to work on at once; the number of cores by default.
        memory : int or str, optional
            Bytes that the blocks in flight may take together, or a size such as ``"512MiB"``;
            1 GiB by default.
        format : str, optional
            A variant of what the suffix names, such as ``netcdf3-classic`` or ``zarr2``.
        chunks : {"map", "series", "balanced"}, optional
            Access pattern to optimise chunking for.
        compression : {"none", "fast", "small"}, optional
            Compression level; fast by default.
        unlimited : bool
            Whether time is to be a dimension that can grow.
        checksums : bool
            Whether chunks carry checksums, by which readers notice damage.
        all_rows : bool
            Whether a table may have more than 10 million rows.
        decimal : {"point", "comma"}
            Decimal mark of a table; with a comma, semicolons stand between columns.
        sort : str, optional
            Column by which the rows of a table are ordered; with ``:down`` after it, the largest
            come first.
        first : int, optional
            How many rows of a table are written.
        across : str, optional
            Dimension of whose places each gets a column of a table, such as ``"region"``.

        Raises
        ------
        UsageError
            If no format has the suffix.
        OutputError
            If the output exists, is an input, or cannot be written.

        Examples
        --------
        >>> path = folder / "day.nc"
        >>> data.write(path)
        >>> rhodolite.read(path)["tas"].values().tolist()
        [280.0, 284.0]
        """
        from rhodolite.formats.layout import make_layout
        from rhodolite.formats.table_style import make_style
        from rhodolite.pipeline.writing import write, write_companions

        engine = make_engine(workers, memory)
        style = make_style(
            all_rows=all_rows, decimal=decimal, sort=sort, first=first, across=across
        )
        layout = make_layout(
            format, chunks, compression, unlimited, checksums=checksums, table=style
        )
        write(self.plain, Path(path), engine=engine, overwrite=overwrite, layout=layout)
        write_companions(self.companions, engine=engine, overwrite=overwrite)

    def inspect(self, *, statistics: bool = False) -> dict[str, Any]:
        """Return what the dataset holds as plain values, with the keys of ``inspect --json``.

        Parameters
        ----------
        statistics : bool
            Whether to read the data for the share of missing values, the range and the mean.

        Examples
        --------
        >>> data.inspect()["variables"][0]["name"]
        'tas'
        """
        from rhodolite.inspection.summary import describe

        return describe(self.plain, Engine(), statistics=statistics)

    def check(self) -> list[Any]:
        """Return what breaks the CF conventions or hinders use by others, of the dataset as it is.

        What was repaired in reading is no longer found; `rhodolite check FILE` finds that, too.

        Examples
        --------
        >>> len(data.check()) > 0
        True
        """
        from rhodolite.checking import check

        return check(self.plain)

    def __str__(self) -> str:
        from rhodolite.inspection.page import dataset_page

        return dataset_page(self.inspect())

    def _repr_html_(self) -> str:
        folded = [attributes_html("the dataset", self.attributes)]
        folded += [
            attributes_html(field.name, field.attributes) for field in self.fields
        ]
        return f"<pre>{html.escape(str(self))}</pre>{''.join(folded)}"
