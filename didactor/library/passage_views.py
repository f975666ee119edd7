"""The passage desk over HTTP."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.db.models import QuerySet
from django.http import Http404, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from didactor.core.errors import CoreError
from didactor.core.instruments import find_instrument
from didactor.core.units import beats_to_quarters_per_minute
from didactor.core.words import _, worded
from didactor.library import desk, recordings, written
from didactor.library.forms import RecordingForm, ReferenceForm, TempoForm
from didactor.library.models import ModelSound, Passage, Reference, ReferenceKind, ReferenceSound
from didactor.library.said import content_type
from didactor.library.sounds import want_accompaniment, want_model_sounds
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id
from didactor.web.ranges import ranged_file

#: The desk offers the model at these shares of a tempo.
MODEL_TEMPO_SHARES = (1.0, 0.75, 0.5)
OVERTAKEN = _(
    "Somebody else changed this passage while you were at it. It is shown as it stands now; what you typed is kept: send it again."
)


def _passage(request: Request, pk: int) -> Passage:
    own = Passage.objects.visible_to(request.user).cut_by_teachers()
    return get_object_or_404(own.select_related("revision__piece").prefetch_related("pins"), pk=pk)


def _version(request: Request) -> int:
    """The version that a form was made on; 0, which none has, for nonsense."""
    return read_id(request.POST.get("version")) or 0


@teacher_only
def passage(request: Request, pk: int) -> HttpResponse:
    """The engraved passage with everything that is added to it."""
    found = _passage(request, pk)
    return render(request, "library/passage.html", {**_page(found), "reference_form": ReferenceForm(), "tempo_form": _tempo_form(found)})


def _refused(request: Request, pk: int, trouble: str, status: int = 422) -> HttpResponse:
    """The passage as it stands now, why something was not kept, and what was typed still in its fields."""
    found = _passage(request, pk)
    messages.error(request, trouble)
    context = {**_page(found), "reference_form": ReferenceForm(), "tempo_form": _tempo_form(found), "entered": request.POST}
    return render(request, "library/passage.html", context, status=status)


def _page(found: Passage) -> dict[str, Any]:
    context: dict[str, Any] = {
        "passage": found,
        "part": found.part_entry,
        "references": found.references.prefetch_related("moments"),
        "trouble": "",
    }
    context["other_parts"] = [p for p in found.revision.parts if p["index"] != found.part]
    try:
        context["desk"] = desk.desk_of(found)
        context["drawings"] = context["desk"].drawings
    except CoreError as error:
        context["trouble"] = error.message
    context["models"] = _models(found)
    return context


def _tempo_form(found: Passage) -> TempoForm:
    return TempoForm(initial={"tempo": f"{found.part_entry.get('tempo_qpm') or 80:g}"})


@teacher_only
def note(request: Request, pk: int) -> HttpResponse:
    """What is added to one note: its form, or what comes of it."""
    found = _passage(request, pk)
    note_id = (request.POST or request.GET).get("note", "")
    if request.method == "POST":
        try:
            desk.set_note(
                passage=found,
                version=_version(request),
                note_id=note_id,
                fields={**request.POST.dict(), "optional": "optional" in request.POST},
            )
        except (desk.Overtaken, CoreError) as error:
            trouble = error.message if isinstance(error, CoreError) else OVERTAKEN
            if not request.htmx:
                return _refused(request, pk, trouble, status=422 if isinstance(error, CoreError) else 409)
            found = _passage(request, pk)
            context = {"passage": found, "note": desk.note_on_desk(found, note_id), "trouble": trouble, "entered": request.POST}
            return render(request, "library/_note.html", context)
        if not request.htmx:
            return redirect("library:passage", pk=pk)
        return HttpResponse(headers={"HX-Refresh": "true"})
    shown = desk.note_on_desk(found, note_id)
    if shown is None:
        raise Http404
    return render(request, "library/_note.html", {"passage": found, "note": shown})


@teacher_only
@require_POST
def pins(request: Request, pk: int) -> HttpResponse:
    """A remark on a bar or at a moment of a recording, a warning at a trap, or one taken away."""
    found = _passage(request, pk)
    version, unwanted, reference_id = _version(request), read_id(request.POST.get("unpin")), read_id(request.POST.get("reference"))
    text, note_id = request.POST.get("text", ""), request.POST.get("note", "")
    try:
        if unwanted is not None:
            desk.unpin(passage=found, version=version, pin_id=unwanted)
        elif note_id:
            desk.warn_at(passage=found, version=version, note_id=note_id, text=text)
        elif reference_id is not None:
            desk.pin_to_moment(passage=found, version=version, reference_id=reference_id, at=request.POST.get("at", ""), text=text)
        else:
            desk.pin_to_bar(passage=found, version=version, bar=request.POST.get("bar", "").strip(), text=text)
    except desk.Overtaken:
        return _refused(request, pk, OVERTAKEN, status=409)
    except CoreError as error:
        return _refused(request, pk, error.message)
    return redirect(f"{reverse('library:passage', args=[pk])}#{'hear' if reference_id else 'note'}")


@teacher_only
@require_POST
def segments(request: Request, pk: int) -> HttpResponse:
    """Keep the cuts for practising."""
    found = _passage(request, pk)
    try:
        desk.set_segments(passage=found, version=_version(request), segments=request.POST.get("segments", ""))
    except desk.Overtaken:
        return _refused(request, pk, OVERTAKEN, status=409)
    except CoreError as error:
        return _refused(request, pk, error.message)
    messages.success(request, worded("The cuts are kept."))
    return redirect("library:passage", pk=pk)


@teacher_only
@require_POST
def accompaniment(request: Request, pk: int) -> HttpResponse:
    """Which part accompanies, and after how many bars the student enters."""
    found = _passage(request, pk)
    part, typed = read_id(request.POST.get("part")) or 0, request.POST.get("intro_bars", "").strip()
    intro_bars = read_id(typed or "0")
    if intro_bars is None:
        return _refused(request, pk, worded("Write the bars of introduction as a number, like 2."))
    try:
        desk.set_accompaniment(passage=found, version=_version(request), part=part, intro_bars=intro_bars)
    except desk.Overtaken:
        return _refused(request, pk, OVERTAKEN, status=409)
    except CoreError as error:
        return _refused(request, pk, error.message)
    messages.success(request, worded("The accompaniment is kept.") if part else worded("No accompaniment."))
    return redirect(f"{reverse('library:passage', args=[pk])}#hear")


@teacher_only
@require_POST
def make_model(request: Request, pk: int) -> HttpResponse:
    """Have the passage played in its unfolded order, at a tempo and slower."""
    found = _passage(request, pk)
    form = TempoForm(request.POST)
    if not form.is_valid():
        return _refused(request, pk, worded("Quarters a minute: {errors}", errors=form.errors["tempo"][0]))
    if found.revision.piece.has_notation:
        tempo_qpm = beats_to_quarters_per_minute(form.cleaned_data["tempo"], "quarter")
        instrument = find_instrument(found.part_entry["instrument"]).slug
        want_model_sounds(passage=found, instrument=instrument, tempi_qpm=[tempo_qpm * share for share in MODEL_TEMPO_SHARES])
        want_accompaniment(passage=found, tempo_qpm=tempo_qpm, count_off=0)
    return redirect(f"{reverse('library:passage', args=[pk])}#hear")


@teacher_only
def models_fragment(request: Request, pk: int) -> HttpResponse:
    found = _passage(request, pk)
    return render(request, "library/_passage_models.html", {"passage": found, "models": _models(found)})


def _models(found: Passage) -> QuerySet[ModelSound]:
    return found.model_sounds.filter(count_off=0, of_part=0, naming="")


@teacher_only
@require_POST
def add_reference(request: Request, pk: int) -> HttpResponse:
    """A recording of the teacher's own: how it sounds, or how it looks."""
    found = _passage(request, pk)
    form = ReferenceForm(request.POST, request.FILES)
    if form.is_valid():
        try:
            desk.add_reference(passage=found, teacher=request.user, upload=form.cleaned_data["file"], title=form.cleaned_data["title"])
        except CoreError as error:
            return _refused(request, pk, error.message)
    else:
        return _refused(request, pk, worded("Choose a recording first."))
    return redirect(f"{reverse('library:passage', args=[pk])}#hear")


@teacher_only
@require_POST
def delete_reference(request: Request, pk: int) -> HttpResponse:
    found = get_object_or_404(Reference.objects.filter(passage__in=Passage.objects.visible_to(request.user)), pk=pk)
    passage_id, files = found.passage_id, [found.file, *(sound.sound for sound in found.sounds.exclude(sound=""))]
    found.delete()
    for file in files:
        file.delete(save=False)
    messages.success(request, worded("The recording is deleted."))
    return redirect(f"{reverse('library:passage', args=[passage_id])}#hear")


@anybody
def reference(request: Request, pk: int) -> HttpResponseBase:
    """A teacher's recording, for whoever was given the passage or an arrangement of it."""
    seen = Passage.objects.visible_to(request.user)
    found = get_object_or_404(Reference.objects.filter(passage__in=seen) | Reference.objects.filter(passage__arrangements__in=seen), pk=pk)
    return ranged_file(request, found.file, "audio/mp4" if found.kind == ReferenceKind.SOUND else content_type(str(found.file.name)))


@anybody
def reference_sound(request: Request, pk: int) -> HttpResponseBase:
    """A teacher's recording at another tempo, for whoever may hear it as it was."""
    seen = Passage.objects.visible_to(request.user)
    made = ReferenceSound.objects.exclude(sound="")
    found = get_object_or_404(made.filter(reference__passage__in=seen) | made.filter(reference__passage__arrangements__in=seen), pk=pk)
    return ranged_file(request, found.sound, "audio/mpeg")


@teacher_only
def add_recording(request: Request) -> HttpResponse:
    """Something to listen to."""
    form = RecordingForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        try:
            found = recordings.add_recording(teacher=request.user, title=form.cleaned_data["title"], upload=form.cleaned_data["file"])
        except CoreError as error:
            form.add_error("file", error.message)
        else:
            return redirect(f"{reverse('assign')}?passage={found.pk}")
    return render(request, "library/recording.html", {"form": form})


@teacher_only
def write(request: Request, kind: str) -> HttpResponse:
    """A melody, a rhythm line or a chart, typed beside its engraving."""
    if kind not in written.BEGINNINGS:
        raise Http404
    text, trouble = request.POST.get("text", written.BEGINNINGS[kind]), ""
    if request.method == "POST":
        try:
            found = written.keep(teacher=request.user, kind=kind, text=text)
        except CoreError as error:
            trouble = error.message
        else:
            messages.success(request, worded("“{found}” is in the library.", found=found))
            return redirect("library:passage", pk=found.pk)
    context = {"kind": kind, "kinds": written.TITLES.items(), "text": text, **_written(text)}
    return render(request, "library/write.html", context | ({"trouble": trouble} if trouble else {}))


@teacher_only
def write_fragment(request: Request, kind: str) -> HttpResponse:
    return render(request, "library/_written.html", _written(request.POST.get("text", "")))


def _written(text: str) -> dict[str, Any]:
    try:
        shown = written.preview(text)
    except CoreError as error:
        return {"trouble": error.message}
    return {"heading": shown.heading, "drawings": shown.drawings, "problems": shown.problems}
