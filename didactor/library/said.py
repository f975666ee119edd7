"""What a teacher says, plays or films on the spot. It is opened in the sandbox first: sound becomes a copy that every browser plays, a film
stays as it came.
"""

from __future__ import annotations

from functools import partial
from typing import Any, cast

from django.core.files.base import ContentFile, File
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models.fields.files import FieldFile

from didactor.core.errors import AudioError
from didactor.core.sound.recording import open_with_copy
from didactor.core.words import worded

#: A remark of a minute or two, filmed.
MOST_BYTES = 60 * 1024 * 1024
#: Containers of a video that every browser plays.
_VIDEO_TYPES = {"mov": "mp4", "mp4": "mp4", "matroska": "webm", "webm": "webm"}
_CONTENT_TYPES = {"m4a": "audio/mp4", "mp4": "video/mp4", "webm": "video/webm"}


def opened(upload: UploadedFile, most_bytes: int = MOST_BYTES) -> File[bytes]:
    """A file to keep; its suffix says what it is: ``m4a`` sound, ``mp4`` or ``webm`` a film.

    Raises:
        AudioError: no recording, too large, or a film that browsers do not play.
    """
    if upload.size is None or upload.size > most_bytes:
        told = worded(
            "The recording is larger than {most_bytes} MB. Make it shorter, or send sound without a picture.",
            most_bytes=most_bytes // 1024**2,
        )
        raise AudioError("audio.too_large", told)
    source: Any = upload.file
    recording, copy = open_with_copy(source)
    if not recording.has_video:
        return ContentFile(copy.body, name="said.m4a")
    suffix = next((own for known, own in _VIDEO_TYPES.items() if known in recording.container), None)
    if suffix is None:
        raise AudioError("audio.video_kind", worded("Browsers do not play this kind of video. Save it as MP4 or WebM and choose it again."))
    source.seek(0)
    upload.name = f"said.{suffix}"
    return cast("File[bytes]", upload)


def is_film(name: str) -> bool:
    return bool(name) and not name.endswith(".m4a")


def content_type(name: str) -> str:
    """What a kept file is sent as."""
    return _CONTENT_TYPES[name.rpartition(".")[2]]


def forget(file: FieldFile) -> None:
    """Remove a kept file with the next commit; its row has to let go of it by itself."""
    if file:
        transaction.on_commit(partial(file.storage.delete, str(file.name)))
