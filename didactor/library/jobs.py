from __future__ import annotations

from typing import Any

from django.core.files.base import ContentFile
from procrastinate.contrib.django import app

from didactor.core.analyse import analyse
from didactor.core.errors import AudioError, BusyError, CoreError
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.plain import to_plain
from didactor.core.instruments import Instrument, find_instrument
from didactor.core.judging.targets import Targets
from didactor.core.laid_over import lay_over
from didactor.core.score.expected import Expectation
from didactor.core.sound.mp3 import mp3_of
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ, Samples
from didactor.core.sound.player.take import model_samples, model_start_s
from didactor.core.sound.recording import RATE_HZ, Recording, open_recording
from didactor.core.sound.spoken_names import say_names
from didactor.core.sound.stretch import stretched
from didactor.core.tone.measure import tone_of
from didactor.core.words import worded
from didactor.library.models import ImportedFile, ModelSound, Passage, Reference, ReferenceSound
from didactor.library.notation import accompaniment_expectation, engravings_of, expectation_of_passage, names_in_time
from didactor.library.services import read_imported
from didactor.library.study import USUAL_QPM
from didactor.web.again import PASSING, WHEN_IT_PASSES

#: Priorities in the queue: a sound that somebody wants to hear now, and what will be wanted soon.
SOMEBODY_WAITS, SOON = 20, 8


@app.task(queue="default", retry=WHEN_IT_PASSES)
def render_model(model_sound_id: int) -> None:
    """Render one model sound. May run twice: the second run finds it done."""
    sound = ModelSound.objects.select_related("passage").filter(pk=model_sound_id).first()
    if sound is None or sound.sound:
        return
    passage = sound.passage
    if sound.of_part:
        expectation = accompaniment_expectation(passage, sound.of_part, sound.intro_bars)
    else:
        expectation = expectation_of_passage(passage)
    try:
        if sound.naming:
            samples = _named(passage, sound)
        else:
            samples = model_samples(
                expectation, find_instrument(sound.instrument), sound.tempo_qpm, sound.count_off, expectation.bars[0].beat_quarters
            )
    except PASSING:
        raise
    except Exception:
        ModelSound.objects.filter(pk=sound.pk).update(failed=True)
        raise
    sound.sound.save(f"{passage.pk}-{sound.tempo_qpm:g}.mp3", ContentFile(mp3_of(samples, SYNTH_RATE_HZ)), save=True)


def _named(passage: Passage, sound: ModelSound) -> Samples:
    """The names of the notes, at the times at which the model plays them."""
    start_s = model_start_s(expectation_of_passage(passage), sound.tempo_qpm, 0, 1.0)
    quarter_s = 60.0 / sound.tempo_qpm
    named = names_in_time(passage, sound.naming)
    length_s = start_s + sum(bar.length_quarters for bar in expectation_of_passage(passage).bars) * quarter_s + 1.0
    return say_names([start_s + at * quarter_s for at, _ in named], [name for _, name in named], length_s, sound.naming)


@app.task(queue="default", priority=SOON, retry=WHEN_IT_PASSES)
def lay_reference(reference_id: int) -> None:
    """Find out when in a teacher's recording each moment of the passage is played. May run twice: the second run finds it done."""
    kept = Reference.objects.select_related("passage").filter(pk=reference_id).first()
    if kept is None or kept.laid or kept.does_not_fit:
        return
    expected = expectation_of_passage(kept.passage)
    instrument = find_instrument(kept.passage.part_entry["instrument"])
    try:
        if not expected.notes:
            raise AudioError("audio.nothing_written", worded("Nothing is written out here that it could be laid over."))
        with kept.file.open("rb") as source:
            recording = open_recording(source)
        found = lay_over(recording, expected, instrument, kept.passage.part_entry.get("tempo_qpm") or USUAL_QPM)
    except BusyError:
        raise
    except CoreError as error:
        Reference.objects.filter(pk=kept.pk).update(does_not_fit=error.message)
        return
    laid = {"anchors": [[round(q, 4), round(s, 4)] for q, s in found.anchors], "tempo_qpm": round(found.tempo_qpm, 3)}
    # How the teacher balances chords is what a student's can be held against; of one voice there is nothing to compare.
    tone = _tone(recording, expected, instrument, found.tempo_qpm) if instrument.many_voices else None
    Reference.objects.filter(pk=kept.pk).update(laid=laid, tone=tone)


def _tone(recording: Recording, expected: Expectation, instrument: Instrument, tempo_qpm: float) -> Any:
    heard = result_of(analyse(recording, expected, Targets(tempo_qpm=tempo_qpm, instrument=instrument.slug, stage="steady")))
    tone = tone_of(recording.samples, heard, expected)
    return to_plain(tone) if tone is not None else None


@app.task(queue="default", priority=SOMEBODY_WAITS, retry=WHEN_IT_PASSES)
def stretch_reference(reference_sound_id: int) -> None:
    """Make one tempo of a laid recording. May run twice."""
    sound = ReferenceSound.objects.select_related("reference").filter(pk=reference_sound_id).first()
    if sound is None or sound.sound or not sound.reference.laid:
        return
    try:
        with sound.reference.file.open("rb") as source:
            recording = open_recording(source)
        samples = stretched(recording.samples, RATE_HZ, sound.reference.laid["tempo_qpm"] / sound.tempo_qpm)
    except PASSING:
        raise
    except Exception:
        ReferenceSound.objects.filter(pk=sound.pk).update(failed=True)
        raise
    sound.sound.save(f"{sound.reference_id}-{sound.tempo_qpm:g}.mp3", ContentFile(mp3_of(samples, RATE_HZ)), save=True)


@app.task(queue="default", priority=5, retry=WHEN_IT_PASSES)
def read_file(imported_file_id: int) -> None:
    """Read one file of an import. May run twice."""
    kept = ImportedFile.objects.select_related("batch__created_by__studio").filter(pk=imported_file_id).first()
    if kept is not None:
        read_imported(kept)


@app.task(queue="default", priority=10, retry=WHEN_IT_PASSES)
def engrave_parts(passage_ids: list[int]) -> None:
    """Draw arrangements before anybody opens them. May run twice: what is drawn is not drawn again."""
    for passage in Passage.objects.filter(pk__in=passage_ids).select_related("revision"):
        engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars)
