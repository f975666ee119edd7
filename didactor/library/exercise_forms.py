"""One form for each kind of exercise; its cleaned data are the exercise's choices."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from didactor.core.score.generate.exercise import METRES, STROKE_PATTERNS, key_in_words
from didactor.core.score.generate.patterns import CHORD_FIGURES, DIRECTIONS, FIGURES, RHYTHMS
from didactor.core.score.generate.pitches import CHORDS, SCALES, TONICS
from didactor.core.score.generate.sight_reading import LEVELS

TONIC_CHOICES = [(t, key_in_words(t)) for t in TONICS]
METRE_CHOICES = [(m, m) for m in METRES]
LEVEL_CHOICES = [(slug, level.title) for slug, level in LEVELS.items()]


class ExerciseForm(forms.Form):
    kind: ClassVar[str]
    tab: ClassVar[str]
    says: ClassVar[str]


class ScaleForm(ExerciseForm):
    kind, tab, says = "scale", "Scale", "Concert pitch: every student gets it in their own key, clef and octave."
    tonic = forms.ChoiceField(choices=TONIC_CHOICES, initial="Bb", label="Key note, concert pitch")
    mode = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in SCALES.items()], initial="major", label="Scale")
    octaves = forms.TypedChoiceField(choices=[(1, "One"), (2, "Two"), (3, "Three")], coerce=int, initial=1)
    direction = forms.ChoiceField(choices=list(DIRECTIONS.items()), initial="up_down")
    figure = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in FIGURES.items()], initial="straight")
    rhythm = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in RHYTHMS.items()], initial="quarters")
    own_rhythm = forms.CharField(
        required=False, max_length=100, label="Or a rhythm of your own", help_text="Values: w h q e s t, with a dot, or 3 for a triplet's."
    )
    metre = forms.ChoiceField(choices=METRE_CHOICES, initial="4/4")
    halved = forms.BooleanField(required=False, label="Again at once in halved values")


class ArpeggioForm(ScaleForm):
    kind, tab, says = "arpeggio", "Arpeggio", "A chord broken into its notes, in concert pitch."
    mode = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in CHORDS.items()], initial="major", label="Chord")
    figure = forms.ChoiceField(choices=[(slug, FIGURES[slug][0]) for slug in CHORD_FIGURES], initial="straight")


class RhythmForm(ExerciseForm):
    kind, tab, says = "rhythm", "Rhythm", "Counted strokes and rests on one line, to clap, tap or play on one note."
    level = forms.ChoiceField(choices=LEVEL_CHOICES, initial="elementary")
    metre = forms.ChoiceField(choices=METRE_CHOICES, initial="4/4")
    bars = forms.IntegerField(min_value=1, max_value=64, initial=8)
    seed = forms.IntegerField(min_value=1, max_value=999_999, initial=1, label="Number", help_text="Another number, another line.")


class ChartForm(ExerciseForm):
    kind, tab, says = "chart", "Strumming", "Chords, one a bar, with the strokes of every bar."
    sections = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}),
        initial="V: C G Am F\nC: F G C C",
        label="Chords",
        help_text="One section a line; a dot repeats.",
    )
    order = forms.CharField(required=False, initial="V V C", label="Order of the sections", help_text="Empty: as they stand.")
    strokes = forms.CharField(initial="q e e q q", label="Strokes of a bar", help_text="Values: w h q e s; a rest is rq.")
    metre = forms.ChoiceField(choices=METRE_CHOICES, initial="4/4")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["strokes"].widget.attrs["list"] = "stroke-patterns"

    @property
    def patterns(self) -> list[tuple[str, str]]:
        return list(STROKE_PATTERNS.items())


class SightReadingForm(ExerciseForm):
    kind, tab, says = "sight_reading", "Sight-reading", "A melody nobody has seen. The same number gives the same melody."
    level = forms.ChoiceField(choices=LEVEL_CHOICES, initial="elementary")
    tonic = forms.ChoiceField(choices=TONIC_CHOICES, initial="C", label="Key note, concert pitch")
    mode = forms.ChoiceField(
        choices=[(m, SCALES[m][0]) for m in ("major", "natural_minor", "harmonic_minor", "dorian", "mixolydian")], initial="major"
    )
    metre = forms.ChoiceField(choices=METRE_CHOICES, initial="4/4")
    bars = forms.IntegerField(min_value=2, max_value=64, initial=8)
    seed = forms.IntegerField(min_value=1, max_value=999_999, initial=1, label="Number", help_text="Another number, another melody.")


class VariationForm(ExerciseForm):
    kind, tab, says = "variation", "Variation", "A rhythm laid on the melody of a passage, with words to say under it."
    passage: forms.ModelChoiceField[Any] = forms.ModelChoiceField(
        queryset=None, label="Melody", empty_label="Choose a passage of one voice"
    )
    pattern = forms.CharField(initial="e s s", label="Rhythm", help_text="Values: w h q e s t, with a dot, or 3 for a triplet's.")
    words = forms.CharField(
        required=False, label="Words under it", help_text="One syllable a note, with hyphens inside words: run-ning far."
    )


FORMS: dict[str, type[ExerciseForm]] = {
    form.kind: form for form in (ScaleForm, ArpeggioForm, RhythmForm, ChartForm, SightReadingForm, VariationForm)
}
