"""The object store itself; loaded only where one is used."""

from __future__ import annotations

from typing import Any

from botocore.config import Config
from django.core.files.storage import Storage
from storages.backends.s3 import S3Storage

from didactor.web.store import SAMPLES, UPLOADS

#: Names that say what is in them, or that are written again where a piece is sent again.
_OVERWRITTEN = ("takes/", UPLOADS, SAMPLES)
#: A store that is away is told within seconds; what came is kept by who sent it, and comes again.
_PATIENCE = {"connect_timeout": 3, "read_timeout": 20, "retries": {"max_attempts": 2}}


class ObjectStore(S3Storage):
    """An object store by its S3 interface. What is named by its content is put once; a second time changes nothing."""

    def __init__(self, **options: Any) -> None:
        config = Config(s3={"addressing_style": "path"}, signature_version="s3v4", **_PATIENCE)
        super().__init__(client_config=config, file_overwrite=False, default_acl=None, **options)

    def get_available_name(self, name: str, max_length: int | None = None) -> str:
        if name.startswith(_OVERWRITTEN):
            return name
        found: str = Storage.get_available_name(self, name, max_length)
        return found
