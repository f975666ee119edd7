from __future__ import annotations

import io

import av
import numpy as np
from django.core.files.base import ContentFile
from procrastinate.contrib.django import app

from didactor.core.instruments import find_instrument
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.sound.player.take import model_samples
from didactor.library.models import ImportedFile, ModelSound, Passage
from didactor.library.notation import accompaniment_expectation, engravings_of, expectation_of
from didactor.library.services import read_imported


@app.task(queue="default")
def render_model(model_sound_id: int) -> None:
    """Render one model sound. May run twice: the second run finds it done."""
    sound = ModelSound.objects.select_related("passage").filter(pk=model_sound_id).first()
    if sound is None or sound.sound:
        return
    passage = sound.passage
    if sound.of_part:
        expectation = accompaniment_expectation(passage, sound.of_part, sound.intro_bars)
    else:
        expectation = expectation_of(revision_id=passage.revision_id, part=passage.part, bars=passage.bars, order=passage.order)
    try:
        samples = model_samples(
            expectation, find_instrument(sound.instrument), sound.tempo_qpm, sound.count_off, expectation.bars[0].beat_quarters
        )
    except Exception:
        ModelSound.objects.filter(pk=sound.pk).update(failed=True)
        raise
    sound.sound.save(f"{passage.pk}-{sound.tempo_qpm:g}.mp3", ContentFile(_mp3(samples)), save=True)


@app.task(queue="default", priority=5)
def read_file(imported_file_id: int) -> None:
    """Read one file of an import. May run twice."""
    kept = ImportedFile.objects.select_related("batch__created_by__studio").filter(pk=imported_file_id).first()
    if kept is not None:
        read_imported(kept)


@app.task(queue="default", priority=10)
def engrave_parts(passage_ids: list[int]) -> None:
    """Draw arrangements before anybody opens them. May run twice: what is drawn is not drawn again."""
    for passage in Passage.objects.filter(pk__in=passage_ids).select_related("revision"):
        engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars)


def _mp3(samples: Samples) -> bytes:
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="mp3") as container:
        stream = container.add_stream("mp3", rate=SYNTH_RATE_HZ, layout="mono")
        stream.bit_rate = 96_000
        for start in range(0, len(samples), 1152):
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples[None, start : start + 1152]), format="fltp", layout="mono")
            frame.sample_rate, frame.pts = SYNTH_RATE_HZ, start
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    return buffer.getvalue()
