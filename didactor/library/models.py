"""Pieces as uploaded, what was read from them, and the passages cut from them."""

from __future__ import annotations

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from didactor.core.score.roadmap import bars_in_words
from didactor.core.score.study.difficulty import HARDEST
from didactor.core.words import _, read, worded
from didactor.library.querysets import ImportQuerySet, PassageQuerySet, PieceQuerySet
from didactor.people.models import Level, Person, Studio
from didactor.web.words_field import WordsField


class Kind(models.TextChoices):
    """What a piece is used for."""

    REPERTOIRE = "repertoire", _("Repertoire")
    TECHNIQUE = "technique", _("Technique")
    LISTENING = "listening", _("Listening")


class Piece(models.Model):
    """A piece of music in the studio's library. Its notation comes in revisions, which never change.

    ``made_from`` are the choices of an exercise that was made here, as ``{"kind": .., "choices": ..}``. A line of a printed book has
    its place there, perhaps a photo, and empty bars for notation: its notes are not known.
    """

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="pieces")
    title = models.CharField(max_length=200)
    composer = models.CharField(max_length=200, blank=True)
    kind = models.CharField(max_length=12, choices=Kind.choices, default=Kind.REPERTOIRE)
    level = models.CharField(max_length=20, choices=Level.choices, blank=True)
    tags = ArrayField(models.CharField(max_length=40), default=list, blank=True)
    made_from = models.JSONField(null=True, blank=True)
    book = models.CharField(max_length=200, blank=True)
    book_page = models.CharField(max_length=20, blank=True)
    book_number = models.CharField(max_length=20, blank=True)
    photo = models.FileField(upload_to="photos/%Y/%m/", blank=True)
    is_put_away = models.BooleanField(default=False)
    created_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    objects = PieceQuerySet.as_manager()

    class Meta:
        ordering = ["title"]

    def __str__(self) -> str:
        return self.title

    @property
    def is_printed(self) -> bool:
        return bool(self.book)

    @property
    def is_recording(self) -> bool:
        """Something to listen to, without notation."""
        return (self.made_from or {}).get("kind") == "recording"

    @property
    def has_notation(self) -> bool:
        return not (self.is_printed or self.is_recording)

    @property
    def place_in_book(self) -> str:
        words = [self.book]
        words += [worded("page {book_page}", book_page=self.book_page)] if self.book_page else []
        words += [worded("number {book_number}", book_number=self.book_number)] if self.book_number else []
        return ", ".join(words)

    @property
    def current(self) -> PieceRevision:
        return self.revisions.filter(arranged_from=None).order_by("-number")[0]


class PieceRevision(models.Model):
    """One uploaded file: the original byte for byte, the cleaned notation with our ids, and a summary of what was read.

    An arrangement has no file: it is a part of another revision (``arranged_from``) written for an instrument.
    """

    piece = models.ForeignKey(Piece, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField(default=1)
    original = models.FileField(upload_to="scores/%Y/%m/", blank=True)
    filename = models.CharField(max_length=255, blank=True)
    sha256 = models.CharField(max_length=64, blank=True)
    arranged_from = models.ForeignKey("self", on_delete=models.CASCADE, related_name="arrangements", null=True, blank=True)
    arranged_for = models.CharField(max_length=60, blank=True)
    prepared = models.BinaryField()
    reading = models.JSONField()
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["piece", "number"], condition=Q(arranged_from=None), name="revision_number_once_per_piece"),
            models.UniqueConstraint(fields=["arranged_from", "arranged_for"], name="arranged_once"),
        ]

    @property
    def problems(self) -> list[str]:
        """What was not understood while reading, in words."""
        return [read(p.get("text_made_of", p["text"])) for p in self.reading.get("problems", [])]

    @property
    def parts(self) -> list[dict]:
        return self.reading["parts"]

    def part(self, index: int) -> dict:
        return self.parts[index - 1]


class BarCorrection(models.Model):
    """A teacher's word on how hard a bar of a part is: ``steps`` harder than it was reckoned (below 0: easier), and why."""

    piece = models.ForeignKey(Piece, on_delete=models.CASCADE, related_name="bar_corrections")
    part = models.PositiveIntegerField()
    bar = models.CharField(max_length=10)
    steps = models.SmallIntegerField()
    why = models.CharField(max_length=100, blank=True)

    class Meta:
        ordering = ["part", "pk"]
        constraints = [models.UniqueConstraint(fields=["piece", "part", "bar"], name="bar_corrected_once")]

    @property
    def in_words(self) -> str:
        if self.steps >= HARDEST:
            return worded("the hardest")
        if abs(self.steps) > 1:
            return worded("much harder than reckoned") if self.steps > 0 else worded("much easier than reckoned")
        return worded("harder than reckoned") if self.steps > 0 else worded("easier than reckoned")


class Import(models.Model):
    """Several files brought in at once, read one after the other by the queue."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="imports")
    created_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    objects = ImportQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at"]


class ImportedFileState(models.TextChoices):
    WAITING = "waiting", _("waits to be read")
    READ = "read", _("is in the library")
    REFUSED = "refused", _("could not be read")


class ImportedFile(models.Model):
    """One file of an import: what became of it, and what in it was not understood."""

    batch = models.ForeignKey(Import, on_delete=models.CASCADE, related_name="files")
    filename = models.CharField(max_length=255)
    source = models.FileField(upload_to="imports/%Y/%m/", blank=True)
    state = models.CharField(max_length=10, choices=ImportedFileState.choices, default=ImportedFileState.WAITING)
    trouble = WordsField(blank=True)
    pieces = models.ManyToManyField(Piece, related_name="+")

    class Meta:
        ordering = ["pk"]


class Passage(models.Model):
    """Bars of one part, in an order of playing; these never change. What the teacher adds on the passage desk does: ``segments`` to
    practise, ``alternatives`` (note id to semitones from the written note that are right as well), ``optional`` notes, an
    ``accompaniment`` (another part, 0 for none) with bars of introduction, pins. ``version`` goes up with each change, so that two
    teachers do not overwrite each other. What a take was judged against is frozen with the take.

    A passage of an arrangement points to the one that the teacher cut (``arranged_from``); what was added is found there.
    """

    revision = models.ForeignKey(PieceRevision, on_delete=models.CASCADE, related_name="passages")
    part = models.PositiveIntegerField(default=1)
    bars = models.CharField(max_length=40)
    order = models.CharField(max_length=200, blank=True)
    title = models.CharField(max_length=200, blank=True)
    arranged_from = models.ForeignKey("self", on_delete=models.CASCADE, related_name="arrangements", null=True, blank=True)
    note_count = models.PositiveIntegerField(default=0)
    segments = ArrayField(models.CharField(max_length=40), default=list, blank=True)
    alternatives = models.JSONField(default=dict, blank=True)
    optional = ArrayField(models.CharField(max_length=120), default=list, blank=True)
    accompaniment = models.PositiveSmallIntegerField(default=0)
    intro_bars = models.PositiveSmallIntegerField(default=0)
    version = models.PositiveIntegerField(default=1)
    created_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    objects = PassageQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at"]
        constraints = [models.UniqueConstraint(fields=["arranged_from", "revision"], name="passage_arranged_once")]

    def __str__(self) -> str:
        return self.title or f"{self.revision.piece.title}, {self.bars_in_words}"

    @property
    def root(self) -> Passage:
        """The passage as the teacher cut it."""
        return self.arranged_from or self

    @property
    def bars_in_words(self) -> str:
        return bars_in_words(self.bars)

    @property
    def part_entry(self) -> dict:
        return self.revision.part(self.part)


class PinKind(models.TextChoices):
    WARNING = "warning", _("Warning")
    REMARK = "remark", _("Remark")
    FINGERING = "fingering", _("Fingering")


class Pin(models.Model):
    """Something a teacher pins to a note or a bar before it is played, or to a moment (``at_s``, seconds) of a ``reference`` of their own.
    A fingering holds for the instrument that the score is written for.
    """

    passage = models.ForeignKey(Passage, on_delete=models.CASCADE, related_name="pins")
    kind = models.CharField(max_length=10, choices=PinKind.choices)
    note_id = models.CharField(max_length=120, blank=True)
    bar = models.CharField(max_length=10, blank=True)
    reference = models.ForeignKey("Reference", on_delete=models.CASCADE, related_name="moments", null=True, blank=True)
    at_s = models.FloatField(null=True, blank=True)
    text = models.CharField(max_length=200)
    instrument = models.CharField(max_length=30, blank=True)

    class Meta:
        ordering = ["at_s", "pk"]

    @property
    def clock(self) -> str:
        """The moment as players show it."""
        return f"{int(self.at_s or 0) // 60}:{int(self.at_s or 0) % 60:02}"


class ReferenceKind(models.TextChoices):
    SOUND = "sound", _("Sound")
    VIDEO = "video", _("Video")


class Reference(models.Model):
    """A recording of the teacher's own: how the passage sounds, or how it looks.

    ``laid`` says when in it each moment of the passage is played (``anchors``: quarters and seconds, ``tempo_qpm``), None where that is not
    known yet, or not to be known: then ``does_not_fit`` says why. ``tone``: what was measured of it, where chords can be compared.
    """

    passage = models.ForeignKey(Passage, on_delete=models.CASCADE, related_name="references")
    title = models.CharField(max_length=120)
    kind = models.CharField(max_length=10, choices=ReferenceKind.choices)
    file = models.FileField(upload_to="references/%Y/%m/")
    laid = models.JSONField(null=True, blank=True)
    tone = models.JSONField(null=True, blank=True, help_text="What was measured of its tone; see core/tone.")
    does_not_fit = WordsField(blank=True)
    created_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]


class ReferenceSound(models.Model):
    """The sound of a laid recording at another tempo and the same pitch. ``sound`` is empty until it is made."""

    reference = models.ForeignKey(Reference, on_delete=models.CASCADE, related_name="sounds")
    tempo_qpm = models.FloatField()
    sound = models.FileField(upload_to="references/%Y/%m/", blank=True)
    failed = models.BooleanField(default=False)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["reference", "tempo_qpm"], name="one_stretch_per_tempo")]


class Engraving(models.Model):
    """A drawing kept so that it need not be made again: bars of a part for one layout, by one version of the engraver."""

    revision = models.ForeignKey(PieceRevision, on_delete=models.CASCADE, related_name="engravings")
    part = models.PositiveIntegerField()
    bars = models.CharField(max_length=40, blank=True)
    layout = models.CharField(max_length=10)
    version = models.CharField(max_length=20)
    svg = models.TextField()
    geometry = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["revision", "part", "bars", "layout", "version"], name="engraved_once")]


class ModelSound(models.Model):
    """The passage played by the simulated player at one tempo, to practise with; or, with ``of_part``, its accompaniment, which begins
    ``intro_bars`` earlier; or, with ``naming``, the names of its notes said in time. ``sound`` is empty until it is rendered.
    """

    passage = models.ForeignKey(Passage, on_delete=models.CASCADE, related_name="model_sounds")
    instrument = models.CharField(max_length=30)
    tempo_qpm = models.FloatField()
    count_off = models.PositiveSmallIntegerField(default=0)
    of_part = models.PositiveSmallIntegerField(default=0)
    intro_bars = models.PositiveSmallIntegerField(default=0)
    naming = models.CharField(max_length=20, blank=True)
    sound = models.FileField(upload_to="models/%Y/%m/", blank=True)
    failed = models.BooleanField(default=False)

    class Meta:
        ordering = ["-tempo_qpm"]
        constraints = [
            models.UniqueConstraint(
                fields=["passage", "instrument", "tempo_qpm", "count_off", "of_part", "intro_bars", "naming"], name="one_sound_per_tempo"
            )
        ]
