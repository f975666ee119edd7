"""The picture of a film: moved into a file that can be sought, in the time of the take."""

from __future__ import annotations

import io
import tempfile

import av
import numpy as np
from django.test import SimpleTestCase

from didactor.core.sound import picture as module
from didactor.core.sound.picture import Picture, open_picture
from didactor.demo.film import film_of
from tests.music import wav

FRAMES = 30


def film(*, sound_at_s: float = 0.0, container: str = "webm", codec: str = "libvpx", metadata: str = "") -> bytes:
    """Two seconds of grey that grows lighter with time, with a tone that begins at ``sound_at_s`` on the film's own clock."""
    buffer = io.BytesIO()
    with av.open(buffer, "w", format=container) as made:
        made.metadata["location"] = metadata
        shown = made.add_stream(codec, rate=15)
        shown.width, shown.height, shown.pix_fmt = 64, 48, "yuv420p"
        sound = made.add_stream("libopus", rate=48_000, layout="mono")
        for number in range(FRAMES):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 40 + 6 * number, dtype=np.uint8), format="rgb24")
            frame.pts = number
            made.mux(shown.encode(frame))
        made.mux(shown.encode(None))
        for start in range(0, 96_000, 960):
            block = av.AudioFrame.from_ndarray(np.full((1, 960), 1000, dtype=np.int16), format="s16", layout="mono")
            block.sample_rate, block.pts = 48_000, start + round(48_000 * sound_at_s)
            made.mux(sound.encode(block))
        made.mux(sound.encode(None))
    return buffer.getvalue()


def opened(body: bytes) -> Picture | None:
    with tempfile.TemporaryFile() as source:
        source.write(body)
        source.flush()
        return open_picture(source)


def shade_at(picture: Picture, take_s: float) -> float:
    """How light the picture is at a moment of the take, found as a player finds it: by seeking."""
    with av.open(io.BytesIO(picture.body)) as container:
        stream = container.streams.video[0]
        due = take_s + picture.delay_s
        container.seek(int(due / stream.time_base), stream=stream)
        last = 0.0
        for frame in container.decode(stream):
            if float(frame.pts * frame.time_base) > due + 1e-3:
                break
            last = float(frame.to_ndarray(format="gray").mean())
        return last


class PictureTests(SimpleTestCase):
    def test_it_has_a_length_and_no_sound_and_nothing_of_where_it_was_made(self):
        made = opened(film(metadata="+58.1-003.2/"))
        with av.open(io.BytesIO(made.body)) as container:
            self.assertEqual([stream.type for stream in container.streams], ["video"])
            self.assertAlmostEqual(container.duration / av.time_base, 2.0, delta=0.2)
        self.assertEqual(made.container, "webm")
        self.assertNotIn(b"+58.1", made.body)

    def test_a_moment_of_the_take_is_found_where_sound_and_picture_begin_apart(self):
        for late in (0.0, 0.4):
            with self.subTest(sound_at_s=late):
                made = opened(film(sound_at_s=late))
                # A frame more or less is the recorder's own.
                for moment in (0.2, 1.0):
                    self.assertAlmostEqual(shade_at(made, moment), 40 + 6 * 15 * (moment + late), delta=8)

    def test_a_picture_that_begins_after_the_sound_waits_for_it(self):
        body = film_of(np.zeros(44_100 * 2, dtype=np.float32), [0.0, 1.0])
        self.assertGreaterEqual(opened(body).delay_s, 0.0)

    def test_what_browsers_do_not_show_is_not_copied_and_no_film_is_none(self):
        self.assertIsNone(opened(film(container="matroska", codec="mpeg4")))
        self.assertIsNone(opened(wav()))
        self.assertIsNone(opened(b"not a film at all"))
        self.assertIsNone(opened(b""))

    def test_a_film_of_enormous_size_is_left_as_it_is(self):
        body = film()
        before = module.MOST_BYTES
        try:
            module.MOST_BYTES = 500
            self.assertEqual(module.copy_picture(io.BytesIO(body)), ({}, b""))
        finally:
            module.MOST_BYTES = before
