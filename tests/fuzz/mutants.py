"""Mutants of small files of every format: one thing of each is made wrong, from a seed."""

from __future__ import annotations

import json
import random
import shutil
import struct
from collections.abc import Callable
from pathlib import Path
from typing import Any

import h5py
import netCDF4
import numpy as np
import pandas
import shapefile
import zarr

ATTRIBUTES = [
    "scale_factor",
    "add_offset",
    "_FillValue",
    "missing_value",
    "valid_range",
    "valid_min",
    "valid_max",
    "units",
    "calendar",
    "bounds",
    "coordinates",
    "grid_mapping",
    "cell_methods",
    "cell_measures",
    "formula_terms",
    "positive",
    "axis",
    "standard_name",
    "long_name",
    "flag_values",
    "flag_meanings",
    "_Unsigned",
    "ancillary_variables",
    "climatology",
    "actual_range",
    "units_metadata",
]
ODD_VALUES: tuple[Any, ...] = (
    "",
    " ",
    "nonsense",
    "days since",
    "days since 0000-00-00",
    "days since 99999-01-01",
    "seconds since 2000-01-01T25:61:61",
    "months since 1e999",
    "\x00\x1b[31m",
    "é" * 300,
    "a: b: c:",
    "time: mean (interval: ",
    "tas tas tas",
    0,
    -1,
    1e300,
    -1e300,
    float("nan"),
    float("inf"),
    np.int8(-128),
    np.uint64(2**63),
    np.float32(1e38),
    np.array([1.0, 2.0, 3.0]),
    np.array([], dtype="f8"),
    np.array([5, 1]),
    np.array(["a", "b"], dtype=object),
)
ODD_NUMBERS = (np.nan, np.inf, -np.inf, 1e300, -1e300, 1e18, -1, 0)
JSON_LIKE = (
    None,
    True,
    -1,
    2**62,
    2**70,
    1e999,
    "x",
    [],
    {},
    [[[[]]]],
    {"a": {"b": []}},
)
ODD_TOML = (
    "x = 2001-01-01",
    "x = 12:00:00",
    "x = {a = 1}",
    "x = [[1, 2], [3]]",
    "x = [1, 'a']",
    f"x = {2**70}",
    "x = true",
    "x = nan",
    "x = []",
    "'' = 'x'",
    "'a/b' = 'x'",
    "_FillValue = 0",
    "units = 5",
    "[variables]",
    "variables = 3",
    "files = [3]",
    "group = 'x'",
    "headers = 'none'",
    "overlap = 1",
)


def write_seeds(folder: Path) -> dict[str, Path]:
    """Write one small file of each kind, and return them by name."""
    from conftest import write_plain

    rng = np.random.default_rng(1)
    values = rng.normal(280, 5, (24, 6, 8))
    times = 14.5 + np.arange(24) * 30.4375
    made = {}
    for name, kind in (
        ("nc4", "NETCDF4"),
        ("nc3", "NETCDF3_CLASSIC"),
        ("nc5", "NETCDF3_64BIT_DATA"),
    ):
        made[name] = write_plain(
            folder / f"{name}.nc", values, times=times, format=kind
        )
    packed = np.clip((values - 280) * 100, -3000, 3000).astype("i2")
    made["packed"] = write_plain(
        folder / "packed.nc",
        packed,
        times=times,
        kind="i2",
        fill=-32768,
        zlib=True,
        shuffle=True,
        attributes={"scale_factor": 0.01, "add_offset": 280.0},
    )
    from rhodolite import read

    data = read(made["nc4"])
    for name, options in (("zarr2", {"format": "zarr2"}), ("zarr3", {})):
        data.write(folder / f"{name}.zarr", **options)
        made[name] = folder / f"{name}.zarr"
    data.subset(time="2000-01..2000-03").write(folder / "table.csv")
    made["csv"] = folder / "table.csv"
    data.subset(time="2000-01").write(folder / "grid_{year}{month}.asc")
    made["asc"] = next(folder.glob("grid_*.asc"))
    made |= write_other_formats(folder, data)
    ring = [[1, 1], [5, 1], [5, 4], [1, 4], [1, 1]]
    feature = {
        "type": "Feature",
        "properties": {"name": "A"},
        "geometry": {"type": "Polygon", "coordinates": [ring]},
    }
    made["odd"] = write_odd_types(folder / "odd.h5")
    made["bounded"] = write_bounded(folder / "bounded.nc")
    made["geojson"] = folder / "a.geojson"
    made["geojson"].write_text(
        json.dumps({"type": "FeatureCollection", "features": [feature]})
    )
    made["sites"] = folder / "sites.csv"
    made["sites"].write_text("site,lat,lon,altitude\na,1,2,100\nb,3,4,200\n")
    made["shp"] = folder / "r.shp"
    with shapefile.Writer(str(made["shp"])) as writer:
        writer.field("name", "C")
        writer.poly([ring])
        writer.record("A")
    made["toml"] = folder / "c.toml"
    made["toml"].write_text(
        '[collection]\nfiles = ["nc4.nc"]\n[attributes]\ntitle = "x"\n'
        '[variables.tas]\ncomment = "y"\n'
    )
    made["description"] = folder / "d.toml"
    made["description"].write_text(
        '[dataset]\ntitle = "x"\n[columns]\nlat = "lat"\nlon = "lon"\ntime = "time"\n'
        '[variables.tas]\nunits = "K"\n[variables.tas.attributes]\ncomment = "y"\n'
    )
    return made


def write_other_formats(folder: Path, data: Any) -> dict[str, Path]:
    """Write a file of each format that needs a library of its own."""
    import eccodes

    made = {"tif": folder / "a.tif", "parquet": folder / "a.parquet"}
    data.write(made["tif"])
    data.subset(time="2000-01..2000-03").write(made["parquet"])
    made["xlsx"] = folder / "a.xlsx"
    frame = pandas.read_parquet(made["parquet"])
    frame.to_excel(made["xlsx"], index=False)
    messages = []
    for step, edition in ((0, 2), (6, 2), (0, 1)):
        handle = eccodes.codes_grib_new_from_samples(f"regular_ll_sfc_grib{edition}")
        eccodes.codes_set(handle, "step", step)
        eccodes.codes_set(handle, "bitsPerValue", 12)
        eccodes.codes_set_values(handle, np.arange(496.0) + step)
        messages.append(eccodes.codes_get_message(handle))
        eccodes.codes_release(handle)
    for name, parts in (("grib2", messages[:2]), ("grib1", messages[2:])):
        made[name] = folder / f"a.{name}"
        made[name].write_bytes(b"".join(parts))
    return made


def write_odd_types(path: Path) -> Path:
    """Write fields beside values of every type that HDF5 knows."""
    with h5py.File(path, "w") as file:
        for name, units in (("lat", "degrees_north"), ("lon", "degrees_east")):
            file[name] = np.arange(4.0)
            file[name].make_scale(name)
            file[name].attrs["units"] = units
        kinds = {
            "tas": np.dtype("f4"),
            "half": np.dtype("f2"),
            "long": np.dtype("longdouble"),
            "record": np.dtype([("a", "f4"), ("b", h5py.string_dtype())]),
            "choice": h5py.enum_dtype({"RED": 0, "BLUE": 1}, basetype="i1"),
            "ragged": h5py.vlen_dtype(np.dtype("f4")),
            "words": h5py.string_dtype(),
            "blob": h5py.opaque_dtype(np.dtype("V8")),
            "pointer": h5py.ref_dtype,
            "truth": np.dtype("?"),
            "pair": np.dtype("c8"),
            "fixed": np.dtype("S5"),
            "rows": np.dtype(("f4", (3,))),
            "big": np.dtype(">i8"),
        }
        for name, kind in kinds.items():
            made = file.create_dataset(name, (4, 4), dtype=kind)
            for at, axis in enumerate(("lat", "lon")):
                made.dims[at].attach_scale(file[axis])
        file["tas"].attrs["units"] = "K"
        file["tas"][...] = 280.0
        for name in ("inner", "inner/deeper"):
            file.create_group(name)["q"] = np.arange(3.0)
    return path


def write_bounded(path: Path) -> Path:
    """Write a field whose axes have bounds, and sites beside it, in classic form."""
    lengths = {"time": 24, "lat": 4, "lon": 5, "site": 3, "two": 2, "three": 3}
    about = {
        "time": "days since 2001-01-01",
        "lat": "degrees_north",
        "lon": "degrees_east",
    }
    with netCDF4.Dataset(path, "w", format="NETCDF4_CLASSIC") as file:
        for name, n in lengths.items():
            file.createDimension(name, n)
        for name, units in about.items():
            values = np.arange(lengths[name]) * (30.0 if name == "time" else 5.0)
            file.createVariable(name, "f8", (name,)).setncatts(
                {"units": units, "bounds": f"{name}_b"}
            )
            file[name][:] = values
            ends = np.stack([values, values + (values[1] - values[0])], axis=1)
            file.createVariable(f"{name}_b", "f8", (name, "two"))[:] = ends
        file.createVariable("tas", "f4", ("time", "lat", "lon")).units = "K"
        file["tas"][:] = 280.0
        for name, units in (("y", "degrees_north"), ("x", "degrees_east")):
            file.createVariable(name, "f8", ("site",)).units = units
            file[name][:] = np.arange(3.0)
        file.createVariable("flow", "f4", ("time", "site")).setncatts(
            {"units": "m3 s-1", "coordinates": "y x"}
        )
        file["flow"][:] = 1.0
    return path


def make_mutant(seed: Path, kind: str, target: Path, rng: random.Random) -> str:
    """Write a mutant of a seed to a path, and return in words what was changed."""
    if seed.is_dir():
        shutil.copytree(seed, target)
    elif kind == "shp":
        for beside in (".shp", ".shx", ".dbf"):
            shutil.copy(seed.with_suffix(beside), target.with_suffix(beside))
    else:
        shutil.copy(seed, target)
    ways = _WAYS[kind]
    return rng.choice(ways)(target, rng)


def _change_attribute(path: Path, rng: random.Random) -> str:
    name, value = rng.choice(ATTRIBUTES), rng.choice(ODD_VALUES)
    with h5py.File(path, "a") as file:
        holder = file[
            rng.choice([key for key in file if isinstance(file[key], h5py.Dataset)])
        ]
        try:
            holder.attrs[name] = value
        except (TypeError, ValueError):
            holder.attrs[name] = str(value).replace("\x00", "?")
        return f"{holder.name}:{name} = {value!r}"


def _change_classic_attribute(path: Path, rng: random.Random) -> str:
    name, value = rng.choice(ATTRIBUTES), rng.choice(ODD_VALUES)
    with netCDF4.Dataset(path, "a") as file:
        holder = file[rng.choice(list(file.variables))]
        try:
            holder.setncattr(name, value)
        except Exception as error:
            return f"nothing, since {error}"
        return f"{holder.name}:{name} = {value!r}"


def _change_coordinate(path: Path, rng: random.Random) -> str:
    with netCDF4.Dataset(path, "a") as file:
        file.set_auto_mask(False)
        holder = file[rng.choice(["time", "lat", "lon"])]
        at, value = rng.randrange(holder.size), rng.choice(ODD_NUMBERS)
        holder[at] = value
        return f"{holder.name}[{at}] = {value}"


def _change_bounds(path: Path, rng: random.Random) -> str:
    """Make bounds of another shape or type."""
    axis = rng.choice(["time", "lat", "lon"])
    kind = rng.choice(["f8", "i4", "S1", "f4"])
    dims = rng.choice(
        [(axis,), ("two", axis), (axis, "three"), (axis, "two", "three"), (), ("two",)]
    )
    with netCDF4.Dataset(path, "a") as file:
        file.createVariable("other_b", kind, dims)
        file[axis].setncattr(rng.choice(["bounds", "climatology"]), "other_b")
    return f"bounds of {axis}: {kind} along {dims}"


def _declare_huge(path: Path, rng: random.Random) -> str:
    """Declare far more than is stored."""
    shape = rng.choice([(2**31, 2**30), (2**20, 2**20, 2**20), (4, 2**59)])
    name = rng.choice(["huge", "lat", "tas"])
    with h5py.File(path, "a") as file:
        if name in file:
            del file[name]
        chunk = tuple(min(n, 64) for n in shape)
        file.create_dataset(name, shape, "f4", chunks=chunk).attrs["units"] = "K"
    return f"{name} of {shape}"


def _add_much(path: Path, rng: random.Random) -> str:
    """Add more groups, variables or attributes than anyone needs."""
    what, n = rng.choice(["groups", "variables", "attributes"]), rng.choice([100, 3000])
    with h5py.File(path, "a") as file:
        for at in range(n):
            if what == "groups":
                file.create_group(f"g{at}")
            elif what == "variables":
                file[f"v{at}"] = 1.0
            else:
                file["tas"].attrs[f"a{at}"] = "x" * rng.choice([1, 1000])
    return f"{n} {what}"


def _link(path: Path, rng: random.Random) -> str:
    """Let a name stand for something elsewhere, or for what holds it."""
    with h5py.File(path, "a") as file:
        name = rng.choice(["tas", "other", "lat"])
        if name in file:
            del file[name]
        file[name] = rng.choice(
            [
                h5py.ExternalLink("/etc/passwd", "/x"),
                h5py.SoftLink("/none"),
                h5py.SoftLink(f"/{name}"),
                file["/"],
            ]
        )
    return f"{name} is a link"


def _change_toml(path: Path, rng: random.Random) -> str:
    lines, added = path.read_text().split("\n"), rng.choice(ODD_TOML)
    lines.insert(rng.randrange(len(lines) + 1), added)
    path.write_text("\n".join(lines))
    return added


def _remove_variable(path: Path, rng: random.Random) -> str:
    with h5py.File(path, "a") as file:
        name = rng.choice(list(file))
        del file[name]
        return f"without {name}"


def _flip_bytes(path: Path, rng: random.Random) -> str:
    files = (
        [path]
        if path.is_file()
        else [f for f in sorted(path.rglob("*")) if f.is_file()]
    )
    file = rng.choice(files)
    content = bytearray(file.read_bytes())
    places = (
        [rng.randrange(len(content)) for _ in range(rng.choice([1, 1, 4, 16]))]
        if content
        else []
    )
    for place in places:
        content[place] = rng.randrange(256)
    file.write_bytes(bytes(content))
    return f"bytes {places} of {file.name}"


def _flip_header(path: Path, rng: random.Random) -> str:
    content = bytearray(path.read_bytes())
    place = rng.randrange(4, min(len(content) - 8, 600)) // 4 * 4
    number = rng.choice([0, 1, 2**31 - 1, 2**31, 2**32 - 1, 100_000_000])
    order = rng.choice("<>") if path.suffix in (".shp", ".shx", ".dbf") else ">"
    content[place : place + 4] = struct.pack(f"{order}I", number)
    path.write_bytes(bytes(content))
    return f"word {place} = {number}"


def _change_outline_files(path: Path, rng: random.Random) -> str:
    file = path.with_suffix(rng.choice([".shp", ".shx", ".dbf"]))
    way = rng.choice([_flip_header, _flip_bytes, _cut])
    return f"{file.suffix}: {way(file, rng)}"


def _cut(path: Path, rng: random.Random) -> str:
    content = path.read_bytes()
    left = rng.randrange(len(content))
    path.write_bytes(content[:left])
    return f"cut to {left} of {len(content)} bytes"


def _change_json(path: Path, rng: random.Random) -> str:
    files = (
        [path]
        if path.is_file()
        else [
            f
            for f in sorted(path.rglob("*"))
            if "z" in f.suffix or f.suffix == ".json" or f.name.startswith(".z")
        ]
    )
    file = rng.choice([f for f in files if f.is_file()])
    try:
        tree = json.loads(file.read_text())
    except ValueError:
        return _flip_bytes(file, rng)
    places: list[tuple[Any, Any]] = []

    def walk(node: Any) -> None:
        for key, value in node.items() if isinstance(node, dict) else enumerate(node):
            places.append((node, key))
            if isinstance(value, (dict, list)):
                walk(value)

    walk(tree)
    node, key = rng.choice(places)
    if rng.random() < 0.2:
        del node[key]
        said = f"{file.name}: without {key}"
    else:
        node[key] = value = rng.choice(JSON_LIKE)
        said = f"{file.name}: {key} = {value!r}"
    file.write_text(json.dumps(tree))
    return said


def _change_text(path: Path, rng: random.Random) -> str:
    lines = path.read_text().split("\n")
    at = rng.randrange(len(lines))
    words = lines[at].replace(",", " , ").split(" ")
    place = rng.randrange(len(words))
    odd = (
        "",
        "nan",
        "1e999",
        "-1",
        "99999999999999999999",
        "x",
        "\x1b[2J",
        '"',
        "=1+1",
        "2001-13-45",
        "\x00",
        "9" * 5000,
    )
    words[place] = rng.choice(odd)
    lines[at] = " ".join(words).replace(" , ", ",")
    if rng.random() < 0.2:
        lines.insert(at, lines[at])
    path.write_text("\n".join(lines))
    return f"line {at + 1}: {lines[at][:60]!r}"


def _nest(path: Path, rng: random.Random) -> str:
    depth = rng.choice([50, 900, 20_000])
    path.write_text('{"type": ' + "[" * depth + "]" * depth + "}")
    return f"nested {depth} deep"


def _change_zarr_attribute(path: Path, rng: random.Random) -> str:
    group = zarr.open_group(path, mode="a")
    name, value = (
        rng.choice(ATTRIBUTES),
        rng.choice([v for v in ODD_VALUES if not isinstance(v, np.ndarray)]),
    )
    holder = rng.choice([array for _, array in group.arrays()])
    plain = value.item() if isinstance(value, np.generic) else value
    holder.attrs[name] = (
        plain
        if plain == plain
        and abs(plain if isinstance(plain, (int, float)) else 0) < 1e300
        else str(plain)
    )
    return f"{holder.name}:{name} = {plain!r}"


Way = Callable[[Path, random.Random], str]
_ODD: tuple[Way, ...] = (
    _change_attribute,
    _declare_huge,
    _add_much,
    _link,
    _flip_bytes,
    _cut,
)
_BOUNDED: tuple[Way, ...] = (
    _change_bounds,
    _change_bounds,
    _change_classic_attribute,
    _declare_huge,
)
_HDF5: tuple[Way, ...] = (
    _change_attribute,
    _change_attribute,
    _change_coordinate,
    _remove_variable,
    _flip_bytes,
    _cut,
)
_CLASSIC: tuple[Way, ...] = (
    _change_classic_attribute,
    _change_coordinate,
    _flip_header,
    _flip_bytes,
    _cut,
)
_STORE: tuple[Way, ...] = (
    _change_json,
    _change_json,
    _change_zarr_attribute,
    _flip_bytes,
)
_TEXT: tuple[Way, ...] = (_change_text, _change_text, _flip_bytes, _cut)
_BINARY = (_flip_bytes, _flip_header, _cut)
_WAYS: dict[str, tuple[Way, ...]] = {
    "nc4": _HDF5,
    "packed": _HDF5,
    "nc3": _CLASSIC,
    "nc5": _CLASSIC,
    "zarr2": _STORE,
    "zarr3": _STORE,
    "csv": _TEXT,
    "asc": _TEXT,
    "sites": _TEXT,
    "toml": (*_TEXT, _change_toml, _change_toml),
    "description": (*_TEXT, _change_toml, _change_toml),
    "odd": _ODD,
    "bounded": _BOUNDED,
    "shp": (_change_outline_files,),
    **dict.fromkeys(("grib1", "grib2", "tif", "parquet", "xlsx"), _BINARY),
    "geojson": (_change_json, _change_json, _nest, _flip_bytes, _cut),
}
