"""The words of classes are told alike wherever they are shown, however a file spells them."""

from __future__ import annotations

import io
import json
import urllib.error
import urllib.parse
import urllib.request

import netCDF4
import numpy as np
import pytest
from covjson_pydantic.coverage import Coverage
from PIL import Image

import rhodolite
from conftest import run_here
from rhodolite import Animation, DataError, Map, Panels, Series
from rhodolite.drawing.parts.class_colours import Classes

WORDS = ("open water", "mixed ice", "closed ice")
NUMBERS = np.array([[0, 1, 4], [4, 4, 0]])
SPELLINGS = {
    "as CF": (np.array([0, 1, 4], "i1"), "open_water mixed_ice closed_ice"),
    "in text": ("0b, 1b, 4b", "open_water, mixed_ice, closed_ice"),
    "with blanks": ("0 1 4", "open water, mixed ice, closed ice"),
    "in another order": (np.array([4, 0, 1], "i1"), "closed_ice open_water mixed_ice"),
}


def write_classes(path, values, meanings, kind="i1"):
    with netCDF4.Dataset(path, "w") as target:
        for name, size in (("time", 2), ("lat", 2), ("lon", 3)):
            target.createDimension(name, size)
        for name, numbers, units in (
            ("time", [15, 45], "days since 2001-01-01"),
            ("lat", [50, 60], "degrees_north"),
            ("lon", [0, 10, 20], "degrees_east"),
        ):
            variable = target.createVariable(name, "f8", (name,))
            variable.units, variable[:] = units, numbers
        ice = target.createVariable("ice", kind, ("time", "lat", "lon"), fill_value=-1)
        ice.flag_values, ice.flag_meanings = values, meanings
        ice[:] = np.stack([NUMBERS, NUMBERS[::-1]])


@pytest.mark.parametrize("spelling", SPELLINGS)
@pytest.mark.parametrize("kind", ["i1", "f4"])
def test_classes_are_understood_and_tables_and_maps_say_their_words(
    tmp_path, spelling, kind
):
    write_classes(tmp_path / "ice.nc", *SPELLINGS[spelling], kind)
    data = rhodolite.read(tmp_path / "ice.nc")
    data.write(tmp_path / "ice.csv")
    rows = (tmp_path / "ice.csv").read_text().splitlines()[1:]
    told = [row.rsplit(",", 1)[1] for row in rows]
    words = dict(zip((0, 1, 4), WORDS, strict=True))
    assert told == [words[n] for n in [*NUMBERS.flat, *NUMBERS[::-1].flat]]
    titled = [word.capitalize() for word in reversed(WORDS)]
    for drawing in (Map(time="2001-01"), Panels(), Animation()):
        drawn = drawing(data)
        figure = drawn._first()[0] if isinstance(drawing, Animation) else drawn
        texts = [
            text.get_text()
            for axes in figure.axes
            for text in axes.get_yticklabels()
            if text.get_text() in titled
        ]
        assert texts[::-1] == titled, drawing
    with pytest.raises(DataError, match="no mean over an area; choose a cell"):
        Series(variable="ice")(data)
    answer = run_here("check", "ice.nc", folder=tmp_path)
    assert ("where CF has" in answer.out) == (spelling in ("in text", "with blanks"))
    data.write(tmp_path / "back.nc")
    back = run_here("check", "back.nc", folder=tmp_path)
    assert "flag" not in back.out


def ask(address, **words):
    with urllib.request.urlopen(f"{address}?{urllib.parse.urlencode(words)}") as answer:
        return answer.read()


def test_a_server_shows_classes_by_their_colours_and_words(tmp_path):
    pytest.importorskip("uvicorn")
    write_classes(tmp_path / "ice.nc", *SPELLINGS["in text"])
    data = rhodolite.read(tmp_path / "ice.nc")
    about = {"service": "WMS", "version": "1.3.0", "styles": "smooth", "crs": "CRS:84"}
    about |= {"bbox": "-5,45,25,65", "width": 30, "height": 20, "layers": "ice"}
    about |= {"format": "image/png", "time": "2001-01"}
    with rhodolite.serve({"sea": data}) as serving:
        maps = f"{serving.address}/wms/sea"
        picture = ask(maps, request="GetMap", **about)
        info = {"query_layers": "ice", "i": 25, "j": 15, "info_format": "text/plain"}
        said = ask(maps, request="GetFeatureInfo", **about, **info).decode()
        edr = f"{serving.address}/edr/collections/sea"
        here = {"coords": "POINT(20 50)", "parameter-name": "ice"}
        covered = ask(f"{edr}/position", **here)
        table = ask(f"{edr}/position", **here, f="CSV").decode()
        with pytest.raises(urllib.error.HTTPError, match="400"):
            ask(f"{edr}/cube", bbox="0,40,20,60", over="area", **here)
    shades, _ = Classes.of(data["ice"]).colours(None)
    pixels = np.asarray(Image.open(io.BytesIO(picture)).convert("RGB"))
    cells = pixels.reshape(2, 10, 3, 10, 3)
    # Nothing lies between two classes, even on a smooth map; north is above.
    assert (cells == cells[:, :1, :, :1]).all()
    expected = {
        n: np.rint(255 * np.array(shades(at)[:3])) for at, n in enumerate((0, 1, 4))
    }
    for row, column in np.ndindex(2, 3):
        colour = cells[1 - row, 0, column, 0]
        np.testing.assert_array_equal(colour, expected[NUMBERS[row, column]])
    assert "class: closed ice" in said
    Coverage.model_validate_json(covered)
    parameter = json.loads(covered)["parameters"]["ice"]
    assert parameter["categoryEncoding"]["closed_ice"] == 4
    assert json.loads(covered)["ranges"]["ice"]["values"] == [4, 0]
    assert [line.rsplit(",", 1)[1] for line in table.splitlines()[1:]] == [
        "closed ice",
        "open water",
    ]
