"""One form for each kind of exercise; its cleaned data are the exercise's choices."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from didactor.core.score.generate.exercise import METRES, STROKE_PATTERNS, key_in_words
from didactor.core.score.generate.patterns import CHORD_FIGURES, DIRECTIONS, FIGURES, RHYTHMS
from didactor.core.score.generate.pitches import CHORDS, SCALES, TONICS
from didactor.core.score.generate.sight_reading import LEVELS
from didactor.core.words import _


def tonic_choices() -> list[tuple[str, str]]:
    """Key notes, as the reader calls them."""
    return [(tonic, key_in_words(tonic)) for tonic in TONICS]


METRE_CHOICES = [(m, m) for m in METRES]
LEVEL_CHOICES = [(slug, level.title) for slug, level in LEVELS.items()]


class ExerciseForm(forms.Form):
    kind: ClassVar[str]
    tab: ClassVar[str]
    says: ClassVar[str]


class ScaleForm(ExerciseForm):
    kind, tab, says = "scale", _("Scale"), _("Concert pitch: every student gets it in their own key, clef and octave.")
    tonic = forms.ChoiceField(choices=tonic_choices, initial="Bb", label=_("Key note, concert pitch"))
    mode = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in SCALES.items()], initial="major", label=_("Scale"))
    octaves = forms.TypedChoiceField(label=_("Octaves"), choices=[(1, _("One")), (2, _("Two")), (3, _("Three"))], coerce=int, initial=1)
    direction = forms.ChoiceField(label=_("Direction"), choices=list(DIRECTIONS.items()), initial="up_down")
    figure = forms.ChoiceField(label=_("Figure"), choices=[(slug, entry[0]) for slug, entry in FIGURES.items()], initial="straight")
    rhythm = forms.ChoiceField(label=_("Rhythm"), choices=[(slug, entry[0]) for slug, entry in RHYTHMS.items()], initial="quarters")
    own_rhythm = forms.CharField(
        required=False,
        max_length=100,
        label=_("Or a rhythm of your own"),
        help_text=_("Values: w h q e s t, with a dot, or 3 for a triplet's."),
    )
    metre = forms.ChoiceField(label=_("Metre"), choices=METRE_CHOICES, initial="4/4")
    halved = forms.BooleanField(required=False, label=_("Again at once in halved values"))


class ArpeggioForm(ScaleForm):
    kind, tab, says = "arpeggio", _("Arpeggio"), _("A chord broken into its notes, in concert pitch.")
    mode = forms.ChoiceField(choices=[(slug, entry[0]) for slug, entry in CHORDS.items()], initial="major", label=_("Chord"))
    figure = forms.ChoiceField(label=_("Figure"), choices=[(slug, FIGURES[slug][0]) for slug in CHORD_FIGURES], initial="straight")


class RhythmForm(ExerciseForm):
    kind, tab, says = "rhythm", _("Rhythm"), _("Counted strokes and rests on one line, to clap, tap or play on one note.")
    level = forms.ChoiceField(label=_("Level"), choices=LEVEL_CHOICES, initial="elementary")
    metre = forms.ChoiceField(label=_("Metre"), choices=METRE_CHOICES, initial="4/4")
    bars = forms.IntegerField(label=_("Bars"), min_value=1, max_value=64, initial=8)
    seed = forms.IntegerField(min_value=1, max_value=999_999, initial=1, label=_("Number"), help_text=_("Another number, another line."))


class ChartForm(ExerciseForm):
    kind, tab, says = "chart", _("Strumming"), _("Chords, one a bar, with the strokes of every bar.")
    sections = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}),
        initial=_("V: C G Am F\nC: F G C C"),
        label=_("Chords"),
        help_text=_("One section a line; a dot repeats."),
    )
    order = forms.CharField(required=False, initial="V V C", label=_("Order of the sections"), help_text=_("Empty: as they stand."))
    strokes = forms.CharField(initial="q e e q q", label=_("Strokes of a bar"), help_text=_("Values: w h q e s; a rest is rq."))
    metre = forms.ChoiceField(label=_("Metre"), choices=METRE_CHOICES, initial="4/4")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["strokes"].widget.attrs["list"] = "stroke-patterns"

    @property
    def patterns(self) -> list[tuple[str, str]]:
        return list(STROKE_PATTERNS.items())


class SightReadingForm(ExerciseForm):
    kind, tab, says = "sight_reading", _("Sight-reading"), _("A melody nobody has seen. The same number gives the same melody.")
    level = forms.ChoiceField(label=_("Level"), choices=LEVEL_CHOICES, initial="elementary")
    tonic = forms.ChoiceField(choices=tonic_choices, initial="C", label=_("Key note, concert pitch"))
    mode = forms.ChoiceField(
        label=_("Scale"),
        choices=[(m, SCALES[m][0]) for m in ("major", "natural_minor", "harmonic_minor", "dorian", "mixolydian")],
        initial="major",
    )
    metre = forms.ChoiceField(label=_("Metre"), choices=METRE_CHOICES, initial="4/4")
    bars = forms.IntegerField(label=_("Bars"), min_value=2, max_value=64, initial=8)
    seed = forms.IntegerField(min_value=1, max_value=999_999, initial=1, label=_("Number"), help_text=_("Another number, another melody."))


class VariationForm(ExerciseForm):
    kind, tab, says = "variation", _("Variation"), _("A rhythm laid on the melody of a passage, with words to say under it.")
    passage: forms.ModelChoiceField[Any] = forms.ModelChoiceField(
        queryset=None, label=_("Melody"), empty_label=_("Choose a passage of one voice")
    )
    pattern = forms.CharField(initial="e s s", label=_("Rhythm"), help_text=_("Values: w h q e s t, with a dot, or 3 for a triplet's."))
    words = forms.CharField(
        required=False, label=_("Words under it"), help_text=_("One syllable a note, with hyphens inside words: run-ning far.")
    )


FORMS: dict[str, type[ExerciseForm]] = {
    form.kind: form for form in (ScaleForm, ArpeggioForm, RhythmForm, ChartForm, SightReadingForm, VariationForm)
}
