"""Arrays as a Zarr group: what we write the library reads, what it writes we read, and broken ones say so."""

import json

import numpy as np
import pytest
import zarr
import zarr.codecs
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

from errant_gust.core.errors import FileError
from errant_gust.core.files import zarr_arrays
from errant_gust.core.files.zarr_arrays import TYPES, read_arrays, write_arrays

ANY = st.sampled_from(TYPES).flatmap(lambda t: arrays(t, array_shapes(min_dims=0, max_dims=4, min_side=0, max_side=9)))


@settings(max_examples=60, deadline=None)
@given(ANY, st.integers(1, 4))
def test_any_array_comes_back_bit_by_bit_by_both_roads(tmp_path_factory, values, most):
    folder = tmp_path_factory.mktemp("z") / "group.zarr"
    rows, cells = zarr_arrays.ROWS, zarr_arrays.CELLS
    zarr_arrays.ROWS, zarr_arrays.CELLS = most, most
    try:
        write_arrays(folder, {"a": values, "twice": values.T}, {"frame": 3})
    finally:
        zarr_arrays.ROWS, zarr_arrays.CELLS = rows, cells
    ours = read_arrays(folder, ("a", "twice"))
    theirs = zarr.open_group(folder, mode="r")
    assert dict(theirs.attrs) == {"frame": 3}
    for name, was in (("a", values), ("twice", values.T)):
        for now in (ours[name], np.asarray(theirs[name][...])):
            assert now.dtype == was.dtype
            assert now.shape == was.shape
            assert now.tobytes() == np.ascontiguousarray(was).tobytes()


@pytest.mark.parametrize(
    "codec",
    [
        zarr.codecs.BloscCodec(cname="zstd", clevel=3, shuffle=zarr.codecs.BloscShuffle.bitshuffle),
        zarr.codecs.GzipCodec(),
        None,
    ],
)
def test_what_the_library_wrote_is_read(tmp_path, codec):
    values = np.random.default_rng(1).normal(size=(300, 70, 5)).astype(np.float32)
    values[:128] = 0  # it leaves chunks of zeros out
    group = zarr.open_group(tmp_path / "g", mode="w")
    group.create_array("v", data=values, chunks=(128, 64, 5), compressors=codec, fill_value=0)
    np.testing.assert_array_equal(read_arrays(tmp_path / "g", ("v",))["v"], values)


def test_chunks_of_zeros_take_no_room_and_minus_zero_is_kept(tmp_path):
    empty, minus = np.zeros((256, 128, 128), np.float32), np.full(4, -0.0, np.float32)
    write_arrays(tmp_path / "g", {"empty": empty, "minus": minus}, {})
    assert not (tmp_path / "g" / "empty" / "c").exists()
    back = read_arrays(tmp_path / "g", ("empty", "minus"))
    assert not back["empty"].any()
    assert np.signbit(back["minus"]).all()


def test_broken_chunks_and_heads_are_errors_and_allocate_nothing(tmp_path):
    write_arrays(tmp_path / "g", {"a": np.arange(50.0)}, {})
    chunk, head = tmp_path / "g" / "a" / "c" / "0", tmp_path / "g" / "a" / "zarr.json"
    whole, about = chunk.read_bytes(), json.loads(head.read_text())
    for data in (b"", whole[:9], whole[:4] + b"\xff\xff\xff\x7f" + whole[8:], whole[: len(whole) // 2]):
        chunk.write_bytes(data)
        with pytest.raises((ValueError, RuntimeError)):
            read_arrays(tmp_path / "g", ("a",))
    chunk.write_bytes(whole)
    head.write_text(json.dumps({**about, "shape": [10**14]}))
    with pytest.raises(ValueError, match="would be of"):
        read_arrays(tmp_path / "g", ("a",))
    with pytest.raises(KeyError):
        read_arrays(tmp_path / "g", ("b",))
    with pytest.raises(FileError, match="cannot be kept"):
        write_arrays(tmp_path / "h", {"words": np.array(["a"])}, {})
