from django.apps import AppConfig


class ProgressConfig(AppConfig):
    name = "didactor.progress"
    label = "progress"
