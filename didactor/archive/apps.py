from django.apps import AppConfig


class ArchiveConfig(AppConfig):
    name = "didactor.archive"
    label = "archive"
