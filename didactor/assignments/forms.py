from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from django import forms
from django.db.models import Q
from django.utils import timezone

from didactor.assignments.checklists import LONGEST_ROW, MOST_PICTURES, MOST_ROWS, checklist_for
from didactor.assignments.crossing import Practised, check_crossing
from didactor.assignments.models import (
    BEAT_UNITS,
    MUST_SHOW,
    Assignment,
    FindOut,
    Metronome,
    StudentSees,
)
from didactor.core.comparing.figures import BY_SLUG as FIGURE_BY_SLUG
from didactor.core.comparing.figures import FIGURES
from didactor.core.errors import PassageError
from didactor.core.judging.categories import TITLES
from didactor.core.judging.stages import BY_SLUG, STAGES
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.practising.crossing import COUNTS, FEWEST_IN_A_ROW, MOST_IN_A_ROW, MOST_OF, ORDERS, Order
from didactor.core.steps import goals, steps_before
from didactor.core.words import _, worded
from didactor.people.models import Enrolment, Group, Person
from didactor.web.fields import Figure
from didactor.web.numbers import read_id
from didactor.web.speaking import lazy_words

#: What a template keeps, and what an assignment that is given again begins with.
KEPT = (
    "beat_unit",
    "tempo",
    "tempo_to",
    "fast_tempo",
    "step",
    "before_steps",
    "stage",
    "band_percent",
    "count_off",
    "takes_allowed",
    "ritardando_beats",
    "metronome",
    "must_show",
    "preparation_s",
    "checklist",
    "own_rows",
    "own_row_figures",
    "with_pictures",
    "listen_first",
    "students_see",
    "instructions",
    "question",
    "ladder",
    "find_out",
    "aids_open",
    "minutes",
    "place",
    "to_the_end",
    "first_kept",
    "crossing",
)
#: Fields of the form that are kept together as the assignment's ``crossing``.
OF_CROSSING = ("on", "good", "of", "counts", "order", "overnight", "tempo", "bars")


def must_show_choices() -> list[tuple[str, str]]:
    return [(slug, f"{words[:1].upper()}{words[1:]}") for slug, words in ((slug, str(words)) for slug, words in MUST_SHOW.items())]


@lazy_words
def _rows_help() -> str:
    return worded(
        "One a line, {most} at most, like: Thumb stays under the neck. What a figure can check ends so: "
        "Ready after the rest = steady beat. There are: {figures}.",
        most=MOST_ROWS,
        figures=", ".join(str(figure.title) for figure in FIGURES),
    )


@lazy_words
def _pictures_help() -> str:
    return worded("For those who hardly read: {most} rows at most and yours, with a picture each.", most=MOST_PICTURES)


class AssignmentForm(forms.Form):
    title = forms.CharField(label=_("Title"), max_length=200)
    beat_unit = forms.ChoiceField(label=_("Beat unit"), choices=list(BEAT_UNITS.items()))
    tempo = Figure(label=_("Tempo"), min_value=TEMPO_LOW, max_value=TEMPO_HIGH)
    tempo_to = Figure(
        min_value=TEMPO_LOW, max_value=TEMPO_HIGH, required=False, label=_("up to"), help_text=_("Leave empty for one tempo.")
    )
    fast_tempo = forms.IntegerField(
        min_value=int(TEMPO_LOW) + 1,
        max_value=int(TEMPO_HIGH),
        required=False,
        label=_("Fast tier"),
        help_text=_("A second tempo for who wants it; the first one passes."),
    )
    step = forms.ChoiceField(choices=[(s.slug, s.title) for s in goals()], initial="play", required=False, label=_("What is done"))
    before_steps = forms.MultipleChoiceField(
        choices=[(s.slug, s.title) for s in steps_before()],
        required=False,
        widget=forms.CheckboxSelectMultiple,
        label=_("First, on the same bars"),
    )
    question = forms.CharField(
        required=False,
        widget=forms.Textarea(attrs={"rows": 2}),
        label=_("Question about what is heard"),
        help_text=_("For listening: answered in words."),
    )
    stage = forms.ChoiceField(label=_("Stage"), choices=[(s.slug, s.title) for s in STAGES], widget=forms.RadioSelect, initial="at_tempo")
    band_percent = Figure(min_value=1, max_value=60, required=False, label=_("Band, ± %"), help_text=_("Empty: as the stage has it."))
    count_off = forms.IntegerField(min_value=0, max_value=16, initial=4, label=_("Count-off, beats"))
    takes_allowed = forms.IntegerField(
        min_value=1,
        max_value=50,
        required=False,
        label=_("Takes allowed"),
        help_text=_("Empty: as many as they like, or one if the stage says so."),
    )
    ritardando_beats = Figure(
        min_value=0,
        max_value=64,
        required=False,
        label=_("Slowing down at the end, beats"),
        help_text=_("Allowed over so many last beats."),
    )
    preparation_s = forms.IntegerField(
        min_value=0,
        max_value=3600,
        required=False,
        label=_("Sealed; time to prepare, seconds"),
        help_text=_("Nothing is shown until the student starts the clock. Empty: as the stage has it; 0: open from the start."),
    )
    metronome = forms.ChoiceField(choices=Metronome.choices, initial=Metronome.ALLOWED, required=False, label=_("Metronome in the take"))
    must_show = forms.MultipleChoiceField(
        choices=must_show_choices,
        required=False,
        widget=forms.CheckboxSelectMultiple,
        label=_("The recording shows"),
        help_text=_("Nothing ticked: sound alone is enough."),
    )
    series = forms.CharField(max_length=120, required=False, label=_("Series of check-offs"), help_text=_("The same name for all of them."))
    ladder = forms.CharField(
        max_length=100, required=False, label=_("Ladder of tempi"), help_text=_("Like 52 60 66. Empty: reckoned from the hardest bar.")
    )
    due_at = forms.DateTimeField(label=_("Due"), widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"))
    instructions = forms.CharField(label=_("Instructions"), required=False, widget=forms.Textarea(attrs={"rows": 3}))
    checklist = forms.MultipleChoiceField(
        choices=list(TITLES.items()), widget=forms.CheckboxSelectMultiple, label=_("Checklist for listening back")
    )
    own_rows = forms.CharField(
        required=False,
        widget=forms.Textarea(attrs={"rows": 2}),
        label=_("Rows of your own"),
        help_text=_rows_help,
    )
    with_pictures = forms.BooleanField(
        required=False,
        label=_("A short list with pictures"),
        help_text=_pictures_help,
    )
    listen_first = forms.BooleanField(required=False, initial=True, label=_("Listen and mark first, then see what was heard"))
    to_the_end = forms.BooleanField(required=False, label=_("Handed in only after it was played back to the end"))
    first_kept = forms.BooleanField(
        required=False,
        label=_("The first take is kept"),
        help_text=_("Retakes are welcome; what was gained since the first one is shown to both of you."),
    )
    find_out = forms.ChoiceField(choices=FindOut.choices, initial=FindOut.BY_STAGE, required=False, label=_("Found before it is told"))
    aids_open = forms.BooleanField(required=False, label=_("The study sheet is open while the preparation clock runs"))
    crossing_on = forms.ChoiceField(
        choices=Practised.choices,
        required=False,
        label=_("Practised"),
        help_text=_("The passage is cut into stones; each is won by faultless attempts, then joined to its neighbour."),
    )
    crossing_good = forms.IntegerField(
        min_value=FEWEST_IN_A_ROW,
        max_value=MOST_IN_A_ROW,
        required=False,
        label=_("Good attempts"),
        help_text=_("Empty: 3, for young children 2."),
    )
    crossing_of = forms.IntegerField(min_value=1, max_value=MOST_OF, required=False, label="of", help_text=_("Empty: in a row."))
    crossing_counts = forms.ChoiceField(choices=[("", _("As the stage has it")), *COUNTS.items()], required=False, label=_("What counts"))
    crossing_order = forms.ChoiceField(choices=list(ORDERS.items()), required=False, initial=Order.JOIN_AT_ONCE, label=_("Order"))
    crossing_tempo = Figure(
        min_value=TEMPO_LOW, max_value=TEMPO_HIGH, required=False, label=_("At the tempo"), help_text=_("Empty: the one that is asked for.")
    )
    crossing_bars = forms.CharField(max_length=40, required=False, label=_("Of bars"), help_text=_("Like 5-12. Empty: all of them."))
    crossing_overnight = forms.BooleanField(required=False, initial=True, label=_("A count that has begun goes on the next day"))
    minutes = forms.IntegerField(min_value=1, max_value=240, required=False, label=_("Minutes a day"))
    rehearsal_days = forms.IntegerField(
        min_value=1,
        max_value=14,
        required=False,
        label=_("Dress rehearsal, days before"),
        help_text=_("For a final: it opens when the rehearsal is handed in."),
    )
    place = forms.IntegerField(
        min_value=1, max_value=99, required=False, label=_("Place on the stand"), help_text=_("1 comes first; empty: by date.")
    )
    students_see = forms.ChoiceField(choices=StudentSees.choices, initial=StudentSees.MARKS, label=_("Students see"))
    keep_as = forms.CharField(max_length=80, required=False, label=_("Keep these targets as a template named"))
    group = forms.ModelChoiceField(queryset=Group.objects.none(), required=False, empty_label="—", label=_("Whole group"))
    enrolments = forms.ModelMultipleChoiceField(
        queryset=Enrolment.objects.none(), required=False, widget=forms.CheckboxSelectMultiple, label=_("Single students")
    )

    def __init__(self, *args: Any, teacher: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.teacher = teacher
        self.fields["group"].queryset = Group.objects.filter(studio=teacher.studio)  # type: ignore[attr-defined]
        self.fields["enrolments"].queryset = Enrolment.objects.visible_to(teacher).active()  # type: ignore[attr-defined]
        self.fields["due_at"].initial = (timezone.localtime() + timedelta(days=7)).replace(hour=20, minute=0, second=0, microsecond=0)
        self.fields["checklist"].initial = checklist_for("at_tempo", ())

    @property
    def hidden_for_listening(self) -> list[forms.BoundField]:
        """What a question about a recording needs no word on, sent as it stands."""
        return [self[name] for name in ("beat_unit", "tempo", "step", "stage", "count_off", "checklist", "students_see")]

    def clean_ladder(self) -> list[float]:
        try:
            tempi = [float(word) for word in self.cleaned_data["ladder"].replace(",", " ").split()]
        except ValueError as error:
            raise forms.ValidationError(worded("Write tempi as numbers, like 52 60 66.")) from error
        if tempi != sorted(set(tempi)) or any(not TEMPO_LOW <= tempo <= TEMPO_HIGH for tempo in tempi):
            raise forms.ValidationError(
                worded("A ladder rises, between {tempo_low:g} and {tempo_high:g}.", tempo_low=TEMPO_LOW, tempo_high=TEMPO_HIGH)
            )
        return tempi

    def clean_own_rows(self) -> list[str]:
        figures: dict[str, str] = {}
        rows = list(dict.fromkeys(self._row(line, figures) for line in self.cleaned_data["own_rows"].splitlines() if line.strip(" =")))
        if len(rows) > MOST_ROWS or any(len(row) > LONGEST_ROW for row in rows):
            raise forms.ValidationError(
                worded(
                    "At most {most_rows} rows of your own, each at most {longest_row} letters long.",
                    most_rows=MOST_ROWS,
                    longest_row=LONGEST_ROW,
                )
            )
        self.cleaned_data["own_row_figures"] = figures
        return rows

    def _row(self, line: str, figures: dict[str, str]) -> str:
        """The words of a row; what checks it, if anything is named, goes into ``figures``."""
        words, named = (" ".join(part.split()) for part in (line.rsplit("=", 1) if "=" in line else (line, "")))
        if not named:
            return words
        slug = next((figure.slug for figure in FIGURES if named.lower() in (figure.title.lower(), figure.slug)), None)
        if slug is None:
            raise forms.ValidationError(
                worded(
                    "No figure is called “{named}”. There are: {title}.", named=named, title=", ".join(figure.title for figure in FIGURES)
                )
            )
        figures[words] = slug
        return words

    def clean_due_at(self) -> Any:
        due = self.cleaned_data["due_at"]
        if due < timezone.now():
            raise forms.ValidationError(worded("This time has already passed. Choose a later one."))
        return due

    def clean(self) -> dict[str, Any]:
        data = self.clean_tempi(super().clean() or {})
        data["chosen"] = self.people()
        if not data["chosen"]:
            self.add_error("enrolments", worded("Choose a group or at least one student."))
        return data

    def clean_crossing(self, data: dict[str, Any]) -> None:
        """What belongs to the crossing, together under one name."""
        sent = {name: data.pop(f"crossing_{name}", None) for name in OF_CROSSING}
        try:
            data["crossing"] = check_crossing(sent)
        except PassageError as error:
            self.add_error("crossing_good", error.message)

    def clean_tempi(self, data: dict[str, Any]) -> dict[str, Any]:
        """Tempi that contradict each other, and the crossing's."""
        self.clean_crossing(data)
        if data.get("tempo") and data.get("tempo_to") and data["tempo_to"] < data["tempo"]:
            self.add_error("tempo_to", worded("The upper tempo is below the lower one."))
        if data.get("fast_tempo") and data.get("tempo") and data["fast_tempo"] <= (data.get("tempo_to") or data["tempo"]):
            self.add_error("fast_tempo", worded("The fast tier is above what is asked of all."))
        if data.get("ladder") and data.get("tempo") and data["ladder"][-1] > data["tempo"]:
            self.add_error("ladder", worded("The ladder goes beyond the target."))
        return data

    def people(self) -> list[Enrolment]:
        """Who is chosen by group or one by one, as far as the form goes yet; whom it begins with before anything was sent."""
        everybody = Enrolment.objects.visible_to(self.teacher).active().select_related("student")
        if not self.is_bound:
            return list(everybody.filter(pk__in=self.initial.get("enrolments", [])).order_by("pk"))
        sent: list[str] = self.data.getlist("enrolments")  # type: ignore[attr-defined]
        singles = [pk for text in sent if (pk := read_id(text)) is not None]
        return list(everybody.filter(Q(pk__in=singles) | Q(group=read_id(self.data.get("group")) or 0)).distinct().order_by("pk"))

    def assignment_fields(self) -> dict[str, Any]:
        """The assignment's own fields, with the stage's defaults where the teacher left them empty."""
        data = self.cleaned_data
        stage = BY_SLUG[data["stage"]]
        fields = {name: data[name] for name in (*KEPT, "title", "due_at")}
        fields["step"] = data["step"] or "play"
        fields["band_percent"] = data["band_percent"] or stage.band_percent
        fields["takes_allowed"] = data["takes_allowed"] or stage.takes
        # A question about what is heard is open: there is nothing to read at sight.
        usual = stage.preparation_s if fields["step"] != "listen" else None
        fields["preparation_s"] = (usual if data["preparation_s"] is None else data["preparation_s"]) or None
        fields["ritardando_beats"] = data["ritardando_beats"] or 0.0
        fields["metronome"] = data["metronome"] or Metronome.ALLOWED
        fields["find_out"] = data["find_out"] or FindOut.BY_STAGE
        return fields


def kept_of(assignment: Assignment) -> dict[str, Any]:
    """What a form begins with when an assignment is given again, changed, or kept as a template."""
    kept = {name: getattr(assignment, name) for name in KEPT}
    # What is open from the start stays so, whatever its stage has.
    return as_typed({**kept, "preparation_s": kept["preparation_s"] or (0 if BY_SLUG[assignment.stage].preparation_s else None)})


def as_typed(fields: Mapping[str, Any]) -> dict[str, Any]:
    """Kept fields as a form begins with them: lists as they are typed."""
    return {
        **fields,
        **{f"crossing_{name}": value for name, value in (fields.get("crossing") or {}).items()},
        "ladder": " ".join(f"{tempo:g}" for tempo in fields.get("ladder", [])),
        "own_rows": "\n".join(_typed_row(row, fields.get("own_row_figures", {})) for row in fields.get("own_rows", [])),
    }


def _typed_row(row: str, figures: Mapping[str, str]) -> str:
    figure = FIGURE_BY_SLUG.get(figures.get(row, ""))
    return f"{row} = {figure.title}" if figure else row


class ChangeForm(AssignmentForm):
    """An assignment that is given out already: who has it stays."""

    version = forms.IntegerField(widget=forms.HiddenInput)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in ("group", "enrolments", "keep_as", "rehearsal_days"):
            del self.fields[name]

    def clean(self) -> dict[str, Any]:
        return self.clean_tempi(forms.Form.clean(self) or {})

    def clean_due_at(self) -> Any:
        return self.cleaned_data["due_at"]


class ExceptionForm(forms.Form):
    """What holds for one student alone."""

    tempo = Figure(min_value=TEMPO_LOW, max_value=TEMPO_HIGH, required=False, label=_("Own tempo"))
    due_at = forms.DateTimeField(
        required=False, label=_("Own date"), widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M")
    )

    def clean_due_at(self) -> Any:
        due = self.cleaned_data["due_at"]
        if due is not None and due < timezone.now():
            raise forms.ValidationError(worded("This time has already passed. Choose a later one."))
        return due


class SeriesAgainForm(forms.Form):
    """A chain of check-offs for another term, or another group."""

    title = forms.CharField(max_length=120, label=_("Name of the new series"))
    group = forms.ModelChoiceField(queryset=Group.objects.none(), label=_("To the group"))
    first_due = forms.DateField(label=_("The first one is due on"), widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))

    def __init__(self, *args: Any, teacher: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["group"].queryset = Group.objects.filter(studio=teacher.studio)  # type: ignore[attr-defined]
        self.fields["first_due"].initial = timezone.localdate() + timedelta(days=7)


class SlotForm(forms.Form):
    """Times to be heard live, one after the other."""

    group = forms.ModelChoiceField(queryset=Group.objects.none(), required=False, empty_label=_("Everybody"), label=_("For"))
    first = forms.DateTimeField(label=_("From"), widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"))
    minutes = forms.IntegerField(min_value=5, max_value=180, initial=15, label=_("Minutes each"))
    count = forms.IntegerField(min_value=1, max_value=24, initial=4, label=_("How many"))

    def __init__(self, *args: Any, teacher: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["group"].queryset = Group.objects.filter(studio=teacher.studio)  # type: ignore[attr-defined]
        tomorrow = timezone.localtime() + timedelta(days=1)
        self.fields["first"].initial = tomorrow.replace(hour=16, minute=0, second=0, microsecond=0)


class WeekNoteForm(forms.Form):
    group = forms.ModelChoiceField(queryset=Group.objects.none(), required=False, empty_label=_("Everybody"), label=_("To"))
    week = forms.DateField(label=_("Week of"), widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))
    text = forms.CharField(max_length=2000, widget=forms.Textarea(attrs={"rows": 3}), label=_("Words"), required=False)

    def __init__(self, *args: Any, teacher: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["group"].queryset = Group.objects.filter(studio=teacher.studio)  # type: ignore[attr-defined]
        self.fields["week"].initial = timezone.localdate()
