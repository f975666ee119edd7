from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "didactor.library"
    label = "library"
