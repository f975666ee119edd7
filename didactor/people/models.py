"""Who takes part: studios, persons with a role, groups, what each student plays, consent, sign-in cards."""

from __future__ import annotations

from django.contrib.auth.models import AbstractUser
from django.contrib.sessions.base_session import AbstractBaseSession
from django.db import models
from django.utils import timezone
from django.utils.crypto import salted_hmac

from didactor.core.instruments import INSTRUMENTS
from didactor.core.words import _
from didactor.people.querysets import EnrolmentQuerySet, GroupQuerySet, PersonManager

#: Colours that a teacher may give to notes: names of tones of the style sheet.
TONE_NAMES = {
    "red": _("red"),
    "orange": _("orange"),
    "yellow": _("yellow"),
    "green": _("green"),
    "teal": _("teal"),
    "blue": _("blue"),
    "violet": _("violet"),
    "pink": _("pink"),
    "brown": _("brown"),
    "grey": _("grey"),
}


class Studio(models.Model):
    """One teacher's or one school's room: nothing of one studio is seen in another. ``counting_words``: what is said between beats.
    ``language``: of letters to those who chose none. ``note_naming``: how notes are called in remarks, empty for as the language does;
    ``crotchets``: whether English counts in crotchets and quavers. ``keep_months``: how old recordings get, None for as long as nobody
    erases them. ``code``: with it who signs in with pictures begins.
    """

    name = models.CharField(max_length=120)
    note_colours = models.JSONField(default=dict, blank=True, help_text="Colours of notes for beginners, by letter.")
    note_names = models.JSONField(default=dict, blank=True, help_text="Friendly names of notes for beginners, by letter.")
    counting_words = models.JSONField(default=dict, blank=True)
    note_naming = models.CharField(max_length=10, blank=True)
    crotchets = models.BooleanField(default=False)
    language = models.CharField(max_length=10, blank=True)
    keep_months = models.PositiveSmallIntegerField(null=True, blank=True)
    code = models.CharField(max_length=8, null=True, blank=True, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name

    @property
    def naming(self) -> str:
        """Of the namings of study sheets the one that is usual here."""
        return "own" if self.note_names else self.note_naming or ("german" if self.language == "de" else "letters")


class Role(models.TextChoices):
    TEACHER = "teacher", _("Teacher")
    STUDENT = "student", _("Student")
    GUARDIAN = "guardian", _("Guardian")


class Person(AbstractUser):
    """Anybody who signs in. ``is_owner``: a teacher who decides about the studio itself, and who teaches in it. ``is_minor`` asks for a
    guardian's consent before the first recording. ``language``: as chosen here, empty for as their browser asks. ``calendar_number`` goes
    up when the address of their calendar is to be a new one, ``sessions_number`` when all their sessions are to end.
    """

    # Only who keeps the service in order, and takes part in nothing, has none.
    studio: models.ForeignKey[Studio, Studio] = models.ForeignKey(Studio, on_delete=models.PROTECT, related_name="people", null=True)  # type: ignore[assignment, misc]
    role = models.CharField(max_length=10, choices=Role.choices, default=Role.STUDENT)
    name = models.CharField(max_length=120)
    language = models.CharField(max_length=10, blank=True)
    is_owner = models.BooleanField(default=False)
    is_minor = models.BooleanField(default=False)
    calendar_number = models.PositiveIntegerField(default=1)
    sessions_number = models.PositiveIntegerField(default=0)
    wards = models.ManyToManyField("self", symmetrical=False, related_name="guardians", blank=True)

    objects = PersonManager()  # type: ignore[misc]

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    def _get_session_auth_hash(self, secret: str | None = None) -> str:
        """Sessions hang on it, as on the password."""
        of_password: str = super()._get_session_auth_hash(secret)  # type: ignore[misc]
        if not self.sessions_number:
            return of_password
        return salted_hmac("didactor.sessions", f"{of_password} {self.sessions_number}", secret=secret, algorithm="sha256").hexdigest()

    @property
    def is_teacher(self) -> bool:
        return self.role == Role.TEACHER

    @property
    def is_student(self) -> bool:
        return self.role == Role.STUDENT

    @property
    def is_guardian(self) -> bool:
        return self.role == Role.GUARDIAN

    @property
    def consent_missing(self) -> bool:
        """Whether a minor may not record at all yet."""
        return self.is_minor and not self.has_consent(ConsentKind.SOUND)

    @property
    def picture_consent_missing(self) -> bool:
        """Whether a minor may not be filmed."""
        return self.is_minor and not self.has_consent(ConsentKind.PICTURE)

    def family(self) -> models.QuerySet[Person, int]:
        """Numbers of those whose music this person may see: their own, and those of their wards. As one question, so that others can ask
        within it; two that are joined are each found by an index, where "one or the other" reads a whole table.
        """
        own = Person.objects.filter(pk=self.pk).values_list("pk", flat=True)
        return own.union(self.wards.values_list("pk", flat=True), all=True) if self.is_guardian else own

    def has_consent(self, kind: str) -> bool:
        return self.consents.filter(kind=kind, withdrawn_at=None).exists()


class Group(models.Model):
    """A class, a band, a weekday's students. ``performs_on``: the day of their next performance."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="groups")
    name = models.CharField(max_length=80)
    performs_on = models.DateField(null=True, blank=True)

    objects = GroupQuerySet.as_manager()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["studio", "name"], name="group_name_once_per_studio")]

    def __str__(self) -> str:
        return self.name


class Level(models.TextChoices):
    BEGINNER = "beginner", _("Beginner")
    ELEMENTARY = "elementary", _("Elementary")
    INTERMEDIATE = "intermediate", _("Intermediate")
    ADVANCED = "advanced", _("Advanced")


class Enrolment(models.Model):
    """A student on one instrument, in a group or alone."""

    student = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="enrolments")
    group = models.ForeignKey(Group, on_delete=models.SET_NULL, related_name="enrolments", null=True, blank=True)
    instrument = models.CharField(max_length=30, choices=[(i.slug, i.title) for i in INSTRUMENTS])
    level = models.CharField(max_length=20, choices=Level.choices, default=Level.ELEMENTARY)
    reads_notes = models.BooleanField(default=True, help_text="Who does not yet gets fingers, colours and spoken words instead.")

    objects = EnrolmentQuerySet.as_manager()

    class Meta:
        ordering = ["student__name"]
        constraints = [models.UniqueConstraint(fields=["student", "instrument"], name="instrument_once_per_student")]

    def __str__(self) -> str:
        return f"{self.student} ({self.get_instrument_display()})"


class ConsentKind(models.TextChoices):
    SOUND = "sound", _("Sound recordings")
    PICTURE = "picture", _("Pictures and films")
    TOGETHER = "together", _("Heard together with others")


class Consent(models.Model):
    """Consent to recordings, as given: by whom, in which words, when; withdrawn, not deleted. To sound and pictures of a minor a guardian
    gives it; to be heard together with others everybody is asked.
    """

    student = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="consents")
    kind = models.CharField(max_length=10, choices=ConsentKind.choices, default=ConsentKind.SOUND)
    given_by = models.CharField(max_length=120)
    wording = models.TextField()
    recorded_by = models.ForeignKey(Person, on_delete=models.PROTECT, related_name="+")
    given_at = models.DateTimeField(auto_now_add=True)
    withdrawn_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-given_at"]


class SignInCard(models.Model):
    """A printed code or link that signs a student or guardian in. Only its hash is kept; a new card replaces the old one."""

    person = models.OneToOneField(Person, on_delete=models.CASCADE, related_name="card")
    code_hash = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now=True)


class PictureCode(models.Model):
    """Four pictures that sign a young student in, with the studio's code. Only their hash is kept."""

    person = models.OneToOneField(Person, on_delete=models.CASCADE, related_name="picture_code")
    code_hash = models.CharField(max_length=128)
    made_at = models.DateTimeField(auto_now=True)


class SignedIn(AbstractBaseSession):
    """A session, with whose it is, on which kind of device, since when, and the last day it was used."""

    # No key to the person: a session that is written while somebody is erased must not fail.
    person_number = models.BigIntegerField(null=True, db_index=True)
    device = models.CharField(max_length=80, blank=True)
    since = models.DateTimeField(default=timezone.now)
    seen_on = models.DateField(null=True)


class Invitation(models.Model):
    """A link by which a colleague joins a studio as a teacher, once. Only its hash is kept."""

    studio = models.ForeignKey(Studio, on_delete=models.CASCADE, related_name="invitations")
    name = models.CharField(max_length=120)
    token_hash = models.CharField(max_length=64, unique=True)
    made_by = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-made_at"]


class SentForm(models.Model):
    """A form that was sent, by what it held; ``location`` is where it led, empty while it is worked on."""

    key = models.CharField(max_length=64, primary_key=True)
    location = models.CharField(max_length=500, blank=True)
    sent_at = models.DateTimeField(default=timezone.now, db_index=True)
