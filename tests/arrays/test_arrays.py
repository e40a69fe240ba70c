"""Lazy arrays against plain NumPy indexing, and streaming against one computation in one piece."""

from __future__ import annotations

import os
import pickle
import shutil
import time
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rhodolite.arrays import Concatenated, Engine, InMemory, Mapped, Selected
from rhodolite.arrays.blocks import block_shape, count_blocks, iterate_blocks
from rhodolite.arrays.chunk_cache import ChunkCache
from rhodolite.arrays.positional import BINARY, read_at, write_at
from rhodolite.arrays.reduction import Reduction, Strategy
from rhodolite.arrays.schedule import find_passes
from rhodolite.arrays.scratch import RechunkedScratch, decoding_factor
from rhodolite.errors import OutputError
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.operations.axis_reduction.area_mean import WeightedMean
from rhodolite.operations.time_groups.reduction import (
    GroupedStatistic,
    Groups,
    grouped_reduction,
)


class Chunked(InMemory):
    """Values in memory that claim to be chunked, and count how often they are read."""

    def __init__(self, values, chunks):
        super().__init__(values)
        self.chunks, self.reads = chunks, 0

    def read(self, region):
        self.reads += 1
        assert all(s.step in (None, 1) and 0 <= s.start <= s.stop for s in region)
        return super().read(region)


shapes = st.tuples(st.integers(1, 7), st.integers(1, 6), st.integers(1, 5))


@pytest.mark.slow
@given(st.data(), shapes, shapes)
def test_views_read_what_indexing_gives(data, shape, chunks):
    values = np.arange(np.prod(shape)).reshape(shape)
    picks = [
        data.draw(st.none() | st.lists(st.integers(0, n - 1), min_size=1, max_size=9))
        for n in shape
    ]
    expected, lazy = values, Selected(Chunked(values, chunks), picks)
    again = [None if p is None else list(reversed(range(len(p)))) for p in picks]
    for axis, pick in enumerate(picks):
        expected = (
            expected
            if pick is None
            else np.take(expected, pick, axis)[
                (slice(None),) * axis + (slice(None, None, -1),)
            ]
        )
    lazy = Selected(lazy, [None if a is None else np.array(a) for a in again])
    assert lazy.shape == expected.shape
    np.testing.assert_array_equal(Engine(workers=1).compute(lazy), expected)
    region = tuple(
        slice(*sorted((data.draw(st.integers(0, n - 1)), n))) for n in lazy.shape
    )
    np.testing.assert_array_equal(lazy.read(region), expected[region])


@given(
    st.lists(st.integers(1, 5), min_size=1, max_size=5), st.integers(0, 2), st.data()
)
def test_parts_end_to_end_read_as_one(lengths, axis, data):
    parts = [
        np.random.default_rng(n).random([n if a == axis else 3 for a in range(3)])
        for n in lengths
    ]
    whole = np.concatenate(parts, axis)
    lazy = Concatenated([InMemory(part) for part in parts], axis)
    start = data.draw(st.integers(0, whole.shape[axis] - 1))
    stop = data.draw(st.integers(start + 1, whole.shape[axis]))
    region = tuple(slice(start, stop) if a == axis else slice(0, 3) for a in range(3))
    np.testing.assert_array_equal(lazy.read(region), whole[region])


@given(shapes, shapes, st.integers(1, 2000))
def test_blocks_tile_an_array_and_keep_whole_chunks(shape, chunks, limit):
    block = block_shape(shape, chunks, 8, limit)
    seen = np.zeros(shape, int)
    for region in (regions := list(iterate_blocks(shape, block))):
        seen[region] += 1
    assert (seen == 1).all()
    assert len(regions) == count_blocks(shape, block)
    for size, chunk, n in zip(block, chunks, shape, strict=True):
        assert size == n or size % min(chunk, n) == 0


@pytest.mark.slow
@given(shapes, shapes, st.integers(1, 4), st.integers(1, 60))
def test_results_do_not_depend_on_blocks_or_workers(shape, chunks, workers, limit):
    random = np.random.default_rng(sum(shape))
    values = random.normal(280, 10, shape)
    values[random.random(shape) < 0.2] = np.nan
    groups = np.arange(shape[0]) % 3
    size = int(groups.max()) + 1

    def run(engine, source):
        spread = Groups("x", "means", groups, size, None, np.ones(size), 0.0)
        moments = GroupedStatistic(spread, Spread(), 0, shape[1:])
        mean = WeightedMean(shape, {1: np.arange(1.0, shape[1] + 1)}, (1, 2))
        first, second = Reduction(source, moments), Reduction(source, mean)
        cells = (size, *shape[1:])
        wanted = [
            first.output("mean", cells),
            first.output("deviation", cells),
            second.output("mean", shape[:1]),
        ]
        engine.prepare(wanted)
        return [engine.compute(array) for array in wanted]

    class Small(Engine):
        block_limit = limit * 8

    small = Small(workers=workers)
    for split, once in zip(
        run(small, Chunked(values, chunks)),
        run(Engine(workers=1), InMemory(values)),
        strict=True,
    ):
        np.testing.assert_allclose(split, once, rtol=1e-12)


@pytest.mark.slow
def test_workers_and_executor_change_no_bit():
    values = np.random.default_rng(0).normal(280, 10, (500, 20, 30)).astype("f4")

    def result(workers, executor=None):
        engine = Engine(workers=workers, memory=1 << 22, executor=executor)
        source = Chunked(values, (1, 20, 30))
        groups = Groups("x", "means", np.arange(500) % 12, 12, None, np.ones(12), 0.0)
        moments = GroupedStatistic(groups, Spread(), 0, (20, 30))
        return engine.compute(
            Reduction(source, moments).output("deviation", (12, 20, 30))
        )

    for other in (result(2), result(7)):
        np.testing.assert_array_equal(other, result(1))
    # Where results are merged by others they are merged pair by pair.
    np.testing.assert_allclose(result(4, _Elsewhere(3)), result(1), rtol=1e-12)
    np.testing.assert_array_equal(result(4, _Elsewhere(3)), result(4, _Elsewhere(1)))


def test_results_too_large_to_send_are_merged_part_by_part_of_space():
    """The same bits as in one, and nothing sent is larger than one part of them."""
    values = np.random.default_rng(0).normal(280, 10, (60, 48, 30)).astype("f4")
    found, largest = [], []
    for memory in (1 << 20, 1 << 30):
        elsewhere = _Elsewhere(2)
        engine = Engine(memory=memory, executor=elsewhere)
        groups = Groups("x", "means", np.arange(60) % 30, 30, None, np.ones(30), 0.0)
        source = Chunked(values, (30, 16, 30))
        reduction, _ = grouped_reduction(source, groups, Spread(), 0)
        assert reduction.strategy(memory, remote=True) is Strategy.MERGED
        found.append(engine.compute(reduction.output("deviation", (30, 48, 30))))
        largest.append(elsewhere.largest)
    np.testing.assert_allclose(*found, rtol=1e-12)
    assert 2.9 < largest[1] / largest[0] < 3.1


class _Elsewhere(ThreadPoolExecutor):
    """Stands for a cluster: tasks and results go through pickle."""

    threads = property(lambda self: self._max_workers)
    largest = 0

    def merge(self, function, arguments, merge):
        level = [self.submit(_pickled, function, one).result() for one in arguments]
        yield from (None for _ in level)
        while len(level) > 1:
            pairs = [
                _pickled(_merge, (merge, *level[at : at + 2]))
                for at in range(0, len(level) - 1, 2)
            ]
            level = [*pairs, *level[2 * len(pairs) :]]
        self.largest = max(self.largest, len(pickle.dumps(level[0])))
        yield level[0]


def _pickled(function, argument):
    function, argument = pickle.loads(pickle.dumps((function, argument)))
    return pickle.loads(pickle.dumps(function(argument)))


def _merge(three):
    merge, first, second = three
    return merge(first, second)


def test_fifty_steps_in_a_row_do_not_exhaust_the_stack():
    lazy = InMemory(np.zeros((4, 4)))
    for _ in range(50):
        lazy = Mapped(lazy, lambda block: block + 1, "f8")
    assert (Engine().compute(lazy) == 50).all()


@pytest.mark.slow
@given(st.data(), shapes, shapes, shapes)
def test_a_scratch_file_holds_the_same_in_another_order(data, shape, chunks, tile):
    values = np.random.default_rng(sum(shape)).normal(size=shape)
    source = Chunked(values, chunks)
    scratch = RechunkedScratch(source, tile)
    engine = Engine(workers=2)
    engine.prepare([Mapped(scratch, np.negative, "f8")])
    reads = source.reads
    for _ in range(3):
        region = tuple(
            slice(*sorted((data.draw(st.integers(0, n)), data.draw(st.integers(0, n)))))
            for n in shape
        )
        np.testing.assert_array_equal(scratch.read(region), values[region])
    assert source.reads == reads
    with pytest.raises(TypeError, match="cannot be sent"):
        pickle.dumps(scratch)


@given(shapes, shapes, shapes)
def test_how_often_chunks_are_decoded_is_counted_right(shape, chunks, block):
    touched = sum(
        np.prod(
            [
                -(-s.stop // c) - s.start // c
                for s, c in zip(region, chunks, strict=True)
            ]
        )
        for region in iterate_blocks(shape, block)
    )
    assert decoding_factor(shape, chunks, block) * count_blocks(
        shape, chunks
    ) == pytest.approx(touched)


def test_work_across_the_grain_goes_through_a_scratch_file_and_work_along_it_does_not(
    monkeypatch,
):
    source = Chunked(
        np.random.default_rng(1).normal(size=(400, 30, 40)).astype("f4"), (1, 30, 40)
    )

    class Small(Engine):
        block_limit = 1 << 16

    data, block = Small().in_units(source, (400, 1, 1))
    assert isinstance(data, RechunkedScratch)
    assert block[0] == 400
    assert Small().in_units(source, (5, 30, 40)) == (source, (5, 30, 40))
    assert (
        Engine().in_units(source, (400, 1, 1))[0] is source
    )  # all of it fits into a block or two
    monkeypatch.setattr(shutil, "disk_usage", lambda _: SimpleNamespace(free=1000))
    with pytest.raises(
        OutputError, match=r"scratch space are needed.* --scratch, or TMPDIR"
    ):
        Small().prepare([data])


def test_all_that_need_a_source_share_a_pass_over_it():
    source = Chunked(np.arange(600.0).reshape(100, 2, 3), (1, 2, 3))
    means = [WeightedMean(source.shape, {}, axes) for axes in ((0,), (1, 2), (0, 1, 2))]
    wanted = [
        Reduction(source, mean).output("mean", shape)
        for mean, shape in zip(means, ((2, 3), (100,), ()), strict=True)
    ]
    later = Reduction(Mapped(source, np.negative, "f8"), means[2]).output("mean", ())
    assert sorted(
        len(one.reductions) for one in find_passes([*wanted, later], 1 << 30)
    ) == [1, 3]
    engine = Engine(workers=1)
    _, blocks, _ = engine.blocks(source)
    engine.prepare(wanted)
    assert source.reads == blocks
    assert engine.compute(wanted[2]) == 299.5


def test_a_piece_that_several_blocks_need_is_decoded_once():
    pieces, decoded = ChunkCache(limit=100), []

    def decode(key):
        decoded.append(key)
        time.sleep(0.01)
        return np.zeros(5)  # 40 bytes

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda at: pieces.get(at % 2, lambda: decode(at % 2)), range(40)))
    assert sorted(decoded) == [0, 1]
    for key in (0, 1, 2, 0):  # 0, asked for least recently, has to go for 2
        pieces.get(key, lambda key=key: decode(key))
    assert sorted(decoded) == [0, 0, 1, 2]
    with pytest.raises(ZeroDivisionError):
        pieces.get(9, lambda: 1 / 0)
    assert pieces.get(9, lambda: np.ones(1)) == 1


def test_distant_cells_are_read_apart_and_close_ones_together():
    source = Chunked(np.arange(1000), (10,))
    Selected(source, [np.array([3, 8, 900, 901])]).read((slice(0, 4),))
    assert source.reads == 2


def test_partial_results_and_arrays_can_be_sent_to_another_process(demo):
    import rhodolite

    data = rhodolite.read(demo / "pressure_monthly.nc")["ta"].data
    again = pickle.loads(pickle.dumps(data))
    region = (slice(0, 2), slice(1, 3), slice(0, 4), slice(5, 9))
    np.testing.assert_array_equal(again.read(region), data.read(region))


def test_an_interrupted_stream_stops_its_workers():
    done = []

    def work(region):
        done.append(region)
        return region

    stream = Engine(workers=1).stream(
        work, iterate_blocks((1000,), (1,)), "counting", 1000
    )
    next(stream)
    with pytest.raises(KeyboardInterrupt):
        stream.throw(KeyboardInterrupt)
    assert len(done) < 10


@pytest.mark.parametrize("lacking", [(), ("pread", "pwrite")])
def test_places_in_files_are_read_and_written_on_every_system(
    tmp_path, monkeypatch, lacking
):
    for name in lacking:
        monkeypatch.delattr(os, name)
    descriptor = os.open(tmp_path / "a", os.O_RDWR | os.O_CREAT | BINARY)
    try:
        with ThreadPoolExecutor(8) as pool:
            list(
                pool.map(
                    lambda at: write_at(
                        descriptor, memoryview(bytes([at]) * 1000), 1000 * at
                    ),
                    range(100),
                )
            )
            found = list(
                pool.map(lambda at: read_at(descriptor, 1000, 1000 * at), range(101))
            )
    finally:
        os.close(descriptor)
    assert found == [*(bytes([at]) * 1000 for at in range(100)), b""]


def test_what_is_read_can_be_changed_without_changing_the_array():
    array = InMemory(np.arange(6.0).reshape(2, 3))
    block = array.read((slice(0, 2), slice(0, 3)))
    block *= 0
    np.testing.assert_array_equal(array.read((slice(0, 2), slice(0, 3))).sum(), 15)
