from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.paginator import Paginator
from django.db.models import Count, Prefetch, Q
from django.http import FileResponse, Http404, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from didactor.core.errors import CoreError
from didactor.core.judging.targets import TEMPO_HIGH, TEMPO_LOW
from didactor.core.score.generate.exercise import METRES
from didactor.core.words import worded
from didactor.library import exercises, printed, services, study
from didactor.library.exercise_forms import FORMS, ExerciseForm
from didactor.library.forms import BarCorrectionForm, DetailsForm, LineForm, PassageForm, PieceForm, SearchForm, VersionForm
from didactor.library.imports import begin_import
from didactor.library.models import Import, ImportedFileState, ModelSound, Passage, Piece, PieceRevision
from didactor.people.permissions import anybody, teacher_only
from didactor.people.requests import Request
from didactor.web.numbers import read_id, read_number
from didactor.web.ranges import ranged_file

PAGE_LENGTH = 60


@teacher_only
def index(request: Request) -> HttpResponse:
    own = Piece.objects.visible_to(request.user)
    form = SearchForm(request.GET or None)
    wanted = form.cleaned_data if form.is_valid() else {}
    put_away = wanted.pop("put_away", False)
    everything = own.put_away() if put_away else own.in_use()
    found = everything.found_by(**wanted) if any(wanted.values()) else everything
    passages = Count("revisions__passages", filter=Q(revisions__passages__arranged_from=None))
    revisions = Prefetch("revisions", queryset=PieceRevision.objects.filter(arranged_from=None).defer("prepared"), to_attr="own_revisions")
    page = Paginator(found.annotate(passage_count=passages).prefetch_related(revisions).order_by("title", "pk"), PAGE_LENGTH).get_page(
        request.GET.get("page")
    )
    context = {
        "page": page,
        "form": form,
        "searched": any(wanted.values()),
        "is_empty": not own.exists(),
        "put_away": put_away,
        "put_away_count": own.put_away().count(),
    }
    template = "library/_pieces.html" if request.htmx else "library/index.html"
    return render(request, template, context)


@teacher_only
def details(request: Request, pk: int) -> HttpResponse:
    """Title, kind, level and tags of a piece."""
    found = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk)
    form = DetailsForm(request.POST or None, instance=found)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, worded("“{found}” is kept.", found=found))
        return redirect("library:piece", pk=found.pk)
    return render(request, "library/details.html", {"form": form, "piece": found, "version_form": VersionForm()})


@teacher_only
@require_POST
def new_version(request: Request, pk: int) -> HttpResponse:
    """A corrected file of a piece. What was given out stays as it was."""
    found = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk)
    form = VersionForm(request.POST, request.FILES)
    if form.is_valid():
        upload = form.cleaned_data["score"]
        try:
            revision = services.add_version(piece=found, upload=upload.file, filename=upload.name)
        except CoreError as error:
            form.add_error("score", error.message)
        else:
            messages.success(request, worded("This is version {number}. Passages cut before stay as they were.", number=revision.number))
            return redirect("library:piece", pk=found.pk)
    context = {"form": DetailsForm(instance=found), "piece": found, "version_form": form}
    return render(request, "library/details.html", context)


@teacher_only
@require_POST
def put_away(request: Request, pk: int) -> HttpResponse:
    """Take a piece out of the library's list, or back into it. Nothing is lost."""
    found = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk)
    found.is_put_away = not found.is_put_away
    found.save(update_fields=["is_put_away"])
    messages.success(
        request,
        worded("“{piece}” is put away; it is found at the end of the library.", piece=found)
        if found.is_put_away
        else worded("“{piece}” is in the library again.", piece=found),
    )
    return redirect("library:index")


@teacher_only
def upload(request: Request) -> HttpResponse:
    """Take a score in. What cannot be used gets a sentence that says why; nothing is stored then."""
    form = PieceForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        files = form.cleaned_data["score"]
        if len(files) > 1:
            return redirect("library:import", pk=begin_import(teacher=request.user, files=files).pk)
        try:
            title = form.cleaned_data["title"]
            pieces = services.add_pieces(teacher=request.user, upload=files[0].file, filename=files[0].name, title=title)
        except CoreError as error:
            form.add_error("score", error.message)
        else:
            return _added(request, pieces)
    return render(request, "library/upload.html", {"form": form})


def _added(request: Request, pieces: list[Piece]) -> HttpResponse:
    if len(pieces) > 1:
        messages.success(request, worded("{pieces} tunes of this file are in the library.", pieces=len(pieces)))
        return redirect("library:index")
    messages.success(request, worded("“{pieces}” is in the library.", pieces=pieces[0]))
    return redirect("library:piece", pk=pieces[0].pk)


@teacher_only
def line(request: Request) -> HttpResponse:
    """A line of a printed book: no notes, but bars to pin to, metre and tempo."""
    form = LineForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        beats, beat_type = METRES[data["metre"]]
        told = printed.Line(
            book=data["book"].strip(),
            page=data["page"],
            number=data["number"],
            bars=data["bars"],
            beats=beats,
            beat_type=beat_type,
            tempo_qpm=data["tempo"],
        )
        try:
            passage = printed.add_line(teacher=request.user, line=told, photo=data["photo"])
        except CoreError as error:
            form.add_error("photo" if error.code.startswith("photo") else "bars", error.message)
        else:
            return redirect(f"{reverse('assign')}?passage={passage.pk}")
    return render(request, "library/line.html", {"form": form})


@anybody
def photo(request: Request, pk: int) -> HttpResponseBase:
    """The photo of a printed line, for the studio's teachers and whoever was given a passage of it."""
    seen = Passage.objects.visible_to(request.user).filter(revision__piece=pk)
    found = get_object_or_404(Piece.objects.exclude(photo="").filter(pk=pk, revisions__passages__in=seen).distinct())
    with found.photo.open("rb") as source:
        kind = printed.kind_of_picture(source)
    return FileResponse(found.photo.open("rb"), content_type=kind)


@teacher_only
def import_(request: Request, pk: int) -> HttpResponse:
    """What became of each file that was brought in."""
    return render(request, "library/import.html", _import_page(request, pk))


@teacher_only
def import_fragment(request: Request, pk: int) -> HttpResponse:
    """The same while it goes on; stops asking when all files are read."""
    return render(request, "library/_import.html", _import_page(request, pk))


def _import_page(request: Request, pk: int) -> dict[str, Any]:
    batch = get_object_or_404(Import.objects.visible_to(request.user), pk=pk)
    files = list(batch.files.prefetch_related("pieces__revisions"))
    waiting = sum(f.state == ImportedFileState.WAITING for f in files)
    return {"batch": batch, "files": files, "waiting": waiting, "done": len(files) - waiting}


def _part_of(revision: PieceRevision, text: str | None) -> int:
    """The part that is asked for, from 1; the first for nonsense."""
    number = read_id(text) or 1
    return number if number <= len(revision.parts) else 1


@teacher_only
def piece(request: Request, pk: int) -> HttpResponse:
    """The engraved part, to pick passages from by dragging over bars or by typing."""
    found = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk)
    revision = found.current
    index = _part_of(revision, request.POST.get("part") or request.GET.get("part"))
    form = PassageForm(request.POST or None, initial={"part": index})
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        bars = data["bars"] or services.all_bars(revision, data["part"])
        try:
            passage = services.cut_passage(
                teacher=request.user, revision=revision, part=data["part"], bars=bars, order=data["order"], title=data["title"]
            )
        except CoreError as error:
            form.add_error("order" if error.code == "passage.order" else "bars", error.message)
        else:
            if request.POST.get("then") == "desk":
                return redirect("library:passage", pk=passage.pk)
            return redirect(f"{reverse('assign')}?passage={passage.pk}")
    part = revision.part(index)
    asked = read_number(request.GET.get("tempo"), TEMPO_LOW, TEMPO_HIGH)
    found_in_it = study.study_of(revision=revision, part=index, target_bpm=asked)
    drawings, trouble = {}, ""
    try:
        drawings = study.study_drawings(revision=revision, part=index, found=found_in_it)
    except CoreError as error:
        trouble = error.message
    context = {
        "piece": found,
        "revision": revision,
        "part": part,
        "form": form,
        "drawings": drawings,
        "trouble": trouble,
        "study": found_in_it,
        "corrections": found.bar_corrections.filter(part=index),
        "correction_form": BarCorrectionForm(),
        "passages": Passage.objects.visible_to(request.user)
        .cut_by_teachers()
        .filter(revision__piece=found)
        .select_related("revision__piece")
        .defer("revision__prepared")
        .annotate(assigned=Count("assignments")),
    }
    return render(request, "library/piece.html", context)


@teacher_only
@require_POST
def correct_bar(request: Request, pk: int) -> HttpResponse:
    """A teacher's word on how hard a bar is."""
    found = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk)
    form = BarCorrectionForm(request.POST)
    index = _part_of(found.current, request.POST.get("part"))
    if form.is_valid():
        try:
            study.correct_bar(piece=found, part=index, **form.cleaned_data)
        except CoreError as error:
            messages.error(request, error.message)
    else:
        messages.error(request, worded("Say which bar, and how hard it is."))
    return redirect(f"{reverse('library:piece', args=[pk])}?part={index}")


@teacher_only
def original(request: Request, pk: int) -> HttpResponseBase:
    """The score as it was uploaded, byte for byte."""
    revision = get_object_or_404(Piece.objects.visible_to(request.user), pk=pk).current
    return FileResponse(revision.original.open("rb"), as_attachment=True, filename=revision.filename)


@teacher_only
def exercise(request: Request, kind: str) -> HttpResponse:
    """Choices for an exercise beside its engraving; keep it, or go on to assign it."""
    form = _exercise_form(request, kind, request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            passage = exercises.keep(teacher=request.user, kind=kind, choices=_choices(form))
        except CoreError as error:
            form.add_error(None, error.message)
        else:
            if request.POST.get("then") == "assign":
                return redirect(f"{reverse('assign')}?passage={passage.pk}")
            messages.success(request, worded("“{passage}” is in the library.", passage=passage))
            return redirect("library:piece", pk=passage.revision.piece_id)
    shown = (
        form
        if form.is_bound
        else _exercise_form(request, kind, {name: form.get_initial_for_field(f, name) for name, f in form.fields.items()})
    )
    return render(request, "library/exercise.html", {"form": form, "kinds": FORMS.values(), **_preview(shown)})


@teacher_only
def exercise_fragment(request: Request, kind: str) -> HttpResponse:
    return render(request, "library/_exercise_preview.html", _preview(_exercise_form(request, kind, request.GET)))


def _exercise_form(request: Request, kind: str, data: Any) -> ExerciseForm:
    if kind not in FORMS:
        raise Http404
    form = FORMS[kind](data)
    if "seed" in form.fields:
        form.initial["seed"] = exercises.next_number(request.user, kind)
    if "passage" in form.fields:
        own = Passage.objects.visible_to(request.user).cut_by_teachers().filter(revision__piece__is_put_away=False, note_count__gt=0)
        form.fields["passage"].queryset = own.select_related("revision__piece")  # type: ignore[attr-defined]
    return form


def _choices(form: ExerciseForm) -> dict[str, Any]:
    """What the core takes; a passage becomes its melody, a typed rhythm the rhythm. Raises ``CoreError`` for several voices."""
    data = dict(form.cleaned_data)
    if own := " ".join(data.pop("own_rhythm", "").split()):
        data["rhythm"] = own
    if "passage" in data:
        data |= exercises.melody_of(data.pop("passage"))
    return data


def _preview(form: ExerciseForm) -> dict[str, Any]:
    if not form.is_valid():
        if "passage" in form.errors and not form.data.get("passage"):
            return {"hint": worded("Choose a melody: it is shown here with its new rhythm.")}
        return {
            "trouble": next((f"{form.fields[n].label or n.capitalize()}: {e[0]}" for n, e in form.errors.items() if n in form.fields), "")
        }
    try:
        heading, drawings = exercises.preview(form.kind, _choices(form))
    except CoreError as error:
        return {"trouble": error.message}
    return {"heading": heading, "drawings": drawings}


@anybody
def model_sound(request: Request, pk: int) -> HttpResponseBase:
    """The model of a passage at one tempo."""
    sound = get_object_or_404(ModelSound.objects.filter(passage__in=Passage.objects.visible_to(request.user)), pk=pk)
    if not sound.sound:
        raise Http404
    return ranged_file(request, sound.sound, "audio/mpeg")
