from __future__ import annotations

from datetime import timedelta
from typing import Any

from django import forms
from django.db.models import Q
from django.utils import timezone

from didactor.assignments.models import BEAT_UNITS, CATEGORY_TITLES, FULL_CHECKLIST, STEP_TITLES, StudentSees
from didactor.core.judging.stages import BY_SLUG, STAGES
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.people.models import Enrolment, Group, Person


class AssignmentForm(forms.Form):
    title = forms.CharField(max_length=200)
    beat_unit = forms.ChoiceField(choices=list(BEAT_UNITS.items()))
    tempo = forms.FloatField(min_value=TEMPO_LOW, max_value=TEMPO_HIGH)
    tempo_to = forms.FloatField(
        min_value=TEMPO_LOW, max_value=TEMPO_HIGH, required=False, label="up to", help_text="Leave empty for one tempo."
    )
    step = forms.ChoiceField(choices=list(STEP_TITLES.items()), initial="play", required=False, label="What is done")
    stage = forms.ChoiceField(choices=[(s.slug, s.title) for s in STAGES], widget=forms.RadioSelect, initial="at_tempo")
    band_percent = forms.FloatField(min_value=1, max_value=60, required=False, label="Band, ± %", help_text="Empty: as the stage has it.")
    count_off = forms.IntegerField(min_value=0, max_value=16, initial=4, label="Count-off, beats")
    takes_allowed = forms.IntegerField(
        min_value=1,
        max_value=50,
        required=False,
        label="Takes allowed",
        help_text="Empty: as many as they like, or one if the stage says so.",
    )
    due_at = forms.DateTimeField(label="Due", widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"))
    instructions = forms.CharField(required=False, widget=forms.Textarea(attrs={"rows": 3}))
    checklist = forms.MultipleChoiceField(
        choices=list(CATEGORY_TITLES.items()), widget=forms.CheckboxSelectMultiple, label="Checklist for listening back"
    )
    listen_first = forms.BooleanField(required=False, initial=True, label="Listen and mark first, then see what was heard")
    students_see = forms.ChoiceField(choices=StudentSees.choices, initial=StudentSees.MARKS, label="Students see")
    group = forms.ModelChoiceField(queryset=Group.objects.none(), required=False, empty_label="—", label="Whole group")
    enrolments = forms.ModelMultipleChoiceField(
        queryset=Enrolment.objects.none(), required=False, widget=forms.CheckboxSelectMultiple, label="Single students"
    )

    def __init__(self, *args: Any, teacher: Person, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.teacher = teacher
        self.fields["group"].queryset = Group.objects.filter(studio=teacher.studio)
        self.fields["enrolments"].queryset = Enrolment.objects.visible_to(teacher).active()
        self.fields["due_at"].initial = (timezone.localtime() + timedelta(days=7)).replace(hour=20, minute=0, second=0, microsecond=0)
        self.fields["checklist"].initial = FULL_CHECKLIST

    def clean_due_at(self) -> Any:
        due = self.cleaned_data["due_at"]
        if due < timezone.now():
            raise forms.ValidationError("This time has already passed. Choose a later one.")
        return due

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        if data.get("tempo") and data.get("tempo_to") and data["tempo_to"] < data["tempo"]:
            self.add_error("tempo_to", "The upper tempo is below the lower one.")
        data["chosen"] = self.people()
        if not data["chosen"]:
            self.add_error("enrolments", "Choose a group or at least one student.")
        return data

    def people(self) -> list[Enrolment]:
        """Who is chosen by group or one by one, as far as the form goes yet."""
        if not self.is_bound:
            return []
        everybody = Enrolment.objects.visible_to(self.teacher).active().select_related("student")
        singles = [pk for pk in self.data.getlist("enrolments") if pk.isdigit()]
        group = self.data.get("group", "")
        return list(everybody.filter(Q(pk__in=singles) | Q(group=group if group.isdigit() else 0)).distinct().order_by("pk"))

    def assignment_fields(self) -> dict[str, Any]:
        """The assignment's own fields, with the stage's defaults where the teacher left them empty."""
        data = self.cleaned_data
        stage = BY_SLUG[data["stage"]]
        names = (
            "title",
            "beat_unit",
            "tempo",
            "tempo_to",
            "stage",
            "count_off",
            "due_at",
            "instructions",
            "checklist",
            "listen_first",
            "students_see",
        )
        fields = {name: data[name] for name in names}
        fields["step"] = data["step"] or "play"
        fields["band_percent"] = data["band_percent"] or stage.band_percent
        fields["takes_allowed"] = data["takes_allowed"] or stage.takes
        return fields
